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
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Sources;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Intake;

/// <summary>What people do with sources: test, preview, switch on and off, let a held run pass or drop it, say what became of a
/// vanished record.</summary>
public sealed partial class SourceDesk(
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
                return new SourceSummary
                {
                    Name = source.Name,
                    Title = source.Title,
                    Kind = source.Kind.ToString().ToLowerInvariant(),
                    Path = WhereOf(source),
                    State =
                        held is not null ? "held"
                        : problem is not null ? "failing"
                        : state?.Active == 1 ? "on"
                        : "off",
                    LastRun = run is null ? null : RunView(run),
                    SetAside = (int)await s.SetAsideCountAsync(source.Name),
                    Vanished = (await s.VanishedAsync(source.Name, 10_000)).Count,
                    HeldRun = held?.RunId,
                    Schedule = source.Schedule?.ToString(),
                    NextRun = state?.Active == 1 ? state.NextAt.ToInstant() : null,
                    Problem = problem,
                    On = state?.Active == 1,
                };
            },
            cancel
        );

    public async Task<SourceDetail> DetailAsync(string name, CancellationToken cancel)
    {
        var source = IntakeRunner.SourceOf(await editions.CurrentAsync(cancel), name);
        var (state, records) = await store.ReadAsync(async s => (await s.SourceStateAsync(name), await s.RecordCountsAsync(name)), cancel);
        return new()
        {
            Summary = await SummaryAsync(source, cancel),
            Columns = [.. source.ColumnNames.Select((c, i) => new AttributeValue(c, source.Paths[i]))],
            Key = source.ColumnNames[source.KeyColumn],
            Mapping = [.. source.Mapping.Select(m => new AttributeValue(m.Name, m.Expression.Text))],
            Scope = source.Scope?.Text,
            Vanishing = source.Vanished == VanishedPolicy.Leave ? "leave" : "ask",
            Brake = BrakeText(source.Brake),
            BrakePasses = source.Brake?.Passes,
            WriteBack = [.. source.WriteBack.Select(w => new AttributeValue(w.Name, w.Expression.Text))],
            TestedAt = state?.TestedAt.ToInstant(),
            TestOutcome = state?.TestOutcome is { Length: > 0 } outcome ? outcome : null,
            TestCounts = state?.TestedRule == RuleOf(source),
            Records = records,
            ReportsTo = source.ReportsTo.Length > 0 ? source.ReportsTo : null,
        };
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
        var reader = new RecordReader(source, edition.Rulebook, on: DateOnly.FromDateTime(time.GetUtcNow().UtcDateTime));
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
                                one.Happening.Raises is { } kind ? EnumText.Of(kind) : null,
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
