namespace Oikonom.Store.Rooms;

/// <summary>How a target stands, in numbers.</summary>
public sealed class TargetCounts
{
    /// <summary>How many accounts are recorded.</summary>
    public long Accounts { get; init; }

    /// <summary>Accounts that belong to nobody.</summary>
    public long Nobodys { get; init; }

    /// <summary>How many steps wait.</summary>
    public long Waiting { get; init; }

    /// <summary>How many of them are due.</summary>
    public long Due { get; init; }

    /// <summary>Since when the oldest that is due waits, in milliseconds; null when none does.</summary>
    public long? OldestAt { get; init; }

    /// <summary>How many pieces of work are under way.</summary>
    public long Running { get; init; }

    /// <summary>How many steps do not succeed.</summary>
    public long Failing { get; init; }

    /// <summary>Accounts that were changed outside, and nobody let stay so.</summary>
    public long Differing { get; init; }

    /// <summary>What is wrong with it, in words; "" when nothing is.</summary>
    public string? Problem { get; init; }
}

/// <summary>How a target does: paused by whom, left alone until when, and what was last seen of it.</summary>
public sealed record TargetStateRow
{
    /// <summary>The name of the target in the rulebook.</summary>
    public string Target { get; init; } = "";

    /// <summary>Who paused it, or "".</summary>
    public string PausedBy { get; init; } = "";

    /// <summary>When they did, in milliseconds.</summary>
    public long? PausedAt { get; init; }

    /// <summary>The reason they gave.</summary>
    public string Reason { get; init; } = "";

    /// <summary>Since when it is left alone because it did not answer, in milliseconds; null while it is well.</summary>
    public long? AwayAt { get; init; }

    /// <summary>When it is tried again, in milliseconds.</summary>
    public long RetryAt { get; init; }

    /// <summary>What it said last when it did not answer well.</summary>
    public string Problem { get; init; } = "";

    /// <summary>When something succeeded last, in milliseconds.</summary>
    public long? GoodAt { get; init; }

    /// <summary>When something did not, in milliseconds.</summary>
    public long? BadAt { get; init; }

    /// <summary>When it was checked last, in milliseconds.</summary>
    public long? CheckedAt { get; init; }

    /// <summary>What the check found, as JSON.</summary>
    public string Checked { get; init; } = "";

    /// <summary>Where it goes on telling what changed; "" before it was asked.</summary>
    public string ChangesSince { get; init; } = "";

    /// <summary>When it was asked last what changed, in milliseconds.</summary>
    public long? ChangesAt { get; init; }
}

/// <summary>What was done in a target in an hour.</summary>
public sealed record TargetHourRow
{
    /// <summary>The name of the target in the rulebook.</summary>
    public string Target { get; init; } = "";

    /// <summary>The begin of the hour, in milliseconds.</summary>
    public long HourAt { get; init; }

    /// <summary>How many steps succeeded.</summary>
    public long Done { get; init; }

    /// <summary>How many attempts did not, because of the target.</summary>
    public long Failed { get; init; }
}

/// <summary>Something that became of a target.</summary>
public sealed record TargetEventRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>The name of the target in the rulebook.</summary>
    public string Target { get; init; } = "";

    /// <summary>When, in milliseconds.</summary>
    public long At { get; init; }

    /// <summary><c>paused</c>, <c>resumed</c>, <c>away</c>, <c>back</c>, <c>read</c>, <c>changes</c> or <c>looked</c>.</summary>
    public string Kind { get; init; } = "";

    /// <summary>Who did it, or <c>oikonom</c>.</summary>
    public string Actor { get; init; } = "";

    /// <summary>Why, or what was found, in words.</summary>
    public string Text { get; init; } = "";
}

/// <summary>What waits and what fails in targets, and how each does.</summary>
public static class TargetTables
{
    private const string Columns =
        "target, paused_by, paused_at, reason, away_at, retry_at, problem, good_at, bad_at, checked_at, checked, changes_since, changes_at";

    /// <summary>How a target stands.</summary>
    public static async Task<TargetCounts> TargetCountsAsync(this Session session, string target, long now) =>
        await session
            .FirstAsync<TargetCounts>(
                "SELECT (SELECT COUNT(*) FROM accounts WHERE target=@target AND person_id IS NOT NULL) AS accounts, "
                    + "(SELECT COUNT(*) FROM accounts WHERE target=@target AND person_id IS NULL) AS nobodys, "
                    + "(SELECT COUNT(*) FROM steps WHERE target=@target AND state='pending') AS waiting, "
                    + "(SELECT COUNT(*) FROM steps WHERE target=@target AND state='pending' AND due_at<=@now) AS due, "
                    + "(SELECT MIN(due_at) FROM steps WHERE target=@target AND state='pending' AND due_at<=@now) AS oldest_at, "
                    + "(SELECT COUNT(*) FROM chains WHERE target=@target AND lease_until>@now) AS running, "
                    + "(SELECT COUNT(*) FROM findings WHERE target=@target AND left_by='') AS differing, "
                    + "(SELECT COUNT(*) FROM steps WHERE target=@target AND (state='stopped' OR (state='pending' AND "
                    + "attempts>0))) AS failing, "
                    + "(SELECT problem FROM steps WHERE target=@target AND problem<>'' AND state IN ('pending','stopped') ORDER "
                    + "BY due_at LIMIT 1) AS problem",
                new { target, now }
            )
            .ConfigureAwait(false)
        ?? new();

    /// <summary>How every target does of which something is known.</summary>
    public static Task<IReadOnlyList<TargetStateRow>> TargetStatesAsync(this Session session) =>
        session.QueryAsync<TargetStateRow>($"SELECT {Columns} FROM target_states ORDER BY target");

