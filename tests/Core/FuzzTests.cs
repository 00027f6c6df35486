using System.Diagnostics;
using System.Text;
using CsCheck;
using Oikonom.Core.Expressions;
using Oikonom.Core.Intake;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;
using Oikonom.Sources;
using Oikonom.Sources.Files;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>Whatever comes in, each parser ends in short time with a result or with its own error.</summary>
public sealed class FuzzTests
{
    private static readonly TimeSpan Long = TimeSpan.FromSeconds(10);

    private static void Bounded(Action act)
    {
        var watch = Stopwatch.StartNew();
        act();
        Assert.True(watch.Elapsed < Long, $"It took {watch.Elapsed}.");
    }

    [Fact]
    public void Expressions()
    {
        var schema = new NameSchema(BuiltIn.Attributes);
        var words = new[]
        {
            "given",
            "kind",
            "start",
            "end",
            "==",
            "!=",
            "<",
            "&&",
            "||",
            "!",
            "?",
            ":",
            "+",
            "-",
            "(",
            ")",
            "[",
            "]",
            ",",
            ".",
            "\"x\"",
            "'",
            "7",
            "P7D",
            "PT",
            "in",
            "lower",
            "matches",
            "\"(a+)+$\"",
            "exists",
            "x",
            "null",
            "true",
            "date",
            "99999999999999999999",
            "\\",
            "é",
            "\0",
        };
        Gen.Select(Gen.Int[0, words.Length - 1].List[0, 60], Gen.String[Gen.Char, 0, 80], Gen.Bool)
            .Sample(
                (picks, text, built) =>
                    Bounded(() =>
                    {
                        var source = built ? string.Join(picks.Count % 3 == 0 ? "" : " ", picks.Select(p => words[p])) : text;
                        try
                        {
                            var expression = Expression.Compile(source, schema);
                            var scope = new Scope(schema);
                            new Facts([
                                new("given", Value.Of("aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaab")),
                                new("start", Value.Of(DateOnly.MaxValue)),
                            ]).Fill(scope, schema);
                            expression.Evaluate(scope);
                            foreach (var part in expression.Parts)
                                part.Holds(scope);
                            if (expression.Type.Kind == ValueKind.Bool)
                                Satisfiability.Of(expression, schema, new Dictionary<string, IReadOnlyList<string>>());
                        }
                        catch (Exception error) when (error is ExpressionError or ExpressionFault)
                        {
                            Assert.NotEmpty(error.Message);
                        }
                    }),
                iter: 5000
            );
    }

    [Fact]
    public void Rulebooks()
    {
        // Real documents with pieces cut out, doubled and mixed, and plain noise.
        var files = Northmere.Files.ToList();
        Gen.Select(Gen.Int[0, files.Count - 1], Gen.Int[0, 2000], Gen.Int[0, 60], Gen.String[Gen.Char, 0, 12], Gen.Int[0, 3])
            .Sample(
                (which, at, length, noise, how) =>
                    Bounded(() =>
                    {
                        var text = files[which].Text;
                        at = Math.Min(at, text.Length);
                        length = Math.Min(length, text.Length - at);
                        var changed = how switch
                        {
                            0 => text[..at] + text[(at + length)..],
                            1 => text[..at] + noise + text[at..],
                            2 => text[..at] + text.Substring(at, length) + text[at..],
                            _ => noise,
                        };
                        var reading = RulebookReader.Read([.. files.Where((_, i) => i != which), files[which] with { Text = changed }]);
                        Assert.True(reading.Rulebook is not null != reading.Findings.Count > 0);
                        Assert.All(reading.Findings, f => Assert.True(f.Place.Line > 0 && f.Message.Length > 0));
                    }),
                iter: 1500
            );
    }

    [Theory]
    [InlineData("a: &x [*x, *x]")]
    [InlineData("a: &a [x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a]\nc: [*b,*b,*b,*b,*b,*b,*b,*b]")]
    [InlineData("? [complex, key]\n: x")]
    [InlineData("--- a\n--- b")]
    [InlineData("%YAML 9.9\n---\nname: x")]
    [InlineData("!!python/object:os.system x")]
    public void Odd_yaml_is_told_and_builds_nothing(string text) =>
        Bounded(() => Assert.NotEmpty(RulebookReader.Read([new("rulebook.yaml", text)]).Findings));

