using System.Collections.Concurrent;
using System.Data.Common;
using System.Reflection;
using System.Runtime.CompilerServices;

namespace Oikonom.Store;

/// <summary>The prepared statements of one connection of the embedded engine, kept by their text.</summary>
internal sealed class Prepared
{
    private static readonly ConditionalWeakTable<DbConnection, Prepared> All = [];
    private static readonly ConcurrentDictionary<(Type, string), PropertyInfo?> Properties = new();
    private readonly DbConnection _connection;
    private readonly Dictionary<string, DbCommand> _commands = new(StringComparer.Ordinal);

    private Prepared(DbConnection connection) => _connection = connection;

    public static Prepared Of(DbConnection connection) => All.GetValue(connection, c => new(c));

    /// <summary>Runs the statement once for each row, with {rows} as a select of the row's values.</summary>
    public int RunEach<T>(string sql, IReadOnlyCollection<T> rows, (string Column, string Type)[] columns, DbTransaction transaction)
    {
        if (!_commands.TryGetValue(sql, out var command)) _commands[sql] = command = Prepare(sql, columns);
        command.Transaction = transaction;
        var count = 0;
        PropertyInfo?[]? properties = null;
        Type? type = null;
        foreach (var row in rows)
        {
            if (type != row!.GetType())
            {
                type = row.GetType();
                var current = type;
                properties = Array.ConvertAll(columns, c => Properties.GetOrAdd((current, c.Column), key => key.Item1.GetProperty(key.Item2.Replace("_", "", StringComparison.Ordinal), BindingFlags.Public | BindingFlags.Instance | BindingFlags.IgnoreCase)));
            }
            for (var i = 0; i < columns.Length; i++) command.Parameters[i].Value = properties![i]?.GetValue(row) ?? DBNull.Value;
            count += command.ExecuteNonQuery();
        }
        return count;
    }

    private DbCommand Prepare(string sql, (string Column, string Type)[] columns)
    {
        var command = _connection is KeptConnection kept ? kept.Inner.CreateCommand() : _connection.CreateCommand();
        command.CommandText = sql.Replace("{rows}", $"(SELECT {string.Join(", ", columns.Select(c => $"@{c.Column} AS {c.Column}"))})", StringComparison.Ordinal);
        foreach (var (column, _) in columns)
        {
            var parameter = command.CreateParameter();
            parameter.ParameterName = $"@{column}";
            parameter.Value = DBNull.Value;
            command.Parameters.Add(parameter);
        }
        command.Prepare();
        return command;
    }
}
