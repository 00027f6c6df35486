using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Approval;

/// <summary>Who may decide about a roll-out, and who may let it pass.</summary>
public static class RollOutVoices
{
    extension(RollOutRule rule)
    {
        /// <summary>True when somebody decides about people of a department; "" for the whole.</summary>
        public bool MayDecide(Party party, string department, Rulebook.Rulebook rulebook) =>
            rule.IsNamed(party, department, rulebook) || rule.RolesOf(party).Count > 0;

        /// <summary>True when somebody decides by who they are, so that no role of theirs limits them.</summary>
        public bool IsNamed(Party party, string department, Rulebook.Rulebook rulebook) =>
            rule.Decides.Any(d => d.Relation != "role" && Includes(d, party, rulebook))
            || (department.Length > 0 && party.Number is { Length: > 0 } n && rulebook.Departments.GetValueOrDefault(department) == n);

        /// <summary>The roles by which somebody decides, each as far as it reaches.</summary>
        public IReadOnlyList<string> RolesOf(Party party) =>
            [.. rule.Decides.Where(d => d.Relation == "role" && party.Roles.Contains(d.Argument)).Select(d => d.Argument)];

        /// <summary>True when somebody may let pass what the brake holds.</summary>
        public bool MayPass(Party party) =>
            Includes(
                new(rule.Passes.Split(':')[0], rule.Passes[(rule.Passes.IndexOf(':', StringComparison.Ordinal) + 1)..], null),
                party,
                null
            );
    }

    private static bool Includes(Approver who, Party party, Rulebook.Rulebook? rulebook) =>
        who.Relation switch
        {
            "role" => party.Roles.Contains(who.Argument),
            "person" => party.Number == who.Argument,
            "group" => party.Number is { } n && rulebook?.Groups.GetValueOrDefault(who.Argument)?.Contains(n) == true,
            _ => false,
        };
}
