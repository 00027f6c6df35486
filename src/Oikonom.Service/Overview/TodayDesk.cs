using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Core.Approval;
using Oikonom.Service.Access;
using Oikonom.Service.Approval;
using Oikonom.Service.Desk;
using Oikonom.Service.Editions;
using Oikonom.Service.Fulfilment;
using Oikonom.Service.Intake;
using Oikonom.Service.Rulebook;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Overview;

/// <summary>What a day begins with: what waits for me, who starts soon and is not ready, what is stuck and why.</summary>
public sealed class TodayDesk(
    Store.Store store,
    EditionBook editions,
    TaskDesk tasks,
    SourceDesk sources,
    RollOutViews rollouts,
    Health health,
    TimeProvider time
)
{
    private const int Shown = 8;
    private const int DaysAhead = 14;

    public async Task<TodayView> LookAsync(ClaimsPrincipal user, CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        var roles = user.RoleNames();
        var reach = user.ReachParts();
        var mine = await RequestEndpoints.InboxAsync(store, user, time, cancel);
        var inbox = await RequestEndpoints.PageAsync(store, editions, mine with { Limit = Shown, UrgentFirst = true }, false, cancel);
        var open = await tasks.ListAsync(user, false, 200, cancel);
        var wide = roles.Any(r => r is Roles.Requester or Roles.Operator or Roles.Engineer or Roles.Auditor);
        var (starters, tallies, waiting) = await store.ReadAsync(
            async s =>
                (
                    await s.StartersAsync(
                        "0001-01-01",
                        now.UtcDateTime.AddDays(DaysAhead).ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture),
                        reach,
                        200
                    ),
                    await s.RequestTalliesAsync(reach),
                    await s.CountRequestsAsync(mine)
                ),
            cancel
        );
        var notReady = new List<StarterView>();
        foreach (var row in starters)
        {
            // Prepared and asleep until the first day is as it should be.
            if (row.State == RequestState.Fulfilling && row.Problem.Length == 0)
                continue;
            notReady.Add(
                new(
                    row.PersonId,
                    row.Display,
                    row.PersonNumber,
                    row.Department,
                    row.Site,
                    row.StartDay,
                    row.Id,
                    row.Number,
                    row.StateText,
                    row.Problem.Length > 0 ? row.Problem : $"waits on {RequestViews.WaitsOn(row)}"
                )
            );
        }
        var stuck = wide
            ? await RequestEndpoints.PageAsync(
                store,
                editions,
                new RequestFilter(Limit: Shown) { Stuck = true, Reach = reach },
                false,
                cancel
            )
            : new([], null);
        var late = wide
            ? await RequestEndpoints.PageAsync(
                store,
                editions,
                new RequestFilter(OpenOnly: true, Limit: Shown) { Late = true, Reach = reach },
                false,
                cancel
            )
            : new([], null);
        var own = await RequestEndpoints.PageAsync(
            store,
            editions,
            new RequestFilter(OpenOnly: true, Limit: Shown) { Requester = user.UserName() },
            false,
            cancel
        );
        var targets = roles.Any(r => r is Roles.Operator or Roles.Engineer)
            ? (await TargetEndpoints.ListAsync(editions, store, cancel))
                .Items.Where(t => t.Failing > 0)
                .Select(t => reach is null ? t : t with { Problem = null })
                .ToList()
            : [];
        var held =
            reach is null && roles.Any(r => r is Roles.Operator or Roles.Engineer or Roles.Requester)
                ? await sources.HeldRunsAsync(user, cancel)
                : [];
        long Of(params RequestState[] states) => tallies.Where(t => states.Contains(t.State)).Sum(t => t.Count);
        return new(
            now,
            inbox.Items,
            waiting,
            [.. open.Take(Shown)],
            open.Count,
            [.. notReady.Take(12)],
            stuck.Items,
            tallies.Sum(t => t.Stuck),
            late.Items,
            tallies.Where(t => t.State is RequestState.Deciding or RequestState.Asked).Sum(t => t.Late),
            targets,
            held,
            own.Items,
            !wide
                ? []
                :
                [
                    new("deciding", "wait for a decision", Of(RequestState.Deciding, RequestState.Asked), "/requests?state=deciding"),
                    new("releasing", "wait for release", Of(RequestState.Releasing), "/requests?state=releasing"),
                    new("fulfilling", "are being carried out", Of(RequestState.Fulfilling), "/requests?state=fulfilling"),
                    new("planning", "are being planned", Of(RequestState.Planning, RequestState.Choosing), "/requests?state=planning"),
                ],
            roles.Any(r => r is Roles.Operator or Roles.Engineer) ? [.. health.Problems()] : [],
            roles.Any(Roles.Policies["rollouts"].Contains) ? await rollouts.ListAsync(user, true, cancel) : []
        );
    }
}

public static class TodayEndpoints
{
    public static void MapToday(this RouteGroupBuilder api) =>
        api.MapGet("/today", (TodayDesk desk, ClaimsPrincipal user, CancellationToken cancel) => desk.LookAsync(user, cancel))
            .WithName("today")
            .WithSummary(
                "What waits for the caller, who starts soon and is not ready, what is late or stuck and why, failing targets, "
                    + "runs under the brake."
            )
            .RequireAuthorization("read")
            .Reaching(Reached.Filtered);
}
