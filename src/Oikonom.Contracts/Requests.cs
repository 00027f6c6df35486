namespace Oikonom.Contracts;

public sealed record RequestSummary
{
    public required string Id { get; init; }
    public required long Number { get; init; }
    public required string Kind { get; init; }
    public required string State { get; init; }
    public required string StateText { get; init; }
    public required string PersonId { get; init; }
    public required string Person { get; init; }
    public required string PersonNumber { get; init; }
    public required string Department { get; init; }
    public required string Site { get; init; }
    public required string Start { get; init; }
    public required string WaitsOn { get; init; }
    public required DateTimeOffset Since { get; init; }
    public required string? Problem { get; init; }
    public required DateTimeOffset CreatedAt { get; init; }
    public required DateTimeOffset? CompletedAt { get; init; }
    public required string Requester { get; init; }
    public required bool Late { get; init; }
    public required string Source { get; init; }
    public required string Stage { get; init; }
    public DateTimeOffset? Due { get; init; }
    public required bool Held { get; init; }
    public required bool Privileged { get; init; }
    public string? Effect { get; init; }
    public string? PlanDigest { get; init; }
    public required string Cause { get; init; }
    public string? Batch { get; init; }

    /// <summary>The account that belongs to nobody and that it is about; then <see cref="Person"/> answers for it.</summary>
    public string? Account { get; init; }

    /// <summary>How it ended once it is completed: done, partly or needless; else null.</summary>
    public string? Outcome { get; init; }
}

public sealed record AttributeChangeView(string Name, IReadOnlyList<string> Before, IReadOnlyList<string> After)
{
    /// <summary>What people read in the place of its name, where that is told.</summary>
    public string? Title { get; init; }
}

public sealed record ChangeView(
    int Ordinal,
    string Kind,
    string Text,
    string Target,
    string Subject,
    DateTimeOffset? Due,
    bool Later,
    IReadOnlyList<AttributeChangeView> Attributes,
    ReasonView Reason,
    bool ByRules
);

public sealed record StepView(
    string Id,
    int Ordinal,
    string State,
    string Text,
    int Attempts,
    string? Problem,
    DateTimeOffset Due,
    DateTimeOffset? DoneAt,
    bool Later,
    string Kind = ""
);

public sealed record DecisionView(
    string Stage,
    string Actor,
    string Verdict,
    string Remark,
    DateTimeOffset At,
    string? Item = null,
    string? OnBehalf = null,
    bool Counts = true
);

/// <summary>One of several entries that could be the person's.</summary>
/// <param name="Enabled">True when it may be used.</param>
/// <param name="LastLogOn">When somebody signed in with it last, where the target keeps that.</param>
/// <param name="Entitlements">Titles of what it holds, as far as the rulebook knows it.</param>
public sealed record CandidateView(
    string Target,
    string ImmutableId,
    string Name,
    string Location,
    string MatchedBy,
    IReadOnlyList<AttributeValue> Attributes,
    bool Enabled,
    IReadOnlyList<string> Entitlements,
    DateTimeOffset? LastLogOn = null
);

public sealed record CauseView(string Text, string? Source, int? Line, IReadOnlyList<AttributeChangeView> Differences);

/// <summary>What was done, what is next, on whom it waits, since when, and what would move it: in plain words.</summary>
public sealed record Story(IReadOnlyList<string> Done, string Now, string Next, string WaitsOn, DateTimeOffset Since, string? Unblock);

public sealed record Rights
{
    public required bool Approve { get; init; }
    public required bool Decline { get; init; }
    public required bool Release { get; init; }
    public required bool Choose { get; init; }
    public required bool Retry { get; init; }
    public required string? WhyNot { get; init; }
    public required bool Ask { get; init; }
    public required bool Answer { get; init; }
    public required bool Withdraw { get; init; }

    /// <summary>Take a joiner back with all it did.</summary>
    public required bool Undo { get; init; }
    public required bool Hold { get; init; }
    public required bool Resume { get; init; }
    public required bool Return { get; init; }
    public required bool InPart { get; init; }
    public IReadOnlyList<string>? Change { get; init; }
    public IReadOnlyList<string>? Items { get; init; }
    public string? OnBehalf { get; init; }
    public required bool NewLink { get; init; }

