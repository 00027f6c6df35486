using System.Security.Claims;
using System.Text.Json;
using Oikonom.Core;
using Oikonom.Core.Approval;
using Oikonom.Core.Intake;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <content>What requester and approver say to each other, and what is changed or taken back before it is carried out.</content>
public sealed partial class RequestDesk
{
    /// <summary>An approver asks back: the clock stops until the requester answers.</summary>
    public Task AskAsync(string id, ClaimsPrincipal user, string? question, CancellationToken cancel)
    {
        var text = Text(question, "text", "Write the question.");
        return store.WriteAsync(
            async s =>
            {
                var of = await LoadAsync(s, id, cancel);
                RequireMove(of, RequestEvent.AskBack);
                of.RequireVotes(of.PartyOf(user), time.GetUtcNow());
                of.Row.Move(RequestEvent.AskBack, (int)of.Row.Stage, of.Stages.Count);
                var clock = StageClock.FromJson(of.Row.Clock) with { Stopped = time.Milliseconds() };
                (of.Row.Clock, of.Row.ClockAt) = (clock.ToJson(), null);
                await RemarkAsync(s, of, user, "asked", text);
                notices.ToRequester(s, of, NoticeEvents.Asked, new() { ["by"] = user.UserName(), ["text"] = text });
                await SaveAsync(s, Touched(of.Row));
            },
            cancel
        );
    }

    /// <summary>The requester answers; the decision goes on where it stood, with the time that was left.</summary>
    public Task AnswerAsync(string id, ClaimsPrincipal user, string? answer, CancellationToken cancel)
    {
        var text = Text(answer, "text", "Write the answer.");
        return store.WriteAsync(
            async s =>
            {
                var of = await LoadAsync(s, id, cancel);
                if (of.Row is { State: RequestState.Asked, Stage: RequestMachine.BeforeThePlan })
                    throw Problem.Conflict("fields-open", "Fill in what is asked for; the plan is made of it.");
                RequireMove(of, RequestEvent.Answer);
                if (!IsRequesters(of, user))
                    throw new RefusedMove("not-yours", $"The question goes to the requester, {of.Row.Requester}.");
                of.Row.Move(RequestEvent.Answer, (int)of.Row.Stage, of.Stages.Count);
                var clock = StageClock.FromJson(of.Row.Clock);
                var rested = time.Milliseconds() - (clock.Stopped ?? time.Milliseconds());
                clock = clock with { Deadline = clock.Deadline + rested, Remind = clock.Remind + rested, Stopped = null };
                (of.Row.Clock, of.Row.ClockAt) = (clock.ToJson(), clock.Next);
                await RemarkAsync(s, of, user, "answered", text);
                foreach (var decider in of.Deciding(of.StillOpen()))
                    notices.To(s, of, decider, NoticeEvents.Answered, new() { ["by"] = user.UserName(), ["text"] = text });
                await SaveAsync(s, Touched(of.Row));
            },
            cancel
        );
    }

    public Task CommentAsync(string id, ClaimsPrincipal user, string? comment, CancellationToken cancel)
    {
        var text = Text(comment, "text", "Write the comment.");
        return store.WriteAsync(
            async s =>
            {
                var of = await LoadAsync(s, id, cancel);
                user.RequireReach(of.Person.Site, of.Person.Department);
                await RemarkAsync(s, of, user, "commented", text);
                s.Tell("requests", id);
            },
            cancel
        );
    }

    /// <param name="follows">The request that sets right what was done, when there is one.</param>
    private async Task RemarkAsync(Session s, Case of, ClaimsPrincipal user, string verdict, string text, long? follows = null)
    {
        await s.AddDecisionAsync(
            new()
            {
                RequestId = of.Row.Id,
                Stage = of.Stage?.Name ?? "",
                StageTitle = of.Row.StageTitle,
                Actor = user.UserName(),
                Verdict = verdict,
                Remark = text,
                Item = follows?.ToString(System.Globalization.CultureInfo.InvariantCulture) ?? "",
                Digest = of.Row.PlanDigest ?? "",
                Round = of.Row.Round,
                At = time.Milliseconds(),
            }
        );
        s.Record(
            LedgerEntry.Of(
                time.GetUtcNow(),
                user.UserName(),
                $"request.{verdict}",
                of.Row.PersonId,
                of.Row.Id,
                ("text", text),
                ("follows", follows)
            )
        );
        s.Tell("requests", of.Row.Id);
    }

