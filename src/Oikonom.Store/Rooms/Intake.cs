namespace Oikonom.Store.Rooms;

/// <summary>A record of a source, as it was taken last.</summary>
public sealed class RecordRow
{
    /// <summary>The name of the source in the rulebook.</summary>
    public string Source { get; init; } = "";

    /// <summary>The key of the record in its source.</summary>
    public string RecordKey { get; init; } = "";

    /// <summary>The fingerprint of the row: SHA-256, cut to 128 bits.</summary>
    public string Hash { get; init; } = "";

    /// <summary>The attributes, as JSON; null when they are forgotten.</summary>
    public string? Facts { get; init; }

    /// <summary>What is known of it: known, vanished, forgotten and the like.</summary>
    public string Status { get; init; } = "";

    /// <summary>The id of the person it is about.</summary>
    public string? PersonId { get; init; }

    /// <summary>The id of the request it belongs to.</summary>
    public string? RequestId { get; init; }

    /// <summary>The run of the intake it came with.</summary>
    public string RunId { get; init; } = "";

    /// <summary>When, in milliseconds since 1970 (UTC).</summary>
    public long At { get; init; }
}

/// <summary>The version of a record that another one replaced.</summary>
public sealed record VersionRow(string Source, string RecordKey, string? PersonId, string RunId, long At, string Facts);

/// <summary>A run of the intake.</summary>
public sealed class RunRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>The name of the source in the rulebook.</summary>
    public string Source { get; init; } = "";

    /// <summary>What kind of run: full, baseline, changes.</summary>
    public string Mode { get; init; } = "";

    /// <summary>The user who did it, or <c>oikonom</c>.</summary>
    public string Actor { get; init; } = "";

    /// <summary>When it began, in milliseconds since 1970 (UTC).</summary>
    public long StartedAt { get; init; }

    /// <summary>When it ended, in milliseconds since 1970 (UTC).</summary>
    public long EndedAt { get; init; }

    /// <summary>How it ended.</summary>
    public string Outcome { get; init; } = "";

    /// <summary>What it came to, in words.</summary>
    public string Message { get; init; } = "";

    /// <summary>How many of each kind, as JSON.</summary>
    public string Counts { get; init; } = "{}";
}

/// <summary>A row that was not taken, and why.</summary>
public sealed record SetAsideRow
{
    /// <summary>The run of the intake it came with.</summary>
    public string RunId { get; init; } = "";

    /// <summary>The name of the source in the rulebook.</summary>
    public string Source { get; init; } = "";

    /// <summary>The name of the file, or "".</summary>
    public string File { get; init; } = "";

    /// <summary>The line of the file, from 1 on.</summary>
    public long Line { get; init; }

    /// <summary>The column that is at fault, or "".</summary>
    public string ColumnName { get; init; } = "";

    /// <summary>The value, as text.</summary>
    public string Value { get; init; } = "";

    /// <summary>Why, as JSON or in words.</summary>
    public string Reason { get; init; } = "";

    /// <summary>The key of the record in its source.</summary>
    public string RecordKey { get; init; } = "";

    /// <summary>The row as it came: a JSON object of column to text.</summary>
    public string Fields { get; init; } = "{}";
}

/// <summary>HR records as received, the runs that received them, and the rows that were set aside.</summary>
public static class IntakeTables
{
    /// <summary>Key and fingerprint of every record of a source: what an unchanged row is told by.</summary>
    public static async Task<Dictionary<string, UInt128>> FingerprintsAsync(this Session session, string source, CancellationToken cancel)
    {
        var known = new Dictionary<string, UInt128>(StringComparer.Ordinal);
        await session
            .ReadEachAsync(
                "SELECT record_key, hash FROM hr_records WHERE source=@source",
                [("source", source)],
                reader =>
                {
                    known[reader.GetString(0)] = System.Buffers.Binary.BinaryPrimitives.ReadUInt128BigEndian(
                        reader.GetFieldValue<byte[]>(1)
                    );
                },
                cancel
            )
            .ConfigureAwait(false);
        return known;
    }

