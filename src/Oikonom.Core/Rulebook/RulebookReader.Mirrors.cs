using Oikonom.Core.Expressions;

namespace Oikonom.Core.Rulebook;

/// <content>Directories that mirror another one as a whole.</content>
public static partial class RulebookReader
{
    private sealed partial class Documents
    {
        /// <summary>A directory that mirrors another one.</summary>
        /// <param name="Attributes">The attributes it takes over by their names here, each with its name there; null for all.</param>
        private sealed record Whole(
            YamlMap Map,
            string Target,
            Located Source,
            IReadOnlyDictionary<string, string>? Attributes,
            Expression? Container,
            Expression? Names,
            bool TakesGroups
        );

        private readonly List<Whole> _wholes = [];

        /// <summary>Which directory this one mirrors; it comes after that.</summary>
        private void MirrorOfWhole(YamlMap map, string? name)
        {
            if (map.Map("mirrors", required: false) is not { } mirror)
                return;
            var source = mirror.Text("target");
            var attributes = mirror.Has("attributes")
                ? mirror
                    .NamedTexts("attributes", required: false)
                    .GroupBy(a => a.Name.Text, StringComparer.OrdinalIgnoreCase)
                    .ToDictionary(g => g.Key, g => g.Last().Value.Text, StringComparer.OrdinalIgnoreCase)
                : null;
            var container = mirror.Text("container", required: false) is { } below
                ? mirror.Expression(below, _accountNames, ExpressionType.String, "'container'")
                : null;
            var groups = mirror.YesNo("groups", true);
            mirror.Done();
            if (name is null || source is not { } of)
                return;
            var names = mirror.Expression(new($"names.{of.Text}", of.Place), _accountNames, ExpressionType.String, "'target'");
            _wholes.Add(new(mirror, name, of, attributes, container, names, groups));
            _after.Add((name, of, mirror));
        }

        /// <summary>Each group of the mirrored directory is one of the mirror, too, under the same name, made where it is missing. What
        /// mirrors comes behind what it mirrors, since its names rest on those.</summary>
        private void MirrorGroups()
        {
            foreach (var whole in _wholes.ToList())
            {
                var source = _targets.GetValueOrDefault(whole.Source.Text);
                if (
                    !_targets.TryGetValue(whole.Target, out var target)
                    || target.Settings is not TargetSettings.Ldap settings
                    || source is null
                )
                    continue;
                if (source.Settings is not TargetSettings.Ldap || source == target || _wholes.Exists(w => w.Target == source.Name))
                {
                    whole.Map.Report(
                        whole.Source.Place,
                        $"'{whole.Source.Text}' is no directory of its own; name one that stands for itself."
                    );
                    _wholes.Remove(whole);
                    continue;
                }
                var entitlements = new Dictionary<string, Entitlement>(target.Entitlements, StringComparer.Ordinal);
                foreach (var given in whole.TakesGroups ? source.Entitlements.Values : [])
                    if (given.Mirrors is null)
                        entitlements.TryAdd(given.Name, MirrorOf(given, source, settings));
                _targets[whole.Target] = target with
                {
                    Entitlements = entitlements,
                    After = [.. target.After.Append(source.Name).Distinct()],
                };
            }
            var ordered = _targets.OrderBy(t => _wholes.Exists(w => w.Target == t.Key)).ToList();
            _targets.Clear();
            foreach (var (name, target) in ordered)
                _targets.Add(name, target);
        }

        private static Entitlement MirrorOf(Entitlement given, TargetRule source, TargetSettings.Ldap settings)
        {
            // The first part of the name; what stands above it is the mirror's own.
            var dn = ((EntitlementMeans.Group)given.Means).Dn;
            var end = 0;
            while (end < dn.Length && dn[end] != ',')
                end += dn[end] == '\\' ? 2 : 1;
            return given with
            {
                Means = new EntitlementMeans.Group($"{dn[..Math.Min(end, dn.Length)]},{settings.Groups}"),
                Needs = [],
                Mirrors = new(source.Name, given.Name),
                IsLeast = false,
                IsMade = true,
                IsShared = false,
                IsRequestable = false,
                MostHolders = null,
            };
        }

        /// <summary>Whatever makes or describes an account in the mirrored directory does so in the mirror, too; what a template says
        /// of the account there itself comes first.</summary>
        private Dictionary<string, RoleTemplate> Mirrored(Dictionary<string, RoleTemplate> templates)
        {
            foreach (var whole in _wholes)
            {
                if (!_targets.ContainsKey(whole.Target) || _targets.GetValueOrDefault(whole.Source.Text) is not { } source)
                    continue;
                foreach (var template in templates.Values.ToList())
                    if (template.Accounts.FirstOrDefault(a => a.Key == new AccountKey(source.Name)) is { } account)
                        templates[template.Name] = template with { Accounts = Mirrored(template, account, whole, source) };
                if (_madeAccounts.Contains(new(source.Name)))
                    _madeAccounts.Add(new(whole.Target));
                else
                    whole.Map.Report(whole.Source.Place, $"No template makes an account in '{source.Name}', so nothing is mirrored.");
                foreach (var (_, there) in whole.Attributes ?? new Dictionary<string, string>())
                    if (!templates.Values.SelectMany(t => t.Accounts).Any(a => a.Target == source.Name && Has(a, there)))
                        whole.Map.Report(whole.Map.Place, $"No template sets '{there}' in an account in '{source.Name}'.");
            }
            return templates;
        }

        private static bool Has(AccountRule account, string attribute) =>
            account.Attributes.Any(a => a.Name.Equals(attribute, StringComparison.OrdinalIgnoreCase));

        private static List<AccountRule> Mirrored(RoleTemplate template, AccountRule account, Whole whole, TargetRule source)
        {
            var own = template.Accounts.FirstOrDefault(a => a.Key == new AccountKey(whole.Target));
            var taken = whole.Attributes is { } chosen
                ? chosen.SelectMany(c =>
                    account
                        .Attributes.Where(a => a.Name.Equals(c.Value, StringComparison.OrdinalIgnoreCase))
                        .Select(a => a with { Name = c.Key })
                )
                // What names an account is each directory's own.
                : account.Attributes.Where(a => !a.Name.Equals(source.Settings.NameAttribute, StringComparison.OrdinalIgnoreCase));
            var mirror = account with
            {
                Key = new(whole.Target),
                Names =
                    account.Names.Count == 0 || whole.Names is null ? []
                    : own is { Names.Count: > 0 } ? own.Names
                    : [whole.Names],
                Container = account.Names.Count == 0 ? null : own?.Container ?? whole.Container,
                Attributes = [.. own?.Attributes ?? [], .. taken.Where(a => own is null || !Has(own, a.Name))],
            };
            return [.. template.Accounts.Where(a => a != own), mirror];
        }
    }
}
