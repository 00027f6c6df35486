using System.Diagnostics;
using System.Text;
using System.Text.RegularExpressions;

namespace Oikonom.Fuzz.Tests;

/// <summary>A parser under test: what it is fed with first, words it knows, and what it does with bytes.</summary>
/// <param name="Try">Feeds it. Returns the shape of what came out; throws only what the parser must never throw.</param>
public sealed record Parser(string Name, IReadOnlyList<byte[]> Seeds, IReadOnlyList<string> Words, Func<byte[], string> Try);

/// <summary>What a run found.</summary>
/// <param name="Kept">Inputs that led to an answer no input before them had led to.</param>
/// <param name="Crashes">Inputs that ended in an error of the runtime, or took too long, with what was seen.</param>
public sealed record FuzzRun(long Tried, IReadOnlyList<byte[]> Kept, IReadOnlyList<(byte[] Input, string Seen)> Crashes);

/// <summary>
/// Changes inputs at random and keeps the ones that lead to an answer of a new shape, so that later inputs begin where
/// earlier ones got further. The same seed gives the same inputs.
/// </summary>
public sealed partial class Fuzzer(Parser parser, int seed)
{
    private const int Longest = 1 << 16;
    private const int MostKept = 4096;
    private static readonly TimeSpan TooLong = TimeSpan.FromSeconds(2);
    private readonly Random _random = new(seed);
    private readonly List<byte[]> _inputs = [.. parser.Seeds];
    private readonly HashSet<string> _shapes = [];

    /// <param name="before">Called with each input before it is tried, so that it is known even if the process ends.</param>
    public FuzzRun Run(TimeSpan time, Action<byte[]>? before = null)
    {
        var (tried, kept, crashes, seen) = (0L, new List<byte[]>(), new List<(byte[], string)>(), new HashSet<string>());
        foreach (var first in parser.Seeds)
            Look(first, isSeed: true);
        for (var watch = Stopwatch.StartNew(); watch.Elapsed < time; )
            Look(Change(), isSeed: false);
        return new(tried, kept, crashes);

        void Look(byte[] input, bool isSeed)
        {
            tried++;
            before?.Invoke(input);
            var (shape, crash) = Feed(parser, input);
            if (crash is not null)
            {
                if (seen.Add(Form(crash)) && crashes.Count < 20)
                    crashes.Add((Smaller(input, Form(crash)), crash));
                return;
            }
            if (!_shapes.Add(Form(shape!)) || isSeed || _inputs.Count >= MostKept)
                return;
            _inputs.Add(input);
            kept.Add(input);
        }
    }

    /// <summary>Feeds one input.</summary>
    /// <returns>The shape of the answer, or what was seen when it is a crash.</returns>
    public static (string? Shape, string? Crash) Feed(Parser parser, byte[] input)
    {
        var watch = Stopwatch.StartNew();
        try
        {
            var shape = parser.Try(input);
            return watch.Elapsed > TooLong ? (null, $"It took longer than {TooLong.TotalSeconds} s.") : (shape, null);
        }
        catch (Exception error)
        {
            return (
                null,
                $"{error.GetType().Name}: {error.Message} "
                    + $"{error.StackTrace?.Split('\n').FirstOrDefault(l => l.Contains("Oikonom.", StringComparison.Ordinal))?.Split(" in ")[0].Trim()}"
            );
        }
    }

    /// <summary>The same crash with less: pieces are taken out as long as it stays.</summary>
    private byte[] Smaller(byte[] input, string form)
    {
        var watch = Stopwatch.StartNew();
        for (var piece = Math.Max(1, input.Length / 2); piece >= 1 && watch.Elapsed < TimeSpan.FromSeconds(10); piece /= 2)
        for (var at = 0; at + piece <= input.Length && watch.Elapsed < TimeSpan.FromSeconds(10); )
        {
            byte[] less = [.. input[..at], .. input[(at + piece)..]];
            if (Feed(parser, less).Crash is { } crash && Form(crash) == form)
                input = less;
            else
                at += piece;
        }
        return input;
    }

    private byte[] Change()
    {
        var input = _inputs[_random.Next(_inputs.Count)];
        for (var times = 1 + _random.Next(4); times > 0; times--)
            input = Once(input);
        return input.Length > Longest ? input[..Longest] : input;
    }

    private byte[] Once(byte[] input)
    {
        var at = _random.Next(input.Length + 1);
        var length = Math.Min(_random.Next(1, 1 << _random.Next(1, 9)), input.Length - at);
        var (head, piece, tail) = (input[..at], input[at..(at + length)], input[(at + length)..]);
        switch (_random.Next(9))
        {
            case 0:
                return [.. head, .. tail];
            case 1:
                return [.. head, .. piece, .. piece, .. tail];
            case 2:
                return [.. head, .. Word(), .. piece, .. tail];
            case 3:
                return [.. head, .. Word(), .. tail];
            case 4:
                return [.. head, (byte)_random.Next(256), .. piece, .. tail];
            case 5 when piece.Length > 0:
                piece = [.. piece];
                piece[_random.Next(piece.Length)] ^= (byte)(1 << _random.Next(8));
                return [.. head, .. piece, .. tail];
            case 6:
                // Two that got far, one after the other.
                var other = _inputs[_random.Next(_inputs.Count)];
                return [.. head, .. other[_random.Next(other.Length + 1)..]];
            case 7 when piece.Length > 0:
                // Deep and long things come from saying the same often.
                var often = Math.Min(1 << _random.Next(1, 13), Math.Max(1, (Longest - input.Length) / Math.Max(1, piece.Length)));
                return [.. head, .. Enumerable.Repeat(piece, Math.Max(1, often)).SelectMany(p => p), .. tail];
            default:
                return input[.._random.Next(input.Length + 1)];
        }
    }

    private byte[] Word() => Encoding.UTF8.GetBytes(parser.Words.Count == 0 ? "0" : parser.Words[_random.Next(parser.Words.Count)]);

    /// <summary>An answer without what differs from input to input: quoted texts and numbers.</summary>
    private static string Form(string answer) =>
        Particular().Replace(answer.Length > 400 ? answer[..400] : answer, "·") is var form && form.Length > 120 ? form[..120] : form;

    [GeneratedRegex("'[^']*'|\"[^\"]*\"|[0-9]+", RegexOptions.CultureInvariant, 1000)]
    private static partial Regex Particular();
}
