using Oikonom.Core;
using Oikonom.Core.Approval;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.People;

namespace Oikonom.Store.Rooms;

/// <summary>One change of a request that is carried out.</summary>
public sealed class StepRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>The id of the request it belongs to.</summary>
    public string RequestId { get; init; } = "";

    /// <summary>What its request is about: the person, or the account that belongs to nobody.</summary>
    public string SubjectId { get; init; } = "";

    /// <summary>What it is about.</summary>
    public SubjectKind SubjectKind { get; init; }

    /// <summary>The person who answers for the subject; the same as the subject where it is a person.</summary>
    public string PersonId { get; init; } = "";

    /// <summary>The name of the target in the rulebook.</summary>
    public string Target { get; init; } = "";

    /// <summary>Its place in the plan, from 1 on.</summary>
    public long Ordinal { get; init; }

    /// <summary>What is done, as JSON.</summary>
    public string Change { get; init; } = "{}";

    /// <summary>When it is due, in milliseconds since 1970 (UTC).</summary>
    public long DueAt { get; init; }

    /// <summary>1 when the request is complete without it, else 0.</summary>
    public long Later { get; init; }

    /// <summary>1 when it takes access away: then no other step of the same subject delays it.</summary>
    public long Removes { get; init; }

    /// <summary>Where it stands.</summary>
    public StepState State { get; init; }

    /// <summary>How often it was tried without success.</summary>
    public long Attempts { get; init; }

    /// <summary>What is wrong with it, in words; "" when nothing is.</summary>
    public string Problem { get; init; } = "";

    /// <summary>When it was done, in milliseconds since 1970 (UTC); null while it is not.</summary>
    public long? DoneAt { get; init; }

    /// <summary>The edition the person is on now: whatever was approved when, that one says what should be so.</summary>
    public long Edition { get; init; }

    /// <summary>The number people call it by.</summary>
    public long Number { get; init; }
}

/// <summary>All steps of one subject in one target.</summary>
public sealed class ChainRow
{
    /// <summary>The id of what it is about.</summary>
    public string SubjectId { get; init; } = "";

    /// <summary>The name of the target in the rulebook.</summary>
    public string Target { get; init; } = "";

    /// <summary>Raised with each claim; what an older one reports decides nothing.</summary>
    public long Fence { get; init; }

    /// <summary>When it is due, in milliseconds since 1970 (UTC).</summary>
    public long? DueAt { get; init; }
}

/// <summary>Steps, and the chains that carry them: all steps of one subject in one target, one after the other.</summary>
public static class StepTables
{
    /// <summary>The states of steps that may still run, as a list of the engine.</summary>
    internal static readonly string OpenStates = $"({string.Join(',', StepMachine.Open.Select(o => $"'{EnumText.Of(o)}'"))})";

    /// <summary>Lets steps run at once, as the machine says.</summary>
    internal static readonly string RetryOf = $"UPDATE steps SET due_at=@now, state={Each(StepMachine.Retry)}";

    /// <summary>Lets what waits for its day in other requests of a subject be looked at again now.</summary>
    public static async Task LookAtOthersAsync(this Session session, string subject, string request, long now)
    {
        var ahead = await session
            .ExecuteAsync(
                "UPDATE steps SET due_at=@now WHERE subject_id=@subject AND request_id<>@request AND state='pending' AND due_at>@now",
                new
                {
                    subject,
                    request,
                    now,
                }
            )
            .ConfigureAwait(false);
        if (ahead > 0)
            await session
                .ExecuteAsync("UPDATE chains SET due_at=@now WHERE subject_id=@subject", new { subject, now })
                .ConfigureAwait(false);
    }

    /// <summary>True while other requests of a subject are changing it: steps that are due and were not tried yet, and with
    /// <paramref name="since"/> those that were done from then on.</summary>
    /// <param name="since">In milliseconds, as <paramref name="now"/>.</param>
    public static async Task<bool> IsMovingAsync(this Session session, string subject, string request, long since, long now) =>
        await session
            .ScalarAsync<long>(
                "SELECT COUNT(*) FROM steps WHERE subject_id=@subject AND request_id<>@request AND "
                    + "((state='pending' AND attempts=0 AND due_at<=@now) OR (state='done' AND done_at>=@since))",
                new
                {
                    subject,
                    request,
                    since,
                    now,
                }
            )
            .ConfigureAwait(false) > 0;

