using Oikonom.Core.Expressions;

namespace Oikonom.Core.Rulebook;

/// <content>Templates.</content>
public static partial class RulebookReader
{
    private sealed partial class Documents
    {
        private RoleTemplate? Template(YamlMap map)
        {
            var name = Name(map);
            var title = map.TextOr("title", name ?? "");
            var priority = map.Number("priority", 0, -1000, 1000);
            var whenText = map.Text("when", required: false);
            var when = whenText is { } condition ? map.Expression(condition, _attributes, ExpressionType.Bool, "'when'") : null;
            var numbers = map.Texts("numbers", required: false);
            foreach (var pool in numbers.Where(n => !_pools.ContainsKey(n.Text)))
                map.Report(pool.Place, $"There is no pool '{pool.Text}'.{Nearest.Hint(pool.Text, _pools.Keys)}");
            var onRequest = map.YesNo("on-request", false);
            var asks = map.Texts("asks", required: false).Where(Declared).Select(a => a.Text).ToList();
            var accounts = map.NamedMaps("accounts", required: false).Select(a => Account(a.Name, a.Map)).OfType<AccountRule>().ToList();
            var grants = map.Maps("grants", required: false).Select(Grant).OfType<GrantRule>().ToList();
            map.Done();
            return name is null
                ? null
                : new(name, title, priority, when, accounts, grants, map.Place)
                {
                    Numbers = [.. numbers.Select(n => n.Text)],
                    Asks = asks,
                    WhenPlace = whenText?.Place ?? map.Place,
                    IsOnRequest = onRequest,
                };
        }

        private const string Never = "never";
        private const string OnChange = "on-change";

        private AccountRule? Account(Located where, YamlMap account)
        {
            var key = AccountKey.Parse(where.Text);
            var names = account.Texts("name", required: false).Select(n => NameOf(account, n)).OfType<Expression>().ToList();
            var lead = Days(account, "lead");
            var container = account.Text("container", required: false);
            var below = container is { } text ? account.Expression(text, _accountNames, ExpressionType.String, "'container'") : null;
            var attributes = new List<AttributeRule>();
            foreach (var (attribute, expressionText) in account.NamedTexts("attributes", required: false))
            {
                if (!IsAttributeOf(key.Target, attribute.Text))
                    account.Report(attribute.Place, $"'{attribute.Text}' is no attribute name of a target.");
                else if (account.Expression(expressionText, _accountNames, ExpressionType.Null, "") is { } expression)
                    attributes.Add(new(attribute.Text, expression, expressionText.Place));
            }
            var from = Day(account, "enabled-from");
            var until = Day(account, "enabled-until");
            var follows = account.Choice("rename", Never, Never, OnChange) == OnChange;
            account.Done();
            if (Target(new(key.Target, where.Place), account) is not { } target)
                return null;
            if (container is { } place && target.Settings is not TargetSettings.Ldap)
                account.Report(place.Place, $"'{key.Target}' has no containers.");
            else if (container is { } alone && names.Count == 0)
                account.Report(alone.Place, "The template that gives the account its name says where it stands.");
            if (follows && names.Count == 0)
                account.Report(where.Place, "The template that gives the account its name says whether it is renamed.");
            if (!key.IsOrdinary)
                CheckSlot(key, target, attributes, where, account);
            if (names.Count > 0)
                _madeAccounts.Add(key);
            return new(key, names, lead, attributes, where.Place)
            {
                Container = below,
                FollowsName = follows,
                EnabledFrom = from,
                EnabledUntil = until,
            };
        }

        /// <summary>A wish for a name, which may be the name of another account of the person; it cannot rest on itself.</summary>
        private Expression? NameOf(YamlMap account, Located text)
        {
            if (OwnName().Match(text.Text) is { Success: true } own)
                account.Report(text.Place, $"'{own.Value}' is what is being made here; 'names.TARGET' is the name of another account.");
            return account.Expression(text, _accountNames, ExpressionType.String, "'name'");
        }

        /// <summary>Whether accounts of a target can have an attribute of that name; whether one may be used is no attribute.</summary>
        private bool IsAttributeOf(string target, string name) =>
            _targets.GetValueOrDefault(target)?.Settings switch
            {
                TargetSettings.Scim => PathForm().IsMatch(name) && !name.Equals("active", StringComparison.OrdinalIgnoreCase),
                TargetSettings.File => AttributeForm().IsMatch(name)
                    && !TargetSettings.File.Columns.Contains(name, StringComparer.OrdinalIgnoreCase),
                _ => AttributeForm().IsMatch(name),
            };

        private GrantRule? Grant(YamlMap entry)
        {
            var to = entry.Text("to");
            var only = entry.Text("when", required: false) is { } c
                ? entry.Expression(c, _attributes, ExpressionType.Bool, "'when'")
                : null;
            var from = Day(entry, "from");
            var until = Day(entry, "until");
            var handOver = Days(entry, "hand-over");
            entry.Done();
            if (to is not { } reference || Reference(entry, reference) is not { } key)
                return null;
            return new(key, only, reference.Place)
            {
                From = from,
                Until = until,
                HandOver = handOver,
            };
        }

        /// <summary>An ISO 8601 duration; none is nothing.</summary>
        private static TimeSpan Days(YamlMap map, string key)
        {
            if (map.Text(key, required: false) is not { } text)
                return TimeSpan.Zero;
            if (!Time.Iso8601.TryParseDuration(text.Text, out var duration))
                map.Report(text.Place, $"'{text.Text}' is no ISO 8601 duration such as P14D.");
            return duration;
        }

        /// <summary>What finds the ordinary account of a person must not lead to another one.</summary>
        private static void CheckSlot(AccountKey key, TargetRule target, List<AttributeRule> attributes, Located where, YamlMap account)
        {
            if (!NameForm().IsMatch(key.Slot))
                account.Report(where.Place, $"'{key.Slot}' is no name of a slot: small letters, digits and '-', such as 'administrator'.");
            foreach (var attribute in attributes)
                if (
                    !attribute.Name.Equals(target.Settings.NameAttribute, StringComparison.OrdinalIgnoreCase)
                    && target.Match.Any(m => m.Attribute.Equals(attribute.Name, StringComparison.OrdinalIgnoreCase))
                )
                    account.Report(
                        attribute.Place,
                        $"'{attribute.Name}' finds the ordinary account in '{key.Target}'; an account of another slot leaves it empty, "
                            + "or it would be taken for that one."
                    );
        }

        private Expression? Day(YamlMap map, string key) =>
            map.Text(key, required: false) is { } text ? map.Expression(text, _attributes, ExpressionType.Date, $"'{key}'") : null;
    }
}
