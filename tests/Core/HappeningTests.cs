using System.Globalization;
using System.Text.Json;
using CsCheck;
using Oikonom.Core.Expressions;
using Oikonom.Core.Intake;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Core.Tests;

public sealed class HappeningTests
{
    private static readonly DateOnly Today = new(2026, 11, 25);
    private static readonly HashSet<string> Moves = ["department", "site"];

    /// <summary>Facts from words such as <c>start -90 end 10 department A</c>; null for <c>none</c>.</summary>
    private static Facts? FactsOf(string words)
    {
        if (words == "none")
            return null;
        var values = new Dictionary<string, Value>
        {
            ["person"] = Value.Of("P1"),
            ["number"] = Value.Of("E1"),
            ["given"] = Value.Of("Tor"),
            ["family"] = Value.Of("Quill"),
            ["kind"] = Value.Of("employee"),
            ["site"] = Value.Of("harbour"),
        };
        var parts = words.Split(' ');
        for (var i = 0; i < parts.Length; i += 2)
            values[parts[i]] = parts[i] is "start" or "end"
                ? Value.Of(Today.AddDays(int.Parse(parts[i + 1], CultureInfo.InvariantCulture)))
                : Value.Of(parts[i + 1]);
        return new(values);
    }

    public static TheoryData<string, string, string, string, string, string> Cases()
    {
        var cases = new TheoryData<string, string, string, string, string, string>();
        var rows = File.ReadLines(Repository.At("docs", "what-happened.md"))
            .Where(l => l.StartsWith('|'))
            .Skip(2)
            .Select(l => l.Trim('|').Split('|', StringSplitOptions.TrimEntries));
        foreach (var row in rows)
            cases.Add(row[0], row[1], row[2], row[3], row[4], row[5]);
        return cases;
    }

    [Theory]
    [MemberData(nameof(Cases))]
    public void The_table_of_the_docs_holds(string name, string before, string after, string others, string what, string request)
    {
        var happening = Happening.Between(FactsOf(before), FactsOf(after), others == "none" ? [] : [FactsOf(others)!], Today, Moves);
        Assert.Equal((name, what), (name, JsonSerializer.Serialize(happening.What).Trim('"')));
        Assert.Equal(request, happening.Raises is { } kind ? JsonSerializer.Serialize(kind).Trim('"') : "none");
    }

    [Fact]
    public void The_docs_name_every_kind_of_happening()
    {
        var named = Cases().Select(c => c.Data.Item5).ToHashSet();
        foreach (var what in Enum.GetValues<What>().Except([What.NameChange]))
            Assert.Contains(JsonSerializer.Serialize(what).Trim('"'), named);
        Assert.Equal(
            What.NameChange,
            Happening.Between(FactsOf("start -90 family Oldfield"), FactsOf("start -90 family Selkirk"), [], Today, null).What
        );
    }

