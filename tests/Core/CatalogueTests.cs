using Oikonom.Core.Rulebook;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>What a target can give, read from it: as files of the rulebook, and under what the rulebook says itself.</summary>
public sealed class CatalogueTests
{
    private const string Read = "(objectClass=groupOfNames)";

    /// <summary>A directory that is read, with further keys of it and what was read.</summary>
    private static RulebookReading With(string entitlements, params IReadOnlyList<RulebookFile> read) =>
        RulebookReader.Read([
            .. Small.Files(
                (
                    "targets/directory.yaml",
                    Small.Target[..Small.Target.IndexOf("entitlements:", StringComparison.Ordinal)]
                        + $"catalogue: {{ read: {Read}, owner: owner }}\n{entitlements}"
                )
            ),
            .. read,
        ]);

    private static TargetRule Directory(RulebookReading reading)
    {
        Assert.Empty(reading.Findings);
        return reading.Rulebook!.Targets["directory"];
    }

    private static OfferedEntitlement Group(string name, string? dn = null, string? known = null, string about = "", string owner = "") =>
        new(new EntitlementMeans.Group(dn ?? $"cn={name},ou=groups"), name, known) { Description = about, Owner = owner };

    private static CatalogueReading Of(TargetRule target, params IReadOnlyList<OfferedEntitlement> read) =>
        CatalogueFiles.Compare(target, read);

    [Theory]
    [InlineData("Boat crew", "boat-crew")]
    [InlineData("  Crew / Båt (2) ", "crew-bat-2")]
    [InlineData("3rd floor", "g-3rd-floor")]
    [InlineData("潜水", "qianshui")]
    [InlineData("", "g")]
    public void What_the_target_calls_it_becomes_a_name_of_the_rulebook(string called, string name) =>
        Assert.Equal(name, Of(Directory(With("")), Group(called, "cn=x")).New.Single().Name);

    [Fact]
    public void Names_are_never_longer_than_a_name_and_never_used_twice()
    {
        var target = Directory(With("entitlements: { boat-crew: { group: cn=old } }"));
        var lengthy = new string('a', 100);
        var made = Of(target, Group("Boat crew"), Group("boat crew"), Group(lengthy, "cn=1"), Group(lengthy, "cn=2")).New;
        Assert.Equal(["boat-crew-2", "boat-crew-3"], made.Select(e => e.Name).Where(n => n.StartsWith('b')).Order());
        Assert.Equal([63, 63], made.Select(e => e.Name.Length).Where(l => l > 20));
        Assert.Contains(made, e => e.Name == lengthy[..61] + "-2");
    }

    [Fact]
    public void What_was_written_reads_back_as_it_was_told()
    {
        const string Awkward = """cn=A\, B \"C\" #1: {x} – ✓,ou=groups""";
        var found = Of(
            Directory(With("")),
            Group("Awkward", Awkward, about: "first line\n  second \"line\" # not a comment", owner: "E9"),
            Group("Plain")
        );
        Assert.Equal(["catalogue/directory.yaml"], found.Files.Select(f => f.Path));
        var read = Directory(With("", found.Files)).Entitlements;
        Assert.Equal(["awkward", "plain"], read.Keys.Order());
        var awkward = read["awkward"];
        Assert.Equal(
            (Awkward, "Awkward", "first line second \"line\" # not a comment", "E9"),
            (((EntitlementMeans.Group)awkward.Means).Dn, awkward.Title, awkward.Description, awkward.Owner)
        );
        Assert.DoesNotContain(With("", found.Files).Warnings, w => w.Place.File.StartsWith("catalogue/", StringComparison.Ordinal));
        // Whoever the target's owners put in stays in, and nobody asks for what the rulebook says nothing of.
        Assert.Equal((true, true, false), (awkward.IsRead, awkward.IsShared, awkward.IsRequestable));
    }

