using Oikonom.Core.Fulfilment;
using Oikonom.Core.Planning;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>A claim on a chain: valid while its fence is the newest.</summary>
public sealed record Claim(string SubjectId, string Target, long Fence)
{
    public ChainRow Row { get; } =
        new()
        {
            SubjectId = SubjectId,
            Target = Target,
            Fence = Fence,
        };
}

/// <summary>How one attempt at one step ended, with what it changed in what we hold to be true.</summary>
public sealed record Outcome(Claim Claim, StepRow Step, Change Change, AttemptOutcome Ending, string Message)
{
    public AccountRow? Account { get; init; }
    public IReadOnlyList<GrantRow> Opens { get; init; } = [];
    public GrantRow? Closes { get; init; }

    /// <summary>Set when the request must be planned anew, with the reason.</summary>
    public string? Replan { get; init; }

    /// <summary>The id of the entry that the target does not hold any more, though it is recorded.</summary>
    public string? Gone { get; init; }
    public string Note { get; init; } = "";

    /// <summary>The note of a deleted account that is there again as itself.</summary>
    public const string BroughtBack = "brought back";

    /// <summary>True when the target was not there, or could not: that says something of all that waits for it.</summary>
    public bool IsOfTarget { get; init; }

    /// <summary>True when nothing failed: what it needs is not there yet.</summary>
    public bool IsWaiting { get; init; }

    /// <summary>How long the target asks to be left alone.</summary>
    public TimeSpan? After { get; init; }

    /// <summary>Work by hand that is to be done first.</summary>
    public TaskRow? Task { get; init; }
}

/// <summary>What goes through the writer: outcomes in order, and the end of a chain's run.</summary>
public abstract record Written
{
    public sealed record Step(Outcome Outcome) : Written;

    public sealed record End(Claim Claim) : Written;
}
