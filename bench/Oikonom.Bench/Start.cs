using System.Diagnostics;
using System.Globalization;
using Oikonom.Contracts;
using Oikonom.Standins.Directory;
using Oikonom.Standins.Hr;
using Oikonom.Testing;

namespace Oikonom.Bench;

/// <summary>How long the service takes to be ready on an existing store, and what it holds in memory with the demo's people.</summary>
internal static class Start
{
    public static async Task RunAsync()
    {
        var tree = NorthmereTree.Ldif(Repository.At("demo", "northmere", "hr", "people.csv"), []);
        await using var directory = await TestDirectory.StartAsync(tree);
        await using var world = await World.StartAsync(
            directory,
            WorldOptions.Measured with
            {
                Console = Repository.At("console", "dist"),
            }
        );
        var hr = new HrService(
            Repository.At("demo", "northmere", "hr"),
            Path.GetDirectoryName(world.SourceFile)!,
            DateOnly.FromDateTime(DateTime.UtcNow)
        );
        hr.Export("people");
        await world.RunIntakeAsync("baseline", actor: "edda");
        hr.Export("people-with-joiners");
        await world.RunIntakeAsync();
        await world.EventuallyAsync(
            () => world.GetAsync<Page<RequestSummary>>("/api/v1/requests?state=deciding"),
            page => page.Items.Count >= 8
        );
        var times = new List<double>();
        for (var round = 0; round < 5; round++)
        {
            world.Kill();
            await world.WaitForEndAsync();
            var watch = Stopwatch.StartNew();
            await world.StartServiceAsync();
            times.Add(watch.Elapsed.TotalMilliseconds);
        }
        for (var i = 0; i < 200; i++)
        {
            await world.GetAsync<Page<PersonSummary>>("/api/v1/people?limit=200");
            await world.GetAsync<Page<RequestSummary>>("/api/v1/requests?limit=200");
        }
        await world.VerifyLedgerAsync();
        Console.WriteLine("Start, with the demo's people in the store");
        Console.WriteLine(
            $"  ready after start (median of 5)                     {times.Order().ElementAt(2), 8:0} ms   (wanted: under 2000)"
        );
        Console.WriteLine($"  resident after 400 lists and a verification         {Resident(world.Port), 8:0} MB   (wanted: under 200)");
    }

    private static double Resident(int port)
    {
        foreach (var process in Process.GetProcessesByName("oikonomd"))
        {
            var environment = File.ReadAllText($"/proc/{process.Id}/environ");
            if (
                !environment.Contains(
                    $"OIKONOM_LISTEN=http://127.0.0.1:{port.ToString(CultureInfo.InvariantCulture)}\0",
                    StringComparison.Ordinal
                )
            )
                continue;
            var line = File.ReadLines($"/proc/{process.Id}/status").First(l => l.StartsWith("VmRSS:", StringComparison.Ordinal));
            return int.Parse(line.Split(' ', StringSplitOptions.RemoveEmptyEntries)[1], CultureInfo.InvariantCulture) / 1024.0;
        }
        throw new InvalidOperationException("The service's process was not found.");
    }
}
