using System.Collections.Concurrent;
using System.Diagnostics;
using Oikonom.Core.Fulfilment;
using Oikonom.Service.Common;
using Oikonom.Service.Connectors;
using Oikonom.Service.Editions;
using Oikonom.Service.Records;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>
/// Claims chains with due steps and carries them out: one after the other for one account, many accounts at once,
/// each target with a limit of its own. Each step is looked at again before it runs.
/// </summary>
public sealed partial class FulfilmentLoop(
    Store.Store store,
    EditionBook editions,
    ConnectorBook connectors,
    OutcomeWriter writer,
    TargetMeter meter,
    ServiceOptions options,
    TimeProvider time,
    Pulse pulse,
    ILogger<FulfilmentLoop> log
) : Loop(TimeSpan.FromMilliseconds(500), pulse, log)
{
    /// <summary>A step that takes longer than this is believed to hang: its lease is left to run out, and its fence holds.</summary>
    private static readonly TimeSpan Longest = TimeSpan.FromMinutes(10);

    /// <summary>How many subjects are begun at once because somebody said so.</summary>
    private const int MostNow = 8;

    /// <summary>Which part of what a target bears has to be free before more is claimed.</summary>
    private const int AtOnce = 4;

    /// <summary>How often it is looked whether something was left open.</summary>
    private static readonly TimeSpan BetweenSweeps = TimeSpan.FromSeconds(10);

    private readonly Stopwatch _swept = new();
    private readonly ConcurrentDictionary<string, int> _running = new();

    /// <summary>What is being worked on: since when, and when its lease was begun or renewed, in milliseconds.</summary>
    private readonly ConcurrentDictionary<Claim, (long Since, long Renewed)> _held = new();

    private long Lease => (long)(options.LeaseSeconds * 1000);

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        await RenewAsync(cancel);
        await SweepAsync(cancel);
        var more = false;
        // A target that the newest edition has no more is served while somebody is on an edition that has it.
        var targets = (await editions.InUseAsync(TimeSpan.FromSeconds(2), cancel))
            .SelectMany(e => e.Rulebook.Targets.Values)
            .DistinctBy(t => t.Name)
            .ToList();
        var (paused, asked, waiting) = await store.ReadAsync(
            async s =>
                (
                    (await s.TargetStatesAsync()).Where(t => t.PausedBy.Length > 0).Select(t => t.Target).ToHashSet(),
                    await s.RunNowTargetsAsync(time.Milliseconds()),
                    await s.WaitingTargetsAsync([.. targets.Select(t => t.Name)], time.Milliseconds())
                ),
            cancel
        );
        foreach (var target in targets)
        {
            if (asked.Contains(target.Name))
                await ClaimAsync(
                    target.Name,
                    MostNow,
                    (s, now, until) => s.ClaimRunNowAsync(target.Name, options.Node, now, until, MostNow),
                    cancel
                );
            // What is under way ends; nothing else begins.
            if (!waiting.Contains(target.Name) || paused.Contains(target.Name) || target.Maintenance?.Covers(time.GetUtcNow()) == true)
                continue;
            var most = Math.Min(target.Settings.Parallel, meter.Allows(target.Name));
            var free = most - _running.GetValueOrDefault(target.Name);
            // Some at once: each claim asks the disk.
            if (free < Math.Max(1, most / AtOnce))
                continue;
            more |= await ClaimAsync(
                target.Name,
                free,
                (s, now, until) => s.ClaimChainsAsync(target.Name, options.Node, now, until, free),
                cancel
            );
        }
        return more;
    }

    private async Task SweepAsync(CancellationToken cancel)
    {
        if (_swept.IsRunning && _swept.Elapsed < BetweenSweeps)
            return;
        _swept.Restart();
        await writer.SweepAsync(cancel);
    }

    /// <summary>Claims chains of a target and begins with them. True when there may be more.</summary>
    private async Task<bool> ClaimAsync(
        string target,
        int most,
        Func<Store.Session, long, long, Task<IReadOnlyList<ChainRow>>> claim,
        CancellationToken cancel
    )
    {
        var now = time.Milliseconds();
        var claims = await store.WriteAsync(s => claim(s, now, now + Lease), cancel);
        if (claims.Count > 0)
            await StartAsync(target, [.. claims.Select(c => new Claim(c.SubjectId, c.Target, c.Fence))], now, cancel);
        return claims.Count == most;
    }

    /// <summary>Keeps the leases of what is still being worked on, so that nobody begins it a second time.</summary>
    private async Task RenewAsync(CancellationToken cancel)
    {
        var now = time.Milliseconds();
        var old = _held.Where(h => now - h.Value.Renewed > Lease / 3 && now - h.Value.Since < Longest.TotalMilliseconds).ToList();
        if (old.Count == 0)
            return;
        await store.WriteAsync(s => s.RenewChainsAsync([.. old.Select(h => h.Key.Row)], now + Lease), cancel);
        foreach (var (claim, held) in old)
            _held.TryUpdate(claim, held with { Renewed = now }, held);
    }

    private async Task StartAsync(string target, IReadOnlyList<Claim> claims, long claimedAt, CancellationToken cancel)
    {
        var (steps, subjects) = await store.ReadAsync(
            async s =>
            {
                var due = await s.DueStepsAsync([.. claims.Select(c => c.Row)], time.Milliseconds());
                return (due, await SubjectRecord.LoadAsync(s, [.. due.Select(x => (x.SubjectKind, x.SubjectId))]));
            },
            cancel
        );
        var bySubject = steps.ToLookup(s => s.SubjectId);
        _running.AddOrUpdate(target, claims.Count, (_, running) => running + claims.Count);
        foreach (var claim in claims)
        {
            _held[claim] = (claimedAt, claimedAt);
            _ = Task.Run(
                () => RunAsync(claim, [.. bySubject[claim.SubjectId]], subjects.GetValueOrDefault(claim.SubjectId), cancel),
                CancellationToken.None
            );
        }
    }

    private async Task RunAsync(Claim claim, IReadOnlyList<StepRow> steps, SubjectRecord? subject, CancellationToken cancel)
    {
        try
        {
            var chain = subject is null ? null : new Chain(claim, subject, store, editions, connectors, meter, time);
            var blocked = false;
            foreach (var step in steps)
            {
                // What takes access away waits for nothing else.
                if (blocked && step.Removes == 0)
                    continue;
                var outcome = await chain!.AttemptAsync(step, cancel);
                await writer.WriteAsync(new Written.Step(outcome), cancel);
                if (outcome.Replan is not null || outcome.Ending is AttemptOutcome.Transient or AttemptOutcome.Lasting)
                    blocked = true;
            }
            await writer.WriteAsync(new Written.End(claim), cancel);
        }
        catch (OperationCanceledException)
        {
            // Stopping: the lease ends by itself, and the steps may be repeated.
        }
        catch (Exception error)
        {
            // The lease is left to run out, which is the pause before the next try.
            LogFailure(log, claim.SubjectId, claim.Target, error);
        }
        finally
        {
            _held.TryRemove(claim, out _);
            _running.AddOrUpdate(claim.Target, 0, (_, running) => running - 1);
            Wake();
        }
    }

    [LoggerMessage(Level = LogLevel.Error, Message = "The steps of {Subject} in {Target} failed unexpectedly")]
    private static partial void LogFailure(ILogger log, string subject, string target, Exception error);
}
