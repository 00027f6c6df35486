using System.Diagnostics;
using Oikonom.Core.Intake;
using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Planning;

/// <summary>An entry a target already holds that answers to one of the match keys.</summary>
/// <param name="Container">Where it stands, and <paramref name="Location"/> what it is found by, in the target's own words.</param>
public sealed record ExistingAccount(
    string Target,
    string ImmutableId,
    string Name,
    string Container,
    string Location,
    string MatchedBy,
    IReadOnlyDictionary<string, IReadOnlyList<string>> Attributes,
    bool Enabled,
    IReadOnlyList<string> Entitlements
)
{
    /// <summary>When somebody signed in with it last, where the target keeps that; else null.</summary>
    public DateTimeOffset? LastLogOn { get; init; }
}

/// <summary>Turns the difference between what should be and what is into an ordered plan of dated changes.</summary>
public static class Planner
{
    /// <param name="recorded">What Oikonom holds to be true now; adopted entries are added from <paramref name="existing"/>.</param>
    /// <param name="existing">For accounts of which nothing is recorded: the one entry to adopt.</param>
    /// <param name="earlier">What the rules gave that the person is taken off: attributes they set and these do not know are
    /// emptied.</param>
    public static Plan Make(
        Subject person,
        AccessState recorded,
        IReadOnlyDictionary<AccountKey, string> immutableIds,
        IReadOnlyDictionary<AccountKey, ExistingAccount> existing,
        Edition edition,
        RequestKind kind,
        DateTimeOffset now,
        AccessWindows? earlier = null
    )
    {
        var changes = new List<Change>();
        var windows = Desired.Windows(person, edition);
        var (current, adopted) = Adopt(recorded, existing, edition.Rulebook, windows.At(now));
        var end = Term.Of(person, edition.Rulebook).End;
        var turns = windows.Turns.Where(turn => turn > now).Select(turn => (DateTimeOffset?)turn).Prepend(null);
        var conflicts = new List<Conflict>();
        // When the last thing that is given has begun, what follows lies beyond the request.
        var settled = Employments
            .Now(person, edition.Rulebook, DateTimeOffset.MaxValue)
            .Select(e => Term.Of(e, edition.Rulebook).Start)
            .Concat(person.Fields.Select(f => f.From))
            .Concat(person.Extra.Select(g => g.From))
            .Concat(person.Asked.Select(a => a.From))
            .Append(now)
            .Max();
        foreach (var due in turns)
        {
            var wanted = windows.At(due ?? now);
            foreach (var conflict in Separations.In(wanted, edition.Rulebook))
                if (!conflicts.Exists(c => c.Separation == conflict.Separation))
                    conflicts.Add(conflict);
            var over = (due ?? now) >= end;
            var later = kind != RequestKind.Leaver && due is { } at && (over || at > settled);
            // What a move takes is kept for the hand-over, whether the move is now or on a day that was planned.
            var moves = due is null || person.Fields.Any(f => f.From == due);
            Needs.Require(current, wanted, edition.Rulebook);
            var given = earlier?.At(due ?? now);
            changes.AddRange(Difference(current, wanted, given, adopted, immutableIds, edition.Rulebook, due, moves, later, over, now));
            current = wanted;
            adopted = new Dictionary<AccountKey, ExistingAccount>();
        }
        var ordered = changes
            .OrderBy(c => c.Due ?? DateTimeOffset.MinValue)
            .Select((change, i) => change with { Ordinal = i + 1 })
            .ToList();
        var kept = Kept.Of(person, recorded, windows.At(now), ordered);
        return new(edition.Number, ordered) { Conflicts = conflicts.Count > 0 ? conflicts : null, Kept = kept.Count > 0 ? kept : null };
    }

