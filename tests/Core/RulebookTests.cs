using Oikonom.Core.Rulebook;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>The rulebook of the demo, and small changes to it.</summary>
public static class Northmere
{
    public static IReadOnlyList<RulebookFile> Files { get; } =
    [
        .. Directory
            .GetFiles(Repository.At("demo", "northmere", "rulebook"), "*.yaml", SearchOption.AllDirectories)
            .Select(f => new RulebookFile(Path.GetRelativePath(Repository.At("demo", "northmere", "rulebook"), f), File.ReadAllText(f))),
    ];

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
        var reading = RulebookReader.Read(Northmere.Files);
        Assert.Empty(reading.Findings);
        Assert.Equal(7, reading.Rulebook!.Templates.Count);
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
