using System.Net.Http.Json;
using Oikonom.Contracts;
using Oikonom.Standins.Directory;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

/// <summary>Approval through the real thing: workflows by kind and risk, people by relation, work by hand, time.</summary>
public sealed class ApprovalTests(Servers servers)
{
    /// <summary>The demo's rulebook with this world's people in the places of owners and groups.</summary>
    internal static string Mapped(string path, string text) =>
        path switch
        {
            "targets/directory.yaml" => text.Replace("owner: E1007", "owner: E9003", StringComparison.Ordinal)
                .Replace("owner: E1006", "owner: E9003", StringComparison.Ordinal)
                .Replace("owner: E1003", "owner: E9003", StringComparison.Ordinal)
                .Replace("owner: E1008", "owner: E9004", StringComparison.Ordinal),
            "targets/facilities.yaml" => text.Replace("owner: E1003", "owner: E9003", StringComparison.Ordinal),
            "rulebook.yaml" => text.Replace("[E1002, E1003, E1008]", "[E9002, E9003, E9004]", StringComparison.Ordinal)
                .Replace("\"08:00-17:00\"", "\"00:00-23:59\"", StringComparison.Ordinal)
                .Replace("days: [mon, tue, wed, thu, fri]", "days: [mon, tue, wed, thu, fri, sat, sun]", StringComparison.Ordinal)
                .Replace("    holidays: [12-08, 12-25, 01-01]\n", "", StringComparison.Ordinal),
            _ => text,
        };

    private async Task<World> StartAsync(
        string engine = "sqlite",
        Func<string, string, string>? change = null,
        bool movesClock = false,
        TestDirectory? directory = null
    )
    {
        var world = await World.StartAsync(
            directory ?? servers.Directory,
            (await servers.OnAsync(engine)) with
            {
                MovesClock = movesClock,
            }
        );
        var edda = await world.SignInAsync("edda");
        await world.SaveUserAsync("silas", new("Silas", "silas@northmere.example", ["approver"], "E9004", true));
        await World.OkAsync(
            edda.PostAsJsonAsync(
                "/api/v1/rulebook/editions",
                new RulebookBody(world.Rulebook((path, text) => change is null ? Mapped(path, text) : change(path, Mapped(path, text))))
            )
        );
        return world;
    }

    internal static async Task<RequestDetail> RaiseAsync(World world, NewRequest body, string actor = "ines") =>
        (
            await (
                await World.OkAsync((await world.SignInAsync(actor)).PostAsJsonAsync("/api/v1/requests", body))
            ).Content.ReadFromJsonAsync<RequestDetail>()
        )!;

    internal static async Task<RequestDetail> DoAsync<T>(World world, RequestDetail request, string verb, T body, string actor) =>
        (
            await (
                await World.OkAsync((await world.SignInAsync(actor)).PostAsJsonAsync($"/api/v1/requests/{request.Summary.Id}/{verb}", body))
            ).Content.ReadFromJsonAsync<RequestDetail>()
        )!;

    internal static async Task<(int Status, string Code, string Detail)> RefusedAsync<T>(
        World world,
        RequestDetail request,
        string verb,
        T body,
        string actor
    ) => await World.RefusedAsync((await world.SignInAsync(actor)).PostAsJsonAsync($"/api/v1/requests/{request.Summary.Id}/{verb}", body));

    internal static Task<RequestDetail> ApproveAsync(World world, RequestDetail request, string actor, params string[] items) =>
        DoAsync(world, request, "approve", new ApproveBody(request.PlanDigest!, null, items.Length > 0 ? items : null), actor);

