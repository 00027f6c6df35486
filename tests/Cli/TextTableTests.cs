using Xunit;

namespace Oikonom.Cli.Tests;

/// <summary>Tables as lines: in a pipe, in a terminal they fit, and in one they do not.</summary>
public sealed class TextTableTests
{
    private static readonly string[] Columns = ["No.", "Person", "State"];
    private static readonly string[][] Rows =
    [
        ["9", "Kaya Ōmori-Lindqvist", "waiting for a decision"],
        ["10", "Zoë D'Arcy", ""],
    ];

    [Fact]
    public void In_a_pipe_nothing_is_broken_and_no_line_ends_in_blanks() =>
        Assert.Equal(
            ["No.  Person                State", "9    Kaya Ōmori-Lindqvist  waiting for a decision", "10   Zoë D'Arcy"],
            TextTable.Lay(Columns, Rows, null)
        );

    [Fact]
    public void Where_it_does_not_fit_the_widest_columns_are_broken_between_words() =>
        Assert.Equal(
            ["No.  Person           State", "9    Kaya             waiting for a", "     Ōmori-Lindqvist  decision", "10   Zoë D'Arcy"],
            TextTable.Lay(Columns, Rows, 38)
        );

    [Fact]
    public void Where_columns_would_be_slivers_each_row_is_told_in_lines() =>
        Assert.Equal(
            ["No.     9", "Person  Kaya Ōmori-Lindqvist", "State   waiting for a decision", "", "No.     10", "Person  Zoë D'Arcy"],
            TextTable.Lay(Columns, Rows, 20)
        );

    [Theory]
    [InlineData("anexceedinglylongwordthatfitsnowhere", 30)]
    [InlineData("e\u0301e\u0301e\u0301e\u0301e\u0301e\u0301e\u0301e\u0301e\u0301e\u0301e\u0301e\u0301e\u0301e\u0301e\u0301e\u0301", 19)]
    public void A_word_that_is_too_long_is_cut_and_nothing_of_it_is_lost(string word, int width)
    {
        var lines = TextTable.Lay(
            ["A", "B"],
            [
                ["x", word],
            ],
            width
        );
        Assert.All(lines, line => Assert.True(new System.Globalization.StringInfo(line).LengthInTextElements <= width, line));
        Assert.Equal(word, string.Concat(lines.Skip(1).Select(l => l.TrimStart('x', ' '))));
    }
}
