using System.Net.Http.Json;
using Oikonom.Contracts;
using Oikonom.Ldap;
using Oikonom.Standins.Directory;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

/// <summary>Other workflows than the demo's, and what becomes of requests when HR changes its mind.</summary>
public sealed class WorkflowTests(Servers servers)
{
    private static async Task PublishAsync(World world, string path, Func<string, string> change) =>
        await World.OkAsync(
            (await world.SignInAsync("edda")).PostAsJsonAsync(
                "/api/v1/rulebook/editions",
                new RulebookBody(world.Rulebook((p, text) => p == path ? change(text) : text))
            )
        );

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task Two_stages_decide_one_after_the_other_and_the_request_runs_by_itself(string engine)
    {
        await using var world = await World.StartAsync(servers.Directory, await servers.OnAsync(engine));
        await PublishAsync(
            world,
            "workflows/staff.yaml",
            text =>
                text.Replace(
                    "release: operator",
                    "  - name: dive-master\n    title: Dive master\n    decides: person:E9003\n    otherwise: "
                        + "role:approver\nrelease: automatic",
                    StringComparison.Ordinal
                )
        );
        var request = await world.BringAsync(HrRow.New(), "deciding");
        Assert.Contains("“Dive master” decides", request.Story.Next, StringComparison.Ordinal);
        await world.ApproveAsync(request);
        var second = await world.RequestAsync(request.Summary.Id);
        Assert.Equal(("deciding", "tomas"), (second.Summary.State, second.Summary.WaitsOn));
        Assert.Contains("the steps run at once", second.Story.Next, StringComparison.Ordinal);
        Assert.Equal(
            "not-yours",
            (
                await World.RefusedAsync(
                    (await world.SignInAsync("mara")).PostAsJsonAsync(
                        $"/api/v1/requests/{request.Summary.Id}/approve",
                        new ApproveBody(second.PlanDigest!, null)
                    )
                )
            ).Code
        );
        await world.ApproveAsync(second, "tomas");
        var done = await world.WaitForAsync(request.Summary.Id, "completed");
        Assert.Equal(["Line manager", "Dive master"], done.Decisions.Select(d => d.Stage));
    }

