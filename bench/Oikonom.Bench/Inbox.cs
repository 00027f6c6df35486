using System.Diagnostics;
using System.Net.Http.Json;
using Oikonom.Contracts;
using Oikonom.Testing;

namespace Oikonom.Bench;

/// <summary>How fast inbox and list answer over HTTP beside many open requests, on both engines.</summary>
internal static class Inbox
{
    public static async Task RunAsync(int requests)
    {
        await foreach (var (engine, world) in Engines.EachAsync())
        {
            world.WriteHr(
                Enumerable
                    .Range(0, requests)
                    .Select(i =>
                        HrRow.New() with
                        {
                            Manager = i % 2 == 0 ? "E9002" : "E9003",
                            Department = i % 3 == 0 ? "Dive Team" : "Office",
                        }
                    )
            );
            await World.OkAsync(
                (await world.SignInAsync("edda")).PostAsJsonAsync(
                    "/api/v1/rulebook/editions",
                    new RulebookBody(world.Rulebook((path, text) => path == "sources/hr.yaml" ? WithoutBrake(text) : text))
                )
            );
            await world.RunIntakeAsync();
            await world.EventuallyAsync(
                () => world.GetAsync<RequestCounts>("/api/v1/requests/counts"),
                c => c.States.GetValueOrDefault("deciding") == requests,
                900
            );
            Console.WriteLine($"{requests} open requests on {engine}, 4 clients   (wanted: p99 under 100 ms)");
            await MeasureAsync(world, "inbox of an approver", "/api/v1/inbox?limit=50", "mara");
            await MeasureAsync(world, "open requests", "/api/v1/requests?open=true&limit=50", "otto");
            await MeasureAsync(world, "requests by name", "/api/v1/requests?text=q&limit=50", "otto");
            await MeasureAsync(world, "what waits on somebody", "/api/v1/requests?waitsOn=tomas&limit=50", "otto");
            await MeasureAsync(world, "today", "/api/v1/today", "mara");
        }
    }

    /// <summary>The brake would hold a file of this many joiners.</summary>
    private static string WithoutBrake(string text) =>
        text.Contains("brake:", StringComparison.Ordinal)
            ? System.Text.RegularExpressions.Regex.Replace(text, @"(joiners|movers|leavers): *\{?[^\n]*", "$1: 1000000")
            : text;

    internal static async Task MeasureAsync(World world, string what, string path, string actor)
    {
        var client = await world.SignInAsync(actor);
        for (var i = 0; i < 30; i++)
            (await client.GetAsync(path)).EnsureSuccessStatusCode();
        var times = new System.Collections.Concurrent.ConcurrentBag<double>();
        await Parallel.ForEachAsync(
            Enumerable.Range(0, 400),
            new ParallelOptions { MaxDegreeOfParallelism = 4 },
            async (_, cancel) =>
            {
                var watch = Stopwatch.StartNew();
                using var answer = await client.GetAsync(path, cancel);
                await answer.Content.ReadAsByteArrayAsync(cancel);
                answer.EnsureSuccessStatusCode();
                times.Add(watch.Elapsed.TotalMilliseconds);
            }
        );
        var sorted = times.Order().ToList();
        Console.WriteLine($"  {what, -26} p50 {sorted[200], 6:0.0} ms   p99 {sorted[396], 6:0.0} ms");
    }
}
