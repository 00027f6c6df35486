using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Approval;

/// <summary>What one stage wants decided: the request as a whole, or one item.</summary>
/// <param name="Item">The key of the item, or "" for the whole.</param>
/// <param name="Needed">How many different people must approve.</param>
public sealed record Ballot(string Stage, string Item, Deciders Deciders, int Needed);

/// <summary>An approval as it was given, with the digest of each item it covered.</summary>
/// <param name="For">Whose right was used: the actor's own, or that of somebody who handed it over.</param>
public sealed record Vote(string Stage, string Item, string Actor, string For, IReadOnlyDictionary<string, string> Covers);

/// <summary>A stage with what it asks now. A stage that does not apply says why and asks nothing.</summary>
public sealed record StageAsk(Stage Rule, IReadOnlyList<Ballot> Ballots, string? SkippedBecause);

/// <summary>
/// Where a request stands: a pure function of its stages, the items of its plan and the approvals given so far.
/// The order in which approvals came does not matter, and an approval counts only for what it covered.
/// </summary>
public static class Standing
{
    /// <summary>The first stage that still lacks approvals, or the number of stages when none does.</summary>
    /// <param name="from">The stage to begin with: what was passed is not asked again while the plan stays as it is.</param>
    public static int FirstOpen(IReadOnlyList<StageAsk> stages, IReadOnlyList<Item> items, IReadOnlyList<Vote> votes, IReadOnlySet<string> struck, int from = 0)
    {
        for (var i = from; i < stages.Count; i++)
            if (Open(stages[i], items, votes, struck).Count > 0) return i;
        return stages.Count;
    }

    /// <summary>The ballots of a stage that still lack approvals.</summary>
    public static IReadOnlyList<Ballot> Open(StageAsk stage, IReadOnlyList<Item> items, IReadOnlyList<Vote> votes, IReadOnlySet<string> struck) =>
        [.. stage.Ballots.Where(b => Given(b, items, votes, struck).Count < b.Needed)];

    /// <summary>Those whose right was used to approve a ballot as it is now; each right counts once.</summary>
    public static IReadOnlyCollection<string> Given(Ballot ballot, IReadOnlyList<Item> items, IReadOnlyList<Vote> votes, IReadOnlySet<string> struck) =>
        [.. votes.Where(v => v.Stage == ballot.Stage && v.Item == ballot.Item && Counts(v, items, struck)).Select(v => v.For).Distinct()];

    /// <summary>True when an approval still covers exactly what would run: nothing came, nothing went but what was struck, nothing changed.</summary>
    public static bool Counts(Vote vote, IReadOnlyList<Item> items, IReadOnlySet<string> struck)
    {
        if (vote.Item.Length > 0) return items.FirstOrDefault(i => i.Key == vote.Item) is { } item && vote.Covers.GetValueOrDefault(item.Key) == item.Digest;
        return items.All(i => vote.Covers.GetValueOrDefault(i.Key) == i.Digest) && vote.Covers.Keys.All(key => IsStruck(key, struck) || items.Any(i => i.Key == key));
    }

    /// <summary>With an account goes what it would have held.</summary>
    private static bool IsStruck(string key, IReadOnlySet<string> struck) => struck.Contains(key) || struck.Contains(key.Split('/', 2)[0]);

    /// <summary>What an approval of a ballot covers now.</summary>
    public static IReadOnlyDictionary<string, string> CoverOf(string item, IReadOnlyList<Item> items) =>
        items.Where(i => item.Length == 0 || i.Key == item).ToDictionary(i => i.Key, i => i.Digest);

    /// <summary>The stages with their ballots for these circumstances.</summary>
    public static IReadOnlyList<StageAsk> Ask(IReadOnlyList<Stage> stages, Circumstances about, Rulebook.Rulebook rulebook, IReadOnlyList<Party> parties) => [.. stages.Select(stage =>
    {
        if (!Approvers.Holds(stage.When, about, rulebook)) return new StageAsk(stage, [], $"its condition does not hold ({stage.When!.Text})");
        var items = stage.PerItem ? about.Items.Select(i => (Item?)i).ToList() : [null];
        var ballots = new List<Ballot>();
        string? skipped = null;
        foreach (var item in items)
        {
            var deciders = Approvers.Resolve(stage.Decides, stage.Otherwise, item, about, rulebook, parties);
            if (Skip(stage, about, rulebook) is { } why)
            {
                skipped = why;
                continue;
            }
            var able = deciders.UserNames.Count > 0 ? deciders.UserNames.Count
                : parties.Count(p => p.Active && deciders.Includes(p, about) && !p.IsConcerned(about));
            ballots.Add(new(stage.Name, item?.Key ?? "", deciders, Math.Max(1, stage.Quorum == Stage.All ? able : Math.Min(stage.Quorum, Math.Max(1, able)))));
        }
        return new StageAsk(stage, ballots, ballots.Count > 0 ? null : skipped ?? "it has nothing to decide on");
    })];

    private static string? Skip(Stage stage, Circumstances about, Rulebook.Rulebook rulebook)
    {
        foreach (var rule in stage.Skips)
        {
            switch (rule)
            {
                case SkipRule.RequesterIsManager when about.RequesterNumber.Length > 0 && about.RequesterNumber == about.Facts.Manager:
                    return "the line manager raised the request";
                case SkipRule.RequesterIsAboveApprover when about.RequesterNumber.Length > 0 && about.RequesterNumber == about.ManagersManager:
                    return "the line manager's manager raised the request";
                case SkipRule.RequesterIsOwner when about.RequesterNumber.Length > 0 && about.Items.Count > 0 && about.Items.All(i => Owner(i) == about.RequesterNumber):
                    return "the owner raised the request";
                case SkipRule.NothingPrivileged when !about.Privileged && !about.BreaksSeparation:
                    return "nothing in it is privileged";
            }
        }
        return null;

        string? Owner(Item item) => item.Entitlement is { } e ? rulebook.Targets.GetValueOrDefault(item.Target)?.Entitlements.GetValueOrDefault(e)?.Owner : rulebook.Targets.GetValueOrDefault(item.Target)?.Owner;
    }
}
