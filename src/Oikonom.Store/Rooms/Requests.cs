using Oikonom.Core.Approval;
using Oikonom.Core.People;

namespace Oikonom.Store.Rooms;

/// <summary>Requests and the decisions on them.</summary>
public static class RequestTables
{
    /// <summary>Who lets a request go on of which a step stopped.</summary>
    public const string Operator = "an operator";

    private const string Columns =
        "r.number, r.id, r.kind, r.state, r.stage, r.person_id, r.subject_kind, r.subject_id, "
        + "r.requester, r.cause, r.edition, r.workflow, r.plan, "
        + "r.plan_digest, r.stage_title, r.deciders, r.decider_role, r.decider_why, "
        + "r.problem, r.candidates, r.chosen, r.since_at, r.created_at, r.updated_at, r.completed_at, r.due_at, r.attempts, "
        + "r.lease_owner, r.lease_until, r.fence, r.version, r.source, r.wish, r.ballots, r.round, r.clock, r.clock_at, r.held, "
        + "r.plan_before, r.late, r.batch, r.on_edition, r.rollout, r.outcome, r.waited, "
        + "CASE WHEN r.state='fulfilling' THEN (SELECT MIN(n.due_at) FROM steps n WHERE n.request_id=r.id AND n.later=0 AND "
        + "n.state='pending') END AS next_at, "
        + "CASE WHEN r.state='fulfilling' AND r.problem='' THEN (SELECT MIN(q.number) FROM steps m JOIN steps b ON "
        + "b.subject_id=m.subject_id AND b.target=m.target AND b.state='stopped' AND b.request_id<>m.request_id JOIN requests q ON "
        + "q.id=b.request_id WHERE m.request_id=r.id AND m.later=0 AND m.removes=0 AND m.state='pending') END AS blocked_by, "
        + "COALESCE(a.name, '') AS account, p.display, p.number AS person_number, p.department, p.site, p.start_day, p.title";

    private static readonly string LightColumns = Columns
        .Replace("r.plan, ", "", StringComparison.Ordinal)
        .Replace("r.plan_before, ", "", StringComparison.Ordinal);

    private const string Joined =
        "JOIN people p ON p.id=r.person_id LEFT JOIN accounts a ON r.subject_kind='account' AND a.id=r.subject_id";

    private const string From = $"FROM requests r {Joined}";

    /// <summary>Adds requests; each gets a number.</summary>
    public static Task AddRequestsAsync(this Session session, IReadOnlyCollection<RequestRow> rows) =>
        session.BulkAsync(
            "INSERT INTO requests (id, kind, state, stage, person_id, subject_kind, subject_id, requester, cause, edition, workflow, "
                + "stage_title, deciders, decider_role, decider_why, problem, candidates, chosen, since_at, "
                + "created_at, updated_at, due_at, "
                + "attempts, lease_owner, lease_until, fence, version, source, wish, batch, rollout) "
                + (
                    "SELECT id, kind, state, 0, person_id, subject_kind, subject_id, requester, cause, edition, workflow, '', '', '', "
                    + "'', '', '', '{{}}', created_at, created_at, created_at, created_at, 0, '', 0, 0, 1, source, wish, batch, rollout "
                    + "FROM {rows} AS x"
                ).Replace("{{}}", "{}", StringComparison.Ordinal),
            rows,
            ("id", "text"),
            ("kind", "text"),
            ("state", "text"),
            ("person_id", "text"),
            ("subject_kind", "text"),
            ("subject_id", "text"),
            ("requester", "text"),
            ("cause", "text"),
            ("edition", "bigint"),
            ("workflow", "text"),
            ("created_at", "bigint"),
            ("source", "text"),
            ("wish", "text"),
            ("batch", "text"),
            ("rollout", "text")
        );

    /// <summary>A request by its id; null when there is none.</summary>
    public static Task<RequestRow?> RequestAsync(this Session session, string id, bool forUpdate = false) =>
        session.FirstAsync<RequestRow>(
            $"SELECT {Columns} {From} WHERE r.id=@id{(forUpdate && session.Engine.ForUpdate.Length > 0 ? " FOR UPDATE OF r" : "")}",
            new { id }
        );

