namespace Oikonom.Contracts;

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
/// <param name="Text">What happened in a sentence with its days; told by a dry run.</param>
/// <param name="Changes">The attributes of the record that differ, all of somebody new; told by a dry run.</param>
public sealed record RaisedRequest(
    string? Id,
    string Kind,
    string Person,
    string Number,
    string What = "",
    string? Text = null,
    IReadOnlyList<AttributeChangeView>? Changes = null
);

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

public sealed record SourceSummary
{
    public required string Name { get; init; }
    public required string Title { get; init; }
    public required string Kind { get; init; }
    public required string Path { get; init; }

    /// <summary>off, on, held (a run waits under the brake) or failing.</summary>
    public required string State { get; init; }
    public required IntakeRun? LastRun { get; init; }
    public required int SetAside { get; init; }
    public required int Vanished { get; init; }
    public required string? HeldRun { get; init; }
    public required string? Schedule { get; init; }
    public required DateTimeOffset? NextRun { get; init; }
    public required string? Problem { get; init; }
    public required bool On { get; init; }
}

public sealed record SourceDetail
{
    public required SourceSummary Summary { get; init; }
    public required IReadOnlyList<AttributeValue> Columns { get; init; }
    public required string Key { get; init; }
    public required IReadOnlyList<AttributeValue> Mapping { get; init; }
    public required string? Scope { get; init; }
    public required string Vanishing { get; init; }
    public required string? Brake { get; init; }
    public required string? BrakePasses { get; init; }
    public required IReadOnlyList<AttributeValue> WriteBack { get; init; }
    public required DateTimeOffset? TestedAt { get; init; }
    public required string? TestOutcome { get; init; }
    public required bool TestCounts { get; init; }
    public required IReadOnlyDictionary<string, long> Records { get; init; }
    public required string? ReportsTo { get; init; }
}

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
