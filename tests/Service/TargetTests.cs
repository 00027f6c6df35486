using System.Collections.Concurrent;
using System.Net.Http.Json;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.Logging;
using Oikonom.Contracts;
using Oikonom.Ldap;
using Oikonom.Scim;
using Oikonom.Standins.Applications;
using Oikonom.Standins.Directory;
using Oikonom.Standins.Gates;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

/// <summary>Several targets at once: a person in each, one that does not answer, one that is paused, and each read whole.</summary>
public sealed class TargetTests(Servers servers)
{
    /// <summary>The applications of the demo, and a world with them.</summary>
    private sealed record Applications(World World, ApplicationServer Records, ApplicationServer Shop) : IAsyncDisposable
    {
        public async ValueTask DisposeAsync()
        {
            await World.DisposeAsync();
            await Records.DisposeAsync();
            await Shop.DisposeAsync();
        }

        public JsonObject? UserOf(ApplicationServer application, HrRow row) =>
            application.Data.All(ScimSchemas.Users).SingleOrDefault(u => u["externalId"]?.GetValue<string>() == row.Number);

        /// <summary>From the HR row to the end, with the mailbox made by hand.</summary>
        public async Task<RequestDetail> BringAsync(HrRow row)
        {
            var running = await World.BringAsync(row, "fulfilling");
            await DeskAsync();
            return await World.WaitForAsync(running.Summary.Id, "completed");
        }

        /// <summary>Does what waits at the desk.</summary>
        public async Task DeskAsync()
        {
            var tasks = await World.EventuallyAsync(
                () => World.GetAsync<Page<TaskView>>("/api/v1/tasks"),
                t => t.Items.Any(i => i.State == "open")
            );
            foreach (var task in tasks.Items.Where(t => t.State == "open"))
                await World.OkAsync(
                    (await World.SignInAsync("otto")).PostAsJsonAsync(
                        $"/api/v1/tasks/{task.Id}/done",
                        new TaskDoneBody(task.Kind == "give" ? new Dictionary<string, string> { ["store"] = "mail-01" } : [], [], "done")
                    )
                );
        }
    }

    private static HrRow Keeper(string given = "Kaya") => HrRow.New(given) with { Department = "Animal Care", Title = "Keeper" };

    private async Task<Applications> StartAsync()
    {
        var records = await ApplicationServer.StartAsync(NorthmereApplications.Records, DirectoryServer.FreePort(), "records-secret", null);
        var shop = await ApplicationServer.StartAsync(NorthmereApplications.Shop, DirectoryServer.FreePort(), "shop-secret", null);
        var world = await World.StartAsync(
            servers.Directory,
            new()
            {
                Applications = new Dictionary<int, ApplicationServer> { [7438] = records, [7439] = shop },
                MovesClock = true,
            }
        );
        return new(world, records, shop);
    }

    private static async Task<TargetDetail> TargetAsync(World world, string name) =>
        await world.GetAsync<TargetDetail>($"/api/v1/targets/{name}");

    private static async Task<HttpResponseMessage> PostAsync(World world, string path, object body, string user = "otto") =>
        await (await world.SignInAsync(user)).PostAsJsonAsync($"/api/v1/targets/{path}", body);

    [Fact]
    public async Task What_stopped_is_told_before_what_waits_for_it()
    {
        await using var s = await StartAsync();
        // The applications wait for the account in the directory, which takes no such telephone number.
        var request = await s.World.BringAsync(Keeper() with { Phone = "+00 555 ½" }, "fulfilling");
        var stopped = await s.World.EventuallyAsync(
            () => s.World.RequestAsync(request.Summary.Id),
            r =>
                r.Steps.Any(x => x.State == "stopped")
                && r.Steps.Count(x => x.Problem?.StartsWith("It waits until the account in", StringComparison.Ordinal) == true) > 1
        );
        // What waits is looked at again, and does not cover it.
        s.World.MoveClock(TimeSpan.FromMinutes(1));
        await Task.Delay(500, TestContext.Current.CancellationToken);
        stopped = await s.World.RequestAsync(request.Summary.Id);
        Assert.Contains("does not succeed", stopped.Story.Now, StringComparison.Ordinal);
        Assert.Equal("an operator", stopped.Summary.WaitsOn);
        Assert.Contains("telephoneNumber", stopped.Summary.Problem, StringComparison.Ordinal);
        Assert.Contains((await s.World.GetAsync<TodayView>("/api/v1/today", "otto")).Stuck, r => r.Id == stopped.Summary.Id);
    }

    [Fact]
    public async Task What_a_file_says_counts_once_it_was_handed_over_and_answered()
    {
        await using var s = await StartAsync();
        var row = Keeper();
        await s.BringAsync(row);
        var asked = await ApprovalTests.RaiseAsync(s.World, new("account", row.Number, "seals at night", Template: "gates"));
        var request = await s.World.WaitForAsync(asked.Summary.Id, "deciding");
        request = await ApprovalTests.ApproveAsync(s.World, request, "mara");
        await ApprovalTests.ApproveAsync(s.World, request, "tomas");
        Task<RequestDetail> WaitsAsync(string what) =>
            s.World.EventuallyAsync(
                () => s.World.RequestAsync(asked.Summary.Id),
                r => r.Story.Now.Contains("It waits until " + what, StringComparison.Ordinal)
            );
        var waits = await WaitsAsync("the file of Gates and lockers is written, which is due at ");
        // Nothing failed, and nobody is called.
        Assert.Equal((null, "a target that is not ready"), (waits.Summary.Problem, waits.Summary.WaitsOn));
        Assert.DoesNotContain((await s.World.GetAsync<TodayView>("/api/v1/today")).Stuck, r => r.Id == waits.Summary.Id);
        // Whether it works was looked at meanwhile.
        await s.World.EventuallyAsync(() => TargetAsync(s.World, "gates"), t => t.Summary.State == "works");
        Assert.DoesNotContain(
            row.Number,
            await File.ReadAllTextAsync(s.World.TargetFile("gates", "accounts.csv")),
            StringComparison.Ordinal
        );

        s.World.MoveClock(TimeSpan.FromMinutes(6));
        await WaitsAsync("Gates and lockers has answered about ");
        var lines = await File.ReadAllLinesAsync(s.World.TargetFile("gates", "accounts.csv"));
        var known = await s.World.GetAsync<PersonDetail>($"/api/v1/people/{row.Number}");
        var id = known.Accounts.Single(a => a.Target == "directory").ImmutableId;
        Assert.Contains($",yes,SHED,{id},{row.Given} {row.Family},{row.Number},", Assert.Single(lines.Skip(1)), StringComparison.Ordinal);
        await File.WriteAllTextAsync(s.World.TargetFile("gates", "answers.csv"), GateSystem.AnswersTo(lines));
        s.World.MoveClock(TimeSpan.FromMinutes(10));
        await s.World.WaitForAsync(asked.Summary.Id, "completed");

        // Whoever edits the file by hand is found out, and it is set right.
        await File.WriteAllTextAsync(
            s.World.TargetFile("gates", "accounts.next.csv"),
            string.Join('\n', lines).Replace("SHED", "", StringComparison.Ordinal) + "\n"
        );
        await World.OkAsync(PostAsync(s.World, "gates/reconcile", new ReconcileBody(false)));
        var found = await s.World.EventuallyAsync(
            () => s.World.GetAsync<PersonDetail>($"/api/v1/people/{row.Number}"),
            p => p.Findings is { Count: > 0 }
        );
        Assert.Equal("gates", found.Findings![0].Target);
    }

