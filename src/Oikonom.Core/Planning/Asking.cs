using Oikonom.Core.Expressions;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;

namespace Oikonom.Core.Planning;

/// <summary>Asks the function for one person after another; keeps its working memory. One serves one thread.</summary>
public sealed class Asking
{
    private readonly AccessFunction _function;
    private readonly Scope _scope;
    private readonly Scope _accountScope;
    private readonly bool[] _matches;
    private IReadOnlyList<AskedTemplate> _asked = [];

    /// <summary>The instant asked about; null when the whole time counts.</summary>
    private DateTimeOffset? _at;

    // The stretch in which the same rules hold, and the part of it that is asked about.
    private DateTimeOffset _begin;
    private DateTimeOffset _end;
    private DateTimeOffset _from;
    private DateTimeOffset _until;
    private readonly List<Window<AccountState>> _accounts = new(8);
    private readonly List<GivenGrant> _grants = new(32);
    private readonly Facts[] _single = new Facts[1];

    internal Asking(AccessFunction function)
    {
        _function = function;
        _scope = new(function.Rulebook.Attributes);
        _accountScope = new(function.Rulebook.AccountNames);
        _matches = new bool[function.Templates.Length];
    }

    /// <summary>What the person should have over all time.</summary>
    /// <exception cref="PlanFault">Two templates contradict each other, or something cannot be computed.</exception>
    public AccessWindows Windows(Subject person)
    {
        Collect(person, DateTimeOffset.MinValue, DateTimeOffset.MaxValue);
        return new([.. _accounts], [.. _grants], person.Refused);
    }

    /// <summary>What should be true in every target at <paramref name="at"/>: a look into the windows, of which no others are
    /// worked out.</summary>
    /// <inheritdoc cref="Windows"/>
    public AccessState At(Subject person, DateTimeOffset at)
    {
        Collect(person, at, at < DateTimeOffset.MaxValue ? at.AddTicks(1) : at);
        // Only what covers the instant was collected.
        return AccessWindows.Look(_accounts, _grants, person.Refused, null);
    }

    /// <summary>
    /// The same, with all of the time after it in view: the instants at which something changes later are added to
    /// <paramref name="turns"/>, in no order.
    /// </summary>
    /// <exception cref="PlanFault">Two templates contradict each other then or later, or something cannot be computed.</exception>
    internal AccessState From(Subject person, DateTimeOffset at, List<DateTimeOffset> turns)
    {
        Collect(person, at, DateTimeOffset.MaxValue);
        foreach (var window in _accounts)
            Add(window.From, window.Until);
        foreach (var grant in _grants)
            Add(grant.Window.From, grant.Window.Until);
        return AccessWindows.Look(_accounts, _grants, person.Refused, (DateTimeOffset?)at);

        void Add(DateTimeOffset from, DateTimeOffset until)
        {
            if (from > at)
                turns.Add(from);
            if (until > at && until < DateTimeOffset.MaxValue)
                turns.Add(until);
        }
    }

    /// <summary>Works out what is given in a part of time.</summary>
    private void Collect(Subject person, DateTimeOffset from, DateTimeOffset until)
    {
        _accounts.Clear();
        _grants.Clear();
        _asked = person.Asked;
        CollectRules(person, from, until);
        if (_function.LeastRoles.Count > 0)
            AddLeastRoles(person, from, until);
    }

    /// <summary>Who may use an account and has no role in it has the least one.</summary>
    private void AddLeastRoles(Subject person, DateTimeOffset first, DateTimeOffset last)
    {
        foreach (var awake in _accounts)
        {
            if (awake.State.Presence != Presence.Awake || !_function.LeastRoles.TryGetValue(awake.State.Target, out var least))
                continue;
            var key = new EntitlementKey(awake.State.Account, least.Role.Name);
            var reason = new Reason(
                Reason.LeastRole,
                $"{least.Role.Place.File}:{least.Role.Place.Line}",
                $"the least role in {least.Title}, while no other is given"
            );
            var more = _grants
                .Where(g => g.Window.State.Key is var other && other.Account == key.Account && least.Others.Contains(other.Name))
                .Where(g => !person.Refused.Contains(g.Window.State.Key.ToString()))
                .Select(g => (g.Window.From, g.Window.Until))
                .Where(w => w.Until > awake.From && w.From < awake.Until)
                .OrderBy(w => w.From)
                .ToList();
            var from = awake.From;
            foreach (var (begins, ends) in more)
            {
                Hold(begins);
                if (ends > from)
                    from = ends;
            }
            Hold(awake.Until);

            // Of what lies outside the part of time that is asked about nothing is given.
            void Hold(DateTimeOffset until)
            {
                if (from < until && until > first && from < last)
                    Put(from, until, new(key, reason), true);
            }
        }
    }

