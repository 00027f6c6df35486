using Oikonom.Core.Expressions;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Approval;

/// <summary>What a stage may ask about a request.</summary>
/// <param name="Source">The source it came from, or <c>hand</c>.</param>
/// <param name="ManagersManager">Employee number of the line manager's manager, or "".</param>
public sealed record Circumstances(
    string Kind,
    string Source,
    string Requester,
    string RequesterNumber,
    Facts Facts,
    string ManagersManager,
    bool Urgent,
    IReadOnlyList<Item> Items,
    bool BreaksSeparation
)
{
    /// <summary>What is recorded of the person now. Who decides is found from it alone, never from what the request asks to
    /// change.</summary>
    public Facts Recorded { get; init; } = Facts;

    /// <summary>Who stands behind the requester, and whom the request is for, as <see cref="Party.Person"/> names them.</summary>
    public string RequesterPerson { get; init; } = Party.PersonOf(RequesterNumber, Requester);

    /// <summary>Who the person is that it is about, as <see cref="Party.Person"/> names people.</summary>
    public string BeneficiaryPerson { get; init; } = Party.PersonOf(Facts.Number, "");

    /// <summary>True when somebody asks for themselves.</summary>
    public bool IsOwn => RequesterPerson == BeneficiaryPerson;

    /// <summary>True when all that is known of the person was given by the requester.</summary>
    public bool IsMadeUp => Kind == "joiner" && Source == Workflow.ByHand;

    /// <summary>The employee number of whom it is about, as recorded; what is asked for does not change it.</summary>
    public string Beneficiary => Recorded.Number;

    /// <summary>True when powerful access is among what would be given.</summary>
    public bool Privileged => Items.Any(i => i.IsPrivileged);
}

/// <summary>Finds the people who decide a stage.</summary>
public static class Approvers
{
    /// <summary>
    /// True when <paramref name="condition"/> is null, or holds for the person as recorded or as they would be: a
    /// request cannot change its way past a stage.
    /// </summary>
    public static bool Holds(Expression? condition, Circumstances about, Rulebook.Rulebook rulebook) =>
        condition is null
        || condition.Holds(ScopeOf(about, about.Recorded, rulebook))
        || (!ReferenceEquals(about.Recorded, about.Facts) && condition.Holds(ScopeOf(about, about.Facts, rulebook)));

    private static Scope ScopeOf(Circumstances about, Facts facts, Rulebook.Rulebook rulebook)
    {
        var scope = new Scope(rulebook.RequestNames);
        facts.Fill(scope, rulebook.RequestNames);
        Set("request.kind", Value.Of(about.Kind));
        Set("request.source", Value.Of(about.Source));
        Set("request.requester", Value.Of(about.Requester));
        Set("request.byHand", Value.Of(about.Source == Workflow.ByHand));
        Set("request.urgent", Value.Of(about.Urgent));
        Set("request.privileged", Value.Of(about.Privileged));
        Set("request.separation", Value.Of(about.BreaksSeparation));
        Set("request.items", Value.Of((long)about.Items.Count));
        Set("request.gives", Value.Of(about.Items.Any(i => i.Gives)));
        return scope;

        void Set(string name, Value value) => scope[rulebook.RequestNames.IndexOf(name)] = value;
    }

    /// <summary>
    /// Who decides on an item of a stage (null: on the request as a whole). Never empty: the stage's other approvers,
    /// and at last everybody with the role approver, stand in, and the reason says so.
    /// </summary>
    public static Deciders Resolve(
        IReadOnlyList<Approver> decides,
        IReadOnlyList<Approver> otherwise,
        Item? item,
        Circumstances about,
        Rulebook.Rulebook rulebook,
        IReadOnlyList<Party> parties
    )
    {
        var (first, missing, _) = Find(decides, item, about, rulebook, parties);
        if (first is not null)
            return first;
        var (second, alsoMissing, _) = Find(otherwise, item, about, rulebook, parties);
        if (second is not null)
            return second with { Why = $"{second.Why}, because {missing}" };
        return new(
            [],
            "approver",
            "anyone with the role approver, because "
                + $"{missing}{(alsoMissing.Length > 0 && alsoMissing != missing ? $" and {alsoMissing}" : "")}"
        );
    }

    /// <summary>
    /// What a stage asks of an item (null: of the request as a whole). A quorum never falls by itself: when some of
    /// those who decide cannot, others fill up from <c>otherwise</c> and those who can are still needed; when there
    /// are too few all the same, the ballot says so and waits.
    /// </summary>
    public static Ballot Poll(Stage stage, Item? item, Circumstances about, Rulebook.Rulebook rulebook, IReadOnlyList<Party> parties)
    {
        var (first, missing, named) = Find(stage.Decides, item, about, rulebook, parties);
        var key = item?.Key ?? "";
        var needed = stage.Quorum == Stage.All ? Math.Max(1, named) : Math.Max(1, stage.Quorum);
        if (first is null)
        {
            var others = Resolve(stage.Decides, stage.Otherwise, item, about, rulebook, parties);
            return Told(new(stage.Name, key, others, needed), about, parties);
        }
        var own = People(first, about, parties);
        if (own.Count >= needed)
            return new(stage.Name, key, first, needed);
        var why = missing.Length > 0 ? missing : $"{needed} are needed and {own.Count} can decide";
        if (Find(stage.Otherwise, item, about, rulebook, parties).Found is not { } second)
            return Told(new(stage.Name, key, first, needed), about, parties);
        var names = own.Concat(People(second, about, parties)).Distinct().Order(StringComparer.Ordinal).ToList();
        var filled = new Deciders(names, null, $"{first.Why}, and {second.Why}, because {why}");
        return Told(new(stage.Name, key, filled, needed) { Own = own, OwnNeeded = own.Count }, about, parties);
    }

