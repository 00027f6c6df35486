using System.Security.Claims;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Approval;
using Oikonom.Core.Ledger;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;
using Oikonom.Service.Access;
using Oikonom.Service.Approval;
using Oikonom.Service.Hosting;
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

    /// <summary>What a roll-out keeps of its rehearsal.</summary>
    public sealed record Report(IReadOnlyList<Tally> Templates, IReadOnlyList<Tally> Entitlements)
    {
        public static Report FromJson(string json) => JsonSerializer.Deserialize<Report>(json) ?? new([], []);
    }

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
        foreach (var earlier in await s.OpenRolloutsAsync())
        {
            earlier.State = NameOf(RollOutMachine.Next(StateOf(earlier), RollOutEvent.Supersede));
            (earlier.NextAt, earlier.Problem, earlier.UpdatedAt) = (null, "", now.ToUnixTimeMilliseconds());
            await s.SaveRolloutAsync(earlier);
        }
        var others = (await s.PeopleByEditionAsync()).Where(e => e.Edition != edition.Number).Sum(e => e.People);
        if (others == 0)
            return null;
        var affected = report.Affected.Where(a => a.On > 0 && a.On != edition.Number).ToList();
        var losing = affected.Count(a => a.Loses);
        var failing = affected.Count(a => a.Problem is not null);
        var rule = before.Rulebook.RollOuts;
        var row = new RolloutRow
        {
            Id = Guid.CreateVersion7(now).ToString(),
            Number = await s.NextRolloutNumberAsync(),
            Edition = edition.Number,
            State = NameOf(rule.Brake.IsOver(losing, (int)others) ? RollOutState.Held : RollOutState.Open),
            Brake = rule.Brake.IsOver(losing, (int)others)
                ? $"{losing} of {others} people would have less; the brake holds above {rule.Brake}."
                : "",
            Author = author,
            Agreed = agreed,
            MadeAt = now.ToUnixTimeMilliseconds(),
            UpdatedAt = now.ToUnixTimeMilliseconds(),
            People = affected.Count - failing,
            Failing = failing,
            Losing = losing,
            Same = others - affected.Count,
            Report = JsonSerializer.Serialize(
                new Report(
                    Rehearsal.Count(affected, (_, e) => e.Rule),
                    Rehearsal.Count(affected, (_, e) => e.Kind is EffectKind.GrantGained or EffectKind.GrantLost ? e.Key : null)
                )
            ),
        };
        await s.AddRolloutAsync(row);
        await s.AddRolloutPeopleAsync(edition.Number, [.. affected.Select(a => RowOf(row.Id, a))]);
        s.Record(
            LedgerEntry.Of(
                now,
                author,
                "rollout.made",
                null,
                null,
                ("rollout", row.Id),
                ("edition", edition.Number),
                ("people", row.People),
                ("passed", row.Brake.Length == 0)
            )
        );
        s.Tell("rollouts", row.Id);
        await TellDecidersAsync(s, row, before);
        return row;
    }

    /// <summary>A person of a rehearsal as one of a roll-out.</summary>
    public static RolloutPersonRow RowOf(string rollout, Affected person) =>
        new()
        {
            RolloutId = rollout,
            PersonId = person.Id,
            Effects = JsonSerializer.Serialize(person.Effects),
            Digest = person.Digest,
            Loses = person.Loses ? 1 : 0,
            State = person.Problem is null ? "open" : "failing",
            Problem = person.Problem ?? "",
        };

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
        var before = await BeforeAsync(current.Number, cancel);
        var row = await store.WriteAsync(s => MakeAsync(s, current, before, report, user.UserName(), ""), cancel);
        return row?.Id ?? throw Problem.Conflict("nobody-waits", $"Everybody who has something is on edition {current.Number} already.");
    }

    /// <summary>The edition before one; the first has none but itself.</summary>
    private Task<Edition> BeforeAsync(long number, CancellationToken cancel) => editions.GetAsync(Math.Max(1, number - 1), cancel);

    /// <summary>Lets a roll-out pass that the brake holds.</summary>
    public Task ReleaseAsync(string id, string reason, ClaimsPrincipal user, CancellationToken cancel) =>
        ChangeAsync(
            id,
            user,
            (s, row, right) =>
            {
                RequireReason(reason);
                right.RequirePass();
                Move(row, RollOutEvent.Release);
                row.ReleasedBy = user.UserName();
                Record(s, row, user.UserName(), "rollout.released", ("reason", reason));
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
                if (!RollOutMachine.IsDecidedOn(StateOf(row)))
                    throw new RefusedMove(
                        "wrong-state",
                        $"The roll-out {RollOutMachine.Word(StateOf(row))}; nothing in it is to be decided."
                    );
                right.RequireDecision(department);
                var (people, digest) = await OpenAsync(s, row, department, user, right);
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
                Record(
                    s,
                    row,
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
                Move(row, RollOutEvent.Begin);
                (row.WaveSize, row.Pause, row.NextAt, row.Problem) = (size, (long?)pause?.TotalMilliseconds, null, "");
                row.Wave++;
                Record(s, row, user.UserName(), "rollout.begun", ("size", size), ("people", states["approved"].Sum()));
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
                Move(row, RollOutEvent.Stop);
                (row.NextAt, row.Problem) = (null, $"Stopped by {user.UserName()}: {reason}");
                Record(s, row, user.UserName(), "rollout.stopped", ("reason", reason));
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
                Move(row, RollOutEvent.TurnBack);
                (row.NextAt, row.Problem, row.Turning) = (null, "", await s.LastDoneWaveAsync(row.Id));
                Record(s, row, user.UserName(), "rollout.turning-back", ("wave", row.Turning), ("reason", reason));
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
                var row = await s.FindRolloutAsync(id, forUpdate: true) ?? throw NotFound(id);
                await change(s, row, new(row, await BeforeAsync(row.Edition, cancel), await s.UsersAsync(), user));
                row.UpdatedAt = Math.Max(time.Milliseconds(), row.UpdatedAt + 1);
                await s.SaveRolloutAsync(row);
                s.Tell("rollouts", row.Id);
            },
            cancel
        );

    private static void Move(RolloutRow row, RollOutEvent what) => row.State = NameOf(RollOutMachine.Next(StateOf(row), what));

    private void Record(Session s, RolloutRow row, string actor, string kind, params (string, object?)[] details) =>
        s.Record(LedgerEntry.Of(time.GetUtcNow(), actor, kind, null, null, [("rollout", row.Id), ("edition", row.Edition), .. details]));

    /// <summary>Whom a decision covers, without those the caller does not reach and the caller, and what it is bound to.</summary>
    private static async Task<(IReadOnlyList<string> People, string Digest)> OpenAsync(
        Session s,
        RolloutRow row,
        string department,
        ClaimsPrincipal user,
        RollOutRight right
    )
    {
        var open = await s.UndecidedAsync(row.Id, department, right.Reach(department));
        var (own, number) = (user.FindFirstValue("person") ?? "", user.Number());
        var others = open.Where(p => p.PersonId != own && (number.Length == 0 || p.Number != number)).ToList();
        var text = new StringBuilder();
        foreach (var (person, _, digest) in others)
            text.Append(person).Append(digest).Append('\n');
        return (
            [.. others.Select(p => p.PersonId)],
            Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text.ToString())))[..32]
        );
    }

    private static void RequireReason(string reason, string field = "reason")
    {
        if (string.IsNullOrWhiteSpace(reason) || reason.Length > 2000)
            throw Problem.Invalid("Say why, in 2000 characters at most.", field);
    }

    public static Problem NotFound(string id) => Problem.NotFound($"roll-out '{id}'", "See 'oikonom rollouts list'.");

    public static RollOutState StateOf(RolloutRow row) =>
        Enum.Parse<RollOutState>(row.State.Replace("-", "", StringComparison.Ordinal), true);

    public static string NameOf(RollOutState state) => JsonNamingPolicy.KebabCaseLower.ConvertName(state.ToString());

    /// <summary>All roll-outs in lines, the newest first, as far as the caller reaches.</summary>
    public Task<IReadOnlyList<RolloutSummary>> ListAsync(ClaimsPrincipal user, bool openOnly, CancellationToken cancel) =>
        store.ReadAsync<IReadOnlyList<RolloutSummary>>(
            async s =>
            {
                var found = new List<RolloutSummary>();
                foreach (var row in (await s.RolloutsAsync(100)).Where(r => !openOnly || RollOutMachine.IsOpen(StateOf(r))))
                    found.Add(Summary(row, await s.RolloutTalliesAsync(row.Id, RequestEndpoints.ReachOf(user))));
                return found;
            },
            cancel
        );

    private static RolloutSummary Summary(
        RolloutRow row,
        IReadOnlyList<(string Department, string State, long Wave, long People, long Losing)> tallies
    )
    {
        var state = StateOf(row);
        long Of(params string[] states) => tallies.Where(t => states.Contains(t.State)).Sum(t => t.People);
        return new(
            row.Id,
            row.Number,
            (int)row.Edition,
            row.State,
            RollOutMachine.Word(state),
            row.Author,
            row.MadeAt.ToInstant(),
            row.People,
            row.Losing,
            row.Same,
            row.Failing,
            row.Wave,
            Of("open"),
            Of("approved"),
            Of("running", "own", "turning"),
            Of("done"),
            row.Problem.Length > 0 ? row.Problem
                : state == RollOutState.Held ? row.Brake
                : null
        );
    }

    public async Task<RolloutDetail> DetailAsync(string id, ClaimsPrincipal user, CancellationToken cancel)
    {
        return await store.ReadAsync(
            async s =>
            {
                var row = await s.FindRolloutAsync(id) ?? throw NotFound(id);
                var right = new RollOutRight(row, await BeforeAsync(row.Edition, cancel), await s.UsersAsync(), user);
                var reach = RequestEndpoints.ReachOf(user);
                var tallies = await s.RolloutTalliesAsync(row.Id, reach);
                var (state, isOperator) = (StateOf(row), user.RoleNames().Contains(Roles.Operator));
                var decided = RollOutMachine.IsDecidedOn(state);
                var mayAll = right.MayDecide("");
                var whole = decided && mayAll;
                var departments = new List<RolloutDepartment>();
                foreach (
                    var group in tallies
                        .Where(t => t.Wave > 0 || t.State != "done")
                        .GroupBy(t => t.Department)
                        .OrderBy(g => g.Key, StringComparer.Ordinal)
                )
                {
                    long Of(params string[] states) => group.Where(t => states.Contains(t.State)).Sum(t => t.People);
                    var may = decided && Of("open") > 0 && right.MayDecide(group.Key);
                    (IReadOnlyList<string> People, string Digest)? covered = may ? await OpenAsync(s, row, group.Key, user, right) : null;
                    departments.Add(
                        new(
                            group.Key,
                            group.Where(t => t.State != "failing").Sum(t => t.People),
                            group.Sum(t => t.Losing),
                            Of("open"),
                            Of("approved"),
                            Of("declined"),
                            Of("failing"),
                            Of("done", "moved"),
                            covered?.Digest,
                            covered?.People.Count ?? 0,
                            covered?.People.Count > 0
                        )
                    );
                }
                var report = Report.FromJson(row.Report);
                (IReadOnlyList<string> People, string Digest)? all =
                    whole && tallies.Any(t => t.State == "open") ? await OpenAsync(s, row, "", user, right) : null;
                return new RolloutDetail(
                    Summary(row, tallies),
                    row.Brake.Length > 0 ? row.Brake : null,
                    row.ReleasedBy.Length > 0 ? row.ReleasedBy : null,
                    all is { } some ? some.Digest : null,
                    all?.People.Count ?? 0,
                    reach is null ? Views(report.Templates) : [],
                    reach is null ? Views(report.Entitlements) : [],
                    departments,
                    [
                        .. tallies
                            .Where(t => t.Wave > 0 || t.State is "done" or "turned-back")
                            .GroupBy(t => t.Wave)
                            .OrderBy(g => g.Key)
                            .Select(g => new RolloutWave(
                                g.Key,
                                g.Sum(t => t.People),
                                Sum(g, "done", "moved"),
                                Sum(g, "running", "own", "turning"),
                                Sum(g, "turned-back")
                            )),
                    ],
                    [
                        .. (await s.RolloutDecisionsAsync(row.Id)).Select(d => new RolloutDecision(
                            d.Department.Length > 0 ? d.Department : null,
                            d.Actor,
                            d.Verdict,
                            d.Remark,
                            d.People,
                            d.At.ToInstant()
                        )),
                    ],
                    new(
                        all?.People.Count > 0,
                        state == RollOutState.Held && right.MayPass,
                        isOperator && Can(state, RollOutEvent.Begin) && (row.People == 0 || tallies.Any(t => t.State == "approved")),
                        isOperator && Can(state, RollOutEvent.Stop),
                        mayAll
                            && right.Reach("") is null
                            && Can(state, RollOutEvent.TurnBack)
                            && tallies.Any(t => t.State == "done")
                            && !tallies.Any(t => t.State is "running" or "turning")
                    ),
                    row.WaveSize > 0 ? row.WaveSize : null,
                    row.Pause is { } pause ? System.Xml.XmlConvert.ToString(TimeSpan.FromMilliseconds(pause)) : null,
                    row.NextAt.ToInstant(),
                    tallies.GroupBy(t => t.State).ToDictionary(g => g.Key, g => g.Sum(t => t.People))
                );
            },
            cancel
        );

        static long Sum(IEnumerable<(string Department, string State, long Wave, long People, long Losing)> of, params string[] states) =>
            of.Where(t => states.Contains(t.State)).Sum(t => t.People);
    }

    private static bool Can(RollOutState state, RollOutEvent what)
    {
        try
        {
            RollOutMachine.Next(state, what);
            return true;
        }
        catch (RefusedMove)
        {
            return false;
        }
    }

    private static IReadOnlyList<TallyView> Views(IReadOnlyList<Tally> tallies) =>
        [.. tallies.Select(t => new TallyView(t.Name, t.People, t.Gained, t.Lost, t.Changed))];

    public static RolloutPerson View(RolloutPersonRow row) =>
        new(
            row.PersonId,
            row.PersonNumber,
            row.Display,
            row.Department,
            row.Site,
            row.FromEdition,
            row.State,
            row.Wave,
            [.. (JsonSerializer.Deserialize<List<Effect>>(row.Effects) ?? []).Select(RehearsalDesk.View)],
            row.RequestId.Length > 0 ? row.RequestId : null,
            row.Problem.Length > 0 ? row.Problem : null
        );
}
