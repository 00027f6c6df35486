using System.Data;
using System.Data.Common;
using System.Diagnostics.CodeAnalysis;
using Microsoft.Data.Sqlite;

namespace Oikonom.Store;

/// <summary>
/// A connection of the embedded engine that keeps its prepared statements by their text, so that a statement is
/// compiled once and not with each call. Disposing gives it back to the engine.
/// </summary>
internal sealed class KeptConnection(SqliteConnection inner, Action<KeptConnection> giveBack) : DbConnection
{
    private const int MaxKept = 256;
    private Prepared? _prepared;
    private readonly Dictionary<string, SqliteCommand> _kept = new(StringComparer.Ordinal);

    /// <summary>The connection that is kept.</summary>
    public SqliteConnection Inner => inner;

    /// <summary>Statements that run over many rows.</summary>
    public Prepared Prepared => _prepared ??= new(inner);

    [AllowNull]
    public override string ConnectionString
    {
        get => inner.ConnectionString;
        set => throw new NotSupportedException();
    }
    public override string Database => inner.Database;
    public override string DataSource => inner.DataSource;
    public override string ServerVersion => inner.ServerVersion;
    public override ConnectionState State => inner.State;

    public override void ChangeDatabase(string databaseName) => throw new NotSupportedException();

    public override void Open() { }

    public override void Close() { }

    protected override DbTransaction BeginDbTransaction(IsolationLevel isolationLevel) => inner.BeginTransaction(deferred: false);

    protected override DbCommand CreateDbCommand() => new KeptCommand(this);

    protected override void Dispose(bool disposing)
    {
        if (disposing)
            giveBack(this);
    }

    public override ValueTask DisposeAsync()
    {
        giveBack(this);
        return ValueTask.CompletedTask;
    }

    /// <summary>Ends the statements and the connection itself.</summary>
    public void End()
    {
        foreach (var command in _kept.Values)
            command.Dispose();
        _kept.Clear();
        _prepared?.Dispose();
        inner.Dispose();
    }

    /// <summary>A statement for this text: a kept one that nobody uses now, else a new one.</summary>
    private SqliteCommand Take(string text)
    {
        if (_kept.Remove(text, out var kept))
            return kept;
        var command = inner.CreateCommand();
        command.CommandText = text;
        return command;
    }

    private void Keep(SqliteCommand command)
    {
        command.Parameters.Clear();
        command.Transaction = null;
        if (_kept.Count >= MaxKept || !_kept.TryAdd(command.CommandText, command))
            command.Dispose();
    }

    /// <summary>A command that turns into a kept statement once its text is known.</summary>
    private sealed class KeptCommand(KeptConnection connection) : DbCommand
    {
        private SqliteCommand? _statement;
        private SqliteTransaction? _transaction;
        private int _timeout = 30;

        private SqliteCommand Statement => _statement ?? throw new InvalidOperationException("The command has no text yet.");

        [AllowNull]
        public override string CommandText
        {
            get => _statement?.CommandText ?? "";
            set
            {
                var earlier = _statement;
                _statement = connection.Take(value ?? "");
                _statement.Transaction = _transaction;
                _statement.CommandTimeout = _timeout;
                if (earlier is not null)
                {
                    var parameters = earlier.Parameters.Cast<SqliteParameter>().ToList();
                    earlier.Parameters.Clear();
                    _statement.Parameters.AddRange(parameters);
                    connection.Keep(earlier);
                }
            }
        }

        public override int CommandTimeout
        {
            get => _timeout;
            set
            {
                _timeout = value;
                if (_statement is not null)
                    _statement.CommandTimeout = value;
            }
        }
        public override CommandType CommandType
        {
            get => CommandType.Text;
            set { }
        }
        public override bool DesignTimeVisible { get; set; }
        public override UpdateRowSource UpdatedRowSource { get; set; }
        protected override DbConnection? DbConnection
        {
            get => connection;
            set { }
        }
        protected override DbParameterCollection DbParameterCollection => Statement.Parameters;
        protected override DbTransaction? DbTransaction
        {
            get => _transaction;
            set
            {
                _transaction = (SqliteTransaction?)value;
                if (_statement is not null)
                    _statement.Transaction = _transaction;
            }
        }

        public override void Cancel() { }

        public override int ExecuteNonQuery() => Statement.ExecuteNonQuery();

        public override object? ExecuteScalar() => Statement.ExecuteScalar();

        public override void Prepare() => Statement.Prepare();

        protected override DbParameter CreateDbParameter() => new SqliteParameter();

        protected override DbDataReader ExecuteDbDataReader(CommandBehavior behavior) => Statement.ExecuteReader(behavior);

        protected override void Dispose(bool disposing)
        {
            if (disposing && _statement is { } statement)
            {
                _statement = null;
                connection.Keep(statement);
            }
        }
    }
}
