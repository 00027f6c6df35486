using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Fulfilment;

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

    /// <summary>Nothing failed, and the target does not show it yet: it is asked again.</summary>
    /// <param name="What">What is to be so, in words that go on after "until".</param>
    /// <param name="After">How long that takes at least; null when nobody knows.</param>
    public sealed record NotYet(string What, TimeSpan? After) : PortResult;

    /// <summary>The target said no, or was not there. It is tried again.</summary>
    /// <param name="After">How long the target asks to be left alone, when it says so.</param>
    public sealed record Transient(string Message, TimeSpan? After = null) : PortResult;

    /// <summary>The target said no for good; a human is needed.</summary>
    public sealed record Lasting(string Message) : PortResult;

    /// <summary>The target holds something the plan did not know of; the plan is made anew.</summary>
    /// <param name="Gone">The id of the entry that was there and is not any more, when that is what was found.</param>
    public sealed record Unknown(string Message, string? Gone = null) : PortResult;

    internal static PortResult Of(TargetFault fault) =>
        fault.IsWaiting ? new NotYet(fault.Message, fault.After)
        : fault.NeedsReplan ? new Unknown(fault.Message, fault.Gone)
        : fault.Transient ? new Transient(fault.Message, fault.After)
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
)
{
    /// <summary>True when somebody else than who did it looks whether it is done, before it counts.</summary>
    public bool NeedsSecond { get; init; }
}

/// <summary>What ensuring an account gave.</summary>
public sealed record EnsuredAccount(string ImmutableId, string Location, bool Changed, bool Created);
