using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Core.Approval;
using Oikonom.Service.Access;
using Oikonom.Service.Approval;
using Oikonom.Service.Connectors;
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
    TargetDesk targets,
    Health health,
    Attention attention,
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
        var inbox = await PageAsync(mine with { Limit = Shown, UrgentFirst = true }, cancel);
        var open = await tasks.ListAsync(user, false, 200, cancel);
        var wide = roles.Any(r => r is Roles.Requester or Roles.Operator or Roles.Engineer or Roles.Auditor);
        var runs = roles.Any(r => r is Roles.Operator or Roles.Engineer);
        var until = now.UtcDateTime.AddDays(DaysAhead).ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture);
        var (starters, tallies, waiting) = await store.ReadAsync(
            async s =>
                (
                    await s.StartersAsync("0001-01-01", until, reach, 200),
                    await s.RequestTalliesAsync(reach),
                    await s.CountRequestsAsync(mine)
                ),
            cancel
        );
        return new()
        {
            At = now,
            Mine = inbox.Items,
            MineCount = waiting,
            Tasks = [.. open.Take(Shown)],
            TaskCount = open.Count,
            Starters = [.. NotReady(starters).Take(12)],
            Stuck = wide ? (await PageAsync(new(Limit: Shown) { Stuck = true, Reach = reach }, cancel)).Items : [],
            StuckCount = tallies.Sum(t => t.Stuck),
            Late = wide ? (await PageAsync(new(OpenOnly: true, Limit: Shown) { Late = true, Reach = reach }, cancel)).Items : [],
            LateCount = tallies.Where(t => t.State is RequestState.Deciding or RequestState.Asked).Sum(t => t.Late),
            Targets = runs ? await FailingAsync(user, reach is null, cancel) : [],
            Held = reach is null && (runs || roles.Contains(Roles.Requester)) ? await sources.HeldRunsAsync(user, cancel) : [],
            Own = (await PageAsync(new(OpenOnly: true, Limit: Shown) { Requester = user.UserName() }, cancel)).Items,
            Counts = wide ? Counts(tallies) : [],
            Standing = runs ? [.. health.Problems()] : [],
            Rollouts = roles.Any(Roles.Policies["rollouts"].Contains) ? await rollouts.ListAsync(user, true, cancel) : [],
            Attention = await attention.LookAsync(user, cancel),
        };
    }

    private Task<Page<RequestSummary>> PageAsync(RequestFilter filter, CancellationToken cancel) =>
        RequestEndpoints.PageAsync(store, editions, filter, false, cancel);

    /// <summary>Prepared and asleep until the first day is as it should be; everything else is not.</summary>
    private static IEnumerable<StarterView> NotReady(IEnumerable<RequestRow> starters) =>
        starters
            .Where(row => row.State != RequestState.Fulfilling || row.Problem.Length > 0)
            .Select(row => new StarterView(
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
            ));

    /// <summary>Targets in which steps fail; with the words of the fault only for who sees everywhere.</summary>
    private async Task<IReadOnlyList<TargetSummary>> FailingAsync(ClaimsPrincipal user, bool everywhere, CancellationToken cancel) =>
        [
            .. (await targets.ListAsync(user, cancel))
                .Items.Where(t => t.Failing > 0 || t.State is TargetStates.Away or TargetStates.Paused)
                .Select(t => everywhere ? t : t with { Problem = null }),
        ];

    private static List<TodayCount> Counts(IReadOnlyList<(RequestState State, string Kind, long Count, long Late, long Stuck)> tallies)
    {
        long Of(params RequestState[] states) => tallies.Where(t => states.Contains(t.State)).Sum(t => t.Count);
        return
        [
            new("deciding", "wait for a decision", Of(RequestState.Deciding, RequestState.Asked), "/requests?state=deciding"),
            new("releasing", "wait for release", Of(RequestState.Releasing), "/requests?state=releasing"),
            new("fulfilling", "are being carried out", Of(RequestState.Fulfilling), "/requests?state=fulfilling"),
            new("planning", "are being planned", Of(RequestState.Planning, RequestState.Choosing), "/requests?state=planning"),
        ];
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
