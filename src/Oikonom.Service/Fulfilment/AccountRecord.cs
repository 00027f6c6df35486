using Oikonom.Core.Ledger;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>What becomes of the record of an account when its entry is no more.</summary>
internal static class AccountRecord
{
    /// <summary>
    /// An entry was deleted outside: what was recorded of it is over, so that the plan that is made anew brings it back, or makes
    /// another entry, which people decide about. Its name stays the person's.
    /// </summary>
    /// <param name="request">The request that came upon it, or null.</param>
    public static async Task GoneAsync(Session s, AccountRow account, string? request, DateTimeOffset now)
    {
        var held = (await s.GrantsAsync([account.PersonId!], past: false)).Where(g => g.Target == account.Target && g.Slot == account.Slot);
        await s.CloseGrantsAsync([
            .. held.Select(g => new GrantRow
            {
                PersonId = g.PersonId,
                Target = g.Target,
                Slot = g.Slot,
                Entitlement = g.Entitlement,
                UntilAt = now.ToUnixTimeMilliseconds(),
            }),
        ]);
        await s.DeleteAccountAsync(account.Id);
        await s.KeepDeletedAsync(account.PersonId!, account.Target, account.Slot, account.ImmutableId);
        s.Record(
            LedgerEntry.Of(
                now,
                "oikonom",
                "account.gone",
                account.PersonId,
                request,
                ("target", account.Target),
                ("account", account.Name),
                ("entry", account.ImmutableId)
            )
        );
    }
}
