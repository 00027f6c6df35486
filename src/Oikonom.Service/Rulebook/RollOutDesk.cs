using System.Security.Claims;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Ledger;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Rulebook;

/// <summary>
/// Roll-outs: an edition reaches the people who are on an earlier one. Publishing makes the case, with everybody who
/// differs; people decide about all of it or by department; it is carried out in waves, and can be turned back.
/// </summary>
public sealed class RollOutDesk(Store.Store store, EditionBook editions, RehearsalDesk rehearsals, TimeProvider time)
{
    private const int MostInWave = 10_000;

    /// <summary>
    /// Makes the case of an edition from what it would do to everybody; earlier cases that are not at their end give way to
    /// it. Null when nobody is on another edition.
    /// </summary>
    /// <param name="before">The edition that was in force: it says who decides, and when the brake holds.</param>
    public async Task<RolloutRow?> MakeAsync(
        Session s,
        Edition edition,
        Edition before,
        RehearsalReport report,
        string author,
        string agreed
    )
    {
        var now = time.GetUtcNow();
        await SupersedeAsync(s, now);
        var others = (await s.PeopleByEditionAsync()).Where(e => e.Edition != edition.Number).Sum(e => e.People);
        if (others == 0)
            return null;
        var affected = report.Affected.Where(a => a.On > 0 && a.On != edition.Number).ToList();
        var losing = affected.Count(a => a.Loses);
        var failing = affected.Count(a => a.Problem is not null);
        var rule = before.Rulebook.RollOuts;
        var isHeld = rule.Brake.IsOver(losing, (int)others);
        var row = new RolloutRow
        {
            Id = Guid.CreateVersion7(now).ToString(),
            Number = await s.NextRolloutNumberAsync(),
            Edition = edition.Number,
            State = RollOutCase.NameOf(isHeld ? RollOutState.Held : RollOutState.Open),
            Brake = isHeld ? $"{losing} of {others} people would have less; the brake holds above {rule.Brake}." : "",
            Author = author,
            Agreed = agreed,
            MadeAt = now.ToUnixTimeMilliseconds(),
            UpdatedAt = now.ToUnixTimeMilliseconds(),
            People = affected.Count - failing,
            Failing = failing,
            Losing = losing,
            Same = others - affected.Count,
            Report = JsonSerializer.Serialize(
                new RollOutReport(
                    Rehearsal.Count(affected, (_, e) => e.Rule),
                    Rehearsal.Count(affected, (_, e) => e.Kind is EffectKind.GrantGained or EffectKind.GrantLost ? e.Key : null)
                )
            ),
        };
        await s.AddRolloutAsync(row);
        await s.AddRolloutPeopleAsync(edition.Number, [.. affected.Select(a => RollOutCase.RowOf(row.Id, a))]);
        s.Record(Made(row, now));
        s.Tell("rollouts", row.Id);
        await TellDecidersAsync(s, row, before);
        return row;
    }

    private static LedgerEntry Made(RolloutRow row, DateTimeOffset now) =>
        LedgerEntry.Of(
            now,
            row.Author,
            "rollout.made",
            null,
            null,
            ("rollout", row.Id),
            ("edition", row.Edition),
            ("people", row.People),
            ("passed", row.Brake.Length == 0)
        );

    /// <summary>What was under way over an earlier edition ends: the new one says what is left to do.</summary>
    private static async Task SupersedeAsync(Session s, DateTimeOffset now)
    {
        foreach (var earlier in await s.OpenRolloutsAsync())
        {
            earlier.Move(RollOutEvent.Supersede);
            (earlier.NextAt, earlier.Problem, earlier.UpdatedAt) = (null, "", now.ToUnixTimeMilliseconds());
            await s.SaveRolloutAsync(earlier);
        }
    }

