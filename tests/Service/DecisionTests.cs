using System.Net.Http.Json;
using Oikonom.Contracts;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

public sealed class DecisionTests(Servers servers)
{
    [Fact]
    public async Task Only_the_right_person_decides_and_only_on_the_plan_that_was_shown()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var request = await world.BringAsync(HrRow.New(), "deciding");
        var path = $"/api/v1/requests/{request.Summary.Id}";
        var (mara, tomas, otto, ines) = (
            await world.SignInAsync("mara"),
            await world.SignInAsync("tomas"),
            await world.SignInAsync("otto"),
            await world.SignInAsync("ines")
        );

        Assert.Equal(
            (403, "not-yours"),
            Short(await World.RefusedAsync(tomas.PostAsJsonAsync(path + "/approve", new ApproveBody(request.PlanDigest!, null))))
        );
        Assert.Equal(
            (403, "own-request"),
            Short(await World.RefusedAsync(ines.PostAsJsonAsync(path + "/approve", new ApproveBody(request.PlanDigest!, null))))
        );
        Assert.Equal(
            (409, "plan-changed"),
            Short(await World.RefusedAsync(mara.PostAsJsonAsync(path + "/approve", new ApproveBody("0000", null))))
        );
        Assert.Equal(
            (409, "wrong-state"),
            Short(await World.RefusedAsync(otto.PostAsJsonAsync(path + "/release", new ReleaseBody(request.PlanDigest!))))
        );
        Assert.Equal((400, "invalid"), Short(await World.RefusedAsync(mara.PostAsJsonAsync(path + "/decline", new DeclineBody(" ")))));
        Assert.Equal("deciding", (await world.RequestAsync(request.Summary.Id)).Summary.State);

        // The same click twice: one counts, the other is told so.
        var clicks = await Task.WhenAll(
            Enumerable.Range(0, 5).Select(_ => mara.PostAsJsonAsync(path + "/approve", new ApproveBody(request.PlanDigest!, "yes")))
        );
        Assert.Single(clicks, c => c.IsSuccessStatusCode);
        Assert.All(clicks.Where(c => !c.IsSuccessStatusCode), c => Assert.Equal(409, (int)c.StatusCode));
        Assert.Single((await world.RequestAsync(request.Summary.Id)).Decisions);
        Assert.Equal("wrong-state", (await World.RefusedAsync(mara.PostAsJsonAsync(path + "/decline", new DeclineBody("late")))).Code);
    }

    private static (int, string) Short((int Status, string Code, string Detail) refusal) => (refusal.Status, refusal.Code);

    [Fact]
    public async Task Nobody_decides_on_a_request_they_raised_or_that_is_for_themselves()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var setup = await world.SignInAsync("setup");
        await world.SaveUserAsync("boss", new("Boss", "boss@northmere.example", ["requester", "approver", "operator"], "E9777", true));
        var own = HrRow.New() with { Manager = "E9777" };
        var self = HrRow.New() with { Number = "E9777", Manager = "E9777" };
        world.WriteHr(own, self);
        var run = await world.RunIntakeAsync(actor: "boss");
        var boss = await world.SignInAsync("boss");
        foreach (var raised in run.Requests)
        {
            var request = await world.WaitForAsync(raised.Id, "deciding");
            Assert.Contains("nobody decides for themselves", request.Story.Now, StringComparison.Ordinal);
            Assert.Equal(
                "own-request",
                (
                    await World.RefusedAsync(
                        boss.PostAsJsonAsync($"/api/v1/requests/{raised.Id}/approve", new ApproveBody(request.PlanDigest!, null))
                    )
                ).Code
            );
            Assert.Equal(
                "own-request",
                (await World.RefusedAsync(boss.PostAsJsonAsync($"/api/v1/requests/{raised.Id}/decline", new DeclineBody("x")))).Code
            );
        }
        Assert.Empty((await world.GetAsync<Page<RequestSummary>>("/api/v1/inbox", "boss")).Items);
        Assert.Equal(2, (await world.GetAsync<Page<RequestSummary>>("/api/v1/inbox", "mara")).Items.Count);
    }

    [Fact]
    public async Task A_record_that_changes_while_it_waits_is_planned_anew_and_the_old_plan_cannot_be_approved()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var row = HrRow.New();
        var before = await world.BringAsync(row, "deciding");
        world.WriteHr(row with { Department = "Visitor Services" });
        Assert.Equal(before.Summary.Id, (await world.RunIntakeAsync()).Requests.Single().Id);
        var after = await world.EventuallyAsync(
            () => world.RequestAsync(before.Summary.Id),
            r => r.Summary.State == "deciding" && r.PlanDigest != before.PlanDigest
        );
        Assert.Contains(after.Plan, c => c.Subject == "ticket-desk");
        Assert.Equal(
            "plan-changed",
            (
                await World.RefusedAsync(
                    (await world.SignInAsync("mara")).PostAsJsonAsync(
                        $"/api/v1/requests/{before.Summary.Id}/approve",
                        new ApproveBody(before.PlanDigest!, null)
                    )
                )
            ).Code
        );
    }

    [Fact]
    public async Task What_changed_after_approval_goes_back_before_it_runs()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var row = HrRow.New();
        var request = await world.BringAsync(row, "releasing");

        // The name is taken in the directory between approval and release.
        await using var ldap = await servers.Directory.ConnectAsync();
        var name = $"tor.{row.Family.ToLowerInvariant()}";
        await ldap.AddAsync(TestDirectory.Dn(name), TestDirectory.Person(name));
        await world.ReleaseAsync(request);
        var back = await world.EventuallyAsync(() => world.RequestAsync(request.Summary.Id), r => r.Summary.State == "deciding");
        Assert.Contains(back.Plan, c => c.Subject == name + "2");
        Assert.NotEqual(request.PlanDigest, back.PlanDigest);
        await world.ApproveAsync(back);
        await world.ReleaseAsync(back);
        await world.WaitForAsync(request.Summary.Id, "completed");
    }

    [Fact]
    public async Task A_declined_request_changes_nothing_and_tells_the_requester_why()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var row = HrRow.New();
        var request = await world.BringAsync(row, "deciding");
        await World.OkAsync(
            (await world.SignInAsync("mara")).PostAsJsonAsync(
                $"/api/v1/requests/{request.Summary.Id}/decline",
                new DeclineBody("The post was cut")
            )
        );
        var declined = await world.RequestAsync(request.Summary.Id);
        Assert.Equal("declined", declined.Summary.State);
        Assert.Empty(declined.Steps);
        await world.EventuallyAsync(
            () => Task.FromResult(world.Mail!.Mails),
            mails =>
                mails.Any(m =>
                    m.To.Contains("ines", StringComparison.Ordinal) && m.Body.Contains("The post was cut", StringComparison.Ordinal)
                )
        );
    }
}
