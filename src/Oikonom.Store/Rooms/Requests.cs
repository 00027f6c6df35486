namespace Oikonom.Store.Rooms;

public sealed class RequestRow
{
    public long Number { get; init; }
    public string Id { get; init; } = "";
    public string Kind { get; set; } = "";
    public string State { get; set; } = "";
    public long Stage { get; set; }
    public string PersonId { get; init; } = "";
    public string Requester { get; init; } = "";
    public string Cause { get; set; } = "{}";
    public long Edition { get; set; }
    public string Workflow { get; set; } = "";
    public string? Plan { get; set; }
    public string? PlanDigest { get; set; }
    public string StageTitle { get; set; } = "";

    /// <summary>User names as |a|b|, or "" when a role decides.</summary>
    public string Deciders { get; set; } = "";
    public string DeciderRole { get; set; } = "";
    public string DeciderWhy { get; set; } = "";
    public string Problem { get; set; } = "";
    public string Candidates { get; set; } = "";
    public string Chosen { get; set; } = "{}";
    public long SinceAt { get; set; }
    public long CreatedAt { get; init; }
    public long UpdatedAt { get; set; }
    public long? CompletedAt { get; set; }
    public long? DueAt { get; set; }
    public long Attempts { get; set; }
    public string LeaseOwner { get; set; } = "";
    public long LeaseUntil { get; set; }
    public long Fence { get; set; }
    public long Version { get; set; }

    // Joined from the person.
    public string Display { get; init; } = "";
    public string PersonNumber { get; init; } = "";
    public string Department { get; init; } = "";
    public string Site { get; init; } = "";
    public string StartDay { get; init; } = "";
}

public sealed class DecisionRow
{
    public string RequestId { get; init; } = "";
    public string StageTitle { get; init; } = "";
    public string Actor { get; init; } = "";
    public string Verdict { get; init; } = "";
    public string Remark { get; init; } = "";
    public string Digest { get; init; } = "";
    public long At { get; init; }
}

/// <summary>Which requests a list shows.</summary>
public sealed record RequestFilter(string State = "", string Kind = "", string Text = "", string PersonId = "", long Before = long.MaxValue, int Limit = 50, bool OpenOnly = false, string InboxUser = "", string InboxNumber = "", IReadOnlyList<string>? InboxRoles = null);

/// <summary>Requests and the decisions on them.</summary>
public static class RequestTables
{
    private const string Columns =
        "r.number, r.id, r.kind, r.state, r.stage, r.person_id, r.requester, r.cause, r.edition, r.workflow, r.plan, r.plan_digest, r.stage_title, r.deciders, r.decider_role, r.decider_why, " +
        "r.problem, r.candidates, r.chosen, r.since_at, r.created_at, r.updated_at, r.completed_at, r.due_at, r.attempts, r.lease_owner, r.lease_until, r.fence, r.version, " +
        "p.display, p.number AS person_number, p.department, p.site, p.start_day";

    private const string From = "FROM requests r JOIN people p ON p.id=r.person_id";

    public static Task AddRequestsAsync(this Session session, IReadOnlyCollection<RequestRow> rows) => session.BulkAsync(
        "INSERT INTO requests (id, kind, state, stage, person_id, requester, cause, edition, workflow, stage_title, deciders, decider_role, decider_why, problem, candidates, chosen, since_at, created_at, updated_at, due_at, attempts, lease_owner, lease_until, fence, version) " +
        "SELECT id, kind, state, 0, person_id, requester, cause, edition, workflow, '', '', '', '', '', '', '{{}}', created_at, created_at, created_at, created_at, 0, '', 0, 0, 1 FROM {rows} AS x".Replace("{{}}", "{}", StringComparison.Ordinal),
        rows, ("id", "text"), ("kind", "text"), ("state", "text"), ("person_id", "text"), ("requester", "text"), ("cause", "text"), ("edition", "bigint"), ("workflow", "text"), ("created_at", "bigint"));

    public static Task<RequestRow?> RequestAsync(this Session session, string id, bool forUpdate = false) =>
        session.FirstAsync<RequestRow>($"SELECT {Columns} {From} WHERE r.id=@id{(forUpdate && session.Engine.ForUpdate.Length > 0 ? " FOR UPDATE OF r" : "")}", new { id });

    public static Task<RequestRow?> RequestByNumberAsync(this Session session, long number) => session.FirstAsync<RequestRow>($"SELECT {Columns} {From} WHERE r.number=@number", new { number });

    public static Task<IReadOnlyList<RequestRow>> OpenRequestsOfAsync(this Session session, IReadOnlyCollection<string> people) => session.BulkQueryAsync<RequestRow, object>(
        $"SELECT {Columns} FROM {{rows}} AS x {{join}} requests r ON x.id=r.person_id JOIN people p ON p.id=r.person_id WHERE r.state IN ('planning','choosing','deciding','releasing')", [.. people.Select(id => new { Id = id })], ("id", "text"));