    /// <summary>True when a request is the caller's: raised by them, or by a feed that nobody stands behind.</summary>
    public static bool IsRequesters(Case of, ClaimsPrincipal user) =>
        of.Row.Requester == user.UserName() || (of.User(of.Row.Requester) is null && user.RoleNames().Contains(Roles.Requester));

    /// <summary>
    /// Takes a request back. What is being carried out stops: what has not run does not run, what was approved with it is no
    /// input any more, and what was done is told. What that leaves otherwise than the inputs say becomes a request of its own.
    /// </summary>
    /// <exception cref="RefusedMove">The request is over, it is another's to take back, or a step of it runs at this moment.</exception>
    public Task WithdrawAsync(string id, ClaimsPrincipal user, string? reason, CancellationToken cancel)
    {
        Check(reason);
        return store.WriteAsync(
            async s =>
            {
                var of = await LoadAsync(s, id, cancel);
                RequireMove(of, RequestEvent.Withdraw);
                if (WhyNotWithdraw(of, of.PartyOf(user), IsRequesters(of, user)) is { } why)
                    throw new RefusedMove(why.Code, why.Text);
                var running = of.Row.State == RequestState.Fulfilling;
                if (running)
                    await RequireStillAsync(s, id);
                var follows = running ? await StopAsync(s, of, user) : null;
                await TakenBackAsync(s, of, user, reason ?? "", follows);
            },
            cancel
        );
    }

    private async Task TakenBackAsync(Session s, Case of, ClaimsPrincipal user, string reason, long? follows)
    {
        await RemarkAsync(s, of, user, RequestStory.Withdrawn, reason, follows);
        await stages.EnterAsync(s, of, RequestEvent.Withdraw);
        if (!IsRequesters(of, user))
            notices.ToRequester(
                s,
                of,
                NoticeEvents.Withdrawn,
                new()
                {
                    ["by"] = user.UserName(),
                    ["text"] = reason.Length > 0 ? $": {reason}" : "",
                    ["effect"] = of.Row.Outcome == RequestOutcome.Partly ? "Some of it had been done already." : "",
                }
            );
        await SaveAsync(s, of.Row);
    }

    /// <summary>How long after it was done a joiner is undone as such; later somebody leaves like anybody else.</summary>
    private static readonly TimeSpan Undoable = TimeSpan.FromDays(30);

    /// <summary>
    /// Takes a joiner back with all it did: the employment counts as over until people or HR say something else. One that runs stops, and
    /// is undone at once; of one that is done people decide, as of any leaver.
    /// </summary>
    /// <exception cref="RefusedMove">It is no joiner that runs or was done of late, it is another's to take back, a step of it runs at
    /// this moment, or its person has something else here that would end with it.</exception>
    public Task UndoAsync(string id, ClaimsPrincipal user, string? reason, CancellationToken cancel)
    {
        var why = Text(reason, "reason", "Say why it is undone; whoever decided on it reads that.");
        return store.WriteAsync(
            async s =>
            {
                var of = await LoadAsync(s, id, cancel);
                var (row, now) = (of.Row, time.GetUtcNow());
                if (WhyNotUndo(of, of.PartyOf(user), now) is { } not)
                    throw new RefusedMove(not.Code, not.Text);
                var subject = (await Recorded.LoadAsync(s, [row.PersonId])).Subject(row.PersonId, of.Edition);
                if (subject.Employments.Skip(1).Any(e => Term.Of(e, of.Edition.Rulebook).End > now))
                    throw new RefusedMove(
                        "other-employment",
                        "The person has another employment here, whose access would end, too; give this one its last day on the record."
                    );
                var running = row.State == RequestState.Fulfilling;
                if ((await s.OpenRequestsOfAsync([row.PersonId])).FirstOrDefault(r => r.Id != id) is { } open)
                    throw new RefusedMove("open-request", $"Request {open.Number} ({open.Kind}) is open; decide on that one first.");
                if (running)
                    await RequireStillAsync(s, id);
                if (running)
                    await StopAsync(s, of, user, undo: true);
                var raised = await Raising.RaiseAsync(
                    s,
                    [
                        new(
                            row.PersonId,
                            EnumText.Of(RequestKind.Leaver),
                            running ? Workflow.Undone.Name : Case.DefaultFor(of.Edition, EnumText.Of(RequestKind.Leaver)).Name,
                            row.Edition,
                            $"Request {row.Number} is undone: {why}"
                        )
                        {
                            Requester = user.UserName(),
                            Wish = new Wish
                            {
                                Reason = why,
                                Urgent = true,
                                Undoes = row.Number,
                            }.ToJson(),
                            Details = [("undoes", row.Id)],
                        },
                    ],
                    now
                );
                var follows = (await s.RequestAsync(raised[0]))!.Number;
                if (running)
                    await TakenBackAsync(s, of, user, why, follows);
                else
                    await RemarkAsync(s, of, user, RequestStory.Undone, why, follows);
            },
            cancel
        );
    }

