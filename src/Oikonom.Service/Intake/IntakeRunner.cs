using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Expressions;
using Oikonom.Core.Intake;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Sources;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Intake;

/// <summary>What a run is asked for.</summary>
/// <param name="Mode">full, changes or baseline.</param>
/// <param name="Person">Only the record with this key or number, or "".</param>
/// <param name="Passes">The held run that was let pass, or "".</param>
public sealed record RunOrder(string Source, string Mode, bool DryRun, string Actor, string Person = "", string Passes = "");

/// <summary>One run of a source: reads, tells what changed, and raises what follows from it.</summary>
public sealed partial class IntakeRunner(
    Store.Store store,
    EditionBook editions,
    SourceOpener opener,
    RecordTaker taker,
    Baseline baseline,
    TimeProvider time
)
{
    private const int Chunk = 1000;
    private const int FirstChunk = 25_000;
    private const int LoadChunk = 1000;
    private const int MostAhead = 4;
    private const int Shown = 200;
    private static readonly UInt128 Seen = UInt128.MaxValue;
    private readonly SemaphoreSlim _one = new(1);

    /// <summary>A run as it ended, with what became of each record of a small delivery.</summary>
    public sealed record Ended(IntakeRun Run, IReadOnlyList<Taken> Taken, IReadOnlyList<(string Key, string Status)> Statuses);

    public async Task<IntakeRun> RunAsync(RunOrder order, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        var source = SourceOf(edition, order.Source);
        return await OneAtATimeAsync(
            async () =>
            {
                IReadOnlyList<Delivery> deliveries;
                try
                {
                    deliveries = await opener.OpenAsync(source, await SinceAsync(source, order), cancel);
                }
                catch (SourceFault fault)
                {
                    if (!order.DryRun)
                        await FailedAsync(source, order, fault.Message, cancel);
                    throw;
                }
                IntakeRun? last = null;
                foreach (var delivery in deliveries)
                {
                    last = (await RunAsync(edition, source, order, delivery, cancel)).Run;
                    if (last.Outcome == "held")
                        break;
                    if (!order.DryRun && order.Person.Length == 0 && delivery.Reaches.Length > 0)
                        await store.WriteAsync(s => s.SetSinceAsync(source.Name, delivery.Reaches), cancel);
                }
                var now = time.GetUtcNow();
                return last
                    ?? new(
                        "",
                        source.Name,
                        order.Mode,
                        order.DryRun,
                        order.Actor,
                        now,
                        now,
                        "completed",
                        "No new file is there.",
                        new(0, 0, 0, 0, 0, 0, 0, 0, 0),
                        [],
                        []
                    );
            },
            cancel
        );
    }

    /// <summary>Takes records that came by themselves: posted, or pushed.</summary>
    public async Task<Ended> TakeAsync(string sourceName, RecordDelivery delivery, string mode, string actor, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        var source = SourceOf(edition, sourceName);
        return await OneAtATimeAsync(() => RunAsync(edition, source, new(sourceName, mode, false, actor), delivery, cancel), cancel);
    }

    public static SourceRule SourceOf(Edition edition, string name) =>
        edition.Rulebook.Sources.GetValueOrDefault(name)
        ?? throw Problem.NotFound(
            $"source '{name}'",
            $"The rulebook has: {string.Join(", ", edition.Rulebook.Sources.Keys)}.{Nearest.Hint(name, edition.Rulebook.Sources.Keys)}"
        );

    private async Task<T> OneAtATimeAsync<T>(Func<Task<T>> run, CancellationToken cancel)
    {
        if (!await _one.WaitAsync(TimeSpan.FromSeconds(60), cancel))
            throw Problem.Conflict("run-under-way", "Another run is under way. Try again when it has ended.");
        try
        {
            return await run();
        }
        finally
        {
            _one.Release();
        }
    }

    private async Task<string> SinceAsync(SourceRule source, RunOrder order)
    {
        var incremental = order.Mode == "changes" || (source.Kind == SourceKind.File && source.IsFolder && !source.IsFull);
        return incremental && order.Person.Length == 0 ? (await store.ReadAsync(s => s.SourceStateAsync(source.Name)))?.Since ?? "" : "";
    }

    private async Task<Ended> RunAsync(Edition edition, SourceRule source, RunOrder order, Delivery delivery, CancellationToken cancel)
    {
        var started = time.GetUtcNow();
        var runId = Guid.CreateVersion7(started).ToString();
        var full = delivery.IsFull && order.Person.Length == 0;
        var taking = new Taking(edition, source, runId, order.Mode, order.Actor);
        Reading reading;
        try
        {
            if (full && !order.DryRun && order.Mode == "baseline" && await store.ReadAsync(s => s.IsFirstLoadAsync(source.Name), cancel))
            {
                var (loaded, adopting) = await LoadFirstAsync(taking, delivery, cancel);
                var first = Result(taking, order, started, loaded, [], [], await adopting.EndAsync(cancel));
                await EndAsync(source, first, loaded, [], full, order, edition.Number, cancel);
                return new(first, [], loaded.Statuses);
            }
            reading = await ReadAsync(edition.Rulebook, source, delivery, full, order.Person, runId, cancel);
        }
        catch (SourceFault fault) when (!order.DryRun)
        {
            await FailedAsync(source, order, fault.Message, cancel);
            throw;
        }
        var vanished = await VanishAsync(reading, source, edition, cancel);
        var incoming = reading.Changes;
        if (order.Mode == "baseline")
        {
            // The first load of a source takes all as known; later only who is new is, with a second person, and the others stay compared.
            var first = !await store.ReadAsync(s => s.HasRecordsAsync(source.Name), cancel);
            taking = taking with { IsFirst = first };
            if (!first && !order.DryRun)
            {
                var known = await DecideAsync(taking, incoming, cancel);
                if (await HoldBaselineAsync(source, known, reading, order, runId, started, cancel) is { } waits)
                    return new(waits, known, reading.Statuses);
            }
        }
        if (order.DryRun || (source.Brake is not null && order.Mode != "baseline"))
        {
            var decided = await DecideAsync(taking, incoming, cancel);
            if (!order.DryRun && await BrakeAsync(source, decided, reading, order, runId, started, cancel) is { } held)
                return new(held, decided, reading.Statuses);
            if (order.DryRun)
            {
                var seen = Result(taking, order, started, reading, decided, vanished, 0);
                // A look says beforehand what would hold it.
                if (source.Brake is { } brake && order.Mode != "baseline")
                    if (await OverBrakeAsync(source, brake, decided, reading, started, cancel) is { Count: > 0 } over)
                        seen = seen with { Message = $"{seen.Message} It would be held: {string.Join("; ", over)}." };
                return new(seen, decided, reading.Statuses);
            }
        }
        var adoption = order.Mode == "baseline" ? baseline.Begin(edition, cancel) : null;
        var taken = await WriteAsync(taking, reading, incoming, adoption, cancel);
        var adopted = adoption is null ? 0 : await adoption.EndAsync(cancel);
        var run = Result(taking, order, started, reading, taken, vanished, adopted);
        await EndAsync(source, run, reading, vanished, full, order, edition.Number, cancel);
        return new(run, taken, reading.Statuses);
    }

    private IntakeRun Result(
        Taking taking,
        RunOrder order,
        DateTimeOffset started,
        Reading reading,
        List<Taken> taken,
        IReadOnlyList<RecordRow> vanished,
        int adopted
    )
    {
        int Count(RequestKind kind) => taken.Count(t => t.Happening.Raises == kind);
        var counts = new IntakeCounts(
            reading.Read,
            reading.Unchanged,
            reading.Changed,
            Count(RequestKind.Joiner),
            Count(RequestKind.Mover),
            Count(RequestKind.Leaver),
            reading.SetAside.Count,
            vanished.Count,
            adopted,
            Count(RequestKind.Correction),
            reading.Outside.Count
        );
        return new(
            taking.RunId,
            taking.Source.Name,
            order.Mode,
            order.DryRun,
            order.Actor,
            started,
            time.GetUtcNow(),
            reading.SetAside.Count > 0 ? "completed-with-rows-set-aside" : "completed",
            Describe(counts, order),
            counts,
            [.. reading.SetAside.Take(Shown).Select(View)],
            [
                .. taken
                    .Where(t => t.Happening.Raises is not null)
                    .Take(Shown)
                    .Select(t => order.DryRun ? RecordTaker.Told(t, taking.Source, taking.Edition.Rulebook) : RecordTaker.View(t)),
            ]
        );
    }

    public static SetAside View(SetAsideRow row) => new(row.File, (int)row.Line, row.ColumnName, row.Value, row.Reason, row.RecordKey);

    private static string Describe(IntakeCounts c, RunOrder order)
    {
        var raised = order.DryRun ? "would raise" : "raised";
        return $"{c.Read} rows: {c.Unchanged} unchanged, {c.Changed} new or changed, {c.SetAside} set aside"
            + (c.Outside > 0 ? $", {c.Outside} outside the scope" : "")
            + (c.Missing > 0 ? $", {c.Missing} known records are not in the file" : "")
            + (
                order.Mode == "baseline"
                    ? $"; nothing {(order.DryRun ? "would be raised" : $"raised, {Of(c.Adopted, "existing account")} recorded")}."
                    : $"; {raised} {Of(c.Joiners, "joiner")}, {Of(c.Movers, "mover")}, {Of(c.Leavers, "leaver")}"
                        + (c.Corrections > 0 ? $", {Of(c.Corrections, "correction")}." : ".")
            );

        static string Of(int count, string what) => $"{count} {what}{(count == 1 ? "" : "s")}";
    }

    private Task FailedAsync(SourceRule source, RunOrder order, string message, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                var now = time.GetUtcNow();
                var id = Guid.CreateVersion7(now).ToString();
                await s.AddRunAsync(
                    new()
                    {
                        Id = id,
                        Source = source.Name,
                        Mode = order.Mode,
                        Actor = order.Actor,
                        StartedAt = now.ToUnixTimeMilliseconds(),
                        EndedAt = now.ToUnixTimeMilliseconds(),
                        Outcome = "unreadable",
                        Message = message,
                        Counts = "{}",
                    }
                );
                s.Record(
                    LedgerEntry.Of(
                        now,
                        order.Actor,
                        "intake.unreadable",
                        null,
                        null,
                        ("run", id),
                        ("source", source.Name),
                        ("problem", message)
                    )
                );
                s.Tell("sources", source.Name);
                Report(s, source, "could not be read", message);
            },
            cancel
        );

    internal static void Report(Session s, SourceRule source, string what, string message)
    {
        if (source.ReportsTo.Length > 0)
            s.Send(
                new(source.ReportsTo, $"{source.Title}: a run {what}", $"A run of the source '{source.Title}' {what}:\n\n{message}\n", null)
            );
    }

    /// <summary>What a run leaves for people to look at is told once: records that vanished, and rows set aside anew.</summary>
    private static async Task TellLeftAsync(Session s, SourceRule source, Reading reading, IReadOnlyList<RecordRow> vanished)
    {
        const int most = 50;
        if (source.ReportsTo.Length == 0)
            return;
        var known = (await s.SetAsideAsync(source.Name, 10_000)).Select(r => (r.RecordKey, r.ColumnName, r.Value, r.Reason)).ToHashSet();
        var fresh = reading.SetAside.Where(r => !known.Contains((r.RecordKey, r.ColumnName, r.Value, r.Reason))).ToList();
        var lines = fresh
            .Select(r => $"  line {r.Line}, {(r.RecordKey.Length > 0 ? r.RecordKey : "no key")}: {r.Reason}")
            .Concat(source.Vanished == VanishedPolicy.Ask ? vanished.Select(v => $"  {v.RecordKey}: the delivery holds it no more") : [])
            .ToList();
        if (lines.Count == 0)
            return;
        if (lines.Count > most)
            lines = [.. lines.Take(most), $"  and {lines.Count - most} more"];
        var gone = source.Vanished == VanishedPolicy.Ask ? vanished.Count : 0;
        Report(
            s,
            source,
            $"left {fresh.Count} row{(fresh.Count == 1 ? "" : "s")} set aside and {gone} record{(gone == 1 ? "" : "s")} vanished",
            string.Join('\n', lines)
        );
    }

    /// <summary>
    /// What a full delivery held no more. A record under a new key that is the same employment takes the place of
    /// the old one; what was outside the scope anyway is forgotten; the rest is listed, or leaves if the rulebook says so.
    /// </summary>
    private async Task<IReadOnlyList<RecordRow>> VanishAsync(Reading reading, SourceRule source, Edition edition, CancellationToken cancel)
    {
        var left = await LeftScopeAsync(reading, source, cancel);
        if (reading.Missing.Count == 0 && left.Count == 0)
            return [];
        var rows = (await store.ReadAsync(s => s.RecordsAsync(source.Name, reading.Missing), cancel)).Concat(left).ToList();
        var replaced = new HashSet<string>(StringComparer.Ordinal);
        var vanished = rows.Where(r => r.Facts is not null)
            .Select(r => (Row: r, Facts: Facts.FromJson(r.Facts!, edition.Rulebook.Attributes)))
            .ToList();
        var byPerson = vanished.ToLookup(v => v.Facts.PersonKey);
        for (var i = 0; i < reading.Changes.Count; i++)
        {
            var change = reading.Changes[i];
            var old = byPerson[change.Facts!.PersonKey]
                .FirstOrDefault(v => Happening.IsSameEmployment(v.Facts, change.Facts) && !replaced.Contains(v.Row.RecordKey));
            if (old.Row is null)
                continue;
            replaced.Add(old.Row.RecordKey);
            reading.Changes[i] = change with { Replaces = old.Row };
        }
        var gone = vanished.Where(v => !replaced.Contains(v.Row.RecordKey)).ToList();
        // What was pushed as gone, or as inactive, is said outright: it leaves.
        if (source.Vanished == VanishedPolicy.Leave || source.Kind == SourceKind.Scim)
        {
            reading.Changes.AddRange(gone.Select(v => new Incoming(v.Row.RecordKey, UInt128.Zero, null, 0)));
            return [.. gone.Select(v => v.Row)];
        }
        return [.. gone.Select(v => v.Row)];
    }

    /// <summary>Records that were taken and are outside the scope now: as if they had vanished, since nobody leaves silently.</summary>
    private async Task<IReadOnlyList<RecordRow>> LeftScopeAsync(Reading reading, SourceRule source, CancellationToken cancel)
    {
        if (reading.Outside.Count == 0)
            return [];
        var left = (await store.ReadAsync(s => s.RecordsAsync(source.Name, [.. reading.Outside.Select(o => o.Key)]), cancel))
            .Where(r => r.PersonId is not null && r.Status is "received" or "request")
            .ToList();
        var keys = left.Select(r => r.RecordKey).ToHashSet(StringComparer.Ordinal);
        reading.Outside.RemoveAll(o => keys.Contains(o.Key));
        return left;
    }

    private async Task<List<Taken>> DecideAsync(Taking taking, List<Incoming> incoming, CancellationToken cancel)
    {
        var memory = new RecordTaker.Memory();
        var decided = new List<Taken>(incoming.Count);
        foreach (var chunk in incoming.Chunk(Chunk))
            decided.AddRange(await store.ReadAsync(s => taker.DecideAsync(s, taking, chunk, memory), cancel));
        return decided;
    }

    private async Task<List<Taken>> WriteAsync(
        Taking taking,
        Reading reading,
        List<Incoming> incoming,
        Baseline.Adoption? adoption,
        CancellationToken cancel
    )
    {
        var taken = new List<Taken>(incoming.Count);
        var memory = new RecordTaker.Memory
        {
            IsFirstLoad = incoming.Count > Chunk && await store.ReadAsync(s => s.IsFirstLoadAsync(taking.Source.Name), cancel),
        };
        foreach (var chunk in incoming.Chunk(memory.IsFirstLoad ? FirstChunk : Chunk))
        {
            var some = await store.WriteAsync(
                async s =>
                {
                    var decided = await taker.DecideAsync(s, taking, chunk, memory.IsFirstLoad ? memory : new());
                    await taker.WriteAsync(s, taking, decided, [], memory);
                    return decided;
                },
                cancel
            );
            adoption?.Add(some);
            taken.AddRange(some);
        }
        foreach (var chunk in reading.Outside.Chunk(Chunk))
            await store.WriteAsync(s => taker.WriteAsync(s, taking, [], chunk, memory), cancel);
        reading.Statuses.AddRange(reading.Outside.Select(o => (o.Key, "outside")));
        return taken;
    }

    private Task EndAsync(
        SourceRule source,
        IntakeRun run,
        Reading reading,
        IReadOnlyList<RecordRow> vanished,
        bool full,
        RunOrder order,
        int edition,
        CancellationToken cancel
    ) =>
        store.WriteAsync(
            async s =>
            {
                await TellLeftAsync(s, source, reading, vanished);
                await SetAsideAsync(s, source, reading, full);
                if (source.Vanished == VanishedPolicy.Ask && vanished.Count > 0)
                    await VanishAsync(s, source, run, vanished, order.Actor);
                await s.DropRecordsAsync(
                    source.Name,
                    [
                        .. reading
                            .Missing.Except(vanished.Select(v => v.RecordKey))
                            .Except(reading.Changes.Select(c => c.Replaces?.RecordKey).OfType<string>()),
                    ]
                );
                await s.SupersedeHeldAsync(source.Name, "", time.Milliseconds());
                await RecordAsync(s, source, run, order, edition);
                s.Tell("intake", source.Name);
                s.Tell("sources", source.Name);
            },
            cancel
        );

    /// <summary>Lists what was set aside: all of it after a whole delivery, else in place of what was of the same records.</summary>
    private static async Task SetAsideAsync(Session s, SourceRule source, Reading reading, bool full)
    {
        if (full)
        {
            await s.ReplaceSetAsideAsync(source.Name, reading.SetAside);
            return;
        }
        await s.ClearSetAsideAsync(
            source.Name,
            [
                .. reading
                    .Changes.Select(c => c.Key)
                    .Concat(reading.Statuses.Select(x => x.Key))
                    .Concat(reading.SetAside.Select(x => x.RecordKey))
                    .Where(k => k.Length > 0)
                    .Distinct(),
            ]
        );
        await s.AddSetAsideAsync(reading.SetAside);
    }

    /// <summary>Marks records that are in the source no more as such, for people to say what it means.</summary>
    private async Task VanishAsync(Session s, SourceRule source, IntakeRun run, IReadOnlyList<RecordRow> vanished, string actor)
    {
        await s.UpsertRecordsAsync([
            .. vanished.Select(v => new RecordRow
            {
                Source = source.Name,
                RecordKey = v.RecordKey,
                Hash = new('0', 32),
                Status = "vanished",
                RunId = run.Id,
            }),
        ]);
        s.Record(
            LedgerEntry.Of(
                time.GetUtcNow(),
                actor,
                "intake.vanished",
                null,
                null,
                ("run", run.Id),
                ("source", source.Name),
                ("count", vanished.Count)
            )
        );
        foreach (var gone in vanished.Where(v => v.PersonId is not null))
            s.Record(
                LedgerEntry.Of(
                    time.GetUtcNow(),
                    actor,
                    "record.vanished",
                    gone.PersonId,
                    null,
                    ("run", run.Id),
                    ("source", source.Name),
                    ("record", gone.RecordKey)
                )
            );
    }

    private async Task RecordAsync(Session s, SourceRule source, IntakeRun run, RunOrder order, int edition)
    {
        await s.AddRunAsync(
            new()
            {
                Id = run.Id,
                Source = source.Name,
                Mode = run.Mode,
                Actor = run.Actor,
                StartedAt = run.StartedAt.ToUnixTimeMilliseconds(),
                EndedAt = time.Milliseconds(),
                Outcome = run.Outcome,
                Message = run.Message,
                Counts = JsonSerializer.Serialize(run.Counts, JsonSerializerOptions.Web),
            }
        );
        s.Record(
            LedgerEntry.Of(
                time.GetUtcNow(),
                run.Actor,
                "intake.run",
                null,
                null,
                ("run", run.Id),
                ("source", source.Name),
                ("mode", run.Mode),
                ("edition", edition),
                ("counts", run.Counts),
                ("passed", order.Passes.Length > 0 ? order.Passes : null)
            )
        );
    }
}
