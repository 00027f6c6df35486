namespace Oikonom.Core.Time;

/// <summary>When people at a site work: the hours of each working day in the site's own time, without its holidays.</summary>
/// <param name="From">The first minute of a working day.</param>
/// <param name="Until">The end of a working day, after <paramref name="From"/>.</param>
public sealed record WorkingHours(
    TimeZoneInfo Zone,
    TimeOnly From,
    TimeOnly Until,
    IReadOnlySet<DayOfWeek> Days,
    IReadOnlySet<DateOnly> Holidays
)
{
    private const int MostDays = 3660;

    /// <summary>Holidays of every year, as month and day; 29 February is one in leap years alone.</summary>
    public IReadOnlySet<(int Month, int Day)> Yearly { get; init; } = new HashSet<(int, int)>();

    /// <summary>Every hour of every day: for sites that declare none.</summary>
    public static WorkingHours Always(TimeZoneInfo zone) =>
        new(zone, TimeOnly.MinValue, TimeOnly.MaxValue, Enum.GetValues<DayOfWeek>().ToHashSet(), new HashSet<DateOnly>());

    /// <summary>
    /// The instant at which <paramref name="duration"/> of working time has passed since <paramref name="since"/>.
    /// A calendar without a working day within ten years gives the end of those ten years.
    /// </summary>
    public DateTimeOffset After(DateTimeOffset since, TimeSpan duration)
    {
        if (Days.Count == 7 && Holidays.Count == 0 && Yearly.Count == 0 && From == TimeOnly.MinValue && Until == TimeOnly.MaxValue)
            return since + duration;
        var left = duration;
        var at = since;
        var day = DateOnly.FromDateTime(TimeZoneInfo.ConvertTime(since, Zone).DateTime);
        for (var i = 0; i < MostDays; i++, day = day.AddDays(1))
        {
            if (!IsWorked(day))
                continue;
            var (opens, closes) = (Instant(day, From), Instant(day, Until));
            if (at < opens)
                at = opens;
            if (at >= closes)
                continue;
            if (closes - at >= left)
                return (at + left).ToUniversalTime();
            left -= closes - at;
        }
        return SiteDays.StartOf(day, Zone);
    }

    /// <summary>True at an instant in which people at the site work.</summary>
    public bool Covers(DateTimeOffset at)
    {
        var local = TimeZoneInfo.ConvertTime(at, Zone).DateTime;
        var day = DateOnly.FromDateTime(local);
        return IsWorked(day) && at >= Instant(day, From) && at < Instant(day, Until);
    }

    private bool IsWorked(DateOnly day) =>
        Days.Contains(day.DayOfWeek) && !Holidays.Contains(day) && !Yearly.Contains((day.Month, day.Day));

    private DateTimeOffset Instant(DateOnly day, TimeOnly time)
    {
        // The end of a day that never closes is the begin of the next.
        return time == TimeOnly.MaxValue
            ? SiteDays.EndOf(day, Zone)
            : SiteDays.InstantOf(day.ToDateTime(time, DateTimeKind.Unspecified), Zone);
    }
}