    /// <summary>Why somebody may not undo a request; null when they may.</summary>
    public static (string Code, string Text)? WhyNotUndo(Case of, Party party, DateTimeOffset now)
    {
        var row = of.Row;
        if (
            row.Kind != EnumText.Of(RequestKind.Joiner)
            || !(
                row.State == RequestState.Fulfilling
                || (row.State == RequestState.Completed && row.CompletedAt.ToInstant() > now - Undoable)
            )
        )
            return ("nothing-to-undo", "Only a joiner that runs, or was done within a month, is undone; raise a leaver.");
        if (RequestStory.TakenBackBy(of) is not null)
            return ("nothing-to-undo", "It was undone before.");
        return party.IsBeneficiary(of.About) ? ("own-request", "This request is about yourself; somebody else takes it back.")
            // What a source tells has nobody behind it: asking for things is no reason to cut somebody off.
            : IsAsked(of, party) || party.Roles.Contains(Roles.Engineer) || OperatesAll(of, party) ? null
            : ("not-yours", "Only who raised it by hand, an engineer, or an operator of its targets undoes it.");
    }

    /// <summary>Whether somebody asked for it by hand; who only ran a source did not.</summary>
    private static bool IsAsked(Case of, Party party) => of.Row.Source == Workflow.ByHand && of.Row.Requester == party.UserName;

    private static bool OperatesAll(Case of, Party party) =>
        of.Plan.Changes.Select(c => c.Target).Distinct().All(t => party.Holds(Roles.Operator, of.About, t));

    private async Task RequireStillAsync(Session s, string id)
    {
        if (await s.IsRunningAsync(id, time.Milliseconds()))
            throw new RefusedMove("running", "A step of it is being carried out at this moment; try again in a few seconds.");
    }

    /// <summary>Why somebody may not take a request back; null when they may, as far as its state allows.</summary>
    public static (string Code, string Text)? WhyNotWithdraw(Case of, Party party, bool requesters)
    {
        var running = of.Row.State == RequestState.Fulfilling;
        var asked = IsAsked(of, party);
        if (party.IsBeneficiary(of.About) && !asked)
            return ("own-request", "This request is about yourself; somebody else takes it back.");
        if (running && of.Row.Workflow == Workflow.WrittenEnd.Name)
            return ("written-end", "A written end runs whoever decides; who stays has another last day on the record.");
        // What takes access away is stopped by nobody but who asked for it, or an engineer.
        if (running && of.Row.Kind is "leaver" or "end" && !asked && !party.Roles.Contains(Roles.Engineer))
            return ("not-yours", $"What takes access away is taken back by who asked for it, {of.Row.Requester}, or by an engineer.");
        if (requesters || party.Roles.Contains(Roles.Engineer))
            return null;
        if (!running)
            return ("not-yours", $"Only the requester, {of.Row.Requester}, or an engineer takes a request back.");
        return OperatesAll(of, party)
            ? null
            : (
                "not-yours",
                $"Only the requester, {of.Row.Requester}, an engineer, or an operator of its targets takes a request back that runs."
            );
    }

