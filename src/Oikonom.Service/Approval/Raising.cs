using System.Text.Json;
using Oikonom.Core.Approval;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <summary>A request to be raised, by somebody or by Oikonom itself. Records of a source are raised as they are taken.</summary>
/// <param name="PersonId">The person it is about, or who answers for its subject.</param>
public sealed record Raising(string PersonId, string Kind, string Workflow, long Edition, Cause Cause)
{
    /// <summary>The requester of what is raised because an instant has come or a roll-out reaches somebody.</summary>
    public const string ByItself = "oikonom";

    /// <param name="cause">Why, in a sentence without its full stop.</param>
    public Raising(string personId, string kind, string workflow, long edition, string cause)
        : this(personId, kind, workflow, edition, new Cause(cause, null, null, [])) { }

    public string Requester { get; init; } = ByItself;

    /// <summary>What it is about, where that is not the person.</summary>
    public (SubjectKind Kind, string Id) Subject { get; init; } = (SubjectKind.Person, "");

    /// <summary>What it wishes, as JSON.</summary>
    public string Wish { get; init; } = "{}";

    /// <summary>Which ways of approval it may go; "" for the one it names alone.</summary>
    public string Source { get; init; } = Core.Rulebook.Workflow.ByHand;

    /// <summary>The roll-out it belongs to, or "".</summary>
    public string Rollout { get; init; } = "";

    /// <summary>The file it was asked for in, when that is decided as a whole; else "".</summary>
    public string Batch { get; init; } = "";

    /// <summary>Details of the entry on the ledger.</summary>
    public IReadOnlyList<(string Name, object? Value)> Details { get; init; } = [];

    /// <summary>Raises requests inside a decision, each with its entry.</summary>
    /// <returns>Their ids, in order.</returns>
    public static async Task<IReadOnlyList<string>> RaiseAsync(Session s, IReadOnlyList<Raising> all, DateTimeOffset now)
    {
        var rows = all.Select(one => new RequestRow
            {
                Id = RequestId.New(now).ToString(),
                Kind = one.Kind,
                State = RequestState.Planning,
                PersonId = one.PersonId,
                SubjectKind = one.Subject.Kind,
                SubjectId = one.Subject.Id,
                Requester = one.Requester,
                Edition = one.Edition,
                CreatedAt = now.ToUnixTimeMilliseconds(),
                Workflow = one.Workflow,
                Source = one.Source,
                Wish = one.Wish,
                Rollout = one.Rollout,
                Batch = one.Batch,
                Cause = JsonSerializer.Serialize(one.Cause),
            })
            .ToList();
        await s.AddRequestsAsync(rows);
        foreach (var (row, one) in rows.Zip(all))
        {
            s.Record(
                LedgerEntry.Of(now, one.Requester, "request.raised", row.PersonId, row.Id, [("requestKind", row.Kind), .. one.Details])
            );
            s.Tell("requests", row.Id);
        }
        return [.. rows.Select(r => r.Id)];
    }
}
