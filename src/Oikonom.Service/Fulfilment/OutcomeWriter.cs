using System.Text.Json;
using System.Threading.Channels;
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
public sealed partial class OutcomeWriter(Store.Store store, EditionBook editions, RequestDesk desk, Notifier notices, ServiceOptions options, TimeProvider time, ILogger<OutcomeWriter> log) : BackgroundService
{
    private const int MaxGroup = 400;
    private static readonly TimeSpan LinkHolds = TimeSpan.FromDays(14);
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
                while (group.Count < MaxGroup && _channel.Reader.TryRead(out var written)) group.Add(written);
                await CommitAsync(group, stoppingToken);
                Freed?.Invoke();
            }
        }
        catch (OperationCanceledException) when (stoppingToken.IsCancellationRequested)
        {
            // The leases end by themselves; every step may be repeated.
        }
    }

    private async Task CommitAsync(List<Written> group, CancellationToken cancel)
    {
        for (var failures = 0; ; failures++)
        {
            try
            {
                await store.WriteAsync(s => CommitAsync(s, group), cancel);
                return;
            }
            catch (Exception error) when (error is not OperationCanceledException)
            {
                LogFailure(log, group.Count, error);
                await Task.Delay(TimeSpan.FromMilliseconds(100 << Math.Min(failures, 6)), cancel);
            }
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
            if (held.Contains((outcome.Claim.PersonId, outcome.Claim.Target, outcome.Claim.Fence))) outcomes.Add(outcome);
            else s.Record(LedgerEntry.Of(now, "oikonom", "step.late", outcome.Step.PersonId, outcome.Step.RequestId, ("step", outcome.Step.Id), ("node", options.Node)));
        }
        await SaveStepsAsync(s, outcomes, now);
        await SaveRecordAsync(s, outcomes);
        await TasksAsync(s, [.. outcomes.Select(o => o.Task).OfType<TaskRow>()]);
        // A task that was finished while its step was being looked at is not waited for.
        foreach (var outcome in outcomes.Where(o => o is { Ending: AttemptOutcome.Waits, Task: null }))
            if (await s.TaskOfStepAsync(outcome.Step.Id) is { State: not "open" }) await s.WakeStepAsync(outcome.Step.Id, now.ToUnixTimeMilliseconds());
        await StuckAsync(s, [.. outcomes.Where(o => o.Ending == AttemptOutcome.Lasting && o.Step.Problem != o.Message)]);
        await SendLinksAsync(s, [.. outcomes.Where(o => o is { Ending: AttemptOutcome.Reached, Change.Kind: ChangeKind.SetPassword })], now);
        foreach (var outcome in outcomes.Where(o => o.Replan is not null))
            if (await s.RequestAsync(outcome.Step.RequestId, forUpdate: true) is { State: "fulfilling" } row) await desk.ReplanAsync(s, row, outcome.Replan!);
        await s.SetProblemsAsync([.. outcomes.Where(o => o.Replan is null && (o.Ending is AttemptOutcome.Transient or AttemptOutcome.Lasting || o.Step.Attempts > 0))
            .GroupBy(o => o.Step.RequestId).Select(g => (g.Key, g.Last().Ending is AttemptOutcome.Transient or AttemptOutcome.Lasting ? g.Last().Message : ""))], now.ToUnixTimeMilliseconds());
        await CompleteAsync(s, outcomes, now);
        await s.ReleaseChainsAsync([.. group.OfType<Written.End>().Select(e => e.Claim).Where(c => held.Contains((c.PersonId, c.Target, c.Fence))).Select(c => c.Row)]);
        foreach (var request in outcomes.Select(o => o.Step.RequestId).Distinct()) s.Tell("requests", request);
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
            steps.Add(new()
            {
                Id = outcome.Step.Id,
                State = JsonSerializer.Serialize(state).Trim('"'),
                Attempts = outcome.Step.Attempts + (over || outcome.Ending == AttemptOutcome.Waits ? 0 : 1),
                Problem = state == StepState.Done ? "" : outcome.Message,
                DueAt = due,
                DoneAt = over ? now.ToUnixTimeMilliseconds() : null,
            });
            if (wait > TimeSpan.Zero && outcome.Ending != AttemptOutcome.Waits) postponed.Add(new() { PersonId = outcome.Step.PersonId, Target = outcome.Step.Target, DueAt = due });
            if (over || outcome.Message != outcome.Step.Problem) s.Record(Entry(outcome, state, now));
        }
        await s.SaveStepsAsync(steps);
        await s.PostponeChainsAsync(postponed);
    }

    private static LedgerEntry Entry(Outcome outcome, StepState state, DateTimeOffset now) => LedgerEntry.Of(now, "oikonom",
        state switch { StepState.Done => "step.done", StepState.Dropped => "step.dropped", StepState.Stopped => "step.stopped", _ => "step.failed" },
        outcome.Step.PersonId, outcome.Step.RequestId,
        ("change", JsonSerializer.Serialize(outcome.Change.Kind).Trim('"')), ("target", outcome.Change.Target), ("account", outcome.Change.Account),
        ("entitlement", outcome.Change.Kind is ChangeKind.Grant or ChangeKind.Revoke ? outcome.Change.Subject : null),
        ("attributes", outcome.Change.Attributes.Count > 0 ? outcome.Change.Attributes : null),
        ("location", outcome.Account?.Location), ("immutableId", outcome.Account?.ImmutableId), ("note", outcome.Note.Length > 0 ? outcome.Note : null),
        ("problem", outcome.Message.Length > 0 ? outcome.Message : null), ("edition", outcome.Step.Edition), ("reason", outcome.Change.Reason));

    private static async Task SaveRecordAsync(Session s, List<Outcome> outcomes)
    {
        await s.UpsertAccountsAsync([.. outcomes.Where(o => o.Account is not null).GroupBy(o => (o.Account!.PersonId, o.Account.Target)).Select(g => g.Last().Account!)]);
        await s.CloseGrantsAsync([.. outcomes.Where(o => o.Closes is not null).Select(o => o.Closes!)]);
        await s.OpenGrantsAsync([.. outcomes.SelectMany(o => o.Opens)]);
    }

    private async Task SendLinksAsync(Session s, List<Outcome> outcomes, DateTimeOffset now)
    {
        if (outcomes.Count == 0) return;
        var users = await s.UsersAsync();
        var requests = (await s.RequestsByIdAsync([.. outcomes.Select(o => o.Step.RequestId).Distinct()])).ToDictionary(r => r.Id);
        var people = (await s.PeopleByIdAsync([.. outcomes.Select(o => o.Step.PersonId).Distinct()])).ToDictionary(p => p.Id);
        var links = new List<HandoverRow>();
        foreach (var outcome in outcomes)
        {
            var (person, request) = (people[outcome.Step.PersonId], requests[outcome.Step.RequestId]);
            var receiver = users.FirstOrDefault(u => u.Active == 1 && person.Manager.Length > 0 && u.Number == person.Manager) ?? users.FirstOrDefault(u => u.Name == request.Requester);
            if (receiver is null) continue;
            var token = Accounts.NewToken("");
            links.Add(new()
            {
                Id = Guid.CreateVersion7(now).ToString(),
                TokenHash = Accounts.HashToken(token),
                PersonId = person.Id,
                Target = outcome.Step.Target,
                Receiver = receiver.Name,
                RequestId = request.Id,
                ExpiresAt = (now + LinkHolds).ToUnixTimeMilliseconds(),
            });
            if (receiver.Mail.Length > 0)
            {
                s.Send(new(receiver.Mail, $"First password for {person.Display}",
                    $"Dear {receiver.Display},\n\nthe account {outcome.Change.Account} of {person.Display} is made. This link shows its first password once, to you alone, after you sign in:\n\n" +
                    $"{options.PublicAddress}/handover/{token}\n\nThe password is made up when you open the link; it is kept nowhere. The link holds until {now + LinkHolds:yyyy-MM-dd}.\n", request.Id));
            }
        }
        await s.AddHandoversAsync(links);
        foreach (var request in requests.Values.Where(r => r.Kind == "joiner")) await WelcomeAsync(s, request, users);
    }

    /// <summary>To the new person's private address, when the rulebook has a text for it; without an address to the manager.</summary>
    private async Task WelcomeAsync(Session s, RequestRow request, IReadOnlyList<UserRow> users)
    {
        var of = await Case.LoadAsync(s, request, await editions.GetAsync(request.Edition, CancellationToken.None), time.GetUtcNow());
        if (!of.Edition.Rulebook.Notices.ContainsKey(NoticeEvents.Welcome)) return;
        var manager = users.FirstOrDefault(u => u.Active == 1 && u.Number.Length > 0 && u.Number == of.Person.Manager);
        var values = new Dictionary<string, string> { ["manager"] = manager?.Display ?? "your manager" };
        var address = of.About.Facts.Text("privateMail");
        if (MimeKit.MailboxAddress.TryParse(address, out _)) notices.ToAddress(s, of, address, of.Person.Display, NoticeEvents.Welcome, values);
        else if (manager is not null) notices.To(s, of, manager, NoticeEvents.Welcome, values);
    }

    private async Task CompleteAsync(Session s, List<Outcome> outcomes, DateTimeOffset now)
    {
        var finished = await s.FinishedAsync([.. outcomes.Select(o => o.Step.RequestId).Distinct()]);
        if (finished.Count == 0) return;
        await s.CompleteAsync(finished, now.ToUnixTimeMilliseconds());
        foreach (var row in await s.RequestsByIdAsync(finished))
        {
            s.Record(LedgerEntry.Of(now, "oikonom", "request.completed", row.PersonId, row.Id));
            s.Tell("people", row.PersonId);
            await WriteBackAsync(s, row, now);
            var of = await Case.LoadAsync(s, row, await editions.GetAsync(row.Edition, CancellationToken.None), now);
            notices.ToRequester(s, of, NoticeEvents.Completed, new() { ["text"] = "all was done, read back and found as planned" });
            if (row.Kind == "joiner" && of.Edition.Rulebook.Notices.ContainsKey(NoticeEvents.FirstDay) && of.Users.FirstOrDefault(u => u.Active == 1 && u.Number.Length > 0 && u.Number == of.Person.Manager) is { } manager)
                notices.To(s, of, manager, NoticeEvents.FirstDay, new() { ["text"] = "Everything is ready: all was done, read back and found as planned." });
        }
    }

    /// <summary>Writes work by hand down, and tells those who do it.</summary>
    private async Task TasksAsync(Session s, IReadOnlyList<TaskRow> tasks)
    {
        await s.AddTasksAsync(tasks);
        foreach (var request in tasks.Select(t => t.RequestId).Distinct()) await s.NoteDeskAsync(request);
        foreach (var task in tasks)
        {
            s.Record(LedgerEntry.Of(time.GetUtcNow(), "oikonom", "task.made", task.PersonId, task.RequestId, ("task", task.Id), ("title", task.Title), ("role", task.Role), ("due", LedgerEntry.Stamp(task.DueAt.ToInstant()))));
            s.Tell("tasks", task.Id);
            if (await CaseAsync(s, task.RequestId) is not { } of) continue;
            notices.ToRole(s, of, task.Role, NoticeEvents.Task, new() { ["text"] = task.Title, ["due"] = $"{task.DueAt.ToInstant():yyyy-MM-dd HH:mm} UTC" }, task.Target);
        }
    }

    /// <summary>Operators, or their mailbox, hear of what stopped and needs a hand.</summary>
    private async Task StuckAsync(Session s, IReadOnlyList<Outcome> stopped)
    {
        foreach (var outcome in stopped)
        {
            if (await CaseAsync(s, outcome.Step.RequestId) is not { } of) continue;
            notices.ToRole(s, of, Roles.Operator, NoticeEvents.Stuck, new() { ["text"] = outcome.Message }, outcome.Step.Target);
        }
    }

    private async Task<Case?> CaseAsync(Session s, string request) =>
        await s.RequestAsync(request) is { } row ? await Case.LoadAsync(s, row, await editions.GetAsync(row.Edition, CancellationToken.None), time.GetUtcNow()) : null;

    /// <summary>The source that knows the person hears what was decided here, if it wants to.</summary>
    private async Task WriteBackAsync(Session s, RequestRow row, DateTimeOffset now)
    {
        var edition = await editions.GetAsync(row.Edition, CancellationToken.None);
        if (row.Kind == "leaver" || !edition.Rulebook.Sources.Values.Any(x => x.WriteBack.Count > 0)) return;
        var recorded = await Planning.Recorded.LoadAsync(s, [row.PersonId]);
        if (edition.Rulebook.Sources.GetValueOrDefault(recorded.Person(row.PersonId).Source) is not { WriteBack.Count: > 0 } source) return;
        string fields;
        try
        {
            fields = JsonSerializer.Serialize(WriteBackLoop.FieldsOf(source, recorded, row.PersonId, edition));
        }
        catch (PlanFault fault)
        {
            s.Record(LedgerEntry.Of(now, "oikonom", "source.cannot-write-back", row.PersonId, row.Id, ("source", source.Name), ("problem", fault.Message)));
            return;
        }
        if (fields == "{}") return;
        await s.AddWriteBacksAsync([.. (await s.RecordsOfAsync(row.PersonId)).Where(r => r.Source == source.Name)
            .Select(r => new WriteBackRow { Source = source.Name, RecordKey = r.RecordKey, PersonId = row.PersonId, Fields = fields, CreatedAt = now.ToUnixTimeMilliseconds() })]);
    }

    [LoggerMessage(Level = LogLevel.Error, Message = "A group of {Count} outcomes could not be committed and is tried again")]
    private static partial void LogFailure(ILogger log, int count, Exception error);
}
