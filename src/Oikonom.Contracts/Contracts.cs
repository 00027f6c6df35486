namespace Oikonom.Contracts;

/// <summary>A page of a list; <paramref name="Next"/> is the cursor of the next one, absent on the last.</summary>
public sealed record Page<T>(IReadOnlyList<T> Items, string? Next);

// Access

public sealed record SignInBody(string Name, string Password);

public sealed record Me(
    string Name,
    string Display,
    IReadOnlyList<string> Roles,
    string? Number,
    IReadOnlyDictionary<string, ReachBody>? Reach = null
);

public sealed record TokenBody(string Name, string Password, string? Label, int? Days);

public sealed record IssuedToken(string Id, string Token, DateTimeOffset ExpiresAt);

/// <summary>A part of the organisation; what is left out is not limited.</summary>
public sealed record ReachBody(
    IReadOnlyList<string>? Sites = null,
    IReadOnlyList<string>? Departments = null,
    IReadOnlyList<string>? Targets = null
);

/// <param name="Reach">Role → the part of the organisation it is limited to; a role that is not named has no limit. Left out: as
/// it was.</param>
public sealed record UserBody(
    string Display,
    string Mail,
    IReadOnlyList<string> Roles,
    string? Number,
    bool? Active,
    IReadOnlyDictionary<string, ReachBody>? Reach = null
);

/// <param name="Way">How they sign in: <c>password</c>, <c>openid</c>, or <c>link-sent</c> while they have not set a password yet.</param>
public sealed record User(
    string Name,
    string Display,
    string Mail,
    IReadOnlyList<string> Roles,
    string? Number,
    bool Active,
    IReadOnlyDictionary<string, ReachBody>? Reach = null,
    string Way = "password"
);

/// <summary>A change of a user that waits for a second person, with each field before and after.</summary>
public sealed record UserChange(
    string Id,
    string User,
    string AskedBy,
    DateTimeOffset At,
    bool IsNew,
    IReadOnlyList<AttributeChangeView> Changes,
    bool MayAgree
);

/// <param name="User">The user as it is now; null while a new one waits.</param>
/// <param name="Waits">Set when another engineer agrees first.</param>
public sealed record UserSaved(User? User, UserChange? Waits);

public sealed record ForgottenBody(string Name);

public sealed record NewPasswordBody(string Password);

public sealed record OwnPasswordBody(string? Current, string? New);

public sealed record PasswordLink(string Name, string Display, DateTimeOffset ExpiresAt);

public sealed record SessionView(
    string Id,
    string User,
    DateTimeOffset Began,
    DateTimeOffset Seen,
    string Address,
    string Agent,
    string Way,
    bool Current
);

/// <param name="Roles">The roles the token is limited to; none means all of its user.</param>
public sealed record OwnTokenBody(string Label, int? Days = null, IReadOnlyList<string>? Roles = null);

public sealed record TokenView(
    string Id,
    string Label,
    DateTimeOffset CreatedAt,
    DateTimeOffset ExpiresAt,
    IReadOnlyList<string> Roles,
    bool Current
);

/// <param name="Kinds">Kinds of ledger entries, such as request.completed, or a prefix ending in a dot; none means request.</param>
public sealed record HookBody(string Address, string Secret, IReadOnlyList<string>? Kinds = null);

public sealed record HookView(
    string Id,
    string Address,
    IReadOnlyList<string> Kinds,
    string Actor,
    DateTimeOffset CreatedAt,
    bool Active,
    long NextPosition,
    int Attempts,
    string? Problem,
    DateTimeOffset? SentAt
);

public sealed record ReplayBody(long Position);

/// <param name="For">The documents it is set for, such as targets/directory; left out, it goes where it went.</param>
public sealed record SecretBody(string Value, IReadOnlyList<string>? For = null);

/// <param name="Goes">The addresses it is shown to, each with the document that names it.</param>
public sealed record Secret(string Name, string SetBy, DateTimeOffset SetAt, IReadOnlyList<string> Goes);

