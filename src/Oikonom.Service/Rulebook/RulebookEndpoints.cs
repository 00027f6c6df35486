using System.Globalization;
using System.Security.Claims;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Rulebook;

public static class RulebookEndpoints
{
    public static void MapRulebook(this RouteGroupBuilder api)
    {
        MapEditions(api);
        MapPublished(api);
        MapProposals(api);
        MapDifferences(api);
        MapRehearsals(api);
        MapRehearsed(api);
        MapRehearsedFile(api);
        api.MapCatalogues();
    }

    private static void MapEditions(RouteGroupBuilder api)
    {
        api.MapPost(
                "/rulebook/check",
                async (RulebookBody body, PublishDesk desk, CancellationToken cancel) =>
                    (await desk.CheckAsync(RulebookFiles.Of(body), body.Quick == true, cancel)).Check
            )
            .WithName("checkRulebook")
            .WithSummary("Checks the files of a rulebook; every finding and warning at once, nothing is published.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Shared);
        api.MapGet(
                "/rulebook/warnings",
                () => new Page<WarningView>([.. Warnings.Catalogue.Select(w => new WarningView(w.Code, w.Title, w.Reason, w.Mend))], null)
            )
            .WithName("listWarnings")
            .WithSummary("The catalogue of warnings: code, reason and mend.")
            .RequireAuthorization("rulebook-read")
            .Reaching(Reached.Shared);
    }

    private static void MapPublished(RouteGroupBuilder api)
    {
        api.MapPost(
                "/rulebook/editions",
                (RulebookBody body, PublishDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                    desk.PublishAsync(RulebookFiles.Of(body), user, cancel)
            )
            .WithName("publishRulebook")
            .WithSummary(
                "Publishes the files as the next edition, or proposes them where a second person agrees first. Open requests "
                    + "that change are planned anew."
            )
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
        api.MapGet(
                "/rulebook/editions",
                async (Store.Store store, CancellationToken cancel) =>
                    new Page<EditionSummary>(
                        [
                            .. (await store.ReadAsync(s => s.EditionsAsync(), cancel)).Select(e => new EditionSummary(
                                (int)e.Number,
                                e.Digest,
                                e.Author,
                                e.PublishedAt.ToInstant(),
                                e.Approver
                            )),
                        ],
                        null
                    )
            )
            .WithName("listEditions")
            .WithSummary("The editions, newest first.")
            .RequireAuthorization("rulebook-read")
            .Reaching(Reached.Shared);
        api.MapGet(
                "/rulebook/editions/{number}",
                async (string number, Store.Store store, EditionBook book, CancellationToken cancel) =>
                {
                    var row = await EditionAsync(number, store, cancel);
                    return PublishDesk.Detail(row, (await book.GetAsync(row.Number, cancel)).Rulebook);
                }
            )
            .WithName("getEdition")
            .WithSummary("One edition with its files; 'current' is the newest.")
            .RequireAuthorization("rulebook-read")
            .Reaching(Reached.Shared);
    }

    private static void MapProposals(RouteGroupBuilder api)
    {
        api.MapGet(
                "/rulebook/proposals",
                async (Store.Store store, ClaimsPrincipal user, CancellationToken cancel) =>
                    new Page<ProposalView>(
                        [.. (await store.ReadAsync(s => s.OpenProposalsAsync(), cancel)).Select(p => PublishDesk.View(p, user))],
                        null
                    )
            )
            .WithName("listProposals")
            .WithSummary("Editions that wait for a second person.")
            .RequireAuthorization("rulebook-read")
            .Reaching(Reached.Shared);
        api.MapGet(
                "/rulebook/proposals/{id}",
                async (string id, Store.Store store, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    var row =
                        await store.ReadAsync(s => s.ProposalAsync(id), cancel)
                        ?? throw Problem.NotFound($"proposal '{id}'", "See 'oikonom rulebook proposals'.");
                    return new ProposalDetail(
                        PublishDesk.View(row, user),
                        [.. PublishDesk.Files(row).Select(f => new RulebookFileBody(f.Path, f.Text))]
                    );
                }
            )
            .WithName("getProposal")
            .WithSummary("A proposed edition with its files, to be looked at before it is agreed to.")
            .RequireAuthorization("rulebook-read")
            .Reaching(Reached.Shared);
        api.MapPost(
                "/rulebook/proposals/{id}/approve",
                (string id, ProposalBody body, PublishDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                    desk.DecideAsync(id, true, body.Remark ?? "", user, cancel)
            )
            .WithName("approveProposal")
            .WithSummary("Agrees to a proposed edition of somebody else; it is published.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
        api.MapPost(
                "/rulebook/proposals/{id}/decline",
                (string id, ProposalBody body, PublishDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                    desk.DecideAsync(id, false, body.Remark ?? "", user, cancel)
            )
            .WithName("declineProposal")
            .WithSummary("Declines a proposed edition.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
    }

    private static void MapDifferences(RouteGroupBuilder api)
    {
        api.MapGet(
                "/rulebook/diff",
                async (string from, string to, Store.Store store, CancellationToken cancel) =>
                {
                    var (before, after) = (await SideAsync(from, store, cancel), await SideAsync(to, store, cancel));
                    return Diff(before.Name, before.Files, after.Name, after.Files);
                }
            )
            .WithName("diffEditions")
            .WithSummary("The difference between two editions, or an edition and a proposal (by its id), file by file and line by line.")
            .RequireAuthorization("rulebook-read")
            .Reaching(Reached.Shared);
        api.MapPost(
                "/rulebook/diff",
                async (DiffBody body, Store.Store store, CancellationToken cancel) =>
                {
                    var before = body.From is null
                        ? await store.ReadAsync(s => s.LastEditionAsync(), cancel)
                        : await EditionAsync(body.From.Value.ToString(CultureInfo.InvariantCulture), store, cancel);
                    return Diff(
                        before is null ? "nothing" : $"edition {before.Number}",
                        before is null ? [] : EditionBook.Files(before),
                        "the draft",
                        RulebookFiles.Of(new(body.Files))
                    );
                }
            )
            .WithName("diffDraft")
            .WithSummary("The difference between an edition (by default the newest) and a draft.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Shared);
    }

    private static void MapRehearsals(RouteGroupBuilder api)
    {
        api.MapPost(
                "/rulebook/rehearsals",
                async (
                    RehearseBody body,
                    PublishDesk publish,
                    RehearsalDesk desk,
                    Store.Store store,
                    Sight sight,
                    ClaimsPrincipal user,
                    CancellationToken cancel
                ) =>
                {
                    var reading = await publish.ReadAsync(RulebookFiles.Of(new(body.Files)), cancel);
                    var held = await desk.RunAsync(
                        reading.Rulebook ?? throw RulebookFiles.Unsound(reading),
                        reading.Warnings,
                        body.Source,
                        body.Hr,
                        cancel
                    );
                    var view = RehearsalDesk.View(held, [.. held.Report.Affected.Take(200)]);
                    var veil = await store.ReadAsync(s => sight.OverAsync(s, user, null, false, cancel), cancel);
                    return view with { Affected = [.. view.Affected.Select(veil.Over)] };
                }
            )
            .WithName("rehearseRulebook")
            .WithSummary(
                "What a draft, and if given a file of HR records, would do to everybody. Nothing is touched, no name and no "
                    + "number is reserved."
            )
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
    }

    private static void MapRehearsed(RouteGroupBuilder api)
    {
        api.MapGet(
                "/rulebook/rehearsals/{id}/people",
                async (
                    string id,
                    RehearsalDesk desk,
                    Store.Store store,
                    Sight sight,
                    ClaimsPrincipal user,
                    CancellationToken cancel,
                    string? text,
                    string? target,
                    string? template,
                    string? department,
                    string? after,
                    int? limit
                ) =>
                {
                    var found = desk.Get(id)
                        .Report.Affected.Where(a =>
                            (text is null || a.Name.Contains(text, StringComparison.OrdinalIgnoreCase) || a.Number == text)
                            && (department is null || a.Department == department)
                            && (target is null || a.Effects.Any(e => e.Target == target || e.Key == target))
                            && (template is null || a.Effects.Any(e => e.Rule == template))
                        );
                    var (from, size) = (int.TryParse(after, out var n) && n > 0 ? n : 0, Paging.Limit(limit));
                    var page = found.Skip(from).Take(size + 1).ToList();
                    var veil = await store.ReadAsync(s => sight.OverAsync(s, user, null, false, cancel), cancel);
                    return new Page<AffectedView>(
                        [.. page.Take(size).Select(RehearsalDesk.View).Select(veil.Over)],
                        page.Count > size ? (from + size).ToString(CultureInfo.InvariantCulture) : null
                    );
                }
            )
            .WithName("listRehearsed")
            .WithSummary(
                "The people whom a rehearsed draft would change. Filters: text, target (or target/entitlement), template, department."
            )
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
    }

    private static void MapRehearsedFile(RouteGroupBuilder api)
    {
        api.MapGet(
                "/rulebook/rehearsals/{id}/people.csv",
                async (string id, RehearsalDesk desk, Store.Store store, Sight sight, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    var veil = await store.ReadAsync(s => sight.OverAsync(s, user, null, false, cancel), cancel);
                    return Csv.File(
                        "rehearsal.csv",
                        ["number", "name", "department", "site", "effect", "target", "subject", "template", "what", "problem"],
                        desk.Get(id)
                            .Report.Affected.Select(RehearsalDesk.View)
                            .Select(veil.Over)
                            .SelectMany(a =>
                                a.Problem is not null
                                    ? [(IReadOnlyList<string>)[a.Number, a.Name, a.Department, a.Site, "", "", "", "", "", a.Problem]]
                                    : a.Effects.Select(e =>
                                        (IReadOnlyList<string>)
                                            [a.Number, a.Name, a.Department, a.Site, e.Kind, e.Target, e.Subject, e.Rule, e.Text, ""]
                                    )
                            )
                    );
                }
            )
            .Produces<string>(200, "text/csv")
            .WithName("exportRehearsed")
            .WithSummary("The whole list of a rehearsal as a file, one line for each effect.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
    }

    private static async Task<EditionRow> EditionAsync(string number, Store.Store store, CancellationToken cancel) =>
        (
            number == "current" ? await store.ReadAsync(s => s.LastEditionAsync(), cancel)
            : long.TryParse(number, out var n) ? await store.ReadAsync(s => s.EditionAsync(n), cancel)
            : null
        ) ?? throw Problem.NotFound($"edition '{number}'", "Publish one with 'oikonom rulebook publish DIR', or see the list.");

    /// <summary>One side of a difference: an edition by its number, the current one, or a proposal by its id.</summary>
    private static async Task<(string Name, IReadOnlyList<RulebookFile> Files)> SideAsync(
        string of,
        Store.Store store,
        CancellationToken cancel
    )
    {
        if (Guid.TryParse(of, out var id) && await store.ReadAsync(s => s.ProposalAsync(id.ToString()), cancel) is { } proposal)
            return ($"the proposal of {proposal.Author}", PublishDesk.Files(proposal));
        var edition = await EditionAsync(of, store, cancel);
        return ($"edition {edition.Number}", EditionBook.Files(edition));
    }

    private static RulebookDiff Diff(string from, IReadOnlyList<RulebookFile> before, string to, IReadOnlyList<RulebookFile> after)
    {
        var (left, right) = (before.ToDictionary(f => f.Path, f => f.Text), after.ToDictionary(f => f.Path, f => f.Text));
        var files = new List<FileDiff>();
        foreach (var path in left.Keys.Union(right.Keys).Order(StringComparer.Ordinal))
        {
            var (old, now) = (left.GetValueOrDefault(path), right.GetValueOrDefault(path));
            if (old == now)
                continue;
            var lines = LineDiff
                .Between(old ?? "", now ?? "")
                .Select(l => new DiffLine(JsonNamingPolicy.CamelCase.ConvertName(l.Change.ToString()), l.Before, l.After, l.Text))
                .ToList();
            files.Add(
                new(
                    path,
                    old is null ? "added"
                        : now is null ? "removed"
                        : "changed",
                    lines.Count(l => l.Op == "new"),
                    lines.Count(l => l.Op == "gone"),
                    lines
                )
            );
        }
        return new(from, to, files);
    }
}
