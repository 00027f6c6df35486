using System.Security.Claims;
using Oikonom.Core.Approval;
using Oikonom.Service.Common;

namespace Oikonom.Service.Access;

/// <summary>The roles, and what they open. Each endpoint names one of these policies.</summary>
public static class Roles
{
    public const string Requester = "requester";
    public const string Approver = "approver";
    public const string Operator = "operator";
    public const string Engineer = "engineer";
    public const string Auditor = "auditor";
    public static readonly IReadOnlyList<string> All = [Requester, Approver, Operator, Engineer, Auditor];

    /// <summary>Policy name → the roles that satisfy it.</summary>
    public static readonly IReadOnlyDictionary<string, string[]> Policies = new Dictionary<string, string[]>
    {
        ["read"] = [.. All],
        ["decide"] = [Approver],
        ["operate"] = [Operator],
        ["intake"] = [Requester, Operator, Engineer],
        ["configure"] = [Engineer],
        ["rulebook-read"] = [Engineer, Auditor],
        ["audit"] = [Auditor, Engineer],
        ["rollouts"] = [Approver, Operator, Engineer, Auditor],
        ["targets"] = [Operator, Engineer],
        ["receive"] = [.. All],
        ["request"] = [Requester, Engineer],
        ["release"] = [Operator, Engineer],
        ["work"] = [.. All],
    };

    public static string UserName(this ClaimsPrincipal user) => user.Identity?.Name ?? "";

    public static IReadOnlyList<string> RoleNames(this ClaimsPrincipal user) => [.. user.FindAll(ClaimTypes.Role).Select(c => c.Value)];

    public static string Number(this ClaimsPrincipal user) => user.FindFirstValue("number") ?? "";

    public static Party AsParty(this ClaimsPrincipal user) =>
        new(user.UserName(), user.RoleNames().ToHashSet(), user.Number() is { Length: > 0 } number ? number : null, true)
        {
            Reach = Reach.FromJson(user.FindFirstValue("reach") ?? "{}"),
        };

    /// <summary>True when the caller is the person, under any of their numbers.</summary>
    public static bool IsSelf(this ClaimsPrincipal user, Oikonom.Store.Rooms.PersonRow row) =>
        (user.FindFirstValue("person") is { Length: > 0 } person && person == row.Id)
        || (user.Number() is { Length: > 0 } number && number == row.Number);

    /// <summary>True when each of the roles that the caller has is limited to targets.</summary>
    public static bool TargetsOf(this ClaimsPrincipal user, IReadOnlyList<string> roles)
    {
        var party = user.AsParty();
        var held = party.Roles.Where(r => roles.Count == 0 || roles.Contains(r)).ToList();
        return held.Count > 0 && held.TrueForAll(r => party.Reach.TryGetValue(r, out var reach) && reach.Targets.Count > 0);
    }

    /// <summary>The reach as the store asks for it: parts of sites and departments, or null for everybody.</summary>
    public static IReadOnlyList<(IReadOnlyList<string> Sites, IReadOnlyList<string> Departments)>? ReachParts(this ClaimsPrincipal user) =>
        user.ReachOf() is { } parts ? [.. parts.Select(p => (p.Sites, p.Departments))] : null;

    /// <summary>The parts of the organisation in which the caller has one of the roles; null means everywhere.</summary>
    public static IReadOnlyList<Reach>? ReachOf(this ClaimsPrincipal user, params IReadOnlyList<string> roles)
    {
        var party = user.AsParty();
        var held = party.Roles.Where(r => roles.Count == 0 || roles.Contains(r)).ToList();
        return held.Exists(r => !party.Reach.TryGetValue(r, out var reach) || (reach.Sites.Count == 0 && reach.Departments.Count == 0))
            ? null
            : [.. held.Select(r => party.Reach[r])];
    }

    /// <exception cref="Hosting.Problem">The person does not work where the caller has one of the roles.</exception>
    public static void RequireReach(this ClaimsPrincipal user, string site, string department, params IReadOnlyList<string> roles)
    {
        if (user.ReachOf(roles) is { } parts && !parts.Any(p => p.Covers(site, department)))
            throw new Problem(
                403,
                "out-of-reach",
                "Not allowed",
                $"Your role is limited to another part of the organisation; this person works at {site}, {department}."
            );
    }

    /// <summary>Refuses when each of the caller's roles named is limited to targets that do not include all of these.</summary>
    public static void RequireTargets(this ClaimsPrincipal user, IReadOnlyList<string> targets, params IReadOnlyList<string> roles)
    {
        if (!user.CoversTargets(targets, roles))
            throw new Problem(
                403,
                "out-of-reach",
                "Not allowed",
                $"Your role is limited to other targets than {string.Join(", ", targets)}."
            );
    }

    /// <summary>True when one of the roles that the caller has covers all of the targets.</summary>
    private static bool CoversTargets(this ClaimsPrincipal user, IReadOnlyList<string> targets, IReadOnlyList<string> roles)
    {
        var party = user.AsParty();
        return party.Roles.Any(r => roles.Contains(r) && (!party.Reach.TryGetValue(r, out var reach) || targets.All(reach.CoversTarget)));
    }

    /// <summary>True when the caller may pause a target and read it whole: what touches people of every site is not for those who
    /// are limited to one.</summary>
    public static bool MayOperateTarget(this ClaimsPrincipal user, string target) =>
        user.AsParty() is var party
        && party.Roles.Any(r =>
            r is Operator or Engineer
            && (
                !party.Reach.TryGetValue(r, out var reach)
                || (reach.CoversTarget(target) && reach.Sites.Count == 0 && reach.Departments.Count == 0)
            )
        );

    /// <exception cref="Problem">The caller's roles are limited to other targets, or to some sites or departments.</exception>
    public static void RequireWholeTarget(this ClaimsPrincipal user, string target)
    {
        if (!user.MayOperateTarget(target))
            throw new Problem(
                403,
                "out-of-reach",
                "Not allowed",
                $"This touches everybody in {target}, and your role is limited to other targets, or to some sites or departments."
            );
    }
}