    /// <summary>From stretches in which the same rules hold for the same facts.</summary>
    private void CollectRules(Subject person, DateTimeOffset from, DateTimeOffset until)
    {
        if (person.Others.Count == 0 && person.Asked.Count == 0 && person.Fields.Count == 0)
        {
            _single[0] = person.Facts;
            Stretch(person, _single, DateTimeOffset.MinValue, DateTimeOffset.MaxValue, from, until);
            return;
        }
        foreach (var (begin, end) in Parts(InputsOf(person), DateTimeOffset.MinValue, DateTimeOffset.MaxValue))
        {
            if (end <= from || begin >= until)
                continue;
            var employments = Employments.Now(person, _function.Rulebook, begin);
            if (employments.Count == 1)
            {
                Stretch(person, employments, begin, end, from, until);
                continue;
            }
            foreach (
                var (first, last) in Parts(employments.Select(e => TermOf(person, e)).SelectMany(t => new[] { t.Start, t.End }), begin, end)
            )
                if (last > from && first < until)
                    Stretch(person, Employments.InOrder(employments, person.Endings, _function.Rulebook, first), first, last, from, until);
        }
    }

    private static IEnumerable<DateTimeOffset> InputsOf(Subject person) =>
        person
            .Asked.SelectMany(a => new[] { a.From, a.Until ?? DateTimeOffset.MaxValue })
            .Concat(person.Fields.SelectMany(f => new[] { f.From, f.Until ?? DateTimeOffset.MaxValue }));

    /// <summary>The parts between <paramref name="begin"/> and <paramref name="end"/> that the instants make.</summary>
    private static IEnumerable<(DateTimeOffset Begin, DateTimeOffset End)> Parts(
        IEnumerable<DateTimeOffset> instants,
        DateTimeOffset begin,
        DateTimeOffset end
    )
    {
        foreach (var instant in instants.Where(i => i > begin && i < end).Distinct().Order().ToList())
        {
            yield return (begin, instant);
            begin = instant;
        }
        yield return (begin, end);
    }

    private Term TermOf(Subject person, Facts employment) =>
        Term.Of(employment, _function.Rulebook.ZoneOf(employment.Site), person.Endings);

    /// <summary>One stretch, in which the employments, their order and the templates on request stay the same.</summary>
    private void Stretch(
        Subject person,
        IReadOnlyList<Facts> employments,
        DateTimeOffset begin,
        DateTimeOffset end,
        DateTimeOffset from,
        DateTimeOffset until
    )
    {
        _at = begin;
        (_from, _until) = (begin > from ? begin : from, end < until ? end : until);
        (_begin, _end) = (begin, end);
        var (first, over) = (DateTimeOffset.MaxValue, DateTimeOffset.MinValue);
        for (var i = 0; i < employments.Count; i++)
        {
            var employment = employments[i];
            Match(employment);
            var zone = _function.Rulebook.ZoneOf(employment.Site);
            var term = Term.Of(employment, zone, person.Endings);
            if (term.End > over)
                over = term.End;
            if (term.Start < first)
                first = term.Start;
            AddAccounts(person, zone, term);
            AddGrants(zone, term);
        }
        if (person.Extra.Count == 0)
            return;
        foreach (var grant in person.Extra)
        {
            var last = grant.Until is { } given && given < over ? given : over;
            // Work by hand may begin before the first day; access never does.
            var isDesk = _function.IsDesk(grant.Key.Target);
            Give(isDesk || grant.From > first ? grant.From : first, last, new(grant.Key, grant.Reason), !isDesk);
        }
    }

