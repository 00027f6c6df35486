namespace Oikonom.Contracts;

/// <summary>The roll-out of an edition in a line. <c>state</c>: held, open, running, pausing, stopped, turning-back, done,
/// turned-back or superseded.</summary>
public sealed record RolloutSummary
{
    public required string Id { get; init; }
    public required long Number { get; init; }
    public required int Edition { get; init; }
    public required string State { get; init; }
    public required string StateText { get; init; }
    public required string Author { get; init; }
    public required DateTimeOffset MadeAt { get; init; }

    /// <summary>How many would differ, <see cref="Losing"/> of them would have less; for
    /// <see cref="Same"/> nothing changes, and <see cref="Failing"/> cannot be served by the edition.</summary>
    public required long People { get; init; }
    public required long Losing { get; init; }
    public required long Same { get; init; }
    public required long Failing { get; init; }
    public required long Wave { get; init; }
    public required long Undecided { get; init; }
    public required long Approved { get; init; }
    public required long UnderWay { get; init; }
    public required long Done { get; init; }
    public required string? Problem { get; init; }
}

/// <summary>The part of a roll-out that is about one department. A decision of the caller would be about <c>covers</c>
/// people.</summary>
public sealed record RolloutDepartment(
    string Department,
    long People,
    long Losing,
    long Undecided,
    long Approved,
    long Declined,
    long Failing,
    long Done,
    string? Digest,
    long Covers,
    bool MayDecide
);

/// <summary>One wave; wave 0 holds those for whom nothing changed.</summary>
public sealed record RolloutWave(long Wave, long People, long Done, long UnderWay, long TurnedBack);

public sealed record RolloutDecision(string? Department, string Actor, string Verdict, string Remark, long People, DateTimeOffset At);

/// <summary>What the caller may do now.</summary>
public sealed record RolloutRights(bool Decide, bool Release, bool Begin, bool Stop, bool TurnBack);

/// <summary>A roll-out with all that is decided about. <c>digest</c> stands for all people nobody has decided about and the
/// caller may decide about, <c>covers</c> in number; a decision names it.</summary>
public sealed record RolloutDetail
{
    public required RolloutSummary Summary { get; init; }
    public required string? Brake { get; init; }
    public required string? ReleasedBy { get; init; }
    public required string? Digest { get; init; }
    public required long Covers { get; init; }
    public required IReadOnlyList<TallyView> Templates { get; init; }
    public required IReadOnlyList<TallyView> Entitlements { get; init; }
    public required IReadOnlyList<RolloutDepartment> Departments { get; init; }
    public required IReadOnlyList<RolloutWave> Waves { get; init; }
    public required IReadOnlyList<RolloutDecision> Decisions { get; init; }
    public required RolloutRights Rights { get; init; }
    public required long? WaveSize { get; init; }
    public required string? Pause { get; init; }
    public required DateTimeOffset? NextAt { get; init; }
    public required IReadOnlyDictionary<string, long> States { get; init; }
}

/// <summary>One person of a roll-out. <c>state</c>: open, failing, approved, declined, running, own (decided as a request of its
/// own), done, moved (by another request), turning or turned-back.</summary>
public sealed record RolloutPerson(
    string Id,
    string Number,
    string Name,
    string Department,
    string Site,
    long From,
    string State,
    long Wave,
    IReadOnlyList<EffectView> Effects,
    string? RequestId,
    string? Problem
);

/// <summary><c>verdict</c>: approve or decline. Without a department it is about all that nobody has decided about.</summary>
public sealed record RolloutDecideBody(string Verdict, string Digest, string? Department, string? Remark);

/// <summary>How many people a wave has, and the pause between two, such as PT1H; without one each wave waits to be begun.</summary>
public sealed record RolloutBeginBody(int? Size, string? Pause);

public sealed record RolloutReasonBody(string? Reason);
