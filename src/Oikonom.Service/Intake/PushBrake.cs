using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Intake;
using Oikonom.Core.Ledger;
using Oikonom.Core.Rulebook;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Intake;

/// <summary>
/// The brake of a source that pushes one record after another: what it raised within a day is counted as one run.
/// Over the limit, what would be raised is kept back until a named role lets it pass; the pushed resources are kept
/// all the same, and a run over them takes what was kept back.
/// </summary>
public sealed class PushBrake(TimeProvider time)
{
    /// <summary>The digest of a held run that grows while it waits.</summary>
    public const string Growing = "pushed";
    private const int MostShown = 10_000;
    public static readonly TimeSpan Window = TimeSpan.FromDays(1);

    /// <returns>What may be written now.</returns>
    public async Task<List<Taken>> KeepBackAsync(Session s, Taking taking, List<Taken> decided)
    {
        if (taking.Source.Brake is not { } brake || !decided.Exists(t => t.Happening.Raises is not null))
            return decided;
        var (source, now) = (taking.Source, time.GetUtcNow());
        var held = (await s.HeldOfAsync(source.Name)).FirstOrDefault(h => h.Digest == Growing);
        var why = held?.Why ?? await OverAsync(s, source, brake, decided, now);
        if (why is null)
            return decided;
        var back = decided.Where(t => t.Happening.Raises is not null).ToList();
        List<RaisedRequest> raises = held is null ? [] : JsonSerializer.Deserialize<List<RaisedRequest>>(held.Raises) ?? [];
        // A record that is pushed again stands there once, as it is now.
        raises.RemoveAll(r => back.Exists(b => RecordTaker.View(b).Number == r.Number));
        raises.AddRange(back.Take(MostShown - Math.Min(raises.Count, MostShown)).Select(RecordTaker.View));
        var run = held?.RunId ?? Guid.CreateVersion7(now).ToString();
        if (held is not null)
            await s.GrowHeldAsync(run, JsonSerializer.Serialize(raises));
        else
            await HoldAsync(s, taking, back, JsonSerializer.Serialize(raises), run, why, now);
        foreach (var one in back)
            s.Record(
                LedgerEntry.Of(
                    now,
                    taking.Actor,
                    "intake.kept-back",
                    null,
                    null,
                    ("run", run),
                    ("source", source.Name),
                    ("record", one.Incoming.Key),
                    ("what", one.Happening.What)
                )
            );
        s.Tell("sources", source.Name);
        return [.. decided.Except(back)];
    }

    /// <summary>Begins a run that waits under the brake.</summary>
    private static async Task HoldAsync(
        Session s,
        Taking taking,
        List<Taken> back,
        string raises,
        string run,
        string why,
        DateTimeOffset now
    )
    {
        var source = taking.Source;
        var counts = new IntakeCounts(
            back.Count,
            0,
            back.Count,
            Count(back, RequestKind.Joiner),
            Count(back, RequestKind.Mover),
            Count(back, RequestKind.Leaver),
            0,
            0,
            0
        );
        var held = new HeldRunRow
        {
            RunId = run,
            Source = source.Name,
            Digest = Growing,
            Why = why,
            Raises = raises,
            Actor = taking.Actor,
            At = now.ToUnixTimeMilliseconds(),
        };
        await IntakeRunner.KeepAsync(s, source, held, "full", now, counts, []);
    }

    /// <summary>True when a run over the kept resources raises nothing but what was shown when it was let pass.</summary>
    public static bool Covers(HeldRunRow passed, IEnumerable<Taken> decided)
    {
        if (passed.Digest != Growing)
            return false;
        var shown = (JsonSerializer.Deserialize<List<RaisedRequest>>(passed.Raises) ?? []).Select(r => (r.Kind, r.Number)).ToHashSet();
        return decided.Where(t => t.Happening.Raises is not null).Select(RecordTaker.View).All(r => shown.Contains((r.Kind, r.Number)));
    }

    private static async Task<string?> OverAsync(Session s, SourceRule source, BrakeRule brake, List<Taken> decided, DateTimeOffset now)
    {
        var raised = await s.RaisedSinceAsync(source.Name, (now - Window).ToUnixTimeMilliseconds());
        var known = (int)await s.RecordCountAsync(source.Name);
        var over = new List<string>();
        Look(brake.Joiners, RequestKind.Joiner, "joiners");
        Look(brake.Movers, RequestKind.Mover, "movers");
        Look(brake.Leavers, RequestKind.Leaver, "leavers");
        return over.Count == 0 ? null : $"{string.Join("; ", over)}. What would be raised is kept back.";

        void Look(Limit? limit, RequestKind kind, string name)
        {
            var fresh = Count(decided, kind);
            if (limit is null || fresh == 0)
                return;
            var count = fresh + (int)raised.GetValueOrDefault(EnumText.Of(kind));
            if (limit.IsOver(count, known))
                over.Add($"Pushes would raise {count} {name} within a day, of {known} known records; the brake is at {limit}");
        }
    }

    private static int Count(IEnumerable<Taken> taken, RequestKind kind) => taken.Count(t => t.Happening.Raises == kind);
}
