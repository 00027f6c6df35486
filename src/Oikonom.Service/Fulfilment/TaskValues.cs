using System.Text.Json;
using Oikonom.Core.Approval;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Approval;
using Oikonom.Service.Editions;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>
/// Values that work by hand gave and that become attributes of the person: the desk says them as a source does, and what
/// follows from them is planned and decided like any other change. They end when what they came with is taken back.
/// </summary>
public sealed class TaskValues(EditionBook editions, RequestDesk requests)
{
    /// <param name="outcomes">In the order in which they came, each of a claim that still holds.</param>
    public async Task FollowAsync(Session s, IReadOnlyList<Outcome> outcomes, DateTimeOffset now)
    {
        Edition? newest = null;
        foreach (var outcome in outcomes)
        {
            if (outcome is not { Ending: AttemptOutcome.Reached, Change: Change.Grant or Change.Revoke })
                continue;
            newest ??= await editions.CurrentAsync(CancellationToken.None);
            if (newest.Rulebook.Targets.GetValueOrDefault(outcome.Step.Target) is { Settings: TargetSettings.Desk } target)
                await TakeAsync(s, outcome, target, newest, now);
        }
    }

    private async Task TakeAsync(Session s, Outcome outcome, TargetRule target, Edition newest, DateTimeOffset now)
    {
        var (person, key) = (outcome.Step.PersonId, outcome.Change.Entitlement!);
        var extras = (await s.ExtrasAsync([person])).Where(e => e.Kind == Inputs.FieldKind).ToList();
        var row = await s.PersonAsync(person);
        if (row is null)
            return;
        var changes =
            outcome.Change is Change.Revoke
                ? await TakeBackAsync(s, outcome, extras, key, now)
                : await GiveAsync(s, outcome, row, newest, key, now);
        if (changes.Count == 0)
            return;
        var recorded = await Recorded.LoadAsync(s, [person]);
        await recorded
            .Inputs(person, newest)
            .ShowAsync(s, row, newest.Rulebook, outcome.Step.Target, outcome.Step.RequestId, now, ("because", $"{target.Title} says so"));
        await s.LookAgainAsync([person], now.ToUnixTimeMilliseconds());
        if (
            (await s.OpenRequestsOfAsync([person])).FirstOrDefault() is { } open
            && await s.RequestAsync(open.Id, forUpdate: true) is { } waiting
        )
            await requests.RenewAsync(s, waiting, $"{target.Title} gave {row.Display} other values");
        // What ends on its day is taken back after its request was completed.
        else if (await s.RequestAsync(outcome.Step.RequestId) is { State: RequestState.Completed })
            await AskAsync(s, row, outcome.Step.RequestId, target, newest, changes, now);
    }

    /// <summary>What the task gave, where the rulebook still knows the attribute and it says something new.</summary>
    private static async Task<IReadOnlyList<AttributeDifference>> GiveAsync(
        Session s,
        Outcome outcome,
        PersonRow row,
        Edition newest,
        EntitlementKey key,
        DateTimeOffset now
    )
    {
        var all = await s.TasksOfAsync(outcome.Step.RequestId);
        if (all.FirstOrDefault(t => t.StepId == outcome.Step.Id) is not { State: TaskState.Done } task)
            return [];
        var answers = JsonSerializer.Deserialize<Dictionary<string, string>>(task.Answers) ?? [];
        var facts = Facts.FromJson(row.Facts, newest.Rulebook.Attributes);
        var changes = new List<AttributeDifference>();
        foreach (var field in JsonSerializer.Deserialize<List<TaskField>>(task.Fields) ?? [])
            if (
                field.Feeds.Length > 0
                && answers.GetValueOrDefault(field.Name) is { Length: > 0 } value
                && facts.Text(field.Feeds) != value
                && facts.WithText(field.Feeds, value, newest.Rulebook.Attributes, out _) is not null
            )
                changes.Add(new(field.Feeds, facts.Text(field.Feeds), value));
        var at = now.ToUnixTimeMilliseconds();
        var reason = JsonSerializer.Serialize(new Reason(key.ToString(), "", task.DoneBy));
        foreach (var change in changes)
            await s.EndFieldAsync(row.Id, row.Number, change.Name, at, at, outcome.Step.RequestId);
        await s.AddExtrasAsync([
            .. changes.Select(change => new ExtraRow
            {
                Id = Guid.CreateVersion7(now).ToString(),
                PersonId = row.Id,
                Kind = Inputs.FieldKind,
                Subject = change.Name,
                Employment = row.Number,
                Value = change.After,
                FromAt = at,
                Reason = reason,
                RequestId = outcome.Step.RequestId,
            }),
        ]);
        return changes;
    }

