using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>What a draft would do to people, person by person and counted.</summary>
public sealed class RehearsalTests
{
    private static readonly DateTimeOffset Now = new(2026, 11, 25, 12, 0, 0, TimeSpan.Zero);

    private static readonly (string, string) Office = (
        "templates/office.yaml",
        "name: office\nwhen: department == \"Office\"\ngrants: [{ to: directory/pay }]\n"
    );

    private static (string, string) Dive(string more = "") =>
        ("templates/dive.yaml", $"name: dive\nwhen: department == \"Dive\"\ngrants: [{{ to: directory/audit{more} }}]\n");

    private static Affected Of(Rehearsed person, Edition before, Edition after) =>
        Rehearsal.Of(person, before.Rulebook, after.Rulebook, Now);

    private static string Words(IEnumerable<Effect> effects) =>
        string.Join(
            " ",
            effects.Select(e => $"{e.Kind}:{e.Subject}{(e.From is { } f ? $">{f:MM-dd}" : "")}{(e.Until is { } u ? $"<{u:MM-dd}" : "")}")
        );

    [Fact]
    public void Who_comes_and_who_goes_are_seen_as_well_as_who_stays()
    {
        var edition = Small.Edition(Dive());
        var person = Small.Person(Small.Facts());
        Assert.Equal("AccountGained:tor.quill GrantGained:audit", Words(Of(new("1", null, person), edition, edition).Effects));
        var left = Of(new("1", person, null), edition, edition);
        Assert.Equal("AccountLost:tor.quill GrantLost:audit", Words(left.Effects));
        Assert.Equal(("E1", "Tor Quill", "Dive", true), (left.Number, left.Name, left.Department, left.Loses));
        Assert.Empty(Of(new("1", person, person), edition, edition).Effects);
        Assert.False(Of(new("1", null, person), edition, edition).Loses);
    }

    [Fact]
    public void Who_has_yet_to_begin_is_looked_at_on_the_first_day_and_later_effects_carry_their_days()
    {
        var (before, after) = (Small.Edition(Dive()), Small.Edition(Dive(", until: start + P10D"), Office));
        var coming = Small.Person(Small.Facts(start: "2026-12-07"));
        Assert.Equal("GrantLost:audit>12-18", Words(Of(new("1", coming, coming), before, after).Effects));
        Assert.Equal("GrantGained:audit>12-18", Words(Of(new("1", coming, coming), after, before).Effects));
        // Who is here for longer than that has lost it already.
        var here = Small.Person(Small.Facts());
        Assert.Equal("GrantLost:audit", Words(Of(new("1", here, here), before, after).Effects));
        // What begins later and ends sooner than they do has both days.
        var between = Small.Edition(Office, Dive(", from: start + P5D, until: start + P10D"));
        Assert.Equal("GrantGained:audit>12-12<12-17", Words(Of(new("1", coming, coming), Small.Edition(Office), between).Effects));
    }

    [Fact]
    public void Whoever_the_present_rules_cannot_serve_has_nothing_by_them_and_one_the_draft_cannot_serve_is_a_problem()
    {
        var sound = Small.Edition(Dive());
        var broken = Small.Edition(
            Dive(),
            ("templates/everyone.yaml", Small.Everyone.Replace("cn: given", "cn: date(given)", StringComparison.Ordinal))
        );
        var person = Small.Person(Small.Facts());
        Assert.Equal("AccountGained:tor.quill GrantGained:audit", Words(Of(new("1", person, person), broken, sound).Effects));
        var failing = Of(new("1", person, person), sound, broken);
        Assert.NotNull(failing.Problem);
        Assert.Empty(failing.Effects);
    }

    [Fact]
    public void Changed_attributes_and_containers_are_told_with_both_values()
    {
        string Account(string attributes, string more = "") =>
            Small.Everyone.Replace("{ cn: given, employeeNumber: number }", attributes, StringComparison.Ordinal) + more;
        var before = Small.Edition(("templates/everyone.yaml", Account("{ cn: given, employeeNumber: number, l: site }")));
        var person = Small.Person(Small.Facts());
        string Told(string attributes, string more = "")
        {
            var after = Small.Edition(("templates/everyone.yaml", Account(attributes, more)));
            var effect = Assert.Single(Of(new("1", person, person), before, after).Effects);
            Assert.Equal(EffectKind.AccountChanged, effect.Kind);
            return string.Join(
                " ",
                effect
                    .Attributes.Select(a => $"{a.Name}:{string.Join("+", a.Before)}→{string.Join("+", a.After)}")
                    .Order(StringComparer.Ordinal)
            );
        }
        Assert.Equal("cn:Tor→Quill", Told("{ cn: family, employeeNumber: number, l: site }"));
        Assert.Equal("cn:Tor→Quill l:harbour→Dive", Told("{ cn: family, employeeNumber: number, l: department }"));
        Assert.Equal("l:harbour→ ou:→Dive", Told("{ cn: given, employeeNumber: number, ou: department }"));
        Assert.Equal("cn:Tor→Quill l:harbour→", Told("{ cn: family, employeeNumber: number }"));
        Assert.Equal(
            "cn:Tor→Quill container:ou=people→ou=harbour,ou=people",
            Told("{ cn: family, employeeNumber: number, l: site }", "\n    container: '\"ou=\" + site'\n")
        );
    }

