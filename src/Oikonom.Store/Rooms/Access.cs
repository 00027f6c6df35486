namespace Oikonom.Store.Rooms;

/// <summary>Somebody who may sign in.</summary>
public sealed class UserRow
{
    /// <summary>The name it is known by.</summary>
    public string Name { get; init; } = "";

    /// <summary>The name that people read.</summary>
    public string Display { get; init; } = "";

    /// <summary>The mail address, or "".</summary>
    public string Mail { get; init; } = "";

    /// <summary>The password, hashed with a salt; "" when none is set.</summary>
    public string PasswordHash { get; init; } = "";

    /// <summary>Role names, separated by spaces.</summary>
    public string Roles { get; init; } = "";

    /// <summary>The number people call it by.</summary>
    public string Number { get; init; } = "";

    /// <summary>1 while it counts, else 0.</summary>
    public long Active { get; init; } = 1;

    /// <summary>Changes with the password, and ends what was signed in before.</summary>
    public string Stamp { get; init; } = "";

    /// <summary>When it was made, in milliseconds since 1970 (UTC).</summary>
    public long CreatedAt { get; init; }

    /// <summary>Role → the parts of the organisation it is limited to, as JSON; {} means no limit.</summary>
    public string Reach { get; init; } = "{}";

    /// <summary>How they want to hear, as JSON.</summary>
    public string Hearing { get; init; } = "{}";

    /// <summary>The person behind the user, once HR knows them; else "".</summary>
    public string PersonId { get; init; } = "";

    /// <summary>Who vouches for the user by OpenID, and the user's name there for good; "" for an own account.</summary>
    public string Issuer { get; init; } = "";

    /// <summary>What or whom it is about.</summary>
    public string Subject { get; init; } = "";
}

/// <summary>A token of the client or of a program.</summary>
public sealed class TokenRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>The user it belongs to.</summary>
    public string UserName { get; init; } = "";

    /// <summary>SHA-256 of the value, in lower-case hexadecimal; the value itself is not kept.</summary>
    public string Hash { get; init; } = "";

    /// <summary>What its owner calls it.</summary>
    public string Label { get; init; } = "";

    /// <summary>When it was made, in milliseconds since 1970 (UTC).</summary>
    public long CreatedAt { get; init; }

    /// <summary>When it is over, in milliseconds since 1970 (UTC).</summary>
    public long ExpiresAt { get; init; }

    /// <summary>When it ended, in milliseconds since 1970 (UTC); null while it holds.</summary>
    public long? EndedAt { get; init; }

    /// <summary>The roles it is limited to, separated by spaces; "" means those of its user.</summary>
    public string Roles { get; init; } = "";

    /// <summary>When it was used last, in milliseconds since 1970 (UTC); null when it never was.</summary>
    public long? UsedAt { get; init; }

    /// <summary>The token it was made with, or "".</summary>
    public string Parent { get; init; } = "";
}

/// <summary>An account whose first password is to be handed over.</summary>
public sealed class LinkDueRow
{
    /// <summary>Whose account it is.</summary>
    public string PersonId { get; init; } = "";

    /// <summary>The target it is in.</summary>
    public string Target { get; init; } = "";

    /// <summary>Which of the person's accounts it is; "" is the ordinary one.</summary>
    public string Slot { get; init; } = "";

    /// <summary>The request that made it.</summary>
    public string RequestId { get; init; } = "";

    /// <summary>When it is looked at next, in milliseconds.</summary>
    public long DueAt { get; init; }
}

