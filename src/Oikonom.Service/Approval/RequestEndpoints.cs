using System.Globalization;
using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Core.Approval;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Service.Records;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

public static class RequestEndpoints
{
    public static void MapRequests(this RouteGroupBuilder api)
    {
        MapLists(api);
        MapExport(api);
        MapInbox(api);
        MapCounts(api);
        MapOne(api);
        MapRelease(api);
        MapRepairs(api);
        MapMany(api);
    }

    private static void MapLists(RouteGroupBuilder api)
    {
        api.MapGet(
                "/requests",
                async (
                    Store.Store store,
                    EditionBook editions,
                    TimeProvider time,
                    ClaimsPrincipal user,
                    CancellationToken cancel,
                    [AsParameters] RequestQuery query,
                    string? after,
                    int? limit
                ) =>
                    await PageAsync(
                        store,
                        editions,
                        query.For(user, time) with
                        {
                            Before = Cursor(after),
                            Limit = Paging.Limit(limit),
                            UrgentFirst = after is null && query.Open == true,
                        },
                        false,
                        cancel
                    )
            )
            .WithName("listRequests")
            .WithSummary(
                "Requests, newest first; of the open ones, late and stuck first. Filters: state, kind, text (name or number), "
                    + "person, open, site, department, target, requester, waitsOn (a user or role), late, stuck, olderThanDays."
            )
            .RequireAuthorization("read")
            .Reaching(Reached.Filtered);
    }

    private static void MapExport(RouteGroupBuilder api)
    {
        api.MapGet(
                "/requests/export",
                async (
                    Store.Store store,
                    TimeProvider time,
                    ClaimsPrincipal user,
                    CancellationToken cancel,
                    [AsParameters] RequestQuery query
                ) =>
                {
                    var rows = await store.ReadAsync(s => s.RequestsPageAsync(query.For(user, time) with { Limit = MaxExport }), cancel);
                    return Csv.File(
                        "requests.csv",
                        [
                            "number",
                            "kind",
                            "state",
                            "person",
                            "employee_number",
                            "department",
                            "site",
                            "requester",
                            "waits_on",
                            "since",
                            "raised",
                            "completed",
                            "late",
                            "problem",
                            "cause",
                        ],
                        rows.Select(r =>
                            (IReadOnlyList<string>)
                                [
                                    r.Number.ToString(CultureInfo.InvariantCulture),
                                    r.Kind,
                                    r.StateText,
                                    r.Display,
                                    r.PersonNumber,
                                    r.Department,
                                    r.Site,
                                    r.Requester,
                                    RequestViews.WaitsOn(r),
                                    Stamp(r.SinceAt),
                                    Stamp(r.CreatedAt),
                                    r.CompletedAt is { } done ? Stamp(done) : "",
                                    r.Late == 1 ? "yes" : "no",
                                    r.Problem,
                                    System.Text.Json.JsonSerializer.Deserialize<Cause>(r.Cause)?.Text ?? "",
                                ]
                        )
                    );
                }
            )
            .WithName("exportRequests")
            .WithSummary("The same list as a CSV file, 100,000 rows at most.")
            .RequireAuthorization("read")
            .Reaching(Reached.Filtered);
    }

    private static void MapInbox(RouteGroupBuilder api)
    {
        api.MapGet(
                "/inbox",
                async (
                    Store.Store store,
                    EditionBook editions,
                    TimeProvider time,
                    ClaimsPrincipal user,
                    CancellationToken cancel,
                    string? after,
                    int? limit
                ) =>
                    await PageAsync(
                        store,
                        editions,
                        await InboxAsync(store, user, time, cancel) with
                        {
                            Before = Cursor(after),
                            Limit = Paging.Limit(limit),
                            UrgentFirst = after is null,
                        },
                        true,
                        cancel
                    )
            )
            .WithName("inbox")
            .WithSummary(
                "What waits for the caller: decisions, also those handed over to them, releases, choices and questions. Each "
                    + "with its effect and the digest a decision is bound to."
            )
            .RequireAuthorization("read")
            .Reaching(Reached.Filtered);
    }

