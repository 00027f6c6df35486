using Oikonom.Core.Fulfilment;

namespace Oikonom.Store.Rooms;

/// <summary>An input beside HR and the rulebook. <see cref="Kind"/> is <c>grant</c>, <c>template</c>, <c>refusal</c>, <c>field</c>,
/// <c>end</c> or <c>name</c>.</summary>
public sealed class ExtraRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>The id of the person it is about.</summary>
    public string PersonId { get; init; } = "";

    /// <summary>Which kind it is of.</summary>
    public string Kind { get; init; } = "";

    /// <summary>target/entitlement, a template, what was declined, the name of an attribute, or an account.</summary>
    public string Subject { get; init; } = "";

    /// <summary>For attributes and ends: the number of the employment.</summary>
    public string Employment { get; init; } = "";

    /// <summary>Of an attribute its text; of an end the first day of the employment as it was known then; of an account its
    /// name.</summary>
    public string Value { get; init; } = "";

    /// <summary>From when on, in milliseconds since 1970 (UTC).</summary>
    public long FromAt { get; init; }

    /// <summary>Until when, in milliseconds since 1970 (UTC), which is not in it; null when no end is known.</summary>
    public long? UntilAt { get; init; }

    /// <summary>Why, as JSON or in words.</summary>
    public string Reason { get; init; } = "";

    /// <summary>The id of the request it belongs to.</summary>
    public string RequestId { get; init; } = "";

    /// <summary>When it ended, in milliseconds since 1970 (UTC); null while it holds.</summary>
    public long? EndedAt { get; init; }
}

/// <summary>A right to decide that is handed over for a time.</summary>
public sealed class DelegationRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>The user who gives it.</summary>
    public string FromUser { get; init; } = "";

    /// <summary>The user who gets it.</summary>
    public string ToUser { get; init; } = "";

    /// <summary>When it begins, in milliseconds since 1970 (UTC).</summary>
    public long BeginsAt { get; init; }

    /// <summary>When it ends, in milliseconds since 1970 (UTC), which is not in it.</summary>
    public long EndsAt { get; init; }

    /// <summary>Which kinds it is for, separated by spaces; "" means all.</summary>
    public string Kinds { get; init; } = "";

    /// <summary>What was said with it; may be empty.</summary>
    public string Remark { get; init; } = "";

    /// <summary>The user who did it, or <c>oikonom</c>.</summary>
    public string Actor { get; init; } = "";

    /// <summary>When it was made, in milliseconds since 1970 (UTC).</summary>
    public long CreatedAt { get; init; }

    /// <summary>When it ended, in milliseconds since 1970 (UTC); null while it holds.</summary>
    public long? EndedAt { get; init; }
}

