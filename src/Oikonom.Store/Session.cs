using System.Data.Common;
using System.Text.Json;
using Dapper;
using Oikonom.Core.Ledger;

namespace Oikonom.Store;

/// <summary>
/// A connection, and inside a decision its transaction. Ledger entries, hints and notices are gathered and
/// written with the state they belong to: all together or not at all.
/// </summary>
public sealed class Session
{
    private readonly DbConnection _connection;
    private readonly DbTransaction? _transaction;
    private readonly List<LedgerEntry> _entries = [];
    private readonly List<Hint> _hints = [];
    private readonly List<Notice> _notices = [];

    internal Session(Engine engine, DbConnection connection, DbTransaction? transaction)
    {
        Engine = engine;
        _connection = connection;
        _transaction = transaction;
    }

    /// <summary>The engine it runs on.</summary>
    public Engine Engine { get; }
    internal bool Wakes => _hints.Count > 0 || _notices.Count > 0 || _entries.Count > 0;

    /// <summary>Puts an entry on the ledger, with the decision and not without it.</summary>
    public void Record(LedgerEntry entry) => _entries.Add(entry);

    /// <summary>Tells whoever watches that something changed, when the decision is written.</summary>
    public void Tell(string topic, string subject) => _hints.Add(new(topic, subject));

    /// <summary>Sends a notice, when the decision is written.</summary>
    public void Send(Notice notice) => _notices.Add(notice);

    /// <summary>Runs a statement; how many rows it touched.</summary>
    public Task<int> ExecuteAsync(string sql, object? parameters = null) => _connection.ExecuteAsync(sql, parameters, _transaction);

    /// <summary>Reads all rows of a statement.</summary>
    public async Task<IReadOnlyList<T>> QueryAsync<T>(string sql, object? parameters = null) =>
        (await _connection.QueryAsync<T>(sql, parameters, _transaction).ConfigureAwait(false)).AsList();

    /// <summary>Reads the first row of a statement; null when there is none.</summary>
    public Task<T?> FirstAsync<T>(string sql, object? parameters = null) =>
        _connection.QueryFirstOrDefaultAsync<T>(sql, parameters, _transaction);

    /// <summary>Reads the one value of a statement.</summary>
    public async Task<T> ScalarAsync<T>(string sql, object? parameters = null) =>
        (await _connection.ExecuteScalarAsync<T>(sql, parameters, _transaction).ConfigureAwait(false))!;

    /// <summary>
    /// Runs one statement over many rows: <paramref name="sql"/> reads them from {rows}. One round trip where the
    /// engine is elsewhere; a prepared statement row by row where it is in the process.
    /// </summary>
    public Task<int> BulkAsync<T>(string sql, IReadOnlyCollection<T> rows, params (string Column, string Type)[] columns) =>
        rows.Count == 0 ? Task.FromResult(0)
        : _connection is KeptConnection kept && _transaction is not null ? Task.FromResult(kept.Prepared.RunEach(sql, rows, columns))
        : ExecuteAsync(
            sql.Replace("{rows}", Engine.Rows(columns), StringComparison.Ordinal),
            new { rows = JsonSerializer.Serialize(rows, BulkJson) }
        );

    /// <summary>Reads for many keys at once: {rows} are the keys, and {join} goes from them to the table, never the other way.</summary>
    public async Task<IReadOnlyList<TRow>> BulkQueryAsync<TRow, T>(
        string sql,
        IReadOnlyCollection<T> rows,
        params (string Column, string Type)[] columns
    ) =>
        rows.Count == 0
            ? []
            : await QueryAsync<TRow>(
                    sql.Replace("{rows}", Engine.Rows(columns), StringComparison.Ordinal)
                        .Replace("{join}", Engine.JoinInOrder, StringComparison.Ordinal),
                    new { rows = JsonSerializer.Serialize(rows, BulkJson) }
                )
                .ConfigureAwait(false);

