using System.Net.Http.Json;
using Microsoft.Data.Sqlite;
using Oikonom.Contracts;
using Oikonom.Standins.Directory;
using Oikonom.Standins.Mail;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

/// <summary>What goes wrong around the service: it says so in plain words, and goes on by itself.</summary>
public sealed class FaultTests(Servers servers)
{
    [Fact]
    public async Task The_directory_is_down_and_comes_back()
    {
        await using var own = await TestDirectory.StartAsync();
        await using var world = await World.StartAsync(own);
        var request = await world.BringAsync(HrRow.New(), "releasing");
        await own.Server.StopAsync();
        await world.ReleaseAsync(request);
        var waiting = await world.EventuallyAsync(() => world.RequestAsync(request.Summary.Id), r => r.Summary.Problem is not null);
        Assert.Contains("does not succeed", waiting.Story.Now, StringComparison.Ordinal);
        Assert.Contains("by itself", waiting.Story.Unblock!, StringComparison.Ordinal);
        Assert.Contains("127.0.0.1", waiting.Summary.Problem!, StringComparison.Ordinal);
        Assert.Equal(1, (await world.GetAsync<Page<TargetSummary>>("/api/v1/targets")).Items[0].Failing);
        Assert.False(
            (
                await (
                    await World.OkAsync((await world.SignInAsync("otto")).PostAsync("/api/v1/targets/directory/check", null))
                ).Content.ReadFromJsonAsync<TargetCheck>()
            )!.Reachable
        );

        // A new joiner cannot be planned meanwhile, and says that too.
        world.WriteHr(HrRow.New());
        var second = (await world.RunIntakeAsync()).Requests.Single();
        var unplanned = await world.EventuallyAsync(() => world.RequestAsync(second.Id), r => r.Summary.Problem is not null);
        Assert.Contains("cannot be planned yet", unplanned.Story.Now, StringComparison.Ordinal);

        await own.Server.StartAsync();
        var done = await world.WaitForAsync(request.Summary.Id, "completed");
        Assert.Null(done.Summary.Problem);
        await world.WaitForAsync(second.Id, "deciding");
        Assert.True((await world.VerifyLedgerAsync()).Sound);
    }

    [Theory]
    [InlineData("directory-password", "wrong-password", "does not accept the password")]
    [InlineData("directory-authority", null, "is not trusted")]
    public async Task A_wrong_secret_is_told_and_the_right_one_mends_it(string secret, string? wrong, string words)
    {
        await using var world = await World.StartAsync(servers.Directory);
        var edda = await world.SignInAsync("edda");
        await World.OkAsync(edda.PutAsJsonAsync($"/api/v1/secrets/{secret}", new SecretBody(wrong ?? Certificates.Make().AuthorityPem)));
        world.WriteHr(HrRow.New());
        var raised = (await world.RunIntakeAsync()).Requests.Single();
        var waiting = await world.EventuallyAsync(() => world.RequestAsync(raised.Id), r => r.Summary.Problem is not null);
        Assert.Contains(words, waiting.Summary.Problem!, StringComparison.Ordinal);
        Assert.DoesNotContain("wrong-password", waiting.Summary.Problem!, StringComparison.Ordinal);
        await World.OkAsync(
            edda.PutAsJsonAsync(
                $"/api/v1/secrets/{secret}",
                new SecretBody(wrong is null ? servers.Directory.Server.AuthorityPem : servers.Directory.Server.Options.ServicePassword)
            )
        );
        await world.WaitForAsync(raised.Id, "deciding");
    }

