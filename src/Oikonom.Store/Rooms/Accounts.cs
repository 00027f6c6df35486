namespace Oikonom.Store.Rooms;

/// <summary>An account in a target, of a person or of nobody.</summary>
public sealed record AccountRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>Null while it belongs to nobody.</summary>
    public string? PersonId { get; init; }

    /// <summary>The name of the target in the rulebook.</summary>
    public string Target { get; init; } = "";

    /// <summary>Which of the person's accounts in the target it is; "" is the ordinary one.</summary>
    public string Slot { get; init; } = "";

    /// <summary>What it is taken for while it belongs to nobody; "" when it is somebody's.</summary>
    public string Purpose { get; init; } = "";

    /// <summary>The person who answers for it while it belongs to nobody, or "".</summary>
    public string Owner { get; init; } = "";

    /// <summary>When it ends, as it was approved while it belongs to nobody; null while no end is known.</summary>
    public long? UntilAt { get; init; }

    /// <summary>When it is asked about again, while it is left alone; else null.</summary>
    public long? ReviewAt { get; init; }

    /// <summary>The name it is known by.</summary>
    public string Name { get; init; } = "";

    /// <summary>The names it had before, the oldest first, as a JSON list.</summary>
    public string Former { get; init; } = "[]";

    /// <summary>Where it stands, in the target's own words.</summary>
    public string Container { get; init; } = "";

    /// <summary>Where it is found, in the target's own words.</summary>
    public string Location { get; init; } = "";

    /// <summary>What the target knows the entry by for ever.</summary>
    public string ImmutableId { get; init; } = "";

    /// <summary>The attributes with their values, as JSON.</summary>
    public string Attributes { get; init; } = "{}";

    /// <summary>1 when it may be used, else 0.</summary>
    public long Enabled { get; init; }

    /// <summary>Why, as JSON or in words.</summary>
    public string Reason { get; init; } = "{}";

    /// <summary>When it was made, in milliseconds since 1970 (UTC).</summary>
    public long CreatedAt { get; init; }

    /// <summary>When, in milliseconds since 1970 (UTC).</summary>
    public long At { get; init; }
}

/// <summary>An entitlement that somebody holds or held.</summary>
public sealed class GrantRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>The id of the person it is about.</summary>
    public string PersonId { get; init; } = "";

    /// <summary>The name of the target in the rulebook.</summary>
    public string Target { get; init; } = "";

    /// <summary>Which of the person's accounts in the target; "" is the ordinary one.</summary>
    public string Slot { get; init; } = "";

    /// <summary>The name of the entitlement in its target.</summary>
    public string Entitlement { get; init; } = "";

    /// <summary>From when on, in milliseconds since 1970 (UTC).</summary>
    public long FromAt { get; init; }

    /// <summary>Until when, in milliseconds since 1970 (UTC), which is not in it; null when no end is known.</summary>
    public long? UntilAt { get; init; }

    /// <summary>Why, as JSON or in words.</summary>
    public string Reason { get; init; } = "{}";

    /// <summary>The id of the request it belongs to.</summary>
    public string? RequestId { get; init; }
}

/// <summary>Somebody who holds an entitlement.</summary>
public sealed class HolderRow
{
    /// <summary>The id of the person.</summary>
    public string PersonId { get; init; } = "";

    /// <summary>Their name.</summary>
    public string Display { get; init; } = "";

    /// <summary>Their employee number.</summary>
    public string Number { get; init; } = "";

    /// <summary>Where they work.</summary>
    public string Department { get; init; } = "";

    /// <summary>At which site.</summary>
    public string Site { get; init; } = "";

    /// <summary>Since when they hold it, in milliseconds since 1970 (UTC).</summary>
    public long FromAt { get; init; }

    /// <summary>Until when it was asked for; null when no end is known.</summary>
    public long? UntilAt { get; init; }

    /// <summary>Why they hold it, as JSON.</summary>
    public string Reason { get; init; } = "{}";

    /// <summary>0 when their account may not be used; else 1.</summary>
    public long Enabled { get; init; }
}

/// <summary>An account name that was ever taken.</summary>
public sealed class NameRow
{
    /// <summary>The name of the target in the rulebook.</summary>
    public string Target { get; init; } = "";

    /// <summary>Which of the person's accounts in the target; "" is the ordinary one.</summary>
    public string Slot { get; init; } = "";

    /// <summary>The name, made plain.</summary>
    public string NameKey { get; init; } = "";

    /// <summary>The id of the person it is about.</summary>
    public string PersonId { get; init; } = "";

