using System.Security.Cryptography;
using System.Text;

namespace Oikonom.Store.Rooms;

/// <summary>Somebody of whom values are held no more.</summary>
public sealed class ForgottenRow
{
    /// <summary>The id of the person it is about.</summary>
    public string PersonId { get; init; } = "";

    /// <summary>When, in milliseconds since 1970 (UTC).</summary>
    public long At { get; init; }

    /// <summary>The rule or the order it happened by.</summary>
    public string Rule { get; init; } = "";

    /// <summary>The user who did it, or <c>oikonom</c>.</summary>
    public string Actor { get; init; } = "";

    /// <summary>The last day on which what belongs to decisions on powerful access is kept, or "" when none is.</summary>
    public string KeptUntil { get; init; } = "";
}

/// <summary>An order to forget somebody, which waits for a second person.</summary>
public sealed class ForgetOrderRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>The id of the person it is about.</summary>
    public string PersonId { get; init; } = "";

    /// <summary>Why, as JSON or in words.</summary>
    public string Reason { get; init; } = "";

    /// <summary>The user who did it, or <c>oikonom</c>.</summary>
    public string Actor { get; init; } = "";

    /// <summary>When, in milliseconds since 1970 (UTC).</summary>
    public long At { get; init; }

    /// <summary>Where it stands.</summary>
    public string State { get; init; } = "open";
}

/// <summary>A reason to keep what is held of somebody.</summary>
public sealed class HoldRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>The id of the person it is about.</summary>
    public string PersonId { get; init; } = "";

    /// <summary>Why, as JSON or in words.</summary>
    public string Reason { get; init; } = "";

    /// <summary>The last day on which it holds, as yyyy-MM-dd.</summary>
    public string UntilDay { get; init; } = "";

    /// <summary>The user who did it, or <c>oikonom</c>.</summary>
    public string Actor { get; init; } = "";

    /// <summary>When, in milliseconds since 1970 (UTC).</summary>
    public long At { get; init; }
}

/// <summary>What is held of people, what is forgotten, and what keeps it.</summary>
public static class ForgettingTables
{
    /// <summary>What the record calls somebody of whom nothing is held any more.</summary>
    public const string Nobody = "Forgotten person";

    /// <summary>Whether and when somebody was forgotten.</summary>
    public static Task<ForgottenRow?> ForgottenAsync(this Session session, string person) =>
        session.FirstAsync<ForgottenRow>(
            "SELECT person_id, at, rule, actor, kept_until FROM forgotten WHERE person_id=@person",
            new { person }
        );

    /// <summary>Whether and when somebody was forgotten.</summary>
    public static Task<IReadOnlyList<ForgottenRow>> ForgottenAsync(this Session session, IReadOnlyCollection<string> people) =>
        session.BulkQueryAsync<ForgottenRow, object>(
            "SELECT f.person_id, f.at, f.rule, f.actor, f.kept_until FROM {rows} AS x {join} forgotten f ON f.person_id=x.id",
            [.. people.Select(id => new { Id = id })],
            ("id", "text")
        );

    /// <summary>People whose leading employment ended before a day and who are not forgotten yet, in order of that end.</summary>
    public static Task<IReadOnlyList<PersonRow>> LeftBeforeAsync(this Session session, string day, int limit) =>
        session.QueryAsync<PersonRow>(
            "SELECT id, person_key, number, display, search_key, kind, department, site, title, manager, start_day, end_day, "
                + "facts, source, others FROM people p WHERE end_day IS NOT NULL AND end_day<@day AND NOT EXISTS (SELECT 1 FROM "
                + "forgotten f WHERE f.person_id=p.id) ORDER BY end_day, id LIMIT @limit",
            new { day, limit }
        );

    /// <summary>Of those who are forgotten, whose decisions on powerful access are kept no longer.</summary>
    public static Task<IReadOnlyList<string>> KeptBeforeAsync(this Session session, string day, int limit) =>
        session.QueryAsync<string>(
            "SELECT person_id FROM forgotten WHERE kept_until<>'' AND kept_until<@day LIMIT @limit",
            new { day, limit }
        );

    /// <summary>Keeps what is held of somebody until a day.</summary>
    public static Task AddHoldAsync(this Session session, HoldRow row) =>
        session.ExecuteAsync(
            "INSERT INTO retention_holds (id, person_id, reason, until_day, actor, at) VALUES (@Id, @PersonId, @Reason, "
                + "@UntilDay, @Actor, @At)",
            row
        );

