using System.Text;
using AnyAscii;

namespace Oikonom.Core.Planning;

/// <summary>User names: letters of any script become ASCII, collisions get a number, no name is ever given twice.</summary>
public static class AccountNames
{
    /// <summary>Longest name given, in characters.</summary>
    public const int MaxLength = 32;

    /// <summary>
    /// Lower-case ASCII letters, digits, dot, hyphen and underscore; a letter or digit first and last. Wishes
    /// that leave nothing are dropped.
    /// </summary>
    public static IReadOnlyList<string> Clean(IEnumerable<string> wishes) => [.. wishes.Select(Clean).Where(name => name.Length > 0).Distinct()];

    private static string Clean(string wish)
    {
        var name = new StringBuilder();
        foreach (var c in wish.Transliterate().ToLowerInvariant())
        {
            if (char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c)) name.Append(c);
            else if (c is '.' or '-' or '_' && name.Length > 0 && name[^1] is not ('.' or '-' or '_')) name.Append(c);
        }
        if (name.Length > MaxLength) name.Length = MaxLength;
        return name.ToString().Trim('.', '-', '_');
    }

    /// <summary>All names in the order they are tried: each wish, then the first wish with 2, 3, 4 …</summary>
    public static IEnumerable<string> Candidates(IReadOnlyList<string> wishes)
    {
        foreach (var wish in wishes) yield return wish;
        if (wishes.Count == 0) yield break;
        for (var number = 2; number < 100_000; number++)
        {
            var suffix = number.ToString(System.Globalization.CultureInfo.InvariantCulture);
            var stem = wishes[0].Length + suffix.Length > MaxLength ? wishes[0][..(MaxLength - suffix.Length)] : wishes[0];
            yield return stem + suffix;
        }
    }
}
