using Oikonom.Core.Intake;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>Attributes of an account that use the id which another target gave.</summary>
public sealed class IdTests
{
    private static readonly DateTimeOffset Now = new(2026, 11, 20, 12, 0, 0, TimeSpan.Zero);
    private static readonly AccountKey Desk = "desk";
    private const string Waits = "{id in directory}";

    private static (string, string) Target(string rest = "after: [directory]\n", string name = "desk") =>
        (
            $"targets/{name}.yaml",
            Small
                .Target[..Small.Target.IndexOf("entitlements:", StringComparison.Ordinal)]
                .Replace("name: directory", $"name: {name}", StringComparison.Ordinal)
                .Replace("match: [employeeNumber]", "match: [uid, employeeNumber]", StringComparison.Ordinal) + rest
        );

    private static (string, string) Template(string attributes, string name = "names.directory", string rest = "") =>
        ("templates/desk.yaml", $"name: desk\naccounts:\n  desk:\n    name: {name}\n    attributes: {{ {attributes} }}\n{rest}");

    private static readonly Edition Edition = Small.Edition(
        Target(),
        Template("cn: given, employeeNumber: ids.directory, description: '\"at \" + upper(ids.directory)', mail: number")
    );

    private static Subject Tor(string? id = null) =>
        Small.Person(Small.Facts()) with
        {
            AccountNames = new Dictionary<AccountKey, string> { ["directory"] = "tor.quill", [Desk] = "tor.quill" },
            AccountIds = id is null ? new Dictionary<AccountKey, string>() : new Dictionary<AccountKey, string> { ["directory"] = id },
        };

    private static AccountState At(Subject person, Edition? edition = null) => Desired.At(person, edition ?? Edition, Now).Accounts[Desk];

    [Fact]
    public void An_id_that_is_yet_to_come_is_told_and_never_taken_for_a_value()
    {
        var account = At(Tor());
        Assert.Equal([Waits], account.Attributes["employeeNumber"]);
        Assert.Equal(["at {ID IN DIRECTORY}"], account.Attributes["description"]);
        Assert.Equal(["employeeNumber", "description"], account.Pending.Select(p => p.Name));
        Assert.All(account.Pending, p => Assert.Equal("directory", p.Target));
        Assert.Equal(["cn", "mail", "uid"], account.Known.Keys.Order());
        // Nobody is found by what is not known.
        Assert.Equal([("uid", "tor.quill")], Edition.Rulebook.Access.Ask().MatchKeys(Tor(), Edition.Rulebook.Targets["desk"]));

        account = At(Tor("ab-1"));
        Assert.Equal(["ab-1"], account.Attributes["employeeNumber"]);
        Assert.Equal(["at AB-1"], account.Attributes["description"]);
        Assert.Empty(account.Pending);
        Assert.Same(account.Attributes, account.Known);
        Assert.Contains(("employeeNumber", "ab-1"), Edition.Rulebook.Access.Ask().MatchKeys(Tor("ab-1"), Edition.Rulebook.Targets["desk"]));
        Assert.Equal(Waits, At(Tor("ab-1").WithoutIds()).Attributes["employeeNumber"].Single());
    }

    [Fact]
    public void Who_gets_no_such_account_has_no_id_and_nothing_waits()
    {
        foreach (
            var nobody in new[]
            {
                Tor() with
                {
                    Refused = ["directory"],
                },
                Tor() with
                {
                    AccountNames = new Dictionary<AccountKey, string> { [Desk] = "tor.quill" },
                },
            }
        )
        {
            var account = At(nobody);
            Assert.Empty(account.Pending);
            Assert.Empty(account.Attributes["employeeNumber"]);
        }
        // An account of a second template says it first.
        var over = Small.Edition(
            Target(),
            Template("cn: given, employeeNumber: ids.directory"),
            ("templates/first.yaml", "name: first\npriority: 9\naccounts:\n  desk:\n    attributes: { employeeNumber: number }\n")
        );
        Assert.Empty(At(Tor(), over).Pending);
        Assert.Equal(["E1"], At(Tor(), over).Attributes["employeeNumber"]);
        Assert.Equal(
            ["E1"],
            over.Rulebook.Access.Ask()
                .MatchKeys(Tor(), over.Rulebook.Targets["desk"])
                .Where(k => k.Attribute == "employeeNumber")
                .Select(k => k.Value)
        );
    }

