using Oikonom.Core.Fulfilment;
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
}