    [Fact]
    public async Task Without_stages_and_release_a_request_runs_as_soon_as_it_is_planned()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await PublishAsync(
            world,
            "workflows/staff.yaml",
            text => text[..text.IndexOf("stages:", StringComparison.Ordinal)] + "stages: []\nrelease: automatic\n"
        );
        world.WriteHr(HrRow.New());
        var raised = (await world.RunIntakeAsync()).Requests.Single();
        Assert.Empty((await world.WaitForAsync(raised.Id, "completed")).Decisions);
    }

    [Fact]
    public async Task Since_when_it_waits_for_somebody_does_not_begin_anew_with_a_new_plan()
    {
        await using var world = await World.StartAsync(servers.Directory, new() { MovesClock = true });
        var row = HrRow.New();
        world.WriteHr(row);
        var id = (await world.RunIntakeAsync()).Requests.Single().Id;
        var before = await world.WaitForAsync(id, "deciding");
        world.MoveClock(TimeSpan.FromHours(3));
        world.WriteHr(row with { Title = "Lead diver" });
        await world.RunIntakeAsync();
        var after = await world.EventuallyAsync(
            () => world.RequestAsync(id),
            r => r.Summary.State == "deciding" && r.PlanDigest != before.PlanDigest
        );
        Assert.Equal(before.Story.Since, after.Story.Since);
        // Somebody else decides it: since then.
        world.MoveClock(TimeSpan.FromHours(3));
        world.WriteHr(row with { Manager = "E9003" });
        await world.RunIntakeAsync();
        var elsewhere = await world.EventuallyAsync(
            () => world.RequestAsync(id),
            r => r.Summary.State == "deciding" && r.Summary.WaitsOn != after.Summary.WaitsOn
        );
        Assert.True(elsewhere.Story.Since > after.Story.Since.AddHours(5));
    }

    [Fact]
    public async Task A_request_keeps_its_edition_when_the_next_one_changes_nothing_for_it()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var first = await world.BringAsync(HrRow.New(), "releasing");
        await PublishAsync(world, "templates/research.yaml", text => text + "  - to: directory/dive-team\n");
        await world.ReleaseAsync(first);
        Assert.Equal(1, (await world.WaitForAsync(first.Summary.Id, "completed")).Edition);
        var second = await world.BringAsync(HrRow.New() with { Department = "Research" }, "deciding");
        Assert.Equal(2, second.Edition);
        Assert.Contains(second.Plan, c => c.Subject == "dive-team");
    }

    [Fact]
    public async Task A_hire_that_is_withdrawn_while_it_waits_needs_nothing()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var row = HrRow.New();
        var request = await world.BringAsync(row, "deciding");
        world.WriteHr(row with { End = "2026-01-31" });
        await world.RunIntakeAsync();
        var over = await world.WaitForAsync(request.Summary.Id, "completed");
        Assert.Equal("leaver", over.Summary.Kind);
        Assert.Empty(over.Plan);
        Assert.Equal("Nothing needed to change.", over.Story.Now);
        Assert.Equal(("needless", "completed, nothing was needed"), (over.Summary.Outcome, over.Summary.StateText));
        await using var ldap = await servers.Directory.ConnectAsync();
        Assert.Empty(
            await ldap.SearchAsync(new(DirectoryOptions.People, LdapScope.One, LdapFilter.Equal("employeeNumber", row.Number), "1.1"))
        );
    }

    [Fact]
    public async Task Who_comes_back_gets_the_same_account_again()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var row = HrRow.New();
        await world.BringAsync(row);
        var before = (await world.GetAsync<PersonDetail>($"/api/v1/people/{row.Number}")).Accounts.Single();
        await world.BringAsync(row with { End = "2026-11-20" });
        var back = await world.BringAsync(row with { Title = "Dive supervisor" });
        Assert.Equal("joiner", back.Summary.Kind);
        Assert.Contains(back.Plan, c => c.Kind == "enable-account");
        Assert.DoesNotContain(back.Plan, c => c.Kind == "create-account");
        var after = await world.GetAsync<PersonDetail>($"/api/v1/people/{row.Number}");
        Assert.Equal(
            (before.ImmutableId, before.Name, true),
            (after.Accounts.Single().ImmutableId, after.Accounts.Single().Name, after.Accounts.Single().Enabled)
        );
        Assert.Equal(6, after.Grants.Count);
        Assert.Equal(3, after.Grants.Count(g => g.Until is null));
    }

    [Fact]
    public async Task Pages_go_through_everything_once()
    {
        await using var world = await World.StartAsync(servers.Directory);
        world.WriteHr(Enumerable.Range(0, 23).Select(i => HrRow.New() with { Family = i % 2 == 0 ? "Pipe|Name" : "Ænd%_" }));
        await world.RunIntakeAsync();
        await ThroughAsync<PersonSummary>("/api/v1/people?limit=5", p => p.Id, 23, "otto");
        await ThroughAsync<RequestSummary>("/api/v1/requests?limit=7", r => r.Id, 23, "otto");
        await ThroughAsync<LedgerEntryView>("/api/v1/ledger?limit=9&kind=request.raised", e => e.Id, 23, "aldo");

        async Task ThroughAsync<T>(string path, Func<T, string> id, int count, string actor)
        {
            var seen = new List<string>();
            string? next = null;
            do
            {
                var page = await world.GetAsync<Page<T>>(path + (next is null ? "" : $"&after={Uri.EscapeDataString(next)}"), actor);
                seen.AddRange(page.Items.Select(id));
                next = page.Next;
            } while (next is not null);
            Assert.Equal(count, seen.Count);
            Assert.Equal(count, seen.Distinct().Count());
        }
    }
}