    /// <summary>Records of a source by their keys.</summary>
    public static Task<IReadOnlyList<RecordRow>> RecordsAsync(this Session session, string source, IReadOnlyCollection<string> keys) =>
        session.BulkQueryAsync<RecordRow, object>(
            "SELECT r.source, r.record_key, r.facts, r.status, r.person_id, r.request_id, r.run_id FROM {rows} AS x {join} "
                + "hr_records r ON x.key=r.record_key AND x.source=r.source",
            [.. keys.Select(key => new { Key = key, Source = source })],
            ("key", "text"),
            ("source", "text")
        );

    /// <summary>Records of a source by their fingerprints.</summary>
    public static Task<IReadOnlyList<RecordRow>> RecordsWithHashAsync(
        this Session session,
        string source,
        IReadOnlyCollection<string> keys
    ) =>
        session.BulkQueryAsync<RecordRow, object>(
            $"SELECT r.source, r.record_key, {Hex(session)} AS hash, r.status FROM {{rows}} AS x {{join}} hr_records r ON "
                + "x.key=r.record_key AND x.source=r.source",
            [.. keys.Select(key => new { Key = key, Source = source })],
            ("key", "text"),
            ("source", "text")
        );

    /// <summary>The records of some people, of all sources.</summary>
    public static Task<IReadOnlyList<RecordRow>> RecordsOfAsync(this Session session, IReadOnlyCollection<string> people) =>
        session.BulkQueryAsync<RecordRow, object>(
            "SELECT r.source, r.record_key, r.facts, r.status, r.person_id, r.request_id, r.run_id FROM {rows} AS x {join} hr_records r ON "
                + "r.person_id=x.id",
            [.. people.Select(id => new { Id = id })],
            ("id", "text")
        );

    /// <summary>A page of the records of a source in order of key, all or of one status.</summary>
    /// <param name="reach">Only records of people in these parts of the organisation; null for all.</param>
    public static Task<IReadOnlyList<RecordRow>> RecordsPageAsync(
        this Session session,
        string source,
        string status,
        string text,
        string after,
        int limit,
        IReadOnlyList<(IReadOnlyList<string> Sites, IReadOnlyList<string> Departments)>? reach = null
    )
    {
        var parameters = new Dictionary<string, object?>
        {
            ["source"] = source,
            ["status"] = status,
            ["text"] = text,
            ["after"] = after,
            ["limit"] = limit,
        };
        if (reach is not null)
            RequestTables.AddReach(parameters, reach);
        return session.QueryAsync<RecordRow>(
            "SELECT h.source, h.record_key, h.facts, h.status, h.person_id, h.request_id, h.run_id FROM hr_records "
                + $"h{(reach is null ? "" : " JOIN people p ON p.id=h.person_id")} WHERE h.source=@source AND h.record_key>@after AND "
                + "(@status='' OR h.status=@status) AND (@text='' OR h.record_key=@text)"
                + $"{(reach is null ? "" : $" AND {RequestTables.ReachOf(reach, "p")}")} ORDER BY h.record_key LIMIT @limit",
            parameters
        );
    }

    /// <summary>Records that a full snapshot held no more and nobody has decided about.</summary>
    public static Task<IReadOnlyList<RecordRow>> VanishedAsync(this Session session, string source, int limit) =>
        session.QueryAsync<RecordRow>(
            "SELECT source, record_key, facts, status, person_id, request_id, run_id FROM hr_records WHERE source=@source AND "
                + "status='vanished' ORDER BY record_key LIMIT @limit",
            new { source, limit }
        );

