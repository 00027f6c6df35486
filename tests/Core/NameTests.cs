using CsCheck;
using Oikonom.Core.Planning;
using Xunit;

namespace Oikonom.Core.Tests;

public sealed class NameTests
{
    [Theory]
    [InlineData("Zoë.D'Arcy", "zoe.darcy")]
    [InlineData("Søren.Ærø", "soren.aero")]
    [InlineData("Ирина.Волкова", "irina.volkova")]
    [InlineData("Kaya.Ōmori-Lindqvist", "kaya.omori-lindqvist")]
    [InlineData("..a  b..", "ab")]
    [InlineData("李.小龙", "li.xiaolong")]
    [InlineData("x=1,ou=admins)(uid=*", "x1ouadminsuid")]
    public void Any_script_becomes_a_plain_name(string wish, string expected) => Assert.Equal([expected], AccountNames.Clean([wish]));

    [Fact]
    public void Candidates_are_the_wishes_and_then_numbers() =>
        Assert.Equal(["a.b", "ab", "a.b2", "a.b3"], AccountNames.Candidates(["a.b", "ab"]).Take(4));

    [Fact]
    public void Candidates_never_repeat_and_never_grow_too_long() =>
        Gen.String[Gen.Char['a', 'z'], 1, 60]
            .Sample(
                text =>
                {
                    var names = AccountNames.Candidates(AccountNames.Clean([text])).Take(300).ToList();
                    Assert.Equal(names.Count, names.Distinct().Count());
                    Assert.All(names, name => Assert.InRange(name.Length, 1, Oikonom.Core.Rulebook.NameRule.Default.Longest));
                },
                iter: 100
            );

    [Fact]
    public void Whatever_comes_in_only_harmless_letters_come_out() =>
        Gen.String.Sample(
            text => Assert.All(AccountNames.Clean([text]), name => Assert.Matches("^[a-z0-9]([a-z0-9._-]*[a-z0-9])?$", name)),
            iter: 2000
        );
}
