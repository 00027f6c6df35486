using System.Net.Http.Json;
using System.Text.RegularExpressions;
using Oikonom.Contracts;
using Oikonom.Ldap;
using Oikonom.Standins.Directory;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

/// <summary>The main job on real input: from an HR row to a verified account, on both stores.</summary>
public sealed class PathTests(Servers servers)
{
    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task A_row_becomes_a_verified_account(string engine)
    {
        await using var world = await World.StartAsync(servers.Directory, await servers.OnAsync(engine));
        var row = HrRow.New("Zoë") with { Department = "Animal Care", Title = "Keeper" };
        world.WriteHr(row);
        var run = await world.RunIntakeAsync();
        Assert.Equal((1, 1, 0), (run.Counts.Read, run.Counts.Joiners, run.Counts.SetAside));
        var request = await world.WaitForAsync(run.Requests[0].Id, "deciding");
        Assert.Equal("mara", request.Summary.WaitsOn);
        Assert.Contains(
            request.Plan,
            c =>
                c.Text == $"Add zoe.{row.Family.ToLowerInvariant()} to Animal care in Northmere directory"
                && c.Reason.Condition == "department == \"Animal Care\""
        );

        await world.ApproveAsync(request);
        await world.ReleaseAsync(request);
        var done = await world.WaitForAsync(request.Summary.Id, "completed");
        Assert.All(done.Steps, s => Assert.Equal("done", s.State));
        Assert.Equal(["approved", "released"], done.Decisions.Select(d => d.Verdict));
        Assert.Contains("read back", done.Story.Now, StringComparison.Ordinal);

        // The directory holds what the plan said, and the record holds the directory's own id.
        await using var ldap = await servers.Directory.ConnectAsync();
        var entry = (
            await ldap.SearchAsync(
                new(DirectoryOptions.People, LdapScope.One, LdapFilter.Equal("employeeNumber", row.Number), "*", "entryUUID", "memberOf")
            )
        ).Single();
        Assert.Equal($"Zoë {row.Family}", entry.Text("cn"));
        Assert.Equal(
            ["all-people", "animal-care", "site-harbour"],
            entry.Texts("memberOf").Select(g => LdapDn.Parse(g)[0][0].Value).Order()
        );
        var person = await world.GetAsync<PersonDetail>($"/api/v1/people/{row.Number}");
        Assert.Equal(entry.Text("entryUUID"), Assert.Single(person.Accounts).ImmutableId);
        Assert.Equal(3, person.Grants.Count);

        // The approver, the requester and the manager were told.
        var mails = await world.EventuallyAsync(
            () => Task.FromResult(world.Mail!.Mails),
            m => m.Any(x => x.Subject.EndsWith(": complete", StringComparison.Ordinal)) && m.Count >= 5
        );
        Assert.Contains(
            mails,
            m =>
                m.To.Contains("mara", StringComparison.Ordinal)
                && m.Subject.StartsWith("Please decide", StringComparison.Ordinal)
                && m.Body.Contains($"/requests/{request.Summary.Id}", StringComparison.Ordinal)
        );
        Assert.Contains(
            mails,
            m => m.To.Contains("ines", StringComparison.Ordinal) && m.Subject.EndsWith("complete", StringComparison.Ordinal)
        );

        // The one-time link shows a password that works, once, to its receiver alone.
        var token = await world.LinkAsync("mara@northmere.example", "/handover/");
        Assert.Equal(
            404,
            (await World.RefusedAsync((await world.SignInAsync("tomas")).PostAsync($"/api/v1/handovers/{token}", null))).Status
        );
        var mara = await world.SignInAsync("mara");
        Assert.Equal(person.Accounts[0].Name, (await world.GetAsync<Handover>($"/api/v1/handovers/{token}", "mara")).Account);
        var handed = await (
            await World.OkAsync(mara.PostAsync($"/api/v1/handovers/{token}", null))
        ).Content.ReadFromJsonAsync<HandedOver>();
        await using (var user = await LdapConnection.ConnectAsync(servers.Directory.Options))
            await user.BindAsync(entry.Dn, handed!.Password);
        Assert.Equal("link-used", (await World.RefusedAsync(mara.PostAsync($"/api/v1/handovers/{token}", null))).Code);

        // All of it is on the ledger, sealed and sound; the same file again raises nothing.
        await world.EventuallyAsync(world.VerifyLedgerAsync, v => v.Unsealed == 0);
        var ledger = await world.GetAsync<Page<LedgerEntryView>>($"/api/v1/ledger?request={request.Summary.Id}&limit=100", "aldo");
        Assert.Equal(
            [
                "password.handed-over",
                "person.edition",
                "request.approved",
                "request.completed",
                "request.planned",
                "request.raised",
                "request.released",
                "step.done",
            ],
            ledger.Items.Select(e => e.Kind).Distinct().Order(StringComparer.Ordinal)
        );
        Assert.True((await world.VerifyLedgerAsync()).Sound);
        var again = await world.RunIntakeAsync();
        Assert.Equal((1, 0), (again.Counts.Unchanged, again.Requests.Count));

        // No secret anywhere it does not belong.
        foreach (var (_, text) in await world.FilesAsync())
        {
            Assert.DoesNotContain(handed.Password, text, StringComparison.Ordinal);
            Assert.DoesNotContain(servers.Directory.Server.Options.ServicePassword, text, StringComparison.Ordinal);
            Assert.DoesNotContain(World.Password, text, StringComparison.Ordinal);
        }
        Assert.DoesNotContain(mails, m => m.Body.Contains(handed.Password, StringComparison.Ordinal));
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task A_mover_gets_the_difference_and_a_leaver_loses_access(string engine)
    {
        await using var world = await World.StartAsync(servers.Directory, await servers.OnAsync(engine));
        var row = HrRow.New();
        await world.BringAsync(row);
        var moved = await world.BringAsync(row with { Department = "Visitor Services", Title = "Guide" });
        Assert.Equal("mover", moved.Summary.Kind);
        Assert.Contains(moved.Cause.Differences, d => d.Name == "department" && d.Before.Single() == "Dive Team");
        Assert.Equal(["change-account", "grant", "revoke", "verify"], moved.Plan.Select(c => c.Kind));
        await using var ldap = await servers.Directory.ConnectAsync();
        async Task<LdapEntry> EntryAsync() =>
            (
                await ldap.SearchAsync(
                    new(
                        DirectoryOptions.People,
                        LdapScope.One,
                        LdapFilter.Equal("employeeNumber", row.Number),
                        "*",
                        "memberOf",
                        "pwdAccountLockedTime"
                    )
                )
            ).Single();
        var entry = await EntryAsync();
        Assert.Equal("Guide", entry.Text("title"));
        Assert.Contains(entry.Texts("memberOf"), g => g.StartsWith("cn=ticket-desk", StringComparison.Ordinal));
        Assert.DoesNotContain(entry.Texts("memberOf"), g => g.StartsWith("cn=dive-team", StringComparison.Ordinal));

        var left = await world.BringAsync(row with { Department = "Visitor Services", Title = "Guide", End = "2026-11-20" });
        Assert.Equal("leaver", left.Summary.Kind);
        entry = await EntryAsync();
        Assert.Equal("000001010000Z", entry.Text("pwdAccountLockedTime"));
        Assert.Empty(entry.Texts("memberOf"));
        var person = await world.GetAsync<PersonDetail>($"/api/v1/people/{row.Number}");
        Assert.False(person.Accounts.Single().Enabled);
        Assert.All(person.Grants, g => Assert.NotNull(g.Until));
    }

    [Fact]
    public async Task Ahead_of_time_the_account_sleeps_and_the_end_of_the_term_is_scheduled()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var start = DateTimeOffset.UtcNow.AddDays(5);
        var row = HrRow.New() with
        {
            Start = start.ToString("yyyy-MM-dd", null),
            End = start.AddDays(90).ToString("yyyy-MM-dd", null),
            Kind = "seasonal",
        };
        var request = await world.BringAsync(row, "fulfilling");
        request = await world.EventuallyAsync(
            () => world.RequestAsync(request.Summary.Id),
            r => r.Steps.Count(s => s.State == "done") >= 3
        );
        Assert.Contains("Wake the account", request.Story.Now, StringComparison.Ordinal);
        Assert.Equal("the calendar", request.Story.WaitsOn);
        await using var ldap = await servers.Directory.ConnectAsync();
        Assert.Equal(
            "000001010000Z",
            (
                await ldap.SearchAsync(
                    new(DirectoryOptions.People, LdapScope.One, LdapFilter.Equal("employeeNumber", row.Number), "pwdAccountLockedTime")
                )
            )
                .Single()
                .Text("pwdAccountLockedTime")
        );
        var person = await world.GetAsync<PersonDetail>($"/api/v1/people/{row.Number}");
        Assert.Contains(
            person.Scheduled,
            s => s.Text.StartsWith("Disable the account", StringComparison.Ordinal) && s.Due > start.AddDays(89)
        );
    }

