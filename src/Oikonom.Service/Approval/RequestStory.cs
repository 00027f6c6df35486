using Oikonom.Contracts;
using Oikonom.Core.Approval;
using Oikonom.Service.Common;
using Oikonom.Service.Records;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <summary>A request told in sentences: what was done, where it stands, what comes next, on whom it waits and since when.</summary>
internal static class RequestStory
{
    public static Story Of(
        Case of,
        Cause cause,
        List<StepView> steps,
        IReadOnlyList<TaskView> tasks,
        IReadOnlyList<string> asked,
        DateTimeOffset moment
    )
    {
        var row = of.Row;
        var done = new List<string> { $"{cause.Text} (raised by {row.Requester} on {At(row.CreatedAt)})." };
        if (of.Plan.From is { } from && row.State is RequestState.Fulfilling or RequestState.Completed)
            done.Add($"{of.Person.Display} was put on edition {of.Plan.Edition} of the rulebook, from edition {from}.");
        done.AddRange(of.Decisions.Select(d => $"{Verb(d)} {At(d.At)}{(d.Remark.Length > 0 ? $": “{d.Remark}”" : "")}."));
        var now = steps.Where(s => !s.Later).ToList();
        var finished = now.Count(s => s.State is "done" or "dropped");
        if (finished > 0)
            done.Add($"{finished} of {now.Count} steps are done.");
        var later = steps.Where(s => s.Later && s.State == "pending").ToList();
        var next = now.Find(s => s.State is "pending" or "stopped");
        var since = row.SinceAt.ToInstant();
        switch (row.State)
        {
            case RequestState.Planning:
                return new(
                    done,
                    row.Problem.Length > 0
                        ? $"It cannot be planned yet: {row.Problem}"
                        : "The targets are being looked at and the plan is made.",
                    "Then the approval begins.",
                    RequestViews.WaitsOn(row),
                    since,
                    row.Problem.Length > 0 ? "It tries again by itself and goes on when the cause is gone." : null
                );
            case RequestState.Choosing:
                return new(
                    done,
                    "Several entries in the target could be this person.",
                    "An operator picks the right one; then the plan is made.",
                    RequestViews.WaitsOn(row),
                    since,
                    "An operator chooses one of the entries shown."
                );
            case RequestState.Asked when asked.Count > 0:
                return new(
                    done,
                    $"The template leaves open what HR does not tell: {string.Join(", ", asked)}.",
                    "Then the plan is made.",
                    RequestViews.WaitsOn(row),
                    since,
                    $"{Capital(RequestViews.WaitsOn(row))} fills it in."
                );
            case RequestState.Asked:
                return new(
                    done,
                    $"A question was asked: “{of.Decisions.LastOrDefault(d => d.Verdict == "asked")?.Remark}”",
                    $"Then “{row.StageTitle}” decides; until then its clock stands still.",
                    RequestViews.WaitsOn(row),
                    since,
                    $"{Capital(RequestViews.WaitsOn(row))} answers."
                );
            case RequestState.Deciding:
                var (given, needed) = (of.Open.Sum(b => of.Given(b).Count), of.Open.Sum(b => b.Needed));
                var sofar = of.Open.Count > 1 || of.Open.Any(b => b.Needed > 1) ? $"; {given} of {needed} approvals are given" : "";
                return new(
                    done,
                    $"It waits for the decision “{row.StageTitle}” of {row.DeciderWhy}{sofar}.{(row.Late == 1 ? " It is late." : "")}",
                    After(of),
                    RequestViews.WaitsOn(row),
                    since,
                    $"{Capital(RequestViews.WaitsOn(row))} approves or declines it."
                );
            case RequestState.Releasing when row.Held.Length > 0:
                return new(
                    done,
                    $"It is approved and held: {row.Held}",
                    "It is released when it may go on.",
                    RequestViews.WaitsOn(row),
                    since,
                    $"{Capital(RequestViews.WaitsOn(row))} lets it go on."
                );
            case RequestState.Releasing:
                return new(
                    done,
                    "It is approved and waits for release.",
                    "Then the steps run.",
                    RequestViews.WaitsOn(row),
                    since,
                    $"{Capital(RequestViews.WaitsOn(row))} releases it."
                );
            case RequestState.Fulfilling:
                var problem = now.Find(s => s.Problem is not null && s.State is "pending" or "stopped");
                if (problem is not null)
                    return new(
                        done,
                        $"“{problem.Text}” does not succeed: {problem.Problem}",
                        problem.State == "stopped"
                            ? "It stands until somebody acts."
                            : $"It is tried again at {At(problem.Due)} (attempt {problem.Attempts + 1}).",
                        RequestViews.WaitsOn(row),
                        since,
                        problem.State == "stopped"
                            ? "Mend the cause, then let an operator retry."
                            : "It goes on by itself when the cause is gone."
                    );
                if (tasks.Where(t => t.State == "open").ToList() is { Count: > 0 } open && (next is null || next.Due > moment))
                    return new(
                        done,
                        $"It waits for work by hand: {string.Join("; ", open.Select(t => t.Title))}.",
                        "Then it completes.",
                        open[0].TakenBy ?? $"anyone with the role {open[0].Role}",
                        since,
                        $"{Capital(open[0].TakenBy ?? $"an {open[0].Role}")} does it, by {At(open[0].Due)}."
                    );
                if (next is not null && next.Due > moment)
                    return new(done, $"It waits for {At(next.Due)}: “{next.Text}”.", "Then it completes.", "the calendar", since, null);
                return new(
                    done,
                    "The steps are being carried out.",
                    next is null ? "It completes." : $"Next: {next.Text}.",
                    "Oikonom",
                    since,
                    null
                );
            case RequestState.Completed:
                return new(
                    done,
                    steps.Count == 0
                        ? of.Wish.ChangesInputs
                            ? "It is recorded; no target needed to change."
                            : "Nothing needed to change."
                        : "All steps are done; the targets were read back and are as planned.",
                    later.Count > 0
                        ? $"{later.Count} change{(later.Count == 1 ? " is" : "s are")} scheduled; the first at "
                            + $"{At(later[0].Due)}: “{later[0].Text}”."
                        : "Nothing follows.",
                    "nobody",
                    since,
                    null
                );
            case RequestState.Lapsed:
                return new(
                    done,
                    "Nothing of it was wanted any more when it ran; nothing was done.",
                    "Nothing follows.",
                    "nobody",
                    since,
                    null
                );
            case RequestState.Withdrawn:
                return new(done, "It was taken back; nothing was changed.", "Nothing follows.", "nobody", since, null);
            default:
                return new(done, "It was declined; nothing was changed.", "Nothing follows.", "nobody", since, null);
        }
    }

