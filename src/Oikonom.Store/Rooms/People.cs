namespace Oikonom.Store.Rooms;

/// <summary>A person, as lists show them.</summary>
public sealed class PersonRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>HR's key of the person.</summary>
    public string PersonKey { get; init; } = "";

    /// <summary>The number people call it by.</summary>
    public string Number { get; init; } = "";

    /// <summary>The name that people read.</summary>
    public string Display { get; init; } = "";

    /// <summary>What lists are sorted and looked through by.</summary>
    public string SearchKey { get; init; } = "";

    /// <summary>Which kind it is of.</summary>
    public string Kind { get; init; } = "";

    /// <summary>The department of the person.</summary>
    public string Department { get; init; } = "";

    /// <summary>The name of the site in the rulebook.</summary>
    public string Site { get; init; } = "";

    /// <summary>What people read.</summary>
    public string Title { get; init; } = "";

    /// <summary>The employee number of the line manager, or "".</summary>
    public string Manager { get; init; } = "";

    /// <summary>The first day, as yyyy-MM-dd.</summary>
    public string StartDay { get; init; } = "";

    /// <summary>The last day, as yyyy-MM-dd; null when none is known.</summary>
    public string? EndDay { get; init; }

    /// <summary>The attributes, as JSON; null when they are forgotten.</summary>
    public string Facts { get; init; } = "{}";

    /// <summary>The name of the source in the rulebook.</summary>
    public string Source { get; init; } = "";

    /// <summary>The other employments, as a JSON list.</summary>
    public string Others { get; init; } = "[]";

    /// <summary>What the sources say of all employments, the leading one first; "" when <see cref="Facts"/> and
    /// <see cref="Others"/> say it.</summary>
    public string Said { get; init; } = "";

    /// <summary>When, in milliseconds since 1970 (UTC).</summary>
    public long At { get; init; }

    /// <summary>The next instant at which what the person should have may change; null when nothing will.</summary>
    public long? NextAt { get; init; }

    /// <summary>The edition of the rulebook the person is on; 0 while no plan was carried out for them. Only read here.</summary>
    public long Edition { get; init; }
}

/// <summary>What a person is listed and found by.</summary>
public sealed class FoundRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>What lists are sorted and looked through by.</summary>
    public string SearchKey { get; init; } = "";

    /// <summary>The name that people read.</summary>
    public string Display { get; init; } = "";

    /// <summary>The number people call it by.</summary>
    public string Number { get; init; } = "";

    /// <summary>The name of the site in the rulebook.</summary>
    public string Site { get; init; } = "";

    /// <summary>The department of the person.</summary>
    public string Department { get; init; } = "";

    /// <summary>What people read.</summary>
    public string Title { get; init; } = "";

    /// <summary>Which kind it is of.</summary>
    public string Kind { get; init; } = "";

    /// <summary>When it changed last, in milliseconds since 1970 (UTC).</summary>
    public long UpdatedAt { get; init; }

    /// <summary>Raised with each change, so that nobody overwrites what they did not see.</summary>
    public long Version { get; init; }
}

/// <summary>People, as they are shown and found.</summary>
public static class PeopleTables
{
    private const string Columns =
        "id, person_key, number, display, search_key, kind, department, site, title, manager, start_day, end_day, facts, "
        + "source, others, said";

    private const string ReadColumns = Columns + ", edition";

    private static readonly (string, string)[] PersonColumns =
    [
        ("id", "text"),
        ("person_key", "text"),
        ("number", "text"),
        ("display", "text"),
        ("search_key", "text"),
        ("kind", "text"),
        ("department", "text"),
        ("site", "text"),
        ("title", "text"),
        ("manager", "text"),
        ("start_day", "text"),
        ("end_day", "text"),
        ("facts", "text"),
        ("source", "text"),
        ("others", "text"),
        ("said", "text"),
        ("at", "bigint"),
    ];

