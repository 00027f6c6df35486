using System.Text;
using AnyAscii;
using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Planning;

/// <summary>User names: letters of any script become ASCII, collisions get a number, no name is ever given twice.</summary>
public static class AccountNames
{
    /// <summary>
    /// Lower-case ASCII letters, digits and the marks the target takes; a letter or digit first and last. Wishes
    /// that leave nothing are dropped.
    /// </summary>
    public static IReadOnlyList<string> Clean(IEnumerable<string> wishes, NameRule? rule = null) =>
        [.. wishes.Select(wish => Clean(wish, rule ?? NameRule.Default)).Where(name => name.Length > 0).Distinct()];

    private static string Clean(string wish, NameRule rule)
    {
        var name = new StringBuilder();
        foreach (var c in wish.Transliterate().ToLowerInvariant())
        {
            if (char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c))
                name.Append(c);
            else if (rule.Marks.Contains(c, StringComparison.Ordinal) && name.Length > 0 && name[^1] is not ('.' or '-' or '_'))
                name.Append(c);
        }
        if (name.Length > rule.Longest)
            name.Length = rule.Longest;
        return name.ToString().Trim('.', '-', '_');
    }

    /// <summary>All names in the order they are tried: each wish, then the first wish with 2, 3, 4 …</summary>
    public static IEnumerable<string> Candidates(IReadOnlyList<string> wishes, NameRule? rule = null)
    {
        var longest = (rule ?? NameRule.Default).Longest;
        foreach (var wish in wishes)
            yield return wish;
        if (wishes.Count == 0)
            yield break;
        for (var number = 2; number < 100_000; number++)
        {
            var suffix = number.ToString(System.Globalization.CultureInfo.InvariantCulture);
            var stem = wishes[0].Length + suffix.Length > longest ? wishes[0][..(longest - suffix.Length)] : wishes[0];
            yield return stem + suffix;
        }
    }
}
