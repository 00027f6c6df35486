using System.Globalization;

namespace Oikonom.Core.Rulebook;

/// <summary>Who may see the values of an attribute that is not for everybody.</summary>
public static class Visibility
{
    /// <summary>Those who raise requests where the person works.</summary>
    public const string Hr = "hr";

    /// <summary>The line manager, theirs, and so on.</summary>
    public const string ManagerLine = "manager-line";

    /// <summary>Operators, in a request whose plan writes the value into an account.</summary>
    public const string Fulfilment = "fulfilment";

    /// <summary>The word for whoever may sign in.</summary>
    public const string Everyone = "everyone";

    /// <summary>The words of <c>visible-to</c> beside <c>role:NAME</c>. People always see their own.</summary>
    public static readonly IReadOnlyList<string> Words = [Hr, ManagerLine, Fulfilment, Everyone];

    /// <summary>What is private unless a rulebook says otherwise.</summary>
    public static readonly IReadOnlyDictionary<string, IReadOnlyList<string>> Default = new Dictionary<string, IReadOnlyList<string>>(
        StringComparer.Ordinal
    )
    {
        ["privateMail"] = [Hr, ManagerLine, Fulfilment],
        ["phone"] = [Hr, ManagerLine, Fulfilment],
    };

    /// <summary>The attributes of accounts that are made of private attributes of the person: target/attribute in lower case →
    /// those attributes.</summary>
    public static IReadOnlyDictionary<string, IReadOnlySet<string>> InAccounts(Rulebook rulebook)
    {
        var found = new Dictionary<string, IReadOnlySet<string>>(StringComparer.Ordinal);
        foreach (var account in rulebook.Templates.SelectMany(t => t.Accounts))
        {
            foreach (var attribute in account.Attributes)
            {
                var sources = attribute.Expression.References.Where(rulebook.VisibleTo.ContainsKey).ToHashSet(StringComparer.Ordinal);
                if (sources.Count == 0)
                    continue;
                var key = Key(account.Target, attribute.Name);
                found[key] = found.TryGetValue(key, out var known) ? known.Union(sources).ToHashSet(StringComparer.Ordinal) : sources;
            }
        }
        return found;
    }

    /// <summary>An attribute of accounts in a target, in any case.</summary>
    public static string Key(string target, string attribute) => $"{target}/{attribute.ToLowerInvariant()}";

    /// <summary>The columns of a source that are mapped to private attributes: column → those attributes.</summary>
    public static IReadOnlyDictionary<string, IReadOnlySet<string>> InColumns(SourceRule source, Rulebook rulebook)
    {
        var found = new Dictionary<string, IReadOnlySet<string>>(StringComparer.Ordinal);
        foreach (var mapped in source.Mapping.Where(m => rulebook.VisibleTo.ContainsKey(m.Name)))
        {
            foreach (var reference in mapped.Expression.References.Where(r => r.StartsWith("row.", StringComparison.Ordinal)))
            {
                var column = reference["row.".Length..];
                found[column] = found.TryGetValue(column, out var known)
                    ? known.Append(mapped.Name).ToHashSet(StringComparer.Ordinal)
                    : new HashSet<string>(StringComparer.Ordinal) { mapped.Name };
            }
        }
        return found;
    }
}

/// <summary>How long personal values are kept after the last employment ended, in calendar months.</summary>
/// <param name="Powerful">The same for what belongs to decisions on powerful access; never less.</param>
public sealed record RetentionRule(int Months, int Powerful)
{
    /// <summary>The last day on which values of somebody whose last employment ended on <paramref name="end"/> are kept.</summary>
    public DateOnly KeptUntil(DateOnly end) => Add(end, Months);

    /// <summary>The last day on which what belongs to decisions on powerful access is kept.</summary>
    public DateOnly PowerfulKeptUntil(DateOnly end) => Add(end, Powerful);

    private static DateOnly Add(DateOnly day, int months) =>
        day.Year + (months / 12) + 1 >= DateOnly.MaxValue.Year ? DateOnly.MaxValue : day.AddMonths(months);

    /// <summary>The rule in words, as a page tells it.</summary>
    public static string Text(int months) =>
        $"{(months % 12 == 0 ? Count(months / 12, "year") : Count(months, "month"))} after the last employment";

    private static string Count(int number, string unit) =>
        $"{number.ToString(CultureInfo.InvariantCulture)} {unit}{(number == 1 ? "" : "s")}";

    /// <summary>Reads an ISO 8601 duration of whole years and months, such as P2Y or P18M; null when it is none.</summary>
    public static int? Read(string text)
    {
        if (text.Length is < 3 or > 12 || text[0] != 'P')
            return null;
        var (months, number) = (0, "");
        foreach (var c in text.AsSpan(1))
        {
            if (char.IsAsciiDigit(c))
                number += c;
            else if (c is 'Y' or 'M' && number.Length is > 0 and <= 4)
                (months, number) = (months + (int.Parse(number, CultureInfo.InvariantCulture) * (c == 'Y' ? 12 : 1)), "");
            else
                return null;
        }
        return number.Length == 0 && months is > 0 and <= 1200 ? months : null;
    }
}
