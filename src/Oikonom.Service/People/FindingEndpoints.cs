using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Service.Fulfilment;
using Oikonom.Service.Records;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.People;

/// <summary>What was changed outside, of one person: looking now, and letting it stay so.</summary>
public static class FindingEndpoints
{
    public static void MapFindings(this RouteGroupBuilder api)
    {
        api.MapPost("/people/{id}/look", LookAsync)
            .WithName("lookAtPerson")
            .WithSummary("Reads the person's accounts in their targets now, and tells which are not as they were left.")
            .RequireAuthorization("release")
            .Reaching(Reached.Person);
        api.MapPost("/people/{id}/findings/leave", LeaveAsync)
            .WithName("leaveFinding")
            .WithSummary("Lets an account stay as it was found, with a reason: what would set it right is taken back.")
            .RequireAuthorization("operate")
            .Reaching(Reached.Person);
    }

    private static async Task<IReadOnlyList<FindingView>> LookAsync(
        string id,
        LookDesk desk,
        Store.Store store,
        EditionBook editions,
        Sight sight,
        ClaimsPrincipal user,
        CancellationToken cancel
    )
    {
        var person = await store.ReadAsync(s => s.RequirePersonAsync(id), cancel);
        await desk.LookAtAsync(person.Id, user, cancel);
        return await FindingsAsync(person, store, editions, sight, user, cancel);
    }

    private static async Task<IReadOnlyList<FindingView>> LeaveAsync(
        string id,
        LeaveBody body,
        LookDesk desk,
        Store.Store store,
        EditionBook editions,
        Sight sight,
        ClaimsPrincipal user,
        CancellationToken cancel
    )
    {
        var person = await store.ReadAsync(s => s.RequirePersonAsync(id), cancel);
        await desk.LeaveAsync(person.Id, AccountKey.Parse(body.Account), body.Reason, user, cancel);
        return await FindingsAsync(person, store, editions, sight, user, cancel);
    }

    private static async Task<IReadOnlyList<FindingView>> FindingsAsync(
        PersonRow person,
        Store.Store store,
        EditionBook editions,
        Sight sight,
        ClaimsPrincipal user,
        CancellationToken cancel
    )
    {
        var newest = await editions.CurrentOrNullAsync(cancel);
        return await store.ReadAsync(
            async s =>
            {
                var veil = await sight.OverAsync(s, user, person, false, cancel);
                return (IReadOnlyList<FindingView>)
                    [.. (await s.FindingsAsync([person.Id])).Select(f => veil.Over(View(f, newest, user, person)))];
            },
            cancel
        );
    }

    /// <summary>A finding as pages and the client show it.</summary>
    internal static FindingView View(FindingRow row, Edition? newest, ClaimsPrincipal user, PersonRow person)
    {
        var target = newest?.Rulebook.Targets.GetValueOrDefault(row.Target);
        return new(
            row.Target,
            row.Slot,
            row.Account,
            [
                .. LookDesk
                    .Shown(Difference.FromJson(row.Differences))
                    .Select(d =>
                        d is Difference.OtherValues other
                            ? new DifferenceView(LookDesk.Told(d, target), other.Attribute, other.Found, other.Wanted)
                            : new DifferenceView(LookDesk.Told(d, target), "", [], [])
                    ),
            ],
            row.SinceAt.ToInstant(),
            row.SeenAt.ToInstant(),
            row.RequestId.Length > 0 ? row.RequestId : null,
            row.LeftBy.Length > 0 ? row.LeftBy : null,
            row.Remark.Length > 0 ? row.Remark : null,
            row.LeftBy.Length == 0 && user.RoleNames().Contains(Roles.Operator) && !user.IsSelf(person)
        );
    }
}
