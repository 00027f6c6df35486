namespace Oikonom.Contracts;

/// <summary>The roll-out of an edition in a line. <c>state</c>: held, open, running, pausing, stopped, turning-back, done,
/// turned-back or superseded.</summary>
/// <param name="People">How many would differ, <paramref name="Losing"/> of them would have less; for
/// <paramref name="Same"/> nothing changes, and <paramref name="Failing"/> cannot be served by the edition.</param>
public sealed record RolloutSummary(
    string Id,
    long Number,
    int Edition,
    string State,
    string StateText,
    string Author,
    DateTimeOffset MadeAt,
    long People,
    long Losing,
    long Same,
    long Failing,
    long Wave,
    long Undecided,
    long Approved,
    long UnderWay,
    long Done,
    string? Problem
);

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
public sealed record RolloutDetail(
    RolloutSummary Summary,
    string? Brake,
    string? ReleasedBy,
    string? Digest,
    long Covers,
    IReadOnlyList<TallyView> Templates,
    IReadOnlyList<TallyView> Entitlements,
    IReadOnlyList<RolloutDepartment> Departments,
    IReadOnlyList<RolloutWave> Waves,
    IReadOnlyList<RolloutDecision> Decisions,
    RolloutRights Rights,
    long? WaveSize,
    string? Pause,
    DateTimeOffset? NextAt,
    IReadOnlyDictionary<string, long> States
);

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
