using System.Net.Http.Json;
using Oikonom.Contracts;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

public sealed class IntakeTests(Servers servers)
{
    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task Bad_rows_are_set_aside_the_rest_goes_on_and_a_mended_row_is_picked_up(string engine)
    {
        await using var world = await World.StartAsync(servers.Directory, await servers.OnAsync(engine));
        var (good, bad, date) = (HrRow.New(), HrRow.New(), HrRow.New());
        world.WriteHr(good, bad with { Family = "" }, date with { Start = "31.02.2026" }, good with { Given = "Twin" });
        var run = await world.RunIntakeAsync();
        Assert.Equal((4, 1, 3), (run.Counts.Read, run.Counts.Joiners, run.Counts.SetAside));
        Assert.Equal([(3, "family_name"), (4, "start_date"), (5, "employee_no")], run.SetAside.Select(a => (a.Line, a.Column)));
        Assert.Contains("same key", run.SetAside[2].Reason, StringComparison.Ordinal);
        Assert.Equal(3, (await world.GetAsync<Page<SetAside>>("/api/v1/sources/hr/set-aside", "edda")).Items.Count);

        world.WriteHr(good, bad, date with { Start = "31.02.2026" });
        run = await world.RunIntakeAsync();
        Assert.Equal((1, 1, 1), (run.Counts.Unchanged, run.Counts.Joiners, run.Counts.SetAside));
        Assert.Equal(bad.Number, run.Requests.Single().Number);
        Assert.Single((await world.GetAsync<Page<SetAside>>("/api/v1/sources/hr/set-aside", "edda")).Items);
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task A_first_load_that_breaks_off_leaves_nothing_and_the_mended_file_is_taken_whole(string engine)
    {
        await using var world = await World.StartAsync(servers.Directory, await servers.OnAsync(engine));
        var edda = await world.SignInAsync("edda");
        var rows = Enumerable
            .Range(0, 9000)
            .Select(i => new HrRow($"B{i:0000}", "Tor", $"Quill{i}") { Department = i % 2 == 0 ? "Research" : "Dive Team" })
            .ToList();
        // Somebody's other employment stands far from the first one.
        rows[8500] = rows[8500] with
        {
            Person = rows[3].Person,
            Given = "Tor",
            Family = "Quill3",
        };
        world.WriteHr([.. rows, rows[0] with { Given = "Twin" }, rows[1] with { Number = "B9999", Site = "nowhere" }]);
        var sound = await File.ReadAllTextAsync(world.SourceFile);
        // A row of 20 million characters is no record: the file cannot be read to its end.
        await File.AppendAllTextAsync(world.SourceFile, "\"" + new string('x', 20_000_000) + "\",1\n");
        Assert.Equal(
            (422, "source-unreadable"),
            (
                (await World.RefusedAsync(edda.PostAsJsonAsync("/api/v1/sources/hr/runs", new IntakeBody("baseline", false))))
                    is var refused
                    ? (refused.Status, refused.Code)
                    : default
            )
        );
        Assert.Empty((await world.GetAsync<Page<PersonSummary>>("/api/v1/people")).Items);

        await File.WriteAllTextAsync(world.SourceFile, sound);
        var run = await world.RunIntakeAsync("baseline", actor: "edda");
        Assert.Equal((9002, 9000, 2, 0), (run.Counts.Read, run.Counts.Changed, run.Counts.SetAside, run.Counts.Joiners));
        Assert.Equal([9002, 9003], run.SetAside.Select(a => a.Line));
        Assert.Equal("B8999", (await world.GetAsync<PersonDetail>("/api/v1/people/B8999")).Number);
        var shared = new List<string?>();
        foreach (var key in new[] { "B0003", "B8500" })
            shared.Add((await world.GetAsync<Page<RecordView>>($"/api/v1/sources/hr/records?key={key}", "edda")).Items.Single().PersonId);
        Assert.Single(shared.Distinct());
        Assert.NotEqual(shared[0], (await world.GetAsync<PersonDetail>("/api/v1/people/B8501")).Id);
        Assert.Equal(9000, (await world.RunIntakeAsync()).Counts.Unchanged);
        Assert.True((await world.VerifyLedgerAsync()).Sound);
    }

    [Fact]
    public async Task A_dry_run_tells_and_changes_nothing()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var row = HrRow.New("Una");
        world.WriteHr(row, HrRow.New() with { Site = "nowhere" });
        var dry = await world.RunIntakeAsync(dryRun: true);
        var told = dry.Requests.Single();
        Assert.Equal($"Una {row.Family} starts on {row.Start} as {row.Title}", told.Text);
        Assert.Contains(told.Changes!, c => c is { Name: "department", Before.Count: 0 } && c.After.Single() == row.Department);
        Assert.Equal((1, 1), (dry.Counts.Joiners, dry.Counts.SetAside));
        Assert.Empty((await world.GetAsync<Page<RequestSummary>>("/api/v1/requests")).Items);
        Assert.Empty((await world.GetAsync<Page<PersonSummary>>("/api/v1/people")).Items);
        Assert.Empty((await world.GetAsync<Page<SetAside>>("/api/v1/sources/hr/set-aside", "edda")).Items);
        var run = await world.RunIntakeAsync();
        Assert.Equal(dry.Counts.Joiners, run.Counts.Joiners);
        Assert.Null(run.Requests.Single().Changes);

        // Of somebody known it tells what differs, with its day.
        world.WriteHr(row with { Title = "Dive master", End = "2034-06-30" }, HrRow.New() with { Site = "nowhere" });
        var second = (await world.RunIntakeAsync(dryRun: true)).Requests.Single(r => r.Number == row.Number);
        Assert.Equal(
            ["end:→2034-06-30", "title:Diver→Dive master"],
            second.Changes!.Select(c => $"{c.Name}:{string.Join(',', c.Before)}→{string.Join(',', c.After)}")
        );
    }

