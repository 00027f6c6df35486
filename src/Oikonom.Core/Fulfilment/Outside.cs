using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Fulfilment;

/// <summary>What was changed outside, beside what is recorded: how a plan sees it, and what sets it right.</summary>
public static class Outside
{
    /// <summary>What is recorded, as it was found in the target. What an account came to hold that nobody gave is left out.</summary>
    public static AccessState Seen(AccessState recorded, AccountKey key, IReadOnlyList<Difference> found)
    {
        if (!recorded.Accounts.TryGetValue(key, out var account))
            return recorded;
        var accounts = new Dictionary<AccountKey, AccountState>(recorded.Accounts);
        var grants = new Dictionary<EntitlementKey, GrantState>(recorded.Grants);
        if (found.OfType<Difference.Gone>().Any())
        {
            accounts.Remove(key);
            foreach (var held in grants.Keys.Where(g => g.Account == key).ToList())
                grants.Remove(held);
            return new(accounts, grants);
        }
        var attributes = new Dictionary<string, IReadOnlyList<string>>(account.Attributes, StringComparer.OrdinalIgnoreCase);
        foreach (var other in found.OfType<Difference.OtherValues>())
            attributes[other.Attribute] = other.Found;
        var presence = found.OfType<Difference.OtherPresence>().FirstOrDefault();
        accounts[key] = account with
        {
            Attributes = attributes,
            Presence =
                presence is null ? account.Presence
                : presence.IsEnabled ? Presence.Awake
                : Presence.Disabled,
        };
        foreach (var missing in found.OfType<Difference.Missing>())
            grants.Remove(new(key, missing.Entitlement));
        return new(accounts, grants);
    }

    /// <summary>
    /// True when a plan does nothing but set right what was found: it gives back what was decided before, and nobody has to
    /// decide it once more. What is taken away later was decided before as well.
    /// </summary>
    public static bool SetsRight(Plan plan, IReadOnlyDictionary<AccountKey, IReadOnlyList<Difference>> found) =>
        plan.Conflicts is not { Count: > 0 }
        && plan.Changes.Any(c => c is not Change.Verify && !IsLater(c))
        && plan.Changes.All(c => c is Change.Verify || IsLater(c) || IsOf(c, found.GetValueOrDefault(c.Account) ?? []));

    private static bool IsLater(Change change) => change.Due is not null && change.TakesAway;

    private static bool IsOf(Change change, IReadOnlyList<Difference> found) =>
        change switch
        {
            { Due: not null } => false,
            Change.CreateAccount or Change.SetPassword => found.OfType<Difference.Gone>().Any(),
            Change.ChangeAccount => change.Attributes.Count > 0
                && change.Attributes.All(a =>
                    found
                        .OfType<Difference.OtherValues>()
                        .Any(d => string.Equals(d.Attribute, a.Name, StringComparison.OrdinalIgnoreCase) && d.Wanted.SequenceEqual(a.After))
                ),
            Change.EnableAccount => found.OfType<Difference.OtherPresence>().Any(d => !d.IsEnabled),
            Change.DisableAccount => found.OfType<Difference.OtherPresence>().Any(d => d.IsEnabled),
            Change.Grant grant => found.OfType<Difference.Missing>().Any(d => d.Entitlement == grant.Given.Name),
            _ => false,
        };
}
