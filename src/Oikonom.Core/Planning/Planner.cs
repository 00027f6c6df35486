using Oikonom.Core.Intake;
using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Planning;

/// <summary>An entry a target already holds that answers to one of the match keys.</summary>
public sealed record ExistingAccount(
    string Target, string ImmutableId, string Name, string Location, string MatchedBy,
    IReadOnlyDictionary<string, IReadOnlyList<string>> Attributes, bool Enabled, IReadOnlyList<string> Entitlements);

/// <summary>Turns the difference between what should be and what is into an ordered plan of dated changes.</summary>
public static class Planner
{
    /// <param name="recorded">What Oikonom holds to be true now; adopted entries are added from <paramref name="existing"/>.</param>
    /// <param name="existing">For targets where nothing is recorded: the one entry to adopt.</param>
    public static Plan Make(
        Subject person, AccessState recorded, IReadOnlyDictionary<string, string> immutableIds, IReadOnlyDictionary<string, ExistingAccount> existing,
        Edition edition, RequestKind kind, DateTimeOffset now)
    {
        var changes = new List<Change>();
        var (current, adopted) = Adopt(recorded, existing, edition.Rulebook);
        var end = Term.Of(person, edition.Rulebook).End;
        Privileges.RequireEnds(person.Extra, edition.Rulebook);
        var windows = Desired.Windows(person, edition);
        var turns = windows.Turns.Where(turn => turn > now).Select(turn => (DateTimeOffset?)turn).Prepend(null);
        var conflicts = new List<Conflict>();
        // When the last thing that is given has begun, what follows lies beyond the request.
        var settled = Employments.Now(person, edition.Rulebook, DateTimeOffset.MaxValue).Select(e => Term.Of(e, edition.Rulebook).Start).Concat(person.Fields.Select(f => f.From)).Concat(person.Extra.Select(g => g.From)).Concat(person.Asked.Select(a => a.From)).Append(now).Max();
        foreach (var due in turns)
        {
            var wanted = windows.At(due ?? now);
            foreach (var conflict in Separations.In(wanted, edition.Rulebook))
                if (!conflicts.Exists(c => c.Separation == conflict.Separation)) conflicts.Add(conflict);
            var over = (due ?? now) >= end;
            var later = kind != RequestKind.Leaver && due is { } at && (over || at > settled);
            // What a move takes is kept for the hand-over, whether the move is now or on a day that was planned.
            var moves = due is null || person.Fields.Any(f => f.From == due);
            changes.AddRange(Difference(current, wanted, adopted, immutableIds, edition.Rulebook, due, moves, later, over, now));
            current = wanted;
            adopted = new Dictionary<string, ExistingAccount>();
        }
        return new(edition.Number, [.. changes.OrderBy(c => c.Due ?? DateTimeOffset.MinValue).Select((change, i) => change with { Ordinal = i + 1 })]) { Conflicts = conflicts.Count > 0 ? conflicts : null };
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
        IReadOnlyDictionary<string, string> immutableIds,
        Rulebook.Rulebook rulebook,
        DateTimeOffset since,
        DateTimeOffset now,
        Func<Change, bool> isCovered
    )
    {
        if (recorded.Accounts.Values.All(a => !a.Enabled) && recorded.Grants.Count == 0) return [];
        var none = new Dictionary<string, ExistingAccount>();
        var over = Difference(recorded, windows.At(now), none, immutableIds, rulebook, null, false, false, true, now)
            .Where(c => HasEnded(windows, c, since, now) && !isCovered(c))
            .Select(c => c with { Reason = c.Reason with { Condition = "the term has ended" } })
            .ToList();
        var touched = over.Select(c => c.Target).Where(t => rulebook.Targets[t].Desk is null).Distinct().Select(t => recorded.Accounts.GetValueOrDefault(t)).OfType<AccountState>().ToList();
        over.AddRange(touched.Select(a => new Change(0, ChangeKind.Verify, a.Target, a.Name, null, false, a.Name, a.Container, a.Classes, [], false, immutableIds.GetValueOrDefault(a.Target), a.Reason)));
        return [.. over.Select((change, i) => change with { Ordinal = i + 1 })];
    }

