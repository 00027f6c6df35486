namespace Oikonom.Store.Rooms;

/// <summary>A request that is not raised yet.</summary>
public sealed class DraftRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>The user it belongs to.</summary>
    public string UserName { get; init; } = "";

    /// <summary>What people read.</summary>
    public string Title { get; init; } = "";

    /// <summary>What it holds, as JSON or as text.</summary>
    public string Body { get; init; } = "{}";

    /// <summary>When, in milliseconds since 1970 (UTC).</summary>
    public long At { get; init; }
}

/// <summary>What people keep for themselves.</summary>
public static class OwnTables
{
    /// <summary>The drafts of a user.</summary>
    public static Task<IReadOnlyList<DraftRow>> DraftsAsync(this Session session, string user) =>
        session.QueryAsync<DraftRow>(
            "SELECT id, user_name, title, body, at FROM drafts WHERE user_name=@user ORDER BY at DESC",
            new { user }
        );

    /// <summary>Keeps a draft. False when the id is somebody else's.</summary>
    public static async Task<bool> SaveDraftAsync(this Session session, DraftRow row) =>
        await session
            .ExecuteAsync(
                "INSERT INTO drafts (id, user_name, title, body, at) VALUES (@Id, @UserName, @Title, @Body, @At) ON CONFLICT "
                    + "(id) DO UPDATE SET title=excluded.title, body=excluded.body, at=excluded.at WHERE "
                    + "drafts.user_name=excluded.user_name",
                row
            )
            .ConfigureAwait(false) == 1;

    /// <summary>Drops a draft of a user.</summary>
    public static Task DropDraftAsync(this Session session, string id, string user) =>
        session.ExecuteAsync("DELETE FROM drafts WHERE id=@id AND user_name=@user", new { id, user });

    /// <summary>The lists that a user has saved.</summary>
    public static Task<IReadOnlyList<(string Name, string Query, long At)>> ViewsAsync(this Session session, string user) =>
        session.QueryAsync<(string, string, long)>("SELECT name, query, at FROM views WHERE user_name=@user ORDER BY name", new { user });

    /// <summary>Saves a list of a user under a name.</summary>
    public static Task SaveViewAsync(this Session session, string user, string name, string query, long at) =>
        session.ExecuteAsync(
            "INSERT INTO views (user_name, name, query, at) VALUES (@user, @name, @query, @at) ON CONFLICT (user_name, name) "
                + "DO UPDATE SET query=excluded.query, at=excluded.at",
            new
            {
                user,
                name,
                query,
                at,
            }
        );

    /// <summary>Drops a saved list.</summary>
    public static Task DropViewAsync(this Session session, string user, string name) =>
        session.ExecuteAsync("DELETE FROM views WHERE user_name=@user AND name=@name", new { user, name });
}