    /// <summary>True while a node works on what steps of a request wait for; what is idle stays so until the end of the
    /// transaction.</summary>
    /// <param name="now">In milliseconds.</param>
    public static async Task<bool> IsRunningAsync(this Session session, string request, long now) =>
        (
            await session
                .QueryAsync<long>(
                    "SELECT c.lease_until FROM chains c WHERE EXISTS (SELECT 1 FROM steps s WHERE s.request_id=@request AND "
                        + "s.subject_id=c.subject_id AND s.target=c.target AND s.state IN "
                        + OpenStates
                        + ") ORDER BY c.subject_id, c.target"
                        + session.Engine.ForUpdate,
                    new { request }
                )
                .ConfigureAwait(false)
        ).Any(lease => lease > now);

    /// <summary>Makes the chains that steps of a request were on due with what still waits on them.</summary>
    public static Task FreeChainsAsync(this Session session, string request) =>
        session.ExecuteAsync(
            "UPDATE chains SET due_at="
                + NextOfChain
                + " WHERE EXISTS (SELECT 1 FROM steps s WHERE s.request_id=@request AND s.subject_id=chains.subject_id AND "
                + "s.target=chains.target)",
            new { request }
        );

    /// <summary>When a chain is due: with its next step, and while one is stopped with the next that takes access away.</summary>
    private const string NextOfChain =
        "CASE WHEN EXISTS (SELECT 1 FROM steps s WHERE "
        + "s.subject_id=chains.subject_id AND s.target=chains.target AND s.state='stopped') "
        + "THEN (SELECT MIN(s.due_at) FROM steps s WHERE s.subject_id=chains.subject_id AND s.target=chains.target AND "
        + "s.state='pending' AND s.removes=1) "
        + "ELSE (SELECT MIN(s.due_at) FROM steps s WHERE s.subject_id=chains.subject_id AND s.target=chains.target AND "
        + "s.state='pending') END";

    /// <summary>What waits for its day in other requests of a subject.</summary>
    public static Task<IReadOnlyList<StepRow>> AheadInOthersAsync(this Session session, string subject, string request, long now) =>
        session.QueryAsync<StepRow>(
            "SELECT id, request_id, subject_id, target, ordinal, change, due_at, later, state, attempts, problem, done_at FROM steps WHERE "
                + "subject_id=@subject AND request_id<>@request AND state='pending' AND due_at>@now ORDER BY request_id, ordinal",
            new
            {
                subject,
                request,
                now,
            }
        );

    /// <summary>Puts steps on another day, as if they had not been tried. Their chains are due when the step that moved them is, at
    /// the latest.</summary>
    public static Task PutOnAnotherDayAsync(this Session session, IReadOnlyCollection<(string Id, long DueAt)> steps) =>
        session.BulkAsync(
            "UPDATE steps SET due_at=x.due_at, attempts=0, problem='' FROM {rows} AS x WHERE steps.id=x.id AND steps.state='pending'",
            [.. steps.Select(s => new { s.Id, s.DueAt })],
            ("id", "text"),
            ("due_at", "bigint")
        );

    /// <summary>The state after a move, for each state before it.</summary>
    private static string Each(Func<StepState, StepState> move)
    {
        var cases = Enum.GetValues<StepState>().Select(o => $"WHEN '{EnumText.Of(o)}' THEN '{EnumText.Of(move(o))}'");
        return $"CASE state {string.Join(' ', cases)} END";
    }

