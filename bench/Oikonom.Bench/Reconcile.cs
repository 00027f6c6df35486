using System.Diagnostics;
using System.Globalization;
using System.Net.Http.Json;
using Oikonom.Contracts;
using Oikonom.Ldap;
using Oikonom.Standins.Directory;
using Oikonom.Testing;

namespace Oikonom.Bench;

/// <summary>A directory read whole and held against what is recorded, against a bare paged search of the same attributes.</summary>
internal static class Reconcile
{
    private const int Rounds = 3;

    public static async Task RunAsync(int people)
    {
        using var folder = new ScratchFolder();
        var rows = Enumerable
            .Range(0, people)
            .Select(i => new HrRow($"B{i:000000}", "Tor", $"Quill-{Letters(i)}") { Start = "2020-01-05" })
            .ToList();
        var file = folder.At("people.csv");
        await File.WriteAllLinesAsync(file, rows.Select(r => r.ToString()).Prepend(HrRow.Header));
        await using var directory = await TestDirectory.StartAsync(NorthmereTree.Ldif(file, []));
        await using var world = await World.StartAsync(directory);
        world.WriteHr(rows);
        var watch = Stopwatch.StartNew();
        await world.BaselineAsync();
        Console.WriteLine($"A directory of {people} entries read whole, nothing changed (recorded in {watch.Elapsed.TotalSeconds:0.0} s)");

        var (bare, ours) = (new List<double>(), new List<double>());
        for (var round = 0; round < Rounds; round++)
        {
            bare.Add(await BareAsync(directory));
            var client = await world.SignInAsync("otto");
            watch.Restart();
            var answer = await World.OkAsync(client.PostAsJsonAsync("/api/v1/targets/directory/reconcile", new ReconcileBody(false)));
            ours.Add(watch.Elapsed.TotalSeconds);
            var made = (await answer.Content.ReadFromJsonAsync<Reconciliation>())!;
            var classes = string.Join(", ", made.Classes.Select(c => $"{c.Count} {c.Name}"));
            Console.WriteLine($"  {classes}; the service then holds {await MemoryAsync(world)} MB");
        }
        var (a, b) = (bare.Order().ElementAt(Rounds / 2), ours.Order().ElementAt(Rounds / 2));
        Console.WriteLine($"  bare paged search                {a, 8:0.00} s");
        Console.WriteLine($"  the service                      {b, 8:0.00} s");
        Console.WriteLine($"  ratio                            {b / a, 8:0.00}   (wanted: 2 or less)");
    }

    private static async Task<double> BareAsync(TestDirectory directory)
    {
        await using var ldap = await directory.ConnectAsync();
        var watch = Stopwatch.StartNew();
        var search = new LdapSearch(
            DirectoryOptions.People,
            LdapScope.Subtree,
            LdapFilter.Present("uid"),
            ["*", "entryUUID", "pwdAccountLockedTime", "pwdLastSuccess", "authTimestamp"]
        );
        var count = 0;
        await foreach (var entry in ldap.PageAsync(search, 500, default))
            count += entry.Attributes.Count > 0 ? 1 : 0;
        return watch.Elapsed.TotalSeconds;
    }

    private static async Task<string> MemoryAsync(World world)
    {
        var figures = await (await (await world.SignInAsync("otto")).GetAsync("/api/v1/metrics")).Content.ReadAsStringAsync();
        var line = figures.Split('\n').First(l => l.StartsWith("process_resident_memory_bytes", StringComparison.Ordinal));
        return (double.Parse(line.Split(' ')[1], CultureInfo.InvariantCulture) / 1_048_576).ToString("0", CultureInfo.InvariantCulture);
    }

    private static string Letters(int number)
    {
        var text = "";
        for (var i = 0; i < 4; i++, number /= 26)
            text += (char)('a' + (number % 26));
        return text;
    }
}
