using Oikonom.Core.Expressions;

namespace Oikonom.Core.Rulebook;

/// <content>What was read from targets, and how what targets give hangs together.</content>
public static partial class RulebookReader
{
    private sealed partial class Documents
    {
        private readonly Dictionary<string, Dictionary<string, (Located Key, YamlMap Entry)>> _catalogues = new(StringComparer.Ordinal);

        /// <summary>What was read from targets, by target and name.</summary>
        private void ReadCatalogues(IReadOnlyCollection<string> targets)
        {
            foreach (var map in Of(CatalogueFiles.Folder))
            {
                var target = map.Text("target");
                var entries = map.NamedMaps("entitlements", required: false).ToList();
                map.Done();
                if (target is not { } named)
                    continue;
                if (!targets.Contains(named.Text))
                    map.Report(named.Place, $"There is no target '{named.Text}'.{Nearest.Hint(named.Text, targets)}");
                if (!_catalogues.TryGetValue(named.Text, out var known))
                    _catalogues[named.Text] = known = new(StringComparer.Ordinal);
                foreach (var (key, entry) in entries)
                    if (!known.TryAdd(key.Text, (key, entry)))
                        map.Report(key.Place, $"The name '{key.Text}' is used twice.");
            }
        }

        /// <summary>How a directory is asked for its groups.</summary>
        private static CatalogueRule? DirectoryCatalogue(YamlMap map, string groups)
        {
            if (map.Map("catalogue", required: false) is not { } catalogue)
                return null;
            var read = catalogue.Text("read");
            if (read is { } filter && !IsFilter(filter.Text))
                catalogue.Report(filter.Place, $"'{filter.Text}' is no filter such as (objectClass=groupOfNames) (RFC 4515).");
            var rule = new CatalogueRule(read is { } r ? [r.Text] : [])
            {
                Below = catalogue.TextOr("below", groups),
                Name = Attribute(catalogue, "name", "cn"),
                Title = Attribute(catalogue, "title", ""),
                Description = Attribute(catalogue, "description", "description"),
                Owner = Attribute(catalogue, "owner", ""),
                IsRequestable = catalogue.YesNo("on-request", false),
            };
            catalogue.Done();
            return rule;
        }

        private static string Attribute(YamlMap map, string key, string otherwise)
        {
            if (map.Text(key, required: false) is not { } attribute)
                return otherwise;
            if (!AttributeForm().IsMatch(attribute.Text))
                map.Report(attribute.Place, $"'{attribute.Text}' is no attribute name of a target.");
            return attribute.Text;
        }

        /// <summary>Whether a text has the outer form of a filter; the directory's own words tell the rest.</summary>
        private static bool IsFilter(string text)
        {
            var depth = 0;
            for (var i = 0; i < text.Length; i++)
            {
                depth += text[i] switch
                {
                    '(' => 1,
                    ')' => -1,
                    _ => 0,
                };
                if (depth < 0 || (depth == 0 && i < text.Length - 1))
                    return false;
            }
            return depth == 0 && text.Length > 4;
        }

        private static readonly string[] Readable = ["groups", "roles", "licences"];

        /// <summary>What an application is asked for.</summary>
        private static CatalogueRule? ApplicationCatalogue(YamlMap map)
        {
            if (map.Map("catalogue", required: false) is not { } catalogue)
                return null;
            var read = catalogue.Texts("read");
            foreach (var what in read.Where(r => !Readable.Contains(r.Text)))
                catalogue.Report(
                    what.Place,
                    $"'{what.Text}' cannot be read; use {string.Join(", ", Readable)}.{Nearest.Hint(what.Text, Readable)}"
                );
            var rule = new CatalogueRule([.. read.Select(r => r.Text)]) { IsRequestable = catalogue.YesNo("on-request", false) };
            catalogue.Done();
            return rule;
        }

        private readonly List<(YamlMap Target, string Name, Located Source)> _mirrors = [];

        /// <summary>What is mirrored is there, stands for itself, and its holders can have an account where it is mirrored.</summary>
        private void CheckMirrors()
        {
            var known = _targets.Values.SelectMany(t => t.Entitlements.Keys.Select(e => $"{t.Name}/{e}")).ToList();
            foreach (var (map, name, source) in _mirrors)
            {
                var target = map.Peek("name") ?? "";
                if (!EntitlementKey.TryParse(source.Text, out var key))
                    map.Report(source.Place, $"'{source.Text}' is no TARGET/ENTITLEMENT.");
                else if (_targets.GetValueOrDefault(key.Target)?.Entitlements.GetValueOrDefault(key.Name) is not { } found)
                    map.Report(source.Place, $"There is no entitlement '{source.Text}'.{Nearest.Hint(source.Text, known)}");
                else if (found.Mirrors is not null || key == new EntitlementKey(target, name))
                    map.Report(source.Place, $"'{source.Text}' mirrors something itself; name what gives it.");
                // Whether one has another role would depend on itself.
                else if (
                    found.IsLeast
                    && _targets.GetValueOrDefault(target)?.Entitlements.GetValueOrDefault(name) is { Kind: EntitlementKind.Role }
                )
                    map.Report(
                        source.Place,
                        $"'{name}' is a role, and '{source.Text}', which it mirrors, is what one has without another."
                    );
                // Who holds what is not powerful holds it without an end.
                else if (
                    _targets.GetValueOrDefault(target)?.Entitlements.GetValueOrDefault(name)?.IsPrivileged == true
                    && !found.IsPrivileged
                )
                    map.Report(source.Place, $"'{name}' is privileged, and '{source.Text}', which it mirrors, is not.");
                else if (_targets.GetValueOrDefault(target) is { HasAccounts: true } && !_madeAccounts.Contains(target))
                    map.Report(source.Place, $"No template makes an account in '{target}', so this can never be given.");
            }
        }

        private readonly List<(YamlMap Target, string Name, Located Need)> _needs = [];

        /// <summary>What is needed can be given or set, and nothing needs itself on the way.</summary>
        private void CheckNeeds(IReadOnlyCollection<RoleTemplate> templates)
        {
            foreach (var (map, name, need) in _needs)
            {
                if (_targets.GetValueOrDefault(map.Peek("name") ?? "") is not { } target)
                    continue;
                if (target.Entitlements.ContainsKey(need.Text))
                {
                    if (Leads(target, need.Text, name, []))
                        map.Report(need.Place, $"'{name}' and '{need.Text}' would need each other.");
                    continue;
                }
                var set = templates
                    .SelectMany(t => t.Accounts)
                    .Where(a => a.Target == target.Name)
                    .SelectMany(a => a.Attributes)
                    .Select(a => a.Name)
                    .Distinct(StringComparer.OrdinalIgnoreCase)
                    .ToList();
                if (!set.Contains(need.Text, StringComparer.OrdinalIgnoreCase))
                    map.Report(
                        need.Place,
                        $"'{need.Text}' is nothing that '{target.Name}' gives, and no template sets it in an account "
                            + $"there.{Nearest.Hint(need.Text, target.Entitlements.Keys.Concat(set))}"
                    );
            }
        }

        private static bool Leads(TargetRule target, string from, string to, HashSet<string> seen) =>
            from == to
            || (seen.Add(from) && target.Entitlements.GetValueOrDefault(from)?.Needs.Any(next => Leads(target, next, to, seen)) == true);
    }
}
