using System.Collections.Concurrent;

namespace Oikonom.Service.Common;

/// <summary>
/// The heartbeat of each background loop: whether it gets on. Readiness and Today tell of those that do not, so that
/// nothing stands still unseen.
/// </summary>
public sealed class Pulse(TimeProvider time)
{
    private const int ManyFailures = 3;
    private readonly ConcurrentDictionary<string, Beat> _beats = new(StringComparer.Ordinal);

    /// <summary>How a loop stands.</summary>
    /// <param name="Since">When it last got on.</param>
    /// <param name="Begun">When the work that is under way began; null while it rests.</param>
    private sealed record Beat(DateTimeOffset Since, DateTimeOffset? Begun, int Failures, string Problem, TimeSpan Patience);

    /// <summary>A loop that does not get on.</summary>
    public sealed record Standstill(string Loop, DateTimeOffset Since, string Problem);

    /// <summary>Work begins. It may take as long as <paramref name="patience"/> before it counts as hanging.</summary>
    public void Begin(string loop, TimeSpan patience) =>
        _beats.AddOrUpdate(
            loop,
            _ => new(time.GetUtcNow(), time.GetUtcNow(), 0, "", patience),
            (_, beat) => beat with { Begun = time.GetUtcNow(), Patience = patience }
        );

    /// <summary>The work was done, and the loop gets on.</summary>
    public void Good(string loop) =>
        _beats.AddOrUpdate(
            loop,
            _ => new(time.GetUtcNow(), null, 0, "", TimeSpan.MaxValue),
            (_, beat) => beat with { Since = time.GetUtcNow(), Begun = null, Failures = 0, Problem = "" }
        );

    /// <summary>The work failed and is tried again.</summary>
    public void Bad(string loop, string problem) =>
        _beats.AddOrUpdate(
            loop,
            _ => new(time.GetUtcNow(), null, 1, problem, TimeSpan.MaxValue),
            (_, beat) => beat with { Begun = null, Failures = beat.Failures + 1, Problem = problem }
        );

    /// <summary>The loops that do not get on: they failed several times in a row, or hang.</summary>
    public IReadOnlyList<Standstill> Standing()
    {
        var now = time.GetUtcNow();
        var found = new List<Standstill>();
        foreach (var (loop, beat) in _beats.OrderBy(b => b.Key, StringComparer.Ordinal))
        {
            if (beat.Failures >= ManyFailures)
                found.Add(new(loop, beat.Since, beat.Problem));
            else if (beat.Begun is { } begun && now - begun > beat.Patience)
                found.Add(
                    new(loop, beat.Since, $"It works on something since {begun.UtcDateTime:HH:mm:ss} UTC and does not come to an end.")
                );
        }
        return found;
    }
}