/// <param name="Waiting">Where the rulebook would send it too, and where it does not go until it is set for that.</param>
public sealed record SecretSet(string Name, IReadOnlyList<string> Goes, IReadOnlyList<string> Waiting);

/// <summary>A password, shown once.</summary>
public sealed record HandedOver(string Person, string Account, string Target, string Password);

/// <summary>Who got a new one-time link.</summary>
public sealed record FirstPasswordSent(IReadOnlyList<string> Receivers);

public sealed record Handover(string Person, string Account, string Target, DateTimeOffset ExpiresAt);

// Rulebook

public sealed record RulebookFileBody(string Path, string Text);

/// <summary><c>quick</c> leaves out the warnings that need all people to be looked at.</summary>
public sealed record RulebookBody(IReadOnlyList<RulebookFileBody> Files, bool? Quick = null);

/// <param name="Code"><c>error</c>, or the code of a warning.</param>
public sealed record RulebookFinding(string File, int Line, int Column, string Message, string Code = "error", string Mend = "");

public sealed record RulebookCheck(
    bool Sound,
    string Digest,
    IReadOnlyList<RulebookFinding> Findings,
    IReadOnlyList<RulebookFinding> Warnings
);

public sealed record WarningView(string Code, string Title, string Reason, string Mend);

public sealed record EditionSummary(int Number, string Digest, string Author, DateTimeOffset PublishedAt, string Approver = "");

public sealed record EditionDetail(
    int Number,
    string Digest,
    string Author,
    DateTimeOffset PublishedAt,
    string Name,
    string Title,
    IReadOnlyList<string> Sources,
    IReadOnlyList<string> Targets,
    IReadOnlyList<string> Templates,
    IReadOnlyList<string> Workflows,
    IReadOnlyList<RulebookFileBody> Files,
    string Approver = "",
    IReadOnlyList<string>? Pools = null,
    IReadOnlyList<string>? Separations = null
);

/// <summary>What came of publishing: an edition, or a proposal that waits for a second person.</summary>
public sealed record Published(
    EditionDetail? Edition,
    ProposalView? Proposal,
    IReadOnlyList<OpenRequestChange> Replanned,
    PublishedRollout? Rollout = null
);

/// <summary>The roll-out that publishing made: how many people would differ, how many of them would have less, for how many
/// nothing changes, how many it cannot serve, and whether the brake holds it.</summary>
public sealed record PublishedRollout(string Id, long Number, long People, long Losing, long Same, long Failing, bool Held);

public sealed record ProposalView(
    string Id,
    string Digest,
    string Author,
    DateTimeOffset At,
    string State,
    string? DecidedBy,
    DateTimeOffset? DecidedAt,
    string Remark,
    bool MayDecide,
    int Base
);

/// <summary>A proposed edition with its files.</summary>
public sealed record ProposalDetail(ProposalView Proposal, IReadOnlyList<RulebookFileBody> Files);

public sealed record ProposalBody(string? Remark);

/// <summary>An open request whose plan another rulebook would change.</summary>
public sealed record OpenRequestChange(string Id, long Number, string Kind, string Person, string State, bool AnotherWay = false);

/// <summary>One line of a difference: <c>same</c>, <c>gone</c> or <c>new</c>.</summary>
public sealed record DiffLine(string Op, int? Before, int? After, string Text);

public sealed record FileDiff(string Path, string Change, int Added, int Removed, IReadOnlyList<DiffLine> Lines);

public sealed record RulebookDiff(string From, string To, IReadOnlyList<FileDiff> Files);

public sealed record DiffBody(IReadOnlyList<RulebookFileBody> Files, int? From);

/// <summary>The draft to rehearse and, if given, records of a source as the text of a delimited file.</summary>
public sealed record RehearseBody(IReadOnlyList<RulebookFileBody> Files, string? Source, string? Hr);

public sealed record TallyView(string Name, int People, int Gained, int Lost, int Changed);

public sealed record EffectView(
    string Kind,
    string Target,
    string Subject,
    string Text,
    string Rule,
    IReadOnlyList<AttributeChangeView> Attributes
);

public sealed record AffectedView(
    string Id,
    string Number,
    string Name,
    string Department,
    string Site,
    IReadOnlyList<EffectView> Effects,
    string? Problem
);

