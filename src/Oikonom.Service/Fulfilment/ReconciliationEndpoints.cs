using System.Security.Claims;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core;
using Oikonom.Core.Fulfilment;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>Targets that are read whole, and what was found.</summary>
public static class ReconciliationEndpoints
{
    private const int Most = 20;
    private const int MostItems = 2000;

    /// <summary>What each class means, for people.</summary>
    private static readonly Dictionary<EntryClass, string> Meanings = new()
    {
        [EntryClass.AsDecided] = "as decided",
        [EntryClass.Known] = "of nobody, and people said what it is",
        [EntryClass.Drift] = "attributes were changed outside",
        [EntryClass.Surplus] = "holds what nobody gave",
        [EntryClass.Missing] = "what it was given was taken from it",
        [EntryClass.EnabledOutside] = "may be used and should not",
        [EntryClass.DisabledOutside] = "was disabled outside",
        [EntryClass.Deleted] = "was deleted outside",
        [EntryClass.MadeAgain] = "was deleted, and another one has its name",
        [EntryClass.Orphan] = "answers to somebody who has left",
        [EntryClass.Duplicate] = "answers to somebody to whom another one answers too",
        [EntryClass.Unclaimed] = "answers to somebody who has none yet",
        [EntryClass.Unmatched] = "answers to nobody",
    };

    public static void MapReconciliations(this RouteGroupBuilder api)
    {
        api.MapPost(
                "/targets/{name}/reconcile",
                async (
                    string name,
                    ReconcileBody body,
                    TargetDesk desk,
                    Reconciler reconciler,
                    ClaimsPrincipal user,
                    CancellationToken cancel
                ) =>
                {
                    user.RequireWholeTarget(name);
                    var (edition, target) = await desk.RequireAsync(name, cancel);
                    if (body is { Changes: true, DryRun: true })
                        throw Problem.Invalid("What changed is told once; it cannot be read without anything following from it.", "dryRun");
                    try
                    {
                        return View(
                            body.Changes
                                ? (await reconciler.ChangesAsync(edition, target, user.UserName(), true, cancel))!
                                : await reconciler.RunAsync(edition, target, body.DryRun, user.UserName(), cancel)
                        );
                    }
                    catch (TargetFault fault)
                    {
                        throw Problem.Conflict("target-away", fault.Message);
                    }
                }
            )
            .WithName("reconcileTarget")
            .WithSummary("Reads the target whole, or what changed in it, and tells how each entry stands to what was decided.")
            .RequireAuthorization("targets")
            .Reaching(Reached.Shared);

        api.MapGet(
                "/targets/{name}/reconciliations",
                async (string name, TargetDesk desk, Store.Store store, CancellationToken cancel) =>
                {
                    await desk.RequireAsync(name, cancel);
                    var rows = await store.ReadAsync(s => s.ReconciliationsAsync(name, Most), cancel);
                    return new Page<Reconciliation>([.. rows.Select(View)], null);
                }
            )
            .WithName("listReconciliations")
            .WithSummary("When the target was read whole, and what was found in numbers; the newest first.")
            .RequireAuthorization("targets")
            .Reaching(Reached.Shared);

        api.MapGet("/targets/{name}/reconciliations/{id}", OneAsync)
            .WithName("getReconciliation")
            .WithSummary("The entries that were not as decided; of one class, when it is named.")
            .RequireAuthorization("targets")
            .Reaching(Reached.Everywhere);
    }

    private static async Task<ReconciliationDetail> OneAsync(
        string name,
        string id,
        string? kind,
        Store.Store store,
        CancellationToken cancel
    )
    {
        var (row, items) = await store.ReadAsync(
            async s => (await s.ReconciliationAsync(id), await s.ReconciliationItemsAsync(id, kind ?? "", MostItems)),
            cancel
        );
        if (row is null || row.Target != name)
            throw Problem.NotFound($"reconciliation '{id}' of '{name}'", "Ask for the list of them first.");
        return new(
            View(row),
            [
                .. items.Select(i => new ReconciliationItem(
                    i.Class,
                    i.Name,
                    i.Location,
                    i.PersonId,
                    i.Display.Length > 0 ? i.Display : null,
                    i.Number.Length > 0 ? i.Number : null,
                    i.Text
                )),
            ]
        );
    }

    private static Reconciliation View(ReconciliationRow row)
    {
        var counts = JsonSerializer.Deserialize<Dictionary<string, int>>(row.Counts) ?? [];
        return new(
            row.Id,
            row.Target,
            row.At.ToInstant(),
            row.Actor,
            row.Dry == 1,
            row.Milliseconds,
            (int)row.Entries,
            [
                .. Meanings
                    .Where(m => counts.ContainsKey(EnumText.Of(m.Key)))
                    .Select(m => new ClassCount(EnumText.Of(m.Key), counts[EnumText.Of(m.Key)], m.Value)),
            ]
        )
        {
            Changes = row.Changes == 1,
        };
    }
}
