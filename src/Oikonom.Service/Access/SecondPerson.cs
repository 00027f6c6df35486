using System.Security.Claims;
using Oikonom.Service.Common;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Access;

/// <summary>What one began another agrees to. Persons are compared, not user names.</summary>
public static class SecondPerson
{
    /// <exception cref="Problem">Whoever agrees is the one who began.</exception>
    public static async Task RequireAsync(Session s, string began, ClaimsPrincipal agrees, string code, string why)
    {
        if (await IsSameAsync(s, began, agrees.UserName()))
            throw new Problem(403, code, "Not allowed", why);
    }

    /// <summary>True when there ever was another engineer: ending the others' sign-in leaves nobody to decide alone.</summary>
    public static async Task<bool> OfEngineersAsync(Session s, string actor) =>
        (await s.UsersAsync()).Any(u => u.Name != actor && u.Roles.Split(' ').Contains(Roles.Engineer));

    private static async Task<bool> IsSameAsync(Session s, string one, string other)
    {
        if (one == other)
            return true;
        var (a, b) = (await s.UserAsync(one), await s.UserAsync(other));
        return a is not null
            && b is not null
            && ((a.Number.Length > 0 && a.Number == b.Number) || (a.PersonId.Length > 0 && a.PersonId == b.PersonId));
    }
}
