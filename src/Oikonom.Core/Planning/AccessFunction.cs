using System.Runtime.CompilerServices;
using Oikonom.Core.Expressions;
using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Planning;

/// <summary>What a rulebook gives, made ready once for each.</summary>
public static class RulebookAccess
{
    private static readonly ConditionalWeakTable<Rulebook.Rulebook, AccessFunction> Known = [];

    extension(Rulebook.Rulebook rulebook)
    {
        /// <summary>The templates made ready for asking what anybody should have.</summary>
        public AccessFunction Access => Known.GetValue(rulebook, r => new(r));
    }
}

/// <summary>
/// The templates of a rulebook made ready for asking what anybody should have: reasons and places are worked out
/// once, so that asking for everybody costs little. Safe for many threads; each brings its own <see cref="Asking"/>.
/// </summary>
public sealed class AccessFunction
{
    internal sealed record ReadyGrant(GrantRule Rule, GrantState State, bool IsDesk);

    internal sealed record ReadyTemplate(int Index, RoleTemplate Rule, ReadyGrant[] Grants);

    /// <param name="Others">The other roles of the target, any of which is more.</param>
    internal sealed record LeastRole(Entitlement Role, string Title, IReadOnlySet<string> Others);

    /// <param name="Names">The attribute names when this account alone gives them, in order; <paramref name="Rules"/> is null at
    /// the naming one.</param>
    internal sealed record ReadyAccount(ReadyTemplate Template, AccountRule Rule, Reason Reason, string[] Names, AttributeRule?[] Rules)
    {
        /// <summary>The attributes that use the ids of other accounts, each with the target of one.</summary>
        public PendingAttribute[] Rests { get; } =
        [.. Rule.Attributes.SelectMany(a => AccountIds.In(a.Expression).Select(target => new PendingAttribute(a.Name, target)))];

        /// <summary>Why it may not be used: not yet, and no more.</summary>
        public Reason Before { get; } = Reason with { Condition = "before the first day" };

        /// <summary>The same reason when the employment is over.</summary>
        public Reason After { get; } = Reason with { Condition = "outside the employment" };
    }

    /// <summary>One account that people may have in a target, with what templates say of it.</summary>
    internal sealed record ReadySlot(TargetRule Rule, AccountKey Key, ReadyAccount[] Accounts);

    internal readonly Rulebook.Rulebook Rulebook;
    internal readonly ReadyTemplate[] Templates;
    internal readonly ReadySlot[] Slots;
    internal readonly int AccountNameSlot;
    internal readonly int FormerNamesSlot;
    internal readonly (int From, int To)[] AttributeSlots;
    internal readonly (string Pool, int Slot)[] PoolSlots;
    internal readonly (AccountKey Account, int Slot)[] NameSlots;

    /// <summary>The accounts whose ids attributes of other accounts use.</summary>
    internal readonly (AccountKey Account, int Slot)[] IdSlots;

    /// <summary>What is held beside something else, by that: with what people read of it.</summary>
    internal readonly IReadOnlyDictionary<EntitlementKey, (EntitlementKey Key, string Title)[]> Mirrors;

    /// <summary>By target, what its accounts hold while they hold no other role of it.</summary>
    internal readonly IReadOnlyDictionary<string, LeastRole> LeastRoles;

    private readonly HashSet<string> _desks;

