using Oikonom.Core.Time;

namespace Oikonom.Core.Fulfilment;

/// <summary>
/// Whether a target is asked at all: after a few failures in a row it is left alone for a while, longer each time, and then tried with
/// one piece of work; the first success lets everything through again. Pure.
/// </summary>
/// <param name="Failures">How often in a row it did not answer well, while it was asked.</param>
/// <param name="Opened">How often in a row it was left alone; 0 while it is well.</param>
/// <param name="Until">Until when it is left alone.</param>
/// <param name="Since">When the first failure in a row was; null while it is well.</param>
/// <param name="Problem">What it said last, or "".</param>
public sealed record Circuit(int Failures, int Opened, DateTimeOffset Until, DateTimeOffset? Since, string Problem)
{
    private const int Bearable = 5;
    private static readonly BackOff Resting = new(TimeSpan.FromSeconds(5), TimeSpan.FromMinutes(5));
    private static readonly TimeSpan LongestAsked = TimeSpan.FromHours(1);

    /// <summary>A target that is well.</summary>
    public static readonly Circuit Closed = new(0, 0, DateTimeOffset.MinValue, null, "");

    /// <summary>True while it is not asked as usual.</summary>
    public bool IsOpen => Opened > 0;

    /// <summary>How many pieces of work may be under way: none, one to try, or any number.</summary>
    public int Allows(DateTimeOffset now) =>
        Until > now ? 0
        : IsOpen ? 1
        : int.MaxValue;

    /// <summary>It was not there, or could not.</summary>
    /// <param name="asked">How long it asks to be left alone; an hour at most is given.</param>
    public Circuit Failed(DateTimeOffset now, string problem, TimeSpan? asked)
    {
        var wait =
            asked is { } wish && wish < LongestAsked ? wish
            : asked is null ? TimeSpan.Zero
            : LongestAsked;
        var failed = this with { Since = Since ?? now, Problem = problem };
        // What was under way when it was left alone says nothing new.
        if (Until > now)
            return failed with { Until = Max(Until, now + wait) };
        if (asked is not null)
            return failed with { Until = now + wait };
        return Failures + 1 < Bearable && !IsOpen
            ? failed with
            {
                Failures = Failures + 1,
            }
            : failed with
            {
                Failures = Failures + 1,
                Opened = Opened + 1,
                Until = now + Resting.After(Opened),
            };
    }

    private static DateTimeOffset Max(DateTimeOffset a, DateTimeOffset b) => a > b ? a : b;
}
