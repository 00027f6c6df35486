namespace Oikonom.Contracts;

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
);

/// <summary>An account that was found in a target and belongs to nobody.</summary>
/// <param name="Purpose"><c>unmatched</c>, <c>shared</c> or <c>service</c>.</param>
/// <param name="OwnerNumber">Who answers for it; null while nobody does.</param>
/// <param name="Until">When it ends, as it was approved.</param>
/// <param name="Request">The open request about it.</param>
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
    long? Request
);

/// <summary>What an account that belongs to nobody is, and the number of the person who answers for it.</summary>
public sealed record AccountMark(string? Purpose, string? Owner, string? Remark);

/// <param name="LastDay">The last day on which it may be used, at the owner's site; null closes it once that is approved.</param>
/// <param name="Keep">It stays, and the end that was approved is taken back.</param>
public sealed record AccountClosing(DateOnly? LastDay, string? Reason, bool Keep = false);

public sealed record TargetCheck(string Name, bool Reachable, string Message, string? SignedInAs, long Milliseconds);
