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
}
