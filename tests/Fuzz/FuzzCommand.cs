using System.Globalization;
using System.IO.MemoryMappedFiles;
using Oikonom.Testing;

namespace Oikonom.Fuzz.Tests;

/// <summary><c>fuzz PARSER|all [--seconds N] [--seed N]</c>: fuzzes, keeps seeds and crashes beside the tests, and tells what it
/// did.</summary>
public static class FuzzCommand
{
    private const int SlotBytes = (1 << 16) + 4;
    private const int MostSeeds = 24;
    private const int LongestSeed = 300;

    public static int Run(string[] args)
    {
        var name = args.FirstOrDefault(a => !a.StartsWith("--", StringComparison.Ordinal)) ?? "";
        var parsers = name == "all" ? Parsers.All : [.. Parsers.All.Where(p => p.Name == name)];
        if (parsers.Count == 0 || Number("--seconds", 60) is not { } seconds || Number("--seed", Environment.TickCount) is not { } seed)
        {
            Console.Error.WriteLine(
                "fuzz: say what to fuzz, and how long: fuzz PARSER [--seconds 60] [--seed 1], with PARSER one of "
                    + $"{string.Join(", ", Parsers.All.Select(p => p.Name))}, or all."
            );
            return 2;
        }
        var failed = false;
        foreach (var parser in parsers)
            failed |= !Fuzz(parser, TimeSpan.FromSeconds(seconds), seed);
        return failed ? 1 : 0;

        int? Number(string option, int otherwise) =>
            Array.IndexOf(args, option) is var at and >= 0
                ? at + 1 < args.Length && int.TryParse(args[at + 1], NumberStyles.None, CultureInfo.InvariantCulture, out var n)
                    ? n
                    : null
                : otherwise;
    }

    private static bool Fuzz(Parser parser, TimeSpan time, int seed)
    {
        // The input at hand stands in a mapped file, so that one which ends the whole process is known afterwards.
        var slot = Path.Combine(Path.GetTempPath(), $"oikonom-fuzz-{parser.Name}");
        var died = Died(slot);
        if (died is not null)
            Keep(parser, died, "ended the process");
        using (var map = MemoryMappedFile.CreateFromFile(slot, FileMode.Create, null, SlotBytes))
        using (var view = map.CreateViewAccessor())
        {
            var run = new Fuzzer(parser, seed).Run(
                time,
                input =>
                {
                    view.WriteArray(4, input, 0, Math.Min(input.Length, SlotBytes - 4));
                    view.Write(0, input.Length);
                }
            );
            view.Write(0, 0);
            var seeds = run
                .Kept.Where(i => i.Length <= LongestSeed)
                .OrderBy(_ => Random.Shared.Next())
                .Take(Math.Max(0, MostSeeds - Kept.SeedsOf(parser.Name).Count))
                .ToList();
            if (seeds.Count > 0)
                Kept.AddSeeds(parser.Name, seeds);
            Console.WriteLine(
                $"{parser.Name}: {run.Tried} inputs tried in {time.TotalSeconds:0} s (seed {seed}), {run.Kept.Count} led to "
                    + $"something new, {seeds.Count} kept as seeds, {run.Crashes.Count} crashes"
            );
            foreach (var (input, seen) in run.Crashes)
                Keep(parser, input, seen);
            return run.Crashes.Count == 0 && died is null;
        }
    }

    private static byte[]? Died(string slot)
    {
        if (!File.Exists(slot))
            return null;
        var bytes = File.ReadAllBytes(slot);
        return bytes.Length > 4 && BitConverter.ToInt32(bytes) is var length and > 0 && length <= bytes.Length - 4
            ? bytes[4..(4 + length)]
            : null;
    }

    private static void Keep(Parser parser, byte[] input, string seen) =>
        Console.WriteLine(
            $"  crash: {seen}\n    kept as {Path.GetRelativePath(Repository.At("."), Kept.AddCrash(parser.Name, input, seen))}"
        );
}

/// <summary>Seeds and crashes that stand beside the tests, each as Base64 so that any bytes can be kept.</summary>
public static class Kept
{
    public static IReadOnlyList<byte[]> SeedsOf(string parser) =>
        Repository.At("tests", "Fuzz", "seeds", $"{parser}.txt") is var path && File.Exists(path)
            ? [.. File.ReadLines(path).Where(l => l.Length > 0).Select(Convert.FromBase64String)]
            : [];

    public static void AddSeeds(string parser, IEnumerable<byte[]> inputs) =>
        File.AppendAllLines(Repository.At("tests", "Fuzz", "seeds", $"{parser}.txt"), inputs.Select(Convert.ToBase64String));

    /// <returns>Where it is kept; a test tries it from then on.</returns>
    public static string AddCrash(string parser, byte[] input, string seen)
    {
        var path = Repository.At(
            "tests",
            "Fuzz",
            "crashes",
            $"{parser}-{Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData(input))[..12]}.txt"
        );
        File.WriteAllText(path, $"{Convert.ToBase64String(input)}\n{seen.ReplaceLineEndings(" ")}\n");
        return path;
    }

    public static IEnumerable<(string Parser, byte[] Input)> Crashes() =>
        Directory.Exists(Repository.At("tests", "Fuzz", "crashes"))
            ? Directory
                .GetFiles(Repository.At("tests", "Fuzz", "crashes"), "*.txt")
                .Select(f =>
                    (Path.GetFileName(f)[..Path.GetFileName(f).LastIndexOf('-')], Convert.FromBase64String(File.ReadLines(f).First()))
                )
            : [];
}