    /// <summary>
    /// What is recorded as there although its written end has come: accounts that were to be awake until an instant between
    /// <paramref name="since"/> and <paramref name="now"/>, and grants whose window ended then. What nobody had written an end
    /// for before it came, such as what another rule takes or a source tells late, is not in it.
    /// </summary>
    /// <param name="since">The instant from which on ends were known before they came.</param>
    /// <param name="isCovered">True for what is going to be taken away already.</param>
    public static IReadOnlyList<Change> Over(
        AccessWindows windows,
        AccessState recorded,
        IReadOnlyDictionary<AccountKey, string> immutableIds,
        Rulebook.Rulebook rulebook,
        DateTimeOffset since,
        DateTimeOffset now,
        Func<Change, bool> isCovered
    )
    {
        if (recorded.Accounts.Values.All(a => !a.Enabled) && recorded.Grants.Count == 0)
            return [];
        var none = new Dictionary<AccountKey, ExistingAccount>();
        var over = Difference(recorded, windows.At(now), null, none, immutableIds, rulebook, null, false, false, true, now)
            .Where(c => HasEnded(windows, c, since, now) && !isCovered(c))
            .Select(c => c with { Reason = c.Reason with { Condition = TermHasEnded } })
            .ToList();
        var touched = over.Where(c => rulebook.Targets[c.Target].HasAccounts)
            .Select(c => c.Account)
            .Distinct()
            .Select(t => recorded.Accounts.GetValueOrDefault(t))
            .OfType<AccountState>()
            .ToList();
        over.AddRange(
            touched.Select(a => new Change.Verify(
                a.Account,
                Entry.Of(a, immutableIds.GetValueOrDefault(a.Account)) with
                {
                    Enabled = false,
                },
                a.Reason
            ))
        );
        return [.. over.Select((change, i) => change with { Ordinal = i + 1 })];
    }

    /// <summary>
    /// What began between <paramref name="since"/> and <paramref name="now"/> and is not recorded as there: accounts and
    /// entitlements, and accounts that were to wake. What was approved with an earlier plan is under way by its steps; of the
    /// rest people decide.
    /// </summary>
    public static IReadOnlyList<string> Begun(AccessWindows windows, AccessState recorded, DateTimeOffset since, DateTimeOffset now) =>
        [
            .. windows
                .Accounts.Where(a =>
                    a.Value.Any(w =>
                        w.Begins(since, now) && (!recorded.Accounts.TryGetValue(a.Key, out var held) || (w.State.Enabled && !held.Enabled))
                    )
                )
                .Select(a => a.Key.ToString()),
            .. windows
                .Grants.Where(g => !recorded.Grants.ContainsKey(g.Key) && g.Value.Any(w => w.Begins(since, now)))
                .Select(g => g.Key.ToString()),
        ];

    private static bool HasEnded(AccessWindows windows, Change change, DateTimeOffset since, DateTimeOffset now) =>
        change switch
        {
            Change.DisableAccount => windows
                .Accounts.GetValueOrDefault(change.Account)
                ?.Any(w => w.State.Enabled && w.Until >= since && w.Until <= now) == true,
            Change.Revoke revoke => windows.Grants.GetValueOrDefault(revoke.Taken)?.Any(w => w.Until >= since && w.Until <= now) == true,
            _ => false,
        };

    /// <summary>Targets in the order in which a plan goes through them: what others wait for comes first.</summary>
    private static IEnumerable<TargetRule> InOrder(Rulebook.Rulebook rulebook)
    {
        var done = new HashSet<string>(StringComparer.Ordinal);
        while (done.Count < rulebook.Targets.Count)
        {
            foreach (var target in rulebook.Targets.Values)
            {
                if (done.Contains(target.Name) || !target.After.All(done.Contains))
                    continue;
                done.Add(target.Name);
                yield return target;
            }
        }
    }

    /// <summary>
    /// True when the change still lies between what is recorded and what is wanted now; the second look before a
    /// step runs. A plan that would now do something else says so by <see cref="StillWanted.Changed"/>.
    /// </summary>
    /// <param name="isRecorded">True when the account is recorded as there: what was done to it is read back, also when no rule
    /// makes it any more.</param>
    public static StillWanted Look(Change change, AccessState wanted, bool isRecorded = false)
    {
        var account = wanted.Accounts.GetValueOrDefault(change.Account);
        return change switch
        {
            Change.CreateAccount or Change.AdoptAccount or Change.ChangeAccount => account is null ? StillWanted.No
            : LooksAlike(change, account) ? StillWanted.Yes
            : StillWanted.Changed,
            Change.SetPassword => Yes(account is not null),
            Change.Verify => Yes(account is not null || isRecorded),
            Change.EnableAccount => Yes(account is { Enabled: true }),
            Change.DisableAccount => Yes(account is not { Enabled: true }),
            Change.Grant grant => Yes(wanted.Grants.ContainsKey(grant.Given)),
            Change.Revoke revoke => Yes(!wanted.Grants.ContainsKey(revoke.Taken)),
            _ => throw new UnreachableException($"'{change.Kind}' has no second look."),
        };

        static StillWanted Yes(bool wanted) => wanted ? StillWanted.Yes : StillWanted.No;
    }