public sealed record RehearsalView(
    string Id,
    DateTimeOffset At,
    string Against,
    int People,
    int Unchanged,
    int Changed,
    int Failing,
    long Milliseconds,
    int SetAside,
    IReadOnlyList<TallyView> ByTarget,
    IReadOnlyList<TallyView> ByEntitlement,
    IReadOnlyList<TallyView> ByTemplate,
    IReadOnlyList<TallyView> ByDepartment,
    IReadOnlyList<OpenRequestChange> OpenRequests,
    IReadOnlyList<AffectedView> Affected,
    IReadOnlyList<RulebookFinding> Warnings
);

// Explanations

public sealed record ConditionView(string Text, bool Holds, IReadOnlyList<AttributeValue> Values);

public sealed record RuleView(string Template, string Place, string Employment, bool Applies, IReadOnlyList<ConditionView> Conditions);

public sealed record ExplanationView(
    string Key,
    string Title,
    bool Wanted,
    bool Held,
    string Summary,
    IReadOnlyList<RuleView> Rules,
    string? Elsewhere
);

public sealed record PersonExplanation(
    string Id,
    string Number,
    string Person,
    int Edition,
    int Newest,
    DateTimeOffset At,
    IReadOnlyList<ExplanationView> Explanations
);

// Intake

/// <summary><c>mode</c>: full (everything is read), changes (what changed since the last run) or baseline (these people are
/// known, raise nothing). <c>person</c>: only the record that holds this key or number.</summary>
public sealed record IntakeBody(string? Mode, bool? DryRun, string? Person = null);

/// <param name="Missing">Known records that a full delivery held no more.</param>
/// <param name="Outside">Records outside the scope of the source.</param>
public sealed record IntakeCounts(
    int Read,
    int Unchanged,
    int Changed,
    int Joiners,
    int Movers,
    int Leavers,
    int SetAside,
    int Missing,
    int Adopted,
    int Corrections = 0,
    int Outside = 0
);

public sealed record SetAside(string File, int Line, string Column, string Value, string Reason, string Key = "");

/// <summary>A request that a run raised or would raise. <c>Id</c> is null when it was only looked at.</summary>
public sealed record RaisedRequest(string? Id, string Kind, string Person, string Number, string What = "");

public sealed record IntakeRun(
    string Id,
    string Source,
    string Mode,
    bool DryRun,
    string Actor,
    DateTimeOffset StartedAt,
    DateTimeOffset EndedAt,
    string Outcome,
    string Message,
    IntakeCounts Counts,
    IReadOnlyList<SetAside> SetAside,
    IReadOnlyList<RaisedRequest> Requests
);

/// <param name="State">off, on, held (a run waits under the brake) or failing.</param>
public sealed record SourceSummary(
    string Name,
    string Title,
    string Kind,
    string Path,
    string State,
    IntakeRun? LastRun,
    int SetAside,
    int Vanished,
    string? HeldRun,
    string? Schedule,
    DateTimeOffset? NextRun,
    string? Problem,
    bool On = false
);

public sealed record SourceDetail(
    SourceSummary Summary,
    IReadOnlyList<AttributeValue> Columns,
    string Key,
    IReadOnlyList<AttributeValue> Mapping,
    string? Scope,
    string Vanishing,
    string? Brake,
    string? BrakePasses,
    IReadOnlyList<AttributeValue> WriteBack,
    DateTimeOffset? TestedAt,
    string? TestOutcome,
    bool TestCounts,
    IReadOnlyDictionary<string, long> Records,
    string? ReportsTo
);

public sealed record SourceTest(bool Good, string Message, int Records, int Problems, IReadOnlyList<PreviewRow> Rows);

/// <summary>One record as it came, and the attributes made of it or what is wrong with it.</summary>
public sealed record PreviewRow(
    int Line,
    IReadOnlyList<AttributeValue> Columns,
    IReadOnlyList<AttributeValue> Attributes,
    SetAside? Problem,
    bool Outside
);

