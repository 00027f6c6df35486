using System.Globalization;
using System.Text.RegularExpressions;
using Oikonom.Testing;

namespace Oikonom.Service.Tests.Stories;

/// <summary>One line of a story: on a day something happens, and then something is true.</summary>
/// <param name="Day">Days since the story begins.</param>
internal sealed record Line(int Day, IReadOnlyList<string> Happens, IReadOnlyList<string> Then, string Place);

/// <summary>A story of the book: a heading, and a table whose lines are run in their order.</summary>
internal sealed record Tale(string Title, IReadOnlyList<Line> Lines);

/// <summary>The book of stories in <c>docs/stories</c>, read as people read it.</summary>
internal static partial class Book
{
    public static IReadOnlyList<Tale> Read(string file) => Parse(Path.GetFileName(file), File.ReadAllLines(file));

    public static IReadOnlyList<string> Files => [.. Directory.GetFiles(Repository.At("docs", "stories"), "*.md").Order()];

    /// <exception cref="FormatException">A line of a table has no day, or a cell is missing.</exception>
    internal static IReadOnlyList<Tale> Parse(string name, IReadOnlyList<string> text)
    {
        var tales = new List<Tale>();
        List<Line>? lines = null;
        for (var i = 0; i < text.Count; i++)
        {
            if (text[i].StartsWith("## ", StringComparison.Ordinal))
            {
                lines = [];
                tales.Add(new(text[i][3..].Trim(), lines));
            }
            else if (
                text[i].StartsWith("| ", StringComparison.Ordinal)
                && lines is not null
                && !text[i].StartsWith("| day", StringComparison.Ordinal)
                && !text[i].StartsWith("| ---", StringComparison.Ordinal)
            )
            {
                var place = $"{name}:{i + 1}";
                if (Row().Match(text[i]) is not { Success: true } row)
                    throw new FormatException($"{place} is no line of a story: | day | what happens | what is then true |");
                lines.Add(
                    new(
                        int.Parse(row.Groups[1].ValueSpan, CultureInfo.InvariantCulture),
                        Parts(row.Groups[2].Value),
                        Parts(row.Groups[3].Value),
                        place
                    )
                );
            }
        }
        return tales;
    }

    private static List<string> Parts(string cell) =>
        [.. cell.Split(';', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries)];

    [GeneratedRegex(@"^\| *(\d+) *\|([^|]*)\|([^|]*)\|\s*$")]
    private static partial Regex Row();
}
