using System.Net.Http.Json;
using Oikonom.Contracts;
using Oikonom.Ldap;
using Oikonom.Standins.Directory;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

/// <summary>What becomes of accounts that are changed outside: who is told, who may let them be, and what the target's rule says.</summary>
public sealed class FindingTests(Servers servers)
{
    /// <summary>Somebody works at the directory itself.</summary>
    private static async Task OutsideAsync(World world, HrRow row, string attribute, string value)
    {
        await using var ldap = await world.Directory.ConnectAsRootAsync();
        var entry = (
            await ldap.SearchAsync(new(DirectoryOptions.People, LdapScope.One, LdapFilter.Equal("employeeNumber", row.Number), "uid"))
        ).Single();
        await ldap.ModifyAsync(entry.Dn, [new LdapModification(LdapChangeKind.Replace, attribute, value)]);
    }

    private static async Task<IReadOnlyList<FindingView>> LookAsync(World world, string person)
    {
        var answer = await World.OkAsync((await world.SignInAsync("otto")).PostAsJsonAsync($"/api/v1/people/{person}/look", new { }));
        return (await answer.Content.ReadFromJsonAsync<List<FindingView>>())!;
    }

    private static async Task PublishAsync(World world, string watch) =>
        await World.OkAsync(
            (await world.SignInAsync("edda")).PostAsJsonAsync(
                "/api/v1/rulebook/editions",
                new RulebookBody(
                    world.Rulebook((path, text) => path == "targets/directory.yaml" ? $"{text}\nwatch: {{ {watch} }}\n" : text)
                )
            )
        );

    private static async Task<IReadOnlyList<RequestSummary>> ChangesAsync(World world, HrRow row) =>
        (await world.GetAsync<Page<RequestSummary>>($"/api/v1/requests?text={row.Number}&kind=change")).Items;

    [Fact]
    public async Task An_account_changed_outside_may_stay_so_when_an_operator_says_why()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var row = HrRow.New("Lea");
        var person = (await world.BringAsync(row)).Summary.PersonId;
        Assert.Empty(await LookAsync(world, person));
        await OutsideAsync(world, row, "title", "Captain");

        var finding = Assert.Single(await LookAsync(world, person));
        var difference = Assert.Single(finding.Differences);
        Assert.Equal(("title", "Diver", "Captain"), (difference.Name, difference.Left.Single(), difference.Found.Single()));
        Assert.True(finding.MayLeave);
        var request = await world.WaitForAsync(finding.RequestId, "releasing");
        Assert.Equal(("restored", "oikonom"), (request.Workflow, request.Summary.Requester));
        // Nobody sees a value in what everybody may read about the request.
        Assert.DoesNotContain("Captain", request.Cause.Text, StringComparison.Ordinal);
        // A second look finds the same: since when stays, and nothing is raised twice.
        var again = Assert.Single(await LookAsync(world, person));
        Assert.Equal((finding.Since, finding.RequestId), (again.Since, again.RequestId));
        Assert.Single(await ChangesAsync(world, row));

        var leave = $"/api/v1/people/{person}/findings/leave";
        async Task<int> RefusedAsync(string user, string account, string reason) =>
            (await World.RefusedAsync((await world.SignInAsync(user)).PostAsJsonAsync(leave, new LeaveBody(account, reason)))).Status;
        Assert.Equal(403, await RefusedAsync("edda", "directory", "as agreed"));
        Assert.Equal(403, await RefusedAsync("mara", "directory", "as agreed"));
        Assert.Equal(400, await RefusedAsync("otto", "directory", " "));
        Assert.Equal(404, await RefusedAsync("otto", "directory:administrator", "as agreed"));
        Assert.Equal(404, await RefusedAsync("otto", "elsewhere", "as agreed"));
        // Nobody lets their own account be, whatever their role.
        await world.SaveUserAsync("lea", new("Lea", "lea@northmere.example", ["operator"], row.Number, true));
        var own = (await world.SignInAsync("lea")).PostAsJsonAsync(leave, new LeaveBody("directory", "mine"));
        Assert.Equal("own-request", (await World.RefusedAsync(own)).Code);
        Assert.False(Assert.Single((await world.GetAsync<PersonDetail>($"/api/v1/people/{person}", "lea")).Findings!).MayLeave);
        await World.OkAsync((await world.SignInAsync("otto")).PostAsJsonAsync(leave, new LeaveBody("directory", "as agreed")));