/// <summary>Work by hand.</summary>
public sealed class TaskRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>The step that waits for it.</summary>
    public string StepId { get; init; } = "";

    /// <summary>The id of the request it belongs to.</summary>
    public string RequestId { get; init; } = "";

    /// <summary>The id of the person it is about.</summary>
    public string PersonId { get; init; } = "";

    /// <summary>The name of the target in the rulebook.</summary>
    public string Target { get; init; } = "";

    /// <summary>The name of the entitlement in its target.</summary>
    public string Entitlement { get; init; } = "";

    /// <summary>The id of the open task for another request that asks for the same work, or ""; it ends with that one.</summary>
    public string SameAs { get; set; } = "";

    /// <summary>Which kind it is of.</summary>
    public string Kind { get; init; } = "";

    /// <summary>What people read.</summary>
    public string Title { get; init; } = "";

    /// <summary>What is to be done, in words.</summary>
    public string Instructions { get; init; } = "";

    /// <summary>The fields with their values, as JSON.</summary>
    public string Fields { get; init; } = "[]";

    /// <summary>What is to be checked off, as a JSON list.</summary>
    public string Checks { get; init; } = "[]";

    /// <summary>1 when a proof is to be added, else 0.</summary>
    public long NeedsEvidence { get; init; }

    /// <summary>1 when somebody else confirms that it is done, before it counts; else 0.</summary>
    public long NeedsSecond { get; init; }

    /// <summary>The user who said that it is done while nobody has confirmed it, or "".</summary>
    public string ReportedBy { get; set; } = "";

    /// <summary>When they said so, in milliseconds since 1970 (UTC).</summary>
    public long? ReportedAt { get; set; }

    /// <summary>The user who confirmed that it is done, or "".</summary>
    public string ConfirmedBy { get; set; } = "";

    /// <summary>The role that may do it.</summary>
    public string Role { get; init; } = "";

    /// <summary>The user who does it, or "".</summary>
    public string TakenBy { get; set; } = "";

    /// <summary>Where it stands; once stored, only <see cref="Move"/> changes it.</summary>
    public TaskState State
    {
        get => _state;
        init => _state = value;
    }
    private TaskState _state;

    /// <summary>The state as it is kept.</summary>
    public string StateText => EnumText.Of(State);

    /// <inheritdoc cref="TaskMachine.Next"/>
    public void Move(TaskEvent what) => _state = TaskMachine.Next(_state, what);

    /// <summary>When it is due, in milliseconds since 1970 (UTC).</summary>
    public long DueAt { get; init; }

    /// <summary>When it was made, in milliseconds since 1970 (UTC).</summary>
    public long CreatedAt { get; init; }

    /// <summary>When it was done, in milliseconds since 1970 (UTC); null while it is not.</summary>
    public long? DoneAt { get; set; }

    /// <summary>The user who did it, or "".</summary>
    public string DoneBy { get; set; } = "";

    /// <summary>What was filled in, as JSON.</summary>
    public string Answers { get; set; } = "{}";

    /// <summary>What was said with it; may be empty.</summary>
    public string Remark { get; set; } = "";

    /// <summary>Raised with each change, so that nobody overwrites what they did not see.</summary>
    public long Version { get; init; }

    // Joined from the person and the request.

    /// <summary>The name that people read.</summary>
    public string Display { get; init; } = "";

    /// <summary>The name of the site in the rulebook.</summary>
    public string Site { get; init; } = "";

    /// <summary>The department of the person.</summary>
    public string Department { get; init; } = "";

    /// <summary>The number people call it by.</summary>
    public long Number { get; init; }

    /// <summary>The kind of its request.</summary>
    public string RequestKind { get; init; } = "";
}

/// <summary>A proof of work by hand.</summary>
public sealed class EvidenceRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>The work by hand it belongs to.</summary>
    public string TaskId { get; init; } = "";

    /// <summary>The name it is known by.</summary>
    public string Name { get; init; } = "";

    /// <summary>The media type (RFC 6838).</summary>
    public string MediaType { get; init; } = "";

    /// <summary>How many octets the file has.</summary>
    public long Size { get; init; }

    /// <summary>SHA-256 of the file, in lower-case hexadecimal.</summary>
    public string Hash { get; init; } = "";

    /// <summary>The octets of the file.</summary>
    public byte[] Content { get; init; } = [];

    /// <summary>The user who did it, or <c>oikonom</c>.</summary>
    public string Actor { get; init; } = "";

    /// <summary>When, in milliseconds since 1970 (UTC).</summary>
    public long At { get; init; }
}

/// <summary>Approved inputs, rights handed over, and work by hand.</summary>
public static class ApprovalTables
{
    private const string ExtraColumns = "id, person_id, kind, subject, from_at, until_at, reason, request_id, ended_at, employment, value";

