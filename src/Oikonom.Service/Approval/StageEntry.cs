using System.Text.Json;
using Oikonom.Core.Approval;
using Oikonom.Core.Ledger;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Hosting;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <summary>
/// Moves a request to its next state inside a decision: finds who decides, makes the steps, sends the notices.
/// Every move of a request goes through here and through the state machine.
/// </summary>
public sealed class StageEntry(TimeProvider time, ServiceOptions options)
{
    /// <summary>The workflow of a kind; a correction without one of its own goes the way of a mover.</summary>
    public static Workflow WorkflowFor(Edition edition, string kind) => edition.Rulebook.Workflows.FirstOrDefault(w => w.For.Contains(kind)) ?? edition.Rulebook.Workflows.First(w => w.For.Contains("mover"));

    /// <summary>The stages of the workflow, and one for each approver whom a broken separation demands.</summary>
    public static IReadOnlyList<Stage> StagesOf(Workflow workflow, Plan? plan) =>
        [.. workflow.Stages, .. (plan?.Conflicts ?? []).GroupBy(c => c.Decides).Select(g => new Stage($"separation-{g.Key}", string.Join("; ", g.Select(c => c.Title)), g.Key, g.Key, workflow.Place))];

    public async Task EnterAsync(Session s, RequestRow row, Plan plan, Edition edition, RequestEvent what)
    {
        var workflow = WorkflowFor(edition, row.Kind);
        var stages = StagesOf(workflow, plan);
        var (state, stage) = RequestMachine.Next(StateOf(row), what, (int)row.Stage, stages.Count, workflow.ReleasedByOperator);
        var now = time.Milliseconds();
        (row.State, row.Stage, row.Workflow, row.SinceAt, row.UpdatedAt) = (NameOf(state), stage, workflow.Name, now, now);
        (row.StageTitle, row.Deciders, row.DeciderRole, row.DeciderWhy) = ("", "", "", "");
        switch (state)
        {
            case RequestState.Deciding:
                await EnterStageAsync(s, row, stages[stage]);
                break;
            case RequestState.Fulfilling:
                await MakeStepsAsync(s, row, plan);
                break;
            case RequestState.Completed:
                row.CompletedAt = now;
                s.Record(LedgerEntry.Of(time.GetUtcNow(), "oikonom", "request.completed", row.PersonId, row.Id, ("note", "nothing to change")));
                await TellRequesterAsync(s, row, "is complete: nothing needed to change");
                break;
        }
        s.Tell("requests", row.Id);
    }

    private async Task EnterStageAsync(Session s, RequestRow row, Stage stage)
    {
        var users = await s.UsersAsync();
        var person = await s.PersonAsync(row.PersonId) ?? throw new InvalidOperationException($"The person of request {row.Id} is gone.");
        var parties = users.Select(u => new Party(u.Name, u.Roles.Split(' ').ToHashSet(), u.Number.Length > 0 ? u.Number : null, u.Active == 1)).ToList();
        var deciders = DecisionRight.Resolve(stage.Decides, stage.Otherwise, person.Manager, row.Requester, person.Number, parties);
        row.StageTitle = stage.Title;
        row.Deciders = deciders.UserNames.Count == 0 ? "" : $"|{string.Join('|', deciders.UserNames)}|";
        row.DeciderRole = deciders.Role ?? "";
        row.DeciderWhy = deciders.Why;
        foreach (var user in users.Where(u => u.Active == 1 && u.Mail.Length > 0 && u.Name != row.Requester && u.Number != person.Number &&
            (deciders.UserNames.Contains(u.Name) || (deciders.Role is { } role && u.Roles.Split(' ').Contains(role)))))
        {
            s.Send(new(user.Mail, $"Please decide: {row.Kind} {person.Display} (request {row.Number})",
                $"Dear {user.Display},\n\nthe {row.Kind} request {row.Number} for {person.Display} ({person.Title}, {person.Department}) waits for your decision as {deciders.Why}.\n\n" +
                $"See the whole effect and decide:\n{options.PublicAddress}/requests/{row.Id}\n\nThe link alone decides nothing; you sign in first.\n", row.Id));
        }
    }

    private async Task MakeStepsAsync(Session s, RequestRow row, Plan plan)
    {
        var now = time.GetUtcNow();
        await s.AddStepsAsync([.. plan.Changes.Select(change => new StepRow
        {
            Id = Guid.CreateVersion7(now).ToString(), RequestId = row.Id, PersonId = row.PersonId, Target = change.Target, Ordinal = change.Ordinal,
            Change = JsonSerializer.Serialize(change, JsonSerializerOptions.Web), DueAt = (change.Due ?? now).ToUnixTimeMilliseconds(), Later = change.Later ? 1 : 0,
        })]);
    }

    public async Task TellRequesterAsync(Session s, RequestRow row, string what)
    {
        if (await s.UserAsync(row.Requester) is not { Active: 1, Mail.Length: > 0 } user) return;
        var person = await s.PersonAsync(row.PersonId);
        s.Send(new(user.Mail, $"Request {row.Number}, {row.Kind} {person?.Display}: {what}",
            $"Dear {user.Display},\n\nyour {row.Kind} request {row.Number} for {person?.Display} {what}.\n\n{options.PublicAddress}/requests/{row.Id}\n", row.Id));
    }

    public static RequestState StateOf(RequestRow row) => JsonSerializer.Deserialize<RequestState>($"\"{row.State}\"");
    public static string NameOf(RequestState state) => JsonSerializer.Serialize(state).Trim('"');
}
