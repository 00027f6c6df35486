using Oikonom.Core.Intake;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>A directory that mirrors another one: accounts, days, attributes and groups follow from those there.</summary>
public sealed class MirrorTests
{
    private static readonly DateTimeOffset Now = new(2026, 11, 20, 12, 0, 0, TimeSpan.Zero);

    private static (string, string) Archive(string mirrors = "{ target: directory }", string entitlements = "") =>
        (
            "targets/archive.yaml",
            Small
                .Target[..Small.Target.IndexOf("entitlements:", StringComparison.Ordinal)]
                .Replace("name: directory", "name: archive", StringComparison.Ordinal)
                .Replace("groups: ou=groups", "groups: ou=mirrored,o=archive", StringComparison.Ordinal)
                + $"mirrors: {mirrors}\n"
                + entitlements
        );

    private static readonly (string, string) Payers = (
        "templates/payers.yaml",
        "name: payers\nwhen: department == \"Dive\"\ngrants:\n  - to: directory/pay\n    until: start + P400D\n"
    );

    private static Subject Tor(string department = "Dive", string? end = null) =>
        Small.Person(Small.Facts(department: department, end: end)) with
        {
            AccountNames = new Dictionary<AccountKey, string> { [new("directory")] = "tor.quill2", [new("archive")] = "tor.quill2" },
        };

    [Fact]
    public void Who_has_an_account_and_a_group_has_them_in_the_mirror_too_on_the_same_days()
    {
        var edition = Small.Edition(Archive(), Payers);
        // The name there is wished here.
        Assert.Equal(["tor.quill2"], edition.Rulebook.Access.Ask().NameWishes(Tor(), new("archive")));
        foreach (var day in new[] { Now, Now.AddDays(400), DateTimeOffset.Parse("2026-12-02T12:00:00Z", null) })
        foreach (var tor in new[] { Tor(), Tor(end: "2026-12-01"), Tor("Office") })
        {
            var state = Desired.At(tor, edition, day);
            var (here, there) = (state.Accounts[new("archive")], state.Accounts[new("directory")]);
            Assert.Equal((there.Name, there.Enabled), (here.Name, here.Enabled));
            Assert.Equal(there.Attributes["cn"], here.Attributes["cn"]);
            Assert.Equal(there.Attributes["employeeNumber"], here.Attributes["employeeNumber"]);
            Assert.Equal(
                state.Grants.Keys.Where(g => g.Target == "directory").Select(g => g.Name),
                state.Grants.Keys.Where(g => g.Target == "archive").Select(g => g.Name)
            );
        }
        Assert.Contains(new EntitlementKey("archive", "pay"), Desired.At(Tor(), edition, Now).Grants.Keys);
        var pay = edition.Rulebook.Targets["archive"].Entitlements["pay"];
        Assert.Equal(
            ("cn=pay,ou=mirrored,o=archive", true, false),
            (((EntitlementMeans.Group)pay.Means).Dn, pay.IsMade, pay.IsRequestable)
        );
        Assert.True(edition.Rulebook.Targets["archive"].Entitlements["root"].IsPrivileged);
        Assert.Equal(["directory"], edition.Rulebook.Targets["archive"].After);
        // A plan makes the account there first.
        var plan = Planner.Make(
            Tor(),
            new AccessState(new Dictionary<AccountKey, AccountState>(), new Dictionary<EntitlementKey, GrantState>()),
            new Dictionary<AccountKey, string>(),
            new Dictionary<AccountKey, ExistingAccount>(),
            edition,
            RequestKind.Joiner,
            Now
        );
        Assert.Equal(["directory", "archive"], plan.Changes.OfType<Change.CreateAccount>().Select(c => c.Target));
        Assert.Contains(
            "as Payments",
            plan.Changes.OfType<Change.Grant>().Single(g => g.Target == "archive").Reason.Condition,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public void What_is_taken_over_is_chosen_and_what_the_rulebook_says_of_the_mirror_itself_comes_first()
    {
        var own = Small.Everyone + "\n  archive:\n    attributes: { description: '\"kept\"', sn: family }\n";
        var edition = Small.Edition(
            Archive(
                "{ target: directory, attributes: { sn: cn, employeeNumber: employeeNumber }, container: '\"ou=\" + site', groups: no }",
                "entitlements:\n  pay: { title: Own, group: cn=own, owner: E9 }\n"
            ),
            ("templates/everyone.yaml", own),
            Payers
        );
        var state = Desired.At(Tor(), edition, Now);
        var here = state.Accounts[new("archive")];
        Assert.Equal(
            ["description=kept", "employeeNumber=E1", "sn=Quill"],
            here.Attributes.Where(a => a.Key != "uid").Select(a => $"{a.Key}={a.Value[0]}").Order()
        );
        Assert.Equal("ou=harbour,ou=people", here.Container);
        Assert.Equal(["pay"], edition.Rulebook.Targets["archive"].Entitlements.Keys);
        Assert.DoesNotContain(state.Grants.Keys, g => g.Target == "archive");
    }

    [Theory]
    [InlineData("{ target: diretory }", "There is no target 'diretory'. Did you mean 'directory'?")]
    [InlineData("{ target: archive }", "'archive' is no directory of its own; name one that stands for itself.")]
    [InlineData("{ target: other }", "'other' is no directory of its own; name one that stands for itself.")]
    [InlineData("{ target: desk }", "'desk' is no directory of its own; name one that stands for itself.")]
    [InlineData("{ target: directory, attributes: { mail: post } }", "No template sets 'post' in an account in 'directory'.")]
    [InlineData("{ target: directory, container: 'site + ' }", "The expression ends too early.")]
    [InlineData("{ target: directory, group: no }", "group")]
    public void What_cannot_be_mirrored_is_told(string mirrors, string finding)
    {
        var other = Archive().Item2.Replace("name: archive", "name: other", StringComparison.Ordinal);
        var found = RulebookReader
            .Read(
                Small.Files(
                    Archive(mirrors),
                    ("targets/other.yaml", other),
                    ("targets/desk.yaml", "name: desk\nkind: desk\nrole: operator\nwithin: P2D\n")
                )
            )
            .Findings;
        Assert.Contains(found, f => f.Message.Contains(finding, StringComparison.Ordinal) && f.Place.File is "targets/archive.yaml");
    }

    [Fact]
    public void A_directory_in_which_nobody_has_an_account_mirrors_nothing()
    {
        var found = RulebookReader.Read(Small.Files(Archive(), ("templates/everyone.yaml", "name: everyone\ngrants: []\n"))).Findings;
        Assert.Contains(found, f => f.Message.StartsWith("No template makes an account in 'directory'", StringComparison.Ordinal));
    }
}
