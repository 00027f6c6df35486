using System.Text.Json;
using Oikonom.Core.Approval;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Intake;
using Oikonom.Core.Ledger;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Approval;
using Oikonom.Service.Fulfilment;
using Oikonom.Service.Hosting;
using Oikonom.Service.Rulebook;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Planning;

/// <summary>
/// Makes the plan of requests that need one: looks into the targets, settles names, and hands the request to
/// its workflow. A target that is away makes the request wait and say so.
/// </summary>
public sealed partial class PlannerLoop(Store.Store store, EditionBook editions, ConnectorBook connectors, StageEntry stages, ServiceOptions options, TimeProvider time, ILogger<PlannerLoop> log)
    : Loop(TimeSpan.FromSeconds(1), log)
{
    private const int Batch = 32;
    private const int Parallel = 8;

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        var now = time.Milliseconds();
        if (!await store.ReadAsync(s => s.AnyPlanningAsync(now), cancel)) return false;
        var claimed = await store.WriteAsync(s => s.ClaimPlanningAsync(options.Node, now, now + (long)(options.LeaseSeconds * 1000), Batch), cancel);
        await System.Threading.Tasks.Parallel.ForEachAsync(claimed, new ParallelOptions { MaxDegreeOfParallelism = Parallel, CancellationToken = cancel }, async (id, token) => await PlanAsync(id, token));
        return claimed.Count == Batch;
    }

    private async Task PlanAsync(string id, CancellationToken cancel)
    {
        var request = await store.ReadAsync(s => s.RequestAsync(id), cancel);
        if (request is not { State: "planning" }) return;
        try
        {
            var edition = await editions.CurrentAsync(cancel);
            var recorded = await store.ReadAsync(s => Recorded.LoadAsync(s, [request.PersonId]), cancel);
            var subject = recorded.Subject(request.PersonId, edition);
            var chosen = JsonSerializer.Deserialize<Dictionary<string, string>>(request.Chosen) ?? [];
            var existing = new Dictionary<string, ExistingAccount>();
            var names = new Dictionary<string, string>(subject.AccountNames);
            var fresh = new List<(string Target, string Name)>();
            var candidates = new List<ExistingAccount>();
            foreach (var target in edition.Rulebook.Targets.Values)
            {
                var wishes = Desired.NameWishes(subject.Facts, edition, target.Name);
                if (wishes.Count == 0 || recorded.Account(request.PersonId, target.Name) is not null) continue;
                var found = await FindAsync(edition, target, subject, wishes, cancel);
                if (found.Count > 1)
                {
                    if (chosen.TryGetValue(target.Name, out var pick) && found.FirstOrDefault(f => f.ImmutableId == pick) is { } picked) found = [picked];
                    else candidates.AddRange(found);
                }
                if (found.Count == 1)
                {
                    existing[target.Name] = found[0];
                    names[target.Name] = found[0].Name;
                    fresh.Add((target.Name, found[0].Name));
                }
                else if (found.Count == 0)
                {
                    var name = await FreeNameAsync(edition, target, request.PersonId, subject.AccountNames.GetValueOrDefault(target.Name), wishes, cancel);
                    names[target.Name] = name;
                    fresh.Add((target.Name, name));
                }
            }
            if (candidates.Count > 0) await AmbiguousAsync(request, candidates, cancel);
            else await PlannedAsync(request, edition, subject with { AccountNames = names }, recorded, existing, fresh, cancel);
        }
        catch (Exception error) when (error is TargetFault or PlanFault or Problem)
        {
            await PostponeAsync(request, error.Message, cancel);
        }
    }

    private async Task<IReadOnlyList<ExistingAccount>> FindAsync(Edition edition, TargetRule target, Subject subject, IReadOnlyList<string> wishes, CancellationToken cancel)
    {
        // The match keys are attributes of the account as it would be made.
        var tentative = subject with { AccountNames = new Dictionary<string, string> { [target.Name] = wishes[0] } };
        var (start, _) = Desired.Term(subject.Facts, edition.Rulebook);
        var wanted = Desired.At(tentative, edition, [], start).Accounts.GetValueOrDefault(target.Name);
        if (wanted is null) return [];
        var keys = Keys(target, wanted.Attributes);
        return (await connectors.For(edition, target.Name).FindAsync(keys, cancel)).Found;
    }

    public static IReadOnlyList<(string Attribute, string Value)> Keys(TargetRule target, IReadOnlyDictionary<string, IReadOnlyList<string>> attributes) =>
        [.. target.Match.Select(m => (m, attributes.TryGetValue(m, out var values) && values.Count > 0 ? values[0] : "")).Where(k => k.Item2.Length > 0)];

    private async Task<string> FreeNameAsync(Edition edition, TargetRule target, string person, string? reserved, IReadOnlyList<string> wishes, CancellationToken cancel)
    {
        var connector = connectors.For(edition, target.Name);
        if (reserved is not null && !await connector.NameIsTakenAsync(reserved, cancel)) return reserved;
        foreach (var batch in AccountNames.Candidates(wishes).Chunk(20))
        {
            var taken = await store.ReadAsync(s => s.NamesTakenAsync(target.Name, batch, person), cancel);
            foreach (var name in batch.Except(taken))
                if (!await connector.NameIsTakenAsync(name, cancel)) return name;
        }
        throw new PlanFault($"No free account name is left for {string.Join(", ", wishes)} in {target.Title}.");
    }

    private Task AmbiguousAsync(RequestRow request, List<ExistingAccount> candidates, CancellationToken cancel) => store.WriteAsync(async s =>
    {
        var row = await s.RequestAsync(request.Id, forUpdate: true);
        if (row is not { State: "planning" }) return;
        RequestMachine.Next(RequestState.Planning, RequestEvent.Ambiguous, 0, 0, true);
        (row.State, row.Candidates, row.Problem) = ("choosing", JsonSerializer.Serialize(candidates), "");
        (row.LeaseOwner, row.LeaseUntil, row.DueAt, row.SinceAt, row.UpdatedAt) = ("", 0, null, time.Milliseconds(), time.Milliseconds());
        await s.SaveRequestAsync(row);
        s.Record(LedgerEntry.Of(time.GetUtcNow(), "oikonom", "request.ambiguous", row.PersonId, row.Id, ("entries", candidates.Select(c => new { c.Target, c.Location, c.ImmutableId, c.MatchedBy }).ToList())));
        s.Tell("requests", row.Id);
    }, cancel);

    private Task PlannedAsync(RequestRow request, Edition edition, Subject subject, Recorded recorded, Dictionary<string, ExistingAccount> existing, List<(string Target, string Name)> names, CancellationToken cancel)
    {
        var kind = JsonSerializer.Deserialize<RequestKind>($"\"{request.Kind}\"");
        var plan = Planner.Make(subject, recorded.State(request.PersonId, edition), recorded.ImmutableIds(request.PersonId), existing, edition, [], kind, time.GetUtcNow());
        return store.WriteAsync(async s =>
        {
            var row = await s.RequestAsync(request.Id, forUpdate: true);
            if (row is not { State: "planning" } || row.UpdatedAt != request.UpdatedAt) return;
            var now = time.Milliseconds();
            foreach (var (target, name) in names)
            {
                // Somebody else took it since we looked: plan once more.
                if (await s.TakeNameAsync(target, name, row.PersonId, now) || existing.ContainsKey(target)) continue;
                (row.LeaseOwner, row.LeaseUntil, row.DueAt) = ("", 0, now);
                await s.SaveRequestAsync(row);
                return;
            }
            row.Edition = edition.Number;
            row.Plan = plan.ToJson();
            row.PlanDigest = plan.Digest;
            (row.Problem, row.Candidates, row.LeaseOwner, row.LeaseUntil, row.DueAt, row.Attempts) = ("", "", "", 0, null, 0);
            s.Record(LedgerEntry.Of(time.GetUtcNow(), "oikonom", "request.planned", row.PersonId, row.Id, ("edition", edition.Number), ("digest", plan.Digest), ("changes", plan.Changes.Count)));
            await stages.EnterAsync(s, row, plan, edition, plan.Changes.Count == 0 ? RequestEvent.PlannedEmpty : RequestEvent.Planned);
            await s.SaveRequestAsync(row);
        }, cancel);
    }

    private Task PostponeAsync(RequestRow request, string problem, CancellationToken cancel) => store.WriteAsync(async s =>
    {
        var row = await s.RequestAsync(request.Id, forUpdate: true);
        if (row is not { State: "planning" }) return;
        var now = time.Milliseconds();
        if (row.Problem != problem) s.Record(LedgerEntry.Of(time.GetUtcNow(), "oikonom", "request.cannot-plan", row.PersonId, row.Id, ("problem", problem)));
        (row.Problem, row.LeaseOwner, row.LeaseUntil) = (problem, "", 0);
        row.DueAt = now + (long)StepMachine.BackOff((int)row.Attempts).TotalMilliseconds;
        row.Attempts++;
        row.UpdatedAt = now;
        await s.SaveRequestAsync(row);
        s.Tell("requests", row.Id);
        LogPostponed(log, row.Number, problem);
    }, cancel);

    [LoggerMessage(Level = LogLevel.Warning, Message = "Request {Number} cannot be planned yet: {Problem}")]
    private static partial void LogPostponed(ILogger log, long number, string problem);
}
