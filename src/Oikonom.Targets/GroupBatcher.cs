using System.Collections.Concurrent;
using System.Diagnostics;

namespace Oikonom.Targets;

/// <summary>
/// Gathers membership changes per group: while one modify is under way the next ones collect, and go out as one.
/// A target pays per modify and by the size of the group, so this is what keeps large groups fast.
/// </summary>
/// <param name="refuses">Whether an error is about what was asked, so that asking for less may succeed.</param>
/// <param name="wait">How it is waited for more; by the clock unless said.</param>
internal sealed class GroupBatcher(
    Func<string, IReadOnlyList<GroupBatcher.Wish>, CancellationToken, Task> modify,
    Func<Exception, bool> refuses,
    Func<TimeSpan, Task>? wait = null
)
{
    private const int MaxBatch = 500;

    /// <summary>For how long wishes are gathered at most while many come.</summary>
    private static readonly TimeSpan MostGathering = TimeSpan.FromMilliseconds(10);

    private readonly ConcurrentDictionary<string, Queue> _queues = new(StringComparer.OrdinalIgnoreCase);

    internal sealed record Wish(string Member, bool Present, TaskCompletionSource Done);

    private sealed class Queue
    {
        /// <summary>What is to be changed with the next modify.</summary>
        public readonly List<Wish> Waiting = [];

        /// <summary>True while a modify is under way.</summary>
        public bool Running;
    }

    /// <summary>A member is in a group, or is not; what comes while a change of the group is under way goes out with the next.</summary>
    /// <exception cref="Exception">The target refuses this member; others in the same change are not harmed.</exception>
    public Task EnsureAsync(string group, string member, bool present, CancellationToken cancel)
    {
        var wish = new Wish(member, present, new(TaskCreationOptions.RunContinuationsAsynchronously));
        var queue = _queues.GetOrAdd(group, _ => new());
        lock (queue)
        {
            queue.Waiting.Add(wish);
            if (!queue.Running)
            {
                queue.Running = true;
                _ = Task.Run(() => RunAsync(group, queue), CancellationToken.None);
            }
        }
        return wish.Done.Task.WaitAsync(cancel);
    }

    private async Task RunAsync(string group, Queue queue)
    {
        var gathering = TimeSpan.Zero;
        while (true)
        {
            if (gathering > TimeSpan.Zero)
                await (wait?.Invoke(gathering) ?? Task.Delay(gathering)).ConfigureAwait(false);
            List<Wish> batch;
            lock (queue)
            {
                if (queue.Waiting.Count == 0)
                {
                    queue.Running = false;
                    return;
                }
                batch = Take(queue.Waiting);
            }
            try
            {
                var begun = Stopwatch.GetTimestamp();
                await modify(group, batch, CancellationToken.None).ConfigureAwait(false);
                foreach (var wish in batch)
                    wish.Done.TrySetResult();
                // Where several came meanwhile more will: a part of what a change takes is waited for them, since the target pays
                // by the change.
                gathering = batch.Count > 1 ? Least(Stopwatch.GetElapsedTime(begun) / 2, MostGathering) : TimeSpan.Zero;
            }
            catch (Exception error) when (batch.Count > 1 && refuses(error))
            {
                // One of them is refused: find out which, one by one, so that it stops nobody else.
                foreach (var wish in batch)
                    await AloneAsync(group, wish).ConfigureAwait(false);
            }
            catch (Exception error)
            {
                foreach (var wish in batch)
                    wish.Done.TrySetException(error);
            }
        }
    }

    private static TimeSpan Least(TimeSpan left, TimeSpan right) => left < right ? left : right;

    private async Task AloneAsync(string group, Wish wish)
    {
        try
        {
            await modify(group, [wish], CancellationToken.None).ConfigureAwait(false);
            wish.Done.TrySetResult();
        }
        catch (Exception error)
        {
            wish.Done.TrySetException(error);
        }
    }

    /// <summary>As many as go into one modify: each member once, in the order they came.</summary>
    private static List<Wish> Take(List<Wish> waiting)
    {
        var seen = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        var count = 0;
        while (count < waiting.Count && count < MaxBatch && seen.Add(waiting[count].Member))
            count++;
        var batch = waiting.GetRange(0, count);
        waiting.RemoveRange(0, count);
        return batch;
    }
}
