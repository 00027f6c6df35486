using System.Text.Json;
using Oikonom.Core.Approval;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Approval;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Service.Intake;
using Oikonom.Service.Notices;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>
/// What follows from outcomes that are committed: work by hand, links to first passwords, plans to be made anew,
/// problems that people see, completion, and who hears of it. All of it in the transaction of the outcomes.
/// </summary>
public sealed class Aftermath(
    EditionBook editions,
    StageEntry stages,
    RequestDesk desk,
    TaskValues values,
    FirstPasswords links,
    Notifier notices,
    TimeProvider time
)
{
    /// <param name="outcomes">In the order in which they came, each of a claim that still holds.</param>
    public async Task FollowAsync(Session s, List<Outcome> outcomes, DateTimeOffset now)
    {
        await TasksAsync(s, [.. outcomes.Select(o => o.Task).OfType<TaskRow>()]);
        // A task that was finished while its step was being looked at is not waited for.
        foreach (var outcome in outcomes.Where(o => o is { Ending: AttemptOutcome.Waits, Task: null }))
            if (await s.TaskOfStepAsync(outcome.Step.Id) is { State: not TaskState.Open })
                await s.WakeStepAsync(outcome.Step.Id, now.ToUnixTimeMilliseconds());
        await StuckAsync(s, [.. outcomes.Where(o => o.Ending == AttemptOutcome.Lasting && o.Step.Problem != o.Message)]);
        await SendLinksAsync(s, [.. outcomes.Where(o => o is { Ending: AttemptOutcome.Reached, Change: Change.SetPassword })]);
        await WakeLinksAsync(s, [.. outcomes.Where(o => o is { Ending: AttemptOutcome.Reached, Change: Change.EnableAccount })]);
        await values.FollowAsync(s, outcomes, now);
        await SettleFindingsAsync(s, outcomes);
        foreach (var outcome in outcomes.Where(o => o.Gone is not null))
            await ForgetEntryAsync(s, outcome, now);
        foreach (var outcome in outcomes.Where(o => o.Replan is not null))
            if (await s.RequestAsync(outcome.Step.RequestId, forUpdate: true) is { State: RequestState.Fulfilling } row)
                await desk.ReplanAsync(s, row, outcome.Replan!);
        await s.SetProblemsAsync(
            [
                .. outcomes
                    .Where(o => o.Replan is null && (o.Ending is AttemptOutcome.Transient or AttemptOutcome.Lasting || o.Step.Attempts > 0))
                    .GroupBy(o => o.Step.RequestId)
                    .Select(g =>
                        // What stopped counts, whatever else came with it.
                        (g.Key, Last: g.LastOrDefault(o => o.Ending == AttemptOutcome.Lasting) ?? g.Last())
                    )
                    .Select(g =>
                        (
                            g.Key,
                            // Who waits has no problem.
                            g.Last
                                is { IsWaiting: false, Ending: AttemptOutcome.Transient or AttemptOutcome.Lasting }
                                ? g.Last.Message
                                : "",
                            g.Last.Ending is AttemptOutcome.Lasting ? RequestTables.Operator
                            : g.Last.IsWaiting ? RequestViews.TargetNotReady
                            : ""
                        )
                    ),
            ],
            now.ToUnixTimeMilliseconds()
        );
        await CompleteAsync(s, outcomes, now);
    }

    /// <summary>The entry that a step looked for was deleted outside.</summary>
    private static async Task ForgetEntryAsync(Session s, Outcome outcome, DateTimeOffset now)
    {
        var key = outcome.Change.Account;
        var account = (await s.AccountsAsync([outcome.Step.PersonId])).FirstOrDefault(a =>
            a.Target == key.Target && a.Slot == key.Slot && a.ImmutableId == outcome.Gone
        );
        if (account is not null)
            await AccountRecord.GoneAsync(s, account, outcome.Step.RequestId, now);
    }

    /// <summary>What was read back as planned is not changed outside any more, and what was to set it right is taken back. What
    /// somebody lets stay so is not planned otherwise.</summary>
    private async Task SettleFindingsAsync(Session s, IEnumerable<Outcome> outcomes)
    {
        var read = outcomes.Where(o => o is { Ending: AttemptOutcome.Reached, Change: Change.Verify }).ToList();
        if (read.Count == 0)
            return;
        var keys = read.ToLookup(o => (o.Step.PersonId, o.Change.Account), o => o.Step.RequestId);
        var over = (await s.FindingsAsync([.. read.Select(o => o.Step.PersonId).Distinct()]))
            .Where(f => f.LeftBy.Length == 0 && keys.Contains((f.PersonId, new AccountKey(f.Target, f.Slot))))
            .ToList();
        await s.EndFindingsAsync(over);
        // What an account came to hold that nobody gave is told until somebody lets it be, or takes it away.
        foreach (var finding in over)
            if (Difference.FromJson(finding.Differences).Where(d => d is Difference.Surplus).ToList() is { Count: > 0 } surplus)
                await s.SaveFindingAsync(finding with { Differences = Difference.ToJson(surplus), RequestId = "" });
        foreach (var finding in over)
            await LookDesk.GiveWayAsync(s, desk, [finding], keys[(finding.PersonId, new AccountKey(finding.Target, finding.Slot))].Last());
    }

    private LinkDueRow LinkOf(Outcome outcome) =>
        new()
        {
            PersonId = outcome.Step.PersonId,
            Target = outcome.Change.Target,
            Slot = outcome.Change.Account.Slot,
            RequestId = outcome.Step.RequestId,
            DueAt = time.Milliseconds(),
        };

    /// <summary>Who wakes gets the link now, also where a first one ran out before.</summary>
    private async Task WakeLinksAsync(Session s, List<Outcome> woken) =>
        await s.AddLinksDueAsync(await s.NeverHandedOverAsync([.. woken.Select(LinkOf)]));

    /// <summary>A link to a first password goes out when the account can be used: at once, or <see cref="LinkLoop"/> sends it.</summary>
    private async Task SendLinksAsync(Session s, List<Outcome> outcomes)
    {
        if (outcomes.Count == 0)
            return;
        var requests = new List<(RequestRow Row, Edition Edition)>();
        foreach (var row in await s.RequestsByIdAsync([.. outcomes.Select(o => o.Step.RequestId).Distinct()]))
            requests.Add((row, await EditionOfAsync(row)));
        var cases = (await Case.LoadAsync(s, requests, time.GetUtcNow())).ToDictionary(of => of.Row.Id);
        var awake = (await s.AccountsAsync([.. outcomes.Select(o => o.Step.PersonId).Distinct()]))
            .Where(a => a.Enabled == 1)
            .ToDictionary(a => (a.PersonId!, Recorded.KeyOf(a)));
        var later = new List<Outcome>();
        foreach (var outcome in outcomes)
        {
            var of = cases[outcome.Step.RequestId];
            if (awake.GetValueOrDefault((outcome.Step.PersonId, outcome.Change.Account)) is { } account)
                await links.SendAsync(s, of.Person, of.Row, outcome.Change.Account, account.Name, of.Users, time.GetUtcNow());
            else
                later.Add(outcome);
        }
        await s.AddLinksDueAsync([.. later.Select(LinkOf)]);
        foreach (
            var of in cases.Values.Where(of => of.Row.Kind == "joiner" && of.Edition.Rulebook.Notices.ContainsKey(NoticeEvents.Welcome))
        )
            Welcome(s, of);
    }

    private Task<Edition> EditionOfAsync(RequestRow row) => editions.GetAsync(row.Edition, CancellationToken.None);

    /// <summary>To the new person's private address; without one to the manager.</summary>
    private void Welcome(Session s, Case of)
    {
        var manager = of.Manager;
        var words = new Dictionary<string, string> { ["manager"] = manager?.Display ?? "your manager" };
        var address = of.About.Facts.Text("privateMail");
        if (MimeKit.MailboxAddress.TryParse(address, out _))
            notices.ToAddress(s, of, address, of.Person.Display, NoticeEvents.Welcome, words);
        else if (manager is not null)
            notices.To(s, of, manager, NoticeEvents.Welcome, words);
    }

    private Task CompleteAsync(Session s, List<Outcome> outcomes, DateTimeOffset now) =>
        CompleteAsync(s, [.. outcomes.Select(o => o.Step.RequestId).Distinct()], now);

    /// <summary>Ends those of some requests of which nothing is left to do.</summary>
    public async Task CompleteAsync(Session s, IReadOnlyCollection<string> requests, DateTimeOffset now)
    {
        var finished = await s.FinishedAsync(requests);
        if (finished.Count == 0)
            return;
        var lapsed = await s.LapsedAsync(finished);
        if (lapsed.Count > 0)
        {
            await LapseAsync(s, lapsed);
            finished = [.. finished.Except(lapsed)];
        }
        var ended = new List<(string Id, RequestOutcome Outcome)>();
        var rows = new List<(RequestRow Row, Edition Edition)>();
        foreach (var row in await s.RequestsByIdAsync(finished))
            rows.Add((row, await EditionOfAsync(row)));
        await s.LookAgainAsync([.. rows.Select(r => r.Row.PersonId).Distinct()], now.ToUnixTimeMilliseconds());
        var steps = (await s.EndedStepsOfAsync(finished)).ToLookup(x => x.RequestId);
        await WriteBackAsync(s, rows, now);
        foreach (var of in await Case.LoadAsync(s, rows, now))
        {
            var row = of.Row;
            s.Record(LedgerEntry.Of(now, "oikonom", "request.completed", row.PersonId, row.Id));
            s.Tell("people", row.PersonId);
            await values.CompletedAsync(s, of, now);
            var dropped = RequestStory.OfPlan(of, [.. steps[row.Id]]).Count(x => x is { Later: 0, State: StepState.Dropped });
            ended.Add((row.Id, dropped == 0 ? RequestOutcome.Done : RequestOutcome.Partly));
            notices.ToRequester(
                s,
                of,
                NoticeEvents.Completed,
                new()
                {
                    ["text"] =
                        dropped == 0
                            ? "all was done, read back and found as planned"
                            : $"in part: {dropped} step{(dropped == 1 ? " was" : "s were")} no longer wanted, the others were done and "
                                + "read back",
                }
            );
            if (row.Kind == "joiner" && of.Edition.Rulebook.Notices.ContainsKey(NoticeEvents.FirstDay) && of.Manager is { } manager)
                notices.To(
                    s,
                    of,
                    manager,
                    NoticeEvents.FirstDay,
                    new()
                    {
                        ["text"] =
                            dropped == 0
                                ? "Everything is ready: all was done, read back and found as planned."
                                : "It is done in part; the request says what was no longer wanted.",
                    }
                );
        }
        await s.CompleteAsync(ended, now.ToUnixTimeMilliseconds());
    }

    /// <summary>Nothing of it was done: what is not wanted any more is not complete, and says so.</summary>
    private async Task LapseAsync(Session s, IReadOnlyList<string> requests)
    {
        foreach (var id in requests)
        {
            if (await s.RequestAsync(id, forUpdate: true) is not { } row)
                continue;
            var of = await Case.LoadAsync(s, row, await EditionOfAsync(row), time.GetUtcNow());
            await stages.EnterAsync(s, of, RequestEvent.Lapse);
            // Its later steps would never run, and their chain would be due for ever.
            await s.DropPendingAsync(row.Id, "nothing of the request was wanted any more", time.Milliseconds());
            row.Problem = "";
            if (!await s.SaveRequestAsync(row))
                throw new InvalidOperationException($"Request {row.Number} changed while it was being ended.");
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

    /// <summary>Writes work by hand down, and tells those who do it. What is asked for by another request already is not asked for
    /// twice: it ends with that.</summary>
    private async Task TasksAsync(Session s, IReadOnlyList<TaskRow> made)
    {
        var tasks = new List<TaskRow>();
        foreach (var same in made.GroupBy(t => (t.PersonId, t.Target, t.Entitlement, t.Kind)))
        {
            var first = await s.SameTaskAsync(same.First()) ?? same.First().Id;
            foreach (var task in same.Where(t => t.Id != first))
                task.SameAs = first;
            tasks.AddRange(same);
        }
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
                    ("due", LedgerEntry.Stamp(task.DueAt.ToInstant())),
                    ("same-as", task.SameAs.Length > 0 ? task.SameAs : null)
                )
            );
            if (task.SameAs.Length > 0)
                continue;
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
        await s.RequestAsync(request) is { } row ? await Case.LoadAsync(s, row, await EditionOfAsync(row), time.GetUtcNow()) : null;

    /// <summary>The sources that know people hear what was decided here about them, if they want to.</summary>
    private static async Task WriteBackAsync(Session s, IReadOnlyList<(RequestRow Row, Edition Edition)> completed, DateTimeOffset now)
    {
        var told = completed
            .Where(c =>
                c.Row.Kind != "leaver"
                && c.Row.SubjectKind == SubjectKind.Person
                && c.Edition.Rulebook.Sources.Values.Any(x => x.WriteBack.Count > 0)
            )
            .ToList();
        // Only a source that has a record of somebody can hear of them.
        var records = (await s.RecordsOfAsync([.. told.Select(c => c.Row.PersonId).Distinct()]))
            .Where(r => told.Any(c => c.Row.PersonId == r.PersonId && SourceOf(c.Edition, r.Source) is not null))
            .ToList();
        if (records.Count == 0)
            return;
        var recorded = await Recorded.LoadAsync(s, [.. records.Select(r => r.PersonId!).Distinct()]);
        var fields = new Dictionary<string, (string Source, string Fields)>();
        foreach (var (row, edition) in told.Where(c => records.Any(r => r.PersonId == c.Row.PersonId)))
            if (
                SourceOf(edition, recorded.Person(row.PersonId).Source) is { } source
                && FieldsOf(s, row, source, recorded, edition, now) is { } json
            )
                fields[row.PersonId] = (source.Name, json);
        await s.AddWriteBacksAsync([
            .. records
                .Where(r => fields.GetValueOrDefault(r.PersonId!).Source == r.Source)
                .Select(r => new WriteBackRow
                {
                    Source = r.Source,
                    RecordKey = r.RecordKey,
                    PersonId = r.PersonId!,
                    Fields = fields[r.PersonId!].Fields,
                    CreatedAt = now.ToUnixTimeMilliseconds(),
                }),
        ]);
    }

    /// <summary>A source that wants to hear; null where it is none, or is told nothing.</summary>
    private static SourceRule? SourceOf(Edition edition, string name) =>
        edition.Rulebook.Sources.GetValueOrDefault(name) is { WriteBack.Count: > 0 } source ? source : null;

    /// <summary>What a source hears of a person; null when it is nothing, or when the rules cannot say it, which is recorded.</summary>
    private static string? FieldsOf(Session s, RequestRow row, SourceRule source, Recorded recorded, Edition edition, DateTimeOffset now)
    {
        try
        {
            return JsonSerializer.Serialize(WriteBackLoop.FieldsOf(source, recorded, row.PersonId, edition)) is var json && json != "{}"
                ? json
                : null;
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
            return null;
        }
    }
}
