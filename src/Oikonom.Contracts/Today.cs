namespace Oikonom.Contracts;

public sealed record TodayCount(string Name, string Title, long Count, string Link);

public sealed record StarterView(
    string PersonId,
    string Person,
    string Number,
    string Department,
    string Site,
    string Start,
    string RequestId,
    long RequestNumber,
    string State,
    string Now
);

/// <summary>Something that nobody's request tells and somebody should look at.</summary>
/// <param name="Kind">disagreement, vanished, set-aside, changed-outside, ends-soon or unknown-manager.</param>
/// <param name="Link">The page on which it is solved.</param>
public sealed record AttentionView(string Kind, string Text, string Link);

public sealed record TodayView
{
    public required DateTimeOffset At { get; init; }
    public required IReadOnlyList<RequestSummary> Mine { get; init; }
    public required long MineCount { get; init; }
    public required IReadOnlyList<TaskView> Tasks { get; init; }
    public required long TaskCount { get; init; }
    public required IReadOnlyList<StarterView> Starters { get; init; }
    public required IReadOnlyList<RequestSummary> Stuck { get; init; }
    public required long StuckCount { get; init; }
    public required IReadOnlyList<RequestSummary> Late { get; init; }
    public required long LateCount { get; init; }
    public required IReadOnlyList<TargetSummary> Targets { get; init; }
    public required IReadOnlyList<HeldRun> Held { get; init; }
    public required IReadOnlyList<RequestSummary> Own { get; init; }
    public required IReadOnlyList<TodayCount> Counts { get; init; }
    public required IReadOnlyList<string> Standing { get; init; }
    public required IReadOnlyList<RolloutSummary> Rollouts { get; init; }
    public required IReadOnlyList<AttentionView> Attention { get; init; }
}

/// <summary>How many requests wait for the caller.</summary>
public sealed record InboxCount(long Count);

public sealed record SavedView(string Name, string Query, DateTimeOffset At);

public sealed record SavedViewBody(string Query);

public sealed record NoticeView(
    long Id,
    string Event,
    string Subject,
    string Body,
    string? RequestId,
    DateTimeOffset At,
    bool Read,
    string MailState
);

/// <summary>How somebody wants to hear; quiet hours and gathered mails go by the clock of <paramref name="Zone"/> (IANA name,
/// UTC when not given).</summary>
public sealed record HearingBody(bool Mail, string Digest, int? QuietFrom, int? QuietUntil, string? Zone = null);

public sealed record NoticeTemplate(string Event, string Subject, string Text, bool BuiltIn);

public sealed record NoticePreviewBody(string Event, string? Subject = null, string? Text = null, bool? SendToMe = null);

public sealed record NoticePreview(string Subject, string Text, string Html, bool Sent);
