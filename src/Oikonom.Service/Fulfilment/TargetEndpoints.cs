using System.Diagnostics;
using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Approval;
using Oikonom.Service.Common;
using Oikonom.Service.Connectors;
using Oikonom.Service.Editions;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

public static class TargetEndpoints
{
    public static void MapTargets(this RouteGroupBuilder api)
    {
        MapHealth(api);
        MapNobodys(api);
        MapHandovers(api);
    }

    private static void MapHealth(RouteGroupBuilder api)
    {
        api.MapGet("/targets", ListAsync)
            .WithName("listTargets")
            .WithSummary("The targets of the rulebook, with what waits and what fails.")
            .RequireAuthorization("read")
            .Reaching(Reached.Shared);

        api.MapPost(
                "/targets/{name}/check",
                async (string name, EditionBook editions, ConnectorBook connectors, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    user.RequireTargets([name], Roles.Operator, Roles.Engineer);
                    var edition = await editions.CurrentAsync(cancel);
                    if (!edition.Rulebook.Targets.ContainsKey(name))
                        throw Problem.NotFound(
                            $"target '{name}'",
                            $"The rulebook has: {string.Join(", ", edition.Rulebook.Targets.Keys)}."
                        );
                    var health = await connectors.For(edition, name).CheckAsync(cancel);
                    return new TargetCheck(name, health.Reachable, health.Message, health.Server, health.Milliseconds);
                }
            )
            .WithName("checkTarget")
            .WithSummary("Signs in to the target and looks whether all it needs is there.")
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

    public static async Task<Page<TargetSummary>> ListAsync(EditionBook editions, Store.Store store, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        var items = new List<TargetSummary>();
        foreach (var target in edition.Rulebook.Targets.Values)
        {
            var counts = await store.ReadAsync(s => s.TargetCountsAsync(target.Name), cancel);
            var (address, security) = target.Settings switch
            {
                TargetSettings.Ldap ldap => (ldap.Address.ToString().TrimEnd('/'), ldap.StartTls ? "StartTLS" : "TLS"),
                TargetSettings.Desk desk => ($"people with the role {desk.Role}", "none"),
                _ => throw new UnreachableException($"Targets of the kind '{target.Settings.Kind}' cannot be shown."),
            };
            items.Add(
                new(
                    target.Name,
                    target.Title,
                    target.Settings.Kind,
                    address,
                    security,
                    (int)counts.Accounts,
                    (int)counts.Waiting,
                    (int)counts.Failing,
                    counts.Problem,
                    (int)counts.Nobodys
                )
            );
        }
        return new(items, null);
    }
}
