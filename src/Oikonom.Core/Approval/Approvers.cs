using Oikonom.Core.Expressions;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Approval;

/// <summary>What a stage may ask about a request.</summary>
/// <param name="Source">The source it came from, or <c>hand</c>.</param>
/// <param name="ManagersManager">Employee number of the line manager's manager, or "".</param>
public sealed record Circumstances(
    string Kind, string Source, string Requester, string RequesterNumber, Facts Facts, string ManagersManager, bool Urgent,
    IReadOnlyList<Item> Items, bool BreaksSeparation)
{
    public string Beneficiary => Facts.Number;
    public bool Privileged => Items.Any(i => i.IsPrivileged);
}

/// <summary>Finds the people who decide a stage.</summary>
public static class Approvers
{
    /// <summary>The names of <see cref="Rulebook.Rulebook.RequestNames"/> that are not attributes of the person.</summary>
    public static readonly IReadOnlyList<KeyValuePair<string, ExpressionType>> Names =
    [
        new("request.kind", ExpressionType.String), new("request.source", ExpressionType.String), new("request.requester", ExpressionType.String),
        new("request.byHand", ExpressionType.Bool), new("request.urgent", ExpressionType.Bool), new("request.privileged", ExpressionType.Bool),
        new("request.separation", ExpressionType.Bool), new("request.items", ExpressionType.Int),
    ];

    /// <summary>True when <paramref name="condition"/> holds, or is null.</summary>
    public static bool Holds(Expression? condition, Circumstances about, Rulebook.Rulebook rulebook) => condition is null || condition.Holds(ScopeOf(about, rulebook));

    private static Scope ScopeOf(Circumstances about, Rulebook.Rulebook rulebook)
    {
        var scope = new Scope(rulebook.RequestNames);
        about.Facts.Fill(scope, rulebook.RequestNames);
        Set("request.kind", Value.Of(about.Kind));
        Set("request.source", Value.Of(about.Source));
        Set("request.requester", Value.Of(about.Requester));
        Set("request.byHand", Value.Of(about.Source == Workflow.ByHand));
        Set("request.urgent", Value.Of(about.Urgent));
        Set("request.privileged", Value.Of(about.Privileged));
        Set("request.separation", Value.Of(about.BreaksSeparation));
        Set("request.items", Value.Of((long)about.Items.Count));
        return scope;

        void Set(string name, Value value) => scope[rulebook.RequestNames.IndexOf(name)] = value;
    }

    /// <summary>
    /// Who decides on an item of a stage (null: on the request as a whole). Never empty: the stage's other approvers,
    /// and at last everybody with the role approver, stand in, and the reason says so.
    /// </summary>
    public static Deciders Resolve(IReadOnlyList<Approver> decides, IReadOnlyList<Approver> otherwise, Item? item, Circumstances about, Rulebook.Rulebook rulebook, IReadOnlyList<Party> parties)
    {
        var (first, missing) = Find(decides, item, about, rulebook, parties);
        if (first is not null) return first;
        var (second, alsoMissing) = Find(otherwise, item, about, rulebook, parties);
        if (second is not null) return second with { Why = $"{second.Why}, because {missing}" };
        return new([], "approver", $"anyone with the role approver, because {missing}{(alsoMissing.Length > 0 && alsoMissing != missing ? $" and {alsoMissing}" : "")}");
    }

    private static (Deciders? Found, string Missing) Find(IReadOnlyList<Approver> approvers, Item? item, Circumstances about, Rulebook.Rulebook rulebook, IReadOnlyList<Party> parties)
    {
        var (users, roles, whys, missing) = (new List<string>(), new List<string>(), new List<string>(), new List<string>());
        foreach (var approver in approvers)
        {
            var why = Title(approver);
            if (approver.Relation == "role")
            {
                if (parties.Any(p => p.Active && p.Holds(approver.Argument, about) && !p.IsConcerned(about))) (roles, whys) = ([.. roles, approver.Argument], [.. whys, why]);
                else missing.Add($"nobody else has the role {approver.Argument}");
                continue;
            }
            var numbers = Numbers(approver, item, about, rulebook);
            if (numbers.Count == 0)
            {
                missing.Add(Absent(approver));
                continue;
            }
            // Deciding is a right of its own: whoever lacks it cannot be asked.
            var known = parties.Where(p => p.Active && p.Roles.Contains("approver") && p.Number is { Length: > 0 } number && numbers.Contains(number)).ToList();
            var able = known.Where(p => !p.IsConcerned(about)).Select(p => p.UserName).ToList();
            if (able.Count == 0) missing.Add(known.Count > 0 ? "nobody decides for themselves" : $"{why} {string.Join(", ", numbers)} cannot sign in");
            else (users, whys) = ([.. users, .. able], [.. whys, why]);
        }
        if (roles.Count == 1 && users.Count == 0) return (new([], roles[0], whys[0]), "");
        foreach (var role in roles) users.AddRange(parties.Where(p => p.Active && p.Holds(role, about) && !p.IsConcerned(about)).Select(p => p.UserName));
        return users.Count == 0 ? (null, string.Join(" and ", missing.Distinct())) : (new([.. users.Distinct().Order(StringComparer.Ordinal)], null, string.Join(" or ", whys.Distinct())), "");
    }

    private static IReadOnlyList<string> Numbers(Approver approver, Item? item, Circumstances about, Rulebook.Rulebook rulebook)
    {
        var facts = about.Facts;
        return approver.Relation switch
        {
            "manager" => Some(facts.Manager),
            "manager-of-manager" => Some(about.ManagersManager),
            "department-head" => Some(rulebook.Departments.GetValueOrDefault(facts.Text(BuiltIn.Department))),
            "site-lead" => Some(rulebook.Sites.GetValueOrDefault(facts.Site)?.Lead),
            "owner" => Owners(i => i.Entitlement is { } e ? rulebook.Targets.GetValueOrDefault(i.Target)?.Entitlements.GetValueOrDefault(e)?.Owner : rulebook.Targets.GetValueOrDefault(i.Target)?.Owner),
            "target-owner" => Owners(i => rulebook.Targets.GetValueOrDefault(i.Target)?.Owner),
            "group" => rulebook.Groups.GetValueOrDefault(approver.Argument) ?? [],
            "person" => [approver.Argument],
            _ => approver.Expression is { } expression ? Some(expression.Evaluate(ScopeOf(about, rulebook)).ToString()) : [],
        };

        IReadOnlyList<string> Owners(Func<Item, string?> owner) => [.. (item is null ? about.Items : [item]).Select(owner).OfType<string>().Where(o => o.Length > 0).Distinct()];
    }

    private static IReadOnlyList<string> Some(string? number) => string.IsNullOrEmpty(number) ? [] : [number];

    /// <summary>An approver in plain words.</summary>
    public static string Title(Approver approver) => approver.Relation switch
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

    private static string Absent(Approver approver) => approver.Relation switch
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