    /// <summary>Stops what is being carried out.</summary>
    /// <param name="undo">Whether something else undoes all that was done.</param>
    /// <returns>The number of the request that sets right what was done, when one was raised.</returns>
    private async Task<long?> StopAsync(Session s, Case of, ClaimsPrincipal user, bool undo = false)
    {
        var (row, now) = (of.Row, time.GetUtcNow());
        var at = now.ToUnixTimeMilliseconds();
        var why = $"taken back by {user.UserName()}";
        var done = RequestStory.DoneOf(of, await s.StepsOfAsync(row.Id));
        await s.DropPendingAsync(row.Id, why, at);
        await s.DropTasksAsync(row.Id, why, at);
        await s.FreeChainsAsync(row.Id);
        row.Outcome = done.Count > 0 ? RequestOutcome.Partly : RequestOutcome.None;
        row.Problem = "";
        await s.LookAgainAsync([row.PersonId], at);
        if (!of.Wish.ChangesInputs)
            return null;
        // What was given ends by itself; whatever else was done is set right the way any change is, with a plan that people see.
        var given = undo ? [] : GivenBy(of, done);
        await stages.TakeBackAsync(s, of, given);
        if (undo || done.Count == 0 || row.SubjectKind != SubjectKind.Person)
            return null;
        var kind = EnumText.Of(given.Count > 0 ? RequestKind.End : RequestKind.Change);
        var raised = await Raising.RaiseAsync(
            s,
            [
                new(
                    row.PersonId,
                    kind,
                    given.Count > 0 ? Workflow.GivenBack.Name : Case.DefaultFor(of.Edition, kind).Name,
                    row.Edition,
                    $"Request {row.Number} was taken back when some of it was done"
                )
                {
                    Requester = user.UserName(),
                    Wish = given.Count > 0 ? new Wish { Reason = $"request {row.Number} was taken back", Ends = given }.ToJson() : "{}",
                    Details = [("undoes", row.Id)],
                },
            ],
            now
        );
        return (await s.RequestAsync(raised[0]))!.Number;
    }

    /// <summary>What a request gave that was asked for, where it did nothing else; else none.</summary>
    private static List<string> GivenBy(Case of, IReadOnlyList<StepRow> done)
    {
        var given = done.Select(s => JsonSerializer.Deserialize<Change>(s.Change, JsonSerializerOptions.Web)).ToList();
        var asked = of.Wish.Grants.Select(g => g.Key).ToHashSet();
        return given.TrueForAll(c => c is Change.Grant grant && asked.Contains(grant.Given))
            ? [.. given.OfType<Change.Grant>().Select(g => g.Given.ToString())]
            : [];
    }

    /// <summary>Changes what was asked for, or what the stage lets an approver change; the plan is made anew.</summary>
    public Task ChangeAsync(
        string id,
        ClaimsPrincipal user,
        string digest,
        Func<Wish, Wish> change,
        Func<Wish, Wish, IReadOnlyList<string>> touched,
        CancellationToken cancel
    ) =>
        store.WriteAsync(
            async s =>
            {
                var of = await LoadAsync(s, id, cancel);
                RequireMove(of, RequestEvent.Replan);
                if (of.Row.State == RequestState.Fulfilling)
                    throw new RefusedMove("wrong-state", "The request is being carried out; raise another one to change it.");
                RequireDigest(of.Row, digest);
                var wish = change(of.Wish);
                var fields = touched(of.Wish, wish);
                if (fields.Count == 0)
                    throw Problem.Conflict("unchanged", "Nothing would change.");
                var asked =
                    of.Row.State == RequestState.Asked && IsRequesters(of, user)
                        ? of
                            .Edition.Rulebook.Access.Ask()
                            .Asks(new(Core.People.PersonId.Parse(of.Person.Id), of.About.Facts, new Dictionary<AccountKey, string>()))
                        : [];
                if ((!IsRequesters(of, user) || of.Row.Source != Workflow.ByHand) && !fields.All(asked.Contains))
                {
                    if (of.Stage is not { } stage)
                        throw new RefusedMove(
                            "not-yours",
                            "Only its approvers, while they decide, change a request that they did not raise."
                        );
                    of.RequireVotes(of.PartyOf(user), time.GetUtcNow());
                    if (fields.FirstOrDefault(f => !stage.MayChange.Contains(f)) is { } forbidden)
                    {
                        var may = stage.MayChange.Count > 0 ? $"; it may change {string.Join(", ", stage.MayChange)}" : "";
                        throw new RefusedMove("not-yours", $"The workflow does not let this stage change '{forbidden}'{may}.");
                    }
                }
                of.Row.Wish = wish.ToJson();
                await RemarkAsync(s, of, user, "changed", string.Join(", ", fields));
                await ReplanAsync(s, of.Row, $"{user.UserName()} changed {string.Join(", ", fields)}");
            },
            cancel
        );
}
