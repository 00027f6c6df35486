using System.Globalization;
using Oikonom.Core.Expressions;

namespace Oikonom.Core.Rulebook;

public static partial class RulebookReader
{
    private sealed partial class Documents
    {
        private NumberPool? Pool(YamlMap map, IReadOnlyDictionary<string, Site> sites)
        {
            var name = Name(map);
            if (name?.Contains('-', StringComparison.Ordinal) == true) map.Report(map.Place, "The name of a pool has no hyphen, since expressions use it as pool.NAME.");
            var title = map.TextOr("title", name ?? "");
            var prefix = map.TextOr("prefix", "");
            var ranges = new Dictionary<string, IReadOnlyList<NumberRange>>(StringComparer.Ordinal);
            foreach (var (site, texts) in map.NamedTextLists("ranges"))
            {
                if (site.Text != NumberPool.Anywhere && !sites.ContainsKey(site.Text)) map.Report(site.Place, $"'{site.Text}' is no site.{Nearest.Hint(site.Text, sites.Keys.Append(NumberPool.Anywhere))} Use '{NumberPool.Anywhere}' for all other sites.");
                ranges[site.Text] = [.. texts.Select(t => Range(map, t)).OfType<NumberRange>()];
            }
            if (ranges.Count == 0 && name is not null) map.Report(map.Place, "A pool has at least one range.");
            map.Done();
            return name is null ? null : new(name, title, prefix, ranges, map.Place);
        }

        private static NumberRange? Range(YamlMap map, Located text)
        {
            var parts = text.Text.Split('-', 2, StringSplitOptions.TrimEntries);
            if (parts.Length == 2 && long.TryParse(parts[0], NumberStyles.None, CultureInfo.InvariantCulture, out var first) && long.TryParse(parts[1], NumberStyles.None, CultureInfo.InvariantCulture, out var last) && first <= last && last - first < 10_000_000)
                return new(first, last);
            map.Report(text.Place, $"'{text.Text}' is no range such as 2000-2999.");
            return null;
        }

        private Separation? ReadSeparation(YamlMap map)
        {
            var name = Name(map);
            var title = map.TextOr("title", name ?? "");
            var (one, other) = (Entitlements(map, "nobody-with"), Entitlements(map, "also-has"));
            foreach (var both in one.Intersect(other)) map.Report(map.Place, $"'{both}' stands on both sides; nobody could ever hold it.");
            var effect = map.Choice("then", "block", "block", "decide");
            var decides = map.Text("decides", required: effect == "decide");
            var approver = decides is { } named ? Parse(map, named) : null;
            map.Done();
            return name is null ? null : new(name, title, one, other, effect == "block" ? SeparationEffect.Block : SeparationEffect.Decide, approver?.ToString() ?? "", map.Place) { Approver = approver };
        }

        private List<string> Entitlements(YamlMap map, string key)
        {
            var found = new List<string>();
            foreach (var reference in map.Texts(key))
                if (Reference(map, reference)) found.Add(reference.Text);
            return found;
        }

        /// <summary>True when the text names an entitlement of a target; reports what is wrong else.</summary>
        private bool Reference(YamlMap map, Located reference)
        {
            var parts = reference.Text.Split('/', 2);
            if (parts.Length != 2)
            {
                map.Report(reference.Place, $"'{reference.Text}' must have the form TARGET/ENTITLEMENT.");
                return false;
            }
            if (Target(new(parts[0], reference.Place), map) is not { } target) return false;
            if (target.Entitlements.ContainsKey(parts[1])) return true;
            map.Report(reference.Place, $"The target '{parts[0]}' has no entitlement '{parts[1]}'.{Nearest.Hint(parts[1], target.Entitlements.Keys)}");
            return false;
        }
    }
}
