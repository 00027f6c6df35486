using System.Security.Claims;
using System.Text.Json;
using Oikonom.Core.Approval;
using Oikonom.Core.Ledger;
using Oikonom.Core.Planning;
using Oikonom.Service.Access;
using Oikonom.Service.Hosting;
using Oikonom.Service.Rulebook;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <summary>Decisions of people on requests. Each is one transaction, and bound to the plan that was shown.</summary>
public sealed class RequestDesk(Store.Store store, EditionBook editions, StageEntry stages, TimeProvider time)
{
    private const int MaxRemark = 2000;

    public async Task ApproveAsync(string id, ClaimsPrincipal user, string digest, string? remark, CancellationToken cancel)
    {
        Check(remark);
        await DecideAsync(id, user, "approved", remark ?? "", digest, RequestEvent.Approve, cancel);
    }

    public async Task DeclineAsync(string id, ClaimsPrincipal user, string? reason, CancellationToken cancel)
    {
        if (string.IsNullOrWhiteSpace(reason)) throw Problem.Invalid("Say why: a decline needs a reason.", "reason");
        Check(reason);
        await DecideAsync(id, user, "declined", reason.Trim(), null, RequestEvent.Decline, cancel);
    }

    private static void Check(string? remark)
    {
        if (remark?.Length > MaxRemark) throw Problem.Invalid($"A remark has {MaxRemark} characters at most.", "remark");
    }

    private async Task DecideAsync(string id, ClaimsPrincipal user, string verdict, string remark, string? digest, RequestEvent what, CancellationToken cancel)
    {
        await store.WriteAsync(async s =>
        {
            var row = await RequireAsync(s, id);
            // The machine first: it says best why nothing can be decided.
            var edition = await editions.GetAsync(row.Edition, cancel);
            var workflow = StageEntry.WorkflowFor(edition, row.Kind);
            RequestMachine.Next(StageEntry.StateOf(row), what, (int)row.Stage, StageEntry.StagesOf(workflow, PlanOf(row)).Count, workflow.ReleasedByOperator);
            DecisionRight.Require(user.AsParty(), DecidersOf(row), row.Requester, row.PersonNumber);
            if (digest is not null) RequireDigest(row, digest);
            var plan = PlanOf(row) ?? new Plan(edition.Number, []);
            await s.AddDecisionAsync(new() { RequestId = id, StageTitle = row.StageTitle, Actor = user.UserName(), Verdict = verdict, Remark = remark, Digest = row.PlanDigest ?? "", At = time.Milliseconds() });
            s.Record(LedgerEntry.Of(time.GetUtcNow(), user.UserName(), $"request.{verdict}", row.PersonId, id,
                ("stage", row.StageTitle), ("as", row.DeciderWhy), ("digest", row.PlanDigest), ("remark", remark.Length > 0 ? remark : null)));
            await stages.EnterAsync(s, row, plan, edition, what);
            if (row.State == "declined")
            {
                row.CompletedAt = time.Milliseconds();
                await s.ReleaseNamesAsync(row.PersonId);
                await s.ReleaseNumbersAsync(row.PersonId);
                await stages.TellRequesterAsync(s, row, $"was declined by {user.UserName()}: {remark}");
            }
            else if (row.State == "releasing") await stages.TellRequesterAsync(s, row, "was approved and waits for release");
            await s.SaveRequestAsync(row);
        }, cancel);
    }

    public Task ReleaseAsync(string id, ClaimsPrincipal user, string digest, CancellationToken cancel) => store.WriteAsync(async s =>
    {
        var row = await RequireAsync(s, id);
        var edition = await editions.GetAsync(row.Edition, cancel);
        var workflow = StageEntry.WorkflowFor(edition, row.Kind);
        RequestMachine.Next(StageEntry.StateOf(row), RequestEvent.Release, (int)row.Stage, StageEntry.StagesOf(workflow, PlanOf(row)).Count, workflow.ReleasedByOperator);
        if (user.Number() is { Length: > 0 } number && number == row.PersonNumber) throw new RefusedMove("own-request", "This request is for yourself; somebody else releases it.");
        RequireDigest(row, digest);
        s.Record(LedgerEntry.Of(time.GetUtcNow(), user.UserName(), "request.released", row.PersonId, id, ("digest", row.PlanDigest)));
        await s.AddDecisionAsync(new() { RequestId = id, StageTitle = "Release", Actor = user.UserName(), Verdict = "released", Digest = row.PlanDigest ?? "", At = time.Milliseconds() });
        await stages.EnterAsync(s, row, Plan.FromJson(row.Plan!), edition, RequestEvent.Release);
        await s.SaveRequestAsync(row);
    }, cancel);

