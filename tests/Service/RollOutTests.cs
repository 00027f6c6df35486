using System.Net.Http.Json;
using Oikonom.Contracts;
using Oikonom.Ldap;
using Oikonom.Standins.Directory;
using Oikonom.Testing;
using Xunit;
using static Oikonom.Service.Tests.ApprovalTests;

namespace Oikonom.Service.Tests;

/// <summary>The edition somebody is on is one of their inputs: publishing moves nobody, a roll-out moves everybody.</summary>
public sealed class RollOutTests(Servers servers)
{
    private async Task<World> StartAsync(string engine = "sqlite", Func<string, string, string>? change = null)
    {
        var world = await World.StartAsync(servers.Directory, await servers.OnAsync(engine));
        await TrustApprovalTests.PublishAsync(world, change);
        return world;
    }

    /// <summary>Divers get into the laboratory too, and nobody into what belongs to the whole trust when <paramref name="taken"/>.</summary>
    private static string Next(string path, string text, bool taken = false) =>
        path == "templates/dive-team.yaml" ? text + "  - to: directory/research-lab\n"
        : taken && path == "templates/everyone.yaml" ? text.Replace("  - to: directory/all-people\n", "", StringComparison.Ordinal)
        : text;

    private static async Task<Published> PublishAsync(World world, Func<string, string, string> change, string actor = "edda") =>
        (
            await (
                await World.OkAsync(
                    (await world.SignInAsync(actor)).PostAsJsonAsync(
                        "/api/v1/rulebook/editions",
                        new RulebookBody(world.Rulebook((path, text) => change(path, Mapped(path, text))))
                    )
                )
            ).Content.ReadFromJsonAsync<Published>()
        )!;

    private static async Task<RolloutDetail> DoAsync<T>(World world, long rollout, string verb, T body, string actor) =>
        (
            await (
                await World.OkAsync((await world.SignInAsync(actor)).PostAsJsonAsync($"/api/v1/rollouts/{rollout}/{verb}", body))
            ).Content.ReadFromJsonAsync<RolloutDetail>()
        )!;

    private static async Task<(int Status, string Code, string Detail)> RefusedAsync<T>(
        World world,
        long rollout,
        string verb,
        T body,
        string actor
    ) => await World.RefusedAsync((await world.SignInAsync(actor)).PostAsJsonAsync($"/api/v1/rollouts/{rollout}/{verb}", body));

    private static Task<RolloutDetail> SeenAsync(World world, long rollout, string actor = "mara") =>
        world.GetAsync<RolloutDetail>($"/api/v1/rollouts/{rollout}", actor);

    private static async Task<IReadOnlyList<RolloutPerson>> PeopleAsync(World world, long rollout, string query = "") =>
        (await world.GetAsync<Page<RolloutPerson>>($"/api/v1/rollouts/{rollout}/people?limit=100{query}", "otto")).Items;

    private static Task<RolloutDetail> StandsAsync(World world, long rollout, string state) =>
        world.EventuallyAsync(() => SeenAsync(world, rollout), r => r.Summary.State == state);

    private static Task<PersonDetail> PersonAsync(World world, HrRow row) => world.GetAsync<PersonDetail>($"/api/v1/people/{row.Number}");

    private static async Task<bool> HoldsAsync(World world, HrRow row, string entitlement) =>
        (await PersonAsync(world, row)).Grants.Any(g =>
            g.Entitlement == entitlement && (g.Until is null || g.Until > DateTimeOffset.UtcNow)
        );

