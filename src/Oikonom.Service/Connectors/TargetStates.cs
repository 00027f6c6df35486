using System.Globalization;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Common;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Connectors;

/// <summary>The state of a target in a word and in words.</summary>
public static class TargetStates
{
    public const string Works = "works";
    public const string Unseen = "unseen";
    public const string Away = "away";
    public const string Paused = "paused";
    public const string Maintenance = "maintenance";

    /// <param name="isGood">What the last check found; null when there was none.</param>
    public static (string State, string Text, DateTimeOffset? Since) Of(
        TargetRule target,
        TargetStateRow? state,
        bool? isGood,
        string found,
        DateTimeOffset now
    )
    {
        if (state is { PausedBy.Length: > 0 })
            return (Paused, $"Paused by {state.PausedBy}: {state.Reason}", state.PausedAt?.ToInstant());
        if (target.Maintenance?.Covers(now) == true)
            return (
                Maintenance,
                $"It is worked on until {target.Maintenance.Until:HH:mm} by the clock of {target.Maintenance.Zone.Id}.",
                null
            );
        if (state is { AwayAt: { } away })
            return (Away, $"{state.Problem}{(state.RetryAt > 0 ? $" It is tried again at {At(state.RetryAt)}." : "")}", away.ToInstant());
        // A check that came after the last success knows better.
        if (isGood == false && (state?.GoodAt ?? 0) < (state?.CheckedAt ?? 0))
            return (Away, found, state?.CheckedAt?.ToInstant());
        if (!target.HasAccounts || isGood == true || state?.GoodAt is not null)
            return (Works, "", state?.GoodAt?.ToInstant());
        return (Unseen, "Nothing was done in it yet.", null);
    }

    /// <summary>Why nothing begins in a target now; null when it does.</summary>
    public static string? WhyStill(TargetRule target, TargetStateRow? state, DateTimeOffset now) =>
        Of(target, state, null, "", now) switch
        {
            (Paused, var text, _) => $"{target.Title} is paused. {text}",
            (Maintenance, var text, _) => $"{target.Title} is in its maintenance window. {text}",
            (Away, var text, var since) => $"{target.Title} does not answer since {At(since!.Value.ToUnixTimeMilliseconds())}: {text}",
            _ => null,
        };

    private static string At(long milliseconds) =>
        milliseconds.ToInstant().UtcDateTime.ToString("yyyy-MM-dd HH:mm 'UTC'", CultureInfo.InvariantCulture);
}
