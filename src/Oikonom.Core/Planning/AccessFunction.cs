using Oikonom.Core.Expressions;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;

namespace Oikonom.Core.Planning;

/// <summary>
/// The templates of a rulebook made ready for asking what anybody should have: reasons and places are worked out
/// once, so that asking for everybody costs little. Safe for many threads; each brings its own <see cref="Asking"/>.
/// </summary>
public sealed class AccessFunction
{
    internal sealed record ReadyGrant(GrantRule Rule, GrantState State, bool IsDesk);
    internal sealed record ReadyTemplate(int Index, RoleTemplate Rule, ReadyGrant[] Grants);

    /// <param name="Names">The attribute names when this account alone gives them, in order; <paramref name="Rules"/> is null at the naming one.</param>
    internal sealed record ReadyAccount(ReadyTemplate Template, AccountRule Rule, Reason Reason, string[] Names, AttributeRule?[] Rules);
    internal sealed record ReadyTarget(TargetRule Rule, ReadyAccount[] Accounts);

    internal readonly Rulebook.Rulebook Rulebook;
    internal readonly ReadyTemplate[] Templates;
    internal readonly ReadyTarget[] Targets;
    internal readonly int AccountNameSlot;
    internal readonly (int From, int To)[] AttributeSlots;
    internal readonly (string Pool, int Slot)[] PoolSlots;
    internal readonly (string Target, int Slot)[] NameSlots;

    private readonly HashSet<string> _desks;

    internal AccessFunction(Rulebook.Rulebook rulebook)
    {
        Rulebook = rulebook;
        _desks = [.. rulebook.Targets.Values.Where(t => t.Desk is not null).Select(t => t.Name)];
        Templates = [.. rulebook.Templates.Select((t, i) => new ReadyTemplate(i, t, [.. t.Grants.Select(g => new ReadyGrant(g, new(g.Target, g.Entitlement, ReasonOf(t, g.Place, g.When)), _desks.Contains(g.Target)))]))];
        Targets = [.. rulebook.Targets.Values.Select(target => new ReadyTarget(target,
            [.. Templates.SelectMany(t => t.Rule.Accounts.Where(a => a.Target == target.Name).Select(a => Ready(target, t, a)))]))];
        (AlwaysAsked, AskedBy) = Sort(Templates);
        AccountNameSlot = rulebook.AccountNames.TryGet("account.name", out var slot) ? slot.Index : -1;
        AttributeSlots = [.. rulebook.Attributes.Slots.Where(s => rulebook.AccountNames.TryGet(s.Name, out _)).Select(s => (s.Slot.Index, rulebook.AccountNames.IndexOf(s.Name)))];
        PoolSlots = [.. rulebook.Pools.Keys.Where(p => rulebook.AccountNames.TryGet($"pool.{p}", out _)).Select(p => (p, rulebook.AccountNames.IndexOf($"pool.{p}")))];
        NameSlots = [.. rulebook.Targets.Keys.Where(t => rulebook.AccountNames.TryGet($"names.{t}", out _)).Select(t => (t, rulebook.AccountNames.IndexOf($"names.{t}")))];
    }

    /// <summary>Templates whose condition must be asked in any case.</summary>
    internal readonly int[] AlwaysAsked;

    /// <summary>Templates that can only apply when a slot has a certain text: of all departments' templates only those of one are asked.</summary>
    internal readonly (int Slot, Dictionary<string, int[]> Templates)[] AskedBy;

    private static ReadyAccount Ready(TargetRule target, ReadyTemplate template, AccountRule account)
    {
        var rules = new SortedDictionary<string, AttributeRule?>(StringComparer.OrdinalIgnoreCase) { [target.NameAttribute] = null };
        foreach (var attribute in account.Attributes) rules[attribute.Name] = attribute;
        return new(template, account, ReasonOf(template.Rule, account.Place, null), [.. rules.Keys], [.. rules.Values]);
    }