    /// <summary>Ends what keeps it; how many there were.</summary>
    public static Task<int> EndHoldsAsync(this Session session, string person, long at) =>
        session.ExecuteAsync("UPDATE retention_holds SET ended_at=@at WHERE person_id=@person AND ended_at IS NULL", new { person, at });

    /// <summary>What keeps values now.</summary>
    public static Task<IReadOnlyList<HoldRow>> HoldsAsync(this Session session, string today) =>
        session.QueryAsync<HoldRow>(
            "SELECT id, person_id, reason, until_day, actor, at FROM retention_holds WHERE ended_at IS NULL AND "
                + "until_day>=@today ORDER BY at",
            new { today }
        );

    private const string OrderColumns = "id, person_id, reason, actor, at, state";

    /// <summary>Adds an order to forget somebody.</summary>
    public static Task AddForgetOrderAsync(this Session session, ForgetOrderRow row) =>
        session.ExecuteAsync(
            $"INSERT INTO forget_orders ({OrderColumns}, decided_by) VALUES (@Id, @PersonId, @Reason, @Actor, @At, 'open', '')",
            row
        );

    /// <summary>An order by its id; null when there is none.</summary>
    public static Task<ForgetOrderRow?> ForgetOrderAsync(this Session session, string id) =>
        session.FirstAsync<ForgetOrderRow>($"SELECT {OrderColumns} FROM forget_orders WHERE id=@id" + session.Engine.ForUpdate, new { id });

    /// <summary>The orders that wait.</summary>
    public static Task<IReadOnlyList<ForgetOrderRow>> OpenForgetOrdersAsync(this Session session) =>
        session.QueryAsync<ForgetOrderRow>($"SELECT {OrderColumns} FROM forget_orders WHERE state='open' ORDER BY at");

    /// <summary>Decides an order that waits.</summary>
    public static Task DecideForgetOrderAsync(this Session session, string id, string state, string by, long at) =>
        session.ExecuteAsync(
            "UPDATE forget_orders SET state=@state, decided_by=@by, decided_at=@at WHERE id=@id AND state='open'",
            new
            {
                id,
                state,
                by,
                at,
            }
        );

    /// <summary>True while a request or a step of somebody is open.</summary>
    public static Task<bool> AnyOpenRequestAsync(this Session session, string person) =>
        session.ScalarAsync<bool>(
            "SELECT EXISTS (SELECT 1 FROM requests WHERE person_id=@person AND state NOT IN "
                + "('completed','declined','withdrawn','lapsed')) OR EXISTS (SELECT 1 FROM steps WHERE subject_id=@person AND state "
                + "IN ('pending','stopped'))",
            new { person }
        );

    /// <summary>The plans of somebody's requests, with the edition they were made under.</summary>
    public static Task<IReadOnlyList<(string Id, string? Plan, long Edition)>> PlansOfAsync(this Session session, string person) =>
        session.QueryAsync<(string, string?, long)>("SELECT id, plan, edition FROM requests WHERE person_id=@person", new { person });

    /// <summary>A name that was somebody's stays taken after they are forgotten, and nobody can read whose or which it was.</summary>
    public static string HiddenName(string target, string name) =>
        $"forgotten:{Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes($"{target}\n{name}")))}";

    private const string Others = "request_id IN (SELECT id FROM requests WHERE person_id=@person AND @kept NOT LIKE '%|' || id || '|%')";

