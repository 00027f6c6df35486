namespace Oikonom.Store.Rooms;

/// <summary>An entry of the ledger.</summary>
public sealed class LedgerRow
{
    /// <summary>Its number in the order of recording.</summary>
    public long Entry { get; init; }

    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>When, in milliseconds since 1970 (UTC).</summary>
    public long At { get; init; }

    /// <summary>The user who did it, or <c>oikonom</c>.</summary>
    public string Actor { get; init; } = "";

    /// <summary>Which kind it is of.</summary>
    public string Kind { get; init; } = "";

    /// <summary>The id of the person it is about.</summary>
    public string? PersonId { get; init; }

    /// <summary>The id of the request it belongs to.</summary>
    public string? RequestId { get; init; }

    /// <summary>What it holds, as JSON or as text.</summary>
    public string Body { get; init; } = "";

    /// <summary>Its place in the sealed ledger, from 0 on; null while it is not sealed.</summary>
    public long? Position { get; init; }

    /// <summary>What is held of its sealed values, as JSON; null when there are none, or they are forgotten.</summary>
    public string? Held { get; init; }
}

/// <summary>A signed head of the ledger.</summary>
public sealed class HeadRow
{
    /// <summary>How many entries it covers.</summary>
    public long Size { get; init; }

    /// <summary>The root of the Merkle tree (RFC 9162 section 2.1), 32 octets.</summary>
    public byte[] Root { get; init; } = [];

    /// <summary>When it was signed, in milliseconds since 1970 (UTC).</summary>
    public long SignedAt { get; init; }

    /// <summary>The signature over size and root (ECDSA with P-256).</summary>
    public byte[] Signature { get; init; } = [];

    /// <summary>The key that verifies it, in base64.</summary>
    public string PublicKey { get; init; } = "";
}

/// <summary>The ledger: entries, the leaves of the tree in the order of sealing, and the signed heads.</summary>
public static class LedgerTables
{
    /// <summary>Entries without a leaf. Where many write at once a number may commit after a higher one, so a stretch below the
    /// last is looked at too.</summary>
    public static Task<IReadOnlyList<LedgerRow>> UnsealedAsync(this Session session, int limit) =>
        session.QueryAsync<LedgerRow>(
            "SELECT e.entry, e.body FROM ledger e WHERE e.entry > (SELECT COALESCE(MAX(entry),0) FROM ledger_leaves) - "
                + (session.Engine.SingleWriter ? "0" : "20000")
                + " AND NOT EXISTS (SELECT 1 FROM ledger_leaves l WHERE l.entry=e.entry) ORDER BY e.entry LIMIT @limit",
            new { limit }
        );

    /// <summary>Seals entries: their places and the hashes of their leaves.</summary>
    public static Task AddLeavesAsync(this Session session, IReadOnlyCollection<(long Position, long Entry, string Hash)> leaves) =>
        session.BulkAsync(
            "INSERT INTO ledger_leaves (position, entry, hash) SELECT position, entry, "
                + $"{(session.Engine.Name == "sqlite" ? "unhex(hash)" : "decode(hash,'hex')")} FROM {{rows}} AS x",
            [
                .. leaves.Select(l => new
                {
                    l.Position,
                    l.Entry,
                    l.Hash,
                }),
            ],
            ("position", "bigint"),
            ("entry", "bigint"),
            ("hash", "text")
        );

    /// <summary>Keeps a signed head.</summary>
    public static Task AddHeadAsync(this Session session, HeadRow head) =>
        session.ExecuteAsync(
            "INSERT INTO ledger_heads (size, root, signed_at, signature, public_key) VALUES (@Size, @Root, @SignedAt, "
                + "@Signature, @PublicKey)",
            head
        );

    /// <summary>The newest head; null before the first.</summary>
    public static Task<HeadRow?> LastHeadAsync(this Session session) =>
        session.FirstAsync<HeadRow>("SELECT size, root, signed_at, signature, public_key FROM ledger_heads ORDER BY size DESC LIMIT 1");

    /// <summary>All heads in order.</summary>
    public static Task<IReadOnlyList<HeadRow>> HeadsAsync(this Session session) =>
        session.QueryAsync<HeadRow>("SELECT size, root, signed_at, signature, public_key FROM ledger_heads ORDER BY size");

    /// <summary>Goes through all leaves in order, without holding them.</summary>
    public static Task EachLeafAsync(this Session session, Action<long, byte[]> each, CancellationToken cancel) =>
        session.ReadEachAsync(
            "SELECT position, hash FROM ledger_leaves ORDER BY position",
            [],
            reader => each(reader.GetInt64(0), (byte[])reader.GetValue(1)),
            cancel
        );

