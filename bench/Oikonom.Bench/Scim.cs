using System.Diagnostics;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Text;
using Oikonom.Contracts;
using Oikonom.Testing;

namespace Oikonom.Bench;

/// <summary>Users made by SCIM over HTTP, by eight clients at once, on the embedded store; each becomes a joiner request.</summary>
internal static class Scim
{
    public static async Task RunAsync(int users)
    {
        await using var directory = await TestDirectory.StartAsync();
        await using var world = await World.StartAsync(
            directory,
            new()
            {
                Mail = false,
                Environment = new Dictionary<string, string> { ["LOG_LEVEL"] = "Warning" },
            }
        );
        var edda = await world.SignInAsync("edda");
        var token = await (
            await World.OkAsync(edda.PostAsJsonAsync("/api/v1/sources/partners/tokens", new SourceTokenBody("bench", 1)))
        ).Content.ReadFromJsonAsync<IssuedToken>();
        await World.OkAsync(edda.PostAsJsonAsync("/api/v1/sources/partners/test", new { }));
        await World.OkAsync(edda.PostAsJsonAsync("/api/v1/sources/partners/switch", new SwitchBody(true)));
        using var client = new HttpClient(new SocketsHttpHandler { MaxConnectionsPerServer = 8 }) { BaseAddress = new(world.Address) };
        client.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", token!.Token);
        // A provider runs for months: what is measured is the warm one.
        await MakeAsync(client, "W", users);
        var watch = Stopwatch.StartNew();
        await MakeAsync(client, "S", users);
        var rate = users / watch.Elapsed.TotalSeconds;
        var waiting = (await world.GetAsync<RequestCounts>("/api/v1/requests/counts")).States;
        Console.WriteLine(
            $"SCIM: {users} users by 8 clients   {rate, 8:0} creates/s   (wanted: 500 or more; each raised a joiner: "
                + $"{string.Join(", ", waiting.Select(s => $"{s.Value} {s.Key}"))})"
        );
    }

    private const string Core = "urn:ietf:params:scim:schemas:core:2.0";
    private const string Enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User";

    private static Task MakeAsync(HttpClient client, string prefix, int count) =>
        Parallel.ForEachAsync(
            Enumerable.Range(0, count),
            new ParallelOptions { MaxDegreeOfParallelism = 8 },
            async (i, cancel) =>
            {
                var body = $$"""
                    {"schemas":["{{Core}}:User","{{Enterprise}}"],"userName":"{{prefix}}{{i}}","externalId":"{{prefix}}{{i}}",
                    "name":{"givenName":"Ria","familyName":"Petrel{{i}}"},"title":"Diver","userType":"employee",
                    "addresses":[{"locality":"harbour"}],"{{Enterprise}}":{"department":"Dive Team","manager":{"value":"E9002"} } }
                    """;
                using var content = new StringContent(body, Encoding.UTF8, "application/scim+json");
                using var response = await client.PostAsync("/scim/v2/Users", content, cancel);
                if ((int)response.StatusCode != 201)
                    throw new InvalidOperationException(await response.Content.ReadAsStringAsync(cancel));
            }
        );
}
