using Xunit;

namespace Oikonom.Fuzz.Tests;

/// <summary>A short run of each parser from the kept seeds; <c>make fuzz</c> runs them as long as one likes.</summary>
public sealed class FuzzTests
{
    public static TheoryData<string> Names => [.. Parsers.All.Select(p => p.Name)];

    [Theory]
    [MemberData(nameof(Names))]
    public void Whatever_comes_in_ends_with_a_result_or_the_parsers_own_error(string name)
    {
        var run = new Fuzzer(Parsers.All.Single(p => p.Name == name), seed: 7).Run(TimeSpan.FromSeconds(3));
        Assert.Empty(run.Crashes.Select(c => $"{Convert.ToBase64String(c.Input)}: {c.Seen}"));
        Assert.True(run.Tried > 100, $"Only {run.Tried} inputs were tried.");
        Assert.NotEmpty(run.Kept);
    }

    [Fact]
    public void What_crashed_once_does_so_no_more() =>
        Assert.All(Kept.Crashes(), crash => Assert.Null(Fuzzer.Feed(Parsers.All.Single(p => p.Name == crash.Parser), crash.Input).Crash));

    /// <summary>The fuzzer itself finds what is there to be found, makes it small, and sees what takes too long.</summary>
    [Fact]
    public void A_parser_that_crashes_is_found_out()
    {
        var weak = new Parser(
            "weak",
            ["key=value"u8.ToArray()],
            ["==", "!"],
            input => input.AsSpan().IndexOf("==!"u8) >= 0 ? throw new InvalidOperationException("found") : "ok"
        );
        var (small, seen) = Assert.Single(new Fuzzer(weak, seed: 1).Run(TimeSpan.FromSeconds(2)).Crashes);
        Assert.Equal("==!"u8.ToArray(), small);
        Assert.StartsWith("InvalidOperationException: found", seen, StringComparison.Ordinal);
    }
}
