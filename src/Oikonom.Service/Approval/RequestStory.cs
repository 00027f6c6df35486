using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core;
using Oikonom.Core.Approval;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Planning;
using Oikonom.Service.Common;
using Oikonom.Service.Records;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <summary>A request told in sentences: what was done, where it stands, what comes next, on whom it waits and since when.</summary>
internal static class RequestStory
{
    /// <summary>What the sentences of one state are made of.</summary>
    private sealed record Told(Case Of, List<string> Done, DateTimeOffset Since)
    {
        public RequestRow Row => Of.Row;
        public string Waits => RequestViews.WaitsOn(Row);

        public Story So(string now, string next, string? act) => new(Done, now, next, Waits, Since, act);

        /// <summary>Nothing follows, and nobody is waited for.</summary>
        public Story Over(string now, string next = "Nothing follows.") => new(Done, now, next, "nobody", Since, null);
    }

    /// <param name="steps">Those of the plan as it is now, see <see cref="OfPlan"/>.</param>
    /// <param name="still">Why nothing begins in a target that steps are for; null when something does.</param>
    public static Story Of(
        Case of,
        Cause cause,
        IReadOnlyList<StepView> steps,
        IReadOnlyList<TaskView> tasks,
        IReadOnlyList<string> asked,
        string? still,
        DateTimeOffset moment
    )
    {
        var told = new Told(of, Done(of, cause, steps), of.Row.SinceAt.ToInstant());
        return of.Row.State switch
        {
            RequestState.Planning => Planning(told),
            RequestState.Choosing => told.So(
                "Several entries in the target could be this person.",
                "An operator picks the right one; then the plan is made.",
                "An operator chooses one of the entries shown."
            ),
            RequestState.Asked => Asked(told, asked),
            RequestState.Deciding => Deciding(told),
            RequestState.Releasing => Releasing(told),
            RequestState.Fulfilling => Fulfilling(told, steps, tasks, still, moment),
            RequestState.Completed => Completed(told, steps),
            RequestState.Lapsed => told.Over("Nothing of it was wanted any more when it ran; nothing was done."),
            RequestState.Withdrawn => told.Over(TakenBack(steps), Follows(of)),
            _ => told.Over("It was declined; nothing was changed."),
        };
    }

    /// <summary>
    /// The steps of the plan as it is now: none before it is released, and of those with the same place in it the last, since
    /// a plan that was made anew leaves the dropped steps of the one before it behind.
    /// </summary>
    public static IReadOnlyList<StepRow> OfPlan(Case of, IReadOnlyList<StepRow> steps) =>
        of.Row.State is RequestState.Fulfilling or RequestState.Completed or RequestState.Lapsed
        || of.Row is { State: RequestState.Withdrawn, Outcome: RequestOutcome.Partly }
            ? [.. steps.Where(s => s.Ordinal <= of.Plan.Changes.Count).GroupBy(s => s.Ordinal).OrderBy(g => g.Key).Select(g => g.Last())]
            : [];

    /// <summary>Of the steps of a request, those of its plan that changed something.</summary>
    public static IReadOnlyList<StepRow> DoneOf(Case of, IReadOnlyList<StepRow> steps) =>
        [
            .. OfPlan(of, steps)
                .Where(s =>
                    s.State == StepState.Done
                    && JsonSerializer.Deserialize<Change>(s.Change, JsonSerializerOptions.Web) is not Change.Verify
                ),
        ];

    /// <summary>The end of why something was left out, when another request does it with other values.</summary>
    public const string GoesOn = " goes on with other values";

    /// <summary>The verdict on what was done and is undone.</summary>
    public const string Undone = "undone";

    /// <summary>The verdict on what was taken back.</summary>
    public const string Withdrawn = "withdrawn";

    /// <summary>Who took a request back so that another one sets right what it did, or null. What somebody writes in a remark is
    /// never taken for it.</summary>
    public static DecisionRow? TakenBackBy(Case of) =>
        of.Decisions.LastOrDefault(d => d is { Verdict: Undone or Withdrawn, Item.Length: > 0 });

    private static string Follows(Case of) =>
        TakenBackBy(of) is { Item: var other } ? $"Request {other} sets right what was done." : "Nothing follows.";

