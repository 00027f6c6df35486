using System.Security.Claims;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Approval;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Hosting;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <summary>The cause of a request as it is stored.</summary>
public sealed record Cause(string Text, string? Source, int? Line, IReadOnlyList<AttributeChange> Differences);

/// <summary>Tells a request in plain words: what was done, what is next, on whom it waits and since when.</summary>
public static class RequestViews
{
    public static RequestSummary Summary(RequestRow row) => new(
        row.Id, row.Number, row.Kind, row.State, RequestMachine.Name(StageEntry.StateOf(row)), row.PersonId, row.Display, row.PersonNumber, row.Department, row.Site, row.StartDay,
        WaitsOn(row), row.SinceAt.ToInstant(), row.Problem.Length > 0 ? row.Problem : null, row.CreatedAt.ToInstant(), row.CompletedAt.ToInstant(), row.Requester);

    public static string WaitsOn(RequestRow row) => row.State switch
    {
        "planning" => row.Problem.Length > 0 ? "a target that does not answer" : "Oikonom",
        "choosing" or "releasing" => "an operator",
        "deciding" => row.Deciders.Length > 0 ? string.Join(", ", row.Deciders.Split('|', StringSplitOptions.RemoveEmptyEntries)) : $"an {row.DeciderRole}",
        "fulfilling" => row.Problem.Length > 0 ? "a target that does not answer as it should" : "Oikonom",
        _ => "nobody",
    };

    public static RequestDetail Detail(RequestRow row, IReadOnlyList<StepRow> steps, IReadOnlyList<DecisionRow> decisions, Edition? edition, ClaimsPrincipal user, DateTimeOffset now)
    {
        var plan = row.Plan is null ? null : Plan.FromJson(row.Plan);
        var cause = JsonSerializer.Deserialize<Cause>(row.Cause) ?? new("", null, null, []);
        var changes = plan?.Changes.Select(c => View(c, edition)).ToList() ?? [];
        var texts = changes.ToDictionary(c => c.Ordinal, c => c.Text);
        var stepViews = steps.Select(step =>
        {
            var change = JsonSerializer.Deserialize<Change>(step.Change, JsonSerializerOptions.Web)!;
            return new StepView(step.Id, (int)step.Ordinal, step.State, View(change, edition).Text, (int)step.Attempts, step.Problem.Length > 0 ? step.Problem : null, step.DueAt.ToInstant(), step.DoneAt.ToInstant(), step.Later == 1);
        }).ToList();
        var candidates = row.Candidates.Length == 0 ? [] : JsonSerializer.Deserialize<List<ExistingAccount>>(row.Candidates)!.ConvertAll(c => new CandidateView(
            c.Target, c.ImmutableId, c.Name, c.Location, c.MatchedBy, [.. c.Attributes.Select(a => new AttributeValue(a.Key, string.Join(", ", a.Value)))]));
        return new(Summary(row), new(cause.Text, cause.Source, cause.Line, [.. cause.Differences.Select(d => new AttributeChangeView(d.Name, d.Before, d.After))]),
            (int)row.Edition, row.Workflow, row.PlanDigest, Story(row, cause, stepViews, decisions, edition is null ? null : StageEntry.WorkflowFor(edition, row.Kind), now), changes, stepViews,
            [.. decisions.Select(d => new DecisionView(d.StageTitle, d.Actor, d.Verdict, d.Remark, d.At.ToInstant()))], candidates, RightsOf(row, steps, user));
    }

    public static ChangeView View(Change change, Edition? edition)
    {
        var target = edition?.Rulebook.Targets.GetValueOrDefault(change.Target);
        return new(change.Ordinal, JsonSerializer.Serialize(change.Kind).Trim('"'), Text(change, target), change.Target, change.Subject, change.Due, change.Later,
            [.. change.Attributes.Select(a => new AttributeChangeView(a.Name, a.Before, a.After))], new(change.Reason.Rule, change.Reason.Place, change.Reason.Condition));
    }

    public static string Text(Change change, TargetRule? target)
    {
        var where = target?.Title ?? change.Target;
        var entitlement = target?.Entitlements.GetValueOrDefault(change.Subject)?.Title ?? change.Subject;
        return change.Kind switch
        {
            ChangeKind.CreateAccount => $"Create the account {change.Account} in {where}{(change.Enabled ? "" : ", asleep until the first day")}",
            ChangeKind.AdoptAccount => $"Take over the existing account {change.Account} in {where}",
            ChangeKind.ChangeAccount => $"Change the account {change.Account} in {where}",
            ChangeKind.SetPassword => $"Set a password nobody knows on {change.Account}, and send a one-time link",
            ChangeKind.EnableAccount => $"Wake the account {change.Account} in {where}",
            ChangeKind.DisableAccount => $"Disable the account {change.Account} in {where}",
            ChangeKind.Grant => $"Add {change.Account} to {entitlement} in {where}",
            ChangeKind.Revoke => $"Remove {change.Account} from {entitlement} in {where}",
            _ => $"Read {change.Account} back from {where} and compare",
        };
    }

