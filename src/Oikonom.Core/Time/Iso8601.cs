using System.Globalization;

namespace Oikonom.Core.Time;

/// <summary>Durations of fixed length as ISO 8601 writes them.</summary>
public static class Iso8601
{
    /// <summary>Reads weeks, days, hours, minutes and seconds (P1W, P7D, PT8H). Months and years have no fixed length and are
    /// refused.</summary>
    public static bool TryParseDuration(string text, out TimeSpan duration)
    {
        duration = default;
        if (text.Length is < 3 or > 32 || text[0] != 'P' || text.EndsWith('T'))
            return false;
        double seconds = 0;
        var time = false;
        var i = 1;
        while (i < text.Length)
        {
            if (text[i] == 'T' && !time)
            {
                time = true;
                i++;
                continue;
            }
            var start = i;
            while (i < text.Length && char.IsAsciiDigit(text[i]))
                i++;
            if (i == start || i == text.Length || i - start > 7)
                return false;
            var count = double.Parse(text.AsSpan(start, i - start), CultureInfo.InvariantCulture);
            double unit = (time, text[i++]) switch
            {
                (false, 'W') => 604_800,
                (false, 'D') => 86_400,
                (true, 'H') => 3_600,
                (true, 'M') => 60,
                (true, 'S') => 1,
                _ => 0,
            };
            if (unit == 0)
                return false;
            seconds += count * unit;
        }
        if (seconds > 86_400d * 36_500)
            return false;
        duration = TimeSpan.FromSeconds(seconds);
        return true;
    }
}

/// <summary>Days of a place as instants: when a day begins there, in UTC.</summary>
public static class SiteDays
{
    private const int MostKept = 100_000;
    private static readonly System.Collections.Concurrent.ConcurrentDictionary<(TimeZoneInfo Zone, int Day), DateTimeOffset> Known = new(
        SameZone.Instance
    );

    /// <summary>Zones are compared as the objects they are: there is one for each site.</summary>
    private sealed class SameZone : IEqualityComparer<(TimeZoneInfo Zone, int Day)>
    {
        public static readonly SameZone Instance = new();

        public bool Equals((TimeZoneInfo Zone, int Day) left, (TimeZoneInfo Zone, int Day) right) =>
            left.Day == right.Day && ReferenceEquals(left.Zone, right.Zone);

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
        while (zone.IsInvalidTime(local))
            local = local.AddMinutes(15);
        var offset = zone.IsAmbiguousTime(local) ? zone.GetAmbiguousTimeOffsets(local).Max() : zone.GetUtcOffset(local);
        return new DateTimeOffset(local, offset).ToUniversalTime();
    }

    /// <summary>The instant after the last one of <paramref name="day"/>.</summary>
    public static DateTimeOffset EndOf(DateOnly day, TimeZoneInfo zone) =>
        day == DateOnly.MaxValue ? DateTimeOffset.MaxValue : StartOf(day.AddDays(1), zone);
}
