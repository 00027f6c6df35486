using System.Text.RegularExpressions;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>What others build on says what it means.</summary>
public sealed class DocumentationTests
{
    [Theory]
    [InlineData("Core")]
    [InlineData("Ldap")]
    [InlineData("Scim")]
    [InlineData("Targets")]
    [InlineData("Store")]
    public void Public_members_say_what_they_mean(string project)
    {
        var found = Directory
            .GetFiles(Repository.At("src", $"Oikonom.{project}"), "*.cs", SearchOption.AllDirectories)
            .Where(f => !f.Contains("/obj/", StringComparison.Ordinal) && !f.Contains("/bin/", StringComparison.Ordinal))
            .SelectMany(f => Without(File.ReadAllLines(f)).Select(line => $"{Path.GetFileName(f)}:{line}"))
            .ToList();
        Assert.True(found.Count == 0, $"{found.Count} have none: {string.Join(' ', found)}");
    }

    [Fact]
    public void A_docstring_stands_above_its_member_and_its_attributes() =>
        Assert.Equal(
            [5, 8],
            Without([
                "/// <summary>It is.</summary>",
                "[Obsolete]",
                "public sealed class One",
                "{",
                "    public int Two;",
                "    public override string ToString() => \"\";",
                "    // It was.",
                "    public int Three;",
                "    private int _four;",
                "}",
            ])
        );

    /// <summary>The lines (from 1) of public members without a docstring; what overrides says what its base says.</summary>
    private static IEnumerable<int> Without(string[] lines)
    {
        for (var i = 0; i < lines.Length; i++)
        {
            if (!Regex.IsMatch(lines[i], @"^\s*public (?!override )"))
                continue;
            var above = i - 1;
            while (above >= 0 && lines[above].TrimStart().StartsWith('['))
                above--;
            if (above < 0 || !lines[above].TrimStart().StartsWith("///", StringComparison.Ordinal))
                yield return i + 1;
        }
    }
}