/// <summary>A one-time link to a first password.</summary>
public sealed class HandoverRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>SHA-256 of the token, in lower-case hexadecimal.</summary>
    public string TokenHash { get; init; } = "";

    /// <summary>The id of the person it is about.</summary>
    public string PersonId { get; init; } = "";

    /// <summary>The name of the target in the rulebook.</summary>
    public string Target { get; init; } = "";

    /// <summary>Which of the person's accounts in the target; "" is the ordinary one.</summary>
    public string Slot { get; init; } = "";

    /// <summary>The user who may open it.</summary>
    public string Receiver { get; init; } = "";

    /// <summary>The id of the request it belongs to.</summary>
    public string RequestId { get; init; } = "";

    /// <summary>When it is over, in milliseconds since 1970 (UTC).</summary>
    public long ExpiresAt { get; init; }

    /// <summary>When it was used last, in milliseconds since 1970 (UTC); null when it never was.</summary>
    public long? UsedAt { get; init; }

    /// <summary>When it ended, in milliseconds since 1970 (UTC); null while it holds.</summary>
    public long? EndedAt { get; init; }
}

/// <summary>Somebody who is signed in with a browser.</summary>
public sealed class SessionRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>The user it belongs to.</summary>
    public string UserName { get; init; } = "";

    /// <summary>When it was made, in milliseconds since 1970 (UTC).</summary>
    public long CreatedAt { get; init; }

    /// <summary>When it was seen last, in milliseconds since 1970 (UTC).</summary>
    public long SeenAt { get; init; }

    /// <summary>Where it goes to, or came from.</summary>
    public string Address { get; init; } = "";

    /// <summary>The browser, as it calls itself.</summary>
    public string Agent { get; init; } = "";

    /// <summary><c>password</c> or <c>openid</c>.</summary>
    public string Way { get; init; } = "";

    /// <summary>When it ended, in milliseconds since 1970 (UTC); null while it holds.</summary>
    public long? EndedAt { get; init; }
}

/// <summary>An address that hears of changes.</summary>
public sealed class HookRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>Where it goes to, or came from.</summary>
    public string Address { get; init; } = "";

    /// <summary>Which kinds it is for, separated by spaces; "" means all.</summary>
    public string Kinds { get; init; } = "";

    /// <summary>Sealed with the key ring.</summary>
    public string Secret { get; init; } = "";

    /// <summary>The user who did it, or <c>oikonom</c>.</summary>
    public string Actor { get; init; } = "";

    /// <summary>When it was made, in milliseconds since 1970 (UTC).</summary>
    public long CreatedAt { get; init; }

    /// <summary>1 while it counts, else 0.</summary>
    public long Active { get; init; } = 1;

    /// <summary>The position of the ledger from which on it is told.</summary>
    public long NextPosition { get; set; }

    /// <summary>When it is due, in milliseconds since 1970 (UTC).</summary>
    public long DueAt { get; set; }

    /// <summary>How often it was tried without success.</summary>
    public long Attempts { get; set; }

    /// <summary>What is wrong with it, in words; "" when nothing is.</summary>
    public string Problem { get; set; } = "";

    /// <summary>When it was sent, in milliseconds since 1970 (UTC); null while it was not.</summary>
    public long? SentAt { get; set; }
}

/// <summary>Who may sign in, their tokens, sealed secrets, and one-time links.</summary>
public static class AccessTables
{
    private const string Columns =
        "name, display, mail, password_hash, roles, number, active, stamp, created_at, reach, hearing, person_id, issuer, subject";

    /// <summary>A user by name; null when there is none.</summary>
    public static Task<UserRow?> UserAsync(this Session session, string name) =>
        session.FirstAsync<UserRow>($"SELECT {Columns} FROM users WHERE name=@name", new { name });

    /// <summary>A user by who vouches for them and the name they have there (OpenID Connect Core section 2).</summary>
    public static Task<UserRow?> UserBySubjectAsync(this Session session, string issuer, string subject) =>
        session.FirstAsync<UserRow>($"SELECT {Columns} FROM users WHERE issuer=@issuer AND subject=@subject", new { issuer, subject });

    /// <summary>All users, by name.</summary>
    public static Task<IReadOnlyList<UserRow>> UsersAsync(this Session session) =>
        session.QueryAsync<UserRow>($"SELECT {Columns} FROM users ORDER BY name");

