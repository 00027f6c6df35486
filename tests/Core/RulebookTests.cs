using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>The rulebook of the demo, and small changes to it.</summary>
public static class Northmere
{
    public static IReadOnlyList<RulebookFile> All { get; } = [.. Repository.RulebookFiles().Select(f => new RulebookFile(f.Path, f.Text))];

    /// <summary>The rulebook without its applications.</summary>
    public static IReadOnlyList<RulebookFile> Files { get; } = [.. All.Where(f => !Repository.IsOfApplications(f.Path))];

    public static IReadOnlyList<RulebookFile> With(string path, string old, string fresh)
    {
        var file = Files.Single(f => f.Path == path);
        Assert.Contains(old, file.Text, StringComparison.Ordinal);
        return [.. Files.Where(f => f.Path != path), file with { Text = file.Text.Replace(old, fresh, StringComparison.Ordinal) }];
    }

    public static Edition Edition { get; } = new(1, "", RulebookReader.Read(Files).Rulebook!);
}

public sealed class RulebookTests
{
    [Fact]
    public void The_demo_rulebook_is_sound()
    {
        var reading = RulebookReader.Read(Northmere.All);
        Assert.Empty(reading.Findings);
        Assert.Equal(12, reading.Rulebook!.Templates.Count);
        Assert.Equal(3, reading.Rulebook.Sites.Values.Select(s => s.Zone.Id).Distinct().Count());
    }

    [Theory]
    [InlineData(
        "rulebook.yaml",
        "mandatory: [department, title]",
        "mandatry: [department, title]",
        37,
        1,
        "'mandatry' is not a known key here. Did you mean 'mandatory'?"
    )]
    [InlineData("rulebook.yaml", "Europe/Lisbon", "Europe/Lisbonn", 9, 11, "no known time zone")]
    [InlineData("rulebook.yaml", "[department, title]", "[departmint, title]", 37, 13, "Did you mean 'department'?")]
    [InlineData(
        "templates/dive-team.yaml",
        "department == \"Dive Team\"",
        "departmant == \"Dive Team\"",
        3,
        7,
        "Did you mean 'department'?"
    )]
    [InlineData("templates/dive-team.yaml", "directory/dive-team", "directory/dive-taem", 5, 9, "Did you mean 'dive-team'?")]
    [InlineData("templates/dive-team.yaml", "directory/dive-team", "directry/dive-team", 5, 9, "Did you mean 'directory'?")]
    [InlineData(
        "templates/dive-team.yaml",
        "department == \"Dive Team\" && kind in [\"employee\", \"researcher\"]",
        "department",
        3,
        7,
        "must yield true/false"
    )]
    [InlineData("templates/everyone.yaml", "lead: P14D", "lead: 14 days", 7, 11, "ISO 8601 duration")]
    [InlineData("sources/hr.yaml", "start: date(row.start_date)", "start: row.start_date", 29, 10, "must yield date")]
    [InlineData("sources/hr.yaml", "start: date(row.start_date)", "start: date(row.start_day)", 29, 19, "Did you mean 'start_date'?")]
    [InlineData("sources/hr.yaml", "path: people.csv", "path: ../people.csv", 4, 7, "stays inside")]
    [InlineData("sources/hr.yaml", "key: employee_no", "key: employe_no", 7, 6, "Did you mean 'employee_no'?")]
    [InlineData("sources/hr.yaml", "number: row.employee_no", "nomber: row.employee_no", 25, 3, "Did you mean 'number'?")]
    [InlineData("targets/directory.yaml", "ldaps://127.0.0.1:7436", "ldap://127.0.0.1:7435", 4, 10, "clear text")]
    [InlineData("targets/directory.yaml", "connections: 4", "connections: many", 9, 14, "whole number from 1 to 64")]
    [InlineData("workflows/staff.yaml", "otherwise: role:approver", "otherwise: role:aprover", 9, 16, "Did you mean 'approver'?")]
    [InlineData(
        "workflows/staff.yaml",
        "[joiner, mover, leaver, change]",
        "[joiner, mover, lever, change]",
        4,
        22,
        "Did you mean 'leaver'?"
    )]
    public void A_mistake_is_found_with_its_place(string path, string old, string fresh, int line, int column, string part)
    {
        var reading = RulebookReader.Read(Northmere.With(path, old, fresh));
        Assert.Null(reading.Rulebook);
        var finding = reading.Findings.First(f => f.Message.Contains(part, StringComparison.Ordinal));
        Assert.Equal((path, line, column), (finding.Place.File, finding.Place.Line, finding.Place.Column));
    }