    private static (int[], (int, Dictionary<string, int[]>)[]) Sort(ReadyTemplate[] templates)
    {
        var always = templates.Where(t => t.Rule.When?.Begins is null).Select(t => t.Index).ToArray();
        var by = templates.Where(t => t.Rule.When?.Begins is not null).GroupBy(t => t.Rule.When!.Begins!.Value.Slot)
            .Select(slot => (slot.Key, slot.GroupBy(t => t.Rule.When!.Begins!.Value.Text, StringComparer.Ordinal).ToDictionary(g => g.Key, g => g.Select(t => t.Index).ToArray(), StringComparer.Ordinal))).ToArray();
        return (always, by);
    }

    public Asking Ask() => new(this);

    internal bool IsDesk(string target) => _desks.Contains(target);

    internal static Reason ReasonOf(RoleTemplate template, Place place, Expression? own)
    {
        var conditions = new[] { template.When?.Text, own?.Text }.OfType<string>().ToList();
        return new(template.Name, $"{place.File}:{place.Line}", conditions.Count == 0 ? "always" : string.Join(" and ", conditions));
    }
}

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

    internal Asking(AccessFunction function)
    {
        _function = function;
        _scope = new(function.Rulebook.Attributes);
        _accountScope = new(function.Rulebook.AccountNames);
        _matches = new bool[function.Templates.Length];
    }

    /// <summary>What should be true in every target at <paramref name="at"/>.</summary>
    /// <exception cref="PlanFault">Two templates contradict each other, or something cannot be computed.</exception>
    public AccessState At(Subject person, DateTimeOffset at)
    {
        (_asked, _at) = (person.Asked, at);
        var accounts = new Dictionary<string, AccountState>(StringComparer.Ordinal);
        var grants = new Dictionary<string, GrantState>(16, StringComparer.Ordinal);
        if (person.Others.Count == 0) Add(person, person.Facts, at, accounts, grants);
        else
            foreach (var employment in Employments.InOrder(person, _function.Rulebook, at)) Add(person, employment, at, accounts, grants);
        if (person.Extra.Count > 0)
        {
            var (_, end) = Desired.Term(person, _function.Rulebook);
            foreach (var grant in person.Extra)
                if (grant.From <= at && (grant.Until is not { } until || at < until) && at < end && (accounts.ContainsKey(grant.Target) || _function.IsDesk(grant.Target)))
                    grants.TryAdd($"{grant.Target}/{grant.Entitlement}", new(grant.Target, grant.Entitlement, grant.Reason));
        }
        foreach (var refused in person.Refused)
        {
            // What an approver declined is not given; without an account there is nothing in its target.
            if (refused.Contains('/', StringComparison.Ordinal)) grants.Remove(refused);
            else if (accounts.Remove(refused))
                foreach (var key in grants.Keys.Where(k => grants[k].Target == refused).ToList()) grants.Remove(key);
        }
        return new(accounts, grants);
    }

    private void Add(Subject person, Facts employment, DateTimeOffset at, Dictionary<string, AccountState> accounts, Dictionary<string, GrantState> grants)
    {
        var rulebook = _function.Rulebook;
        Match(employment);
        var zone = rulebook.ZoneOf(employment.Site);
        var (start, end) = Desired.Term(employment, rulebook, zone);
        foreach (var target in _function.Targets)
        {
            if (Maker(target) is not { } maker || !person.AccountNames.TryGetValue(target.Rule.Name, out var name)) continue;
            if (at < Desired.Before(start, maker.Rule.Lead)) continue;
            var from = maker.Rule.EnabledFrom is { } first ? StartOf(first, maker.Rule.Place, zone, start) : start;
            var until = maker.Rule.EnabledUntil is { } last ? EndOf(last, maker.Rule.Place, zone, end) : end;
            var enabled = from <= at && at < until;
            if (!accounts.TryGetValue(target.Rule.Name, out var earlier))
                accounts[target.Rule.Name] = new(target.Rule.Name, name, target.Rule.Container, target.Rule.Classes, Attributes(person, target, name), enabled, maker.Reason);
            else if (enabled && !earlier.Enabled) accounts[target.Rule.Name] = earlier with { Enabled = true };
        }
        if (at >= end) return;
        for (var i = 0; i < _matches.Length; i++)
        {
            if (!_matches[i]) continue;
            foreach (var grant in _function.Templates[i].Grants)
            {
                var rule = grant.Rule;
                // Work by hand may begin before the first day; access never does.
                if (at < start && !(grant.IsDesk && rule.From is not null)) continue;
                if (!(grant.IsDesk || accounts.ContainsKey(rule.Target)) || (rule.When is not null && !Holds(rule.When, rule.Place))) continue;
                if (rule.From is { } from && at < StartOf(from, rule.Place, zone, start)) continue;
                if (rule.Until is { } until && at >= EndOf(until, rule.Place, zone, end)) continue;
                grants.TryAdd(rule.Key, grant.State);
            }
        }
    }

    /// <summary>The instants at which the value may change, in order.</summary>
    public IReadOnlyList<DateTimeOffset> Turns(Subject person)
    {
        (_asked, _at) = (person.Asked, null);
        var turns = new SortedSet<DateTimeOffset>();
        foreach (var employment in person.Employments)
        {
            Match(employment);
            var zone = _function.Rulebook.ZoneOf(employment.Site);
            var (start, end) = Desired.Term(employment, _function.Rulebook, zone);
            turns.Add(start);
            turns.Add(end);
            foreach (var maker in _function.Targets.Select(Maker).OfType<AccessFunction.ReadyAccount>())
            {
                turns.Add(Desired.Before(start, maker.Rule.Lead));
                if (maker.Rule.EnabledFrom is { } first) turns.Add(StartOf(first, maker.Rule.Place, zone, start));
                if (maker.Rule.EnabledUntil is { } last) turns.Add(EndOf(last, maker.Rule.Place, zone, end));
            }
            for (var i = 0; i < _matches.Length; i++)
            {
                if (!_matches[i]) continue;
                foreach (var grant in _function.Templates[i].Grants)
                {
                    if (grant.Rule.From is { } from) turns.Add(StartOf(from, grant.Rule.Place, zone, start));
                    if (grant.Rule.Until is { } until) turns.Add(EndOf(until, grant.Rule.Place, zone, end));
                }
            }
        }
        foreach (var (from, until) in person.Extra.Select(g => (g.From, g.Until)).Concat(person.Asked.Select(a => (a.From, a.Until))))
        {
            turns.Add(from);
            if (until is { } end) turns.Add(end);
        }
        turns.Remove(DateTimeOffset.MaxValue);
        return [.. turns];
    }

    /// <summary>The names a new account may take, in the order the templates wish them; empty when no template makes one.</summary>
    public IReadOnlyList<string> NameWishes(Subject person, string target)
    {
        (_asked, _at) = (person.Asked, null);
        if (person.Refused.Contains(target)) return [];
        foreach (var employment in person.Employments)
        {
            Match(employment);
            if (_function.Targets.FirstOrDefault(t => t.Rule.Name == target) is not { } ready || Maker(ready) is not { } maker) continue;
            try
            {
                return AccountNames.Clean(maker.Rule.Names.Select(name => name.Evaluate(_scope).AsString), ready.Rule.Names);
            }
            catch (ExpressionFault fault)
            {
                throw new PlanFault($"The account name cannot be computed ({maker.Rule.Place}): {fault.Message}");
            }
        }
        return [];
    }

    /// <summary>The pools of which the person's templates want a number, with the site whose range counts.</summary>
    public IReadOnlyList<(NumberPool Pool, string Site)> Numbers(Subject person)
    {
        (_asked, _at) = (person.Asked, null);
        var wanted = new List<(NumberPool, string)>();
        foreach (var employment in person.Employments)
        {
            Match(employment);
            for (var i = 0; i < _matches.Length; i++)
                if (_matches[i])
                    wanted.AddRange(_function.Templates[i].Rule.Numbers.Where(n => !wanted.Exists(w => w.Item1.Name == n)).Select(n => (_function.Rulebook.Pools[n], employment.Site)));
        }
        return wanted;
    }

    /// <summary>Attributes that the person's templates leave open and that are still empty, in order of template.</summary>
    public IReadOnlyList<string> Asks(Subject person)
    {
        (_asked, _at) = (person.Asked, null);
        Match(person.Facts);
        var open = new List<string>();
        for (var i = 0; i < _matches.Length; i++)
            if (_matches[i])
                open.AddRange(_function.Templates[i].Rule.Asks.Where(a => person.Facts[a].IsNull && !open.Contains(a)));
        return open;
    }

    /// <summary>Names of the templates that apply to the leading employment.</summary>
    public IReadOnlyList<string> TemplatesOf(Subject person)
    {
        (_asked, _at) = (person.Asked, null);
        Match(person.Facts);
        return [.. _function.Templates.Where((_, i) => _matches[i]).Select(t => t.Rule.Name)];
    }

    /// <summary>The match keys a person's account would have, with nothing else worked out; empty when no template makes one.</summary>
    public IReadOnlyList<(string Attribute, string Value)> MatchKeys(Subject person, TargetRule target)
    {
        (_asked, _at) = (person.Asked, null);
        Match(person.Facts);
        if (_function.Targets.FirstOrDefault(t => t.Rule.Name == target.Name) is not { } ready || Maker(ready) is not { } maker) return [];
        var name = person.AccountNames.GetValueOrDefault(target.Name, "");
        if (Single(ready) is null) return Keys(person, target, Attributes(person, ready, name, target.Match));
        FillAccountScope(person, name);
        var keys = new List<(string, string)>(target.Match.Count);
        foreach (var match in target.Match)
        {
            if (match.When is not null && !Holds(match.When, target.Place)) continue;
            var place = Array.BinarySearch(maker.Names, match.Attribute, StringComparer.OrdinalIgnoreCase);
            var values = place < 0 ? [] : maker.Rules[place] is { } rule ? Texts(rule) : [name];
            if (values.Count > 0 && values[0].Length > 0) keys.Add((match.Attribute, values[0]));
        }
        return keys;
    }

    /// <summary>The match keys that apply to a person, with the values their account would have.</summary>
    public IReadOnlyList<(string Attribute, string Value)> Keys(Subject person, TargetRule target, IReadOnlyDictionary<string, IReadOnlyList<string>> attributes)
    {
        person.Facts.Fill(_scope, _function.Rulebook.Attributes);
        return [.. target.Match.Where(m => m.When is null || Holds(m.When, target.Place))
            .Select(m => (m.Attribute, attributes.TryGetValue(m.Attribute, out var values) && values.Count > 0 ? values[0] : "")).Where(k => k.Item2.Length > 0)];
    }

    /// <summary>Works out which templates apply to an employment; the scope then holds its facts.</summary>
    internal ReadOnlySpan<bool> Match(Facts employment)
    {
        employment.Fill(_scope, _function.Rulebook.Attributes);
        Array.Clear(_matches);
        foreach (var i in _function.AlwaysAsked) Look(i);
        foreach (var (slot, templates) in _function.AskedBy)
            if (templates.TryGetValue(_scope[slot].AsString, out var some))
                foreach (var i in some) Look(i);
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
            if (asked.Template == template && (_at is not { } at || asked.Covers(at))) return true;
        return false;
    }

    /// <summary>The templates that applied to the employment asked about last.</summary>
    internal ReadOnlySpan<bool> Matches => _matches;

    private AccessFunction.ReadyAccount? Maker(AccessFunction.ReadyTarget target)
    {
        foreach (var account in target.Accounts)
            if (_matches[account.Template.Index] && account.Rule.Names.Count > 0) return account;
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

    private DateTimeOffset StartOf(Expression day, Place place, TimeZoneInfo zone, DateTimeOffset otherwise) => Day(day, place) is { } found ? SiteDays.StartOf(found, zone) : otherwise;
    private DateTimeOffset EndOf(Expression day, Place place, TimeZoneInfo zone, DateTimeOffset otherwise) => Day(day, place) is { } found ? SiteDays.EndOf(found, zone) : otherwise;

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

    private SmallMap<IReadOnlyList<string>> Attributes(Subject person, AccessFunction.ReadyTarget target, string accountName, IReadOnlyList<MatchRule>? only = null)
    {
        FillAccountScope(person, accountName);
        if (only is null && Single(target) is { } single)
        {
            var all = new IReadOnlyList<string>[single.Names.Length];
            for (var i = 0; i < all.Length; i++) all[i] = single.Rules[i] is { } rule ? Texts(rule) : [accountName];
            return new(single.Names, all);
        }
        var attributes = new SortedDictionary<string, IReadOnlyList<string>>(StringComparer.OrdinalIgnoreCase) { [target.Rule.NameAttribute] = [accountName] };
        var given = new Dictionary<string, (RoleTemplate Template, Place Place)>(StringComparer.OrdinalIgnoreCase);
        foreach (var account in target.Accounts)
        {
            if (!_matches[account.Template.Index]) continue;
            var template = account.Template.Rule;
            foreach (var attribute in account.Rule.Attributes)
            {
                if (only is not null && !only.Any(m => m.Attribute.Equals(attribute.Name, StringComparison.OrdinalIgnoreCase))) continue;
                var values = Texts(attribute);
                if (given.TryAdd(attribute.Name, (template, attribute.Place))) attributes[attribute.Name] = values;
                else if (given[attribute.Name] is var earlier && earlier.Template.Priority == template.Priority && !attributes[attribute.Name].SequenceEqual(values))
                    throw new PlanFault($"The templates '{earlier.Template.Name}' and '{template.Name}' give '{attribute.Name}' different values ({earlier.Place} and {attribute.Place}). Give one of them a higher priority.");
            }
        }
        return SmallMap<IReadOnlyList<string>>.Of(attributes);
    }

    /// <summary>The scope holds the facts of this employment; they only change places.</summary>
    private void FillAccountScope(Subject person, string accountName)
    {
        foreach (var (from, to) in _function.AttributeSlots) _accountScope[to] = _scope[from];
        _accountScope[_function.AccountNameSlot] = Value.Of(accountName);
        foreach (var (pool, slot) in _function.PoolSlots) _accountScope[slot] = Value.Of(person.Numbers.GetValueOrDefault(pool, ""));
        foreach (var (other, slot) in _function.NameSlots) _accountScope[slot] = Value.Of(person.AccountNames.GetValueOrDefault(other, ""));
    }

    /// <summary>The one account of the target that a template which applies describes; null when there are several, or none.</summary>
    private AccessFunction.ReadyAccount? Single(AccessFunction.ReadyTarget target)
    {
        AccessFunction.ReadyAccount? single = null;
        foreach (var account in target.Accounts)
        {
            if (!_matches[account.Template.Index]) continue;
            if (single is not null) return null;
            single = account;
        }
        return single;
    }

    private IReadOnlyList<string> Texts(AttributeRule attribute)
    {
        try
        {
            var value = attribute.Expression.Evaluate(_accountScope);
            if (value.Kind != ValueKind.List) return value.ToString() is { Length: > 0 } text ? [text] : [];
            return [.. value.AsList.Select(v => v.ToString()).Where(t => t.Length > 0)];
        }
        catch (ExpressionFault fault)
        {
            throw new PlanFault($"'{attribute.Name}' cannot be computed ({attribute.Place}): {fault.Message}");
        }
    }
}
