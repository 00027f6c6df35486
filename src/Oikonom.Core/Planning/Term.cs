using Oikonom.Core.People;
using Oikonom.Core.Time;

namespace Oikonom.Core.Planning;

/// <summary>From when until when an employment lasts, in the days of its site: the only place that says so.</summary>
/// <param name="IsCut">True when the end was approved by hand and comes before what HR says.</param>
public readonly record struct Term(DateTimeOffset Start, DateTimeOffset End, bool IsCut = false)
{
    /// <summary>From when on an account is there that is made some time before the first day.</summary>
    public DateTimeOffset MadeFrom(TimeSpan lead) => Start - DateTimeOffset.MinValue > lead ? Start - lead : DateTimeOffset.MinValue;

    /// <summary>The first instant of the first day, and the instant after the last one.</summary>
    public static Term Of(Facts employment, Rulebook.Rulebook rulebook) => Of(employment, rulebook.ZoneOf(employment.Site), []);

    /// <summary>The same, cut off by what was ended by hand.</summary>
    internal static Term Of(Facts employment, TimeZoneInfo zone, IReadOnlyList<Ending> endings)
    {
        var start = SiteDays.StartOf(employment.Start, zone);
        var end = employment.End is { } last ? SiteDays.EndOf(last, zone) : DateTimeOffset.MaxValue;
        var isCut = false;
        for (var i = 0; i < endings.Count; i++)
            if (endings[i] is var ending && ending.At < end && Holds(ending, employment, start))
                (end, isCut) = (ending.At, true);
        return new(start, end, isCut);
    }

    /// <summary>From the first start to the last end over all employments of a person, with what was approved by hand.</summary>
    public static Term Of(Subject person, Rulebook.Rulebook rulebook)
    {
        if (person.Others.Count == 0 && person.Fields.Count == 0)
            return Of(person.Facts, rulebook.ZoneOf(person.Facts.Site), person.Endings);
        Term? whole = null;
        foreach (var employment in Employments.Now(person, rulebook, DateTimeOffset.MaxValue))
        {
            var term = Of(employment, rulebook.ZoneOf(employment.Site), person.Endings);
            whole = whole is { } known
                ? new(term.Start < known.Start ? term.Start : known.Start, term.End > known.End ? term.End : known.End)
                : term;
        }
        return whole!.Value;
    }

    private static bool Holds(Ending ending, Facts employment, DateTimeOffset start) =>
        ending.Employment == employment.Number && (start <= ending.At || employment.Start <= ending.Start);
}
