using CsCheck;
using Oikonom.Core.Approval;
using Oikonom.Core.Expressions;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Intake;
using Oikonom.Core.People;
using Xunit;

namespace Oikonom.Core.Tests;

public sealed class MachineTests
{
    [Fact]
    public void No_path_runs_without_all_approvals_and_nothing_follows_an_end()
    {
        var events = Any.Of(Enum.GetValues<RequestEvent>()).Array[1, 40];
        Gen.Select(events, Gen.Int[0, 4], Gen.Bool).Sample((sequence, stages, released) =>
        {
            var (state, stage, approvals, releases) = (RequestState.Planning, 0, 0, 0);
            foreach (var what in sequence)
            {
                RequestState next;
                int nextStage;
                try
                {
                    (next, nextStage) = RequestMachine.Next(state, what, stage, stages, released);
                }
                catch (RefusedMove refused)
                {
                    Assert.Equal("wrong-state", refused.Code);
                    continue;
                }
                Assert.True(RequestMachine.IsOpen(state), "something followed an end");
                if (what == RequestEvent.Replan) (approvals, releases) = (0, 0);
                if (what == RequestEvent.Approve) approvals++;
                if (what == RequestEvent.Release) releases++;
                (state, stage) = (next, nextStage);
                if (state == RequestState.Fulfilling)
                {
                    Assert.Equal(stages, approvals);
                    Assert.Equal(released ? 1 : 0, releases);
                }
            }
        }, iter: 20_000);
    }

    private static readonly IReadOnlyList<Party> Parties =
    [
        new("mara", new HashSet<string> { "approver" }, "E2", true), new("tomas", new HashSet<string> { "approver" }, "E3", true),
        new("gone", new HashSet<string> { "approver" }, "E4", false), new("otto", new HashSet<string> { "operator" }, null, true),
    ];

    [Theory]
    [InlineData("E2", "ines", "E9", "mara", null)]
    [InlineData("", "ines", "E9", "", "HR names no manager")]
    [InlineData("E4", "ines", "E9", "", "the manager E4 cannot sign in")]
    [InlineData("E2", "mara", "E9", "", "nobody decides for themselves")]
    [InlineData("E2", "ines", "E2", "", "nobody decides for themselves")]
    public void The_manager_decides_or_the_stage_falls_back(string manager, string requester, string beneficiary, string expected, string? why)
    {
        var deciders = DecisionRight.Resolve("manager", "role:approver", manager, requester, beneficiary, Parties);
        Assert.Equal(expected.Length == 0 ? [] : [expected], deciders.UserNames);
        if (why is null) Assert.Null(deciders.Role);
        else
        {
            Assert.Equal("approver", deciders.Role);
            Assert.Contains(why, deciders.Why, StringComparison.Ordinal);
        }
    }

    [Fact]
    public void Nobody_decides_on_their_own_request_or_for_themselves_or_for_others()
    {
        var byRole = new Deciders([], "approver", "anyone");
        Assert.Equal("own-request", Assert.Throws<RefusedMove>(() => DecisionRight.Require(Parties[0], byRole, "mara", "E9")).Code);
        Assert.Equal("own-request", Assert.Throws<RefusedMove>(() => DecisionRight.Require(Parties[0], byRole, "ines", "E2")).Code);
        Assert.Equal("not-yours", Assert.Throws<RefusedMove>(() => DecisionRight.Require(Parties[3], byRole, "ines", "E9")).Code);
        Assert.Equal("not-yours", Assert.Throws<RefusedMove>(() => DecisionRight.Require(Parties[1], new(["mara"], null, "the line manager"), "ines", "E9")).Code);
        DecisionRight.Require(Parties[1], byRole, "ines", "E9");
    }

    [Fact]
    public void A_step_is_tried_again_ever_slower_and_a_lasting_fault_stops_it()
    {
        Assert.Equal((StepState.Pending, TimeSpan.FromSeconds(1)), StepMachine.Next(StepState.Pending, AttemptOutcome.Transient, 0));
        Assert.Equal(TimeSpan.FromSeconds(8), StepMachine.BackOff(3));
        Assert.Equal(TimeSpan.FromMinutes(5), StepMachine.BackOff(40));
        Assert.Equal(StepState.Stopped, StepMachine.Next(StepState.Pending, AttemptOutcome.Lasting, 0).State);
        Assert.Equal(StepState.Dropped, StepMachine.Next(StepState.Pending, AttemptOutcome.NoLongerWanted, 0).State);
        foreach (var over in new[] { StepState.Done, StepState.Dropped })
            foreach (var outcome in Enum.GetValues<AttemptOutcome>()) Assert.Equal(over, StepMachine.Next(over, outcome, 1).State);
    }
}