    private static bool LooksAlike(Change change, AccountState account) =>
        account.Name == change.Entry.Name
        && account.Container == change.Entry.Container
        && change.Attributes.All(a => (account.Attributes.GetValueOrDefault(a.Name) ?? []).SequenceEqual(a.After));

    private static (AccessState Current, IReadOnlyDictionary<AccountKey, ExistingAccount> Adopted) Adopt(
        AccessState recorded,
        IReadOnlyDictionary<AccountKey, ExistingAccount> existing,
        Rulebook.Rulebook rulebook,
        AccessState wanted
    )
    {
        var adopted = existing.Where(pair => !recorded.Accounts.ContainsKey(pair.Key)).ToDictionary(pair => pair.Key, pair => pair.Value);
        if (adopted.Count == 0)
            return (recorded, adopted);
        var accounts = new Dictionary<AccountKey, AccountState>(recorded.Accounts);
        var grants = new Dictionary<EntitlementKey, GrantState>(recorded.Grants);
        foreach (var (account, found) in adopted)
        {
            var reason = new Reason(Reason.Adoption, found.Location, $"matched by {found.MatchedBy}");
            accounts[account] = new(
                account,
                found.Name,
                found.Container,
                found.Attributes,
                found.Enabled ? Presence.Awake : Presence.Disabled,
                reason
            );
            var given = wanted.Grants.Keys.Where(k => k.Account == account).Select(k => k.Name).ToHashSet(StringComparer.Ordinal);
            foreach (var name in rulebook.Targets[account.Target].Ours(found.Entitlements, given))
                grants[new(account, name)] = new(new(account, name), reason);
        }
        return (new(accounts, grants), adopted);
    }

    private static IEnumerable<Change> Difference(
        AccessState current,
        AccessState wanted,
        AccessState? given,
        IReadOnlyDictionary<AccountKey, ExistingAccount> adopted,
        IReadOnlyDictionary<AccountKey, string> immutableIds,
        Rulebook.Rulebook rulebook,
        DateTimeOffset? due,
        bool moves,
        bool later,
        bool over,
        DateTimeOffset now
    )
    {
        foreach (var target in InOrder(rulebook))
        {
            if (!target.HasAccounts)
            {
                foreach (var change in WithoutAccount(current, wanted, target, rulebook, due, moves, later, over, now))
                    yield return change;
                continue;
            }
            foreach (var key in AccountsIn(target, current, wanted))
            foreach (var change in OfAccount(key, target))
                yield return change;
        }

        IEnumerable<Change> OfAccount(AccountKey key, TargetRule target)
        {
            var before = current.Accounts.GetValueOrDefault(key);
            var after = wanted.Accounts.GetValueOrDefault(key);
            var account = after ?? before;
            // Nobody gets a first account when the employment is over; what was found and is not wanted yet is taken over on its day.
            if (account is null || (before is null && over) || (after is null && adopted.ContainsKey(key)))
                yield break;
            var entry = Entry.Of(account, immutableIds.GetValueOrDefault(key) ?? adopted.GetValueOrDefault(key)?.ImmutableId);
            var dropped = given?.Accounts.GetValueOrDefault(key)?.Attributes.Where(a => a.Value.Count > 0).Select(a => a.Key);
            var found = AccountChanges(before, after, dropped ?? [], target, entry, adopted.ContainsKey(key)).ToList();
            found.AddRange(Given(current, wanted, key, target, entry));
            var lost = NoLongerWanted(current, wanted, key, target)
                .Select(g => Loss(g, entry, after is { Enabled: true }, moves, rulebook, due ?? now))
                .ToLookup(c => c.Later);
            found.AddRange(lost[false]);
            var readsBack = target.Settings.Can.HasFlag(TargetAbilities.ReadBack);
            foreach (var change in lost[true])
            {
                yield return change;
                if (readsBack)
                    yield return new Change.Verify(key, entry, account.Reason) { Due = change.Due, Later = true };
            }
            if (found.Count == 0)
                yield break;
            foreach (var change in AccessFirst(found))
                yield return change with
                {
                    Due = due,
                    Later = later,
                };
            if (readsBack)
                yield return new Change.Verify(key, entry, account.Reason) { Due = due, Later = later };
        }
    }

