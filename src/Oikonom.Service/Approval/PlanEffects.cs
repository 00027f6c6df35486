using Oikonom.Contracts;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;

namespace Oikonom.Service.Approval;

/// <summary>A plan told by what comes of it for the person: gained, changed, kept and lost, each with its days and its reason.</summary>
internal static class PlanEffects
{
    public static readonly PlanEffect None = new([], [], [], []);

    public static PlanEffect Of(Plan plan, Core.Rulebook.Rulebook rulebook, bool isRenamed)
    {
        var (gained, changed, lost) = (new List<EffectLine>(), new List<EffectLine>(), new List<EffectLine>());
        var kept = (plan.Kept ?? []).ToDictionary(k => k.Grant?.ToString() ?? k.Account.ToString());
        foreach (var group in plan.Changes.Where(c => c is not Change.Verify).GroupBy(c => c.Key))
        {
            var (first, all) = (group.First(), group.ToList());
            var end = all.FirstOrDefault(c => c.TakesAway);
            if (all.FirstOrDefault(c => c is Change.Grant) is { } given)
                gained.Add(Line(given, given.Due, EndAfter(all, given)?.Due, rulebook));
            else if (all.FirstOrDefault(c => c is Change.CreateAccount or Change.AdoptAccount) is { } made)
                gained.Add(Line(made, all.FirstOrDefault(c => c is Change.EnableAccount)?.Due, EndAfter(all, made)?.Due, rulebook));
            else if (all.FirstOrDefault(c => c is Change.EnableAccount) is { } wakes)
                gained.Add(Line(wakes, wakes.Due, EndAfter(all, wakes)?.Due, rulebook));
            else if (end is not null && !(end.Later && kept.ContainsKey(group.Key)))
                lost.Add(Line(end, end.Due, null, rulebook));
            foreach (var change in all.Where(c => c is Change.ChangeAccount))
                changed.Add(Line(change, change.Due, null, rulebook));
            if (first is Change.SetPassword)
                changed.Add(Line(first, first.Due, null, rulebook));
        }
        // Of accounts that stay it is only said what people ask: that a new name of the person leaves them theirs.
        var renamed = plan
            .Changes.Where(c => RequestViews.RenameOf(c, rulebook.Targets.GetValueOrDefault(c.Target)) is not null)
            .Select(c => c.Account)
            .ToHashSet();
        var stays = kept
            .Values.Where(k => k.Grant is not null || (isRenamed && !renamed.Contains(k.Account)))
            .Select(k => Line(k, rulebook))
            .ToList();
        return new(gained, changed, stays, lost);
    }

    private static Change? EndAfter(List<Change> all, Change given) => all.Find(c => c.TakesAway && c.Ordinal > given.Ordinal);

    private static EffectLine Line(Change change, DateTimeOffset? from, DateTimeOffset? until, Core.Rulebook.Rulebook rulebook) =>
        new(
            change.Key,
            change.Entitlement is { } key ? Title(key, rulebook) : Title(change, rulebook),
            change.Account.ToString(),
            change.Entitlement is { } of && rulebook.Find(of)?.IsPrivileged == true,
            from,
            until,
            Why(change.Reason, rulebook),
            [
                .. change.Attributes.Select(a => new AttributeChangeView(a.Name, a.Before, a.After)
                {
                    Title = rulebook.Targets.GetValueOrDefault(change.Target)?.TitleOf(a.Name),
                }),
            ]
        );

    private static EffectLine Line(Kept kept, Core.Rulebook.Rulebook rulebook) =>
        new(
            kept.Grant?.ToString() ?? kept.Account.ToString(),
            kept.Grant is { } key ? Title(key, rulebook) : $"The name {kept.Name} in {rulebook.TitleOf(kept.Account)}",
            kept.Account.ToString(),
            kept.Grant is { } of && rulebook.Find(of)?.IsPrivileged == true,
            null,
            kept.Until,
            kept.Grant is null ? "an account keeps its name" : Why(kept.Reason, rulebook),
            []
        );

    private static string Title(EntitlementKey key, Core.Rulebook.Rulebook rulebook) => rulebook.Find(key)?.Title ?? key.ToString();

    private static string Title(Change change, Core.Rulebook.Rulebook rulebook)
    {
        var account = $"{change.Entry.Name} in {rulebook.TitleOf(change.Account)}";
        if (RequestViews.RenameOf(change, rulebook.Targets.GetValueOrDefault(change.Target)) is { } before)
            return $"Account {account}, which was {before}";
        return change switch
        {
            Change.CreateAccount { IsBroughtBack: true } => $"Deleted account {account}, brought back",
            Change.CreateAccount => $"New account {account}",
            Change.AdoptAccount => $"Existing account {account}",
            Change.SetPassword => $"New first password of {account}",
            _ => $"Account {account}",
        };
    }

    /// <summary>What gives or takes it, in words: a template by its title, a request by its number.</summary>
    private static string Why(Reason reason, Core.Rulebook.Rulebook rulebook) =>
        reason.Rule switch
        {
            "request" => $"asked for{(reason.Place.Length > 0 ? $" in request {reason.Place}" : "")}"
                + (reason.Condition.Length > 0 ? $": {reason.Condition}" : ""),
            Reason.Baseline or Reason.Adoption => "was there, and no rule gives it",
            _ => $"{rulebook.Templates.FirstOrDefault(t => t.Name == reason.Rule)?.Title ?? reason.Rule}: {reason.Condition}",
        };
}