    [Fact]
    public async Task What_takes_longer_than_a_lease_is_begun_once()
    {
        await using var own = await TestDirectory.StartAsync();
        // The leases of this service last two seconds.
        await using var world = await World.StartAsync(own);
        var request = await world.BringAsync(HrRow.New(), "releasing");
        await own.Server.HoldAsync();
        await world.ReleaseAsync(request);
        await world.EventuallyAsync(
            () => TrustApprovalTests.NumberAsync(world, "SELECT COUNT(*) FROM chains WHERE lease_owner<>''"),
            leased => leased > 0
        );
        Assert.Equal("running", (await ApprovalTests.RefusedAsync(world, request, "withdraw", new DeclineBody("no"), "otto")).Code);
        await Task.Delay(TimeSpan.FromSeconds(6));
        await own.Server.GoOnAsync();
        await world.WaitForAsync(request.Summary.Id, "completed");
        Assert.Equal(1, await TrustApprovalTests.NumberAsync(world, "SELECT MAX(fence) FROM chains WHERE target='directory'"));
        Assert.Equal(0, await TrustApprovalTests.NumberAsync(world, "SELECT COUNT(*) FROM ledger WHERE kind='step.late'"));
    }

    [Fact]
    public async Task A_lasting_fault_stops_the_request_says_what_to_do_and_goes_on_after_a_retry()
    {
        await using var own = await TestDirectory.StartAsync();
        await using var world = await World.StartAsync(own);
        var request = await world.BringAsync(HrRow.New(), "releasing");
        await using var root = await own.ConnectAsRootAsync();
        await root.DeleteAsync("cn=dive-team,ou=groups,dc=northmere,dc=example");
        await world.ReleaseAsync(request);
        var stopped = await world.EventuallyAsync(
            () => world.RequestAsync(request.Summary.Id),
            r => r.Steps.Any(s => s.State == "stopped")
        );
        Assert.Contains("has no group", stopped.Story.Now, StringComparison.Ordinal);
        Assert.True(stopped.Rights.Retry);
        await root.AddAsync(
            "cn=dive-team,ou=groups,dc=northmere,dc=example",
            [new("objectClass", "groupOfNames"), new("cn", "dive-team"), new("member", DirectoryOptions.Nobody)]
        );
        await World.OkAsync((await world.SignInAsync("otto")).PostAsync($"/api/v1/requests/{request.Summary.Id}/retry", null));
        await world.WaitForAsync(request.Summary.Id, "completed");
        // What comes after it came after it: nothing was tried in vain, and nothing was planned anew.
        var ledger = await world.EventuallyAsync(
            () => world.GetAsync<Page<LedgerEntryView>>($"/api/v1/ledger?request={request.Summary.Id}&limit=100", "aldo"),
            l => l.Items.All(e => e.Position is not null)
        );
        var after = ledger.Items.OrderBy(e => e.Position).SkipWhile(e => e.Kind != "request.retried").Skip(1).ToList();
        Assert.Equal(["request.completed", "step.done"], after.Select(e => e.Kind).Distinct().Order());
        Assert.Equal("verify", after.Last(e => e.Kind == "step.done").Body.GetProperty("change").GetString());
    }

    [Fact]
    public async Task A_secret_that_is_set_while_requests_run_loses_and_delays_nothing()
    {
        await using var world = await World.StartAsync(
            servers.Directory,
            new() { Environment = new Dictionary<string, string> { ["LEASE_SECONDS"] = "600" } }
        );
        world.WriteHr(Enumerable.Range(0, 12).Select(_ => HrRow.New()));
        var edda = await world.SignInAsync("edda");
        var raised = (await world.RunIntakeAsync()).Requests;
        Task ResetAsync() =>
            World.OkAsync(
                edda.PutAsJsonAsync("/api/v1/secrets/directory-password", new SecretBody(servers.Directory.Server.Options.ServicePassword))
            );
        foreach (var request in raised)
        {
            await ResetAsync();
            var planned = await world.WaitForAsync(request.Id, "deciding");
            await world.ApproveAsync(planned);
            await world.ReleaseAsync(planned);
            await ResetAsync();
        }

        // With leases of ten minutes, whatever fell out of its chain would not be back in time.
        foreach (var request in raised)
            Assert.All((await world.WaitForAsync(request.Id, "completed")).Steps, s => Assert.Equal("done", s.State));
        Assert.DoesNotContain("failed unexpectedly", await File.ReadAllTextAsync(world.LogFile), StringComparison.Ordinal);
    }