    /// <summary>The inputs by hand of some people that hold.</summary>
    public static Task<IReadOnlyList<ExtraRow>> ExtrasAsync(this Session session, IReadOnlyCollection<string> people) =>
        session.BulkQueryAsync<ExtraRow, object>(
            "SELECT e.id, e.person_id, e.kind, e.subject, e.from_at, e.until_at, e.reason, e.request_id, e.ended_at, "
                + "e.employment, e.value FROM {rows} AS x {join} extras e ON x.id=e.person_id WHERE e.ended_at IS NULL ORDER BY e.id",
            [.. people.Select(id => new { Id = id })],
            ("id", "text")
        );

    /// <summary>What was approved by hand for everybody, while it holds.</summary>
    public static Task<IReadOnlyList<ExtraRow>> AllExtrasAsync(this Session session) =>
        session.QueryAsync<ExtraRow>(
            "SELECT id, person_id, kind, subject, from_at, until_at, reason, request_id, ended_at, employment, value FROM extras "
                + "WHERE ended_at IS NULL ORDER BY id"
        );

    /// <summary>Adds inputs by hand.</summary>
    public static Task AddExtrasAsync(this Session session, IReadOnlyCollection<ExtraRow> rows) =>
        session.BulkAsync(
            $"INSERT INTO extras ({ExtraColumns}) SELECT id, person_id, kind, subject, from_at, until_at, reason, request_id, "
                + $"NULL, employment, value FROM {{rows}} AS x",
            rows,
            ("id", "text"),
            ("person_id", "text"),
            ("kind", "text"),
            ("subject", "text"),
            ("from_at", "bigint"),
            ("until_at", "bigint"),
            ("reason", "text"),
            ("request_id", "text"),
            ("employment", "text"),
            ("value", "text")
        );

    /// <summary>Ends an input by hand of a person.</summary>
    /// <param name="by">The request that ends it.</param>
    public static Task EndExtraAsync(this Session session, string person, string kind, string subject, long at, string by) =>
        session.ExecuteAsync(
            "UPDATE extras SET ended_at=@at, ended_by=@by WHERE person_id=@person AND kind=@kind AND subject=@subject AND ended_at IS NULL",
            new
            {
                person,
                kind,
                subject,
                at,
                by,
            }
        );

    /// <summary>Ends an attribute that was set by hand: what was to begin from an instant on, or all of it with 0.</summary>
    public static Task EndFieldAsync(
        this Session session,
        string person,
        string employment,
        string name,
        long from,
        long at,
        string by = ""
    ) =>
        session.ExecuteAsync(
            "UPDATE extras SET ended_at=@at, ended_by=@by WHERE person_id=@person AND kind='field' AND employment=@employment AND "
                + "subject=@name AND from_at>=@from AND ended_at IS NULL",
            new
            {
                person,
                employment,
                name,
                from,
                at,
                by,
            }
        );

    /// <summary>Attributes set by hand that a request ended, and that were not its own.</summary>
    public static Task<IReadOnlyList<ExtraRow>> FieldsEndedByAsync(this Session session, string request) =>
        session.QueryAsync<ExtraRow>(
            $"SELECT {ExtraColumns} FROM extras WHERE ended_by=@request AND kind='field' AND request_id<>@request",
            new { request }
        );

    /// <summary>Ends what a request wrote into the inputs, and lets hold again what it ended, save where a later input took its
    /// place.</summary>
    /// <param name="kept">Entitlements whose grants hold on: something else ends them.</param>
    public static async Task TakeBackInputsAsync(this Session session, string request, IReadOnlyCollection<string> kept, long at)
    {
        var written = await session
            .QueryAsync<ExtraRow>($"SELECT {ExtraColumns} FROM extras WHERE request_id=@request AND ended_at IS NULL", new { request })
            .ConfigureAwait(false);
        await session
            .BulkAsync(
                "UPDATE extras SET ended_at=x.at FROM {rows} AS x WHERE extras.id=x.id",
                [.. written.Where(e => e.Kind != "grant" || !kept.Contains(e.Subject)).Select(e => new { e.Id, At = at })],
                ("id", "text"),
                ("at", "bigint")
            )
            .ConfigureAwait(false);
        await session
            .ExecuteAsync(
                "UPDATE extras SET ended_at=NULL, ended_by='' WHERE ended_by=@request AND request_id<>@request AND NOT EXISTS (SELECT 1 "
                    + "FROM extras n WHERE n.person_id=extras.person_id AND n.kind=extras.kind AND n.subject=extras.subject AND "
                    + "n.employment=extras.employment AND n.ended_at IS NULL)",
                new { request }
            )
            .ConfigureAwait(false);
    }