    /// <summary>What is held of a person, but what belongs to the requests that are kept.</summary>
    private static readonly string[] OfThePerson =
    [
        "DELETE FROM ledger_values WHERE id IN (SELECT id FROM ledger WHERE person_id=@person AND (request_id IS NULL " + $"OR {Others}))",
        "DELETE FROM set_aside WHERE record_key<>'' AND EXISTS (SELECT 1 FROM hr_records h WHERE h.person_id=@person "
            + "AND h.source=set_aside.source AND h.record_key=set_aside.record_key)",
        "DELETE FROM scim_resources WHERE EXISTS (SELECT 1 FROM hr_records h WHERE h.person_id=@person AND "
            + "h.source=scim_resources.source AND (h.record_key=scim_resources.id OR h.record_key=scim_resources.unique_key "
            + "OR h.record_key=scim_resources.external_id))",
        "UPDATE held_runs SET raises='[]' WHERE state<>'held' AND EXISTS (SELECT 1 FROM people p WHERE p.id=@person "
            + "AND p.number<>'' AND held_runs.raises LIKE '%\"' || p.number || '\"%')",
        "DELETE FROM hr_versions WHERE person_id=@person",
        "UPDATE hr_records SET facts=NULL, status='forgotten' WHERE person_id=@person",
        $"UPDATE decisions SET remark='' WHERE {Others}",
        $"DELETE FROM evidence WHERE task_id IN (SELECT id FROM tasks WHERE {Others})",
        $"UPDATE tasks SET title='Work by hand', instructions='', answers='{{}}', remark='' WHERE {Others}",
        $"DELETE FROM steps WHERE {Others}",
        $"DELETE FROM notices WHERE {Others}",
        $"DELETE FROM handovers WHERE {Others}",
        "DELETE FROM links_due WHERE person_id=@person",
        "DELETE FROM write_backs WHERE person_id=@person",
        "UPDATE rollout_people SET effects='[]', department='', problem='' WHERE person_id=@person",
        "DELETE FROM pool_numbers WHERE person_id=@person",
        "DELETE FROM chains WHERE subject_id=@person",
        "DELETE FROM accounts WHERE person_id=@person",
        "DELETE FROM findings WHERE person_id=@person",
        "UPDATE grants SET reason='{\"Rule\":\"forgotten\",\"Place\":\"\",\"Condition\":\"\"}' WHERE person_id=@person "
            + "AND (request_id IS NULL OR @kept NOT LIKE '%|' || request_id || '|%')",
        "DELETE FROM extras WHERE person_id=@person AND kind IN ('field','end')",
        "UPDATE extras SET reason='{\"Rule\":\"forgotten\",\"Place\":\"\",\"Condition\":\"\"}' WHERE person_id=@person "
            + "AND @kept NOT LIKE '%|' || request_id || '|%'",
        "UPDATE requests SET cause='{\"Text\":\"What it was about is "
            + "forgotten.\",\"Source\":null,\"Line\":null,\"Differences\":[]}', plan=NULL, plan_before=NULL, wish='{}', "
            + "candidates='', chosen='{}', problem='', held='', version=version+1 WHERE person_id=@person AND @kept NOT LIKE "
            + "'%|' || id || '|%'",
        "UPDATE people SET person_key=@key, number='', display=@nobody, search_key='', kind='', department='', "
            + "site='', title='', manager='', start_day='0001-01-01', end_day='0001-01-01', others='[]', said='', "
            + "source=@source, "
            + "facts='{\"person\":\"forgotten\",\"number\":\"\",\"given\":\"Forgotten\",\"family\":\"person\",\"kind\":\"\","
            + "\"start\":\"0001-01-01\",\"end\":\"0001-01-01\",\"site\":\"\"}', "
            + "updated_at=@at, version=version+1 WHERE id=@person",
    ];

    /// <summary>What is held of the user a person was.</summary>
    private static readonly string[] OfTheUser =
    [
        // The name by which they decided stays: who answers for a decision is part of the record.
        "UPDATE users SET display=@nobody, mail='', number='', password_hash='', active=0, hearing='{}', issuer='', "
            + "subject='' WHERE name=@user",
        "DELETE FROM sessions WHERE user_name=@user",
        "DELETE FROM tokens WHERE user_name=@user",
        "DELETE FROM drafts WHERE user_name=@user",
        "DELETE FROM views WHERE user_name=@user",
        "DELETE FROM notices WHERE user_name=@user",
        "DELETE FROM user_changes WHERE user_name=@user",
        "DELETE FROM password_links WHERE user_name=@user",
        "UPDATE delegations SET remark='' WHERE from_user=@user OR to_user=@user",
    ];

    /// <summary>
    /// Forgets all that is held of a person but what belongs to the requests named. The ledger keeps its entries and
    /// loses the values beside them; every proof still verifies.
    /// </summary>
    public static async Task ForgetAsync(
        this Session session,
        string person,
        IReadOnlyCollection<string> keptRequests,
        string source,
        long at
    )
    {
        // Kept requests are few; each is told by its id, so that the statements stay the same on both engines.
        var kept = $"|{string.Join('|', keptRequests)}|";
        var given = new
        {
            person,
            kept,
            nobody = Nobody,
            key = $"forgotten:{person}",
            source,
            at,
        };
        var user = await session
            .FirstAsync<string>(
                "SELECT u.name FROM users u JOIN people p ON p.id=@person WHERE u.person_id=@person OR (u.person_id='' AND "
                    + "u.number<>'' AND u.number=p.number)",
                given
            )
            .ConfigureAwait(false);
        foreach (var name in await session.NamesOfAsync([person]).ConfigureAwait(false))
        {
            if (name.NameKey.StartsWith("forgotten:", StringComparison.Ordinal))
                continue;
            await session
                .ExecuteAsync(
                    "UPDATE names SET name_key=@hidden, wish='' WHERE target=@Target AND name_key=@NameKey AND person_id=@PersonId",
                    new
                    {
                        hidden = HiddenName(name.Target, name.NameKey),
                        name.Target,
                        name.NameKey,
                        name.PersonId,
                    }
                )
                .ConfigureAwait(false);
        }
        foreach (var statement in OfThePerson)
            await session.ExecuteAsync(statement, given).ConfigureAwait(false);
        if (user is null)
            return;
        foreach (var statement in OfTheUser)
            await session.ExecuteAsync(statement, new { user, nobody = Nobody }).ConfigureAwait(false);
    }

