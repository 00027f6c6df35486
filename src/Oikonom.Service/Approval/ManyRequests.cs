using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Core.Approval;
using Oikonom.Core.Planning;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <summary>Many requests at once: what they bring together, and one decision on each.</summary>
public sealed class ManyRequests(Store.Store store, EditionBook editions, RequestDesk desk, TimeProvider time)
{
    private const int Most = 500;

    /// <summary>The joint effect: counts by entitlement, and what deserves a look because it comes together.</summary>
    public Task<JointEffect> EffectAsync(IReadOnlyList<string> ids, ClaimsPrincipal user, CancellationToken cancel)
    {
        Limit(ids.Count);
        return store.ReadAsync(
            async s =>
            {
                var now = time.GetUtcNow();
                var tallies = new SortedDictionary<string, (EntitlementTally Tally, HashSet<string> People)>(StringComparer.Ordinal);
                var items = new List<JointRequest>();
                var (made, disabled, privileged, persons, notes) = (0, 0, 0, new HashSet<string>(), new List<string>());
                foreach (var row in await s.RequestsByIdAsync([.. ids.Distinct()]))
                {
                    var of = await Case.LoadAsync(s, row, await editions.GetAsync(row.Edition, cancel), now);
                    if (!ReachRule.Sees(user, row))
                        continue;
                    persons.Add(row.PersonId);
                    foreach (var change in of.Plan.Changes.Where(c => !c.Later))
                    {
                        if (change is Change.CreateAccount or Change.AdoptAccount)
                            made++;
                        if (change is Change.DisableAccount)
                            disabled++;
                        if (change.Entitlement is not { } entitlement)
                            continue;
                        var key = entitlement.ToString();
                        var rule = of.Edition.Rulebook.Find(entitlement);
                        var (tally, people) = tallies.TryGetValue(key, out var known)
                            ? known
                            : (new EntitlementTally(key, rule?.Title ?? key, rule?.IsPrivileged == true, 0, 0, 0), []);
                        people.Add(row.PersonId);
                        tallies[key] = (
                            change is Change.Grant ? tally with { Gained = tally.Gained + 1 } : tally with { Lost = tally.Lost + 1 },
                            people
                        );
                    }
                    privileged += of.Items.Count(i => i.IsPrivileged);
                    string? whyNot = null;
                    var may = false;
                    try
                    {
                        may =
                            row.State == RequestState.Deciding
                                ? of.RequireVotes(of.PartyOf(user), now).Count > 0
                                : row.State == RequestState.Releasing && RequestDesk.DecidersOf(row).Includes(of.PartyOf(user), of.About);
                        if (!may)
                            whyNot = $"It is {RequestMachine.Name(row.State)}.";
                    }
                    catch (RefusedMove refused)
                    {
                        whyNot = refused.Message;
                    }
                    items.Add(
                        new(
                            row.Id,
                            row.Number,
                            row.Kind,
                            row.Display,
                            row.PlanDigest ?? "",
                            RequestViews.EffectOf(of.Plan, of.Edition.Rulebook),
                            may,
                            whyNot
                        )
                    );
                    if (row.PlanBefore is not null)
                        notes.Add($"Request {row.Number}: the plan changed since it was first shown.");
                    if (of.Plan.Conflicts is { Count: > 0 } conflicts)
                        notes.Add($"Request {row.Number}: {string.Join("; ", conflicts.Select(c => c.Title))}.");
                }
                if (privileged > 0)
                    notes.Insert(0, $"{privileged} privileged grant{(privileged == 1 ? " is" : "s are")} among them.");
                return new JointEffect(
                    items.Count,
                    persons.Count,
                    [.. tallies.Values.Select(t => t.Tally with { People = t.People.Count })],
                    made,
                    disabled,
                    privileged,
                    [.. items.OrderBy(i => i.Number)],
                    notes
                );
            },
            cancel
        );
    }

    public Task<ManyAnswer> ApproveAsync(IReadOnlyList<Bound> requests, string? remark, ClaimsPrincipal user, CancellationToken cancel) =>
        EachAsync(
            requests,
            user,
            (s, bound) => desk.ApproveAsync(s, bound.Id, user, new(bound.PlanDigest, remark), cancel),
            cancel,
            (s, batch) => desk.MineOfAsync(s, batch, user, cancel)
        );

    public Task<ManyAnswer> ReleaseAsync(IReadOnlyList<Bound> requests, ClaimsPrincipal user, CancellationToken cancel) =>
        EachAsync(requests, user, (s, bound) => desk.ReleaseAsync(s, bound.Id, user, bound.PlanDigest, cancel), cancel);

    /// <summary>
    /// Each is a decision of its own: one that is refused leaves the others. Those of a file that is decided as a
    /// whole are one decision, and all that are the caller's must be among them.
    /// </summary>
    private async Task<ManyAnswer> EachAsync(
        IReadOnlyList<Bound> requests,
        ClaimsPrincipal user,
        Func<Session, Bound, Task> decide,
        CancellationToken cancel,
        Func<Session, string, Task<IReadOnlyList<string>>>? wholeOf = null
    )
    {
        Limit(requests.Count);
        var outcomes = new List<ManyOutcome>();
        var rows = await store.ReadAsync(s => s.RequestsByIdAsync([.. requests.Select(r => r.Id).Distinct()]), cancel);
        // What is out of reach is not there.
        var seen = rows.Where(r => ReachRule.Sees(user, r)).Select(r => r.Id).ToHashSet(StringComparer.Ordinal);
        var batches = rows.Where(r => r.Batch.Length > 0).ToDictionary(r => r.Id, r => r.Batch, StringComparer.Ordinal);
        foreach (var group in requests.DistinctBy(r => r.Id).GroupBy(r => batches.GetValueOrDefault(r.Id, r.Id)))
        {
            string? problem = null;
            try
            {
                if (group.FirstOrDefault(g => !seen.Contains(g.Id)) is { } absent)
                    throw Named.NoRequest(absent.Id);
                await store.WriteAsync(
                    async s =>
                    {
                        if (
                            wholeOf is not null
                            && batches.ContainsKey(group.First().Id)
                            && (await wholeOf(s, group.Key)).Count(id => !group.Any(g => g.Id == id)) is > 0 and var missing
                        )
                            throw new RefusedMove(
                                "whole-file",
                                $"The file is decided as a whole, and {missing} more of its requests wait for you; choose all of them."
                            );
                        foreach (var bound in group)
                            await decide(s, bound);
                    },
                    cancel
                );
            }
            catch (Exception refused) when (refused is Problem or RefusedMove)
            {
                problem = refused.Message;
            }
            outcomes.AddRange(group.Select(bound => new ManyOutcome(bound.Id, null, problem is null, problem)));
        }
        return new(outcomes.Count(o => o.Done), outcomes.Count(o => !o.Done), outcomes);
    }

    private static void Limit(int count)
    {
        if (count is 0 or > Most)
            throw Problem.Invalid($"Name from 1 to {Most} requests.", "requests");
    }
}