    /// <summary>What was approved for an employment goes on under its new number.</summary>
    public static Task RenumberExtrasAsync(this Session session, string person, string before, string after) =>
        session.ExecuteAsync(
            "UPDATE extras SET employment=@after WHERE person_id=@person AND employment=@before AND ended_at IS NULL",
            new
            {
                person,
                before,
                after,
            }
        );

    /// <summary>Takes back the end of an employment that was set by hand.</summary>
    public static Task TakeBackEndingAsync(this Session session, string person, string employment, long at, string by) =>
        session.ExecuteAsync(
            "UPDATE extras SET ended_at=@at, ended_by=@by WHERE person_id=@person AND kind='end' AND employment=@employment AND "
                + "ended_at IS NULL",
            new
            {
                person,
                employment,
                at,
                by,
            }
        );

    private const string DelegationColumns = "id, from_user, to_user, begins_at, ends_at, kinds, remark, actor, created_at, ended_at";

    /// <summary>Hands a right to decide over.</summary>
    public static Task AddDelegationAsync(this Session session, DelegationRow row) =>
        session.ExecuteAsync(
            $"INSERT INTO delegations ({DelegationColumns}) VALUES (@Id, @FromUser, @ToUser, @BeginsAt, @EndsAt, @Kinds, "
                + "@Remark, @Actor, @CreatedAt, @EndedAt)",
            row
        );

    /// <summary>Ends what was handed over.</summary>
    public static Task EndDelegationAsync(this Session session, string id, long at) =>
        session.ExecuteAsync("UPDATE delegations SET ended_at=@at WHERE id=@id AND ended_at IS NULL", new { id, at });

    /// <summary>What was handed over, by its id; null when there is none.</summary>
    public static Task<DelegationRow?> DelegationAsync(this Session session, string id) =>
        session.FirstAsync<DelegationRow>($"SELECT {DelegationColumns} FROM delegations WHERE id=@id", new { id });

    /// <summary>Delegations to or from a user ("" for everybody's) that are not over.</summary>
    public static Task<IReadOnlyList<DelegationRow>> DelegationsAsync(this Session session, string user, long now) =>
        session.QueryAsync<DelegationRow>(
            $"SELECT {DelegationColumns} FROM delegations WHERE ended_at IS NULL AND ends_at>@now AND (@user='' OR "
                + "from_user=@user OR to_user=@user) ORDER BY begins_at",
            new { user, now }
        );

    /// <summary>What is lent to a user now, with the roles of who lends it.</summary>
    public static Task<IReadOnlyList<(string User, string Roles, string Kinds)>> LentToAsync(this Session session, string user, long now) =>
        session.QueryAsync<(string, string, string)>(
            "SELECT d.from_user, u.roles, d.kinds FROM delegations d JOIN users u ON u.name=d.from_user WHERE d.to_user=@user "
                + "AND d.ended_at IS NULL AND d.begins_at<=@now AND d.ends_at>@now AND u.active=1",
            new { user, now }
        );

    private const string TaskColumns =
        "t.id, t.step_id, t.request_id, t.person_id, t.target, t.entitlement, t.kind, t.title, t.instructions, t.fields, "
        + "t.checks, t.needs_evidence, t.role, t.taken_by, t.state, t.due_at, t.created_at, t.done_at, t.done_by, t.answers, "
        + "t.remark, t.version, t.needs_second, t.reported_by, t.reported_at, t.confirmed_by, t.same_as, "
        + "p.display, p.site, p.department, r.number, r.kind AS request_kind";
    private const string FromTasks = "FROM tasks t JOIN people p ON p.id=t.person_id JOIN requests r ON r.id=t.request_id";