    /// <summary>Every sealed entry in order with its leaf, for verification: position, leaf, body, and the columns that repeat
    /// the body.</summary>
    public static Task EachSealedAsync(this Session session, Action<long, byte[], LedgerRow> each, CancellationToken cancel) =>
        session.ReadEachAsync(
            "SELECT l.position, l.hash, e.id, e.at, e.actor, e.kind, e.person_id, e.request_id, e.body, v.body FROM "
                + "ledger_leaves l LEFT JOIN ledger e ON e.entry=l.entry LEFT JOIN ledger_values v ON v.id=e.id ORDER BY l.position",
            [],
            reader =>
                each(
                    reader.GetInt64(0),
                    (byte[])reader.GetValue(1),
                    reader.IsDBNull(8)
                        ? new()
                        : new()
                        {
                            Id = reader.GetString(2),
                            At = reader.GetInt64(3),
                            Actor = reader.GetString(4),
                            Kind = reader.GetString(5),
                            PersonId = reader.IsDBNull(6) ? null : reader.GetString(6),
                            RequestId = reader.IsDBNull(7) ? null : reader.GetString(7),
                            Body = reader.GetString(8),
                            Held = reader.IsDBNull(9) ? null : reader.GetString(9),
                        }
                ),
            cancel
        );

    /// <summary>How many entries are not sealed yet.</summary>
    public static Task<long> UnsealedCountAsync(this Session session) =>
        session.ScalarAsync<long>("SELECT (SELECT COUNT(*) FROM ledger) - (SELECT COUNT(*) FROM ledger_leaves)");

    private const string Whole =
        "e.entry, e.id, e.at, e.actor, e.kind, e.person_id, e.request_id, e.body, l.position, v.body AS held FROM ledger e "
        + "LEFT JOIN ledger_leaves l ON l.entry=e.entry LEFT JOIN ledger_values v ON v.id=e.id";

    /// <summary>A page of entries, newest first, of those that match. <paramref name="kind"/> and <paramref name="actor"/> may
    /// be "".</summary>
    /// <param name="reach">Only entries about people in these parts of the organisation; null for all.</param>
    public static Task<IReadOnlyList<LedgerRow>> LedgerPageAsync(
        this Session session,
        string person,
        string request,
        string kind,
        long before,
        int limit,
        string actor = "",
        IReadOnlyList<(IReadOnlyList<string> Sites, IReadOnlyList<string> Departments)>? reach = null
    )
    {
        var parameters = new Dictionary<string, object?>
        {
            ["person"] = person,
            ["request"] = request,
            ["kind"] = kind,
            ["like"] = kind + "%",
            ["actor"] = actor,
            ["before"] = before,
            ["limit"] = limit,
        };
        if (reach is not null)
            RequestTables.AddReach(parameters, reach);
        return session.QueryAsync<LedgerRow>(
            $"SELECT {Whole}{(reach is null ? "" : " JOIN people p ON p.id=e.person_id")} WHERE e.entry<@before"
                + (person.Length > 0 ? " AND e.person_id=@person" : "")
                + (request.Length > 0 ? " AND e.request_id=@request" : "")
                + (kind.Length > 0 ? " AND e.kind LIKE @like" : "")
                + (actor.Length > 0 ? " AND e.actor=@actor" : "")
                + (reach is null ? "" : $" AND {RequestTables.ReachOf(reach, "p")}")
                + " ORDER BY e.entry DESC LIMIT @limit",
            parameters
        );
    }

    /// <summary>An entry by its id; null when there is none.</summary>
    public static Task<LedgerRow?> LedgerEntryAsync(this Session session, string id) =>
        session.FirstAsync<LedgerRow>($"SELECT {Whole} WHERE e.id=@id", new { id });

    /// <summary>The instant of the oldest entry that waits to be sealed, or null.</summary>
    public static Task<long?> OldestUnsealedAsync(this Session session) =>
        session.FirstAsync<long?>("SELECT MIN(e.at) FROM ledger e WHERE NOT EXISTS (SELECT 1 FROM ledger_leaves l WHERE l.entry=e.entry)");

    /// <summary>The newest heads, newest first.</summary>
    public static Task<IReadOnlyList<HeadRow>> LastHeadsAsync(this Session session, int limit) =>
        session.QueryAsync<HeadRow>(
            "SELECT size, root, signed_at, signature, public_key FROM ledger_heads ORDER BY size DESC LIMIT @limit",
            new { limit }
        );

    /// <summary>Takes or keeps a duty that one node has at a time.</summary>
    public static async Task<bool> TakeLeaseAsync(this Session session, string name, string owner, long now, long until) =>
        await session
            .ExecuteAsync(
                "INSERT INTO leases (name, owner, until_at) VALUES (@name, @owner, @until) ON CONFLICT (name) DO UPDATE SET "
                    + "owner=excluded.owner, until_at=excluded.until_at WHERE leases.owner=@owner OR leases.until_at<=@now",
                new
                {
                    name,
                    owner,
                    now,
                    until,
                }
            )
            .ConfigureAwait(false) > 0;
}
