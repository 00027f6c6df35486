using System.Security.Claims;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Intake;
using Oikonom.Core.Ledger;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Intake;

/// <content>Runs that the brake holds: seen, let through or dropped.</content>
public sealed partial class SourceDesk
{
    public async Task<HeldRun> HeldAsync(string runId, ClaimsPrincipal user, CancellationToken cancel)
    {
        var row =
            await store.ReadAsync(s => s.HeldAsync(runId), cancel)
            ?? throw Problem.NotFound($"held run '{runId}'", "See 'oikonom intake sources'.");
        var source = (await editions.CurrentAsync(cancel)).Rulebook.Sources.GetValueOrDefault(row.Source);
        var passes = source?.Brake?.Passes ?? "role:engineer";
        return new(
            row.RunId,
            row.Source,
            row.Why,
            EnumText.Of(row.State),
            row.At.ToInstant(),
            row.Actor,
            passes,
            row.State == HeldState.Held && Passes(user, passes),
            JsonSerializer.Deserialize<List<RaisedRequest>>(row.Raises) ?? []
        );
    }

    /// <summary>All runs that wait under the brake.</summary>
    public async Task<IReadOnlyList<HeldRun>> HeldRunsAsync(ClaimsPrincipal user, CancellationToken cancel)
    {
        var runs = new List<HeldRun>();
        foreach (var id in await store.ReadAsync(s => s.HeldRunIdsAsync(), cancel))
            runs.Add(await HeldAsync(id, user, cancel) with { Requests = [] });
        return runs;
    }

    private static bool Passes(ClaimsPrincipal user, string passes) =>
        passes.StartsWith("role:", StringComparison.Ordinal)
            ? user.RoleNames().Contains(passes[5..])
            : passes.StartsWith("person:", StringComparison.Ordinal) && user.Number() == passes[7..];

    /// <summary>Lets a held run pass, or drops it. What passes is what was shown: the run is made anew and must raise exactly
    /// the same.</summary>
    public async Task<IntakeRun> DecideHeldAsync(string runId, bool pass, ClaimsPrincipal user, CancellationToken cancel)
    {
        var held = await HeldAsync(runId, user, cancel);
        if (held.State != "held")
            throw Problem.Conflict("not-held", $"The run is {held.State}; there is nothing to decide.");
        var run = await store.ReadAsync(s => s.RunAsync(runId), cancel);
        if (pass && run!.Mode == "baseline")
        {
            if (!user.RoleNames().Contains(Roles.Engineer))
                throw new Problem(403, "not-yours", "Not allowed", "A baseline is let pass by an engineer.");
            await store.ReadAsync(
                async s =>
                {
                    await SecondPerson.RequireAsync(
                        s,
                        held.Actor,
                        user,
                        "own-run",
                        "You ran this baseline yourself; another engineer lets it pass."
                    );
                    return true;
                },
                cancel
            );
        }
        else if (!Passes(user, held.Passes))
            throw new Problem(403, "not-yours", "Not allowed", $"This decision belongs to {held.Passes}.");
        await store.WriteAsync(
            async s =>
            {
                if (!await s.DecideHeldAsync(runId, pass ? HeldEvent.Pass : HeldEvent.Drop, user.UserName(), time.Milliseconds()))
                    throw Problem.Conflict("not-held", "Somebody else decided in the meantime.");
                s.Record(
                    LedgerEntry.Of(
                        time.GetUtcNow(),
                        user.UserName(),
                        pass ? "intake.passed" : "intake.dropped",
                        null,
                        null,
                        ("run", runId),
                        ("source", held.Source)
                    )
                );
                s.Tell("sources", held.Source);
            },
            cancel
        );
        if (!pass)
            return RunView(run!);
        // What was kept back of pushes is taken from the resources, all of them as they are now.
        return await runner.RunAsync(new(held.Source, run!.Mode, false, user.UserName(), "", runId), cancel);
    }
}