    [Fact]
    public async Task A_joiner_has_an_account_in_each_target_and_a_leaver_in_none_that_works()
    {
        await using var s = await StartAsync();
        var row = Keeper();
        var request = await s.BringAsync(row);
        // Read back in each, in one request.
        Assert.Equal(3, request.Steps.Count(x => x.Kind == "verify" && x.State == "done"));
        var (keeper, buyer) = (s.UserOf(s.Records, row)!, s.UserOf(s.Shop, row)!);
        var name = keeper["userName"]!.GetValue<string>();
        Assert.Equal(name, buyer["userName"]!.GetValue<string>());
        Assert.Equal($"{name}@northmere.example", keeper["emails"]![0]!["value"]!.GetValue<string>());
        Assert.Equal(["keeper", "reader"], keeper["roles"]!.AsArray().Select(r => r!["value"]!.GetValue<string>()).Order());
        Assert.Equal("pathology", keeper["entitlements"]![0]!["value"]!.GetValue<string>());
        Assert.True(keeper["active"]!.GetValue<bool>());

        // She moves to the tickets: what the records gave is taken, and the till is hers.
        s.World.WriteHr(row with { Department = "Visitor Services", Title = "Guide" });
        var mover = (await s.World.RunIntakeAsync()).Requests.Single(r => r.Number == row.Number);
        var planned = await s.World.WaitForAsync(mover.Id, "deciding");
        Assert.Contains(planned.Effect.Lost, e => e.Title.Contains("Pathology", StringComparison.Ordinal));
        await s.World.ThroughAsync(mover.Id);
        Assert.False(s.UserOf(s.Records, row)!["active"]!.GetValue<bool>());
        Assert.Null(s.UserOf(s.Records, row)!["entitlements"]);
        Assert.Equal("Visitor Services", s.UserOf(s.Shop, row)![ScimSchemas.Enterprise]!["department"]!.GetValue<string>());
        Assert.Equal("Till crew", s.UserOf(s.Shop, row)!["groups"]![0]!["display"]!.GetValue<string>());

        // Who leaves is shut out of each.
        s.World.WriteHr(row with { Department = "Visitor Services", Title = "Guide", End = "2026-02-01" });
        var leaver = (await s.World.RunIntakeAsync()).Requests.Single(r => r.Number == row.Number);
        var leaving = await s.World.EventuallyAsync(() => s.World.RequestAsync(leaver.Id), r => r.Summary.State == "deciding");
        await s.World.ApproveAsync(leaving);
        await s.World.ReleaseAsync(await s.World.WaitForAsync(leaver.Id, "releasing"));
        await s.DeskAsync();
        await s.World.WaitForAsync(leaver.Id, "completed");
        Assert.False(s.UserOf(s.Shop, row)!["active"]!.GetValue<bool>());
        Assert.Null(s.UserOf(s.Shop, row)!["groups"]);
        Assert.Null(s.UserOf(s.Shop, row)!["roles"]);
    }

    /// <summary>HR puts a start off and back, corrects the name a day later, and somebody deletes the user by hand.</summary>
    [Fact]
    public async Task A_start_moved_back_and_forth_a_corrected_name_and_a_deleted_user_end_right_on_the_first_day()
    {
        await using var s = await StartAsync();
        string Day(int ahead) => DateTime.UtcNow.AddDays(ahead).ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture);
        var row = Keeper("Anselm") with { Start = Day(5) };
        await s.World.BringAsync(row, "fulfilling");
        var asleep = await s.World.EventuallyAsync(() => Task.FromResult(s.UserOf(s.Shop, row)), u => u is not null);
        Assert.False(asleep!["active"]!.GetValue<bool>());

        foreach (var fresh in new[] { row with { Start = Day(15) }, row, row with { Family = row.Family + "x" } })
        {
            s.World.WriteHr(fresh);
            await s.World.RunIntakeAsync();
        }
        var mover = await WaitingAsync();
        await s.World.ApproveAsync(mover);
        await s.World.ReleaseAsync(await s.World.WaitForAsync(mover.Summary.Id, "releasing"));
        await s.World.EventuallyAsync(
            () => Task.FromResult(s.UserOf(s.Shop, row)!["name"]!["familyName"]!.GetValue<string>()),
            name => name == row.Family + "x"
        );

        s.Shop.Data.Remove(ScimSchemas.Users, s.UserOf(s.Shop, row)!["id"]!.GetValue<string>());
        // While steps are carried out it says so, and is asked again.
        await s.World.EventuallyAsync(
            async () =>
                (int)
                    (
                        await (await s.World.SignInAsync("otto")).PostAsJsonAsync($"/api/v1/people/{mover.Summary.PersonId}/look", new { })
                    ).StatusCode,
            status => status == 200
        );
        var again = await WaitingAsync();
        await s.World.ApproveAsync(again);
        await s.World.ReleaseAsync(await s.World.WaitForAsync(again.Summary.Id, "releasing"));
        await s.World.EventuallyAsync(() => Task.FromResult(s.UserOf(s.Shop, row)), u => u is not null);
        Assert.False(s.UserOf(s.Shop, row)!["active"]!.GetValue<bool>());

        s.World.MoveClock(TimeSpan.FromDays(6));
        await s.World.EventuallyAsync(
            () => Task.FromResult(s.UserOf(s.Shop, row)!),
            u => u["active"]!.GetValue<bool>() && u["roles"] is not null
        );
        await s.DeskAsync();
        await s.World.EventuallyAsync(AllAsync, p => p.Items.All(r => r.State is "completed" or "lapsed" or "withdrawn"));
        Assert.Single(s.Shop.Data.All(ScimSchemas.Users));
        Assert.True((await s.World.VerifyLedgerAsync()).Sound);

        Task<Page<RequestSummary>> AllAsync() => s.World.GetAsync<Page<RequestSummary>>($"/api/v1/requests?text={row.Number}");