    private static void MapCounts(RouteGroupBuilder api)
    {
        api.MapGet(
                "/inbox/count",
                async (Store.Store store, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    var filter = await InboxAsync(store, user, time, cancel);
                    return new InboxCount(await store.ReadAsync(s => s.CountRequestsAsync(filter), cancel));
                }
            )
            .WithName("countInbox")
            .WithSummary("How many requests wait for the caller.")
            .RequireAuthorization("read")
            .Reaching(Reached.Filtered);

        api.MapGet(
                "/requests/counts",
                async (Store.Store store, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    var tallies = await store.ReadAsync(s => s.RequestTalliesAsync(user.ReachParts()), cancel);
                    return new RequestCounts(
                        tallies.GroupBy(t => t.State).ToDictionary(g => EnumText.Of(g.Key), g => g.Sum(t => t.Count)),
                        tallies.GroupBy(t => t.Kind).ToDictionary(g => g.Key, g => g.Sum(t => t.Count)),
                        tallies.Sum(t => RequestMachine.IsOpen(t.State) ? t.Late : 0),
                        tallies.Sum(t => t.Stuck)
                    );
                }
            )
            .WithName("countRequests")
            .WithSummary("How many requests are in each state and of each kind, and how many are late or stuck.")
            .RequireAuthorization("read")
            .Reaching(Reached.Filtered);
    }

    private static void MapOne(RouteGroupBuilder api)
    {
        api.MapGet("/requests/{id}", DetailAsync)
            .WithName("getRequest")
            .WithSummary("One request with its plan, items, stages, steps, decisions and story. The id may be its number.")
            .RequireAuthorization("read")
            .Reaching(Reached.Request);

        Decision<ApproveBody>(
            api,
            "approve",
            (desk, id, user, body, cancel) =>
                desk.ApproveAsync(id, user, new(body.PlanDigest ?? "", body.Remark, body.Items, body.Without), cancel),
            "approveRequest",
            "Approves the plan that was shown, items of it, or all but some; its digest is given.",
            "read"
        );
        Decision<DeclineBody>(
            api,
            "decline",
            (desk, id, user, body, cancel) => desk.DeclineAsync(id, user, body.Reason, body.Items, cancel),
            "declineRequest",
            "Declines the request, or items of it, with a reason.",
            "read"
        );
        Decision<TextBody>(
            api,
            "ask",
            (desk, id, user, body, cancel) => desk.AskAsync(id, user, body.Text, cancel),
            "askBack",
            "Asks the requester before deciding; the clock stops.",
            "read"
        );
        Decision<TextBody>(
            api,
            "answer",
            (desk, id, user, body, cancel) => desk.AnswerAsync(id, user, body.Text, cancel),
            "answerRequest",
            "Answers the question of an approver.",
            "read"
        );
        Decision<TextBody>(
            api,
            "comment",
            (desk, id, user, body, cancel) => desk.CommentAsync(id, user, body.Text, cancel),
            "commentRequest",
            "Adds a comment that all who see the request can read.",
            "read"
        );
        Decision<ReasonBody>(
            api,
            "withdraw",
            (desk, id, user, body, cancel) => desk.WithdrawAsync(id, user, body.Reason, cancel),
            "withdrawRequest",
            "Takes the request back; what is being carried out stops, and what was done is told.",
            "read"
        );
        Decision<ReasonBody>(
            api,
            "undo",
            (desk, id, user, body, cancel) => desk.UndoAsync(id, user, body.Reason, cancel),
            "undoRequest",
            "Takes a joiner back with all it did, in reverse; one that is done already by a leaver that people decide on.",
            "read"
        );
    }