    /// <summary>Adds steps; their chains are due with the first of them.</summary>
    public static async Task AddStepsAsync(this Session session, IReadOnlyCollection<StepRow> rows)
    {
        await session
            .BulkAsync(
                "INSERT INTO steps (id, request_id, subject_id, target, ordinal, change, due_at, later, removes, state, "
                    + "attempts, problem) SELECT id, request_id, subject_id, target, ordinal, change, due_at, later, removes, "
                    + "'pending', 0, '' FROM {rows} AS x",
                rows,
                ("id", "text"),
                ("request_id", "text"),
                ("subject_id", "text"),
                ("target", "text"),
                ("ordinal", "bigint"),
                ("change", "text"),
                ("due_at", "bigint"),
                ("later", "bigint"),
                ("removes", "bigint")
            )
            .ConfigureAwait(false);
        var chains = rows.GroupBy(r => (r.SubjectId, r.Target))
            .Select(g => new ChainRow
            {
                SubjectId = g.Key.SubjectId,
                Target = g.Key.Target,
                DueAt = g.Min(r => r.DueAt),
            })
            .ToList();
        await session
            .BulkAsync(
                "INSERT INTO chains (subject_id, target, due_at, lease_owner, lease_until, fence) SELECT subject_id, target, "
                    + "due_at, '', 0, 0 FROM {rows} AS x WHERE true "
                    + "ON CONFLICT (subject_id, target) DO UPDATE SET due_at=CASE WHEN chains.due_at IS NULL OR excluded.due_at < "
                    + "chains.due_at THEN excluded.due_at ELSE chains.due_at END",
                chains,
                ("subject_id", "text"),
                ("target", "text"),
                ("due_at", "bigint")
            )
            .ConfigureAwait(false);
    }

    /// <summary>The steps of a request, in the order of its plan.</summary>
    public static Task<IReadOnlyList<StepRow>> StepsOfAsync(this Session session, string request) =>
        session.QueryAsync<StepRow>(
            "SELECT id, request_id, subject_id, target, ordinal, change, due_at, later, state, attempts, problem, done_at FROM "
                + "steps WHERE request_id=@request ORDER BY ordinal",
            new { request }
        );

    /// <summary>The steps of some requests, each in the order of its plan.</summary>
    public static Task<IReadOnlyList<StepRow>> StepsOfAsync(this Session session, IReadOnlyCollection<string> requests) =>
        session.BulkQueryAsync<StepRow, object>(
            "SELECT s.id, s.request_id, s.subject_id, s.target, s.ordinal, s.change, s.due_at, s.later, s.state, s.attempts, s.problem, "
                + "s.done_at FROM {rows} AS x {join} steps s ON s.request_id=x.id ORDER BY s.request_id, s.ordinal",
            [.. requests.Select(id => new { Id = id })],
            ("id", "text")
        );

    /// <summary>How the steps of some requests ended, each in the order of its plan: without what they change.</summary>
    public static Task<IReadOnlyList<StepRow>> EndedStepsOfAsync(this Session session, IReadOnlyCollection<string> requests) =>
        session.BulkQueryAsync<StepRow, object>(
            "SELECT s.request_id, s.ordinal, s.later, s.state FROM {rows} AS x {join} steps s ON s.request_id=x.id ORDER BY "
                + "s.request_id, s.ordinal",
            [.. requests.Select(id => new { Id = id })],
            ("id", "text")
        );

    /// <summary>Claims chains with due work for a lease; each claim raises the fence. First come those on which access is to be
    /// taken away, whatever else waits.</summary>
    public static async Task<IReadOnlyList<ChainRow>> ClaimChainsAsync(
        this Session session,
        string target,
        string node,
        long now,
        long until,
        int limit
    )
    {
        var removals = await session
            .ClaimAsync(
                $"SELECT c.subject_id, c.target FROM steps s {session.Engine.JoinInOrder} chains c ON c.subject_id=s.subject_id AND "
                    + "c.target=s.target WHERE s.target=@target AND s.removes=1 AND s.state='pending' AND s.due_at<=@now AND "
                    + "c.due_at<=@now AND c.lease_until<=@now ORDER BY s.due_at LIMIT @limit"
                    + (session.Engine.SkipLocked.Length > 0 ? " FOR UPDATE OF c SKIP LOCKED" : ""),
                target,
                node,
                now,
                until,
                limit
            )
            .ConfigureAwait(false);
        if (removals.Count >= limit)
            return removals;
        var others = await session
            .ClaimAsync(
                "SELECT subject_id, target FROM chains WHERE due_at<=@now AND lease_until<=@now AND target=@target ORDER BY due_at LIMIT "
                    + "@limit"
                    + session.Engine.SkipLocked,
                target,
                node,
                now,
                until,
                limit - removals.Count
            )
            .ConfigureAwait(false);
        return [.. removals, .. others];
    }

