using System.Security.Claims;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Ledger;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Fulfilment;
using Oikonom.Service.Hosting;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Rulebook;

public static class RulebookEndpoints
{
    private const int MaxFiles = 500;

    public static void MapRulebook(this RouteGroupBuilder api)
    {
        api.MapPost("/rulebook/check", (RulebookBody body) => Check(FilesOf(body)).Check)
            .WithName("checkRulebook").WithSummary("Checks the files of a rulebook; every finding at once, nothing is published.").RequireAuthorization("configure");

        api.MapPost("/rulebook/editions", PublishAsync).WithName("publishRulebook").WithSummary("Publishes the files as the next edition.").RequireAuthorization("configure");

        api.MapGet("/rulebook/editions", async (Store.Store store, CancellationToken cancel) =>
            new Page<EditionSummary>([.. (await store.ReadAsync(s => s.EditionsAsync(), cancel)).Select(e => new EditionSummary((int)e.Number, e.Digest, e.Author, e.PublishedAt.ToInstant()))], null))
            .WithName("listEditions").WithSummary("The editions, newest first.").RequireAuthorization("rulebook-read");

        api.MapGet("/rulebook/editions/{number}", async (string number, Store.Store store, EditionBook book, CancellationToken cancel) =>
        {
            var row = number == "current" ? await store.ReadAsync(s => s.LastEditionAsync(), cancel)
                : long.TryParse(number, out var n) ? await store.ReadAsync(s => s.EditionAsync(n), cancel) : null;
            if (row is null) throw Problem.NotFound($"edition '{number}'", "Publish one with 'oikonom rulebook publish DIR', or see the list.");
            var edition = await book.GetAsync(row.Number, cancel);
            return Detail(row, edition.Rulebook);
        }).WithName("getEdition").WithSummary("One edition with its files; 'current' is the newest.").RequireAuthorization("rulebook-read");
    }

    private static EditionDetail Detail(EditionRow row, Core.Rulebook.Rulebook rulebook) => new(
        (int)row.Number, row.Digest, row.Author, row.PublishedAt.ToInstant(), rulebook.Name, rulebook.Title,
        [.. rulebook.Sources.Keys], [.. rulebook.Targets.Keys], [.. rulebook.Templates.Select(t => t.Name)], [.. rulebook.Workflows.Select(w => w.Name)],
        [.. EditionBook.Files(row).Select(f => new RulebookFileBody(f.Path, f.Text))]);

    private static List<RulebookFile> FilesOf(RulebookBody body)
    {
        if (body.Files is not { Count: > 0 and <= MaxFiles }) throw Problem.Invalid($"A rulebook has from 1 to {MaxFiles} files.", "files");
        if (body.Files.Any(f => f?.Path is not { Length: > 0 and <= 300 } || f.Text is null || f.Path.Contains("..", StringComparison.Ordinal))) throw Problem.Invalid("Each file has a path inside the rulebook and a text.", "files");
        if (body.Files.GroupBy(f => f.Path).FirstOrDefault(g => g.Count() > 1) is { } twice) throw Problem.Invalid($"The path '{twice.Key}' is given twice.", "files");
        return [.. body.Files.Select(f => new RulebookFile(f.Path, f.Text))];
    }

    private static (RulebookCheck Check, Core.Rulebook.Rulebook? Rulebook) Check(IReadOnlyList<RulebookFile> files)
    {
        var reading = RulebookReader.Read(files);
        return (new(reading.Rulebook is not null, RulebookReader.Digest(files), [.. reading.Findings.Select(f => new RulebookFinding(f.Place.File, f.Place.Line, f.Place.Column, f.Message))]), reading.Rulebook);
    }

    private static async Task<EditionDetail> PublishAsync(RulebookBody body, Store.Store store, ConnectorBook connectors, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel)
    {
        var files = FilesOf(body);
        var (check, rulebook) = Check(files);
        if (rulebook is null) throw new Problem(422, "rulebook-unsound", "The rulebook is not sound", $"Nothing was published. {check.Findings.Count} finding(s); the first: {check.Findings[0].File}:{check.Findings[0].Line}:{check.Findings[0].Column}: {check.Findings[0].Message}", ("findings", check.Findings));
        var row = await store.WriteAsync(async s =>
        {
            var last = await s.LastEditionAsync();
            if (last?.Digest == check.Digest) throw Problem.Conflict("unchanged", $"Edition {last.Number} already is exactly this rulebook.");
            var edition = new EditionRow { Number = (last?.Number ?? 0) + 1, Digest = check.Digest, Author = user.UserName(), PublishedAt = time.Milliseconds(), Files = JsonSerializer.Serialize(files) };
            await s.AddEditionAsync(edition);
            s.Record(LedgerEntry.Of(time.GetUtcNow(), user.UserName(), "rulebook.published", null, null, ("edition", edition.Number), ("digest", edition.Digest)));
            s.Tell("rulebook", edition.Number.ToString(System.Globalization.CultureInfo.InvariantCulture));
            return edition;
        }, cancel);
        await connectors.ResetAsync();
        return Detail(row, rulebook);
    }
}
