namespace Oikonom.Contracts;

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
/// <summary>Access that ends before its time.</summary>
/// <param name="Entitlement">Account/entitlement.</param>
/// <param name="Reason">Why; only who holds it may leave it out.</param>
public sealed record EndAccessBody(string Entitlement, string? Reason = null);

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
    PlanEffect Effect,
    string Site = "",
    SitePlace? Place = null
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
    IReadOnlyList<TargetWords> Targets,
    IReadOnlyList<RequestKindWords> Requests
);

/// <summary>A site as people read it, and the time zone in which its days begin and end.</summary>
public sealed record SiteWords(string Name, string Value, string Zone);

/// <summary>A kind of request as people read it, and whether it can be raised by hand.</summary>
public sealed record RequestKindWords(string Name, string Title, bool IsByHand);

/// <summary>A target as people read it, with what they read in the place of its attributes' names.</summary>
public sealed record TargetWords(string Name, string Title, bool HasAccounts, IReadOnlyList<AttributeValue> Attributes);

public sealed record Draft(string Id, string Title, NewRequest Body, DateTimeOffset At);

public sealed record DraftBody(string Title, NewRequest Body);