    public Task ChooseAsync(string id, ClaimsPrincipal user, string target, string immutableId, CancellationToken cancel) => store.WriteAsync(async s =>
    {
        var row = await RequireAsync(s, id);
        RequestMachine.Next(StageEntry.StateOf(row), RequestEvent.Chosen, 0, 0, true);
        var candidates = JsonSerializer.Deserialize<List<ExistingAccount>>(row.Candidates) ?? [];
        if (!candidates.Exists(c => c.Target == target && c.ImmutableId == immutableId)) throw Problem.Invalid("That entry is not one of those shown.", "immutableId");
        var chosen = JsonSerializer.Deserialize<Dictionary<string, string>>(row.Chosen) ?? [];
        chosen[target] = immutableId;
        (row.Chosen, row.State) = (JsonSerializer.Serialize(chosen), "planning");
        s.Record(LedgerEntry.Of(time.GetUtcNow(), user.UserName(), "request.chosen", row.PersonId, id, ("target", target), ("immutableId", immutableId)));
        await PlanAnewAsync(s, row);
    }, cancel);

    /// <summary>Lets stopped steps and a waiting plan try again at once.</summary>
    public Task RetryAsync(string id, ClaimsPrincipal user, CancellationToken cancel) => store.WriteAsync(async s =>
    {
        var row = await RequireAsync(s, id);
        if (row.State is not ("planning" or "fulfilling" or "completed")) throw new RefusedMove("wrong-state", $"The request is {RequestMachine.Name(StageEntry.StateOf(row))}; there is nothing to try again.");
        s.Record(LedgerEntry.Of(time.GetUtcNow(), user.UserName(), "request.retried", row.PersonId, id));
        if (row.State == "planning") await PlanAnewAsync(s, row);
        else await s.RetryAsync(id, time.Milliseconds());
        s.Tell("requests", id);
    }, cancel);

    private async Task PlanAnewAsync(Session s, RequestRow row)
    {
        var now = time.Milliseconds();
        (row.DueAt, row.Attempts, row.LeaseUntil, row.LeaseOwner, row.SinceAt, row.UpdatedAt) = (now, 0, 0, "", now, now);
        await s.SaveRequestAsync(row);
        s.Tell("requests", row.Id);
    }

    /// <summary>Sends a request back to planning, inside a decision: what it rests on changed.</summary>
    public async Task ReplanAsync(Session s, RequestRow row, string why)
    {
        var (state, _) = RequestMachine.Next(StageEntry.StateOf(row), RequestEvent.Replan, 0, 0, true);
        var now = time.Milliseconds();
        await s.DropPendingAsync(row.Id, $"planned anew: {why}", now);
        (row.State, row.Stage, row.Problem, row.DueAt, row.Attempts, row.SinceAt, row.UpdatedAt) = (StageEntry.NameOf(state), 0, "", now, 0, now, now);
        (row.StageTitle, row.Deciders, row.DeciderRole, row.DeciderWhy) = ("", "", "", "");
        await s.SaveRequestAsync(row);
        s.Record(LedgerEntry.Of(time.GetUtcNow(), "oikonom", "request.planned-anew", row.PersonId, row.Id, ("why", why)));
        s.Tell("requests", row.Id);
    }

    private static Plan? PlanOf(RequestRow row) => row.Plan is null ? null : Plan.FromJson(row.Plan);

    public static Deciders DecidersOf(RequestRow row) => new(row.Deciders.Split('|', StringSplitOptions.RemoveEmptyEntries), row.DeciderRole.Length > 0 ? row.DeciderRole : null, row.DeciderWhy);

    private static async Task<RequestRow> RequireAsync(Session s, string id) =>
        await s.RequestAsync(id, forUpdate: true) ?? throw Problem.NotFound($"request '{id}'", "See 'oikonom requests list'.");

    private static void RequireDigest(RequestRow row, string digest)
    {
        if (row.PlanDigest != digest)
            throw Problem.Conflict("plan-changed", "The plan is not the one you were shown. Look at it again, then decide.", ("planDigest", row.PlanDigest ?? ""));
    }
}
