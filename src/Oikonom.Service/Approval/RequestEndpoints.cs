using System.Globalization;
using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Service.Access;
using Oikonom.Service.Hosting;
using Oikonom.Service.Rulebook;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

public static class RequestEndpoints
{
    public static void MapRequests(this RouteGroupBuilder api)
    {
        api.MapGet("/requests", async (Store.Store store, CancellationToken cancel, string? state, string? kind, string? text, string? person, bool? open, string? after, int? limit) =>
        {
            var filter = new RequestFilter(state ?? "", kind ?? "", Paging.Text(text), person ?? "", Cursor(after), Paging.Limit(limit), open == true);
            return await PageAsync(store, filter, cancel);
        }).WithName("listRequests").WithSummary("Requests, newest first. Filters: state, kind, text (name or number), person, open.").RequireAuthorization("read");

        api.MapGet("/inbox", async (Store.Store store, ClaimsPrincipal user, CancellationToken cancel, string? after, int? limit) =>
            await PageAsync(store, new RequestFilter(Before: Cursor(after), Limit: Paging.Limit(limit), InboxUser: user.UserName(), InboxNumber: user.Number(), InboxRoles: user.RoleNames()), cancel))
            .WithName("inbox").WithSummary("What waits for the caller: decisions, releases, choices.").RequireAuthorization("read");

        api.MapGet("/requests/counts", async (Store.Store store, CancellationToken cancel) => new RequestCounts(await store.ReadAsync(s => s.RequestCountsAsync(), cancel)))
            .WithName("countRequests").WithSummary("How many requests are in each state.").RequireAuthorization("read");

        api.MapGet("/requests/{id}", DetailAsync).WithName("getRequest").WithSummary("One request with its plan, steps, decisions and story. The id may be its number.").RequireAuthorization("read");

        api.MapPost("/requests/{id}/approve", async (string id, ApproveBody body, RequestDesk desk, Store.Store store, EditionBook editions, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel) =>
        {
            var real = await IdAsync(store, id, cancel);
            await desk.ApproveAsync(real, user, body.PlanDigest ?? "", body.Remark, cancel);
            return await DetailAsync(real, store, editions, time, user, cancel);
        }).WithName("approveRequest").WithSummary("Approves the plan that was shown; its digest is given.").RequireAuthorization("decide");

        api.MapPost("/requests/{id}/decline", async (string id, DeclineBody body, RequestDesk desk, Store.Store store, EditionBook editions, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel) =>
        {
            var real = await IdAsync(store, id, cancel);
            await desk.DeclineAsync(real, user, body.Reason, cancel);
            return await DetailAsync(real, store, editions, time, user, cancel);
        }).WithName("declineRequest").WithSummary("Declines, with a reason.").RequireAuthorization("decide");

        api.MapPost("/requests/{id}/release", async (string id, ReleaseBody body, RequestDesk desk, Store.Store store, EditionBook editions, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel) =>
        {
            var real = await IdAsync(store, id, cancel);
            await desk.ReleaseAsync(real, user, body.PlanDigest ?? "", cancel);
            return await DetailAsync(real, store, editions, time, user, cancel);
        }).WithName("releaseRequest").WithSummary("Releases an approved plan; its digest is given.").RequireAuthorization("operate");

        api.MapPost("/requests/{id}/choose", async (string id, ChooseBody body, RequestDesk desk, Store.Store store, EditionBook editions, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel) =>
        {
            var real = await IdAsync(store, id, cancel);
            await desk.ChooseAsync(real, user, body.Target ?? "", body.ImmutableId ?? "", cancel);
            return await DetailAsync(real, store, editions, time, user, cancel);
        }).WithName("chooseEntry").WithSummary("Picks which of several existing entries is this person's.").RequireAuthorization("operate");

        api.MapPost("/requests/{id}/retry", async (string id, RequestDesk desk, Store.Store store, EditionBook editions, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel) =>
        {
            var real = await IdAsync(store, id, cancel);
            await desk.RetryAsync(real, user, cancel);
            return await DetailAsync(real, store, editions, time, user, cancel);
        }).WithName("retryRequest").WithSummary("Lets what stopped or waits try again at once.").RequireAuthorization("operate");
    }

    private static async Task<Page<RequestSummary>> PageAsync(Store.Store store, RequestFilter filter, CancellationToken cancel)
    {
        var rows = await store.ReadAsync(s => s.RequestsPageAsync(filter with { Limit = filter.Limit + 1 }), cancel);
        return new([.. rows.Take(filter.Limit).Select(RequestViews.Summary)], rows.Count > filter.Limit ? rows[filter.Limit - 1].Number.ToString(CultureInfo.InvariantCulture) : null);
    }

    private static long Cursor(string? after) => after is null ? long.MaxValue
        : long.TryParse(after, NumberStyles.None, CultureInfo.InvariantCulture, out var number) ? number : throw Problem.Invalid("The cursor 'after' is the 'next' of the page before.", "after");

    private static async Task<string> IdAsync(Store.Store store, string id, CancellationToken cancel)
    {
        if (Guid.TryParse(id, out var guid)) return guid.ToString();
        var row = long.TryParse(id, NumberStyles.None, CultureInfo.InvariantCulture, out var number) ? await store.ReadAsync(s => s.RequestByNumberAsync(number), cancel) : null;
        return row?.Id ?? throw Problem.NotFound($"request '{id}'", "See 'oikonom requests list'.");
    }

    private static async Task<RequestDetail> DetailAsync(string id, Store.Store store, EditionBook editions, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel)
    {
        var real = await IdAsync(store, id, cancel);
        var (row, steps, decisions) = await store.ReadAsync(async s => (await s.RequestAsync(real), await s.StepsOfAsync(real), await s.DecisionsAsync(real)), cancel);
        if (row is null) throw Problem.NotFound($"request '{id}'", "See 'oikonom requests list'.");
        var edition = row.Edition > 0 ? await editions.GetAsync(row.Edition, cancel) : null;
        return RequestViews.Detail(row, steps, decisions, edition, user, time.GetUtcNow());
    }
}
