using System.Security.Cryptography;
using System.Text.Json;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Approval;

/// <summary>
/// One thing in a plan that is decided on: an account with all its changes, or one entitlement. Its digest tells
/// whether what was decided is still what would run.
/// </summary>
/// <param name="Key">The account, or account/entitlement.</param>
/// <param name="CanBeStruck">True when it can be declined while the rest goes on: something is given, nothing taken away.</param>
public sealed record Item(
    string Key,
    string Target,
    string? Entitlement,
    string Digest,
    bool CanBeStruck,
    bool IsPrivileged,
    IReadOnlyList<int> Ordinals
)
{
    /// <summary>True when it brings somebody more: an account, one that wakes, or an entitlement.</summary>
    public bool Gives { get; init; }

    /// <summary>The account it is, or that would hold it.</summary>
    public string Account => Items.AccountOf(Key);
}

/// <summary>Cuts a plan into what is decided item by item.</summary>
public static class Items
{
    /// <summary>The account in the key of an item.</summary>
    public static string AccountOf(string key) => key.Split('/', 2)[0];

    /// <summary>
    /// The items of a plan in its order. Read-backs belong to the account they read. What is asked for by name is an
    /// item also when no change follows from it today: it is recorded, so it is decided on.
    /// </summary>
    public static IReadOnlyList<Item> Of(Plan plan, Rulebook.Rulebook rulebook)
    {
        var asks = (plan.Asks ?? []).ToDictionary(a => a.Key);
        var items = plan
            .Changes.Where(c => c is not Change.Verify)
            .GroupBy(c => c.Key)
            .Select(group =>
            {
                var first = group.First();
                var isGiven = group.Any(c => c is Change.Grant or Change.CreateAccount or Change.AdoptAccount);
                var isTaken = group.Any(c => c is Change.Revoke { Later: false, Due: null });
                var ask = first.Entitlement is { } key ? asks.GetValueOrDefault(key) : null;
                return new Item(
                    group.Key,
                    first.Target,
                    first.Entitlement?.Name,
                    DigestOf(group, ask),
                    isGiven && !isTaken,
                    IsPrivileged(rulebook, first.Entitlement, isGiven),
                    [.. group.Select(c => c.Ordinal)]
                )
                {
                    Gives = isGiven || group.Any(c => c is Change.EnableAccount),
                };
            })
            .ToList();
        foreach (var ask in asks.Values.Where(a => !items.Exists(i => i.Key == a.Key.ToString())))
            items.Add(
                new(ask.Key.ToString(), ask.Key.Target, ask.Key.Name, DigestOf([], ask), true, IsPrivileged(rulebook, ask.Key, true), [])
                {
                    Gives = true,
                }
            );
        return items;
    }

    /// <summary>What the rulebook that decides does not know, because an earlier one gives it, weighs as much as what weighs
    /// most.</summary>
    private static bool IsPrivileged(Rulebook.Rulebook rulebook, EntitlementKey? key, bool isGiven) =>
        key is not null && (rulebook.Find(key) is { } known ? known.IsPrivileged : isGiven);

    /// <summary>
    /// What the changes of an item do, without their place in the plan: other items coming or going do not touch it. The
    /// names and their order are part of decisions that were made, and stay as they are.
    /// </summary>
    private static string DigestOf(IEnumerable<Change> changes, Ask? ask)
    {
        var done = changes.Select(c => new
        {
            c.Kind,
            Target = c.Account,
            c.Subject,
            c.Due,
            Account = c.Entry.Name,
            c.Entry.Container,
            c.Attributes,
            c.Entry.Enabled,
            c.Entry.ImmutableId,
        });
        var text = ask is null ? JsonSerializer.SerializeToUtf8Bytes(done) : JsonSerializer.SerializeToUtf8Bytes(new { done, ask });
        return Convert.ToHexStringLower(SHA256.HashData(text))[..32];
    }
}
