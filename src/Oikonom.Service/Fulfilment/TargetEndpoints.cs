using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Service.Access;
using Oikonom.Service.Approval;
using Oikonom.Service.Common;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

public static class TargetEndpoints
{
    public static void MapTargets(this RouteGroupBuilder api)
    {
        MapHealth(api);
        MapDeeds(api);
        MapNobodys(api);
        MapSeveral(api);
        MapHandovers(api);
        api.MapReconciliations();
        api.MapHolders();
    }

    private static void MapHealth(RouteGroupBuilder api)
    {
        api.MapGet("/targets", (TargetDesk desk, ClaimsPrincipal user, CancellationToken cancel) => desk.ListAsync(user, cancel))
            .WithName("listTargets")
            .WithSummary("The targets of the rulebook: how each does, what waits and what fails.")
            .RequireAuthorization("read")
            .Reaching(Reached.Shared);

        api.MapGet(
                "/targets/{name}",
                (string name, TargetDesk desk, ClaimsPrincipal user, CancellationToken cancel) => desk.DetailAsync(name, user, cancel)
            )
            .WithName("getTarget")
            .WithSummary("All that is known of a target: what the last check found, what was done hour by hour, what became of it.")
            .RequireAuthorization("targets")
            .Reaching(Reached.Shared);
    }

    private static void MapDeeds(RouteGroupBuilder api)
    {
        api.MapPost(
                "/targets/{name}/check",
                async (string name, TargetDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    user.RequireTargets([name], Roles.Operator, Roles.Engineer);
                    var (edition, target) = await desk.RequireAsync(name, cancel);
                    return await desk.CheckAsync(edition, target, true, cancel);
                }
            )
            .WithName("checkTarget")
            .WithSummary("Signs in to the target and looks whether all it needs is there, and what it may do. Nothing is changed.")
            .RequireAuthorization("targets")
            .Reaching(Reached.Shared);

        api.MapPost(
                "/targets/{name}/pause",
                async (string name, PauseBody body, TargetDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    user.RequireWholeTarget(name);
                    var (_, target) = await desk.RequireAsync(name, cancel);
                    await desk.PauseAsync(target, body.Reason ?? "", user.UserName(), cancel);
                    return await desk.DetailAsync(name, user, cancel);
                }
            )
            .WithName("pauseTarget")
            .WithSummary("Lets nothing begin in the target any more; what is under way ends.")
            .RequireAuthorization("targets")
            .Reaching(Reached.Shared);

        api.MapPost(
                "/targets/{name}/resume",
                async (string name, TargetDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    user.RequireWholeTarget(name);
                    var (edition, target) = await desk.RequireAsync(name, cancel);
                    await desk.ResumeAsync(edition, target, user.UserName(), cancel);
                    return await desk.DetailAsync(name, user, cancel);
                }
            )
            .WithName("resumeTarget")
            .WithSummary("Lets the target go on; one that an edition brought, only when all that is looked at is good.")
            .RequireAuthorization("targets")
            .Reaching(Reached.Shared);

        api.MapPost(
                "/targets/{name}/run",
                async (string name, RunNowBody body, TargetDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    user.RequireWholeTarget(name);
                    var (_, target) = await desk.RequireAsync(name, cancel);
                    return await desk.RunNowAsync(target, body.Person, user, cancel);
                }
            )
            .WithName("runOneNow")
            .WithSummary("Lets what one person waits for in the target begin now, also while it is paused or left alone.")
            .RequireAuthorization("targets")
            .Reaching(Reached.Shared);
    }