    private static async Task<RolloutDetail> ApproveAsync(World world, long rollout, string? department = null)
    {
        var shown = await SeenAsync(world, rollout);
        var digest = department is null ? shown.Digest : shown.Departments.Single(d => d.Department == department).Digest;
        return await DoAsync(world, rollout, "decide", new RolloutDecideBody("approve", digest!, department, null), "mara");
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task Publishing_moves_nobody_and_a_roll_out_goes_in_waves_and_back(string engine)
    {
        await using var world = await StartAsync(engine);
        var divers = Enumerable.Range(0, 3).Select(_ => HrRow.New()).ToList();
        foreach (var diver in divers)
            await world.BringAsync(diver);
        var clerk = HrRow.New() with { Department = "Office" };
        await world.BringAsync(clerk);
        Assert.Equal(2, (await PersonAsync(world, clerk)).Edition);

        var published = await PublishAsync(world, (path, text) => Next(path, text));
        var rollout = published.Rollout!.Number;
        Assert.Equal(
            (1L, 3L, 0L, 1L, false),
            (rollout, published.Rollout.People, published.Rollout.Losing, published.Rollout.Same, published.Rollout.Held)
        );
        var person = await PersonAsync(world, divers[0]);
        Assert.Equal((2, 3, false), (person.Edition, person.NewestEdition, await HoldsAsync(world, divers[0], "research-lab")));
        var why = await world.GetAsync<PersonExplanation>($"/api/v1/people/{divers[0].Number}/explain?of=directory/research-lab");
        Assert.Equal((2, 3), (why.Edition, why.Newest));
        Assert.Equal("On edition 2; edition 3 would give it: roll-out 1", why.Explanations.Single().Elsewhere);

        // A correction brings nothing else with it, and leaves the person where they are.
        var corrected = await RaiseAsync(
            world,
            new("change", divers[0].Number, "typing error", Record: new Dictionary<string, string> { ["phone"] = "+351 1" })
        );
        corrected = await world.WaitForAsync(corrected.Summary.Id, "deciding");
        Assert.Equal((2, null), (corrected.Edition, corrected.From));
        Assert.DoesNotContain(corrected.Plan, c => c.Kind == "grant");
        await world.ApproveAsync(corrected);
        await world.ReleaseAsync(await world.WaitForAsync(corrected.Summary.Id, "releasing"));
        await world.WaitForAsync(corrected.Summary.Id, "completed");
        Assert.Equal(2, (await PersonAsync(world, divers[0])).Edition);

        // Who published does not decide, nor does who is not named; what is decided is what was shown.
        var shown = await SeenAsync(world, rollout);
        Assert.Equal(
            "not-yours",
            (await RefusedAsync(world, rollout, "decide", new RolloutDecideBody("approve", shown.Digest!, null, null), "edda")).Code
        );
        Assert.Equal(
            "not-yours",
            (await RefusedAsync(world, rollout, "decide", new RolloutDecideBody("approve", shown.Digest!, null, null), "otto")).Code
        );
        Assert.Equal(
            "changed-meanwhile",
            (await RefusedAsync(world, rollout, "decide", new RolloutDecideBody("approve", "x", null, null), "mara")).Code
        );
        Assert.Equal("nobody-approved", (await RefusedAsync(world, rollout, "begin", new RolloutBeginBody(2, null), "otto")).Code);
        await ApproveAsync(world, rollout, "Dive Team");
        Assert.Equal(
            "nothing-open",
            (await RefusedAsync(world, rollout, "decide", new RolloutDecideBody("approve", "x", null, null), "mara")).Code
        );

        await DoAsync(world, rollout, "begin", new RolloutBeginBody(2, null), "otto");
        var pausing = await StandsAsync(world, rollout, "pausing");
        Assert.Equal((1L, 2L, null), (pausing.Summary.Wave, pausing.Waves.Single(w => w.Wave == 1).Done, pausing.NextAt));
        Assert.Equal(1, pausing.Summary.Approved);
        // For whom nothing changes is on the new edition at once; whoever went with the wave has what it gives.
        Assert.Equal(3, (await PersonAsync(world, clerk)).Edition);
        var moved = await PeopleAsync(world, rollout, "&wave=1");
        Assert.Equal(2, moved.Count);
        foreach (var diver in divers)
            Assert.Equal(moved.Any(m => m.Number == diver.Number), await HoldsAsync(world, diver, "research-lab"));
        Assert.All(moved, m => Assert.Equal(("done", "dive-team"), (m.State, m.Effects.Single().Rule)));

        await DoAsync(world, rollout, "begin", new RolloutBeginBody(null, null), "otto");
        var done = await StandsAsync(world, rollout, "done");
        Assert.Equal((2L, 4L), (done.Summary.Wave, done.Summary.Done));
        Assert.True(
            await HoldsAsync(world, divers[0], "research-lab")
                && await HoldsAsync(world, divers[1], "research-lab")
                && await HoldsAsync(world, divers[2], "research-lab")
        );

        // Turned back wave by wave, the last one first; at the end those for whom nothing had changed.
        Assert.Equal("not-yours", (await RefusedAsync(world, rollout, "turn-back", new RolloutReasonBody("wrong"), "edda")).Code);
        Assert.Equal("wrong-state", (await RefusedAsync(world, rollout, "stop", new RolloutReasonBody("late"), "otto")).Code);
        await DoAsync(world, rollout, "turn-back", new RolloutReasonBody("too many keys"), "mara");
        var back = await StandsAsync(world, rollout, "stopped");
        Assert.Equal("wave 2 was turned back; wave 1 was not.", back.Summary.Problem);
        Assert.Equal(2, (await PeopleAsync(world, rollout, "&wave=1")).Count(p => p.State == "done"));
        await DoAsync(world, rollout, "turn-back", new RolloutReasonBody("too many keys"), "mara");
        await StandsAsync(world, rollout, "stopped");
        foreach (var diver in divers)
            Assert.Equal((2, false), ((await PersonAsync(world, diver)).Edition, await HoldsAsync(world, diver, "research-lab")));
        await DoAsync(world, rollout, "turn-back", new RolloutReasonBody("too many keys"), "mara");
        await StandsAsync(world, rollout, "turned-back");
        Assert.Equal(2, (await PersonAsync(world, clerk)).Edition);
        Assert.True((await world.VerifyLedgerAsync()).Sound);

        // What still waits can be taken up again.
        var anew = await (
            await World.OkAsync((await world.SignInAsync("edda")).PostAsJsonAsync("/api/v1/rollouts", new { }))
        ).Content.ReadFromJsonAsync<RolloutDetail>();
        Assert.Equal((2L, 3L, 1L), (anew!.Summary.Number, anew.Summary.People, anew.Summary.Same));
    }

    [Fact]
    public async Task Who_moves_meanwhile_takes_the_newest_edition_marked_and_is_not_done_twice()
    {
        await using var world = await StartAsync();
        var (mover, other) = (HrRow.New(), HrRow.New());
        await world.BringAsync(mover);
        await world.BringAsync(other);
        var rollout = (await PublishAsync(world, (path, text) => Next(path, text))).Rollout!.Number;
        await ApproveAsync(world, rollout);

        world.WriteHr(mover with { Site = "saltmarsh" });
        var raised = (await world.RunIntakeAsync()).Requests.Single(r => r.Number == mover.Number);
        var move = await world.EventuallyAsync(() => world.RequestAsync(raised.Id), r => r.Summary.State is "deciding" or "releasing");
        Assert.Equal((3, 2), (move.Edition, move.From));
        Assert.Equal([("research-lab", true)], move.Plan.Where(c => c.ByRules).Select(c => (c.Subject, c.ByRules)));
        Assert.Contains(move.Plan, c => c is { Subject: "site-saltmarsh", ByRules: false });
        // While that is open the roll-out leaves them alone.
        await DoAsync(world, rollout, "begin", new RolloutBeginBody(10, "PT0S"), "otto");
        await world.EventuallyAsync(() => SeenAsync(world, rollout), r => r.Summary is { Done: 1, Approved: 1 });
        Assert.False(await HoldsAsync(world, mover, "research-lab"));
        if (move.Summary.State == "deciding")
            await world.ApproveAsync(move);
        move = await world.WaitForAsync(move.Summary.Id, "releasing");
        await world.ReleaseAsync(move);
        await world.WaitForAsync(move.Summary.Id, "completed");
        Assert.Equal((3, true), ((await PersonAsync(world, mover)).Edition, await HoldsAsync(world, mover, "research-lab")));
        var row = await world.EventuallyAsync(
            async () => (await PeopleAsync(world, rollout, $"&text={mover.Number}")).Single(),
            p => p.State == "moved",
            70
        );
        Assert.Null(row.RequestId);
        await StandsAsync(world, rollout, "done");
    }

    [Fact]
    public async Task What_would_do_something_else_than_what_was_decided_is_decided_on_its_own()
    {
        await using var world = await StartAsync();
        var (steady, changed) = (HrRow.New(), HrRow.New());
        await world.BringAsync(steady);
        await world.BringAsync(changed);
        static string Described(string path, string text) =>
            path == "templates/dive-team.yaml"
                ? text.Replace(
                    "grants:",
                    "accounts:\n  directory:\n    attributes:\n      description: '\"Dives as \" + title'\ngrants:",
                    StringComparison.Ordinal
                )
                : text;
        var rollout = (await PublishAsync(world, Described)).Rollout!.Number;
        Assert.All(
            await PeopleAsync(world, rollout),
            p => Assert.Equal("Dives as Diver", p.Effects.Single().Attributes.Single().After.Single())
        );
        await ApproveAsync(world, rollout);
        // The day after the decision somebody has another title.
        var change = await RaiseAsync(
            world,
            new("change", changed.Number, "new title", Record: new Dictionary<string, string> { ["title"] = "Lead" })
        );
        change = await world.WaitForAsync(change.Summary.Id, "deciding");
        await world.ApproveAsync(change);
        await world.ReleaseAsync(await world.WaitForAsync(change.Summary.Id, "releasing"));
        await world.WaitForAsync(change.Summary.Id, "completed");

        await DoAsync(world, rollout, "begin", new RolloutBeginBody(10, null), "otto");
        var own = await world.EventuallyAsync(
            async () => (await PeopleAsync(world, rollout, $"&text={changed.Number}")).Single(),
            p => p.State == "own"
        );
        var request = await world.RequestAsync(own.RequestId);
        Assert.Equal(("deciding", 2), (request.Summary.State, request.From));
        Assert.Equal(["Dives as Lead"], request.Plan.Single(c => c.Kind == "change-account").Attributes.Select(a => a.After.Single()));
        await world.EventuallyAsync(
            async () => (await PeopleAsync(world, rollout, $"&text={steady.Number}")).Single(),
            p => p.State == "done"
        );
        Assert.Equal((3, 2), ((await PersonAsync(world, steady)).Edition, (await PersonAsync(world, changed)).Edition));
        // Declined, they stay where they are, and so does the account.
        await World.OkAsync(
            (await world.SignInAsync("mara")).PostAsJsonAsync($"/api/v1/requests/{own.RequestId}/decline", new DeclineBody("not so"))
        );
        await world.EventuallyAsync(
            async () => (await PeopleAsync(world, rollout, $"&text={changed.Number}")).Single(),
            p => p.State == "declined"
        );
        Assert.Equal(2, (await PersonAsync(world, changed)).Edition);
        // Turned back, what only the new rules had set is gone from the entry too.
        Assert.Equal("Dives as Diver", await DescriptionAsync(world, steady));
        await DoAsync(world, rollout, "turn-back", new RolloutReasonBody("not so"), "mara");
        await StandsAsync(world, rollout, "turned-back");
        Assert.Equal((2, null), ((await PersonAsync(world, steady)).Edition, await DescriptionAsync(world, steady)));
    }

    [Fact]
    public async Task Dates_moved_back_and_forth_leave_the_decision_as_it_was()
    {
        await using var world = await StartAsync();
        var row = HrRow.New();
        await world.BringAsync(row);
        var rollout = (await PublishAsync(world, (path, text) => Next(path, text))).Rollout!.Number;
        await ApproveAsync(world, rollout);
        // HR names a last day; while nobody has decided about that, the roll-out leaves the person alone.
        world.WriteHr(
            row with
            {
                End = DateTime.UtcNow.AddDays(30).ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture),
            }
        );
        var leaves = (await world.RunIntakeAsync()).Requests.Single(r => r.Number == row.Number);
        await world.EventuallyAsync(() => world.RequestAsync(leaves.Id), r => r.Summary.State is "deciding" or "releasing");
        await DoAsync(world, rollout, "begin", new RolloutBeginBody(1, "PT0S"), "otto");
        var blocked = await StandsAsync(world, rollout, "pausing");
        Assert.Equal("1 people have open requests of their own; they are taken once those have ended.", blocked.Summary.Problem);
        Assert.False(await HoldsAsync(world, row, "research-lab"));
        // A day later HR takes it back: what was decided is what would run, and runs.
        world.WriteHr(row);
        await world.RunIntakeAsync();
        var after = await world.EventuallyAsync(
            () => world.RequestAsync(leaves.Id),
            r => r.Summary.State is "completed" or "deciding" or "releasing"
        );
        if (after.Summary.State != "completed")
            await World.OkAsync(
                (await world.SignInAsync("mara")).PostAsJsonAsync($"/api/v1/requests/{leaves.Id}/decline", new DeclineBody("taken back"))
            );
        await StandsAsync(world, rollout, "done");
        Assert.Equal((3, true), ((await PersonAsync(world, row)).Edition, await HoldsAsync(world, row, "research-lab")));
        Assert.Equal("done", (await PeopleAsync(world, rollout)).Single().State);
    }

