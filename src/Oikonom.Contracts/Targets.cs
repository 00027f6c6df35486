namespace Oikonom.Contracts;

/// <summary>A target, and how it does.</summary>
/// <param name="State"><c>unseen</c>, <c>works</c>, <c>away</c>, <c>paused</c> or <c>maintenance</c>.</param>
/// <param name="Text">The state in words: who paused it and why, what it answers, when it is tried again.</param>
/// <param name="Since">Since when it is so; null where that is not known.</param>
/// <param name="Waiting">Steps that wait, also for a later day.</param>
/// <param name="Due">Steps that wait for the target alone.</param>
/// <param name="Oldest">Since when the oldest of those waits.</param>
/// <param name="Running">Subjects whose steps are under way.</param>
/// <param name="Differing">Accounts that were changed outside.</param>
/// <param name="Done">Steps that succeeded within a day.</param>
/// <param name="Failed">Attempts within a day that did not, because of the target.</param>
/// <param name="CertificateUntil">When the target's certificate ends, as the last check saw it.</param>
/// <param name="SecretUntil">When the secret ends that it is signed in to with, as whoever set it said.</param>
public sealed record TargetSummary(
    string Name,
    string Title,
    string Kind,
    string Address,
    string Security,
    int Accounts,
    int Waiting,
    int Failing,
    string? Problem,
    int Nobodys
)
{
    public required string State { get; init; }
    public required string Text { get; init; }
    public required DateTimeOffset? Since { get; init; }
    public required DateTimeOffset? LastSuccess { get; init; }
    public required int Due { get; init; }
    public required DateTimeOffset? Oldest { get; init; }
    public required int Running { get; init; }
    public required int Differing { get; init; }
    public required int Done { get; init; }
    public required int Failed { get; init; }
    public required DateTimeOffset? CertificateUntil { get; init; }
    public required DateTimeOffset? SecretUntil { get; init; }
    public required bool CanRead { get; init; }

    /// <summary>True when it can be asked what changed since the last time.</summary>
    public required bool TellsChanges { get; init; }
    public required bool MayOperate { get; init; }
}

/// <summary>All that is known of a target.</summary>
/// <param name="Hours">What was done in it, hour by hour for two days.</param>
/// <param name="Limits">How it is worked with: how much at once, how fast, and when not at all.</param>
public sealed record TargetDetail(
    TargetSummary Summary,
    string Owner,
    IReadOnlyList<TargetFact> Limits,
    IReadOnlyList<TargetPoint> Checked,
    DateTimeOffset? CheckedAt,
    IReadOnlyList<TargetHour> Hours,
    IReadOnlyList<TargetEvent> History,
    IReadOnlyList<TargetEntitlement> Entitlements
)
{
    /// <summary>The name of who answers for it, and the id of that person; null while nobody is known by the number.</summary>
    public string? OwnerName { get; init; }
    public string? OwnerId { get; init; }

    /// <summary>True when it can be read what it gives.</summary>
    public bool HasCatalogue { get; init; }
}

/// <summary>Who holds something that a target gives.</summary>
/// <param name="Count">How many hold it, also those whom the caller does not see.</param>
/// <param name="Most">How many may; null for all.</param>
/// <param name="Items">Those first who could give it up; of very many the first.</param>
public sealed record Holders(string Title, int Count, int? Most, IReadOnlyList<Holder> Items);

/// <param name="Until">When it ends by itself; null when it does not.</param>
/// <param name="Why">Why they hold it, or could give it up, for people.</param>
/// <param name="CouldGiveUp">True when they cannot use it, when no rule gives it, or when it ends by itself.</param>
public sealed record Holder(
    string PersonId,
    string Person,
    string Number,
    string Department,
    string Site,
    DateTimeOffset Since,
    DateTimeOffset? Until,
    string Why,
    bool CouldGiveUp
);

/// <summary>What a target can give, as it was just read, beside what the newest edition of the rulebook knows of it.</summary>
/// <param name="Edition">The edition it was compared with.</param>
/// <param name="Entries">How many things were read.</param>
/// <param name="Digest">Stands for what was read: only that is published.</param>
/// <param name="Differs">True when the rulebook's files of it would be others.</param>
/// <param name="Files">What these files would be.</param>
/// <param name="UnknownOwners">Who answers for something by the target's word and is nobody known; those things have no owner here.</param>
public sealed record TargetCatalogue(
    string Target,
    int Edition,
    int Entries,
    string Digest,
    bool Differs,
    CataloguePart New,
    CataloguePart Changed,
    CataloguePart Gone,
    IReadOnlyList<RulebookFileBody> Files,
    IReadOnlyList<string> UnknownOwners
);

/// <param name="Count">How many there are.</param>
/// <param name="Items">Of very many the first.</param>
public sealed record CataloguePart(int Count, IReadOnlyList<CatalogueItem> Items);

/// <summary>Something that a target can give, or could give once.</summary>
/// <param name="Kind"><c>group</c>, <c>role</c> or <c>licence</c>.</param>
/// <param name="Owner">Employee number of who answers for it, or null.</param>
/// <param name="Before">What the rulebook said of it, where that is something else.</param>
/// <param name="Uses">Where the rulebook gives it or rules about it, for people.</param>
/// <param name="Holders">How many people hold it by what was decided here.</param>
public sealed record CatalogueItem(
    string Name,
    string Title,
    string Kind,
    string Description,
    string? Owner,
    string? Before,
    IReadOnlyList<string> Uses,
    int Holders
)
{
    /// <summary>The name of who answers for it.</summary>
    public string? OwnerName { get; init; }
}

