namespace Oikonom.Core.Time;

/// <summary>Days of a place as instants: when a day begins there, in UTC.</summary>
public static class SiteDays
{
    private const int MostKept = 100_000;
    private const long QuarterHour = 15 * TimeSpan.TicksPerMinute;
    private static readonly System.Collections.Concurrent.ConcurrentDictionary<(TimeZoneInfo Zone, int Day), DateTimeOffset> Known = new(
        SameZone.Instance
    );

    /// <summary>Zones are compared as the objects they are: there is one for each site.</summary>
    private sealed class SameZone : IEqualityComparer<(TimeZoneInfo Zone, int Day)>
    {
        /// <summary>The one there is.</summary>
        public static readonly SameZone Instance = new();

        /// <summary>Equal by the very zone and the day.</summary>
        public bool Equals((TimeZoneInfo Zone, int Day) left, (TimeZoneInfo Zone, int Day) right) =>
            left.Day == right.Day && ReferenceEquals(left.Zone, right.Zone);

        /// <summary>Of the zone itself, not of its rules, which would be slow.</summary>
        public int GetHashCode((TimeZoneInfo Zone, int Day) key) =>
            System.Runtime.CompilerServices.RuntimeHelpers.GetHashCode(key.Zone) ^ (key.Day * 397);
    }

    /// <summary>The first instant of <paramref name="day"/> in <paramref name="zone"/>; where midnight does not exist, the first
    /// instant after it.</summary>
    public static DateTimeOffset StartOf(DateOnly day, TimeZoneInfo zone)
    {
        if (Known.TryGetValue((zone, day.DayNumber), out var known))
            return known;
        if (Known.Count >= MostKept)
            Known.Clear();
        return Known[(zone, day.DayNumber)] = Compute(day, zone);
    }

    private static DateTimeOffset Compute(DateOnly day, TimeZoneInfo zone) =>
        InstantOf(day.ToDateTime(TimeOnly.MinValue, DateTimeKind.Unspecified), zone);

    /// <summary>The instant at which a clock in <paramref name="zone"/> shows this; the first of two, and where the clock leaps
    /// over it, the first after it.</summary>
    public static DateTimeOffset InstantOf(DateTime local, TimeZoneInfo zone)
    {
        // A leap ends at a quarter of an hour.
        while (zone.IsInvalidTime(local))
            local = new DateTime(((local.Ticks / QuarterHour) + 1) * QuarterHour, DateTimeKind.Unspecified);
        var offset = zone.IsAmbiguousTime(local) ? zone.GetAmbiguousTimeOffsets(local).Max() : zone.GetUtcOffset(local);
        return new DateTimeOffset(local, offset).ToUniversalTime();
    }

    /// <summary>The instant after the last one of <paramref name="day"/>.</summary>
    public static DateTimeOffset EndOf(DateOnly day, TimeZoneInfo zone) =>
        day == DateOnly.MaxValue ? DateTimeOffset.MaxValue : StartOf(day.AddDays(1), zone);
}
