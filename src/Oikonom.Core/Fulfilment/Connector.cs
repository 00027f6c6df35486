using System.Diagnostics;
using Oikonom.Core.Planning;
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
);

/// <summary>Whether somebody is to hold an entitlement.</summary>
/// <param name="Account">The immutable id of their account; null in a target without accounts.</param>
public sealed record GrantGoal(string? Account, Entitlement Entitlement, bool Held, WorkOrder Order);

/// <summary>For whom and by which step it is done, for targets where that matters to people.</summary>
public sealed record WorkOrder(string Step, string Request, string Person, string Display, string Site);

/// <summary>
/// How a call to a target ended: closed. Whatever it is, the call may be repeated without harm.
/// </summary>
public abstract record PortResult
{
    private PortResult() { }

    /// <summary>The state is reached.</summary>
    /// <param name="Note">What was done, in a word.</param>
    public sealed record Reached(string Note = "") : PortResult;

    /// <summary>Somebody or something else has to act first; asked again later, or when it is told.</summary>
    public sealed record WaitsFor(ManualTask? Task) : PortResult;

    /// <summary>The target said no, or was not there. It is tried again.</summary>
    public sealed record Transient(string Message) : PortResult;

    /// <summary>The target said no for good; a human is needed.</summary>
    public sealed record Lasting(string Message) : PortResult;

    /// <summary>The target holds something the plan did not know of; the plan is made anew.</summary>
    public sealed record Unknown(string Message) : PortResult;

    internal static PortResult Of(TargetFault fault) =>
        fault.NeedsReplan ? new Unknown(fault.Message)
        : fault.Transient ? new Transient(fault.Message)
        : new Lasting(fault.Message);
}

/// <summary>Work by hand that has to be done before a state is reached.</summary>
public sealed record ManualTask(
    string Title,
    string Instructions,
    IReadOnlyList<TaskField> Fields,
    IReadOnlyList<string> Checks,
    bool NeedsEvidence,
    string Role,
    DateTimeOffset Due,
    bool IsGiving
);

/// <summary>What ensuring an account gave.</summary>
public sealed record EnsuredAccount(string ImmutableId, string Location, bool Changed, bool Created);

/// <summary>One way in which a target differs from what was done: closed.</summary>
public abstract record Difference
{
    private Difference() { }

    /// <summary>The entry is not there any more.</summary>
    public sealed record Gone(string ImmutableId) : Difference;

    public sealed record OtherValues(string Attribute, IReadOnlyList<string> Found, IReadOnlyList<string> Wanted) : Difference;

    /// <summary>It may be used and should not, or the other way round.</summary>
    public sealed record OtherPresence(bool IsEnabled) : Difference;

    public sealed record Missing(string Entitlement) : Difference;

    public sealed record Surplus(string Entitlement) : Difference;

    /// <summary>The difference in words.</summary>
    public string Text =>
        this switch
        {
            Gone gone => $"the entry {gone.ImmutableId} is gone",
            OtherValues other => $"{other.Attribute} is '{string.Join(", ", other.Found)}', not '{string.Join(", ", other.Wanted)}'",
            OtherPresence presence => presence.IsEnabled ? "the account is enabled" : "the account is disabled",
            Missing missing => $"not in {missing.Entitlement}",
            Surplus surplus => $"still in {surplus.Entitlement}",
            _ => throw new UnreachableException($"{GetType().Name} has no words."),
        };
}

/// <summary>What a read-back found; nothing when the target is as it should be.</summary>
public sealed record ReadBack(IReadOnlyList<Difference> Differences)
{
    public bool Matches => Differences.Count == 0;
}

/// <summary>What a look for existing entries found, by ordered keys.</summary>
public sealed record Matches(IReadOnlyList<ExistingAccount> Found);

/// <summary>What a check of a target found.</summary>
public sealed record TargetHealth(bool Reachable, string Message, string? Server, long Milliseconds);

/// <summary>A target said no or was not there. <see cref="Transient"/> faults are tried again.</summary>
public sealed class TargetFault(string message, bool transient, bool needsReplan = false, Exception? inner = null)
    : Exception(message, inner)
{
    public bool Transient { get; } = transient;

    /// <summary>The target holds something the plan did not know of; the plan is made anew.</summary>
    public bool NeedsReplan { get; } = needsReplan;

    /// <summary>The same as a result.</summary>
    public PortResult Result => PortResult.Of(this);
}

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

    Task<TargetHealth> CheckAsync(CancellationToken cancel);
}

/// <summary>The port to a target in which people have accounts.</summary>
public interface IAccountConnector : IConnector
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

    Task<ReadBack> VerifyAsync(string immutableId, AccountState wanted, IReadOnlyCollection<string> entitlements, CancellationToken cancel);
}