    /// <summary>Adds a user, or changes one.</summary>
    public static Task SaveUserAsync(this Session session, UserRow user) =>
        session.ExecuteAsync(
            $"INSERT INTO users ({Columns}, failed, locked_until) VALUES (@Name, @Display, @Mail, @PasswordHash, @Roles, "
                + "@Number, @Active, @Stamp, @CreatedAt, @Reach, @Hearing, @PersonId, @Issuer, @Subject, 0, 0) "
                + "ON CONFLICT (name) DO UPDATE SET display=excluded.display, mail=excluded.mail, "
                + "password_hash=excluded.password_hash, roles=excluded.roles, number=excluded.number, active=excluded.active, "
                + "reach=excluded.reach, stamp=excluded.stamp, person_id=excluded.person_id, issuer=excluded.issuer, "
                + "subject=excluded.subject",
            user
        );

    /// <summary>Links users to the people that HR came to know under their number.</summary>
    public static Task<int> BindUsersAsync(this Session session) =>
        session.ExecuteAsync(
            "UPDATE users SET person_id=(SELECT MIN(p.id) FROM people p WHERE p.number=users.number) WHERE person_id='' AND "
                + "number<>'' AND EXISTS (SELECT 1 FROM people p WHERE p.number=users.number)"
        );

    /// <summary>Keeps how somebody wants to hear, as JSON.</summary>
    public static Task SetHearingAsync(this Session session, string name, string hearing) =>
        session.ExecuteAsync("UPDATE users SET hearing=@hearing WHERE name=@name", new { name, hearing });

    /// <summary>Active users behind whom a person stands whose record names an end, with it.</summary>
    public static Task<IReadOnlyList<(string Name, string Site, string End)>> LinkedUsersAsync(this Session session) =>
        session.QueryAsync<(string, string, string)>(
            "SELECT u.name, p.site, p.end_day FROM users u JOIN people p ON (p.id=u.person_id OR (u.person_id='' AND "
                + "p.number=u.number)) WHERE u.active=1 AND u.number<>'' AND p.end_day IS NOT NULL AND p.others='[]'"
        );

    /// <summary>Ends the sign-in of a user.</summary>
    public static Task EndUserAsync(this Session session, string name, string stamp) =>
        session.ExecuteAsync("UPDATE users SET active=0, stamp=@stamp WHERE name=@name", new { name, stamp });

    /// <summary>Adds a token.</summary>
    public static Task AddTokenAsync(this Session session, TokenRow token) =>
        session.ExecuteAsync(
            "INSERT INTO tokens (id, user_name, hash, label, created_at, expires_at, roles, parent) VALUES (@Id, @UserName, "
                + "@Hash, @Label, @CreatedAt, @ExpiresAt, @Roles, @Parent)",
            token
        );

    /// <summary>A token by the hash of its value; null when there is none.</summary>
    public static Task<TokenRow?> TokenAsync(this Session session, string hash) =>
        session.FirstAsync<TokenRow>(
            "SELECT id, user_name, hash, label, created_at, expires_at, ended_at, roles, used_at, parent FROM tokens WHERE hash=@hash",
            new { hash }
        );

    /// <summary>A token by its id; null when there is none.</summary>
    public static Task<TokenRow?> TokenByIdAsync(this Session session, string id) =>
        session.FirstAsync<TokenRow>(
            "SELECT id, user_name, hash, label, created_at, expires_at, ended_at, roles, used_at, parent FROM tokens WHERE id=@id",
            new { id }
        );

    /// <summary>The tokens of a user that still count.</summary>
    public static Task<IReadOnlyList<TokenRow>> TokensOfAsync(this Session session, string user, long now) =>
        session.QueryAsync<TokenRow>(
            "SELECT id, user_name, '' AS hash, label, created_at, expires_at, ended_at, roles, used_at FROM tokens WHERE "
                + "user_name=@user AND ended_at IS NULL AND expires_at>@now ORDER BY created_at DESC LIMIT 200",
            new { user, now }
        );