    /// <summary>Those who may decide now, one user for each person.</summary>
    private static List<string> People(Deciders deciders, Circumstances about, IReadOnlyList<Party> parties) =>
        [
            .. parties
                .Where(p => p.Active && !p.IsConcerned(about) && deciders.Includes(p, about))
                .DistinctBy(p => p.Person)
                .Select(p => p.UserName),
        ];

    private static Ballot Told(Ballot ballot, Circumstances about, IReadOnlyList<Party> parties) =>
        People(ballot.Deciders, about, parties).Count is var able && able >= ballot.Needed
            ? ballot
            : ballot with
            {
                TooFew =
                    $"{ballot.Needed} different people must approve, and only {able} can; name more in the rulebook, or let more sign in",
            };

    private static (Deciders? Found, string Missing, int Named) Find(
        IReadOnlyList<Approver> approvers,
        Item? item,
        Circumstances about,
        Rulebook.Rulebook rulebook,
        IReadOnlyList<Party> parties
    )
    {
        var (users, roles, whys, missing, named) = (new List<string>(), new List<string>(), new List<string>(), new List<string>(), 0);
        foreach (var approver in approvers)
        {
            var why = Title(approver);
            if (approver.Relation == "role")
            {
                var able = parties
                    .Where(p => p.Active && p.Holds(approver.Argument, about) && !p.IsConcerned(about))
                    .DistinctBy(p => p.Person)
                    .Count();
                named += able;
                if (able > 0)
                    (roles, whys) = ([.. roles, approver.Argument], [.. whys, why]);
                else
                    missing.Add($"nobody else has the role {approver.Argument}");
                continue;
            }
            var numbers = Numbers(approver, item, about, rulebook);
            named += numbers.Count;
            if (numbers.Count == 0)
            {
                missing.Add(Absent(approver));
                continue;
            }
            // Deciding is a right of its own: whoever lacks it cannot be asked.
            var known = parties
                .Where(p => p.Active && p.Roles.Contains("approver") && p.Number is { Length: > 0 } number && numbers.Contains(number))
                .ToList();
            var free = known.Where(p => !p.IsConcerned(about)).Select(p => p.UserName).ToList();
            if (free.Count == 0)
                missing.Add(known.Count > 0 ? "nobody decides for themselves" : $"{why} {string.Join(", ", numbers)} cannot sign in");
            else
            {
                (users, whys) = ([.. users, .. free], [.. whys, why]);
                if (free.Count < numbers.Count)
                    missing.Add($"{numbers.Count - free.Count} of {why} cannot decide");
            }
        }
        var said = string.Join(" and ", missing.Distinct());
        if (roles.Count == 1 && users.Count == 0)
            return (new([], roles[0], whys[0]), said, named);
        foreach (var role in roles)
            users.AddRange(parties.Where(p => p.Active && p.Holds(role, about) && !p.IsConcerned(about)).Select(p => p.UserName));
        return users.Count == 0
            ? (null, said, named)
            : (new([.. users.Distinct().Order(StringComparer.Ordinal)], null, string.Join(" or ", whys.Distinct())), said, named);
    }

    private static IReadOnlyList<string> Numbers(Approver approver, Item? item, Circumstances about, Rulebook.Rulebook rulebook)
    {
        var facts = about.Recorded;
        return approver.Relation switch
        {
            "manager" => Some(facts.Manager),
            "manager-of-manager" => Some(about.ManagersManager),
            "department-head" => Some(rulebook.Departments.GetValueOrDefault(facts.Text(BuiltIn.Department))),
            "site-lead" => Some(rulebook.Sites.GetValueOrDefault(facts.Site)?.Lead),
            "owner" => Owners(i =>
                i.Entitlement is { } e
                    ? rulebook.Targets.GetValueOrDefault(i.Target)?.Entitlements.GetValueOrDefault(e)?.Owner
                    : rulebook.Targets.GetValueOrDefault(i.Target)?.Owner
            ),
            "target-owner" => Owners(i => rulebook.Targets.GetValueOrDefault(i.Target)?.Owner),
            "group" => rulebook.Groups.GetValueOrDefault(approver.Argument) ?? [],
            "person" => [approver.Argument],
            _ => approver.Expression is { } expression
                ? Some(expression.Evaluate(ScopeOf(about, about.Recorded, rulebook)).ToString())
                : [],
        };

        IReadOnlyList<string> Owners(Func<Item, string?> owner) =>
            [.. (item is null ? about.Items : [item]).Select(owner).OfType<string>().Where(o => o.Length > 0).Distinct()];
    }

    private static IReadOnlyList<string> Some(string? number) => string.IsNullOrEmpty(number) ? [] : [number];

    /// <summary>An approver in plain words.</summary>
    public static string Title(Approver approver) =>
        approver.Relation switch
        {
            "manager" => "the line manager",
            "manager-of-manager" => "the line manager's manager",
            "department-head" => "the head of department",
            "site-lead" => "the site lead",
            "owner" => "the owner",
            "target-owner" => "the owner of the target",
            "group" => $"the group {approver.Argument}",
            "role" => $"anyone with the role {approver.Argument}",
            "person" => $"person {approver.Argument}",
            _ => $"whom “{approver.Expression?.Text}” names",
        };

    private static string Absent(Approver approver) =>
        approver.Relation switch
        {
            "manager" => "HR names no manager",
            "manager-of-manager" => "HR names no manager of the manager",
            "department-head" => "the department has no head",
            "site-lead" => "the site has no lead",
            "owner" or "target-owner" => "it has no owner",
            "group" => $"the group {approver.Argument} is empty",
            _ => "the expression names nobody",
        };
}
