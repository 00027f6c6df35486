using System.Net;
using System.Net.Http.Json;
using Oikonom.Contracts;
using Oikonom.Standins.Directory;
using Oikonom.Standins.OpenId;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

/// <summary>Sign-in by an OpenID provider, sessions, tokens with a scope, and hooks.</summary>
public sealed class OpenIdTests(Servers servers)
{
    [Fact]
    public async Task Who_signs_in_at_the_provider_has_the_roles_their_groups_give()
    {
        var port = DirectoryServer.FreePort();
        await using var provider = await OpenIdProvider.StartAsync(port);
        await using var world = await World.StartAsync(
            servers.Directory,
            new()
            {
                Environment = new Dictionary<string, string>
                {
                    ["OPENID_AUTHORITY"] = $"http://127.0.0.1:{port}",
                    ["OPENID_CLIENT"] = OpenIdProvider.Client,
                    ["OPENID_SECRET"] = OpenIdProvider.Secret,
                    ["OPENID_ROLES"] = "people-office=requester;keepers=approver",
                },
            }
        );
        HttpClient Browser() =>
            new(new HttpClientHandler { CookieContainer = new CookieContainer(), AllowAutoRedirect = true })
            {
                BaseAddress = new(world.Address),
            };

        provider.Current = new("rosa.penn", "Rosa Penn", "rosa.penn@northmere.example", "E9042", ["people-office", "choir"]);
        using var rosa = Browser();
        await rosa.GetAsync("/api/v1/sign-in/openid?onward=/api/v1/me");
        var me = await rosa.GetFromJsonAsync<Me>("/api/v1/me");
        Assert.Equal(("rosa.penn", "Rosa Penn", "requester", "E9042"), (me!.Name, me.Display, string.Join(',', me.Roles), me.Number));
        var session = (await rosa.GetFromJsonAsync<Page<SessionView>>("/api/v1/me/sessions"))!.Items.Single();
        Assert.Equal(("openid", true), (session.Way, session.Current));

        // Another group, another role, from the next sign-in on.
        provider.Current = provider.Current with
        {
            Groups = ["keepers"],
        };
        using var again = Browser();
        await again.GetAsync("/api/v1/sign-in/openid?onward=/api/v1/me");
        Assert.Equal(["approver"], (await again.GetFromJsonAsync<Me>("/api/v1/me"))!.Roles);
        Assert.Equal(HttpStatusCode.Unauthorized, (await rosa.GetAsync("/api/v1/me")).StatusCode);

        // An engineer ends the session; the next call is a stranger's.
        var edda = await world.SignInAsync("edda");
        var open = (await edda.GetFromJsonAsync<Page<SessionView>>("/api/v1/sessions"))!.Items.First(s => s.User == "rosa.penn");
        foreach (var one in (await edda.GetFromJsonAsync<Page<SessionView>>("/api/v1/sessions"))!.Items.Where(s => s.User == "rosa.penn"))
            await World.OkAsync(edda.DeleteAsync($"/api/v1/sessions/{one.Id}"));
        Assert.Equal("openid", open.Way);
        Assert.Equal(HttpStatusCode.Unauthorized, (await again.GetAsync("/api/v1/me")).StatusCode);

        // No group with a role, and the name of an own account: nobody comes in.
        foreach (var (name, groups) in new[] { ("nobody.penn", new[] { "choir" }), ("edda", ["keepers"]) })
        {
            provider.Current = new(name, name, "", "", groups);
            using var stranger = Browser();
            await stranger.GetAsync("/api/v1/sign-in/openid?onward=/api/v1/me");
            Assert.Equal(HttpStatusCode.Unauthorized, (await stranger.GetAsync("/api/v1/me")).StatusCode);
        }
        Assert.Contains(
            (await world.GetAsync<Page<LedgerEntryView>>("/api/v1/ledger?kind=sign-in&limit=200", "aldo")).Items,
            e => e.Actor == "rosa.penn" && e.Body.ToString().Contains("openid", StringComparison.Ordinal)
        );
    }

