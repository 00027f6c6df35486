using System.Security.Cryptography;
using System.Text.Json;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Approval;

/// <summary>
/// One thing in a plan that is decided on: an account with all its changes, or one entitlement. Its digest tells
/// whether what was decided is still what would run.
/// </summary>
/// <param name="Key">The target, or target/entitlement.</param>
/// <param name="CanBeStruck">True when it can be declined while the rest goes on: something is given, nothing taken away.</param>
public sealed record Item(string Key, string Target, string? Entitlement, string Digest, bool CanBeStruck, bool IsPrivileged, IReadOnlyList<int> Ordinals);

public static class Items
{
    /// <summary>
    /// The items of a plan in its order. Read-backs belong to the account they read. What is asked for by name is an
    /// item also when no change follows from it today: it is recorded, so it is decided on.
    /// </summary>
    public static IReadOnlyList<Item> Of(Plan plan, Rulebook.Rulebook rulebook)
    {
        var asks = (plan.Asks ?? []).ToDictionary(a => a.Key, StringComparer.Ordinal);
        var items = plan.Changes.Where(c => c.Kind != ChangeKind.Verify).GroupBy(KeyOf).Select(group =>
        {
            var first = group.First();
            var entitlement = IsAboutEntitlement(first) ? first.Subject : null;
            return new Item(group.Key, first.Target, entitlement, DigestOf(group, asks.GetValueOrDefault(group.Key)),
                group.Any(c => c.Kind is ChangeKind.Grant or ChangeKind.CreateAccount or ChangeKind.AdoptAccount) && !group.Any(c => c is { Kind: ChangeKind.Revoke, Later: false, Due: null }),
                entitlement is not null && IsPrivileged(rulebook, first.Target, entitlement), [.. group.Select(c => c.Ordinal)]);
        }).ToList();
        foreach (var ask in asks.Values.Where(a => !items.Exists(i => i.Key == a.Key)))
        {
            var parts = ask.Key.Split('/', 2);
            items.Add(new(ask.Key, parts[0], parts[1], DigestOf([], ask), true, IsPrivileged(rulebook, parts[0], parts[1]), []));
        }
        return items;
    }

    private static bool IsPrivileged(Rulebook.Rulebook rulebook, string target, string entitlement) =>
        rulebook.Targets.GetValueOrDefault(target)?.Entitlements.GetValueOrDefault(entitlement) is { IsPrivileged: true };

    public static string KeyOf(Change change) => IsAboutEntitlement(change) ? $"{change.Target}/{change.Subject}" : change.Target;

    private static bool IsAboutEntitlement(Change change) => change.Kind is ChangeKind.Grant or ChangeKind.Revoke;

    /// <summary>What the changes of an item do, without their place in the plan: other items coming or going do not touch it.</summary>
    private static string DigestOf(IEnumerable<Change> changes, Ask? ask)
    {
        var done = changes.Select(c => new { c.Kind, c.Target, c.Subject, c.Due, c.Account, c.Container, c.Attributes, c.Enabled, c.ImmutableId });
        var text = ask is null ? JsonSerializer.SerializeToUtf8Bytes(done) : JsonSerializer.SerializeToUtf8Bytes(new { done, ask });
        return Convert.ToHexStringLower(SHA256.HashData(text))[..32];
    }
}
