namespace Oikonom.Store.Rooms;

public sealed class EditionRow
{
    public long Number { get; init; }
    public string Digest { get; init; } = "";
    public string Author { get; init; } = "";
    public long PublishedAt { get; init; }
    public string Files { get; init; } = "[]";

    /// <summary>The second person who agreed, or "".</summary>
    public string Approver { get; init; } = "";
}

public sealed class ProposalRow
{
    public string Id { get; init; } = "";
    public string Digest { get; init; } = "";
    public string Author { get; init; } = "";
    public long At { get; init; }
    public string Files { get; init; } = "[]";

    /// <summary>The edition it was made over, or 0 when that was not kept.</summary>
    public long Base { get; init; }
    public string State { get; init; } = "open";
    public string DecidedBy { get; init; } = "";
    public long? DecidedAt { get; init; }
    public string Remark { get; init; } = "";
}

/// <summary>Published editions of the rulebook.</summary>
public static class EditionTable
{
    public static Task<EditionRow?> EditionAsync(this Session session, long number) =>
        session.FirstAsync<EditionRow>(
            "SELECT number, digest, author, approver, published_at, files FROM editions WHERE number=@number",
            new { number }
        );

    public static Task<EditionRow?> LastEditionAsync(this Session session) =>
        session.FirstAsync<EditionRow>(
            "SELECT number, digest, author, approver, published_at, files FROM editions ORDER BY number DESC LIMIT 1"
        );

    public static Task<long> LastEditionNumberAsync(this Session session) =>
        session.ScalarAsync<long>("SELECT COALESCE(MAX(number),0) FROM editions");

    public static Task<IReadOnlyList<EditionRow>> EditionsAsync(this Session session) =>
        session.QueryAsync<EditionRow>(
            "SELECT number, digest, author, approver, published_at, '' AS files FROM editions ORDER BY number DESC"
        );

    public static Task AddEditionAsync(this Session session, EditionRow edition) =>
        session.ExecuteAsync(
            "INSERT INTO editions (number, digest, author, approver, published_at, files) VALUES (@Number, @Digest, @Author, "
                + "@Approver, @PublishedAt, @Files)",
            edition
        );

    private const string ProposalColumns = "id, digest, author, at, files, state, decided_by, decided_at, remark, base";

    public static Task AddProposalAsync(this Session session, ProposalRow row) =>
        session.ExecuteAsync(
            $"INSERT INTO proposals ({ProposalColumns}) VALUES (@Id, @Digest, @Author, @At, @Files, @State, @DecidedBy, "
                + "@DecidedAt, @Remark, @Base)",
            row
        );

    public static Task<ProposalRow?> ProposalAsync(this Session session, string id) =>
        session.FirstAsync<ProposalRow>($"SELECT {ProposalColumns} FROM proposals WHERE id=@id" + session.Engine.ForUpdate, new { id });

    public static Task<IReadOnlyList<ProposalRow>> OpenProposalsAsync(this Session session) =>
        session.QueryAsync<ProposalRow>($"SELECT {ProposalColumns} FROM proposals WHERE state='open' ORDER BY at");

    public static Task DecideProposalAsync(this Session session, string id, string state, string by, long at, string remark) =>
        session.ExecuteAsync(
            "UPDATE proposals SET state=@state, decided_by=@by, decided_at=@at, remark=@remark WHERE id=@id AND state='open'",
            new
            {
                id,
                state,
                by,
                at,
                remark,
            }
        );
}

public sealed class NoticeRow
{
    public long Id { get; init; }
    public string Mail { get; init; } = "";
    public string Subject { get; init; } = "";
    public string Body { get; init; } = "";
    public long Attempts { get; init; }
    public long CreatedAt { get; init; }
    public string UserName { get; init; } = "";
    public string Event { get; init; } = "";
    public string? RequestId { get; init; }
    public long? ReadAt { get; init; }
    public long? SentAt { get; init; }
    public string Sealed { get; init; } = "";
}

/// <summary>Notices of each user, and the mails that wait to be sent.</summary>
public static class NoticeTable
{
    public static Task<bool> AnyNoticeAsync(this Session session, long now) =>
        session.ScalarAsync<bool>("SELECT EXISTS (SELECT 1 FROM notices WHERE due_at<=@now AND lease_until<=@now)", new { now });

    public static Task<IReadOnlyList<NoticeRow>> ClaimNoticesAsync(this Session session, long now, long until, int limit) =>
        session.QueryAsync<NoticeRow>(
            "UPDATE notices SET lease_until=@until WHERE id IN (SELECT id FROM notices WHERE due_at<=@now AND "
                + "lease_until<=@now ORDER BY id LIMIT @limit"
                + session.Engine.SkipLocked
                + ") RETURNING id, mail, subject, body, attempts, created_at, user_name, event, sealed",
            new
            {
                now,
                until,
                limit,
            }
        );

    public static Task<IReadOnlyList<NoticeRow>> NoticesOfAsync(this Session session, string user, long before, int limit) =>
        session.QueryAsync<NoticeRow>(
            "SELECT id, mail, subject, body, attempts, created_at, user_name, event, request_id, read_at, sent_at FROM notices "
                + "WHERE user_name=@user AND id<@before ORDER BY id DESC LIMIT @limit",
            new
            {
                user,
                before,
                limit,
            }
        );

    public static Task ReadNoticesAsync(this Session session, string user, long at) =>
        session.ExecuteAsync("UPDATE notices SET read_at=@at WHERE user_name=@user AND read_at IS NULL", new { user, at });

    public static Task NoticeSentAsync(this Session session, long id, long now) =>
        session.ExecuteAsync("UPDATE notices SET sent_at=@now, due_at=NULL, problem='', sealed='' WHERE id=@id", new { id, now });

    public static Task NoticeFailedAsync(this Session session, long id, long dueAt, string problem) =>
        session.ExecuteAsync(
            "UPDATE notices SET attempts=attempts+1, lease_until=0, due_at=@dueAt, problem=@problem WHERE id=@id",
            new
            {
                id,
                dueAt,
                problem,
            }
        );
}

public sealed class HintRow
{
    public long Id { get; init; }
    public string Topic { get; init; } = "";
    public string Subject { get; init; } = "";
}

/// <summary>What changed lately, for pages that are open.</summary>
public static class HintTable
{
    public static Task<long> LastHintAsync(this Session session) => session.ScalarAsync<long>("SELECT COALESCE(MAX(id),0) FROM hints");

    public static Task<long> FirstHintAsync(this Session session) => session.ScalarAsync<long>("SELECT COALESCE(MIN(id),0) FROM hints");

    public static Task<IReadOnlyList<HintRow>> HintsAfterAsync(this Session session, long id) =>
        session.QueryAsync<HintRow>("SELECT id, topic, subject FROM hints WHERE id>@id ORDER BY id LIMIT 500", new { id });

    public static Task PruneHintsAsync(this Session session, long before) =>
        session.ExecuteAsync("DELETE FROM hints WHERE at<@before", new { before });
}

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
