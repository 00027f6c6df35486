namespace Oikonom.Store.Rooms;

/// <summary>That something changed, for whoever watches.</summary>
public sealed class HintRow
{
    /// <summary>Its id, in the order of time.</summary>
    public long Id { get; init; }

    /// <summary>What kind of thing changed.</summary>
    public string Topic { get; init; } = "";

    /// <summary>What or whom it is about.</summary>
    public string Subject { get; init; } = "";
}

/// <summary>What changed lately, for pages that are open.</summary>
public static class HintTable
{
    /// <summary>The number of the newest hint; 0 when there is none.</summary>
    public static Task<long> LastHintAsync(this Session session) => session.ScalarAsync<long>("SELECT COALESCE(MAX(id),0) FROM hints");

    /// <summary>The number of the oldest hint that is kept; 0 when there is none.</summary>
    public static Task<long> FirstHintAsync(this Session session) => session.ScalarAsync<long>("SELECT COALESCE(MIN(id),0) FROM hints");

    /// <summary>The hints after one, in order.</summary>
    public static Task<IReadOnlyList<HintRow>> HintsAfterAsync(this Session session, long id) =>
        session.QueryAsync<HintRow>("SELECT id, topic, subject FROM hints WHERE id>@id ORDER BY id LIMIT 500", new { id });

    /// <summary>Drops hints from before an instant.</summary>
    public static Task PruneHintsAsync(this Session session, long before) =>
        session.ExecuteAsync("DELETE FROM hints WHERE at<@before", new { before });
}
