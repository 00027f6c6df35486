using Oikonom.Core.Approval;
using Oikonom.Core.People;

namespace Oikonom.Store.Rooms;

/// <summary>A request.</summary>
public sealed class RequestRow
{
    /// <summary>The number people call it by.</summary>
    public long Number { get; init; }

    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>Which kind it is of.</summary>
    public string Kind { get; set; } = "";

    /// <summary>Where it stands; once stored, only <see cref="Move"/> changes it.</summary>
    public RequestState State
    {
        get => _state;
        init => _state = value;
    }

    /// <summary>The stage of its workflow, from 0 on.</summary>
    public long Stage
    {
        get => _stage;
        init => _stage = value;
    }
    private RequestState _state;
    private long _stage;

    /// <summary>The state as it is kept.</summary>
    public string StateText => EnumText.Of(State);

    /// <inheritdoc cref="RequestMachine.Next"/>
    /// <returns>The state it is in now.</returns>
    public RequestState Move(RequestEvent what, int open = 0, int stages = 0, bool released = true)
    {
        var (state, stage) = RequestMachine.Next(_state, what, open, stages, released);
        (_state, _stage) = (state, stage);
        return state;
    }

    /// <summary>The person it is about, or who answers for the subject it is about.</summary>
    public string PersonId { get; init; } = "";

    /// <summary>What it is about.</summary>
    public SubjectKind SubjectKind { get; init; }

    /// <summary>The id of what it is about.</summary>
    public string SubjectId
    {
        get => field.Length > 0 ? field : PersonId;
        init;
    } = "";

    /// <summary>The user who raised it, or <c>oikonom</c>.</summary>
    public string Requester { get; init; } = "";

    /// <summary>Why there is one, as JSON.</summary>
    public string Cause { get; set; } = "{}";

    /// <summary>The number of the edition of the rulebook.</summary>
    public long Edition { get; set; }

    /// <summary>The name of its way of approval.</summary>
    public string Workflow { get; set; } = "";

    /// <summary>The plan, as JSON; null while there is none.</summary>
    public string? Plan { get; set; }

    /// <summary>What a decision is bound to; null while there is no plan.</summary>
    public string? PlanDigest { get; set; }

    /// <summary>The stage as people read it, or "".</summary>
    public string StageTitle { get; set; } = "";

    /// <summary>User names as |a|b|, or "" when a role decides.</summary>
    public string Deciders { get; set; } = "";

    /// <summary>The role that decides, or "".</summary>
    public string DeciderRole { get; set; } = "";

    /// <summary>Who decides, in words.</summary>
    public string DeciderWhy { get; set; } = "";

    /// <summary>What is wrong with it, in words; "" when nothing is.</summary>
    public string Problem { get; set; } = "";

    /// <summary>Entries to choose from, as a JSON list; or "".</summary>
    public string Candidates { get; set; } = "";

    /// <summary>The entries that were chosen, by target, as JSON.</summary>
    public string Chosen { get; set; } = "{}";

    /// <summary>Since when it waits, in milliseconds since 1970 (UTC).</summary>
    public long SinceAt { get; set; }

    /// <summary>When it was made, in milliseconds since 1970 (UTC).</summary>
    public long CreatedAt { get; init; }

    /// <summary>When it changed last, in milliseconds since 1970 (UTC).</summary>
    public long UpdatedAt { get; set; }

    /// <summary>When it was over, in milliseconds since 1970 (UTC); null while it is open.</summary>
    public long? CompletedAt { get; set; }

    /// <summary>When it is due, in milliseconds since 1970 (UTC).</summary>
    public long? DueAt { get; set; }

    /// <summary>How often it was tried without success.</summary>
    public long Attempts { get; set; }

    /// <summary>The node that has it, or "".</summary>
    public string LeaseOwner { get; set; } = "";

    /// <summary>Until when a node has it, in milliseconds since 1970 (UTC).</summary>
    public long LeaseUntil { get; set; }

    /// <summary>Raised with each claim; what an older one reports decides nothing.</summary>
    public long Fence { get; set; }

    /// <summary>Raised with each change, so that nobody overwrites what they did not see.</summary>
    public long Version { get; set; }

