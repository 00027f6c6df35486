using System.Text.Json;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Common;
using Oikonom.Service.Connectors;
using Oikonom.Service.Records;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Intake;

/// <summary>After a baseline: the accounts these people already have are recorded as they are; nothing is changed in a target.</summary>
public sealed class Baseline(Store.Store store, ConnectorBook connectors, TimeProvider time)
{
    private const int Chunk = 500;

    /// <summary>Begins to look at the targets; people are told of as they are taken.</summary>
    public Adoption Begin(Edition edition, CancellationToken cancel) => new(this, edition, cancel);

    /// <summary>One adoption: targets are listed and match keys worked out while the records are still being written.</summary>
    public sealed class Adoption
    {
        private readonly Baseline _baseline;
        private readonly Edition _edition;

        /// <summary>People whose work by hand was recorded with one of their accounts.</summary>
        private readonly HashSet<string> _served = [];
        private readonly List<(
            TargetRule Target,
            Task<List<ExistingAccount>> Listing,
            List<Task<List<(string Key, string Person)>>> Keys
        )> _targets;

        internal Adoption(Baseline baseline, Edition edition, CancellationToken cancel)
        {
            (_baseline, _edition) = (baseline, edition);
            _targets =
            [
                .. edition
                    .Rulebook.Targets.Values.Where(t => t.Settings.Can.HasFlag(TargetAbilities.Listing))
                    .Select(t => (t, baseline.ListAsync(edition, t, cancel), new List<Task<List<(string, string)>>>())),
            ];
        }

        public void Add(IReadOnlyList<Taken> taken)
        {
            foreach (var (target, _, keys) in _targets)
                keys.Add(Task.Run(() => Keys(_edition, target, taken)));
        }

        /// <summary>Records the accounts that answer to one person as theirs, and all others as nobody's.</summary>
        /// <returns>How many accounts were recorded as somebody's.</returns>
        public async Task<int> EndAsync(CancellationToken cancel)
        {
            var adopted = 0;
            foreach (var (target, listing, keys) in _targets)
            {
                var byKey = Merge(await Task.WhenAll(keys));
                var matches = new List<(string Person, ExistingAccount Account)>();
                var nobodys = new List<ExistingAccount>();
                foreach (var account in await listing)
                {
                    var person = target
                        .Match.Select(m =>
                            account.Attributes.TryGetValue(m.Attribute, out var values) && values.Count > 0
                                ? byKey.GetValueOrDefault($"{m.Attribute}={values[0]}")
                                : null
                        )
                        .FirstOrDefault(p => p is not null);
                    if (person is not null)
                        matches.Add((person, account));
                    else
                        nobodys.Add(account);
                }
                // Two entries for one person are left for a human.
                var alone = matches.GroupBy(m => m.Person).ToLookup(g => g.Count() == 1);
                foreach (var chunk in alone[true].Select(g => g.First()).Chunk(Chunk))
                {
                    await _baseline.RecordAsync(target, _edition, chunk, _served, cancel);
                    adopted += chunk.Length;
                }
                nobodys.AddRange(alone[false].SelectMany(g => g.Select(m => m.Account)));
                foreach (var chunk in nobodys.Chunk(Chunk))
                    await _baseline.RecordNobodysAsync(target, chunk, cancel);
            }
            return adopted;
        }

        /// <summary>The last record of a person knows all employments: only its keys count.</summary>
        private static Dictionary<string, string> Merge(List<(string Key, string Person)>[] parts)
        {
            var last = new Dictionary<string, int>(StringComparer.Ordinal);
            for (var i = 0; i < parts.Length; i++)
                foreach (var (_, person) in parts[i])
                    last[person] = i;
            var byKey = new Dictionary<string, string>(last.Count, StringComparer.OrdinalIgnoreCase);
            for (var i = 0; i < parts.Length; i++)
                foreach (var (key, person) in parts[i])
                    if (last[person] == i)
                        byKey.TryAdd(key, person);
            return byKey;
        }
    }

    private async Task<List<ExistingAccount>> ListAsync(Edition edition, TargetRule target, CancellationToken cancel)
    {
        var accounts = new List<ExistingAccount>();
        await foreach (var account in connectors.Accounts(edition, target.Name).ListAsync(cancel))
            accounts.Add(account);
        return accounts;
    }

