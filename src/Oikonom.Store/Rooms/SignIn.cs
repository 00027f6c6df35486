namespace Oikonom.Store.Rooms;

/// <summary>Sign-ins that failed.</summary>
public sealed class TryRow
{
    /// <summary>Whose tries are counted: a name or an address.</summary>
    public string TryKey { get; init; } = "";

    /// <summary>How many failed.</summary>
    public long Tries { get; init; }

    /// <summary>When it happened last, in milliseconds since 1970 (UTC).</summary>
    public long LastAt { get; init; }

    /// <summary>Until when nobody is let in, in milliseconds since 1970 (UTC).</summary>
    public long BlockedUntil { get; init; }
}

/// <summary>A link by which somebody chooses their password.</summary>
public sealed class PasswordLinkRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>The user it belongs to.</summary>
    public string UserName { get; init; } = "";

    /// <summary>SHA-256 of the token, in lower-case hexadecimal.</summary>
    public string TokenHash { get; init; } = "";

    /// <summary>When it was made, in milliseconds since 1970 (UTC).</summary>
    public long CreatedAt { get; init; }

    /// <summary>When it is over, in milliseconds since 1970 (UTC).</summary>
    public long ExpiresAt { get; init; }

    /// <summary>When it was used last, in milliseconds since 1970 (UTC); null when it never was.</summary>
    public long? UsedAt { get; init; }
}

/// <summary>A change of a user that waits for a second engineer.</summary>
public sealed class UserChangeRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>The user it belongs to.</summary>
    public string UserName { get; init; } = "";

    /// <summary>What it holds, as JSON or as text.</summary>
    public string Body { get; init; } = "{}";

    /// <summary>The user who did it, or <c>oikonom</c>.</summary>
    public string Actor { get; init; } = "";

    /// <summary>When, in milliseconds since 1970 (UTC).</summary>
    public long At { get; init; }

    /// <summary>Where it stands.</summary>
    public string State { get; init; } = "open";
}

/// <summary>A secret of a target or a source, encrypted.</summary>
public sealed class SecretRow
{
    /// <summary>The name it is known by.</summary>
    public string Name { get; init; } = "";

    /// <summary>What stands in the mail alone, encrypted with the key ring; or "".</summary>
    public string Sealed { get; init; } = "";

    /// <summary>The user who did it, or <c>oikonom</c>.</summary>
    public string Actor { get; init; } = "";

    /// <summary>When it changed last, in milliseconds since 1970 (UTC).</summary>
    public long UpdatedAt { get; init; }

    /// <summary>Where it may be sent, as JSON; "" while it was never used.</summary>
    public string Bound { get; init; } = "";

    /// <summary>Until when it can be used, in milliseconds since 1970 (UTC); null where no end is known.</summary>
    public long? ValidUntil { get; init; }
}

/// <summary>Tries to sign in, links for passwords, changes of users that wait, and what ends when a password changes.</summary>
public static class SignInTables
{
    /// <summary>What is counted under a key, held until the end of the decision: of many at once each sees what the one before
    /// counted.</summary>
    public static async Task<TryRow> TryAsync(this Session session, string key)
    {
        await session
            .ExecuteAsync(
                "INSERT INTO sign_in_tries (try_key, tries, last_at, blocked_until) VALUES (@key, 0, 0, 0) ON CONFLICT "
                    + "(try_key) DO NOTHING",
                new { key }
            )
            .ConfigureAwait(false);
        return await session
                .FirstAsync<TryRow>(
                    "SELECT try_key, tries, last_at, blocked_until FROM sign_in_tries WHERE try_key=@key" + session.Engine.ForUpdate,
                    new { key }
                )
                .ConfigureAwait(false)
            ?? new() { TryKey = key };
    }

    /// <summary>Counts sign-ins that failed.</summary>
    public static Task SaveTryAsync(this Session session, TryRow row) =>
        session.ExecuteAsync(
            "UPDATE sign_in_tries SET tries=@Tries, last_at=@LastAt, blocked_until=@BlockedUntil WHERE try_key=@TryKey",
            row
        );

    /// <summary>Forgets failed sign-ins.</summary>
    public static Task DropTriesAsync(this Session session, IReadOnlyList<string> keys) =>
        session.BulkAsync(
            "DELETE FROM sign_in_tries WHERE try_key IN (SELECT try_key FROM {rows} AS x)",
            [.. keys.Select(k => new { TryKey = k })],
            ("try_key", "text")
        );

