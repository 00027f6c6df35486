namespace Oikonom.Store.Rooms;

public sealed class TryRow
{
    public string TryKey { get; init; } = "";
    public long Tries { get; init; }
    public long LastAt { get; init; }
    public long BlockedUntil { get; init; }
}

public sealed class PasswordLinkRow
{
    public string Id { get; init; } = "";
    public string UserName { get; init; } = "";
    public string TokenHash { get; init; } = "";
    public long CreatedAt { get; init; }
    public long ExpiresAt { get; init; }
    public long? UsedAt { get; init; }
}

public sealed class UserChangeRow
{
    public string Id { get; init; } = "";
    public string UserName { get; init; } = "";
    public string Body { get; init; } = "{}";
    public string Actor { get; init; } = "";
    public long At { get; init; }
    public string State { get; init; } = "open";
}

public sealed class SecretRow
{
    public string Name { get; init; } = "";
    public string Sealed { get; init; } = "";
    public string Actor { get; init; } = "";
    public long UpdatedAt { get; init; }

    /// <summary>Where it may be sent, as JSON; "" while it was never used.</summary>
    public string Bound { get; init; } = "";
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

    public static Task SaveTryAsync(this Session session, TryRow row) =>
        session.ExecuteAsync(
            "UPDATE sign_in_tries SET tries=@Tries, last_at=@LastAt, blocked_until=@BlockedUntil WHERE try_key=@TryKey",
            row
        );

    public static Task DropTriesAsync(this Session session, IReadOnlyList<string> keys) =>
        session.BulkAsync(
            "DELETE FROM sign_in_tries WHERE try_key IN (SELECT try_key FROM {rows} AS x)",
            [.. keys.Select(k => new { TryKey = k })],
            ("try_key", "text")
        );

    public static Task DropTriesOfAsync(this Session session, string name) =>
        session.ExecuteAsync(
            "DELETE FROM sign_in_tries WHERE try_key=@name OR try_key LIKE @pairs ESCAPE '!'",
            new { name = $"name:{name}", pairs = $"pair:{Like.Containing(name)[1..^1]}|%" }
        );

    public static Task GiveTryBackAsync(this Session session, string key) =>
        session.ExecuteAsync("UPDATE sign_in_tries SET tries=tries-1 WHERE try_key=@key AND tries>0", new { key });

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

    public static Task AddPasswordLinkAsync(this Session session, PasswordLinkRow row) =>
        session.ExecuteAsync(
            "INSERT INTO password_links (id, user_name, token_hash, created_at, expires_at) VALUES (@Id, @UserName, "
                + "@TokenHash, @CreatedAt, @ExpiresAt)",
            row
        );

    public static Task<bool> HasLinkAsync(this Session session, string user) =>
        session.ScalarAsync<bool>("SELECT EXISTS (SELECT 1 FROM password_links WHERE user_name=@user)", new { user });

    public static Task<PasswordLinkRow?> PasswordLinkAsync(this Session session, string hash) =>
        session.FirstAsync<PasswordLinkRow>(
            "SELECT id, user_name, token_hash, created_at, expires_at, used_at FROM password_links WHERE token_hash=@hash",
            new { hash }
        );

    public static Task<long> LastOpenPasswordLinkAsync(this Session session, string user) =>
        session.ScalarAsync<long>(
            "SELECT COALESCE(MAX(created_at),0) FROM password_links WHERE user_name=@user AND used_at IS NULL",
            new { user }
        );

    public static async Task<bool> UsePasswordLinkAsync(this Session session, string id, long at) =>
        await session
            .ExecuteAsync("UPDATE password_links SET used_at=@at WHERE id=@id AND used_at IS NULL", new { id, at })
            .ConfigureAwait(false) == 1;

    public static Task EndPasswordLinksAsync(this Session session, string user, long at) =>
        session.ExecuteAsync("UPDATE password_links SET used_at=@at WHERE user_name=@user AND used_at IS NULL", new { user, at });

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

    public static Task AddUserChangeAsync(this Session session, UserChangeRow row) =>
        session.ExecuteAsync(
            $"INSERT INTO user_changes ({ChangeColumns}, decided_by, remark) VALUES (@Id, @UserName, @Body, @Actor, @At, 'open', '', '')",
            row
        );

    public static Task<UserChangeRow?> UserChangeAsync(this Session session, string id) =>
        session.FirstAsync<UserChangeRow>($"SELECT {ChangeColumns} FROM user_changes WHERE id=@id" + session.Engine.ForUpdate, new { id });

    public static Task<IReadOnlyList<UserChangeRow>> OpenUserChangesAsync(this Session session) =>
        session.QueryAsync<UserChangeRow>($"SELECT {ChangeColumns} FROM user_changes WHERE state='open' ORDER BY at");

    public static Task SupersedeUserChangesAsync(this Session session, string user, long at) =>
        session.ExecuteAsync(
            "UPDATE user_changes SET state='superseded', decided_at=@at WHERE user_name=@user AND state='open'",
            new { user, at }
        );

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

    public static Task<SecretRow?> SecretRowAsync(this Session session, string name) =>
        session.FirstAsync<SecretRow>("SELECT name, sealed, actor, updated_at, bound FROM secrets WHERE name=@name", new { name });

    public static Task<IReadOnlyList<SecretRow>> SecretRowsAsync(this Session session) =>
        session.QueryAsync<SecretRow>("SELECT name, '' AS sealed, actor, updated_at, bound FROM secrets ORDER BY name");

    public static Task SaveSecretAsync(this Session session, SecretRow row) =>
        session.ExecuteAsync(
            "INSERT INTO secrets (name, sealed, actor, updated_at, bound) VALUES (@Name, @Sealed, @Actor, @UpdatedAt, @Bound) "
                + "ON CONFLICT (name) DO UPDATE SET sealed=excluded.sealed, actor=excluded.actor, updated_at=excluded.updated_at, "
                + "bound=excluded.bound",
            row
        );

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
