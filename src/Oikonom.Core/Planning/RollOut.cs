using System.Text.Json.Serialization;

namespace Oikonom.Core.Planning;

/// <summary>Where a roll-out stands.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<RollOutState>))]
public enum RollOutState
{
    /// <summary>Under the brake: nobody decides before it is let pass.</summary>
    [JsonStringEnumMemberName("held")]
    Held,

    /// <summary>No wave has begun.</summary>
    [JsonStringEnumMemberName("open")]
    Open,

    [JsonStringEnumMemberName("running")]
    Running,

    /// <summary>Between two waves: until an instant, or until somebody goes on.</summary>
    [JsonStringEnumMemberName("pausing")]
    Pausing,

    [JsonStringEnumMemberName("stopped")]
    Stopped,

    [JsonStringEnumMemberName("turning-back")]
    TurningBack,

    [JsonStringEnumMemberName("done")]
    Done,

    [JsonStringEnumMemberName("turned-back")]
    TurnedBack,

    /// <summary>A newer edition was published; what is left goes with the roll-out of that one.</summary>
    [JsonStringEnumMemberName("superseded")]
    Superseded,
}

/// <summary>What moves a roll-out.</summary>
public enum RollOutEvent
{
    Release,
    Begin,
    WaveEnded,
    Finish,
    Stop,
    TurnBack,
    WaveTurnedBack,
    AllTurnedBack,
    Supersede,
}

/// <summary>The only moves a roll-out makes.</summary>
public static class RollOutMachine
{
    /// <exception cref="RefusedMove">The roll-out cannot do that where it stands; the message says why.</exception>
    public static RollOutState Next(RollOutState state, RollOutEvent what) =>
        Reached(state, what) ?? throw new RefusedMove("wrong-state", $"The roll-out {Word(state)}; {Why(what)}");

    /// <summary>True when the roll-out can do that where it stands.</summary>
    public static bool Can(RollOutState state, RollOutEvent what) => Reached(state, what) is not null;

    private static RollOutState? Reached(RollOutState state, RollOutEvent what) =>
        (state, what) switch
        {
            (RollOutState.Held, RollOutEvent.Release) => RollOutState.Open,
            (RollOutState.Open or RollOutState.Pausing or RollOutState.Stopped or RollOutState.Done, RollOutEvent.Begin) =>
                RollOutState.Running,
            (RollOutState.Running, RollOutEvent.WaveEnded) => RollOutState.Pausing,
            (RollOutState.Running, RollOutEvent.Finish) => RollOutState.Done,
            (RollOutState.Running or RollOutState.Pausing or RollOutState.TurningBack, RollOutEvent.Stop) => RollOutState.Stopped,
            (RollOutState.Stopped or RollOutState.Pausing or RollOutState.Done or RollOutState.Superseded, RollOutEvent.TurnBack) =>
                RollOutState.TurningBack,
            (RollOutState.TurningBack, RollOutEvent.WaveTurnedBack) => RollOutState.Stopped,
            (RollOutState.TurningBack, RollOutEvent.AllTurnedBack) => RollOutState.TurnedBack,
            (
                RollOutState.Held
                    or RollOutState.Open
                    or RollOutState.Running
                    or RollOutState.Pausing
                    or RollOutState.Stopped
                    or RollOutState.TurningBack,
                RollOutEvent.Supersede
            ) => RollOutState.Superseded,
            _ => null,
        };

    /// <summary>True while people decide about it.</summary>
    public static bool IsDecidedOn(RollOutState state) =>
        state is RollOutState.Open or RollOutState.Running or RollOutState.Pausing or RollOutState.Stopped;

    /// <summary>True while something is left to do about it.</summary>
    public static bool IsOpen(RollOutState state) => state is not (RollOutState.Done or RollOutState.TurnedBack or RollOutState.Superseded);

    /// <summary>The state in the words of a sentence that begins with the roll-out.</summary>
    public static string Word(RollOutState state) =>
        state switch
        {
            RollOutState.Held => "is held by the brake",
            RollOutState.Open => "has not begun",
            RollOutState.Running => "is running",
            RollOutState.Pausing => "pauses between two waves",
            RollOutState.Stopped => "is stopped",
            RollOutState.TurningBack => "is being turned back",
            RollOutState.Done => "is done",
            RollOutState.TurnedBack => "was turned back",
            _ => "gave way to another one",
        };

    private static string Why(RollOutEvent what) =>
        what switch
        {
            RollOutEvent.Release => "there is nothing to let pass.",
            RollOutEvent.Begin => "no wave can begin.",
            RollOutEvent.Stop => "there is nothing to stop.",
            RollOutEvent.TurnBack => "stop it before it is turned back.",
            _ => "that does not come next.",
        };
}