    /// <summary>Adds work by hand; of a step that has some nothing is added.</summary>
    public static Task AddTasksAsync(this Session session, IReadOnlyCollection<TaskRow> rows) =>
        session.BulkAsync(
            "INSERT INTO tasks (id, step_id, request_id, person_id, target, entitlement, kind, title, instructions, fields, "
                + "checks, needs_evidence, needs_second, role, taken_by, state, due_at, created_at, done_by, answers, remark, "
                + "version, same_as) "
                + "SELECT id, step_id, request_id, person_id, target, entitlement, kind, title, instructions, fields, checks, "
                + "needs_evidence, needs_second, role, '', 'open', due_at, created_at, '', answers, '', 1, same_as FROM {rows} AS x "
                + "WHERE true ON CONFLICT (step_id) DO NOTHING",
            rows,
            ("id", "text"),
            ("step_id", "text"),
            ("request_id", "text"),
            ("person_id", "text"),
            ("target", "text"),
            ("entitlement", "text"),
            ("kind", "text"),
            ("title", "text"),
            ("instructions", "text"),
            ("fields", "text"),
            ("checks", "text"),
            ("needs_evidence", "bigint"),
            ("needs_second", "bigint"),
            ("role", "text"),
            ("due_at", "bigint"),
            ("created_at", "bigint"),
            ("answers", "text"),
            ("same_as", "text")
        );

    /// <summary>Work by hand by its id; null when there is none.</summary>
    public static Task<TaskRow?> TaskAsync(this Session session, string id, bool forUpdate = false) =>
        session.FirstAsync<TaskRow>(
            $"SELECT {TaskColumns} {FromTasks} WHERE "
                + $"t.id=@id{(forUpdate && session.Engine.ForUpdate.Length > 0 ? " FOR UPDATE OF t" : "")}",
            new { id }
        );

    /// <summary>Where the task of a step stands, with what was said of it; null when the step has none.</summary>
    public static async Task<(TaskState State, string Remark)?> TaskOfStepAsync(this Session session, string step) =>
        await session
            .FirstAsync<(string State, string Remark)?>("SELECT state, remark FROM tasks WHERE step_id=@step", new { step })
            .ConfigureAwait(false)
            is { } found
            ? (EnumText.Parse<TaskState>(found.State), found.Remark)
            : null;

    /// <summary>The id of the open task that asks for the same work as another would, kept until the end of the transaction; null
    /// when there is none.</summary>
    public static Task<string?> SameTaskAsync(this Session session, TaskRow wanted) =>
        session.FirstAsync<string>(
            "SELECT id FROM tasks WHERE person_id=@PersonId AND target=@Target AND entitlement=@Entitlement AND kind=@Kind AND "
                + "state='open' AND same_as='' AND step_id<>@StepId ORDER BY id"
                + session.Engine.ForUpdate,
            wanted
        );

    /// <summary>Has all that asks for the same work as a task stand where it stands, and lets their steps be looked at.</summary>
    /// <returns>The ids of the requests they belong to.</returns>
    public static async Task<IReadOnlyList<string>> FollowTaskAsync(this Session session, TaskRow row, TaskState from, long now)
    {
        var same = await session
            .QueryAsync<(string Step, string Request)>(
                "UPDATE tasks SET state=@StateText, done_at=@DoneAt, done_by=@DoneBy, answers=@Answers, remark=@Remark, "
                    + "confirmed_by=@ConfirmedBy, version=version+1 WHERE same_as=@Id AND state=@before RETURNING step_id, request_id",
                new
                {
                    row.Id,
                    row.StateText,
                    row.DoneAt,
                    row.DoneBy,
                    row.Answers,
                    row.Remark,
                    row.ConfirmedBy,
                    before = EnumText.Of(from),
                }
            )
            .ConfigureAwait(false);
        foreach (var (step, _) in same)
            await session.WakeStepAsync(step, now).ConfigureAwait(false);
        return [.. same.Select(x => x.Request).Distinct()];
    }

