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
    string? Problem
);

public sealed record TargetCheck(string Name, bool Reachable, string Message, string? SignedInAs, long Milliseconds);
