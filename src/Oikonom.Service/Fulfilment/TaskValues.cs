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
        // Of who has left nothing changes any more.
        if (Term.Of(recorded.Subject(person, newest), newest.Rulebook).End > now)
            await AskAsync(s, outcome, row, target, newest, changes, now);
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

    /// <summary>A request that waits is planned anew; else one is raised.</summary>
    private async Task AskAsync(
        Session s,
        Outcome outcome,
        PersonRow row,
        TargetRule target,
        Edition newest,
        IReadOnlyList<AttributeDifference> changes,
        DateTimeOffset now
    )
    {
        if (
            (await s.OpenRequestsOfAsync([row.Id])).FirstOrDefault() is { } open
            && await s.RequestAsync(open.Id, forUpdate: true) is { } waiting
        )
        {
            if (waiting.State is RequestState.Deciding or RequestState.Asked or RequestState.Releasing)
                await requests.ReplanAsync(s, waiting, $"{target.Title} gave {row.Display} other values");
            else
            {
                // A plan that is just being made rests on what was before.
                waiting.Move(RequestEvent.Renew);
                (waiting.DueAt, waiting.UpdatedAt) = (
                    now.ToUnixTimeMilliseconds(),
                    Math.Max(now.ToUnixTimeMilliseconds(), waiting.UpdatedAt + 1)
                );
                await s.SaveRequestAsync(waiting);
            }
            return;
        }
        var gives = outcome.Change is Change.Grant;
        var titles = changes.Select(c => newest.Rulebook.TitleOf(c.Name)).ToList();
        await Raising.RaiseAsync(
            s,
            [
                new(
                    row.Id,
                    "change",
                    Case.DefaultFor(newest, "change").Name,
                    newest.Number,
                    new Cause(
                        gives
                            ? $"{target.Title} gave {row.Display} {string.Join(", ", titles)}"
                            : $"{target.Title} took back what {row.Display} had: {string.Join(", ", titles)}",
                        target.Name,
                        null,
                        [.. changes.Select(c => new AttributeChange(c.Name, Texts(c.Before), Texts(c.After)))]
                    )
                )
                {
                    Source = target.Name,
                    Details = [("what", "task-values"), ("by", outcome.Step.RequestId), ("source", target.Name)],
                },
            ],
            now
        );
    }

    private static IReadOnlyList<string> Texts(string text) => text.Length > 0 ? [text] : [];
}
