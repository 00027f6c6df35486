using System.Net.Http.Json;
using System.Text.Json.Nodes;
using Oikonom.Contracts;
using Oikonom.Ldap;
using Oikonom.Scim;
using Oikonom.Standins.Applications;
using Oikonom.Standins.Directory;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

/// <summary>What real targets can give, read from them and taken into the rulebook.</summary>
public sealed class CatalogueTests(Servers servers)
{
    private static string Group(string name) => $"cn={LdapDn.Escape(name)},{DirectoryOptions.Groups}";

    private static Task AddGroupAsync(LdapConnection root, string name, string about, string? owner, params string[] members) =>
        root.AddAsync(
            Group(name),
            [
                new("objectClass", "groupOfNames"),
                new("cn", name),
                new("description", about),
                new("member", [DirectoryOptions.Nobody, .. members]),
                .. owner is null ? Array.Empty<LdapAttribute>() : [new("owner", owner)],
            ]
        );

    private static async Task<string> DnAsync(LdapConnection root, HrRow row) =>
        (await root.SearchAsync(new(DirectoryOptions.People, LdapScope.One, LdapFilter.Equal("employeeNumber", row.Number), "uid")))
            .Single()
            .Dn;

    private static async Task<TargetCatalogue> ReadAsync(World world, string target = "directory", string user = "otto") =>
        (
            await (
                await World.OkAsync((await world.SignInAsync(user)).PostAsJsonAsync($"/api/v1/targets/{target}/catalogue", new { }))
            ).Content.ReadFromJsonAsync<TargetCatalogue>()
        )!;

    private static async Task<HttpResponseMessage> TakeAsync(
        World world,
        string? digest,
        string user = "edda",
        string target = "directory"
    ) =>
        await (await world.SignInAsync(user)).PostAsJsonAsync(
            $"/api/v1/targets/{target}/catalogue/publish",
            new CataloguePublishing(digest)
        );

    /// <summary>Publishes the newest edition with some of its files changed.</summary>
    private static async Task PublishAsync(World world, Func<RulebookFileBody, RulebookFileBody> change)
    {
        var current = await world.GetAsync<EditionDetail>("/api/v1/rulebook/editions/current", "edda");
        await World.OkAsync(
            (await world.SignInAsync("edda")).PostAsJsonAsync(
                "/api/v1/rulebook/editions",
                new RulebookBody([.. current.Files.Select(change)])
            )
        );
    }

