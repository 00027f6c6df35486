using System.Net.Http.Json;
using Microsoft.Data.Sqlite;
using Oikonom.Contracts;
using Oikonom.Ldap;
using Oikonom.Testing;
using Xunit;
using static Oikonom.Service.Tests.ApprovalTests;

namespace Oikonom.Service.Tests;

/// <summary>What is promised of approvals: nobody gives themselves access, under any name, by any detour.</summary>
public sealed class TrustApprovalTests(Servers servers)
{
    private async Task<World> StartAsync(Func<string, string, string>? change = null, bool movesClock = false)
    {
        var world = await World.StartAsync(servers.Directory, new() { MovesClock = movesClock });
        await PublishAsync(world, change);
        return world;
    }

    internal static async Task PublishAsync(World world, Func<string, string, string>? change = null) =>
        await World.OkAsync(
            (await world.SignInAsync("edda")).PostAsJsonAsync(
                "/api/v1/rulebook/editions",
                new RulebookBody(world.Rulebook((path, text) => change is null ? Mapped(path, text) : change(path, Mapped(path, text))))
            )
        );

    /// <summary>One number out of the store of a world.</summary>
    internal static async Task<long> NumberAsync(World world, string sql)
    {
        await using var store = new SqliteConnection($"Data Source={world.DataFolder}/oikonom.db;Pooling=False;Default Timeout=30");
        await store.OpenAsync();
        await using var command = store.CreateCommand();
        command.CommandText = sql;
        return Convert.ToInt64(await command.ExecuteScalarAsync(), System.Globalization.CultureInfo.InvariantCulture);
    }

    internal static async Task SqlAsync(World world, string sql)
    {
        await using var store = new SqliteConnection($"Data Source={world.DataFolder}/oikonom.db;Pooling=False;Default Timeout=30");
        await store.OpenAsync();
        await using var command = store.CreateCommand();
        command.CommandText = sql;
        await command.ExecuteNonQueryAsync();
    }

    private static Task<PersonDetail> SeenAsync(World world, HrRow person) =>
        world.GetAsync<PersonDetail>($"/api/v1/people/{person.Number}", "edda");

    private static string Of(PersonDetail person, string attribute) => person.Record.FirstOrDefault(r => r.Name == attribute)?.Value ?? "";

    [Fact]
    public async Task An_input_is_approved_also_when_no_target_changes_and_nobody_skips_a_stage_for_themselves()
    {
        await using var world = await StartAsync();
        // Ines is a person with a manager; she asks for herself.
        var ines = await PersonAsync(world, HrRow.New("Ines") with { Number = "E9001", Manager = "E9002" });
        var own = await RaiseAsync(
            world,
            new("change", ines.Number, "a new line", new Dictionary<string, string> { ["manager"] = "E9001" })
        );
        own = await world.WaitForAsync(own.Summary.Id, "deciding");
        Assert.Equal(("mara", 0), (own.Summary.WaitsOn, own.Plan.Count));
        Assert.Equal("E9002", Of(await SeenAsync(world, ines), "manager"));
        // What is approved is the wish that was shown: another wish is another digest, also with the same empty plan.
        var stale = own.PlanDigest!;
        await DoAsync(
            world,
            own,
            "change",
            new ChangeBody(stale, Record: new Dictionary<string, string> { ["manager"] = "E9003" }),
            "ines"
        );
        own = await world.WaitForAsync(own.Summary.Id, "deciding");
        Assert.NotEqual(stale, own.PlanDigest);
        Assert.Equal("plan-changed", (await RefusedAsync(world, own, "approve", new ApproveBody(stale, null), "mara")).Code);

        // Once it is approved she is her own manager: that skips no stage for herself, and leaves nobody but others to decide.
        await DoAsync(
            world,
            own,
            "change",
            new ChangeBody(own.PlanDigest!, Record: new Dictionary<string, string> { ["manager"] = "E9001" }),
            "ines"
        );
        own = await world.WaitForAsync(own.Summary.Id, "deciding");
        await world.ApproveAsync(own);
        await world.ReleaseAsync(await world.RequestAsync(own.Summary.Id));
        var done = await world.WaitForAsync(own.Summary.Id, "completed");
        Assert.Contains("recorded", done.Story.Now, StringComparison.Ordinal);
        Assert.Equal("E9001", Of(await SeenAsync(world, ines), "manager"));
        var payments = await RaiseAsync(world, new("access", ines.Number, "month end", Grants: [new("directory/payments")]));
        payments = await world.WaitForAsync(payments.Summary.Id, "deciding");
        Assert.Equal("now", payments.Stages[0].State);
        Assert.DoesNotContain("ines", payments.Stages[0].Users);
        Assert.Equal(
            "own-request",
            (await RefusedAsync(world, payments, "approve", new ApproveBody(payments.PlanDigest!, null), "ines")).Code
        );
    }

