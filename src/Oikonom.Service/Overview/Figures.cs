using System.Diagnostics;
using System.Globalization;
using System.Text;
using Oikonom.Core;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Connectors;
using Oikonom.Service.Editions;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Overview;

/// <summary>The figures of the service in the text form that Prometheus reads: for whoever runs it, with a token.</summary>
public sealed class Figures(Store.Store store, EditionBook editions, Pulse pulse, TimeProvider time)
{
    private static readonly TimeSpan Day = TimeSpan.FromDays(1);

    public async Task<string> TellAsync(CancellationToken cancel)
    {
        var text = new StringBuilder();
        var now = time.GetUtcNow();
        await TargetsAsync(text, now, cancel);
        var tallies = await store.ReadAsync(s => s.RequestTalliesAsync(null), cancel);
        Head(text, "oikonom_requests", "Open requests by state and kind.");
        foreach (var t in tallies)
            text.Append(Telemetry.Line("oikonom_requests", t.Count, ("state", EnumText.Of(t.State)), ("kind", t.Kind)));
        Head(text, "oikonom_requests_stuck", "Open requests that cannot go on by themselves.");
        text.Append(Telemetry.Line("oikonom_requests_stuck", tallies.Sum(t => t.Stuck)));
        Head(text, "oikonom_people", "People who are known.");
        text.Append(Telemetry.Line("oikonom_people", await store.ReadAsync(s => s.PeopleCountAsync(), cancel)));
        Head(text, "oikonom_ledger_unsealed", "Entries of the ledger that are not sealed yet.");
        text.Append(Telemetry.Line("oikonom_ledger_unsealed", await store.ReadAsync(s => s.UnsealedCountAsync(), cancel)));
        Head(text, "oikonom_loops_standing", "Loops of this node that do not get on.");
        text.Append(Telemetry.Line("oikonom_loops_standing", pulse.Standing().Count));
        using var process = Process.GetCurrentProcess();
        Head(text, "process_cpu_seconds_total", "Processor time of this node.", "counter");
        text.Append(Telemetry.Line("process_cpu_seconds_total", process.TotalProcessorTime.TotalSeconds));
        Head(text, "process_resident_memory_bytes", "Memory of this node.");
        text.Append(Telemetry.Line("process_resident_memory_bytes", process.WorkingSet64));
        return text.ToString();
    }

    private async Task TargetsAsync(StringBuilder text, DateTimeOffset now, CancellationToken cancel)
    {
        if (await editions.CurrentOrNullAsync(cancel) is not { } edition)
            return;
        var at = now.ToUnixTimeMilliseconds();
        var (states, hours) = await store.ReadAsync(
            async s => (await s.TargetStatesAsync(), await s.TargetHoursAsync("", (now - Day).ToUnixTimeMilliseconds())),
            cancel
        );
        var lines = new Dictionary<string, StringBuilder>();
        foreach (var target in edition.Rulebook.Targets.Values)
        {
            var counts = await store.ReadAsync(s => s.TargetCountsAsync(target.Name, at), cancel);
            var state = states.FirstOrDefault(x => x.Target == target.Name);
            var own = hours.Where(h => h.Target == target.Name).ToList();
            Add("oikonom_target_up", TargetStates.WhyStill(target, state, now) is null ? 1 : 0);
            Add("oikonom_target_accounts", counts.Accounts);
            Add("oikonom_target_accounts_of_nobody", counts.Nobodys);
            Add("oikonom_target_accounts_differing", counts.Differing);
            Add("oikonom_target_steps_due", counts.Due);
            Add("oikonom_target_steps_later", counts.Waiting - counts.Due);
            Add("oikonom_target_steps_failing", counts.Failing);
            Add("oikonom_target_oldest_due_seconds", counts.OldestAt is { } oldest ? (at - oldest) / 1000.0 : 0);
            Add("oikonom_target_done_day", own.Sum(h => h.Done));
            Add("oikonom_target_failed_day", own.Sum(h => h.Failed));

            void Add(string name, double value)
            {
                if (!lines.TryGetValue(name, out var some))
                    lines[name] = some = new();
                some.Append(Telemetry.Line(name, value, ("target", target.Name)));
            }
        }
        foreach (var (name, some) in lines)
        {
            Head(text, name, Meanings[name]);
            text.Append(some);
        }
    }

    private static readonly Dictionary<string, string> Meanings = new()
    {
        ["oikonom_target_up"] = "1 while steps begin in the target; 0 while it is away, paused or worked on.",
        ["oikonom_target_accounts"] = "Accounts of people.",
        ["oikonom_target_accounts_of_nobody"] = "Accounts that belong to nobody.",
        ["oikonom_target_accounts_differing"] = "Accounts that were changed outside.",
        ["oikonom_target_steps_due"] = "Steps that are due.",
        ["oikonom_target_steps_later"] = "Steps that wait for a later day.",
        ["oikonom_target_steps_failing"] = "Steps that do not succeed.",
        ["oikonom_target_oldest_due_seconds"] = "How long the oldest step that is due waits.",
        ["oikonom_target_done_day"] = "Steps that succeeded within a day.",
        ["oikonom_target_failed_day"] = "Attempts within a day that failed because of the target.",
    };

    private static void Head(StringBuilder text, string name, string meaning, string type = "gauge") =>
        text.Append(CultureInfo.InvariantCulture, $"# HELP {name} {meaning}\n# TYPE {name} {type}\n");
}

public static class FigureEndpoints
{
    public static void MapFigures(this RouteGroupBuilder api) =>
        api.MapGet(
                "/metrics",
                async (Figures figures, CancellationToken cancel) =>
                    Results.Text(await figures.TellAsync(cancel), "text/plain; version=0.0.4; charset=utf-8")
            )
            .WithName("metrics")
            .WithSummary("The figures of the service in the text form that Prometheus reads.")
            .Produces<string>(200, "text/plain")
            .RequireAuthorization("targets")
            .Reaching(Reached.Everywhere);
}