    private static string TakenBack(IReadOnlyList<StepView> steps)
    {
        var done = steps.Where(s => s.State == "done" && s.Kind != EnumText.Of(ChangeKind.Verify)).Select(s => $"“{s.Text}”").ToList();
        var others = done.Count > 3 ? $" and {done.Count - 3} more" : "";
        return done.Count == 0
            ? "It was taken back; nothing was changed."
            : $"It was taken back when {string.Join(", ", done.Take(3))}{others} {(done.Count == 1 ? "was" : "were")} done; "
                + "the rest was not carried out.";
    }

    private static List<string> Done(Case of, Cause cause, IReadOnlyList<StepView> steps)
    {
        var row = of.Row;
        var done = new List<string> { $"{cause.Text} (raised by {row.Requester} on {At(row.CreatedAt)})." };
        if (of.Plan.From is { } from && row.State is RequestState.Fulfilling or RequestState.Completed)
            done.Add($"{of.Person.Display} was put on edition {of.Plan.Edition} of the rulebook, from edition {from}.");
        var items = RequestViews.ItemsOf(of);
        done.AddRange(of.Decisions.Select(d => $"{Verb(d, items)} {At(d.At)}{(d.Remark.Length > 0 ? $": “{d.Remark}”" : "")}."));
        var (ran, dropped) = (steps.Count(s => !s.Later && s.State == "done"), steps.Count(s => !s.Later && s.State == "dropped"));
        if (ran + dropped > 0)
        {
            var rest =
                row.State == RequestState.Withdrawn
                    ? $"{dropped} {(dropped == 1 ? "was" : "were")} not carried out"
                    : NoLongerWanted(dropped);
            done.Add($"{ran} of {steps.Count(s => !s.Later)} steps are done{(dropped > 0 ? $", {rest}" : "")}.");
        }
        return done;
    }

    private static string NoLongerWanted(int count) => count == 1 ? "1 was no longer wanted" : $"{count} were no longer wanted";

    private static Story Planning(Told told) =>
        told.Row.Problem.Length > 0
            ? told.So(
                $"It cannot be planned yet: {told.Row.Problem}",
                "Then the approval begins.",
                "It tries again by itself and goes on when the cause is gone."
            )
            : told.So("The targets are being looked at and the plan is made.", "Then the approval begins.", null);

    private static Story Asked(Told told, IReadOnlyList<string> asked) =>
        asked.Count > 0
            ? told.So(
                $"The template leaves open what HR does not tell: {string.Join(", ", asked)}.",
                "Then the plan is made.",
                $"{Capital(told.Waits)} fills it in."
            )
            : told.So(
                $"A question was asked: “{told.Of.Decisions.LastOrDefault(d => d.Verdict == "asked")?.Remark}”",
                $"Then “{told.Row.StageTitle}” decides; until then its clock stands still.",
                $"{Capital(told.Waits)} answers."
            );

    private static Story Deciding(Told told)
    {
        var (of, row) = (told.Of, told.Row);
        var (given, needed) = (of.Open.Sum(b => of.Given(b).Count), of.Open.Sum(b => b.Needed));
        var sofar = of.Open.Count > 1 || of.Open.Any(b => b.Needed > 1) ? $"; {given} of {needed} approvals are given" : "";
        return told.So(
            $"It waits for the decision “{row.StageTitle}” of {row.DeciderWhy}{sofar}.{(row.Late == 1 ? " It is late." : "")}",
            After(of),
            $"{Capital(told.Waits)} approves or declines it."
        );
    }

    private static Story Releasing(Told told) =>
        told.Row.Held.Length > 0
            ? told.So(
                $"It is approved and held: {told.Row.Held}",
                "It is released when it may go on.",
                $"{Capital(told.Waits)} lets it go on."
            )
            : told.So("It is approved and waits for release.", "Then the steps run.", $"{Capital(told.Waits)} releases it.");

    /// <summary>How a step begins to tell of a state of the world that it waits for.</summary>
    public const string Waits = "It waits until ";