    /// <summary>Adds people who are certainly new; quicker than looking for each first.</summary>
    public static Task AddPeopleAsync(this Session session, IReadOnlyCollection<PersonRow> rows) =>
        session.BulkAsync(
            $"INSERT INTO people ({Columns}, created_at, updated_at, version) SELECT {Columns}, at, at, 1 FROM {{rows}} AS x",
            rows,
            PersonColumns
        );

    /// <summary>Writes people down, in the place of what was known of them.</summary>
    public static Task UpsertPeopleAsync(this Session session, IReadOnlyCollection<PersonRow> rows) =>
        session.BulkAsync(
            $"INSERT INTO people ({Columns}, created_at, updated_at, version) SELECT {Columns}, at, at, 1 FROM {{rows}} AS x WHERE true "
                + "ON CONFLICT (id) DO UPDATE SET number=excluded.number, display=excluded.display, "
                + "search_key=excluded.search_key, kind=excluded.kind, department=excluded.department, "
                + "site=excluded.site, title=excluded.title, manager=excluded.manager, start_day=excluded.start_day, "
                + "end_day=excluded.end_day, facts=excluded.facts, source=excluded.source, others=excluded.others, "
                + "said=excluded.said, looks=people.looks+1, next_at=CASE WHEN people.next_at<=excluded.updated_at THEN "
                + "people.next_at ELSE excluded.updated_at END, "
                + "updated_at=excluded.updated_at, version=people.version+1",
            rows,
            PersonColumns
        );

    /// <summary>
    /// Something changed about people: what they should have is worked out anew, and when it changes next. An instant that has
    /// come and was not looked at yet stays.
    /// </summary>
    public static Task LookAgainAsync(this Session session, IReadOnlyCollection<string> people, long now) =>
        session.BulkAsync(
            "UPDATE people SET looks=people.looks+1, next_at=CASE WHEN people.next_at<=x.at THEN people.next_at ELSE x.at END "
                + "FROM {rows} AS x WHERE people.id=x.id",
            [.. people.Select(id => new { Id = id, At = now })],
            ("id", "text"),
            ("at", "bigint")
        );

    /// <summary>What lists show goes by the newest edition: everybody with inputs by hand is looked at again.</summary>
    public static Task LookAtHandMadeAgainAsync(this Session session, long now) =>
        session.ExecuteAsync(
            "UPDATE people SET looks=looks+1, next_at=CASE WHEN next_at<=@now THEN next_at ELSE @now END WHERE said<>''",
            new { now }
        );

    /// <summary>
    /// Puts people on an edition, unless they are on another than <paramref name="from"/>; what they should have is worked out
    /// anew.
    /// </summary>
    /// <returns>How many were put on it.</returns>
    public static Task<int> PutOnEditionAsync(this Session session, IReadOnlyCollection<string> people, long from, long to, long now) =>
        session.BulkAsync(
            "UPDATE people SET edition=x.edition, looks=people.looks+1, next_at=CASE WHEN people.next_at<=x.at THEN "
                + "people.next_at ELSE x.at END FROM {rows} AS x WHERE people.id=x.id AND people.edition=x.was",
            [
                .. people.Select(id => new
                {
                    Id = id,
                    Edition = to,
                    Was = from,
                    At = now,
                }),
            ],
            ("id", "text"),
            ("edition", "bigint"),
            ("was", "bigint"),
            ("at", "bigint")
        );

    /// <summary>How many people are on each edition, of those on any.</summary>
    public static Task<IReadOnlyList<(long Edition, long People)>> PeopleByEditionAsync(this Session session) =>
        session.QueryAsync<(long, long)>("SELECT edition, COUNT(*) FROM people WHERE edition>0 GROUP BY edition ORDER BY edition");

    /// <summary>The editions before one that people are on, the newest first; none is found without looking at anybody.</summary>
    public static Task<IReadOnlyList<long>> EditionsBeforeAsync(this Session session, long edition) =>
        session.QueryAsync<long>(
            "SELECT DISTINCT edition FROM people WHERE edition>0 AND edition<@edition ORDER BY edition DESC",
            new { edition }
        );