    private static void MapRelease(RouteGroupBuilder api)
    {
        Decision<ReleaseBody>(
            api,
            "release",
            (desk, id, user, body, cancel) => desk.ReleaseAsync(id, user, body.PlanDigest ?? "", cancel),
            "releaseRequest",
            "Releases an approved plan; its digest is given.",
            "release"
        );
        Decision<ReasonBody>(
            api,
            "hold",
            (desk, id, user, body, cancel) => desk.HoldAsync(id, user, body.Reason, true, cancel),
            "holdRequest",
            "Holds an approved request, with a reason.",
            "release"
        );
        Decision<ReasonBody>(
            api,
            "resume",
            (desk, id, user, body, cancel) => desk.HoldAsync(id, user, body.Reason, false, cancel),
            "resumeRequest",
            "Lets a held request go on.",
            "release"
        );
        Decision<ReasonBody>(
            api,
            "return",
            (desk, id, user, body, cancel) => desk.ReturnAsync(id, user, body.Reason, cancel),
            "returnRequest",
            "Sends an approved request back: all approvals are asked for again.",
            "release"
        );
        Decision<ChooseBody>(
            api,
            "choose",
            (desk, id, user, body, cancel) => desk.ChooseAsync(id, user, body.Target ?? "", body.ImmutableId ?? "", cancel),
            "chooseEntry",
            "Picks which of several existing entries is this person's.",
            "operate"
        );
    }

    private static void MapRepairs(RouteGroupBuilder api)
    {
        api.MapPost(
                "/requests/{id}/retry",
                async (
                    string id,
                    RequestDesk desk,
                    Store.Store store,
                    EditionBook editions,
                    Sight sight,
                    TimeProvider time,
                    ClaimsPrincipal user,
                    CancellationToken cancel
                ) =>
                {
                    var real = await store.RequireRequestIdAsync(id, cancel);
                    await desk.RetryAsync(real, user, cancel);
                    return await DetailAsync(real, store, editions, sight, time, user, cancel);
                }
            )
            .WithName("retryRequest")
            .WithSummary("Lets what stopped or waits try again at once.")
            .RequireAuthorization("operate")
            .Reaching(Reached.Request);

        api.MapPost(
                "/requests/{id}/change",
                async (
                    string id,
                    ChangeBody body,
                    RequestDesk desk,
                    HandRequests hand,
                    Store.Store store,
                    EditionBook editions,
                    Sight sight,
                    TimeProvider time,
                    ClaimsPrincipal user,
                    CancellationToken cancel
                ) =>
                {
                    var real = await store.RequireRequestIdAsync(id, cancel);
                    var row = await store.ReadAsync(s => s.RequestAsync(real), cancel) ?? throw Named.NoRequest(id);
                    await desk.ChangeAsync(
                        real,
                        user,
                        body.PlanDigest ?? "",
                        await hand.ChangeAsync(body, row.PersonId, cancel),
                        HandRequests.Touched,
                        cancel
                    );
                    return await DetailAsync(real, store, editions, sight, time, user, cancel);
                }
            )
            .WithName("changeRequest")
            .WithSummary("Changes what was asked for, or what the stage lets its approver change; the plan is made anew.")
            .RequireAuthorization("read")
            .Reaching(Reached.Request);
    }

    private static void MapMany(RouteGroupBuilder api)
    {
        api.MapPost(
                "/requests/joint-effect",
                (IdsBody body, ManyRequests many, ClaimsPrincipal user, CancellationToken cancel) =>
                    many.EffectAsync(body.Ids ?? [], user, cancel)
            )
            .WithName("jointEffect")
            .WithSummary("What many requests would bring together, with the digest of each.")
            .RequireAuthorization("read")
            .Reaching(Reached.Filtered);
        api.MapPost(
                "/requests/approve-many",
                (ManyBody body, ManyRequests many, ClaimsPrincipal user, CancellationToken cancel) =>
                    many.ApproveAsync(body.Requests ?? [], body.Remark, user, cancel)
            )
            .WithName("approveMany")
            .WithSummary("Approves many requests, each bound to its digest; one that is refused leaves the others.")
            .RequireAuthorization("read")
            .Reaching(Reached.Filtered);
        api.MapPost(
                "/requests/release-many",
                (ManyBody body, ManyRequests many, ClaimsPrincipal user, CancellationToken cancel) =>
                    many.ReleaseAsync(body.Requests ?? [], user, cancel)
            )
            .WithName("releaseMany")
            .WithSummary("Releases many approved requests, each bound to its digest.")
            .RequireAuthorization("release")
            .Reaching(Reached.Filtered);
    }

    private const int MaxExport = 100_000;

    private static string Stamp(long at) => Core.Ledger.LedgerEntry.Stamp(at.ToInstant());