    [Fact]
    public void What_the_draft_does_not_look_after_any_more_is_left_alone_and_sleep_and_waking_are_told()
    {
        var person = Small.Person(Small.Facts());
        var whole = Small.Edition(Office, Dive());
        var without = Small.Edition(
            (
                "targets/directory.yaml",
                Small.Target.Replace("  audit: { title: Audit, group: cn=audit, owner: E9 }\n", "", StringComparison.Ordinal)
            )
        );
        Assert.Equal("LeftAlone:audit", Words(Of(new("1", person, person), whole, without).Effects));
        var asleep = Small.Edition(
            Dive(),
            ("templates/everyone.yaml", Small.Everyone + "\n    enabled-from: start + P3650D\n    lead: P7D\n")
        );
        Assert.StartsWith(
            "AccountPutToSleep:tor.quill<",
            Words(Of(new("1", person, person), Small.Edition(Dive()), asleep).Effects),
            StringComparison.Ordinal
        );
        Assert.StartsWith(
            "AccountWoken:tor.quill<",
            Words(Of(new("1", person, person), asleep, Small.Edition(Dive())).Effects),
            StringComparison.Ordinal
        );
        Assert.True(Of(new("1", person, person), Small.Edition(Dive()), asleep).Loses);
    }

    [Fact]
    public void The_identity_of_what_happens_does_not_depend_on_the_order_in_which_it_is_told()
    {
        Effect Of(EffectKind kind, string target, string subject, DateOnly? from = null, params AttributeChange[] attributes) =>
            new(kind, target, subject, "rule", attributes, from);
        Effect[] effects =
        [
            Of(EffectKind.GrantGained, "a", "x"),
            Of(EffectKind.GrantGained, "a", "y"),
            Of(EffectKind.GrantGained, "a", "y", new(2027, 1, 1)),
            Of(EffectKind.GrantLost, "a", "x"),
            Of(EffectKind.GrantGained, "b", "x"),
            Of(EffectKind.AccountChanged, "b", "n", null, new("cn", ["1"], ["2"]), new("sn", ["1"], ["2"])),
        ];
        string Digest(IEnumerable<Effect> of) => new Affected("1", "E1", "Tor", "Dive", "harbour", [.. of], null).Digest;
        var digest = Digest(effects);
        Assert.Equal(digest, Digest(effects.Reverse()));
        Assert.Equal(digest, Digest(effects.Take(5).Append(effects[5] with { Attributes = [.. effects[5].Attributes.Reverse()] })));
        Assert.NotEqual(digest, Digest(effects.Skip(1)));
        // The name of an account that is yet to be made is settled later; that of one that goes is not.
        Assert.Equal(Digest([Of(EffectKind.AccountGained, "a", "tor")]), Digest([Of(EffectKind.AccountGained, "a", "tor2")]));
        Assert.NotEqual(Digest([Of(EffectKind.AccountLost, "a", "tor")]), Digest([Of(EffectKind.AccountLost, "a", "tor2")]));
        // In one fixed form: what was approved under an earlier release holds under this one.
        Assert.Equal("48", Digest([Of(EffectKind.GrantGained, "a", "x"), Of(EffectKind.GrantLost, "a", "y")])[..2]);
    }

    [Fact]
    public void The_report_puts_parts_together_names_first_whom_the_draft_cannot_serve_and_counts_each_person_once()
    {
        var (before, after) = (Small.Edition(Dive()), Small.Edition(Dive(), Office));
        var rehearsal = new Rehearsal(before.Rulebook, after.Rulebook, Now);
        Subject Named(string number, string family, string department) =>
            Small.Person(
                new([
                    .. Small.Facts(number, department).Values.Select(v => v.Key == "family" ? new(v.Key, Expressions.Value.Of(family)) : v),
                ])
            );
        var (one, two) = (rehearsal.Begin(), rehearsal.Begin());
        one.Look(new("3", Named("E3", "Zeal", "Office"), Named("E3", "Zeal", "Office")));
        one.Look(new("2", Named("E2", "Able", "Office"), Named("E2", "Able", "Office")));
        two.Look(new("1", Named("E1", "Able", "Office"), Named("E1", "Able", "Office")));
        two.Look(new("4", Named("E4", "Mid", "Dive"), Named("E4", "Mid", "Dive")));
        var report = rehearsal.End([one, two]);
        Assert.Equal((4, 1, 3, 0), (report.People, report.Unchanged, report.Changed, report.Failing));
        Assert.Equal(["1", "2", "3"], report.Affected.Select(a => a.Id));
        Assert.Equal([new("directory/pay", 3, 3, 0, 0)], report.ByEntitlement);
        Assert.Equal([new("Office", 3, 3, 0, 0)], report.ByDepartment);
        Assert.Equal((4, 1, 3), (report.PeopleByTemplate["everyone"], report.PeopleByTemplate["dive"], report.PeopleByTemplate["office"]));
        // Two employments count once, by the one that leads.
        var both = new Rehearsal(before.Rulebook, after.Rulebook, Now);
        var part = both.Begin();
        var person = Small.Person(Small.Facts(), Small.Facts("E2", "Office"));
        part.Look(new("1", person, person));
        Assert.Equal((1, 0), (both.End([part]).PeopleByTemplate["dive"], both.End([part]).PeopleByTemplate["office"]));
    }

    [Fact]
    public void Names_that_are_taken_are_passed_over()
    {
        var edition = Small.Edition(Dive());
        var nameless = Small.Person(Small.Facts()) with { AccountNames = new Dictionary<AccountKey, string>() };
        string NameOf(IReadOnlySet<(string, string)>? taken)
        {
            var part = new Rehearsal(null, edition.Rulebook, Now, taken).Begin();
            part.Look(new("1", null, nameless));
            return new Rehearsal(null, edition.Rulebook, Now).End([part]).Affected.Single().Effects[0].Subject;
        }
        Assert.Equal("tor.quill", NameOf(null));
        Assert.Equal("t.quill", NameOf(new HashSet<(string, string)> { ("directory", "tor.quill") }));
    }
}