    /// <summary>How many records of a source have each status.</summary>
    public static async Task<IReadOnlyDictionary<string, long>> RecordCountsAsync(this Session session, string source) =>
        (
            await session
                .QueryAsync<(string Status, long Count)>(
                    "SELECT status, COUNT(*) AS count FROM hr_records WHERE source=@source GROUP BY status",
                    new { source }
                )
                .ConfigureAwait(false)
        ).ToDictionary(pair => pair.Status, pair => pair.Count);

    /// <summary>How many records of a source are known.</summary>
    public static Task<long> RecordCountAsync(this Session session, string source) =>
        session.ScalarAsync<long>("SELECT COUNT(*) FROM hr_records WHERE source=@source", new { source });

    /// <summary>True when a source was ever taken in.</summary>
    public static Task<bool> HasRecordsAsync(this Session session, string source) =>
        session.ScalarAsync<bool>("SELECT EXISTS (SELECT 1 FROM hr_records WHERE source=@source)", new { source });

    /// <summary>True when the source has never delivered anything: then records can be added without looking for earlier ones.</summary>
    public static async Task<bool> IsFirstLoadAsync(this Session session, string source) =>
        !await session
            .ScalarAsync<bool>(
                "SELECT EXISTS (SELECT 1 FROM hr_records WHERE source=@source) OR EXISTS (SELECT 1 FROM people)",
                new { source }
            )
            .ConfigureAwait(false);

    /// <summary>Writes records down, in the place of what was known of them.</summary>
    public static Task UpsertRecordsAsync(this Session session, IReadOnlyCollection<RecordRow> rows) =>
        session.BulkAsync(
            "INSERT INTO hr_records (source, record_key, hash, facts, status, person_id, request_id, run_id) SELECT source, "
                + $"record_key, {Unhex(session)}, facts, status, person_id, request_id, run_id FROM {{rows}} AS x WHERE true "
                + "ON CONFLICT (source, record_key) DO UPDATE SET hash=excluded.hash, facts=COALESCE(excluded.facts, "
                + "hr_records.facts), status=excluded.status, person_id=COALESCE(excluded.person_id, hr_records.person_id), "
                + "request_id=COALESCE(excluded.request_id, hr_records.request_id), run_id=excluded.run_id",
            rows,
            RecordColumns
        );

    /// <summary>Adds records that are certainly new.</summary>
    public static Task AddRecordsAsync(this Session session, IReadOnlyCollection<RecordRow> rows) =>
        session.BulkAsync(
            "INSERT INTO hr_records (source, record_key, hash, facts, status, person_id, request_id, run_id) SELECT source, "
                + $"record_key, {Unhex(session)}, facts, status, person_id, request_id, run_id FROM {{rows}} AS x",
            rows,
            RecordColumns
        );

    private static readonly (string, string)[] RecordColumns =
    [
        ("source", "text"),
        ("record_key", "text"),
        ("hash", "text"),
        ("facts", "text"),
        ("status", "text"),
        ("person_id", "text"),
        ("request_id", "text"),
        ("run_id", "text"),
    ];

    /// <summary>Drops records of a source by their keys.</summary>
    public static Task DropRecordsAsync(this Session session, string source, IReadOnlyCollection<string> keys) =>
        session.BulkAsync(
            "DELETE FROM hr_records WHERE EXISTS (SELECT 1 FROM {rows} AS x WHERE x.source=hr_records.source AND "
                + "x.key=hr_records.record_key)",
            [.. keys.Select(key => new { Source = source, Key = key })],
            ("source", "text"),
            ("key", "text")
        );

    private static string Unhex(Session session) => session.Engine.Name == "sqlite" ? "unhex(hash)" : "decode(hash, 'hex')";

    private static string Hex(Session session) => session.Engine.Name == "sqlite" ? "lower(hex(r.hash))" : "encode(r.hash, 'hex')";

