using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Planning;

/// <summary>A stretch of time in which something is so, and why: from an instant up to, and not including, another.</summary>
/// <param name="From"><see cref="DateTimeOffset.MinValue"/> when it always was.</param>
/// <param name="Until"><see cref="DateTimeOffset.MaxValue"/> when no end is known.</param>
public readonly record struct Window<T>(DateTimeOffset From, DateTimeOffset Until, T State, Reason Reason)
{
    /// <summary>True when it is so at the instant.</summary>
    public bool Covers(DateTimeOffset at) => From <= at && at < Until;

    /// <summary>True when it began between two instants and still is.</summary>
    public bool Begins(DateTimeOffset since, DateTimeOffset now) => From >= since && Covers(now);
}

/// <summary>A grant as one rule gives it, before it is joined with others.</summary>
/// <param name="NeedsAccount">True when it is only held while there is an account in its target.</param>
internal readonly record struct GivenGrant(Window<GrantState> Window, bool NeedsAccount);

/// <summary>
/// What a person should have over all time: for each account and each grant the windows in which it is there. An
/// instant, the next change, a chart and a plan are looks into it. Immutable; the same inputs give the same windows.
/// </summary>
public sealed class AccessWindows
{
    private readonly List<Window<AccountState>> _accounts;
    private readonly List<GivenGrant> _grants;
    private readonly IReadOnlyList<string> _refused;
    private IReadOnlyDictionary<AccountKey, IReadOnlyList<Window<AccountState>>>? _joinedAccounts;
    private IReadOnlyDictionary<EntitlementKey, IReadOnlyList<Window<GrantState>>>? _joinedGrants;
    private IReadOnlyList<DateTimeOffset>? _turns;

    /// <summary>Nothing, ever.</summary>
    public static readonly AccessWindows Nothing = new([], [], []);

    /// <param name="accounts">In the order in which the one before wins.</param>
    /// <param name="grants">In the order in which the one before wins.</param>
    internal AccessWindows(List<Window<AccountState>> accounts, List<GivenGrant> grants, IReadOnlyList<string> refused) =>
        (_accounts, _grants, _refused) = (accounts, grants, refused);

    /// <summary>The windows of each account; they do not overlap, stand in order, and each differs from the one before.</summary>
    public IReadOnlyDictionary<AccountKey, IReadOnlyList<Window<AccountState>>> Accounts => _joinedAccounts ??= JoinAccounts();

    /// <summary>The windows of each grant by account and entitlement; they do not overlap and stand in order.</summary>
    public IReadOnlyDictionary<EntitlementKey, IReadOnlyList<Window<GrantState>>> Grants => _joinedGrants ??= JoinGrants();

    /// <summary>The instants at which something changes, in order.</summary>
    public IReadOnlyList<DateTimeOffset> Turns => _turns ??= FindTurns();

    /// <summary>The next instant at which something changes; null when nothing will.</summary>
    public DateTimeOffset? NextAfter(DateTimeOffset at)
    {
        foreach (var turn in Turns)
            if (turn > at)
                return turn;
        return null;
    }

    /// <summary>What is so at an instant.</summary>
    public AccessState At(DateTimeOffset at) => Look(_accounts, _grants, _refused, (DateTimeOffset?)at);

    /// <summary>
    /// Until when a grant that is held at an instant stays held without a gap, whatever the reasons are;
    /// null when it is not held, <see cref="DateTimeOffset.MaxValue"/> when no end is known.
    /// </summary>
    public DateTimeOffset? HeldUntil(EntitlementKey key, DateTimeOffset at)
    {
        DateTimeOffset? until = null;
        foreach (var window in Grants.GetValueOrDefault(key) ?? [])
            if (until is null ? window.Covers(at) : window.From == until)
                until = window.Until;
        return until;
    }

    /// <summary>
    /// Until when an account that may be used at an instant may be used without a gap; null when it may not,
    /// <see cref="DateTimeOffset.MaxValue"/> when no end is known.
    /// </summary>
    public DateTimeOffset? AwakeUntil(AccountKey key, DateTimeOffset at)
    {
        DateTimeOffset? until = null;
        foreach (var window in (Accounts.GetValueOrDefault(key) ?? []).Where(w => w.State.Enabled))
            if (until is null ? window.Covers(at) : window.From == until)
                until = window.Until;
        return until;
    }

