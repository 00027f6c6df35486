using System.Text.Json;
using Oikonom.Core.Ledger;
using Oikonom.Core.Planning;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Rulebook;

/// <summary>What a roll-out keeps of its rehearsal: gains and losses by template and by entitlement.</summary>
public sealed record RollOutReport(IReadOnlyList<Tally> Templates, IReadOnlyList<Tally> Entitlements)
{
    public static RollOutReport FromJson(string json) => JsonSerializer.Deserialize<RollOutReport>(json) ?? new([], []);
}

/// <summary>The rows of a roll-out in the terms of the core.</summary>
public static class RollOutCase
{
    public static RollOutState StateOf(this RolloutRow row) => EnumText.Parse<RollOutState>(row.State);

    public static string NameOf(RollOutState state) => EnumText.Of(state);

    /// <exception cref="Core.Approval.RefusedMove">It cannot do that where it stands.</exception>
    public static void Move(this RolloutRow row, RollOutEvent what) => row.State = NameOf(RollOutMachine.Next(row.StateOf(), what));

    /// <summary>Writes down what was done to it.</summary>
    public static void Record(
        this RolloutRow row,
        Session s,
        TimeProvider time,
        string actor,
        string kind,
        params (string, object?)[] details
    ) => s.Record(LedgerEntry.Of(time.GetUtcNow(), actor, kind, null, null, [("rollout", row.Id), ("edition", row.Edition), .. details]));

    /// <summary>A person of a rehearsal as one of a roll-out: done when nothing changes for them.</summary>
    public static RolloutPersonRow RowOf(string rollout, Affected person) =>
        new()
        {
            RolloutId = rollout,
            PersonId = person.Id,
            Effects = JsonSerializer.Serialize(person.Effects),
            Digest = person.Digest,
            Loses = person.Loses ? 1 : 0,
            State =
                person.Problem is not null ? "failing"
                : person.Effects.Count == 0 ? "done"
                : "open",
            Problem = person.Problem ?? "",
        };
}
