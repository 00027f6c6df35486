using System.Text.Json.Serialization;
using Oikonom.Core.Time;

namespace Oikonom.Core.Fulfilment;

/// <summary>Where a step stands.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<StepState>))]
public enum StepState
{
    /// <summary>Waits for its time, its turn or its next try.</summary>
    [JsonStringEnumMemberName("pending")]
    Pending,

    [JsonStringEnumMemberName("done")]
    Done,

    /// <summary>Looked at again before it ran, and no longer wanted.</summary>
    [JsonStringEnumMemberName("dropped")]
    Dropped,

    /// <summary>A lasting fault: a human is needed.</summary>
    [JsonStringEnumMemberName("stopped")]
    Stopped,
}

/// <summary>How an attempt at a step ended.</summary>
public enum AttemptOutcome
{
    Reached,
    NoLongerWanted,
    Transient,
    Lasting,
    Waits,
}

/// <summary>The state machine of a step. Pure.</summary>
public static class StepMachine
{
    private static readonly TimeSpan LookAgain = TimeSpan.FromHours(6);

    /// <summary>The states of steps that may still run, of which one may be dropped.</summary>
    public static readonly IReadOnlyList<StepState> Open = [StepState.Pending, StepState.Stopped];

    /// <summary>What becomes of a step that was to run and is not wanted any more.</summary>
    public static StepState Drop(StepState state) => Open.Contains(state) ? StepState.Dropped : state;

    /// <summary>What becomes of a step that somebody lets try again.</summary>
    public static StepState Retry(StepState state) => state == StepState.Stopped ? StepState.Pending : state;

    /// <param name="attempts">Attempts before this one.</param>
    /// <returns>The new state, and for a retry the wait before it.</returns>
    public static (StepState State, TimeSpan Wait) Next(StepState state, AttemptOutcome outcome, int attempts)
    {
        if (state is not StepState.Pending)
            return (state, TimeSpan.Zero);
        return outcome switch
        {
            AttemptOutcome.Reached => (StepState.Done, TimeSpan.Zero),
            AttemptOutcome.NoLongerWanted => (StepState.Dropped, TimeSpan.Zero),
            AttemptOutcome.Transient => (StepState.Pending, BackOff.ForWork.After(attempts)),
            AttemptOutcome.Waits => (StepState.Pending, LookAgain),
            _ => (StepState.Stopped, TimeSpan.Zero),
        };
    }
}
