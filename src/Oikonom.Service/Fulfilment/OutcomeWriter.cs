using System.Text.Json;
using System.Threading.Channels;
using Oikonom.Core.Approval;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Ledger;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Approval;
using Oikonom.Service.Hosting;
using Oikonom.Service.Intake;
using Oikonom.Service.Notices;
using Oikonom.Service.Rulebook;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>
/// Commits outcomes in groups: whatever waits goes into one transaction, so the disk is asked once for many
/// steps. What a lost lease reports is recorded and decides nothing.
/// </summary>
public sealed partial class OutcomeWriter(
    Store.Store store,
    EditionBook editions,
    StageEntry stages,
    RequestDesk desk,
    Notifier notices,
    FirstPasswords links,
    ServiceOptions options,
    TimeProvider time,
    Pulse pulse,
    ILogger<OutcomeWriter> log
) : BackgroundService
{
    private const int MaxGroup = 400;
    private static readonly TimeSpan Patience = TimeSpan.FromMinutes(2);
    private readonly Channel<Written> _channel = Channel.CreateBounded<Written>(4096);

    /// <summary>Raised after a group is committed.</summary>
    public event Action? Freed;

    public ValueTask WriteAsync(Written written, CancellationToken cancel) => _channel.Writer.WriteAsync(written, cancel);

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        var group = new List<Written>();
        try
        {
            while (await _channel.Reader.WaitToReadAsync(stoppingToken))
            {
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
                await Task.Delay(TimeSpan.FromMilliseconds(100 << Math.Min(failures, 6)), cancel);
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
                            State = "stopped",
                            Attempts = outcome.Step.Attempts + 1,
                            Problem = problem,
                            DueAt = outcome.Step.DueAt,
                        },
                    ]);
                    await s.SetProblemsAsync([(outcome.Step.RequestId, problem)], time.Milliseconds());
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
        var claims = group.Select(w => w is Written.Step step ? step.Outcome.Claim : ((Written.End)w).Claim).Distinct().ToList();
        var held = (await s.HeldChainsAsync([.. claims.Select(c => c.Row)])).Select(c => (c.PersonId, c.Target, c.Fence)).ToHashSet();
        var outcomes = new List<Outcome>();
        foreach (var step in group.OfType<Written.Step>())
        {
            var outcome = step.Outcome;
            if (held.Contains((outcome.Claim.PersonId, outcome.Claim.Target, outcome.Claim.Fence)))
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
        await TasksAsync(s, [.. outcomes.Select(o => o.Task).OfType<TaskRow>()]);
        // A task that was finished while its step was being looked at is not waited for.
        foreach (var outcome in outcomes.Where(o => o is { Ending: AttemptOutcome.Waits, Task: null }))
            if (await s.TaskOfStepAsync(outcome.Step.Id) is { State: not "open" })
                await s.WakeStepAsync(outcome.Step.Id, now.ToUnixTimeMilliseconds());
        await StuckAsync(s, [.. outcomes.Where(o => o.Ending == AttemptOutcome.Lasting && o.Step.Problem != o.Message)]);
        await SendLinksAsync(s, [.. outcomes.Where(o => o is { Ending: AttemptOutcome.Reached, Change: Change.SetPassword })]);
        foreach (var outcome in outcomes.Where(o => o.Replan is not null))
            if (await s.RequestAsync(outcome.Step.RequestId, forUpdate: true) is { State: "fulfilling" } row)
                await desk.ReplanAsync(s, row, outcome.Replan!);
        await s.SetProblemsAsync(
            [
                .. outcomes
                    .Where(o => o.Replan is null && (o.Ending is AttemptOutcome.Transient or AttemptOutcome.Lasting || o.Step.Attempts > 0))
                    .GroupBy(o => o.Step.RequestId)
                    .Select(g => (g.Key, g.Last().Ending is AttemptOutcome.Transient or AttemptOutcome.Lasting ? g.Last().Message : "")),
            ],
            now.ToUnixTimeMilliseconds()
        );
        await CompleteAsync(s, outcomes, now);
        await s.ReleaseChainsAsync([
            .. group
                .OfType<Written.End>()
                .Select(e => e.Claim)
                .Where(c => held.Contains((c.PersonId, c.Target, c.Fence)))
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
            var over = state is StepState.Done or StepState.Dropped;
            var due = wait > TimeSpan.Zero ? (now + wait).ToUnixTimeMilliseconds() : outcome.Step.DueAt;
            steps.Add(
                new()
                {
                    Id = outcome.Step.Id,
                    State = JsonSerializer.Serialize(state).Trim('"'),
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
                        PersonId = outcome.Step.PersonId,
                        Target = outcome.Step.Target,
                        DueAt = due,
                    }
                );
            if (over || outcome.Message != outcome.Step.Problem)
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
            ("change", JsonSerializer.Serialize(outcome.Change.Kind).Trim('"')),
            ("target", outcome.Change.Target),
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
        await s.UpsertAccountsAsync([
            .. outcomes
                .Where(o => o.Account is not null)
                .GroupBy(o => (o.Account!.PersonId, o.Account.Target))
                .Select(g => g.Last().Account!),
        ]);
        await s.CloseGrantsAsync([.. outcomes.Where(o => o.Closes is not null).Select(o => o.Closes!)]);
        await s.OpenGrantsAsync([.. outcomes.SelectMany(o => o.Opens)]);
    }

    private async Task SendLinksAsync(Session s, List<Outcome> outcomes)
    {
        if (outcomes.Count == 0)
            return;
        var users = await s.UsersAsync();
        var requests = (await s.RequestsByIdAsync([.. outcomes.Select(o => o.Step.RequestId).Distinct()])).ToDictionary(r => r.Id);
        var people = (await s.PeopleByIdAsync([.. outcomes.Select(o => o.Step.PersonId).Distinct()])).ToDictionary(p => p.Id);
        foreach (var outcome in outcomes)
            await links.SendAsync(
                s,
                people[outcome.Step.PersonId],
                requests[outcome.Step.RequestId],
                outcome.Step.Target,
                outcome.Change.Entry.Name,
                users
            );
        foreach (var request in requests.Values.Where(r => r.Kind == "joiner"))
            await WelcomeAsync(s, request, users);
    }

    /// <summary>To the new person's private address, when the rulebook has a text for it; without an address to the manager.</summary>
    private async Task WelcomeAsync(Session s, RequestRow request, IReadOnlyList<UserRow> users)
    {
        var of = await Case.LoadAsync(s, request, await editions.GetAsync(request.Edition, CancellationToken.None), time.GetUtcNow());
        if (!of.Edition.Rulebook.Notices.ContainsKey(NoticeEvents.Welcome))
            return;
        var manager = users.FirstOrDefault(u => u.Active == 1 && u.Number.Length > 0 && u.Number == of.Person.Manager);
        var values = new Dictionary<string, string> { ["manager"] = manager?.Display ?? "your manager" };
        var address = of.About.Facts.Text("privateMail");
        if (MimeKit.MailboxAddress.TryParse(address, out _))
            notices.ToAddress(s, of, address, of.Person.Display, NoticeEvents.Welcome, values);
        else if (manager is not null)
            notices.To(s, of, manager, NoticeEvents.Welcome, values);
    }

    private async Task CompleteAsync(Session s, List<Outcome> outcomes, DateTimeOffset now)
    {
        var finished = await s.FinishedAsync([.. outcomes.Select(o => o.Step.RequestId).Distinct()]);
        if (finished.Count == 0)
            return;
        var lapsed = await s.LapsedAsync(finished);
        if (lapsed.Count > 0)
        {
            await LapseAsync(s, lapsed);
            finished = [.. finished.Except(lapsed)];
        }
        await s.CompleteAsync(finished, now.ToUnixTimeMilliseconds());
        var rows = await s.RequestsByIdAsync(finished);
        await s.LookAgainAsync([.. rows.Select(r => r.PersonId).Distinct()], now.ToUnixTimeMilliseconds());
        foreach (var row in rows)
        {
            s.Record(LedgerEntry.Of(now, "oikonom", "request.completed", row.PersonId, row.Id));
            s.Tell("people", row.PersonId);
            await WriteBackAsync(s, row, now);
            var of = await Case.LoadAsync(s, row, await editions.GetAsync(row.Edition, CancellationToken.None), now);
            notices.ToRequester(s, of, NoticeEvents.Completed, new() { ["text"] = "all was done, read back and found as planned" });
            if (
                row.Kind == "joiner"
                && of.Edition.Rulebook.Notices.ContainsKey(NoticeEvents.FirstDay)
                && of.Users.FirstOrDefault(u => u.Active == 1 && u.Number.Length > 0 && u.Number == of.Person.Manager) is { } manager
            )
                notices.To(
                    s,
                    of,
                    manager,
                    NoticeEvents.FirstDay,
                    new() { ["text"] = "Everything is ready: all was done, read back and found as planned." }
                );
        }
    }

    /// <summary>Nothing of it was done: what is not wanted any more is not complete, and says so.</summary>
    private async Task LapseAsync(Session s, IReadOnlyList<string> requests)
    {
        foreach (var id in requests)
        {
            if (await s.RequestAsync(id, forUpdate: true) is not { } row)
                continue;
            var of = await Case.LoadAsync(s, row, await editions.GetAsync(row.Edition, CancellationToken.None), time.GetUtcNow());
            await stages.EnterAsync(s, of, RequestEvent.Lapse);
            row.Problem = "";
            await s.SaveRequestAsync(row);
            s.Record(
                LedgerEntry.Of(
                    time.GetUtcNow(),
                    "oikonom",
                    "request.lapsed",
                    row.PersonId,
                    row.Id,
                    ("note", "nothing of it was wanted any more")
                )
            );
            notices.ToRequester(s, of, NoticeEvents.Lapsed, []);
        }
    }

    /// <summary>Writes work by hand down, and tells those who do it.</summary>
    private async Task TasksAsync(Session s, IReadOnlyList<TaskRow> tasks)
    {
        await s.AddTasksAsync(tasks);
        foreach (var request in tasks.Select(t => t.RequestId).Distinct())
            await s.NoteDeskAsync(request);
        foreach (var task in tasks)
        {
            s.Record(
                LedgerEntry.Of(
                    time.GetUtcNow(),
                    "oikonom",
                    "task.made",
                    task.PersonId,
                    task.RequestId,
                    ("task", task.Id),
                    ("title", task.Title),
                    ("role", task.Role),
                    ("due", LedgerEntry.Stamp(task.DueAt.ToInstant()))
                )
            );
            s.Tell("tasks", task.Id);
            if (await CaseAsync(s, task.RequestId) is not { } of)
                continue;
            notices.ToRole(
                s,
                of,
                task.Role,
                NoticeEvents.Task,
                new() { ["text"] = task.Title, ["due"] = $"{task.DueAt.ToInstant():yyyy-MM-dd HH:mm} UTC" },
                task.Target
            );
        }
    }

    /// <summary>Operators, or their mailbox, hear of what stopped and needs a hand.</summary>
    private async Task StuckAsync(Session s, IReadOnlyList<Outcome> stopped)
    {
        foreach (var outcome in stopped)
        {
            if (await CaseAsync(s, outcome.Step.RequestId) is not { } of)
                continue;
            notices.ToRole(s, of, Roles.Operator, NoticeEvents.Stuck, new() { ["text"] = outcome.Message }, outcome.Step.Target);
        }
    }

    private async Task<Case?> CaseAsync(Session s, string request) =>
        await s.RequestAsync(request) is { } row
            ? await Case.LoadAsync(s, row, await editions.GetAsync(row.Edition, CancellationToken.None), time.GetUtcNow())
            : null;

    /// <summary>The source that knows the person hears what was decided here, if it wants to.</summary>
    private async Task WriteBackAsync(Session s, RequestRow row, DateTimeOffset now)
    {
        var edition = await editions.GetAsync(row.Edition, CancellationToken.None);
        if (row.Kind == "leaver" || !edition.Rulebook.Sources.Values.Any(x => x.WriteBack.Count > 0))
            return;
        var recorded = await Planning.Recorded.LoadAsync(s, [row.PersonId]);
        if (edition.Rulebook.Sources.GetValueOrDefault(recorded.Person(row.PersonId).Source) is not { WriteBack.Count: > 0 } source)
            return;
        string fields;
        try
        {
            fields = JsonSerializer.Serialize(WriteBackLoop.FieldsOf(source, recorded, row.PersonId, edition));
        }
        catch (PlanFault fault)
        {
            s.Record(
                LedgerEntry.Of(
                    now,
                    "oikonom",
                    "source.cannot-write-back",
                    row.PersonId,
                    row.Id,
                    ("source", source.Name),
                    ("problem", fault.Message)
                )
            );
            return;
        }
        if (fields == "{}")
            return;
        await s.AddWriteBacksAsync([
            .. (await s.RecordsOfAsync(row.PersonId))
                .Where(r => r.Source == source.Name)
                .Select(r => new WriteBackRow
                {
                    Source = source.Name,
                    RecordKey = r.RecordKey,
                    PersonId = row.PersonId,
                    Fields = fields,
                    CreatedAt = now.ToUnixTimeMilliseconds(),
                }),
        ]);
    }

    [LoggerMessage(Level = LogLevel.Error, Message = "A group of {Count} outcomes could not be committed and is tried again")]
    private static partial void LogFailure(ILogger log, int count, Exception error);
}