    [Fact]
    public async Task Asking_for_what_a_template_gives_is_decided_by_the_owner_and_written_only_then()
    {
        await using var world = await StartAsync();
        var person = await PersonAsync(world);
        var asked = await RaiseAsync(world, new("access", person.Number, "to be sure", Grants: [new("directory/dive-team")]));
        asked = await world.WaitForAsync(asked.Summary.Id, "deciding");
        Assert.Equal(("directory/dive-team", 0), (asked.Items.Single().Key, asked.Plan.Count));
        await ApproveAsync(world, asked, "mara");
        asked = await world.RequestAsync(asked.Summary.Id);
        // The owner decides on the item, although nothing in the directory would change.
        Assert.Equal(("deciding", "tomas"), (asked.Summary.State, asked.Summary.WaitsOn));
        await DoAsync(world, asked, "decline", new DeclineBody("has it already"), "tomas");
        Assert.DoesNotContain(
            (await world.GetAsync<Page<LedgerEntryView>>("/api/v1/ledger?kind=person.changed", "aldo")).Items,
            e => e.RequestId == asked.Summary.Id
        );
        Assert.DoesNotContain((await SeenAsync(world, person)).Grants, g => g.Reason.Rule == "request");
    }

    [Fact]
    public async Task A_stage_that_is_skipped_is_on_the_record()
    {
        await using var world = await StartAsync();
        await world.SaveUserAsync("boss", new("Boss", "boss@northmere.example", ["requester"], "E9777", true));
        var person = HrRow.New() with { Manager = "E9777" };
        world.WriteHr(person);
        var joiner = (await world.RunIntakeAsync()).Requests.Single();
        var waits = await world.WaitForAsync(joiner.Id!, "deciding");
        await world.ApproveAsync(waits);
        await world.ReleaseAsync(await world.RequestAsync(joiner.Id!));
        await world.WaitForAsync(joiner.Id!, "completed");
        var asked = await RaiseAsync(
            world,
            new("access", person.Number, "x", Grants: [new("directory/payments", null, "2034-06-30")]),
            "boss"
        );
        asked = await world.WaitForAsync(asked.Summary.Id, "deciding");
        Assert.Equal("skipped", asked.Stages[0].State);
        await ApproveAsync(world, asked, "tomas");
        await world.WaitForAsync(asked.Summary.Id, "completed");
        var entry = (
            await world.GetAsync<Page<LedgerEntryView>>($"/api/v1/ledger?request={asked.Summary.Id}&kind=request.stage-skipped", "aldo")
        ).Items.Single();
        Assert.Equal(
            ("Line manager", "the line manager raised the request"),
            (entry.Body.GetProperty("stage").GetString(), entry.Body.GetProperty("why").GetString())
        );
        Assert.Contains((await world.RequestAsync(asked.Summary.Id)).Decisions, d => d.Verdict == "skipped");
    }

    [Fact]
    public async Task Who_decides_is_found_from_what_is_recorded_not_from_what_is_asked()
    {
        await using var world = await StartAsync(
            (path, text) =>
                path == "workflows/staff.yaml"
                    ? text.Replace("    in-part: yes", "    in-part: yes\n    when: kind == \"employee\"", StringComparison.Ordinal)
                    : text
        );
        var person = await PersonAsync(world);
        foreach (
            var record in new Dictionary<string, string>[]
            {
                new() { ["title"] = "Senior diver" },
                new() { ["title"] = "Senior diver", ["manager"] = "E9003" },
                // The stage asks for employees: who would be none any more does not change their way past it.
                new() { ["title"] = "Senior diver", ["kind"] = "contractor" },
            }
        )
        {
            var asked = await RaiseAsync(world, new("change", person.Number, "x", record));
            asked = await world.WaitForAsync(asked.Summary.Id, "deciding");
            Assert.Equal("mara", asked.Summary.WaitsOn);
            await DoAsync(world, asked, "withdraw", new ReasonBody("next"), "ines");
        }
    }

