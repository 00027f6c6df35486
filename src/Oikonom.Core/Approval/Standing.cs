using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Approval;

/// <summary>What one stage wants decided: the request as a whole, or one item.</summary>
/// <param name="Item">The key of the item, or "" for the whole.</param>
/// <param name="Needed">How many different people must approve.</param>
public sealed record Ballot(string Stage, string Item, Deciders Deciders, int Needed)
{
    /// <summary>Of those who may decide, the stage's own, where others only fill up for who is missing; null when all are.</summary>
    public IReadOnlyList<string>? Own { get; init; }

    /// <summary>How many of <see cref="Own"/> must be among those who approve.</summary>
    public int OwnNeeded { get; init; }

    /// <summary>Why it cannot be decided now: fewer people can decide than must. Null when enough can.</summary>
    public string? TooFew { get; init; }
}

/// <summary>An approval as it was given, with the digest of each item it covered.</summary>
/// <param name="For">Whose right was used: the actor's own, or that of somebody who handed it over.</param>
public sealed record Vote(string Stage, string Item, string Actor, string For, IReadOnlyDictionary<string, string> Covers)
{
    /// <summary>Who stands behind the actor, and behind whose right was used: a person counts once.</summary>
    public string ActorPerson { get; init; } = Actor;

    /// <summary>The person behind <see cref="For"/>, as <see cref="Party.Person"/> names people.</summary>
    public string ForPerson { get; init; } = For;
}

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
    public static int FirstOpen(
        IReadOnlyList<StageAsk> stages,
        IReadOnlyList<Item> items,
        IReadOnlyList<Vote> votes,
        IReadOnlySet<string> struck,
        int from = 0,
        string? inputs = null
    )
    {
        for (var i = from; i < stages.Count; i++)
            if (Open(stages[i], items, votes, struck, inputs).Count > 0)
                return i;
        return stages.Count;
    }

    /// <summary>The ballots of a stage that still lack approvals.</summary>
    public static IReadOnlyList<Ballot> Open(
        StageAsk stage,
        IReadOnlyList<Item> items,
        IReadOnlyList<Vote> votes,
        IReadOnlySet<string> struck,
        string? inputs = null
    ) => [.. stage.Ballots.Where(b => IsOpen(b, items, votes, struck, inputs))];

    /// <summary>True while a ballot lacks approvals, or those of its own deciders.</summary>
    public static bool IsOpen(
        Ballot ballot,
        IReadOnlyList<Item> items,
        IReadOnlyList<Vote> votes,
        IReadOnlySet<string> struck,
        string? inputs = null
    )
    {
        var given = Given(ballot, items, votes, struck, inputs);
        return given.Count < ballot.Needed || (ballot.Own is { } own && given.Count(own.Contains) < Math.Min(ballot.OwnNeeded, own.Count));
    }

    /// <summary>
    /// Those whose right was used to approve a ballot as it is now. Each person counts once, whether they used their
    /// own right or that of somebody who handed it over.
    /// </summary>
    public static IReadOnlyCollection<string> Given(
        Ballot ballot,
        IReadOnlyList<Item> items,
        IReadOnlyList<Vote> votes,
        IReadOnlySet<string> struck,
        string? inputs = null
    )
    {
        var (counted, met) = (new List<string>(), new HashSet<string>(StringComparer.Ordinal));
        // Own rights first, then by name: the order in which approvals came does not matter.
        foreach (
            var vote in votes
                .Where(v => v.Stage == ballot.Stage && v.Item == ballot.Item && Counts(v, items, struck, inputs))
                .OrderBy(v => v.ActorPerson == v.ForPerson ? 0 : 1)
                .ThenBy(v => v.For, StringComparer.Ordinal)
                .ThenBy(v => v.Actor, StringComparer.Ordinal)
        )
        {
            if (met.Contains(vote.ActorPerson) || met.Contains(vote.ForPerson))
                continue;
            met.Add(vote.ActorPerson);
            met.Add(vote.ForPerson);
            counted.Add(vote.For);
        }
        return counted;
    }

    /// <summary>The name under which an approval keeps the inputs it covered.</summary>
    private const string InputsKey = "";

    /// <summary>True when an approval still covers exactly what would run: nothing came, nothing went but what was struck,
    /// nothing changed.</summary>
    /// <param name="inputs">The identity of the inputs the request would change now (<see cref="Planning.Plan.Inputs"/>).</param>
    public static bool Counts(Vote vote, IReadOnlyList<Item> items, IReadOnlySet<string> struck, string? inputs = null)
    {
        if (vote.Covers.GetValueOrDefault(InputsKey) != inputs)
            return false;
        if (vote.Item.Length > 0)
            return items.FirstOrDefault(i => i.Key == vote.Item) is { } item && vote.Covers.GetValueOrDefault(item.Key) == item.Digest;
        return items.All(i => vote.Covers.GetValueOrDefault(i.Key) == i.Digest)
            && vote.Covers.Keys.All(key => key == InputsKey || IsStruck(key, struck) || items.Any(i => i.Key == key));
    }

    /// <summary>With an account goes what it would have held.</summary>
    private static bool IsStruck(string key, IReadOnlySet<string> struck) => struck.Contains(key) || struck.Contains(Items.AccountOf(key));

    /// <summary>What an approval of a ballot covers now.</summary>
    public static IReadOnlyDictionary<string, string> CoverOf(string item, IReadOnlyList<Item> items, string? inputs = null)
    {
        var covers = items.Where(i => item.Length == 0 || i.Key == item).ToDictionary(i => i.Key, i => i.Digest);
        if (inputs is not null)
            covers[InputsKey] = inputs;
        return covers;
    }

    /// <summary>The stages with their ballots for these circumstances.</summary>
    public static IReadOnlyList<StageAsk> Ask(
        IReadOnlyList<Stage> stages,
        Circumstances about,
        Rulebook.Rulebook rulebook,
        IReadOnlyList<Party> parties
    ) =>
        [
            .. stages.Select(stage =>
            {
                if (!Approvers.Holds(stage.When, about, rulebook))
                    return new StageAsk(stage, [], $"its condition does not hold ({stage.When!.Text})");
                // Where nothing is there to decide one by one, the inputs are decided on as a whole.
                var items = stage.PerItem && about.Items.Count > 0 ? about.Items.Select(i => (Item?)i).ToList() : [null];
                var ballots = new List<Ballot>();
                string? skipped = null;
                foreach (var item in items)
                {
                    if (Skip(stage, about, rulebook) is { } why)
                        skipped = why;
                    else
                        ballots.Add(Approvers.Poll(stage, item, about, rulebook, parties));
                }
                return new StageAsk(stage, ballots, ballots.Count > 0 ? null : skipped ?? "it has nothing to decide on");
            }),
        ];

    /// <summary>Why a stage is skipped. Nobody skips a stage for themselves, or by what only they said.</summary>
    private static string? Skip(Stage stage, Circumstances about, Rulebook.Rulebook rulebook)
    {
        var byPosition = !about.IsOwn && about.RequesterNumber.Length > 0;
        foreach (var rule in stage.Skips)
        {
            switch (rule)
            {
                case SkipRule.RequesterIsManager when byPosition && !about.IsMadeUp && about.RequesterNumber == about.Recorded.Manager:
                    return "the line manager raised the request";
                case SkipRule.RequesterIsAboveApprover when byPosition && !about.IsMadeUp && about.RequesterNumber == about.ManagersManager:
                    return "the line manager's manager raised the request";
                case SkipRule.RequesterIsOwner
                    when byPosition && about.Items.Count > 0 && about.Items.All(i => Owner(i) == about.RequesterNumber):
                    return "the owner raised the request";
                case SkipRule.NothingPrivileged when !about.Privileged && !about.BreaksSeparation:
                    return "nothing in it is privileged";
            }
        }
        return null;

        string? Owner(Item item) =>
            item.Entitlement is { } e
                ? rulebook.Targets.GetValueOrDefault(item.Target)?.Entitlements.GetValueOrDefault(e)?.Owner
                : rulebook.Targets.GetValueOrDefault(item.Target)?.Owner;
    }
}
