using System.Collections.Concurrent;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Rulebook;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Connectors;

/// <summary>
/// What this node sees of its targets: what succeeds, what does not, and whether a target is left alone. It counts in memory, so that
/// no decision waits for it; <see cref="Take"/> gives what is to be written down.
/// </summary>
public sealed class TargetMeter(TimeProvider time)
{
    private sealed class Gauge
    {
        public Circuit Circuit = Circuit.Closed;
        public long Done;
        public long Failed;
        public long? GoodAt;
        public long? BadAt;
        public bool IsNew;
        public DateTimeOffset NextTurn;
    }

    private readonly ConcurrentDictionary<string, Gauge> _gauges = new();

    /// <summary>What was seen of a target since the last time: for the store.</summary>
    public sealed record Reading(TargetStateRow State, long Done, long Failed);

    /// <summary>How many pieces of work may be under way in a target.</summary>
    public int Allows(string target)
    {
        if (!_gauges.TryGetValue(target, out var gauge))
            return int.MaxValue;
        lock (gauge)
            return gauge.Circuit.Allows(time.GetUtcNow());
    }

    /// <summary>Something succeeded.</summary>
    public void Reached(string target) =>
        With(
            target,
            gauge =>
            {
                (gauge.Circuit, gauge.GoodAt) = (Circuit.Closed, time.GetUtcNow().ToUnixTimeMilliseconds());
                gauge.Done++;
            }
        );

    /// <summary>The target was not there, or could not.</summary>
    /// <param name="asked">How long it asks to be left alone.</param>
    public void Failed(string target, string problem, TimeSpan? asked) =>
        With(
            target,
            gauge =>
            {
                var now = time.GetUtcNow();
                (gauge.Circuit, gauge.BadAt) = (gauge.Circuit.Failed(now, problem, asked), now.ToUnixTimeMilliseconds());
                gauge.Failed++;
            }
        );

    private void With(string target, Action<Gauge> change)
    {
        var gauge = _gauges.GetOrAdd(target, _ => new());
        lock (gauge)
        {
            change(gauge);
            gauge.IsNew = true;
        }
    }

    /// <summary>Waits until the next step may begin in a target with a rate.</summary>
    public async Task TurnAsync(TargetRule target, CancellationToken cancel)
    {
        if (target.Rate is not { } rate)
            return;
        var gauge = _gauges.GetOrAdd(target.Name, _ => new());
        TimeSpan wait;
        lock (gauge)
        {
            var now = time.GetUtcNow();
            var turn = gauge.NextTurn > now ? gauge.NextTurn : now;
            gauge.NextTurn = turn + TimeSpan.FromSeconds(1.0 / rate);
            wait = turn - now;
        }
        if (wait > TimeSpan.Zero)
            await Task.Delay(wait, time, cancel);
    }

    /// <summary>What was seen since the last time.</summary>
    public IReadOnlyList<Reading> Take()
    {
        var taken = new List<Reading>();
        foreach (var (target, gauge) in _gauges)
            lock (gauge)
            {
                if (!gauge.IsNew)
                    continue;
                gauge.IsNew = false;
                var circuit = gauge.Circuit;
                taken.Add(
                    new(
                        new()
                        {
                            Target = target,
                            AwayAt = circuit.IsOpen ? circuit.Since?.ToUnixTimeMilliseconds() : null,
                            RetryAt = circuit.Until > DateTimeOffset.UnixEpoch ? circuit.Until.ToUnixTimeMilliseconds() : 0,
                            Problem = circuit.Problem,
                            GoodAt = gauge.GoodAt,
                            BadAt = gauge.BadAt,
                        },
                        gauge.Done,
                        gauge.Failed
                    )
                );
                (gauge.Done, gauge.Failed) = (0, 0);
            }
        return taken;
    }
}
