using System.Text;
using nietras.SeparatedValues;

namespace Oikonom.Targets.Files;

/// <summary>One account of the file.</summary>
/// <param name="Id">Ours, and the same for ever.</param>
/// <param name="Attributes">Name → values; compared without case.</param>
/// <param name="Entitlements">The values that the other side has for what the account holds.</param>
/// <param name="Changed">When we changed it last (ISO 8601, UTC): what an answer is about.</param>
internal sealed record FileRow(
    string Id,
    string Name,
    bool Enabled,
    IReadOnlyDictionary<string, IReadOnlyList<string>> Attributes,
    IReadOnlyList<string> Entitlements,
    string Changed
);

/// <summary>What the other side says of one change.</summary>
internal sealed record FileAnswer(string Changed, bool IsDone, string Message);

/// <summary>
/// The files of a target (RFC 4180, UTF-8, with a header): one row for each account, its attributes as columns. Several values of one
/// place are separated by semicolons; a semicolon or backslash within a value has a backslash before it.
/// </summary>
internal static class AccountsFile
{
    /// <summary>The columns that no attribute can be called.</summary>
    private const string Id = "id",
        Name = "name",
        Enabled = "enabled",
        Entitlements = "entitlements",
        Changed = "changed";

    /// <summary>All accounts by id; none where there is no file.</summary>
    /// <exception cref="InvalidDataException">It is no such file.</exception>
    public static Dictionary<string, FileRow> Read(string path)
    {
        var rows = new Dictionary<string, FileRow>(StringComparer.Ordinal);
        foreach (var (columns, cells, line) in Table(path, Id, Name, Enabled, Entitlements, Changed))
        {
            var attributes = new Dictionary<string, IReadOnlyList<string>>(StringComparer.OrdinalIgnoreCase);
            for (var i = 0; i < columns.Count; i++)
                if (columns[i] is not (Id or Name or Enabled or Entitlements or Changed) && Values(cells[i]) is { Count: > 0 } values)
                    attributes[columns[i]] = values;
            string Of(string column) => cells[columns.IndexOf(column)];
            var row = new FileRow(
                Of(Id),
                Of(Name),
                Of(Enabled) switch
                {
                    "yes" => true,
                    "no" => false,
                    var other => throw new InvalidDataException($"line {line}: '{other}' stands in the column 'enabled'; it is yes or no"),
                },
                attributes,
                Values(Of(Entitlements)),
                Of(Changed)
            );
            if (!rows.TryAdd(row.Id, row))
                throw new InvalidDataException($"line {line}: the id {row.Id} stands there twice");
        }
        return rows;
    }

    /// <summary>The answers by the id of the account, the last one of each; none where there is no file.</summary>
    /// <exception cref="InvalidDataException">It is no such file.</exception>
    public static Dictionary<string, FileAnswer> ReadAnswers(string path)
    {
        var answers = new Dictionary<string, FileAnswer>(StringComparer.Ordinal);
        foreach (var (columns, cells, line) in Table(path, Id, Changed, "outcome"))
        {
            var outcome = cells[columns.IndexOf("outcome")];
            if (outcome is not ("done" or "refused"))
                throw new InvalidDataException($"line {line}: the outcome '{outcome}' is neither done nor refused");
            var message = columns.IndexOf("message") is >= 0 and var place ? cells[place] : "";
            answers[cells[columns.IndexOf(Id)]] = new(cells[columns.IndexOf(Changed)], outcome == "done", message);
        }
        return answers;
    }

    /// <summary>Writes all accounts, so that whoever reads finds the file of before or this one, and never a half.</summary>
    /// <param name="at">The time that the file carries.</param>
    public static void Write(string path, IReadOnlyCollection<FileRow> rows, DateTimeOffset at)
    {
        var columns = rows.SelectMany(r => r.Attributes.Keys)
            .Distinct(StringComparer.OrdinalIgnoreCase)
            .Order(StringComparer.OrdinalIgnoreCase)
            .ToList();
        Write(
            path,
            at,
            text =>
            {
                using var writer = Sep.New(',').Writer(o => o with { Escape = true }).To(text);
                writer.Header.Add([Id, Name, Enabled, Entitlements, .. columns, Changed]);
                foreach (var row in rows)
                {
                    using var line = writer.NewRow();
                    line[Id].Set(row.Id);
                    line[Name].Set(row.Name);
                    line[Enabled].Set(row.Enabled ? "yes" : "no");
                    line[Entitlements].Set(Text(row.Entitlements));
                    foreach (var column in columns)
                        line[column].Set(Text(row.Attributes.GetValueOrDefault(column) ?? []));
                    line[Changed].Set(row.Changed);
                }
            }
        );
    }

    /// <summary>Writes a text in the same way.</summary>
    public static void Write(string path, string whole, DateTimeOffset at) => Write(path, at, text => text.Write(whole));

    private static void Write(string path, DateTimeOffset at, Action<StreamWriter> write)
    {
        var fresh = path + ".new";
        using (var file = new FileStream(fresh, FileMode.Create, FileAccess.Write, FileShare.None, 1 << 16))
        {
            using (var text = new StreamWriter(file, new UTF8Encoding(false), 1 << 16, leaveOpen: true))
                write(text);
            file.Flush(flushToDisk: true);
        }
        File.SetLastWriteTimeUtc(fresh, at.UtcDateTime);
        File.Move(fresh, path, overwrite: true);
    }

    private static IEnumerable<(List<string> Columns, string[] Cells, int Line)> Table(string path, params string[] needed)
    {
        if (!File.Exists(path))
            yield break;
        using var reader = Sep.New(',').Reader(o => o with { Unescape = true, DisableColCountCheck = true }).FromFile(path);
        var columns = reader.Header.ColNames.ToList();
        if (needed.FirstOrDefault(n => !columns.Contains(n)) is { } missing)
            throw new InvalidDataException($"the column '{missing}' is missing");
        while (reader.MoveNext())
        {
            var row = reader.Current;
            if (row.ColCount != columns.Count)
                throw new InvalidDataException($"line {row.LineNumberFrom}: {row.ColCount} columns; the header has {columns.Count}");
            var cells = new string[columns.Count];
            for (var i = 0; i < cells.Length; i++)
                cells[i] = row[i].ToString();
            yield return (columns, cells, row.LineNumberFrom);
        }
    }

    private static string Text(IReadOnlyList<string> values) =>
        string.Join(
            ';',
            values.Select(v => v.Replace("\\", "\\\\", StringComparison.Ordinal).Replace(";", "\\;", StringComparison.Ordinal))
        );

    private static List<string> Values(string text)
    {
        if (text.Length == 0)
            return [];
        var (values, value) = (new List<string>(), new StringBuilder());
        for (var i = 0; i < text.Length; i++)
        {
            if (text[i] == ';')
            {
                values.Add(value.ToString());
                value.Clear();
            }
            else
                value.Append(text[i] == '\\' && i + 1 < text.Length ? text[++i] : text[i]);
        }
        values.Add(value.ToString());
        return values;
    }
}
