using System.Collections.Concurrent;
using System.Linq.Expressions;
using System.Reflection;
using System.Text;
using System.Text.RegularExpressions;
using Microsoft.Data.Sqlite;
using SQLitePCL;

namespace Oikonom.Store;

/// <summary>
/// The prepared statements of one connection of the embedded engine that are run over many rows, kept by their
/// text. Values go from the row's properties to the engine without a parameter object between: a first load is
/// mostly this.
/// </summary>
internal sealed partial class Prepared(SqliteConnection connection) : IDisposable
{
    private static readonly ConcurrentDictionary<(Type As, Type Row, string Columns), Delegate> Binders = new();
    private readonly Dictionary<string, sqlite3_stmt> _statements = new(StringComparer.Ordinal);

    /// <summary>Runs the statement once for each row, with {rows} as a select of the row's values.</summary>
    /// <returns>How many rows of the store were changed.</returns>
    /// <exception cref="SqliteException">The engine refused a row.</exception>
    public int RunEach<T>(string sql, IReadOnlyCollection<T> rows, (string Column, string Type)[] columns)
    {
        var database = connection.Handle ?? throw new InvalidOperationException("The connection is closed.");
        if (!_statements.TryGetValue(sql, out var statement))
            _statements[sql] = statement = Prepare(database, sql, columns);
        var count = 0;
        Action<T, sqlite3_stmt>? bind = null;
        Type? type = null;
        try
        {
            foreach (var row in rows)
            {
                if (type != row!.GetType())
                {
                    type = row.GetType();
                    bind =
                        (Action<T, sqlite3_stmt>)
                            Binders.GetOrAdd(
                                (typeof(T), type, string.Join(',', columns.Select(c => c.Column))),
                                _ => Binder<T>(type, columns)
                            );
                }
                bind!(row, statement);
                int result;
                while ((result = raw.sqlite3_step(statement)) == raw.SQLITE_ROW) { }
                if (result != raw.SQLITE_DONE)
                    SqliteException.ThrowExceptionForRC(result, database);
                count += raw.sqlite3_changes(database);
                raw.sqlite3_reset(statement);
            }
        }
        catch
        {
            raw.sqlite3_reset(statement);
            throw;
        }
        return count;
    }

    private static sqlite3_stmt Prepare(sqlite3 database, string sql, (string Column, string Type)[] columns)
    {
        var text =
            AsValues(sql, columns)
            ?? sql.Replace(
                "{rows}",
                $"(SELECT {string.Join(", ", columns.Select((c, i) => $"?{i + 1} AS {c.Column}"))})",
                StringComparison.Ordinal
            );
        var result = raw.sqlite3_prepare_v3(database, text, raw.SQLITE_PREPARE_PERSISTENT, out var statement);
        if (result != raw.SQLITE_OK)
            SqliteException.ThrowExceptionForRC(result, database);
        return statement;
    }

    /// <summary>A plain insert with its values named outright: the engine then copies none of them and keeps no journal of the
    /// statement.</summary>
    private static string? AsValues(string sql, (string Column, string Type)[] columns)
    {
        if (PlainInsert().Match(sql) is not { Success: true } plain)
            return null;
        var places = columns.Select((c, i) => (c.Column, i)).ToDictionary(c => c.Column, c => c.i + 1, StringComparer.Ordinal);
        // Texts in quotes stay as they are.
        var values = Word()
            .Replace(plain.Groups["values"].Value, word => places.TryGetValue(word.Value, out var place) ? $"?{place}" : word.Value);
        return $"{plain.Groups["into"].Value} VALUES ({values}){plain.Groups["conflict"].Value}";
    }

    [GeneratedRegex(
        @"^(?<into>INSERT INTO \w+ \([^)]*\)) SELECT (?<values>.+) FROM \{rows\} AS x(?: WHERE true)?(?<conflict> ON CONFLICT .*)?$",
        RegexOptions.Singleline
    )]
    private static partial Regex PlainInsert();

    [GeneratedRegex(@"'[^']*'|\b[a-z_]+\b")]
    private static partial Regex Word();

    /// <summary>One compiled function that binds all columns of a row; a column the row has no property for is null.</summary>
    private static Action<T, sqlite3_stmt> Binder<T>(Type type, (string Column, string Type)[] columns)
    {
        var (row, statement) = (Expression.Parameter(typeof(T)), Expression.Parameter(typeof(sqlite3_stmt)));
        var calls = columns.Select(
            (column, i) =>
            {
                var property = type.GetProperty(
                    column.Column.Replace("_", "", StringComparison.Ordinal),
                    BindingFlags.Public | BindingFlags.Instance | BindingFlags.IgnoreCase
                );
                Expression value = property is null
                    ? Expression.Constant(null, typeof(string))
                    : Expression.Property(Expression.Convert(row, type), property);
                if (value.Type.IsEnum)
                    value = Expression.Call(typeof(EnumText), nameof(EnumText.Of), [value.Type], value);
                if (value.Type == typeof(int))
                    value = Expression.Convert(value, typeof(long));
                if (value.Type == typeof(long))
                    value = Expression.Convert(value, typeof(long?));
                return (Expression)
                    Expression.Call(
                        typeof(Prepared).GetMethod(
                            nameof(Bind),
                            BindingFlags.NonPublic | BindingFlags.Static,
                            [typeof(sqlite3_stmt), typeof(int), value.Type]
                        ) ?? throw new NotSupportedException($"A column of type {value.Type} cannot be stored."),
                        statement,
                        Expression.Constant(i + 1),
                        value
                    );
            }
        );
        return Expression.Lambda<Action<T, sqlite3_stmt>>(Expression.Block(calls), row, statement).Compile();
    }

    private static void Bind(sqlite3_stmt statement, int index, long? value)
    {
        if (value is { } number)
            raw.sqlite3_bind_int64(statement, index, number);
        else
            raw.sqlite3_bind_null(statement, index);
    }

    private static void Bind(sqlite3_stmt statement, int index, byte[]? value)
    {
        if (value is null)
            raw.sqlite3_bind_null(statement, index);
        else
            raw.sqlite3_bind_blob(statement, index, value);
    }

    private static void Bind(sqlite3_stmt statement, int index, string? value)
    {
        const int OnStack = 512;
        if (string.IsNullOrEmpty(value))
        {
            // No bytes at all would be taken for no value.
            if (value is null)
                raw.sqlite3_bind_null(statement, index);
            else
                raw.sqlite3_bind_text(statement, index, "");
            return;
        }
        if (value.Length * 3 <= OnStack)
        {
            Span<byte> some = stackalloc byte[OnStack];
            raw.sqlite3_bind_text(statement, index, (ReadOnlySpan<byte>)some[..Encoding.UTF8.GetBytes(value, some)]);
            return;
        }
        var rented = System.Buffers.ArrayPool<byte>.Shared.Rent(Encoding.UTF8.GetMaxByteCount(value.Length));
        raw.sqlite3_bind_text(statement, index, rented.AsSpan(0, Encoding.UTF8.GetBytes(value, rented)));
        System.Buffers.ArrayPool<byte>.Shared.Return(rented);
    }

    /// <summary>Ends the statement.</summary>
    public void Dispose()
    {
        foreach (var statement in _statements.Values)
            statement.Dispose();
        _statements.Clear();
    }
}