    /// <summary>Lets what a subject waits for in a target begin now, whatever holds the target up, for a while.</summary>
    /// <param name="now">In milliseconds, as <paramref name="until"/>.</param>
    /// <returns>The request of each step that is due then; none when nothing waits.</returns>
    public static async Task<IReadOnlyList<string>> RunNowAsync(this Session session, string subject, string target, long now, long until)
    {
        var given = new
        {
            subject,
            target,
            now,
            until,
        };
        await session
            .ExecuteAsync(
                "UPDATE steps SET due_at=@now WHERE subject_id=@subject AND target=@target AND state='pending' AND attempts>0 AND "
                    + "due_at>@now",
                given
            )
            .ConfigureAwait(false);
        var due = await session
            .QueryAsync<string>(
                "SELECT request_id FROM steps WHERE subject_id=@subject AND target=@target AND state='pending' AND due_at<=@now",
                given
            )
            .ConfigureAwait(false);
        if (due.Count > 0)
            await session
                .ExecuteAsync(
                    "UPDATE chains SET due_at=CASE WHEN due_at>@now THEN @now ELSE due_at END, run_until=@until WHERE "
                        + "subject_id=@subject AND target=@target",
                    given
                )
                .ConfigureAwait(false);
        return due;
    }

    /// <summary>Of some targets, those in which something waits that nobody works on: a claim that finds nothing is a write all the
    /// same.</summary>
    public static async Task<IReadOnlySet<string>> WaitingTargetsAsync(
        this Session session,
        IReadOnlyCollection<string> targets,
        long now
    ) =>
        (
            await session
                .BulkQueryAsync<string, object>(
                    "SELECT x.target FROM {rows} AS x WHERE EXISTS (SELECT 1 FROM chains c WHERE c.target=x.target AND c.due_at<=x.now "
                        + "AND c.lease_until<=x.now)",
                    [.. targets.Select(target => new { Target = target, Now = now })],
                    ("target", "text"),
                    ("now", "bigint")
                )
                .ConfigureAwait(false)
        ).ToHashSet(StringComparer.Ordinal);

    /// <summary>Targets in which something was asked to run now.</summary>
    public static Task<IReadOnlyList<string>> RunNowTargetsAsync(this Session session, long now) =>
        session.QueryAsync<string>(
            "SELECT DISTINCT target FROM chains WHERE run_until>0 AND run_until>@now AND due_at<=@now AND lease_until<=@now",
            new { now }
        );

    /// <summary>Claims what was asked to run now, as <see cref="ClaimChainsAsync"/> does.</summary>
    public static Task<IReadOnlyList<ChainRow>> ClaimRunNowAsync(
        this Session session,
        string target,
        string node,
        long now,
        long until,
        int limit
    ) =>
        session.ClaimAsync(
            "SELECT subject_id, target FROM chains WHERE run_until>0 AND run_until>@now AND due_at<=@now AND lease_until<=@now AND "
                + "target=@target ORDER BY due_at LIMIT @limit"
                + session.Engine.SkipLocked,
            target,
            node,
            now,
            until,
            limit
        );

    private static Task<IReadOnlyList<ChainRow>> ClaimAsync(
        this Session session,
        string which,
        string target,
        string node,
        long now,
        long until,
        int limit
    ) =>
        session.QueryAsync<ChainRow>(
            $"UPDATE chains SET lease_owner=@node, lease_until=@until, fence=fence+1 WHERE (subject_id, target) IN ({which}) "
                + "RETURNING subject_id, target, fence",
            new
            {
                target,
                node,
                now,
                until,
                limit,
            }
        );

    /// <summary>Lets leases that still hold end later; one that is over, or that somebody else has by now, is left alone.</summary>
    /// <param name="until">In milliseconds.</param>
    public static Task RenewChainsAsync(this Session session, IReadOnlyCollection<ChainRow> chains, long until) =>
        session.BulkAsync(
            "UPDATE chains SET lease_until=x.until FROM {rows} AS x WHERE chains.subject_id=x.subject_id AND chains.target=x.target AND "
                + "chains.fence=x.fence AND chains.lease_owner<>''",
            [
                .. chains.Select(c => new
                {
                    c.SubjectId,
                    c.Target,
                    c.Fence,
                    Until = until,
                }),
            ],
            ("subject_id", "text"),
            ("target", "text"),
            ("fence", "bigint"),
            ("until", "bigint")
        );

