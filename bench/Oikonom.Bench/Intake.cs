using System.Diagnostics;
using Oikonom.Contracts;
using Oikonom.Core.Rulebook;
using Oikonom.Sources.Files;
using Oikonom.Testing;

namespace Oikonom.Bench;

/// <summary>A full run over an unchanged file by the real service, against only parsing and hashing that file.</summary>
internal static class Intake
{
    public static async Task RunAsync(int rows)
    {
        await using var directory = await TestDirectory.StartAsync();
        await using var world = await World.StartAsync(directory, new() { Mail = false, Environment = new Dictionary<string, string> { ["LOG_LEVEL"] = "Warning" } });
        world.WriteHr(Enumerable.Range(0, rows).Select(i => new HrRow($"B{i:000000}", "Tor", $"Quill{i}") { Start = "2020-01-05", Department = i % 3 == 0 ? "Research" : "Dive Team" }));
        var source = RulebookReader.Read([.. world.Rulebook().Select(f => new RulebookFile(f.Path, f.Text))]).Rulebook!.Sources["hr"];
        Console.WriteLine($"Intake: {rows} rows, {new FileInfo(world.SourceFile).Length / 1_000_000.0:0.0} MB");

        var watch = Stopwatch.StartNew();
        var first = await world.RunIntakeAsync("baseline", actor: "edda");
        Console.WriteLine($"  first load as a baseline                            {watch.ElapsedMilliseconds,8} ms   ({first.Counts.Changed} records)");

        var (bare, unchanged, delta) = (new List<double>(), new List<double>(), 0.0);
        for (var round = 0; round < 7; round++)
        {
            watch.Restart();
            var sum = UInt128.Zero;
            DelimitedFile.Read(world.SourceFile, source, row => sum ^= row.Fingerprint);
            bare.Add(watch.Elapsed.TotalMilliseconds);
            watch.Restart();
            var run = await world.RunIntakeAsync();
            unchanged.Add(watch.Elapsed.TotalMilliseconds);
            if (run.Counts.Unchanged != rows) throw new InvalidOperationException($"{run.Counts.Unchanged} of {rows} were unchanged.");
        }
        var text = await File.ReadAllTextAsync(world.SourceFile);
        await File.WriteAllTextAsync(world.SourceFile, text.Replace("B000007,Tor", "B000007,Tora", StringComparison.Ordinal));
        watch.Restart();
        var changed = await world.RunIntakeAsync("baseline", actor: "edda");
        delta = watch.Elapsed.TotalMilliseconds;
        if (changed.Counts.Changed != 1) throw new InvalidOperationException("One row should have changed.");
        var (a, b) = (bare.Skip(2).Order().ElementAt(2), unchanged.Skip(2).Order().ElementAt(2));
        Console.WriteLine($"  only parsing and hashing                            {a,8:0} ms");
        Console.WriteLine($"  unchanged full run, over HTTP, all commits          {b,8:0} ms");
        Console.WriteLine($"  one row changed                                     {delta,8:0} ms");
        Console.WriteLine($"  ratio unchanged to parsing and hashing              {b / a,8:0.00}   (wanted: 2 or less)");
    }
}
