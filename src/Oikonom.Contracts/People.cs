namespace Oikonom.Contracts;

public sealed record PersonSummary(
    string Id,
    string Number,
    string Name,
    string Kind,
    string Department,
    string Site,
    string Title,
    DateOnly Start,
    DateOnly? End
);

public sealed record AttributeValue(string Name, string Value);

/// <param name="Slot">"" for the ordinary account of the person in the target.</param>
/// <param name="Until">Until when it may be used by the rules; null when no end is known, or when it may not be used.</param>
public sealed record AccountView(
    string Target,
    string Slot,
    string Name,
    string Location,
    string ImmutableId,
    bool Enabled,
    DateTimeOffset Since,
    IReadOnlyList<AttributeValue> Attributes,
    ReasonView Reason,
    DateTimeOffset? Until
);

/// <param name="Slot">Which account of the person holds it; "" is the ordinary one.</param>
/// <param name="MayEnd">True when the caller may end it before its time.</param>
public sealed record GrantView(
    string Target,
    string Slot,
    string Entitlement,
    string Title,
    DateTimeOffset From,
    DateTimeOffset? Until,
    ReasonView Reason,
    bool MayEnd = false
);

public sealed record ReasonView(string Rule, string Place, string Condition);

public sealed record ScheduledChange(DateTimeOffset Due, string Text, string RequestId, long RequestNumber);

/// <summary>One way in which an account is not as it was left.</summary>
/// <param name="Name">The attribute, or "" where it is about something else.</param>
/// <param name="Found">The values that were found, where it is about an attribute.</param>
/// <param name="Left">The values it had been given.</param>
public sealed record DifferenceView(string Text, string Name, IReadOnlyList<string> Found, IReadOnlyList<string> Left);

/// <summary>An account that was changed outside.</summary>
/// <param name="Slot">"" for the ordinary account of the person in the target.</param>
/// <param name="Since">The look that found it first.</param>
/// <param name="Seen">The look that found it last.</param>
/// <param name="RequestId">The request that sets it right, or null.</param>
/// <param name="LeftBy">Who lets it stay so, or null.</param>
/// <param name="MayLeave">True when the caller may let it stay so.</param>
public sealed record FindingView(
    string Target,
    string Slot,
    string Account,
    IReadOnlyList<DifferenceView> Differences,
    DateTimeOffset Since,
    DateTimeOffset Seen,
    string? RequestId,
    string? LeftBy,
    string? Remark,
    bool MayLeave
);

/// <param name="Account">The account: the target, with :slot where it is not the ordinary one.</param>
/// <param name="Reason">Why it may stay as it is.</param>
public sealed record LeaveBody(string Account, string Reason);

public sealed record PersonDetail
{
    public required string Id { get; init; }
    public required string Number { get; init; }
    public required string Name { get; init; }
    public required string Kind { get; init; }
    public required string Department { get; init; }
    public required string Site { get; init; }
    public required string SiteTitle { get; init; }
    public required string Zone { get; init; }
    public required string Title { get; init; }
    public required DateOnly Start { get; init; }
    public required DateOnly? End { get; init; }
    public required DateTimeOffset TermStart { get; init; }
    public required DateTimeOffset? TermEnd { get; init; }
    public required string Source { get; init; }
    public required string? ManagerName { get; init; }
    public required string? ManagerId { get; init; }
    public required IReadOnlyList<AttributeValue> Record { get; init; }
    public required IReadOnlyList<AccountView> Accounts { get; init; }
    public required IReadOnlyList<GrantView> Grants { get; init; }
    public required IReadOnlyList<RequestSummary> Requests { get; init; }
    public required IReadOnlyList<ScheduledChange> Scheduled { get; init; }
    public DateTimeOffset? ForgottenAt { get; init; }
    public string? ForgottenBy { get; init; }
    public int? Edition { get; init; }
    public int? NewestEdition { get; init; }
    public IReadOnlyList<FindingView>? Findings { get; init; }
}

/// <summary>One ledger entry in words. <paramref name="For"/> is whose right was used, when it was handed over.</summary>
public sealed record HistoryLine(
    string Entry,
    DateTimeOffset At,
    string Actor,
    string? For,
    string What,
    string Text,
    IReadOnlyList<AttributeChangeView> Changes,
    string? RequestId,
    long? RequestNumber,
    int? Edition,
    DateTimeOffset? ForgottenAt = null,
    string? ForgottenBy = null
);

public sealed record HoldBody(string Reason, DateOnly Until);

public sealed record ForgetBody(string Reason);

/// <summary>Somebody who left, the day on which what is held of them is forgotten, and what stops it.</summary>
public sealed record RetentionEntry(string PersonId, string Number, string Name, DateOnly Left, DateOnly On, IReadOnlyList<string> Stops);

public sealed record RetentionHold(
    string PersonId,
    string Number,
    string Name,
    string Reason,
    DateOnly Until,
    string By,
    DateTimeOffset At
);

/// <summary>An order to forget somebody, which waits for a second person.</summary>
public sealed record ForgetOrder(string Id, string PersonId, string Number, string Name, string Reason, string AskedBy, DateTimeOffset At);

/// <param name="Rule">How long values are kept, or null when the rulebook says nothing.</param>
public sealed record RetentionView(
    string? Rule,
    string? PowerfulRule,
    IReadOnlyList<RetentionEntry> Next,
    IReadOnlyList<ForgetOrder> Orders,
    IReadOnlyList<RetentionHold> Holds
);