    /// <summary>Ends a token of a user. False when it is not theirs, or over.</summary>
    public static async Task<bool> EndTokenOfAsync(this Session session, string id, string user, long at) =>
        await session
            .ExecuteAsync(
                "UPDATE tokens SET ended_at=@at WHERE id=@id AND user_name=@user AND ended_at IS NULL",
                new
                {
                    id,
                    user,
                    at,
                }
            )
            .ConfigureAwait(false) == 1;

    /// <summary>Notes that somebody signed in with a browser.</summary>
    public static Task AddSignInAsync(this Session session, SessionRow row) =>
        session.ExecuteAsync(
            "INSERT INTO sessions (id, user_name, created_at, seen_at, address, agent, way) VALUES (@Id, @UserName, "
                + "@CreatedAt, @SeenAt, @Address, @Agent, @Way)",
            row
        );

    /// <summary>A sign-in by its id; null when there is none.</summary>
    public static Task<SessionRow?> SignInAsync(this Session session, string id) =>
        session.FirstAsync<SessionRow>(
            "SELECT id, user_name, created_at, seen_at, address, agent, way, ended_at FROM sessions WHERE id=@id",
            new { id }
        );

    /// <summary>Notes that somebody who is signed in did something.</summary>
    public static Task SeenAsync(this Session session, string id, long at) =>
        session.ExecuteAsync("UPDATE sessions SET seen_at=@at WHERE id=@id", new { id, at });

    /// <summary>Who is signed in: one user, or all when the name is "".</summary>
    public static Task<IReadOnlyList<SessionRow>> SignInsAsync(this Session session, string user, long since) =>
        session.QueryAsync<SessionRow>(
            "SELECT id, user_name, created_at, seen_at, address, agent, way, ended_at FROM sessions WHERE (@user='' OR "
                + "user_name=@user) AND ended_at IS NULL AND seen_at>@since ORDER BY seen_at DESC LIMIT 500",
            new { user, since }
        );

    /// <summary>Ends a sign-in of a user. False when there is none.</summary>
    public static async Task<bool> EndSignInAsync(this Session session, string id, string user, long at) =>
        await session
            .ExecuteAsync(
                "UPDATE sessions SET ended_at=@at WHERE id=@id AND (@user='' OR user_name=@user) AND ended_at IS NULL",
                new
                {
                    id,
                    user,
                    at,
                }
            )
            .ConfigureAwait(false) == 1;

    private const string HookColumns =
        "id, address, kinds, secret, actor, created_at, active, next_position, due_at, attempts, problem, sent_at";

    /// <summary>Adds an address that hears.</summary>
    public static Task AddHookAsync(this Session session, HookRow row) =>
        session.ExecuteAsync(
            $"INSERT INTO hooks ({HookColumns}, lease_until) VALUES (@Id, @Address, @Kinds, @Secret, @Actor, @CreatedAt, 1, "
                + "@NextPosition, @DueAt, 0, '', NULL, 0)",
            row
        );

    /// <summary>All addresses that hear or heard.</summary>
    public static Task<IReadOnlyList<HookRow>> HooksAsync(this Session session) =>
        session.QueryAsync<HookRow>($"SELECT {HookColumns} FROM hooks WHERE active=1 ORDER BY created_at");

    /// <summary>Claims addresses that are due, for a lease.</summary>
    public static Task<IReadOnlyList<HookRow>> ClaimHooksAsync(this Session session, long now, long until) =>
        session.QueryAsync<HookRow>(
            "UPDATE hooks SET lease_until=@until WHERE id IN (SELECT id FROM hooks WHERE active=1 AND due_at<=@now AND "
                + "lease_until<=@now AND next_position <= (SELECT COALESCE(MAX(position),-1) FROM ledger_leaves)"
                + session.Engine.SkipLocked
                + $") RETURNING {HookColumns}",
            new { now, until }
        );

    /// <summary>Notes how far an address has heard.</summary>
    public static Task SaveHookAsync(this Session session, HookRow row) =>
        session.ExecuteAsync(
            "UPDATE hooks SET next_position=@NextPosition, due_at=@DueAt, attempts=@Attempts, problem=@Problem, "
                + "sent_at=@SentAt, lease_until=0 WHERE id=@Id",
            row
        );

