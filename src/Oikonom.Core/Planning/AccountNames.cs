using System.Globalization;
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

    /// <summary>True when a name is one of the wishes, or the first of them with a number.</summary>
    public static bool IsOf(string name, IReadOnlyList<string> wishes, NameRule? rule = null) =>
        wishes.Contains(name)
        || (
            wishes.Count > 0
            && name.TrimEnd(Digits) is var stem
            && stem.Length < name.Length
            && int.TryParse(name.AsSpan(stem.Length), CultureInfo.InvariantCulture, out var number)
            && number is >= 2 and < MostNumbers
            && Numbered(wishes[0], number, rule) == name
        );

    private const int MostNumbers = 100_000;
    private static readonly char[] Digits = [.. "0123456789"];

    /// <summary>All names in the order they are tried: each wish, then the first wish with 2, 3, 4 …</summary>
    public static IEnumerable<string> Candidates(IReadOnlyList<string> wishes, NameRule? rule = null)
    {
        foreach (var wish in wishes)
            yield return wish;
        if (wishes.Count == 0)
            yield break;
        for (var number = 2; number < MostNumbers; number++)
            yield return Numbered(wishes[0], number, rule);
    }

    private static string Numbered(string wish, int number, NameRule? rule)
    {
        var longest = (rule ?? NameRule.Default).Longest;
        var suffix = number.ToString(CultureInfo.InvariantCulture);
        return (wish.Length + suffix.Length > longest ? wish[..(longest - suffix.Length)] : wish) + suffix;
    }
}

/// <summary>How an account is named.</summary>
/// <param name="Wishes">The names it may take, in order; empty when no template makes it.</param>
/// <param name="Follows">Whether it is renamed when the person's names lead to another.</param>
public sealed record Naming(IReadOnlyList<string> Wishes, bool Follows)
{
    /// <summary>Of an account that no template makes.</summary>
    public static readonly Naming None = new([], false);

    /// <summary>True when an account that follows its person has a name that is not theirs any more: it was given for another
    /// wish than the first of now, and is none that would be given today.</summary>
    /// <param name="namedFor">The first wish when the name was given; "" where that was not kept: then it stays.</param>
    public bool IsOutgrown(string name, string namedFor, NameRule? rule = null) =>
        Follows && Wishes.Count > 0 && namedFor.Length > 0 && namedFor != Wishes[0] && !AccountNames.IsOf(name, Wishes, rule);
}