/// <summary>How many records to show, and the files of a draft whose mapping is to be used instead of the published one.</summary>
public sealed record PreviewBody(int? Limit, IReadOnlyList<RulebookFileBody>? Files);

public sealed record SwitchBody(bool On);

public sealed record HeldRun(
    string RunId,
    string Source,
    string Why,
    string State,
    DateTimeOffset At,
    string Actor,
    string Passes,
    bool MayDecide,
    IReadOnlyList<RaisedRequest> Requests
);

public sealed record RecordView(
    string Key,
    string Status,
    string? PersonId,
    string? RequestId,
    string RunId,
    IReadOnlyList<AttributeValue> Attributes
);

public sealed record VanishedBody(string Verdict, DateOnly? LastDay);

/// <summary>One or many records: each an object of the source's columns.</summary>
public sealed record RecordsBody(IReadOnlyList<System.Text.Json.JsonElement> Records);

public sealed record RecordOutcome(int Index, string Key, string Status, string? Request, string? Kind, string? Person, SetAside? Problem);

public sealed record RecordsAnswer(string RunId, string Outcome, IReadOnlyList<RecordOutcome> Records);

public sealed record SourceTokenBody(string? Label, int? Days);

public sealed record SourceToken(
    string Id,
    string Label,
    string Actor,
    DateTimeOffset CreatedAt,
    DateTimeOffset ExpiresAt,
    DateTimeOffset? EndedAt
);

public sealed record WriteBackView(
    long Id,
    string Key,
    string PersonId,
    IReadOnlyList<AttributeValue> Fields,
    string State,
    int Attempts,
    string? Problem,
    DateTimeOffset CreatedAt,
    DateTimeOffset? DoneAt
);

// People

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

public sealed record AccountView(
    string Target,
    string Name,
    string Location,
    string ImmutableId,
    bool Enabled,
    DateTimeOffset Since,
    IReadOnlyList<AttributeValue> Attributes,
    ReasonView Reason
);

public sealed record GrantView(
    string Target,
    string Entitlement,
    string Title,
    DateTimeOffset From,
    DateTimeOffset? Until,
    ReasonView Reason
);

public sealed record ReasonView(string Rule, string Place, string Condition);

public sealed record ScheduledChange(DateTimeOffset Due, string Text, string RequestId, long RequestNumber);

public sealed record PersonDetail(
    string Id,
    string Number,
    string Name,
    string Kind,
    string Department,
    string Site,
    string SiteTitle,
    string Zone,
    string Title,
    DateOnly Start,
    DateOnly? End,
    DateTimeOffset TermStart,
    DateTimeOffset? TermEnd,
    string Source,
    string? ManagerName,
    string? ManagerId,
    IReadOnlyList<AttributeValue> Record,
    IReadOnlyList<AccountView> Accounts,
    IReadOnlyList<GrantView> Grants,
    IReadOnlyList<RequestSummary> Requests,
    IReadOnlyList<ScheduledChange> Scheduled,
    DateTimeOffset? ForgottenAt = null,
    string? ForgottenBy = null,
    int? Edition = null,
    int? NewestEdition = null
);

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

// Requests

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
    string? Batch = null
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
    bool Later
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

public sealed record CandidateView(
    string Target,
    string ImmutableId,
    string Name,
    string Location,
    string MatchedBy,
    IReadOnlyList<AttributeValue> Attributes
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
    string? OnBehalf = null
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
    string WorkflowTitle = ""
);

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

// Targets

public sealed record TargetSummary(
    string Name,
    string Title,
    string Kind,
    string Address,
    string Security,
    int Accounts,
    int Waiting,
    int Failing,
    string? Problem
);

public sealed record TargetCheck(string Name, bool Reachable, string Message, string? SignedInAs, long Milliseconds);

// Ledger

/// <param name="Body">The entry with its values; those that are forgotten are named under <c>forgotten</c>.</param>
/// <param name="ForgottenAt">When values of it were forgotten, with the rule.</param>
public sealed record LedgerEntryView(
    string Id,
    DateTimeOffset At,
    string Actor,
    string Kind,
    string? PersonId,
    string? RequestId,
    long? Position,
    System.Text.Json.JsonElement Body,
    DateTimeOffset? ForgottenAt = null,
    string? ForgottenBy = null
);