    /// <summary>Notes that somebody was forgotten.</summary>
    public static Task AddForgottenAsync(this Session session, ForgottenRow row) =>
        session.ExecuteAsync(
            "INSERT INTO forgotten (person_id, at, rule, actor, kept_until) VALUES (@PersonId, @At, @Rule, @Actor, @KeptUntil) "
                + "ON CONFLICT (person_id) DO UPDATE SET at=excluded.at, rule=excluded.rule, actor=excluded.actor, "
                + "kept_until=excluded.kept_until",
            row
        );

    private const string Own = "request_id IN (SELECT id FROM requests WHERE person_id=@person)";

    private static readonly (string Name, string Sql)[] Tables =
    [
        ("person", "SELECT * FROM people WHERE id=@person"),
        ("records", "SELECT source, record_key, facts, status FROM hr_records WHERE person_id=@person"),
        ("earlierRecords", "SELECT source, record_key, at, facts FROM hr_versions WHERE person_id=@person ORDER BY version"),
        ("accounts", "SELECT * FROM accounts WHERE person_id=@person"),
        ("grants", "SELECT target, entitlement, from_at, until_at, reason FROM grants WHERE person_id=@person ORDER BY from_at"),
        ("names", "SELECT target, name_key, at FROM names WHERE person_id=@person"),
        ("numbers", "SELECT pool, number, at FROM pool_numbers WHERE person_id=@person"),
        ("asked", "SELECT kind, subject, employment, value, from_at, until_at, reason, ended_at FROM extras WHERE person_id=@person"),
        (
            "requests",
            "SELECT number, kind, state, requester, cause, wish, plan, created_at, completed_at FROM requests WHERE "
                + "person_id=@person ORDER BY number"
        ),
        ("decisions", $"SELECT stage_title, actor, verdict, remark, at FROM decisions WHERE {Own} ORDER BY id"),
        ("steps", "SELECT target, change, state, due_at, done_at, problem FROM steps WHERE subject_id=@person ORDER BY due_at, ordinal"),
        ("tasks", "SELECT title, answers, remark, state, done_by, done_at FROM tasks WHERE person_id=@person"),
        (
            "evidence",
            "SELECT e.name, e.media_type, e.size, e.hash, e.at FROM evidence e JOIN tasks t ON t.id=e.task_id WHERE "
                + "t.person_id=@person"
        ),
        ("mails", $"SELECT mail, subject, body, created_at, sent_at FROM notices WHERE {Own} AND mail<>'' ORDER BY id"),
        ("writtenBack", "SELECT source, record_key, fields, done_at FROM write_backs WHERE person_id=@person"),
        (
            "record",
            "SELECT e.at, e.actor, e.kind, e.body, v.body AS personal FROM ledger e LEFT JOIN ledger_values v ON "
                + "v.id=e.id WHERE e.person_id=@person ORDER BY e.entry"
        ),
        (
            "user",
            "SELECT u.name, u.display, u.mail, u.roles, u.number, u.active, u.created_at FROM users u WHERE "
                + "u.person_id=@person OR (u.number<>'' AND u.number=(SELECT number FROM people WHERE id=@person))"
        ),
        (
            "sessions",
            "SELECT s.created_at, s.seen_at, s.address, s.agent, s.way FROM sessions s JOIN users u ON "
                + "u.name=s.user_name WHERE u.person_id=@person"
        ),
    ];

    /// <summary>All that is held of a person, table by table, as it is stored.</summary>
    public static async Task<IReadOnlyDictionary<string, IReadOnlyList<IDictionary<string, object?>>>> AllOfAsync(
        this Session session,
        string person
    )
    {
        var found = new SortedDictionary<string, IReadOnlyList<IDictionary<string, object?>>>(StringComparer.Ordinal);
        foreach (var (name, sql) in Tables)
            found[name] =
            [
                .. (await session.QueryAsync<dynamic>(sql, new { person }).ConfigureAwait(false)).Select(row =>
                    (IDictionary<string, object?>)row
                ),
            ];
        return found;
    }
}
