using System.Collections.Concurrent;
using System.Data.Common;
using System.Reflection;
using DbUp;
using DbUp.Builder;
using DbUp.Engine.Output;
using Microsoft.Data.Sqlite;
using Npgsql;

namespace Oikonom.Store;

/// <summary>What differs between the engines: opening, migrating, locking a row, claiming, and rows from JSON.</summary>
public abstract class Engine
{
    /// <summary>The name it is known by.</summary>
    public abstract string Name { get; }

    /// <summary>Appended to a SELECT whose rows are about to be changed.</summary>
    public abstract string ForUpdate { get; }

    /// <summary>Begins a transaction that only reads, and sees the store as it was at its first statement.</summary>
    public abstract string BeginSnapshot { get; }

    /// <summary>Appended to a SELECT that claims work: rows that others hold are passed over.</summary>
    public abstract string SkipLocked { get; }

    /// <summary>A join whose left side is read first: an embedded planner without statistics may choose worse.</summary>
    public abstract string JoinInOrder { get; }

    /// <summary>True when one transaction writes at a time, so a node's own gate avoids useless waiting.</summary>
    public abstract bool SingleWriter { get; }

    /// <summary>Opens a connection.</summary>
    public abstract ValueTask<DbConnection> OpenAsync(CancellationToken cancel);

    /// <summary>Begins a transaction that will write.</summary>
    public abstract ValueTask<DbTransaction> BeginAsync(DbConnection connection, CancellationToken cancel);

    /// <summary>A sub-select that yields the objects of the JSON array in parameter <c>@rows</c>; types are text or bigint.</summary>
    public abstract string Rows(params ReadOnlySpan<(string Column, string Type)> columns);

    /// <summary>True when the failure is a lost race that goes away by trying again.</summary>
    public abstract bool IsRace(Exception error);

    /// <summary>True when trying again cannot help: what was to be written is at fault, not the store.</summary>
    public virtual bool IsLasting(Exception error) =>
        error.GetBaseException()
            is not (DbException or IOException or TimeoutException or System.Net.Sockets.SocketException or ObjectDisposedException);

    /// <summary>Brings the store up to date; does nothing when it is.</summary>
    /// <param name="last">The number of the last script to run, such as 0010: a store as an earlier release left it.</param>
    /// <exception cref="StoreFault">A script fails; what it did is undone.</exception>
    public abstract void Migrate(string last = "9999");

    /// <summary>What a type or a made-up id is called by an engine, where the scripts leave it open.</summary>
    protected sealed record Words(string Serial, string Bytes, string Uuid, string Suffix);

    protected void Migrate(UpgradeEngineBuilder builder, string last, Words words)
    {
        var (serial, bytes, uuid, suffix) = words;
        var scripts = Assembly.GetExecutingAssembly();
        var result = builder
            .WithScriptsEmbeddedInAssembly(
                scripts,
                name =>
                    IsOf(name, suffix)
                    && string.CompareOrdinal(
                        name.Split('.')[^(name.EndsWith($".{suffix}.sql", StringComparison.Ordinal) ? 3 : 2)][..4],
                        last
                    ) <= 0
            )
            .WithVariable("serial", serial)
            .WithVariable("bytes", bytes)
            .WithVariable("uuid", uuid)
            .WithTransactionPerScript()
            .LogTo(new Quiet())
            .Build()
            .PerformUpgrade();
        if (!result.Successful)
            throw new StoreFault(
                $"The store cannot be brought up to date ({result.ErrorScript?.Name}): {result.Error.Message}",
                result.Error
            );
    }

    private static bool IsOf(string script, string suffix) =>
        script.EndsWith($".{suffix}.sql", StringComparison.Ordinal)
        || (!script.Contains(".sqlite.", StringComparison.Ordinal) && !script.Contains(".postgres.", StringComparison.Ordinal));

    private sealed class Quiet : IUpgradeLog
    {
        /// <summary>Says nothing.</summary>
        public void LogTrace(string format, params object[] args) { }

        /// <summary>Says nothing.</summary>
        public void LogDebug(string format, params object[] args) { }

        /// <summary>Says nothing.</summary>
        public void LogInformation(string format, params object[] args) { }

        /// <summary>Says nothing.</summary>
        public void LogWarning(string format, params object[] args) { }

        /// <summary>Says nothing: what fails is thrown.</summary>
        public void LogError(string format, params object[] args) { }

        /// <summary>Says nothing: what fails is thrown.</summary>
        public void LogError(Exception ex, string format, params object[] args) { }
    }
}

/// <summary>The store cannot be used; the message says why.</summary>
public sealed class StoreFault(string message, Exception inner) : Exception(message, inner);

/// <summary>The embedded engine: one file, durable at each commit.</summary>
public sealed class SqliteEngine(string path) : Engine, IAsyncDisposable
{
    private const int MaxKept = 16;
    private readonly ConcurrentBag<KeptConnection> _free = [];
    private readonly string _connection = new SqliteConnectionStringBuilder
    {
        DataSource = path,
        Pooling = false,
        DefaultTimeout = 30,
    }.ToString();

    /// <summary>The engine counts no bytes: the count is taken under a lock of the whole process with each allocation.</summary>
    static SqliteEngine()
    {
        SQLitePCL.Batteries_V2.Init();
        SQLitePCL.raw.sqlite3_config(SQLitePCL.raw.SQLITE_CONFIG_MEMSTATUS, 0);
    }