    /// <summary>What came with the entitlement goes with it, save where somebody said something else since.</summary>
    private static async Task<IReadOnlyList<AttributeDifference>> TakeBackAsync(
        Session s,
        Outcome outcome,
        IReadOnlyList<ExtraRow> extras,
        EntitlementKey key,
        DateTimeOffset now
    )
    {
        var ours = extras
            .GroupBy(e => (e.Employment, e.Subject))
            .Select(g => g.Last())
            .Where(e => Recorded.ReasonOf(e.Reason).Rule == key.ToString())
            .ToList();
        foreach (var field in ours)
            await s.EndFieldAsync(
                field.PersonId,
                field.Employment,
                field.Subject,
                field.FromAt,
                now.ToUnixTimeMilliseconds(),
                outcome.Step.RequestId
            );
        return [.. ours.Select(e => new AttributeDifference(e.Subject, e.Value, ""))];
    }

    /// <summary>
    /// What follows from values that a request brought or took, raised once all else of it is done: what it still does would be
    /// planned a second time. A request that is open already has them in its plan.
    /// </summary>
    /// <param name="of">A request that is completed.</param>
    public async Task CompletedAsync(Session s, Case of, DateTimeOffset now)
    {
        var newest = await editions.CurrentAsync(CancellationToken.None);
        var desks = of
            .Plan.Changes.Where(c => c is Change.Grant or Change.Revoke)
            .Select(c => newest.Rulebook.Targets.GetValueOrDefault(c.Target))
            .Where(t => t is { Settings: TargetSettings.Desk })
            .Distinct()
            .ToList();
        foreach (var target in desks.OfType<TargetRule>())
        {
            bool IsOf(ExtraRow e) => EntitlementKey.TryParse(Recorded.ReasonOf(e.Reason).Rule, out var key) && key.Target == target.Name;
            var given = (await s.ExtrasAsync([of.Row.PersonId])).Where(e =>
                e.Kind == Inputs.FieldKind && e.RequestId == of.Row.Id && IsOf(e)
            );
            var taken = (await s.FieldsEndedByAsync(of.Row.Id)).Where(IsOf);
            List<AttributeDifference> changes =
            [
                .. given.Select(e => new AttributeDifference(e.Subject, "", e.Value)),
                .. taken.Select(e => new AttributeDifference(e.Subject, e.Value, "")),
            ];
            await AskAsync(s, of.Person, of.Row.Id, target, newest, changes, now);
        }
    }

    private static async Task AskAsync(
        Session s,
        PersonRow row,
        string request,
        TargetRule target,
        Edition newest,
        IReadOnlyList<AttributeDifference> changes,
        DateTimeOffset now
    )
    {
        var person = row.Id;
        if (
            changes.Count == 0
            || (await s.OpenRequestsOfAsync([person])).Count > 0
            // Of who has left nothing changes any more.
            || Term.Of((await Recorded.LoadAsync(s, [person])).Subject(person, newest), newest.Rulebook).End <= now
        )
            return;
        var titles = string.Join(", ", changes.Select(c => newest.Rulebook.TitleOf(c.Name)).Distinct());
        var text = changes.Any(c => c.After.Length > 0)
            ? $"{target.Title} gave {row.Display} {titles}"
            : $"{target.Title} took back what {row.Display} had: {titles}";
        await Raising.RaiseAsync(
            s,
            [
                new(
                    person,
                    "change",
                    Case.DefaultFor(newest, "change").Name,
                    newest.Number,
                    new Cause(
                        text,
                        target.Name,
                        null,
                        [.. changes.Select(c => new AttributeChange(c.Name, Texts(c.Before), Texts(c.After)))]
                    )
                )
                {
                    Source = target.Name,
                    Details = [("what", "task-values"), ("by", request), ("source", target.Name)],
                },
            ],
            now
        );
    }

    private static IReadOnlyList<string> Texts(string text) => text.Length > 0 ? [text] : [];
}