    private void AddAccounts(Subject person, TimeZoneInfo zone, Term term)
    {
        // An employment that never was gives nothing; one that was ended by hand before it began keeps its account disabled.
        if (term.End <= term.Start && !term.IsCut)
            return;
        foreach (var slot in _function.Slots)
        {
            if (Maker(slot) is not { } maker || !person.AccountNames.TryGetValue(slot.Key, out var name))
                continue;
            var made = term.MadeFrom(maker.Rule.Lead);
            if (made >= _until)
                continue;
            var first = maker.Rule.EnabledFrom is { } begins ? StartOf(begins, maker.Rule.Place, zone, term.Start) : term.Start;
            var last = maker.Rule.EnabledUntil is { } ends ? EndOf(ends, maker.Rule.Place, zone, term.End) : term.End;
            if (term.IsCut && term.End < last)
                last = term.End;
            if (first >= last)
                first = last = made;
            IReadOnlyDictionary<string, IReadOnlyList<string>>? attributes = null;
            IReadOnlyList<PendingAttribute> pending = [];
            var container = "";
            Be(made, first, Presence.Asleep, maker.Before);
            Be(first > made ? first : made, last, Presence.Awake, maker.Reason);
            Be(last > made ? last : made, DateTimeOffset.MaxValue, Presence.Disabled, maker.After);

            void Be(DateTimeOffset from, DateTimeOffset until, Presence presence, Reason reason)
            {
                if (from < _begin)
                    from = _begin;
                if (until > _end)
                    until = _end;
                if (from >= until || from >= _until || until <= _from)
                    return;
                if (attributes is null)
                {
                    (attributes, container) = (Attributes(person, slot, name), Container(slot, maker.Rule));
                    pending = Pending(person, slot);
                }
                var state = new AccountState(slot.Key, name, container, attributes, presence, maker.Reason) { Pending = pending };
                _accounts.Add(new(from, until, state, reason));
            }
        }
    }

    private void AddGrants(TimeZoneInfo zone, Term term)
    {
        if (term.End <= _from)
            return;
        for (var i = 0; i < _matches.Length; i++)
        {
            if (!_matches[i])
                continue;
            foreach (var grant in _function.Templates[i].Grants)
            {
                var rule = grant.Rule;
                // Work by hand may begin before the first day; access never does.
                var isEarly = grant.IsDesk && rule.From is not null;
                if (!isEarly && term.Start >= _until)
                    continue;
                if (rule.When is not null && !Holds(rule.When, rule.Place))
                    continue;
                var first = rule.From is { } from ? StartOf(from, rule.Place, zone, term.Start) : term.Start;
                if (!isEarly && first < term.Start)
                    first = term.Start;
                var last = rule.Until is { } until ? EndOf(until, rule.Place, zone, term.End) : term.End;
                Give(first, last < term.End ? last : term.End, grant.State, !grant.IsDesk);
            }
        }
    }

    private void Give(DateTimeOffset from, DateTimeOffset until, GrantState state, bool needsAccount)
    {
        // Most often nothing of it lies in what is asked about.
        if (until <= _from || from >= _until)
            return;
        if (from < _begin)
            from = _begin;
        if (until > _end)
            until = _end;
        if (from < until)
            Put(from, until, state, needsAccount);
    }

    /// <summary>A grant, and what mirrors it.</summary>
    private void Put(DateTimeOffset from, DateTimeOffset until, GrantState state, bool needsAccount)
    {
        _grants.Add(new(new(from, until, state, state.Reason), needsAccount));
        if (_function.Mirrors.Count == 0 || !_function.Mirrors.TryGetValue(state.Key, out var mirrors))
            return;
        foreach (var (key, title) in mirrors)
        {
            var reason = state.Reason with { Condition = $"{state.Reason.Condition}; as {title}" };
            _grants.Add(new(new(from, until, new(key, reason), reason), !_function.IsDesk(key.Target)));
        }
    }

    /// <summary>The names a new account may take, in the order the templates wish them; empty when no template makes one.</summary>
    public IReadOnlyList<string> NameWishes(Subject person, AccountKey account)
    {
        (_asked, _at) = (person.Asked, null);
        return Naming(person, account, Lasting(person)).Wishes;
    }

    /// <summary>How an account is named at an instant.</summary>
    public Naming Naming(Subject person, AccountKey account, DateTimeOffset at)
    {
        (_asked, _at) = (person.Asked, at);
        return Naming(person, account, Employments.Now(person, _function.Rulebook, at));
    }

    private Naming Naming(Subject person, AccountKey account, IReadOnlyList<Facts> employments)
    {
        if (person.Refused.Contains(account.ToString()))
            return Planning.Naming.None;
        foreach (var employment in employments)
        {
            Match(employment);
            if (SlotOf(account) is not { } ready || Maker(ready) is not { } maker)
                continue;
            try
            {
                FillAccountScope(person, account, "");
                var wishes = maker.Rule.Names.Select(name => name.Evaluate(_accountScope).AsString);
                return new(AccountNames.Clean(wishes, ready.Rule.Names), maker.Rule.FollowsName);
            }
            catch (ExpressionFault fault)
            {
                throw new PlanFault($"The account name cannot be computed ({maker.Rule.Place}): {fault.Message}");
            }
        }
        return Planning.Naming.None;
    }