    /// <summary>The edition a person is on; their row is locked until the end of the decision.</summary>
    public static Task<long> EditionOfAsync(this Session session, string id) =>
        session.ScalarAsync<long>("SELECT edition FROM people WHERE id=@id" + session.Engine.ForUpdate, new { id });

    /// <summary>People whose next instant has come, those waiting longest first.</summary>
    public static Task<IReadOnlyList<(string Id, long NextAt, long Looks)>> DuePeopleAsync(this Session session, long now, int limit) =>
        session.QueryAsync<(string, long, long)>(
            "SELECT id, next_at, looks FROM people WHERE next_at<=@now ORDER BY next_at LIMIT @limit",
            new { now, limit }
        );

    /// <summary>Sets the next instants, unless something changed meanwhile.</summary>
    public static Task SetNextAsync(this Session session, IReadOnlyCollection<(string Id, long Looks, long? Next)> rows) =>
        session.BulkAsync(
            "UPDATE people SET next_at=x.next FROM {rows} AS x WHERE people.id=x.id AND people.looks=x.looks",
            [
                .. rows.Select(r => new
                {
                    r.Id,
                    r.Looks,
                    r.Next,
                }),
            ],
            ("id", "text"),
            ("looks", "bigint"),
            ("next", "bigint")
        );

    /// <summary>True while nothing changed since a look; the row is locked until the end of the decision.</summary>
    public static async Task<bool> IsAsLookedAtAsync(this Session session, string id, long looks) =>
        await session
            .FirstAsync<long?>("SELECT looks FROM people WHERE id=@id" + session.Engine.ForUpdate, new { id })
            .ConfigureAwait(false) == looks;

    /// <summary>Facts of everybody, for working something out over all people; nothing else is read.</summary>
    /// <remarks>The facts are handed over as they are stored, as UTF-8.</remarks>
    public static Task EachPersonAsync(this Session session, Action<string, byte[], string, long> each, CancellationToken cancel) =>
        session.ReadEachAsync(
            "SELECT id, facts, others, edition FROM people",
            [],
            reader => each(reader.GetString(0), reader.GetFieldValue<byte[]>(1), reader.GetString(2), reader.GetInt64(3)),
            cancel
        );

    /// <summary>How many people are known.</summary>
    public static Task<long> PeopleCountAsync(this Session session) => session.ScalarAsync<long>("SELECT COUNT(*) FROM people");

    /// <summary>A person by id; null when there is none.</summary>
    public static Task<PersonRow?> PersonAsync(this Session session, string id) =>
        session.FirstAsync<PersonRow>($"SELECT {ReadColumns} FROM people WHERE id=@id", new { id });

    /// <summary>The person for whom an entry of a target is recorded.</summary>
    public static Task<PersonRow?> HolderOfEntryAsync(this Session session, string target, string immutableId) =>
        session.FirstAsync<PersonRow>(
            $"SELECT {string.Join(", ", ReadColumns.Split(", ").Select(c => "p." + c))} FROM accounts a JOIN people p ON "
                + "p.id=a.person_id WHERE a.target=@target AND a.immutable_id=@immutableId",
            new { target, immutableId }
        );

    /// <summary>Of some employee numbers, those that neither a person nor a user has.</summary>
    public static Task<IReadOnlyList<string>> UnknownNumbersAsync(this Session session, IReadOnlyCollection<string> numbers) =>
        session.BulkQueryAsync<string, object>(
            "SELECT x.number FROM {rows} AS x WHERE NOT EXISTS (SELECT 1 FROM people p WHERE p.number=x.number) AND NOT EXISTS (SELECT 1 "
                + "FROM users u WHERE u.number=x.number)",
            [.. numbers.Select(number => new { Number = number })],
            ("number", "text")
        );

