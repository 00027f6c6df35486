using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Core.Expressions;
using Oikonom.Core.Intake;
using Oikonom.Core.Ledger;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Sources;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Intake;

/// <content>Tests and previews of a source: what it would give, before anything is taken.</content>
public sealed partial class SourceDesk
{
    /// <summary>Reads the first records and maps them; the outcome is kept, and a good one lets the source be switched on.</summary>
    public async Task<SourceTest> TestAsync(string name, ClaimsPrincipal user, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        var source = IntakeRunner.SourceOf(edition, name);
        var test = source.Kind is SourceKind.Scim or SourceKind.Post
            ? await TestPushedAsync(source, cancel)
            : await TestReadAsync(edition.Rulebook, source, user, cancel);
        await store.WriteAsync(
            async s =>
            {
                var state = await s.SourceStateAsync(name) ?? new() { Source = name };
                await s.SaveSourceStateAsync(
                    state with
                    {
                        TestedAt = time.Milliseconds(),
                        TestOutcome = test.Message,
                        TestedRule = test.Good ? RuleOf(source) : "",
                    }
                );
                s.Record(
                    LedgerEntry.Of(
                        time.GetUtcNow(),
                        user.UserName(),
                        "source.tested",
                        null,
                        null,
                        ("source", name),
                        ("good", test.Good),
                        ("message", test.Message)
                    )
                );
                s.Tell("sources", name);
            },
            cancel
        );
        return test;
    }

    /// <summary>Of what is pushed there is nothing to read: it is good when somebody can push.</summary>
    private async Task<SourceTest> TestPushedAsync(SourceRule source, CancellationToken cancel)
    {
        var tokens = await store.ReadAsync(s => s.SourceTokensAsync(source.Name), cancel);
        var live = tokens.Count(t => t.EndedAt is null && t.ExpiresAt > time.Milliseconds());
        return source.Kind == SourceKind.Post || live > 0
            ? new(true, "It is pushed; there is nothing to fetch, and it can be pushed to.", 0, 0, [])
            : new(false, $"No token is valid: nobody could push. Make one with 'oikonom intake token {source.Name}'.", 0, 0, []);
    }

    private async Task<SourceTest> TestReadAsync(
        Core.Rulebook.Rulebook rulebook,
        SourceRule source,
        ClaimsPrincipal user,
        CancellationToken cancel
    )
    {
        try
        {
            var rows = await CoveredAsync(rulebook, source, user, await PreviewAsync(rulebook, source, TestRows, false, cancel), cancel);
            var problems = rows.Count(r => r.Problem is not null);
            var message =
                rows.Count == 0 ? "It can be read, and holds no record."
                : problems == 0 ? $"The first {rows.Count} records are sound."
                : $"{problems} of the first {rows.Count} records would be set aside; the first: line "
                    + $"{rows.First(r => r.Problem is not null).Line}: {rows.First(r => r.Problem is not null).Problem!.Reason}";
            return new(rows.Count > 0 && problems * 2 < rows.Count, message, rows.Count, problems, [.. rows.Take(20)]);
        }
        catch (SourceFault fault)
        {
            return new(false, fault.Message, 0, 0, []);
        }
    }

    /// <summary>Real records and what a mapping makes of them; the mapping may be that of a draft. Nothing is kept.</summary>
    public async Task<SourceTest> PreviewAsync(string name, PreviewBody body, ClaimsPrincipal user, CancellationToken cancel)
    {
        var limit = body.Limit ?? 20;
        if (limit is < 1 or > 500)
            throw Problem.Invalid("'limit' is from 1 to 500.", "limit");
        Core.Rulebook.Rulebook rulebook;
        if (body.Files is { Count: > 0 })
        {
            var files = RulebookFiles.Of(new(body.Files));
            var reading = RulebookReader.Read(files);
            rulebook = reading.Rulebook ?? throw RulebookFiles.Unsound(reading);
        }
        else
            rulebook = (await editions.CurrentAsync(cancel)).Rulebook;
        var source =
            rulebook.Sources.GetValueOrDefault(name)
            ?? throw Problem.NotFound(
                $"source '{name}'",
                $"The rulebook has: {string.Join(", ", rulebook.Sources.Keys)}.{Nearest.Hint(name, rulebook.Sources.Keys)}"
            );
        var rows = await CoveredAsync(
            rulebook,
            source,
            user,
            await PreviewAsync(rulebook, source, limit, body.Files is { Count: > 0 }, cancel),
            cancel
        );
        var problems = rows.Count(r => r.Problem is not null);
        return new(
            problems == 0,
            problems == 0
                ? rows.Count == 1
                    ? "The record is sound."
                    : $"{rows.Count} records are sound."
                : $"{problems} of {rows.Count} records would be set aside.",
            rows.Count,
            problems,
            rows
        );
    }