    public override string Name => "sqlite";
    public override string ForUpdate => "";
    public override string BeginSnapshot => "BEGIN";
    public override string SkipLocked => "";
    public override string JoinInOrder => "CROSS JOIN";
    public override bool SingleWriter => true;

    public override async ValueTask<DbConnection> OpenAsync(CancellationToken cancel)
    {
        if (_free.TryTake(out var kept))
            return kept;
        var connection = new SqliteConnection(_connection);
        await connection.OpenAsync(cancel).ConfigureAwait(false);
        using var command = connection.CreateCommand();
        command.CommandText = "PRAGMA synchronous=FULL; PRAGMA busy_timeout=30000; PRAGMA cache_size=-32000; PRAGMA temp_store=MEMORY;";
        command.ExecuteNonQuery();
        return new KeptConnection(connection, GiveBack);
    }

    private void GiveBack(KeptConnection connection)
    {
        if (_free.Count < MaxKept)
            _free.Add(connection);
        else
            connection.End();
    }

    /// <summary>Ends all connections.</summary>
    public ValueTask DisposeAsync()
    {
        while (_free.TryTake(out var connection))
            connection.End();
        return ValueTask.CompletedTask;
    }

    public override ValueTask<DbTransaction> BeginAsync(DbConnection connection, CancellationToken cancel) =>
        ValueTask.FromResult<DbTransaction>(((KeptConnection)connection).Inner.BeginTransaction(deferred: false));

    public override string Rows(params ReadOnlySpan<(string Column, string Type)> columns)
    {
        var list = new List<string>();
        foreach (var (column, _) in columns)
            list.Add($"json_extract(value,'$.{column}') AS {column}");
        return $"(SELECT {string.Join(", ", list)} FROM json_each(@rows))";
    }

    public override bool IsRace(Exception error) => error is SqliteException { SqliteErrorCode: 5 or 6 };

    // 18 too big, 19 constraint, 20 mismatch, 25 range.
    public override bool IsLasting(Exception error) =>
        error is SqliteException { SqliteErrorCode: 18 or 19 or 20 or 25 } || base.IsLasting(error);

    private static readonly Words Scripts = new(
        "INTEGER PRIMARY KEY AUTOINCREMENT",
        "BLOB",
        // A UUID version 4 (RFC 9562 §5.4).
        "lower(hex(randomblob(4)) || '-' || hex(randomblob(2)) || '-4' || substr(hex(randomblob(2)), 2) || '-' || "
            + "substr('89ab', 1 + (abs(random()) % 4), 1) || substr(hex(randomblob(2)), 2) || '-' || hex(randomblob(6)))",
        "sqlite"
    );

    public override void Migrate(string last = "9999")
    {
        using (var connection = new SqliteConnection(_connection))
        {
            connection.Open();
            using var command = connection.CreateCommand();
            command.CommandText = "PRAGMA journal_mode=WAL; PRAGMA journal_size_limit=67108864;";
            command.ExecuteNonQuery();
        }
        Migrate(DeployChanges.To.SqliteDatabase(_connection), last, Scripts);
    }
}

/// <summary>PostgreSQL, for several nodes over one store.</summary>
public sealed class PostgresEngine : Engine, IAsyncDisposable
{
    private const long MigrationLock = 7_306_918_273;
    private readonly NpgsqlDataSource _source;
    private readonly string _connection;

    /// <summary>An engine over a connection string.</summary>
    public PostgresEngine(string connection)
    {
        _connection = new NpgsqlConnectionStringBuilder(connection) { MaxAutoPrepare = 200, AutoPrepareMinUsages = 2 }.ToString();
        _source = NpgsqlDataSource.Create(_connection);
    }

    public override string Name => "postgres";
    public override string ForUpdate => " FOR UPDATE";
    public override string BeginSnapshot => "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY";
    public override string SkipLocked => " FOR UPDATE SKIP LOCKED";
    public override string JoinInOrder => "JOIN";
    public override bool SingleWriter => false;

    public override async ValueTask<DbConnection> OpenAsync(CancellationToken cancel) =>
        await _source.OpenConnectionAsync(cancel).ConfigureAwait(false);

    public override ValueTask<DbTransaction> BeginAsync(DbConnection connection, CancellationToken cancel) =>
        connection.BeginTransactionAsync(cancel);

    public override string Rows(params ReadOnlySpan<(string Column, string Type)> columns)
    {
        var list = new List<string>();
        foreach (var (column, type) in columns)
            list.Add($"{column} {type}");
        return $"(SELECT * FROM jsonb_to_recordset(CAST(@rows AS jsonb)) AS r({string.Join(", ", list)}))";
    }

    public override bool IsRace(Exception error) => error is PostgresException { SqlState: "40001" or "40P01" };

    // Class 22 is bad data, class 23 a constraint.
    public override bool IsLasting(Exception error) =>
        error is PostgresException { SqlState: ['2', '2' or '3', ..] } || base.IsLasting(error);

    public override void Migrate(string last = "9999")
    {
        using var gate = new NpgsqlConnection(_connection);
        gate.Open();
        using var command = gate.CreateCommand();
        command.CommandText = $"SELECT pg_advisory_lock({MigrationLock})";
        command.ExecuteNonQuery();
        Migrate(
            DeployChanges.To.PostgresqlDatabase(_connection),
            last,
            new("BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY", "BYTEA", "gen_random_uuid()::text", "postgres")
        );
        command.CommandText = $"SELECT pg_advisory_unlock({MigrationLock})";
        command.ExecuteNonQuery();
    }

    /// <summary>Ends all connections.</summary>
    public ValueTask DisposeAsync() => _source.DisposeAsync();
}