    /// <summary>The pools of which the person's templates want a number, with the site whose range counts.</summary>
    public IReadOnlyList<(NumberPool Pool, string Site)> Numbers(Subject person)
    {
        (_asked, _at) = (person.Asked, null);
        var wanted = new List<(NumberPool, string)>();
        foreach (var employment in Lasting(person))
        {
            Match(employment);
            for (var i = 0; i < _matches.Length; i++)
                if (_matches[i])
                    wanted.AddRange(
                        _function
                            .Templates[i]
                            .Rule.Numbers.Where(n => !wanted.Exists(w => w.Item1.Name == n))
                            .Select(n => (_function.Rulebook.Pools[n], employment.Site))
                    );
        }
        return wanted;
    }

    /// <summary>Attributes that the person's templates leave open and that are still empty, in order of template.</summary>
    public IReadOnlyList<string> Asks(Subject person)
    {
        (_asked, _at) = (person.Asked, null);
        var facts = Lasting(person)[0];
        Match(facts);
        var open = new List<string>();
        for (var i = 0; i < _matches.Length; i++)
            if (_matches[i])
                open.AddRange(_function.Templates[i].Rule.Asks.Where(a => facts[a].IsNull && !open.Contains(a)));
        return open;
    }

    /// <summary>Names of the templates that apply to the leading employment.</summary>
    public IReadOnlyList<string> TemplatesOf(Subject person)
    {
        (_asked, _at) = (person.Asked, null);
        Match(Lasting(person)[0]);
        return [.. _function.Templates.Where((_, i) => _matches[i]).Select(t => t.Rule.Name)];
    }

    /// <summary>The match keys a person's ordinary account would have, with nothing else worked out; empty when no template makes
    /// one.</summary>
    public IReadOnlyList<(string Attribute, string Value)> MatchKeys(Subject person, TargetRule target)
    {
        (_asked, _at) = (person.Asked, null);
        Match(Lasting(person)[0]);
        AccountKey account = new(target.Name);
        if (SlotOf(account) is not { } ready || Maker(ready) is not { } maker)
            return [];
        var name = person.AccountNames.GetValueOrDefault(account, "");
        if (Single(ready) is null)
        {
            var pending = Pending(person, ready);
            return
            [
                .. Keys(person, target, account, Attributes(person, ready, name, target.Match))
                    .Where(k => !pending.Exists(p => p.Name.Equals(k.Attribute, StringComparison.OrdinalIgnoreCase))),
            ];
        }
        FillAccountScope(person, account, name);
        var keys = new List<(string, string)>(target.Match.Count);
        foreach (var match in target.Match)
        {
            if (match.When is not null && !Holds(match.When, target.Place))
                continue;
            var place = Array.BinarySearch(maker.Names, match.Attribute, StringComparer.OrdinalIgnoreCase);
            // An id that is yet to come finds nobody.
            var values =
                place < 0 || Array.Exists(maker.Rests, r => IsOf(r, match) && IsToCome(person, r.Target)) ? []
                : maker.Rules[place] is { } rule ? Texts(rule)
                : [name];
            if (values.Count > 0 && values[0].Length > 0)
                keys.Add((match.Attribute, values[0]));
        }
        return keys;

        static bool IsOf(PendingAttribute rests, MatchRule match) => rests.Name.Equals(match.Attribute, StringComparison.OrdinalIgnoreCase);
    }

    /// <summary>
    /// What an account is found by: the match keys that apply to the person, with the values their account would have. They
    /// lead to the ordinary account; one in another slot is found by its own name alone, so that neither is taken for the other.
    /// </summary>
    public IReadOnlyList<(string Attribute, string Value)> Keys(
        Subject person,
        TargetRule target,
        AccountKey account,
        IReadOnlyDictionary<string, IReadOnlyList<string>> attributes
    )
    {
        if (!account.IsOrdinary)
            return person.AccountNames.TryGetValue(account, out var name) ? [(target.Settings.NameAttribute, name)] : [];
        Lasting(person)[0].Fill(_scope, _function.Rulebook.Attributes);
        return
        [
            .. target
                .Match.Where(m => m.When is null || Holds(m.When, target.Place))
                .Select(m => (m.Attribute, attributes.TryGetValue(m.Attribute, out var values) && values.Count > 0 ? values[0] : ""))
                .Where(k => k.Item2.Length > 0),
        ];
    }