    [Fact]
    public void Deep_and_large_yaml_is_refused() =>
        Bounded(() =>
        {
            Assert.NotEmpty(RulebookReader.Read([new("rulebook.yaml", new string('[', 100_000))]).Findings);
            Assert.NotEmpty(
                RulebookReader
                    .Read([
                        new("rulebook.yaml", string.Concat(Enumerable.Range(0, 3000).Select(i => new string(' ', i) + "a:\n"))[..900_000]),
                    ])
                    .Findings
            );
            Assert.NotEmpty(RulebookReader.Read([new("rulebook.yaml", "name: " + new string('x', 2_000_000))]).Findings);
        });

    private static readonly SourceRule Source = RulebookReader.Read(Northmere.Files).Rulebook!.Sources["hr"];

    private static void Read(byte[] bytes, SourceRule source)
    {
        var reader = new RecordReader(source, Northmere.Edition.Rulebook);
        var texts = new string[source.ColumnNames.Count];
        try
        {
            DelimitedFile.Read(
                new MemoryStream(bytes),
                source,
                row =>
                {
                    if (row.Fault is not null)
                        return;
                    for (var i = 0; i < texts.Length; i++)
                        texts[i] = row.Text(i);
                    var read = reader.Read(texts);
                    Assert.True(read.Facts is not null || read.Fault is not null);
                },
                TestContext.Current.CancellationToken
            );
        }
        catch (SourceFault fault)
        {
            Assert.NotEmpty(fault.Message);
        }
    }

    [Fact]
    public void Delimited_files()
    {
        var header = string.Join(',', Source.ColumnNames);
        var cells = new[]
        {
            "x",
            "",
            "\"",
            "\"\"",
            "\"a,b\"",
            "\"a\nb\"",
            ",",
            "\n",
            "\r",
            "\r\n",
            "\0",
            "2026-01-05",
            "31.02.2026",
            "harbour",
            "\uFEFF",
            "é",
            "\u202E",
            "=1+1",
            new string('y', 1500),
        };
        var rules = new[]
        {
            Source,
            Source with
            {
                Delimiter = '\0',
                Encoding = "detect",
            },
            Source with
            {
                Encoding = "utf-16",
            },
            Source with
            {
                Delimiter = ';',
            },
        };
        Gen.Select(Gen.Int[0, cells.Length - 1].List[0, 120], Gen.Byte.Array[0, 200], Gen.Int[0, rules.Length - 1], Gen.Bool, Gen.Bool)
            .Sample(
                (picks, noise, rule, headed, built) =>
                    Bounded(() =>
                    {
                        var text = new StringBuilder(headed ? header + "\n" : "");
                        foreach (var (pick, i) in picks.Select((p, i) => (p, i)))
                            text.Append(cells[pick]).Append(i % 14 == 13 ? '\n' : ',');
                        Read(
                            built
                                ? Encoding.UTF8.GetBytes(text.ToString())
                                : [.. Encoding.UTF8.GetBytes(headed ? header + "\n" : ""), .. noise],
                            rules[rule]
                        );
                    }),
                iter: 2000
            );
    }

    [Fact]
    public void A_field_of_ten_megabytes_is_set_aside_and_ten_thousand_columns_are_refused() =>
        Bounded(() =>
        {
            var header = string.Join(',', Source.ColumnNames);
            Read(
                Encoding.UTF8.GetBytes($"{header}\n{new string('x', 10_000_000)},{string.Join(',', Source.ColumnNames.Skip(1))}\n"),
                Source
            );
            Read(Encoding.UTF8.GetBytes($"{header}\n\"{new string('x', 10_000_000)}\n"), Source);
            var wide = Assert.Throws<SourceFault>(() =>
                DelimitedFile.Read(
                    new MemoryStream(Encoding.UTF8.GetBytes(header + "," + string.Join(',', Enumerable.Range(0, 10_000)))),
                    Source,
                    _ => { },
                    TestContext.Current.CancellationToken
                )
            );
            Assert.Contains("1000 are the most", wide.Message, StringComparison.Ordinal);
        });
}
