using System.Globalization;
using Oikonom.Core.Expressions;

namespace Oikonom.Core.Rulebook;

/// <content>Pools, separations, notices and the other rules.</content>
public static partial class RulebookReader
{
    private sealed partial class Documents
    {
        private NumberPool? Pool(YamlMap map, IReadOnlyDictionary<string, Site> sites)
        {
            var name = Name(map);
            if (name?.Contains('-', StringComparison.Ordinal) == true)
                map.Report(map.Place, "The name of a pool has no hyphen, since expressions use it as pool.NAME.");
            var title = map.TextOr("title", name ?? "");
            var prefix = map.TextOr("prefix", "");
            var ranges = new Dictionary<string, IReadOnlyList<NumberRange>>(StringComparer.Ordinal);
            foreach (var (site, texts) in map.NamedTextLists("ranges"))
            {
                if (site.Text != NumberPool.Anywhere && !sites.ContainsKey(site.Text))
                    map.Report(
                        site.Place,
                        $"'{site.Text}' is no site.{Nearest.Hint(site.Text, sites.Keys.Append(NumberPool.Anywhere))} Use "
                            + $"'{NumberPool.Anywhere}' for all other sites."
                    );
                ranges[site.Text] = [.. texts.Select(t => Range(map, t)).OfType<NumberRange>()];
            }
            if (ranges.Count == 0 && name is not null)
                map.Report(map.Place, "A pool has at least one range.");
            map.Done();
            return name is null ? null : new(name, title, prefix, ranges, map.Place);
        }

        private static NumberRange? Range(YamlMap map, Located text)
        {
            var parts = text.Text.Split('-', 2, StringSplitOptions.TrimEntries);
            if (
                parts.Length == 2
                && long.TryParse(parts[0], NumberStyles.None, CultureInfo.InvariantCulture, out var first)
                && long.TryParse(parts[1], NumberStyles.None, CultureInfo.InvariantCulture, out var last)
                && first <= last
                && last - first < 10_000_000
            )
                return new(first, last);
            map.Report(text.Place, $"'{text.Text}' is no range such as 2000-2999.");
            return null;
        }

        private Separation? ReadSeparation(YamlMap map)
        {
            var name = Name(map);
            var title = map.TextOr("title", name ?? "");
            var (one, other) = (Entitlements(map, "nobody-with"), Entitlements(map, "also-has"));
            foreach (var both in one.Intersect(other))
                map.Report(map.Place, $"'{both}' stands on both sides; nobody could ever hold it.");
            var effect = map.Choice("then", "block", "block", "decide");
            var decides = map.Text("decides", required: effect == "decide");
            var approver = decides is { } named ? Parse(map, named) : null;
            map.Done();
            return name is null
                ? null
                : new(
                    name,
                    title,
                    one,
                    other,
                    effect == "block" ? SeparationEffect.Block : SeparationEffect.Decide,
                    approver?.ToString() ?? "",
                    map.Place
                )
                {
                    Approver = approver,
                };
        }

        private List<EntitlementKey> Entitlements(YamlMap map, string key) =>
            [.. map.Texts(key).Select(reference => Reference(map, reference)).OfType<EntitlementKey>()];

        /// <summary>The entitlement a text names; null when there is none, and then what is wrong is told.</summary>
        private EntitlementKey? Reference(YamlMap map, Located reference)
        {
            if (!EntitlementKey.TryParse(reference.Text, out var key))
            {
                map.Report(reference.Place, $"'{reference.Text}' must have the form TARGET/ENTITLEMENT.");
                return null;
            }
            if (Target(new(key.Target, reference.Place), map) is not { } target)
                return null;
            if (target.Entitlements.ContainsKey(key.Name))
                return key;
            map.Report(
                reference.Place,
                $"The target '{key.Target}' has no entitlement '{key.Name}'.{Nearest.Hint(key.Name, target.Entitlements.Keys)}"
            );
            return null;
        }
    }
}