    /// <summary>The source it came from, or <c>hand</c>.</summary>
    public string Source { get; init; } = "";

    /// <summary>What is asked for by hand, as JSON.</summary>
    public string Wish { get; set; } = "{}";

    /// <summary>What the stage wants decided, as a JSON list.</summary>
    public string Ballots { get; set; } = "[]";

    /// <summary>Raised when all approvals are asked for again.</summary>
    public long Round { get; set; } = 1;

    /// <summary>Deadline, next reminder and how far it has escalated, as JSON.</summary>
    public string Clock { get; set; } = "{}";

    /// <summary>When its clock rings, in milliseconds since 1970 (UTC); null when it does not.</summary>
    public long? ClockAt { get; set; }

    /// <summary>Why an operator holds it, or "".</summary>
    public string Held { get; set; } = "";

    /// <summary>The plan people saw before this one, while it is still to be decided.</summary>
    public string? PlanBefore { get; set; }

    /// <summary>1 when nobody decided in time, else 0.</summary>
    public long Late { get; set; }

    /// <summary>The file it was asked for in, when that is decided as a whole; else "".</summary>
    public string Batch { get; init; } = "";

    /// <summary>The edition the person was on when it was planned: once they are on another, it is planned anew.</summary>
    public long OnEdition { get; set; }

    /// <summary>The roll-out it belongs to, or "".</summary>
    public string Rollout { get; init; } = "";

    /// <summary>How it ended, once it is completed.</summary>
    public RequestOutcome Outcome { get; set; }

    /// <summary>The outcome as it is kept.</summary>
    public string OutcomeText => EnumText.Of(Outcome);

    /// <summary>What it waited for before it was planned anew, and since when, as JSON; "" when it did not.</summary>
    public string Waited { get; set; } = "";

    /// <summary>When its next step is due, in milliseconds; null when it is not being carried out, or none is left.</summary>
    public long? NextAt { get; init; }

    /// <summary>The number of another request that stopped in an account before a step of this one; null when none did.</summary>
    public long? BlockedBy { get; init; }

    /// <summary>The name of the account it is about, when it belongs to nobody; else "".</summary>
    public string Account { get; init; } = "";

    // Joined from the person.

    /// <summary>The name that people read.</summary>
    public string Display { get; init; } = "";

    /// <summary>The employee number of the person.</summary>
    public string PersonNumber { get; init; } = "";

    /// <summary>The department of the person.</summary>
    public string Department { get; init; } = "";

    /// <summary>The name of the site in the rulebook.</summary>
    public string Site { get; init; } = "";

    /// <summary>The first day, as yyyy-MM-dd.</summary>
    public string StartDay { get; init; } = "";

    /// <summary>What people read.</summary>
    public string Title { get; init; } = "";
}

/// <summary>Something that was decided or said on a request.</summary>
public sealed class DecisionRow
{
    /// <summary>The id of the request it belongs to.</summary>
    public string RequestId { get; init; } = "";

    /// <summary>The stage as people read it, or "".</summary>
    public string StageTitle { get; init; } = "";

    /// <summary>The user who did it, or <c>oikonom</c>.</summary>
    public string Actor { get; init; } = "";

    /// <summary>What was decided.</summary>
    public string Verdict { get; init; } = "";

    /// <summary>What was said with it; may be empty.</summary>
    public string Remark { get; init; } = "";

    /// <summary>SHA-256 of what it covers, in lower-case hexadecimal.</summary>
    public string Digest { get; init; } = "";

    /// <summary>When, in milliseconds since 1970 (UTC).</summary>
    public long At { get; init; }

    /// <summary>The name of the stage, or "".</summary>
    public string Stage { get; init; } = "";

    /// <summary>The item of the plan, or "" for all of them; of what was taken back, the number of the request that sets right what
    /// was done, or "".</summary>
    public string Item { get; init; } = "";

    /// <summary>Whose right was used, when it was handed over; else "".</summary>
    public string OnBehalf { get; init; } = "";

    /// <summary>The digests of the items it covered, as JSON.</summary>
    public string Covers { get; init; } = "{}";

    /// <summary>How often all approvals have been asked for, from 1 on.</summary>
    public long Round { get; init; } = 1;
}