    [Fact]
    public async Task The_mail_server_is_away_and_nothing_is_lost_or_sent_twice()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await world.StopMailAsync();
        await world.BringAsync(HrRow.New(), "deciding");
        await world.BringAsync(HrRow.New(), "deciding");
        await world.EventuallyAsync(() => TrustApprovalTests.NumberAsync(world, "SELECT max(attempts) FROM notices"), tries => tries > 0);
        world.StartMail();
        await world.EventuallyAsync(
            () => TrustApprovalTests.NumberAsync(world, "SELECT count(*) FROM notices WHERE sent_at IS NULL"),
            waiting => waiting == 0,
            60
        );
        // What is told after it comes after it: nothing of before is on its way any more.
        await world.BringAsync(HrRow.New(), "deciding");
        var mails = await world.EventuallyAsync(() => Task.FromResult(Decisions(world)), m => m.Count >= 3);
        Assert.Equal(3, mails.Count);
        Assert.Equal(world.Mail!.Mails.Count, world.Mail.Mails.Select(m => m.Id).Distinct().Count());

        static List<ReceivedMail> Decisions(World world) =>
            [.. world.Mail!.Mails.Where(m => m.Subject.StartsWith("Please decide", StringComparison.Ordinal))];
    }

    [Fact]
    public async Task Whoever_alters_the_record_is_found_out()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var done = await world.BringAsync(HrRow.New());
        await world.EventuallyAsync(world.VerifyLedgerAsync, v => v is { Unsealed: 0, Sound: true });
        await using (var database = new SqliteConnection($"Data Source={Path.Combine(world.DataFolder, "oikonom.db")}"))
        {
            await database.OpenAsync();
            await using var command = database.CreateCommand();
            command.CommandText =
                "DROP TRIGGER ledger_no_update; UPDATE ledger SET body=replace(body, 'mara', 'otto'), actor='otto' WHERE "
                + "kind='request.approved';";
            Assert.Equal(1, await command.ExecuteNonQueryAsync());
        }
        var verification = await world.VerifyLedgerAsync();
        Assert.False(verification.Sound);
        Assert.Contains("is not what was sealed", Assert.Single(verification.Faults), StringComparison.Ordinal);
        Assert.Equal("completed", done.Summary.State);
    }

    [Fact]
    public async Task What_stopped_is_left_out_with_a_reason_and_the_request_goes_on_without_it()
    {
        await using var own = await TestDirectory.StartAsync();
        await using var world = await World.StartAsync(own);
        var row = HrRow.New();
        var request = await world.BringAsync(row, "releasing");
        await using var root = await own.ConnectAsync();
        await root.DeleteAsync($"cn=site-harbour,{DirectoryOptions.Groups}");
        await world.ReleaseAsync(request);
        var stopped = await world.EventuallyAsync(
            () => world.RequestAsync(request.Summary.Id),
            r => r.Steps.Any(s => s.State == "stopped")
        );
        var step = stopped.Steps.Single(s => s.State == "stopped");
        Assert.Contains("Harbour House", step.Text, StringComparison.Ordinal);
        Assert.True(stopped.Rights.LeaveOut);
        Assert.False((await world.RequestAsync(request.Summary.Id, "mara")).Rights.LeaveOut);
        var at = $"/api/v1/requests/{request.Summary.Number}/leave-out";
        var otto = await world.SignInAsync("otto");
        async Task<(int, string)> TryAsync(LeaveOutBody body)
        {
            var (status, code, _) = await World.RefusedAsync(otto.PostAsJsonAsync(at, body));
            return (status, code);
        }
        Assert.Equal((400, "invalid"), await TryAsync(new(" ")));
        Assert.Equal((400, "invalid"), await TryAsync(new(new('x', 2001))));
        Assert.Equal((400, "invalid"), await TryAsync(new("done already", stopped.Steps[0].Ordinal)));

        var after = await (
            await World.OkAsync(otto.PostAsJsonAsync(at, new LeaveOutBody("the group is gone for good")))
        ).Content.ReadFromJsonAsync<RequestDetail>();
        Assert.Equal(("completed", "partly"), (after!.Summary.State, after.Summary.Outcome));
        Assert.Null(after.Summary.Problem);
        Assert.Equal("left out by otto: the group is gone for good", after.Steps.Single(s => s.Id == step.Id).Problem);
        Assert.Contains(after.Story.Done, d => d.Contains($"Step {step.Ordinal}", StringComparison.Ordinal));
        Assert.Equal((400, "invalid"), await TryAsync(new("again")));
        var person = await world.GetAsync<PersonDetail>($"/api/v1/people/{row.Number}");
        Assert.DoesNotContain(person.Grants, g => g.Entitlement.EndsWith("site-harbour", StringComparison.Ordinal));
        Assert.Contains(person.Grants, g => g.Entitlement.EndsWith("dive-team", StringComparison.Ordinal));
        var ledger = await world.GetAsync<Page<LedgerEntryView>>($"/api/v1/ledger?request={request.Summary.Id}&limit=100", "aldo");
        Assert.Equal("otto", ledger.Items.Single(e => e.Kind == "steps.left-out").Actor);
        Assert.True((await world.VerifyLedgerAsync()).Sound);
    }

    [Fact]
    public async Task What_failed_is_done_with_other_values_once_they_are_decided_in_one_act()
    {
        await using var own = await TestDirectory.StartAsync();
        await using var world = await World.StartAsync(own);
        // No telephone number of the directory (RFC 4517 section 3.3.31).
        var row = HrRow.New() with
        {
            Phone = "+00 555 ½",
        };
        var request = await world.BringAsync(row, "releasing");
        await world.ReleaseAsync(request);
        var stopped = await world.EventuallyAsync(
            () => world.RequestAsync(request.Summary.Id),
            r => r.Steps.Any(s => s.State == "stopped")
        );
        var at = $"/api/v1/requests/{request.Summary.Number}/leave-out";
        var (otto, edda) = (await world.SignInAsync("otto"), await world.SignInAsync("edda"));
        LeaveOutBody With(string name, string value) => new("mistyped", null, new Dictionary<string, string> { [name] = value });
        foreach (
            var (body, said) in new[]
            {
                (With("phones", "1"), "phones"),
                (With("number", "E1"), "only HR changes it"),
                (With("phone", "+00 555 ½"), "change"),
            }
        )
        {
            var (status, code, detail) = await World.RefusedAsync(otto.PostAsJsonAsync(at, body));
            Assert.Equal((400, "invalid"), (status, code));
            Assert.Contains(said, detail, StringComparison.Ordinal);
        }
        // Neither somebody of another site, nor who asks or approves, nor the person themselves gets another value in by this way.
        await world.SaveUserAsync("far", "operator", "", "reefpoint");
        await world.SaveUserAsync("self", "operator", row.Number, "harbour");
        foreach (var name in new[] { "far", "self", "ines", "mara" })
        {
            var who = await world.SignInAsync(name);
            var (status, _, _) = await World.RefusedAsync(who.PostAsJsonAsync(at, With("title", "Director")));
            Assert.True(status is 403 or 404 or 409, $"{name}: {status}");
        }
        Assert.Empty((await world.GetAsync<Page<RequestSummary>>($"/api/v1/requests?text={row.Number}&kind=change")).Items);
        Assert.Equal("fulfilling", (await world.RequestAsync(request.Summary.Id)).Summary.State);

        var left = await (
            await World.OkAsync(otto.PostAsJsonAsync(at, With("phone", "+00 555 12")))
        ).Content.ReadFromJsonAsync<RequestDetail>();
        Assert.Equal("lapsed", left!.Summary.State);
        var next = (await world.GetAsync<Page<RequestSummary>>($"/api/v1/requests?text={row.Number}&kind=change")).Items.Single();
        Assert.Equal(("change", "otto"), (next.Kind, next.Requester));
        Assert.Contains(
            left.Decisions,
            d => d.Remark?.EndsWith($"request {next.Number} goes on with other values", StringComparison.Ordinal) == true
        );

        // It is decided like any other, and not by who asked.
        var waits = await world.EventuallyAsync(
            () => world.RequestAsync(next.Id, "tomas"),
            r => r.Summary.State is "deciding" or "releasing" or "fulfilling"
        );
        Assert.Equal("deciding", waits.Summary.State);
        Assert.False((await world.RequestAsync(next.Id, "otto")).Rights.Approve);
        await world.ThroughAsync(next.Id);
        var person = await world.GetAsync<PersonDetail>($"/api/v1/people/{row.Number}");
        Assert.Single(person.Accounts);
        Assert.Contains(person.Grants, g => g.Entitlement.EndsWith("dive-team", StringComparison.Ordinal));
        await using var ldap = await own.ConnectAsync();
        var entry = await ldap.ReadAsync(TestDirectory.Dn(person.Accounts[0].Name), ["telephoneNumber"]);
        Assert.Equal(["+00 555 12"], entry!.Texts("telephoneNumber"));
        Assert.True((await world.VerifyLedgerAsync()).Sound);
    }

    [Fact]
    public async Task An_account_that_is_not_made_takes_with_it_what_is_to_be_done_in_it_and_a_removal_is_for_engineers()
    {
        await using var own = await TestDirectory.StartAsync();
        await using var world = await World.StartAsync(own);
        var (joins, leaves) = (HrRow.New(), HrRow.New());
        await world.BringAsync(leaves);
        var request = await world.BringAsync(joins, "releasing");
        await own.Server.StopAsync();
        await world.ReleaseAsync(request);
        await world.EventuallyAsync(() => world.RequestAsync(request.Summary.Id), r => r.Rights.LeaveOut);
        var otto = await world.SignInAsync("otto");
        Task<HttpResponseMessage> LeaveOutAsync(HttpClient who, string? id) =>
            who.PostAsJsonAsync($"/api/v1/requests/{id}/leave-out", new LeaveOutBody("the directory goes"));
        // A try may be under way at this moment.
        var after = await world.EventuallyAsync(
            async () =>
            {
                await LeaveOutAsync(otto, request.Summary.Id);
                return await world.RequestAsync(request.Summary.Id);
            },
            r => r.Summary.State == "lapsed"
        );
        Assert.All(after.Steps, s => Assert.Equal("dropped", s.State));
        Assert.Empty((await world.GetAsync<PersonDetail>($"/api/v1/people/{joins.Number}")).Accounts);

        var left = await ApprovalTests.RaiseAsync(world, new("leaver", leaves.Number, "gone", Urgent: true));
        await world.WaitForAsync(left.Summary.Id, "releasing");
        await world.ReleaseAsync(await world.RequestAsync(left.Summary.Id));
        var failing = await world.EventuallyAsync(() => world.RequestAsync(left.Summary.Id, "edda"), r => r.Rights.LeaveOut);
        Assert.False((await world.RequestAsync(left.Summary.Id)).Rights.LeaveOut);
        var refused = await World.RefusedAsync(LeaveOutAsync(otto, left.Summary.Id));
        Assert.Equal((403, "not-yours"), (refused.Status, refused.Code));
        Assert.Equal("fulfilling", failing.Summary.State);
        var edda = await world.SignInAsync("edda");
        await world.EventuallyAsync(
            async () =>
            {
                await LeaveOutAsync(edda, left.Summary.Id);
                return await world.RequestAsync(left.Summary.Id);
            },
            r => r.Summary.State == "lapsed"
        );
    }

    [Fact]
    public async Task A_request_that_was_left_open_with_nothing_to_do_is_ended()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var (done, dropped) = (await world.BringAsync(HrRow.New("Ada")), await world.BringAsync(HrRow.New("Bo")));
        const string Open = "UPDATE requests SET state='fulfilling', completed_at=NULL, updated_at=1 WHERE id=";
        await TrustApprovalTests.SqlAsync(
            world,
            $"{Open}'{done.Summary.Id}'; {Open}'{dropped.Summary.Id}'; "
                + $"UPDATE steps SET state='dropped' WHERE request_id='{dropped.Summary.Id}'"
        );
        await world.WaitForAsync(done.Summary.Id, "completed");
        await world.WaitForAsync(dropped.Summary.Id, "lapsed");
    }
}
