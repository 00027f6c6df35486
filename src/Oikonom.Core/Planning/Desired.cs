using Oikonom.Core.Expressions;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;

namespace Oikonom.Core.Planning;

/// <summary>Why something is wanted: the template, where its line stands, and the condition that held.</summary>
public sealed record Reason(string Rule, string Place, string Condition);

/// <summary>An account as it should be, or as it is recorded, in one target. Attribute names compare without case.</summary>
public sealed record AccountState(
    string Target, string Name, string Container, IReadOnlyList<string> Classes,
    IReadOnlyDictionary<string, IReadOnlyList<string>> Attributes, bool Enabled, Reason Reason);

/// <summary>An entitlement held in a target.</summary>
public sealed record GrantState(string Target, string Entitlement, Reason Reason)
{
    public string Key => $"{Target}/{Entitlement}";
}

/// <summary>The accounts and grants of one person at one instant, by target and by target/entitlement.</summary>
public sealed record AccessState(
    IReadOnlyDictionary<string, AccountState> Accounts,
    IReadOnlyDictionary<string, GrantState> Grants)
{
    public static readonly AccessState Nothing = new(new Dictionary<string, AccountState>(), new Dictionary<string, GrantState>());
}

/// <summary>A grant that was approved beside the templates; it holds from an instant until an instant, or open.</summary>
public sealed record ExtraGrant(string Target, string Entitlement, DateTimeOffset From, DateTimeOffset? Until, Reason Reason);

/// <summary>A rulebook meets a person it cannot serve; the message says what to mend.</summary>
public sealed class PlanFault(string message) : Exception(message);

/// <summary>A person as the function of time sees them: what HR says, and the account names that are theirs.</summary>
public sealed record Subject(PersonId Id, Facts Facts, IReadOnlyDictionary<string, string> AccountNames);

/// <summary>
/// The one function of the product: what a person's access should be at an instant. Pure; everything else asks
/// it in another way.
/// </summary>
public static class Desired
{
    /// <summary>What should be true in every target at <paramref name="at"/>.</summary>
    /// <exception cref="PlanFault">Two templates contradict each other, or an attribute cannot be computed.</exception>
    public static AccessState At(Subject person, Edition edition, IReadOnlyList<ExtraGrant> extra, DateTimeOffset at)
    {
        var rulebook = edition.Rulebook;
        var scope = new Scope(rulebook.Attributes);
        person.Facts.Fill(scope, rulebook.Attributes);
        var (start, end) = Term(person.Facts, rulebook);
        var accounts = new Dictionary<string, AccountState>(StringComparer.Ordinal);
        var grants = new Dictionary<string, GrantState>(StringComparer.Ordinal);
        var matching = Matching(rulebook, scope);

        foreach (var target in rulebook.Targets.Values)
        {
            var rules = matching.SelectMany(t => t.Accounts.Where(a => a.Target == target.Name).Select(a => (Template: t, Rule: a))).ToList();
            var maker = rules.Find(r => r.Rule.Names.Count > 0);
            if (maker.Rule is null || !person.AccountNames.TryGetValue(target.Name, out var name)) continue;
            if (at < Before(start, maker.Rule.Lead)) continue;
            var reason = ReasonOf(maker.Template, maker.Rule.Place, null);
            accounts[target.Name] = new(target.Name, name, target.Container, target.Classes,
                Attributes(person, rulebook, target, rules, name), start <= at && at < end, reason);
        }
        if (start <= at && at < end)
        {
            foreach (var template in matching)
                foreach (var grant in template.Grants)
                    if (accounts.ContainsKey(grant.Target) && (grant.When is null || Holds(grant.When, scope, grant.Place)))
                        grants.TryAdd(grant.Key, new(grant.Target, grant.Entitlement, ReasonOf(template, grant.Place, grant.When)));
        }
        foreach (var grant in extra)
            if (grant.From <= at && (grant.Until is not { } until || at < until) && at < end && accounts.ContainsKey(grant.Target))
                grants.TryAdd($"{grant.Target}/{grant.Entitlement}", new(grant.Target, grant.Entitlement, grant.Reason));
        return new(accounts, grants);
    }

    /// <summary>The instants at which the function may change its value, in order.</summary>
    public static IReadOnlyList<DateTimeOffset> Turns(Subject person, Edition edition, IReadOnlyList<ExtraGrant> extra)
    {
        var (start, end) = Term(person.Facts, edition.Rulebook);
        var leads = edition.Rulebook.Templates.SelectMany(t => t.Accounts).Where(a => a.Names.Count > 0).Select(a => Before(start, a.Lead));
        return [.. leads.Append(start).Append(end)
            .Concat(extra.Select(g => g.From)).Concat(extra.Select(g => g.Until ?? DateTimeOffset.MaxValue))
            .Where(t => t < DateTimeOffset.MaxValue).Distinct().Order()];
    }

