using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Expressions;
using Oikonom.Core.Intake;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Common;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Intake;

/// <content>When a run is held, and until when: nothing of it is raised before somebody lets exactly that pass.</content>
public sealed partial class IntakeRunner
{
    /// <summary>Holds a baseline after the first load until another engineer lets exactly it pass. Null when it may go on.</summary>
    private async Task<IntakeRun?> HoldBaselineAsync(
        SourceRule source,
        List<Taken> decided,
        Reading reading,
        RunOrder order,
        string runId,
        DateTimeOffset started,
        CancellationToken cancel
    )
    {
        var digest = "baseline:" + RecordTaker.DigestOfAll(decided);
        if (order.Passes.Length > 0 && (await store.ReadAsync(s => s.HeldAsync(order.Passes), cancel))?.Digest == digest)
            return null;
        var quiet = decided.Count(t => t.Happening.Raises is null);
        var raises = decided.Where(t => t.Happening.Raises is not null).Select(RecordTaker.View).ToList();
        var why =
            $"A baseline after the first load waits for another engineer: {quiet} records would be taken as known without a "
            + $"request, and {raises.Count} requests would be raised for people who are known. Nothing was taken.";
        return await HoldAsync(
            source,
            order,
            runId,
            started,
            digest,
            why,
            raises,
            new(reading.Read, reading.Unchanged, reading.Changed, 0, 0, 0, reading.SetAside.Count, reading.Missing.Count, 0),
            cancel
        );
    }

    /// <summary>Holds a run that would raise more than the rulebook allows, before anything is raised. Null when it may go on.</summary>
    private async Task<IntakeRun?> BrakeAsync(
        SourceRule source,
        List<Taken> decided,
        Reading reading,
        RunOrder order,
        string runId,
        DateTimeOffset started,
        CancellationToken cancel
    )
    {
        var digest = RecordTaker.DigestOf(decided);
        if (order.Passes.Length > 0)
        {
            var passed = await store.ReadAsync(s => s.HeldAsync(order.Passes), cancel);
            if (passed?.Digest == digest || (passed is not null && PushBrake.Covers(passed, decided)))
                return null;
        }
        var over = await OverBrakeAsync(source, source.Brake!, decided, reading, started, cancel);
        if (over.Count == 0)
            return null;
        var why = $"{string.Join("; ", over)}. Nothing was raised.";
        var raises = decided.Where(t => t.Happening.Raises is not null).Select(RecordTaker.View).ToList();
        var counts = new IntakeCounts(
            reading.Read,
            reading.Unchanged,
            reading.Changed,
            raises.Count(r => r.Kind == "joiner"),
            raises.Count(r => r.Kind == "mover"),
            raises.Count(r => r.Kind == "leaver"),
            reading.SetAside.Count,
            reading.Missing.Count,
            0
        );
        return await HoldAsync(source, order, runId, started, digest, why, raises, counts, cancel);
    }

    /// <summary>Of which kinds a run would raise more than the brake allows; empty when it may go on.</summary>
    private async Task<IReadOnlyList<string>> OverBrakeAsync(
        SourceRule source,
        BrakeRule brake,
        List<Taken> decided,
        Reading reading,
        DateTimeOffset started,
        CancellationToken cancel
    )
    {
        var known = Math.Max(reading.Known, (int)await store.ReadAsync(s => s.RecordCountAsync(source.Name), cancel));
        // What was pushed since yesterday counts too: a run over what is kept is no way around.
        var pushed =
            source.Kind == SourceKind.Scim
                ? await store.ReadAsync(s => s.RaisedSinceAsync(source.Name, (started - PushBrake.Window).ToUnixTimeMilliseconds()), cancel)
                : new Dictionary<string, long>();
        var over = new List<string>();
        Look(brake.Joiners, RequestKind.Joiner, "joiners");
        Look(brake.Movers, RequestKind.Mover, "movers");
        Look(brake.Leavers, RequestKind.Leaver, "leavers");
        return over;

        void Look(Limit? limit, RequestKind kind, string name)
        {
            var fresh = decided.Count(t => t.Happening.Raises == kind);
            var count = fresh + (int)pushed.GetValueOrDefault(EnumText.Of(kind));
            if (fresh > 0 && limit?.IsOver(count, known) == true)
                over.Add($"The run would raise {count} {name} of {known} known records; the brake is at {limit}");
        }
    }

    /// <summary>Writes down a run that waits under the brake, and reports it.</summary>
    /// <param name="details">Of the entry on the ledger, beside run, source and why.</param>
    public static async Task KeepAsync(
        Session s,
        SourceRule source,
        HeldRunRow held,
        string mode,
        DateTimeOffset started,
        IntakeCounts counts,
        IReadOnlyList<(string Name, object? Value)> details
    )
    {
        await s.AddHeldAsync(held);
        await s.AddRunAsync(
            new()
            {
                Id = held.RunId,
                Source = source.Name,
                Mode = mode,
                Actor = held.Actor,
                StartedAt = started.ToUnixTimeMilliseconds(),
                EndedAt = held.At,
                Outcome = "held",
                Message = held.Why,
                Counts = JsonSerializer.Serialize(counts, JsonSerializerOptions.Web),
            }
        );
        s.Record(
            LedgerEntry.Of(
                held.At.ToInstant(),
                held.Actor,
                "intake.held",
                null,
                null,
                [("run", held.RunId), ("source", source.Name), ("why", held.Why), .. details]
            )
        );
        Report(s, source, "waits under the brake", held.Why);
    }

    /// <summary>Keeps a run back, with what it would raise, until somebody lets exactly that pass.</summary>
    private async Task<IntakeRun> HoldAsync(
        SourceRule source,
        RunOrder order,
        string runId,
        DateTimeOffset started,
        string digest,
        string why,
        List<RaisedRequest> raises,
        IntakeCounts counts,
        CancellationToken cancel
    )
    {
        var ended = time.GetUtcNow();
        await store.WriteAsync(
            async s =>
            {
                await s.SupersedeHeldAsync(source.Name, runId, time.Milliseconds());
                var held = new HeldRunRow
                {
                    RunId = runId,
                    Source = source.Name,
                    Digest = digest,
                    Why = why,
                    Raises = JsonSerializer.Serialize(raises),
                    Actor = order.Actor,
                    At = ended.ToUnixTimeMilliseconds(),
                };
                await KeepAsync(s, source, held, order.Mode, started, counts, [("digest", digest), ("raises", raises.Count)]);
                s.Tell("sources", source.Name);
            },
            cancel
        );
        return new(runId, source.Name, order.Mode, false, order.Actor, started, ended, "held", why, counts, [], [.. raises.Take(Shown)]);
    }
}