    [Fact]
    public async Task A_quorum_never_falls_by_itself()
    {
        string Office(string path, string text) =>
            path == "rulebook.yaml" ? text.Replace("[E9002, E9003, E9004]", "[E9101, E9102, E9103]", StringComparison.Ordinal) : text;
        await using var world = await StartAsync(Office);
        // Of the office of three, one is the beneficiary, and one may not sign in.
        foreach (var (name, number) in new[] { ("ann", "E9101"), ("bo", "E9102"), ("cy", "E9103") })
            await world.SaveUserAsync(name, new(name, $"{name}@northmere.example", ["approver"], number, true));
        await world.SaveUserAsync("bo", new("bo", "bo@northmere.example", ["approver"], "E9102", false));
        var ann = await PersonAsync(world, HrRow.New("Ann") with { Number = "E9101" });
        var until = DateTime.UtcNow.AddDays(20).ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture);
        var asked = await RaiseAsync(world, new("access", ann.Number, "an outage", Grants: [new("directory/system-admins", null, until)]));
        asked = await world.WaitForAsync(asked.Summary.Id, "deciding");
        await ApproveAsync(world, asked, "mara");
        asked = await world.RequestAsync(asked.Summary.Id);
        var office = asked.Stages.Single(s => s.Name == "data-office");
        Assert.Equal(2, office.Needed);
        Assert.Contains("cy", office.Users);
        Assert.DoesNotContain("ann", office.Users);
        Assert.DoesNotContain("bo", office.Users);
        // Two who only fill up are not enough without the one of the office who can.
        await ApproveAsync(world, asked, "tomas");
        asked = await ApproveAsync(world, await world.RequestAsync(asked.Summary.Id), "mara");
        Assert.Equal("deciding", asked.Summary.State);
        asked = await ApproveAsync(world, await world.RequestAsync(asked.Summary.Id), "cy");
        Assert.Equal("releasing", asked.Summary.State);