    /// <summary>How a grant that nothing gives any more ends: now, or after the hand-over of who moves and stays.</summary>
    private static Change.Revoke Loss(
        GrantState grant,
        Entry entry,
        bool stays,
        bool moves,
        Rulebook.Rulebook rulebook,
        DateTimeOffset from
    )
    {
        var reason = grant.Reason with { Condition = WhyOver(grant.Reason, !stays) };
        var handOver = stays && moves ? HandOver(rulebook, grant) : TimeSpan.Zero;
        if (handOver == TimeSpan.Zero)
            return new(grant.Key, entry, reason);
        reason = reason with { Condition = $"{NoTemplateGives}; kept for the hand-over of {System.Xml.XmlConvert.ToString(handOver)}" };
        return new(grant.Key, entry, reason) { Due = from + handOver, Later = true };
    }

    /// <summary>Access goes first when somebody leaves: disabling stands before everything else, save that an account is ours.</summary>
    private static IEnumerable<Change> AccessFirst(IEnumerable<Change> changes) =>
        changes.OrderBy(c =>
            c switch
            {
                Change.AdoptAccount => 0,
                Change.DisableAccount => 1,
                _ => 2,
            }
        );

    /// <summary>The accounts of a target in the order of their slots, the ordinary one first.</summary>
    private static IEnumerable<AccountKey> AccountsIn(TargetRule target, AccessState current, AccessState wanted) =>
        current.Accounts.Keys.Concat(wanted.Accounts.Keys).Where(k => k.Target == target.Name).Distinct().Order();

    private const string TermHasEnded = "the term has ended";
    private const string NoTemplateGives = "no template gives it any more";
    private const string NoRuleGives = "was there, and no rule gives it";

    /// <summary>Why something that is held is wanted no more.</summary>
    private static string WhyOver(Reason given, bool hasEnded) =>
        hasEnded || given.Rule == "request" ? TermHasEnded
        : given.IsFound ? NoRuleGives
        : NoTemplateGives;

    /// <summary>What is to be done about the account itself.</summary>
    private static IEnumerable<Change> AccountChanges(
        AccountState? before,
        AccountState? after,
        IEnumerable<string> given,
        TargetRule target,
        Entry entry,
        bool isAdopted
    )
    {
        if (after is null)
        {
            if (before is { Enabled: true })
                yield return new Change.DisableAccount(
                    before.Account,
                    entry,
                    before.Reason with
                    {
                        Condition = "no template makes this account any more",
                    }
                );
            yield break;
        }
        if (before is null)
        {
            yield return new Change.CreateAccount(
                after.Account,
                entry,
                [.. after.Attributes.Where(a => a.Value.Count > 0).Select(a => new AttributeChange(a.Key, [], a.Value))],
                after.Reason
            );
            if (target.Settings.Can.HasFlag(TargetAbilities.Passwords))
                yield return new Change.SetPassword(after.Account, entry, after.Reason);
            yield break;
        }
        var attributes = AttributeChanges(before, after, given);
        if (isAdopted)
            yield return new Change.AdoptAccount(after.Account, entry, attributes, after.Reason);
        else if (attributes.Count > 0 || !Same(before.Container, after.Container))
            yield return new Change.ChangeAccount(after.Account, entry, attributes, after.Reason);
        if (before.Enabled != after.Enabled)
            yield return after.Enabled
                ? new Change.EnableAccount(after.Account, entry, TermOf(after))
                : new Change.DisableAccount(after.Account, entry, TermOf(after));
    }