    /// <summary>The due steps of the chains, in the order they run; of a chain that is stopped only what takes access away.</summary>
    public static Task<IReadOnlyList<StepRow>> DueStepsAsync(this Session session, IReadOnlyCollection<ChainRow> chains, long now) =>
        session.BulkQueryAsync<StepRow, object>(
            "SELECT s.id, s.request_id, s.subject_id, r.subject_kind, r.person_id, s.target, s.ordinal, s.change, s.due_at, s.later, "
                + "s.removes, s.state, s.attempts, s.problem, CASE WHEN p.edition>0 THEN p.edition ELSE r.edition END AS edition, r.number "
                + "FROM {rows} AS x "
                + "{join} steps s ON s.subject_id=x.subject_id AND s.target=x.target AND s.state='pending' {join} requests r ON "
                + "r.id=s.request_id {join} people p ON p.id=r.person_id "
                + "WHERE s.due_at<=x.now AND r.state IN "
                + "('fulfilling','completed') "
                + "AND (s.removes=1 OR NOT EXISTS (SELECT 1 FROM steps b WHERE b.subject_id=s.subject_id AND b.target=s.target AND "
                + "b.state='stopped')) ORDER BY s.due_at, r.number, s.ordinal",
            [
                .. chains.Select(c => new
                {
                    c.SubjectId,
                    c.Target,
                    Now = now,
                }),
            ],
            ("subject_id", "text"),
            ("target", "text"),
            ("now", "bigint")
        );

    /// <summary>Which of the claims still hold; their rows are locked until the end of the transaction.</summary>
    public static Task<IReadOnlyList<ChainRow>> HeldChainsAsync(this Session session, IReadOnlyCollection<ChainRow> claims) =>
        session.BulkQueryAsync<ChainRow, ChainRow>(
            "SELECT c.subject_id, c.target, c.fence FROM {rows} AS x {join} chains c ON x.subject_id=c.subject_id AND "
                + "x.target=c.target AND x.fence=c.fence"
                + (session.Engine.ForUpdate.Length > 0 ? " ORDER BY c.subject_id, c.target FOR UPDATE OF c" : ""),
            claims,
            ("subject_id", "text"),
            ("target", "text"),
            ("fence", "bigint")
        );

    /// <summary>Writes down how steps ended.</summary>
    public static Task SaveStepsAsync(this Session session, IReadOnlyCollection<StepRow> rows) =>
        session.BulkAsync(
            "UPDATE steps SET state=x.state, attempts=x.attempts, problem=x.problem, due_at=x.due_at, done_at=x.done_at FROM "
                + "{rows} AS x WHERE steps.id=x.id AND steps.state IN "
                + OpenStates,
            rows,
            ("id", "text"),
            ("state", "text"),
            ("attempts", "bigint"),
            ("problem", "text"),
            ("due_at", "bigint"),
            ("done_at", "bigint")
        );

    /// <summary>What follows a step that is tried again waits as long as it does, save what takes access away.</summary>
    public static Task PostponeChainsAsync(this Session session, IReadOnlyCollection<ChainRow> chains) =>
        session.BulkAsync(
            "UPDATE steps SET due_at=x.due_at FROM {rows} AS x WHERE steps.subject_id=x.subject_id AND steps.target=x.target AND "
                + "steps.state='pending' AND steps.removes=0 AND steps.due_at<x.due_at",
            chains,
            ("subject_id", "text"),
            ("target", "text"),
            ("due_at", "bigint")
        );

    /// <summary>Ends the lease of chains; each is due again with its next step, and while one is stopped with the next that
    /// takes access away.</summary>
    public static Task ReleaseChainsAsync(this Session session, IReadOnlyCollection<ChainRow> chains) =>
        session.BulkAsync(
            "UPDATE chains SET lease_owner='', lease_until=0, due_at="
                + NextOfChain
                + " FROM {rows} AS x WHERE chains.subject_id=x.subject_id AND chains.target=x.target AND chains.fence=x.fence",
            chains,
            ("subject_id", "text"),
            ("target", "text"),
            ("fence", "bigint")
        );