/// <param name="Key">The pinned key that signs now.</param>
/// <param name="Kept">How many heads known outside the store it was held against.</param>
public sealed record LedgerVerification(
    bool Sound,
    long Entries,
    long Sealed,
    long Unsealed,
    string Root,
    int Heads,
    IReadOnlyList<string> Faults,
    long Milliseconds,
    string Key,
    int Kept
);

/// <summary>A signed head of the ledger; <paramref name="At"/> is in milliseconds since 1970, as it is signed.</summary>
public sealed record LedgerHead(long Size, string Root, long At, string Signature, string Key);

/// <summary>A key that heads are signed with, named by the one before it.</summary>
public sealed record LedgerKeyView(string Id, string PublicKey, long FromSize, DateTimeOffset Since, string NamedBy);

public sealed record LedgerVerifyBody(IReadOnlyList<LedgerHead>? Heads = null);

/// <summary>An entry with the proof that it is in the tree of a signed head (RFC 9162, section 2.1.3), and the same entry
/// exactly as it was sealed.</summary>
public sealed record LedgerProof(LedgerEntryView Entry, string Sealed, IReadOnlyList<string> Proof, LedgerHead Head, bool Holds);

// Live

/// <summary>What changed: a topic such as <c>requests</c> and the id of the thing.</summary>
public sealed record LiveHint(string Topic, string Subject);

/// <param name="OpenId">True when people can sign in by an OpenID provider.</param>
/// <param name="Problems">What does not get on, in words; null when all is well.</param>
public sealed record Readiness(
    bool Ready,
    string Store,
    int Edition,
    string Version,
    bool OpenId = false,
    IReadOnlyList<string>? Problems = null
);

// Requesting

/// <summary>An entitlement asked for, as target/entitlement. <c>from</c> and <c>until</c> are days at the person's site (until:
/// included) or RFC 3339 instants.</summary>
public sealed record GrantWish(string Entitlement, string? From = null, string? Until = null);

/// <summary>What somebody asks for by hand. <c>kind</c>: joiner, mover, leaver, access, extension, change, password, unlock or
/// account.</summary>
/// <param name="Person">The person's id or employee number; none for a joiner.</param>
/// <param name="Record">Attributes: all of a joiner, what changes of a mover.</param>
/// <param name="Template">For an account: the template on request.</param>
/// <param name="LastDay">For a leaver: the last day at work.</param>
/// <param name="Urgent">For a leaver: access ends at once.</param>
public sealed record NewRequest(
    string Kind,
    string? Person = null,
    string? Reason = null,
    IReadOnlyDictionary<string, string>? Record = null,
    IReadOnlyList<GrantWish>? Grants = null,
    string? Target = null,
    string? Template = null,
    string? From = null,
    string? Until = null,
    DateOnly? LastDay = null,
    bool? Urgent = null
);

public sealed record FieldProblem(string Field, string Message);

public sealed record OpenField(string Name, string Type, bool Mandatory, string? Value, string Title = "");

public sealed record StageView(
    string Name,
    string Title,
    string Who,
    IReadOnlyList<string> Users,
    string? Role,
    int Needed,
    bool PerItem,
    string State,
    string? Skipped,
    DateTimeOffset? Due,
    IReadOnlyList<BallotView> Ballots
);

/// <summary>What a stage wants decided: the whole (no item) or one item.</summary>
public sealed record BallotView(
    string? Item,
    string Who,
    IReadOnlyList<string> Users,
    string? Role,
    int Needed,
    IReadOnlyList<string> Given,
    bool Mine
);

public sealed record ItemView(
    string Key,
    string Title,
    string Target,
    string? Entitlement,
    bool Privileged,
    bool CanBeStruck,
    string Mark,
    IReadOnlyList<int> Ordinals
);

