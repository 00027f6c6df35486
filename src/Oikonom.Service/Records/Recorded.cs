using System.Text.Json;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Common;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Records;

/// <summary>What the store holds of some people, in the terms of the core.</summary>
public sealed class Recorded
{
    private readonly Dictionary<string, PersonRow> _people;
    private readonly ILookup<string, AccountRow> _accounts;
    private readonly ILookup<string, GrantRow> _grants;
    private readonly ILookup<string, NameRow> _names;
    private readonly ILookup<string, PoolNumberRow> _numbers;
    private readonly ILookup<string, ExtraRow> _extras;
    private readonly ILookup<string, FindingRow> _findings;

    private Recorded(
        IReadOnlyList<PersonRow> people,
        IReadOnlyList<AccountRow> accounts,
        IReadOnlyList<GrantRow> grants,
        IReadOnlyList<NameRow> names,
        IReadOnlyList<PoolNumberRow> numbers,
        IReadOnlyList<ExtraRow> extras,
        IReadOnlyList<FindingRow> findings
    )
    {
        _findings = findings.ToLookup(f => f.PersonId);
        _extras = extras.ToLookup(e => e.PersonId);
        _numbers = numbers.ToLookup(n => n.PersonId);
        _people = people.ToDictionary(p => p.Id);
        _accounts = accounts.ToLookup(a => a.PersonId!);
        _grants = grants.ToLookup(g => g.PersonId);
        _names = names.ToLookup(n => n.PersonId);
    }

    public static async Task<Recorded> LoadAsync(Session session, IReadOnlyCollection<string> people) =>
        new(
            await session.PeopleByIdAsync(people),
            await session.AccountsAsync(people),
            await session.GrantsAsync(people, past: false),
            await session.NamesOfAsync(people),
            await session.NumbersOfAsync(people),
            await session.ExtrasAsync(people),
            await session.FindingsAsync(people)
        );

    public PersonRow Person(string id) => _people[id];

    /// <summary>The leading employment as it is shown now: what the sources say, and over it what was approved by hand.</summary>
    public Facts Facts(string id, Edition edition) => Core.People.Facts.FromJson(_people[id].Facts, edition.Rulebook.Attributes);

    public IEnumerable<AccountRow> Accounts(string id) => _accounts[id];

    public AccountRow? Account(string id, AccountKey key) => _accounts[id].FirstOrDefault(a => KeyOf(a) == key);

    public static AccountKey KeyOf(AccountRow row) => new(row.Target, row.Slot);

    public static EntitlementKey KeyOf(GrantRow row) => new(new AccountKey(row.Target, row.Slot), row.Entitlement);

    public IReadOnlyDictionary<AccountKey, string> ImmutableIds(string id) => _accounts[id].ToDictionary(KeyOf, a => a.ImmutableId);

    /// <summary>What the sources say and what was approved by hand, beside each other.</summary>
    public Inputs Inputs(string id, Edition edition) => Records.Inputs.Of(_people[id], _extras[id], edition.Rulebook);

    /// <summary>The person with the names that are theirs: of accounts, else the newest reserved.</summary>
    /// <param name="known">The inputs by that edition, where they were worked out already.</param>
    public Subject Subject(string id, Edition edition, Inputs? known = null)
    {
        var names = new Dictionary<AccountKey, string>();
        var ids = new Dictionary<AccountKey, string>();
        var former = new Dictionary<AccountKey, IReadOnlyList<string>>();
        foreach (var name in _names[id])
            names[new(name.Target, name.Slot)] = name.NameKey;
        foreach (var account in _accounts[id])
        {
            names[KeyOf(account)] = account.Name;
            ids[KeyOf(account)] = account.ImmutableId;
            if (FormerOf(account.Former) is { Count: > 0 } had)
                former[KeyOf(account)] = had;
        }
        var inputs = known ?? Inputs(id, edition);
        var subject = new Subject(PersonId.Parse(id), inputs.Said[0], names)
        {
            Others = [.. inputs.Said.Skip(1)],
            FormerNames = former,
            AccountIds = ids,
        };
        return With(subject, [.. _extras[id]], _numbers[id], edition.Rulebook);
    }

    /// <summary>The names an account had before, as they are kept; the oldest first.</summary>
    public static IReadOnlyList<string> FormerOf(string json) =>
        json.Length <= 2 ? [] : JsonSerializer.Deserialize<List<string>>(json) ?? [];

    /// <summary>The first wish of the rules when a name was given to an account of a person; "" where it was not kept.</summary>
    public string NamedFor(string id, AccountKey account, string name) =>
        _names[id]
            .FirstOrDefault(n =>
                n.Target == account.Target && n.Slot == account.Slot && n.NameKey.Equals(name, StringComparison.OrdinalIgnoreCase)
            )
            ?.Wish
        ?? "";

    /// <summary>The immutable id of the entry that an account had last and that was deleted in its target; null where none was.</summary>
    public string? DeletedEntry(string id, AccountKey account) =>
        Account(id, account) is null
            ? _names[id].LastOrDefault(n => n.Target == account.Target && n.Slot == account.Slot && n.DeletedEntry.Length > 0)?.DeletedEntry
            : null;

