using System.Security.Claims;
using System.Text.Json;
using Oikonom.Core.Approval;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Ledger;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Intake;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <content>What operators do: release, hold, send back, choose between entries, try again; and planning anew.</content>
public sealed partial class RequestDesk
{
    public Task ReleaseAsync(string id, ClaimsPrincipal user, string digest, CancellationToken cancel) =>
        store.WriteAsync(s => ReleaseAsync(s, id, user, digest, cancel), cancel);

    /// <summary>Releases inside a decision, so that many can be released as one.</summary>
    public async Task ReleaseAsync(Session s, string id, ClaimsPrincipal user, string digest, CancellationToken cancel)
    {
        var of = await LoadAsync(s, id, cancel);
        RequireReleaser(of, user, RequestEvent.Release);
        if (of.Row.Held.Length > 0)
            throw new RefusedMove("held", $"It is held: {of.Row.Held} Let it go on first.");
        if (
            of.Workflow.FourEyes
            && of.Decisions.Any(d =>
                d.Verdict == "approved" && d.Round == of.Row.Round && of.PersonOf(d.Actor) == of.PersonOf(user.UserName())
            )
        )
            throw new RefusedMove("own-request", "You approved this request; the workflow wants somebody else to release it.");
        RequireDigest(of.Row, digest);
        s.Record(LedgerEntry.Of(time.GetUtcNow(), user.UserName(), "request.released", of.Row.PersonId, id, ("digest", of.Row.PlanDigest)));
        await s.AddDecisionAsync(
            new()
            {
                RequestId = id,
                StageTitle = "Release",
                Actor = user.UserName(),
                Verdict = "released",
                Digest = of.Row.PlanDigest ?? "",
                Round = of.Row.Round,
                At = time.Milliseconds(),
            }
        );
        await stages.EnterAsync(s, of, RequestEvent.Release);
        await SaveAsync(s, of.Row);
    }

    private static void RequireReleaser(Case of, ClaimsPrincipal user, RequestEvent what)
    {
        RequireState(of, RequestState.Releasing, what);
        var party = of.PartyOf(user);
        if (party.IsBeneficiary(of.About))
            throw new RefusedMove("own-request", "This request is for yourself; somebody else releases it.");
        var deciders = DecidersOf(of.Row);
        if (deciders.Includes(party, of.About))
            return;
        var elsewhere = party.Roles.Contains(deciders.Role ?? "") ? ", in another part of the organisation than yours" : "";
        throw new RefusedMove("not-yours", $"The release belongs to {deciders.Why}{elsewhere}.");
    }

    public Task HoldAsync(string id, ClaimsPrincipal user, string? reason, bool hold, CancellationToken cancel)
    {
        var why = hold ? Text(reason, "reason", "Say why it is held.") : "";
        return store.WriteAsync(
            async s =>
            {
                var of = await LoadAsync(s, id, cancel);
                RequireReleaser(of, user, RequestEvent.Release);
                if (hold == of.Row.Held.Length > 0)
                    throw new RefusedMove("wrong-state", hold ? "It is held already." : "It is not held.");
                of.Row.Held = why;
                await RemarkAsync(s, of, user, hold ? "held" : "resumed", why);
                await SaveAsync(s, Touched(of.Row));
            },
            cancel
        );
    }

    /// <summary>The operator sends it back: all approvals are asked for again.</summary>
    public Task ReturnAsync(string id, ClaimsPrincipal user, string? reason, CancellationToken cancel)
    {
        var why = Text(reason, "reason", "Say why it goes back.");
        return store.WriteAsync(
            async s =>
            {
                var loaded = await LoadAsync(s, id, cancel);
                RequireReleaser(loaded, user, RequestEvent.Return);
                await RemarkAsync(s, loaded, user, "returned", why);
                loaded.Row.Round++;
                loaded.Row.Held = "";
                var of = await Case.LoadAsync(s, loaded.Row, loaded.Edition, time.GetUtcNow());
                await stages.EnterAsync(s, of, RequestEvent.Return);
                if (of.Row.State == RequestState.Planning)
                    of.Row.DueAt = time.Milliseconds();
                await SaveAsync(s, of.Row);
            },
            cancel
        );
    }

