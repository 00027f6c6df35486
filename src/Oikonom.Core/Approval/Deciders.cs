namespace Oikonom.Core.Approval;

/// <summary>Somebody who can sign in: their roles, and their employee number when they are a known person.</summary>
public sealed record Party(string UserName, IReadOnlySet<string> Roles, string? Number, bool Active);

/// <summary>Who may decide a stage. Empty <paramref name="UserNames"/> means everybody with <paramref name="Role"/>.</summary>
public sealed record Deciders(IReadOnlyList<string> UserNames, string? Role, string Why);

/// <summary>Finds who decides, and says who may not.</summary>
public static class DecisionRight
{
    /// <summary>Resolves a stage to users. Falls back to the stage's other approver when nobody fits: never a dead end.</summary>
    public static Deciders Resolve(string decides, string otherwise, string managerNumber, string requester, string beneficiaryNumber, IReadOnlyList<Party> parties)
    {
        var first = Find(decides, managerNumber, parties);
        if (first.Role is not null || first.UserNames.Any(user => user != requester && parties.First(p => p.UserName == user).Number != beneficiaryNumber)) return first;
        var second = Find(otherwise, managerNumber, parties);
        return second with { Why = $"{second.Why}, because {Missing(decides, first, managerNumber)}" };
    }

    private static string Missing(string decides, Deciders found, string managerNumber)
    {
        if (found.UserNames.Count > 0) return "nobody decides for themselves";
        if (decides != "manager") return $"{decides} cannot sign in";
        return managerNumber.Length == 0 ? "HR names no manager" : $"the manager {managerNumber} cannot sign in";
    }

    private static Deciders Find(string decides, string managerNumber, IReadOnlyList<Party> parties)
    {
        if (decides.StartsWith("role:", StringComparison.Ordinal)) return new([], decides[5..], $"anyone with the role {decides[5..]}");
        var number = decides == "manager" ? managerNumber : decides["person:".Length..];
        var users = parties.Where(p => p.Active && number.Length > 0 && p.Number == number).Select(p => p.UserName).ToList();
        return new(users, null, decides == "manager" ? "the line manager" : $"person {number}");
    }

    /// <summary>Refuses a decision by someone it does not belong to, by the requester, or by the person it is for.</summary>
    /// <exception cref="RefusedMove">With the code <c>own-request</c> or <c>not-yours</c>.</exception>
    public static void Require(Party actor, Deciders deciders, string requester, string beneficiaryNumber)
    {
        if (actor.UserName == requester) throw new RefusedMove("own-request", "You raised this request yourself; somebody else decides on it.");
        if (actor.Number is { Length: > 0 } number && number == beneficiaryNumber) throw new RefusedMove("own-request", "This request is for yourself; somebody else decides on it.");
        if (!Belongs(actor, deciders)) throw new RefusedMove("not-yours", $"This decision belongs to {deciders.Why}{(deciders.UserNames.Count > 0 ? $" ({string.Join(", ", deciders.UserNames)})" : "")}.");
    }

    public static bool Belongs(Party actor, Deciders deciders) =>
        deciders.Role is { } role ? actor.Roles.Contains(role) : deciders.UserNames.Contains(actor.UserName);
}