/// <param name="Digest">Of the catalogue that was looked at.</param>
public sealed record CataloguePublishing(string? Digest);

public sealed record TargetFact(string Name, string Value);

/// <summary>Something that a check looked at.</summary>
public sealed record TargetPoint(string What, bool Good, string Text);

public sealed record TargetHour(DateTimeOffset At, int Done, int Failed);

/// <param name="Kind"><c>paused</c>, <c>resumed</c>, <c>away</c>, <c>back</c>, <c>read</c> or <c>looked</c>.</param>
public sealed record TargetEvent(DateTimeOffset At, string Kind, string Actor, string Text);

/// <param name="Most">The most people that may hold it; null for any number.</param>
public sealed record TargetEntitlement(string Name, string Title, string Kind, int Holders, int? Most)
{
    /// <summary>True when the target alone tells of it.</summary>
    public bool Read { get; init; }

    /// <summary>True when others put people into it, too.</summary>
    public bool Shared { get; init; }
}

/// <summary>How a target is read whole: with <c>dryRun</c> nothing but what was found is written down.</summary>
public sealed record ReconcileBody(bool DryRun)
{
    /// <summary>Read only what changed since the last time; not with <c>dryRun</c>.</summary>
    public bool Changes { get; init; }
}

/// <summary>A target that was read whole.</summary>
/// <param name="Entries">How many entries were read.</param>
/// <param name="Classes">How many of each class; those that are as decided come first.</param>
public sealed record Reconciliation(
    string Id,
    string Target,
    DateTimeOffset At,
    string Actor,
    bool DryRun,
    long Milliseconds,
    int Entries,
    IReadOnlyList<ClassCount> Classes
)
{
    /// <summary>True when only what changed was read.</summary>
    public bool Changes { get; init; }
}

/// <param name="Name">The class: <c>as-decided</c>, <c>drift</c>, <c>surplus</c> …</param>
/// <param name="Meaning">What it means, for people.</param>
public sealed record ClassCount(string Name, int Count, string Meaning);

/// <summary>An entry that is not as decided.</summary>
public sealed record ReconciliationItem(
    string Class,
    string Account,
    string Location,
    string? PersonId,
    string? Person,
    string? Number,
    string Text
);

/// <param name="Items">Of very many the first; the counts are whole.</param>
public sealed record ReconciliationDetail(Reconciliation Summary, IReadOnlyList<ReconciliationItem> Items);

/// <summary>Why nothing shall begin in a target.</summary>
public sealed record PauseBody(string? Reason);

/// <param name="Person">The number or the id of a person.</param>
public sealed record RunNowBody(string? Person);

/// <summary>What begins now because somebody said so.</summary>
/// <param name="Steps">How many steps are due.</param>
/// <param name="Requests">Their requests.</param>
public sealed record RunningNow(string Display, int Steps, IReadOnlyList<RequestSummary> Requests);

/// <summary>An account that was found in a target and belongs to nobody.</summary>
/// <param name="Purpose"><c>unmatched</c>, <c>shared</c> or <c>service</c>.</param>
/// <param name="OwnerNumber">Who answers for it; null while nobody does.</param>
/// <param name="Until">When it ends, as it was approved.</param>
/// <param name="Request">The open request about it.</param>
/// <param name="Review">When it is asked about again, while it is ignored.</param>
public sealed record NobodysAccountView(
    string Id,
    string Target,
    string TargetTitle,
    string Name,
    string Location,
    bool Enabled,
    string Purpose,
    string? OwnerNumber,
    string? OwnerName,
    DateTimeOffset Since,
    DateTimeOffset? Until,
    long? Request,
    DateTimeOffset? Review
);

/// <summary>What an account that belongs to nobody is, and the number of the person who answers for it.</summary>
/// <param name="Until">For one that is ignored: the last day on which nobody is asked.</param>
public sealed record AccountMark(string? Purpose, string? Owner, string? Remark, DateOnly? Until = null);

/// <summary>The same said of several accounts.</summary>
/// <param name="Accounts">Their ids, 500 at most.</param>
public sealed record AccountMarks(IReadOnlyList<string>? Accounts, AccountMark? Mark);

/// <summary>The end of several accounts asked for.</summary>
/// <param name="Accounts">Their ids, 500 at most.</param>
public sealed record AccountClosings(IReadOnlyList<string>? Accounts, AccountClosing? Closing);

/// <summary>Whose an account is: the number of the person, and why.</summary>
public sealed record AccountLink(string? Person, string? Reason);

/// <summary>What became of one of several accounts.</summary>
/// <param name="Problem">Why nothing did; null when it was done.</param>
/// <param name="Request">The number of the request that was raised about it.</param>
public sealed record AccountDecided(string Id, string Name, string? Problem, long? Request = null);

/// <param name="LastDay">The last day on which it may be used, at the owner's site; null closes it once that is approved.</param>
/// <param name="Keep">It stays, and the end that was approved is taken back.</param>
public sealed record AccountClosing(DateOnly? LastDay, string? Reason, bool Keep = false);

/// <param name="Points">What was looked at one after the other, up to what is wrong.</param>
public sealed record TargetCheck(
    string Name,
    bool Reachable,
    string Message,
    string? SignedInAs,
    long Milliseconds,
    IReadOnlyList<TargetPoint> Points,
    DateTimeOffset? CertificateUntil = null
);
