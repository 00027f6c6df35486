namespace Oikonom.Core.Approval;

/// <summary>Somebody who can sign in: their roles, and their employee number when they are a known person.</summary>
public sealed record Party(string UserName, IReadOnlySet<string> Roles, string? Number, bool Active)
{
    private static readonly IReadOnlyDictionary<string, Reach> Everywhere = new Dictionary<string, Reach>();

    /// <summary>Who stands behind the user: two users of one person have the same. By itself the employee number, else the user
    /// alone.</summary>
    public string Person { get; init; } = PersonOf(Number, UserName);

    /// <summary>What people call the user.</summary>
    public string Display { get; init; } = UserName;

    /// <summary>The person behind a user of whom no more is known than a number or a name.</summary>
    public static string PersonOf(string? number, string user) => number is { Length: > 0 } ? $"number:{number}" : $"user:{user}";

    /// <summary>The roles that are limited to a part of the organisation.</summary>
    public IReadOnlyDictionary<string, Reach> Reach { get; init; } = Everywhere;

    /// <summary>True when the party has the role where the person of a request works, and for all targets it touches.</summary>
    /// <param name="target">The one target that counts, such as that of a task; null means all of the request.</param>
    public bool Holds(string role, Circumstances about, string? target = null) =>
        Roles.Contains(role)
        && (
            !Reach.TryGetValue(role, out var reach)
            || (
                reach.Covers(about.Recorded.Site, about.Recorded.Text(People.BuiltIn.Department))
                && (target is not null ? reach.CoversTarget(target) : about.Items.All(i => reach.CoversTarget(i.Target)))
            )
        );

    /// <summary>True when the request is the party's own, or for them, under any user of theirs.</summary>
    public bool IsConcerned(Circumstances about) => UserName == about.Requester || Person == about.RequesterPerson || IsBeneficiary(about);

    /// <summary>True when the request is for the person behind the user.</summary>
    public bool IsBeneficiary(Circumstances about) =>
        Person == about.BeneficiaryPerson || (Number is { Length: > 0 } number && number == about.Beneficiary);
}

/// <summary>Who may decide. Empty <paramref name="UserNames"/> means everybody with <paramref name="Role"/>.</summary>
public sealed record Deciders(IReadOnlyList<string> UserNames, string? Role, string Why)
{
    /// <summary>True when somebody decides by name or by role, within the reach of that role.</summary>
    public bool Includes(Party party, Circumstances about) =>
        UserNames.Count > 0 ? UserNames.Contains(party.UserName) : Role is { } role && party.Holds(role, about);
}

/// <summary>A right to decide that was handed to somebody for a time.</summary>
/// <param name="From">Whose right it is.</param>
/// <param name="To">Who may use it.</param>
/// <param name="Kinds">The kinds of request it is for; empty means all.</param>
public sealed record Delegation(string Id, string From, string To, DateTimeOffset Begins, DateTimeOffset Ends, IReadOnlyList<string> Kinds)
{
    /// <summary>True when the right is handed over at an instant for requests of a kind; no kinds means all.</summary>
    public bool Covers(string kind, DateTimeOffset at) => Begins <= at && at < Ends && (Kinds.Count == 0 || Kinds.Contains(kind));
}

/// <summary>Says who may decide, and who may not.</summary>
public static class DecisionRight
{
    /// <summary>On whose behalf the actor decides: their own name, or that of somebody who handed the right over.</summary>
    /// <exception cref="RefusedMove">With the code <c>own-request</c> or <c>not-yours</c>.</exception>
    public static string Require(
        Party actor,
        Deciders deciders,
        Circumstances about,
        IReadOnlyList<Delegation> delegations,
        IReadOnlyList<Party> parties,
        DateTimeOffset at
    )
    {
        if (actor.UserName == about.Requester || actor.Person == about.RequesterPerson)
            throw new RefusedMove("own-request", "You raised this request yourself; somebody else decides on it.");
        if (actor.IsConcerned(about))
            throw new RefusedMove("own-request", "This request is for yourself; somebody else decides on it.");
        return Acts(actor, deciders, about, delegations, parties, at)
            ?? throw new RefusedMove("not-yours", $"This decision belongs to {deciders.Why}{NamesOf(deciders, parties)}.");
    }

    private static string NamesOf(Deciders deciders, IReadOnlyList<Party> parties)
    {
        var names = deciders.UserNames.Select(name => parties.FirstOrDefault(p => p.UserName == name)?.Display ?? name);
        return deciders.UserNames.Count == 0 ? "" : $" ({string.Join(", ", names)})";
    }

    /// <summary>Like <see cref="Require"/>, but null when the actor may not decide, by themselves or for somebody.</summary>
    public static string? Acts(
        Party actor,
        Deciders deciders,
        Circumstances about,
        IReadOnlyList<Delegation> delegations,
        IReadOnlyList<Party> parties,
        DateTimeOffset at
    )
    {
        if (actor.IsConcerned(about))
            return null;
        if (deciders.Includes(actor, about))
            return actor.UserName;
        foreach (var delegation in delegations)
        {
            if (delegation.To != actor.UserName || !delegation.Covers(about.Kind, at))
                continue;
            // Nobody lends a right they could not use themselves.
            if (
                parties.FirstOrDefault(p => p.UserName == delegation.From) is { Active: true } owner
                && actor.Roles.Overlaps(owner.Roles)
                && !owner.IsConcerned(about)
                && deciders.Includes(owner, about)
            )
                return owner.UserName;
        }
        return null;
    }
}
