using System.Text.Json;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Fulfilment;
using Oikonom.Service.Hosting;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Intake;

/// <summary>After a baseline: the accounts these people already have are recorded as they are; nothing is changed in a target.</summary>
public sealed class Baseline(Store.Store store, ConnectorBook connectors, TimeProvider time)
{
    private const int Chunk = 500;

    /// <returns>How many accounts were recorded.</returns>
    public async Task<int> AdoptAsync(Edition edition, IReadOnlyList<Taken> taken, CancellationToken cancel)
    {
        var adopted = 0;
        // The last record of a person knows all employments.
        var people = taken.GroupBy(t => t.PersonId).Select(g => g.Last()).ToList();
        foreach (var target in edition.Rulebook.Targets.Values.Where(t => t.Desk is null))
        {
            var listing = ListAsync(edition, target, cancel);
            var byKey = Keys(edition, target, people);
            var matches = new List<(string Person, ExistingAccount Account)>();
            foreach (var account in await listing)
            {
                var person = target.Match.Select(m => account.Attributes.TryGetValue(m.Attribute, out var values) && values.Count > 0 ? byKey.GetValueOrDefault($"{m.Attribute}={values[0]}") : null).FirstOrDefault(p => p is not null);
                if (person is not null) matches.Add((person, account));
            }
            // Two entries for one person are left for a human.
            foreach (var chunk in matches.GroupBy(m => m.Person).Where(g => g.Count() == 1).Select(g => g.First()).Chunk(Chunk))
            {
                await store.WriteAsync(s => RecordAsync(s, target, chunk), cancel);
                adopted += chunk.Length;
            }
        }
        return adopted;
    }

    private async Task<List<ExistingAccount>> ListAsync(Edition edition, TargetRule target, CancellationToken cancel)
    {
        var accounts = new List<ExistingAccount>();
        await foreach (var account in connectors.For(edition, target.Name).ListAsync(cancel)) accounts.Add(account);
        return accounts;
    }

    /// <summary>The match keys of everybody, worked out side by side.</summary>
    private static Dictionary<string, string> Keys(Edition edition, TargetRule target, List<Taken> people)
    {
        var parts = people.Chunk(Math.Max(500, people.Count / Environment.ProcessorCount + 1)).AsParallel().Select(part =>
        {
            var asking = edition.Rulebook.Access.Ask();
            var keys = new List<(string Key, string Person)>(part.Length);
            foreach (var person in part)
            {
                var subject = new Subject(PersonId.Parse(person.PersonId), person.Leading, new Dictionary<string, string> { [target.Name] = "-" }) { Others = person.Others };
                keys.AddRange(Wanted(asking, subject, target).Select(k => ($"{k.Attribute}={k.Value}", person.PersonId)));
            }
            return keys;
        });
        var byKey = new Dictionary<string, string>(people.Count, StringComparer.OrdinalIgnoreCase);
        foreach (var (key, person) in parts.SelectMany(p => p)) byKey.TryAdd(key, person);
        return byKey;
    }

    /// <summary>A person whom the rulebook cannot serve is left out; their first plan says why.</summary>
    private static IReadOnlyList<(string Attribute, string Value)> Wanted(Asking asking, Subject subject, TargetRule target)
    {
        try
        {
            return asking.MatchKeys(subject, target);
        }
        catch (PlanFault)
        {
            return [];
        }
    }

    private async Task RecordAsync(Session s, TargetRule target, IReadOnlyList<(string Person, ExistingAccount Account)> matches)
    {
        var now = time.Milliseconds();
        var (accounts, grants, names) = (new List<AccountRow>(), new List<GrantRow>(), new List<NameRow>());
        foreach (var (person, account) in matches)
        {
            var reason = JsonSerializer.Serialize(new Reason("baseline", account.Location, "was there when Oikonom began"));
            var container = account.Location[(account.Location.IndexOf(',', StringComparison.Ordinal) + 1)..];
            accounts.Add(new()
            {
                PersonId = person,
                Target = target.Name,
                Name = account.Name,
                Container = container,
                Location = account.Location,
                ImmutableId = account.ImmutableId,
                Attributes = JsonSerializer.Serialize(account.Attributes),
                Enabled = account.Enabled ? 1 : 0,
                Reason = reason,
                At = now,
            });
            names.Add(new() { Target = target.Name, NameKey = account.Name.ToLowerInvariant(), PersonId = person, At = now });
            grants.AddRange(account.Entitlements.Select(e => new GrantRow { Id = Guid.CreateVersion7(time.GetUtcNow()).ToString(), PersonId = person, Target = target.Name, Entitlement = e, FromAt = now, Reason = reason }));
        }
        await s.UpsertAccountsAsync(accounts);
        await s.TakeNamesAsync(names);
        await s.OpenGrantsAsync(grants);
        s.Record(LedgerEntry.Of(time.GetUtcNow(), "oikonom", "accounts.recorded", null, null, ("target", target.Name), ("accounts", accounts.Select(a => new { a.PersonId, a.Location, a.ImmutableId }).ToList())));
    }
}