        // What the correction comes with, a mover or a change, depends on whether the dates are back before anybody looked.
        async Task<RequestDetail> WaitingAsync()
        {
            var found = await s.World.EventuallyAsync(AllAsync, p => p.Items.Any(r => r.State == "deciding"));
            return await s.World.RequestAsync(found.Items.First(r => r.State == "deciding").Id);
        }
    }

    [Fact]
    public async Task A_target_that_does_not_answer_is_left_alone_told_and_caught_up_with()
    {
        await using var s = await StartAsync();
        var ready = await s.World.BringAsync(Keeper("Tor"), "releasing");
        s.Shop.Set(Imperfection.Down);
        await s.World.ReleaseAsync(ready);
        var running = await s.World.WaitForAsync(ready.Summary.Id, "fulfilling");
        // Each try comes when its pause is over.
        var away = await s.World.EventuallyAsync(
            async () =>
            {
                s.World.MoveClock(TimeSpan.FromMinutes(1));
                await Task.Delay(800, TestContext.Current.CancellationToken);
                return await TargetAsync(s.World, "shop");
            },
            t => t.Summary.Text.Contains("It is tried again at", StringComparison.Ordinal)
        );
        Assert.Equal("away", away.Summary.State);
        Assert.Contains("cannot now (503)", away.Summary.Text, StringComparison.Ordinal);
        // The others were not held up by it.
        var request = await s.World.RequestAsync(running.Summary.Id);
        Assert.All(
            request.Steps.Where(x => x.Text.Contains("Animal records", StringComparison.Ordinal)),
            x => Assert.Equal("done", x.State)
        );
        Assert.Contains("Ticketing and shop does not answer since", request.Story.Now, StringComparison.Ordinal);
        var today = await s.World.GetAsync<TodayView>("/api/v1/today");
        Assert.Equal("away", today.Targets.Single(t => t.Name == "shop").State);
        // While it is left alone it hears little.
        var calls = s.Shop.Calls;
        await Task.Delay(2000, TestContext.Current.CancellationToken);
        Assert.InRange(s.Shop.Calls - calls, 0, 3);

        s.Shop.Set(Imperfection.Down, false);
        await s.DeskAsync();
        s.World.MoveClock(TimeSpan.FromMinutes(6));
        await s.World.WaitForAsync(running.Summary.Id, "completed");
        var back = await s.World.EventuallyAsync(() => TargetAsync(s.World, "shop"), t => t.Summary.State == "works");
        Assert.Equal(["back", "away"], back.History.Select(h => h.Kind).Where(k => k != "read"));
        Assert.True(back.Summary.Done > 0 && back.Summary.Failed >= 5, $"{back.Summary.Done} done, {back.Summary.Failed} failed");
        Assert.True((await s.World.VerifyLedgerAsync()).Sound);
    }

    [Fact]
    public async Task What_is_paused_begins_nothing_and_says_so_until_it_goes_on()
    {
        await using var world = await World.StartAsync(servers.Directory);
        Assert.Equal(400, (int)(await PostAsync(world, "directory/pause", new PauseBody(" "))).StatusCode);
        Assert.Equal(409, (int)(await PostAsync(world, "directory/resume", new { })).StatusCode);
        Assert.Equal(404, (int)(await PostAsync(world, "nothing/pause", new PauseBody("x"))).StatusCode);
        (await PostAsync(world, "directory/pause", new PauseBody("The replica is rebuilt"))).EnsureSuccessStatusCode();
        Assert.Equal(409, (int)(await PostAsync(world, "directory/pause", new PauseBody("again"))).StatusCode);

        var running = await world.BringAsync(HrRow.New(), "fulfilling");
        await Task.Delay(1500, TestContext.Current.CancellationToken);
        var still = await world.RequestAsync(running.Summary.Id);
        Assert.All(still.Steps, x => Assert.Equal(("pending", 0), (x.State, x.Attempts)));
        Assert.Contains("Paused by otto: The replica is rebuilt", still.Story.Now, StringComparison.Ordinal);
        var paused = await TargetAsync(world, "directory");
        Assert.Equal("paused", paused.Summary.State);
        Assert.True(paused.Summary.Due > 0);

        // One person first: theirs runs while the other's waits on.
        var first = HrRow.New();
        var one = await world.BringAsync(first, "fulfilling");
        Assert.Equal(400, (int)(await PostAsync(world, "directory/run", new RunNowBody("E0"))).StatusCode);
        // Who answers for another site alone lets nobody run, there or here.
        await world.SaveUserAsync(
            "far",
            new(
                "Far",
                "far@northmere.example",
                ["operator"],
                null,
                true,
                new Dictionary<string, ReachBody> { ["operator"] = new(["reefpoint"]) }
            )
        );
        Assert.Equal(403, (int)(await PostAsync(world, "directory/run", new RunNowBody(first.Number), "far")).StatusCode);
        Assert.All((await world.RequestAsync(one.Summary.Id)).Steps, x => Assert.Equal(("pending", 0), (x.State, x.Attempts)));
        var now = await World.OkAsync(PostAsync(world, "directory/run", new RunNowBody(first.Number)));
        Assert.Equal([one.Summary.Number], (await now.Content.ReadFromJsonAsync<RunningNow>())!.Requests.Select(r => r.Number));
        await world.WaitForAsync(one.Summary.Id, "completed");
        Assert.Equal("nothing-waits", (await World.RefusedAsync(PostAsync(world, "directory/run", new RunNowBody(first.Number)))).Code);
        Assert.All((await world.RequestAsync(running.Summary.Id)).Steps, x => Assert.Equal(("pending", 0), (x.State, x.Attempts)));
        Assert.Equal("paused", (await TargetAsync(world, "directory")).Summary.State);

        (await PostAsync(world, "directory/resume", new { }, "edda")).EnsureSuccessStatusCode();
        await world.WaitForAsync(running.Summary.Id, "completed");
        Assert.Equal(["resumed", "paused"], (await TargetAsync(world, "directory")).History.Select(h => h.Kind));
    }

    [Fact]
    public async Task A_secret_that_ends_is_told_in_time_and_no_more_once_it_is_set_anew()
    {
        await using var world = await World.StartAsync(servers.Directory, new() { MovesClock = true });
        await TrustApprovalTests.PublishAsync(
            world,
            (path, text) =>
                path == "rulebook.yaml"
                    ? text.Replace("mailboxes:", "mailboxes:\n  engineer: pump-room@northmere.example", StringComparison.Ordinal)
                    : text
        );
        var edda = await world.SignInAsync("edda");
        var today = DateOnly.FromDateTime(DateTime.UtcNow);
        Task<HttpResponseMessage> SetAsync(DateOnly? last) =>
            edda.PutAsJsonAsync(
                "/api/v1/secrets/directory-password",
                new SecretBody(servers.Directory.Server.Options.ServicePassword, null, last)
            );
        Assert.Equal(400, (await World.RefusedAsync(SetAsync(today.AddDays(-1)))).Status);
        await World.OkAsync(SetAsync(today.AddDays(40)));
        async Task<IReadOnlyList<string>> EndingAsync(string who) =>
            [.. (await world.GetAsync<TodayView>("/api/v1/today", who)).Attention.Where(a => a.Kind == "ends-soon").Select(a => a.Text)];
        Assert.Empty(await EndingAsync("edda"));
        var listed = (await world.GetAsync<Page<Secret>>("/api/v1/secrets", "edda")).Items.Single(s => s.Name == "directory-password");
        Assert.Equal(today.AddDays(40), listed.ValidUntil);
        Assert.Equal(
            today.AddDays(41),
            DateOnly.FromDateTime((await TargetAsync(world, "directory")).Summary.SecretUntil!.Value.UtcDateTime)
        );

        world.MoveClock(TimeSpan.FromDays(34));
        foreach (var who in new[] { "edda", "otto" })
            Assert.Contains(
                "that Northmere directory is signed in to with ends in",
                Assert.Single(await EndingAsync(who)),
                StringComparison.Ordinal
            );
        Assert.Empty(await EndingAsync("mara"));
        var mail = await world.EventuallyAsync(
            () => Task.FromResult(world.Mail!.Mails.FirstOrDefault(m => m.To.Contains("pump-room@", StringComparison.Ordinal))),
            m => m is not null
        );
        Assert.StartsWith("The secret 'directory-password'", mail!.Subject, StringComparison.Ordinal);
        Assert.DoesNotContain(servers.Directory.Server.Options.ServicePassword, mail.Body, StringComparison.Ordinal);
        await World.OkAsync(SetAsync(null));
        Assert.Empty(await EndingAsync("edda"));
        Assert.Null((await TargetAsync(world, "directory")).Summary.SecretUntil);
    }

    [Fact]
    public async Task A_request_is_followed_across_its_steps_by_who_listens()
    {
        var heard = new ConcurrentQueue<(string Path, byte[] Body)>();
        await using var listener = await ListenAsync(heard);
        await using var world = await World.StartAsync(
            servers.Directory,
            new()
            {
                OwnProcess = true,
                Environment = new Dictionary<string, string> { ["TELEMETRY"] = listener.Urls.Single() },
            }
        );
        var row = HrRow.New();
        var request = await world.BringAsync(row);
        var trace = Guid.Parse(request.Summary.Id).ToByteArray(bigEndian: true);
        var told = await world.EventuallyAsync(
            () =>
                Task.FromResult(
                    heard.Where(h => h.Path == "/v1/traces" && h.Body.AsSpan().IndexOf(trace) >= 0).Select(h => h.Body).ToList()
                ),
            bodies => bodies.Sum(b => Count(b, "step"u8)) >= request.Steps.Count && bodies.Any(b => Count(b, "plan"u8) > 0)
        );
        Assert.DoesNotContain(told, body => body.AsSpan().IndexOf(Encoding.UTF8.GetBytes(row.Family)) >= 0);

        var figures = await (await (await world.SignInAsync("otto")).GetAsync("/api/v1/metrics")).Content.ReadAsStringAsync();
        Assert.Contains("oikonom_target_up{target=\"directory\"} 1\n", figures, StringComparison.Ordinal);
        Assert.Contains("# TYPE oikonom_target_steps_due gauge\n", figures, StringComparison.Ordinal);
    }

    private static int Count(byte[] body, ReadOnlySpan<byte> what)
    {
        var (count, at) = (0, 0);
        while (body.AsSpan(at).IndexOf(what) is var next and >= 0)
            (count, at) = (count + 1, at + next + what.Length);
        return count;
    }

    private static async Task<WebApplication> ListenAsync(ConcurrentQueue<(string Path, byte[] Body)> heard)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        var app = builder.Build();
        app.Urls.Add($"http://127.0.0.1:{DirectoryServer.FreePort()}");
        app.Run(async context =>
        {
            using var body = new MemoryStream();
            await context.Request.Body.CopyToAsync(body);
            heard.Enqueue((context.Request.Path.Value ?? "", body.ToArray()));
        });
        await app.StartAsync();
        return app;
    }

    [Fact]
    public async Task Nothing_begins_in_the_window_in_which_a_target_is_worked_on()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await World.OkAsync(
            (await world.SignInAsync("edda")).PostAsJsonAsync(
                "/api/v1/rulebook/editions",
                new RulebookBody(
                    world.Rulebook(
                        (path, text) =>
                            path == "targets/directory.yaml"
                                ? $"{text}\nrate: 200\nmaintenance: {{ hours: \"00:00-23:59\", clock-of: reefpoint }}\n"
                                : text
                    )
                )
            )
        );
        var running = await world.BringAsync(HrRow.New(), "fulfilling");
        await Task.Delay(1000, TestContext.Current.CancellationToken);
        var still = await world.RequestAsync(running.Summary.Id);
        Assert.All(still.Steps, x => Assert.Equal("pending", x.State));
        Assert.Contains("maintenance window", still.Story.Now, StringComparison.Ordinal);
        var target = await TargetAsync(world, "directory");
        Assert.Equal("maintenance", target.Summary.State);
        Assert.Contains(target.Limits, l => l.Value == "200 steps for each node");
    }

    [Fact]
    public async Task An_operator_of_other_targets_may_not_pause_check_or_read_it()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await world.SaveUserAsync(
            "olaf",
            new(
                "Olaf",
                "olaf@northmere.example",
                ["operator"],
                null,
                true,
                new Dictionary<string, ReachBody> { ["operator"] = new(Targets: ["facilities"]) }
            )
        );
        foreach (var deed in new[] { "check", "pause", "resume", "reconcile" })
        {
            var refused = await World.RefusedAsync(
                (await world.SignInAsync("olaf")).PostAsJsonAsync($"/api/v1/targets/directory/{deed}", new { reason = "x", dryRun = true })
            );
            Assert.Equal((403, "out-of-reach"), (refused.Status, refused.Code));
        }
        Assert.False((await world.GetAsync<TargetDetail>("/api/v1/targets/directory", "olaf")).Summary.MayOperate);

        // Limited to one site: what touches everybody is not for them either.
        await world.SaveUserAsync(
            "oda",
            new(
                "Oda",
                "oda@northmere.example",
                ["operator"],
                null,
                true,
                new Dictionary<string, ReachBody> { ["operator"] = new(Sites: ["reefpoint"]) }
            )
        );
        foreach (var deed in new[] { "pause", "resume", "reconcile" })
            Assert.Equal(
                403,
                (
                    await World.RefusedAsync(
                        (await world.SignInAsync("oda")).PostAsJsonAsync(
                            $"/api/v1/targets/directory/{deed}",
                            new { reason = "x", dryRun = true }
                        )
                    )
                ).Status
            );
        Assert.False((await world.GetAsync<TargetDetail>("/api/v1/targets/directory", "oda")).Summary.MayOperate);
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task A_target_read_whole_or_by_what_changed_tells_the_class_of_each_entry(bool byChanges)
    {
        // A directory of its own: all that is in it counts.
        await using var directory = await TestDirectory.StartAsync();
        await using var world = await World.StartAsync(directory);
        var rows = Enumerable.Range(0, 7).Select(i => HrRow.New($"Ada{(char)('a' + i)}")).ToList();
        world.WriteHr(rows);
        foreach (var raised in (await world.RunIntakeAsync()).Requests)
            await world.ThroughAsync(raised.Id);
        // Where nothing is known yet of what changed, it is read whole.
        var reading = await ReconcileAsync(world, dry: !byChanges, byChanges);
        Assert.False(reading.Summary.Changes);
        Assert.Equal([("as-decided", 7)], reading.Summary.Classes.Select(c => (c.Name, c.Count)));

        await using (var root = await directory.ConnectAsRootAsync())
        {
            async Task<string> DnAsync(HrRow row) =>
                (await root.SearchAsync(new(DirectoryOptions.People, LdapScope.One, LdapFilter.Equal("employeeNumber", row.Number), "uid")))
                    .Single()
                    .Dn;
            await root.ModifyAsync(await DnAsync(rows[0]), [new(LdapChangeKind.Replace, "title", "Captain")]);
            await root.ModifyAsync(Group("payments"), [new(LdapChangeKind.Add, "member", await DnAsync(rows[1]))]);
            await root.ModifyAsync(Group("dive-team"), [new(LdapChangeKind.Delete, "member", await DnAsync(rows[2]))]);
            await root.ModifyAsync(await DnAsync(rows[3]), [new(LdapChangeKind.Replace, "pwdAccountLockedTime", "000001010000Z")]);
            await root.DeleteAsync(await DnAsync(rows[4]));
            var again = await DnAsync(rows[5]);
            var uid = again[4..again.IndexOf(',', StringComparison.Ordinal)];
            await root.DeleteAsync(again);
            await root.AddAsync(again, [new("objectClass", "inetOrgPerson"), new("uid", uid), new("cn", "Somebody"), new("sn", "Else")]);
            await AddAsync(root, "kiosk", "");
            await AddAsync(root, "twin", rows[6].Number);
        }
        var dry = await ReconcileAsync(world, dry: !byChanges, byChanges);
        Assert.Equal(byChanges, dry.Summary.Changes);
        Assert.Equal(
            ["deleted:1", "disabled-outside:1", "drift:1", "duplicate:1", "made-again:1", "missing:1", "surplus:1", "unmatched:2"],
            dry.Summary.Classes.Where(c => c.Name != "as-decided").Select(c => $"{c.Name}:{c.Count}").Order()
        );
        Assert.Equal(byChanges ? 0 : 1, dry.Summary.Classes.SingleOrDefault(c => c.Name == "as-decided")?.Count ?? 0);
        // No value that was found stands in it.
        Assert.DoesNotContain(dry.Items, i => i.Text.Contains("Captain", StringComparison.Ordinal));
        Assert.Equal("Job title was changed", dry.Items.Single(i => i.Class == "drift").Text);
        if (!byChanges)
        {
            // Only looked: nothing is recorded of it.
            Assert.Empty((await world.GetAsync<Page<NobodysAccountView>>("/api/v1/accounts?target=directory")).Items);
            Assert.Equal(0, (await TargetAsync(world, "directory")).Summary.Differing);
            await ReconcileAsync(world, false);
        }
        else
            // What was told is not told once more.
            Assert.Equal(0, (await ReconcileAsync(world, false, true)).Summary.Entries);
        Assert.Equal(
            3,
            (await world.GetAsync<Page<NobodysAccountView>>("/api/v1/accounts?target=directory")).Items.Count(a => a.Purpose == "unmatched")
        );
        Assert.True((await TargetAsync(world, "directory")).Summary.Differing >= 5);
        var right = await world.EventuallyAsync(
            () => world.GetAsync<Page<RequestSummary>>($"/api/v1/requests?text={rows[0].Number}&kind=change"),
            p => p.Items.Count == 1
        );
        await world.WaitForAsync(right.Items[0].Id, "releasing");

        // Of nobody, and gone: it is forgotten.
        await using (var root = await directory.ConnectAsRootAsync())
            await root.DeleteAsync(Person("kiosk"));
        await ReconcileAsync(world, false, byChanges);
        Assert.DoesNotContain(
            (await world.GetAsync<Page<NobodysAccountView>>("/api/v1/accounts?target=directory")).Items,
            a => a.Name == "kiosk"
        );
        Assert.Equal(4, (await world.GetAsync<Page<Reconciliation>>("/api/v1/targets/directory/reconciliations")).Items.Count);
        Assert.True((await world.VerifyLedgerAsync()).Sound);
    }

    [Fact]
    public async Task A_group_is_mirrored_into_others_that_are_made_for_it_and_their_owners_keep_theirs()
    {
        await using var s = await StartAsync();
        var boats = "boats" + HrRow.New().Number;
        var body = new RulebookBody(
            s.World.Rulebook(
                (path, text) =>
                    path switch
                    {
                        "targets/records.yaml" => text
                            + "  divers: { title: Divers, group: Divers, owner: E9003, mirrors: directory/dive-team, create: yes, members: shared }\n",
                        "targets/directory.yaml" => text
                            + $"  boats: {{ title: Boats, group: \"{Group(boats)}\", owner: E9003, mirrors: directory/dive-team, create: yes }}\n",
                        _ => text,
                    }
            )
        );
        await World.OkAsync((await s.World.SignInAsync("edda")).PostAsJsonAsync("/api/v1/rulebook/editions", body));
        // What is made where it is missing may be missing.
        var check = await (await World.OkAsync(PostAsync(s.World, "directory/check", new { }))).Content.ReadFromJsonAsync<TargetCheck>();
        Assert.DoesNotContain(check!.Points, p => p.Text.Contains(boats, StringComparison.Ordinal));

        var row = HrRow.New("Undine");
        await s.BringAsync(row);
        await using var root = await servers.Directory.ConnectAsRootAsync();
        Assert.Equal(2, (await root.ReadAsync(Group(boats), ["member"]))!.Texts("member").Count);
        var user = s.UserOf(s.Records, row)!["id"]!.GetValue<string>();
        Assert.Equal([user], MembersOfDivers());

        // Its owner puts somebody in; the next diver comes beside them.
        var divers = s.Records.Data.All(ScimSchemas.Groups).Single(g => g["displayName"]!.GetValue<string>() == "Divers");
        var guest = s.Records.Data.Add(
            ScimSchemas.Users,
            new JsonObject { ["schemas"] = new JsonArray(ScimSchemas.User), ["userName"] = "guest.diver" }
        )["id"]!.GetValue<string>();
        s.Records.Data.Change(
            ScimSchemas.Groups,
            divers["id"]!.GetValue<string>(),
            "",
            g =>
            {
                g["members"]!.AsArray().Add(new JsonObject { ["value"] = guest });
                return g;
            }
        );
        var second = HrRow.New("Wanda");
        await s.BringAsync(second);
        Assert.Equal(3, MembersOfDivers().Count);
        Assert.Contains(guest, MembersOfDivers());
        Assert.Equal(3, (await root.ReadAsync(Group(boats), ["member"]))!.Texts("member").Count);

        List<string> MembersOfDivers() =>
            [
                .. s.Records.Data.All(ScimSchemas.Groups).Single(g => g["displayName"]!.GetValue<string>() == "Divers")["members"]!
                    .AsArray()
                    .Select(m => m!["value"]!.GetValue<string>()),
            ];
    }

    /// <summary>The shop knows people by the id that the directory gave them, which is approved before it is known.</summary>
    [Fact]
    public async Task An_application_takes_the_id_that_another_target_gave_and_follows_it()
    {
        await using var s = await StartAsync();
        var edda = await s.World.SignInAsync("edda");
        var files = s.World.Rulebook(
            (path, text) =>
                path == "templates/shop.yaml"
                    ? text.Replace("externalId: number", "externalId: ids.directory", StringComparison.Ordinal)
                    : text
        );
        await World.OkAsync(edda.PostAsJsonAsync("/api/v1/rulebook/editions", new RulebookBody(files)));
        var row = Keeper("Idris");
        var request = await s.World.BringAsync(row, "fulfilling");
        Assert.Equal(
            ["{id in directory}"],
            request.Plan.Single(c => c is { Target: "shop", Kind: "create-account" }).Attributes.Single(a => a.Name == "externalId").After
        );
        await s.DeskAsync();
        request = await s.World.WaitForAsync(request.Summary.Id, "completed");
        await using var root = await servers.Directory.ConnectAsRootAsync();
        var entry = await EntryAsync();
        var user = s.Shop.Data.All(ScimSchemas.Users).Single(u => u["externalId"]!.GetValue<string>() == entry.Text("entryUUID"));
        // What ran stands in the ledger as it was, and nothing differs from it.
        var ledger = await s.World.GetAsync<Page<LedgerEntryView>>($"/api/v1/ledger?request={request.Summary.Id}&limit=200", "aldo");
        Assert.Contains(
            ledger.Items,
            l => l.Kind == "step.done" && l.Body.GetRawText().Contains(entry.Text("entryUUID")!, StringComparison.Ordinal)
        );
        Assert.Equal(0, (await TargetAsync(s.World, "shop")).Summary.Differing);

        // Somebody deletes the entry; it is made anew, and so the shop gets another id, which people decide on.
        await root.DeleteAsync(entry.Dn);
        await ReconcileAsync(s.World, false);
        var found = await s.World.EventuallyAsync(
            () => s.World.GetAsync<Page<RequestSummary>>($"/api/v1/requests?text={row.Number}&kind=change"),
            p => p.Items is [{ State: "deciding" or "releasing" }, ..]
        );
        var mend = await s.World.RequestAsync(found.Items[0].Id);
        Assert.Equal("deciding", mend.Summary.State);
        var changed = mend.Plan.Single(c => c.Target == "shop" && c.Kind == "change-account").Attributes.Single();
        Assert.Equal(
            ("externalId", entry.Text("entryUUID"), "{id in directory}"),
            (changed.Name, changed.Before.Single(), changed.After.Single())
        );
        await s.World.ThroughAsync(mend.Summary.Id);
        var anew = await EntryAsync();
        Assert.NotEqual(entry.Text("entryUUID"), anew.Text("entryUUID"));
        Assert.Equal(
            anew.Text("entryUUID"),
            s.Shop.Data.Find(ScimSchemas.Users, user["id"]!.GetValue<string>())!["externalId"]!.GetValue<string>()
        );
        Assert.True((await s.World.VerifyLedgerAsync()).Sound);

        async Task<LdapEntry> EntryAsync() =>
            (
                await root.SearchAsync(
                    new(DirectoryOptions.People, LdapScope.Subtree, LdapFilter.Equal("employeeNumber", row.Number), "uid", "entryUUID")
                )
            ).Single();
    }

    /// <summary>A target is read whole between the making of an entry and the record of it: it is the person's all the same.</summary>
    [Fact]
    public async Task An_entry_that_was_read_before_it_was_recorded_belongs_to_whom_it_was_made_for()
    {
        await using var directory = await TestDirectory.StartAsync();
        await using var world = await World.StartAsync(directory);
        var row = HrRow.New("Early");
        var request = await world.BringAsync(row, "releasing");
        await using (var root = await directory.ConnectAsRootAsync())
            await AddAsync(root, request.Plan.First(c => c.Kind == "create-account").Subject, row.Number);
        await ReconcileAsync(world, false);
        Assert.Single((await world.GetAsync<Page<NobodysAccountView>>("/api/v1/accounts?target=directory")).Items);
        await world.ReleaseAsync(request);
        await world.WaitForAsync(request.Summary.Id, "completed");
        Assert.Empty((await world.GetAsync<Page<NobodysAccountView>>("/api/v1/accounts?target=directory")).Items);
        Assert.Equal(["directory"], (await world.GetAsync<PersonDetail>($"/api/v1/people/{row.Number}")).Accounts.Select(a => a.Target));

        // Whoever makes it so that it holds more than was approved lets people decide once more.
        row = HrRow.New("Greedy");
        request = await world.BringAsync(row, "releasing");
        var name = request.Plan.First(c => c.Kind == "create-account").Subject;
        await using (var root = await directory.ConnectAsRootAsync())
        {
            await AddAsync(root, name, row.Number);
            await root.ModifyAsync(Group("payments"), [new(LdapChangeKind.Add, "member", Person(name))]);
        }
        await ReconcileAsync(world, false);
        await world.ReleaseAsync(request);
        request = await world.WaitForAsync(request.Summary.Id, "deciding");
        Assert.Contains(request.Plan, c => c.Kind == "adopt-account");
        Assert.Contains(request.Plan, c => c.Kind == "revoke");
        Assert.Empty((await world.GetAsync<PersonDetail>($"/api/v1/people/{row.Number}")).Accounts);
    }

    [Fact]
    public async Task What_changed_in_an_application_is_read_alone_and_set_right()
    {
        await using var s = await StartAsync();
        var rows = new[] { Keeper("Ceri"), Keeper("Dafydd"), Keeper("Emrys") };
        foreach (var row in rows)
            await s.BringAsync(row);
        var first = await ReconcileAsync(s.World, false, true, "records");
        Assert.False(first.Summary.Changes);
        Assert.Equal(("as-decided", 3), first.Summary.Classes.Select(c => (c.Name, c.Count)).Single());

        JsonObject UserOf(HrRow row) => s.UserOf(s.Records, row)!;
        string IdOf(HrRow row) => UserOf(row)["id"]!.GetValue<string>();
        s.Records.Data.Change(
            ScimSchemas.Users,
            IdOf(rows[0]),
            "",
            u =>
            {
                u["title"] = "Captain";
                return u;
            }
        );
        s.Records.Data.Change(
            ScimSchemas.Groups,
            s.Records.Data.All(ScimSchemas.Groups).Single(g => g["displayName"]!.GetValue<string>() == "Veterinarians")[
                "id"
            ]!.GetValue<string>(),
            "",
            g =>
            {
                g["members"] = new JsonArray(new JsonObject { ["value"] = IdOf(rows[1]) });
                return g;
            }
        );
        s.Records.Data.Remove(ScimSchemas.Users, IdOf(rows[2]));
        s.Records.Data.Add(ScimSchemas.Users, new JsonObject { ["schemas"] = new JsonArray(ScimSchemas.User), ["userName"] = "kiosk" });
        var read = await ReconcileAsync(s.World, false, true, "records");
        Assert.True(read.Summary.Changes);
        var classes = string.Join(' ', read.Summary.Classes.Where(c => c.Name != "as-decided").Select(c => $"{c.Name}:{c.Count}").Order());
        Assert.True(classes == "deleted:1 drift:1 surplus:1 unmatched:1", JsonSerializer.Serialize(read));
        var right = await s.World.EventuallyAsync(
            () => s.World.GetAsync<Page<RequestSummary>>($"/api/v1/requests?text={rows[0].Number}&kind=change"),
            p => p.Items is [{ State: "releasing" }, ..]
        );
        await s.World.ThroughAsync(right.Items[0].Id);
        Assert.Equal("Keeper", UserOf(rows[0])["title"]!.GetValue<string>());
        // What we changed ourselves is as decided.
        var quiet = await ReconcileAsync(s.World, false, true, "records");
        Assert.DoesNotContain(quiet.Items, i => i.Class is "drift");
    }

    /// <summary>A joiner that was a mistake: what ran is undone in reverse and stays so, whatever HR still says.</summary>
    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task A_joiner_that_is_undone_leaves_nothing_behind_that_can_be_used(bool whileItRuns)
    {
        await using var s = await StartAsync();
        var row = Keeper("Undine");
        RequestDetail request;
        if (whileItRuns)
        {
            // All is done but the work at the desk.
            request = await s.World.BringAsync(row, "fulfilling");
            request = await s.World.EventuallyAsync(
                () => s.World.RequestAsync(request.Summary.Id),
                r => r.Steps.Count(x => x.State != "done" && !x.Later) == 1
            );
        }
        else
            request = await s.BringAsync(row);
        var path = $"requests/{request.Summary.Id}/undo";
        Assert.True((await s.World.RequestAsync(request.Summary.Id, "otto")).Rights.Undo);

        // Nobody else, nobody without a reason, and nobody of another site.
        await s.World.SaveUserAsync("far", "operator", "", "reefpoint");
        await s.World.SaveUserAsync("self", "operator", row.Number, "harbour");
        foreach (var (who, status) in new[] { ("far", 404), ("self", 403), ("mara", 403), ("ines", 403), ("aldo", 403) })
        {
            var refused = await World.RefusedAsync(DoAsync(who, "a try"));
            Assert.True(refused.Status == status, $"{who}: {refused}");
        }
        Assert.Equal(400, (await World.RefusedAsync(DoAsync("otto", " "))).Status);
        // Words are no deed: whoever writes that it was undone keeps nobody from undoing it.
        await World.OkAsync(
            (await s.World.SignInAsync("ines")).PostAsJsonAsync(
                $"/api/v1/requests/{request.Summary.Id}/comment",
                new TextBody("forget it; request 1 sets right what was done")
            )
        );
        Assert.DoesNotContain("sets right", (await s.World.RequestAsync(request.Summary.Id)).Story.Next, StringComparison.Ordinal);
        await World.OkAsync(DoAsync("otto", "hired by mistake"));

        var undo = await s.World.EventuallyAsync(
            () => s.World.GetAsync<Page<RequestSummary>>($"/api/v1/requests?text={row.Number}&kind=leaver"),
            p => p.Items.Count == 1 && p.Items[0].State is "completed" or "deciding" or "releasing"
        );
        // Of what was done already people decide, as of any leaver.
        Assert.Equal(whileItRuns, undo.Items[0].State == "completed");
        var through = s.World.ThroughAsync(undo.Items[0].Id);
        // What was given by hand is taken back by hand, by this request and no other.
        if (!whileItRuns)
            await s.DeskAsync();
        await through;
        Assert.Single((await s.World.GetAsync<Page<RequestSummary>>($"/api/v1/requests?text={row.Number}&kind=leaver")).Items);
        var done = await s.World.RequestAsync(undo.Items[0].Id);
        Assert.Contains("hired by mistake", done.Story.Done[0], StringComparison.Ordinal);
        // Each account is disabled before anything else, and what came last goes first.
        var kinds = done.Plan.Select(c => c.Kind).ToList();
        Assert.Equal(3, kinds.LastIndexOf("disable-account") + 1);
        Assert.Equal("directory", done.Plan[2].Target);
        request = await s.World.RequestAsync(request.Summary.Id);
        Assert.Equal(whileItRuns ? "withdrawn" : "completed", request.Summary.State);
        Assert.False(request.Rights.Undo);
        Assert.Equal($"Request {undo.Items[0].Number} sets right what was done.", request.Story.Next);
        Assert.Contains(whileItRuns ? "It was taken back when" : "“hired by mistake”", request.Story.Now, StringComparison.Ordinal);
        Assert.DoesNotContain((await s.World.GetAsync<Page<TaskView>>("/api/v1/tasks")).Items, t => t is { State: "open", Kind: "give" });
        Assert.Equal(409, (await World.RefusedAsync(DoAsync("otto", "once more"))).Status);

        await IsGoneAsync();
        // HR corrects something of them: it stays as people said.
        s.World.WriteHr([row with { Phone = "+00 777" }]);
        foreach (var raised in (await s.World.RunIntakeAsync()).Requests)
            await s.World.EventuallyAsync(
                () => s.World.RequestAsync(raised.Id!),
                r => r.Summary.State is "completed" or "deciding" or "releasing"
            );
        await IsGoneAsync();
        Assert.True((await s.World.VerifyLedgerAsync()).Sound);

        async Task IsGoneAsync()
        {
            var person = await s.World.GetAsync<PersonDetail>($"/api/v1/people/{row.Number}");
            Assert.All(person.Accounts, a => Assert.False(a.Enabled));
            Assert.DoesNotContain(person.Grants, g => g.Until is null);
            Assert.False(s.UserOf(s.Records, row)!["active"]!.GetValue<bool>());
            await using var root = await servers.Directory.ConnectAsRootAsync();
            var entry = await root.SearchAsync(
                new(DirectoryOptions.People, LdapScope.One, LdapFilter.Equal("employeeNumber", row.Number), "pwdAccountLockedTime")
            );
            Assert.NotNull(entry.Single().Text("pwdAccountLockedTime"));
        }

        async Task<HttpResponseMessage> DoAsync(string who, string why) =>
            await (await s.World.SignInAsync(who)).PostAsJsonAsync($"/api/v1/{path}", new ReasonBody(why));
    }

    /// <summary>One directory mirrored into another: two real ones, and whoever comes, moves and is cut off comes, moves and is cut
    /// off in both.</summary>
    [Fact]
    public async Task A_directory_is_mirrored_into_another_as_a_whole()
    {
        await using var second = await TestDirectory.StartAsync();
        await using var world = await World.StartAsync(servers.Directory);
        var edda = await world.SignInAsync("edda");
        var text = world.Rulebook().Single(f => f.Path == "targets/directory.yaml").Text;
        text =
            text[..text.IndexOf("\n# What else it can give", StringComparison.Ordinal)]
                .Replace("name: directory\n", "name: archive\n", StringComparison.Ordinal)
                .Replace("title: Northmere directory", "title: Archive", StringComparison.Ordinal)
                .Replace($":{servers.Directory.LdapsPort}", $":{second.LdapsPort}", StringComparison.Ordinal)
                .Replace("directory-password", "archive-password", StringComparison.Ordinal)
                .Replace("directory-authority", "archive-authority", StringComparison.Ordinal) + "mirrors: { target: directory }\n";
        var body = new RulebookBody([.. world.Rulebook(), new("targets/archive.yaml", text)]);
        await World.OkAsync(edda.PostAsJsonAsync("/api/v1/rulebook/editions", body));
        foreach (
            var (name, value) in new[]
            {
                ("archive-password", second.Server.Options.ServicePassword),
                ("archive-authority", second.Server.AuthorityPem),
            }
        )
            await World.OkAsync(
                edda.PutAsJsonAsync(
                    $"/api/v1/secrets/{name}",
                    new SecretBody(value, name == "archive-password" ? ["targets/archive"] : null)
                )
            );
        // What is made where it is missing may be missing, so that nothing keeps it from beginning.
        await World.OkAsync(PostAsync(world, "archive/resume", new { }));

        var row = HrRow.New("Mirrine");
        world.WriteHr([row]);
        var raised = (await world.RunIntakeAsync()).Requests.Single();
        await world.ThroughAsync(raised.Id);
        await using var one = await servers.Directory.ConnectAsRootAsync();
        await using var two = await second.ConnectAsRootAsync();
        var (here, there) = (await EntryAsync(two), await EntryAsync(one));
        Assert.Equal(there.Dn, here.Dn);
        foreach (var attribute in new[] { "cn", "sn", "mail", "title", "departmentNumber", "employeeNumber" })
            Assert.Equal(there.Text(attribute), here.Text(attribute));
        Assert.Equal(await GroupsAsync(one), await GroupsAsync(two));
        Assert.Contains(Group("dive-team"), await GroupsAsync(two));

        var moved = row with { Department = "Animal Care", Title = "Keeper" };
        world.WriteHr([moved]);
        await world.ThroughAsync((await world.RunIntakeAsync()).Requests.Single().Id);
        Assert.Equal("Keeper", (await EntryAsync(two)).Text("title"));
        Assert.Contains(Group("animal-care"), await GroupsAsync(two));
        Assert.Equal(await GroupsAsync(one), await GroupsAsync(two));

        world.WriteHr([moved with { End = "2026-01-31" }]);
        await world.ThroughAsync((await world.RunIntakeAsync()).Requests.Single().Id);
        Assert.NotNull((await EntryAsync(one)).Text("pwdAccountLockedTime"));
        Assert.NotNull((await EntryAsync(two)).Text("pwdAccountLockedTime"));

        async Task<LdapEntry> EntryAsync(LdapConnection at) =>
            (
                await at.SearchAsync(
                    new(
                        DirectoryOptions.People,
                        LdapScope.Subtree,
                        LdapFilter.Equal("employeeNumber", row.Number),
                        "*",
                        "pwdAccountLockedTime"
                    )
                )
            ).Single();

        async Task<IReadOnlyList<string>> GroupsAsync(LdapConnection at) =>
            [
                .. (
                    await at.SearchAsync(
                        new(DirectoryOptions.Groups, LdapScope.Subtree, LdapFilter.Equal("member", (await EntryAsync(at)).Dn), "1.1")
                    )
                )
                    .Select(g => g.Dn)
                    .Order(),
            ];
    }

    private static string Group(string name) => $"cn={name},{DirectoryOptions.Groups}";

    private static string Person(string name) => $"uid={name},{DirectoryOptions.People}";

    private static Task AddAsync(LdapConnection root, string name, string number) =>
        root.AddAsync(
            Person(name),
            [
                new("objectClass", "inetOrgPerson"),
                new("uid", name),
                new("cn", name),
                new("sn", name),
                .. number.Length > 0 ? [new LdapAttribute("employeeNumber", number)] : Array.Empty<LdapAttribute>(),
            ]
        );

    private static async Task<ReconciliationDetail> ReconcileAsync(World world, bool dry, bool changes = false, string target = "directory")
    {
        var made = await (
            await World.OkAsync(PostAsync(world, $"{target}/reconcile", new ReconcileBody(dry) { Changes = changes }))
        ).Content.ReadFromJsonAsync<Reconciliation>();
        return await world.GetAsync<ReconciliationDetail>($"/api/v1/targets/{target}/reconciliations/{made!.Id}");
    }
}