    /// <summary>A person by employee number or HR's key; null when there is none.</summary>
    public static Task<PersonRow?> PersonByNumberAsync(this Session session, string number) =>
        session.FirstAsync<PersonRow>($"SELECT {ReadColumns} FROM people WHERE number=@number OR person_key=@number", new { number });

    /// <summary>The person whom an id, an employee number or HR's key names.</summary>
    public static Task<PersonRow?> FindPersonAsync(this Session session, string name) =>
        Guid.TryParse(name, out var id) ? session.PersonAsync(id.ToString())
        : name.Length > 0 ? session.PersonByNumberAsync(name)
        : Task.FromResult<PersonRow?>(null);

    /// <summary>People by their ids.</summary>
    public static Task<IReadOnlyList<PersonRow>> PeopleByIdAsync(this Session session, IReadOnlyCollection<string> ids) =>
        session.BulkQueryAsync<PersonRow, object>(
            $"SELECT {string.Join(", ", ReadColumns.Split(", ").Select(c => "p." + c))} FROM {{rows}} AS x {{join}} people p ON x.id=p.id",
            [.. ids.Select(id => new { Id = id })],
            ("id", "text")
        );

    /// <summary>The people whom employee numbers or HR's keys name, by what named them.</summary>
    public static async Task<IReadOnlyDictionary<string, PersonRow>> PeopleByNumberAsync(
        this Session session,
        IReadOnlyCollection<string> numbers
    )
    {
        var named = new Dictionary<string, PersonRow>(StringComparer.Ordinal);
        foreach (var column in new[] { "number", "person_key" })
        {
            var rows = await session
                .BulkQueryAsync<PersonRow, object>(
                    $"SELECT {string.Join(", ", ReadColumns.Split(", ").Select(c => "p." + c))} FROM {{rows}} AS x {{join}} people p ON "
                        + $"x.number=p.{column}",
                    [.. numbers.Where(number => !named.ContainsKey(number)).Select(number => new { Number = number })],
                    ("number", "text")
                )
                .ConfigureAwait(false);
            foreach (var row in rows)
                named.TryAdd(column == "number" ? row.Number : row.PersonKey, row);
        }
        return named;
    }

    /// <summary>People by HR's keys.</summary>
    public static Task<IReadOnlyList<PersonRow>> PeopleByKeyAsync(this Session session, IReadOnlyCollection<string> keys) =>
        session.BulkQueryAsync<PersonRow, object>(
            $"SELECT {string.Join(", ", ReadColumns.Split(", ").Select(c => "p." + c))} FROM {{rows}} AS x {{join}} people p ON "
                + "x.key=p.person_key",
            [.. keys.Select(key => new { Key = key })],
            ("key", "text")
        );

    /// <summary>Of people that changed after an instant, what they are listed and found by.</summary>
    public static Task<IReadOnlyList<FoundRow>> PeopleSinceAsync(this Session session, long since) =>
        session.QueryAsync<FoundRow>(
            "SELECT id, search_key, display, number, site, department, title, kind, updated_at, version FROM people WHERE "
                + "updated_at>@since",
            new { since }
        );

    /// <summary>What tells whether people or account names changed after an instant: how many did, and how often.</summary>
    public static async Task<(long People, long Versions, long Accounts, long Newest)> PeopleMarkAsync(this Session session, long since) =>
        await session
            .FirstAsync<(long, long, long, long)>(
                "SELECT p.people, p.versions, a.accounts, a.newest FROM (SELECT COUNT(*) AS people, COALESCE(CAST(SUM(version) "
                    + "AS BIGINT),0) AS versions FROM people WHERE updated_at>@since) p, "
                    + "(SELECT COUNT(*) AS accounts, COALESCE(MAX(updated_at),0) AS newest FROM accounts WHERE updated_at>@since) a",
                new { since }
            )
            .ConfigureAwait(false);
}