    /// <summary>The first wish of the rules when the name was taken, or "" where that is not known.</summary>
    public string Wish { get; init; } = "";

    /// <summary>The immutable id of the entry that had the name last and was deleted in its target; "" where none was.</summary>
    public string DeletedEntry { get; init; } = "";

    /// <summary>When, in milliseconds since 1970 (UTC).</summary>
    public long At { get; init; }
}

/// <summary>Accounts, of people and of nobody; what people hold; and the names that were ever used.</summary>
public static class AccountTables
{
    private const string Columns =
        "id, person_id, target, slot, purpose, owner, name, former, container, location, immutable_id, attributes, enabled, reason, "
        + "created_at, until_at, review_at, updated_at AS at";

    /// <summary>The account names of everybody, by person, target and slot.</summary>
    /// <param name="each">Gets the names it had before as well, as a JSON list.</param>
    public static Task EachNameAsync(this Session session, Action<string, string, string, string, string> each, CancellationToken cancel) =>
        session.ReadEachAsync(
            "SELECT person_id, target, slot, name, former FROM accounts WHERE person_id IS NOT NULL",
            [],
            reader => each(reader.GetString(0), reader.GetString(1), reader.GetString(2), reader.GetString(3), reader.GetString(4)),
            cancel
        );

    /// <summary>Names of accounts that changed after an instant, by person.</summary>
    public static Task<IReadOnlyList<(string PersonId, string Name)>> NamesSinceAsync(this Session session, long since) =>
        session.QueryAsync<(string, string)>(
            "SELECT person_id, name FROM accounts WHERE updated_at>@since AND person_id IS NOT NULL",
            new { since }
        );

    /// <summary>The accounts of some people.</summary>
    public static Task<IReadOnlyList<AccountRow>> AccountsAsync(this Session session, IReadOnlyCollection<string> people) =>
        session.BulkQueryAsync<AccountRow, object>(
            $"SELECT {string.Join(", ", Columns.Split(", ").Select(c => "a." + c))} FROM {{rows}} AS x {{join}} accounts a ON "
                + "x.id=a.person_id",
            [.. people.Select(id => new { Id = id })],
            ("id", "text")
        );

    /// <summary>What some people hold, and with <paramref name="past"/> what they held.</summary>
    public static Task<IReadOnlyList<GrantRow>> GrantsAsync(this Session session, IReadOnlyCollection<string> people, bool past) =>
        session.BulkQueryAsync<GrantRow, object>(
            $"SELECT g.id, g.person_id, g.target, g.slot, g.entitlement, g.from_at, g.until_at, g.reason, g.request_id FROM {{rows}} AS "
                + $"x {{join}} grants g ON x.id=g.person_id{(past ? "" : " WHERE g.until_at IS NULL")} ORDER BY g.from_at, "
                + "g.entitlement",
            [.. people.Select(id => new { Id = id })],
            ("id", "text")
        );

    private static readonly (string, string)[] AccountColumns =
    [
        ("id", "text"),
        ("person_id", "text"),
        ("target", "text"),
        ("slot", "text"),
        ("purpose", "text"),
        ("owner", "text"),
        ("name", "text"),
        ("former", "text"),
        ("container", "text"),
        ("location", "text"),
        ("immutable_id", "text"),
        ("attributes", "text"),
        ("enabled", "bigint"),
        ("reason", "text"),
        ("at", "bigint"),
    ];

    private const string InsertAccounts =
        "INSERT INTO accounts (id, person_id, target, slot, purpose, owner, name, former, container, location, immutable_id, attributes, "
        + "enabled, reason, created_at, updated_at) "
        + "SELECT id, person_id, target, slot, purpose, owner, name, former, container, location, immutable_id, attributes, enabled, "
        + "reason, at, at FROM {rows} AS x WHERE true ";

    /// <summary>Records accounts of people; an account that is known keeps its id.</summary>
    public static Task UpsertAccountsAsync(this Session session, IReadOnlyCollection<AccountRow> rows) =>
        session.BulkAsync(
            InsertAccounts
                + "ON CONFLICT (person_id, target, slot) DO UPDATE SET name=excluded.name, former=excluded.former, "
                + "container=excluded.container, location=excluded.location, immutable_id=excluded.immutable_id, "
                + "attributes=excluded.attributes, enabled=excluded.enabled, reason=excluded.reason, updated_at=excluded.updated_at",
            rows,
            AccountColumns
        );

