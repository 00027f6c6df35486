using CsCheck;
using Oikonom.Core.Approval;
using Oikonom.Core.Expressions;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Intake;
using Oikonom.Core.People;
using Oikonom.Core.Time;
using Xunit;

namespace Oikonom.Core.Tests;

public sealed class MachineTests
{
    [Fact]
    public void A_step_is_tried_again_ever_slower_and_a_lasting_fault_stops_it()
    {
        Assert.Equal((StepState.Pending, TimeSpan.FromSeconds(1)), StepMachine.Next(StepState.Pending, AttemptOutcome.Transient, 0));
        Assert.Equal(TimeSpan.FromSeconds(8), BackOff.ForWork.After(3));
        Assert.Equal(TimeSpan.FromMinutes(5), BackOff.ForWork.After(40));
        // However often it was tried, the pause never shrinks and never passes the longest.
        var pauses = Enumerable.Range(-2, 1100).Select(BackOff.ForWork.After).ToList();
        Assert.Equal(pauses.Order(), pauses);
        Assert.Equal((TimeSpan.FromSeconds(1), TimeSpan.FromMinutes(5)), (pauses[0], pauses[^1]));
        Assert.Equal(
            (256_000, 300_000, 300_000),
            (BackOff.ForWork.Milliseconds(8), BackOff.ForWork.Milliseconds(9), BackOff.ForWork.Milliseconds(long.MaxValue))
        );
        Assert.Equal(StepState.Stopped, StepMachine.Next(StepState.Pending, AttemptOutcome.Lasting, 0).State);
        Assert.Equal(StepState.Dropped, StepMachine.Next(StepState.Pending, AttemptOutcome.NoLongerWanted, 0).State);
        foreach (var over in new[] { StepState.Done, StepState.Dropped })
        foreach (var outcome in Enum.GetValues<AttemptOutcome>())
            Assert.Equal(over, StepMachine.Next(over, outcome, 1).State);
    }
}