    /// <summary>Tells an address nothing more. False when there is none.</summary>
    public static async Task<bool> EndHookAsync(this Session session, string id) =>
        await session.ExecuteAsync("UPDATE hooks SET active=0 WHERE id=@id AND active=1", new { id }).ConfigureAwait(false) == 1;

    /// <summary>Lets an address hear all from a position on again. False when there is none.</summary>
    public static async Task<bool> ReplayHookAsync(this Session session, string id, long position, long now) =>
        await session
            .ExecuteAsync(
                "UPDATE hooks SET next_position=@position, due_at=@now, attempts=0, problem='' WHERE id=@id AND active=1",
                new
                {
                    id,
                    position,
                    now,
                }
            )
            .ConfigureAwait(false) == 1;

    /// <summary>How many entries are sealed.</summary>
    public static Task<long> SealedAsync(this Session session) =>
        session.ScalarAsync<long>("SELECT COALESCE(MAX(position),-1)+1 FROM ledger_leaves");

    /// <summary>Sealed entries from a position on, in their order.</summary>
    public static Task<IReadOnlyList<LedgerRow>> SealedFromAsync(this Session session, long position, int limit) =>
        session.QueryAsync<LedgerRow>(
            "SELECT e.entry, e.id, e.at, e.actor, e.kind, e.person_id, e.request_id, e.body, l.position, v.body AS held FROM "
                + "ledger_leaves l JOIN ledger e ON e.entry=l.entry LEFT JOIN ledger_values v ON v.id=e.id WHERE "
                + "l.position>=@position ORDER BY l.position LIMIT @limit",
            new { position, limit }
        );

    /// <summary>Ends a token.</summary>
    public static Task EndTokenAsync(this Session session, string id, long at) =>
        session.ExecuteAsync("UPDATE tokens SET ended_at=@at WHERE id=@id AND ended_at IS NULL", new { id, at });

    /// <summary>Adds one-time links.</summary>
    public static Task AddHandoversAsync(this Session session, IReadOnlyCollection<HandoverRow> rows) =>
        session.BulkAsync(
            "INSERT INTO handovers (id, token_hash, person_id, target, slot, receiver, request_id, expires_at) SELECT id, "
                + "token_hash, person_id, target, slot, receiver, request_id, expires_at FROM {rows} AS x",
            rows,
            ("id", "text"),
            ("token_hash", "text"),
            ("person_id", "text"),
            ("target", "text"),
            ("slot", "text"),
            ("receiver", "text"),
            ("request_id", "text"),
            ("expires_at", "bigint")
        );

    /// <summary>A one-time link by the hash of its token; null when there is none.</summary>
    public static Task<HandoverRow?> HandoverAsync(this Session session, string tokenHash) =>
        session.FirstAsync<HandoverRow>(
            "SELECT id, token_hash, person_id, target, slot, receiver, request_id, expires_at, used_at, ended_at FROM handovers "
                + "WHERE token_hash=@tokenHash",
            new { tokenHash }
        );

    /// <summary>Holds a link while it is being opened. False when somebody opens it already.</summary>
    public static async Task<bool> BeginHandoverAsync(this Session session, string id, long now, long until) =>
        await session
            .ExecuteAsync(
                "UPDATE handovers SET opening_until=@until WHERE id=@id AND used_at IS NULL AND ended_at IS NULL AND opening_until<=@now",
                new
                {
                    id,
                    now,
                    until,
                }
            )
            .ConfigureAwait(false) == 1;

    /// <summary>Notes that the first passwords of accounts are to be handed over; of what is noted already, when it is due.</summary>
    public static Task AddLinksDueAsync(this Session session, IReadOnlyCollection<LinkDueRow> rows) =>
        session.BulkAsync(
            "INSERT INTO links_due (person_id, target, slot, request_id, due_at) SELECT person_id, target, slot, request_id, due_at FROM "
                + "{rows} AS x WHERE true ON CONFLICT (person_id, target, slot) DO UPDATE SET due_at=excluded.due_at",
            rows,
            ("person_id", "text"),
            ("target", "text"),
            ("slot", "text"),
            ("request_id", "text"),
            ("due_at", "bigint")
        );