    [Fact]
    public async Task What_is_planned_again_after_an_entry_was_deleted_by_hand_is_decided_on_its_own()
    {
        await using var world = await StartAsync();
        var row = HrRow.New();
        await world.BringAsync(row);
        var rollout = (await PublishAsync(world, (path, text) => Next(path, text))).Rollout!.Number;
        await ApproveAsync(world, rollout);
        var account = (await PersonAsync(world, row)).Accounts.Single(a => a.Target == "directory");
        await using (var root = await servers.Directory.ConnectAsRootAsync())
            await root.DeleteAsync(account.Location);

        await DoAsync(world, rollout, "begin", new RolloutBeginBody(1, null), "otto");
        var own = await world.EventuallyAsync(async () => (await PeopleAsync(world, rollout)).Single(), p => p.State is "own" or "done");
        // The decision was about what was shown, not about whatever a new plan finds.
        Assert.Equal("own", own.State);
        var request = await world.EventuallyAsync(() => world.RequestAsync(own.RequestId), r => r.Summary.State == "deciding");
        Assert.DoesNotContain(request.Steps, s => s.State == "pending");
    }

    [Fact]
    public async Task A_wave_that_cannot_go_on_stops_the_roll_out_by_itself_and_goes_on_when_it_can()
    {
        static string Scarce(string path, string text) =>
            path == "targets/directory.yaml"
                ? text.Replace("title: Research lab,", "title: Research lab, kind: licence, most-holders: 1,", StringComparison.Ordinal)
                : text;
        await using var world = await StartAsync(change: Scarce);
        var rows = new[] { HrRow.New(), HrRow.New() };
        foreach (var row in rows)
            await world.BringAsync(row);
        var rollout = (await PublishAsync(world, (path, text) => Scarce(path, Next(path, text)))).Rollout!.Number;
        await ApproveAsync(world, rollout);
        await DoAsync(world, rollout, "begin", new RolloutBeginBody(1, "PT0S"), "otto");
        var stopped = await StandsAsync(world, rollout, "stopped");
        Assert.Contains("1 of wave 2 cannot go on: request", stopped.Summary.Problem, StringComparison.Ordinal);
        Assert.Contains("no licence is left", stopped.Summary.Problem, StringComparison.Ordinal);
        Assert.Equal((1L, 1L), (stopped.Summary.Done, stopped.Summary.UnderWay));
        Assert.Equal("wrong-state", (await RefusedAsync(world, rollout, "stop", new RolloutReasonBody("again"), "otto")).Code);
        // The licence is bought: the request that waited goes on by itself, and nobody is left.
        await PublishAsync(world, (path, text) => Next(path, text));
        await world.EventuallyAsync(
            async () => (await PeopleAsync(world, rollout)).Select(p => p.State).ToList(),
            s => s.TrueForAll(state => state is "done" or "own")
        );
    }