    private static Story Story(RequestRow row, Cause cause, List<StepView> steps, IReadOnlyList<DecisionRow> decisions, Workflow? workflow, DateTimeOffset moment)
    {
        var done = new List<string> { $"{cause.Text} (raised by {row.Requester} on {At(row.CreatedAt)})." };
        done.AddRange(decisions.Select(d => $"{(d.Verdict == "released" ? "Released" : $"{d.StageTitle}: {d.Verdict}")} by {d.Actor} on {At(d.At)}{(d.Remark.Length > 0 ? $": “{d.Remark}”" : "")}."));
        var now = steps.Where(s => !s.Later).ToList();
        var finished = now.Count(s => s.State is "done" or "dropped");
        if (finished > 0) done.Add($"{finished} of {now.Count} steps are done.");
        var later = steps.Where(s => s.Later && s.State == "pending").ToList();
        var next = now.Find(s => s.State is "pending" or "stopped");
        var since = row.SinceAt.ToInstant();
        switch (row.State)
        {
            case "planning":
                return new(done, row.Problem.Length > 0 ? $"It cannot be planned yet: {row.Problem}" : "The targets are being looked at and the plan is made.", "Then the approval begins.", WaitsOn(row), since,
                    row.Problem.Length > 0 ? "It tries again by itself and goes on when the cause is gone." : null);
            case "choosing":
                return new(done, "Several entries in the target could be this person.", "An operator picks the right one; then the plan is made.", WaitsOn(row), since, "An operator chooses one of the entries shown.");
            case "deciding":
                return new(done, $"It waits for the decision “{row.StageTitle}” of {row.DeciderWhy}.", After(row, workflow), WaitsOn(row), since, $"{Capital(WaitsOn(row))} approves or declines it.");
            case "releasing":
                return new(done, "It is approved and waits for release.", "Then the steps run.", WaitsOn(row), since, "An operator releases it.");
            case "fulfilling":
                var problem = now.Find(s => s.Problem is not null && s.State is "pending" or "stopped");
                if (problem is not null)
                    return new(done, $"“{problem.Text}” does not succeed: {problem.Problem}", problem.State == "stopped" ? "It stands until somebody acts." : $"It is tried again at {At(problem.Due)} (attempt {problem.Attempts + 1}).", WaitsOn(row), since,
                        problem.State == "stopped" ? "Mend the cause, then let an operator retry." : "It goes on by itself when the cause is gone.");
                if (next is not null && next.Due > moment)
                    return new(done, $"It waits for {At(next.Due)}: “{next.Text}”.", "Then it completes.", "the calendar", since, null);
                return new(done, "The steps are being carried out.", next is null ? "It completes." : $"Next: {next.Text}.", "Oikonom", since, null);
            case "completed":
                return new(done, steps.Count == 0 ? "Nothing needed to change." : "All steps are done; the targets were read back and are as planned.",
                    later.Count > 0 ? $"{later.Count} change{(later.Count == 1 ? " is" : "s are")} scheduled; the first at {At(later[0].Due)}: “{later[0].Text}”." : "Nothing follows.", "nobody", since, null);
            default:
                return new(done, "It was declined; nothing was changed.", "Nothing follows.", "nobody", since, null);
        }
    }

    private static string After(RequestRow row, Workflow? workflow)
    {
        if (workflow is null) return "Then it goes on as the workflow says.";
        var stages = StageEntry.StagesOf(workflow, row.Plan is null ? null : Plan.FromJson(row.Plan));
        if (row.Stage + 1 < stages.Count) return $"Then “{stages[(int)row.Stage + 1].Title}” decides.";
        return workflow.ReleasedByOperator ? "Then an operator releases it, and the steps run." : "Then the steps run at once.";
    }

    private static Rights RightsOf(RequestRow row, IReadOnlyList<StepRow> steps, ClaimsPrincipal user)
    {
        var roles = user.RoleNames();
        var isOperator = roles.Contains(Roles.Operator);
        string? whyNot = null;
        var decide = false;
        if (row.State == "deciding")
        {
            try
            {
                if (!roles.Contains(Roles.Approver)) whyNot = "Your roles do not include approver.";
                else
                {
                    DecisionRight.Require(user.AsParty(), RequestDesk.DecidersOf(row), row.Requester, row.PersonNumber);
                    decide = true;
                }
            }
            catch (RefusedMove refused)
            {
                whyNot = refused.Message;
            }
        }
        return new(decide, decide, isOperator && row.State == "releasing" && user.Number() != row.PersonNumber, isOperator && row.State == "choosing",
            isOperator && ((row.State == "planning" && row.Problem.Length > 0) || steps.Any(s => s.State == "stopped" || (s.State == "pending" && s.Attempts > 0))), whyNot);
    }

    private static string At(long milliseconds) => At(milliseconds.ToInstant());
    private static string At(DateTimeOffset at) => at.UtcDateTime.ToString("yyyy-MM-dd HH:mm 'UTC'", System.Globalization.CultureInfo.InvariantCulture);
    private static string Capital(string text) => text.Length == 0 ? text : char.ToUpperInvariant(text[0]) + text[1..];
}