    /// <summary>The employments as they will be when all that was approved has begun, the leading one first.</summary>
    private IReadOnlyList<Facts> Lasting(Subject person) => Employments.Now(person, _function.Rulebook, DateTimeOffset.MaxValue);

    /// <summary>Works out which templates apply to an employment; the scope then holds its facts.</summary>
    internal ReadOnlySpan<bool> Match(Facts employment)
    {
        employment.Fill(_scope, _function.Rulebook.Attributes);
        Array.Clear(_matches);
        foreach (var i in _function.AlwaysAsked)
            Look(i);
        foreach (var (slot, templates) in _function.AskedBy)
            if (templates.TryGetValue(_scope[slot].AsString, out var some))
                foreach (var i in some)
                    Look(i);
        return _matches;
    }

    private void Look(int template)
    {
        var rule = _function.Templates[template].Rule;
        _matches[template] = (!rule.IsOnRequest || IsAsked(rule.Name)) && (rule.When is null || Holds(rule.When, rule.Place));
    }

    private bool IsAsked(string template)
    {
        foreach (var asked in _asked)
            if (asked.Template == template && (_at is not { } at || asked.Covers(at)))
                return true;
        return false;
    }

    /// <summary>The templates that applied to the employment asked about last.</summary>
    internal ReadOnlySpan<bool> Matches => _matches;

    private AccessFunction.ReadySlot? SlotOf(AccountKey account)
    {
        foreach (var slot in _function.Slots)
            if (slot.Key == account)
                return slot;
        return null;
    }

    private AccessFunction.ReadyAccount? Maker(AccessFunction.ReadySlot slot)
    {
        foreach (var account in slot.Accounts)
            if (_matches[account.Template.Index] && account.Rule.Names.Count > 0)
                return account;
        return null;
    }

    private bool Holds(Expression condition, Place place)
    {
        try
        {
            return condition.Holds(_scope);
        }
        catch (ExpressionFault fault)
        {
            throw new PlanFault($"The condition at {place} cannot be decided: {fault.Message}");
        }
    }

    private DateTimeOffset StartOf(Expression day, Place place, TimeZoneInfo zone, DateTimeOffset otherwise) =>
        Day(day, place) is { } found ? SiteDays.StartOf(found, zone) : otherwise;

    private DateTimeOffset EndOf(Expression day, Place place, TimeZoneInfo zone, DateTimeOffset otherwise) =>
        Day(day, place) is { } found ? SiteDays.EndOf(found, zone) : otherwise;

    private DateOnly? Day(Expression day, Place place)
    {
        try
        {
            return day.Evaluate(_scope).AsDateOrNull;
        }
        catch (ExpressionFault fault)
        {
            throw new PlanFault($"The day at {place} cannot be computed: {fault.Message}");
        }
    }

    private SmallMap<IReadOnlyList<string>> Attributes(
        Subject person,
        AccessFunction.ReadySlot slot,
        string accountName,
        IReadOnlyList<MatchRule>? only = null
    )
    {
        FillAccountScope(person, slot.Key, accountName);
        if (only is null && Single(slot) is { } single)
        {
            var all = new IReadOnlyList<string>[single.Names.Length];
            for (var i = 0; i < all.Length; i++)
                all[i] = single.Rules[i] is { } rule ? Texts(rule) : [accountName];
            return new(single.Names, all);
        }
        var attributes = new SortedDictionary<string, IReadOnlyList<string>>(StringComparer.OrdinalIgnoreCase)
        {
            [slot.Rule.Settings.NameAttribute] = [accountName],
        };
        var given = new Dictionary<string, (RoleTemplate Template, Place Place)>(StringComparer.OrdinalIgnoreCase);
        foreach (var account in slot.Accounts)
        {
            if (!_matches[account.Template.Index])
                continue;
            var template = account.Template.Rule;
            foreach (var attribute in account.Rule.Attributes)
            {
                if (only is not null && !only.Any(m => m.Attribute.Equals(attribute.Name, StringComparison.OrdinalIgnoreCase)))
                    continue;
                var values = Texts(attribute);
                if (given.TryAdd(attribute.Name, (template, attribute.Place)))
                    attributes[attribute.Name] = values;
                else if (
                    given[attribute.Name] is var earlier
                    && earlier.Template.Priority == template.Priority
                    && !attributes[attribute.Name].SequenceEqual(values)
                )
                    throw new PlanFault(
                        $"The templates '{earlier.Template.Name}' and '{template.Name}' give '{attribute.Name}' different "
                            + $"values ({earlier.Place} and {attribute.Place}). Give one of them a higher priority."
                    );
            }
        }
        return SmallMap<IReadOnlyList<string>>.Of(attributes);
    }

