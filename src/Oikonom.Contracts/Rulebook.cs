namespace Oikonom.Contracts;

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

public sealed record EditionDetail
{
    public required int Number { get; init; }
    public required string Digest { get; init; }
    public required string Author { get; init; }
    public required DateTimeOffset PublishedAt { get; init; }
    public required string Name { get; init; }
    public required string Title { get; init; }
    public required IReadOnlyList<string> Sources { get; init; }
    public required IReadOnlyList<string> Targets { get; init; }
    public required IReadOnlyList<string> Templates { get; init; }
    public required IReadOnlyList<string> Workflows { get; init; }
    public required IReadOnlyList<RulebookFileBody> Files { get; init; }
    public required string Approver { get; init; }
    public IReadOnlyList<string>? Pools { get; init; }
    public IReadOnlyList<string>? Separations { get; init; }
}

/// <summary>What came of publishing: an edition, or a proposal that waits for a second person.</summary>
public sealed record Published(
    EditionDetail? Edition,
    ProposalView? Proposal,
    IReadOnlyList<OpenRequestChange> Replanned,
    PublishedRollout? Rollout = null
)
{
    /// <summary>Targets that the edition brings; nothing begins in them until they are let go on.</summary>
    public IReadOnlyList<string> NewTargets { get; init; } = [];
}

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

/// <summary>What a draft would do to one account or grant of a person.</summary>
/// <param name="From">The first day of it at the person's site; null when it is so at once, or from their first day.</param>
/// <param name="Until">The last day of it there; null when it lasts as long as they stay.</param>
public sealed record EffectView(
    string Kind,
    string Target,
    string Subject,
    string Text,
    string Rule,
    IReadOnlyList<AttributeChangeView> Attributes,
    DateOnly? From = null,
    DateOnly? Until = null
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

public sealed record RehearsalView
{
    public required string Id { get; init; }
    public required DateTimeOffset At { get; init; }
    public required string Against { get; init; }
    public required int People { get; init; }
    public required int Unchanged { get; init; }
    public required int Changed { get; init; }
    public required int Failing { get; init; }
    public required long Milliseconds { get; init; }
    public required int SetAside { get; init; }
    public required IReadOnlyList<TallyView> ByTarget { get; init; }
    public required IReadOnlyList<TallyView> ByEntitlement { get; init; }
    public required IReadOnlyList<TallyView> ByTemplate { get; init; }
    public required IReadOnlyList<TallyView> ByDepartment { get; init; }
    public required IReadOnlyList<OpenRequestChange> OpenRequests { get; init; }
    public required IReadOnlyList<AffectedView> Affected { get; init; }
    public required IReadOnlyList<RulebookFinding> Warnings { get; init; }
}

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
