namespace Oikonom.Cli;

/// <summary>
/// Lays a table out in lines. Each column is as wide as what it holds; where a width is given and they do not fit, the
/// widest are broken between words; where even that gives slivers, each row is told in lines of its own.
/// </summary>
public static class TextTable
{
    private const int Narrowest = 12;
    private const string Gap = "  ";

    /// <param name="width">Characters in a line; null where nothing has to fit, as in a pipe.</param>
    /// <returns>Lines without blanks at their ends; the first is the head, or the first row's where rows are told in lines.</returns>
    public static IReadOnlyList<string> Lay(IReadOnlyList<string> columns, IReadOnlyList<IReadOnlyList<string>> rows, int? width)
    {
        var widths = columns.Select((c, i) => rows.Select(r => Longest(r[i])).Append(Length(c)).Max()).ToArray();
        if (width is { } most && !Fit(widths, [.. columns.Select(Length)], most))
            return [.. rows.SelectMany((row, i) => Told(columns, row, i > 0))];
        var lines = new List<string> { Line(columns, widths) };
        foreach (var row in rows)
        {
            var cells = row.Select((cell, i) => cell.Split('\n').SelectMany(part => Broken(part, widths[i])).ToList()).ToList();
            for (var i = 0; i < cells.Max(c => c.Count); i++)
                lines.Add(Line([.. cells.Select(c => i < c.Count ? c[i] : "")], widths));
        }
        return lines;
    }

    private static string Line(IReadOnlyList<string> cells, int[] widths) =>
        string.Join(Gap, cells.Select((cell, i) => cell + new string(' ', widths[i] - Length(cell)))).TrimEnd();

    /// <summary>Takes from the widest columns until all fit; false when what is left would be slivers.</summary>
    private static bool Fit(int[] widths, int[] heads, int most)
    {
        while (widths.Sum() + (Gap.Length * (widths.Length - 1)) > most)
        {
            var widest = Enumerable.Range(0, widths.Length).MaxBy(i => widths[i] - Math.Max(Narrowest, heads[i]));
            if (widths[widest] <= Math.Max(Narrowest, heads[widest]))
                return false;
            widths[widest]--;
        }
        return true;
    }

    private static IEnumerable<string> Told(IReadOnlyList<string> columns, IReadOnlyList<string> row, bool apart)
    {
        var head = columns.Max(Length);
        if (apart)
            yield return "";
        for (var i = 0; i < columns.Count; i++)
            if (row[i].Length > 0)
                yield return $"{columns[i]}{new string(' ', head - Length(columns[i]))}{Gap}{row[i].ReplaceLineEndings(" ")}".TrimEnd();
    }

    /// <summary>A text in parts no longer than a width, broken between words; a word that is longer is cut.</summary>
    private static IEnumerable<string> Broken(string text, int width)
    {
        var line = "";
        foreach (var word in text.Split(' '))
        {
            if (line.Length > 0 && Length(line) + 1 + Length(word) > width)
            {
                yield return line;
                line = "";
            }
            line = line.Length == 0 ? word : $"{line} {word}";
            while (Length(line) > width)
            {
                var cut =
                    System.Globalization.StringInfo.ParseCombiningCharacters(line) is var starts && starts.Length > width
                        ? starts[width]
                        : width;
                yield return line[..cut];
                line = line[cut..];
            }
        }
        yield return line;
    }

    private static int Longest(string text) => text.Split('\n').Max(Length);

    /// <summary>Characters as people count them.</summary>
    private static int Length(string text) => new System.Globalization.StringInfo(text).LengthInTextElements;
}
