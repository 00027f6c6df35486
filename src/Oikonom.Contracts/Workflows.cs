namespace Oikonom.Contracts;

public sealed record WorkflowStageView
{
    public required string Name { get; init; }
    public required string Title { get; init; }
    public required string? When { get; init; }
    public required IReadOnlyList<string> Decides { get; init; }
    public required IReadOnlyList<string> Otherwise { get; init; }
    public required string Quorum { get; init; }
    public required bool PerItem { get; init; }
    public required bool InPart { get; init; }
    public required IReadOnlyList<string> Skips { get; init; }
    public required string? Deadline { get; init; }
    public required string? Remind { get; init; }
    public required IReadOnlyList<string> Escalates { get; init; }
    public required string OnSilence { get; init; }
    public required IReadOnlyList<string> MayChange { get; init; }
    public required string Place { get; init; }
}

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