    private static async Task TellDecidersAsync(Session s, RolloutRow row, Edition before)
    {
        if (row.People == 0)
            return;
        foreach (var user in new RollOutRight(row, before, await s.UsersAsync(), new()).Deciders)
            s.Send(
                new(
                    user.Mail,
                    $"Roll-out {row.Number} waits for a decision",
                    $"Dear {user.Display},\n\nedition {row.Edition} of the rulebook would change what {row.People} people have; "
                        + $"{row.Losing} of them would have less. Look at the list, then decide about all of it "
                        + "or by department, in the console under Rulebook.\n",
                    null
                )
            );
    }

    /// <summary>Makes the case of the newest edition anew, with everybody who is still on an earlier one.</summary>
    /// <exception cref="Problem">Nobody is.</exception>
    public async Task<string> MakeAsync(ClaimsPrincipal user, CancellationToken cancel)
    {
        var current = await editions.CurrentAsync(cancel);
        var report = await rehearsals.LookAsync(current.Rulebook, current.Rulebook, [], cancel, await rehearsals.OthersAsync(cancel));
        var before = await editions.BeforeAsync(current.Number, cancel);
        var row = await store.WriteAsync(s => MakeAsync(s, current, before, report, user.UserName(), ""), cancel);
        return row?.Id ?? throw Problem.Conflict("nobody-waits", $"Everybody who has something is on edition {current.Number} already.");
    }

    /// <summary>Lets a roll-out pass that the brake holds.</summary>
    public Task ReleaseAsync(string id, string reason, ClaimsPrincipal user, CancellationToken cancel) =>
        ChangeAsync(
            id,
            user,
            (s, row, right) =>
            {
                RequireReason(reason);
                right.RequirePass();
                row.Move(RollOutEvent.Release);
                row.ReleasedBy = user.UserName();
                row.Record(s, time, user.UserName(), "rollout.released", ("reason", reason));
                return Task.CompletedTask;
            },
            cancel
        );

    /// <summary>Decides about everybody who is undecided, or about a department; what is decided is what was shown.</summary>
    public Task DecideAsync(string id, RolloutDecideBody body, ClaimsPrincipal user, CancellationToken cancel) =>
        ChangeAsync(
            id,
            user,
            async (s, row, right) =>
            {
                var approves = body.Verdict switch
                {
                    "approve" => true,
                    "decline" => false,
                    _ => throw Problem.Invalid("The verdict is 'approve' or 'decline'.", "verdict"),
                };
                var department = body.Department ?? "";
                if (!approves)
                    RequireReason(body.Remark ?? "", "remark");
                if (!RollOutMachine.IsDecidedOn(row.StateOf()))
                    throw new RefusedMove(
                        "wrong-state",
                        $"The roll-out {RollOutMachine.Word(row.StateOf())}; nothing in it is to be decided."
                    );
                right.RequireDecision(department);
                var (people, digest) = await right.CoveredAsync(s, department);
                if (people.Count == 0)
                    throw Problem.Conflict("nothing-open", $"Nobody{(department.Length > 0 ? $" in {department}" : "")} is undecided.");
                if (digest != body.Digest)
                    throw Problem.Conflict("changed-meanwhile", "The list is not what was shown any more. Look at it again.");
                await s.MarkRolloutPeopleAsync(row.Id, people, approves ? "approved" : "declined");
                await s.AddRolloutDecisionAsync(
                    new()
                    {
                        RolloutId = row.Id,
                        Department = department,
                        Actor = user.UserName(),
                        Verdict = approves ? "approved" : "declined",
                        Remark = body.Remark ?? "",
                        Digest = digest,
                        People = people.Count,
                        At = time.Milliseconds(),
                    }
                );
                row.Record(
                    s,
                    time,
                    user.UserName(),
                    approves ? "rollout.approved" : "rollout.declined",
                    ("digest", digest),
                    ("people", people.Count),
                    ("part", department.Length > 0 ? department : null),
                    ("remark", body.Remark)
                );
            },
            cancel
        );

