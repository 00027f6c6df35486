using System.Text.Json;

namespace Oikonom.Core.Time;

/// <summary>How somebody wants to hear.</summary>
/// <param name="Mail">False when the inbox in the console is enough.</param>
/// <param name="Digest"><c>none</c>, <c>hour</c> or <c>day</c>: mails gathered into one.</param>
/// <param name="QuietFrom">First hour (0 to 23, in <paramref name="Zone"/>) in which no mail goes out, or null.</param>
/// <param name="QuietUntil">The hour at which mails go out again.</param>
/// <param name="Zone">The time zone of these hours (IANA name).</param>
public sealed record Hearing(bool Mail = true, string Digest = "none", int? QuietFrom = null, int? QuietUntil = null, string Zone = "UTC")
{
    private const int DigestHour = 7;

    /// <summary>How somebody wants to hear, as it is kept.</summary>
    public string ToJson() => JsonSerializer.Serialize(this, JsonSerializerOptions.Web);

    /// <summary>Reads how somebody wants to hear; the default where nothing is kept.</summary>
    public static Hearing FromJson(string json) =>
        json.Length <= 2 ? new() : JsonSerializer.Deserialize<Hearing>(json, JsonSerializerOptions.Web) ?? new();

    /// <summary>When a mail made now goes out; never before now.</summary>
    public DateTimeOffset Due(DateTimeOffset now)
    {
        var zone = TimeZoneInfo.TryFindSystemTimeZoneById(Zone, out var found) ? found : TimeZoneInfo.Utc;
        var local = TimeZoneInfo.ConvertTime(now, zone).DateTime;
        var due = Digest switch
        {
            "hour" => NextHour(local),
            "day" => local.Date.AddHours(local.Hour < DigestHour ? DigestHour : DigestHour + 24),
            _ => local,
        };
        if (QuietFrom is { } from && QuietUntil is { } until)
            for (var i = 0; i < 24 && IsQuiet(due.Hour, from, until); i++)
                due = NextHour(due);
        // An hour that comes twice in a night of autumn is taken for its first time, which may be over.
        var instant = SiteDays.InstantOf(due, zone);
        return instant < now ? now : instant;
    }

    private static DateTime NextHour(DateTime local) => local.Date.AddHours(local.Hour + 1);

    private static bool IsQuiet(int hour, int from, int until) =>
        from < until ? hour >= from && hour < until : from > until && (hour >= from || hour < until);
}
