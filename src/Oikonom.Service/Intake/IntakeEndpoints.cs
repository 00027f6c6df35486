using System.Security.Claims;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Service.Access;
using Oikonom.Service.Hosting;
using Oikonom.Service.Rulebook;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Intake;

public static class IntakeEndpoints
{
    public static void MapIntake(this RouteGroupBuilder api)
    {
        api.MapPost("/sources/{name}/runs", async (string name, IntakeBody body, IntakeRunner runner, ClaimsPrincipal user, CancellationToken cancel) =>
        {
            var mode = body.Mode ?? "full";
            if (mode is not ("full" or "baseline")) throw Problem.Invalid("'mode' is full or baseline.", "mode");
            return await runner.RunAsync(name, mode, body.DryRun == true, user.UserName(), cancel);
        }).WithName("runIntake").WithSummary("Reads a source now. A dry run tells what would happen and changes nothing.").RequireAuthorization("intake");

        api.MapGet("/sources", async (EditionBook editions, Store.Store store, CancellationToken cancel) =>
        {
            var edition = await editions.CurrentAsync(cancel);
            var items = new List<SourceSummary>();
            foreach (var source in edition.Rulebook.Sources.Values)
            {
                var (runs, aside) = await store.ReadAsync(async s => (await s.RunsAsync(source.Name, 1), await s.SetAsideAsync(source.Name, 100_000)), cancel);
                items.Add(new(source.Name, source.Title, source.Path, runs.Count > 0 ? View(runs[0], []) : null, aside.Count));
            }
            return new Page<SourceSummary>(items, null);
        }).WithName("listSources").WithSummary("The sources of the rulebook with their last run.").RequireAuthorization("read");

        api.MapGet("/sources/{name}/runs", async (string name, Store.Store store, CancellationToken cancel) =>
            new Page<IntakeRun>([.. (await store.ReadAsync(s => s.RunsAsync(name, 100), cancel)).Select(r => View(r, []))], null))
            .WithName("listRuns").WithSummary("The last runs of a source.").RequireAuthorization("intake");

        api.MapGet("/sources/{name}/set-aside", async (string name, Store.Store store, CancellationToken cancel) =>
            new Page<SetAside>([.. (await store.ReadAsync(s => s.SetAsideAsync(name, 1000), cancel)).Select(IntakeRunner.View)], null))
            .WithName("listSetAside").WithSummary("The rows of a source that are set aside, each with line, column and reason.").RequireAuthorization("intake");
    }

    private static IntakeRun View(RunRow row, IReadOnlyList<SetAside> aside) => new(row.Id, row.Source, row.Mode, false, row.Actor, row.StartedAt.ToInstant(), row.EndedAt.ToInstant(), row.Outcome, row.Message,
        JsonSerializer.Deserialize<IntakeCounts>(row.Counts, JsonSerializerOptions.Web) ?? new(0, 0, 0, 0, 0, 0, 0, 0, 0), aside, []);
}