    /// <summary>Records entries that answer to nobody; what is recorded already, for whomever, is left as it is.</summary>
    /// <returns>How many were new.</returns>
    public static Task AddNobodysAsync(this Session session, IReadOnlyCollection<AccountRow> rows) =>
        session.BulkAsync(InsertAccounts + "ON CONFLICT (target, immutable_id) DO NOTHING", rows, AccountColumns);

    /// <summary>Entries that were nobody's and are somebody's from now on keep their id.</summary>
    public static Task BelongAsync(this Session session, IReadOnlyCollection<AccountRow> rows) =>
        session.BulkAsync(
            "UPDATE accounts SET person_id=x.person_id, slot=x.slot, purpose='', owner='', until_at=NULL, review_at=NULL, updated_at=x.at "
                + "FROM {rows} AS x WHERE accounts.target=x.target AND accounts.immutable_id=x.immutable_id AND accounts.person_id IS NULL",
            rows,
            AccountColumns
        );

    /// <summary>The same of entries that were just made, and that a reading of the target recorded before we did; what somebody said
    /// to be something else stays that.</summary>
    public static Task BelongAsMadeAsync(this Session session, IReadOnlyCollection<AccountRow> rows) =>
        session.BulkAsync(
            "UPDATE accounts SET person_id=x.person_id, slot=x.slot, updated_at=x.at FROM {rows} AS x WHERE accounts.target=x.target "
                + "AND accounts.immutable_id=x.immutable_id AND accounts.person_id IS NULL AND accounts.purpose IN ('', 'unmatched')",
            rows,
            AccountColumns
        );

    /// <summary>The accounts that belong to nobody, by target and name.</summary>
    /// <param name="target">"" for those of all targets.</param>
    /// <param name="purpose">"" for all purposes.</param>
    public static Task<IReadOnlyList<AccountRow>> NobodysAsync(
        this Session session,
        string target,
        string purpose,
        string text,
        int limit
    ) =>
        session.QueryAsync<AccountRow>(
            $"SELECT {Columns} FROM accounts WHERE person_id IS NULL AND (@target='' OR target=@target) AND (@purpose='' OR "
                + "purpose=@purpose) AND LOWER(name) LIKE @like ESCAPE '!' ORDER BY target, name, id LIMIT @limit",
            new
            {
                target,
                purpose,
                like = Like.Containing(text.ToLowerInvariant()),
                limit,
            }
        );

    /// <summary>Accounts by their ids.</summary>
    public static Task<IReadOnlyList<AccountRow>> AccountsByIdAsync(this Session session, IReadOnlyCollection<string> ids) =>
        session.BulkQueryAsync<AccountRow, object>(
            $"SELECT {string.Join(", ", Columns.Split(", ").Select(c => "a." + c))} FROM {{rows}} AS x {{join}} accounts a ON x.id=a.id",
            [.. ids.Select(id => new { Id = id })],
            ("id", "text")
        );

    /// <summary>Records what was done to accounts that belong to nobody.</summary>
    public static Task SaveNobodysAsync(this Session session, IReadOnlyCollection<AccountRow> rows) =>
        session.BulkAsync(
            "UPDATE accounts SET location=x.location, enabled=x.enabled, updated_at=x.at FROM {rows} AS x WHERE accounts.id=x.id",
            rows,
            ("id", "text"),
            ("location", "text"),
            ("enabled", "bigint"),
            ("at", "bigint")
        );

    /// <summary>Writes down when an account that belongs to nobody ends.</summary>
    public static Task SetEndAsync(this Session session, string id, long? until, long at) =>
        session.ExecuteAsync(
            "UPDATE accounts SET until_at=@until, updated_at=@at WHERE id=@id",
            new
            {
                id,
                until,
                at,
            }
        );

    /// <summary>An account by its id.</summary>
    public static Task<AccountRow?> AccountAsync(this Session session, string id) =>
        session.FirstAsync<AccountRow>($"SELECT {Columns} FROM accounts WHERE id=@id", new { id });

    /// <summary>An account by the entry it is, in whosever name; null when the entry is not recorded.</summary>
    public static Task<AccountRow?> AccountOfEntryAsync(this Session session, string target, string immutableId) =>
        session.FirstAsync<AccountRow>(
            $"SELECT {Columns} FROM accounts WHERE target=@target AND immutable_id=@immutableId",
            new { target, immutableId }
        );

    /// <summary>Says what an account that belongs to nobody is taken for, and who answers for it. False when it is somebody's.</summary>
    public static async Task<bool> SetPurposeAsync(this Session session, AccountRow row) =>
        await session
            .ExecuteAsync(
                "UPDATE accounts SET purpose=@purpose, owner=@owner, review_at=@review, updated_at=@at WHERE id=@id AND person_id IS NULL",
                new
                {
                    id = row.Id,
                    purpose = row.Purpose,
                    owner = row.Owner,
                    review = row.ReviewAt,
                    at = row.At,
                }
            )
            .ConfigureAwait(false) == 1;