    internal static async Task<HrRow> PersonAsync(World world, HrRow? row = null)
    {
        var person = row ?? HrRow.New();
        await world.BringAsync(person);
        return person;
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task What_runs_is_taken_back_with_what_was_done_told_and_set_right(string engine)
    {
        await using var own = await TestDirectory.StartAsync();
        await using var world = await StartAsync(engine, directory: own);
        var person = await PersonAsync(world);
        var wish = new NewRequest(
            "access",
            person.Number,
            "month end",
            Grants: [new("directory/rescue-volunteers", null, "2034-02-28"), new("directory/ticket-desk", null, "2034-02-28")]
        );
        var request = await world.WaitForAsync((await RaiseAsync(world, wish)).Summary.Id, "deciding");
        request = await ApproveAsync(world, request, "mara");
        request = await ApproveAsync(world, request, "silas", "directory/rescue-volunteers");
        // One of the groups is gone when it runs: one step is done, the next stops.
        await using (var root = await own.ConnectAsRootAsync())
            await root.DeleteAsync($"cn=ticket-desk,{DirectoryOptions.Groups}");
        request = await ApproveAsync(world, request, "tomas", "directory/ticket-desk");
        request = await world.EventuallyAsync(
            () => world.RequestAsync(request.Summary.Id),
            r => r.Steps.Any(s => s.State == "stopped") && r.Steps.Any(s => s.State == "done")
        );

        // Who it is about by HR, or who only decides, does not take it back; an operator of the target may.
        Assert.Equal((403, "not-yours"), Short(await RefusedAsync(world, request, "withdraw", new DeclineBody("no"), "tomas")));
        Assert.False((await world.RequestAsync(request.Summary.Id, "tomas")).Rights.Withdraw);
        Assert.True(request.Rights.Withdraw);
        request = await DoAsync(world, request, "withdraw", new DeclineBody("the group is gone"), "otto");
        Assert.Equal(("withdrawn", "partly"), (request.Summary.State, request.Summary.Outcome));
        Assert.Contains("was done; the rest was not carried out", request.Story.Now, StringComparison.Ordinal);
        Assert.Contains("Rescue volunteers", request.Story.Now, StringComparison.Ordinal);
        Assert.DoesNotContain(request.Steps, s => s.State is "pending" or "stopped");
        Assert.Null(request.Summary.Problem);
        await world.EventuallyAsync(
            () => Task.FromResult(world.Mail!.Mails.Where(m => m.Subject.EndsWith("was taken back", StringComparison.Ordinal)).ToList()),
            m => m.Count == 1 && m[0].To == "ines@northmere.example" && m[0].Body.Contains("the group is gone", StringComparison.Ordinal)
        );
        Assert.Equal(409, (await RefusedAsync(world, request, "withdraw", new DeclineBody("again"), "otto")).Status);

        // What was given of it is taken away again, and nothing else is touched.
        var undo = await world.EventuallyAsync(
            async () => (await world.GetAsync<Page<RequestSummary>>("/api/v1/requests?kind=end")).Items,
            all => all.Count == 1 && all[0].State == "completed"
        );
        Assert.Equal($"Request {undo[0].Number} sets right what was done.", request.Story.Next);
        var undone = await world.RequestAsync(undo[0].Id);
        Assert.Contains($"Request {request.Summary.Number} was taken back", undone.Cause.Text, StringComparison.Ordinal);
        Assert.Equal(["revoke", "verify"], undone.Plan.Select(c => c.Kind));
        Assert.Equal("rescue-volunteers", undone.Plan[0].Subject);
        var held = await world.GetAsync<PersonDetail>($"/api/v1/people/{person.Number}");
        Assert.DoesNotContain(held.Grants, g => g is { Until: null, Entitlement: "rescue-volunteers" or "ticket-desk" });
        Assert.All(request.Stages, s => Assert.Equal("passed", s.State));

        // Whoever is to leave does not take that back, engineer or not.
        await world.SaveUserAsync("self", new("Self", "self@northmere.example", ["engineer"], person.Number, true));
        var leaver = await RaiseAsync(world, new("leaver", person.Number, "at once", Urgent: true));
        leaver = await world.WaitForAsync(leaver.Summary.Id, "releasing");
        Assert.Equal((403, "own-request"), Short(await RefusedAsync(world, leaver, "withdraw", new DeclineBody("no"), "self")));
        Assert.False((await world.RequestAsync(leaver.Summary.Id, "self")).Rights.Withdraw);

        // While it runs an operator does not stop it either, and a requester only what they asked for themselves.
        await own.Server.HoldAsync();
        await world.ReleaseAsync(leaver);
        await world.SaveUserAsync("rosa", new("Rosa", "rosa@northmere.example", ["requester"], "", true));
        Assert.Equal((403, "not-yours"), Short(await RefusedAsync(world, leaver, "withdraw", new DeclineBody("no"), "otto")));
        Assert.Equal((403, "not-yours"), Short(await RefusedAsync(world, leaver, "withdraw", new DeclineBody("no"), "rosa")));
        await own.Server.GoOnAsync();
        await world.WaitForAsync(leaver.Summary.Id, "completed");
        Assert.True((await world.VerifyLedgerAsync()).Sound);
    }

    [Fact]
    public async Task What_HR_tells_is_taken_back_by_others_than_the_person_and_what_was_done_stays_told()
    {
        await using var own = await TestDirectory.StartAsync();
        await using var world = await StartAsync(directory: own);
        var row = HrRow.New();
        await world.SaveUserAsync("self", new("Self", "self@northmere.example", ["requester"], row.Number, true));
        var request = await world.BringAsync(row, "releasing");
        await using (var root = await own.ConnectAsRootAsync())
            await root.DeleteAsync($"cn=dive-team,{DirectoryOptions.Groups}");
        await world.ReleaseAsync(request);
        request = await world.EventuallyAsync(() => world.RequestAsync(request.Summary.Id), r => r.Steps.Any(s => s.State == "stopped"));
        Assert.Equal((403, "own-request"), Short(await RefusedAsync(world, request, "withdraw", new DeclineBody("no"), "self")));
        request = await DoAsync(world, request, "withdraw", new DeclineBody("wrong person"), "ines");
        Assert.Equal(("withdrawn", "partly"), (request.Summary.State, request.Summary.Outcome));
        Assert.Equal("Nothing follows.", request.Story.Next);
        // What HR says of them goes on from what was done.
        world.WriteHr(row with { Title = "Dive master" });
        var next = await world.WaitForAsync((await world.RunIntakeAsync()).Requests.Single().Id, "deciding");
        Assert.DoesNotContain(next.Plan, c => c.Kind == "create-account");
        Assert.Contains(next.Plan, c => c is { Kind: "grant", Subject: "dive-team" });
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task Access_goes_over_the_manager_and_each_owner_and_ends_by_itself(string engine)
    {
        await using var world = await StartAsync(engine);
        var person = await PersonAsync(world);
        var body = new NewRequest(
            "access",
            person.Number,
            "month end",
            Grants: [new("directory/payments", null, "2034-01-31"), new("directory/rescue-volunteers", null, "2034-02-28")]
        );

        // The preview tells the whole effect and who decides, and reserves nothing.
        var preview = await (
            await World.OkAsync((await world.SignInAsync("ines")).PostAsJsonAsync("/api/v1/requests/preview", body))
        ).Content.ReadFromJsonAsync<RequestPreview>();
        Assert.True(preview!.Sound, string.Join(" ", preview.Problems.Select(p => p.Message)));
        Assert.Equal(
            ("Access beside the templates", "Line manager,Owner"),
            (preview.Workflow, string.Join(',', preview.Stages.Select(s => s.Title)))
        );
        Assert.Equal(["directory/payments", "directory/rescue-volunteers"], preview.Items.Select(i => i.Key));
        Assert.Empty((await world.GetAsync<Page<RequestSummary>>($"/api/v1/requests?kind=access")).Items);

        var request = await world.WaitForAsync((await RaiseAsync(world, body)).Summary.Id, "deciding");
        Assert.Equal("Line manager", request.Summary.Stage);
        Assert.Contains("month end", request.Cause.Text, StringComparison.Ordinal);
        Assert.Equal(
            (403, "not-yours"),
            Short(await RefusedAsync(world, request, "approve", new ApproveBody(request.PlanDigest!, null), "tomas"))
        );
        request = await ApproveAsync(world, request, "mara");
        Assert.Equal("Owner", request.Summary.Stage);
        Assert.Equal(["directory/payments", "directory/rescue-volunteers"], request.Stages[1].Ballots.Select(b => b.Item!));

        // Each owner sees and decides what is theirs; the one says yes, the other no.
        Assert.Equal(["directory/payments"], (await world.RequestAsync(request.Summary.Id, "tomas")).Rights.Items!);
        Assert.Equal(
            400,
            (
                await RefusedAsync(
                    world,
                    request,
                    "approve",
                    new ApproveBody(request.PlanDigest!, null, ["directory/rescue-volunteers"]),
                    "tomas"
                )
            ).Status
        );
        request = await ApproveAsync(world, request, "tomas", "directory/payments");
        Assert.Equal("deciding", request.Summary.State);
        await DoAsync(world, request, "decline", new DeclineBody("no pool work planned"), "silas");
        var done = await world.WaitForAsync(request.Summary.Id, "completed");
        Assert.Contains(done.Decisions, d => d is { Verdict: "struck", Item: "directory/rescue-volunteers", Actor: "silas" });
        Assert.Equal(2, done.Decisions.Count(d => d is { Verdict: "approved", Counts: true }));
        Assert.DoesNotContain(done.Plan, c => c.Subject == "rescue-volunteers");
        Assert.Contains(done.Steps, s => s is { Later: true, State: "pending" } && s.Text.Contains("Payments", StringComparison.Ordinal));
        var detail = await world.GetAsync<PersonDetail>($"/api/v1/people/{person.Number}");
        Assert.Contains(detail.Grants, g => g.Entitlement == "payments" && g.Reason.Rule == "request");

        // What was given for a term can be kept longer; what was never asked for cannot.
        var longer = await world.WaitForAsync(
            (await RaiseAsync(world, new("extension", person.Number, "audit", Grants: [new("directory/payments", null, "2034-03-31")])))
                .Summary
                .Id,
            "deciding"
        );
        Assert.Equal(["revoke", "verify"], longer.Plan.Select(c => c.Kind));
        longer = await ApproveAsync(world, longer, "mara");
        await ApproveAsync(world, longer, "tomas");
        await world.WaitForAsync(longer.Summary.Id, "completed");
        Assert.Equal(
            400,
            (
                await World.RefusedAsync(
                    (await world.SignInAsync("ines")).PostAsJsonAsync(
                        "/api/v1/requests",
                        new NewRequest("extension", person.Number, "x", Grants: [new("directory/dive-team", null, "2034-03-31")])
                    )
                )
            ).Status
        );
        Assert.True((await world.VerifyLedgerAsync()).Sound);
    }

    [Fact]
    public async Task Powerful_access_needs_two_of_the_office_an_end_and_another_pair_of_eyes()
    {
        await using var world = await StartAsync();
        var edda = await world.SignInAsync("edda");
        await world.SaveUserAsync("silas", new("Silas", "silas@northmere.example", ["approver", "operator"], "E9004", true));
        var person = await PersonAsync(world);
        var ines = await world.SignInAsync("ines");
        Assert.Contains(
            "never given without an end",
            (
                await World.RefusedAsync(
                    ines.PostAsJsonAsync(
                        "/api/v1/requests",
                        new NewRequest("access", person.Number, "x", Grants: [new("directory/system-admins")])
                    )
                )
            ).Detail,
            StringComparison.Ordinal
        );
        var until = DateTimeOffset.UtcNow.AddHours(8).ToString("o");
        var request = await world.WaitForAsync(
            (await RaiseAsync(world, new("access", person.Number, "restore", Grants: [new("directory/system-admins", null, until)])))
                .Summary
                .Id,
            "deciding"
        );
        Assert.Equal("powerful-access", request.Workflow);
        request = await ApproveAsync(world, request, "mara");
        Assert.Equal((2, "mara,silas,tomas"), (request.Stages[1].Needed, string.Join(',', request.Stages[1].Users)));

        // Two at once, and the same click twice: each right counts once.
        var clicks = await Task.WhenAll(
            new[] { "tomas", "tomas", "silas", "silas" }.Select(async a =>
                await (await world.SignInAsync(a)).PostAsJsonAsync(
                    $"/api/v1/requests/{request.Summary.Id}/approve",
                    new ApproveBody(request.PlanDigest!, null)
                )
            )
        );
        Assert.Equal(2, clicks.Count(c => c.IsSuccessStatusCode));
        request = await world.RequestAsync(request.Summary.Id);
        Assert.Equal("releasing", request.Summary.State);
        Assert.Equal(
            (403, "own-request"),
            Short(await RefusedAsync(world, request, "release", new ReleaseBody(request.PlanDigest!), "silas"))
        );
        await DoAsync(world, request, "release", new ReleaseBody(request.PlanDigest!), "otto");
        await world.WaitForAsync(request.Summary.Id, "completed");
    }

    [Fact]
    public async Task A_question_stops_the_clock_a_change_asks_again_only_those_it_touches()
    {
        await using var world = await StartAsync();
        var person = await PersonAsync(world);
        var request = await world.WaitForAsync(
            (
                await RaiseAsync(
                    world,
                    new(
                        "access",
                        person.Number,
                        "till",
                        Grants: [new("directory/payments", null, "2034-01-31"), new("directory/rescue-volunteers", null, "2034-01-31")]
                    )
                )
            )
                .Summary
                .Id,
            "deciding"
        );
        Assert.NotNull(request.Summary.Due);
        request = await DoAsync(world, request, "ask", new TextBody("Why until January?"), "mara");
        Assert.Equal(("asked", "ines"), (request.Summary.State, request.Summary.WaitsOn));
        Assert.Contains((await world.GetAsync<Page<RequestSummary>>("/api/v1/inbox", "ines")).Items, r => r.Id == request.Summary.Id);
        Assert.Equal(409, (await RefusedAsync(world, request, "approve", new ApproveBody(request.PlanDigest!, null), "mara")).Status);
        Assert.Equal((403, "not-yours"), Short(await RefusedAsync(world, request, "answer", new TextBody("no"), "otto")));
        request = await DoAsync(world, request, "answer", new TextBody("Audit ends then."), "ines");
        Assert.Equal("deciding", request.Summary.State);
        await DoAsync(world, request, "comment", new TextBody("Looked at the audit plan."), "otto");
        request = await ApproveAsync(world, request, "mara");
        request = await ApproveAsync(world, request, "silas");

        // The requester shortens one term: its owner decides anew, the other's yes stays, the manager saw another whole.
        var old = request.PlanDigest!;
        await DoAsync(world, request, "change", new ChangeBody(old, Grants: [new("directory/payments", null, "2034-01-15")]), "ines");
        request = await world.WaitForAsync(request.Summary.Id, "deciding");
        Assert.Equal(("Line manager", "changed"), (request.Summary.Stage, request.Items.Single(i => i.Key == "directory/payments").Mark));
        Assert.Equal("", request.Items.Single(i => i.Key == "directory/rescue-volunteers").Mark);
        Assert.Equal((409, "plan-changed"), Short(await RefusedAsync(world, request, "approve", new ApproveBody(old, null), "mara")));
        request = await ApproveAsync(world, request, "mara");
        Assert.Equal("Owner", request.Summary.Stage);
        Assert.Equal(["silas"], request.Stages[1].Ballots.Single(b => b.Item == "directory/rescue-volunteers").Given);
        Assert.Equal("tomas", request.Summary.WaitsOn.Split(", ").First(w => w == "tomas"));
        request = await ApproveAsync(world, request, "tomas");
        await world.WaitForAsync(request.Summary.Id, "completed");
        Assert.Equal(409, (await RefusedAsync(world, request, "withdraw", new ReasonBody("late"), "ines")).Status);
    }

    [Fact]
    public async Task A_right_is_lent_for_a_time_and_shown_on_the_decision()
    {
        await using var world = await StartAsync();
        var mara = await world.SignInAsync("mara");
        var (yesterday, tomorrow) = (
            DateTimeOffset.UtcNow.AddDays(-1).ToString("yyyy-MM-dd"),
            DateTimeOffset.UtcNow.AddDays(1).ToString("yyyy-MM-dd")
        );
        Assert.Equal(
            400,
            (
                await World.RefusedAsync(mara.PostAsJsonAsync("/api/v1/delegations", new DelegationBody("nobody", yesterday, tomorrow)))
            ).Status
        );
        Assert.Equal(
            400,
            (await World.RefusedAsync(mara.PostAsJsonAsync("/api/v1/delegations", new DelegationBody("tomas", tomorrow, yesterday)))).Status
        );
        Assert.Equal(
            403,
            (
                await World.RefusedAsync(
                    mara.PostAsJsonAsync("/api/v1/delegations", new DelegationBody("tomas", yesterday, tomorrow, From: "silas"))
                )
            ).Status
        );
        var lent = await (
            await World.OkAsync(
                mara.PostAsJsonAsync("/api/v1/delegations", new DelegationBody("tomas", yesterday, tomorrow, ["joiner"], "on leave"))
            )
        ).Content.ReadFromJsonAsync<DelegationView>();
        var request = await world.BringAsync(HrRow.New(), "deciding");
        Assert.Contains((await world.GetAsync<Page<RequestSummary>>("/api/v1/inbox", "tomas")).Items, r => r.Id == request.Summary.Id);
        Assert.Equal("mara", (await world.RequestAsync(request.Summary.Id, "tomas")).Rights.OnBehalf);
        request = await ApproveAsync(world, request, "tomas");
        Assert.Contains(request.Decisions, d => d is { Actor: "tomas", OnBehalf: "mara", Verdict: "approved" });
        Assert.Contains("tomas for mara", string.Join(" ", request.Story.Done), StringComparison.Ordinal);
        await World.OkAsync(mara.DeleteAsync($"/api/v1/delegations/{lent!.Id}"));
        var next = await world.BringAsync(HrRow.New(), "deciding");
        Assert.Equal(
            (403, "not-yours"),
            Short(await RefusedAsync(world, next, "approve", new ApproveBody(next.PlanDigest!, null), "tomas"))
        );
    }

    [Fact]
    public async Task An_approver_who_is_gone_is_replaced_and_a_leavers_sign_in_ends()
    {
        await using var world = await StartAsync();
        var request = await world.BringAsync(HrRow.New(), "deciding");
        Assert.Equal("mara", request.Summary.WaitsOn);
        // Mara herself leaves: HR says that her last day is over.
        var mara = new HrRow("E9002", "Mara", "Selkirk") { Manager = "" };
        world.WriteHr(mara);
        await world.RunIntakeAsync("baseline", actor: "edda");
        world.WriteHr(mara with { End = "2026-11-20" });
        await world.RunIntakeAsync();
        var replaced = await world.EventuallyAsync(() => world.RequestAsync(request.Summary.Id), r => r.Summary.WaitsOn != "mara");
        Assert.Equal("an approver", replaced.Summary.WaitsOn);
        Assert.Contains(
            replaced.Decisions,
            d => d.Verdict == "replaced" && d.Remark.Contains("mara cannot decide any more", StringComparison.Ordinal)
        );
        using var client = new HttpClient { BaseAddress = new(world.Address) };
        Assert.Equal(
            401,
            (await World.RefusedAsync(client.PostAsJsonAsync("/api/v1/sign-in", new SignInBody("mara", World.Password)))).Status
        );
        await ApproveAsync(world, replaced, "tomas");
    }

    [Fact]
    public async Task Late_stages_remind_escalate_and_end_as_the_workflow_says()
    {
        await using var world = await StartAsync(
            change: (path, text) =>
                path == "workflows/staff.yaml"
                    ? text.Replace("remind: PT8H", "remind: PT8H\n    on-silence: decline", StringComparison.Ordinal)
                        .Replace("escalate: [manager-of-manager, site-lead]", "escalate: person:E9003", StringComparison.Ordinal)
                    : text,
            movesClock: true
        );
        var request = await world.BringAsync(HrRow.New(), "deciding");
        var began = DateTimeOffset.UtcNow;
        // To the hour at which something is said of it, and no further before it is said.
        Task<RequestDetail> InHoursAsync(double hours, string verdict)
        {
            world.MoveClock(TimeSpan.FromHours(hours));
            return world.EventuallyAsync(() => world.RequestAsync(request.Summary.Id), r => r.Decisions.Any(d => d.Verdict == verdict));
        }
        var reminded = await InHoursAsync(8.1, "reminded");
        Assert.Equal(("mara", false), (reminded.Summary.WaitsOn, reminded.Summary.Late));
        var escalated = await InHoursAsync(8, "escalated");
        Assert.Equal(("mara, tomas", true), (escalated.Summary.WaitsOn, escalated.Summary.Late));
        var declined = await InHoursAsync(48, "declined");
        Assert.Equal("declined", declined.Summary.State);
        // Whom it went up to may be reminded, too, when the loop looks in time.
        Assert.Equal(["reminded", "escalated", "declined"], declined.Decisions.OrderBy(d => d.At).Select(d => d.Verdict).Distinct());
        Assert.Equal(("oikonom", "nobody decided in time"), (declined.Decisions[^1].Actor, declined.Decisions[^1].Remark));
        // Eight hours of work until the first word, sixteen until the second: never sooner than by the clock.
        var told = escalated.Decisions.Single(d => d.Verdict == "escalated").At;
        Assert.InRange(reminded.Decisions[0].At - began, TimeSpan.FromHours(7.9), TimeSpan.MaxValue);
        // (Here people work round the clock, so that these are hours of the clock.)
        Assert.InRange(told - began, TimeSpan.FromHours(15.9), TimeSpan.MaxValue);
        await world.EventuallyAsync(
            () => Task.FromResult(world.Mail!.Mails.Select(m => m.Subject).ToList()),
            m =>
                m.Exists(s => s.StartsWith("Reminder", StringComparison.Ordinal))
                && m.Exists(s => s.Contains("was declined", StringComparison.Ordinal))
        );
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task Work_by_hand_waits_for_people_and_keeps_their_evidence(string engine)
    {
        await using var world = await StartAsync(engine);
        var row = HrRow.New() with { Department = "Research", Kind = "researcher", End = "2034-09-30" };
        world.WriteHr(row);
        var raised = (await world.RunIntakeAsync()).Requests.Single();
        var request = await world.WaitForAsync(raised.Id, "deciding");
        Assert.Contains(request.Items, i => i.Key == "facilities/lab-key");
        await world.ApproveAsync(request);
        await world.ReleaseAsync(request);
        var otto = await world.SignInAsync("otto");
        var task = (
            await world.EventuallyAsync(() => world.GetAsync<Page<TaskView>>("/api/v1/tasks"), t => t.Items.Count == 1)
        ).Items.Single();
        Assert.Equal(($"Give {row.Given} {row.Family}: Laboratory key", "open", 2), (task.Title, task.State, task.Checks.Count));
        var waiting = await world.EventuallyAsync(
            () => world.RequestAsync(raised.Id),
            r => r.Story.Now.StartsWith("It waits for work by hand", StringComparison.Ordinal)
        );
        Assert.Equal("fulfilling", waiting.Summary.State);
        Assert.Null(waiting.Summary.Problem);

        async Task<(int Status, string Code, string Detail)> Done(TaskDoneBody body) =>
            await World.RefusedAsync(otto.PostAsJsonAsync($"/api/v1/tasks/{task.Id}/done", body));
        Assert.Contains("Fill in 'Number of the key'", (await Done(new())).Detail, StringComparison.Ordinal);
        Assert.Contains(
            "must have the form",
            (await Done(new(new Dictionary<string, string> { ["key-number"] = "12" }))).Detail,
            StringComparison.Ordinal
        );
        var fields = new Dictionary<string, string> { ["key-number"] = "RP-0412" };
        Assert.Contains("Check it off first", (await Done(new(fields))).Detail, StringComparison.Ordinal);
        Assert.Contains("Add evidence", (await Done(new(fields, task.Checks))).Detail, StringComparison.Ordinal);
        Assert.Equal(404, (int)(await (await world.SignInAsync("ines")).GetAsync($"/api/v1/tasks/{task.Id}")).StatusCode);
        await World.OkAsync(otto.PostAsync($"/api/v1/tasks/{task.Id}/evidence?name=form.txt", new ByteArrayContent("signed"u8.ToArray())));
        Assert.Equal(
            413,
            (int)
                (
                    await otto.PostAsync(
                        $"/api/v1/tasks/{task.Id}/evidence?name=big.bin",
                        new ByteArrayContent(new byte[(10 * 1024 * 1024) + 1])
                    )
                ).StatusCode
        );
        await World.OkAsync(otto.PostAsync($"/api/v1/tasks/{task.Id}/take", null));
        var file = (await world.GetAsync<TaskView>($"/api/v1/tasks/{task.Id}")).Evidence.Single();
        Assert.Equal("signed", await (await otto.GetAsync($"/api/v1/tasks/{task.Id}/evidence/{file.Id}")).Content.ReadAsStringAsync());
        await World.OkAsync(
            otto.PostAsJsonAsync($"/api/v1/tasks/{task.Id}/done", new TaskDoneBody(fields, task.Checks, "handed over at the gate"))
        );
        Assert.Equal((409, "wrong-state"), Short(await Done(new(fields, task.Checks))));
        var done = await world.WaitForAsync(raised.Id, "completed");
        Assert.All(done.Milestones, m => Assert.True(m.Reached));
        Assert.Contains((await world.GetAsync<PersonDetail>($"/api/v1/people/{row.Number}")).Grants, g => g.Entitlement == "lab-key");
        Assert.Contains(
            (await world.GetAsync<Page<LedgerEntryView>>($"/api/v1/ledger?request={raised.Id}&limit=200", "aldo")).Items,
            e => e.Kind == "task.done" && e.Body.ToString().Contains("RP-0412", StringComparison.Ordinal)
        );
        // The new person was welcomed at the address only HR knows.
        await world.EventuallyAsync(
            () => Task.FromResult(world.Mail!.Mails.Any(m => m.Subject.StartsWith("Welcome to Northmere", StringComparison.Ordinal))),
            seen => seen
        );
    }

    [Fact]
    public async Task What_cannot_be_done_by_hand_stops_the_request_and_says_why()
    {
        await using var world = await StartAsync();
        var person = await PersonAsync(world);
        var request = await world.WaitForAsync(
            (await RaiseAsync(world, new("access", person.Number, "pool", Grants: [new("facilities/wet-suit")]))).Summary.Id,
            "deciding"
        );
        request = await ApproveAsync(world, request, "mara");
        await ApproveAsync(world, request, "tomas");
        var otto = await world.SignInAsync("otto");
        var task = (
            await world.EventuallyAsync(() => world.GetAsync<Page<TaskView>>("/api/v1/tasks"), t => t.Items.Count == 1)
        ).Items.Single();
        await World.OkAsync(otto.PostAsJsonAsync($"/api/v1/tasks/{task.Id}/impossible", new ReasonBody("no suit of that size")));
        var stuck = await world.EventuallyAsync(() => world.RequestAsync(request.Summary.Id), r => r.Summary.Problem is not null);
        Assert.Contains("Facilities desk cannot do it: no suit of that size", stuck.Story.Now, StringComparison.Ordinal);
        Assert.Contains((await world.GetAsync<TodayView>("/api/v1/today")).Stuck, r => r.Id == request.Summary.Id);
        await World.OkAsync(otto.PostAsync($"/api/v1/tasks/{task.Id}/reopen", null));
        await World.OkAsync(
            otto.PostAsJsonAsync($"/api/v1/tasks/{task.Id}/done", new TaskDoneBody(new Dictionary<string, string> { ["size"] = "M" }))
        );
        await world.WaitForAsync(request.Summary.Id, "completed");
    }

    [Fact]
    public async Task Work_for_two_counts_once_somebody_else_has_confirmed_it()
    {
        await using var world = await StartAsync(
            change: (path, text) =>
                path == "targets/facilities.yaml"
                    ? text.Replace("    give: Hand out", "    second-person: yes\n    give: Hand out", StringComparison.Ordinal)
                    : text
        );
        await world.SaveUserAsync("fay", new("Fay", "fay@northmere.example", ["operator"], "E9100", true));
        var person = await PersonAsync(world);
        var request = await world.WaitForAsync(
            (await RaiseAsync(world, new("access", person.Number, "pool", Grants: [new("facilities/wet-suit")]))).Summary.Id,
            "deciding"
        );
        request = await ApproveAsync(world, request, "mara");
        await ApproveAsync(world, request, "tomas");
        var id = (await world.EventuallyAsync(() => world.GetAsync<Page<TaskView>>("/api/v1/tasks"), t => t.Items.Count == 1))
            .Items.Single()
            .Id;
        async Task<HttpResponseMessage> PostAsync(string who, string verb, object body) =>
            await (await world.SignInAsync(who)).PostAsJsonAsync($"/api/v1/tasks/{id}/{verb}", body);
        var size = new TaskDoneBody(new Dictionary<string, string> { ["size"] = "M" }, Remark: "in locker 7");
        Assert.Equal("not-reported", (await World.RefusedAsync(PostAsync("otto", "confirm", new { }))).Code);
        await World.OkAsync(PostAsync("fay", "done", size));
        var reported = await world.GetAsync<TaskView>($"/api/v1/tasks/{id}");
        Assert.Equal(("open", "fay", null, true), (reported.State, reported.ReportedBy, reported.TakenBy, reported.NeedsSecond));
        // Not they themselves, nor once more, nor by taking it.
        Assert.Equal((403, "own-work"), Short(await World.RefusedAsync(PostAsync("fay", "confirm", new { }))));
        Assert.Equal((403, "own-work"), Short(await World.RefusedAsync(PostAsync("fay", "give-back", new ReasonBody("no")))));
        Assert.Equal("own-work", (await World.RefusedAsync(PostAsync("fay", "take", new { }))).Code);
        Assert.Equal("reported", (await World.RefusedAsync(PostAsync("otto", "done", size))).Code);
        Assert.Equal("reported", (await World.RefusedAsync(PostAsync("otto", "impossible", new ReasonBody("no suit")))).Code);
        Assert.Equal("fulfilling", (await world.RequestAsync(request.Summary.Id)).Summary.State);

        Assert.Equal(400, (await World.RefusedAsync(PostAsync("otto", "give-back", new ReasonBody(" ")))).Status);
        await World.OkAsync(PostAsync("otto", "give-back", new ReasonBody("the locker is empty")));
        var back = await world.GetAsync<TaskView>($"/api/v1/tasks/{id}");
        Assert.Equal(("open", null, "fay", "the locker is empty"), (back.State, back.ReportedBy, back.TakenBy, back.Remark));
        await World.OkAsync(PostAsync("fay", "done", size));
        await World.OkAsync(PostAsync("otto", "confirm", new { }));
        var done = await world.GetAsync<TaskView>($"/api/v1/tasks/{id}");
        Assert.Equal(("done", "fay", "otto", "M"), (done.State, done.DoneBy, done.ConfirmedBy, done.Fields.Single().Value));
        await world.WaitForAsync(request.Summary.Id, "completed");
        Assert.Equal(409, (await World.RefusedAsync(PostAsync("otto", "confirm", new { }))).Status);
    }

    /// <summary>Rules by which the size of a suit stands with the person, and with their account.</summary>
    private static string Suited(string path, string text) =>
        path switch
        {
            "rulebook.yaml" => text.Replace("  mailStore: text", "  mailStore: text\n  suit: number", StringComparison.Ordinal),
            "targets/facilities.yaml" => text.Replace(
                "size: { title: Size, pattern: \"(XS|S|M|L|XL)\" }",
                "size: { title: Size, feeds: suit }",
                StringComparison.Ordinal
            ),
            "templates/everyone.yaml" => text.Replace(
                "      telephoneNumber: phone\n",
                "      telephoneNumber: phone\n      description: 'suit == null ? \"\" : \"Suit \" + string(suit)'\n",
                StringComparison.Ordinal
            ),
            // Here the line manager decides on it as on any other change.
            "workflows/desk.yaml" => text.Replace("for: [change]", "for: [closing]", StringComparison.Ordinal),
            _ => text,
        };

    /// <summary>A suit that was asked for and approved, until a day or for good.</summary>
    private static async Task<RequestDetail> SuitAsync(World world, HrRow person, string? until = null)
    {
        var grants = new[] { new GrantWish("facilities/wet-suit", null, until) };
        var raised = await RaiseAsync(world, new("access", person.Number, "pool", Grants: grants));
        var request = await ApproveAsync(world, await world.WaitForAsync(raised.Summary.Id, "deciding"), "mara");
        return await ApproveAsync(world, request, "tomas");
    }

    private static async Task<TaskView> OnlyTaskAsync(World world) =>
        (await world.EventuallyAsync(() => world.GetAsync<Page<TaskView>>("/api/v1/tasks"), t => t.Items.Count == 1)).Items.Single();

    private static async Task<HttpResponseMessage> DoneAsync(World world, TaskView task, string? size) =>
        await (await world.SignInAsync("otto")).PostAsJsonAsync(
            $"/api/v1/tasks/{task.Id}/done",
            new TaskDoneBody(size is null ? null : new Dictionary<string, string> { ["size"] = size })
        );

    /// <summary>What follows from a value, after some changes before it, and the value as it stands.</summary>
    private static async Task<(string? Value, RequestDetail Change)> FollowsAsync(World world, HrRow person, int earlier)
    {
        var about = await world.EventuallyAsync(
            () => world.GetAsync<PersonDetail>($"/api/v1/people/{person.Number}"),
            p => p.Requests.Count(r => r.Kind == "change") == earlier + 1
        );
        var id = about.Requests.First(r => r is { Kind: "change", State: not "completed" }).Id;
        return (about.Record.FirstOrDefault(a => a.Name == "suit")?.Value, await world.WaitForAsync(id, "deciding"));
    }

    [Fact]
    public async Task A_value_that_a_desk_gave_until_a_day_ends_with_what_it_came_with()
    {
        await using var world = await StartAsync(change: Suited, movesClock: true);
        var person = await PersonAsync(world);
        var until = DateTime.UtcNow.AddDays(20).ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture);
        var request = await SuitAsync(world, person, until);
        await World.OkAsync(DoneAsync(world, await OnlyTaskAsync(world), "52"));
        await world.WaitForAsync(request.Summary.Id, "completed");
        var (_, first) = await FollowsAsync(world, person, 0);
        await world.ThroughAsync(first.Summary.Id);

        // The change plans the same end once more, and yet it is one piece of work.
        world.MoveClock(TimeSpan.FromDays(22));
        var task = await OnlyTaskAsync(world);
        foreach (var asking in new[] { request.Summary.Id, first.Summary.Id })
            await world.EventuallyAsync(() => world.RequestAsync(asking), r => r.Tasks.Any(t => t.Id == task.Id && t.State == "open"));
        await World.OkAsync(DoneAsync(world, task, null));
        var (value, change) = await FollowsAsync(world, person, 1);
        Assert.True(string.IsNullOrEmpty(value));
        var attribute = change.Plan.SelectMany(c => c.Attributes).Single();
        Assert.Equal(("Suit 52", ""), (string.Join(",", attribute.Before), string.Join(",", attribute.After)));
        foreach (var asked in new[] { request.Summary.Id, first.Summary.Id })
            await world.EventuallyAsync(async () => (await world.RequestAsync(asked)).Steps, steps => steps.All(x => x.State != "pending"));
        Assert.Empty((await world.GetAsync<Page<TaskView>>("/api/v1/tasks")).Items);
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task What_two_requests_ask_a_desk_for_is_done_once_and_goes_on_when_one_of_them_is_taken_back(string engine)
    {
        await using var world = await StartAsync(engine, movesClock: true);
        var start = DateTime.UtcNow.AddDays(5).ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture);
        var row = HrRow.New() with { Department = "Research", Kind = "researcher", Start = start, End = "2034-09-30" };
        await world.BringAsync(row, "fulfilling");
        // Each correction before the first day plans that day once more.
        foreach (var title in new[] { "Researcher", "Senior researcher" })
        {
            world.WriteHr(row with { Title = title });
            var renewed = (await world.RunIntakeAsync()).Requests.Single();
            await world.ApproveAsync(await world.WaitForAsync(renewed.Id, "deciding"));
            await world.ReleaseAsync(await world.WaitForAsync(renewed.Id, "releasing"));
            await world.WaitForAsync(renewed.Id, "fulfilling");
        }
        var asking = (await world.GetAsync<PersonDetail>($"/api/v1/people/{row.Number}")).Requests.ToList();
        Assert.Equal(3, asking.Count);
        world.MoveClock(TimeSpan.FromDays(6));
        foreach (var one in asking)
            await world.EventuallyAsync(
                () => world.RequestAsync(one.Id),
                r => r.Tasks.Count == 1 && r.Summary.WaitsOn.StartsWith("work by hand", StringComparison.Ordinal)
            );
        var task = await OnlyTaskAsync(world);
        var otto = await world.SignInAsync("otto");
        await World.OkAsync(otto.PostAsJsonAsync($"/api/v1/tasks/{task.Id}/take", new { }));

        // What cannot be done is over for each of them, and open for each once it is opened again.
        await World.OkAsync(otto.PostAsJsonAsync($"/api/v1/tasks/{task.Id}/impossible", new ReasonBody("no suit of that size")));
        await world.EventuallyAsync(() => world.RequestAsync(task.RequestId), r => r.Summary.Problem is not null);
        foreach (var one in asking)
            Assert.Equal("impossible", (await world.RequestAsync(one.Id)).Tasks.Single().State);
        // The others say what they wait for.
        var stopped = asking.Single(a => a.Id == task.RequestId);
        foreach (var one in asking.Where(a => a.Id != task.RequestId))
        {
            var waits = await world.RequestAsync(one.Id);
            Assert.Equal($"request {stopped.Number}, which stopped", waits.Summary.WaitsOn);
            Assert.StartsWith($"Request {stopped.Number} stopped in the same account", waits.Story.Now, StringComparison.Ordinal);
        }
        await World.OkAsync(otto.PostAsync($"/api/v1/tasks/{task.Id}/reopen", null));
        foreach (var one in asking)
            await world.EventuallyAsync(
                () => world.RequestAsync(one.Id),
                r => r.Summary.Problem is null && r.Summary.WaitsOn.StartsWith("work by hand", StringComparison.Ordinal)
            );

        // Who is taken back drops it; the work stays with whom it was, for the others.
        var gone = asking.Single(a => a.Id == task.RequestId);
        await World.OkAsync(
            (await world.SignInAsync("edda")).PostAsJsonAsync($"/api/v1/requests/{gone.Id}/withdraw", new DeclineBody("a mistake"))
        );
        var passed = await OnlyTaskAsync(world);
        Assert.Equal(("otto", "open"), (passed.TakenBy, passed.State));
        Assert.NotEqual(task.Id, passed.Id);
        var left = asking.Where(a => a != gone).ToList();
        Assert.Contains(left, a => a.Id == passed.RequestId);
        var key = new TaskDoneBody(new Dictionary<string, string> { ["key-number"] = "RP-0417" }, passed.Checks, "handed over");
        await World.OkAsync(otto.PostAsJsonAsync($"/api/v1/tasks/{passed.Id}/done", key));
        foreach (var one in left)
            await world.WaitForAsync(one.Id, "completed");
        Assert.Empty((await world.GetAsync<Page<TaskView>>("/api/v1/tasks")).Items);
        Assert.True((await world.VerifyLedgerAsync()).Sound);
    }

    [Fact]
    public async Task A_value_that_a_desk_gives_stands_with_the_person_until_it_is_taken_back()
    {
        await using var world = await StartAsync(change: Suited);
        var person = await PersonAsync(world);
        var request = await SuitAsync(world, person);
        var task = await OnlyTaskAsync(world);
        Assert.Equal("suit", task.Fields.Single().Feeds);
        var refused = await World.RefusedAsync(DoneAsync(world, task, "large"));
        Assert.Equal((400, "'Size': 'large' is no whole number."), (refused.Status, refused.Detail));
        await World.OkAsync(DoneAsync(world, task, "52"));
        await world.WaitForAsync(request.Summary.Id, "completed");
        var (value, change) = await FollowsAsync(world, person, 0);
        Assert.Equal("52", value);
        Assert.Equal($"Facilities desk gave {person.Given} {person.Family} suit", change.Cause.Text);
        var attribute = change.Plan.SelectMany(c => c.Attributes).Single();
        Assert.Equal(("description", "Suit 52"), (attribute.Name, string.Join(",", attribute.After)));
        Assert.Equal("facilities", change.Summary.Source);
        await world.ThroughAsync(change.Summary.Id);

        // It goes with what it came with.
        await World.OkAsync(
            (await world.SignInAsync("mara")).PostAsJsonAsync(
                $"/api/v1/people/{change.Summary.PersonId}/access/end",
                new EndAccessBody("facilities/wet-suit", "left the boat")
            )
        );
        await World.OkAsync(DoneAsync(world, await OnlyTaskAsync(world), null));
        (value, change) = await FollowsAsync(world, person, 1);
        Assert.True(string.IsNullOrEmpty(value));
        Assert.Contains("took back", change.Cause.Text, StringComparison.Ordinal);
        attribute = change.Plan.SelectMany(c => c.Attributes).Single();
        Assert.Equal(("Suit 52", ""), (string.Join(",", attribute.Before), string.Join(",", attribute.After)));
        Assert.Empty((await world.GetAsync<Page<TaskView>>("/api/v1/tasks")).Items);
    }

    [Fact]
    public async Task Joiners_movers_leavers_and_passwords_are_raised_by_hand()
    {
        await using var world = await StartAsync();
        var ines = await world.SignInAsync("ines");
        var record = new Dictionary<string, string>
        {
            ["given"] = "Ria",
            ["family"] = "Petrelby",
            ["kind"] = "employee",
            ["start"] = "2026-11-02",
            ["site"] = "harbour",
            ["department"] = "Dive Team",
            ["title"] = "Diver",
            ["manager"] = "E9002",
        };
        Assert.Contains(
            "'department' is needed",
            (
                await World.RefusedAsync(
                    ines.PostAsJsonAsync(
                        "/api/v1/requests",
                        new NewRequest("joiner", Record: new Dictionary<string, string>(record) { ["department"] = "" })
                    )
                )
            ).Detail,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "no site of the rulebook. Did you mean 'harbour'?",
            (
                await World.RefusedAsync(
                    ines.PostAsJsonAsync(
                        "/api/v1/requests",
                        new NewRequest("joiner", Record: new Dictionary<string, string>(record) { ["site"] = "harbor" })
                    )
                )
            ).Detail,
            StringComparison.Ordinal
        );
        var preview = await (
            await World.OkAsync(ines.PostAsJsonAsync("/api/v1/requests/preview", new NewRequest("joiner", Record: record)))
        ).Content.ReadFromJsonAsync<RequestPreview>();
        Assert.Contains("Create the account ria.petrelby", preview!.Plan[0].Text, StringComparison.Ordinal);
        Assert.Equal(["dive-team", "everyone"], preview.Templates.Order());

        // The same call again under the same key raises nothing twice.
        using var first = new HttpRequestMessage(HttpMethod.Post, "/api/v1/requests")
        {
            Content = JsonContent.Create(new NewRequest("joiner", Reason: "new pool", Record: record)),
        };
        first.Headers.Add("Idempotency-Key", "petrel-1");
        using var second = new HttpRequestMessage(HttpMethod.Post, "/api/v1/requests")
        {
            Content = JsonContent.Create(new NewRequest("joiner", Reason: "new pool", Record: record)),
        };
        second.Headers.Add("Idempotency-Key", "petrel-1");
        var made = await (await World.OkAsync(ines.SendAsync(first))).Content.ReadFromJsonAsync<RequestDetail>();
        var again = await (await World.OkAsync(ines.SendAsync(second))).Content.ReadFromJsonAsync<RequestDetail>();
        Assert.Equal(made!.Summary.Id, again!.Summary.Id);

        var joiner = await world.WaitForAsync(made.Summary.Id, "deciding");
        await ApproveAsync(world, joiner, "mara");
        await world.ReleaseAsync(joiner);
        await world.WaitForAsync(made.Summary.Id, "completed");
        var number = joiner.Summary.PersonNumber;

        var mover = await world.WaitForAsync(
            (await RaiseAsync(world, new("mover", number, "promoted", new Dictionary<string, string> { ["title"] = "Lead diver" })))
                .Summary
                .Id,
            "deciding"
        );
        Assert.Contains(
            "is open; change or withdraw that one",
            (
                await World.RefusedAsync(
                    ines.PostAsJsonAsync("/api/v1/requests", new NewRequest("leaver", number, LastDay: new(2026, 12, 31)))
                )
            ).Detail,
            StringComparison.Ordinal
        );
        Assert.Equal("Diver", (await world.GetAsync<PersonDetail>($"/api/v1/people/{number}")).Title);

        // The manager may change the title, and nothing else.
        Assert.Equal(
            (403, "not-yours"),
            Short(
                await RefusedAsync(
                    world,
                    mover,
                    "change",
                    new ChangeBody(mover.PlanDigest!, new Dictionary<string, string> { ["department"] = "Research" }),
                    "mara"
                )
            )
        );
        await DoAsync(
            world,
            mover,
            "change",
            new ChangeBody(mover.PlanDigest!, new Dictionary<string, string> { ["title"] = "Master diver" }),
            "mara"
        );
        mover = await world.WaitForAsync(mover.Summary.Id, "deciding");
        Assert.Equal(["Master diver"], mover.Plan[0].Attributes.Single(a => a.Name == "title").After);
        mover = await ApproveAsync(world, mover, "mara");
        // The operator holds it, lets it go on, sends it back once.
        mover = await DoAsync(world, mover, "hold", new ReasonBody("directory is moved tonight"), "otto");
        Assert.Equal((409, "held"), Short(await RefusedAsync(world, mover, "release", new ReleaseBody(mover.PlanDigest!), "otto")));
        mover = await DoAsync(world, mover, "resume", new ReasonBody(null), "otto");
        mover = await DoAsync(world, mover, "return", new ReasonBody("wrong title?"), "otto");
        Assert.Equal("deciding", mover.Summary.State);
        mover = await ApproveAsync(world, mover, "mara");
        await world.ReleaseAsync(mover);
        await world.WaitForAsync(mover.Summary.Id, "completed");
        Assert.Equal("Master diver", (await world.GetAsync<PersonDetail>($"/api/v1/people/{number}")).Title);

        var password = await world.WaitForAsync((await RaiseAsync(world, new("password", number, "forgotten"))).Summary.Id, "deciding");
        Assert.Equal(["set-password", "verify"], password.Plan.Select(c => c.Kind));
        await ApproveAsync(world, password, "mara");
        await world.WaitForAsync(password.Summary.Id, "completed");
        var unlock = await world.WaitForAsync((await RaiseAsync(world, new("unlock", number, "locked out"))).Summary.Id, "deciding");
        await ApproveAsync(world, unlock, "mara");
        await world.WaitForAsync(unlock.Summary.Id, "completed");
        var field = await world.WaitForAsync(
            (await RaiseAsync(world, new("account", number, "seals", Template: "field-work", Until: "2034-01-31"))).Summary.Id,
            "deciding"
        );
        Assert.Equal(["directory/site-saltmarsh", "facilities/wet-suit"], field.Items.Select(i => i.Key));
        await DoAsync(world, field, "withdraw", new ReasonBody("not this winter"), "ines");
        Assert.Equal("withdrawn", (await world.RequestAsync(field.Summary.Id)).Summary.State);

        // Urgent: only the operator is waited for, and the account is shut at once.
        var urgent = await world.WaitForAsync(
            (await RaiseAsync(world, new("leaver", number, "theft", Urgent: true))).Summary.Id,
            "releasing"
        );
        Assert.Equal(("urgent-leaver", "disable-account"), (urgent.Workflow, urgent.Plan[0].Kind));
        await world.ReleaseAsync(urgent);
        var out_ = await world.WaitForAsync(urgent.Summary.Id, "completed");
        Assert.Equal(["Closed off", "Wound down"], out_.Milestones.Where(m => m.Reached).Select(m => m.Title));
        Assert.False((await world.GetAsync<PersonDetail>($"/api/v1/people/{number}")).Accounts.Single().Enabled);
    }

    [Fact]
    public async Task Many_are_decided_at_once_and_many_are_raised_from_a_file()
    {
        await using var world = await StartAsync();
        var rows = Enumerable.Range(0, 4).Select(_ => HrRow.New()).ToList();
        world.WriteHr(rows);
        var raised = await world.RunIntakeAsync();
        foreach (var r in raised.Requests)
            await world.WaitForAsync(r.Id, "deciding");
        var inbox = await world.GetAsync<Page<RequestSummary>>("/api/v1/inbox", "mara");
        Assert.All(inbox.Items, r => Assert.True(r.PlanDigest is not null && r.Effect!.StartsWith("makes ", StringComparison.Ordinal)));
        var mara = await world.SignInAsync("mara");
        var effect = await (
            await World.OkAsync(mara.PostAsJsonAsync("/api/v1/requests/joint-effect", new IdsBody([.. inbox.Items.Select(i => i.Id)])))
        ).Content.ReadFromJsonAsync<JointEffect>();
        Assert.Equal((4, 4, 4, 3), (effect!.Requests, effect.People, effect.AccountsMade, effect.ByEntitlement.Count));
        Assert.All(effect.ByEntitlement, t => Assert.Equal(4, t.Gained));
        var bound = effect.Items.Select((i, n) => new Bound(i.Id, n == 0 ? "stale" : i.PlanDigest)).ToList();
        var answer = await (
            await World.OkAsync(mara.PostAsJsonAsync("/api/v1/requests/approve-many", new ManyBody(bound)))
        ).Content.ReadFromJsonAsync<ManyAnswer>();
        Assert.Equal((3, 1), (answer!.Done, answer.Refused));
        Assert.Contains("not the one you were shown", answer.Items[0].Problem, StringComparison.Ordinal);
        var ready = (await world.GetAsync<Page<RequestSummary>>("/api/v1/requests?state=releasing")).Items;
        var released = await (
            await World.OkAsync(
                (await world.SignInAsync("otto")).PostAsJsonAsync(
                    "/api/v1/requests/release-many",
                    new ManyBody([
                        .. ready.Select(r => new Bound(
                            r.Id,
                            answer.Items.Single(i => i.Id == r.Id).Done ? effect.Items.Single(i => i.Id == r.Id).PlanDigest : ""
                        )),
                    ])
                )
            )
        ).Content.ReadFromJsonAsync<ManyAnswer>();
        Assert.Equal(3, released!.Done);
        foreach (var r in ready)
            await world.WaitForAsync(r.Id, "completed");

        var csv =
            $"kind,person,entitlement,until,reason\naccess,{ready[0].PersonNumber},directory/payments,2034-01-31,month "
            + $"end\naccess,{ready[1].PersonNumber},directory/paymets,2034-01-31,month "
            + $"end\naccess,E000,directory/payments,2034-01-31,\"month\nend\"\nleaver,{ready[2].PersonNumber},,,moves\n";
        var ines = await world.SignInAsync("ines");
        var dry = await (
            await World.OkAsync(ines.PostAsJsonAsync("/api/v1/requests/bulk", new BulkBody(csv, true)))
        ).Content.ReadFromJsonAsync<BulkAnswer>();
        Assert.Equal((4, 1, 0), (dry!.Rows, dry.Sound, dry.Raised));
        Assert.Contains("Did you mean 'directory/payments'?", dry.Items[1].Message, StringComparison.Ordinal);
        Assert.Equal([2, 3, 4, 6], dry.Items.Select(i => i.Line));
        // What is asked for is told with its days; what stands twice in the file names the row before it, also in a look.
        Assert.Contains("until 2034-01-31", dry.Items[0].Message, StringComparison.Ordinal);
        var twice = $"{csv}access,{ready[0].PersonNumber},directory/payments,2034-02-28,once more\n";
        var double_ = await (
            await World.OkAsync(ines.PostAsJsonAsync("/api/v1/requests/bulk", new BulkBody(twice, true)))
        ).Content.ReadFromJsonAsync<BulkAnswer>();
        Assert.Equal((5, 1), (double_!.Rows, double_.Sound));
        Assert.Equal("Row 2 of this file asks for directory/payments already.", double_.Items[^1].Message);
        var real = await (
            await World.OkAsync(ines.PostAsJsonAsync("/api/v1/requests/bulk", new BulkBody(csv)))
        ).Content.ReadFromJsonAsync<BulkAnswer>();
        Assert.Equal(1, real!.Raised);
        Assert.Contains(
            "has no meaning",
            (await World.RefusedAsync(ines.PostAsJsonAsync("/api/v1/requests/bulk", new BulkBody("kind,persn\nleaver,E1\n")))).Detail,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task A_decision_during_a_new_plan_is_refused_and_a_new_record_goes_back_to_whom_it_touches()
    {
        await using var world = await StartAsync();
        var row = HrRow.New();
        var request = await world.BringAsync(row, "releasing");
        world.WriteHr(row with { Title = "Lead diver" });
        await world.RunIntakeAsync();
        Assert.Equal(409, (await RefusedAsync(world, request, "release", new ReleaseBody(request.PlanDigest!), "otto")).Status);
        var again = await world.WaitForAsync(request.Summary.Id, "deciding");
        Assert.Equal("changed", again.Items.Single(i => i.Key == "directory").Mark);
        Assert.Contains(again.Decisions, d => d is { Verdict: "approved", Counts: false });
        await ApproveAsync(world, again, "mara");
        await world.ReleaseAsync(again);
        await world.WaitForAsync(request.Summary.Id, "completed");
    }

    [Fact]
    public async Task Roles_reach_only_their_part_of_the_organisation()
    {
        await using var world = await StartAsync();
        var edda = await world.SignInAsync("edda");
        Assert.Contains(
            "is no site",
            (
                await World.RefusedAsync(
                    edda.PutAsJsonAsync(
                        "/api/v1/users/otto",
                        new UserBody(
                            "Otto",
                            "otto@northmere.example",
                            ["operator"],
                            null,
                            true,
                            new Dictionary<string, ReachBody> { ["operator"] = new(["reefpint"]) }
                        )
                    )
                )
            ).Detail,
            StringComparison.Ordinal
        );
        foreach (var (name, role) in new[] { ("far", "operator"), ("away", "requester") })
            await world.SaveUserAsync(
                name,
                (
                    new UserBody(
                        name,
                        $"{name}@northmere.example",
                        [role],
                        null,
                        true,
                        new Dictionary<string, ReachBody> { [role] = new(["reefpoint"]) }
                    )
                )
            );
        var (near, reef) = (HrRow.New(), HrRow.New() with { Site = "reefpoint" });
        world.WriteHr(near, reef);
        var raised = (await world.RunIntakeAsync()).Requests;
        foreach (var r in raised)
        {
            var request = await world.WaitForAsync(r.Id, "deciding");
            await world.ApproveAsync(request);
        }
        Assert.Equal(
            [reef.Number],
            (await world.GetAsync<Page<RequestSummary>>("/api/v1/requests", "far")).Items.Select(r => r.PersonNumber)
        );
        Assert.Equal([reef.Number], (await world.GetAsync<Page<RequestSummary>>("/api/v1/inbox", "far")).Items.Select(r => r.PersonNumber));
        Assert.Equal([reef.Number], (await world.GetAsync<Page<PersonSummary>>("/api/v1/people", "far")).Items.Select(p => p.Number));
        var hidden = raised.Single(r => r.Number == near.Number);
        Assert.Equal(404, (int)(await (await world.SignInAsync("far")).GetAsync($"/api/v1/requests/{hidden.Id}")).StatusCode);
        Assert.Equal(404, (int)(await (await world.SignInAsync("far")).GetAsync($"/api/v1/people/{near.Number}")).StatusCode);
        var digest = (await world.RequestAsync(hidden.Id)).PlanDigest!;
        Assert.Equal(
            404,
            (
                await World.RefusedAsync(
                    (await world.SignInAsync("far")).PostAsJsonAsync($"/api/v1/requests/{hidden.Id}/release", new ReleaseBody(digest))
                )
            ).Status
        );
        Assert.Equal(
            (403, "out-of-reach"),
            Short(
                await World.RefusedAsync(
                    (await world.SignInAsync("away")).PostAsJsonAsync(
                        "/api/v1/requests",
                        new NewRequest("leaver", near.Number, LastDay: new(2026, 12, 31))
                    )
                )
            )
        );
        await World.OkAsync(
            (await world.SignInAsync("far")).PostAsJsonAsync(
                $"/api/v1/requests/{raised.Single(r => r.Number == reef.Number).Id}/release",
                new ReleaseBody((await world.RequestAsync(raised.Single(r => r.Number == reef.Number).Id)).PlanDigest!)
            )
        );
    }

    private static (int, string) Short((int Status, string Code, string Detail) refused) => (refused.Status, refused.Code);

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task A_file_is_decided_row_by_row_or_as_a_whole(string engine)
    {
        await using var world = await StartAsync(engine);
        var (one, two) = (await PersonAsync(world), await PersonAsync(world));
        var ines = await world.SignInAsync("ines");
        var mara = await world.SignInAsync("mara");
        async Task<BulkAnswer> SendAsync(string csv) =>
            (
                await (
                    await World.OkAsync(ines.PostAsJsonAsync("/api/v1/requests/bulk", new BulkBody(csv, null, "audit", true)))
                ).Content.ReadFromJsonAsync<BulkAnswer>()
            )!;
        string Csv(string last) =>
            $"kind,person,entitlement,until\naccess,{one.Number},directory/payments,2034-01-31\naccess,"
            + $"{last},directory/payments,2034-01-31\n";

        // One row that is not sound: nothing of the file is raised.
        var refused = await SendAsync(Csv("E0"));
        Assert.Equal((2, 1, 0), (refused.Rows, refused.Sound, refused.Raised));
        Assert.StartsWith("Sound, and not raised", refused.Items[0].Message, StringComparison.Ordinal);
        // A row that stands twice names the other row, and no request that there is not.
        var twice = await SendAsync(Csv(one.Number));
        Assert.Equal((2, 1, 0), (twice.Rows, twice.Sound, twice.Raised));
        Assert.StartsWith("Row 2 of this file", twice.Items[1].Message, StringComparison.Ordinal);
        Assert.Empty((await world.GetAsync<Page<RequestSummary>>("/api/v1/requests?kind=access")).Items);

        var raised = await SendAsync(Csv(two.Number));
        Assert.Equal(2, raised.Raised);
        var requests = new List<RequestDetail>();
        foreach (var row in raised.Items)
            requests.Add(await world.WaitForAsync(row.Id!, "deciding"));
        Assert.Single(requests.Select(r => r.Summary.Batch).Distinct());
        Assert.Equal(
            (409, "whole-file"),
            Short(await RefusedAsync(world, requests[0], "approve", new ApproveBody(requests[0].PlanDigest!, null), "mara"))
        );

        // One of them alone, or one whose plan is another: neither is approved.
        async Task<ManyAnswer> ApproveAllAsync(params Bound[] bound) =>
            (
                await (
                    await World.OkAsync(mara.PostAsJsonAsync("/api/v1/requests/approve-many", new ManyBody(bound)))
                ).Content.ReadFromJsonAsync<ManyAnswer>()
            )!;
        var (first, second) = (
            new Bound(requests[0].Summary.Id, requests[0].PlanDigest!),
            new Bound(requests[1].Summary.Id, requests[1].PlanDigest!)
        );
        Assert.Equal((0, 1), ((await ApproveAllAsync(first)).Done, (await ApproveAllAsync(first)).Refused));
        Assert.Equal(
            (0, 2),
            (
                (await ApproveAllAsync(first, second with { PlanDigest = "other" })).Done,
                (await ApproveAllAsync(first, second with { PlanDigest = "other" })).Refused
            )
        );
        Assert.Equal("Line manager", (await world.RequestAsync(first.Id)).Summary.Stage);
        Assert.Equal(2, (await ApproveAllAsync(first, second)).Done);

        // The owner says no to one: that is no to the file.
        var owner = await world.RequestAsync(first.Id, "tomas");
        Assert.Equal("Owner", owner.Summary.Stage);
        await DoAsync(world, owner, "decline", new DeclineBody("not this year"), "tomas");
        foreach (var bound in new[] { first, second })
            await world.WaitForAsync(bound.Id, "declined");
        Assert.True((await world.VerifyLedgerAsync()).Sound);
    }

    [Fact]
    public async Task A_role_limited_to_a_target_acts_on_nothing_that_touches_another()
    {
        await using var world = await StartAsync();
        var edda = await world.SignInAsync("edda");
        await world.SaveUserAsync(
            "fay",
            (
                new UserBody(
                    "Fay",
                    "fay@northmere.example",
                    ["operator"],
                    null,
                    true,
                    new Dictionary<string, ReachBody> { ["operator"] = new(Targets: ["facilities"]) }
                )
            )
        );
        var row = HrRow.New();
        world.WriteHr([row]);
        await world.RunIntakeAsync();
        var request = await world.WaitForAsync(
            (await world.GetAsync<Page<RequestSummary>>($"/api/v1/requests?text={row.Family}")).Items.Single().Id,
            "deciding"
        );
        request = await ApproveAsync(world, request, "mara");
        Assert.Equal("releasing", request.Summary.State);
        Assert.Equal(403, (await RefusedAsync(world, request, "release", new ReleaseBody(request.PlanDigest!), "fay")).Status);
        Assert.Equal(
            (403, "out-of-reach"),
            Short(await World.RefusedAsync((await world.SignInAsync("fay")).PostAsJsonAsync("/api/v1/targets/directory/check", new { })))
        );
        await world.ReleaseAsync(request);
        await world.WaitForAsync(request.Summary.Id, "completed");
        Assert.Equal((403, "out-of-reach"), Short(await RefusedAsync(world, request, "retry", new { }, "fay")));
        await DoAsync(world, request, "retry", new { }, "otto");
    }

    [Fact]
    public async Task An_approver_changes_the_templates_only_where_the_workflow_says_so()
    {
        await using var world = await StartAsync(
            change: (path, text) =>
                path == "workflows/access.yaml"
                    ? text.Replace("may-change: [until]", "may-change: [until, templates]", StringComparison.Ordinal)
                    : text
        );
        var person = await PersonAsync(world);
        var request = await world.WaitForAsync(
            (await RaiseAsync(world, new("access", person.Number, "month end", Grants: [new("directory/payments", null, "2034-01-31")])))
                .Summary
                .Id,
            "deciding"
        );
        Assert.Contains("templates", (await world.RequestAsync(request.Summary.Id, "mara")).Rights.Change!);
        Assert.Equal(
            400,
            (await RefusedAsync(world, request, "change", new ChangeBody(request.PlanDigest!, Templates: ["field-werk"]), "mara")).Status
        );
        Assert.Equal(
            400,
            (await RefusedAsync(world, request, "change", new ChangeBody(request.PlanDigest!, Templates: ["everyone"]), "mara")).Status
        );
        Assert.Equal(
            403,
            (await RefusedAsync(world, request, "change", new ChangeBody(request.PlanDigest!, Templates: ["field-work"]), "tomas")).Status
        );
        await DoAsync(world, request, "change", new ChangeBody(request.PlanDigest!, Templates: ["field-work"]), "mara");
        var after = await world.EventuallyAsync(
            () => world.RequestAsync(request.Summary.Id),
            r => r.Summary.State == "deciding" && r.PlanDigest != request.PlanDigest
        );
        Assert.Equal(["field-work"], after.Wish.Templates);
        Assert.True(after.Plan.Count > request.Plan.Count);
        await DoAsync(world, after, "change", new ChangeBody(after.PlanDigest!, Templates: []), "mara");
        var back = await world.EventuallyAsync(
            () => world.RequestAsync(request.Summary.Id),
            r => r.Summary.State == "deciding" && r.Plan.Count == request.Plan.Count
        );
        Assert.Empty(back.Wish.Templates);
    }

    [Fact]
    public async Task The_history_of_a_person_tells_who_did_what_before_and_after()
    {
        await using var world = await StartAsync();
        var person = await PersonAsync(world);
        var change = await world.WaitForAsync(
            (
                await RaiseAsync(
                    world,
                    new("change", person.Number, "typing error", Record: new Dictionary<string, string> { ["title"] = "Chief diver" })
                )
            )
                .Summary
                .Id,
            "deciding"
        );
        change = await ApproveAsync(world, change, "mara");
        await world.ReleaseAsync(change);
        // Nothing is added any more while pages of it are read.
        await world.WaitForAsync(change.Summary.Id, "completed");
        var row = (await world.GetAsync<Page<PersonSummary>>($"/api/v1/people?text={person.Number}")).Items.Single();
        var history = await world.EventuallyAsync(
            () => world.GetAsync<Page<HistoryLine>>($"/api/v1/people/{person.Number}/history"),
            h => h.Items.Any(l => l.What == "person.changed")
        );
        var line = history.Items.First(l => l.What == "person.changed");
        Assert.Equal(("ines", change.Summary.Number), (line.Actor, line.RequestNumber));
        Assert.Contains(line.Changes, c => c.Name == "title" && c.Before.Single() == "Diver" && c.After.Single() == "Chief diver");
        var first = (await world.GetAsync<Page<HistoryLine>>($"/api/v1/people/{row.Id}/history?limit=1")).Next;
        Assert.NotEqual(
            history.Items[0].Entry,
            (await world.GetAsync<Page<HistoryLine>>($"/api/v1/people/{row.Id}/history?limit=1&after={first}")).Items.Single().Entry
        );
        var csv = await (
            await World.OkAsync((await world.SignInAsync("aldo")).GetAsync($"/api/v1/people/{row.Id}/history/export"))
        ).Content.ReadAsStringAsync();
        Assert.Contains("title,Diver,Chief diver", csv, StringComparison.Ordinal);
        Assert.NotEmpty((await world.GetAsync<Page<HistoryLine>>($"/api/v1/requests/{change.Summary.Number}/history")).Items);
    }

    [Fact]
    public async Task Failures_go_once_to_the_mailbox_of_the_role_and_to_each_inbox()
    {
        await using var world = await StartAsync(
            change: (path, text) =>
                path == "rulebook.yaml"
                    ? text.Replace("mailboxes:", "mailboxes:\n  operator: desk@northmere.example", StringComparison.Ordinal)
                    : text
        );
        var person = await PersonAsync(world);
        // Work by hand is for the operators: one mail to their mailbox, a notice for each.
        var request = await world.WaitForAsync(
            (await RaiseAsync(world, new("access", person.Number, "boat", Grants: [new("facilities/wet-suit", null, "2034-01-31")])))
                .Summary
                .Id,
            "deciding"
        );
        for (var i = 0; i < 4 && request.Summary.State == "deciding"; i++)
            foreach (var who in new[] { "mara", "tomas", "silas" })
                if ((request = await world.RequestAsync(request.Summary.Id, who)).Rights.Approve)
                    request = await ApproveAsync(world, request, who);
        var mail = await world.EventuallyAsync(
            () =>
                Task.FromResult(
                    world
                        .Mail!.Mails.Where(m => m.To == "desk@northmere.example")
                        .Where(m => m.Subject.StartsWith("Work to do", StringComparison.Ordinal))
                        .ToList()
                ),
            m => m.Count > 0
        );
        Assert.Single(mail);
        Assert.DoesNotContain(world.Mail!.Mails, m => m.To == "otto@northmere.example");
        Assert.Contains(
            (await world.GetAsync<Page<NoticeView>>("/api/v1/notices", "otto")).Items,
            n => n.Event == "task" && n.MailState == "none"
        );
    }

    [Fact]
    public async Task The_schema_of_a_kind_says_what_the_service_takes()
    {
        await using var world = await StartAsync();
        var ines = await world.SignInAsync("ines");
        (string Kind, string Body, bool Valid)[] cases =
        [
            (
                "access",
                """{ "kind": "access", "person": "E1", "reason": "x", "grants": [ { "entitlement": "directory/payments" } ] }""",
                true
            ),
            (
                "access",
                """{ "kind": "access", "person": "E1", "reason": "x", "grants": [ { "entitlement": "directory/system-admins" } ] }""",
                false
            ),
            (
                "access",
                """{ "kind": "access", "person": "E1", "reason": "x", "grants": [ { "entitlement": "directory/nothing" } ] }""",
                false
            ),
            (
                "joiner",
                """{ "kind": "joiner", "record": { "given": "Ria", "family": "Auk", "kind": "employee", "start": "2034-01-04", "site": "harbour", "department": "Research", "title": "Diver" } }""",
                true
            ),
            (
                "joiner",
                """{ "kind": "joiner", "record": { "given": "Ria", "family": "Auk", "kind": "employee", "start": "4 January", "site": "harbour", "department": "Research", "title": "Diver" } }""",
                false
            ),
            ("leaver", """{ "kind": "leaver", "person": "E1", "lastDay": "2034-01-04" }""", true),
            ("leaver", """{ "kind": "leaver", "person": "E1" }""", false),
            ("extension", """{ "kind": "extension", "person": "E1", "reason": "x", "record": { "end": "2034-03-31" } }""", true),
            ("password", """{ "kind": "password", "person": "E1", "colour": "red" }""", false),
            ("account", """{ "kind": "account", "person": "E1", "reason": "x", "template": "field-work" }""", true),
        ];
        foreach (var (kind, body, valid) in cases)
        {
            var schema = Json.Schema.JsonSchema.FromText(
                await (await World.OkAsync(ines.GetAsync($"/api/v1/requests/schemas/{kind}"))).Content.ReadAsStringAsync()
            );
            Assert.True(valid == schema.Evaluate(System.Text.Json.JsonDocument.Parse(body).RootElement).IsValid, body);
        }
        Assert.Equal(404, (await World.RefusedAsync(ines.GetAsync("/api/v1/requests/schemas/promotion"))).Status);
    }
}