    /// <summary>An unbuffered read through the raw reader, for large results.</summary>
    public async Task ReadEachAsync(
        string sql,
        IReadOnlyList<(string Name, object Value)> parameters,
        Action<DbDataReader> each,
        CancellationToken cancel
    )
    {
        await using var command = _connection.CreateCommand();
        command.CommandText = sql;
        command.Transaction = _transaction;
        foreach (var (name, value) in parameters)
        {
            var parameter = command.CreateParameter();
            parameter.ParameterName = name;
            parameter.Value = value;
            command.Parameters.Add(parameter);
        }
        await using var reader = await command.ExecuteReaderAsync(cancel).ConfigureAwait(false);
        while (Engine.SingleWriter ? reader.Read() : await reader.ReadAsync(cancel).ConfigureAwait(false))
            each(reader);
    }

    private static readonly JsonSerializerOptions BulkJson = new()
    {
        PropertyNamingPolicy = JsonNamingPolicy.SnakeCaseLower,
        Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    };

    /// <summary>Writes what was recorded, hinted and told in this decision, beside its state.</summary>
    internal async Task FlushAsync(long now)
    {
        await FlushEntriesAsync().ConfigureAwait(false);
        await FlushHintsAsync(now).ConfigureAwait(false);
        await FlushNoticesAsync(now).ConfigureAwait(false);
    }

    private async Task FlushEntriesAsync()
    {
        await BulkAsync(
                "INSERT INTO ledger (id, at, actor, kind, person_id, request_id, body) SELECT id, at, actor, kind, person, "
                    + "request, body FROM {rows} AS x",
                [
                    .. _entries.Select(e => new
                    {
                        e.Id,
                        At = e.At.ToUnixTimeMilliseconds(),
                        e.Actor,
                        e.Kind,
                        e.Person,
                        e.Request,
                        e.Body,
                    }),
                ],
                ("id", "text"),
                ("at", "bigint"),
                ("actor", "text"),
                ("kind", "text"),
                ("person", "text"),
                ("request", "text"),
                ("body", "text")
            )
            .ConfigureAwait(false);
        await BulkAsync(
                "INSERT INTO ledger_values (id, body) SELECT id, body FROM {rows} AS x",
                [.. _entries.Where(e => e.Values is not null).Select(e => new { e.Id, Body = e.Values })],
                ("id", "text"),
                ("body", "text")
            )
            .ConfigureAwait(false);
    }

    private Task FlushHintsAsync(long now) =>
        BulkAsync(
            "INSERT INTO hints (topic, subject, at) SELECT topic, subject, at FROM {rows} AS x",
            [
                .. _hints
                    .Distinct()
                    .Select(h => new
                    {
                        h.Topic,
                        h.Subject,
                        At = now,
                    }),
            ],
            ("topic", "text"),
            ("subject", "text"),
            ("at", "bigint")
        );

    private Task FlushNoticesAsync(long now) =>
        BulkAsync(
            "INSERT INTO notices (mail, subject, body, request_id, created_at, due_at, lease_until, attempts, problem, "
                + "user_name, event, sealed) SELECT mail, subject, body, request_id, created_at, due_at, 0, 0, '', user_name, "
                + "event, sealed FROM {rows} AS x",
            [
                .. _notices.Select(n => new
                {
                    n.Mail,
                    n.Subject,
                    n.Body,
                    n.RequestId,
                    CreatedAt = now,
                    DueAt = n.Mail.Length == 0 ? (long?)null
                    : n.DueAt > 0 ? n.DueAt
                    : now,
                    n.UserName,
                    n.Event,
                    n.Sealed,
                }),
            ],
            ("mail", "text"),
            ("subject", "text"),
            ("body", "text"),
            ("request_id", "text"),
            ("created_at", "bigint"),
            ("due_at", "bigint"),
            ("user_name", "text"),
            ("event", "text"),
            ("sealed", "text")
        );

    private sealed record Hint(string Topic, string Subject);
}

/// <summary>A mail to be sent, without secrets.</summary>
public sealed record Notice(string Mail, string Subject, string Body, string? RequestId)
{
    /// <summary>The user in whose inbox it stands, or "".</summary>
    public string UserName { get; init; } = "";

    /// <summary>Which notice it is.</summary>
    public string Event { get; init; } = "";

    /// <summary>What stands for <c>{{sealed}}</c> in the body, such as a one-time link, sealed with the key ring; "" for nothing.</summary>
    public string Sealed { get; init; } = "";

    /// <summary>When the mail goes out, in milliseconds; 0 means at once.</summary>
    public long DueAt { get; init; }
}