    [Fact]
    public async Task A_hook_is_told_in_order_signed_again_after_a_failure_and_from_the_start()
    {
        await using var world = await World.StartAsync(servers.Directory);
        const string secret = "a-secret-of-the-receiver";
        using var receiver = Listener.Start(out var port);
        var address = $"http://127.0.0.1:{port}/";
        var got = new System.Collections.Concurrent.ConcurrentQueue<(string Id, string Type, bool Signed)>();
        var refusals = 2;
        _ = Task.Run(async () =>
        {
            while (receiver.IsListening)
            {
                var context = await receiver.GetContextAsync();
                using var body = new MemoryStream();
                await context.Request.InputStream.CopyToAsync(body);
                var bytes = body.ToArray();
                var digest = $"sha-256=:{Convert.ToBase64String(System.Security.Cryptography.SHA256.HashData(bytes))}:";
                var parameters = context.Request.Headers["Signature-Input"]!["oikonom=".Length..];
                var text =
                    $"\"@method\": POST\n\"@target-uri\": {address}\n\"content-type\": "
                    + $"{context.Request.ContentType}\n\"content-digest\": {digest}\n\"@signature-params\": {parameters}";
                var signature = Convert.ToBase64String(
                    System.Security.Cryptography.HMACSHA256.HashData(
                        System.Text.Encoding.UTF8.GetBytes(secret),
                        System.Text.Encoding.ASCII.GetBytes(text)
                    )
                );
                var cloudEvent = System.Text.Json.JsonDocument.Parse(bytes).RootElement;
                if (Interlocked.Decrement(ref refusals) >= 0)
                    context.Response.StatusCode = 503;
                else
                    got.Enqueue(
                        (
                            cloudEvent.GetProperty("id").GetString()!,
                            cloudEvent.GetProperty("type").GetString()!,
                            context.Request.Headers["Content-Digest"] == digest
                                && context.Request.Headers["Signature"] == $"oikonom=:{signature}:"
                        )
                    );
                context.Response.Close();
            }
        });
        var edda = await world.SignInAsync("edda");
        Assert.Equal(
            400,
            (await World.RefusedAsync(edda.PostAsJsonAsync("/api/v1/hooks", new HookBody("http://far.example/", secret)))).Status
        );
        var hook = await (
            await World.OkAsync(edda.PostAsJsonAsync("/api/v1/hooks", new HookBody(address, secret)))
        ).Content.ReadFromJsonAsync<HookView>();
        await world.BringAsync(HrRow.New());
        await world.EventuallyAsync(() => Task.FromResult(got.Count), n => got.Any(g => g.Type == "oikonom.request.completed"));
        Assert.Equal(
            [
                "oikonom.request.raised",
                "oikonom.request.planned",
                "oikonom.request.approved",
                "oikonom.request.released",
                "oikonom.request.completed",
            ],
            got.Select(g => g.Type)
        );
        Assert.All(got, g => Assert.True(g.Signed));
        await World.OkAsync(edda.PostAsJsonAsync($"/api/v1/hooks/{hook!.Id}/replay", new ReplayBody(0)));
        await world.EventuallyAsync(() => Task.FromResult(got.Count), n => n == 10);
        Assert.Equal(5, got.Select(g => g.Id).Distinct().Count());
        await World.OkAsync(edda.DeleteAsync($"/api/v1/hooks/{hook.Id}"));
        receiver.Stop();
    }

    [Fact]
    public async Task A_token_gives_no_more_than_its_roles_and_ends_on_its_own()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var edda = await world.SignInAsync("edda");
        await world.SaveUserAsync("both", new("Both", "both@northmere.example", ["requester", "auditor"], null, true));
        var both = await world.SignInAsync("both");
        Assert.Equal(
            400,
            (await World.RefusedAsync(both.PostAsJsonAsync("/api/v1/me/tokens", new OwnTokenBody("x", 1, ["engineer"])))).Status
        );
        var narrow = await (
            await World.OkAsync(both.PostAsJsonAsync("/api/v1/me/tokens", new OwnTokenBody("feed", 1, ["requester"])))
        ).Content.ReadFromJsonAsync<IssuedToken>();
        using var client = new HttpClient { BaseAddress = new(world.Address) };
        client.DefaultRequestHeaders.Authorization = new("Bearer", narrow!.Token);
        Assert.Equal(["requester"], (await client.GetFromJsonAsync<Me>("/api/v1/me"))!.Roles);
        Assert.Equal(HttpStatusCode.Forbidden, (await client.GetAsync("/api/v1/ledger")).StatusCode);
        // A token made with it is as narrow.
        var child = await (
            await World.OkAsync(client.PostAsJsonAsync("/api/v1/me/tokens", new OwnTokenBody("child", 1)))
        ).Content.ReadFromJsonAsync<IssuedToken>();
        Assert.Equal(
            ["requester"],
            (await both.GetFromJsonAsync<Page<TokenView>>("/api/v1/me/tokens"))!.Items.Single(t => t.Id == child!.Id).Roles
        );
        await World.OkAsync(both.DeleteAsync($"/api/v1/me/tokens/{narrow.Id}"));
        Assert.Equal(HttpStatusCode.Unauthorized, (await client.GetAsync("/api/v1/me")).StatusCode);
    }
}
