namespace Oikonom.Contracts;

/// <param name="Account">The account that belongs to nobody and that it is about; then <paramref name="Person"/> answers for it.</param>
/// <param name="Outcome">How it ended once it is completed: done, partly or needless; else null.</param>
public sealed record RequestSummary(
    string Id,
    long Number,
    string Kind,
    string State,
    string StateText,
    string PersonId,
    string Person,
    string PersonNumber,
    string Department,
    string Site,
    string Start,
    string WaitsOn,
    DateTimeOffset Since,
    string? Problem,
    DateTimeOffset CreatedAt,
    DateTimeOffset? CompletedAt,
    string Requester,
    bool Late = false,
    string Source = "",
    string Stage = "",
    DateTimeOffset? Due = null,
    bool Held = false,
    bool Privileged = false,
    string? Effect = null,
    string? PlanDigest = null,
    string Cause = "",
    string? Batch = null,
    string? Account = null,
    string? Outcome = null
);

public sealed record AttributeChangeView(string Name, IReadOnlyList<string> Before, IReadOnlyList<string> After);

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

public sealed record Rights(
    bool Approve,
    bool Decline,
    bool Release,
    bool Choose,
    bool Retry,
    string? WhyNot,
    bool Ask = false,
    bool Answer = false,
    bool Withdraw = false,
    bool Hold = false,
    bool Resume = false,
    bool Return = false,
    bool InPart = false,
    IReadOnlyList<string>? Change = null,
    IReadOnlyList<string>? Items = null,
    string? OnBehalf = null,
    bool NewLink = false
);

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

public sealed record RequestDetail(
    RequestSummary Summary,
    CauseView Cause,
    int Edition,
    int? From,
    int DecidedBy,
    string Workflow,
    string? PlanDigest,
    Story Story,
    IReadOnlyList<ChangeView> Plan,
    IReadOnlyList<StepView> Steps,
    IReadOnlyList<DecisionView> Decisions,
    IReadOnlyList<CandidateView> Candidates,
    Rights Rights,
    IReadOnlyList<StageView> Stages,
    IReadOnlyList<ItemView> Items,
    IReadOnlyList<ItemView> Gone,
    IReadOnlyList<Milestone> Milestones,
    WishView Wish,
    IReadOnlyList<OpenField> Open,
    IReadOnlyList<TaskView> Tasks,
    string? Held,
    PlanEffect Effect,
    string WorkflowTitle = "",
    SitePlace? Place = null
);

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