    [Theory]
    // On the day itself an employment still goes on.
    [InlineData("none", "none", "none", "nothing")]
    [InlineData("start 5 end 60", "start 5 end 1", "none", "withdrawn-hire")]
    [InlineData("start 0 end 60", "start 0 end -1", "none", "leaver")]
    [InlineData("start -90 end 0", "start -90 end 10", "none", "extended-end")]
    [InlineData("start -90 end 30", "start -90 end 0", "none", "shortened-end")]
    [InlineData("start -10", "start -8", "none", "correction")]
    [InlineData("start 0", "start 3", "none", "correction")]
    [InlineData("start 1", "start 3", "none", "postponed-start")]
    [InlineData("none", "start -90 end 0", "none", "joiner")]
    [InlineData("none", "start 5 end 5", "none", "joiner")]
    [InlineData("none", "start 5 end 4", "none", "late-news")]
    [InlineData("start -90 end 0", "none", "none", "leaver")]
    [InlineData("start 0", "none", "none", "leaver")]
    [InlineData("start 1", "none", "none", "withdrawn-hire")]
    // Another employment that ends on the same day is not one to go on in.
    [InlineData("start -90", "none", "start -90 end 0", "leaver")]
    [InlineData("start -90", "none", "start -90 end 1", "employment-ends")]
    [InlineData("start -90", "none", "start 1", "employment-ends")]
    [InlineData("start -90", "none", "start 2", "leaver")]
    [InlineData("none", "start 5", "start -90 end 0", "second-employment")]
    [InlineData("none", "start 5", "start -90 end -1", "return")]
    [InlineData("none", "start 5", "start -90 end -1;start -90", "second-employment")]
    // One difference among several decides what it is.
    [InlineData("start -9 given Maren department A", "start -9 given Marren department B", "none", "mover")]
    [InlineData("start -9 family Oldfield department A", "start -9 family Selkirk department B", "none", "mover")]
    public void What_happened_is_told_apart_at_its_edges(string before, string after, string others, string what)
    {
        var known = others == "none" ? [] : others.Split(';').Select(o => FactsOf(o)!).ToList();
        var happening = Happening.Between(FactsOf(before), FactsOf(after), known, Today, Moves);
        Assert.Equal(what, JsonSerializer.Serialize(happening.What).Trim('"'));
    }

    [Theory]
    [InlineData("given Tora", "given Toras", "correction")]
    [InlineData("given Toras", "given Tora", "correction")]
    [InlineData("given Tor", "given Tors", "name-change")]
    [InlineData("given Maren", "given Marenxx", "correction")]
    [InlineData("given Maren", "given Marenxxx", "name-change")]
    [InlineData("given abcdeX", "given xycde", "name-change")]
    public void Up_to_two_letters_in_a_word_of_four_are_a_typing_error(string before, string after, string what)
    {
        var happening = Happening.Between(FactsOf($"start -9 {before}"), FactsOf($"start -9 {after}"), [], Today, null);
        Assert.Equal(what, JsonSerializer.Serialize(happening.What).Trim('"'));
    }

    [Theory]
    [InlineData("start -90", "none", "start 1", true)]
    [InlineData("start -90", "none", "start 2", false)]
    [InlineData("start -90", "start -90 end 30", "start 31", true)]
    [InlineData("start -90", "start -90 end 30", "start 32", false)]
    [InlineData("start -90 end 60", "start -90 end 30", "start 31", true)]
    [InlineData("start -90 department A", "start -90 department B", "start -1", false)]
    public void Who_goes_on_in_an_employment_of_the_same_delivery_does_not_leave(string before, string after, string coming, bool goesOn)
    {
        var alone = Happening.Between(FactsOf(before), FactsOf(after), [], Today, Moves);
        var happening = alone.With([FactsOf(coming)!], FactsOf(after), Today);
        Assert.Equal(goesOn ? new(What.EmploymentEnds, RequestKind.Mover) : alone, happening);
        Assert.Equal(alone, alone.With([], FactsOf(after), Today));
    }

    [Fact]
    public void Only_what_is_about_the_whole_person_renames_accounts() =>
        Assert.Equal(
            [RequestKind.Joiner, RequestKind.Mover, RequestKind.Correction, RequestKind.Change],
            Enum.GetValues<RequestKind>().Where(k => k.RenamesAccounts()).Order()
        );

    [Fact]
    public void Without_a_list_every_attribute_makes_a_mover_but_a_typing_error() =>
        Assert.Multiple(
            () =>
                Assert.Equal(
                    RequestKind.Mover,
                    Happening.Between(FactsOf("start -9 manager E7"), FactsOf("start -9 manager E8"), [], Today, null).Raises
                ),
            () =>
                Assert.Equal(
                    RequestKind.Correction,
                    Happening.Between(FactsOf("start -9 given Maren"), FactsOf("start -9 given Marren"), [], Today, null).Raises
                ),
            () =>
                Assert.Equal(
                    RequestKind.Mover,
                    Happening.Between(FactsOf("start -9 department Dive"), FactsOf("start -9 department Dave"), [], Today, null).Raises
                )
        );