    [Fact]
    public async Task A_missing_or_cut_file_is_told_and_harms_nobody()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var ines = await world.SignInAsync("ines");
        Task<HttpResponseMessage> Run() => ines.PostAsJsonAsync("/api/v1/sources/hr/runs", new IntakeBody(null, null));
        var missing = await World.RefusedAsync(Run());
        Assert.Equal((422, "source-unreadable"), (missing.Status, missing.Code));
        Assert.Contains("does not exist", missing.Detail, StringComparison.Ordinal);

        var rows = Enumerable.Range(0, 5).Select(_ => HrRow.New()).ToList();
        world.WriteHr(rows);
        await world.RunIntakeAsync("baseline", actor: "edda");
        var text = await File.ReadAllTextAsync(world.SourceFile);
        await File.WriteAllTextAsync(world.SourceFile, text[..(text.Length / 2)]);
        var cut = await world.RunIntakeAsync();
        Assert.Equal((0, 0, 0), (cut.Counts.Leavers, cut.Counts.Movers, cut.Counts.Joiners));
        Assert.True(cut.Counts.Missing > 0);
        Assert.Single(cut.SetAside);

        await File.WriteAllTextAsync(world.SourceFile, "a;b;c\n1;2;3\n");
        Assert.Contains("The column 'person_no' is missing", (await World.RefusedAsync(Run())).Detail, StringComparison.Ordinal);
        Assert.Equal(
            (404, "not-found"),
            ((await World.RefusedAsync(ines.PostAsJsonAsync("/api/v1/sources/hrr/runs", new IntakeBody(null, null)))).Status, "not-found")
        );
        Assert.Equal(
            400,
            (await World.RefusedAsync(ines.PostAsJsonAsync("/api/v1/sources/hr/runs", new IntakeBody("sometimes", null)))).Status
        );
    }

    [Fact]
    public async Task Hostile_values_reach_the_directory_as_they_are_or_are_set_aside()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var row = HrRow.New("Robert\"); DROP") with { Title = "*)(uid=*", Department = "a,b=c+d\\2a" };
        var done = await world.BringAsync(row);
        await using var ldap = await servers.Directory.ConnectAsync();
        var entry = (
            await ldap.SearchAsync(
                new("ou=people,dc=northmere,dc=example", Ldap.LdapScope.One, Ldap.LdapFilter.Equal("employeeNumber", row.Number))
            )
        ).Single();
        Assert.Equal(
            ("*)(uid=*", "a,b=c+d\\2a", "Robert\"); DROP"),
            (entry.Text("title"), entry.Text("departmentNumber"), entry.Text("givenName"))
        );
        Assert.Equal($"robertdrop.{row.Family.ToLowerInvariant()}", entry.Text("uid"));
        Assert.Equal("completed", done.Summary.State);
        world.WriteHr(HrRow.New("Evil\u202Etxt"), HrRow.New(new string('x', 5000)), HrRow.New("a\0b"));
        Assert.Equal(3, (await world.RunIntakeAsync()).Counts.SetAside);
    }
}
