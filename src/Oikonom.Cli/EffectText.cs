using Oikonom.Contracts;

namespace Oikonom.Cli;

/// <summary>What comes of a plan for the person, in lines: gained, changed, kept and lost.</summary>
internal static class EffectText
{
    /// <param name="place">Where the days of the person begin and end.</param>
    public static void Write(PlanEffect effect, SitePlace? place)
    {
        foreach (
            var (side, lines) in new[]
            {
                ("Gained", effect.Gained),
                ("Changed", effect.Changed),
                ("Kept", effect.Kept),
                ("Lost", effect.Lost),
            }
        )
        {
            var word = side;
            foreach (var line in lines)
            {
                Show.Line($"  {word, -8} {line.Title}{(line.Privileged ? " (privileged)" : "")}{Term(line, side == "Lost", place)}");
                if (side == "Changed")
                    foreach (var attribute in line.Attributes)
                        Show.Line($"             {Of(attribute)}");
                Show.Line($"             {line.Why}");
                word = "";
            }
        }
    }

    /// <summary>An attribute with what it was and what it becomes.</summary>
    public static string Of(AttributeChangeView attribute)
    {
        var before = attribute.Before.Count == 0 ? "" : string.Join(", ", attribute.Before) + " → ";
        var after = attribute.After.Count == 0 ? "(removed)" : string.Join(", ", attribute.After);
        return $"{attribute.Title ?? attribute.Name}: {before}{after}";
    }

    private static string Term(EffectLine line, bool isLost, SitePlace? place) =>
        (line.From is { } from ? $", {(isLost ? "until" : "from")} {Show.Moment(from, place, isLost)}" : "")
        + (line.Until is { } until ? $", until {Show.Moment(until, place, true)}" : "");
}