    /// <summary>The work by hand of a request; what is asked for by another one too stands as that.</summary>
    public static Task<IReadOnlyList<TaskRow>> TasksOfAsync(this Session session, string request) =>
        session.QueryAsync<TaskRow>(
            $"SELECT {TaskColumns} {FromTasks} WHERE t.id IN (SELECT CASE WHEN same_as='' THEN id ELSE same_as END FROM tasks WHERE "
                + "request_id=@request) ORDER BY t.created_at",
            new { request }
        );

    /// <summary>Tasks of the roles, those due first; only the open ones unless <paramref name="all"/>.</summary>
    public static Task<IReadOnlyList<TaskRow>> TasksPageAsync(this Session session, IReadOnlyList<string> roles, bool all, int limit) =>
        session.QueryAsync<TaskRow>(
            $"SELECT {TaskColumns} {FromTasks} WHERE @roles LIKE '%|' || t.role || '|%' AND t.same_as='' AND "
                + "(@all=1 OR t.state='open') ORDER BY CASE WHEN t.state='open' THEN 0 ELSE 1 END, t.due_at LIMIT @limit",
            new
            {
                roles = $"|{string.Join('|', roles)}|",
                all = all ? 1 : 0,
                limit,
            }
        );

    /// <summary>Changes work by hand. False when somebody changed it in between.</summary>
    public static async Task<bool> SaveTaskAsync(this Session session, TaskRow row) =>
        await session
            .ExecuteAsync(
                "UPDATE tasks SET taken_by=@TakenBy, state=@StateText, done_at=@DoneAt, done_by=@DoneBy, answers=@Answers, "
                    + "reported_by=@ReportedBy, reported_at=@ReportedAt, confirmed_by=@ConfirmedBy, "
                    + "remark=@Remark, version=version+1 WHERE id=@Id AND version=@Version",
                row
            )
            .ConfigureAwait(false) == 1;

    /// <summary>Notes on a request whether it waits for people at a desk.</summary>
    public static Task NoteDeskAsync(this Session session, string request) =>
        session.ExecuteAsync(
            "UPDATE requests SET decider_role=COALESCE((SELECT MIN(t.role) FROM tasks t WHERE t.request_id=requests.id AND "
                + "t.state='open'),''), version=version+1 WHERE id=@request AND state IN ('fulfilling','completed')",
            new { request }
        );

    /// <summary>Ends the open work of a request that is not wanted any more.</summary>
    public static async Task DropTasksAsync(this Session session, string request, string reason, long now)
    {
        var dropped = await session
            .ExecuteAsync(
                "UPDATE tasks SET state=@after, remark=@reason, done_at=@now, version=version+1 WHERE request_id=@request AND "
                    + "state=@before",
                new
                {
                    request,
                    reason,
                    now,
                    before = EnumText.Of(TaskState.Open),
                    after = EnumText.Of(Dropped),
                }
            )
            .ConfigureAwait(false);
        if (dropped > 0)
            await session.PassTasksOnAsync(request).ConfigureAwait(false);
    }

