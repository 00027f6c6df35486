using Oikonom.Core.Time;

namespace Oikonom.Core.Rulebook;

/// <summary>What becomes of accounts that were changed outside, behind our back.</summary>
public enum WatchAnswer
{
    /// <summary>Nobody looks.</summary>
    Nothing,

    /// <summary>It is told, and nothing is done about it.</summary>
    Report,

    /// <summary>A request that sets it right is raised, and an operator releases it or leaves it as it is.</summary>
    Propose,

    /// <summary>It is set right at once, by a request that waits for nobody.</summary>
    Mend,
}

/// <summary>How often the accounts of a target are read, and what follows when one is not as it was left.</summary>
/// <param name="Every">How long a look holds; at least a minute.</param>
/// <param name="Then">What becomes of a difference.</param>
/// <param name="Most">As many differences of a target may be found within a day and be acted on; more are only told, since then
/// something else is wrong.</param>
public sealed record WatchRule(TimeSpan Every, WatchAnswer Then, int Most)
{
    /// <summary>When it is read whole; null for whenever somebody asks.</summary>
    public Schedule? Whole { get; init; }

    /// <summary>How often it is asked what changed, at least a minute; null for whenever somebody asks.</summary>
    public TimeSpan? Changes { get; init; }

    /// <summary>Where a target says nothing.</summary>
    public static readonly WatchRule Default = new(TimeSpan.FromDays(1), WatchAnswer.Propose, 50);
}
