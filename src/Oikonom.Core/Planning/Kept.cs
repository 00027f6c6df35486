using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Planning;

/// <summary>What somebody holds that a plan leaves as it is: shown beside what it changes, and no part of what is decided.</summary>
/// <param name="Grant">The entitlement; null for the account itself.</param>
/// <param name="Name">The name of the account.</param>
/// <param name="Until">When the plan takes it away later on; null when no end is known.</param>
/// <param name="Reason">Why it stays: what gives it, else how it came to be there.</param>
public sealed record Kept(AccountKey Account, EntitlementKey? Grant, string Name, DateTimeOffset? Until, Reason Reason)
{
    /// <summary>What is recorded and neither taken away nor disabled by the plan itself; its later ends are told with it.</summary>
    internal static IReadOnlyList<Kept> Of(Subject person, AccessState recorded, AccessState wanted, IReadOnlyList<Change> changes)
    {
        var accounts = recorded
            .Accounts.Values.Where(a =>
                a.Presence != Presence.Disabled && !changes.Any(c => c is Change.DisableAccount && Is(c, a.Account))
            )
            .Select(a => new Kept(
                a.Account,
                null,
                a.Name,
                changes.FirstOrDefault(c => c is Change.DisableAccount && c.Account == a.Account)?.Due,
                a.Reason
            ));
        var grants = recorded
            .Grants.Values.Where(g => !changes.Any(c => c is Change.Revoke revoke && revoke.Taken == g.Key && !c.Later))
            .Select(g => new Kept(
                g.Key.Account,
                g.Key,
                recorded.Accounts.GetValueOrDefault(g.Key.Account)?.Name ?? "",
                changes.FirstOrDefault(c => c is Change.Revoke revoke && revoke.Taken == g.Key)?.Due,
                Why(person.Extra.FirstOrDefault(e => e.Key == g.Key)?.Reason, wanted.Grants.GetValueOrDefault(g.Key)?.Reason) ?? g.Reason
            ));
        return [.. accounts.OrderBy(k => k.Account), .. grants.OrderBy(k => k.Grant)];

        // What was asked for stays on its own terms, also where a template gives it too.
        static Reason? Why(Reason? asked, Reason? given) =>
            asked is null || given is null || given.Rule == asked.Rule
                ? given
                : asked with
                {
                    Condition = $"{asked.Condition}; the template '{given.Rule}' gives it too",
                };
        static bool Is(Change change, AccountKey account) => change.Account == account && !change.Later;
    }
}
