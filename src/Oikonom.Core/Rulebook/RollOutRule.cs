namespace Oikonom.Core.Rulebook;

/// <summary>How roll-outs are held back.</summary>
/// <param name="Brake">Above how many people who would have less a roll-out waits for somebody to let it pass.</param>
/// <param name="Passes">Who lets it pass: role:NAME or person:NUMBER.</param>
/// <param name="Decides">Who decides about all of it: roles, people and groups. The head of a department decides about theirs.</param>
public sealed record RollOutRule(Limit Brake, string Passes, IReadOnlyList<Approver> Decides)
{
    /// <summary>Where the rulebook says nothing.</summary>
    public static readonly RollOutRule Default = new(new(null, 20), "role:engineer", [new("role", "approver", null)]);
}