    /// <summary>The accounts that were left alone until now.</summary>
    public static Task<IReadOnlyList<AccountRow>> DueForReviewAsync(this Session session, long now) =>
        session.QueryAsync<AccountRow>(
            $"SELECT {Columns} FROM accounts WHERE person_id IS NULL AND purpose=@ignored AND review_at<=@now ORDER BY id LIMIT 500",
            new { now, ignored = Core.Planning.AccountPurpose.Ignored }
        );

    /// <summary>Takes back that an account is recorded: its entry is not in the target any more.</summary>
    public static Task DeleteAccountAsync(this Session session, string id) =>
        session.ExecuteAsync("DELETE FROM accounts WHERE id=@id", new { id });

    /// <summary>Opens grants; one that is held already is left as it is.</summary>
    public static Task OpenGrantsAsync(this Session session, IReadOnlyCollection<GrantRow> rows) =>
        session.BulkAsync(
            "INSERT INTO grants (id, person_id, target, slot, entitlement, from_at, reason, request_id) SELECT id, person_id, "
                + "target, slot, entitlement, from_at, reason, request_id FROM {rows} AS x WHERE true "
                + "ON CONFLICT (person_id, target, slot, entitlement) WHERE until_at IS NULL DO NOTHING",
            rows,
            ("id", "text"),
            ("person_id", "text"),
            ("target", "text"),
            ("slot", "text"),
            ("entitlement", "text"),
            ("from_at", "bigint"),
            ("reason", "text"),
            ("request_id", "text")
        );

    /// <summary>Ends grants that are held; of others nothing happens.</summary>
    public static Task CloseGrantsAsync(this Session session, IReadOnlyCollection<GrantRow> rows) =>
        session.BulkAsync(
            "UPDATE grants SET until_at=x.until_at FROM {rows} AS x WHERE grants.person_id=x.person_id AND "
                + "grants.target=x.target AND grants.slot=x.slot AND grants.entitlement=x.entitlement AND grants.until_at IS NULL",
            rows,
            ("person_id", "text"),
            ("target", "text"),
            ("slot", "text"),
            ("entitlement", "text"),
            ("until_at", "bigint")
        );

    /// <summary>Takes a name for ever. False when it was ever somebody else's, or another account's of the same person.</summary>
    /// <param name="wish">The first wish of the rules it is taken for.</param>
    public static async Task<bool> TakeNameAsync(
        this Session session,
        string target,
        string name,
        string person,
        long at,
        string slot = "",
        string wish = ""
    )
    {
        // Whoever had it and is forgotten had it all the same.
        if (
            await session
                .ScalarAsync<bool>(
                    "SELECT EXISTS (SELECT 1 FROM names WHERE target=@target AND name_key=@hidden)",
                    new { target, hidden = ForgettingTables.HiddenName(target, name) }
                )
                .ConfigureAwait(false)
        )
            return false;
        await session
            .ExecuteAsync(
                "INSERT INTO names (target, slot, name_key, person_id, wish, at) VALUES (@target, @slot, @name, @person, @wish, @at) "
                    + "ON CONFLICT (target, name_key) DO NOTHING",
                new
                {
                    target,
                    slot,
                    name,
                    person,
                    wish,
                    at,
                }
            )
            .ConfigureAwait(false);
        return await session
            .ScalarAsync<bool>(
                "SELECT EXISTS (SELECT 1 FROM names WHERE target=@target AND name_key=@name AND person_id=@person AND slot=@slot)",
                new
                {
                    target,
                    name,
                    person,
                    slot,
                }
            )
            .ConfigureAwait(false);
    }

    /// <summary>Takes many names for ever; what is taken is left as it is.</summary>
    public static Task TakeNamesAsync(this Session session, IReadOnlyCollection<NameRow> rows) =>
        session.BulkAsync(
            "INSERT INTO names (target, slot, name_key, person_id, wish, at) SELECT target, slot, name_key, person_id, wish, at FROM "
                + "{rows} AS x WHERE true ON CONFLICT (target, name_key) DO NOTHING",
            rows,
            ("target", "text"),
            ("slot", "text"),
            ("name_key", "text"),
            ("person_id", "text"),
            ("wish", "text"),
            ("at", "bigint")
        );