        // Where nobody fills up, it says so and waits, and goes on when more can decide.
        await PublishAsync(
            world,
            (path, text) =>
                path == "workflows/powerful-access.yaml"
                    ? text.Replace(
                        "    decides: group:data-office\n    otherwise: role:approver",
                        "    decides: group:data-office\n    otherwise: group:data-office",
                        StringComparison.Ordinal
                    )
                    : Office(path, text)
        );
        asked = await world.WaitForAsync(asked.Summary.Id, "deciding");
        asked = asked.Stages.First(s => s.State == "now").Name == "manager" ? await ApproveAsync(world, asked, "mara") : asked;
        Assert.Contains("2 different people must approve, and only 1 can", asked.Story.Now, StringComparison.Ordinal);
        await world.SaveUserAsync("bo", new("bo", "bo@northmere.example", ["approver"], "E9102", true));
        await world.EventuallyAsync(
            () => world.RequestAsync(asked.Summary.Id),
            r => r.Stages.Single(s => s.Name == "data-office").Users.Contains("bo")
        );
    }

    [Fact]
    public async Task Publishing_plans_anew_what_would_go_another_way_of_approval()
    {
        await using var world = await StartAsync();
        var person = await PersonAsync(world);
        var until = DateTime.UtcNow.AddDays(30).ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture);
        var endless = await RaiseAsync(world, new("access", person.Number, "x", Grants: [new("directory/payments")]));
        endless = await world.WaitForAsync(endless.Summary.Id, "deciding");
        var other = await PersonAsync(world);
        var ended = await RaiseAsync(world, new("access", other.Number, "x", Grants: [new("directory/payments", null, until)]));
        ended = await world.WaitForAsync(ended.Summary.Id, "deciding");
        await ApproveAsync(world, ended, "mara");
        await PublishAsync(
            world,
            (path, text) =>
                path == "targets/directory.yaml"
                    ? text.Replace(
                        "cn=payments,ou=groups,dc=northmere,dc=example\", owner: E9003",
                        "cn=payments,ou=groups,dc=northmere,dc=example\", owner: E9003, privileged: yes",
                        StringComparison.Ordinal
                    )
                    : text
        );
        // Without an end it cannot be planned any more; with one it goes the way of powerful access.
        await world.EventuallyAsync(
            () => world.RequestAsync(endless.Summary.Id),
            r => r.Summary is { State: "planning", Problem: not null }
        );
        ended = await world.EventuallyAsync(
            () => world.RequestAsync(ended.Summary.Id),
            r => r.DecidedBy == 3 && r.Summary.State == "deciding"
        );
        // Who decides is a matter of the newest edition; what the person has is still one of theirs.
        Assert.Equal(("Powerful access", 2), (ended.WorkflowTitle, ended.Edition));
        Assert.Equal(2, ended.Stages.Single(s => s.Name == "data-office").Needed);
    }

    [Fact]
    public async Task A_person_has_one_user_and_decisions_compare_persons()
    {
        await using var world = await StartAsync();
        var mara = HrRow.New("Mara") with { Number = "E9002", Manager = "E9003" };
        var joins = await world.BringAsync(mara, "deciding");
        await world.ApproveAsync(joins, "tomas");
        await world.ReleaseAsync(joins);
        await world.WaitForAsync(joins.Summary.Id, "completed");
        Assert.Equal(
            (409, "person-has-user"),
            Short(
                await World.RefusedAsync(
                    (await world.SignInAsync("edda")).PutAsJsonAsync(
                        "/api/v1/users/mara2",
                        new UserBody("Mara", "m@northmere.example", ["approver"], "E9002", true)
                    )
                )
            )
        );
        // A store of an earlier release may hold two: they are one person all the same, also under another number of theirs.
        await world.SaveUserAsync("mara2", new("Mara again", "mara2@northmere.example", ["requester", "approver"], "", true));
        await SqlAsync(world, "UPDATE users SET number='E9002' WHERE name='mara2'");
        var person = await PersonAsync(world);
        var asked = await RaiseAsync(world, new("access", person.Number, "x", Grants: [new("directory/payments")]), "mara2");
        asked = await world.WaitForAsync(asked.Summary.Id, "deciding");
        Assert.Equal("own-request", (await RefusedAsync(world, asked, "approve", new ApproveBody(asked.PlanDigest!, null), "mara")).Code);
        var own = await RaiseAsync(world, new("access", mara.Number, "x", Grants: [new("directory/payments")]));
        own = await world.WaitForAsync(own.Summary.Id, "deciding");
        await ApproveAsync(world, own, "tomas");
        own = await world.RequestAsync(own.Summary.Id);
        foreach (var name in new[] { "mara", "mara2" })
            Assert.Equal("own-request", (await RefusedAsync(world, own, "approve", new ApproveBody(own.PlanDigest!, null), name)).Code);
    }

    private static (int, string) Short((int Status, string Code, string Detail) refusal) => (refusal.Status, refusal.Code);

    [Fact]
    public async Task An_entry_that_is_recorded_for_somebody_else_is_never_taken_over()
    {
        await using var world = await StartAsync();
        var (owner, stranger) = (await PersonAsync(world), HrRow.New());
        var account = (await SeenAsync(world, owner)).Accounts.Single(a => a.Target == "directory");
        await using (var root = await servers.Directory.ConnectAsRootAsync())
            await root.ModifyAsync(account.Location, [new(LdapChangeKind.Replace, "employeeNumber", stranger.Number)]);
        world.WriteHr(owner, stranger);
        var raised = (await world.RunIntakeAsync()).Requests.Single(r => r.Number == stranger.Number);
        var waits = await world.EventuallyAsync(() => world.RequestAsync(raised.Id!), r => r.Summary.Problem is not null);
        Assert.Equal("planning", waits.Summary.State);
        Assert.Contains($"is recorded for {owner.Given} {owner.Family} ({owner.Number})", waits.Summary.Problem, StringComparison.Ordinal);
        // Mended, it goes on by itself, and makes an entry of its own.
        await using (var root = await servers.Directory.ConnectAsRootAsync())
            await root.ModifyAsync(account.Location, [new(LdapChangeKind.Replace, "employeeNumber", owner.Number)]);
        await World.OkAsync((await world.SignInAsync("otto")).PostAsJsonAsync($"/api/v1/requests/{raised.Id}/retry", new { }));
        waits = await world.WaitForAsync(raised.Id!, "deciding");
        Assert.Contains(waits.Plan, c => c.Kind == "create-account");
    }

    [Fact]
    public async Task A_joiner_of_whom_nothing_was_done_is_never_complete()
    {
        await using var world = await StartAsync(movesClock: true);
        var start = DateTime.UtcNow.AddDays(40).ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture);
        var row = HrRow.New() with { Start = start };
        var joiner = await world.BringAsync(row, "fulfilling");
        // Nothing is due yet. By the time it is, the account is not wanted any more.
        await SqlAsync(
            world,
            "INSERT INTO extras (id, person_id, kind, subject, from_at, until_at, reason, request_id, ended_at) VALUES ('no', "
                + $"'{joiner.Summary.PersonId}', 'refusal', 'directory', 0, NULL, '{{}}', 'x', NULL)"
        );
        world.MoveClock(TimeSpan.FromDays(42));
        var over = await world.WaitForAsync(joiner.Summary.Id, "lapsed");
        Assert.Contains("nothing was done", over.Story.Now, StringComparison.Ordinal);
        Assert.All(over.Steps.Where(s => !s.Later), s => Assert.Equal("dropped", s.State));
        Assert.Contains(
            (await world.GetAsync<Page<RequestSummary>>("/api/v1/requests?state=lapsed")).Items,
            r => r.Id == joiner.Summary.Id
        );
    }
}