/// <summary>What a request would bring, before it is raised. Nothing is reserved; account names are those free now.</summary>
public sealed record RequestPreview(
    bool Sound,
    IReadOnlyList<FieldProblem> Problems,
    IReadOnlyList<OpenField> Open,
    IReadOnlyList<string> Templates,
    IReadOnlyList<ChangeView> Plan,
    IReadOnlyList<ItemView> Items,
    string Workflow,
    IReadOnlyList<StageView> Stages,
    string? Note,
    string Site = ""
);

/// <param name="Whole">The file is decided as a whole: each approver decides on all of their rows at once; and it is raised only
/// when every row is sound.</param>
public sealed record BulkBody(string Csv, bool? DryRun = null, string? Reason = null, bool? Whole = null);

public sealed record BulkRow(int Line, string Kind, string Person, bool Sound, string Message, string? Id, long? Number);

public sealed record BulkAnswer(int Rows, int Sound, int Raised, IReadOnlyList<BulkRow> Items);

public sealed record CatalogueEntry(
    string Key,
    string Title,
    string Description,
    string Kind,
    string Target,
    string? Owner,
    string? OwnerName,
    bool Privileged,
    int? MostHolders,
    long Holders
);

public sealed record OnRequestTemplate(string Name, string Title, IReadOnlyList<string> Targets);

public sealed record Catalogue(
    IReadOnlyList<CatalogueEntry> Entitlements,
    IReadOnlyList<OnRequestTemplate> Templates,
    IReadOnlyList<OpenField> Attributes,
    IReadOnlyList<SiteWords> Sites,
    IReadOnlyList<string> Departments,
    IReadOnlyList<string> Titles,
    IReadOnlyList<string> Kinds,
    IReadOnlyList<TargetWords> Targets
);

/// <summary>A site as people read it, and the time zone in which its days begin and end.</summary>
public sealed record SiteWords(string Name, string Value, string Zone);

/// <summary>A target as people read it, with what they read in the place of its attributes' names.</summary>
public sealed record TargetWords(string Name, string Title, bool HasAccounts, IReadOnlyList<AttributeValue> Attributes);

public sealed record Draft(string Id, string Title, NewRequest Body, DateTimeOffset At);

public sealed record DraftBody(string Title, NewRequest Body);

// Deciding

public sealed record TextBody(string Text);

public sealed record ReasonBody(string? Reason);

/// <summary>What is to be changed in a waiting request; only what is given changes.</summary>
public sealed record ChangeBody(
    string PlanDigest,
    IReadOnlyDictionary<string, string>? Record = null,
    IReadOnlyList<GrantWish>? Grants = null,
    string? LastDay = null,
    bool? Urgent = null,
    string? Reason = null,
    IReadOnlyList<string>? Templates = null
);

public sealed record Bound(string Id, string PlanDigest);

public sealed record ManyBody(IReadOnlyList<Bound> Requests, string? Remark = null);

public sealed record ManyAnswer(int Done, int Refused, IReadOnlyList<ManyOutcome> Items);

public sealed record ManyOutcome(string Id, long? Number, bool Done, string? Problem);

public sealed record IdsBody(IReadOnlyList<string> Ids);

/// <summary>What many requests would bring together, each with the digest that a decision is bound to.</summary>
/// <summary>How many of the people chosen gain or lose an entitlement.</summary>
public sealed record EntitlementTally(string Key, string Title, bool Privileged, int People, int Gained, int Lost);

public sealed record JointEffect(
    int Requests,
    int People,
    IReadOnlyList<EntitlementTally> ByEntitlement,
    int AccountsMade,
    int AccountsDisabled,
    int Privileged,
    IReadOnlyList<JointRequest> Items,
    IReadOnlyList<string> Notes
);

public sealed record JointRequest(
    string Id,
    long Number,
    string Kind,
    string Person,
    string PlanDigest,
    string Effect,
    bool MayApprove,
    string? WhyNot
);

public sealed record DelegationBody(
    string To,
    string Begins,
    string Ends,
    IReadOnlyList<string>? Kinds = null,
    string? Remark = null,
    string? From = null
);

/// <summary>Somebody who could decide in the caller's place.</summary>
public sealed record DelegateView(string Name, string Display);