    /// <summary>Begins the first wave or the next, with its size and the pause after it.</summary>
    public Task BeginAsync(string id, RolloutBeginBody body, ClaimsPrincipal user, CancellationToken cancel) =>
        ChangeAsync(
            id,
            user,
            async (s, row, _) =>
            {
                var size = body.Size ?? (row.WaveSize > 0 ? row.WaveSize : 0);
                if (size is < 1 or > MostInWave)
                    throw Problem.Invalid($"A wave has from 1 to {MostInWave} people.", "size");
                TimeSpan? pause = null;
                if (body.Pause is { Length: > 0 } text)
                    pause = Iso8601.TryParseDuration(text, out var read)
                        ? read
                        : throw Problem.Invalid($"'{text}' is no duration; write PT30M, PT4H or P1D.", "pause");
                var states = (await s.RolloutTalliesAsync(row.Id, null)).ToLookup(t => t.State, t => t.People);
                if (row.People > 0 && states["approved"].Sum() == 0)
                    throw Problem.Conflict(
                        "nobody-approved",
                        states["open"].Sum() > 0 ? "Nobody of it is approved yet." : "Nobody of it is left."
                    );
                row.Move(RollOutEvent.Begin);
                (row.WaveSize, row.Pause, row.NextAt, row.Problem) = (size, (long?)pause?.TotalMilliseconds, null, "");
                row.Wave++;
                row.Record(s, time, user.UserName(), "rollout.begun", ("size", size), ("people", states["approved"].Sum()));
            },
            cancel
        );

    /// <summary>No further wave begins; requests of the present one go on.</summary>
    public Task StopAsync(string id, string reason, ClaimsPrincipal user, CancellationToken cancel) =>
        ChangeAsync(
            id,
            user,
            (s, row, _) =>
            {
                RequireReason(reason);
                row.Move(RollOutEvent.Stop);
                (row.NextAt, row.Problem) = (null, $"Stopped by {user.UserName()}: {reason}");
                row.Record(s, time, user.UserName(), "rollout.stopped", ("reason", reason));
                return Task.CompletedTask;
            },
            cancel
        );

    /// <summary>Turns the last wave that was carried out back: its people are put on the edition they came from.</summary>
    public Task TurnBackAsync(string id, string reason, ClaimsPrincipal user, CancellationToken cancel) =>
        ChangeAsync(
            id,
            user,
            async (s, row, right) =>
            {
                RequireReason(reason);
                right.RequireDecision("");
                right.RequireWhole();
                var tallies = await s.RolloutTalliesAsync(row.Id, null);
                if (tallies.Any(t => t.State is "running" or "turning"))
                    throw new RefusedMove("wrong-state", "Requests of a wave are still under way; wait until they have ended.");
                if (!tallies.Any(t => t.State == "done"))
                    throw Problem.Conflict("nothing-done", "Nobody went with it who could be turned back.");
                row.Move(RollOutEvent.TurnBack);
                (row.NextAt, row.Problem, row.Turning) = (null, "", await s.LastDoneWaveAsync(row.Id));
                row.Record(s, time, user.UserName(), "rollout.turning-back", ("wave", row.Turning), ("reason", reason));
            },
            cancel
        );

    private Task ChangeAsync(
        string id,
        ClaimsPrincipal user,
        Func<Session, RolloutRow, RollOutRight, Task> change,
        CancellationToken cancel
    ) =>
        store.WriteAsync(
            async s =>
            {
                var row = await s.FindRolloutAsync(id, forUpdate: true) ?? throw RollOutViews.NotFound(id);
                await change(s, row, new(row, await editions.BeforeAsync(row.Edition, cancel), await s.UsersAsync(), user));
                row.UpdatedAt = Math.Max(time.Milliseconds(), row.UpdatedAt + 1);
                await s.SaveRolloutAsync(row);
                s.Tell("rollouts", row.Id);
            },
            cancel
        );

    private static void RequireReason(string reason, string field = "reason")
    {
        if (string.IsNullOrWhiteSpace(reason) || reason.Length > 2000)
            throw Problem.Invalid("Say why, in 2000 characters at most.", field);
    }
}