    /// <summary>A person with what was approved by hand and the numbers of pools that are theirs.</summary>
    public static Subject With(
        Subject subject,
        IReadOnlyCollection<ExtraRow> extras,
        IEnumerable<PoolNumberRow> numbers,
        Core.Rulebook.Rulebook rulebook
    ) =>
        // A name that was approved is theirs, also while its target still knows the one before.
        extras
            .Where(e => e.Kind == Records.Inputs.NameKind)
            .Aggregate(subject, (named, name) => named.Renamed(AccountKey.Parse(name.Subject), name.Value)) with
        {
            Fields = Records.Inputs.FieldsOf(extras),
            Endings = Records.Inputs.EndingsOf(extras),
            Numbers = numbers.ToDictionary(
                n => n.Pool,
                n => rulebook.Pools.GetValueOrDefault(n.Pool)?.Prefix + n.Number.ToString(System.Globalization.CultureInfo.InvariantCulture)
            ),
            Extra =
            [
                .. extras
                    .Where(e => e.Kind == "grant")
                    .Select(e => new ExtraGrant(
                        EntitlementKey.Parse(e.Subject),
                        e.FromAt.ToInstant(),
                        e.UntilAt.ToInstant(),
                        ReasonOf(e.Reason)
                    )),
            ],
            Asked =
            [
                .. extras
                    .Where(e => e.Kind == "template")
                    .Select(e => new AskedTemplate(e.Subject, e.FromAt.ToInstant(), e.UntilAt.ToInstant())),
            ],
            Refused = [.. extras.Where(e => e.Kind == "refusal").Select(e => e.Subject)],
        };

    public AccessState State(string id)
    {
        var accounts = _accounts[id].ToDictionary(KeyOf, StateOf);
        var grants = _grants[id].Select(g => new GrantState(KeyOf(g), ReasonOf(g.Reason))).ToDictionary(g => g.Key);
        return new(accounts, grants);
    }

    /// <summary>What was found changed outside and nobody lets stay so, by account.</summary>
    public IReadOnlyDictionary<AccountKey, IReadOnlyList<Difference>> Found(string id) =>
        _findings[id]
            .Where(f => f.LeftBy.Length == 0)
            .ToDictionary(f => new AccountKey(f.Target, f.Slot), f => Difference.FromJson(f.Differences));

    /// <summary>All that was found changed outside, also what somebody lets stay so.</summary>
    public IEnumerable<FindingRow> Findings(string id) => _findings[id];

    /// <summary>What is recorded, as it was found in the targets: what a plan starts from.</summary>
    public AccessState Seen(string id) => Found(id).Aggregate(State(id), (state, found) => Outside.Seen(state, found.Key, found.Value));

    /// <summary>An account as it is recorded.</summary>
    public static AccountState StateOf(AccountRow row) =>
        new(
            KeyOf(row),
            row.Name,
            row.Container,
            Attributes(row.Attributes),
            row.Enabled == 1 ? Presence.Awake : Presence.Disabled,
            ReasonOf(row.Reason)
        );

    /// <summary>An entry that was found in a target, as it is recorded: nobody's, until somebody's id is given to it.</summary>
    public static AccountRow RowOf(ExistingAccount entry, string how, IdSeries ids, long now) =>
        new()
        {
            Id = ids.Next().ToString(),
            Target = entry.Target,
            Name = entry.Name,
            Container = entry.Container,
            Location = entry.Location,
            ImmutableId = entry.ImmutableId,
            Attributes = JsonSerializer.Serialize(entry.Attributes),
            Enabled = entry.Enabled ? 1 : 0,
            Reason = JsonSerializer.Serialize(new Reason(Reason.Baseline, entry.Location, how)),
            At = now,
        };

    /// <summary>Records entries that answer to nobody; what is recorded already, for whomever, is left as it is.</summary>
    public static async Task AddNobodysAsync(
        Session s,
        TargetRule target,
        IReadOnlyCollection<ExistingAccount> entries,
        string how,
        DateTimeOffset now
    )
    {
        var ids = new IdSeries(now);
        await s.AddNobodysAsync([
            .. entries.Select(e => RowOf(e, how, ids, now.ToUnixTimeMilliseconds()) with { Purpose = AccountPurpose.Unmatched }),
        ]);
        s.Record(LedgerEntry.Of(now, "oikonom", "accounts.unmatched", null, null, ("target", target.Name), ("count", entries.Count)));
    }

    public static IReadOnlyDictionary<string, IReadOnlyList<string>> Attributes(string json) =>
        new Dictionary<string, IReadOnlyList<string>>(
            (JsonSerializer.Deserialize<Dictionary<string, List<string>>>(json) ?? []).Select(p =>
                KeyValuePair.Create(p.Key, (IReadOnlyList<string>)p.Value)
            ),
            StringComparer.OrdinalIgnoreCase
        );

    public static Reason ReasonOf(string json) => JsonSerializer.Deserialize<Reason>(json) ?? new("", "", "");
}
