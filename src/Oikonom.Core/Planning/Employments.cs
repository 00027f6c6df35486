using Oikonom.Core.People;

namespace Oikonom.Core.Planning;

/// <summary>The employments of one person beside each other.</summary>
public static class Employments
{
    /// <summary>
    /// The employment that leads comes first: of those in term the one that began first, else the next to begin,
    /// else the last that ended. It gives an account its attributes; grants come from all that are in term.
    /// </summary>
    public static IReadOnlyList<Facts> InOrder(Subject person, Rulebook.Rulebook rulebook, DateTimeOffset at) =>
        [.. person.Employments.OrderBy(e => Rank(e, rulebook, at)).ThenBy(e => e.Number, StringComparer.Ordinal)];

    /// <summary>The one that leads on a day, of the employments of one person.</summary>
    public static Facts Leading(IReadOnlyList<Facts> employments, DateOnly today) => employments
        .OrderBy(e => RankOn(e, today)).ThenBy(e => e.Number, StringComparer.Ordinal).First();

    private static (int, long) Rank(Facts employment, Rulebook.Rulebook rulebook, DateTimeOffset at)
    {
        var (start, end) = Desired.Term(employment, rulebook);
        return at < start ? (1, start.UtcTicks) : at >= end ? (2, -end.UtcTicks) : (0, start.UtcTicks);
    }

    private static (int, long) RankOn(Facts employment, DateOnly today) =>
        today < employment.Start ? (1, employment.Start.DayNumber) : employment.End < today ? (2, -employment.End.Value.DayNumber) : (0, employment.Start.DayNumber);
}