    /// <summary>Ends the open work behind steps of a request that are left out.</summary>
    public static async Task DropTasksOfStepsAsync(
        this Session session,
        string request,
        IReadOnlyCollection<string> steps,
        string reason,
        long now
    )
    {
        await session
            .BulkAsync(
                $"UPDATE tasks SET state='{EnumText.Of(Dropped)}', remark=x.reason, done_at=x.at, "
                    + $"version=version+1 FROM {{rows}} AS x WHERE tasks.step_id=x.id AND state='{EnumText.Of(TaskState.Open)}'",
                [
                    .. steps.Select(s => new
                    {
                        Id = s,
                        Reason = reason,
                        At = now,
                    }),
                ],
                ("id", "text"),
                ("reason", "text"),
                ("at", "bigint")
            )
            .ConfigureAwait(false);
        await session.PassTasksOnAsync(request).ConfigureAwait(false);
    }

    private static readonly TaskState Dropped = TaskMachine.Next(TaskState.Open, TaskEvent.Drop);

    /// <summary>Work that a request dropped and another one still asks for stays with who does it: the first of those others asks for it
    /// from now on.</summary>
    private static async Task PassTasksOnAsync(this Session session, string request)
    {
        var of = new
        {
            request,
            open = EnumText.Of(TaskState.Open),
            dropped = EnumText.Of(Dropped),
        };
        var passed = await session
            .ExecuteAsync(
                "UPDATE tasks SET same_as='', taken_by=CASE WHEN f.reported_by='' THEN f.taken_by ELSE f.reported_by END, "
                    + "version=tasks.version+1 FROM tasks AS f WHERE f.id=tasks.same_as AND f.request_id=@request AND "
                    + "f.state=@dropped AND tasks.state=@open AND tasks.id=(SELECT MIN(n.id) FROM tasks n "
                    + "WHERE n.same_as=tasks.same_as AND n.state=@open)",
                of
            )
            .ConfigureAwait(false);
        if (passed > 0)
            await session
                .ExecuteAsync(
                    "UPDATE tasks SET same_as=(SELECT MIN(h.id) FROM tasks h WHERE h.person_id=tasks.person_id AND "
                        + "h.target=tasks.target AND h.entitlement=tasks.entitlement AND h.kind=tasks.kind AND h.same_as='' AND "
                        + "h.state=@open), version=version+1 WHERE state=@open AND same_as IN (SELECT id FROM tasks WHERE "
                        + "request_id=@request AND state=@dropped)",
                    of
                )
                .ConfigureAwait(false);
    }

    /// <summary>Lets the step behind a task run at once.</summary>
    public static async Task WakeStepAsync(this Session session, string step, long now)
    {
        await session
            .ExecuteAsync(StepTables.RetryOf + " WHERE id=@step AND state IN " + StepTables.OpenStates, new { step, now })
            .ConfigureAwait(false);
        await session
            .ExecuteAsync(
                "UPDATE chains SET due_at=@now WHERE EXISTS (SELECT 1 FROM steps s WHERE s.id=@step AND "
                    + "s.subject_id=chains.subject_id AND s.target=chains.target)",
                new { step, now }
            )
            .ConfigureAwait(false);
    }

    /// <summary>Adds a proof.</summary>
    public static Task AddEvidenceAsync(this Session session, EvidenceRow row) =>
        session.ExecuteAsync(
            "INSERT INTO evidence (id, task_id, name, media_type, size, hash, content, actor, at) VALUES (@Id, @TaskId, @Name, "
                + "@MediaType, @Size, @Hash, @Content, @Actor, @At)",
            row
        );

    /// <summary>The proofs of some work, without their octets.</summary>
    public static Task<IReadOnlyList<EvidenceRow>> EvidenceOfAsync(this Session session, string task) =>
        session.QueryAsync<EvidenceRow>(
            "SELECT id, task_id, name, media_type, size, hash, actor, at FROM evidence WHERE task_id=@task ORDER BY at",
            new { task }
        );

    /// <summary>A proof with its octets; null when there is none.</summary>
    public static Task<EvidenceRow?> EvidenceAsync(this Session session, string id) =>
        session.FirstAsync<EvidenceRow>(
            "SELECT id, task_id, name, media_type, size, hash, content, actor, at FROM evidence WHERE id=@id",
            new { id }
        );
}
