using System.Text.Json;
using CsCheck;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Planning;
using Xunit;

namespace Oikonom.Core.Tests;

public sealed class FulfilmentTests
{
    [Fact]
    public void A_fault_becomes_the_result_that_says_what_to_do()
    {
        Assert.Equal(new PortResult.Unknown("there is one"), new TargetFault("there is one", true, true).Result);
        Assert.Equal(new PortResult.Transient("busy"), new TargetFault("busy", true).Result);
        Assert.Equal(new PortResult.Lasting("no"), new TargetFault("no", false).Result);
    }

    [Fact]
    public void A_difference_says_which_way_it_is()
    {
        Assert.Equal("the account is enabled", new Difference.OtherPresence(true).Text);
        Assert.Equal("the account is disabled", new Difference.OtherPresence(false).Text);
        Assert.Equal("mail is 'a, b', not 'c'", new Difference.OtherValues("mail", ["a", "b"], ["c"]).Text);
        Assert.Equal("not in divers", new Difference.Missing("divers").Text);
        Assert.Equal("still in divers", new Difference.Surplus("divers").Text);
        Assert.Equal("the entry 7 is gone", new Difference.Gone("7").Text);
        Difference[] all =
        [
            new Difference.OtherPresence(true),
            new Difference.OtherPresence(false),
            new Difference.OtherValues("Mail", ["a"], ["c"]),
            new Difference.Missing("divers"),
            new Difference.Surplus("divers"),
            new Difference.Gone("7"),
        ];
        // Told without what was found, known again by its place, and kept as it is.
        Assert.Equal(
            "the account was enabled; the account was disabled; Mail was changed; taken out of divers; put into divers; "
                + "the entry was deleted",
            string.Join("; ", all.Select(d => d.Bare))
        );
        Assert.Equal(5, all.Select(d => d.Place).Distinct().Count());
        Assert.Equal(new Difference.OtherValues("mail", [], []).Place, all[2].Place);
        Assert.Equal(Difference.ToJson(all), Difference.ToJson(Difference.FromJson(Difference.ToJson(all))));
        Assert.True(new ReadBack([]).Matches);
        Assert.False(new ReadBack([new Difference.Gone("7")]).Matches);
    }

    [Fact]
    public void A_target_that_does_not_answer_is_left_alone_longer_each_time_and_tried_with_one()
    {
        var now = new DateTimeOffset(2026, 5, 4, 8, 0, 0, TimeSpan.Zero);
        var circuit = Circuit.Closed;
        for (var i = 0; i < 4; i++)
            circuit = circuit.Failed(now.AddSeconds(i), "away", null);
        Assert.Equal((false, int.MaxValue, now), (circuit.IsOpen, circuit.Allows(now), circuit.Since));
        var pauses = new List<double>();
        for (var i = 0; i < 8; i++)
        {
            circuit = circuit.Failed(now, "away", null);
            pauses.Add((circuit.Until - now).TotalSeconds);
            // What was under way when it was left alone makes it no longer.
            Assert.Equal(circuit.Until, circuit.Failed(now, "away", null).Until);
            Assert.Equal(0, circuit.Allows(circuit.Until.AddMilliseconds(-1)));
            now = circuit.Until;
            Assert.Equal(1, circuit.Allows(now));
        }
        Assert.Equal([5, 10, 20, 40, 80, 160, 300, 300], pauses);
        Assert.Equal(12, circuit.Failures);
        Assert.Equal("away", circuit.Problem);
    }

    [Fact]
    public void A_target_is_left_alone_for_as_long_as_it_asks_an_hour_at_most()
    {
        var now = new DateTimeOffset(2026, 5, 4, 8, 0, 0, TimeSpan.Zero);
        var asked = Circuit.Closed.Failed(now, "busy", TimeSpan.FromSeconds(7));
        Assert.Equal((false, 0, int.MaxValue), (asked.IsOpen, asked.Allows(now.AddSeconds(6)), asked.Allows(now.AddSeconds(7))));
        Assert.Equal(now.AddHours(1), Circuit.Closed.Failed(now, "busy", TimeSpan.FromDays(30)).Until);
        Assert.Equal(now.AddSeconds(9), asked.Failed(now, "busy", TimeSpan.FromSeconds(9)).Until);
        Assert.Equal(now.AddSeconds(7), asked.Failed(now, "busy", TimeSpan.FromSeconds(2)).Until);
    }

    [Fact]
    public void What_somebody_may_use_and_should_not_is_the_gravest_class()
    {
        Difference[] all =
        [
            new Difference.OtherValues("mail", ["a"], ["b"]),
            new Difference.Missing("divers"),
            new Difference.OtherPresence(false),
            new Difference.Surplus("divers"),
            new Difference.OtherPresence(true),
            new Difference.Gone("7"),
        ];
        Assert.Equal(
            [
                EntryClass.AsDecided,
                EntryClass.Drift,
                EntryClass.Missing,
                EntryClass.DisabledOutside,
                EntryClass.Surplus,
                EntryClass.EnabledOutside,
                EntryClass.Deleted,
            ],
            Enumerable.Range(0, all.Length + 1).Select(count => Reconciling.Of(all[..count]))
        );
        Assert.Equal(
            [EntryClass.Unmatched, EntryClass.Orphan, EntryClass.Duplicate, EntryClass.Unclaimed],
            [
                Reconciling.OfStranger(null, false),
                Reconciling.OfStranger(true, true),
                Reconciling.OfStranger(false, true),
                Reconciling.OfStranger(false, false),
            ]
        );
    }

