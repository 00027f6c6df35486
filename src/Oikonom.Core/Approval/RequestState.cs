using System.Text.Json.Serialization;

namespace Oikonom.Core.Approval;

/// <summary>Where a request stands.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<RequestState>))]
public enum RequestState
{
    /// <summary>The targets are being looked at and the plan is made.</summary>
    [JsonStringEnumMemberName("planning")] Planning,

    /// <summary>Several entries in a target could be this person; a human picks.</summary>
    [JsonStringEnumMemberName("choosing")] Choosing,

    /// <summary>Waits for the decision of a stage.</summary>
    [JsonStringEnumMemberName("deciding")] Deciding,

    /// <summary>Approved; an operator releases it.</summary>
    [JsonStringEnumMemberName("releasing")] Releasing,

    /// <summary>Steps are carried out.</summary>
    [JsonStringEnumMemberName("fulfilling")] Fulfilling,

    /// <summary>The targets were read back and are as planned.</summary>
    [JsonStringEnumMemberName("completed")] Completed,

    /// <summary>Somebody said no.</summary>
    [JsonStringEnumMemberName("declined")] Declined,
}

/// <summary>What can happen to a request.</summary>
public enum RequestEvent { Planned, PlannedEmpty, Ambiguous, Chosen, Approve, Decline, Release, Replan, Finished }

/// <summary>A move that the state machine refuses; the message says what the state is and what is possible.</summary>
public sealed class RefusedMove(string code, string message) : Exception(message)
{
    /// <summary>Stable code for callers, such as <c>wrong-state</c>.</summary>
    public string Code { get; } = code;
}

/// <summary>The state machine of a request: pure, total, and the only place that knows the moves.</summary>
public static class RequestMachine
{
    /// <param name="stage">The stage that decides now, from 0.</param>
    /// <param name="stages">How many stages the workflow has.</param>
    /// <param name="released">Whether an operator releases what was approved.</param>
    /// <exception cref="RefusedMove">The event is not possible in this state.</exception>
    public static (RequestState State, int Stage) Next(RequestState state, RequestEvent what, int stage, int stages, bool released) => (state, what) switch
    {
        (RequestState.Planning, RequestEvent.Planned) => stages == 0 ? Approved(released, 0) : (RequestState.Deciding, 0),
        (RequestState.Planning, RequestEvent.PlannedEmpty) => (RequestState.Completed, 0),
        (RequestState.Planning, RequestEvent.Ambiguous) => (RequestState.Choosing, 0),
        (RequestState.Choosing, RequestEvent.Chosen) => (RequestState.Planning, 0),
        (RequestState.Deciding, RequestEvent.Approve) => stage + 1 < stages ? (RequestState.Deciding, stage + 1) : Approved(released, stage),
        (RequestState.Deciding, RequestEvent.Decline) => (RequestState.Declined, stage),
        (RequestState.Releasing, RequestEvent.Release) => (RequestState.Fulfilling, stage),
        (RequestState.Deciding or RequestState.Releasing or RequestState.Fulfilling, RequestEvent.Replan) => (RequestState.Planning, 0),
        (RequestState.Fulfilling, RequestEvent.Finished) => (RequestState.Completed, stage),
        _ => throw new RefusedMove("wrong-state", $"The request is {Name(state)}; {Possible(state)}"),
    };

    private static (RequestState, int) Approved(bool released, int stage) => (released ? RequestState.Releasing : RequestState.Fulfilling, stage);

    public static bool IsOpen(RequestState state) => state is not (RequestState.Completed or RequestState.Declined);

    public static string Name(RequestState state) => state switch
    {
        RequestState.Planning => "being planned",
        RequestState.Choosing => "waiting for a choice between existing entries",
        RequestState.Deciding => "waiting for a decision",
        RequestState.Releasing => "approved and waiting for release",
        RequestState.Fulfilling => "being carried out",
        RequestState.Completed => "completed",
        _ => "declined",
    };

    private static string Possible(RequestState state) => state switch
    {
        RequestState.Planning => "wait until its plan is made.",
        RequestState.Choosing => "choose one of the entries first.",
        RequestState.Deciding => "it can be approved or declined.",
        RequestState.Releasing => "it can be released.",
        _ => "nothing can be decided on it any more.",
    };
}
