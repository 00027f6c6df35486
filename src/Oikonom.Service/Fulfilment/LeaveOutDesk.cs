using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Service.Access;
using Oikonom.Service.Approval;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>
/// Leaves out what stopped, with a reason: the request goes on without it. What takes access away is left out by an engineer alone,
/// and nobody leaves out a step about themselves. With other values it is asked for anew in the same act: nothing runs that was not
/// decided as it then is.
/// </summary>
public sealed class LeaveOutDesk(Store.Store store, EditionBook editions, Aftermath aftermath, HandRequests hand, TimeProvider time)
{
    private const int LongestReason = 2000;

    /// <summary>Leaves out one step, or all that stopped or fail; with an account that is not made goes what is to be done in it.</summary>
    /// <exception cref="Problem">400: without a reason, or no such step failed.</exception>
    /// <exception cref="RefusedMove">It is another's to do, nothing is carried out, or a step runs at this moment.</exception>
    public Task LeaveOutAsync(string id, LeaveOutBody body, ClaimsPrincipal user, CancellationToken cancel)
    {
        if (body.Reason is not { } reason || string.IsNullOrWhiteSpace(reason) || reason.Length > LongestReason)
            throw Problem.Invalid($"Say why, in {LongestReason} characters at most.", "reason");
        return store.WriteAsync(
            async s =>
            {
                var row = await s.RequestAsync(id, forUpdate: true) ?? throw Named.NoRequest(id);
                var now = time.GetUtcNow();
                var of = await Case.LoadAsync(s, row, await editions.GetAsync(row.Edition, cancel), now);
                var steps = await s.StepsOfAsync(id);
                var chosen = steps.Where(x => RequestDesk.IsFailing(x) && (body.Step is null || x.Ordinal == body.Step)).ToList();
                if (chosen.Count == 0)
                    throw Problem.Invalid(
                        body.Step is { } ordinal ? $"Step {ordinal} neither stopped nor fails." : "No step stopped or fails.",
                        "step"
                    );
                if (RequestDesk.WhyNotLeaveOut(of, chosen, of.PartyOf(user)) is { } why)
                    throw new RefusedMove(why.Code, why.Text);
                if (await s.IsRunningAsync(id, now.ToUnixTimeMilliseconds()))
                    throw new RefusedMove("running", "A step of it is being carried out at this moment; try again in a few seconds.");
                var gone = chosen.Concat(Following(chosen, steps)).DistinctBy(x => x.Id).ToList();
                if (body.Record is { Count: > 0 } record)
                {
                    if (row.SubjectKind != SubjectKind.Person)
                        throw Problem.Invalid("It is about an account of nobody, which has no record.", "record");
                    var next = await hand.SetRightAsync(s, of.Person, record, reason, user, cancel);
                    reason = $"{reason}; request {next}{RequestStory.GoesOn}";
                }
                await DropAsync(s, of, gone, user.UserName(), reason, now);
            },
            cancel
        );
    }

    /// <summary>What cannot be done without what is left out: everything in an account that is not made, and its reading back.</summary>
    private static IEnumerable<StepRow> Following(List<StepRow> chosen, IReadOnlyList<StepRow> all) =>
        from step in chosen
        let change = RequestDesk.ChangeOf(step)
        from other in all
        where StepMachine.Open.Contains(other.State) && other.SubjectId == step.SubjectId && other.Ordinal > step.Ordinal
        let next = RequestDesk.ChangeOf(other)
        where next.Account == change.Account
        where change is Change.CreateAccount or Change.AdoptAccount ? true : next is Change.Verify && other.DueAt == step.DueAt
        select other;

    /// <summary>The numbers of steps in order; of three and more that follow each other the first and the last: 1–15, 17.</summary>
    private static string Ranges(IEnumerable<StepRow> steps)
    {
        var runs = new List<(long First, long Last)>();
        foreach (var number in steps.Select(x => x.Ordinal).Distinct().Order())
            if (runs.Count > 0 && runs[^1].Last == number - 1)
                runs[^1] = (runs[^1].First, number);
            else
                runs.Add((number, number));
        return string.Join(
            ", ",
            runs.Select(r =>
                r.First == r.Last ? $"{r.First}"
                : r.Last == r.First + 1 ? $"{r.First}, {r.Last}"
                : $"{r.First}–{r.Last}"
            )
        );
    }

    private async Task DropAsync(Session s, Case of, List<StepRow> steps, string actor, string reason, DateTimeOffset now)
    {
        var said = $"left out by {actor}: {reason}";
        await s.DropStepsAsync([.. steps.Select(x => (x.Id, said))], now.ToUnixTimeMilliseconds());
        await s.DropTasksOfStepsAsync(of.Row.Id, [.. steps.Select(x => x.Id)], said, now.ToUnixTimeMilliseconds());
        await s.AddDecisionAsync(
            new()
            {
                RequestId = of.Row.Id,
                StageTitle = "",
                Actor = actor,
                Verdict = "left-out",
                Item = Ranges(steps),
                Remark = reason,
                Digest = of.Row.PlanDigest ?? "",
                Round = of.Row.Round,
                At = now.ToUnixTimeMilliseconds(),
            }
        );
        s.Record(LedgerEntry.Of(now, actor, "steps.left-out", of.Row.PersonId, of.Row.Id, ("steps", Ranges(steps)), ("text", reason)));
        await s.SetProblemsAsync([(of.Row.Id, "", "")], now.ToUnixTimeMilliseconds());
        await aftermath.FollowAsync(
            s,
            [
                .. steps.Select(x => new Outcome(
                    new(x.SubjectId, x.Target, 0),
                    x,
                    RequestDesk.ChangeOf(x),
                    AttemptOutcome.NoLongerWanted,
                    said
                )),
            ],
            now
        );
        s.Tell("requests", of.Row.Id);
    }
}

/// <summary>Leaving out what stopped.</summary>
public static class LeaveOutEndpoints
{
    public static void MapLeavingOut(this RouteGroupBuilder api) =>
        api.MapPost(
                "/requests/{id}/leave-out",
                async (
                    string id,
                    LeaveOutBody body,
                    LeaveOutDesk desk,
                    Store.Store store,
                    EditionBook editions,
                    Sight sight,
                    TimeProvider time,
                    ClaimsPrincipal user,
                    CancellationToken cancel
                ) =>
                {
                    var real = await store.RequireRequestIdAsync(id, cancel);
                    await desk.LeaveOutAsync(real, body, user, cancel);
                    return await RequestEndpoints.DetailAsync(real, store, editions, sight, time, user, cancel);
                }
            )
            .WithName("leaveOutSteps")
            .WithSummary("Leaves out steps that stopped or fail, with a reason; the request goes on without them.")
            .RequireAuthorization("release")
            .Reaching(Reached.Request);
}