    /// <summary>
    /// What of some people is being taken away by steps whose time has come, as changes in JSON: those that are stopped too, and
    /// those that were tried and are tried again later, such as while a target is away or work by hand is not done. A step whose
    /// day has not come takes nothing away yet.
    /// </summary>
    /// <param name="now">In milliseconds.</param>
    public static Task<IReadOnlyList<(string PersonId, string Change)>> RemovalsDueAsync(
        this Session session,
        IReadOnlyCollection<string> people,
        long now
    ) =>
        session.BulkQueryAsync<(string PersonId, string Change), object>(
            "SELECT s.subject_id, s.change FROM {rows} AS x {join} steps s ON s.subject_id=x.id JOIN requests r ON r.id=s.request_id "
                + "WHERE s.removes=1 AND (s.state='stopped' OR (s.state='pending' AND (s.due_at<=x.at OR s.attempts>0 OR EXISTS (SELECT 1 "
                + "FROM tasks t WHERE t.step_id=s.id)))) AND r.state IN ('fulfilling','completed')",
            [.. people.Select(id => new { Id = id, At = now })],
            ("id", "text"),
            ("at", "bigint")
        );

    /// <summary>What steps that are not over, stopped ones too, are going to give somebody.</summary>
    public static Task<IReadOnlyList<string>> GivenAheadAsync(this Session session, string person) =>
        session.QueryAsync<string>(
            "SELECT s.change FROM steps s JOIN requests r ON r.id=s.request_id WHERE s.subject_id=@person AND s.removes=0 AND s.state "
                + "IN ('pending','stopped') AND r.state IN ('fulfilling','completed')",
            new { person }
        );

    /// <summary>Lets nobody else say what became of steps of these requests until this is decided: of two nodes that end the last
    /// steps of a request at the same moment, the second sees what the first did. The embedded engine has one writer.</summary>
    public static Task HoldRequestsAsync(this Session session, IReadOnlyCollection<string> requests) =>
        session.Engine.ForUpdate.Length == 0
            ? Task.CompletedTask
            : session.BulkQueryAsync<string, object>(
                "SELECT r.id FROM {rows} AS x {join} requests r ON x.id=r.id ORDER BY r.id FOR UPDATE OF r",
                [.. requests.Select(id => new { Id = id })],
                ("id", "text")
            );

    /// <summary>Of the requests, those whose steps are all over, save what lies later.</summary>
    public static Task<IReadOnlyList<string>> FinishedAsync(this Session session, IReadOnlyCollection<string> requests) =>
        session.BulkQueryAsync<string, object>(
            "SELECT r.id FROM {rows} AS x {join} requests r ON x.id=r.id WHERE r.state='fulfilling' AND NOT EXISTS (SELECT 1 "
                + "FROM steps s WHERE s.request_id=r.id AND s.later=0 AND s.state IN ('pending','stopped'))",
            [.. requests.Select(id => new { Id = id })],
            ("id", "text")
        );

    /// <summary>Requests that are being carried out though nothing of them is left to do, since before an instant.</summary>
    public static Task<IReadOnlyList<string>> LeftOpenAsync(this Session session, long before, int limit) =>
        session.QueryAsync<string>(
            "SELECT r.id FROM requests r WHERE r.state='fulfilling' AND r.updated_at<@before AND NOT EXISTS (SELECT 1 FROM steps s "
                + $"WHERE s.request_id=r.id AND s.later=0 AND s.state IN {OpenStates}) LIMIT @limit",
            new { before, limit }
        );

    /// <summary>Of the requests, those with steps of which none was done: all were dropped. A read-back does nothing.</summary>
    public static Task<IReadOnlyList<string>> LapsedAsync(this Session session, IReadOnlyCollection<string> requests) =>
        session.BulkQueryAsync<string, object>(
            "SELECT r.id FROM {rows} AS x {join} requests r ON x.id=r.id WHERE EXISTS (SELECT 1 FROM steps s WHERE "
                + "s.request_id=r.id AND s.state='dropped') AND NOT EXISTS (SELECT 1 FROM steps s WHERE s.request_id=r.id AND "
                + "s.state='done' AND s.change NOT LIKE '%\"kind\":\"verify\"%')",
            [.. requests.Select(id => new { Id = id })],
            ("id", "text")
        );

