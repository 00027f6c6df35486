using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Fulfilment;

/// <summary>The state an account is to reach, and what identifies it: the immutable id first, then the match keys.</summary>
public sealed record AccountGoal(
    string? ImmutableId, IReadOnlyList<(string Attribute, string Value)> Keys, string Name, string Container, IReadOnlyList<string> Classes,
    IReadOnlyDictionary<string, IReadOnlyList<string>> Attributes, bool? Enabled, bool MayCreate);

/// <summary>What ensuring an account gave.</summary>
public sealed record EnsuredAccount(string ImmutableId, string Location, bool Changed, bool Created);

/// <summary>What a read-back found: true when the target is as it should be, else the differences in words.</summary>
public sealed record ReadBack(bool Matches, IReadOnlyList<string> Differences);

/// <summary>What a look for existing entries found, by ordered keys.</summary>
public sealed record Matches(IReadOnlyList<ExistingAccount> Found);

/// <summary>What a check of a target found.</summary>
public sealed record TargetHealth(bool Reachable, string Message, string? Server, long Milliseconds);

/// <summary>A target said no or was not there. <see cref="Transient"/> faults are tried again.</summary>
public sealed class TargetFault(string message, bool transient, bool needsReplan = false, Exception? inner = null) : Exception(message, inner)
{
    public bool Transient { get; } = transient;

    /// <summary>The target holds something the plan did not know of; the plan is made anew.</summary>
    public bool NeedsReplan { get; } = needsReplan;
}

/// <summary>
/// The port to a target. Every call is told the state to reach, looks, acts only where needed and reads back:
/// calling it twice has no second effect.
/// </summary>
public interface IConnector : IAsyncDisposable
{
    /// <exception cref="TargetFault">The target is not there or refuses.</exception>
    Task<Matches> FindAsync(IReadOnlyList<(string Attribute, string Value)> keys, CancellationToken cancel);

    Task<ExistingAccount?> ReadAsync(string immutableId, CancellationToken cancel);

    /// <summary>All accounts of the container with their entitlements, in no order.</summary>
    IAsyncEnumerable<ExistingAccount> ListAsync(CancellationToken cancel);

    Task<bool> NameIsTakenAsync(string name, CancellationToken cancel);

    Task<EnsuredAccount> EnsureAccountAsync(AccountGoal goal, CancellationToken cancel);

    /// <summary>Sets <paramref name="password"/>, or one that nobody knows when it is null.</summary>
    Task SetPasswordAsync(string immutableId, string? password, CancellationToken cancel);

    Task EnsureMembershipAsync(string immutableId, Entitlement entitlement, bool member, CancellationToken cancel);

    Task<ReadBack> VerifyAsync(string immutableId, AccountState wanted, IReadOnlyCollection<string> entitlements, CancellationToken cancel);

    Task<TargetHealth> CheckAsync(CancellationToken cancel);
}
