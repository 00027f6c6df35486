using System.Security.Claims;
using System.Security.Cryptography;
using System.Text;
using Oikonom.Core.Approval;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Rulebook;

/// <summary>
/// What somebody may do about a roll-out. The edition before the one it brings says who decides, never the one that is
/// decided about; whoever published does not, while anybody else is there to approve anything.
/// </summary>
public sealed class RollOutRight(RolloutRow row, Edition before, IReadOnlyList<UserRow> users, ClaimsPrincipal user)
{
    private readonly Party _caller = user.AsParty();

    private RollOutRule Rule => before.Rulebook.RollOuts;

    public bool MayPass => May(Rule.MayPass);

    /// <summary>True when the caller decides about people of a department; "" for the whole.</summary>
    public bool MayDecide(string department) => May(p => Rule.MayDecide(p, department, before.Rulebook));

    /// <exception cref="Problem">The brake is for others to let pass.</exception>
    public void RequirePass() => Require(MayPass, Rule.MayPass, $"The brake is let pass by {Rule.Passes}.");

    /// <exception cref="Problem">The decision is for others.</exception>
    public void RequireDecision(string department)
    {
        var who = string.Join(", ", Rule.Decides.Select(Approvers.Title));
        if (department.Length > 0 && before.Rulebook.Departments.ContainsKey(department))
            who = $"{who} or the head of {department}";
        Require(
            MayDecide(department),
            p => Rule.MayDecide(p, department, before.Rulebook),
            $"This decision belongs to {who}, by edition {before.Number}."
        );
    }

    /// <exception cref="Problem">The caller decides about a part only.</exception>
    public void RequireWhole()
    {
        if (Reach("") is not null)
            throw new Problem(
                403,
                "out-of-reach",
                "Not allowed",
                "This is about all of the organisation, and your role is limited to a part of it."
            );
    }

    /// <summary>How far the caller decides: everywhere when they are named, else as far as the role reaches by which they do.</summary>
    public IReadOnlyList<(IReadOnlyList<string> Sites, IReadOnlyList<string> Departments)>? Reach(string department)
    {
        if (Rule.IsNamed(_caller, department, before.Rulebook))
            return null;
        var roles = Rule.RolesOf(_caller);
        return user.ReachOf(roles.Count > 0 ? roles : [Roles.Approver]) is { } parts
            ? [.. parts.Select(p => (p.Sites, p.Departments))]
            : null;
    }

    /// <summary>Whom a decision covers, without those the caller does not reach and the caller, and the digest it is bound to.</summary>
    public async Task<(IReadOnlyList<string> People, string Digest)> CoveredAsync(Session s, string department)
    {
        var open = await s.UndecidedAsync(row.Id, department, Reach(department));
        var own = user.FindFirstValue("person") ?? "";
        var others = open.Where(p => p.PersonId != own && (user.Number().Length == 0 || p.Number != user.Number())).ToList();
        var text = string.Concat(others.Select(p => $"{p.PersonId}{p.Digest}\n"));
        return ([.. others.Select(p => p.PersonId)], Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text)))[..32]);
    }

    /// <summary>Users who are asked to decide about the whole.</summary>
    public IEnumerable<UserRow> Deciders => Others.Where(u => u.Mail.Length > 0 && Rule.MayDecide(PartyOf(u), "", before.Rulebook));

    /// <summary>Everybody active who did not publish the edition.</summary>
    private IEnumerable<UserRow> Others => users.Where(u => u.Active == 1 && !IsAuthor(u));

    /// <summary>
    /// The caller may what a rule gives them. Who published may only where nobody else approves anything; and where a rule
    /// names nobody else, approvers stand in.
    /// </summary>
    private bool May(Func<Party, bool> could) =>
        users.Any(u => u.Name == user.UserName() && IsAuthor(u))
            ? could(_caller) && !Others.Any(u => PartyOf(u).Roles.Contains(Roles.Approver))
            : could(_caller) || (_caller.Roles.Contains(Roles.Approver) && !Others.Any(u => could(PartyOf(u))));

    private void Require(bool may, Func<Party, bool> could, string whose)
    {
        if (may)
            return;
        throw could(_caller)
            ? new Problem(403, "own-edition", "Not allowed", $"You published edition {row.Edition} yourself; somebody else decides.")
            : new Problem(403, "not-yours", "Not allowed", whose);
    }

    /// <summary>Persons are compared, not user names.</summary>
    private bool IsAuthor(UserRow one) =>
        new[] { row.Author, row.Agreed }.Any(name =>
            name.Length > 0
            && (
                name == one.Name
                || users.Any(u =>
                    u.Name == name
                    && ((u.Number.Length > 0 && u.Number == one.Number) || (u.PersonId.Length > 0 && u.PersonId == one.PersonId))
                )
            )
        );

    private static Party PartyOf(UserRow of) =>
        new(of.Name, of.Roles.Split(' ').ToHashSet(), of.Number.Length > 0 ? of.Number : null, of.Active == 1);
}
