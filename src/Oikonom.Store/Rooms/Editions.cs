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