    /// <summary>Reads a source now, and tells of it what the caller may see.</summary>
    public async Task<IntakeRun> RunAsync(RunOrder order, ClaimsPrincipal user, CancellationToken cancel)
    {
        var run = await runner.RunAsync(order, cancel);
        var veil = await store.ReadAsync(s => sight.OverAsync(s, user, null, false, cancel), cancel);
        if (veil.IsClear)
            return run;
        var rulebook = (await editions.CurrentAsync(cancel)).Rulebook;
        var source = rulebook.Sources.GetValueOrDefault(run.Source);
        return run with
        {
            SetAside =
            [
                .. run.SetAside.Select(a => source is null || veil.HidesColumn(source, a.Column) ? a with { Value = Veil.Cover } : a),
            ],
            Requests = [.. run.Requests.Select(r => r with { Changes = r.Changes is { } all ? [.. all.Select(veil.Over)] : null })],
        };
    }

    /// <summary>Rows with what the caller does not see covered, in the columns as in what is made of them.</summary>
    private async Task<List<PreviewRow>> CoveredAsync(
        Core.Rulebook.Rulebook rulebook,
        SourceRule source,
        ClaimsPrincipal user,
        List<PreviewRow> rows,
        CancellationToken cancel
    )
    {
        var veil = await store.ReadAsync(s => sight.OverAsync(s, user, null, false, cancel), cancel);
        if (veil.IsClear)
            return rows;
        var columns = Visibility
            .InColumns(source, rulebook)
            .Where(c => c.Value.Any(veil.Hides))
            .Select(c => c.Key)
            .ToHashSet(StringComparer.Ordinal);
        return
        [
            .. rows.Select(r =>
                r with
                {
                    Columns =
                    [
                        .. r.Columns.Select(c => columns.Contains(c.Name) && c.Value.Length > 0 ? c with { Value = Veil.Cover } : c),
                    ],
                    Attributes = [.. r.Attributes.Select(veil.Over)],
                    Problem =
                        r.Problem is { } problem && columns.Contains(problem.Column) ? problem with { Value = Veil.Cover } : r.Problem,
                }
            ),
        ];
    }

    private async Task<List<PreviewRow>> PreviewAsync(
        Core.Rulebook.Rulebook rulebook,
        SourceRule source,
        int limit,
        bool isDraft,
        CancellationToken cancel
    )
    {
        var rows = new List<PreviewRow>();
        var reader = new RecordReader(source, rulebook, on: DateOnly.FromDateTime(time.GetUtcNow().UtcDateTime));
        foreach (var delivery in await opener.FirstAsync(source, limit, isDraft, cancel))
        {
            using var enough = CancellationTokenSource.CreateLinkedTokenSource(cancel);
            try
            {
                delivery.Each(
                    row =>
                    {
                        if (rows.Count >= limit)
                        {
                            enough.Cancel();
                            return;
                        }
                        rows.Add(Look(row, source, reader, delivery.Origin));
                    },
                    enough.Token
                );
            }
            catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
            {
                // There are enough rows to show.
            }
        }
        return rows;
    }

    private static PreviewRow Look(SourceRow row, SourceRule source, RecordReader reader, string origin)
    {
        if (row.Fault is not null)
            return new(row.Line, [], [], new(origin, row.Line, "", "", row.Fault), false);
        var texts = new string[source.ColumnNames.Count];
        for (var i = 0; i < texts.Length; i++)
            texts[i] = row.Text(i);
        var read = reader.Read(texts);
        return new(
            row.Line,
            [.. texts.Select((t, i) => new AttributeValue(source.ColumnNames[i], t.Length <= 200 ? t : t[..200] + "…"))],
            [.. (read.Facts?.Values ?? []).Select(v => new AttributeValue(v.Key, v.Value.ToString()))],
            read.Fault is { } fault ? new(origin, row.Line, fault.Column, fault.Value, fault.Reason, row.Key.ToString()) : null,
            read.Outside
        );
    }
}
