namespace Oikonom.Store.Rooms;

/// <summary>A published edition of the rulebook.</summary>
public sealed class EditionRow
{
    /// <summary>The number people call it by.</summary>
    public long Number { get; init; }

    /// <summary>SHA-256 of what it covers, in lower-case hexadecimal.</summary>
    public string Digest { get; init; } = "";

    /// <summary>The user who wrote it.</summary>
    public string Author { get; init; } = "";

    /// <summary>When it began to count, in milliseconds since 1970 (UTC).</summary>
    public long PublishedAt { get; init; }

    /// <summary>The files of a rulebook with their texts, as JSON.</summary>
    public string Files { get; init; } = "[]";

    /// <summary>The second person who agreed, or "".</summary>
    public string Approver { get; init; } = "";
}

/// <summary>A rulebook that waits for a second person.</summary>
public sealed class ProposalRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>SHA-256 of what it covers, in lower-case hexadecimal.</summary>
    public string Digest { get; init; } = "";

    /// <summary>The user who wrote it.</summary>
    public string Author { get; init; } = "";

    /// <summary>When, in milliseconds since 1970 (UTC).</summary>
    public long At { get; init; }

    /// <summary>The files of a rulebook with their texts, as JSON.</summary>
    public string Files { get; init; } = "[]";

    /// <summary>The edition it was made over, or 0 when that was not kept.</summary>
    public long Base { get; init; }

    /// <summary>Where it stands.</summary>
    public string State { get; init; } = "open";

    /// <summary>The user who decided, or "".</summary>
    public string DecidedBy { get; init; } = "";

    /// <summary>When it was decided, in milliseconds since 1970 (UTC); null while it is open.</summary>
    public long? DecidedAt { get; init; }

    /// <summary>What was said with it; may be empty.</summary>
    public string Remark { get; init; } = "";
}

/// <summary>Published editions of the rulebook.</summary>
public static class EditionTable
{
    /// <summary>An edition by its number; null when there is none.</summary>
    public static Task<EditionRow?> EditionAsync(this Session session, long number) =>
        session.FirstAsync<EditionRow>(
            "SELECT number, digest, author, approver, published_at, files FROM editions WHERE number=@number",
            new { number }
        );

    /// <summary>The newest edition; null before the first.</summary>
    public static Task<EditionRow?> LastEditionAsync(this Session session) =>
        session.FirstAsync<EditionRow>(
            "SELECT number, digest, author, approver, published_at, files FROM editions ORDER BY number DESC LIMIT 1"
        );

    /// <summary>The number of the newest edition; 0 before the first.</summary>
    public static Task<long> LastEditionNumberAsync(this Session session) =>
        session.ScalarAsync<long>("SELECT COALESCE(MAX(number),0) FROM editions");

    /// <summary>All editions, the newest first, without their files.</summary>
    public static Task<IReadOnlyList<EditionRow>> EditionsAsync(this Session session) =>
        session.QueryAsync<EditionRow>(
            "SELECT number, digest, author, approver, published_at, '' AS files FROM editions ORDER BY number DESC"
        );

    /// <summary>Adds an edition.</summary>
    public static Task AddEditionAsync(this Session session, EditionRow edition) =>
        session.ExecuteAsync(
            "INSERT INTO editions (number, digest, author, approver, published_at, files) VALUES (@Number, @Digest, @Author, "
                + "@Approver, @PublishedAt, @Files)",
            edition
        );

    private const string ProposalColumns = "id, digest, author, at, files, state, decided_by, decided_at, remark, base";

    /// <summary>Adds a rulebook that waits for a second person.</summary>
    public static Task AddProposalAsync(this Session session, ProposalRow row) =>
        session.ExecuteAsync(
            $"INSERT INTO proposals ({ProposalColumns}) VALUES (@Id, @Digest, @Author, @At, @Files, @State, @DecidedBy, "
                + "@DecidedAt, @Remark, @Base)",
            row
        );

    /// <summary>A proposal by its id; null when there is none.</summary>
    public static Task<ProposalRow?> ProposalAsync(this Session session, string id) =>
        session.FirstAsync<ProposalRow>($"SELECT {ProposalColumns} FROM proposals WHERE id=@id" + session.Engine.ForUpdate, new { id });

    /// <summary>The proposals that wait.</summary>
    public static Task<IReadOnlyList<ProposalRow>> OpenProposalsAsync(this Session session) =>
        session.QueryAsync<ProposalRow>($"SELECT {ProposalColumns} FROM proposals WHERE state='open' ORDER BY at");

    /// <summary>Decides a proposal that waits.</summary>
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
