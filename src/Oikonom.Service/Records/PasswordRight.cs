using System.Security.Claims;
using Oikonom.Service.Access;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Records;

/// <summary>Who may ask for a new link to somebody's first password.</summary>
public static class PasswordRight
{
    /// <summary>Why somebody may not; null for the line manager, and for requesters and operators within their reach.</summary>
    /// <param name="targets">Where the accounts are.</param>
    public static string? WhyNot(ClaimsPrincipal user, PersonRow person, IReadOnlyList<string> targets)
    {
        if (user.IsSelf(person))
            return "This is your own first password; somebody else asks for it.";
        if (person.Manager.Length > 0 && person.Manager == user.Number())
            return null;
        var party = user.AsParty();
        return user.RoleNames().Any(r => r is Roles.Requester || (r is Roles.Operator && ReachesTargets(r)) ? Reaches(r) : false)
            ? null
            : "Operators, requesters and the line manager ask for a new link, each within their reach.";

        bool Reaches(string role) => user.ReachOf(role) is not { } parts || parts.Any(p => p.Covers(person.Site, person.Department));

        bool ReachesTargets(string role) => !party.Reach.TryGetValue(role, out var reach) || targets.All(reach.CoversTarget);
    }
}