    /// <summary>The request that an id or a number names.</summary>
    public static Task<RequestRow?> FindRequestAsync(this Session session, string name) =>
        Guid.TryParse(name, out var id) ? session.RequestAsync(id.ToString())
        : long.TryParse(name, System.Globalization.NumberStyles.None, System.Globalization.CultureInfo.InvariantCulture, out var number)
            ? session.RequestByNumberAsync(number)
        : Task.FromResult<RequestRow?>(null);

    /// <summary>A request by its number; null when there is none.</summary>
    public static Task<RequestRow?> RequestByNumberAsync(this Session session, long number) =>
        session.FirstAsync<RequestRow>($"SELECT {Columns} {From} WHERE r.number=@number", new { number });

    /// <summary>
    /// Requests of some people that decide about them as a whole and are not carried out yet. What only sets right what was changed
    /// outside is not among them.
    /// </summary>
    public static Task<IReadOnlyList<RequestRow>> OpenRequestsOfAsync(this Session session, IReadOnlyCollection<string> people) =>
        session.BulkQueryAsync<RequestRow, object>(
            $"SELECT {Columns} FROM {{rows}} AS x {{join}} requests r ON x.id=r.person_id {Joined} "
                + "WHERE r.subject_kind='person' AND r.state IN ('planning','choosing','deciding','asked','releasing') AND r.kind IN "
                + "('joiner','mover','leaver','correction','change') AND r.workflow NOT IN ('restored','mended')",
            [.. people.Select(id => new { Id = id })],
            ("id", "text")
        );

    /// <summary>The open requests about some accounts that belong to nobody.</summary>
    public static async Task<IReadOnlyList<(string SubjectId, long Number, RequestState State)>> OpenRequestsAboutAsync(
        this Session session,
        IReadOnlyCollection<string> accounts
    ) =>
        [
            .. (
                await session
                    .BulkQueryAsync<(string SubjectId, long Number, string State), object>(
                        "SELECT r.subject_id, r.number, r.state FROM {rows} AS x {join} requests r ON x.id=r.subject_id WHERE "
                            + "r.subject_kind='account' AND r.state NOT IN ('completed','declined','withdrawn','lapsed')",
                        [.. accounts.Select(id => new { Id = id })],
                        ("id", "text")
                    )
                    .ConfigureAwait(false)
            ).Select(r => (r.SubjectId, r.Number, EnumText.Parse<RequestState>(r.State))),
        ];

    /// <summary>One page of requests.</summary>
    public static Task<IReadOnlyList<RequestRow>> RequestsPageAsync(this Session session, RequestFilter filter)
    {
        var (from, condition, parameters) = Chosen(filter);
        // Which rows it is, is found without reading plans; only the rows of the page are read whole.
        const string urgent = "r.late DESC, CASE WHEN r.problem<>'' AND r.state IN ('planning','fulfilling') THEN 0 ELSE 1 END, ";
        var order = $"{(filter.UrgentFirst ? urgent : "")}r.number DESC";
        parameters["Limit"] = filter.Limit;
        return session.QueryAsync<RequestRow>(
            $"SELECT {(filter.Light ? LightColumns : Columns)} {From} WHERE r.number IN (SELECT r.number {from} WHERE "
                + $"{condition} ORDER BY {order} LIMIT @Limit) ORDER BY {order}",
            parameters
        );
    }

    /// <summary>How many requests a list shows in all.</summary>
    public static Task<long> CountRequestsAsync(this Session session, RequestFilter filter)
    {
        var (from, condition, parameters) = Chosen(filter);
        return session.ScalarAsync<long>($"SELECT COUNT(*) {from} WHERE {condition}", parameters);
    }

