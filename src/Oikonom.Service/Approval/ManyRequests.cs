using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Core.Approval;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
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
                var joint = new Joint();
                foreach (var row in await s.RequestsByIdAsync([.. ids.Distinct()]))
                {
                    if (!ReachRule.Sees(user, row))
                        continue;
                    var of = await Case.LoadAsync(s, row, await editions.GetAsync(row.Edition, cancel), now);
                    joint.Add(of, RefusalOf(of, user, now));
                }
                return joint.Effect;
            },
            cancel
        );
    }

    /// <summary>Why the user may not decide this request now; null when they may.</summary>
    private static string? RefusalOf(Case of, ClaimsPrincipal user, DateTimeOffset now)
    {
        var row = of.Row;
        try
        {
            var may =
                row.State == RequestState.Deciding
                    ? of.RequireVotes(of.PartyOf(user), now).Count > 0
                    : row.State == RequestState.Releasing && RequestDesk.DecidersOf(row).Includes(of.PartyOf(user), of.About);
            return may ? null : $"It is {RequestMachine.Name(row.State)}.";
        }
        catch (RefusedMove refused)
        {
            return refused.Message;
        }
    }

    /// <summary>What several requests do together.</summary>
    private sealed class Joint
    {
        private readonly SortedDictionary<string, (EntitlementTally Tally, HashSet<string> People)> _tallies = new(StringComparer.Ordinal);
        private readonly List<JointRequest> _items = [];
        private readonly HashSet<string> _people = [];
        private readonly List<string> _notes = [];
        private int _made;
        private int _disabled;
        private int _privileged;

        public void Add(Case of, string? whyNot)
        {
            var row = of.Row;
            _people.Add(row.PersonId);
            foreach (var change in of.Plan.Changes.Where(c => !c.Later))
            {
                if (change is Change.CreateAccount or Change.AdoptAccount)
                    _made++;
                if (change is Change.DisableAccount)
                    _disabled++;
                if (change.Entitlement is { } entitlement)
                    Count(row.PersonId, entitlement, of.Edition.Rulebook.Find(entitlement), change is Change.Grant);
            }
            _privileged += of.Items.Count(i => i.IsPrivileged);
            _items.Add(
                new(
                    row.Id,
                    row.Number,
                    row.Kind,
                    row.Display,
                    row.PlanDigest ?? "",
                    RequestViews.EffectOf(of.Plan, of.Edition.Rulebook),
                    whyNot is null,
                    whyNot
                )
            );
            if (row.PlanBefore is not null)
                _notes.Add($"Request {row.Number}: the plan changed since it was first shown.");
            if (of.Plan.Conflicts is { Count: > 0 } conflicts)
                _notes.Add($"Request {row.Number}: {string.Join("; ", conflicts.Select(c => c.Title))}.");
        }

        private void Count(string person, EntitlementKey entitlement, Entitlement? rule, bool gained)
        {
            var key = entitlement.ToString();
            var (tally, people) = _tallies.TryGetValue(key, out var known)
                ? known
                : (new EntitlementTally(key, rule?.Title ?? key, rule?.IsPrivileged == true, 0, 0, 0), []);
            people.Add(person);
            _tallies[key] = (gained ? tally with { Gained = tally.Gained + 1 } : tally with { Lost = tally.Lost + 1 }, people);
        }

        public JointEffect Effect =>
            new(
                _items.Count,
                _people.Count,
                [.. _tallies.Values.Select(t => t.Tally with { People = t.People.Count })],
                _made,
                _disabled,
                _privileged,
                [.. _items.OrderBy(i => i.Number)],
                _privileged == 0 ? _notes : [$"{_privileged} privileged grant{(_privileged == 1 ? " is" : "s are")} among them.", .. _notes]
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