        Assert.Equal("withdrawn", (await world.RequestAsync(finding.RequestId)).Summary.State);
        var left = Assert.Single(await LookAsync(world, person));
        Assert.Equal(("otto", "as agreed", false), (left.LeftBy, left.Remark, left.MayLeave));
        Assert.Single(await ChangesAsync(world, row));
        // Something else that changes is another matter.
        await OutsideAsync(world, row, "title", "Admiral");
        Assert.Null(Assert.Single(await LookAsync(world, person)).LeftBy);
        // What is set right by hand is over.
        await OutsideAsync(world, row, "title", "Diver");
        Assert.Empty(await LookAsync(world, person));
        Assert.True((await world.VerifyLedgerAsync()).Sound);
    }

    /// <summary>What was deleted and put back from a copy, under another name and without its number, is the same entry all the
    /// same: the next plan takes it over, and nobody gets a second one.</summary>
    [Fact]
    public async Task Who_is_put_back_by_hand_is_known_again_by_the_id()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var row = HrRow.New("Backa");
        var person = (await world.BringAsync(row)).Summary.PersonId;
        var account = (await world.GetAsync<PersonDetail>($"/api/v1/people/{person}")).Accounts.Single();
        await using var root = await world.Directory.ConnectAsRootAsync();
        await root.DeleteAsync(account.Location);
        var finding = Assert.Single(await LookAsync(world, person));
        await World.OkAsync(
            (await world.SignInAsync("edda")).PostAsJsonAsync($"/api/v1/requests/{finding.RequestId}/withdraw", new ReasonBody("is back"))
        );
        var name = "put-" + account.Name;
        await root.AddAsync(
            TestDirectory.Dn(name),
            [
                new("objectClass", "inetOrgPerson"),
                new("uid", name),
                new("cn", name),
                new("sn", name),
                new("entryUUID", account.ImmutableId),
            ],
            // Operational attributes are taken as they are: of the server, as its copies are put back with it.
            [new("1.3.6.1.4.1.4203.666.5.12", true)]
        );
        Assert.Equal(account.ImmutableId, (await root.ReadAsync(TestDirectory.Dn(name), ["entryUUID"]))!.Text("entryUUID"));
        world.WriteHr([row with { Title = "Instructor" }]);
        var mover = (await world.RunIntakeAsync()).Requests.Single(r => r.Number == row.Number);
        var request = await world.EventuallyAsync(() => world.RequestAsync(mover.Id), r => r.Plan.Count > 0);
        Assert.Contains(request.Plan, c => c.Kind == "adopt-account");
        Assert.DoesNotContain(request.Plan, c => c.Kind == "create-account");
        await world.ThroughAsync(mover.Id);
        Assert.Equal(account.ImmutableId, (await world.GetAsync<PersonDetail>($"/api/v1/people/{person}")).Accounts.Single().ImmutableId);
        var entries = await root.SearchAsync(
            new(DirectoryOptions.People, LdapScope.One, LdapFilter.Equal("employeeNumber", row.Number), "entryUUID", "title")
        );
        Assert.Equal((account.ImmutableId, "Instructor"), (Assert.Single(entries).Text("entryUUID"), entries[0].Text("title")));
    }

    [Fact]
    public async Task What_nobody_gave_is_told_after_the_rest_was_set_right_and_since_when_stays()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var row = HrRow.New("Tove");
        var person = (await world.BringAsync(row)).Summary.PersonId;
        await using (var ldap = await world.Directory.ConnectAsRootAsync())
        {
            var entry = (
                await ldap.SearchAsync(new(DirectoryOptions.People, LdapScope.One, LdapFilter.Equal("employeeNumber", row.Number), "uid"))
            ).Single();
            await ldap.ModifyAsync(
                $"cn=research-lab,{DirectoryOptions.Groups}",
                [new LdapModification(LdapChangeKind.Add, "member", entry.Dn)]
            );
        }
        // Alone it raises nothing: nobody decided that it is wrong.
        var surplus = Assert.Single(await LookAsync(world, person));
        Assert.Equal(("put into Research lab", null), (Assert.Single(surplus.Differences).Text, surplus.RequestId));
        await OutsideAsync(world, row, "title", "Captain");
        var both = Assert.Single(await LookAsync(world, person));
        Assert.Equal(2, both.Differences.Count);
        await world.ReleaseAsync(await world.WaitForAsync(both.RequestId, "releasing"));
        await world.WaitForAsync(both.RequestId, "completed");
        var left = Assert.Single((await world.GetAsync<PersonDetail>($"/api/v1/people/{person}")).Findings!);
        Assert.Equal(("put into Research lab", both.Since, null), (Assert.Single(left.Differences).Text, left.Since, left.RequestId));
    }

    [Fact]
    public async Task An_operator_of_another_site_neither_looks_nor_hears_of_it()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var row = HrRow.New("Ole");
        var person = (await world.BringAsync(row)).Summary.PersonId;
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
        await PublishAsync(world, "then: report");
        await OutsideAsync(world, row, "title", "Captain");
        Assert.Single(await LookAsync(world, person));
        var far = await world.SignInAsync("far");
        Assert.Equal(404, (await World.RefusedAsync(far.PostAsJsonAsync($"/api/v1/people/{person}/look", new { }))).Status);
        var leave = far.PostAsJsonAsync($"/api/v1/people/{person}/findings/leave", new LeaveBody("directory", "as agreed"));
        Assert.Equal(404, (await World.RefusedAsync(leave)).Status);
        // Who may read about everybody, and operate elsewhere, operates nothing here.
        await world.SaveUserAsync(
            "wide",
            new(
                "Wide",
                "wide@northmere.example",
                ["operator", "auditor"],
                null,
                true,
                new Dictionary<string, ReachBody> { ["operator"] = new(["reefpoint"]) }
            )
        );
        var wide = await world.SignInAsync("wide");
        Assert.Equal("out-of-reach", (await World.RefusedAsync(wide.PostAsJsonAsync($"/api/v1/people/{person}/look", new { }))).Code);
        var stays = wide.PostAsJsonAsync($"/api/v1/people/{person}/findings/leave", new LeaveBody("directory", "as agreed"));
        Assert.Equal("out-of-reach", (await World.RefusedAsync(stays)).Code);
        Assert.DoesNotContain(
            (await world.GetAsync<TodayView>("/api/v1/today", "far")).Attention,
            a => a.Text.Contains(row.Family, StringComparison.Ordinal)
        );
        Assert.Contains(
            (await world.GetAsync<TodayView>("/api/v1/today", "otto")).Attention,
            a => a.Kind == "changed-outside" && a.Text.Contains(row.Family, StringComparison.Ordinal)
        );
    }

    [Fact]
    public async Task What_follows_is_the_targets_rule_and_never_more_than_it_allows_in_a_day()
    {
        await using var world = await World.StartAsync(servers.Directory);
        HrRow[] rows = [HrRow.New("Pia"), HrRow.New("Rui"), HrRow.New("Sol")];
        var people = new List<string>();
        foreach (var row in rows)
            people.Add((await world.BringAsync(row)).Summary.PersonId);

        await PublishAsync(world, "then: report");
        await OutsideAsync(world, rows[0], "title", "Captain");
        Assert.Null(Assert.Single(await LookAsync(world, people[0])).RequestId);
        Assert.Empty(await ChangesAsync(world, rows[0]));

        await PublishAsync(world, "then: mend, most: 2");
        var mends = Assert.Single(await LookAsync(world, people[0])).RequestId;
        Assert.Equal("mended", (await world.WaitForAsync(mends, "completed")).Workflow);
        Assert.Empty((await world.GetAsync<PersonDetail>($"/api/v1/people/{people[0]}")).Findings!);

        // Three at once are more than the rule allows: the third is told, and nothing is done about it.
        await OutsideAsync(world, rows[1], "title", "Captain");
        await OutsideAsync(world, rows[2], "title", "Captain");
        await OutsideAsync(world, rows[0], "title", "Captain");
        await PublishAsync(world, "then: propose, most: 2");
        Assert.NotNull(Assert.Single(await LookAsync(world, people[0])).RequestId);
        Assert.NotNull(Assert.Single(await LookAsync(world, people[1])).RequestId);
        Assert.Null(Assert.Single(await LookAsync(world, people[2])).RequestId);
        Assert.Empty(await ChangesAsync(world, rows[2]));
    }
}
