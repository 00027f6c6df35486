using Oikonom.Core.Time;
using Xunit;

namespace Oikonom.Core.Tests;

public sealed class TimeTests
{
    [Theory]
    [InlineData("P7D", 7 * 24)]
    [InlineData("P2W", 14 * 24)]
    [InlineData("PT8H", 8)]
    [InlineData("P1DT12H", 36)]
    public void Durations_are_read(string text, int hours)
    {
        Assert.True(Iso8601.TryParseDuration(text, out var span));
        Assert.Equal(TimeSpan.FromHours(hours), span);
    }

    [Theory]
    [InlineData("")]
    [InlineData("7D")]
    [InlineData("P")]
    [InlineData("P1M")]
    [InlineData("P1DT")]
    [InlineData("P99999999999D")]
    [InlineData("-P1D")]
    public void What_is_no_fixed_length_is_refused(string text) => Assert.False(Iso8601.TryParseDuration(text, out _));

    [Theory]
    [InlineData("Europe/Lisbon", "2026-11-25", "2026-11-25T00:00:00Z")]
    [InlineData("America/Halifax", "2026-11-25", "2026-11-25T04:00:00Z")]
    [InlineData("Australia/Hobart", "2026-11-25", "2026-11-24T13:00:00Z")]
    [InlineData("America/Santiago", "2026-09-06", "2026-09-06T04:00:00Z")]
    public void A_day_begins_where_the_person_works_even_when_midnight_is_skipped(string zone, string day, string expected) =>
        Assert.Equal(
            DateTimeOffset.Parse(expected, System.Globalization.CultureInfo.InvariantCulture),
            SiteDays.StartOf(
                DateOnly.ParseExact(day, "yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture),
                TimeZoneInfo.FindSystemTimeZoneById(zone)
            )
        );
}
