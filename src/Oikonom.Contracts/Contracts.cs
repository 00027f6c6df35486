namespace Oikonom.Contracts;

/// <summary>A page of a list; <paramref name="Next"/> is the cursor of the next one, absent on the last.</summary>
public sealed record Page<T>(IReadOnlyList<T> Items, string? Next);

// Access

public sealed record SignInBody(string Name, string Password);
public sealed record Me(string Name, string Display, IReadOnlyList<string> Roles, string? Number);
public sealed record TokenBody(string Name, string Password, string? Label, int? Days);
public sealed record IssuedToken(string Id, string Token, DateTimeOffset ExpiresAt);
public sealed record UserBody(string Display, string Mail, IReadOnlyList<string> Roles, string? Number, string? Password, bool? Active);
public sealed record User(string Name, string Display, string Mail, IReadOnlyList<string> Roles, string? Number, bool Active, DateTimeOffset? LockedUntil);
public sealed record SecretBody(string Value);
public sealed record Secret(string Name, string SetBy, DateTimeOffset SetAt);

/// <summary>A password, shown once.</summary>
public sealed record HandedOver(string Person, string Account, string Target, string Password);
public sealed record Handover(string Person, string Account, string Target, DateTimeOffset ExpiresAt);

// Rulebook

public sealed record RulebookFileBody(string Path, string Text);
public sealed record RulebookBody(IReadOnlyList<RulebookFileBody> Files);
public sealed record RulebookFinding(string File, int Line, int Column, string Message);
public sealed record RulebookCheck(bool Sound, string Digest, IReadOnlyList<RulebookFinding> Findings);
public sealed record EditionSummary(int Number, string Digest, string Author, DateTimeOffset PublishedAt);
public sealed record EditionDetail(int Number, string Digest, string Author, DateTimeOffset PublishedAt, string Name, string Title,
    IReadOnlyList<string> Sources, IReadOnlyList<string> Targets, IReadOnlyList<string> Templates, IReadOnlyList<string> Workflows, IReadOnlyList<RulebookFileBody> Files);

// Intake

/// <summary><c>mode</c>: full (raises requests) or baseline (these people are known, raise nothing).</summary>
public sealed record IntakeBody(string? Mode, bool? DryRun);
public sealed record IntakeCounts(int Read, int Unchanged, int Changed, int Joiners, int Movers, int Leavers, int SetAside, int Missing, int Adopted);
public sealed record SetAside(string File, int Line, string Column, string Value, string Reason);
public sealed record RaisedRequest(string Id, string Kind, string Person, string Number);
public sealed record IntakeRun(string Id, string Source, string Mode, bool DryRun, string Actor, DateTimeOffset StartedAt, DateTimeOffset EndedAt, string Outcome, string Message,
    IntakeCounts Counts, IReadOnlyList<SetAside> SetAside, IReadOnlyList<RaisedRequest> Requests);
public sealed record SourceSummary(string Name, string Title, string Path, IntakeRun? LastRun, int SetAside);

// People

public sealed record PersonSummary(string Id, string Number, string Name, string Kind, string Department, string Site, string Title, DateOnly Start, DateOnly? End);
public sealed record AttributeValue(string Name, string Value);
public sealed record AccountView(string Target, string Name, string Location, string ImmutableId, bool Enabled, DateTimeOffset Since, IReadOnlyList<AttributeValue> Attributes, ReasonView Reason);
public sealed record GrantView(string Target, string Entitlement, string Title, DateTimeOffset From, DateTimeOffset? Until, ReasonView Reason);
public sealed record ReasonView(string Rule, string Place, string Condition);
public sealed record ScheduledChange(DateTimeOffset Due, string Text, string RequestId, long RequestNumber);
public sealed record PersonDetail(string Id, string Number, string Name, string Kind, string Department, string Site, string SiteTitle, string Zone, string Title, DateOnly Start, DateOnly? End,
    DateTimeOffset TermStart, DateTimeOffset? TermEnd, string Source, string? ManagerName, string? ManagerId, IReadOnlyList<AttributeValue> Record, IReadOnlyList<AccountView> Accounts, IReadOnlyList<GrantView> Grants,
    IReadOnlyList<RequestSummary> Requests, IReadOnlyList<ScheduledChange> Scheduled);

// Requests

public sealed record RequestSummary(string Id, long Number, string Kind, string State, string StateText, string PersonId, string Person, string PersonNumber, string Department, string Site, string Start,
    string WaitsOn, DateTimeOffset Since, string? Problem, DateTimeOffset CreatedAt, DateTimeOffset? CompletedAt, string Requester);
public sealed record AttributeChangeView(string Name, IReadOnlyList<string> Before, IReadOnlyList<string> After);
public sealed record ChangeView(int Ordinal, string Kind, string Text, string Target, string Subject, DateTimeOffset? Due, bool Later, IReadOnlyList<AttributeChangeView> Attributes, ReasonView Reason);
public sealed record StepView(string Id, int Ordinal, string State, string Text, int Attempts, string? Problem, DateTimeOffset Due, DateTimeOffset? DoneAt, bool Later);
public sealed record DecisionView(string Stage, string Actor, string Verdict, string Remark, DateTimeOffset At);
public sealed record CandidateView(string Target, string ImmutableId, string Name, string Location, string MatchedBy, IReadOnlyList<AttributeValue> Attributes);
public sealed record CauseView(string Text, string? Source, int? Line, IReadOnlyList<AttributeChangeView> Differences);

/// <summary>What was done, what is next, on whom it waits, since when, and what would move it: in plain words.</summary>
public sealed record Story(IReadOnlyList<string> Done, string Now, string Next, string WaitsOn, DateTimeOffset Since, string? Unblock);
public sealed record Rights(bool Approve, bool Decline, bool Release, bool Choose, bool Retry, string? WhyNot);
public sealed record RequestDetail(RequestSummary Summary, CauseView Cause, int Edition, string Workflow, string? PlanDigest, Story Story, IReadOnlyList<ChangeView> Plan,
    IReadOnlyList<StepView> Steps, IReadOnlyList<DecisionView> Decisions, IReadOnlyList<CandidateView> Candidates, Rights Rights);
public sealed record RequestCounts(IReadOnlyDictionary<string, long> States);

/// <summary>A decision is bound to the plan that was shown.</summary>
public sealed record ApproveBody(string PlanDigest, string? Remark);
public sealed record DeclineBody(string Reason);
public sealed record ReleaseBody(string PlanDigest);
public sealed record ChooseBody(string Target, string ImmutableId);

// Targets

public sealed record TargetSummary(string Name, string Title, string Kind, string Address, string Security, int Accounts, int Waiting, int Failing, string? Problem);
public sealed record TargetCheck(string Name, bool Reachable, string Message, string? SignedInAs, long Milliseconds);

// Ledger

public sealed record LedgerEntryView(string Id, DateTimeOffset At, string Actor, string Kind, string? PersonId, string? RequestId, long? Position, System.Text.Json.JsonElement Body);
public sealed record LedgerVerification(bool Sound, long Entries, long Sealed, long Unsealed, string Root, int Heads, IReadOnlyList<string> Faults, long Milliseconds);

// Live

/// <summary>What changed: a topic such as <c>requests</c> and the id of the thing.</summary>
public sealed record LiveHint(string Topic, string Subject);

public sealed record Readiness(bool Ready, string Store, int Edition, string Version);