    private static bool HasEnded(AccessWindows windows, Change change, DateTimeOffset since, DateTimeOffset now) =>
        change.Kind switch
        {
            ChangeKind.DisableAccount => windows.Accounts.GetValueOrDefault(change.Target)?.Any(w => w.State.Enabled && w.Until >= since && w.Until <= now) == true,
            ChangeKind.Revoke => windows.Grants.GetValueOrDefault($"{change.Target}/{change.Subject}")?.Any(w => w.Until >= since && w.Until <= now) == true,
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
                if (done.Contains(target.Name) || !target.After.All(done.Contains)) continue;
                done.Add(target.Name);
                yield return target;
            }
        }
    }

    /// <summary>
    /// True when the change still lies between what is recorded and what is wanted now; the second look before a
    /// step runs. A plan that would now do something else says so by <see cref="StillWanted.Changed"/>.
    /// </summary>
    public static StillWanted Look(Change change, AccessState wanted)
    {
        var account = wanted.Accounts.GetValueOrDefault(change.Target);
        switch (change.Kind)
        {
            case ChangeKind.CreateAccount or ChangeKind.AdoptAccount or ChangeKind.ChangeAccount:
                if (account is null) return StillWanted.No;
                var same = account.Name == change.Account && account.Container == change.Container &&
                    change.Attributes.All(a => (account.Attributes.GetValueOrDefault(a.Name) ?? []).SequenceEqual(a.After));
                return same ? StillWanted.Yes : StillWanted.Changed;
            case ChangeKind.SetPassword or ChangeKind.Verify:
                return account is null ? StillWanted.No : StillWanted.Yes;
            case ChangeKind.EnableAccount:
                return account is { Enabled: true } ? StillWanted.Yes : StillWanted.No;
            case ChangeKind.DisableAccount:
                return account is { Enabled: true } ? StillWanted.No : StillWanted.Yes;
            case ChangeKind.Grant:
                return wanted.Grants.ContainsKey($"{change.Target}/{change.Subject}") ? StillWanted.Yes : StillWanted.No;
            default:
                return wanted.Grants.ContainsKey($"{change.Target}/{change.Subject}") ? StillWanted.No : StillWanted.Yes;
        }
    }

    private static (AccessState Current, IReadOnlyDictionary<string, ExistingAccount> Adopted) Adopt(
        AccessState recorded, IReadOnlyDictionary<string, ExistingAccount> existing, Rulebook.Rulebook rulebook)
    {
        var adopted = existing.Where(pair => !recorded.Accounts.ContainsKey(pair.Key)).ToDictionary(pair => pair.Key, pair => pair.Value);
        if (adopted.Count == 0) return (recorded, adopted);
        var accounts = new Dictionary<string, AccountState>(recorded.Accounts);
        var grants = new Dictionary<string, GrantState>(recorded.Grants);
        foreach (var (target, found) in adopted)
        {
            var reason = new Reason("adoption", found.Location, $"matched by {found.MatchedBy}");
            var container = found.Location.Contains(',', StringComparison.Ordinal) ? found.Location[(found.Location.IndexOf(',', StringComparison.Ordinal) + 1)..] : "";
            accounts[target] = new(target, found.Name, container, rulebook.Targets[target].Classes, found.Attributes, found.Enabled ? Presence.Awake : Presence.Disabled, reason);
            foreach (var entitlement in found.Entitlements) grants[$"{target}/{entitlement}"] = new(target, entitlement, reason);
        }
        return (new(accounts, grants), adopted);
    }

    private static IEnumerable<Change> Difference(
        AccessState current, AccessState wanted, IReadOnlyDictionary<string, ExistingAccount> adopted, IReadOnlyDictionary<string, string> immutableIds,
        Rulebook.Rulebook rulebook, DateTimeOffset? due, bool moves, bool later, bool over, DateTimeOffset now)
    {
        foreach (var target in InOrder(rulebook))
        {
            var before = current.Accounts.GetValueOrDefault(target.Name);
            var after = wanted.Accounts.GetValueOrDefault(target.Name);
            if (target.Desk is not null)
            {
                foreach (var change in ByHand(current, wanted, target, rulebook, due, moves, later, over, now)) yield return change;
                continue;
            }
            var account = after ?? before;
            // Nobody gets a first account when the employment is over.
            if (account is null || (before is null && over)) continue;
            var id = immutableIds.GetValueOrDefault(target.Name) ?? adopted.GetValueOrDefault(target.Name)?.ImmutableId;
            var found = new List<Change>();
            if (after is not null && before is null)
            {
                found.Add(Of(ChangeKind.CreateAccount, after.Name, [.. after.Attributes.Where(a => a.Value.Count > 0).Select(a => new AttributeChange(a.Key, [], a.Value))], after.Reason));
                found.Add(Of(ChangeKind.SetPassword, after.Name, [], after.Reason));
            }
            else if (after is not null && before is not null)
            {
                var attributes = AttributeChanges(before, after);
                if (adopted.ContainsKey(target.Name)) found.Add(Of(ChangeKind.AdoptAccount, after.Name, attributes, after.Reason));
                else if (attributes.Count > 0 || !Same(before.Container, after.Container)) found.Add(Of(ChangeKind.ChangeAccount, after.Name, attributes, after.Reason));
                if (before.Enabled != after.Enabled)
                    found.Add(Of(after.Enabled ? ChangeKind.EnableAccount : ChangeKind.DisableAccount, after.Name, [], TermOf(after)));
            }
            else if (before is { Enabled: true })
            {
                found.Add(Of(ChangeKind.DisableAccount, before.Name, [], new(before.Reason.Rule, before.Reason.Place, "no template makes this account any more")));
            }
            foreach (var (key, grant) in wanted.Grants.Where(g => g.Value.Target == target.Name).OrderBy(g => g.Key, StringComparer.Ordinal))
                if (!current.Grants.ContainsKey(key)) found.Add(Of(ChangeKind.Grant, grant.Entitlement, [], grant.Reason));
            var kept = new List<Change>();
            foreach (var (key, grant) in current.Grants.Where(g => g.Value.Target == target.Name).OrderBy(g => g.Key, StringComparer.Ordinal))
            {
                if (wanted.Grants.ContainsKey(key) || !target.Entitlements.ContainsKey(grant.Entitlement)) continue;
                var stays = after is { Enabled: true };
                var revoke = Of(ChangeKind.Revoke, grant.Entitlement, [], grant.Reason with { Condition = !stays || grant.Reason.Rule == "request" ? "the term has ended" : "no template gives it any more" });
                var handOver = stays && moves ? HandOver(rulebook, grant) : TimeSpan.Zero;
                if (handOver == TimeSpan.Zero) found.Add(revoke);
                else kept.Add(revoke with { Due = (due ?? now) + handOver, Later = true, Reason = revoke.Reason with { Condition = $"no template gives it any more; kept for the hand-over of {System.Xml.XmlConvert.ToString(handOver)}" } });
            }
            foreach (var change in kept)
            {
                yield return change;
                yield return Of(ChangeKind.Verify, account.Name, [], account.Reason) with { Due = change.Due, Later = true };
            }
            if (found.Count == 0) continue;
            // Access goes first when somebody leaves: disabling stands before everything else.
            foreach (var change in found.OrderBy(c => c.Kind == ChangeKind.DisableAccount ? 0 : 1)) yield return change;
            yield return Of(ChangeKind.Verify, account.Name, [], account.Reason);

            Change Of(ChangeKind kind, string subject, IReadOnlyList<AttributeChange> attributes, Reason reason) => new(
                0, kind, target.Name, subject, due, later, account.Name, account.Container, account.Classes, attributes, account.Enabled, id, reason);
        }
    }

    /// <summary>What people at a desk give and take back.</summary>
    private static IEnumerable<Change> ByHand(AccessState current, AccessState wanted, TargetRule target, Rulebook.Rulebook rulebook, DateTimeOffset? due, bool moves, bool later, bool over, DateTimeOffset now)
    {
        foreach (var (key, grant) in wanted.Grants.Where(g => g.Value.Target == target.Name).OrderBy(g => g.Key, StringComparer.Ordinal))
            if (!current.Grants.ContainsKey(key)) yield return Of(ChangeKind.Grant, grant.Entitlement, grant.Reason) with { Due = due, Later = later };
        foreach (var (key, grant) in current.Grants.Where(g => g.Value.Target == target.Name).OrderBy(g => g.Key, StringComparer.Ordinal))
        {
            if (wanted.Grants.ContainsKey(key) || !target.Entitlements.ContainsKey(grant.Entitlement)) continue;
            var handOver = !over && moves ? HandOver(rulebook, grant) : TimeSpan.Zero;
            var reason = grant.Reason with { Condition = over || grant.Reason.Rule == "request" ? "the term has ended" : "no template gives it any more" };
            yield return Of(ChangeKind.Revoke, grant.Entitlement, reason) with { Due = handOver > TimeSpan.Zero ? (due ?? now) + handOver : due, Later = later || handOver > TimeSpan.Zero };
        }

        Change Of(ChangeKind kind, string subject, Reason reason) => new(0, kind, target.Name, subject, null, false, "", "", [], [], true, null, reason);
    }

    private static TimeSpan HandOver(Rulebook.Rulebook rulebook, GrantState grant) => rulebook.Templates
        .Where(t => t.Name == grant.Reason.Rule).SelectMany(t => t.Grants).Where(g => g.Key == grant.Key).Select(g => g.HandOver).DefaultIfEmpty().Max();

    private static Reason TermOf(AccountState account) => account.Reason with { Condition = account.Enabled ? "the first day has begun" : "outside the employment" };

    private static bool Same(string left, string right) =>
        string.Equals(left.Replace(" ", "", StringComparison.Ordinal), right.Replace(" ", "", StringComparison.Ordinal), StringComparison.OrdinalIgnoreCase);

    private static List<AttributeChange> AttributeChanges(AccountState before, AccountState after)
    {
        var old = new Dictionary<string, IReadOnlyList<string>>(before.Attributes, StringComparer.OrdinalIgnoreCase);
        return [.. after.Attributes
            .Select(a => new AttributeChange(a.Key, old.GetValueOrDefault(a.Key) ?? [], a.Value))
            .Where(c => !c.Before.Order(StringComparer.Ordinal).SequenceEqual(c.After.Order(StringComparer.Ordinal)))];
    }
}

/// <summary>What the second look found.</summary>
public enum StillWanted { Yes, No, Changed }