    /// <summary>Forgets the failed sign-ins of a name.</summary>
    public static Task DropTriesOfAsync(this Session session, string name) =>
        session.ExecuteAsync(
            "DELETE FROM sign_in_tries WHERE try_key=@name OR try_key LIKE @pairs ESCAPE '!'",
            new { name = $"name:{name}", pairs = $"pair:{Like.Containing(name)[1..^1]}|%" }
        );

    /// <summary>Takes one failed sign-in back.</summary>
    public static Task GiveTryBackAsync(this Session session, string key) =>
        session.ExecuteAsync("UPDATE sign_in_tries SET tries=tries-1 WHERE try_key=@key AND tries>0", new { key });

    /// <summary>Drops what failed before an instant.</summary>
    public static Task PruneTriesAsync(this Session session, long before) =>
        session.ExecuteAsync("DELETE FROM sign_in_tries WHERE last_at<@before", new { before });

    /// <summary>True when the user signed in with a browser from the address since then.</summary>
    public static Task<bool> SignedInFromAsync(this Session session, string user, string address, long since) =>
        session.ScalarAsync<bool>(
            "SELECT EXISTS (SELECT 1 FROM sessions WHERE user_name=@user AND address=@address AND created_at>@since)",
            new
            {
                user,
                address,
                since,
            }
        );

    /// <summary>True when the ledger was told within the last minute that tries for a name are slowed.</summary>
    public static async Task<bool> WasToldAsync(this Session session, string name, long now)
    {
        var until = (await session.TryAsync($"told:{name}").ConfigureAwait(false)).BlockedUntil;
        if (until > now)
            return true;
        await session
            .SaveTryAsync(
                new()
                {
                    TryKey = $"told:{name}",
                    Tries = 1,
                    LastAt = now,
                    BlockedUntil = now + 60_000,
                }
            )
            .ConfigureAwait(false);
        return false;
    }

    /// <summary>Adds a link to choose a password by.</summary>
    public static Task AddPasswordLinkAsync(this Session session, PasswordLinkRow row) =>
        session.ExecuteAsync(
            "INSERT INTO password_links (id, user_name, token_hash, created_at, expires_at) VALUES (@Id, @UserName, "
                + "@TokenHash, @CreatedAt, @ExpiresAt)",
            row
        );

    /// <summary>True when a user was ever sent a link.</summary>
    public static Task<bool> HasLinkAsync(this Session session, string user) =>
        session.ScalarAsync<bool>("SELECT EXISTS (SELECT 1 FROM password_links WHERE user_name=@user)", new { user });

    /// <summary>A link by the hash of its token; null when there is none.</summary>
    public static Task<PasswordLinkRow?> PasswordLinkAsync(this Session session, string hash) =>
        session.FirstAsync<PasswordLinkRow>(
            "SELECT id, user_name, token_hash, created_at, expires_at, used_at FROM password_links WHERE token_hash=@hash",
            new { hash }
        );

    /// <summary>When the last link of a user that still holds was made; 0 when there is none.</summary>
    public static Task<long> LastOpenPasswordLinkAsync(this Session session, string user) =>
        session.ScalarAsync<long>(
            "SELECT COALESCE(MAX(created_at),0) FROM password_links WHERE user_name=@user AND used_at IS NULL",
            new { user }
        );

    /// <summary>Uses a link up. False when it was used before.</summary>
    public static async Task<bool> UsePasswordLinkAsync(this Session session, string id, long at) =>
        await session
            .ExecuteAsync("UPDATE password_links SET used_at=@at WHERE id=@id AND used_at IS NULL", new { id, at })
            .ConfigureAwait(false) == 1;

    /// <summary>Ends the links of a user.</summary>
    public static Task EndPasswordLinksAsync(this Session session, string user, long at) =>
        session.ExecuteAsync("UPDATE password_links SET used_at=@at WHERE user_name=@user AND used_at IS NULL", new { user, at });

    /// <summary>Sets the hash of a password; who was signed in with the one before is not any more.</summary>
    public static Task SetPasswordAsync(this Session session, string user, string hash, string stamp) =>
        session.ExecuteAsync(
            "UPDATE users SET password_hash=@hash, stamp=@stamp WHERE name=@user",
            new
            {
                user,
                hash,
                stamp,
            }
        );

