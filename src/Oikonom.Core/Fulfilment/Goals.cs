using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Fulfilment;

/// <summary>The state an account is to reach, and what identifies it: the immutable id first, then the match keys.</summary>
public sealed record AccountGoal(
    string? ImmutableId,
    IReadOnlyList<(string Attribute, string Value)> Keys,
    string Name,
    string Container,
    IReadOnlyDictionary<string, IReadOnlyList<string>> Attributes,
    bool? Enabled,
    bool MayCreate
)
{
    /// <summary>True when the entry of the immutable id was deleted and is to be brought back as itself.</summary>
    public bool Restores { get; init; }
}

/// <summary>Whether somebody is to hold an entitlement.</summary>
/// <param name="Account">The immutable id of their account; null in a target without accounts.</param>
public sealed record GrantGoal(string? Account, Entitlement Entitlement, bool Held, WorkOrder Order);

/// <summary>For whom and by which step it is done, for targets where that matters to people.</summary>
public sealed record WorkOrder(string Step, string Request, string Person, string Display, string Site);
