using System.Security.Claims;
using Oikonom.Core.Approval;

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
        ["targets"] = [Operator, Engineer],
        ["receive"] = [.. All],
    };

    public static string UserName(this ClaimsPrincipal user) => user.Identity?.Name ?? "";
    public static IReadOnlyList<string> RoleNames(this ClaimsPrincipal user) => [.. user.FindAll(ClaimTypes.Role).Select(c => c.Value)];
    public static string Number(this ClaimsPrincipal user) => user.FindFirstValue("number") ?? "";
    public static Party AsParty(this ClaimsPrincipal user) => new(user.UserName(), user.RoleNames().ToHashSet(), user.Number() is { Length: > 0 } number ? number : null, true);
}
