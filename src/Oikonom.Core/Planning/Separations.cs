using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Planning;

/// <summary>Two entitlements that a separation keeps apart and one person would hold, and who may allow it.</summary>
public sealed record Conflict(
    string Separation,
    string Title,
    string One,
    string OneReason,
    string Other,
    string OtherReason,
    string Decides
);

/// <summary>Looks for broken separations in a whole state, not only in what is new.</summary>
public static class Separations
{
    /// <exception cref="PlanFault">A separation that blocks is broken.</exception>
    public static IReadOnlyList<Conflict> In(AccessState state, Rulebook.Rulebook rulebook)
    {
        var found = new List<Conflict>();
        foreach (var separation in rulebook.Separations)
        {
            if (Held(separation.One) is not { } one || Held(separation.Other) is not { } other)
                continue;
            if (separation.Effect == SeparationEffect.Block)
                throw new PlanFault(
                    $"'{separation.Title}' ({separation.Place}) keeps {one.Key} and {other.Key} apart: {one.Reason.Rule} gives "
                        + $"the one ({one.Reason.Place}), {other.Reason.Rule} the other ({other.Reason.Place}). Change the record or "
                        + "a template."
                );
            found.Add(
                new(
                    separation.Name,
                    separation.Title,
                    one.Key.ToString(),
                    one.Reason.Rule,
                    other.Key.ToString(),
                    other.Reason.Rule,
                    separation.Decides
                )
            );
        }
        return found;

        GrantState? Held(IReadOnlyList<EntitlementKey> keys)
        {
            foreach (var key in keys)
            {
                if (state.Grants.TryGetValue(key, out var grant))
                    return grant;
                // It is one person, whichever of their accounts holds it.
                foreach (var held in state.Grants.Values)
                    if (!held.Key.Account.IsOrdinary && held.Key.IsSameEntitlement(key))
                        return held;
            }
            return null;
        }
    }
}

/// <summary>What holds for privileged entitlements.</summary>
public static class Privileges
{
    /// <summary>Looks at what is asked for now; what was approved before is never held against another plan of the person.</summary>
    /// <exception cref="PlanFault">A privileged entitlement is asked for without an end.</exception>
    public static void RequireEnds(Wish wish, Rulebook.Rulebook rulebook)
    {
        foreach (var grant in wish.Grants)
            if (
                grant.Until is null
                && !wish.Struck.Contains(grant.Key.ToString())
                && rulebook.Find(grant.Key) is { IsPrivileged: true } one
            )
                throw new PlanFault(NeedsEnd(one));
        foreach (var asked in wish.Templates)
            if (asked.Until is null && Unending(asked.Template, rulebook) is { } one)
                throw new PlanFault(NeedsEnd(one));
    }

    /// <summary>The privileged entitlement that a template on request gives with no end of its own; null when there is none.</summary>
    public static Entitlement? Unending(string template, Rulebook.Rulebook rulebook) =>
        rulebook
            .Templates.Where(t => t.Name == template)
            .SelectMany(t => t.Grants)
            .Where(g => g.Until is null)
            .Select(g => rulebook.Find(g.Key))
            .FirstOrDefault(e => e is { IsPrivileged: true });

    /// <summary>What somebody is told who asks for powerful access without an end.</summary>
    public static string NeedsEnd(Entitlement entitlement) =>
        $"'{entitlement.Title}' is privileged and is never given without an end; name the day on which it ends.";
}
