using System.Globalization;
using System.Security.Claims;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Expressions;
using Oikonom.Core.Intake;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;
using Oikonom.Service.Access;
using Oikonom.Service.Hosting;
using Oikonom.Service.Rulebook;
using Oikonom.Sources;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Intake;

/// <summary>What people do with sources: test, preview, switch on and off, let a held run pass or drop it, say what became of a
/// vanished record.</summary>
public sealed class SourceDesk(
    Store.Store store,
    EditionBook editions,
    Sight sight,
    SourceOpener opener,
    IntakeRunner runner,
    RecordTaker taker,
    TimeProvider time
)
{
    private const int TestRows = 200;

    public async Task<Page<SourceSummary>> ListAsync(CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        var items = new List<SourceSummary>();
        foreach (var source in edition.Rulebook.Sources.Values)
            items.Add(await SummaryAsync(source, cancel));
        return new(items, null);
    }

    private Task<SourceSummary> SummaryAsync(SourceRule source, CancellationToken cancel) =>
        store.ReadAsync(
            async s =>
            {
                var state = await s.SourceStateAsync(source.Name);
                var run = (await s.RunsAsync(source.Name, 1)).FirstOrDefault();
                var held = (await s.HeldOfAsync(source.Name)).FirstOrDefault();
                var problem =
                    state?.Problem is { Length: > 0 } text ? text
                    : run?.Outcome == "unreadable" ? run.Message
                    : null;
                return new SourceSummary(
                    source.Name,
                    source.Title,
                    source.Kind.ToString().ToLowerInvariant(),
                    WhereOf(source),
                    held is not null ? "held"
                        : problem is not null ? "failing"
                        : state?.Active == 1 ? "on"
                        : "off",
                    run is null ? null : RunView(run),
                    (int)await s.SetAsideCountAsync(source.Name),
                    (await s.VanishedAsync(source.Name, 10_000)).Count,
                    held?.RunId,
                    source.Schedule?.ToString(),
                    state?.Active == 1 ? state.NextAt.ToInstant() : null,
                    problem,
                    state?.Active == 1
                );
            },
            cancel
        );

    public async Task<SourceDetail> DetailAsync(string name, CancellationToken cancel)
    {
        var source = IntakeRunner.SourceOf(await editions.CurrentAsync(cancel), name);
        var (state, records) = await store.ReadAsync(async s => (await s.SourceStateAsync(name), await s.RecordCountsAsync(name)), cancel);
        return new(
            await SummaryAsync(source, cancel),
            [.. source.ColumnNames.Select((c, i) => new AttributeValue(c, source.Paths[i]))],
            source.ColumnNames[source.KeyColumn],
            [.. source.Mapping.Select(m => new AttributeValue(m.Name, m.Expression.Text))],
            source.Scope?.Text,
            source.Vanished == VanishedPolicy.Leave ? "leave" : "ask",
            BrakeText(source.Brake),
            source.Brake?.Passes,
            [.. source.WriteBack.Select(w => new AttributeValue(w.Name, w.Expression.Text))],
            state?.TestedAt.ToInstant(),
            state?.TestOutcome is { Length: > 0 } outcome ? outcome : null,
            state?.TestedRule == RuleOf(source),
            records,
            source.ReportsTo.Length > 0 ? source.ReportsTo : null
        );
    }

    private static string WhereOf(SourceRule source) =>
        source.Kind switch
        {
            SourceKind.File => source.Path,
            SourceKind.Http => source.Http!.Address.ToString(),
            SourceKind.Scim => "/scim/v2",
            _ => $"/api/v1/sources/{source.Name}/records",
        };

    private static string? BrakeText(BrakeRule? brake) =>
        brake is null
            ? null
            : string.Join(
                "; ",
                new[] { ("joiners", brake.Joiners), ("movers", brake.Movers), ("leavers", brake.Leavers) }
                    .Where(b => b.Item2 is not null)
                    .Select(b => $"more than {b.Item2} {b.Item1}")
            );

    /// <summary>What a test was made of; a changed rule needs a new one.</summary>
    private static string RuleOf(SourceRule source) =>
        Convert.ToHexStringLower(
            SHA256.HashData(
                Encoding.UTF8.GetBytes(
                    $"{source.Kind}|{WhereOf(source)}|{source.Encoding}|{source.Delimiter}|{string.Join('|', source.Paths)}|"
                        + $"{source.KeyColumn}|{source.Scope?.Text}|"
                        + $"{string.Join('|', source.Mapping.Select(m => $"{m.Name}={m.Expression.Text}"))}"
                )
            )
        )[..32];

    /// <summary>Reads the first records and maps them; the outcome is kept, and a good one lets the source be switched on.</summary>
    public async Task<SourceTest> TestAsync(string name, ClaimsPrincipal user, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        var source = IntakeRunner.SourceOf(edition, name);
        SourceTest test;
        if (source.Kind is SourceKind.Scim or SourceKind.Post)
        {
            var tokens = await store.ReadAsync(s => s.SourceTokensAsync(name), cancel);
            var live = tokens.Count(t => t.EndedAt is null && t.ExpiresAt > time.Milliseconds());
            test =
                source.Kind == SourceKind.Post || live > 0
                    ? new(true, "It is pushed; there is nothing to fetch, and it can be pushed to.", 0, 0, [])
                    : new(false, $"No token is valid: nobody could push. Make one with 'oikonom intake token {name}'.", 0, 0, []);
        }
        else
        {
            try
            {
                var rows = await CoveredAsync(
                    edition.Rulebook,
                    source,
                    user,
                    await PreviewAsync(edition.Rulebook, source, TestRows, false, cancel),
                    cancel
                );
                var problems = rows.Count(r => r.Problem is not null);
                var message =
                    rows.Count == 0 ? "It can be read, and holds no record."
                    : problems == 0 ? $"The first {rows.Count} records are sound."
                    : $"{problems} of the first {rows.Count} records would be set aside; the first: line "
                        + $"{rows.First(r => r.Problem is not null).Line}: {rows.First(r => r.Problem is not null).Problem!.Reason}";
                test = new(rows.Count > 0 && problems * 2 < rows.Count, message, rows.Count, problems, [.. rows.Take(20)]);
            }
            catch (SourceFault fault)
            {
                test = new(false, fault.Message, 0, 0, []);
            }
        }
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

    /// <summary>Real records and what a mapping makes of them; the mapping may be that of a draft. Nothing is kept.</summary>
    public async Task<SourceTest> PreviewAsync(string name, PreviewBody body, ClaimsPrincipal user, CancellationToken cancel)
    {
        var limit = body.Limit ?? 20;
        if (limit is < 1 or > 500)
            throw Problem.Invalid("'limit' is from 1 to 500.", "limit");
        Core.Rulebook.Rulebook rulebook;
        if (body.Files is { Count: > 0 })
        {
            var files = RulebookEndpoints.FilesOf(new(body.Files));
            var reading = RulebookReader.Read(files);
            rulebook = reading.Rulebook ?? throw RulebookEndpoints.Unsound(reading);
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

    /// <summary>Rows set aside, with what the caller does not see covered.</summary>
    public async Task<IReadOnlyList<SetAsideRow>> SetAsideAsync(string name, int limit, ClaimsPrincipal user, CancellationToken cancel)
    {
        var source = (await editions.CurrentAsync(cancel)).Rulebook.Sources.GetValueOrDefault(name);
        var (rows, veil) = await store.ReadAsync(
            async s => (await s.SetAsideAsync(name, limit), await sight.OverAsync(s, user, null, false, cancel)),
            cancel
        );
        if (veil.IsClear || source is null)
            return rows;
        return
        [
            .. rows.Select(row =>
            {
                var fields = JsonSerializer.Deserialize<Dictionary<string, string>>(row.Fields) ?? [];
                foreach (var column in fields.Keys.Where(k => fields[k].Length > 0 && veil.HidesColumn(source, k)).ToList())
                    fields[column] = Veil.Cover;
                return row with
                {
                    Value = veil.HidesColumn(source, row.ColumnName) ? Veil.Cover : row.Value,
                    Fields = JsonSerializer.Serialize(fields),
                };
            }),
        ];
    }

    /// <summary>Records within the caller's reach.</summary>
    public Task<Page<RecordView>> RecordsAsync(
        string name,
        string status,
        string key,
        string after,
        int size,
        ClaimsPrincipal user,
        CancellationToken cancel
    ) =>
        store.ReadAsync(
            async s =>
            {
                var reach = user.ReachOf() is { } parts ? parts.Select(p => (p.Sites, p.Departments)).ToList() : null;
                var rows = await s.RecordsPageAsync(name, status, key, after, size + 1, reach);
                var veil = await sight.OverAsync(s, user, null, false, cancel);
                return new Page<RecordView>(
                    [
                        .. rows.Take(size)
                            .Select(r =>
                                RecordOf(r) is var view && veil.IsClear
                                    ? view
                                    : view with
                                    {
                                        Attributes = [.. view.Attributes.Select(veil.Over)],
                                    }
                            ),
                    ],
                    rows.Count > size ? rows[size - 1].RecordKey : null
                );
            },
            cancel
        );

    private async Task<List<PreviewRow>> PreviewAsync(
        Core.Rulebook.Rulebook rulebook,
        SourceRule source,
        int limit,
        bool isDraft,
        CancellationToken cancel
    )
    {
        var rows = new List<PreviewRow>();
        var reader = new RecordReader(source, rulebook);
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

    public async Task<SourceDetail> SwitchAsync(string name, bool on, ClaimsPrincipal user, CancellationToken cancel)
    {
        var source = IntakeRunner.SourceOf(await editions.CurrentAsync(cancel), name);
        await store.WriteAsync(
            async s =>
            {
                var state = await s.SourceStateAsync(name) ?? new() { Source = name };
                if (on && state.TestedRule != RuleOf(source))
                {
                    throw Problem.Conflict(
                        "not-tested",
                        state.TestedAt is null
                                ? $"'{name}' was never tested. Test it with 'oikonom intake test {name}'; when that is good it "
                                    + "can be switched on."
                            : state.TestedRule.Length == 0 ? $"The last test of '{name}' was not good: {state.TestOutcome}"
                            : $"'{name}' changed since it was tested. Test it again."
                    );
                }
                var next = on ? source.Schedule?.Next(time.GetUtcNow())?.ToUnixTimeMilliseconds() : null;
                await s.SaveSourceStateAsync(
                    state with
                    {
                        Active = on ? 1 : 0,
                        Actor = user.UserName(),
                        ChangedAt = time.Milliseconds(),
                        NextAt = next,
                        Problem = "",
                    }
                );
                s.Record(
                    LedgerEntry.Of(
                        time.GetUtcNow(),
                        user.UserName(),
                        on ? "source.switched-on" : "source.switched-off",
                        null,
                        null,
                        ("source", name)
                    )
                );
                s.Tell("sources", name);
            },
            cancel
        );
        return await DetailAsync(name, cancel);
    }

    public async Task<HeldRun> HeldAsync(string runId, ClaimsPrincipal user, CancellationToken cancel)
    {
        var row =
            await store.ReadAsync(s => s.HeldAsync(runId), cancel)
            ?? throw Problem.NotFound($"held run '{runId}'", "See 'oikonom intake sources'.");
        var source = (await editions.CurrentAsync(cancel)).Rulebook.Sources.GetValueOrDefault(row.Source);
        var passes = source?.Brake?.Passes ?? "role:engineer";
        return new(
            row.RunId,
            row.Source,
            row.Why,
            EnumText.Of(row.State),
            row.At.ToInstant(),
            row.Actor,
            passes,
            row.State == HeldState.Held && Passes(user, passes),
            JsonSerializer.Deserialize<List<RaisedRequest>>(row.Raises) ?? []
        );
    }

    /// <summary>All runs that wait under the brake.</summary>
    public async Task<IReadOnlyList<HeldRun>> HeldRunsAsync(ClaimsPrincipal user, CancellationToken cancel)
    {
        var runs = new List<HeldRun>();
        foreach (var id in await store.ReadAsync(s => s.HeldRunIdsAsync(), cancel))
            runs.Add(await HeldAsync(id, user, cancel) with { Requests = [] });
        return runs;
    }

    private static bool Passes(ClaimsPrincipal user, string passes) =>
        passes.StartsWith("role:", StringComparison.Ordinal)
            ? user.RoleNames().Contains(passes[5..])
            : passes.StartsWith("person:", StringComparison.Ordinal) && user.Number() == passes[7..];

    /// <summary>Lets a held run pass, or drops it. What passes is what was shown: the run is made anew and must raise exactly
    /// the same.</summary>
    public async Task<IntakeRun> DecideHeldAsync(string runId, bool pass, ClaimsPrincipal user, CancellationToken cancel)
    {
        var held = await HeldAsync(runId, user, cancel);
        if (held.State != "held")
            throw Problem.Conflict("not-held", $"The run is {held.State}; there is nothing to decide.");
        var run = await store.ReadAsync(s => s.RunAsync(runId), cancel);
        if (pass && run!.Mode == "baseline")
        {
            if (!user.RoleNames().Contains(Roles.Engineer))
                throw new Problem(403, "not-yours", "Not allowed", "A baseline is let pass by an engineer.");
            await store.ReadAsync(
                async s =>
                {
                    await SecondPerson.RequireAsync(
                        s,
                        held.Actor,
                        user,
                        "own-run",
                        "You ran this baseline yourself; another engineer lets it pass."
                    );
                    return true;
                },
                cancel
            );
        }
        else if (!Passes(user, held.Passes))
            throw new Problem(403, "not-yours", "Not allowed", $"This decision belongs to {held.Passes}.");
        await store.WriteAsync(
            async s =>
            {
                if (!await s.DecideHeldAsync(runId, pass ? HeldEvent.Pass : HeldEvent.Drop, user.UserName(), time.Milliseconds()))
                    throw Problem.Conflict("not-held", "Somebody else decided in the meantime.");
                s.Record(
                    LedgerEntry.Of(
                        time.GetUtcNow(),
                        user.UserName(),
                        pass ? "intake.passed" : "intake.dropped",
                        null,
                        null,
                        ("run", runId),
                        ("source", held.Source)
                    )
                );
                s.Tell("sources", held.Source);
            },
            cancel
        );
        if (!pass)
            return RunView(run!);
        // What was kept back of pushes is taken from the resources, all of them as they are now.
        return await runner.RunAsync(new(held.Source, run!.Mode, false, user.UserName(), "", runId), cancel);
    }

    /// <summary>Says what became of a record that vanished: the person leaves, or stays.</summary>
    public async Task<RecordView> VanishedAsync(string name, string key, VanishedBody body, ClaimsPrincipal user, CancellationToken cancel)
    {
        if (body.Verdict is not ("leaves" or "stays"))
            throw Problem.Invalid("'verdict' is leaves or stays.", "verdict");
        var edition = await editions.CurrentAsync(cancel);
        var source = IntakeRunner.SourceOf(edition, name);
        await store.WriteAsync(
            async s =>
            {
                var row = (await s.RecordsAsync(name, [key])).FirstOrDefault();
                if (
                    row?.Status != "vanished"
                    || row.PersonId is null
                    || await s.PersonAsync(row.PersonId) is not { } person
                    || !ReachRule.Sees(user, person)
                )
                    throw Problem.NotFound($"vanished record '{key}' in '{name}'", "See 'oikonom intake vanished'.");
                if (user.IsSelf(person))
                    throw new Problem(403, "own-record", "Not allowed", "This is your own record; somebody else says what became of it.");
                if (body.Verdict == "stays")
                    await s.UpsertRecordsAsync([
                        new()
                        {
                            Source = name,
                            RecordKey = key,
                            Hash = new('0', 32),
                            Status = "kept",
                            RunId = row.RunId,
                        },
                    ]);
                else
                {
                    var before = Facts.FromJson(row.Facts!, edition.Rulebook.Attributes);
                    if (body.LastDay < before.Start)
                        throw Problem.Invalid($"The last day lies before the first, {before.Text(BuiltIn.Start)}.", "lastDay");
                    var facts = body.LastDay is { } day ? before.With(BuiltIn.End, Value.Of(day)) : null;
                    var (taking, memory) = (new Taking(edition, source, row.RunId, "full", user.UserName()), new RecordTaker.Memory());
                    var decided = await taker.DecideAsync(s, taking, [new(key, UInt128.Zero, facts, 0)], memory);
                    await taker.WriteAsync(s, taking, decided, [], memory);
                }
                s.Record(
                    LedgerEntry.Of(
                        time.GetUtcNow(),
                        user.UserName(),
                        "source.vanished-decided",
                        row.PersonId,
                        null,
                        ("source", name),
                        ("record", key),
                        ("verdict", body.Verdict),
                        ("lastDay", body.LastDay?.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture))
                    )
                );
                s.Tell("sources", name);
            },
            cancel
        );
        return RecordOf((await store.ReadAsync(s => s.RecordsAsync(name, [key]), cancel)).Single());
    }

    public static RecordView RecordOf(RecordRow row) =>
        new(
            row.RecordKey,
            row.Status,
            row.PersonId,
            row.RequestId,
            row.RunId,
            row.Facts is null
                ? []
                :
                [
                    .. (JsonSerializer.Deserialize<Dictionary<string, string>>(row.Facts) ?? []).Select(f => new AttributeValue(
                        f.Key,
                        f.Value
                    )),
                ]
        );

    /// <summary>Takes posted records, and says of each what became of it.</summary>
    public async Task<RecordsAnswer> PostAsync(string name, RecordsBody body, ClaimsPrincipal user, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        var source = IntakeRunner.SourceOf(edition, name);
        if (source.Kind != SourceKind.Post)
            throw Problem.Conflict(
                "not-posted",
                $"'{name}' is of the kind {source.Kind.ToString().ToLowerInvariant()}; only a source of the kind post takes "
                    + "records this way."
            );
        if ((await store.ReadAsync(s => s.SourceStateAsync(name), cancel))?.Active != 1)
            throw Problem.Conflict(
                "switched-off",
                $"'{name}' is switched off. Test it with 'oikonom intake test {name}', then switch it on."
            );
        if (body.Records is not { Count: > 0 and <= 10_000 })
            throw Problem.Invalid("'records' holds from 1 to 10000 records.", "records");
        var records = body
            .Records.Select(
                (r, i) =>
                    r.ValueKind == JsonValueKind.Object
                        ? JsonPaths.Texts(r, source.Paths)
                        : throw Problem.Invalid($"Record {i + 1} is no object.", "records")
            )
            .ToList();
        await RequireNotOwnAsync(source, edition, records, user, cancel);
        return await TakeAsync(source, new(source, "post", false, records), records, user.UserName(), cancel);
    }

    /// <summary>Nobody says what HR knows of themselves: an input is changed by somebody else.</summary>
    private async Task RequireNotOwnAsync(
        SourceRule source,
        Edition edition,
        IReadOnlyList<IReadOnlyList<string>> records,
        ClaimsPrincipal user,
        CancellationToken cancel
    )
    {
        if (user.Number().Length == 0)
            return;
        var own = await store.ReadAsync(s => s.PersonByNumberAsync(user.Number()), cancel);
        var reader = new RecordReader(source, edition.Rulebook);
        for (var i = 0; i < records.Count; i++)
            if (reader.Read([.. records[i]]).Facts is { } facts && (facts.Number == user.Number() || facts.PersonKey == own?.PersonKey))
                throw new Problem(403, "own-record", "Not allowed", $"Record {i + 1} is about yourself; somebody else posts it.");
    }

    private async Task<RecordsAnswer> TakeAsync(
        SourceRule source,
        RecordDelivery delivery,
        IReadOnlyList<IReadOnlyList<string>> records,
        string actor,
        CancellationToken cancel
    )
    {
        var ended = await runner.TakeAsync(source.Name, delivery, "changes", actor, cancel);
        var taken = ended.Taken.ToLookup(t => t.Incoming.Line);
        var aside = ended.Run.SetAside.ToLookup(a => a.Line);
        var statuses = ended.Statuses.DistinctBy(x => x.Key).ToDictionary(x => x.Key, x => x.Status);
        return new(
            ended.Run.Id,
            ended.Run.Outcome,
            [
                .. records.Select(
                    (r, i) =>
                    {
                        var key = r[source.KeyColumn];
                        if (aside[i + 1].FirstOrDefault() is { } problem)
                            return new RecordOutcome(i, key, "set-aside", null, null, null, problem);
                        return taken[i + 1].FirstOrDefault() is { } one
                            ? new(
                                i,
                                key,
                                ended.Run.Outcome == "held" ? "held" : one.Status,
                                one.RequestId,
                                one.Happening.Raises is { } kind ? RecordTaker.Name(kind) : null,
                                one.PersonId,
                                null
                            )
                            : new(i, key, statuses.GetValueOrDefault(key, "unchanged"), null, null, null, null);
                    }
                ),
            ]
        );
    }

    public static IntakeRun RunView(RunRow row) =>
        new(
            row.Id,
            row.Source,
            row.Mode,
            false,
            row.Actor,
            row.StartedAt.ToInstant(),
            row.EndedAt.ToInstant(),
            row.Outcome,
            row.Message,
            JsonSerializer.Deserialize<IntakeCounts>(row.Counts, JsonSerializerOptions.Web) ?? new(0, 0, 0, 0, 0, 0, 0, 0, 0),
            [],
            []
        );
}