    [Fact]
    public async Task What_begins_later_is_decided_with_the_roll_out_and_comes_on_its_day()
    {
        await using var world = await World.StartAsync(servers.Directory, new() { MovesClock = true });
        await TrustApprovalTests.PublishAsync(world);
        var row = HrRow.New() with
        {
            Start = DateTime.UtcNow.AddDays(-5).ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture),
        };
        await world.BringAsync(row);
        static string Later(string path, string text) =>
            path == "templates/dive-team.yaml" ? text + "  - to: directory/research-lab\n    from: start + P10D\n" : text;
        // Nothing changes for them today, and something will: they are decided about now, and nobody is asked on the day.
        var rollout = (await PublishAsync(world, Later)).Rollout!;
        Assert.Equal((1L, 0L), (rollout.People, rollout.Same));
        var shown = (await PeopleAsync(world, rollout.Number)).Single();
        Assert.Equal(
            ("grant-gained", DateOnly.FromDateTime(DateTime.UtcNow).AddDays(5)),
            (shown.Effects.Single().Kind, shown.Effects.Single().From!.Value)
        );
        await ApproveAsync(world, rollout.Number);
        await DoAsync(world, rollout.Number, "begin", new RolloutBeginBody(1, null), "otto");
        await StandsAsync(world, rollout.Number, "done");
        Assert.Equal(3, (await PersonAsync(world, row)).Edition);
        Assert.False(await HoldsAsync(world, row, "research-lab"));
        world.MoveClock(TimeSpan.FromDays(6));
        await world.EventuallyAsync(() => HoldsAsync(world, row, "research-lab"), held => held);
        // One request, of the roll-out, and no other on the day.
        Assert.Equal("completed", Assert.Single((await PersonAsync(world, row)).Requests, r => r.Kind == "change").State);
    }

    [Fact]
    public async Task What_begins_later_by_rules_nobody_decided_about_becomes_a_request_on_its_day()
    {
        static string Later(string path, string text) =>
            path == "templates/dive-team.yaml" ? text + "  - to: directory/research-lab\n    from: start + P10D\n" : text;
        await using var world = await World.StartAsync(servers.Directory, new() { MovesClock = true });
        await TrustApprovalTests.PublishAsync(world);
        var row = HrRow.New() with
        {
            Start = DateTime.UtcNow.AddDays(-5).ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture),
        };
        var name = $"b{row.Number.ToLowerInvariant()}";
        await using (var ldap = await servers.Directory.ConnectAsync())
            await ldap.AddAsync(TestDirectory.Dn(name), TestDirectory.Person(name, row.Number));
        // They are read with the first load, which is approved with no plan.
        await PublishAsync(world, Later);
        world.WriteHr(row);
        await world.BaselineAsync();
        world.MoveClock(TimeSpan.FromDays(6));
        var asked = await world.EventuallyAsync(
            async () => (await PersonAsync(world, row)).Requests.FirstOrDefault(r => r.Kind == "change"),
            r => r?.State is "deciding" or "releasing"
        );
        Assert.False(await HoldsAsync(world, row, "research-lab"));
        var request = await world.RequestAsync(asked!.Id);
        Assert.Equal("oikonom", asked.Requester);
        Assert.StartsWith($"By the rules {asked.Person} has ", request.Cause.Text, StringComparison.Ordinal);
        Assert.EndsWith("Research lab from now on, and nobody has decided about it", request.Cause.Text, StringComparison.Ordinal);
        Assert.Contains("research-lab", request.Plan.Where(c => c.Kind == "grant").Select(c => c.Subject));
        if (asked.State == "deciding")
            await world.ApproveAsync(request);
        request = await world.WaitForAsync(asked.Id, "releasing");
        await world.ReleaseAsync(request);
        await world.WaitForAsync(asked.Id, "completed");
        Assert.True(await HoldsAsync(world, row, "research-lab"));
        // Once is enough: no second one is raised.
        world.MoveClock(TimeSpan.FromDays(6));
        await world.EventuallyAsync(world.VerifyLedgerAsync, v => v.Unsealed == 0);
        Assert.Single((await PersonAsync(world, row)).Requests, r => r.Kind == "change");
    }

    [Fact]
    public async Task A_role_decides_no_further_than_it_reaches_whatever_other_roles_the_user_has()
    {
        static string ByRole(string path, string text) =>
            path == "rulebook.yaml" ? text.Replace("decides: group:data-office", "decides: role:approver", StringComparison.Ordinal) : text;
        await using var world = await StartAsync(change: ByRole);
        var (near, far) = (HrRow.New(), HrRow.New() with { Site = "saltmarsh" });
        await world.BringAsync(near);
        await world.BringAsync(far);
        await world.SaveUserAsync(
            "silas",
            new(
                "Silas",
                "silas@northmere.example",
                ["requester", "approver"],
                null,
                true,
                Reach: new Dictionary<string, ReachBody> { ["approver"] = new(["saltmarsh"], [], []) }
            )
        );
        var rollout = (await PublishAsync(world, (path, text) => ByRole(path, Next(path, text)))).Rollout!.Number;
        var seen = await SeenAsync(world, rollout, "silas");
        Assert.Equal((2L, 1L), (seen.Summary.Undecided, seen.Covers));
        var decided = await DoAsync(world, rollout, "decide", new RolloutDecideBody("approve", seen.Digest!, null, null), "silas");
        Assert.Equal((1L, 1L, 0L), (decided.Summary.Undecided, decided.Summary.Approved, decided.Covers));
        Assert.Equal("approved", (await PeopleAsync(world, rollout, $"&text={far.Number}")).Single().State);
        await DoAsync(world, rollout, "begin", new RolloutBeginBody(5, null), "otto");
        await StandsAsync(world, rollout, "pausing");
        Assert.Equal("out-of-reach", (await RefusedAsync(world, rollout, "turn-back", new RolloutReasonBody("all of it"), "silas")).Code);
        Assert.False((await SeenAsync(world, rollout, "silas")).Rights.TurnBack);
        Assert.True((await SeenAsync(world, rollout)).Rights.TurnBack);
    }

    [Fact]
    public async Task An_edition_does_not_say_who_decides_about_its_own_roll_out()
    {
        await using var world = await StartAsync();
        await world.BringAsync(HrRow.New());
        await world.SaveUserAsync("eve", new("Eve", "eve@northmere.example", ["engineer", "approver"], "E9042", true));
        // An engineer who approves too names herself, and raises the brake, in the edition that gives the access.
        static string Mine(string path, string text) =>
            path == "rulebook.yaml"
                ? text.Replace("decides: group:data-office", "decides: person:E9042", StringComparison.Ordinal)
                    .Replace("brake: 25%", "brake: 100%", StringComparison.Ordinal)
                : Next(path, text, taken: true);
        var first = (await PublishAsync(world, Mine, "eve")).Rollout!;
        Assert.True(first.Held);
        await DoAsync(world, first.Number, "release", new RolloutReasonBody("looked at"), "setup");
        var shown = await SeenAsync(world, first.Number, "eve");
        Assert.Equal((false, null), (shown.Rights.Decide, shown.Digest));
        var refused = await RefusedAsync(world, first.Number, "decide", new RolloutDecideBody("approve", "x", null, null), "eve");
        Assert.Equal(("not-yours", true), (refused.Code, refused.Detail.Contains("by edition 2", StringComparison.Ordinal)));
        // By the next edition she is the only one named: she published that one too, so those who approve stand in.
        var second = (await PublishAsync(world, (path, text) => Mine(path, Next(path, text)), "eve")).Rollout!;
        refused = await RefusedAsync(world, second.Number, "decide", new RolloutDecideBody("approve", "x", null, null), "eve");
        Assert.Equal("own-edition", refused.Code);
        Assert.True((await SeenAsync(world, second.Number)).Rights.Decide);
        await ApproveAsync(world, second.Number);
    }

    private async Task<string?> DescriptionAsync(World world, HrRow row)
    {
        await using var directory = await servers.Directory.ConnectAsync();
        var found = await directory.SearchAsync(
            new(DirectoryOptions.People, LdapScope.One, LdapFilter.Equal("employeeNumber", row.Number), "description")
        );
        return found.Single().Text("description") is { Length: > 0 } text ? text : null;
    }

    [Fact]
    public async Task The_brake_holds_a_roll_out_that_takes_from_many_and_a_newer_edition_takes_its_place()
    {
        await using var world = await StartAsync();
        var rows = new[] { HrRow.New(), HrRow.New() };
        foreach (var row in rows)
            await world.BringAsync(row);
        var published = await PublishAsync(world, (path, text) => Next(path, text, taken: true));
        var rollout = published.Rollout!.Number;
        Assert.Equal((true, 2L, 2L), (published.Rollout.Held, published.Rollout.People, published.Rollout.Losing));
        Assert.Equal("2 of 2 people would have less; the brake holds above 25 %.", (await SeenAsync(world, rollout)).Brake);
        Assert.Equal(
            "wrong-state",
            (await RefusedAsync(world, rollout, "decide", new RolloutDecideBody("approve", "x", null, null), "mara")).Code
        );
        Assert.Equal("own-edition", (await RefusedAsync(world, rollout, "release", new RolloutReasonBody("mine"), "edda")).Code);
        Assert.Equal("not-yours", (await RefusedAsync(world, rollout, "release", new RolloutReasonBody("mine"), "mara")).Code);
        Assert.Equal(400, (await RefusedAsync(world, rollout, "release", new RolloutReasonBody(" "), "setup")).Status);
        Assert.Equal(
            "open",
            (await DoAsync(world, rollout, "release", new RolloutReasonBody("agreed with the board"), "setup")).Summary.State
        );
        var today = await world.GetAsync<TodayView>("/api/v1/today", "mara");
        Assert.Equal([(rollout, 2L)], today.Rollouts.Select(r => (r.Number, r.Undecided)));

        // Another edition is published before anybody decided: its roll-out holds everybody, the earlier one is over.
        var next = (await PublishAsync(world, (path, text) => Next(path, text))).Rollout!;
        Assert.Equal((2L, 0L), (next.People, next.Losing));
        Assert.Equal("superseded", (await SeenAsync(world, rollout)).Summary.State);
        await ApproveAsync(world, next.Number);
        await DoAsync(world, next.Number, "begin", new RolloutBeginBody(1, "PT0S"), "otto");
        await StandsAsync(world, next.Number, "done");
        Assert.All(await PeopleAsync(world, next.Number), p => Assert.Equal("done", p.State));
        foreach (var row in rows)
            Assert.Equal((4, true), ((await PersonAsync(world, row)).Edition, await HoldsAsync(world, row, "all-people")));
        Assert.Equal(
            "nobody-waits",
            (await World.RefusedAsync((await world.SignInAsync("edda")).PostAsJsonAsync("/api/v1/rollouts", new { }))).Code
        );
    }

    [Fact]
    public async Task A_roll_out_is_seen_and_decided_within_reach_and_by_heads_of_departments_for_their_own()
    {
        await using var world = await StartAsync(
            change: (path, text) =>
                path == "rulebook.yaml"
                    ? text.Replace("decides: group:data-office", "decides: person:E9003", StringComparison.Ordinal)
                        .Replace("Dive Team: E1003", "Dive Team: E9002", StringComparison.Ordinal)
                    : text
        );
        static string Draft(string path, string text) =>
            path == "templates/everyone.yaml" ? text + "  - to: directory/research-lab\n"
            : path == "rulebook.yaml"
                ? text.Replace("decides: group:data-office", "decides: person:E9003", StringComparison.Ordinal)
                    .Replace("Dive Team: E1003", "Dive Team: E9002", StringComparison.Ordinal)
            : text;
        var (diver, far, clerk) = (HrRow.New(), HrRow.New() with { Site = "saltmarsh" }, HrRow.New() with { Department = "Office" });
        foreach (var row in new[] { diver, far, clerk })
            await world.BringAsync(row);
        await world.SaveUserAsync(
            "silas",
            new(
                "Silas",
                "silas@northmere.example",
                ["operator"],
                null,
                true,
                Reach: new Dictionary<string, ReachBody> { ["operator"] = new(["saltmarsh"], [], []) }
            )
        );
        var rollout = (await PublishAsync(world, Draft)).Rollout!.Number;
        var part = await SeenAsync(world, rollout, "silas");
        Assert.Equal([("Dive Team", 1L)], part.Departments.Select(d => (d.Department, d.People)));
        // Counts are of their part alone, and what the whole organisation gains is not told.
        Assert.Equal((1L, 0L, 1L), (part.Summary.People, part.Summary.Same, part.Summary.Undecided));
        Assert.Empty(part.Templates);
        Assert.Equal((false, false), (part.Rights.Begin, part.Rights.Stop));
        Assert.Equal(
            [far.Number],
            (await world.GetAsync<Page<RolloutPerson>>($"/api/v1/rollouts/{rollout}/people", "silas")).Items.Select(p => p.Number)
        );
        Assert.Equal("out-of-reach", (await RefusedAsync(world, rollout, "begin", new RolloutBeginBody(1, null), "silas")).Code);

        var head = await SeenAsync(world, rollout);
        Assert.False(head.Rights.Decide);
        Assert.Equal([("Dive Team", true), ("Office", false)], head.Departments.Select(d => (d.Department, d.MayDecide)));
        Assert.Equal(
            "not-yours",
            (await RefusedAsync(world, rollout, "decide", new RolloutDecideBody("approve", "x", "Office", null), "mara")).Code
        );
        await ApproveAsync(world, rollout, "Dive Team");
        var whole = await SeenAsync(world, rollout, "tomas");
        Assert.Equal(
            400,
            (await RefusedAsync(world, rollout, "decide", new RolloutDecideBody("decline", whole.Digest!, null, null), "tomas")).Status
        );
        await DoAsync(world, rollout, "decide", new RolloutDecideBody("decline", whole.Digest!, null, "not the office"), "tomas");
        await DoAsync(world, rollout, "begin", new RolloutBeginBody(10, null), "otto");
        var done = await StandsAsync(world, rollout, "done");
        Assert.Equal((2L, 1L), (done.Departments[0].Done, done.Departments[1].Declined));
        Assert.Equal((true, false), (await HoldsAsync(world, far, "research-lab"), await HoldsAsync(world, clerk, "research-lab")));
        Assert.Equal(["approved", "declined"], done.Decisions.Select(d => d.Verdict));
    }
}
