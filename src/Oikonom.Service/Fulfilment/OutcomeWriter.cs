using System.Threading.Channels;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Ledger;
using Oikonom.Core.Planning;
using Oikonom.Core.Time;
using Oikonom.Service.Common;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>
/// Commits outcomes in groups: whatever waits goes into one transaction, so the disk is asked once for many
/// steps. What a lost lease reports is recorded and decides nothing. What follows from outcomes, such as tasks, links,
/// notices and completion, is <see cref="Aftermath"/>, in the same transaction.
/// </summary>
public sealed partial class OutcomeWriter(
    Store.Store store,
    Aftermath aftermath,
    ServiceOptions options,
    TimeProvider time,
    Pulse pulse,
    ILogger<OutcomeWriter> log
) : BackgroundService
{
    private const int MaxGroup = 400;

    /// <summary>As many outcomes at once mean that more will follow.</summary>
    private const int Busy = 4;

    /// <summary>For how long outcomes are gathered while many come: nobody waits for them, since what comes next in a chain begins
    /// before they are committed, and each commit asks the disk.</summary>
    private static readonly TimeSpan Gathering = TimeSpan.FromMilliseconds(40);

    /// <summary>For how long a request is let alone of which nothing is left to do.</summary>
    private static readonly TimeSpan Unended = TimeSpan.FromSeconds(5);
    private static readonly TimeSpan Patience = TimeSpan.FromMinutes(2);

    /// <summary>Who asks to be left alone for longer is asked again all the same.</summary>
    private static readonly TimeSpan LongestRest = TimeSpan.FromHours(1);
    private static readonly BackOff Resting = new(TimeSpan.FromMilliseconds(100), TimeSpan.FromSeconds(6.4));
    private readonly Channel<Written> _channel = Channel.CreateBounded<Written>(4096);

    /// <summary>Raised after a group is committed.</summary>
    public event Action? Freed;

    public ValueTask WriteAsync(Written written, CancellationToken cancel) => _channel.Writer.WriteAsync(written, cancel);

    /// <summary>Ends requests of which nothing is left to do and that nobody ended, whatever came between.</summary>
    /// <returns>How many there were.</returns>
    public async Task<int> SweepAsync(CancellationToken cancel)
    {
        var left = await store.ReadAsync(s => s.LeftOpenAsync(time.Milliseconds() - (long)Unended.TotalMilliseconds, MaxGroup), cancel);
        if (left.Count > 0)
        {
            await store.WriteAsync(s => aftermath.CompleteAsync(s, left, time.GetUtcNow()), cancel);
            LogSwept(log, left.Count);
        }
        return left.Count;
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        var group = new List<Written>();
        try
        {
            while (await _channel.Reader.WaitToReadAsync(stoppingToken))
            {
                if (group.Count >= Busy && _channel.Reader.Count < MaxGroup)
                    await Task.Delay(Gathering, stoppingToken);
                group.Clear();
                while (group.Count < MaxGroup && _channel.Reader.TryRead(out var written))
                    group.Add(written);
                await CommitAsync(group, stoppingToken);
                Freed?.Invoke();
            }
        }
        catch (OperationCanceledException) when (stoppingToken.IsCancellationRequested)
        {
            // The leases end by themselves; every step may be repeated.
        }
    }

    /// <summary>
    /// One outcome never blocks another: when the store refuses a group, each goes alone, in order, and the one at
    /// fault stops with a problem that people see. While the store is away, all of them wait.
    /// </summary>
    private async Task CommitAsync(List<Written> group, CancellationToken cancel)
    {
        for (var failures = 0; ; failures++)
        {
            try
            {
                pulse.Begin(nameof(OutcomeWriter), Patience);
                await store.WriteAsync(s => CommitAsync(s, group), cancel);
                pulse.Good(nameof(OutcomeWriter));
                return;
            }
            catch (Exception error) when (error is not OperationCanceledException)
            {
                LogFailure(log, group.Count, error);
                if (store.Engine.IsLasting(error))
                {
                    if (group.Count > 1)
                        foreach (var written in group)
                            await CommitAsync([written], cancel);
                    else
                        await StopAsync(group[0], error, cancel);
                    return;
                }
                pulse.Bad(nameof(OutcomeWriter), error.Message);
                await Task.Delay(Resting.After(failures), cancel);
            }
        }
    }

    /// <summary>What was done in the target cannot be recorded: the step stops and says so.</summary>
    private async Task StopAsync(Written written, Exception error, CancellationToken cancel)
    {
        // The end of a run that cannot be written: its lease ends by itself.
        if (written is not Written.Step { Outcome: var outcome })
            return;
        try
        {
            await store.WriteAsync(
                async s =>
                {
                    var holder = outcome.Account is { } account ? await s.HolderOfEntryAsync(account.Target, account.ImmutableId) : null;
                    var problem =
                        holder is not null && holder.Id != outcome.Step.PersonId
                            ? $"The entry {outcome.Account!.Location} is recorded for {holder.Display} ({holder.Number}) already; "
                                + "what was done to it is not recorded for this person. Look at both, then retry."
                            : $"What was done could not be recorded: {error.GetBaseException().Message}";
                    await s.SaveStepsAsync([
                        new()
                        {
                            Id = outcome.Step.Id,
                            State = StepMachine.Next(StepState.Pending, AttemptOutcome.Lasting, 0).State,
                            Attempts = outcome.Step.Attempts + 1,
                            Problem = problem,
                            DueAt = outcome.Step.DueAt,
                        },
                    ]);
                    await s.SetProblemsAsync([(outcome.Step.RequestId, problem, RequestTables.Operator)], time.Milliseconds());
                    s.Record(
                        LedgerEntry.Of(
                            time.GetUtcNow(),
                            "oikonom",
                            "step.stopped",
                            outcome.Step.PersonId,
                            outcome.Step.RequestId,
                            ("step", outcome.Step.Id),
                            ("target", outcome.Step.Target),
                            ("problem", problem)
                        )
                    );
                    s.Tell("requests", outcome.Step.RequestId);
                },
                cancel
            );
        }
        catch (Exception also) when (also is not OperationCanceledException && store.Engine.IsLasting(also))
        {
            // Not even that can be written: the claim runs out, the step is tried again later, and the others go on.
            LogFailure(log, 1, also);
        }
    }

    private async Task CommitAsync(Session s, List<Written> group)
    {
        var now = time.GetUtcNow();
        await s.HoldRequestsAsync([.. group.OfType<Written.Step>().Select(w => w.Outcome.Step.RequestId).Distinct()]);
        var claims = group.Select(w => w is Written.Step step ? step.Outcome.Claim : ((Written.End)w).Claim).Distinct().ToList();
        var held = (await s.HeldChainsAsync([.. claims.Select(c => c.Row)])).Select(c => (c.SubjectId, c.Target, c.Fence)).ToHashSet();
        var outcomes = new List<Outcome>();
        foreach (var step in group.OfType<Written.Step>())
        {
            var outcome = step.Outcome;
            if (held.Contains((outcome.Claim.SubjectId, outcome.Claim.Target, outcome.Claim.Fence)))
                outcomes.Add(outcome);
            else
                s.Record(
                    LedgerEntry.Of(
                        now,
                        "oikonom",
                        "step.late",
                        outcome.Step.PersonId,
                        outcome.Step.RequestId,
                        ("step", outcome.Step.Id),
                        ("node", options.Node)
                    )
                );
        }
        await SaveStepsAsync(s, outcomes, now);
        await SaveRecordAsync(s, outcomes);
        await aftermath.FollowAsync(s, outcomes, now);
        await s.ReleaseChainsAsync([
            .. group
                .OfType<Written.End>()
                .Select(e => e.Claim)
                .Where(c => held.Contains((c.SubjectId, c.Target, c.Fence)))
                .Select(c => c.Row),
        ]);
        foreach (var request in outcomes.Select(o => o.Step.RequestId).Distinct())
            s.Tell("requests", request);
    }

    private static async Task SaveStepsAsync(Session s, List<Outcome> outcomes, DateTimeOffset now)
    {
        var steps = new List<StepRow>();
        var postponed = new List<ChainRow>();
        foreach (var outcome in outcomes)
        {
            var (state, wait) = StepMachine.Next(StepState.Pending, outcome.Ending, (int)outcome.Step.Attempts);
            if (outcome.After > wait)
                wait = outcome.After < LongestRest ? outcome.After.Value : LongestRest;
            var over = state is StepState.Done or StepState.Dropped;
            var due = wait > TimeSpan.Zero ? (now + wait).ToUnixTimeMilliseconds() : outcome.Step.DueAt;
            steps.Add(
                new()
                {
                    Id = outcome.Step.Id,
                    State = state,
                    Attempts = outcome.Step.Attempts + (over || outcome.Ending == AttemptOutcome.Waits ? 0 : 1),
                    Problem = state == StepState.Done ? "" : outcome.Message,
                    DueAt = due,
                    DoneAt = over ? now.ToUnixTimeMilliseconds() : null,
                }
            );
            if (wait > TimeSpan.Zero && outcome.Ending != AttemptOutcome.Waits)
                postponed.Add(
                    new()
                    {
                        SubjectId = outcome.Step.SubjectId,
                        Target = outcome.Step.Target,
                        DueAt = due,
                    }
                );
            if (over || (!outcome.IsWaiting && outcome.Message != outcome.Step.Problem))
                s.Record(Entry(outcome, state, now));
        }
        await s.SaveStepsAsync(steps);
        await s.PostponeChainsAsync(postponed);
    }

    private static LedgerEntry Entry(Outcome outcome, StepState state, DateTimeOffset now) =>
        LedgerEntry.Of(
            now,
            "oikonom",
            state switch
            {
                StepState.Done => "step.done",
                StepState.Dropped => "step.dropped",
                StepState.Stopped => "step.stopped",
                _ => "step.failed",
            },
            outcome.Step.PersonId,
            outcome.Step.RequestId,
            ("change", EnumText.Of(outcome.Change.Kind)),
            ("target", outcome.Change.Account.ToString()),
            ("account", outcome.Change.Entry.Name),
            ("entitlement", outcome.Change.Entitlement?.Name),
            ("attributes", outcome.Change.Attributes.Count > 0 ? outcome.Change.Attributes : null),
            ("location", outcome.Account?.Location),
            ("immutableId", outcome.Account?.ImmutableId),
            ("note", outcome.Note.Length > 0 ? outcome.Note : null),
            ("problem", outcome.Message.Length > 0 ? outcome.Message : null),
            ("edition", outcome.Step.Edition),
            ("reason", outcome.Change.Reason)
        );

    private static async Task SaveRecordAsync(Session s, List<Outcome> outcomes)
    {
        await s.BelongAsync([.. outcomes.Where(o => o is { Change: Change.AdoptAccount, Account: not null }).Select(o => o.Account!)]);
        await s.BelongAsMadeAsync([
            .. outcomes.Where(o => o is { Change: Change.CreateAccount, Account.PersonId: not null }).Select(o => o.Account!),
        ]);
        var accounts = outcomes.Select(o => o.Account).OfType<AccountRow>().ToList();
        await s.UpsertAccountsAsync([
            .. accounts.Where(a => a.PersonId is not null).GroupBy(a => (a.PersonId, a.Target, a.Slot)).Select(g => g.Last()),
        ]);
        await s.SaveNobodysAsync([.. accounts.Where(a => a.PersonId is null).GroupBy(a => a.Id).Select(g => g.Last())]);
        await s.CloseGrantsAsync([.. outcomes.Where(o => o.Closes is not null).Select(o => o.Closes!)]);
        await s.OpenGrantsAsync([.. outcomes.SelectMany(o => o.Opens)]);
    }

    [LoggerMessage(Level = LogLevel.Warning, Message = "{Count} requests had nothing left to do and were not ended; they are now")]
    private static partial void LogSwept(ILogger log, int count);

    [LoggerMessage(Level = LogLevel.Error, Message = "A group of {Count} outcomes could not be committed and is tried again")]
    private static partial void LogFailure(ILogger log, int count, Exception error);
}
