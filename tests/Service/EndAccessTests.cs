using System.Net.Http.Json;
using Oikonom.Contracts;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

/// <summary>Who may end what somebody holds, and what is refused.</summary>
public sealed class EndAccessTests(Servers servers)
{
    [Fact]
    public async Task Access_ends_by_who_answers_for_it_and_by_nobody_else()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var row = HrRow.New("Lea");
        var joiner = await world.BringAsync(row, "completed");
        var path = $"/api/v1/people/{joiner.Summary.PersonId}/access/end";
        async Task<int> RefusedAsync(string user, string entitlement, string? reason) =>
            (
                await World.RefusedAsync((await world.SignInAsync(user)).PostAsJsonAsync(path, new EndAccessBody(entitlement, reason)))
            ).Status;

        // Neither an operator nor another manager ends it; a manager says why, and only of what is held.
        Assert.Equal(403, await RefusedAsync("otto", "directory/dive-team", "no more"));
        Assert.Equal(403, await RefusedAsync("aldo", "directory/dive-team", "no more"));
        Assert.Equal(400, await RefusedAsync("mara", "directory/dive-team", " "));
        Assert.Equal(400, await RefusedAsync("mara", "directory/research-lab", "no more"));
        Assert.Equal(400, await RefusedAsync("mara", "directory/nothing", "no more"));
        Assert.Equal(400, await RefusedAsync("mara", "directory/dive-team", new string('x', 2001)));

        // Who raises requests asks for it, and it waits; the same is not asked for twice.
        var ines = await world.SignInAsync("ines");
        await World.OkAsync(ines.PostAsJsonAsync(path, new EndAccessBody("directory/dive-team", "left the boat")));
        Assert.Equal(409, await RefusedAsync("mara", "directory/dive-team", "no more"));
        var person = await world.GetAsync<PersonDetail>($"/api/v1/people/{joiner.Summary.PersonId}", "mara");
        Assert.Contains(person.Grants, g => g is { Entitlement: "dive-team", Until: null, MayEnd: true });
        var seen = await world.GetAsync<PersonDetail>($"/api/v1/people/{joiner.Summary.PersonId}", "otto");
        Assert.All(seen.Grants, g => Assert.False(g.MayEnd));
    }

    [Fact]
    public async Task What_is_taken_early_ends_what_was_to_take_it_later_and_the_person_is_told_why()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var row = HrRow.New("Mo");
        var joiner = await world.BringAsync(row, "completed");
        var asked = await ApprovalTests.RaiseAsync(
            world,
            new("access", row.Number, "rota", Grants: [new("directory/research-lab", null, "2034-01-31")])
        );
        asked = await ApprovalTests.ApproveAsync(world, await world.WaitForAsync(asked.Summary.Id, "deciding"), "mara");
        if (asked.Summary.State == "deciding")
            await ApprovalTests.ApproveAsync(world, asked, "tomas");
        asked = await world.WaitForAsync(asked.Summary.Id, "completed");
        Assert.Equal(2, asked.Steps.Count(s => s is { Later: true, State: "pending" }));
        await World.OkAsync(
            (await world.SignInAsync("mara")).PostAsJsonAsync(
                $"/api/v1/people/{joiner.Summary.PersonId}/access/end",
                new EndAccessBody("directory/research-lab", "the survey is over")
            )
        );
        var ended = await world.EventuallyAsync(
            () => world.RequestAsync(asked.Summary.Id),
            r => r.Steps.All(s => s.State is "done" or "dropped")
        );
        Assert.All(ended.Steps.Where(s => s.Later), s => Assert.Contains("does it at once", s.Problem!, StringComparison.Ordinal));
        Assert.Equal("completed", ended.Summary.State);
        var told = await world.EventuallyAsync(
            () =>
                Task.FromResult(
                    world.Mail!.Mails.Where(m => m.Subject.StartsWith("Access of yours was taken away", StringComparison.Ordinal)).ToList()
                ),
            m => m.Count == 1
        );
        Assert.StartsWith("mo.", told[0].To, StringComparison.Ordinal);
        Assert.Contains("took access from you: the survey is over", told[0].Body, StringComparison.Ordinal);
        Assert.Contains("- Research lab", told[0].Body, StringComparison.Ordinal);
    }
}
