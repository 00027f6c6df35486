using Oikonom.Core.People;
using Xunit;

namespace Oikonom.Core.Tests;

public sealed class SearchTests
{
    private static bool Finds(string words, string given = "Kaya", string family = "Ōmori-Lindqvist", string number = "E1301")
    {
        var text = SearchText.Of($"{family} {given}".ToLowerInvariant(), number);
        return SearchText.Words(words).All(w => text.Contains(w, StringComparison.Ordinal));
    }

    [Theory]
    [InlineData("omori")]
    [InlineData("ŌMORI")]
    [InlineData("ori-lind")]
    [InlineData("kaya lind")]
    [InlineData("  lind   KAYA ")]
    [InlineData("e13")]
    [InlineData("")]
    public void Any_part_of_a_name_or_number_finds_in_any_order(string words) => Assert.True(Finds(words));

    [Theory]
    [InlineData("omary")]
    [InlineData("kaya quill")]
    [InlineData("E1302")]
    public void What_is_not_there_is_not_found(string words) => Assert.False(Finds(words));

    [Fact]
    public void Other_scripts_are_found_as_they_are_written_and_in_latin_letters()
    {
        Assert.True(Finds("волк", "Ирина", "Волкова"));
        Assert.True(Finds("volkova irina", "Ирина", "Волкова"));
        Assert.True(Finds("aero", "Søren", "Ærø"));
        // Composed and decomposed letters are the same; half a surrogate pair finds nobody and harms nobody.
        Assert.True(Finds("ōmori", "Kaya", "O\u0304mori"));
        Assert.False(Finds("\ud800"));
    }
}
