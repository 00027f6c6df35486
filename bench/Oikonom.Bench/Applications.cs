using System.Diagnostics;
using System.Net.Http.Headers;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using System.Text.Json.Nodes;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Rulebook;
using Oikonom.Standins.Applications;
using Oikonom.Standins.Directory;
using Oikonom.Targets.Scim;

namespace Oikonom.Bench;

/// <summary>Accounts in an application by the connector, against a bare loop of the same calls to the same server.</summary>
internal static class Applications
{
    private const int AtOnce = 8;
    private const int Rounds = 3;

    public static async Task RunAsync(int people)
    {
        var kind = new ApplicationKind("app", "Application", [], ["reader"], new Dictionary<string, int>());
        await using var server = await ApplicationServer.StartAsync(kind, DirectoryServer.FreePort(), "token", null);
        Console.WriteLine($"Accounts by SCIM: {people} made, given a role and read back, {AtOnce} at once");
        var (bare, ours) = (new List<double>(), new List<double>());
        await BareAsync(server, people / 5, "warm");
        await OursAsync(server, people / 5, "warmer");
        for (var round = 0; round < Rounds; round++)
        {
            Clear(server);
            bare.Add(await BareAsync(server, people, $"bare{round}"));
            Clear(server);
            ours.Add(await OursAsync(server, people, $"ours{round}"));
        }
        var (a, b) = (bare.Order().ElementAt(Rounds / 2), ours.Order().ElementAt(Rounds / 2));
        Console.WriteLine($"  bare loop of the same calls      {a, 8:0} accounts/s");
        Console.WriteLine($"  the connector                    {b, 8:0} accounts/s");
        Console.WriteLine($"  ratio                            {b / a, 8:0.00}   (wanted: 0.9 or more)");
    }

    private static void Clear(ApplicationServer server)
    {
        foreach (var user in server.Data.All(Oikonom.Scim.ScimSchemas.Users))
            server.Data.Remove(Oikonom.Scim.ScimSchemas.Users, user["id"]!.GetValue<string>());
    }

    private static async Task<double> EachAsync(int people, Func<int, Task> work)
    {
        var next = -1;
        var watch = Stopwatch.StartNew();
        await Task.WhenAll(
            Enumerable
                .Range(0, AtOnce)
                .Select(_ =>
                    Task.Run(async () =>
                    {
                        for (int i; (i = Interlocked.Increment(ref next)) < people; )
                            await work(i);
                    })
                )
        );
        return people / watch.Elapsed.TotalSeconds;
    }

    private static X509Certificate2Collection AuthoritiesOf(ApplicationServer server)
    {
        var authorities = new X509Certificate2Collection();
        authorities.ImportFromPem(server.AuthorityPem);
        return authorities;
    }

    /// <summary>What the connector asks, written down: find by number, find by name, make, read, give, read back.</summary>
    private static async Task<double> BareAsync(ApplicationServer server, int people, string prefix)
    {
        using var handler = new SocketsHttpHandler { MaxConnectionsPerServer = AtOnce };
        handler.SslOptions.CertificateChainPolicy = new()
        {
            TrustMode = X509ChainTrustMode.CustomRootTrust,
            RevocationMode = X509RevocationMode.NoCheck,
        };
        handler.SslOptions.CertificateChainPolicy.CustomTrustStore.AddRange(AuthoritiesOf(server));
        using var http = new HttpClient(handler) { BaseAddress = new(server.Address + "/") };
        http.DefaultRequestHeaders.Authorization = new("Bearer", server.Token);
        return await EachAsync(
            people,
            async i =>
            {
                await GetAsync(http, $"Users?startIndex=1&count=100&filter={Uri.EscapeDataString($"externalId eq \"{prefix}{i}\"")}");
                await GetAsync(http, $"Users?startIndex=1&count=100&filter={Uri.EscapeDataString($"userName eq \"{prefix}.{i}\"")}");
                var made = await SendAsync(
                    http,
                    HttpMethod.Post,
                    "Users",
                    $$"""
                    {"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"externalId":"{{prefix}}{{i}}","displayName":"Tor Quill",
                    "userName":"{{prefix}}.{{i}}","active":true}
                    """
                );
                var id = JsonNode.Parse(made)!["id"]!.GetValue<string>();
                await GetAsync(http, $"Users/{id}");
                await SendAsync(
                    http,
                    HttpMethod.Patch,
                    $"Users/{id}",
                    """
                    {"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
                    "Operations":[{"op":"add","path":"roles","value":[{"value":"reader"}]}]}
                    """
                );
                JsonNode.Parse(await GetAsync(http, $"Users/{id}"));
            }
        );
    }

    private static async Task<byte[]> GetAsync(HttpClient http, string path) =>
        await http.GetByteArrayAsync(new Uri(path, UriKind.Relative));

    private static async Task<byte[]> SendAsync(HttpClient http, HttpMethod method, string path, string body)
    {
        using var request = new HttpRequestMessage(method, new Uri(path, UriKind.Relative))
        {
            Content = new StringContent(body, Encoding.UTF8, new MediaTypeHeaderValue("application/scim+json")),
        };
        using var response = await http.SendAsync(request);
        response.EnsureSuccessStatusCode();
        return await response.Content.ReadAsByteArrayAsync();
    }

    private static async Task<double> OursAsync(ApplicationServer server, int people, string prefix)
    {
        var reader = new Entitlement("reader", "Reader", new EntitlementMeans.Value("roles", "reader"), null, new Place("", 0, 0));
        var rule = new TargetRule(
            "app",
            "Application",
            new TargetSettings.Scim(new(server.Address + "/"), "", "token", AtOnce),
            new Dictionary<string, Entitlement> { ["reader"] = reader },
            new Place("", 0, 0)
        );
        var signIn = new ScimSignIn(server.Token, AuthoritiesOf(server));
        await using var connector = new ScimConnector(rule, _ => Task.FromResult(signIn));
        return await EachAsync(
            people,
            async i =>
            {
                var attributes = new Dictionary<string, IReadOnlyList<string>>
                {
                    ["externalId"] = [$"{prefix}{i}"],
                    ["displayName"] = ["Tor Quill"],
                };
                var made = await connector.EnsureAccountAsync(
                    new(null, [("externalId", $"{prefix}{i}"), ("userName", $"{prefix}.{i}")], $"{prefix}.{i}", "", attributes, true, true),
                    default
                );
                await connector.EnsureGrantAsync(new(made.ImmutableId, reader, true, new("", "", "", "", "")), default);
                var read = await connector.VerifyAsync(
                    made.ImmutableId,
                    new("app", $"{prefix}.{i}", "", attributes, Oikonom.Core.Planning.Presence.Awake, new("", "", "")),
                    ["reader"],
                    default
                );
                if (!read.Matches)
                    throw new InvalidOperationException(read.Differences[0].Text);
            }
        );
    }
}