    [Fact]
    public async Task What_a_directory_has_is_taken_in_used_and_missed_once_it_is_gone()
    {
        await using var directory = await TestDirectory.StartAsync();
        await using var world = await World.StartAsync(directory);
        var (row, other) = (HrRow.New("Ada"), HrRow.New("Bo"));
        world.WriteHr(row, other);
        foreach (var raised in (await world.RunIntakeAsync()).Requests)
            await world.ThroughAsync(raised.Id);
        const string Awkward = "Boat, crew +1 \"sea\" #(*)";
        await using var root = await directory.ConnectAsRootAsync();
        await AddGroupAsync(root, Awkward, "Goes out\nwith the boats", await DnAsync(root, row), await DnAsync(root, other));
        await AddGroupAsync(root, "Zoo", "Feeds", "cn=gone,dc=northmere,dc=example");
        for (var i = 0; i < 700; i++)
            await AddGroupAsync(root, $"Room {i:000}", "Opens a room", null);

        var read = await ReadAsync(world);
        Assert.Equal((702, 500, 0, 0), (read.New.Count, read.New.Items.Count, read.Changed.Count, read.Gone.Count));
        var crew = read.New.Items.Single(i => i.Name == "boat-crew-1-sea");
        Assert.Equal((Awkward, "Goes out with the boats", row.Number, "group"), (crew.Title, crew.Description, crew.Owner, crew.Kind));
        Assert.True(read.Differs);
        Assert.Equal(1, read.Edition);

        // Who may look does not publish; what is published is what was looked at.
        Assert.Equal(403, (await World.RefusedAsync(TakeAsync(world, read.Digest, "otto"))).Status);
        Assert.Equal(
            403,
            (int)(await (await world.SignInAsync("ines")).PostAsJsonAsync("/api/v1/targets/directory/catalogue", new { })).StatusCode
        );
        Assert.Equal((409, "changed-meanwhile"), Short(await World.RefusedAsync(TakeAsync(world, "0123"))));
        Assert.Equal(400, (await World.RefusedAsync(TakeAsync(world, null))).Status);
        Assert.Equal((409, "no-catalogue"), Short(await World.RefusedAsync(CatalogueOfAsync(world, "facilities"))));
        Assert.Equal(404, (await World.RefusedAsync(CatalogueOfAsync(world, "nowhere"))).Status);
        await World.OkAsync(TakeAsync(world, read.Digest));
        var now = await ReadAsync(world);
        Assert.Equal((2, false, 0, 0, 0), (now.Edition, now.Differs, now.New.Count, now.Changed.Count, now.Gone.Count));
        Assert.Equal((409, "unchanged"), Short(await World.RefusedAsync(TakeAsync(world, now.Digest))));

        // Whoever its owner put in is left there, and nobody asks for it by hand while the rulebook says nothing of it.
        var whole = await (
            await World.OkAsync(
                (await world.SignInAsync("otto")).PostAsJsonAsync("/api/v1/targets/directory/reconcile", new ReconcileBody(false))
            )
        ).Content.ReadFromJsonAsync<Reconciliation>();
        Assert.Equal([("as-decided", 2)], whole!.Classes.Select(c => (c.Name, c.Count)));
        var ask = new NewRequest("access", row.Number, "rows", Grants: [new("directory/boat-crew-1-sea")]);
        Assert.Equal(400, (await World.RefusedAsync((await world.SignInAsync("ines")).PostAsJsonAsync("/api/v1/requests", ask))).Status);

        // What the rulebook adds counts: it is asked for, and who holds it is decided here.
        await PublishAsync(
            world,
            f =>
                f.Path == "targets/directory.yaml"
                    ? f with
                    {
                        Text = f.Text.Replace(
                            "entitlements:\n",
                            "entitlements:\n  boat-crew-1-sea: { title: Boat crew, owner: E9003, members: shared }\n",
                            StringComparison.Ordinal
                        ),
                    }
                    : f
        );
        var asked = await ApprovalTests.RaiseAsync(world, ask);
        var request = await world.WaitForAsync(asked.Summary.Id, "deciding");
        await ApprovalTests.ApproveAsync(world, await ApprovalTests.ApproveAsync(world, request, "mara"), "tomas");
        await world.WaitForAsync(asked.Summary.Id, "completed");
        Assert.Equal(
            [DirectoryOptions.Nobody, await DnAsync(root, other), await DnAsync(root, row)],
            (await root.ReadAsync(Group(Awkward), ["member"]))!.Texts("member")
        );

        // What was given here and is gone is found.
        await root.ModifyAsync(Group(Awkward), [new(LdapChangeKind.Delete, "member", await DnAsync(root, row))]);
        await World.OkAsync((await world.SignInAsync("otto")).PostAsJsonAsync($"/api/v1/people/{request.Summary.PersonId}/look", new { }));
        Assert.Equal(1, (await world.GetAsync<TargetDetail>("/api/v1/targets/directory")).Summary.Differing);

        // What the target lost is told where it is used, and is not taken out from under it.
        await PublishAsync(
            world,
            f =>
                f.Path == "templates/dive-team.yaml"
                    ? f with
                    {
                        Text = f.Text.Replace("to: directory/dive-team", "to: directory/zoo", StringComparison.Ordinal),
                    }
                    : f
        );
        await root.DeleteAsync(Group("Zoo"));
        await root.ModifyAsync(Group("Room 007"), [new(LdapChangeKind.Replace, "description", "Opens the vault")]);
        var last = await ReadAsync(world);
        Assert.Equal(("zoo", "Room 007"), (last.Gone.Items.Single().Name, last.Changed.Items.Single().Title));
        Assert.Contains("templates/dive-team.yaml:", last.Gone.Items[0].Uses.Single(), StringComparison.Ordinal);
        Assert.Contains("Opens a room", last.Changed.Items[0].Before, StringComparison.Ordinal);
        Assert.Equal((422, "rulebook-unsound"), Short(await World.RefusedAsync(TakeAsync(world, last.Digest))));
    }

    [Fact]
    public async Task An_application_tells_its_groups_and_what_its_users_have()
    {
        await using var records = await ApplicationServer.StartAsync(
            NorthmereApplications.Records,
            DirectoryServer.FreePort(),
            "records-secret",
            null
        );
        await using var shop = await ApplicationServer.StartAsync(
            NorthmereApplications.Shop,
            DirectoryServer.FreePort(),
            "shop-secret",
            null
        );
        await using var world = await World.StartAsync(
            servers.Directory,
            new()
            {
                Applications = new Dictionary<int, ApplicationServer> { [7438] = records, [7439] = shop },
            }
        );
        records.Data.Add(
            ScimSchemas.Users,
            new JsonObject
            {
                ["schemas"] = new JsonArray(ScimSchemas.User),
                ["userName"] = "curator",
                ["roles"] = new JsonArray(
                    new JsonObject { ["value"] = "curator", ["display"] = "Curates the collection" },
                    new JsonObject { ["value"] = "keeper" }
                ),
                ["entitlements"] = new JsonArray(new JsonObject { ["value"] = "imaging" }),
            }
        );
        var read = await ReadAsync(world, "records");
        Assert.Equal(
            [("curator", "role", "Curates the collection"), ("imaging", "licence", "imaging"), ("night-keepers", "group", "Night keepers")],
            read.New.Items.Where(i => i.Name is "curator" or "imaging" or "night-keepers").Select(i => (i.Name, i.Kind, i.Title)).Order()
        );
        Assert.DoesNotContain(read.New.Items, i => i.Name is "keeper" or "vets");
        await World.OkAsync(TakeAsync(world, read.Digest, target: "records"));
        Assert.False((await ReadAsync(world, "records")).Differs);
        Assert.Contains(
            (await world.GetAsync<TargetDetail>("/api/v1/targets/records")).Entitlements,
            e => e is { Name: "imaging", Kind: "licence", Read: true, Shared: true }
        );
    }

