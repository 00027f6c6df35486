using System.Globalization;
using Oikonom.Core.Time;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>When a mail goes out: digests and quiet hours by the clock of whoever reads it.</summary>
public sealed class HearingTests
{
    [Theory]
    [InlineData("none", null, null, "UTC", "2026-11-25T22:10:00Z", "2026-11-25T22:10:00Z")]
    [InlineData("hour", null, null, "UTC", "2026-11-25T22:10:00Z", "2026-11-25T23:00:00Z")]
    [InlineData("day", null, null, "UTC", "2026-11-25T06:59:00Z", "2026-11-25T07:00:00Z")]
    [InlineData("day", null, null, "UTC", "2026-11-25T07:00:00Z", "2026-11-26T07:00:00Z")]
    [InlineData("day", null, null, "Australia/Brisbane", "2026-11-25T22:10:00Z", "2026-11-26T21:00:00Z")]
    [InlineData("none", 20, 7, "UTC", "2026-11-25T22:10:00Z", "2026-11-26T07:00:00Z")]
    [InlineData("none", 20, 7, "UTC", "2026-11-25T19:59:00Z", "2026-11-25T19:59:00Z")]
    [InlineData("none", 9, 12, "UTC", "2026-11-25T11:59:00Z", "2026-11-25T12:00:00Z")]
    [InlineData("none", 8, 8, "UTC", "2026-11-25T08:30:00Z", "2026-11-25T08:30:00Z")]
    [InlineData("none", 20, 7, "Atlantic/Azores", "2026-07-01T22:30:00Z", "2026-07-02T07:00:00Z")]
    [InlineData("none", 20, 7, "Atlantic/Azores", "2026-11-25T22:30:00Z", "2026-11-26T08:00:00Z")]
    [InlineData("day", 5, 9, "UTC", "2026-11-25T04:00:00Z", "2026-11-25T09:00:00Z")]
    [InlineData("hour", null, null, "Europe/Berlin", "2026-10-25T01:30:00Z", "2026-10-25T02:00:00Z")]
    [InlineData("none", 1, 3, "Europe/Berlin", "2026-03-29T00:30:00Z", "2026-03-29T01:00:00Z")]
    public void A_mail_goes_out_when_its_reader_wants_to_hear(string digest, int? from, int? until, string zone, string now, string due)
    {
        Assert.Equal(At(due), new Hearing(true, digest, from, until, zone).Due(At(now)));
        // What was kept without a zone, or with one that the machine no longer knows, goes by UTC.
        Assert.Equal(
            new Hearing(true, digest, from, until).Due(At(now)),
            new Hearing(true, digest, from, until, "Nowhere/Land").Due(At(now))
        );
    }

    [Fact]
    public void A_mail_is_never_due_before_it_was_made()
    {
        var random = new Random(7);
        string[] zones = ["UTC", "Europe/Berlin", "Atlantic/Azores", "America/St_Johns", "Australia/Lord_Howe", "Pacific/Apia"];
        for (var i = 0; i < 20_000; i++)
        {
            var now = DateTimeOffset.UnixEpoch.AddDays(20_000).AddMinutes(random.Next(0, 2_000_000));
            var hearing = new Hearing(
                true,
                random.GetItems(["none", "hour", "day"], 1)[0],
                random.Next(24),
                random.Next(24),
                random.GetItems(zones, 1)[0]
            );
            var due = hearing.Due(now);
            Assert.True(due >= now && due <= now.AddHours(50), $"{hearing} at {now:o}: {due:o}");
            var hour = TimeZoneInfo.ConvertTime(due, TimeZoneInfo.FindSystemTimeZoneById(hearing.Zone)).Hour;
            var quiet =
                hearing.QuietFrom < hearing.QuietUntil
                    ? hour >= hearing.QuietFrom && hour < hearing.QuietUntil
                    : hearing.QuietFrom > hearing.QuietUntil && (hour >= hearing.QuietFrom || hour < hearing.QuietUntil);
            Assert.False(quiet, $"{hearing} at {now:o}: {due:o}");
        }
    }

    private static DateTimeOffset At(string text) => DateTimeOffset.Parse(text, CultureInfo.InvariantCulture);
}