    /// <summary>Ends all sessions and tokens of a user but the ones named.</summary>
    public static async Task EndAllOfAsync(this Session session, string user, string keptToken, string keptSession, long at)
    {
        await session
            .ExecuteAsync(
                "UPDATE tokens SET ended_at=@at WHERE user_name=@user AND id<>@keptToken AND ended_at IS NULL",
                new
                {
                    user,
                    keptToken,
                    at,
                }
            )
            .ConfigureAwait(false);
        await session
            .ExecuteAsync(
                "UPDATE sessions SET ended_at=@at WHERE user_name=@user AND id<>@keptSession AND ended_at IS NULL",
                new
                {
                    user,
                    keptSession,
                    at,
                }
            )
            .ConfigureAwait(false);
    }

    private const string ChangeColumns = "id, user_name, body, actor, at, state";

    /// <summary>Adds a change that waits for a second engineer.</summary>
    public static Task AddUserChangeAsync(this Session session, UserChangeRow row) =>
        session.ExecuteAsync(
            $"INSERT INTO user_changes ({ChangeColumns}, decided_by, remark) VALUES (@Id, @UserName, @Body, @Actor, @At, 'open', '', '')",
            row
        );

    /// <summary>A change by its id; null when there is none.</summary>
    public static Task<UserChangeRow?> UserChangeAsync(this Session session, string id) =>
        session.FirstAsync<UserChangeRow>($"SELECT {ChangeColumns} FROM user_changes WHERE id=@id" + session.Engine.ForUpdate, new { id });

    /// <summary>The changes that wait.</summary>
    public static Task<IReadOnlyList<UserChangeRow>> OpenUserChangesAsync(this Session session) =>
        session.QueryAsync<UserChangeRow>($"SELECT {ChangeColumns} FROM user_changes WHERE state='open' ORDER BY at");

    /// <summary>Ends what waits about a user: a newer change takes its place.</summary>
    public static Task SupersedeUserChangesAsync(this Session session, string user, long at) =>
        session.ExecuteAsync(
            "UPDATE user_changes SET state='superseded', decided_at=@at WHERE user_name=@user AND state='open'",
            new { user, at }
        );

    /// <summary>Decides a change that waits.</summary>
    public static Task DecideUserChangeAsync(this Session session, string id, string state, string by, long at, string remark) =>
        session.ExecuteAsync(
            "UPDATE user_changes SET state=@state, decided_by=@by, decided_at=@at, remark=@remark WHERE id=@id AND state='open'",
            new
            {
                id,
                state,
                by,
                at,
                remark,
            }
        );

    /// <summary>A secret, encrypted; null when there is none.</summary>
    public static Task<SecretRow?> SecretRowAsync(this Session session, string name) =>
        session.FirstAsync<SecretRow>(
            "SELECT name, sealed, actor, updated_at, bound, valid_until FROM secrets WHERE name=@name",
            new { name }
        );

    /// <summary>All secrets, encrypted, by name.</summary>
    public static Task<IReadOnlyList<SecretRow>> SecretRowsAsync(this Session session) =>
        session.QueryAsync<SecretRow>("SELECT name, '' AS sealed, actor, updated_at, bound, valid_until FROM secrets ORDER BY name");

    /// <summary>Keeps a secret, encrypted.</summary>
    public static Task SaveSecretAsync(this Session session, SecretRow row) =>
        session.ExecuteAsync(
            "INSERT INTO secrets (name, sealed, actor, updated_at, bound, valid_until) VALUES (@Name, @Sealed, @Actor, @UpdatedAt, @Bound, "
                + "@ValidUntil) ON CONFLICT (name) DO UPDATE SET sealed=excluded.sealed, actor=excluded.actor, "
                + "updated_at=excluded.updated_at, bound=excluded.bound, valid_until=excluded.valid_until",
            row
        );

    /// <summary>Ties a secret to the addresses it may go to. False when it is tied already.</summary>
    public static async Task<bool> BindSecretAsync(this Session session, string name, string bound, string before) =>
        await session
            .ExecuteAsync(
                "UPDATE secrets SET bound=@bound WHERE name=@name AND bound=@before",
                new
                {
                    name,
                    bound,
                    before,
                }
            )
            .ConfigureAwait(false) == 1;
}