    internal AccessFunction(Rulebook.Rulebook rulebook)
    {
        Rulebook = rulebook;
        _desks = [.. rulebook.Targets.Values.Where(t => !t.HasAccounts).Select(t => t.Name)];
        Templates =
        [
            .. rulebook.Templates.Select(
                (t, i) =>
                    new ReadyTemplate(
                        i,
                        t,
                        [.. t.Grants.Select(g => new ReadyGrant(g, new(g.Key, ReasonOf(t, g.Place, g.When)), _desks.Contains(g.Target)))]
                    )
            ),
        ];
        Slots =
        [
            .. rulebook
                .Targets.Values.SelectMany(target => rulebook.AccountsIn(target.Name).Select(key => (Target: target, Key: key)))
                .Select(slot => new ReadySlot(
                    slot.Target,
                    slot.Key,
                    [.. Templates.SelectMany(t => t.Rule.Accounts.Where(a => a.Key == slot.Key).Select(a => Ready(slot.Target, t, a)))]
                )),
        ];
        (AlwaysAsked, AskedBy) = Sort(Templates);
        Mirrors = rulebook
            .Targets.Values.SelectMany(t => t.Entitlements.Values.Where(e => e.Mirrors is not null).Select(e => (Target: t, Given: e)))
            .GroupBy(m => m.Given.Mirrors!, m => (new EntitlementKey(m.Target.Name, m.Given.Name), rulebook.Find(m.Given.Mirrors!)!.Title))
            .ToDictionary(g => g.Key, g => g.ToArray());
        LeastRoles = rulebook
            .Targets.Values.Select(t => (Target: t, Least: t.Entitlements.Values.FirstOrDefault(e => e.IsLeast)))
            .Where(t => t.Least is not null)
            .ToDictionary(
                t => t.Target.Name,
                t => new LeastRole(
                    t.Least!,
                    t.Target.Title,
                    t.Target.Entitlements.Values.Where(e => e.Kind == EntitlementKind.Role && !e.IsLeast).Select(e => e.Name).ToHashSet()
                )
            );
        AccountNameSlot = rulebook.AccountNames.TryGet("account.name", out var slot) ? slot.Index : -1;
        FormerNamesSlot = rulebook.AccountNames.TryGet("account.former", out var former) ? former.Index : -1;
        AttributeSlots =
        [
            .. rulebook
                .Attributes.Slots.Where(s => rulebook.AccountNames.TryGet(s.Name, out _))
                .Select(s => (s.Slot.Index, rulebook.AccountNames.IndexOf(s.Name))),
        ];
        PoolSlots =
        [
            .. rulebook
                .Pools.Keys.Where(p => rulebook.AccountNames.TryGet($"pool.{p}", out _))
                .Select(p => (p, rulebook.AccountNames.IndexOf($"pool.{p}"))),
        ];
        NameSlots =
        [
            .. rulebook
                .Targets.Keys.Where(t => rulebook.AccountNames.TryGet($"names.{t}", out _))
                .Select(t => (new AccountKey(t), rulebook.AccountNames.IndexOf($"names.{t}"))),
        ];
        IdSlots =
        [
            .. rulebook
                .Templates.SelectMany(t => t.Accounts)
                .SelectMany(a => a.Attributes)
                .SelectMany(a => AccountIds.In(a.Expression))
                .Distinct()
                .Select(t => (new AccountKey(t), rulebook.AccountNames.IndexOf(AccountIds.NameOf(t)))),
        ];
    }

    /// <summary>True when an attribute of an account uses the id of another one.</summary>
    public bool UsesIds => IdSlots.Length > 0;

    /// <summary>Templates whose condition must be asked in any case.</summary>
    internal readonly int[] AlwaysAsked;

    /// <summary>Templates that can only apply when a slot has a certain text: of all departments' templates only those of one
    /// are asked.</summary>
    internal readonly (int Slot, Dictionary<string, int[]> Templates)[] AskedBy;

    private static ReadyAccount Ready(TargetRule target, ReadyTemplate template, AccountRule account)
    {
        var rules = new SortedDictionary<string, AttributeRule?>(StringComparer.OrdinalIgnoreCase)
        {
            [target.Settings.NameAttribute] = null,
        };
        foreach (var attribute in account.Attributes)
            rules[attribute.Name] = attribute;
        return new(template, account, ReasonOf(template.Rule, account.Place, null), [.. rules.Keys], [.. rules.Values]);
    }

    private static (int[], (int, Dictionary<string, int[]>)[]) Sort(ReadyTemplate[] templates)
    {
        var always = templates.Where(t => t.Rule.When?.Begins is null).Select(t => t.Index).ToArray();
        var by = templates
            .Where(t => t.Rule.When?.Begins is not null)
            .GroupBy(t => t.Rule.When!.Begins!.Value.Slot)
            .Select(slot =>
                (
                    slot.Key,
                    slot.GroupBy(t => t.Rule.When!.Begins!.Value.Text, StringComparer.Ordinal)
                        .ToDictionary(g => g.Key, g => g.Select(t => t.Index).ToArray(), StringComparer.Ordinal)
                )
            )
            .ToArray();
        return (always, by);
    }

    /// <summary>Somebody who asks; not for several threads at once.</summary>
    public Asking Ask() => new(this);

    internal bool IsDesk(string target) => _desks.Contains(target);

    internal static Reason ReasonOf(RoleTemplate template, Place place, Expression? own)
    {
        var conditions = new[] { template.When?.Text, own?.Text }.OfType<string>().ToList();
        return new(template.Name, $"{place.File}:{place.Line}", conditions.Count == 0 ? "always" : string.Join(" and ", conditions));
    }
}
