namespace Oikonom.Contracts;

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