    /// <summary>The tables, the condition and the values it names.</summary>
    private static (string From, string Condition, Dictionary<string, object?> Parameters) Chosen(RequestFilter filter)
    {
        var where = new List<string> { "r.number < @Before" };
        if (filter.State.Length > 0)
            where.Add("r.state=@State");
        if (filter.Kind.Length > 0)
            where.Add("r.kind=@Kind");
        if (filter.PersonId.Length > 0)
            where.Add("r.person_id=@PersonId");
        if (filter.OpenOnly)
            where.Add("r.state NOT IN ('completed','declined','withdrawn','lapsed')");
        if (filter.Text.Length > 0)
            where.Add(
                "(p.search_key LIKE @like ESCAPE '!' OR a.name LIKE @like ESCAPE '!' OR p.number=@Text OR CAST(r.number AS TEXT)=@Text)"
            );
        if (filter.InboxUser.Length > 0)
            where.Add(Inbox(filter));
        if (filter.Site.Length > 0)
            where.Add("p.site=@Site");
        if (filter.Department.Length > 0)
            where.Add("p.department=@Department");
        if (filter.Requester.Length > 0)
            where.Add("r.requester=@Requester");
        if (filter.Target.Length > 0)
            where.Add("r.plan LIKE @target ESCAPE '!'");
        if (filter.WaitsOn.Length > 0)
            where.Add(
                "(r.state IN ('deciding','releasing') AND (r.deciders LIKE @waitsOn ESCAPE '!' OR r.decider_role=@WaitsOnRole) "
                    + "OR (r.state='asked' AND r.requester=@WaitsOnRole))"
            );
        if (filter.Late)
            where.Add("r.late=1");
        if (filter.Stuck)
            where.Add("r.problem<>'' AND r.state IN ('planning','fulfilling')");
        if (filter.RaisedBefore is not null)
            where.Add("r.created_at<@RaisedBefore");
        if (filter.Reach is { } reach)
            where.Add(ReachOf(reach, "p"));
        var parameters = ParametersOf(filter);
        var condition = string.Join(" AND ", where);
        return (
            condition.Contains("p.", StringComparison.Ordinal) ? From : "FROM requests r",
            condition,
            parameters.Where(p => condition.Contains("@" + p.Key, StringComparison.Ordinal)).ToDictionary()
        );
    }

    /// <summary>What waits for a user: by own rights, then by those that others handed over.</summary>
    private static string Inbox(RequestFilter filter)
    {
        var mine = new List<string>
        {
            "r.deciders LIKE @mine ESCAPE '!'",
            "(r.decider_role<>'' AND @roles LIKE '%|' || r.decider_role || '|%')",
        };
        for (var i = 0; i < filter.Lent.Count; i++)
            mine.Add(
                $"(r.state='deciding' AND r.requester<>@lender{i} AND (r.deciders LIKE @lent{i} ESCAPE '!' OR "
                    + $"(r.decider_role<>'' AND @lentRoles{i} LIKE '%|' || r.decider_role || '|%')))"
            );
        return "((r.state IN ('deciding','releasing') AND (r.state='releasing' OR r.requester<>@InboxUser) AND "
            + $"r.person_id<>@InboxPerson AND ({string.Join(" OR ", mine)})) "
            + "OR (r.state='choosing' AND @roles LIKE '%|operator|%') OR (r.state='asked' AND r.requester=@InboxUser))";
    }