    private static void Decision<TBody>(
        RouteGroupBuilder api,
        string verb,
        Func<RequestDesk, string, ClaimsPrincipal, TBody, CancellationToken, Task> decide,
        string name,
        string summary,
        string policy
    ) =>
        api.MapPost(
                $"/requests/{{id}}/{verb}",
                async (
                    string id,
                    TBody body,
                    RequestDesk desk,
                    Store.Store store,
                    EditionBook editions,
                    Sight sight,
                    TimeProvider time,
                    ClaimsPrincipal user,
                    CancellationToken cancel
                ) =>
                {
                    var real = await store.RequireRequestIdAsync(id, cancel);
                    await decide(desk, real, user, body, cancel);
                    return await DetailAsync(real, store, editions, sight, time, user, cancel);
                }
            )
            .WithName(name)
            .WithSummary(summary)
            .RequireAuthorization(policy)
            .Reaching(Reached.Request);

    /// <summary>The filter of what waits for somebody, with what was handed over to them.</summary>
    public static async Task<RequestFilter> InboxAsync(Store.Store store, ClaimsPrincipal user, TimeProvider time, CancellationToken cancel)
    {
        var (lent, own) = await store.ReadAsync(
            async s =>
                (
                    await s.LentToAsync(user.UserName(), time.Milliseconds()),
                    user.Number().Length > 0 ? await s.PersonByNumberAsync(user.Number()) : null
                ),
            cancel
        );
        return new RequestFilter(InboxUser: user.UserName(), InboxPerson: own?.Id ?? "", InboxRoles: user.RoleNames())
        {
            Lent = [.. lent.Select(l => (l.User, l.Roles))],
            Reach = user.ReachParts(),
        };
    }

    public static async Task<Page<RequestSummary>> PageAsync(
        Store.Store store,
        EditionBook editions,
        RequestFilter filter,
        bool effects,
        CancellationToken cancel
    )
    {
        var rows = await store.ReadAsync(s => s.RequestsPageAsync(filter with { Limit = filter.Limit + 1, Light = !effects }), cancel);
        var items = new List<RequestSummary>(rows.Count);
        foreach (var row in rows.Take(filter.Limit))
            items.Add(
                effects
                    ? RequestViews.WithEffect(row, row.Edition > 0 ? await editions.GetAsync(row.Edition, cancel) : null)
                    : RequestViews.Summary(row)
            );
        return new(items, rows.Count > filter.Limit ? rows[filter.Limit - 1].Number.ToString(CultureInfo.InvariantCulture) : null);
    }

    private static long Cursor(string? after) =>
        after is null ? long.MaxValue
        : long.TryParse(after, NumberStyles.None, CultureInfo.InvariantCulture, out var number) ? number
        : throw Problem.Invalid("The cursor 'after' is the 'next' of the page before.", "after");

    public static async Task<RequestDetail> DetailAsync(
        string id,
        Store.Store store,
        EditionBook editions,
        Sight sight,
        TimeProvider time,
        ClaimsPrincipal user,
        CancellationToken cancel
    )
    {
        var real = await store.RequireRequestIdAsync(id, cancel);
        var now = time.GetUtcNow();
        return await store.SnapshotAsync(
            async s =>
            {
                var row = await s.RequestAsync(real) ?? throw Named.NoRequest(id);
                if (!ReachRule.Sees(user, row))
                    throw Named.NoRequest(id);
                var of = await Case.LoadAsync(s, row, await editions.GetAsync(row.Edition, cancel), now);
                var tasks = (await s.TasksOfAsync(real)).Select(t => Desk.TaskDesk.View(t, [], now)).ToList();
                var waits = row.State is RequestState.Deciding or RequestState.Asked or RequestState.Releasing;
                return (await sight.OverAsync(s, user, of.Person, true, cancel)).Over(
                    RequestViews.Detail(
                        of,
                        await s.StepsOfAsync(real),
                        tasks,
                        await s.FindingsAsync([row.PersonId]),
                        await s.TargetStatesAsync(),
                        user,
                        now
                    ) with
                    {
                        NoneLeft = waits ? await Seats.NoneLeftAsync(s, of.Plan, of.Edition.Rulebook, row.PersonId) : [],
                    }
                );
            },
            cancel
        );
    }
}
