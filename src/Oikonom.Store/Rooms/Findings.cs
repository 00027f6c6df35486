namespace Oikonom.Store.Rooms;

/// <summary>An account that is not in its target as it was left.</summary>
public sealed record FindingRow
{
    /// <summary>Whose account it is.</summary>
    public string PersonId { get; init; } = "";

    /// <summary>The target it was found in.</summary>
    public string Target { get; init; } = "";

    /// <summary>Which of the person's accounts in the target it is; "" is the ordinary one.</summary>
    public string Slot { get; init; } = "";

    /// <summary>The name of the account.</summary>
    public string Account { get; init; } = "";

    /// <summary>How it differs, as JSON.</summary>
    public string Differences { get; init; } = "[]";

    /// <summary>The look that found this first, in milliseconds.</summary>
    public long SinceAt { get; init; }

    /// <summary>The look that found it last, in milliseconds.</summary>
    public long SeenAt { get; init; }

    /// <summary>The request that sets it right, or "".</summary>
    public string RequestId { get; init; } = "";

    /// <summary>Who said that it may stay so, or "".</summary>
    public string LeftBy { get; init; } = "";

    /// <summary>When they said so, in milliseconds.</summary>
    public long? LeftAt { get; init; }

    /// <summary>The reason they gave.</summary>
    public string Remark { get; init; } = "";
}

/// <summary>What was found changed outside, and which accounts are to be looked at.</summary>
public static class FindingTables
{
    private const string Columns = "person_id, target, slot, account, differences, since_at, seen_at, request_id, left_by, left_at, remark";

    /// <summary>The findings of some people.</summary>
    public static Task<IReadOnlyList<FindingRow>> FindingsAsync(this Session session, IReadOnlyCollection<string> people) =>
        session.BulkQueryAsync<FindingRow, object>(
            $"SELECT {string.Join(", ", Columns.Split(", ").Select(c => "f." + c))} FROM {{rows}} AS x {{join}} findings f ON "
                + "x.id=f.person_id ORDER BY f.since_at",
            [.. people.Select(id => new { Id = id })],
            ("id", "text")
        );

    /// <summary>What nobody set right or left as it is, the oldest first.</summary>
    /// <param name="reach">The parts of the organisation that are seen; null for all.</param>
    public static Task<IReadOnlyList<(string PersonId, string Display, string Target, string Differences, long SinceAt)>> OpenFindingsAsync(
        this Session session,
        IReadOnlyList<(IReadOnlyList<string> Sites, IReadOnlyList<string> Departments)>? reach,
        int limit
    )
    {
        var parameters = new Dictionary<string, object?> { ["limit"] = limit };
        if (reach is not null)
            RequestTables.AddReach(parameters, reach);
        return session.QueryAsync<(string, string, string, string, long)>(
            "SELECT f.person_id, p.display, f.target, f.differences, f.since_at FROM findings f JOIN people p ON p.id=f.person_id WHERE "
                + "f.left_by='' AND NOT EXISTS (SELECT 1 FROM requests r WHERE r.id=f.request_id AND r.state IN ('planning',"
                + "'choosing','deciding','asked','releasing','fulfilling'))"
                + $"{(reach is null ? "" : $" AND {RequestTables.ReachOf(reach, "p")}")} ORDER BY f.since_at, f.person_id LIMIT @limit",
            parameters
        );
    }

    /// <summary>How many accounts of a target were found to differ since an instant.</summary>
    public static Task<long> FindingsSinceAsync(this Session session, string target, long since) =>
        session.ScalarAsync<long>("SELECT COUNT(*) FROM findings WHERE target=@target AND since_at>=@since", new { target, since });

    /// <summary>Writes a finding down, in the place of what was found of the account before.</summary>
    public static Task SaveFindingAsync(this Session session, FindingRow row) =>
        session.ExecuteAsync(
            $"INSERT INTO findings ({Columns}) VALUES (@PersonId, @Target, @Slot, @Account, @Differences, @SinceAt, @SeenAt, @RequestId, "
                + "@LeftBy, @LeftAt, @Remark) ON CONFLICT (person_id, target, slot) DO UPDATE SET account=excluded.account, "
                + "differences=excluded.differences, since_at=excluded.since_at, seen_at=excluded.seen_at, "
                + "request_id=excluded.request_id, left_by=excluded.left_by, left_at=excluded.left_at, remark=excluded.remark",
            row
        );

    /// <summary>Findings that hold no more: the account is as it was left.</summary>
    public static Task EndFindingsAsync(this Session session, IReadOnlyCollection<FindingRow> rows) =>
        session.BulkAsync(
            "DELETE FROM findings WHERE EXISTS (SELECT 1 FROM {rows} AS x WHERE findings.person_id=x.person_id AND "
                + "findings.target=x.target AND findings.slot=x.slot)",
            rows,
            ("person_id", "text"),
            ("target", "text"),
            ("slot", "text")
        );

    /// <summary>True when an account is to be looked at: asked before claiming, since a read disturbs nobody.</summary>
    /// <param name="before">Whoever was looked at, or had something done, before this instant.</param>
    public static Task<bool> AnyToLookAtAsync(this Session session, string target, long before) =>
        session.ScalarAsync<bool>(
            "SELECT EXISTS (SELECT 1 FROM accounts WHERE looked_at<=@before AND person_id IS NOT NULL AND updated_at<=@before AND "
                + "target=@target)",
            new { target, before }
        );

    /// <summary>Takes accounts to look at, those that wait longest first; each for one node alone.</summary>
    /// <returns>Their ids.</returns>
    public static Task<IReadOnlyList<string>> TakeToLookAtAsync(this Session session, string target, long before, long now, int limit) =>
        session.QueryAsync<string>(
            "UPDATE accounts SET looked_at=@now WHERE id IN (SELECT id FROM accounts WHERE looked_at<=@before AND person_id IS NOT NULL "
                + "AND updated_at<=@before AND target=@target ORDER BY looked_at LIMIT @limit"
                + session.Engine.SkipLocked
                + ") RETURNING id",
            new
            {
                target,
                before,
                now,
                limit,
            }
        );

    /// <summary>Puts off when accounts are looked at next.</summary>
    public static Task LookedAtAsync(this Session session, IReadOnlyCollection<string> accounts, long at) =>
        session.BulkAsync(
            "UPDATE accounts SET looked_at=x.at FROM {rows} AS x WHERE accounts.id=x.id",
            [.. accounts.Select(id => new { Id = id, At = at })],
            ("id", "text"),
            ("at", "bigint")
        );

    /// <summary>People with steps that are due or stopped: what is done to them now is not to be mistaken for what others do.</summary>
    public static Task<IReadOnlyList<string>> BusyAsync(this Session session, IReadOnlyCollection<string> people, long now) =>
        session.BulkQueryAsync<string, object>(
            "SELECT DISTINCT x.id FROM {rows} AS x {join} steps s ON s.subject_id=x.id WHERE (s.state='pending' AND s.due_at<=x.at) OR "
                + "s.state='stopped'",
            [.. people.Select(id => new { Id = id, At = now })],
            ("id", "text"),
            ("at", "bigint")
        );
}
