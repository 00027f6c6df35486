using System.Text.Json.Serialization;

namespace Oikonom.Core.Fulfilment;

/// <summary>Where work by hand stands.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<TaskState>))]
public enum TaskState
{
    [JsonStringEnumMemberName("open")]
    Open,

    [JsonStringEnumMemberName("done")]
    Done,

    /// <summary>Whoever does it says that it cannot be done, and why.</summary>
    [JsonStringEnumMemberName("impossible")]
    Impossible,

    /// <summary>Not wanted any more before it was done.</summary>
    [JsonStringEnumMemberName("dropped")]
    Dropped,
}

/// <summary>What can happen to work by hand.</summary>
public enum TaskEvent
{
    Finish,
    GiveUp,
    Reopen,
    Drop,
}

/// <summary>The state machine of work by hand. Pure.</summary>
public static class TaskMachine
{
    /// <exception cref="RefusedMove">The event is not possible in this state.</exception>
    public static TaskState Next(TaskState state, TaskEvent what) =>
        (state, what) switch
        {
            (TaskState.Open, TaskEvent.Finish) => TaskState.Done,
            (TaskState.Open, TaskEvent.GiveUp) => TaskState.Impossible,
            (TaskState.Open, TaskEvent.Drop) => TaskState.Dropped,
            (TaskState.Impossible, TaskEvent.Reopen) => TaskState.Open,
            (_, TaskEvent.Reopen) => throw new RefusedMove("wrong-state", "Only work that was found impossible is opened again."),
            _ => throw new RefusedMove("wrong-state", $"The work is {EnumText.Of(state)}; nothing can be done on it any more."),
        };
}
