using Oikonom.Core.Planning;

namespace Oikonom.Core.Fulfilment;

/// <summary>What changed in a target since it was asked last.</summary>
/// <param name="Accounts">The immutable ids of entries that were made, changed, moved or deleted; some may be no accounts.</param>
/// <param name="Holders">Of the entitlements whose holders changed, who holds them now.</param>
/// <param name="Since">Where to go on from.</param>
public sealed record TargetChanges(IReadOnlyCollection<string> Accounts, IReadOnlyList<ChangedHolders> Holders, string Since)
{
    /// <summary>So many changed entries are looked at one by one; when there are more, all of the target is read: that is quicker.
    /// </summary>
    public const int MostAlone = 2000;

    /// <summary>Where the target does not name what was deleted: all that is there still; null where it names it.</summary>
    public IReadOnlySet<string>? Present { get; init; }

    /// <summary>Of <see cref="Accounts"/> those that were read with it, by immutable id; others are read one by one.</summary>
    public IReadOnlyDictionary<string, ExistingAccount>? Read { get; init; }

    /// <summary>True when the target does not know any more what changed since then: it has to be read whole.</summary>
    public bool IsLost { get; init; }
}

/// <summary>Who holds an entitlement.</summary>
/// <param name="Entitlement">Its name in the rulebook.</param>
/// <param name="Holds">Whether an account does, by its name and by what it is found by.</param>
public sealed record ChangedHolders(string Entitlement, Func<string, string, bool> Holds);
