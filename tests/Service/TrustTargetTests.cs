using System.Net.Http.Json;
using Oikonom.Contracts;
using Oikonom.Ldap;
using Oikonom.Testing;
using Xunit;
using static Oikonom.Service.Tests.ApprovalTests;

namespace Oikonom.Service.Tests;

/// <summary>What is promised of targets: every write goes to the entry with the recorded id, and a link is spent only for a
/// password that was set.</summary>
public sealed class TrustTargetTests(Servers servers)
{
    [Fact]
    public async Task A_name_that_was_given_to_a_stranger_leads_no_write_to_them()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await TrustApprovalTests.PublishAsync(world);
        var person = await PersonAsync(world);
        var account = (await world.GetAsync<PersonDetail>($"/api/v1/people/{person.Number}", "edda")).Accounts.Single();
        // Renamed outside, and the old name is a stranger's now, with a password of their own.
        await using var root = await servers.Directory.ConnectAsRootAsync();
        var renamed = $"uid=renamed-{account.Name}";
        await root.ModifyDnAsync(account.Location, renamed, deleteOldRdn: true);
        await root.AddAsync(account.Location, TestDirectory.Person(account.Name, "S" + person.Number));
        await root.PasswordModifyAsync(account.Location, null, "the-strangers-own-1");
        async Task<RequestDetail> DoneAsync(NewRequest body, params string[] approvers)
        {
            var asked = await RaiseAsync(world, body);
            asked = await world.WaitForAsync(asked.Summary.Id, "deciding");
            foreach (var approver in approvers)
                await ApproveAsync(world, await world.RequestAsync(asked.Summary.Id), approver);
            if ((await world.RequestAsync(asked.Summary.Id)).Summary.State == "releasing")
                await world.ReleaseAsync(await world.RequestAsync(asked.Summary.Id));
            return await world.EventuallyAsync(
                () => world.RequestAsync(asked.Summary.Id),
                r => r.Steps.Count > 0 && r.Steps.All(s => s.State is "done" or "stopped" || s.Problem is not null || s.Later)
            );
        }
        // A new password, a membership and a change: all to the renamed entry, none to the stranger's.
        await DoneAsync(new("password", person.Number, "forgot it", Target: "directory"), "mara");
        await DoneAsync(new("access", person.Number, "x", Grants: [new("directory/payments", null, "2034-06-30")]), "mara", "tomas");
        await DoneAsync(new("change", person.Number, "x", new Dictionary<string, string> { ["title"] = "Head of reefs" }), "mara");
        await using (var stranger = await LdapConnection.ConnectAsync(servers.Directory.Options))
            await stranger.BindAsync(account.Location, "the-strangers-own-1");
        var (moved, old) = (
            await root.ReadAsync($"{renamed},ou=people,dc=northmere,dc=example", ["title", "entryUUID"]),
            await root.ReadAsync(account.Location, ["title"])
        );
        Assert.Equal(
            (account.ImmutableId, "Head of reefs", (string?)null),
            (moved!.Text("entryUUID"), moved.Text("title"), old!.Text("title"))
        );
        var members = (await root.ReadAsync("cn=payments,ou=groups,dc=northmere,dc=example", ["member"]))!
            .Texts("member")
            .Select(LdapDn.Normalise)
            .ToList();
        Assert.Contains(LdapDn.Normalise(moved.Dn), members);
        Assert.DoesNotContain(LdapDn.Normalise(account.Location), members);
    }

    [Fact]
    public async Task A_link_is_spent_only_when_the_password_was_set_and_can_be_sent_anew()
    {
        // A line to the directory that can be cut.
        using var line = new System.Net.Sockets.TcpListener(System.Net.IPAddress.Loopback, 0);
        var cut = false;
        var open = new System.Collections.Concurrent.ConcurrentBag<System.Net.Sockets.TcpClient>();
        line.Start();
        var port = ((System.Net.IPEndPoint)line.LocalEndpoint).Port;
        _ = Task.Run(async () =>
        {
            while (true)
            {
                var client = await line.AcceptTcpClientAsync();
                if (cut)
                {
                    client.Close();
                    continue;
                }
                open.Add(client);
                _ = Task.Run(async () =>
                {
                    using var server = new System.Net.Sockets.TcpClient("127.0.0.1", servers.Directory.LdapsPort);
                    using (client)
                    {
                        var (there, back) = (
                            client.GetStream().CopyToAsync(server.GetStream()),
                            server.GetStream().CopyToAsync(client.GetStream())
                        );
                        while (!cut && !there.IsCompleted && !back.IsCompleted)
                            await Task.Delay(20);
                    }
                });
            }
        });
        await using var world = await World.StartAsync(servers.Directory, new() { DirectoryPort = port });
        var person = HrRow.New();
        var request = await world.BringAsync(person);
        var link = await world.LinkAsync("mara@northmere.example", "/handover/");
        var mara = await world.SignInAsync("mara");
        // Links stand nowhere in clear but in the mail.
        Assert.All(await world.FilesAsync(), f => Assert.DoesNotContain(link, f.Value, StringComparison.Ordinal));
        cut = true;
        foreach (var client in open)
            client.Close();
        var away = await World.RefusedAsync(mara.PostAsync($"/api/v1/handovers/{link}", null));
        Assert.Equal((502, "target-unavailable"), (away.Status, away.Code));
        Assert.Contains("not used up", away.Detail, StringComparison.Ordinal);
        cut = false;
        var handed = await world.EventuallyAsync(
            async () => await mara.PostAsync($"/api/v1/handovers/{link}", null),
            r => r.IsSuccessStatusCode
        );
        var password = (await handed.Content.ReadFromJsonAsync<HandedOver>())!;
        await using (var user = await LdapConnection.ConnectAsync(servers.Directory.Options))
            await user.BindAsync(TestDirectory.Dn(password.Account), password.Password);
        Assert.Equal("link-used", (await World.RefusedAsync(mara.PostAsync($"/api/v1/handovers/{link}", null))).Code);

        // An operator sends a new one, which ends the old; so do HR and the manager, and nobody else.
        world.Mail!.Clear();
        var again = $"/api/v1/requests/{request.Summary.Id}/new-link";
        foreach (var (user, may) in new[] { ("tomas", false), ("aldo", false), ("edda", false), ("ines", true), ("mara", true) })
        {
            var asks = (await world.SignInAsync(user)).PostAsJsonAsync(again, new { });
            if (may)
                await World.OkAsync(asks);
            else
                Assert.Equal("not-yours", (await World.RefusedAsync(asks)).Code);
            Assert.Equal(may, (await world.RequestAsync(request.Summary.Id, user)).Rights.NewLink);
        }
        // Whose link is used has another sent from its page.
        await World.OkAsync(mara.PostAsync($"/api/v1/handovers/{link}/again", null));
        Assert.Equal(
            404,
            (await World.RefusedAsync((await world.SignInAsync("otto")).PostAsync($"/api/v1/handovers/{link}/again", null))).Status
        );
        await world.EventuallyAsync(
            () => Task.FromResult(world.Mail!.Mails.Count(m => m.Subject.StartsWith("First password", StringComparison.Ordinal))),
            sent => sent == 3
        );
        world.Mail.Clear();
        var otto = await world.SignInAsync("otto");
        await World.OkAsync(otto.PostAsJsonAsync($"/api/v1/requests/{request.Summary.Id}/new-link", new { }));
        var second = await world.LinkAsync("mara@northmere.example", "/handover/");
        world.Mail.Clear();
        var sent = await (
            await World.OkAsync(otto.PostAsJsonAsync($"/api/v1/requests/{request.Summary.Id}/new-link", new { }))
        ).Content.ReadFromJsonAsync<FirstPasswordSent>();
        Assert.Equal(["mara"], sent!.Receivers);
        var third = await world.LinkAsync("mara@northmere.example", "/handover/");
        Assert.Equal("link-over", (await World.RefusedAsync(mara.PostAsync($"/api/v1/handovers/{second}", null))).Code);
        await World.OkAsync(mara.PostAsync($"/api/v1/handovers/{third}", null));
    }
}