    [Fact]
    public void What_was_taken_in_is_not_new_again_and_makes_the_same_files()
    {
        OfferedEntitlement[] told = [Group("Boat crew", about: "rows"), Group("boat crew", "cn=other"), Group("Zoo")];
        var files = Of(Directory(With("")), told).Files;
        var target = Directory(With("", files));
        var known = target.Entitlements.Values.ToDictionary(e => ((EntitlementMeans.Group)e.Means).Dn, e => e.Name);
        OfferedEntitlement[] again = [.. told.Reverse().Select(e => e with { Known = known[((EntitlementMeans.Group)e.Means).Dn] })];
        var found = Of(target, again);
        Assert.Equal((0, 0, 0), (found.New.Count, found.Changed.Count, found.Gone.Count));
        Assert.Equal(files, found.Files);

        found = Of(target, [again[2] with { Description = "rows and sails", Owner = "E9" }]);
        Assert.Equal("boat-crew", found.Changed.Single().After.Name);
        Assert.Equal(("rows", "rows and sails"), (found.Changed[0].Before.Description, found.Changed[0].After.Description));
        Assert.Equal(["boat-crew-2", "zoo"], found.Gone.Select(e => e.Name));
    }

    [Fact]
    public void What_the_rulebook_says_counts_over_what_was_read()
    {
        var files = Of(
            Directory(With("")),
            Group("Boat crew", about: "rows", owner: "E1"),
            Group("Pay", "CN=pay, ou=groups"),
            Group("Zoo", about: "feeds")
        ).Files;
        var target = Directory(
            With(
                """
                entitlements:
                  boat-crew: { owner: E9, privileged: yes, most-holders: 3 }
                  wages: { title: Wages, group: "cn=pay,ou=groups" }
                  audit: { title: Audit, group: cn=audit }
                """,
                files
            )
        );
        var crew = target.Entitlements["boat-crew"];
        Assert.Equal(("Boat crew", "rows", "E9", 3), (crew.Title, crew.Description, crew.Owner, crew.MostHolders));
        Assert.Equal("cn=Boat crew,ou=groups", ((EntitlementMeans.Group)crew.Means).Dn);
        // What is said of it makes it the rulebook's own: it is asked for, and only what is decided here counts.
        Assert.Equal((true, false, true, false), (crew.IsPrivileged, crew.IsRead, crew.IsRequestable, crew.IsShared));
        // The same group under another name is that one.
        Assert.Equal(["audit", "boat-crew", "wages", "zoo"], target.Entitlements.Keys.Order());
        Assert.Empty(
            Of(
                target,
                Group("Boat crew", known: "boat-crew", about: "other words", owner: "E1"),
                Group("Zoo", known: "zoo", about: "feeds")
            ).Changed
        );
    }

    [Fact]
    public void Others_may_ask_for_what_was_read_where_the_rulebook_says_so()
    {
        var files = Of(Directory(With("")), Group("Zoo")).Files;
        var open = RulebookReader.Read([
            .. Small.Files(("targets/directory.yaml", $"{Small.Target}\ncatalogue: {{ read: {Read}, on-request: yes }}\n")),
            .. files,
        ]);
        Assert.True(Directory(open).Entitlements["zoo"].IsRequestable);
        Assert.True(Directory(open).Entitlements["zoo"].IsShared);
        // Who asks for it finds nobody to decide: that is said.
        Assert.Equal(["no-owner"], open.Warnings.Where(w => w.Place.File == "catalogue/directory.yaml").Select(w => w.Code));
        Assert.True(Directory(With("entitlements: { zoo: { members: shared } }", files)).Entitlements["zoo"].IsShared);
    }

    [Fact]
    public void Very_many_stand_in_several_files()
    {
        var found = Of(Directory(With("")), [.. Enumerable.Range(0, 4_500).Select(i => Group($"Group {i:0000}"))]);
        Assert.Equal(
            ["catalogue/directory.yaml", "catalogue/directory.2.yaml", "catalogue/directory.3.yaml"],
            found.Files.Select(f => f.Path)
        );
        Assert.All(found.Files, f => Assert.True(CatalogueFiles.IsOf(f.Path, "directory")));
        Assert.Equal(4_500, Directory(With("", found.Files)).Entitlements.Count);
        foreach (
            var other in new[]
            {
                "catalogue/direct.yaml",
                "catalogue/directory.old.yaml",
                "targets/directory.yaml",
                "catalogue/directory-2.yaml",
            }
        )
            Assert.False(CatalogueFiles.IsOf(other, "directory"), other);
    }

