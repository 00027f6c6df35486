namespace Oikonom.Store.Rooms;

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
