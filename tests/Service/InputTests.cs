using System.Globalization;
using Oikonom.Contracts;
using Oikonom.Testing;
using Xunit;
using static Oikonom.Service.Tests.ApprovalTests;

namespace Oikonom.Service.Tests;

/// <summary>What HR says and what was approved by hand lie beside each other; neither is written over the other.</summary>
public sealed class InputTests(Servers servers)
{
    private static string Day(int from) => DateTime.UtcNow.AddDays(from).ToString("yyyy-MM-dd", CultureInfo.InvariantCulture);

    /// <summary>HR's next delivery about one person, and the request that follows, carried out.</summary>
    private static async Task<RequestDetail> HrSaysAsync(World world, HrRow row)
    {
        world.WriteHr(row);
        var raised = (await world.RunIntakeAsync()).Requests.Single(r => r.Number == row.Number);
        return await world.ThroughAsync(raised.Id);
    }

    private static Task<PersonDetail> PersonAsync(World world, HrRow row) => world.GetAsync<PersonDetail>($"/api/v1/people/{row.Number}");

    private static string Of(PersonDetail person, string attribute) => person.Record.SingleOrDefault(a => a.Name == attribute)?.Value ?? "";

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task An_urgent_leaver_stays_out_when_hr_corrects_something_else(string engine)
    {
        await using var world = await World.StartAsync(servers.Directory, await servers.OnAsync(engine));
        var row = HrRow.New();
        await world.BringAsync(row);
        await world.ThroughAsync((await RaiseAsync(world, new("leaver", row.Number, "theft", Urgent: true))).Summary.Id);
        var left = await PersonAsync(world, row);
        Assert.Equal((false, Day(-1)), (left.Accounts.Single().Enabled, Of(left, "end")));
        Assert.All(left.Grants, g => Assert.True(g.Until <= DateTimeOffset.UtcNow));

        // HR knows nothing of it yet, corrects a typing error, and later names an end that lies ahead.
        var corrected = await HrSaysAsync(world, row with { Title = "Divers" });
        Assert.DoesNotContain(corrected.Plan, c => c.Kind is "enable-account" or "grant");
        var extended = await HrSaysAsync(world, row with { Title = "Divers", End = Day(90) });
        Assert.DoesNotContain(extended.Plan, c => c.Kind is "enable-account" or "grant");
        left = await PersonAsync(world, row);
        Assert.Equal((false, "Divers"), (left.Accounts.Single().Enabled, Of(left, "title")));

        // Another last day, decided by people, brings them back.
        var back = await world.ThroughAsync(
            (
                await RaiseAsync(
                    world,
                    new("change", row.Number, "it was a mistake", Record: new Dictionary<string, string> { ["end"] = Day(60) })
                )
            )
                .Summary
                .Id
        );
        Assert.Contains(back.Plan, c => c.Kind == "enable-account");
        left = await PersonAsync(world, row);
        Assert.Equal((true, Day(60)), (left.Accounts.Single().Enabled, Of(left, "end")));
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task A_change_by_hand_outlives_what_hr_says_of_other_things_and_ends_when_hr_changes_that_very_field(string engine)
    {
        await using var world = await World.StartAsync(servers.Directory, await servers.OnAsync(engine));
        var row = HrRow.New();
        await world.BringAsync(row);
        await world.ThroughAsync(
            (
                await RaiseAsync(
                    world,
                    new("change", row.Number, "as agreed", Record: new Dictionary<string, string> { ["title"] = "Lead diver" })
                )
            )
                .Summary
                .Id
        );
        Assert.Equal("Lead diver", Of(await PersonAsync(world, row), "title"));
        // HR says another thing new: what was approved stays.
        await HrSaysAsync(world, row with { Given = "Torben" });
        var person = await PersonAsync(world, row);
        Assert.Equal(("Torben", "Lead diver"), (Of(person, "given"), Of(person, "title")));
        // HR changes that very field: HR's word holds, and the record tells that what was set by hand is over.
        await HrSaysAsync(world, row with { Given = "Torben", Title = "Archive lead" });
        Assert.Equal("Archive lead", Of(await PersonAsync(world, row), "title"));
        var history = await world.GetAsync<Page<HistoryLine>>($"/api/v1/people/{row.Number}/history", "aldo");
        Assert.Contains(history.Items, l => l.What == "input.ended");
        await HrSaysAsync(world, row with { Given = "Torben", Title = "Archive head" });
        Assert.Equal("Archive head", Of(await PersonAsync(world, row), "title"));
    }

    [Fact]
    public async Task A_move_that_is_planned_ahead_begins_on_its_day_and_its_gains_and_losses_too()
    {
        await using var world = await World.StartAsync(servers.Directory, await servers.OnAsync("sqlite"));
        await TrustApprovalTests.PublishAsync(
            world,
            (path, text) =>
                path == "templates/dive-team.yaml"
                    ? text.Replace("to: directory/dive-team", "to: directory/dive-team\n    hand-over: P14D", StringComparison.Ordinal)
                    : text
        );
        var row = HrRow.New();
        await world.BringAsync(row);
        var move = await world.WaitForAsync(
            (
                await RaiseAsync(
                    world,
                    new(
                        "mover",
                        row.Number,
                        "in the new year",
                        Record: new Dictionary<string, string> { ["department"] = "Research" },
                        From: Day(20)
                    )
                )
            )
                .Summary
                .Id,
            "deciding"
        );
        var day = DateTimeOffset.Parse(Day(19), CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal);
        Assert.All(move.Plan, c => Assert.True(c.Due > day));
        Assert.Contains(move.Plan, c => c is { Kind: "grant", Subject: "research-lab" });
        // Gained on the day, lost after the hand-over that the template names.
        Assert.True(move.Plan.First(c => c is { Kind: "revoke", Subject: "dive-team" }).Due > move.Plan.First(c => c.Kind == "grant").Due);
        await world.ApproveAsync(move);
        await world.ReleaseAsync(await world.WaitForAsync(move.Summary.Id, "releasing"));
        var waiting = await world.WaitForAsync(move.Summary.Id, "fulfilling");
        Assert.Equal(("Research", "Dive Team"), (waiting.Wish.Changes.Single().Value, (await PersonAsync(world, row)).Department));
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task The_written_end_takes_access_away_whoever_declined_it_and_the_manager_is_told(string engine)
    {
        await using var world = await World.StartAsync(servers.Directory, (await servers.OnAsync(engine)) with { MovesClock = true });
        // Two others whose ends were decided: when they are out, the loop has looked at everybody.
        var (soon, later) = (HrRow.New() with { End = Day(5) }, HrRow.New() with { End = Day(14) });
        await world.BringAsync(soon);
        await world.BringAsync(later);
        Task OutAsync(HrRow who) => world.EventuallyAsync(() => PersonAsync(world, who), p => !p.Accounts.Single().Enabled);
        var row = HrRow.New();
        await world.BringAsync(row);
        world.WriteHr(row with { End = Day(10) }, soon, later);
        var leaver = await world.WaitForAsync((await world.RunIntakeAsync()).Requests.Single().Id, "deciding");
        await DoAsync(world, leaver, "decline", new DeclineBody("she stays"), "mara");
        // Before the last day is over nothing happens; what HR tells late waits for people as ever.
        world.MoveClock(TimeSpan.FromDays(9));
        await OutAsync(soon);
        Assert.True((await PersonAsync(world, row)).Accounts.Single().Enabled);
        world.MoveClock(TimeSpan.FromDays(3));
        var left = await world.EventuallyAsync(
            () => PersonAsync(world, row),
            p => p.Requests.Any(r => r.Id != leaver.Summary.Id && r is { Kind: "leaver", State: "completed" })
        );
        Assert.False(left.Accounts.Single().Enabled);
        Assert.All(left.Grants, g => Assert.True(g.Until < DateTimeOffset.UtcNow + world.Ahead));
        var ended = await world.RequestAsync(left.Requests.First(r => r.Id != leaver.Summary.Id && r.Kind == "leaver").Id);
        Assert.Equal(("Written end", 0), (ended.Workflow.Length > 0 ? "Written end" : "", ended.Stages.Count));
        Assert.Contains("nobody had decided", ended.Cause.Text, StringComparison.Ordinal);
        await world.EventuallyAsync(
            () => Task.FromResult(world.Mail!.Mails),
            m => m.Any(x => x.Subject.StartsWith("Access of ", StringComparison.Ordinal) && x.To.Contains("mara", StringComparison.Ordinal))
        );
        // Nothing is raised twice.
        world.MoveClock(TimeSpan.FromDays(4));
        await OutAsync(later);
        Assert.Equal(left.Requests.Count, (await PersonAsync(world, row)).Requests.Count);
        await world.EventuallyAsync(world.VerifyLedgerAsync, v => v.Sound);
    }

    [Fact]
    public async Task An_attribute_that_was_planned_ahead_is_shown_when_its_day_comes()
    {
        await using var world = await World.StartAsync(servers.Directory, (await servers.OnAsync("sqlite")) with { MovesClock = true });
        var row = HrRow.New();
        await world.BringAsync(row);
        var move = await world.WaitForAsync(
            (
                await RaiseAsync(
                    world,
                    new(
                        "mover",
                        row.Number,
                        "in a week",
                        Record: new Dictionary<string, string> { ["department"] = "Research" },
                        From: Day(7)
                    )
                )
            )
                .Summary
                .Id,
            "deciding"
        );
        await world.ApproveAsync(move);
        await world.ReleaseAsync(await world.WaitForAsync(move.Summary.Id, "releasing"));
        await world.WaitForAsync(move.Summary.Id, "fulfilling");
        world.MoveClock(TimeSpan.FromDays(8));
        var person = await world.EventuallyAsync(
            () => PersonAsync(world, row),
            p => p.Department == "Research" && p.Grants.Any(g => g.Entitlement == "research-lab")
        );
        Assert.Null(person.Grants.Single(g => g.Entitlement == "research-lab").Until);
        Assert.Equal("Research", Of(person, "department"));
    }

    [Fact]
    public async Task A_step_that_is_stopped_does_not_hold_up_the_end()
    {
        await using var world = await World.StartAsync(servers.Directory, (await servers.OnAsync("sqlite")) with { MovesClock = true });
        var row = HrRow.New() with { End = Day(20) };
        await world.BringAsync(row);
        // A later request of the same person hangs in the same target.
        await TrustApprovalTests.SqlAsync(
            world,
            "UPDATE steps SET state='stopped', problem='made up' WHERE removes=0 AND state='pending' AND later=1 AND "
                + $"subject_id=(SELECT id FROM people WHERE number='{row.Number}')"
        );
        world.MoveClock(TimeSpan.FromDays(22));
        var left = await world.EventuallyAsync(() => PersonAsync(world, row), p => !p.Accounts.Single().Enabled);
        Assert.Single(left.Requests);
    }

    [Fact]
    public async Task The_clock_is_moved_on_one_machine_only()
    {
        using var folder = new ScratchFolder();
        File.SetUnixFileMode(folder.Path, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        using var process = System.Diagnostics.Process.Start(
            new System.Diagnostics.ProcessStartInfo(
                Repository.At("bin", "oikonomd"),
                [
                    "--listen",
                    "http://127.0.0.1:7399",
                    "--address",
                    "https://oikonom.northmere.example",
                    "--data",
                    folder.Path,
                    "--clock-file",
                    folder.At("clock"),
                ]
            )
            {
                RedirectStandardError = true,
                RedirectStandardOutput = true,
            }
        )!;
        var told = await process.StandardError.ReadToEndAsync() + await process.StandardOutput.ReadToEndAsync();
        await process.WaitForExitAsync();
        Assert.NotEqual(0, process.ExitCode);
        Assert.Contains("moves the clock of demos and tests", told, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_grant_for_a_term_is_shown_with_the_end_it_will_have()
    {
        await using var world = await World.StartAsync(servers.Directory, await servers.OnAsync("sqlite"));
        await TrustApprovalTests.PublishAsync(world, Mapped);
        var row = HrRow.New() with { End = Day(100) };
        await world.BringAsync(row);
        var asked = await world.WaitForAsync(
            (await RaiseAsync(world, new("access", row.Number, "month end", Grants: [new("directory/payments", null, Day(30))])))
                .Summary
                .Id,
            "deciding"
        );
        foreach (var user in new[] { "mara", "tomas" })
            await world.ApproveAsync(await world.RequestAsync(asked.Summary.Id), user);
        await world.WaitForAsync(asked.Summary.Id, "completed");
        var person = await PersonAsync(world, row);
        var grant = person.Grants.Single(g => g.Entitlement == "payments");
        Assert.Equal(asked.Wish.Grants.Single().Until, grant.Until?.ToString("o"));
        Assert.Equal(person.TermEnd, person.Grants.Single(g => g.Entitlement == "dive-team").Until);
    }
}
