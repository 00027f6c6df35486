namespace Oikonom.Contracts;

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