    private static Story Fulfilling(
        Told told,
        IReadOnlyList<StepView> steps,
        IReadOnlyList<TaskView> tasks,
        string? still,
        DateTimeOffset moment
    )
    {
        var now = steps.Where(s => !s.Later).ToList();
        if (still is not null && !now.Exists(s => s.State == "stopped"))
            return told.So(still, "Then the steps run by themselves.", null);
        // What needs somebody comes before what goes on by itself.
        static bool IsWaiting(StepView s) => s.Problem!.StartsWith(Waits, StringComparison.Ordinal);
        var troubled = now.Where(s => s.Problem is not null && s.State is "pending" or "stopped")
            .OrderBy(s =>
                s.State == "stopped" ? 0
                : IsWaiting(s) ? 2
                : 1
            )
            .FirstOrDefault();
        if (troubled is { State: "pending" } waiting && IsWaiting(waiting))
            return told.So($"“{waiting.Text}”: {waiting.Problem}", "Then it goes on by itself.", null);
        if (troubled is { } problem)
            return told.So(
                $"“{problem.Text}” does not succeed: {problem.Problem}",
                problem.State == "stopped"
                    ? "It stands until somebody acts."
                    : $"It is tried again at {At(problem.Due)} (attempt {problem.Attempts + 1}).",
                problem.State == "stopped"
                    ? "Mend the cause, or change what is wrong, then let an operator try again."
                    : "It goes on by itself when the cause is gone."
            );
        if (told.Of.Row.BlockedBy is { } other)
            return told.So(
                $"Request {other} stopped in the same account; what follows there waits for it.",
                "Then it goes on by itself.",
                $"Mend what stopped request {other}."
            );
        var next = now.Find(s => s.State is "pending" or "stopped");
        if (tasks.Where(t => t.State == "open").ToList() is { Count: > 0 } open && (next is null || next.Due > moment))
            return told.So(
                $"It waits for work by hand: {string.Join("; ", open.Select(t => t.Title))}.",
                "Then it completes.",
                $"{Capital(open[0].TakenBy ?? $"an {open[0].Role}")} does it, by {At(open[0].Due)}."
            );
        return next is not null && next.Due > moment
            ? told.So($"It waits for {At(next.Due)}: “{next.Text}”.", "Then it completes.", null)
            : told.So("The steps are being carried out.", next is null ? "It completes." : $"Next: {next.Text}.", null);
    }

    private static Story Completed(Told told, IReadOnlyList<StepView> steps)
    {
        if (TakenBackBy(told.Of) is { } undone)
            return told.Over($"All of it was done; then {undone.Actor} had it undone: “{undone.Remark}”.", Follows(told.Of));
        var dropped = steps.Where(s => !s.Later && s.State == "dropped").ToList();
        var now =
            steps.Count == 0
                ? told.Of.Wish.ChangesInputs
                    ? "It is recorded; no target needed to change."
                    : "Nothing needed to change."
                : dropped.Count > 0
                    ? InPart(dropped)
                    : "All steps are done; the targets were read back and are as planned.";
        var later = steps.Where(s => s.Later && s.State == "pending").ToList();
        return later.Count == 0
            ? told.Over(now)
            : told.Over(
                now,
                $"{later.Count} change{(later.Count == 1 ? " is" : "s are")} scheduled; the first at {At(later[0].Due)}: “{later[0].Text}”."
            );
    }

    private static string InPart(List<StepView> dropped) =>
        $"It is done in part: {NoLongerWanted(dropped.Count)} when their turn came, the first: “{dropped[0].Text}”. "
        + "The others are done and were read back.";

    private static string Verb(DecisionRow d, IReadOnlyList<ItemView> items)
    {
        var who = d.OnBehalf.Length > 0 && d.Actor != "oikonom" ? $"{d.Actor} for {d.OnBehalf}" : d.Actor;
        var title = items.FirstOrDefault(i => i.Key == d.Item)?.Title ?? d.Item;
        var item = title.Length > 0 ? $" {title}" : "";
        return d.Verdict switch
        {
            "released" => $"Released by {who} on",
            "approved" => $"{d.StageTitle}: approved{item} by {who} on",
            "declined" => $"{d.StageTitle}: declined{item} by {who} on",
            "struck" => $"{d.StageTitle}: {title} declined by {who} on",
            "skipped" => $"{d.StageTitle}: not asked on",
            "asked" => $"Asked by {who} on",
            "answered" => $"Answered by {who} on",
            "commented" => $"Comment of {who} on",
            "changed" => $"Changed by {who} on",
            "held" => $"Held by {who} on",
            "resumed" => $"Let go on by {who} on",
            "left-out" => $"Step {d.Item} left out by {who} on",
            "returned" => $"Sent back by {who} on",
            Withdrawn => $"Taken back by {who} on",
            Undone => $"Undone by {who} on",
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

    public static string At(DateTimeOffset at) =>
        at.UtcDateTime.ToString("yyyy-MM-dd HH:mm 'UTC'", System.Globalization.CultureInfo.InvariantCulture);

    private static string Capital(string text) => text.Length == 0 ? text : char.ToUpperInvariant(text[0]) + text[1..];
}