    /// <summary>Where an account stands: below the container of its target, where its template says so. The scope is filled.</summary>
    private string Container(AccessFunction.ReadySlot slot, AccountRule rule)
    {
        var top = slot.Rule.Settings.Container;
        if (rule.Container is not { } expression)
            return top;
        try
        {
            return expression.Evaluate(_accountScope).AsString is { Length: > 0 } below ? $"{below},{top}" : top;
        }
        catch (ExpressionFault fault)
        {
            throw new PlanFault($"The container cannot be computed ({rule.Place}): {fault.Message}");
        }
    }

    private static readonly Value NoNames = Value.Of([]);

    /// <summary>The scope holds the facts of this employment; they only change places.</summary>
    private void FillAccountScope(Subject person, AccountKey account, string accountName)
    {
        foreach (var (from, to) in _function.AttributeSlots)
            _accountScope[to] = _scope[from];
        _accountScope[_function.AccountNameSlot] = Value.Of(accountName);
        _accountScope[_function.FormerNamesSlot] = person.FormerNames.TryGetValue(account, out var former)
            ? Value.Of([.. former.Where(n => n != accountName).Select(Value.Of)])
            : NoNames;
        foreach (var (pool, slot) in _function.PoolSlots)
            _accountScope[slot] = Value.Of(person.Numbers.GetValueOrDefault(pool, ""));
        foreach (var (other, slot) in _function.NameSlots)
            _accountScope[slot] = Value.Of(person.AccountNames.GetValueOrDefault(other, ""));
        foreach (var (other, slot) in _function.IdSlots)
            _accountScope[slot] = Value.Of(
                person.AccountIds.TryGetValue(other, out var id) ? id
                : IsToCome(person, other) ? AccountState.IdIn(other.Target)
                : ""
            );
    }

    /// <summary>Whether somebody gets an account that is not there yet, by what applies to the employment asked about.</summary>
    private bool IsToCome(Subject person, AccountKey account) =>
        !person.AccountIds.ContainsKey(account)
        && person.AccountNames.ContainsKey(account)
        && !person.Refused.Contains(account.ToString())
        && SlotOf(account) is { } slot
        && Maker(slot) is not null;

    /// <summary>The attributes of an account that rest on the ids of accounts which are to come.</summary>
    private List<PendingAttribute> Pending(Subject person, AccessFunction.ReadySlot slot)
    {
        if (_function.IdSlots.Length == 0 || Array.TrueForAll(slot.Accounts, a => a.Rests.Length == 0))
            return NonePending;
        var (pending, given) = (new List<PendingAttribute>(), new HashSet<string>(StringComparer.OrdinalIgnoreCase));
        foreach (var account in slot.Accounts)
        {
            if (!_matches[account.Template.Index])
                continue;
            // Of two templates that give an attribute the first one counts.
            pending.AddRange(account.Rests.Where(r => !given.Contains(r.Name) && IsToCome(person, r.Target)));
            given.UnionWith(account.Rule.Attributes.Select(a => a.Name));
        }
        return pending;
    }

    private static readonly List<PendingAttribute> NonePending = [];

    /// <summary>The one description of the account by a template that applies; null when there are several, or none.</summary>
    private AccessFunction.ReadyAccount? Single(AccessFunction.ReadySlot slot)
    {
        AccessFunction.ReadyAccount? single = null;
        foreach (var account in slot.Accounts)
        {
            if (!_matches[account.Template.Index])
                continue;
            if (single is not null)
                return null;
            single = account;
        }
        return single;
    }

    private IReadOnlyList<string> Texts(AttributeRule attribute)
    {
        try
        {
            var value = attribute.Expression.Evaluate(_accountScope);
            if (value.Kind != ValueKind.List)
                return value.ToString() is { Length: > 0 } text ? [text] : [];
            return [.. value.AsList.Select(v => v.ToString()).Where(t => t.Length > 0)];
        }
        catch (ExpressionFault fault)
        {
            throw new PlanFault($"'{attribute.Name}' cannot be computed ({attribute.Place}): {fault.Message}");
        }
    }
}
