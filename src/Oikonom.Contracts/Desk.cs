namespace Oikonom.Contracts;

public sealed record TaskFieldView(string Name, string Title, bool Mandatory, string Pattern, string? Value)
{
    /// <summary>The attribute of the person that the value becomes once the work is done.</summary>
    public string? Feeds { get; init; }
}

public sealed record EvidenceView(string Id, string Name, string MediaType, long Size, string Hash, string Actor, DateTimeOffset At);

public sealed record TaskView
{
    public required string Id { get; init; }
    public required string Title { get; init; }
    public required string Instructions { get; init; }
    public required string Target { get; init; }
    public required string Entitlement { get; init; }
    public required string Kind { get; init; }
    public required string Person { get; init; }
    public required string PersonId { get; init; }
    public required string Site { get; init; }
    public required string RequestId { get; init; }
    public required long RequestNumber { get; init; }
    public required string State { get; init; }
    public required string Role { get; init; }
    public required string? TakenBy { get; init; }
    public required DateTimeOffset Due { get; init; }
    public required bool Late { get; init; }
    public required DateTimeOffset CreatedAt { get; init; }
    public required DateTimeOffset? DoneAt { get; init; }
    public required string? DoneBy { get; init; }
    public required IReadOnlyList<TaskFieldView> Fields { get; init; }
    public required IReadOnlyList<string> Checks { get; init; }
    public required bool NeedsEvidence { get; init; }

    /// <summary>Somebody else than who did it confirms it before it counts.</summary>
    public required bool NeedsSecond { get; init; }

    /// <summary>Who said that it is done; it waits for somebody else to confirm it while it is open.</summary>
    public required string? ReportedBy { get; init; }
    public required DateTimeOffset? ReportedAt { get; init; }
    public required string? ConfirmedBy { get; init; }
    public required IReadOnlyList<EvidenceView> Evidence { get; init; }
    public required string Remark { get; init; }
}

public sealed record TaskDoneBody(
    IReadOnlyDictionary<string, string>? Fields = null,
    IReadOnlyList<string>? Checked = null,
    string? Remark = null
);

public sealed record HandOverBody(string To);
