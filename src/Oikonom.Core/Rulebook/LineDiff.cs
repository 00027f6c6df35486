namespace Oikonom.Core.Rulebook;

/// <summary>What happened to a line.</summary>
public enum LineChange
{
    Same,
    Gone,
    New,
}

/// <summary>A line of either text, with its number from 1 where it stands.</summary>
public sealed record DiffedLine(LineChange Change, int? Before, int? After, string Text);

/// <summary>The lines that differ between two texts, by the longest common run of lines.</summary>
public static class LineDiff
{
    private const int MaxTable = 25_000_000;

    /// <summary>The lines of both texts in order: kept, taken out and added.</summary>
    public static IReadOnlyList<DiffedLine> Between(string before, string after)
    {
        var (left, right) = (Lines(before), Lines(after));
        var head = 0;
        while (head < left.Length && head < right.Length && left[head] == right[head])
            head++;
        var tail = 0;
        while (tail < left.Length - head && tail < right.Length - head && left[^(tail + 1)] == right[^(tail + 1)])
            tail++;
        var lines = new List<DiffedLine>();
        for (var i = 0; i < head; i++)
            lines.Add(new(LineChange.Same, i + 1, i + 1, left[i]));
        Middle(left, right, head, left.Length - tail, right.Length - tail, lines);
        for (var i = tail; i > 0; i--)
            lines.Add(new(LineChange.Same, left.Length - i + 1, right.Length - i + 1, left[^i]));
        return lines;
    }

    private static string[] Lines(string text) => text.Length == 0 ? [] : text.TrimEnd('\n').Split('\n');

    private static void Middle(string[] left, string[] right, int from, int leftEnd, int rightEnd, List<DiffedLine> lines)
    {
        var (height, width) = (leftEnd - from, rightEnd - from);
        if ((long)(height + 1) * (width + 1) > MaxTable)
        {
            // Too large to compare line by line: all of the one goes, all of the other comes.
            for (var i = from; i < leftEnd; i++)
                lines.Add(new(LineChange.Gone, i + 1, null, left[i]));
            for (var j = from; j < rightEnd; j++)
                lines.Add(new(LineChange.New, null, j + 1, right[j]));
            return;
        }
        var common = new int[height + 1, width + 1];
        for (var i = height - 1; i >= 0; i--)
        for (var j = width - 1; j >= 0; j--)
            common[i, j] = left[from + i] == right[from + j] ? common[i + 1, j + 1] + 1 : Math.Max(common[i + 1, j], common[i, j + 1]);
        var (a, b) = (0, 0);
        while (a < height || b < width)
        {
            if (a < height && b < width && left[from + a] == right[from + b])
            {
                lines.Add(new(LineChange.Same, from + a + 1, from + b + 1, left[from + a]));
                (a, b) = (a + 1, b + 1);
            }
            else if (a < height && (b == width || common[a + 1, b] >= common[a, b + 1]))
                lines.Add(new(LineChange.Gone, from + a + 1, null, left[from + a++]));
            else
                lines.Add(new(LineChange.New, null, from + b + 1, right[from + b++]));
        }
    }
}