    [Fact]
    public void What_was_approved_before_the_id_was_known_is_carried_out_with_it()
    {
        Plan PlanOf(Subject person, AccessState recorded) =>
            Planner.Make(
                person,
                recorded,
                person.AccountIds,
                new Dictionary<AccountKey, ExistingAccount>(),
                Edition,
                RequestKind.Joiner,
                Now
            );
        var plan = PlanOf(Tor(), AccessState.Nothing);
        Assert.Equal(["directory", "desk"], plan.Changes.Select(c => c.Target).Distinct());
        var create = plan.Changes.OfType<Change.CreateAccount>().Single(c => c.Target == "desk");
        Assert.Equal([Waits], create.Attributes.Single(a => a.Name == "employeeNumber").After);

        var (before, after) = (Desired.At(Tor(), Edition, Now), Desired.At(Tor("ab-1"), Edition, Now));
        Assert.Equal(StillWanted.Yes, Planner.Look(create, before));
        Assert.Equal(StillWanted.Changed, Planner.Look(create, after));
        var known = create.With(after.Accounts[Desk]);
        Assert.Equal(StillWanted.Yes, Planner.Look(known, after));
        Assert.Equal(
            (create.Ordinal, create.Entry, "ab-1", "at AB-1"),
            (
                known.Ordinal,
                known.Entry,
                known.Attributes.Single(a => a.Name == "employeeNumber").After.Single(),
                known.Attributes.Single(a => a.Name == "description").After.Single()
            )
        );

        // The account there is made anew: its id changes here, too, and is told so.
        var anew = PlanOf(
            Tor(),
            new(new Dictionary<AccountKey, AccountState> { [Desk] = after.Accounts[Desk] }, AccessState.Nothing.Grants)
        );
        var change = anew.Changes.OfType<Change.ChangeAccount>().Single();
        var number = change.Attributes.Single(a => a.Name == "employeeNumber");
        Assert.Equal(("ab-1", Waits), (number.Before.Single(), number.After.Single()));
        Assert.Equal(["at XY-2"], change.With(At(Tor("xy-2"))).Attributes.Single(a => a.Name == "description").After);
        Assert.Empty(PlanOf(Tor("ab-1"), after).Changes);
    }

    [Theory]
    [InlineData("cn: ids.directory", "names.directory", "", "write 'after: [directory]' into target 'desk'")]
    [InlineData("cn: ids.desk", "names.directory", "after: [directory]\n", "once this very account is made")]
    [InlineData("cn: ids.nowhere", "names.directory", "after: [directory]\n", "nowhere")]
    [InlineData("cn: ids.idle", "names.directory", "after: [idle]\n", "No template makes an account in 'idle'")]
    [InlineData("cn: ids.paper", "names.directory", "after: [paper]\n", "gives no id")]
    [InlineData("cn: given", "given + ids.directory", "after: [directory]\n", "are planned before 'ids.directory' is known")]
    public void An_id_that_cannot_be_known_is_refused(string attributes, string name, string after, string part)
    {
        var reading = RulebookReader.Read(
            Small.Files(
                Target(after),
                Target("", "idle"),
                ("targets/paper.yaml", "name: paper\ntitle: Paper\nkind: desk\nentitlements:\n  box: { title: Box, owner: E9 }\n"),
                Template(attributes, name)
            )
        );
        Assert.Contains(reading.Findings, f => f.Message.Contains(part, StringComparison.Ordinal));
    }

    [Fact]
    public void A_mirror_takes_over_an_id_only_where_it_comes_after_it_too()
    {
        var everyone = ("templates/everyone.yaml", Small.Everyone.Replace("cn: given", "cn: ids.first", StringComparison.Ordinal));
        var first = ("templates/first.yaml", "name: first\naccounts:\n  first:\n    name: given\n    attributes: { cn: given }\n");
        var directory = ("targets/directory.yaml", Small.Target + "\nafter: [first]\n");
        IReadOnlyList<Finding> Findings(string rest) =>
            RulebookReader.Read(Small.Files(directory, Target("", "first"), Target(rest, "copy"), everyone, first)).Findings;
        Assert.Contains(
            Findings("mirrors: { target: directory }\n"),
            f => f.Message.Contains("write 'after: [first]' into target 'copy'", StringComparison.Ordinal)
        );
        Assert.DoesNotContain(Findings("mirrors: { target: directory }\nafter: [first]\n"), f => !f.IsWarning);
    }
}