    /// <summary>Keeps what records said at a time.</summary>
    public static Task AddVersionsAsync(this Session session, IReadOnlyCollection<VersionRow> rows) =>
        session.BulkAsync(
            "INSERT INTO hr_versions (source, record_key, person_id, run_id, at, facts) SELECT source, record_key, person_id, "
                + "run_id, at, facts FROM {rows} AS x",
            rows,
            ("source", "text"),
            ("record_key", "text"),
            ("person_id", "text"),
            ("run_id", "text"),
            ("at", "bigint"),
            ("facts", "text")
        );

    /// <summary>Notes a run.</summary>
    public static Task AddRunAsync(this Session session, RunRow run) =>
        session.ExecuteAsync(
            "INSERT INTO intake_runs (id, source, mode, actor, started_at, ended_at, outcome, message, counts) VALUES (@Id, "
                + "@Source, @Mode, @Actor, @StartedAt, @EndedAt, @Outcome, @Message, @Counts)",
            run
        );

    /// <summary>The runs of a source, the newest first.</summary>
    public static Task<IReadOnlyList<RunRow>> RunsAsync(this Session session, string source, int limit) =>
        session.QueryAsync<RunRow>(
            "SELECT id, source, mode, actor, started_at, ended_at, outcome, message, counts FROM intake_runs WHERE @source='' "
                + "OR source=@source ORDER BY started_at DESC LIMIT @limit",
            new { source, limit }
        );

    /// <summary>Replaces what is set aside of a source: a mended row clears itself.</summary>
    public static async Task ReplaceSetAsideAsync(this Session session, string source, IReadOnlyCollection<SetAsideRow> rows)
    {
        await session.ExecuteAsync("DELETE FROM set_aside WHERE source=@source", new { source }).ConfigureAwait(false);
        await session.AddSetAsideAsync(rows).ConfigureAwait(false);
    }

    /// <summary>Notes rows that were not taken.</summary>
    public static Task AddSetAsideAsync(this Session session, IReadOnlyCollection<SetAsideRow> rows) =>
        session.BulkAsync(
            "INSERT INTO set_aside (run_id, source, file, line, column_name, value, reason, record_key, fields) SELECT run_id, "
                + "source, file, line, column_name, value, reason, record_key, fields FROM {rows} AS x",
            rows,
            ("run_id", "text"),
            ("source", "text"),
            ("file", "text"),
            ("line", "bigint"),
            ("column_name", "text"),
            ("value", "text"),
            ("reason", "text"),
            ("record_key", "text"),
            ("fields", "text")
        );

    /// <summary>Clears what is set aside under some keys, since the records came again.</summary>
    public static Task ClearSetAsideAsync(this Session session, string source, IReadOnlyCollection<string> keys) =>
        session.BulkAsync(
            "DELETE FROM set_aside WHERE EXISTS (SELECT 1 FROM {rows} AS x WHERE x.source=set_aside.source AND x.key=set_aside.record_key)",
            [.. keys.Select(key => new { Source = source, Key = key })],
            ("source", "text"),
            ("key", "text")
        );

    /// <summary>How many rows of a source are set aside.</summary>
    public static Task<long> SetAsideCountAsync(this Session session, string source) =>
        session.ScalarAsync<long>("SELECT COUNT(*) FROM set_aside WHERE source=@source", new { source });

    /// <summary>The rows of a source that are set aside.</summary>
    public static Task<IReadOnlyList<SetAsideRow>> SetAsideAsync(this Session session, string source, int limit) =>
        session.QueryAsync<SetAsideRow>(
            "SELECT run_id, source, file, line, column_name, value, reason, record_key, fields FROM set_aside WHERE "
                + "source=@source ORDER BY file, line, id LIMIT @limit",
            new { source, limit }
        );

    /// <summary>A run by its id; null when there is none.</summary>
    public static Task<RunRow?> RunAsync(this Session session, string id) =>
        session.FirstAsync<RunRow>(
            "SELECT id, source, mode, actor, started_at, ended_at, outcome, message, counts FROM intake_runs WHERE id=@id",
            new { id }
        );
}