    private static IEnumerable<Change> Given(AccessState current, AccessState wanted, AccountKey account, TargetRule target, Entry entry) =>
        wanted
            .Grants.Values.Where(g => g.Key.Account == account && !current.Grants.ContainsKey(g.Key))
            .OrderBy(g => target.Depth(g.Entitlement))
            .ThenBy(g => g.Key)
            .Select(g => new Change.Grant(g.Key, entry, g.Reason));

    private static IEnumerable<GrantState> NoLongerWanted(AccessState current, AccessState wanted, AccountKey account, TargetRule target) =>
        current
            .Grants.Values.Where(g =>
                g.Key.Account == account && !wanted.Grants.ContainsKey(g.Key) && target.Entitlements.ContainsKey(g.Entitlement)
            )
            .OrderByDescending(g => target.Depth(g.Entitlement))
            .ThenBy(g => g.Key);

    /// <summary>What is given and taken back where nobody has an account.</summary>
    private static IEnumerable<Change> WithoutAccount(
        AccessState current,
        AccessState wanted,
        TargetRule target,
        Rulebook.Rulebook rulebook,
        DateTimeOffset? due,
        bool moves,
        bool later,
        bool over,
        DateTimeOffset now
    )
    {
        foreach (var change in Given(current, wanted, target.Name, target, Entry.None))
            yield return change with
            {
                Due = due,
                Later = later,
            };
        foreach (var grant in NoLongerWanted(current, wanted, target.Name, target))
        {
            var handOver = !over && moves ? HandOver(rulebook, grant) : TimeSpan.Zero;
            var reason = grant.Reason with { Condition = WhyOver(grant.Reason, over) };
            yield return new Change.Revoke(grant.Key, Entry.None, reason)
            {
                Due = handOver > TimeSpan.Zero ? (due ?? now) + handOver : due,
                Later = later || handOver > TimeSpan.Zero,
            };
        }
    }

    private static TimeSpan HandOver(Rulebook.Rulebook rulebook, GrantState grant) =>
        rulebook
            .Templates.Where(t => t.Name == grant.Reason.Rule)
            .SelectMany(t => t.Grants)
            .Where(g => g.Key == (rulebook.Find(grant.Key)?.Mirrors ?? grant.Key))
            .Select(g => g.HandOver)
            .DefaultIfEmpty()
            .Max();

    private static Reason TermOf(AccountState account) =>
        account.Reason with
        {
            Condition = account.Enabled ? "the first day has begun" : "outside the employment",
        };

    private static bool Same(string left, string right) =>
        string.Equals(
            left.Replace(" ", "", StringComparison.Ordinal),
            right.Replace(" ", "", StringComparison.Ordinal),
            StringComparison.OrdinalIgnoreCase
        );

    /// <summary>True when the values are the same, in whatever order.</summary>
    private static bool AreSame(IReadOnlyList<string> before, IReadOnlyList<string> after) =>
        before.Count == after.Count
        && (
            before.SequenceEqual(after, StringComparer.Ordinal)
            || (
                before.Count > 1
                && before.Order(StringComparer.Ordinal).SequenceEqual(after.Order(StringComparer.Ordinal), StringComparer.Ordinal)
            )
        );

    /// <param name="given">Attributes that rules of before set: what these do not know any more is emptied.</param>
    private static List<AttributeChange> AttributeChanges(AccountState before, AccountState after, IEnumerable<string> given)
    {
        var old = new Dictionary<string, IReadOnlyList<string>>(before.Attributes, StringComparer.OrdinalIgnoreCase);
        return
        [
            .. after
                .Attributes.Select(a => new AttributeChange(a.Key, old.GetValueOrDefault(a.Key) ?? [], a.Value))
                .Where(c => !AreSame(c.Before, c.After)),
            .. given
                .Where(name => !after.Attributes.ContainsKey(name) && old.GetValueOrDefault(name) is { Count: > 0 })
                .Select(name => new AttributeChange(name, old[name], [])),
        ];
    }
}

/// <summary>What the second look found.</summary>
public enum StillWanted
{
    Yes,
    No,
    Changed,
}