    /// <summary>Accounts whose link is due, the longest waiting first.</summary>
    public static Task<IReadOnlyList<LinkDueRow>> LinksDueAsync(this Session session, long now, int limit) =>
        session.QueryAsync<LinkDueRow>(
            "SELECT person_id, target, slot, request_id, due_at FROM links_due WHERE due_at<=@now ORDER BY due_at LIMIT @limit",
            new { now, limit }
        );

    /// <summary>Puts off when a link is due. False when it is not as it was read.</summary>
    public static async Task<bool> PutLinkOffAsync(this Session session, LinkDueRow row, long until) =>
        await session
            .ExecuteAsync(
                "UPDATE links_due SET due_at=@until WHERE person_id=@PersonId AND target=@Target AND slot=@Slot AND due_at=@DueAt",
                new
                {
                    row.PersonId,
                    row.Target,
                    row.Slot,
                    row.DueAt,
                    until,
                }
            )
            .ConfigureAwait(false) == 1;

    /// <summary>Takes a link that is due, to send it. False when somebody else took it.</summary>
    public static async Task<bool> TakeLinkAsync(this Session session, LinkDueRow row) =>
        await session
            .ExecuteAsync("DELETE FROM links_due WHERE person_id=@PersonId AND target=@Target AND slot=@Slot AND due_at=@DueAt", row)
            .ConfigureAwait(false) == 1;

    /// <summary>Of accounts that wake, those whose first password was made for a link and never handed over, and that have no link
    /// that still holds.</summary>
    public static Task<IReadOnlyList<LinkDueRow>> NeverHandedOverAsync(this Session session, IReadOnlyCollection<LinkDueRow> accounts) =>
        session.BulkQueryAsync<LinkDueRow, LinkDueRow>(
            "SELECT x.person_id, x.target, x.slot, MAX(h.request_id) AS request_id, x.due_at FROM {rows} AS x {join} handovers h ON "
                + "h.person_id=x.person_id AND h.target=x.target AND h.slot=x.slot GROUP BY x.person_id, x.target, x.slot, x.due_at "
                + "HAVING COUNT(h.used_at)=0 AND MAX(CASE WHEN h.ended_at IS NULL THEN h.expires_at ELSE 0 END)<=x.due_at",
            accounts,
            ("person_id", "text"),
            ("target", "text"),
            ("slot", "text"),
            ("due_at", "bigint")
        );

    /// <summary>Lets a link be opened again: nothing was handed over.</summary>
    public static Task LeaveHandoverAsync(this Session session, string id) =>
        session.ExecuteAsync("UPDATE handovers SET opening_until=0 WHERE id=@id", new { id });

    /// <summary>Ends the open links of a request.</summary>
    public static Task EndHandoversAsync(this Session session, string request, long at) =>
        session.ExecuteAsync(
            "UPDATE handovers SET ended_at=@at WHERE request_id=@request AND used_at IS NULL AND ended_at IS NULL",
            new { request, at }
        );

    /// <summary>The changes by which a request set a first password, as JSON.</summary>
    public static Task<IReadOnlyList<string>> PasswordStepsAsync(this Session session, string request) =>
        session.QueryAsync<string>(
            "SELECT change FROM steps WHERE request_id=@request AND state='done' AND change LIKE '%\"kind\":\"set-password\"%'",
            new { request }
        );

    /// <summary>Uses a link up. False when it was used before.</summary>
    public static async Task<bool> UseHandoverAsync(this Session session, string id, long at) =>
        await session
            .ExecuteAsync("UPDATE handovers SET used_at=@at WHERE id=@id AND used_at IS NULL", new { id, at })
            .ConfigureAwait(false) == 1;
}