    private static string Verb(DecisionRow d)
    {
        var who = d.OnBehalf.Length > 0 && d.Actor != "oikonom" ? $"{d.Actor} for {d.OnBehalf}" : d.Actor;
        var item = d.Item.Length > 0 ? $" {d.Item}" : "";
        return d.Verdict switch
        {
            "released" => $"Released by {who} on",
            "approved" => $"{d.StageTitle}: approved{item} by {who} on",
            "declined" => $"{d.StageTitle}: declined{item} by {who} on",
            "struck" => $"{d.StageTitle}: {d.Item} declined by {who} on",
            "skipped" => $"{d.StageTitle}: not asked on",
            "asked" => $"Asked by {who} on",
            "answered" => $"Answered by {who} on",
            "commented" => $"Comment of {who} on",
            "changed" => $"Changed by {who} on",
            "held" => $"Held by {who} on",
            "resumed" => $"Let go on by {who} on",
            "returned" => $"Sent back by {who} on",
            "withdrawn" => $"Taken back by {who} on",
            "reminded" => $"{d.StageTitle}: reminded on",
            "escalated" => $"{d.StageTitle}: late, others were asked on",
            "replaced" => $"{d.StageTitle}: other approvers were found on",
            _ => $"{d.Verdict} by {who} on",
        };
    }

    private static string After(Case of)
    {
        for (var i = (int)of.Row.Stage + 1; i < of.Stages.Count; i++)
            if (of.Stages[i].Ballots.Any(b => Standing.IsOpen(b, of.Items, of.Votes, of.Struck, of.Plan.Inputs)))
                return $"Then “{of.Stages[i].Rule.Title}” decides.";
        return of.Workflow.ReleasedByOperator ? "Then an operator releases it, and the steps run." : "Then the steps run at once.";
    }

    private static string At(long milliseconds) => At(milliseconds.ToInstant());

    private static string At(DateTimeOffset at) =>
        at.UtcDateTime.ToString("yyyy-MM-dd HH:mm 'UTC'", System.Globalization.CultureInfo.InvariantCulture);

    private static string Capital(string text) => text.Length == 0 ? text : char.ToUpperInvariant(text[0]) + text[1..];
}