    /// <summary>Writes down what was seen of targets; what people decided, and what a check found, is left as it is.</summary>
    public static Task SeenTargetsAsync(this Session session, IReadOnlyCollection<TargetStateRow> rows) =>
        session.BulkAsync(
            "INSERT INTO target_states (target, away_at, retry_at, problem, good_at, bad_at) SELECT target, away_at, retry_at, "
                + "problem, good_at, bad_at FROM {rows} AS x WHERE true ON CONFLICT (target) DO UPDATE SET "
                + "away_at=excluded.away_at, retry_at=excluded.retry_at, problem=excluded.problem, "
                + "good_at=COALESCE(excluded.good_at, target_states.good_at), bad_at=COALESCE(excluded.bad_at, target_states.bad_at)",
            rows,
            ("target", "text"),
            ("away_at", "bigint"),
            ("retry_at", "bigint"),
            ("problem", "text"),
            ("good_at", "bigint"),
            ("bad_at", "bigint")
        );

    /// <summary>Adds to what was done in the hours of targets.</summary>
    public static Task AddTargetHoursAsync(this Session session, IReadOnlyCollection<TargetHourRow> rows) =>
        session.BulkAsync(
            "INSERT INTO target_hours (target, hour_at, done, failed) SELECT target, hour_at, done, failed FROM {rows} AS x "
                + "WHERE true ON CONFLICT (target, hour_at) DO UPDATE SET done=target_hours.done+excluded.done, "
                + "failed=target_hours.failed+excluded.failed",
            rows,
            ("target", "text"),
            ("hour_at", "bigint"),
            ("done", "bigint"),
            ("failed", "bigint")
        );

    /// <summary>What was done in the hours since an instant; of one target, or of all when it is "".</summary>
    public static Task<IReadOnlyList<TargetHourRow>> TargetHoursAsync(this Session session, string target, long since) =>
        session.QueryAsync<TargetHourRow>(
            "SELECT target, hour_at, done, failed FROM target_hours WHERE hour_at>=@since AND (@target='' OR target=@target) ORDER BY "
                + "target, hour_at",
            new { target, since }
        );

    /// <summary>Keeps what became of a target.</summary>
    public static Task AddTargetEventAsync(this Session session, TargetEventRow row) =>
        session.ExecuteAsync(
            "INSERT INTO target_events (id, target, at, kind, actor, text) VALUES (@Id, @Target, @At, @Kind, @Actor, @Text)",
            row
        );

    /// <summary>What became of a target lately, the newest first.</summary>
    public static Task<IReadOnlyList<TargetEventRow>> TargetEventsAsync(this Session session, string target, int limit) =>
        session.QueryAsync<TargetEventRow>(
            "SELECT id, target, at, kind, actor, text FROM target_events WHERE target=@target ORDER BY at DESC, id DESC LIMIT @limit",
            new { target, limit }
        );

    /// <summary>Drops hours from before an instant.</summary>
    public static Task PruneTargetHoursAsync(this Session session, long before) =>
        session.ExecuteAsync("DELETE FROM target_hours WHERE hour_at<@before", new { before });

    /// <summary>Somebody lets nothing begin in a target any more, or lets it go on.</summary>
    /// <param name="by">Who paused it; "" lets it go on.</param>
    public static Task PauseTargetAsync(this Session session, string target, string by, string reason, long now) =>
        session.ExecuteAsync(
            "INSERT INTO target_states (target, paused_by, paused_at, reason) VALUES (@target, @by, @at, @reason) ON CONFLICT (target) DO "
                + "UPDATE SET paused_by=excluded.paused_by, paused_at=excluded.paused_at, reason=excluded.reason",
            new
            {
                target,
                by,
                reason,
                at = by.Length > 0 ? now : (long?)null,
            }
        );

    /// <summary>Keeps where a target goes on telling what changed.</summary>
    public static Task ChangesSinceAsync(this Session session, string target, string since, long now) =>
        session.ExecuteAsync(
            "INSERT INTO target_states (target, changes_since, changes_at) VALUES (@target, @since, @now) ON CONFLICT (target) DO UPDATE "
                + "SET changes_since=excluded.changes_since, changes_at=excluded.changes_at",
            new
            {
                target,
                since,
                now,
            }
        );

    /// <summary>Keeps what a check found.</summary>
    public static Task CheckedTargetAsync(this Session session, string target, string found, long now) =>
        session.ExecuteAsync(
            "INSERT INTO target_states (target, checked_at, checked) VALUES (@target, @now, @found) ON CONFLICT (target) DO UPDATE SET "
                + "checked_at=excluded.checked_at, checked=excluded.checked",
            new
            {
                target,
                found,
                now,
            }
        );

    /// <summary>What waits for its next try in a target is tried now: it answers again.</summary>
    public static async Task HastenTargetAsync(this Session session, string target, long now)
    {
        await session
            .ExecuteAsync(
                "UPDATE steps SET due_at=@now WHERE target=@target AND state='pending' AND attempts>0 AND due_at>@now",
                new { target, now }
            )
            .ConfigureAwait(false);
        await session
            .ExecuteAsync(
                "UPDATE chains SET due_at=@now WHERE target=@target AND due_at>@now AND EXISTS (SELECT 1 FROM steps s WHERE "
                    + "s.subject_id=chains.subject_id AND s.target=chains.target AND s.state='pending' AND s.due_at<=@now)",
                new { target, now }
            )
            .ConfigureAwait(false);
    }
}