    private static void MapNobodys(RouteGroupBuilder api)
    {
        api.MapGet(
                "/accounts",
                (string? target, string? purpose, string? text, AccountDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                    desk.ListAsync(target ?? "", purpose ?? "", text ?? "", user, cancel)
            )
            .WithName("listNobodysAccounts")
            .WithSummary("Accounts that were found in targets and belong to nobody, with what they are and who answers for them.")
            .RequireAuthorization("targets")
            .Reaching(Reached.Filtered);
        api.MapPut(
                "/accounts/{id}",
                (string id, AccountMark body, AccountDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                    desk.MarkAsync(id, body, user, cancel)
            )
            .WithName("markAccount")
            .WithSummary("Says what an account that belongs to nobody is, and who answers for it.")
            .RequireAuthorization("operate")
            .Reaching(Reached.Filtered);
        api.MapPost(
                "/accounts/{id}/close",
                async (
                    string id,
                    AccountClosing body,
                    AccountDesk desk,
                    Store.Store store,
                    ClaimsPrincipal user,
                    CancellationToken cancel
                ) =>
                {
                    var made = await desk.CloseAsync(id, body, user, cancel);
                    var row = (await store.ReadAsync(s => s.RequestAsync(made), cancel))!;
                    return TypedResults.Created($"/api/v1/requests/{row.Number}", RequestViews.Summary(row));
                }
            )
            .WithName("closeAccount")
            .WithSummary("Asks for the end of an account that belongs to nobody; its owner's workflow decides.")
            .RequireAuthorization("operate")
            .Reaching(Reached.Filtered);
    }

    private static void MapSeveral(RouteGroupBuilder api)
    {
        api.MapPut(
                "/accounts",
                (AccountMarks body, AccountDesk desk, ClaimsPrincipal user, CancellationToken cancel) => desk.MarkAsync(body, user, cancel)
            )
            .WithName("markAccounts")
            .WithSummary("Says the same of several accounts that belong to nobody; what cannot be said of one is told.")
            .RequireAuthorization("operate")
            .Reaching(Reached.Filtered);
        api.MapPost(
                "/accounts/close",
                (AccountClosings body, AccountDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                    desk.CloseAsync(body, user, cancel)
            )
            .WithName("closeAccounts")
            .WithSummary("Asks for the end of several accounts that belong to nobody, by a request for each.")
            .RequireAuthorization("operate")
            .Reaching(Reached.Filtered);
        api.MapPost(
                "/accounts/{id}/link",
                async (string id, AccountLink body, AccountDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    await desk.LinkAsync(id, body, user, cancel);
                    return TypedResults.NoContent();
                }
            )
            .WithName("linkAccount")
            .WithSummary("Says whose an account is that belonged to nobody; what the rules make of it follows as a request.")
            .RequireAuthorization("operate")
            .Reaching(Reached.Filtered);
    }

    private static void MapHandovers(RouteGroupBuilder api)
    {
        api.MapGet(
                "/handovers/{token}",
                (string token, FirstPasswords links, ClaimsPrincipal user, CancellationToken cancel) => links.LookAsync(token, user, cancel)
            )
            .WithName("getHandover")
            .WithSummary("What a one-time link is for; it is not used up.")
            .RequireAuthorization("receive")
            .Reaching(Reached.Own);
        api.MapPost(
                "/handovers/{token}",
                (string token, FirstPasswords links, ClaimsPrincipal user, CancellationToken cancel) => links.OpenAsync(token, user, cancel)
            )
            .WithName("openHandover")
            .WithSummary(
                "Makes a first password, sets it, and shows it once. It is kept nowhere, and the link is spent only when it was set."
            )
            .RequireAuthorization("receive")
            .Reaching(Reached.Own);
        api.MapPost(
                "/handovers/{token}/again",
                (string token, FirstPasswords links, ClaimsPrincipal user, CancellationToken cancel) =>
                    links.AskAgainAsync(token, user, cancel)
            )
            .WithName("askHandoverAgain")
            .WithSummary("Who has a link that is used or over asks for another to the same account.")
            .RequireAuthorization("receive")
            .Reaching(Reached.Own);
        api.MapPost(
                "/requests/{id}/new-link",
                async (string id, FirstPasswords links, Store.Store store, ClaimsPrincipal user, CancellationToken cancel) =>
                    await links.SendAgainAsync(await store.RequireRequestIdAsync(id, cancel), user, cancel)
            )
            .WithName("newPasswordLink")
            .WithSummary(
                "Ends the open one-time links of a request and sends new ones: for operators, requesters and the line manager, also before "
                    + "the first day."
            )
            .RequireAuthorization("work")
            .Reaching(Reached.Request);
    }
}