    /// <summary>The names of each of the people, reserved or used, the newest last.</summary>
    public static Task<IReadOnlyList<NameRow>> NamesOfAsync(this Session session, IReadOnlyCollection<string> people) =>
        session.BulkQueryAsync<NameRow, object>(
            "SELECT n.target, n.slot, n.name_key, n.person_id, n.wish, n.deleted_entry, n.at FROM {rows} AS x {join} names n ON "
                + "x.id=n.person_id ORDER BY n.at",
            [.. people.Select(id => new { Id = id })],
            ("id", "text")
        );

    /// <summary>Keeps with the names of an account that its entry was deleted in the target.</summary>
    public static Task<int> KeepDeletedAsync(this Session session, string person, string target, string slot, string entry) =>
        session.ExecuteAsync(
            "UPDATE names SET deleted_entry=@entry WHERE person_id=@person AND target=@target AND slot=@slot",
            new
            {
                person,
                target,
                slot,
                entry,
            }
        );

    /// <summary>Of the names, those that are or ever were somebody else's, or another account's of the same person.</summary>
    public static Task<IReadOnlyList<string>> NamesTakenAsync(
        this Session session,
        string target,
        IReadOnlyCollection<string> names,
        string person,
        string slot = ""
    ) =>
        session.BulkQueryAsync<string, object>(
            "SELECT DISTINCT x.name FROM {rows} AS x {join} names n ON n.target=x.target AND (n.name_key=x.name OR "
                + "n.name_key=x.hidden) WHERE n.person_id<>x.person OR n.slot<>x.slot",
            [
                .. names.Select(name => new
                {
                    Name = name,
                    Target = target,
                    Person = person,
                    Slot = slot,
                    Hidden = ForgettingTables.HiddenName(target, name),
                }),
            ],
            ("name", "text"),
            ("target", "text"),
            ("person", "text"),
            ("slot", "text"),
            ("hidden", "text")
        );

    /// <summary>Gives back names of a person that no account of theirs has, had, or is to have.</summary>
    public static Task ReleaseNamesAsync(this Session session, string person) =>
        session.ExecuteAsync(
            "DELETE FROM names WHERE person_id=@person AND deleted_entry='' AND NOT EXISTS (SELECT 1 FROM accounts a WHERE "
                + "a.person_id=names.person_id AND a.target=names.target AND a.slot=names.slot AND "
                + "(LOWER(a.name)=LOWER(names.name_key) OR a.former LIKE '%\"' || names.name_key || '\"%')) AND NOT EXISTS "
                + "(SELECT 1 FROM extras e WHERE e.person_id=names.person_id AND e.kind='name' AND e.ended_at IS NULL AND "
                + "e.value=names.name_key)",
            new { person }
        );

    /// <summary>How many people beside one hold an entitlement now.</summary>
    public static Task<long> HoldersAsync(this Session session, string target, string entitlement, string exceptPerson) =>
        session.ScalarAsync<long>(
            "SELECT COUNT(*) FROM grants WHERE target=@target AND entitlement=@entitlement AND until_at IS NULL AND "
                + "person_id<>@exceptPerson",
            new
            {
                target,
                entitlement,
                exceptPerson,
            }
        );

    /// <summary>Who holds an entitlement now, with what is known of how long.</summary>
    public static Task<IReadOnlyList<HolderRow>> HoldersOfAsync(this Session session, string target, string entitlement) =>
        session.QueryAsync<HolderRow>(
            "SELECT g.person_id, p.display, p.number, p.department, p.site, g.from_at, g.reason, COALESCE(a.enabled, 1) AS enabled, "
                + "(SELECT MIN(x.until_at) FROM extras x WHERE x.person_id=g.person_id AND x.kind='grant' AND x.ended_at IS NULL AND "
                + "x.subject=g.target || CASE WHEN g.slot='' THEN '' ELSE ':' || g.slot END || '/' || g.entitlement) AS until_at "
                + "FROM grants g JOIN people p ON p.id=g.person_id LEFT JOIN accounts a ON a.person_id=g.person_id AND "
                + "a.target=g.target AND a.slot=g.slot WHERE g.target=@target AND g.entitlement=@entitlement AND g.until_at IS NULL",
            new { target, entitlement }
        );

    /// <summary>How many people hold each entitlement now.</summary>
    public static Task<IReadOnlyList<(string Target, string Entitlement, long Count)>> HoldersAsync(this Session session) =>
        session.QueryAsync<(string, string, long)>(
            "SELECT target, entitlement, COUNT(*) AS count FROM grants WHERE until_at IS NULL GROUP BY target, entitlement"
        );
}
