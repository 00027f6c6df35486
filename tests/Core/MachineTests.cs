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
    public void A_step_is_tried_again_ever_slower_and_a_lasting_fault_stops_it()
    {
        Assert.Equal((StepState.Pending, TimeSpan.FromSeconds(1)), StepMachine.Next(StepState.Pending, AttemptOutcome.Transient, 0));
        Assert.Equal(TimeSpan.FromSeconds(8), StepMachine.BackOff(3));
        Assert.Equal(TimeSpan.FromMinutes(5), StepMachine.BackOff(40));
        Assert.Equal(StepState.Stopped, StepMachine.Next(StepState.Pending, AttemptOutcome.Lasting, 0).State);
        Assert.Equal(StepState.Dropped, StepMachine.Next(StepState.Pending, AttemptOutcome.NoLongerWanted, 0).State);
        foreach (var over in new[] { StepState.Done, StepState.Dropped })
        foreach (var outcome in Enum.GetValues<AttemptOutcome>())
            Assert.Equal(over, StepMachine.Next(over, outcome, 1).State);
    }
}