    [Fact]
    public void An_account_differs_in_what_it_was_given_and_in_nothing_else()
    {
        var left = new AccountState(
            "directory",
            "kaya",
            "",
            new Dictionary<string, IReadOnlyList<string>>(StringComparer.OrdinalIgnoreCase)
            {
                ["title"] = ["Keeper"],
                ["mail"] = ["b", "a"],
            },
            Presence.Awake,
            new("", "", "")
        );
        ExistingAccount Found(string title, bool enabled, params string[] held) =>
            new(
                "directory",
                "1",
                "kaya",
                "",
                "",
                "",
                new Dictionary<string, IReadOnlyList<string>>(StringComparer.OrdinalIgnoreCase)
                {
                    ["Title"] = [title],
                    ["mail"] = ["a", "b"],
                    ["room"] = ["7"],
                },
                enabled,
                held
            );
        Assert.Empty(Difference.Between(left, ["divers"], Found("Keeper", true, "divers")));
        Assert.Equal(
            ["value:title", nameof(Difference.OtherPresence), "missing:divers", "surplus:payments"],
            Difference.Between(left, ["divers"], Found("keeper", false, "payments")).Select(d => d.Place)
        );
    }

    /// <summary>The two ways to compare say the same, whatever there is.</summary>
    [Fact]
    public void The_fast_comparison_of_many_says_what_the_slow_one_says()
    {
        var texts = Gen.Int[0, 3].Select(i => new[] { "a", "B", "ä \"q\" \\", "" }[i]);
        var values = texts.Array[0, 3].Select(v => (IReadOnlyList<string>)v);
        var attributes = Gen.Dictionary(Gen.Int[0, 2].Select(i => new[] { "title", "mail", "urn:x:room" }[i]), values)[0, 3];
        var held = Gen.Int[0, 7].Select(bits => (IReadOnlyList<string>)[.. new[] { "x", "y", "z" }.Where((_, i) => (bits & (1 << i)) > 0)]);
        Gen.Select(attributes, attributes, held, held, Gen.Bool, Gen.Bool)
            .Sample(
                (left, there, given, holds, wasEnabled, isEnabled) =>
                {
                    IReadOnlyDictionary<string, IReadOnlyList<string>> Of(Dictionary<string, IReadOnlyList<string>> of) =>
                        new Dictionary<string, IReadOnlyList<string>>(of, StringComparer.OrdinalIgnoreCase);
                    var state = new AccountState("d", "n", "", Of(left), wasEnabled ? Presence.Awake : Presence.Disabled, new("", "", ""));
                    var found = new ExistingAccount("d", "1", "n", "", "", "", Of(there), isEnabled, holds);
                    return Difference.IsAsLeft(JsonSerializer.SerializeToUtf8Bytes(left), wasEnabled, given, found)
                        == (Difference.Between(state, given, found).Count == 0);
                },
                iter: 20_000
            );
    }

    [Theory]
    [InlineData(AttemptOutcome.Reached, StepState.Done, 0)]
    [InlineData(AttemptOutcome.NoLongerWanted, StepState.Dropped, 0)]
    [InlineData(AttemptOutcome.Transient, StepState.Pending, 4)]
    [InlineData(AttemptOutcome.Waits, StepState.Pending, 21_600)]
    [InlineData(AttemptOutcome.Lasting, StepState.Stopped, 0)]
    public void A_step_that_waits_moves_and_any_other_stays(AttemptOutcome outcome, StepState then, int seconds)
    {
        Assert.Equal((then, TimeSpan.FromSeconds(seconds)), StepMachine.Next(StepState.Pending, outcome, 2));
        foreach (var ended in new[] { StepState.Done, StepState.Dropped, StepState.Stopped })
            Assert.Equal((ended, TimeSpan.Zero), StepMachine.Next(ended, outcome, 2));
    }

    [Fact]
    public void Lists_that_come_to_hold_the_same_are_one_list()
    {
        var lists = new SharedLists();
        var both = lists.With(lists.With(SharedLists.Empty, "staff"), "pay");
        Assert.Equal(["staff", "pay"], both);
        Assert.Same(both, lists.With(lists.With(SharedLists.Empty, "staff"), "pay"));
        Assert.Equal(["pay", "staff"], lists.With(lists.With(SharedLists.Empty, "pay"), "staff"));
        Assert.Equal(["staff"], lists.With(SharedLists.Empty, "staff"));
        Assert.Empty(SharedLists.Empty);
    }
}