    [Theory]
    [InlineData("folder: gates", "folder: /etc", "stays inside it")]
    [InlineData("folder: gates", "folder: ../hr", "stays inside it")]
    [InlineData("folder: gates", "folder: gates\nschedule: daily", "five fields")]
    [InlineData("folder: gates", "folder: gates\nanswers-within: soon", "ISO 8601")]
    [InlineData("value: STAFF, ", "", "'value'")]
    [InlineData("folder: gates", "", "'folder'")]
    public void A_mistake_about_a_file_target_is_told(string old, string fresh, string part)
    {
        const string text =
            "name: gates\ntitle: Gates\nkind: file\nfolder: gates\nmatch: [number]\nentitlements:\n"
            + "  staff: { title: Staff gate, value: STAFF, owner: E1006 }\n";
        Assert.Empty(RulebookReader.Read([.. Northmere.Files, new("targets/gates.yaml", text)]).Findings);
        var reading = RulebookReader.Read([
            .. Northmere.Files,
            new("targets/gates.yaml", text.Replace(old, fresh, StringComparison.Ordinal)),
        ]);
        Assert.Contains(reading.Findings, f => f.Message.Contains(part, StringComparison.Ordinal));
        // Two would write over each other.
        reading = RulebookReader.Read([
            .. Northmere.Files,
            new("targets/gates.yaml", text),
            new(
                "targets/lockers.yaml",
                text.Replace("name: gates", "name: lockers", StringComparison.Ordinal)
                    .Replace("folder: gates", "folder: ./gates/", StringComparison.Ordinal)
            ),
        ]);
        Assert.Contains("belongs to 'gates' already", Assert.Single(reading.Findings).Message, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("feeds: mailStore", "feeds: mailStor", "Did you mean 'mailStore'?")]
    [InlineData("feeds: mailStore", "feeds: department", "no task changes it")]
    [InlineData("feeds: mailStore", "feeds: privateMail", "no task changes it")]
    [InlineData("feeds: mailStore }", "feeds: mailStore }\n      other: { feeds: mailStore }", "feeds 'mailStore' already")]
    public void A_task_feeds_what_is_declared_and_says_nothing_of_who_somebody_is(string old, string fresh, string part)
    {
        var reading = RulebookReader.Read(Northmere.With("targets/facilities.yaml", old, fresh));
        Assert.Contains(reading.Findings, f => f.Message.Contains(part, StringComparison.Ordinal));
    }

    [Fact]
    public void A_workflow_is_for_what_a_desk_gives_while_the_desk_gives_something()
    {
        Assert.Equal(["facilities"], Northmere.Edition.Rulebook.Workflows.Single(w => w.Name == "desk").Sources);
        var reading = RulebookReader.Read(Northmere.With("targets/facilities.yaml", ", feeds: mailStore", ""));
        Assert.Equal("workflows/desk.yaml", Assert.Single(reading.Findings).Place.File);
    }

    [Theory]
    [InlineData("targets/records.yaml", "https://localhost:7438", "http://localhost:7438", "travels in no clear text")]
    [InlineData("targets/records.yaml", "/scim/v2", "/scim/v2?token=x", "without a query")]
    [InlineData("targets/records.yaml", "role: reader", "role: reader, group: Readers", "by one of 'group'")]
    [InlineData("targets/records.yaml", "[externalId, userName]", "[external Id, userName]", "is no attribute of a user")]
    [InlineData("targets/records.yaml", "after: [directory]", "after: [directori]", "Did you mean 'directory'?")]
    [InlineData("targets/records.yaml", "owner: E1002\nafter", "maintenance: { hours: late }\nafter", "are no working hours")]
    [InlineData(
        "targets/records.yaml",
        "owner: E1002\nafter",
        "maintenance: { hours: '02:00-04:00', clock-of: harbor }\nafter",
        "Did you mean 'harbour'?"
    )]
    [InlineData("targets/records.yaml", "owner: E1002\nafter", "rate: 0\nafter", "whole number from 1 to")]
    [InlineData("targets/shop.yaml", "every: PT1H", "every: PT1H, whole: weekly", "five fields")]
    [InlineData("templates/records.yaml", "externalId: number", "active: number", "is no attribute name of a target")]
    [InlineData("templates/records.yaml", "emails[type eq", "emails[type is", "is no attribute name of a target")]
    [InlineData("templates/records.yaml", "names.directory, given", "account.name, given", "is what is being made here")]
    [InlineData("templates/records.yaml", "lead: P14D", "lead: P14D\n    container: site", "has no containers")]
    [InlineData(
        "templates/administrators.yaml",
        "name: '\"adm-\" + given.substring(0, 1) + \".\" + family'",
        "container: site",
        "says where it stands"
    )]
    [InlineData("templates/records.yaml", "records/keeper", "records/keepr", "Did you mean 'keeper'?")]
    public void A_mistake_about_an_application_is_told(string path, string old, string fresh, string part)
    {
        var file = Northmere.All.Single(f => f.Path == path);
        Assert.Contains(old, file.Text, StringComparison.Ordinal);
        var reading = RulebookReader.Read([
            .. Northmere.All.Where(f => f.Path != path),
            file with
            {
                Text = file.Text.Replace(old, fresh, StringComparison.Ordinal),
            },
        ]);
        Assert.Null(reading.Rulebook);
        Assert.Contains(reading.Findings, f => f.Place.File == path && f.Message.Contains(part, StringComparison.Ordinal));
    }

    [Fact]
    public void A_window_in_which_a_target_is_worked_on_goes_by_the_clock_of_its_site()
    {
        var file = Northmere.All.Single(f => f.Path == "targets/records.yaml");
        var text = file.Text + "maintenance: { hours: '02:00-04:00', days: [sun], clock-of: reefpoint }\nrate: 20\n";
        var target = RulebookReader.Read([.. Northmere.All.Where(f => f != file), file with { Text = text }]).Rulebook!.Targets["records"];
        Assert.Equal(20, target.Rate);
        // Sunday at 3 in Hobart is Saturday at 16 in UTC, in winter.
        Assert.True(target.Maintenance!.Covers(new(2026, 6, 6, 17, 0, 0, TimeSpan.Zero)));
        Assert.False(target.Maintenance.Covers(new(2026, 6, 6, 18, 0, 0, TimeSpan.Zero)));
        Assert.False(target.Maintenance.Covers(new(2026, 6, 7, 17, 0, 0, TimeSpan.Zero)));
    }

    [Theory]
    [InlineData("Reef Point, outer", "ou=Reef Point\\, outer,ou=people,dc=northmere,dc=example")]
    [InlineData("#1 ", "ou=\\#1\\ ,ou=people,dc=northmere,dc=example")]
    [InlineData("a+b=c\"d", "ou=a\\+b\\=c\\\"d,ou=people,dc=northmere,dc=example")]
    public void An_account_stands_where_its_template_says_whatever_the_name_of_the_place(string title, string container)
    {
        var files = Northmere.With("templates/everyone.yaml", "lead: P14D", "lead: P14D\n    container: '\"ou=\" + dn(title)'");
        var rulebook = RulebookReader.Read(files).Rulebook!;
        var person = Small.Person(Small.Facts(title: title));
        var state = Desired.At(person, new(1, "", rulebook), new(2026, 5, 4, 0, 0, 0, TimeSpan.Zero));
        Assert.Equal(container, state.Accounts["directory"].Container);
    }

    [Fact]
    public void The_name_of_an_account_may_be_that_of_another()
    {
        var rulebook = RulebookReader.Read(Northmere.All).Rulebook!;
        var person = Small.Person(Small.Facts(department: "Animal Care"));
        var named = person with { AccountNames = new Dictionary<AccountKey, string> { ["directory"] = "adaq7" } };
        Assert.Equal(["adaq7", "tor.quill"], rulebook.Access.Ask().NameWishes(named, "records"));
        Assert.Equal(["tor.quill"], rulebook.Access.Ask().NameWishes(person, "records"));
    }

    [Fact]
    public void Every_mistake_is_told_at_once()
    {
        var files = Northmere.With("templates/dive-team.yaml", "department ==", "departmant ==");
        files =
        [
            .. files.Where(f => f.Path != "workflows/staff.yaml"),
            new("workflows/staff.yaml", "name: staff\nfor: [joiner]\nstages: []\nrelase: operator\n"),
            new("templatez/x.yaml", "name: x"),
        ];
        var messages = string.Join("\n", RulebookReader.Read(files).Findings);
        Assert.Contains("templates/dive-team.yaml:3:7", messages, StringComparison.Ordinal);
        Assert.Contains("Did you mean 'release'?", messages, StringComparison.Ordinal);
        Assert.Contains("Did you mean 'templates'?", messages, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("name: [unclosed\n")]
    [InlineData("- a list\n")]
    [InlineData("a: &x [1]\nb: *x\n")]
    [InlineData("a: 1\na: 2\n")]
    [InlineData("")]
    public void Unsound_yaml_is_a_finding(string text)
    {
        var reading = RulebookReader.Read([
            .. Northmere.Files.Where(f => f.Path != "templates/research.yaml"),
            new("templates/research.yaml", text),
        ]);
        Assert.Null(reading.Rulebook);
        Assert.Contains(reading.Findings, f => f.Place.File == "templates/research.yaml");
    }

    [Fact]
    public void Deep_nesting_is_a_finding() =>
        Assert.Contains(
            RulebookReader.Read([new("rulebook.yaml", new string('[', 5000))]).Findings,
            f => f.Message.Contains("nested", StringComparison.Ordinal) || f.Message.Contains("YAML", StringComparison.Ordinal)
        );

    [Fact]
    public void The_digest_depends_on_path_and_text_and_not_on_order()
    {
        var digest = RulebookReader.Digest(Northmere.Files);
        Assert.Equal(digest, RulebookReader.Digest(Northmere.Files.Reverse()));
        Assert.NotEqual(digest, RulebookReader.Digest(Northmere.With("rulebook.yaml", "title: Northmere", "title: Northmoor")));
    }
}
