namespace Oikonom.Store.Rooms;

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