    private static Dictionary<string, object?> ParametersOf(RequestFilter filter)
    {
        var parameters = new Dictionary<string, object?>
        {
            ["State"] = filter.State,
            ["Kind"] = filter.Kind,
            ["PersonId"] = filter.PersonId,
            ["Text"] = filter.Text,
            ["Before"] = filter.Before,
            ["InboxUser"] = filter.InboxUser,
            ["InboxPerson"] = filter.InboxPerson,
            ["Site"] = filter.Site,
            ["Department"] = filter.Department,
            ["Requester"] = filter.Requester,
            ["RaisedBefore"] = filter.RaisedBefore,
            ["WaitsOnRole"] = filter.WaitsOn,
            ["waitsOn"] = Like.Containing($"|{filter.WaitsOn}|"),
            ["target"] = Like.Containing($"\"target\":\"{filter.Target}\""),
            ["like"] = Like.Containing(filter.Text),
            ["mine"] = Like.Containing($"|{filter.InboxUser}|"),
            ["roles"] = "|" + string.Join('|', filter.InboxRoles ?? []) + "|",
        };
        for (var i = 0; i < filter.Lent.Count; i++)
        {
            parameters[$"lender{i}"] = filter.Lent[i].User;
            parameters[$"lent{i}"] = Like.Containing($"|{filter.Lent[i].User}|");
            parameters[$"lentRoles{i}"] = $"|{filter.Lent[i].Roles.Replace(' ', '|')}|";
        }
        if (filter.Reach is { } parts)
            AddReach(parameters, parts);
        return parameters;
    }

    /// <summary>A condition that a person stands in one of the parts of the organisation.</summary>
    internal static string ReachOf(IReadOnlyList<(IReadOnlyList<string> Sites, IReadOnlyList<string> Departments)> reach, string table) =>
        reach.Count == 0 ? "1=0" : $"({string.Join(" OR ", reach.Select((part, i) => $"({PartOf(part, table, i)})"))})";

    private static string PartOf((IReadOnlyList<string> Sites, IReadOnlyList<string> Departments) part, string table, int i)
    {
        var site = part.Sites.Count == 0 ? "1=1" : $"@sites{i} LIKE '%|' || {table}.site || '|%'";
        var department = part.Departments.Count == 0 ? "1=1" : $"@departments{i} LIKE '%|' || {table}.department || '|%'";
        return $"{site} AND {department}";
    }

    internal static void AddReach(
        Dictionary<string, object?> parameters,
        IReadOnlyList<(IReadOnlyList<string> Sites, IReadOnlyList<string> Departments)> reach
    )
    {
        for (var i = 0; i < reach.Count; i++)
        {
            parameters[$"sites{i}"] = $"|{string.Join('|', reach[i].Sites)}|";
            parameters[$"departments{i}"] = $"|{string.Join('|', reach[i].Departments)}|";
        }
    }

    /// <summary>Requests by their ids.</summary>
    public static Task<IReadOnlyList<RequestRow>> RequestsByIdAsync(this Session session, IReadOnlyCollection<string> ids) =>
        session.BulkQueryAsync<RequestRow, object>(
            $"SELECT {Columns} FROM {{rows}} AS x {{join}} requests r ON x.id=r.id {Joined}",
            [.. ids.Select(id => new { Id = id })],
            ("id", "text")
        );

    /// <summary>The requests of a file that is decided as a whole, while they wait for a decision.</summary>
    public static Task<IReadOnlyList<RequestRow>> DecidingOfBatchAsync(this Session session, string batch) =>
        session.QueryAsync<RequestRow>(
            $"SELECT {Columns} {From} WHERE r.batch=@batch AND r.batch<>'' AND r.state='deciding' ORDER BY r.number",
            new { batch }
        );

    /// <summary>Of some people, requests that wait for a decision with a plan made while they were on another edition.</summary>
    public static Task<IReadOnlyList<string>> PlannedElsewhereAsync(this Session session, IReadOnlyCollection<string> people) =>
        session.BulkQueryAsync<string, object>(
            "SELECT r.id FROM {rows} AS x {join} requests r ON r.person_id=x.id {join} people p ON p.id=x.id WHERE r.state IN "
                + "('deciding','asked','releasing') AND r.plan IS NOT NULL AND r.on_edition<>p.edition",
            [.. people.Select(id => new { Id = id })],
            ("id", "text")
        );

    /// <summary>Requests that are planned and wait for a person.</summary>
    public static Task<IReadOnlyList<RequestRow>> WaitingRequestsAsync(this Session session) =>
        session.QueryAsync<RequestRow>($"SELECT {Columns} {From} WHERE r.state IN ('deciding','asked','releasing') ORDER BY r.number");