    public Task ChooseAsync(string id, ClaimsPrincipal user, string target, string immutableId, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                var of = await LoadAsync(s, id, cancel);
                var row = of.Row;
                user.RequireReach(row.Site, row.Department, Roles.Operator);
                user.RequireTargets([target], Roles.Operator);
                if (of.PartyOf(user).IsBeneficiary(of.About))
                    throw new RefusedMove("own-request", "This request is for yourself; somebody else says which entry is yours.");
                RequireMove(of, RequestEvent.Chosen);
                var candidates = JsonSerializer.Deserialize<List<ExistingAccount>>(row.Candidates) ?? [];
                if (!candidates.Exists(c => c.Target == target && c.ImmutableId == immutableId))
                    throw Problem.Invalid("That entry is not one of those shown.", "immutableId");
                var chosen = JsonSerializer.Deserialize<Dictionary<string, string>>(row.Chosen) ?? [];
                chosen[target] = immutableId;
                row.Chosen = JsonSerializer.Serialize(chosen);
                row.Move(RequestEvent.Chosen);
                s.Record(
                    LedgerEntry.Of(
                        time.GetUtcNow(),
                        user.UserName(),
                        "request.chosen",
                        row.PersonId,
                        id,
                        ("target", target),
                        ("immutableId", immutableId)
                    )
                );
                await PlanAnewAsync(s, row);
            },
            cancel
        );

    /// <summary>Lets stopped steps and a waiting plan try again at once.</summary>
    public Task RetryAsync(string id, ClaimsPrincipal user, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                var row = await RequireAsync(s, id);
                user.RequireReach(row.Site, row.Department, Roles.Operator);
                if (row.Plan is { } plan)
                    user.RequireTargets([.. Plan.FromJson(plan).Changes.Select(c => c.Target).Distinct()], Roles.Operator);
                if (row.State is not (RequestState.Planning or RequestState.Fulfilling or RequestState.Completed))
                    throw new RefusedMove(
                        "wrong-state",
                        $"The request is {RequestMachine.Name(row.State)}; there is nothing to try again."
                    );
                s.Record(LedgerEntry.Of(time.GetUtcNow(), user.UserName(), "request.retried", row.PersonId, id));
                if (row.State == RequestState.Planning)
                    await PlanAnewAsync(s, row);
                else
                    await s.RetryAsync(id, time.Milliseconds());
                s.Tell("requests", id);
            },
            cancel
        );

    /// <summary>True when a step stopped, or was tried in vain.</summary>
    public static bool IsFailing(StepRow step) => step.State == StepState.Stopped || (step.State == StepState.Pending && step.Attempts > 0);

    /// <summary>What a step changes.</summary>
    public static Change ChangeOf(StepRow step) => JsonSerializer.Deserialize<Change>(step.Change, JsonSerializerOptions.Web)!;

    /// <summary>Why somebody may not leave steps out; null when they may.</summary>
    public static (string Code, string Text)? WhyNotLeaveOut(Case of, IReadOnlyList<StepRow> steps, Party party)
    {
        if (party.IsBeneficiary(of.About))
            return ("own-request", "This request is about yourself; somebody else says what is left out.");
        if (steps.Any(x => ChangeOf(x).TakesAway) && !party.Roles.Contains(Roles.Engineer))
            return ("not-yours", "What takes access away is left out by an engineer alone. Mend the cause, then let it try again.");
        return steps.All(x => party.Holds(Roles.Operator, of.About, x.Target)) || party.Roles.Contains(Roles.Engineer)
            ? null
            : ("not-yours", "Only an operator of these targets, or an engineer, leaves steps out.");
    }

    /// <summary>Takes a request back inside a decision, when what raised it holds no more. One that runs already goes on.</summary>
    public async Task TakeBackAsync(Session s, RequestRow row, string actor, string why)
    {
        var of = await Case.LoadAsync(s, row, await editions.GetAsync(row.Edition, CancellationToken.None), time.GetUtcNow());
        if (!RequestMachine.IsOpen(row.State) || row.State == RequestState.Fulfilling)
            return;
        await s.AddDecisionAsync(
            new()
            {
                RequestId = row.Id,
                StageTitle = row.StageTitle,
                Actor = actor,
                Verdict = RequestStory.Withdrawn,
                Remark = why,
                Digest = row.PlanDigest ?? "",
                Round = row.Round,
                At = time.Milliseconds(),
            }
        );
        s.Record(LedgerEntry.Of(time.GetUtcNow(), actor, "request.withdrawn", row.PersonId, row.Id, ("text", why)));
        await stages.EnterAsync(s, of, RequestEvent.Withdraw);
        await SaveAsync(s, row);
    }

    private async Task PlanAnewAsync(Session s, RequestRow row)
    {
        var now = time.Milliseconds();
        (row.DueAt, row.Attempts, row.LeaseUntil, row.LeaseOwner, row.SinceAt, row.UpdatedAt) = (now, 0, 0, "", now, now);
        await SaveAsync(s, row);
        s.Tell("requests", row.Id);
    }

    string IOpenRequests.WorkflowFor(Edition edition, string kind) => Case.DefaultFor(edition, kind).Name;

    /// <inheritdoc/>
    public Task RenewAsync(Session session, RequestRow row, string why)
    {
        if (row.State is RequestState.Deciding or RequestState.Asked or RequestState.Releasing)
            return ReplanAsync(session, row, why);
        row.Move(RequestEvent.Renew);
        (row.DueAt, row.UpdatedAt) = (time.Milliseconds(), Math.Max(time.Milliseconds(), row.UpdatedAt + 1));
        return SaveAsync(session, row);
    }

    /// <summary>Sends a request back to planning, inside a decision: what it rests on changed. Approvals that it does not touch
    /// stay.</summary>
    public async Task ReplanAsync(Session s, RequestRow row, string why, bool save = true)
    {
        if (row.State is RequestState.Deciding or RequestState.Releasing)
            row.Waited = Waiting.Of(row).ToJson();
        row.Move(RequestEvent.Replan);
        var now = time.Milliseconds();
        await s.DropPendingAsync(row.Id, $"planned anew: {why}", now);
        await s.DropTasksAsync(row.Id, $"planned anew: {why}", now);
        row.PlanBefore ??= row.Plan;
        (row.Problem, row.DueAt, row.Attempts, row.SinceAt, row.UpdatedAt) = ("", now, 0, now, Math.Max(now, row.UpdatedAt + 1));
        (row.StageTitle, row.Deciders, row.DeciderRole, row.DeciderWhy, row.Ballots, row.Clock, row.ClockAt, row.Late, row.Held) = (
            "",
            "",
            "",
            "",
            "[]",
            "{}",
            null,
            0,
            ""
        );
        if (save)
            await SaveAsync(s, row);
        s.Record(LedgerEntry.Of(time.GetUtcNow(), "oikonom", "request.planned-anew", row.PersonId, row.Id, ("why", why)));
        s.Tell("requests", row.Id);
    }
}