    [Fact]
    public async Task A_name_in_use_gets_a_number_and_is_never_given_again()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var first = HrRow.New();
        var second = HrRow.New() with { Family = first.Family };
        var third = HrRow.New() with { Family = first.Family };
        await world.BringAsync(first);
        var two = await world.BringAsync(second);
        Assert.Contains(two.Plan, c => c.Subject == $"tor.{first.Family.ToLowerInvariant()}2");

        // Declined before it was ever made, a name is free again.
        var declined = await world.BringAsync(third, "deciding");
        Assert.Contains(declined.Plan, c => c.Subject == $"tor.{first.Family.ToLowerInvariant()}3");
        await World.OkAsync(
            (await world.SignInAsync("mara")).PostAsJsonAsync(
                $"/api/v1/requests/{declined.Summary.Id}/decline",
                new DeclineBody("not agreed")
            )
        );
        var fourth = await world.BringAsync(HrRow.New() with { Family = first.Family }, "deciding");
        Assert.Contains(fourth.Plan, c => c.Subject == $"tor.{first.Family.ToLowerInvariant()}3");

        // Removed from the directory, a used name stays used.
        await using var ldap = await servers.Directory.ConnectAsync();
        await ldap.DeleteAsync(TestDirectory.Dn($"tor.{first.Family.ToLowerInvariant()}"));
        var fifth = await world.BringAsync(HrRow.New() with { Family = first.Family }, "deciding");
        Assert.DoesNotContain(fifth.Plan, c => c.Subject == $"tor.{first.Family.ToLowerInvariant()}");
    }

    [Fact]
    public async Task One_existing_entry_is_adopted_and_several_wait_for_a_human()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await using var ldap = await servers.Directory.ConnectAsync();
        var one = HrRow.New();
        await ldap.AddAsync(
            TestDirectory.Dn("old-" + one.Number.ToLowerInvariant()),
            TestDirectory.Person("old-" + one.Number.ToLowerInvariant(), one.Number)
        );
        foreach (var group in new[] { "all-people", "research-lab" })
            await ldap.ModifyAsync(
                $"cn={group},ou=groups,dc=northmere,dc=example",
                [new(LdapChangeKind.Add, "member", TestDirectory.Dn("old-" + one.Number.ToLowerInvariant()))]
            );
        var adopted = await world.BringAsync(one);
        // What the entry held already stays if it is wanted, and goes if it is not; both are known.
        Assert.Equal(["research-lab"], adopted.Plan.Where(c => c.Kind == "revoke").Select(c => c.Subject));
        var grants = (await world.GetAsync<PersonDetail>($"/api/v1/people/{one.Number}")).Grants;
        Assert.Equal(["all-people", "dive-team", "site-harbour"], grants.Where(g => g.Until is null).Select(g => g.Entitlement).Order());
        Assert.NotNull(grants.Single(g => g.Entitlement == "research-lab").Until);
        Assert.Contains(adopted.Plan, c => c.Kind == "adopt-account" && c.Attributes.Any(a => a.Name == "sn" && a.Before.Count == 1));
        Assert.DoesNotContain(adopted.Plan, c => c.Kind == "set-password");

        var several = HrRow.New();
        foreach (var name in new[] { "a-", "b-" })
            await ldap.AddAsync(
                TestDirectory.Dn(name + several.Number.ToLowerInvariant()),
                TestDirectory.Person(name + several.Number.ToLowerInvariant(), several.Number)
            );
        world.WriteHr(one, several);
        var raised = (await world.RunIntakeAsync()).Requests.Single();
        var choosing = await world.WaitForAsync(raised.Id, "choosing");
        Assert.Equal(2, choosing.Candidates.Count);
        Assert.True(choosing.Rights.Choose);
        var otto = await world.SignInAsync("otto");
        Assert.Equal(
            400,
            (
                await World.RefusedAsync(
                    otto.PostAsJsonAsync($"/api/v1/requests/{raised.Id}/choose", new ChooseBody("directory", "another"))
                )
            ).Status
        );
        var pick = choosing.Candidates[1];
        await World.OkAsync(otto.PostAsJsonAsync($"/api/v1/requests/{raised.Id}/choose", new ChooseBody("directory", pick.ImmutableId)));
        var planned = await world.WaitForAsync(raised.Id, "deciding");
        Assert.Contains(planned.Plan, c => c.Kind == "adopt-account" && c.Subject == pick.Name);
    }

    [Fact]
    public async Task A_baseline_raises_nothing_and_records_what_is_there()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await using var ldap = await servers.Directory.ConnectAsync();
        var row = HrRow.New();
        var dn = TestDirectory.Dn("base-" + row.Number.ToLowerInvariant());
        await ldap.AddAsync(dn, TestDirectory.Person("base-" + row.Number.ToLowerInvariant(), row.Number));
        await ldap.ModifyAsync("cn=dive-team,ou=groups,dc=northmere,dc=example", [new(LdapChangeKind.Add, "member", dn)]);
        world.WriteHr(row, HrRow.New());
        var run = await world.RunIntakeAsync("baseline", actor: "edda");
        Assert.Equal((2, 0, 1), (run.Counts.Changed, run.Requests.Count, run.Counts.Adopted));
        var person = await world.GetAsync<PersonDetail>($"/api/v1/people/{row.Number}");
        Assert.Equal("directory/dive-team", $"{person.Grants.Single().Target}/{person.Grants.Single().Entitlement}");
        Assert.Null((await ldap.ReadAsync(dn, ["title"]))!.Text("title"));
    }

    [Fact]
    public async Task Two_nodes_share_the_work_and_do_nothing_twice()
    {
        await using var first = await World.StartAsync(servers.Directory, await servers.OnAsync("postgres"));
        await using var second = await first.JoinAsync();
        var rows = Enumerable.Range(0, 12).Select(_ => HrRow.New()).ToList();
        first.WriteHr(rows);
        var raised = (await first.RunIntakeAsync()).Requests;
        foreach (var request in raised)
        {
            var planned = await first.WaitForAsync(request.Id, "deciding");
            await first.ApproveAsync(planned);
            await first.ReleaseAsync(planned);
        }
        foreach (var request in raised)
            Assert.All((await second.WaitForAsync(request.Id, "completed")).Steps, s => Assert.Equal("done", s.State));
        await first.EventuallyAsync(first.VerifyLedgerAsync, v => v is { Unsealed: 0, Sound: true });
        var entries = await first.GetAsync<Page<LedgerEntryView>>("/api/v1/ledger?kind=step.done&limit=500", "aldo");
        Assert.Equal(12 * 6, entries.Items.Count);
    }

    [Fact]
    public async Task When_a_node_dies_the_other_takes_over_and_nothing_is_done_twice()
    {
        await using var first = await World.StartAsync(servers.Directory, await servers.OnAsync("postgres") with { OwnProcess = true });
        await using var second = await first.JoinAsync();
        var rows = Enumerable.Range(0, 8).Select(_ => HrRow.New()).ToList();
        first.WriteHr(rows);
        var planned = new List<RequestDetail>();
        foreach (var raised in (await first.RunIntakeAsync()).Requests)
        {
            planned.Add(await first.WaitForAsync(raised.Id, "deciding"));
            await first.ApproveAsync(planned[^1]);
        }
        foreach (var request in planned)
            await first.ReleaseAsync(request);
        first.Kill();
        await first.WaitForEndAsync();
        foreach (var request in planned)
            Assert.All((await second.WaitForAsync(request.Summary.Id, "completed", 40)).Steps, s => Assert.Equal("done", s.State));
        await using var ldap = await servers.Directory.ConnectAsync();
        foreach (var row in rows)
            Assert.Equal(
                3,
                Assert
                    .Single(
                        await ldap.SearchAsync(
                            new(DirectoryOptions.People, LdapScope.Subtree, LdapFilter.Equal("employeeNumber", row.Number), "memberOf")
                        )
                    )
                    .Texts("memberOf")
                    .Count
            );
        var verification = await second.EventuallyAsync(second.VerifyLedgerAsync, v => v.Unsealed == 0);
        Assert.True(verification.Sound, string.Join("; ", verification.Faults));
        var done = await second.GetAsync<Page<LedgerEntryView>>("/api/v1/ledger?kind=step.done&limit=500", "aldo");
        Assert.Equal(8 * 6, done.Items.Count);
    }
}
