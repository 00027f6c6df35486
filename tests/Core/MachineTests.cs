using Oikonom.Core.Approval;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Intake;
using Oikonom.Core.Planning;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>The machines are total: each pair of state and event is a move or is refused with a reason.</summary>
public sealed class MachineTests
{
    private static string All<TState, TEvent>(Func<TState, TEvent, TState> next)
        where TState : struct, Enum
        where TEvent : struct, Enum =>
        string.Join(
            ' ',
            Enum.GetValues<TState>()
                .SelectMany(s =>
                    Enum.GetValues<TEvent>()
                        .Select(e =>
                        {
                            try
                            {
                                return $"{EnumText.Of(s)}+{e}={EnumText.Of(next(s, e))}";
                            }
                            catch (RefusedMove refused)
                            {
                                Assert.Equal("wrong-state", refused.Code);
                                Assert.EndsWith(".", refused.Message, StringComparison.Ordinal);
                                return "";
                            }
                        })
                )
                .Where(move => move.Length > 0)
        );

    [Fact]
    public void Work_by_hand_is_done_found_impossible_opened_again_or_dropped() =>
        Assert.Equal(
            "open+Finish=done open+GiveUp=impossible open+Drop=dropped impossible+Reopen=open",
            All<TaskState, TaskEvent>(TaskMachine.Next)
        );

    [Fact]
    public void A_held_run_is_decided_once() =>
        Assert.Equal("held+Pass=passed held+Drop=dropped held+Supersede=superseded", All<HeldState, HeldEvent>(HeldMachine.Next));

    [Fact]
    public void What_is_over_is_neither_dropped_nor_tried_again()
    {
        Assert.Equal(
            [StepState.Dropped, StepState.Done, StepState.Dropped, StepState.Dropped],
            Enum.GetValues<StepState>().Select(StepMachine.Drop)
        );
        Assert.Equal(
            [StepState.Pending, StepState.Done, StepState.Dropped, StepState.Pending],
            Enum.GetValues<StepState>().Select(StepMachine.Retry)
        );
        Assert.Equal([StepState.Pending, StepState.Stopped], StepMachine.Open);
    }

    [Fact]
    public void What_changes_before_there_is_a_plan_is_planned_with_what_is_known_then() =>
        Assert.Equal(
            "planning+Renew=planning choosing+Renew=planning",
            string.Join(
                ' ',
                All<RequestState, RequestEvent>((s, e) => RequestMachine.Next(s, e, 0, 1, true).State)
                    .Split(' ')
                    .Where(m => m.Contains("+Renew", StringComparison.Ordinal))
            )
        );

    [Fact]
    public void States_are_kept_under_the_names_they_are_told_by()
    {
        Assert.Equal(
            ["planning", "choosing", "deciding", "asked", "releasing", "fulfilling", "completed", "declined", "withdrawn", "lapsed"],
            EnumText.All<RequestState>()
        );
        foreach (var state in Enum.GetValues<RequestState>())
            Assert.Equal(state, EnumText.Parse<RequestState>(EnumText.Of(state)));
        Assert.Throws<FormatException>(() => EnumText.Parse<RequestState>("nothing"));
        Assert.Equal("create-account", EnumText.Of(Planning.ChangeKind.CreateAccount));
    }

    [Fact]
    public void The_console_has_a_word_and_a_shape_for_every_state()
    {
        var source = File.ReadAllText(Repository.At("console/src/parts/StateMark.tsx"));
        var words = source[..source.IndexOf("const shapes", StringComparison.Ordinal)];
        var shapes = source[words.Length..source.IndexOf("const tones", StringComparison.Ordinal)];
        var states = Names<RequestState>().Concat(Names<StepState>()).Concat(Names<TaskState>()).Concat(Names<RollOutState>());
        foreach (var state in states.Distinct())
        {
            Assert.Matches($"\n  '?{state}'?: '[A-Z]", words);
            Assert.Matches($"\n  '?{state}'?: 'M", shapes);
        }
        var filters = File.ReadAllText(Repository.At("console/src/rooms/requests/requestSearch.ts"));
        Assert.All(Names<RequestState>(), state => Assert.Contains($"'{state}'", filters, StringComparison.Ordinal));
    }

    private static IEnumerable<string> Names<T>()
        where T : struct, Enum => Enum.GetValues<T>().Select(EnumText.Of);
}
