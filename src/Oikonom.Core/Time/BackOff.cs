namespace Oikonom.Core.Time;

/// <summary>How long one waits after something went wrong in a row: the first pause doubled each time, up to a longest.</summary>
public readonly record struct BackOff(TimeSpan First, TimeSpan Longest)
{
    /// <summary>For work that waits for a system outside: 1 s, 2 s, 4 s … at most 5 minutes.</summary>
    public static readonly BackOff ForWork = new(TimeSpan.FromSeconds(1), TimeSpan.FromMinutes(5));

    /// <param name="times">How often it was doubled already, from 0 on; less counts as 0.</param>
    public TimeSpan After(int times)
    {
        // Beyond 2^40 any first pause is longer than any longest.
        var pause = First.TotalMilliseconds * Math.Pow(2, Math.Clamp(times, 0, 40));
        return pause >= Longest.TotalMilliseconds ? Longest : TimeSpan.FromMilliseconds(pause);
    }

    /// <summary>The pause in whole milliseconds.</summary>
    public long Milliseconds(long times) => (long)After((int)Math.Min(times, int.MaxValue)).TotalMilliseconds;
}
