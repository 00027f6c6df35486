using Oikonom.Core.People;

namespace Oikonom.Core.Planning;

/// <summary>The employments of one person beside each other.</summary>
public static class Employments
{
    /// <summary>
    /// The employments as they are at an instant: what HR says, and over it what was approved by hand. What is open for
    /// ever holds at <see cref="DateTimeOffset.MaxValue"/>.
    /// </summary>
    /// <exception cref="PlanFault">An attribute that was approved by hand cannot be read under this rulebook.</exception>
    public static IReadOnlyList<Facts> Now(Subject person, Rulebook.Rulebook rulebook, DateTimeOffset at)
    {
        if (person.Fields.Count == 0)
            return person.Others.Count == 0 ? [person.Facts] : [person.Facts, .. person.Others];
        return [.. person.Employments.Select(employment => With(employment, person.Fields, rulebook, at))];
    }

    /// <summary>One employment with what was approved by hand and holds at an instant; of two for one attribute the later one.</summary>
    /// <inheritdoc cref="Now"/>
    public static Facts With(Facts employment, IReadOnlyList<FieldInput> fields, Rulebook.Rulebook rulebook, DateTimeOffset at)
    {
        var number = employment.Number;
        foreach (var field in fields.Where(f => f.Employment == number && f.Covers(at)).OrderBy(f => f.From))
            employment = employment.WithText(field.Name, field.Text, rulebook.Attributes, out var problem) ?? throw new PlanFault(problem);
        return employment;
    }

    /// <summary>
    /// One employment as lists and pages show it at an instant: what HR says, what was approved by hand, and the last day
    /// of one that was ended by hand, which is the day before.
    /// </summary>
    public static Facts Shown(
        Facts employment,
        IReadOnlyList<FieldInput> fields,
        IReadOnlyList<Ending> endings,
        Rulebook.Rulebook rulebook,
        DateTimeOffset at
    )
    {
        var shown = fields.Count == 0 ? employment : With(employment, fields, rulebook, at);
        if (endings.Count == 0)
            return shown;
        var zone = rulebook.ZoneOf(shown.Site);
        var term = Term.Of(shown, zone, endings);
        if (!term.IsCut || term.End > at)
            return shown;
        var last = DateOnly.FromDateTime(TimeZoneInfo.ConvertTime(term.End, zone).DateTime).AddDays(-1);
        return shown.With(BuiltIn.End, Expressions.Value.Of(last));
    }

    /// <summary>
    /// The employment that leads comes first: of those in term the one that began first, else the next to begin,
    /// else the last that ended. It gives an account its attributes; grants come from all that are in term.
    /// </summary>
    public static IReadOnlyList<Facts> InOrder(Subject person, Rulebook.Rulebook rulebook, DateTimeOffset at) =>
        InOrder(Now(person, rulebook, at), person.Endings, rulebook, at);

    internal static IReadOnlyList<Facts> InOrder(
        IReadOnlyList<Facts> employments,
        IReadOnlyList<Ending> endings,
        Rulebook.Rulebook rulebook,
        DateTimeOffset at
    ) =>
        employments.Count == 1
            ? employments
            :
            [
                .. employments
                    .OrderBy(e => Rank(Term.Of(e, rulebook.ZoneOf(e.Site), endings), at))
                    .ThenBy(e => e.Number, StringComparer.Ordinal),
            ];

    /// <summary>The one that leads on a day, of the employments of one person.</summary>
    public static Facts Leading(IReadOnlyList<Facts> employments, DateOnly today) =>
        employments.OrderBy(e => RankOn(e, today)).ThenBy(e => e.Number, StringComparer.Ordinal).First();

    private static (int, long) Rank(Term term, DateTimeOffset at) =>
        at < term.Start ? (1, term.Start.UtcTicks)
        : at >= term.End ? (2, -term.End.UtcTicks)
        : (0, term.Start.UtcTicks);

    private static (int, long) RankOn(Facts employment, DateOnly today) =>
        today < employment.Start ? (1, employment.Start.DayNumber)
        : employment.End < today ? (2, -employment.End.Value.DayNumber)
        : (0, employment.Start.DayNumber);
}