    /// <summary>One look into what was given: the order of the rules decides, an approver's refusal last.</summary>
    /// <param name="instant">Null when all that was given covers the instant.</param>
    internal static AccessState Look(
        List<Window<AccountState>> given,
        List<GivenGrant> givenGrants,
        IReadOnlyList<string> refused,
        DateTimeOffset? instant
    )
    {
        var accounts = new Dictionary<AccountKey, AccountState>();
        var grants = new Dictionary<EntitlementKey, GrantState>(16);
        foreach (var window in given)
        {
            if (instant is { } at && !window.Covers(at))
                continue;
            var account = window.State.Account;
            if (!accounts.TryGetValue(account, out var earlier))
                accounts[account] = window.State;
            else if (Joined(earlier.Presence, window.State.Presence) is var presence && presence != earlier.Presence)
                accounts[account] = earlier with { Presence = presence };
        }
        foreach (var grant in givenGrants)
        {
            var state = grant.Window.State;
            if ((instant is not { } at || grant.Window.Covers(at)) && (!grant.NeedsAccount || accounts.ContainsKey(state.Key.Account)))
                grants.TryAdd(state.Key, state);
        }
        foreach (var key in refused)
        {
            // What an approver declined is not given; an account that is not there holds nothing.
            if (EntitlementKey.TryParse(key, out var entitlement))
                grants.Remove(entitlement);
            else if (AccountKey.Parse(key) is var account && accounts.Remove(account))
                foreach (var held in grants.Keys.Where(k => k.Account == account).ToList())
                    grants.Remove(held);
        }
        return new(accounts, grants);
    }

    /// <summary>Of two employments the one that wakes an account wins; of the others the leading one.</summary>
    private static Presence Joined(Presence leading, Presence other) => other == Presence.Awake ? other : leading;

    private Dictionary<AccountKey, IReadOnlyList<Window<AccountState>>> JoinAccounts()
    {
        var joined = new Dictionary<AccountKey, IReadOnlyList<Window<AccountState>>>();
        foreach (var account in _accounts.GroupBy(w => w.State.Account))
        {
            if (_refused.Contains(account.Key.ToString()))
                continue;
            var given = account.ToList();
            var windows = new List<Window<AccountState>>();
            foreach (var (from, until) in Stretches(given.SelectMany(w => new[] { w.From, w.Until })))
            {
                Window<AccountState>? found = null;
                foreach (var window in given.Where(w => w.Covers(from)))
                {
                    if (found is not { } first)
                        found = window with { From = from, Until = until };
                    else if (first.State.Presence != Presence.Awake && window.State.Presence == Presence.Awake)
                        found = first with { State = first.State with { Presence = Presence.Awake }, Reason = window.Reason };
                }
                if (found is not { } next)
                    continue;
                if (
                    windows.Count > 0
                    && windows[^1] is var last
                    && last.Until == from
                    && last.Reason == next.Reason
                    && last.State.IsSameEntry(next.State)
                )
                    windows[^1] = last with { Until = until };
                else
                    windows.Add(next);
            }
            joined[account.Key] = windows;
        }
        return joined;
    }

    private Dictionary<EntitlementKey, IReadOnlyList<Window<GrantState>>> JoinGrants()
    {
        var joined = new Dictionary<EntitlementKey, IReadOnlyList<Window<GrantState>>>();
        foreach (var grant in _grants.GroupBy(g => g.Window.State.Key))
        {
            var account = grant.Key.Account;
            if (_refused.Contains(grant.Key.ToString()) || _refused.Contains(account.ToString()))
                continue;
            var accounts = Accounts.GetValueOrDefault(account) ?? [];
            var windows = new List<Window<GrantState>>();
            foreach (
                var (from, until) in Stretches(
                    grant
                        .SelectMany(g => new[] { g.Window.From, g.Window.Until })
                        .Concat(accounts.SelectMany(a => new[] { a.From, a.Until }))
                )
            )
            {
                var hasAccount = accounts.Any(a => a.Covers(from));
                if (
                    grant.Where(g => g.Window.Covers(from) && (hasAccount || !g.NeedsAccount)).Select(g => (GivenGrant?)g).FirstOrDefault()
                    is not { } given
                )
                    continue;
                var next = given.Window with { From = from, Until = until };
                if (windows.Count > 0 && windows[^1] is var last && last.Until == from && last.State == next.State)
                    windows[^1] = last with { Until = until };
                else
                    windows.Add(next);
            }
            if (windows.Count > 0)
                joined[grant.Key] = windows;
        }
        return joined;
    }

    private static IEnumerable<(DateTimeOffset From, DateTimeOffset Until)> Stretches(IEnumerable<DateTimeOffset> instants)
    {
        DateTimeOffset? last = null;
        foreach (var instant in instants.Distinct().Order())
        {
            if (last is { } from)
                yield return (from, instant);
            last = instant;
        }
    }

    private List<DateTimeOffset> FindTurns()
    {
        var turns = new SortedSet<DateTimeOffset>();
        foreach (var window in _accounts)
            Add(window.From, window.Until);
        foreach (var grant in _grants)
            Add(grant.Window.From, grant.Window.Until);
        return [.. turns];

        void Add(DateTimeOffset from, DateTimeOffset until)
        {
            if (from > DateTimeOffset.MinValue)
                turns.Add(from);
            if (until < DateTimeOffset.MaxValue)
                turns.Add(until);
        }
    }
}
