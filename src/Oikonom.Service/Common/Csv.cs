using System.Text;

namespace Oikonom.Service.Common;

/// <summary>Tables as files (RFC 4180) that a spreadsheet opens without running anything.</summary>
public static class Csv
{
    public static IResult File(string name, IReadOnlyList<string> columns, IEnumerable<IReadOnlyList<string>> rows) =>
        Results.File(
            Encoding.UTF8.GetPreamble().Concat(Encoding.UTF8.GetBytes(Text(columns, rows))).ToArray(),
            "text/csv; charset=utf-8",
            name
        );

    public static string Text(IReadOnlyList<string> columns, IEnumerable<IReadOnlyList<string>> rows)
    {
        var text = new StringBuilder();
        foreach (var row in rows.Prepend(columns))
            text.AppendJoin(',', row.Select(Cell)).Append("\r\n");
        return text.ToString();
    }

    /// <summary>A value that a spreadsheet would take for a formula gets an apostrophe before it, which says: text.</summary>
    public static string Cell(string value)
    {
        var start = value.AsSpan().TrimStart();
        var text =
            start.Length > 0 && start[0] is '=' or '+' or '-' or '@' or '\uFF1D' or '\uFF0B' or '\uFF0D' or '\uFF20'
            || value.StartsWith('\t')
            || value.StartsWith('\r')
                ? "'" + value
                : value;
        return text.AsSpan().IndexOfAny(",\"\r\n") >= 0 || text != text.Trim()
            ? $"\"{text.Replace("\"", "\"\"", StringComparison.Ordinal)}\""
            : text;
    }
}
