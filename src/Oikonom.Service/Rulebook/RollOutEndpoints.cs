using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Rulebook;

public static class RollOutEndpoints
{
    public static void MapRollOuts(this RouteGroupBuilder api)
    {
        api.MapGet(
                "/rollouts",
                async (RollOutViews views, ClaimsPrincipal user, CancellationToken cancel, bool? open) =>
                    new Page<RolloutSummary>(await views.ListAsync(user, open == true, cancel), null)
            )
            .WithName("listRollouts")
            .WithSummary("Roll-outs of editions, the newest first, 100 at most. 'open': only those not at their end.")
            .RequireAuthorization("rollouts")
            .Reaching(Reached.Filtered);
        api.MapPost(
                "/rollouts",
                async (RollOutDesk desk, RollOutViews views, ClaimsPrincipal user, CancellationToken cancel) =>
                    await views.DetailAsync(await desk.MakeAsync(user, cancel), user, cancel)
            )
            .WithName("makeRollout")
            .WithSummary("Makes the roll-out of the newest edition anew, with everybody who is still on an earlier one.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
        api.MapGet(
                "/rollouts/{id}",
                (string id, RollOutViews views, ClaimsPrincipal user, CancellationToken cancel) => views.DetailAsync(id, user, cancel)
            )
            .WithName("getRollout")
            .WithSummary("One roll-out, by its id or number: gains and losses by template, departments, waves, decisions.")
            .RequireAuthorization("rollouts")
            .Reaching(Reached.Filtered);
        api.MapGet("/rollouts/{id}/people", PeopleAsync)
            .WithName("listRolloutPeople")
            .WithSummary(
                "The people of a roll-out with what would change for each. Filters: text, state, department, template, wave. Those "
                    + "for whom nothing changes are shown with wave 0."
            )
            .RequireAuthorization("rollouts")
            .Reaching(Reached.Filtered);
        MapActs(api);
    }

    private static void MapActs(RouteGroupBuilder api)
    {
        Act<RolloutDecideBody>(
            api,
            "decide",
            "decideRollout",
            "Approves or declines all people of a roll-out whom nobody decided about, or those of a department; bound to the "
                + "digest that was shown.",
            "work",
            Reached.Filtered,
            (desk, id, body, user, cancel) => desk.DecideAsync(id, body, user, cancel)
        );
        Act<RolloutReasonBody>(
            api,
            "release",
            "releaseRollout",
            "Lets a roll-out pass that the brake holds.",
            "work",
            Reached.Everywhere,
            (desk, id, body, user, cancel) => desk.ReleaseAsync(id, body.Reason ?? "", user, cancel)
        );
        Act<RolloutBeginBody>(
            api,
            "begin",
            "beginRollout",
            "Begins the first or the next wave, with its size and the pause after each.",
            "operate",
            Reached.Everywhere,
            (desk, id, body, user, cancel) => desk.BeginAsync(id, body, user, cancel)
        );
        Act<RolloutReasonBody>(
            api,
            "stop",
            "stopRollout",
            "Stops a roll-out: no further wave begins, requests under way go on.",
            "operate",
            Reached.Everywhere,
            (desk, id, body, user, cancel) => desk.StopAsync(id, body.Reason ?? "", user, cancel)
        );
        Act<RolloutReasonBody>(
            api,
            "turn-back",
            "turnBackRollout",
            "Turns the last wave back: its people are put on the edition they came from.",
            "work",
            Reached.Everywhere,
            (desk, id, body, user, cancel) => desk.TurnBackAsync(id, body.Reason ?? "", user, cancel)
        );
    }

    private static void Act<T>(
        RouteGroupBuilder api,
        string path,
        string name,
        string summary,
        string policy,
        Reached reached,
        Func<RollOutDesk, string, T, ClaimsPrincipal, CancellationToken, Task> act
    ) =>
        api.MapPost(
                $"/rollouts/{{id}}/{path}",
                async (string id, T body, RollOutDesk desk, RollOutViews views, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    await act(desk, id, body, user, cancel);
                    return await views.DetailAsync(id, user, cancel);
                }
            )
            .WithName(name)
            .WithSummary(summary)
            .RequireAuthorization(policy)
            .Reaching(reached);

    private static readonly string[] States =
    [
        "open",
        "failing",
        "approved",
        "declined",
        "running",
        "own",
        "done",
        "moved",
        "turning",
        "turned-back",
    ];

    private static async Task<Page<RolloutPerson>> PeopleAsync(
        string id,
        Store.Store store,
        Sight sight,
        ClaimsPrincipal user,
        CancellationToken cancel,
        string? text,
        string? state,
        string? department,
        string? template,
        long? wave,
        string? after,
        int? limit
    )
    {
        var size = Paging.Limit(limit);
        if (state is { Length: > 0 } && !States.Contains(state))
            throw Problem.Invalid($"'{state}' is no state of people in a roll-out; use {string.Join(", ", States)}.", "state");
        return await store.ReadAsync(
            async s =>
            {
                var rollout = await s.FindRolloutAsync(id) ?? throw RollOutViews.NotFound(id);
                // The place to go on from is a person of the list.
                var last = after is { Length: > 0 } ? await s.RolloutPersonAsync(rollout.Id, after) : null;
                var place = last is null ? null : await s.PersonAsync(last.PersonId);
                var rows = await s.RolloutPeopleAsync(
                    new(rollout.Id, state ?? "", department ?? "", template ?? "", wave, Paging.Text(text))
                    {
                        Reach = user.ReachParts(),
                        AfterName = place?.SearchKey ?? "",
                        AfterId = place?.Id ?? "",
                        Limit = size + 1,
                    }
                );
                var veil = await sight.OverAsync(s, user, null, false, cancel);
                return new Page<RolloutPerson>(
                    [.. rows.Take(size).Select(RollOutViews.View).Select(p => p with { Effects = [.. p.Effects.Select(veil.Over)] })],
                    rows.Count > size ? rows[size - 1].PersonId : null
                );
            },
            cancel
        );
    }
}
