namespace Oikonom.Core.Fulfilment;

/// <summary>A target said no or was not there. <see cref="Transient"/> faults are tried again.</summary>
public sealed class TargetFault(string message, bool transient, bool needsReplan = false, Exception? inner = null)
    : Exception(message, inner)
{
    /// <summary>True when it may succeed later without anybody doing anything.</summary>
    public bool Transient { get; } = transient;

    /// <summary>The target holds something the plan did not know of; the plan is made anew.</summary>
    public bool NeedsReplan { get; } = needsReplan;

    /// <summary>The id of the entry that was there and is not any more; null when something else is wrong.</summary>
    public string? Gone { get; init; }

    /// <summary>True when nothing failed: the message says what is waited for, in words that go on after "until".</summary>
    public bool IsWaiting { get; init; }

    /// <summary>How long the target asks to be left alone (RFC 9110 section 10.2.3); null when it does not say.</summary>
    public TimeSpan? After { get; init; }

    /// <summary>The same as a result.</summary>
    public PortResult Result => PortResult.Of(this);
}
