using System.Globalization;
using Oikonom.Core.Rulebook;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>What Oikonom reaches others with and that ends: the certificate of a target, and the secret it signs in with.</summary>
/// <param name="Key">What it is, the same for as long as it ends at the same instant.</param>
/// <param name="Link">The page on which it is seen.</param>
public sealed record EndsSoon(string Key, string What, DateTimeOffset Until, string Link)
{
    /// <summary>How long before its end it is told on pages.</summary>
    public static readonly TimeSpan Ahead = TimeSpan.FromDays(30);

    /// <summary>How many days before the end a mail goes out, and once more when it has come.</summary>
    private static readonly int[] Days = [30, 14, 7, 1, 0];

    /// <summary>All that has ended or ends within the next 30 days, the nearest first.</summary>
    public static IReadOnlyList<EndsSoon> Of(
        Core.Rulebook.Rulebook rulebook,
        IEnumerable<TargetStateRow> states,
        IEnumerable<SecretRow> secrets,
        DateTimeOffset now
    )
    {
        var until = secrets.Where(s => s.ValidUntil is not null).ToDictionary(s => s.Name, s => At(s.ValidUntil!.Value));
        var certificates = states
            .Select(s => (Target: rulebook.Targets.GetValueOrDefault(s.Target), Until: TargetDesk.CertificateOf(s)))
            .Where(c => c is { Target: not null, Until: not null })
            .Select(c => Made($"certificate-{c.Target!.Name}", $"The certificate of {c.Target.Title}", c.Until!.Value, LinkOf(c.Target)));
        var signsIn = rulebook
            .Targets.Values.Where(t => t.Settings.SignsIn is { } by && until.ContainsKey(by.Secret))
            .Select(t =>
            {
                var secret = t.Settings.SignsIn!.Value.Secret;
                return Made($"secret-{secret}", $"The secret '{secret}' that {t.Title} is signed in to with", until[secret], LinkOf(t));
            });
        var sources = rulebook
            .Sources.Values.Where(s => s.Http is { } http && until.ContainsKey(http.Secret))
            .Select(s =>
                Made(
                    $"secret-{s.Http!.Secret}",
                    $"The secret '{s.Http.Secret}' that {s.Title} is read with",
                    until[s.Http.Secret],
                    $"/sources/{s.Name}"
                )
            );
        return
        [
            .. certificates
                .Concat(signsIn)
                .Concat(sources)
                .Where(e => e.Until - now <= Ahead)
                .DistinctBy(e => e.Key)
                .OrderBy(e => e.Until)
                .ThenBy(e => e.Key, StringComparer.Ordinal),
        ];
    }

    /// <summary>The end in words, for a page or a mail.</summary>
    public string TextAt(DateTimeOffset now)
    {
        // What ends at midnight has the day before as its last.
        var day = Until.UtcDateTime.AddTicks(-1).ToString("yyyy-MM-dd", CultureInfo.InvariantCulture);
        var left = (int)Math.Ceiling((Until - now).TotalDays);
        return Until <= now ? $"{What} ended on {day}."
            : left == 1 ? $"{What} ends tomorrow ({day})."
            : $"{What} ends in {left} days ({day}).";
    }

    /// <summary>Which of the mails about this end is due: the nearest of 30, 14, 7 and 1 day before it, and 0 when it has come.</summary>
    public int DueAt(DateTimeOffset now)
    {
        var left = (Until - now).TotalDays;
        return Days.Where(d => left <= d).Min();
    }

    private static EndsSoon Made(string key, string what, DateTimeOffset until, string link) =>
        new($"{key}-{until.ToUnixTimeSeconds()}", what, until, link);

    private static string LinkOf(TargetRule target) => $"/targets/{target.Name}";

    private static DateTimeOffset At(long milliseconds) => DateTimeOffset.FromUnixTimeMilliseconds(milliseconds);
}