    /// <summary>First instant of the first day and the instant after the last day, in the site's time zone.</summary>
    public static (DateTimeOffset Start, DateTimeOffset End) Term(Facts facts, Rulebook.Rulebook rulebook)
    {
        var zone = rulebook.ZoneOf(facts.Text(BuiltIn.Site));
        return (SiteDays.StartOf(facts.Start, zone), facts.End is { } last ? SiteDays.EndOf(last, zone) : DateTimeOffset.MaxValue);
    }

    /// <summary>The names a new account may take, in the order the templates wish them; empty when no template makes one.</summary>
    public static IReadOnlyList<string> NameWishes(Facts facts, Edition edition, string target)
    {
        var scope = new Scope(edition.Rulebook.Attributes);
        facts.Fill(scope, edition.Rulebook.Attributes);
        var rule = Matching(edition.Rulebook, scope).SelectMany(t => t.Accounts).FirstOrDefault(a => a.Target == target && a.Names.Count > 0);
        if (rule is null) return [];
        try
        {
            return AccountNames.Clean(rule.Names.Select(name => name.Evaluate(scope).AsString));
        }
        catch (ExpressionFault fault)
        {
            throw new PlanFault($"The account name cannot be computed ({rule.Place}): {fault.Message}");
        }
    }

    private static DateTimeOffset Before(DateTimeOffset start, TimeSpan lead) =>
        start - DateTimeOffset.MinValue > lead ? start - lead : DateTimeOffset.MinValue;

    private static List<RoleTemplate> Matching(Rulebook.Rulebook rulebook, Scope scope) =>
        [.. rulebook.Templates.Where(t => t.When is null || Holds(t.When, scope, t.Place))];

    private static bool Holds(Expression condition, Scope scope, Place place)
    {
        try
        {
            return condition.Holds(scope);
        }
        catch (ExpressionFault fault)
        {
            throw new PlanFault($"The condition at {place} cannot be decided: {fault.Message}");
        }
    }

    private static Reason ReasonOf(RoleTemplate template, Place place, Expression? own)
    {
        var conditions = new[] { template.When?.Text, own?.Text }.OfType<string>().ToList();
        return new(template.Name, $"{place.File}:{place.Line}", conditions.Count == 0 ? "always" : string.Join(" and ", conditions));
    }

    private static SortedDictionary<string, IReadOnlyList<string>> Attributes(
        Subject person, Rulebook.Rulebook rulebook, TargetRule target, List<(RoleTemplate Template, AccountRule Rule)> rules, string accountName)
    {
        var scope = new Scope(rulebook.AccountNames);
        person.Facts.Fill(scope, rulebook.Attributes);
        scope[rulebook.AccountNames.IndexOf("account.name")] = Value.Of(accountName);
        var given = new Dictionary<string, (RoleTemplate Template, Place Place)>(StringComparer.OrdinalIgnoreCase);
        var attributes = new SortedDictionary<string, IReadOnlyList<string>>(StringComparer.OrdinalIgnoreCase) { [target.NameAttribute] = [accountName] };
        foreach (var (template, rule) in rules)
        {
            foreach (var attribute in rule.Attributes)
            {
                var values = Texts(attribute, scope);
                if (!given.TryGetValue(attribute.Name, out var earlier))
                {
                    given[attribute.Name] = (template, attribute.Place);
                    attributes[attribute.Name] = values;
                }
                else if (earlier.Template.Priority == template.Priority && !attributes[attribute.Name].SequenceEqual(values))
                {
                    throw new PlanFault($"The templates '{earlier.Template.Name}' and '{template.Name}' give '{attribute.Name}' different values ({earlier.Place} and {attribute.Place}). Give one of them a higher priority.");
                }
            }
        }
        return attributes;
    }

    private static IReadOnlyList<string> Texts(AttributeRule attribute, Scope scope)
    {
        try
        {
            var value = attribute.Expression.Evaluate(scope);
            IEnumerable<string> texts = value.Kind == ValueKind.List ? value.AsList.Select(v => v.ToString()) : [value.ToString()];
            return [.. texts.Where(t => t.Length > 0)];
        }
        catch (ExpressionFault fault)
        {
            throw new PlanFault($"'{attribute.Name}' cannot be computed ({attribute.Place}): {fault.Message}");
        }
    }
}
