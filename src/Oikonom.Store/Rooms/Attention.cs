namespace Oikonom.Store.Rooms;

/// <summary>An end that the source tells and people declined.</summary>
public sealed class DisagreementRow
{
    /// <summary>The leaver request that was declined.</summary>
    public string RequestId { get; init; } = "";

    /// <summary>Its number.</summary>
    public long Number { get; init; }

    /// <summary>The person, as lists show them.</summary>
    public string Display { get; init; } = "";

    /// <summary>The last day that the source tells, as yyyy-MM-dd.</summary>
    public string EndDay { get; init; } = "";

    /// <summary>The user who declined.</summary>
    public string Actor { get; init; } = "";

    /// <summary>The reason they gave.</summary>
    public string Remark { get; init; } = "";
}

/// <summary>What no request tells and somebody should look at.</summary>
public static class AttentionTables
{
    /// <summary>
    /// Ends that a source still tells although the request about them was declined: until the source takes them back, a newer
    /// request of the person settles it, or the day is over.
    /// </summary>
    /// <param name="decider">Only those that this user declined; "" for all.</param>
    /// <param name="today">The first day that still counts, as text.</param>
    /// <param name="reach">The parts of the organisation that are seen; null for all.</param>
    public static Task<IReadOnlyList<DisagreementRow>> DisagreementsAsync(
        this Session session,
        string decider,
        string today,
        IReadOnlyList<(IReadOnlyList<string> Sites, IReadOnlyList<string> Departments)>? reach,
        int limit
    )
    {
        var parameters = new Dictionary<string, object?>
        {
            ["decider"] = decider,
            ["today"] = today,
            ["limit"] = limit,
        };
        var where = "";
        if (reach is not null)
        {
            where = $" AND {RequestTables.ReachOf(reach, "p")}";
            RequestTables.AddReach(parameters, reach);
        }
        return session.QueryAsync<DisagreementRow>(
            "SELECT r.id AS request_id, r.number, p.display, p.end_day, d.actor, d.remark FROM requests r JOIN people p ON "
                + "p.id=r.person_id JOIN decisions d ON d.id=(SELECT MAX(x.id) FROM decisions x WHERE x.request_id=r.id AND "
                + "x.verdict='declined') WHERE r.kind='leaver' AND r.state='declined' AND r.source NOT IN ('', 'hand') AND "
                + "p.end_day IS NOT NULL AND p.end_day>=@today AND (@decider='' OR d.actor=@decider) AND NOT EXISTS (SELECT 1 FROM "
                + $"requests n WHERE n.person_id=r.person_id AND n.number>r.number){where} ORDER BY p.end_day LIMIT @limit",
            parameters
        );
    }

    /// <summary>Records that vanished and rows that are set aside, by source.</summary>
    public static Task<IReadOnlyList<(string Source, long Vanished, long SetAside)>> LeftAsync(this Session session) =>
        session.QueryAsync<(string, long, long)>(
            "SELECT source, SUM(vanished), SUM(aside) FROM (SELECT source, COUNT(*) AS vanished, 0 AS aside FROM hr_records WHERE "
                + "status='vanished' GROUP BY source UNION ALL SELECT source, 0, COUNT(*) FROM set_aside GROUP BY source) AS x "
                + "GROUP BY source ORDER BY source"
        );

    /// <summary>People who work on and whose record names a manager that nobody is; their requests find no line manager.</summary>
    public static Task<IReadOnlyList<(string Id, string Display, string Manager)>> WithoutManagerAsync(
        this Session session,
        string today,
        int limit
    ) =>
        session.QueryAsync<(string, string, string)>(
            "SELECT p.id, p.display, p.manager FROM people p WHERE p.manager<>'' AND p.number<>'' AND (p.end_day IS NULL OR "
                + "p.end_day>=@today) AND NOT EXISTS (SELECT 1 FROM people m WHERE m.number=p.manager) AND NOT "
                + "EXISTS (SELECT 1 FROM users u WHERE u.number=p.manager) LIMIT @limit",
            new { today, limit }
        );
}
