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
    [InlineData("P9999999D")]
    [InlineData("P1D1T")]
    [InlineData("PTT1H")]
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

    private static DateTimeOffset At(string text) => DateTimeOffset.Parse(text, System.Globalization.CultureInfo.InvariantCulture);

    private static WorkingHours Office(
        int from = 8,
        int until = 17,
        int days = 5,
        string[]? holidays = null,
        (int, int)[]? yearly = null
    ) =>
        new(
            TimeZoneInfo.Utc,
            new(from, 0),
            until == 24 ? TimeOnly.MaxValue : new(until, 0),
            Enumerable.Range(1, days).Select(d => (DayOfWeek)(d % 7)).ToHashSet(),
            (holidays ?? [])
                .Select(d => DateOnly.ParseExact(d, "yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture))
                .ToHashSet()
        )
        {
            Yearly = (yearly ?? []).ToHashSet(),
        };

    // 4 December 2028 is a Monday.
    [Theory]
    [InlineData("2028-12-04T08:00:00Z", 1, "2028-12-04T09:00:00Z")]
    [InlineData("2028-12-04T03:00:00Z", 1, "2028-12-04T09:00:00Z")]
    [InlineData("2028-12-04T16:00:00Z", 1, "2028-12-04T17:00:00Z")]
    [InlineData("2028-12-04T16:00:00Z", 2, "2028-12-05T09:00:00Z")]
    [InlineData("2028-12-04T17:00:00Z", 0, "2028-12-05T08:00:00Z")]
    [InlineData("2028-12-08T16:30:00Z", 1, "2028-12-11T08:30:00Z")]
    [InlineData("2028-12-04T08:00:00Z", 27, "2028-12-06T17:00:00Z")]
    public void Working_time_passes_while_people_work(string since, int hours, string then) =>
        Assert.Equal(At(then), Office().After(At(since), TimeSpan.FromHours(hours)));

    [Fact]
    public void One_limit_is_enough_to_be_no_site_that_always_works()
    {
        var since = At("2028-12-04T20:00:00Z");
        var day = TimeSpan.FromDays(1);
        Assert.Equal(since + day, Office(0, 24, 7).After(since, day));
        Assert.Equal(since + day, WorkingHours.Always(TimeZoneInfo.Utc).After(since, day));
        Assert.Equal(At("2028-12-06T03:00:00Z") + TimeSpan.FromHours(9), Office(8, 24, 7).After(since, TimeSpan.FromHours(24)));
        Assert.Equal(At("2028-12-06T07:00:00Z"), Office(0, 17, 7).After(since, day));
        Assert.Equal(At("2028-12-06T20:00:00Z"), Office(0, 24, 7, ["2028-12-05"]).After(since, day));
        Assert.Equal(At("2028-12-06T20:00:00Z"), Office(0, 24, 7, null, [(12, 5)]).After(since, day));
        Assert.Equal(At("2028-12-11T04:00:00Z"), Office(0, 24, 5).After(At("2028-12-08T04:00:00Z"), day));
    }

    [Fact]
    public void Without_a_working_day_it_is_ten_years() =>
        Assert.Equal(At("2028-12-04T00:00:00Z").AddDays(3660), Office(8, 17, 0).After(At("2028-12-04T12:00:00Z"), TimeSpan.FromHours(1)));

    [Fact]
    public void A_working_day_covers_its_first_minute_and_not_its_end()
    {
        Assert.True(Office().Covers(At("2028-12-04T08:00:00Z")));
        Assert.False(Office().Covers(At("2028-12-04T07:59:59Z")));
        Assert.False(Office().Covers(At("2028-12-04T17:00:00Z")));
        Assert.True(Office().Covers(At("2028-12-04T16:59:59Z")));
        Assert.False(Office().Covers(At("2028-12-09T12:00:00Z")));
        Assert.True(WorkingHours.Always(TimeZoneInfo.Utc).Covers(At("2028-12-05T00:00:00Z").AddTicks(-1)));
    }

    [Fact]
    public void A_pause_doubles_up_to_the_longest()
    {
        var back = new BackOff(TimeSpan.FromSeconds(1), TimeSpan.FromSeconds(10));
        Assert.Equal([1d, 1, 2, 4, 8, 10, 10], new[] { -3, 0, 1, 2, 3, 4, int.MaxValue }.Select(n => back.After(n).TotalSeconds));
        Assert.Equal([1000L, 8000, 10_000], new[] { 0L, 3, long.MaxValue }.Select(back.Milliseconds));
        Assert.Equal(TimeSpan.FromSeconds(8), new BackOff(TimeSpan.FromSeconds(1), TimeSpan.FromSeconds(8)).After(3));
    }

    [Fact]
    public void A_schedule_is_short_and_says_its_clock()
    {
        Assert.False(Schedule.TryParse(new string('*', 201), TimeZoneInfo.Utc, out _, out var wrong));
        Assert.Contains("too long", wrong, StringComparison.Ordinal);
        Assert.True(Schedule.TryParse("0 6 * * 1-5", TimeZoneInfo.Utc, out var utc, out _));
        Assert.Equal("0 6 * * 1-5", utc.ToString());
        Assert.True(Schedule.TryParse("0 6 * * 1-5", TimeZoneInfo.FindSystemTimeZoneById("Europe/Lisbon"), out var lisbon, out _));
        Assert.Equal("0 6 * * 1-5 (Europe/Lisbon)", lisbon.ToString());
        Assert.Equal(At("2028-07-03T05:00:00Z"), lisbon.Next(At("2028-07-01T00:00:00Z")));
    }

    [Fact]
    public void How_somebody_hears_is_kept_and_read()
    {
        var hearing = new Hearing(false, "day", 20, 7, "Europe/Lisbon");
        Assert.Equal(hearing, Hearing.FromJson(hearing.ToJson()));
        Assert.Equal(new Hearing(), Hearing.FromJson(""));
        Assert.Equal(new Hearing(), Hearing.FromJson("{}"));
    }

    // On 28 October 2029 the clocks of Lisbon show the hour from one to two twice.
    [Theory]
    [InlineData("none", "2029-10-28T01:30:00Z", "2029-10-28T01:30:00Z")]
    [InlineData("none", "2029-10-28T00:30:00Z", "2029-10-28T00:30:00Z")]
    [InlineData("hour", "2029-10-28T01:30:00Z", "2029-10-28T02:00:00Z")]
    public void No_mail_goes_out_before_it_was_made(string digest, string now, string due) =>
        Assert.Equal(At(due), new Hearing(true, digest, null, null, "Europe/Lisbon").Due(At(now)));
}
