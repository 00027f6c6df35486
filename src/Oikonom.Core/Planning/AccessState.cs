using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Planning;

/// <summary>Why something is wanted: the template, where its line stands, and the condition that held.</summary>
public sealed record Reason(string Rule, string Place, string Condition)
{
    /// <summary>The rule's name where something was found in a target when a baseline was taken.</summary>
    public const string Baseline = "baseline";

    /// <summary>The rule's name where something was found in a target when an entry was taken over.</summary>
    public const string Adoption = "adoption";

    /// <summary>The rule's name where it is what everybody has who has no more.</summary>
    internal const string LeastRole = "the least role";

    /// <summary>True when it was there before any rule gave it.</summary>
    internal bool IsFound => Rule is Baseline or Adoption;
}

/// <summary>How an account is there at an instant; one that is not there has no window.</summary>
public enum Presence
{
    /// <summary>Made before the first day, and not to be used yet.</summary>
    Asleep,

    /// <summary>May be used.</summary>
    Awake,

    /// <summary>Kept after the last day, and not to be used any more.</summary>
    Disabled,
}

/// <summary>An attribute that rests on the id of an account which is not there yet.</summary>
/// <param name="Name">The attribute.</param>
/// <param name="Target">The target in which that account is made.</param>
public sealed record PendingAttribute(string Name, string Target);

/// <summary>An account as it should be, or as it is recorded. Attribute names compare without case.</summary>
public sealed record AccountState(
    AccountKey Account,
    string Name,
    string Container,
    IReadOnlyDictionary<string, IReadOnlyList<string>> Attributes,
    Presence Presence,
    Reason Reason
)
{
    /// <summary>The target it is in.</summary>
    public string Target => Account.Target;

    /// <summary>Attributes that rest on the id of an account which is yet to be made: that is known only then.</summary>
    public IReadOnlyList<PendingAttribute> Pending { get; init; } = [];

    /// <summary>The attributes without those that are not known yet.</summary>
    public IReadOnlyDictionary<string, IReadOnlyList<string>> Known =>
        Pending.Count == 0
            ? Attributes
            : Attributes
                .Where(a => !Pending.Any(p => p.Name.Equals(a.Key, StringComparison.OrdinalIgnoreCase)))
                .ToDictionary(StringComparer.OrdinalIgnoreCase);

    /// <summary>What stands in the place of an id that is not known yet: nothing that is ever written into a target.</summary>
    internal static string IdIn(string target) => $"{{id in {target}}}";

    /// <summary>True when it may be used.</summary>
    public bool Enabled => Presence == Presence.Awake;

    /// <summary>True when both say the same of the entry, whatever the reason.</summary>
    internal bool IsSameEntry(AccountState other) =>
        Name == other.Name
        && Container == other.Container
        && Presence == other.Presence
        && Reason == other.Reason
        && (
            ReferenceEquals(Attributes, other.Attributes)
            || (
                Attributes.Count == other.Attributes.Count
                && Attributes.All(a => other.Attributes.TryGetValue(a.Key, out var values) && values.SequenceEqual(a.Value))
            )
        );
}

/// <summary>An entitlement that is held.</summary>
public sealed record GrantState(EntitlementKey Key, Reason Reason)
{
    /// <summary>The target it is in.</summary>
    public string Target => Key.Target;

    /// <summary>Its name in the target.</summary>
    public string Entitlement => Key.Name;
}

/// <summary>The accounts of one person at one instant, and the grants.</summary>
public sealed record AccessState(
    IReadOnlyDictionary<AccountKey, AccountState> Accounts,
    IReadOnlyDictionary<EntitlementKey, GrantState> Grants
)
{
    /// <summary>No account and no grant.</summary>
    public static readonly AccessState Nothing = new(
        new Dictionary<AccountKey, AccountState>(),
        new Dictionary<EntitlementKey, GrantState>()
    );
}
