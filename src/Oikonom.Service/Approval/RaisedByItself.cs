using System.Text.Json;
using Oikonom.Core.Approval;
using Oikonom.Core.Intake;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Service.Intake;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <summary>A request that Oikonom raises, because an instant has come or a roll-out reaches somebody.</summary>
/// <param name="Cause">Why, in a sentence without its full stop.</param>
public sealed record RaisedByItself(string PersonId, string Kind, string Workflow, long Edition, string Cause)
{
    public const string Actor = "oikonom";

    /// <summary>What it wishes, as JSON.</summary>
    public string Wish { get; init; } = "{}";

    /// <summary>Which ways of approval it may go; "" for the one it names alone.</summary>
    public string Source { get; init; } = Core.Rulebook.Workflow.ByHand;

    /// <summary>The roll-out it belongs to, or "".</summary>
    public string Rollout { get; init; } = "";

    /// <summary>Details of the entry on the ledger.</summary>
    public IReadOnlyList<(string Name, object? Value)> Details { get; init; } = [];

    /// <summary>Raises requests inside a decision, each with its entry.</summary>
    /// <returns>Their ids, in order.</returns>
    public static async Task<IReadOnlyList<string>> RaiseAsync(Session s, IReadOnlyList<RaisedByItself> all, DateTimeOffset now)
    {
        var rows = all.Select(one => new RequestRow
            {
                Id = RequestId.New(now).ToString(),
                Kind = one.Kind,
                State = RequestState.Planning,
                PersonId = one.PersonId,
                Requester = Actor,
                Edition = one.Edition,
                CreatedAt = now.ToUnixTimeMilliseconds(),
                Workflow = one.Workflow,
                Source = one.Source,
                Wish = one.Wish,
                Rollout = one.Rollout,
                Cause = JsonSerializer.Serialize(new Cause(one.Cause, null, null, [])),
            })
            .ToList();
        await s.AddRequestsAsync(rows);
        foreach (var (row, one) in rows.Zip(all))
        {
            s.Record(LedgerEntry.Of(now, Actor, "request.raised", row.PersonId, row.Id, [("requestKind", row.Kind), .. one.Details]));
            s.Tell("requests", row.Id);
        }
        return [.. rows.Select(r => r.Id)];
    }
}
