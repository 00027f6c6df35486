using Oikonom.Core.Approval;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Approval;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Rulebook;

/// <summary>
/// Carries roll-outs out: each person of a wave gets a request that puts them on the edition, covered by what was decided
/// when it does just that. A wave ends when its requests have; then the roll-out pauses, and stops when one cannot go on.
/// </summary>
public sealed class RollOutLoop(Store.Store store, EditionBook editions, TimeProvider time, Pulse pulse, ILogger<RollOutLoop> log)
    : Loop(TimeSpan.FromSeconds(1), pulse, log)
{
    private const int Batch = 500;

    /// <summary>Milliseconds until those are looked at again whose own requests are open.</summary>
    private const long BlockedPause = 10_000;

    /// <summary>How often a plan is tried before the roll-out stops for it.</summary>
    private const int MostAttempts = 3;

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        var more = false;
        var due = await store.ReadAsync(s => s.DueRolloutsAsync(time.Milliseconds()), cancel);
        await EachAsync(due, async id => more |= await StepAsync(id, cancel));
        return more;
    }

    /// <summary>One step of a roll-out; true when there may be another at once.</summary>
    private async Task<bool> StepAsync(string id, CancellationToken cancel)
    {
        var row = await store.ReadAsync(s => s.FindRolloutAsync(id), cancel);
        if (row is null)
            return false;
        if (row.StateOf() == RollOutState.Running && await RestAsync(row, cancel))
            return true;
        return await store.WriteAsync(
            async s =>
            {
                var locked = (await s.FindRolloutAsync(id, forUpdate: true))!;
                var before = (locked.State, locked.Wave, locked.Problem);
                await s.NoteMovedAsync(locked.Id, locked.Edition);
                var stuck = await FollowAsync(s, locked);
                var more = locked.StateOf() switch
                {
                    RollOutState.Running => await RunAsync(s, locked, stuck),
                    RollOutState.Pausing when locked.NextAt <= time.Milliseconds() => GoOn(s, locked),
                    RollOutState.TurningBack => await TurnBackAsync(s, locked, stuck),
                    _ => false,
                };
                if (before == (locked.State, locked.Wave, locked.Problem) && !more)
                    return false;
                locked.UpdatedAt = Math.Max(time.Milliseconds(), locked.UpdatedAt + 1);
                await s.SaveRolloutAsync(locked);
                s.Tell("rollouts", locked.Id);
                return more;
            },
            cancel
        );
    }

    /// <summary>
    /// Those who are on an earlier edition and not in the list: for whom nothing changes is put on the edition, whom it
    /// changes now is added to the list, undecided. True when there may be more.
    /// </summary>
    private async Task<bool> RestAsync(RolloutRow row, CancellationToken cancel)
    {
        var rest = await store.ReadAsync(s => s.RestOfAsync(row.Id, row.Edition, Batch), cancel);
        if (rest.Count == 0)
            return false;
        var recorded = await store.ReadAsync(s => Recorded.LoadAsync(s, [.. rest.Select(r => r.Id)]), cancel);
        var target = await editions.OnAsync(row.Edition, cancel);
        var found = new List<Affected>();
        foreach (var (id, on) in rest)
            found.Add(Look(recorded, id, on, await editions.OnAsync(on, cancel), target, time.GetUtcNow()));
        await store.WriteAsync(
            async s =>
            {
                if (await s.FindRolloutAsync(row.Id, forUpdate: true) is not { State: "running" })
                    return;
                await s.AddRolloutPeopleAsync(row.Edition, [.. found.Select(a => RollOutCase.RowOf(row.Id, a))]);
                var same = 0;
                foreach (var group in found.Where(a => a.Effects.Count == 0 && a.Problem is null).GroupBy(a => a.On))
                    same += await s.PutOnEditionAsync([.. group.Select(a => a.Id)], group.Key, row.Edition, time.Milliseconds());
                row.Record(s, time, Raising.ByItself, "rollout.unchanged", ("people", same));
            },
            cancel
        );
        return true;
    }

    /// <summary>What an edition would change for one person, with all their inputs as they are recorded.</summary>
    public static Affected Look(Recorded recorded, string id, long on, Edition before, Edition after, DateTimeOffset now) =>
        Rehearsal.Of(new(id, recorded.Subject(id, before), recorded.Subject(id, after), on), before.Rulebook, after.Rulebook, now);

    /// <summary>Notes how the requests under way stand; gives what keeps those of the present wave from going on.</summary>
    private static async Task<IReadOnlyList<string>> FollowAsync(Session s, RolloutRow row)
    {
        var stuck = new List<string>();
        foreach (var group in (await s.UnderWayAsync(row.Id)).GroupBy(u => After(u, row.Edition)))
        {
            await s.MarkRolloutPeopleAsync(row.Id, [.. group.Where(u => u.State != group.Key).Select(u => u.PersonId)], group.Key);
            if (group.Key is "running" or "turning")
                stuck.AddRange(
                    group
                        .Where(u =>
                            (row.Turning ?? row.Wave) == u.Wave
                            && (u.Stopped > 0 || (u.RequestState == RequestState.Planning && u.Attempts >= MostAttempts))
                        )
                        .Select(u => $"request {u.Number}: {(u.Problem.Length > 0 ? u.Problem : "a step is stopped")}")
                );
        }
        return stuck;
    }

    private static string After(RolloutUnderWay under, long edition) =>
        under.RequestState switch
        {
            RequestState.Completed => under.Edition == edition ? "done" : "turned-back",
            // What was declined or withdrawn leaves the person where they are.
            RequestState.Declined or RequestState.Withdrawn or RequestState.Lapsed => under.Edition == edition ? "done" : "declined",
            RequestState.Deciding or RequestState.Asked or RequestState.Releasing or RequestState.Choosing => "own",
            _ => under.State,
        };

    private async Task<bool> RunAsync(Session s, RolloutRow row, IReadOnlyList<string> stuck)
    {
        if (stuck.Count > 0)
        {
            row.Move(RollOutEvent.Stop);
            row.Problem = $"{stuck.Count} of wave {row.Wave} cannot go on: {stuck[0]}";
            row.Record(s, time, Raising.ByItself, "rollout.stopped", ("wave", row.Wave), ("people", stuck.Count), ("problem", row.Problem));
            return false;
        }
        var tallies = await s.RolloutTalliesAsync(row.Id, null);
        long Of(string state) => tallies.Where(t => t.State == state).Sum(t => t.People);
        if (tallies.Any(t => t.Wave == row.Wave && t.State == "running"))
            return false;
        if (!tallies.Any(t => t.Wave == row.Wave))
        {
            var next = await s.NextOfRolloutAsync(row.Id, (int)row.WaveSize);
            if (next.Count > 0)
            {
                await RaiseAsync(s, row, next, row.Edition, "running", row.Wave);
                row.Record(s, time, Raising.ByItself, "rollout.wave", ("wave", row.Wave), ("people", next.Count));
                return false;
            }
            // Nobody could be taken: there was no such wave.
            row.Wave--;
        }
        if (Of("approved") == 0 && Of("open") == 0)
        {
            row.Move(RollOutEvent.Finish);
            (row.NextAt, row.Problem) = (null, "");
            row.Record(s, time, Raising.ByItself, "rollout.done", ("people", Of("done")));
            return false;
        }
        row.Move(RollOutEvent.WaveEnded);
        var now = time.Milliseconds();
        (row.NextAt, row.Problem) =
            Of("approved") == 0 ? (null, $"{Of("open")} people are undecided.")
            : (await s.NextOfRolloutAsync(row.Id, 1)).Count == 0
                ? (now + BlockedPause, $"{Of("approved")} people have open requests of their own; they are taken once those have ended.")
            : ((long?)(now + row.Pause), "");
        return false;
    }

    private bool GoOn(Session s, RolloutRow row)
    {
        row.Move(RollOutEvent.Begin);
        (row.NextAt, row.Problem) = (null, "");
        row.Wave++;
        row.Record(s, time, Raising.ByItself, "rollout.begun", ("wave", row.Wave));
        return true;
    }

    private async Task<bool> TurnBackAsync(Session s, RolloutRow row, IReadOnlyList<string> stuck)
    {
        var wave = row.Turning ?? 0;
        if (stuck.Count > 0)
        {
            row.Move(RollOutEvent.Stop);
            (row.Problem, row.Turning) = ($"{stuck.Count} of wave {wave} cannot be turned back: {stuck[0]}", null);
            row.Record(s, time, Raising.ByItself, "rollout.stopped", ("wave", wave), ("problem", row.Problem));
            return false;
        }
        var done = await s.DoneOfWaveAsync(row.Id, wave, Batch);
        if (done.Count > 0)
        {
            // Whoever went on to another edition by a request of their own stays there.
            var gone = done.Where(p => p.OnEdition != row.Edition).Select(p => p.PersonId).ToList();
            await s.MarkRolloutPeopleAsync(row.Id, gone, "moved");
            var here = done.Where(p => p.OnEdition == row.Edition).ToList();
            foreach (var group in here.GroupBy(p => p.FromEdition))
            {
                if (wave > 0)
                    await RaiseAsync(s, row, [.. group], group.Key, "turning", wave);
                else
                {
                    await s.PutOnEditionAsync([.. group.Select(p => p.PersonId)], row.Edition, group.Key, time.Milliseconds());
                    await s.MarkRolloutPeopleAsync(row.Id, [.. group.Select(p => p.PersonId)], "turned-back");
                }
            }
            return true;
        }
        var tallies = await s.RolloutTalliesAsync(row.Id, null);
        if (tallies.Any(t => t.State == "turning"))
            return false;
        var left = tallies.Where(t => t.State == "done").Select(t => (long?)t.Wave).Max();
        row.Move(left is null ? RollOutEvent.AllTurnedBack : RollOutEvent.WaveTurnedBack);
        (row.Turning, row.Problem) = (null, left is null ? "" : $"{WaveName(wave)} was turned back; {WaveName(left.Value)} was not.");
        row.Record(s, time, Raising.ByItself, "rollout.wave-turned-back", ("wave", wave));
        return false;
    }

    private static string WaveName(long wave) => wave == 0 ? "the part for whom nothing changed" : $"wave {wave}";

    /// <summary>A request for each, which puts them on an edition.</summary>
    private async Task RaiseAsync(Session s, RolloutRow row, IReadOnlyList<RolloutPersonRow> people, long edition, string state, long wave)
    {
        var wish = new Wish { Edition = (int)edition, Reason = $"roll-out {row.Number}" }.ToJson();
        var raised = await Raising.RaiseAsync(
            s,
            [
                .. people.Select(p => new Raising(
                    p.PersonId,
                    "change",
                    Workflow.RolledOut.Name,
                    row.Edition,
                    edition == row.Edition
                        ? $"Roll-out {row.Number} puts {p.Display} on edition {edition} of the rulebook"
                        : $"Roll-out {row.Number} is turned back: {p.Display} goes back to edition {edition} of the rulebook"
                )
                {
                    Wish = wish,
                    Rollout = row.Id,
                    Details = [("rollout", row.Id), ("edition", edition)],
                }),
            ],
            time.GetUtcNow()
        );
        foreach (var (person, request) in people.Zip(raised))
            (person.State, person.Wave, person.RequestId, person.Problem) = (state, wave, request, "");
        await s.SaveRolloutPeopleAsync(people);
    }
}