    /// <summary>How many requests stand in each state.</summary>
    public static async Task<IReadOnlyDictionary<string, long>> RequestCountsAsync(this Session session) =>
        (
            await session
                .QueryAsync<(string State, long Count)>("SELECT state, COUNT(*) AS count FROM requests GROUP BY state")
                .ConfigureAwait(false)
        ).ToDictionary(pair => pair.State, pair => pair.Count);

    /// <summary>Writes all that changes in a request. False when somebody changed it in between.</summary>
    public static async Task<bool> SaveRequestAsync(this Session session, RequestRow row) =>
        await session
            .ExecuteAsync(
                "UPDATE requests SET kind=@Kind, state=@StateText, stage=@Stage, cause=@Cause, edition=@Edition, "
                    + "workflow=@Workflow, plan=@Plan, plan_digest=@PlanDigest, stage_title=@StageTitle, deciders=@Deciders, "
                    + "decider_role=@DeciderRole, decider_why=@DeciderWhy, problem=@Problem, candidates=@Candidates, "
                    + "chosen=@Chosen, since_at=@SinceAt, updated_at=@UpdatedAt, completed_at=@CompletedAt, due_at=@DueAt, "
                    + "attempts=@Attempts, lease_owner=@LeaseOwner, lease_until=@LeaseUntil, wish=@Wish, ballots=@Ballots, "
                    + "round=@Round, clock=@Clock, clock_at=@ClockAt, held=@Held, plan_before=@PlanBefore, late=@Late, "
                    + "on_edition=@OnEdition, outcome=@OutcomeText, waited=@Waited, version=version+1 WHERE id=@Id AND version=@Version",
                row
            )
            .ConfigureAwait(false) == 1;

    /// <summary>True when a plan is to be made: asked before claiming, since a read disturbs nobody.</summary>
    public static Task<bool> AnyPlanningAsync(this Session session, long now) =>
        session.ScalarAsync<bool>(
            "SELECT EXISTS (SELECT 1 FROM requests WHERE due_at<=@now AND state='planning' AND lease_until<=@now)",
            new { now }
        );

    /// <summary>Claims requests whose plan is to be made, for a lease.</summary>
    public static async Task<IReadOnlyList<string>> ClaimPlanningAsync(this Session session, string node, long now, long until, int limit)
    {
        // Who leaves is planned first, however many others wait.
        var leaving = await session.ClaimPlanningAsync("kind='leaver' AND ", node, now, until, limit).ConfigureAwait(false);
        return leaving.Count >= limit
            ? leaving
            : [.. leaving, .. await session.ClaimPlanningAsync("", node, now, until, limit - leaving.Count).ConfigureAwait(false)];
    }

    private static Task<IReadOnlyList<string>> ClaimPlanningAsync(
        this Session session,
        string which,
        string node,
        long now,
        long until,
        int limit
    ) =>
        session.QueryAsync<string>(
            "UPDATE requests SET lease_owner=@node, lease_until=@until, fence=fence+1, version=version+1 WHERE id IN (SELECT "
                + $"id FROM requests WHERE {which}due_at<=@now AND state='planning' AND lease_until<=@now ORDER BY due_at LIMIT @limit"
                + session.Engine.SkipLocked
                + ") RETURNING id",
            new
            {
                node,
                now,
                until,
                limit,
            }
        );

    /// <summary>Requests whose clock rings.</summary>
    public static Task<IReadOnlyList<string>> DueClocksAsync(this Session session, long now, int limit) =>
        session.QueryAsync<string>(
            "SELECT id FROM requests WHERE clock_at<=@now AND state='deciding' ORDER BY clock_at LIMIT @limit",
            new { now, limit }
        );

    /// <summary>Puts off when the clock of a request rings.</summary>
    public static Task PutClockOffAsync(this Session session, string id, long at) =>
        session.ExecuteAsync("UPDATE requests SET clock_at=@at, version=version+1 WHERE id=@id", new { id, at });