    private static readonly Gen<string> AnyWords = Gen.Select(
            Gen.Int[-400, 60],
            Gen.Int[0, 400],
            Gen.Bool,
            Any.Of("A", "B"),
            Any.Of("harbour", "saltmarsh"),
            Any.Of("employee", "seasonal")
        )
        .Select(
            (start, length, ends, department, site, kind) =>
                $"start {start}{(ends ? $" end {start + length}" : "")} department {department} site {site} kind {kind}"
        );

    [Fact]
    public void The_same_record_twice_raises_nothing() =>
        Gen.Select(AnyWords, AnyWords)
            .Sample(
                (before, after) =>
                {
                    var (first, then) = (FactsOf(before), FactsOf(after)!);
                    Happening.Between(first, then, [], Today, Moves);
                    Assert.Null(Happening.Between(then, FactsOf(after), [], Today, Moves).Raises);
                },
                iter: 2000
            );

    [Fact]
    public void In_whichever_order_two_deliveries_come_the_same_end_state_gives_the_same_access() =>
        Gen.Select(AnyWords, AnyWords, AnyWords)
            .Sample(
                (first, second, third) =>
                {
                    // Three employments of one person come one by one; each delivery takes the place of what its number had.
                    AccessState After(params (string Number, string Words)[] deliveries)
                    {
                        var known = new List<Facts>();
                        foreach (var (number, words) in deliveries)
                        {
                            known.RemoveAll(k => k.Number == number);
                            known.Add(FactsOf($"{words} number {number}")!);
                        }
                        var leading = Employments.Leading(known, Today);
                        return Desired.At(
                            new(default, leading, new Dictionary<AccountKey, string> { ["directory"] = "t" })
                            {
                                Others = [.. known.Where(k => !ReferenceEquals(k, leading))],
                            },
                            Northmere.Edition,
                            new(2026, 11, 25, 12, 0, 0, TimeSpan.Zero)
                        );
                    }
                    var (one, other) = (
                        After(("A", second), ("A", first), ("B", second), ("C", third)),
                        After(("C", third), ("B", second), ("A", first))
                    );
                    Assert.Equal(
                        one.Grants.OrderBy(g => g.Key).Select(g => (g.Key, g.Value.Reason)),
                        other.Grants.OrderBy(g => g.Key).Select(g => (g.Key, g.Value.Reason))
                    );
                    Assert.Equal(one.Accounts.Values.Select(Told), other.Accounts.Values.Select(Told));

                    static (bool, string) Told(AccountState account) =>
                        (account.Enabled, string.Join('|', account.Attributes.Select(x => $"{x.Key}={string.Join(',', x.Value)}")));
                },
                iter: 500
            );

    [Fact]
    public void An_employment_under_a_new_key_is_known_by_person_and_first_day()
    {
        Assert.True(Happening.IsSameEmployment(FactsOf("start -90 number E1")!, FactsOf("start -90 number E2")!));
        Assert.False(Happening.IsSameEmployment(FactsOf("start -90 number E1")!, FactsOf("start -80 number E2")!));
    }

    [Fact]
    public void The_employment_that_leads_runs_else_comes_next_else_ended_last()
    {
        Facts Of(string words) => FactsOf(words)!;
        Assert.Equal(
            "B",
            Employments.Leading([Of("start -10 number A"), Of("start -90 number B"), Of("start -900 end -100 number C")], Today).Number
        );
        Assert.Equal("A", Employments.Leading([Of("start 10 number A"), Of("start -900 end -100 number C")], Today).Number);
        Assert.Equal("D", Employments.Leading([Of("start -900 end -100 number C"), Of("start -800 end -50 number D")], Today).Number);
    }
}