    [Fact]
    public async Task A_target_that_an_edition_brings_goes_on_once_all_of_it_is_good()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var text = (await world.GetAsync<EditionDetail>("/api/v1/rulebook/editions/current", "edda"))
            .Files.Single(f => f.Path == "targets/directory.yaml")
            .Text;
        text = text[..text.IndexOf("entitlements:", StringComparison.Ordinal)]
            .Replace("name: directory\n", "name: second\n", StringComparison.Ordinal)
            .Replace("secret: directory-password", "secret: second-password", StringComparison.Ordinal)
            .Replace("title: Northmere directory", "title: Second directory", StringComparison.Ordinal);
        async Task<Published> BringAsync(string place, string key)
        {
            var files = (await world.GetAsync<EditionDetail>("/api/v1/rulebook/editions/current", "edda")).Files;
            var fresh = text.Replace("container: ou=people,", $"container: {place},", StringComparison.Ordinal)
                .Replace("match: [employeeNumber]", $"match: [{key}]", StringComparison.Ordinal);
            var body = new RulebookBody([.. files.Where(f => f.Path != "targets/second.yaml"), new("targets/second.yaml", fresh)]);
            return (
                await (
                    await World.OkAsync((await world.SignInAsync("edda")).PostAsJsonAsync("/api/v1/rulebook/editions", body))
                ).Content.ReadFromJsonAsync<Published>()
            )!;
        }
        async Task<HttpResponseMessage> DoAsync(string what, object body) =>
            await (await world.SignInAsync("otto")).PostAsJsonAsync($"/api/v1/targets/second/{what}", body);
        async Task<(string State, string Text)> StandsAsync()
        {
            var summary = (await world.GetAsync<TargetDetail>("/api/v1/targets/second")).Summary;
            return (summary.State, summary.Text);
        }

        Assert.Equal(["second"], (await BringAsync("ou=nowhere", "employeeNo")).NewTargets);
        Assert.Equal("paused", (await StandsAsync()).State);
        Assert.Contains("it is new", (await StandsAsync()).Text, StringComparison.Ordinal);
        var refused = await World.RefusedAsync(DoAsync("resume", new { }));
        Assert.Equal((409, "not-ready"), Short(refused));
        Assert.Contains("second-password", refused.Detail, StringComparison.Ordinal);
        var password = new SecretBody(servers.Directory.Server.Options.ServicePassword, ["targets/second"]);
        await World.OkAsync((await world.SignInAsync("edda")).PutAsJsonAsync("/api/v1/secrets/second-password", password));
        refused = await World.RefusedAsync(DoAsync("resume", new { }));
        Assert.Contains("ou=nowhere,dc=northmere,dc=example does not exist", refused.Detail, StringComparison.Ordinal);
        // Put right in part it is not new any more, and waits all the same.
        Assert.Empty((await BringAsync("ou=people", "employeeNo")).NewTargets);
        refused = await World.RefusedAsync(DoAsync("resume", new { }));
        Assert.Contains("has no attribute 'employeeNo'", refused.Detail, StringComparison.Ordinal);
        await BringAsync("ou=people", "employeeNumber");
        await World.OkAsync(DoAsync("resume", new { }));
        Assert.NotEqual("paused", (await StandsAsync()).State);
        // Whoever paused it later lets it go on as it is.
        await World.OkAsync(DoAsync("pause", new PauseBody("moved")));
        await World.OkAsync(DoAsync("resume", new { }));
    }

    private static (int, string) Short((int Status, string Code, string) refused) => (refused.Status, refused.Code);

    private static async Task<HttpResponseMessage> CatalogueOfAsync(World world, string target) =>
        await (await world.SignInAsync("otto")).PostAsJsonAsync($"/api/v1/targets/{target}/catalogue", new { });
}
