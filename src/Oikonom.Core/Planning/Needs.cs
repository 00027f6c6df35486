using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Planning;

/// <summary>
/// What an entitlement needs before it can be given: another one of its target that the same account holds, or an attribute of the
/// account that has a value, such as the location of who shall have a licence.
/// </summary>
internal static class Needs
{
    /// <summary>Refuses what would be given without what it needs, and what would lose it and stay.</summary>
    /// <exception cref="PlanFault">Something is missing, or would be; or an account would have two primary groups.</exception>
    public static void Require(AccessState current, AccessState wanted, Rulebook.Rulebook rulebook)
    {
        RequireOnePrimary(current, wanted, rulebook);
        foreach (var key in wanted.Grants.Keys)
        {
            if (rulebook.Find(key) is not { Needs.Count: > 0 } entitlement)
                continue;
            foreach (var need in entitlement.Needs.Where(n => !Has(wanted, key, n, rulebook)))
            {
                var isHeld = current.Grants.ContainsKey(key);
                // What was so before is not this plan's matter.
                if (!isHeld || Has(current, key, need, rulebook))
                    throw new PlanFault(Told(key, entitlement, need, isHeld, rulebook));
            }
        }
    }

    /// <summary>A user of a domain has one primary group.</summary>
    private static void RequireOnePrimary(AccessState current, AccessState wanted, Rulebook.Rulebook rulebook)
    {
        var primary = wanted.Grants.Keys.Where(k => rulebook.Find(k)?.Means is EntitlementMeans.Group { IsPrimary: true });
        foreach (var account in primary.GroupBy(k => k.Account).Where(g => g.Skip(1).Any() && !g.All(current.Grants.ContainsKey)))
        {
            var titles = account.Order().Select(k => $"'{rulebook.Find(k)!.Title}'");
            throw new PlanFault(
                $"{string.Join(" and ", titles)} in {rulebook.Targets[account.Key.Target].Title} are both primary groups, and an account "
                    + "has one. End one of them, or let one template give it."
            );
        }
    }

    private static bool Has(AccessState state, EntitlementKey key, string need, Rulebook.Rulebook rulebook)
    {
        var other = new EntitlementKey(key.Account, need);
        return rulebook.Find(other) is not null
            ? state.Grants.ContainsKey(other)
            : state.Accounts.GetValueOrDefault(key.Account)?.Attributes.GetValueOrDefault(need) is { Count: > 0 } values
                && values.Any(v => v.Length > 0);
    }

    private static string Told(EntitlementKey key, Entitlement entitlement, string need, bool isHeld, Rulebook.Rulebook rulebook)
    {
        var target = rulebook.Targets[key.Target];
        if (rulebook.Find(new(key.Account, need)) is not { } other)
            return $"'{entitlement.Title}' in {target.Title} needs {target.TitleOf(need)} ({need}) of the account, which has no value.";
        return isHeld
            ? $"'{entitlement.Title}' in {target.Title} needs '{other.Title}', which would be taken away. End both, or keep both."
            : $"'{entitlement.Title}' in {target.Title} needs '{other.Title}', which is not given. Ask for both, or give it by a template.";
    }

    /// <summary>How many things one after the other must be there before it: what others need is given first and taken last.</summary>
    public static int Depth(this TargetRule target, string name) =>
        target.Entitlements.GetValueOrDefault(name) is { Needs.Count: > 0 } entitlement
            ? 1 + entitlement.Needs.Max(n => target.Depth(n))
            : 0;
}