    /// <summary>Whether steps that stopped or fail may be left out.</summary>
    public required bool LeaveOut { get; init; }
}

/// <summary>A point on the way that people ask about: prepared and ready of a joiner, closed off and wound down of a leaver.</summary>
public sealed record Milestone(string Name, string Title, bool Reached, DateTimeOffset? At, string Text);

/// <summary>What was asked for by hand, as it stands.</summary>
public sealed record WishView(
    string Reason,
    IReadOnlyList<AttributeValue> Changes,
    IReadOnlyList<GrantWish> Grants,
    IReadOnlyList<string> Templates,
    IReadOnlyList<string> Struck,
    string? Target,
    bool Urgent,
    DateTimeOffset? From = null
);

/// <summary>One thing that a request gives, changes, leaves or takes away.</summary>
/// <param name="Key">The account, or account/entitlement.</param>
/// <param name="From">When it begins, or is changed or taken away; null: when the request is carried out.</param>
/// <param name="Until">When it ends, as far as the plan says; null when no end is known.</param>
/// <param name="Why">The rule or the request behind it, in words.</param>
public sealed record EffectLine(
    string Key,
    string Title,
    string Target,
    bool Privileged,
    DateTimeOffset? From,
    DateTimeOffset? Until,
    string Why,
    IReadOnlyList<AttributeChangeView> Attributes
);

/// <summary>A plan by what comes of it for the person.</summary>
/// <param name="Kept">What they hold and keep; empty where a request is about one thing alone.</param>
public sealed record PlanEffect(
    IReadOnlyList<EffectLine> Gained,
    IReadOnlyList<EffectLine> Changed,
    IReadOnlyList<EffectLine> Kept,
    IReadOnlyList<EffectLine> Lost
);

public sealed record RequestDetail
{
    public required RequestSummary Summary { get; init; }
    public required CauseView Cause { get; init; }
    public required int Edition { get; init; }
    public required int? From { get; init; }
    public required int DecidedBy { get; init; }
    public required string Workflow { get; init; }
    public required string? PlanDigest { get; init; }
    public required Story Story { get; init; }
    public required IReadOnlyList<ChangeView> Plan { get; init; }
    public required IReadOnlyList<StepView> Steps { get; init; }
    public required IReadOnlyList<DecisionView> Decisions { get; init; }
    public required IReadOnlyList<CandidateView> Candidates { get; init; }
    public required Rights Rights { get; init; }
    public required IReadOnlyList<StageView> Stages { get; init; }
    public required IReadOnlyList<ItemView> Items { get; init; }
    public required IReadOnlyList<ItemView> Gone { get; init; }
    public required IReadOnlyList<Milestone> Milestones { get; init; }
    public required WishView Wish { get; init; }
    public required IReadOnlyList<OpenField> Open { get; init; }
    public required IReadOnlyList<TaskView> Tasks { get; init; }
    public required string? Held { get; init; }
    public required PlanEffect Effect { get; init; }
    public required string WorkflowTitle { get; init; }
    public SitePlace? Place { get; init; }

    /// <summary>What of the plan nobody more may hold, such as a licence without a free seat.</summary>
    public IReadOnlyList<string> NoneLeft { get; init; } = [];
}

/// <summary>Where the days of somebody begin and end.</summary>
/// <param name="Zone">Of the tz database, such as Europe/Lisbon.</param>
/// <param name="Title">What people call the site.</param>
public sealed record SitePlace(string Zone, string Title);

public sealed record RequestCounts(
    IReadOnlyDictionary<string, long> States,
    IReadOnlyDictionary<string, long> Kinds,
    long Late,
    long Stuck
);

/// <summary>A decision is bound to the plan that was shown.</summary>
/// <param name="Items">Where each item is decided on its own: those approved; none means all that are the caller's.</param>
/// <param name="Without">Items to decline while the rest is approved, where the workflow allows it.</param>
public sealed record ApproveBody(
    string PlanDigest,
    string? Remark,
    IReadOnlyList<string>? Items = null,
    IReadOnlyList<string>? Without = null
);

public sealed record DeclineBody(string Reason, IReadOnlyList<string>? Items = null);

public sealed record ReleaseBody(string PlanDigest);

public sealed record ChooseBody(string Target, string ImmutableId);
