namespace Oikonom.Store.Rooms;

/// <summary>A notice in somebody's box, a mail, or both.</summary>
public sealed class NoticeRow
{
    /// <summary>Its id, in the order of time.</summary>
    public long Id { get; init; }

    /// <summary>The mail address, or "".</summary>
    public string Mail { get; init; } = "";

    /// <summary>What or whom it is about.</summary>
    public string Subject { get; init; } = "";

    /// <summary>What it holds, as JSON or as text.</summary>
    public string Body { get; init; } = "";

    /// <summary>How often it was tried without success.</summary>
    public long Attempts { get; init; }

    /// <summary>When it was made, in milliseconds since 1970 (UTC).</summary>
    public long CreatedAt { get; init; }

    /// <summary>The user it belongs to.</summary>
    public string UserName { get; init; } = "";

    /// <summary>Which notice it is.</summary>
    public string Event { get; init; } = "";

    /// <summary>The id of the request it belongs to.</summary>
    public string? RequestId { get; init; }

    /// <summary>When it was read, in milliseconds since 1970 (UTC); null while it was not.</summary>
    public long? ReadAt { get; init; }

    /// <summary>When it was sent, in milliseconds since 1970 (UTC); null while it was not.</summary>
    public long? SentAt { get; init; }

    /// <summary>What stands in the mail alone, encrypted with the key ring; or "".</summary>
    public string Sealed { get; init; } = "";
}

/// <summary>Notices of each user, and the mails that wait to be sent.</summary>
public static class NoticeTable
{
    /// <summary>True when a mail is to be sent: asked before claiming, since a read disturbs nobody.</summary>
    public static Task<bool> AnyNoticeAsync(this Session session, long now) =>
        session.ScalarAsync<bool>("SELECT EXISTS (SELECT 1 FROM notices WHERE due_at<=@now AND lease_until<=@now)", new { now });

    /// <summary>Claims mails that are due, for a lease.</summary>
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

    /// <summary>The notices of a user, the newest first.</summary>
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

    /// <summary>Notes that a user has read what there is.</summary>
    public static Task ReadNoticesAsync(this Session session, string user, long at) =>
        session.ExecuteAsync("UPDATE notices SET read_at=@at WHERE user_name=@user AND read_at IS NULL", new { user, at });

    /// <summary>Notes that a mail went out.</summary>
    public static Task NoticeSentAsync(this Session session, long id, long now) =>
        session.ExecuteAsync("UPDATE notices SET sent_at=@now, due_at=NULL, problem='', sealed='' WHERE id=@id", new { id, now });

    /// <summary>Notes that a mail did not go out, and when it is tried again.</summary>
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
