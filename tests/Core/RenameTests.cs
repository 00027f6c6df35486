using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>Accounts whose names follow their people, and the names they had before.</summary>
public sealed class RenameTests
{
    private static readonly DateTimeOffset Now = new(2026, 11, 25, 12, 0, 0, TimeSpan.Zero);
    private static readonly string Follows = Small.Everyone.Replace(
        "attributes: { cn: given, employeeNumber: number }",
        "rename: on-change\n"
            + "    attributes: { cn: given, employeeNumber: number, mail: '[account.name + \"@x\"] + account.former.map(n, n + \"@x\")' }",
        StringComparison.Ordinal
    );

    [Theory]
    [InlineData("tor.quill", true)]
    [InlineData("t.quill", true)]
    [InlineData("tor.quill2", true)]
    [InlineData("tor.quill99999", true)]
    [InlineData("tor.quill1", false)]
    [InlineData("tor.quill02", false)]
    [InlineData("tor.quill100000", false)]
    [InlineData("t.quill2", false)]
    [InlineData("tor.quil", false)]
    [InlineData("2", false)]
    public void A_name_is_of_the_wishes_when_it_is_one_or_the_first_with_a_number(string name, bool isOf) =>
        Assert.Equal(isOf, AccountNames.IsOf(name, ["tor.quill", "t.quill"]));

    [Fact]
    public void A_name_cut_for_its_number_is_of_its_wish()
    {
        var rule = new NameRule(8, ".-_");
        var candidates = AccountNames.Candidates(["abcdefgh"], rule).Take(12).ToList();
        Assert.Equal("abcdef12", candidates[11]);
        Assert.All(candidates, name => Assert.True(AccountNames.IsOf(name, ["abcdefgh"], rule)));
        Assert.False(AccountNames.IsOf("abcdefg12", ["abcdefgh"], rule));
    }

    [Fact]
    public void A_name_is_outgrown_only_where_it_follows_was_given_for_another_wish_and_is_none_of_todays()
    {
        var naming = new Naming(["tor.stone", "t.stone"], Follows: true);
        Assert.True(naming.IsOutgrown("tor.quill", "tor.quill"));
        Assert.True(naming.IsOutgrown("quillt", "tor.quill"));
        Assert.False((naming with { Follows = false }).IsOutgrown("tor.quill", "tor.quill"));
        Assert.False((naming with { Wishes = [] }).IsOutgrown("tor.quill", "tor.quill"));
        // Where it is not known what it was given for, it stays; so does one that was taken over as it was for this very wish.
        Assert.False(naming.IsOutgrown("tor.quill", ""));
        Assert.False(naming.IsOutgrown("quillt", "tor.stone"));
        Assert.False(naming.IsOutgrown("t.stone", "tor.quill"));
        Assert.False(naming.IsOutgrown("tor.stone3", "tor.quill"));
    }

    [Fact]
    public void Who_is_renamed_keeps_each_former_name_once_and_may_go_back_to_one()
    {
        var person = Small.Person(Small.Facts());
        var account = new AccountKey("directory");
        Assert.Same(person, person.Renamed(account, "tor.quill"));
        var twice = person.Renamed(account, "tor.stone").Renamed(account, "tor.reed");
        Assert.Equal("tor.reed", twice.AccountNames[account]);
        Assert.Equal(["tor.quill", "tor.stone"], twice.FormerNames[account]);
        var back = twice.Renamed(account, "tor.quill");
        Assert.Equal(["tor.quill", "tor.stone", "tor.reed"], back.FormerNames[account]);
        // A first name has none before it, also where another one was thought of.
        var first = person.Named(account, "quillt");
        Assert.Equal(("quillt", 0), (first.AccountNames[account], first.FormerNames.Count));
        Assert.Empty(person.Renamed(new("office"), "tor").FormerNames);

        var edition = Small.Edition(("templates/everyone.yaml", Follows));
        string[] Mail(Subject of) => [.. Desired.At(of, edition, Now).Accounts[account].Attributes["mail"]];
        Assert.Equal(["tor.quill@x"], Mail(person));
        Assert.Equal(["tor.reed@x", "tor.quill@x", "tor.stone@x"], Mail(twice));
        Assert.Equal(["tor.quill@x", "tor.stone@x", "tor.reed@x"], Mail(back));
    }

    [Fact]
    public void The_plan_of_a_rename_changes_the_name_with_what_hangs_on_it()
    {
        var edition = Small.Edition(("templates/everyone.yaml", Follows));
        var person = Small.Person(Small.Facts());
        var account = new AccountKey("directory");
        var plan = Planner.Make(
            person.Renamed(account, "tor.stone"),
            Desired.At(person, edition, Now),
            new Dictionary<AccountKey, string> { [account] = "id-7" },
            new Dictionary<AccountKey, ExistingAccount>(),
            edition,
            Intake.RequestKind.Correction,
            Now
        );
        var change = Assert.IsType<Change.ChangeAccount>(plan.Changes[0]);
        Assert.Equal(("tor.stone", "id-7"), (change.Entry.Name, change.Entry.ImmutableId));
        Assert.Equal(
            ["mail: tor.quill@x → tor.stone@x tor.quill@x", "uid: tor.quill → tor.stone"],
            change.Attributes.Select(a => $"{a.Name}: {string.Join(" ", a.Before)} → {string.Join(" ", a.After)}").Order()
        );
        Assert.IsType<Change.Verify>(plan.Changes[1]);
        // Under the name of before it would be something else than what was approved.
        Assert.Equal(StillWanted.Changed, Planner.Look(change, Desired.At(person, edition, Now)));
        Assert.Equal(StillWanted.Yes, Planner.Look(change, Desired.At(person.Renamed(account, "tor.stone"), edition, Now)));
    }

    [Fact]
    public void Names_are_wished_as_the_person_is_at_that_instant()
    {
        var edition = Small.Edition(("templates/everyone.yaml", Follows));
        var person = Small.Person(Small.Facts()) with { Fields = [new("E1", "family", "Stone", Now.AddDays(3), null)] };
        var asking = edition.Rulebook.Access.Ask();
        Naming At(DateTimeOffset at) => asking.Naming(person, new("directory"), at);
        Assert.Equal((true, "tor.quill"), (At(Now).Follows, At(Now).Wishes[0]));
        Assert.Equal("tor.stone", At(Now.AddDays(3)).Wishes[0]);
        Assert.Equal("tor.stone", asking.NameWishes(person, new("directory"))[0]);
        Assert.Same(Naming.None, asking.Naming(person with { Refused = ["directory"] }, new("directory"), Now));
        Assert.Same(Naming.None, asking.Naming(person, new("directory", "administrator"), Now));
        Assert.False(Small.Edition().Rulebook.Access.Ask().Naming(person, new("directory"), Now).Follows);
    }

    [Theory]
    [InlineData("rename: on-change", "rename: always", "'always' is not known for 'rename'")]
    [InlineData("name: [given + \".\" + family, 'given.substring(0, 1) + \".\" + family']", "lead: P1D", "says whether it is renamed")]
    [InlineData("'given.substring(0, 1) + \".\" + family'", "'account.former[0]'", "'account.former' is what is being made here")]
    public void What_makes_no_sense_about_names_is_told_with_its_place(string old, string other, string told)
    {
        var result = RulebookReader.Read([
            .. Small.Files(("templates/everyone.yaml", Follows.Replace(old, other, StringComparison.Ordinal))),
        ]);
        Assert.Contains(
            result.Findings,
            f => f.Message.Contains(told, StringComparison.Ordinal) && f.Place.File == "templates/everyone.yaml"
        );
    }
}
