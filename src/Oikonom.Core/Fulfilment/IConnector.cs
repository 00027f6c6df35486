using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Fulfilment;

/// <summary>What a look for existing entries found, by ordered keys.</summary>
public sealed record Matches(IReadOnlyList<ExistingAccount> Found);

/// <summary>What a check of a target found.</summary>
public sealed record TargetHealth(bool Reachable, string Message, string? Server, long Milliseconds)
{
    /// <summary>What was looked at one after the other, up to what is wrong.</summary>
    public IReadOnlyList<TargetCheckpoint> Checkpoints { get; init; } = [];

    /// <summary>Until when the target's certificate holds; null where there is none.</summary>
    public DateTimeOffset? CertificateUntil { get; init; }
}

/// <summary>One thing that a check of a target looked at.</summary>
/// <param name="What">What was looked at, in a word or two.</param>
/// <param name="Text">What was found, for people.</param>
public sealed record TargetCheckpoint(string What, bool Good, string Text);

/// <summary>
/// The port to a target. Every call is told the state to reach, looks, acts only where needed and reads back:
/// calling it twice has no second effect.
/// </summary>
public interface IConnector : IAsyncDisposable
{
    /// <summary>What it can; calls beyond it are not made.</summary>
    TargetAbilities Can { get; }

    /// <exception cref="TargetFault">The target is not there or refuses.</exception>
    Task<PortResult> EnsureGrantAsync(GrantGoal goal, CancellationToken cancel);

    /// <summary>Looks whether the target can be worked with; nothing is changed.</summary>
    /// <param name="withRights">Whether it is asked what we may do, too, where that can be known without doing it.</param>
    Task<TargetHealth> CheckAsync(bool withRights, CancellationToken cancel);
}

/// <summary>The port to a target in which people have accounts.</summary>
public interface IAccountConnector : IConnector
{
    /// <exception cref="TargetFault">The target is not there or refuses.</exception>
    Task<Matches> FindAsync(IReadOnlyList<(string Attribute, string Value)> keys, CancellationToken cancel);

    Task<ExistingAccount?> ReadAsync(string immutableId, CancellationToken cancel);

    /// <summary>All accounts of the container with their entitlements, in no order.</summary>
    IAsyncEnumerable<ExistingAccount> ListAsync(CancellationToken cancel);

    /// <summary>Which attributes and classes it has; null when it does not tell.</summary>
    /// <exception cref="TargetFault">The target is not there or refuses.</exception>
    Task<TargetSchema?> SchemaAsync(CancellationToken cancel);

    Task<bool> NameIsTakenAsync(string name, CancellationToken cancel);

    Task<EnsuredAccount> EnsureAccountAsync(AccountGoal goal, CancellationToken cancel);

    /// <summary>Sets <paramref name="password"/>, or one that nobody knows when it is null.</summary>
    Task SetPasswordAsync(string immutableId, string? password, CancellationToken cancel);

    Task<ReadBack> VerifyAsync(string immutableId, AccountState wanted, IReadOnlyCollection<string> entitlements, CancellationToken cancel);
}

/// <summary>The port to a target that tells what changed.</summary>
public interface IChangesConnector : IAccountConnector
{
    /// <summary>What changed, by whomever, ourselves among them; nothing is changed by it.</summary>
    /// <param name="since">What the last call gave to go on from; null the first time: then only that is given.</param>
    /// <exception cref="TargetFault">The target is not there, or does not tell.</exception>
    Task<TargetChanges> ChangesAsync(string? since, CancellationToken cancel);
}

/// <summary>The port to a target that keeps deleted accounts for a while and brings them back.</summary>
public interface IRestoringConnector : IAccountConnector
{
    /// <summary>True when the account was deleted and can be brought back; false also where that cannot be seen.</summary>
    /// <exception cref="TargetFault">The target is not there or refuses.</exception>
    Task<bool> IsDeletedAsync(string immutableId, CancellationToken cancel);
}

/// <summary>The port to a target that tells what it can give.</summary>
public interface ICatalogueConnector : IConnector
{
    /// <summary>What it can give, in no order; nothing is changed.</summary>
    /// <exception cref="TargetFault">The target is not there or refuses.</exception>
    Task<IReadOnlyList<OfferedEntitlement>> CatalogueAsync(CatalogueRule rule, CancellationToken cancel);
}