    /// <summary>Requests that wait for people by name, or for more people than can decide.</summary>
    public static Task<IReadOnlyList<(string Id, string Deciders, long TooFew)>> NamedDecidersAsync(this Session session) =>
        session.QueryAsync<(string, string, long)>(
            "SELECT id, deciders, CASE WHEN ballots LIKE '%\"tooFew\":\"%' THEN 1 ELSE 0 END AS too_few FROM requests WHERE "
                + "state IN ('deciding','asked') AND (deciders<>'' OR ballots LIKE '%\"tooFew\":\"%')"
        );

    /// <summary>How many open requests stand in each state of each kind, and how many are late or stuck.</summary>
    public static async Task<IReadOnlyList<(RequestState State, string Kind, long Count, long Late, long Stuck)>> RequestTalliesAsync(
        this Session session,
        IReadOnlyList<(IReadOnlyList<string> Sites, IReadOnlyList<string> Departments)>? reach
    )
    {
        var parameters = new Dictionary<string, object?>();
        if (reach is not null)
            AddReach(parameters, reach);
        var rows = await session
            .QueryAsync<(string State, string Kind, long Count, long Late, long Stuck)>(
                "SELECT r.state, r.kind, COUNT(*) AS count, CAST(COALESCE(SUM(r.late),0) AS BIGINT) AS late, "
                    + "CAST(COALESCE(SUM(CASE WHEN r.problem<>'' AND r.state IN ('planning','fulfilling') THEN 1 ELSE 0 END),0) AS "
                    + "BIGINT) AS stuck "
                    + $"{(reach is null ? "FROM requests r" : From)} {(reach is null ? "" : $"WHERE {ReachOf(reach, "p")}")} GROUP BY "
                    + "r.state, r.kind",
                parameters
            )
            .ConfigureAwait(false);
        return [.. rows.Select(r => (EnumText.Parse<RequestState>(r.State), r.Kind, r.Count, r.Late, r.Stuck))];
    }

    /// <summary>Joiners whose first day lies between two days and whose request is not complete.</summary>
    public static Task<IReadOnlyList<RequestRow>> StartersAsync(
        this Session session,
        string from,
        string until,
        IReadOnlyList<(IReadOnlyList<string> Sites, IReadOnlyList<string> Departments)>? reach,
        int limit
    )
    {
        var parameters = new Dictionary<string, object?>
        {
            ["from"] = from,
            ["until"] = until,
            ["limit"] = limit,
        };
        if (reach is not null)
            AddReach(parameters, reach);
        return session.QueryAsync<RequestRow>(
            $"SELECT {LightColumns} {From} WHERE r.kind='joiner' AND r.state NOT IN "
                + "('completed','declined','withdrawn','lapsed') AND p.start_day>=@from AND "
                + $"p.start_day<=@until{(reach is null ? "" : $" AND {ReachOf(reach, "p")}")} ORDER BY p.start_day, r.number LIMIT "
                + "@limit",
            parameters
        );
    }

    /// <summary>Notes what was decided or said.</summary>
    public static Task AddDecisionAsync(this Session session, DecisionRow row) =>
        session.ExecuteAsync(
            "INSERT INTO decisions (request_id, stage_title, actor, verdict, remark, digest, at, stage, item, on_behalf, "
                + "covers, round) VALUES (@RequestId, @StageTitle, @Actor, @Verdict, @Remark, @Digest, @At, @Stage, @Item, "
                + "@OnBehalf, @Covers, @Round)",
            row
        );

    /// <summary>What was decided and said on some requests, in order.</summary>
    public static Task<IReadOnlyList<DecisionRow>> DecisionsAsync(this Session session, IReadOnlyCollection<string> requests) =>
        session.BulkQueryAsync<DecisionRow, object>(
            "SELECT d.request_id, d.stage_title, d.actor, d.verdict, d.remark, d.digest, d.at, d.stage, d.item, d.on_behalf, d.covers, "
                + "d.round FROM {rows} AS x {join} decisions d ON d.request_id=x.id ORDER BY d.id",
            [.. requests.Select(id => new { Id = id })],
            ("id", "text")
        );
}
