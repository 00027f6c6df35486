namespace Oikonom.Store.Rooms;

public sealed class DraftRow
{
    public string Id { get; init; } = "";
    public string UserName { get; init; } = "";
    public string Title { get; init; } = "";
    public string Body { get; init; } = "{}";
    public long At { get; init; }
}

/// <summary>What people keep for themselves.</summary>
public static class OwnTables
{
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

    public static Task DropDraftAsync(this Session session, string id, string user) =>
        session.ExecuteAsync("DELETE FROM drafts WHERE id=@id AND user_name=@user", new { id, user });

    public static Task<IReadOnlyList<(string Name, string Query, long At)>> ViewsAsync(this Session session, string user) =>
        session.QueryAsync<(string, string, long)>("SELECT name, query, at FROM views WHERE user_name=@user ORDER BY name", new { user });

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

    public static Task DropViewAsync(this Session session, string user, string name) =>
        session.ExecuteAsync("DELETE FROM views WHERE user_name=@user AND name=@name", new { user, name });
}
