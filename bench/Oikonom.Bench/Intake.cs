using System.Diagnostics;
using System.Net.Http.Json;
using Microsoft.Data.Sqlite;
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
        await using var world = await World.StartAsync(
            directory,
            new()
            {
                Mail = false,
                Environment = new Dictionary<string, string> { ["LOG_LEVEL"] = "Warning" },
            }
        );
        world.WriteHr(
            Enumerable
                .Range(0, rows)
                .Select(i => new HrRow($"B{i:000000}", "Tor", $"Quill{i}")
                {
                    Start = "2020-01-05",
                    Department = i % 3 == 0 ? "Research" : "Dive Team",
                })
        );
        var source = RulebookReader.Read([.. world.Rulebook().Select(f => new RulebookFile(f.Path, f.Text))]).Rulebook!.Sources["hr"];
        Console.WriteLine($"Intake: {rows} rows, {new FileInfo(world.SourceFile).Length / 1_000_000.0:0.0} MB");

        var bareLoad = BareLoad(world.SourceFile, source);
        var watch = Stopwatch.StartNew();
        var first = await world.RunIntakeAsync("baseline", actor: "edda");
        var load = watch.Elapsed.TotalMilliseconds;
        Console.WriteLine($"  bare prepared insert of the same rows               {bareLoad, 8:0} ms");
        Console.WriteLine($"  first load as a baseline                            {load, 8:0} ms   ({first.Counts.Changed} records)");
        Console.WriteLine($"  ratio first load to bare insert                     {load / bareLoad, 8:0.00}   (wanted: 3 or less)");

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
            if (run.Counts.Unchanged != rows)
                throw new InvalidOperationException($"{run.Counts.Unchanged} of {rows} were unchanged.");
        }
        await DeltaAsync(world, 100);
        var text = await File.ReadAllTextAsync(world.SourceFile);
        await File.WriteAllTextAsync(world.SourceFile, text.Replace("B000007,Tor", "B000007,Tora", StringComparison.Ordinal));
        watch.Restart();
        var changed = await world.RunIntakeAsync("baseline", actor: "edda");
        delta = watch.Elapsed.TotalMilliseconds;
        if (changed.Counts.Changed != 1)
            throw new InvalidOperationException("One row should have changed.");
        var (a, b) = (bare.Skip(2).Order().ElementAt(2), unchanged.Skip(2).Order().ElementAt(2));
        Console.WriteLine($"  only parsing and hashing                            {a, 8:0} ms");
        Console.WriteLine($"  unchanged full run, over HTTP, all commits          {b, 8:0} ms");
        Console.WriteLine($"  one row changed                                     {delta, 8:0} ms");
        Console.WriteLine($"  ratio unchanged to parsing and hashing              {b / a, 8:0.00}   (wanted: 2 or less)");
    }

    /// <summary>The rows of the file into one table with a key, by one prepared statement in one transaction, parsing included.</summary>
    private static double BareLoad(string file, SourceRule source)
    {
        var path = Path.Combine(Path.GetTempPath(), $"oikonom-bench-{Guid.NewGuid():N}.db");
        try
        {
            using var connection = new SqliteConnection($"Data Source={path};Pooling=False");
            connection.Open();
            using var command = connection.CreateCommand();
            command.CommandText =
                "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; CREATE TABLE records (key TEXT PRIMARY KEY, "
                + $"{string.Join(", ", source.ColumnNames.Select(c => c + " TEXT"))});";
            command.ExecuteNonQuery();
            var watch = Stopwatch.StartNew();
            using var transaction = connection.BeginTransaction();
            command.Transaction = transaction;
            command.CommandText = $"INSERT INTO records VALUES (@key, {string.Join(", ", source.ColumnNames.Select((_, i) => $"@c{i}"))})";
            command.Parameters.AddWithValue("@key", "");
            for (var i = 0; i < source.ColumnNames.Count; i++)
                command.Parameters.AddWithValue($"@c{i}", "");
            command.Prepare();
            DelimitedFile.Read(
                file,
                source,
                row =>
                {
                    command.Parameters[0].Value = row.Key.ToString();
                    for (var i = 0; i < source.ColumnNames.Count; i++)
                        command.Parameters[i + 1].Value = row.Text(i);
                    command.ExecuteNonQuery();
                }
            );
            transaction.Commit();
            return watch.Elapsed.TotalMilliseconds;
        }
        finally
        {
            foreach (var suffix in new[] { "", "-wal", "-shm" })
                File.Delete(path + suffix);
        }
    }

    /// <summary>A delivery of changes, whose cost must not grow with the people known.</summary>
    private static async Task DeltaAsync(World world, int rows)
    {
        var edda = await world.SignInAsync("edda");
        await World.OkAsync(edda.PostAsJsonAsync("/api/v1/sources/volunteers/test", new { }));
        await World.OkAsync(edda.PostAsJsonAsync("/api/v1/sources/volunteers/switch", new SwitchBody(true)));
        var times = new List<double>();
        for (var round = 0; round < 6; round++)
        {
            var records = Enumerable
                .Range(0, rows)
                .Select(i => new
                {
                    badge = $"D{round}-{i}",
                    given = "Una",
                    family = $"Tern{i}",
                    from = "2020-01-02",
                    until = "2020-02-02",
                    station = "harbour",
                });
            var watch = Stopwatch.StartNew();
            await World.OkAsync(edda.PostAsJsonAsync("/api/v1/sources/volunteers/records", new { records }));
            times.Add(watch.Elapsed.TotalMilliseconds);
        }
        Console.WriteLine($"  a delta of {rows} new records beside them              {times.Skip(2).Order().ElementAt(1), 8:0} ms");
    }
}