    [Theory]
    [InlineData("target: directry\nentitlements: {}", "There is no target 'directry'. Did you mean 'directory'?")]
    [InlineData("entitlements: {}", "'target' is missing.")]
    [InlineData("target: directory\nentitlements: { zoo: { title: Zoo } }", "'group' is missing.")]
    [InlineData("target: directory\nentitlements: { Zoo: { group: cn=x } }", "'Zoo' is no name")]
    [InlineData("target: directory\nentitlements: { zoo: { group: cn=x, secret: x } }", "'secret' is not a known key here.")]
    [InlineData("target: directory\nread-at: today", "'read-at' is not a known key here.")]
    public void What_was_read_is_checked_like_everything_else(string text, string finding)
    {
        var found = With("", new RulebookFile("catalogue/directory.yaml", text)).Findings;
        Assert.Contains(found, f => f.Message.StartsWith(finding, StringComparison.Ordinal) && f.Place.File == "catalogue/directory.yaml");
    }

    [Fact]
    public void A_name_stands_once_in_all_that_was_read()
    {
        const string Text = "target: directory\nentitlements: { zoo: { group: cn=x } }";
        var found = With("", new RulebookFile("catalogue/directory.yaml", Text), new("catalogue/directory.2.yaml", Text)).Findings;
        Assert.Contains(found, f => f.Message == "The name 'zoo' is used twice.");
    }

    [Theory]
    [InlineData("catalogue: { read: objectClass=group }", "is no filter")]
    [InlineData("catalogue: { read: \"(cn=a)(cn=b)\" }", "is no filter")]
    [InlineData("catalogue: { read: \"(&(cn=a)\" }", "is no filter")]
    [InlineData("catalogue: { owner: owner }", "'read' is missing")]
    [InlineData("catalogue: { read: (cn=a), owner: \"own er\" }", "is no attribute name")]
    [InlineData("catalogue: { read: (cn=a), ownr: owner }", "Did you mean 'owner'?")]
    public void How_a_directory_is_read_is_checked(string text, string finding)
    {
        var found = RulebookReader.Read(Small.Files(("targets/directory.yaml", $"{Small.Target}\n{text}\n"))).Findings;
        Assert.Contains(found, f => f.Message.Contains(finding, StringComparison.Ordinal));
    }

    [Fact]
    public void An_application_tells_groups_roles_and_licences()
    {
        const string Asked = "[groups, roles, licences]";
        static List<RulebookFile> Asking(string asked) =>
            [
                .. Northmere.All.Select(f =>
                    f.Path == "targets/records.yaml" ? f with { Text = f.Text.Replace(Asked, asked, StringComparison.Ordinal) } : f
                ),
            ];
        var wrong = RulebookReader.Read(Asking("[groups, rolls]")).Findings;
        Assert.Contains(wrong, f => f.Message.Contains("'rolls' cannot be read", StringComparison.Ordinal));
        var target = RulebookReader.Read(Asking(Asked)).Rulebook!.Targets["records"];
        OfferedEntitlement[] told =
        [
            new(new EntitlementMeans.Value("roles", "curator"), "curator", null),
            new(new EntitlementMeans.Value("entitlements", "imaging"), "imaging", null) { Title = "Imaging" },
            new(new EntitlementMeans.NamedGroup("Night keepers"), "Night keepers", null),
        ];
        var found = Of(target, told);
        Assert.Equal(["group", "licence", "role"], found.New.Select(e => e.Kind.ToString().ToLowerInvariant()).Order());
        Assert.Equal(["vets"], found.Gone.Select(e => e.Name));
        var read = RulebookReader.Read([.. Northmere.All, .. found.Files]).Rulebook!.Targets["records"].Entitlements;
        Assert.All(found.New, e => Assert.Equal(e.Means, read[e.Name].Means));
        Assert.Equal("Imaging", read["imaging"].Title);
    }

    [Fact]
    public void Members_that_owners_gave_are_theirs_and_what_was_given_here_is_looked_for()
    {
        var target = Directory(With("entitlements: { zoo: { group: cn=x, members: shared }, pay: { group: cn=y } }"));
        Assert.Equal(["pay", "strange"], target.Ours(["pay", "zoo", "strange"], []));
        Assert.Equal(["pay", "zoo"], target.Ours(["pay", "zoo"], ["zoo"]));
        Assert.True(target.HasShared);
    }
}
