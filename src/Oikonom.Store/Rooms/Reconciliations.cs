namespace Oikonom.Store.Rooms;

/// <summary>A target that was read whole, and what was found, in numbers.</summary>
public sealed record ReconciliationRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>The name of the target in the rulebook.</summary>
    public string Target { get; init; } = "";

    /// <summary>When it began, in milliseconds.</summary>
    public long At { get; init; }

    /// <summary>Who asked for it, or <c>oikonom</c>.</summary>
    public string Actor { get; init; } = "";

    /// <summary>1 when it was only looked, and nothing was written down.</summary>
    public long Dry { get; init; }

    /// <summary>How long it took.</summary>
    public long Milliseconds { get; init; }

    /// <summary>How many entries were read.</summary>
    public long Entries { get; init; }

    /// <summary>How many of each class, as JSON.</summary>
    public string Counts { get; init; } = "{}";

    /// <summary>1 when only what changed was read.</summary>
    public long Changes { get; init; }
}

/// <summary>An entry that is not as decided.</summary>
public sealed record ReconciliationItemRow
{
    /// <summary>The id of the reconciliation.</summary>
    public string Reconciliation { get; init; } = "";

    /// <summary>Its place, from 0 on.</summary>
    public long Place { get; init; }

    /// <summary>What is the matter with it.</summary>
    public string Class { get; init; } = "";

    /// <summary>The name of the account.</summary>
    public string Name { get; init; } = "";

    /// <summary>Where it stands in the target.</summary>
    public string Location { get; init; } = "";

    /// <summary>Its immutable id.</summary>
    public string ImmutableId { get; init; } = "";

    /// <summary>The person it belongs or answers to; null when nobody is known.</summary>
    public string? PersonId { get; init; }

    /// <summary>What was found, in words without values.</summary>
    public string Text { get; init; } = "";

    /// <summary>The name of the person; "" where nobody is known, and when it is written.</summary>
    public string Display { get; init; } = "";

    /// <summary>Their employee number, likewise.</summary>
    public string Number { get; init; } = "";
}

/// <summary>What a reconciliation needs of an account that is recorded.</summary>
/// <param name="Id">Its id.</param>
/// <param name="PersonId">The id of the person it belongs to; null when it is nobody's.</param>
/// <param name="Slot">Which of the person's accounts in the target it is.</param>
/// <param name="Purpose">What it is for when it is nobody's.</param>
/// <param name="ImmutableId">The target's id of the entry.</param>
/// <param name="Attributes">What was done, as a JSON object of lists of texts, in UTF-8.</param>
/// <param name="Enabled">True when it may be used.</param>
/// <param name="At">When it was written last, in milliseconds since 1970 (UTC).</param>
public sealed record BookedAccount(
    string Id,
    string? PersonId,
    string Slot,
    string Purpose,
    string ImmutableId,
    byte[] Attributes,
    bool Enabled,
    long At
);

/// <summary>What is recorded of a target as a whole, and what was found when it was read.</summary>
public static class ReconciliationTables
{
    /// <summary>Goes through every account that is recorded in a target: of people, and of nobody.</summary>
    public static Task EachAccountAsync(this Session session, string target, Action<BookedAccount> each, CancellationToken cancel) =>
        session.ReadEachAsync(
            "SELECT id, person_id, slot, purpose, immutable_id, attributes, enabled, updated_at FROM accounts WHERE target=@target",
            [("target", target)],
            reader =>
                each(
                    new(
                        reader.GetString(0),
                        reader.IsDBNull(1) ? null : reader.GetString(1),
                        reader.GetString(2),
                        reader.GetString(3),
                        reader.GetString(4),
                        reader.GetFieldValue<byte[]>(5),
                        reader.GetInt64(6) == 1,
                        reader.GetInt64(7)
                    )
                ),
            cancel
        );

    /// <summary>Goes through the accounts of people in a target: id, name and where it stands.</summary>
    public static Task EachPlaceAsync(this Session session, string target, Action<string, string, string> each, CancellationToken cancel) =>
        session.ReadEachAsync(
            "SELECT immutable_id, name, location FROM accounts WHERE target=@target AND person_id IS NOT NULL",
            [("target", target)],
            reader => each(reader.GetString(0), reader.GetString(1), reader.GetString(2)),
            cancel
        );

