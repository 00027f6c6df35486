namespace Oikonom.Service.Common;

/// <summary>
/// Tells whether records pour in right now. Then taking them goes first, and the planning of what follows from them
/// keeps to one batch a second until it is quieter.
/// </summary>
public sealed class Pressure(TimeProvider time)
{
    private const int Many = 50;
    private readonly Lock _gate = new();
    private long _second;
    private int _now;
    private int _before;

    public void Note()
    {
        lock (_gate)
        {
            Turn();
            _now++;
        }
    }

    public bool IsHigh
    {
        get
        {
            lock (_gate)
            {
                Turn();
                return Math.Max(_now, _before) >= Many;
            }
        }
    }

    private void Turn()
    {
        var second = time.GetTimestamp() / time.TimestampFrequency;
        if (second == _second)
            return;
        (_before, _now, _second) = (second == _second + 1 ? _now : 0, 0, second);
    }
}
