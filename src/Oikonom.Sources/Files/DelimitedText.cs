namespace Oikonom.Sources.Files;

/// <summary>A row of a delimited text.</summary>
/// <param name="Line">Where it begins in the text, from 1 on.</param>
/// <param name="Cells">Its values without their quotes.</param>
/// <param name="Fault">What is wrong with it, or null.</param>
public sealed record TextRow(int Line, IReadOnlyList<string> Cells, string? Fault);

/// <summary>Delimited text (RFC 4180) that somebody handed in, with whatever mark divides its header most often.</summary>
public static class DelimitedText
{
    /// <summary>Its rows, the header first; empty lines are left out.</summary>
    /// <exception cref="SourceFault">A row is too long to be one.</exception>
    public static IEnumerable<TextRow> Rows(string text)
    {
        text = text.TrimStart('\uFEFF');
        var end = text.IndexOf('\n', StringComparison.Ordinal);
        using var source = new StringReader(text);
        using var reader = DelimitedFile.Open(source, DelimitedFile.DelimiterOf(end < 0 ? text : text[..end]));
        var first = true;
        while (DelimitedFile.MoveNext(reader))
        {
            var row = reader.Current;
            if (row.Span.Length == 0)
                continue;
            var cells = new string[row.ColCount];
            for (var i = 0; i < cells.Length; i++)
                cells[i] = row[i].ToString();
            // The reader counts the lines before its first row as one.
            var line = first
                ? text.AsSpan().IndexOfAnyExcept('\r', '\n') is var at and > 0
                    ? 1 + text.AsSpan(0, at).Count('\n')
                    : 1
                : row.LineNumberFrom;
            first = false;
            yield return new(line, cells, row.Span.Count('"') % 2 == 1 ? DelimitedFile.OpenQuote : null);
        }
    }
}
