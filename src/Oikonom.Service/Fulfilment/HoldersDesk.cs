using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Approval;
using Oikonom.Service.Common;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>Who holds what a target gives, those first who could give it up.</summary>
public sealed class HoldersDesk(Store.Store store, TargetDesk targets)
{
    private const int Most = 500;

    /// <exception cref="Problem">404: no such target, or it gives no such thing.</exception>
    public async Task<Holders> ListAsync(string name, string entitlement, ClaimsPrincipal user, CancellationToken cancel)
    {
        user.RequireTargets([name], Roles.Operator, Roles.Engineer);
        var (edition, target) = await targets.RequireAsync(name, cancel);
        if (target.Entitlements.GetValueOrDefault(entitlement) is not { } found)
            throw Problem.NotFound($"entitlement '{entitlement}'", $"See 'oikonom targets show {name}'.");
        var all = await store.ReadAsync(s => s.HoldersOfAsync(name, entitlement), cancel);
        var seen = all.Where(h => user.ReachOf() is not { } parts || parts.Any(p => p.Covers(h.Site, h.Department)))
            .OrderBy(Seats.RankOf)
            .ThenBy(h => h.UntilAt ?? long.MaxValue)
            .ThenBy(h => h.FromAt)
            .ToList();
        return new(
            found.Title,
            all.Count,
            found.MostHolders,
            [
                .. seen.Take(Most)
                    .Select(h => new Holder(
                        h.PersonId,
                        h.Display,
                        h.Number,
                        h.Department,
                        h.Site,
                        h.FromAt.ToInstant(),
                        h.UntilAt.ToInstant(),
                        Why(h, edition.Rulebook),
                        Seats.RankOf(h) is Seats.GivesUp.CannotUse or Seats.GivesUp.NoRule or Seats.GivesUp.Ends
                    )),
            ]
        );
    }

    private static string Why(HolderRow holder, Core.Rulebook.Rulebook rulebook) =>
        Seats.RankOf(holder) switch
        {
            Seats.GivesUp.CannotUse => "cannot sign in: the account is disabled",
            Seats.GivesUp.NoRule => "was there before any rule gave it",
            Seats.GivesUp.Ends => "has it until a day",
            Seats.GivesUp.Asked => "asked for it",
            _ => rulebook.Templates.FirstOrDefault(t => t.Name == Seats.ReasonOf(holder).Rule)?.Title ?? Seats.ReasonOf(holder).Rule,
        };
}

public static class HoldersEndpoints
{
    public static void MapHolders(this RouteGroupBuilder api) =>
        api.MapGet(
                "/targets/{name}/entitlements/{entitlement}/holders",
                (string name, string entitlement, HoldersDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                    desk.ListAsync(name, entitlement, user, cancel)
            )
            .WithName("listHolders")
            .WithSummary("Who holds something that the target gives, those first who could give it up.")
            .RequireAuthorization("targets")
            .Reaching(Reached.Filtered);
}