    /// <summary>Notes what is wrong with requests, "" when nothing is, and who lets them go on, "" when they do by themselves. While a
    /// step of a request is stopped, only what needs an operator is noted.</summary>
    public static Task SetProblemsAsync(
        this Session session,
        IReadOnlyCollection<(string Request, string Problem, string WaitsOn)> rows,
        long now
    ) =>
        session.BulkAsync(
            "UPDATE requests SET problem=x.problem, decider_why=x.waits_on, updated_at=x.at, version=version+1 FROM "
                + "{rows} AS x WHERE requests.id=x.id "
                + "AND (requests.problem<>x.problem OR requests.decider_why<>x.waits_on) "
                + $"AND (x.waits_on='{RequestTables.Operator}' OR NOT EXISTS (SELECT 1 FROM steps s WHERE s.request_id=requests.id AND "
                + "s.state='stopped'))",
            [
                .. rows.Select(r => new
                {
                    Id = r.Request,
                    r.Problem,
                    r.WaitsOn,
                    At = now,
                }),
            ],
            ("id", "text"),
            ("problem", "text"),
            ("waits_on", "text"),
            ("at", "bigint")
        );

    /// <summary>Completes requests whose steps are over, in one statement.</summary>
    public static Task CompleteAsync(this Session session, IReadOnlyCollection<(string Id, RequestOutcome Outcome)> requests, long now) =>
        session.BulkAsync(
            "UPDATE requests SET state=x.state, outcome=x.outcome, problem='', completed_at=x.at, since_at=x.at, updated_at=x.at, "
                + "version=version+1 FROM {rows} AS x WHERE requests.id=x.id AND requests.state=x.before",
            [
                .. requests.Select(r => new
                {
                    r.Id,
                    r.Outcome,
                    RequestMachine.Next(RequestState.Fulfilling, RequestEvent.Finished, 0, 0, true).State,
                    Before = RequestState.Fulfilling,
                    At = now,
                }),
            ],
            ("id", "text"),
            ("outcome", "text"),
            ("state", "text"),
            ("before", "text"),
            ("at", "bigint")
        );

    /// <summary>Drops what has not run of a request, with the reason.</summary>
    public static Task DropPendingAsync(this Session session, string request, string reason, long now) =>
        session.ExecuteAsync(
            $"UPDATE steps SET state={Each(StepMachine.Drop)}, problem=@reason, done_at=@now WHERE request_id=@request AND "
                + $"state IN {OpenStates}",
            new
            {
                request,
                reason,
                now,
            }
        );

    /// <summary>Drops steps that have not run, each with the reason.</summary>
    public static Task DropStepsAsync(this Session session, IReadOnlyCollection<(string Id, string Reason)> steps, long now) =>
        session.BulkAsync(
            $"UPDATE steps SET state={Each(StepMachine.Drop)}, problem=x.reason, done_at=x.at FROM {{rows}} AS x WHERE steps.id=x.id "
                + $"AND state IN {OpenStates}",
            [
                .. steps.Select(s => new
                {
                    s.Id,
                    s.Reason,
                    At = now,
                }),
            ],
            ("id", "text"),
            ("reason", "text"),
            ("at", "bigint")
        );

    /// <summary>Lets stopped and waiting steps of a request run at once.</summary>
    public static async Task RetryAsync(this Session session, string request, long now)
    {
        await session
            .ExecuteAsync(
                RetryOf + $" WHERE request_id=@request AND state IN {OpenStates} AND (state='stopped' OR attempts>0)",
                new { request, now }
            )
            .ConfigureAwait(false);
        // What comes after it in the same accounts keeps coming after it.
        await session
            .ExecuteAsync(
                "UPDATE steps SET due_at=@now WHERE state='pending' AND removes=0 AND due_at<@now AND (subject_id, target) IN (SELECT "
                    + "s.subject_id, s.target FROM steps s WHERE s.request_id=@request)",
                new { request, now }
            )
            .ConfigureAwait(false);
        await session
            .ExecuteAsync(
                "UPDATE chains SET due_at=@now WHERE EXISTS (SELECT 1 FROM steps s WHERE s.request_id=@request AND "
                    + "s.subject_id=chains.subject_id AND s.target=chains.target AND s.state='pending' AND s.due_at<=@now)",
                new { request, now }
            )
            .ConfigureAwait(false);
    }
}