public sealed record DelegationView(
    string Id,
    string From,
    string To,
    DateTimeOffset Begins,
    DateTimeOffset Ends,
    IReadOnlyList<string> Kinds,
    string Remark,
    string Actor,
    bool Mine
);

// Workflows

public sealed record WorkflowStageView(
    string Name,
    string Title,
    string? When,
    IReadOnlyList<string> Decides,
    IReadOnlyList<string> Otherwise,
    string Quorum,
    bool PerItem,
    bool InPart,
    IReadOnlyList<string> Skips,
    string? Deadline,
    string? Remind,
    IReadOnlyList<string> Escalates,
    string OnSilence,
    IReadOnlyList<string> MayChange,
    string Place
);

public sealed record WorkflowView(
    string Name,
    string Title,
    IReadOnlyList<string> For,
    IReadOnlyList<string> Sources,
    string? When,
    int Priority,
    IReadOnlyList<WorkflowStageView> Stages,
    string Release,
    bool FourEyes,
    string Place
);

// Desk

public sealed record TaskFieldView(string Name, string Title, bool Mandatory, string Pattern, string? Value);

public sealed record EvidenceView(string Id, string Name, string MediaType, long Size, string Hash, string Actor, DateTimeOffset At);

public sealed record TaskView(
    string Id,
    string Title,
    string Instructions,
    string Target,
    string Entitlement,
    string Kind,
    string Person,
    string PersonId,
    string Site,
    string RequestId,
    long RequestNumber,
    string State,
    string Role,
    string? TakenBy,
    DateTimeOffset Due,
    bool Late,
    DateTimeOffset CreatedAt,
    DateTimeOffset? DoneAt,
    string? DoneBy,
    IReadOnlyList<TaskFieldView> Fields,
    IReadOnlyList<string> Checks,
    bool NeedsEvidence,
    IReadOnlyList<EvidenceView> Evidence,
    string Remark
);

public sealed record TaskDoneBody(
    IReadOnlyDictionary<string, string>? Fields = null,
    IReadOnlyList<string>? Checked = null,
    string? Remark = null
);

public sealed record HandOverBody(string To);

// Today

public sealed record TodayCount(string Name, string Title, long Count, string Link);

public sealed record StarterView(
    string PersonId,
    string Person,
    string Number,
    string Department,
    string Site,
    string Start,
    string RequestId,
    long RequestNumber,
    string State,
    string Now
);

public sealed record TodayView(
    DateTimeOffset At,
    IReadOnlyList<RequestSummary> Mine,
    long MineCount,
    IReadOnlyList<TaskView> Tasks,
    long TaskCount,
    IReadOnlyList<StarterView> Starters,
    IReadOnlyList<RequestSummary> Stuck,
    long StuckCount,
    IReadOnlyList<RequestSummary> Late,
    long LateCount,
    IReadOnlyList<TargetSummary> Targets,
    IReadOnlyList<HeldRun> Held,
    IReadOnlyList<RequestSummary> Own,
    IReadOnlyList<TodayCount> Counts,
    IReadOnlyList<string> Standing,
    IReadOnlyList<RolloutSummary> Rollouts
);

/// <summary>How many requests wait for the caller.</summary>
public sealed record InboxCount(long Count);

public sealed record SavedView(string Name, string Query, DateTimeOffset At);

public sealed record SavedViewBody(string Query);

public sealed record NoticeView(
    long Id,
    string Event,
    string Subject,
    string Body,
    string? RequestId,
    DateTimeOffset At,
    bool Read,
    string MailState
);

/// <summary>How somebody wants to hear; quiet hours and gathered mails go by the clock of <paramref name="Zone"/> (IANA name,
/// UTC when not given).</summary>
public sealed record HearingBody(bool Mail, string Digest, int? QuietFrom, int? QuietUntil, string? Zone = null);

public sealed record NoticeTemplate(string Event, string Subject, string Text, bool BuiltIn);

public sealed record NoticePreviewBody(string Event, string? Subject = null, string? Text = null, bool? SendToMe = null);

public sealed record NoticePreview(string Subject, string Text, string Html, bool Sent);

// Forgetting

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