    /// <summary>Goes through everything that people hold in a target: person, slot, entitlement; all of one account in a row.</summary>
    public static Task EachGrantAsync(this Session session, string target, Action<string, string, string> each, CancellationToken cancel) =>
        session.ReadEachAsync(
            "SELECT person_id, slot, entitlement FROM grants WHERE target=@target AND until_at IS NULL ORDER BY person_id, slot",
            [("target", target)],
            reader => each(reader.GetString(0), reader.GetString(1), reader.GetString(2)),
            cancel
        );

    /// <summary>Forgets accounts of nobody whose entries are gone; what belongs to somebody by now stays.</summary>
    public static Task DropNobodysAsync(this Session session, IReadOnlyCollection<string> ids) =>
        session.BulkAsync(
            "DELETE FROM accounts WHERE person_id IS NULL AND id IN (SELECT x.id FROM {rows} AS x)",
            [.. ids.Select(id => new { Id = id })],
            ("id", "text")
        );

    /// <summary>Keeps what was found.</summary>
    public static async Task AddReconciliationAsync(
        this Session session,
        ReconciliationRow row,
        IReadOnlyCollection<ReconciliationItemRow> items
    )
    {
        await session
            .ExecuteAsync(
                "INSERT INTO reconciliations (id, target, at, actor, dry, milliseconds, entries, counts, changes) VALUES (@Id, @Target, "
                    + "@At, @Actor, @Dry, @Milliseconds, @Entries, @Counts, @Changes)",
                row
            )
            .ConfigureAwait(false);
        await session
            .BulkAsync(
                "INSERT INTO reconciliation_items (reconciliation, place, class, name, location, immutable_id, person_id, text) SELECT "
                    + "reconciliation, place, class, name, location, immutable_id, person_id, text FROM {rows} AS x",
                items,
                ("reconciliation", "text"),
                ("place", "bigint"),
                ("class", "text"),
                ("name", "text"),
                ("location", "text"),
                ("immutable_id", "text"),
                ("person_id", "text"),
                ("text", "text")
            )
            .ConfigureAwait(false);
    }

    /// <summary>The newest of a target first.</summary>
    public static Task<IReadOnlyList<ReconciliationRow>> ReconciliationsAsync(this Session session, string target, int limit) =>
        session.QueryAsync<ReconciliationRow>(
            "SELECT id, target, at, actor, dry, milliseconds, entries, counts, changes FROM reconciliations WHERE target=@target ORDER BY "
                + "at DESC, id DESC LIMIT @limit",
            new { target, limit }
        );

    /// <summary>One of them; null when there is none.</summary>
    public static Task<ReconciliationRow?> ReconciliationAsync(this Session session, string id) =>
        session.FirstAsync<ReconciliationRow>(
            "SELECT id, target, at, actor, dry, milliseconds, entries, counts, changes FROM reconciliations WHERE id=@id",
            new { id }
        );

    /// <summary>What one found, with the names of people; of one class, or of all when it is "".</summary>
    public static Task<IReadOnlyList<ReconciliationItemRow>> ReconciliationItemsAsync(
        this Session session,
        string id,
        string kind,
        int limit
    ) =>
        session.QueryAsync<ReconciliationItemRow>(
            "SELECT i.reconciliation, i.place, i.class, i.name, i.location, i.immutable_id, i.person_id, i.text, "
                + "COALESCE(p.display,'') AS display, COALESCE(p.number,'') AS number FROM reconciliation_items i LEFT JOIN people p ON "
                + "p.id=i.person_id WHERE i.reconciliation=@id AND (@kind='' OR i.class=@kind) ORDER BY i.place LIMIT @limit",
            new
            {
                id,
                kind,
                limit,
            }
        );

    /// <summary>Drops what was found before an instant.</summary>
    public static async Task PruneReconciliationsAsync(this Session session, long before)
    {
        await session
            .ExecuteAsync(
                "DELETE FROM reconciliation_items WHERE reconciliation IN (SELECT id FROM reconciliations WHERE at<@before)",
                new { before }
            )
            .ConfigureAwait(false);
        await session.ExecuteAsync("DELETE FROM reconciliations WHERE at<@before", new { before }).ConfigureAwait(false);
    }
}