    public static Task<IReadOnlyList<RequestRow>> RequestsPageAsync(this Session session, RequestFilter filter)
    {
        var where = new List<string> { "r.number < @Before" };
        if (filter.State.Length > 0) where.Add("r.state=@State");
        if (filter.Kind.Length > 0) where.Add("r.kind=@Kind");
        if (filter.PersonId.Length > 0) where.Add("r.person_id=@PersonId");
        if (filter.OpenOnly) where.Add("r.state NOT IN ('completed','declined')");
        if (filter.Text.Length > 0) where.Add("(p.search_key LIKE @like ESCAPE '!' OR p.number=@Text OR CAST(r.number AS TEXT)=@Text)");
        if (filter.InboxUser.Length > 0)
        {
            where.Add("r.state IN ('deciding','releasing','choosing') AND ((r.state='deciding' AND r.requester<>@InboxUser AND (@InboxNumber='' OR p.number<>@InboxNumber) AND (r.deciders LIKE @mine ESCAPE '!' OR (@roles LIKE '%|' || r.decider_role || '|%' AND r.decider_role<>''))) " +
                "OR (r.state IN ('releasing','choosing') AND @roles LIKE '%|operator|%'))");
        }
        var parameters = new
        {
            filter.State,
            filter.Kind,
            filter.PersonId,
            filter.Text,
            filter.Before,
            filter.InboxUser,
            filter.InboxNumber,
            filter.Limit,
            like = Like.Containing(filter.Text),
            mine = Like.Containing($"|{filter.InboxUser}|"),
            roles = "|" + string.Join('|', filter.InboxRoles ?? []) + "|",
        };
        return session.QueryAsync<RequestRow>($"SELECT {Columns} {From} WHERE {string.Join(" AND ", where)} ORDER BY r.number DESC LIMIT @Limit", parameters);
    }

    public static Task<IReadOnlyList<RequestRow>> RequestsByIdAsync(this Session session, IReadOnlyCollection<string> ids) => session.BulkQueryAsync<RequestRow, object>(
        $"SELECT {Columns} FROM {{rows}} AS x {{join}} requests r ON x.id=r.id JOIN people p ON p.id=r.person_id", [.. ids.Select(id => new { Id = id })], ("id", "text"));

    /// <summary>Requests that are planned and wait for a person.</summary>
    public static Task<IReadOnlyList<RequestRow>> WaitingRequestsAsync(this Session session) => session.QueryAsync<RequestRow>(
        $"SELECT {Columns} {From} WHERE r.state IN ('deciding','releasing') ORDER BY r.number");

    public static async Task<IReadOnlyDictionary<string, long>> RequestCountsAsync(this Session session) =>
        (await session.QueryAsync<(string State, long Count)>("SELECT state, COUNT(*) AS count FROM requests GROUP BY state").ConfigureAwait(false)).ToDictionary(pair => pair.State, pair => pair.Count);

    /// <summary>Writes all that changes in a request. False when somebody changed it in between.</summary>
    public static async Task<bool> SaveRequestAsync(this Session session, RequestRow row) => await session.ExecuteAsync(
        "UPDATE requests SET kind=@Kind, state=@State, stage=@Stage, cause=@Cause, edition=@Edition, workflow=@Workflow, plan=@Plan, plan_digest=@PlanDigest, stage_title=@StageTitle, deciders=@Deciders, " +
        "decider_role=@DeciderRole, decider_why=@DeciderWhy, problem=@Problem, candidates=@Candidates, chosen=@Chosen, since_at=@SinceAt, updated_at=@UpdatedAt, completed_at=@CompletedAt, due_at=@DueAt, " +
        "attempts=@Attempts, lease_owner=@LeaseOwner, lease_until=@LeaseUntil, version=version+1 WHERE id=@Id AND version=@Version", row).ConfigureAwait(false) == 1;

    /// <summary>True when a plan is to be made: asked before claiming, since a read disturbs nobody.</summary>
    public static Task<bool> AnyPlanningAsync(this Session session, long now) => session.ScalarAsync<bool>("SELECT EXISTS (SELECT 1 FROM requests WHERE due_at<=@now AND state='planning' AND lease_until<=@now)", new { now });

    /// <summary>Claims requests whose plan is to be made, for a lease.</summary>
    public static Task<IReadOnlyList<string>> ClaimPlanningAsync(this Session session, string node, long now, long until, int limit) => session.QueryAsync<string>(
        "UPDATE requests SET lease_owner=@node, lease_until=@until, fence=fence+1, version=version+1 WHERE id IN (SELECT id FROM requests WHERE due_at<=@now AND state='planning' AND lease_until<=@now ORDER BY due_at LIMIT @limit" + session.Engine.SkipLocked + ") RETURNING id",
        new { node, now, until, limit });

    public static Task AddDecisionAsync(this Session session, DecisionRow row) => session.ExecuteAsync(
        "INSERT INTO decisions (request_id, stage_title, actor, verdict, remark, digest, at) VALUES (@RequestId, @StageTitle, @Actor, @Verdict, @Remark, @Digest, @At)", row);

    public static Task<IReadOnlyList<DecisionRow>> DecisionsAsync(this Session session, string request) => session.QueryAsync<DecisionRow>(
        "SELECT request_id, stage_title, actor, verdict, remark, digest, at FROM decisions WHERE request_id=@request ORDER BY id", new { request });
}
