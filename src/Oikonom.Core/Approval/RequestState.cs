using System.Text.Json.Serialization;

namespace Oikonom.Core.Approval;

/// <summary>Where a request stands.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<RequestState>))]
public enum RequestState
{
    /// <summary>The targets are being looked at and the plan is made.</summary>
    [JsonStringEnumMemberName("planning")]
    Planning,

    /// <summary>Several entries in a target could be this person; a human picks.</summary>
    [JsonStringEnumMemberName("choosing")]
    Choosing,

    /// <summary>Waits for the decision of a stage.</summary>
    [JsonStringEnumMemberName("deciding")]
    Deciding,

    /// <summary>An approver asked back; the requester answers, and the clock stands still.</summary>
    [JsonStringEnumMemberName("asked")]
    Asked,

    /// <summary>Approved; an operator releases it.</summary>
    [JsonStringEnumMemberName("releasing")]
    Releasing,

    /// <summary>Steps are carried out.</summary>
    [JsonStringEnumMemberName("fulfilling")]
    Fulfilling,

    /// <summary>The targets were read back and are as planned.</summary>
    [JsonStringEnumMemberName("completed")]
    Completed,

    /// <summary>Somebody said no.</summary>
    [JsonStringEnumMemberName("declined")]
    Declined,

    /// <summary>The requester took it back.</summary>
    [JsonStringEnumMemberName("withdrawn")]
    Withdrawn,

    /// <summary>Nothing of it was wanted any more when it ran; nothing was done.</summary>
    [JsonStringEnumMemberName("lapsed")]
    Lapsed,
}

/// <summary>How a request ended that was completed, or taken back while it was carried out.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<RequestOutcome>))]
public enum RequestOutcome
{
    /// <summary>It is not over, or its state says all.</summary>
    [JsonStringEnumMemberName("none")]
    None,

    /// <summary>All of it was done.</summary>
    [JsonStringEnumMemberName("done")]
    Done,

    /// <summary>Some of it was done; the rest was no longer wanted when its turn came, or taken back.</summary>
    [JsonStringEnumMemberName("partly")]
    Partly,

    /// <summary>All was as it should be before anything was done.</summary>
    [JsonStringEnumMemberName("needless")]
    Needless,
}

/// <summary>What can happen to a request.</summary>
public enum RequestEvent
{
    Planned,
    PlannedEmpty,
    Ambiguous,
    Chosen,
    Approve,
    Decline,
    AskBack,
    Answer,
    Release,
    Return,
    Withdraw,
    Replan,

    /// <summary>What it rests on changed before there was a plan to throw away.</summary>
    Renew,
    Finished,
    Lapse,
}

/// <summary>The state machine of a request: pure, total, and the only place that knows the moves.</summary>
public static class RequestMachine
{
    /// <summary>The stage of a request that was asked about before it had a plan.</summary>
    public const int BeforeThePlan = -1;

    /// <param name="open">The first stage that still lacks approvals after the event; <paramref name="stages"/> when none does.</param>
    /// <param name="stages">How many stages the workflow has.</param>
    /// <param name="released">Whether an operator releases what was approved.</param>
    /// <exception cref="RefusedMove">The event is not possible in this state.</exception>
    public static (RequestState State, int Stage) Next(RequestState state, RequestEvent what, int open, int stages, bool released) =>
        (state, what) switch
        {
            (RequestState.Planning, RequestEvent.Planned) or (RequestState.Deciding, RequestEvent.Approve) => open < stages
                ? (RequestState.Deciding, open)
                : (released ? RequestState.Releasing : RequestState.Fulfilling, stages),
            (RequestState.Planning, RequestEvent.PlannedEmpty) => (RequestState.Completed, 0),
            (RequestState.Planning, RequestEvent.Ambiguous) => (RequestState.Choosing, 0),
            (RequestState.Choosing, RequestEvent.Chosen) => (RequestState.Planning, 0),
            (RequestState.Deciding or RequestState.Asked, RequestEvent.Decline) => (RequestState.Declined, open),
            (RequestState.Deciding, RequestEvent.AskBack) => (RequestState.Asked, open),
            // What is asked before there is a plan is filled in, and the plan is made of it.
            (RequestState.Planning, RequestEvent.AskBack) => (RequestState.Asked, BeforeThePlan),
            (RequestState.Asked, RequestEvent.Answer) when open > BeforeThePlan => (RequestState.Deciding, open),
            (RequestState.Releasing, RequestEvent.Release) => (RequestState.Fulfilling, stages),
            // What an operator sends back is decided again from the first stage; without stages it is planned anew.
            (RequestState.Releasing, RequestEvent.Return) => stages > 0 ? (RequestState.Deciding, 0) : (RequestState.Planning, 0),
            (
                RequestState.Planning
                    or RequestState.Choosing
                    or RequestState.Deciding
                    or RequestState.Asked
                    or RequestState.Releasing
                    // What has not run yet does not run; what was done is told.
                    or RequestState.Fulfilling,
                RequestEvent.Withdraw
            ) => (RequestState.Withdrawn, 0),
            (RequestState.Deciding or RequestState.Asked or RequestState.Releasing or RequestState.Fulfilling, RequestEvent.Replan) => (
                RequestState.Planning,
                0
            ),
            (RequestState.Planning or RequestState.Choosing, RequestEvent.Renew) => (RequestState.Planning, 0),
            (RequestState.Fulfilling, RequestEvent.Finished) => (RequestState.Completed, stages),
            (RequestState.Fulfilling, RequestEvent.Lapse) => (RequestState.Lapsed, stages),
            _ => throw new RefusedMove("wrong-state", $"The request is {Name(state)}; {Possible(state)}"),
        };

    /// <summary>True while something can still happen to it.</summary>
    public static bool IsOpen(RequestState state) =>
        state is not (RequestState.Completed or RequestState.Declined or RequestState.Withdrawn or RequestState.Lapsed);

    /// <summary>The state in words, as the end of "the request is …".</summary>
    public static string Name(RequestState state) =>
        state switch
        {
            RequestState.Planning => "being planned",
            RequestState.Choosing => "waiting for a choice between existing entries",
            RequestState.Deciding => "waiting for a decision",
            RequestState.Asked => "waiting for an answer of the requester",
            RequestState.Releasing => "approved and waiting for release",
            RequestState.Fulfilling => "being carried out",
            RequestState.Completed => "completed",
            RequestState.Withdrawn => "withdrawn",
            RequestState.Lapsed => "no longer wanted",
            _ => "declined",
        };

    /// <summary>The state in words, and of what is completed how it ended.</summary>
    public static string Name(RequestState state, RequestOutcome outcome) =>
        (state, outcome) switch
        {
            (RequestState.Completed, RequestOutcome.Done) => "done",
            (RequestState.Completed, RequestOutcome.Partly) => "done in part",
            (RequestState.Completed, RequestOutcome.Needless) => "completed, nothing was needed",
            (RequestState.Withdrawn, RequestOutcome.Partly) => "withdrawn when some of it was done",
            _ => Name(state),
        };

    private static string Possible(RequestState state) =>
        state switch
        {
            RequestState.Planning => "wait until its plan is made.",
            RequestState.Choosing => "choose one of the entries first.",
            RequestState.Deciding => "it can be approved or declined.",
            RequestState.Asked => "it can be answered.",
            RequestState.Releasing => "it can be released.",
            RequestState.Fulfilling => "it runs to its end, or is taken back.",
            _ => "nothing can be decided on it any more.",
        };
}