    /// <summary>The match keys of the people of some records; of two records of one person the later counts.</summary>
    private static List<(string Key, string Person)> Keys(Edition edition, TargetRule target, IReadOnlyList<Taken> taken)
    {
        var asking = edition.Rulebook.Access.Ask();
        var noName = new Dictionary<AccountKey, string> { [target.Name] = "-" };
        var last = new Dictionary<string, int>(taken.Count, StringComparer.Ordinal);
        for (var i = 0; i < taken.Count; i++)
            last[taken[i].PersonId] = i;
        var keys = new List<(string Key, string Person)>(taken.Count);
        for (var i = 0; i < taken.Count; i++)
        {
            var person = taken[i];
            if (last[person.PersonId] != i)
                continue;
            var subject = new Subject(PersonId.Parse(person.PersonId), person.Leading, noName) { Others = person.Others };
            foreach (var (attribute, value) in Wanted(asking, subject, target))
                keys.Add(($"{attribute}={value}", person.PersonId));
        }
        return keys;
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

    /// <summary>Records an entry that was nobody's as a person's, with what it holds.</summary>
    public Task AdoptAsync(TargetRule target, Edition edition, string person, ExistingAccount entry, CancellationToken cancel) =>
        RecordAsync(target, edition, [(person, entry)], [person], cancel);

    private Task RecordAsync(
        TargetRule target,
        Edition edition,
        IReadOnlyList<(string Person, ExistingAccount Account)> matches,
        HashSet<string> served,
        CancellationToken cancel
    ) =>
        store.WriteAsync(
            async s =>
            {
                var now = time.Milliseconds();
                var (accounts, grants, names) = (new List<AccountRow>(), new List<GrantRow>(), new List<NameRow>());
                var ids = new IdSeries(time.GetUtcNow());
                var recorded = await Recorded.LoadAsync(s, [.. matches.Select(m => m.Person)]);
                foreach (var (person, account) in matches)
                {
                    var subject = recorded.Subject(person, edition);
                    var wanted = Given(subject, target, account, edition);
                    var row = Recorded.RowOf(account, ThereBefore, ids, now) with { PersonId = person };
                    if (wanted.Accounts.GetValueOrDefault(target.Name)?.Reason is { } rule)
                        row = row with { Reason = JsonSerializer.Serialize(rule) };
                    accounts.Add(row);
                    names.Add(
                        new()
                        {
                            Target = target.Name,
                            NameKey = account.Name.ToLowerInvariant(),
                            PersonId = person,
                            Wish = WishOf(subject, target, edition),
                            At = now,
                        }
                    );
                    grants.AddRange(Held(account, wanted, target, person, now));
                    if (served.Add(person))
                        grants.AddRange(ByHand(wanted, edition, person, now));
                }
                // An entry that was nobody's until now is recorded once.
                await s.BelongAsync(accounts);
                await s.UpsertAccountsAsync(accounts);
                await s.TakeNamesAsync(names);
                await s.OpenGrantsAsync(grants);
                await s.PutOnEditionAsync([.. matches.Select(m => m.Person)], 0, edition.Number, now);
                s.Record(
                    LedgerEntry.Of(
                        time.GetUtcNow(),
                        "oikonom",
                        "accounts.recorded",
                        null,
                        null,
                        ("target", target.Name),
                        ("count", accounts.Count)
                    )
                );
            },
            cancel
        );

    /// <summary>What an account holds in its target: what a rule gives is matched to it; the rest was there.</summary>
    private IEnumerable<GrantRow> Held(ExistingAccount account, AccessState wanted, TargetRule target, string person, long now)
    {
        var found = JsonSerializer.Serialize(FoundIn(account));
        return account.Entitlements.Select(e => new GrantRow
        {
            Id = Guid.CreateVersion7(time.GetUtcNow()).ToString(),
            PersonId = person,
            Target = target.Name,
            Entitlement = e,
            FromAt = now,
            Reason = wanted.Grants.GetValueOrDefault(new(target.Name, e))?.Reason is { } why ? JsonSerializer.Serialize(why) : found,
        });
    }

    /// <summary>What rules give by people's hands: nobody can look whether it was done, and who is there already works with it.</summary>
    private IEnumerable<GrantRow> ByHand(AccessState wanted, Edition edition, string person, long now) =>
        wanted
            .Grants.Where(g => edition.Rulebook.Targets.GetValueOrDefault(g.Key.Target) is { HasAccounts: false })
            .Select(g => new GrantRow
            {
                Id = Guid.CreateVersion7(time.GetUtcNow()).ToString(),
                PersonId = person,
                Target = g.Key.Target,
                Entitlement = g.Key.Name,
                FromAt = now,
                Reason = JsonSerializer.Serialize(g.Value.Reason),
            });

    private const string ThereBefore = "was there when Oikonom began";

    private Task RecordNobodysAsync(TargetRule target, IReadOnlyList<ExistingAccount> entries, CancellationToken cancel) =>
        store.WriteAsync(s => Recorded.AddNobodysAsync(s, target, entries, ThereBefore, time.GetUtcNow()), cancel);

    private static Reason FoundIn(ExistingAccount account) => new(Reason.Baseline, account.Location, ThereBefore);

    /// <summary>What the rules would name the account of somebody; "" where they make none or cannot serve the person.</summary>
    private static string WishOf(Subject person, TargetRule target, Edition edition)
    {
        try
        {
            return Desired.NameWishes(person, edition, target.Name).FirstOrDefault("");
        }
        catch (PlanFault)
        {
            return "";
        }
    }

    /// <summary>What the rules give the owner of an entry now; nothing where they cannot serve the person.</summary>
    private AccessState Given(Subject person, TargetRule target, ExistingAccount account, Edition edition)
    {
        try
        {
            var named = person with { AccountNames = new Dictionary<AccountKey, string> { [target.Name] = account.Name } };
            return Desired.At(named, edition, time.GetUtcNow());
        }
        catch (PlanFault)
        {
            return AccessState.Nothing;
        }
    }
}
