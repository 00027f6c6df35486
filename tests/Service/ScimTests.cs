using System.Net;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Text;
using System.Text.Json.Nodes;
using Oikonom.Contracts;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

/// <summary>A SCIM client pushes its people over HTTP (RFC 7644); every error of §3.12 is met.</summary>
public sealed class ScimTests(Servers servers)
{
    private const string User = "urn:ietf:params:scim:schemas:core:2.0:User";
    private const string Enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User";

    private static JsonObject NewUser(string id, string family = "Petrel") =>
        new()
        {
            ["schemas"] = new JsonArray(User, Enterprise),
            ["userName"] = $"ria.{id}".ToLowerInvariant(),
            ["externalId"] = id,
            ["name"] = new JsonObject { ["givenName"] = "Ria", ["familyName"] = family },
            ["title"] = "Diver",
            ["userType"] = "employee",
            ["addresses"] = new JsonArray(new JsonObject { ["locality"] = "harbour", ["type"] = "work" }),
            [Enterprise] = new JsonObject
            {
                ["department"] = "Dive Team",
                ["manager"] = new JsonObject { ["value"] = "E9002" },
            },
        };

    private sealed class Client(HttpClient http)
    {
        public async Task<(HttpStatusCode Status, JsonObject Body, HttpResponseMessage Response)> SendAsync(
            string method,
            string path,
            JsonNode? body = null,
            string? ifMatch = null,
            string media = "application/scim+json",
            string? raw = null
        )
        {
            using var message = new HttpRequestMessage(new(method), path);
            if (ifMatch is not null)
                message.Headers.TryAddWithoutValidation(method == "GET" ? "If-None-Match" : "If-Match", ifMatch);
            if (body is not null || raw is not null)
                message.Content = new StringContent(raw ?? body!.ToJsonString(), Encoding.UTF8, new MediaTypeHeaderValue(media));
            var response = await http.SendAsync(message);
            var text = await response.Content.ReadAsStringAsync();
            if (text.Length > 0)
                Assert.Equal("application/scim+json", response.Content.Headers.ContentType!.MediaType);
            return (response.StatusCode, text.Length > 0 ? (JsonObject)JsonNode.Parse(text)! : [], response);
        }

        public async Task<(int Status, string Type)> FaultAsync(
            string method,
            string path,
            JsonNode? body = null,
            string? ifMatch = null,
            string media = "application/scim+json",
            string? raw = null
        )
        {
            var (status, answer, _) = await SendAsync(method, path, body, ifMatch, media, raw);
            Assert.Equal("urn:ietf:params:scim:api:messages:2.0:Error", answer["schemas"]![0]!.GetValue<string>());
            Assert.Equal(((int)status).ToString(System.Globalization.CultureInfo.InvariantCulture), answer["status"]!.GetValue<string>());
            Assert.NotEmpty(answer["detail"]!.GetValue<string>());
            return ((int)status, answer["scimType"]?.GetValue<string>() ?? "");
        }
    }

    private static async Task<(Client Client, IssuedToken Token)> ConnectAsync(World world, bool on = true)
    {
        var edda = await world.SignInAsync("edda");
        var token = (
            await (
                await World.OkAsync(edda.PostAsJsonAsync("/api/v1/sources/partners/tokens", new SourceTokenBody("test", 1)))
            ).Content.ReadFromJsonAsync<IssuedToken>()
        )!;
        if (on)
        {
            await World.OkAsync(edda.PostAsJsonAsync("/api/v1/sources/partners/test", new { }));
            await World.OkAsync(edda.PostAsJsonAsync("/api/v1/sources/partners/switch", new SwitchBody(true)));
        }
        return (new(ClientOf(world, token.Token)), token);
    }

    private static HttpClient ClientOf(World world, string token)
    {
        var http = new HttpClient { BaseAddress = new(world.Address) };
        http.DefaultRequestHeaders.Authorization = new("Bearer", token);
        return http;
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task Pushes_over_the_brake_are_kept_back_until_the_named_role_lets_them_pass(string engine)
    {
        await using var world = await World.StartAsync(servers.Directory, await servers.OnAsync(engine));
        var edda = await world.SignInAsync("edda");
        await World.OkAsync(
            edda.PostAsJsonAsync(
                "/api/v1/rulebook/editions",
                new RulebookBody(
                    world.Rulebook(
                        (path, text) =>
                            path == "sources/partners.yaml" ? text + "brake: { joiners: 2, leavers: 1, passes: role:operator }\n" : text
                    )
                )
            )
        );
        var (client, _) = await ConnectAsync(world);
        async Task<string> PushAsync(string family)
        {
            var (status, made, _) = await client.SendAsync("POST", "/scim/v2/Users", NewUser(HrRow.New().Number, family));
            Assert.Equal(HttpStatusCode.Created, status);
            return $"/scim/v2/Users/{made["id"]}";
        }
        async Task<int> JoinersAsync() => (await world.GetAsync<Page<RequestSummary>>("/api/v1/requests?kind=joiner")).Items.Count;
        await PushAsync("Auk");
        await PushAsync("Tern");
        Assert.Equal(2, await JoinersAsync());

        // The third and the fourth within a day are kept, as resources, and raise nothing; who is changed while held stands there once.
        var third = await PushAsync("Gull");
        await PushAsync("Skua");
        await client.SendAsync(
            "PATCH",
            third,
            JsonNode.Parse(
                """{ "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"], "Operations": [ { "op": "replace", "path": "title", "value": "Keeper" } ] }"""
            )
        );
        Assert.Equal(2, await JoinersAsync());
        var source = await world.GetAsync<SourceDetail>("/api/v1/sources/partners", "edda");
        var held = await world.GetAsync<HeldRun>($"/api/v1/held-runs/{source.Summary.HeldRun}", "otto");
        Assert.Contains("3 joiners within a day", held.Why, StringComparison.Ordinal);
        Assert.Equal(["Ria Gull", "Ria Skua"], held.Requests.Select(r => r.Person).Order());

        // A run over the resources is no way around; an engineer is not the named role.
        await World.OkAsync(edda.PostAsJsonAsync("/api/v1/sources/partners/runs", new IntakeBody("full", false)));
        Assert.Equal(2, await JoinersAsync());
        var waiting = (await world.GetAsync<SourceDetail>("/api/v1/sources/partners", "edda")).Summary.HeldRun;
        Assert.Equal(403, (await World.RefusedAsync(edda.PostAsJsonAsync($"/api/v1/held-runs/{waiting}/pass", new { }))).Status);
        var passed = await (
            await World.OkAsync((await world.SignInAsync("otto")).PostAsJsonAsync($"/api/v1/held-runs/{waiting}/pass", new { }))
        ).Content.ReadFromJsonAsync<IntakeRun>();
        Assert.Equal(2, passed!.Counts.Joiners);
        Assert.Equal(4, await JoinersAsync());
        Assert.Contains((await world.GetAsync<Page<RequestSummary>>("/api/v1/requests?text=Gull")).Items, r => r.Person == "Ria Gull");
        Assert.True((await world.VerifyLedgerAsync()).Sound);
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task A_pushed_user_becomes_a_joiner_a_mover_and_a_leaver(string engine)
    {
        await using var world = await World.StartAsync(servers.Directory, await servers.OnAsync(engine));
        var (client, _) = await ConnectAsync(world);
        var id = HrRow.New().Number;
        var (status, made, response) = await client.SendAsync("POST", "/scim/v2/Users", NewUser(id));
        Assert.Equal(HttpStatusCode.Created, status);
        Assert.Equal(
            ("W/\"1\"", made["meta"]!["location"]!.GetValue<string>()),
            (response.Headers.ETag!.ToString(), response.Headers.Location!.ToString())
        );
        Assert.Equal(("User", id), (made["meta"]!["resourceType"]!.GetValue<string>(), made["externalId"]!.GetValue<string>()));
        var at = $"/scim/v2/Users/{made["id"]}";
        async Task<RequestSummary> LatestAsync() => (await world.GetAsync<Page<RequestSummary>>("/api/v1/requests")).Items[0];
        var joiner = await LatestAsync();
        Assert.Equal(("joiner", "Ria Petrel", "scim:partners"), (joiner.Kind, joiner.Person, joiner.Requester));
        var request = await world.WaitForAsync(joiner.Id, "deciding");
        Assert.Contains(request.Plan, c => c.Subject == "dive-team");
        await world.ApproveAsync(request);
        await world.ReleaseAsync(request);
        await world.WaitForAsync(joiner.Id, "completed");

        // The same again changes nothing; a PATCH of the department is a mover.
        var (_, same, _) = await client.SendAsync("PUT", at, NewUser(id));
        Assert.Equal("W/\"1\"", same["meta"]!["version"]!.GetValue<string>());
        var (patched, after, _) = await client.SendAsync(
            "PATCH",
            at,
            JsonNode.Parse(
                $$"""{ "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"], "Operations": [ { "op": "replace", "path": "{{Enterprise}}:department", "value": "Research" } ] }"""
            ),
            "W/\"1\""
        );
        Assert.Equal(
            (HttpStatusCode.OK, "Research", "W/\"2\""),
            (patched, after[Enterprise]!["department"]!.GetValue<string>(), after["meta"]!["version"]!.GetValue<string>())
        );
        Assert.Equal("mover", (await LatestAsync()).Kind);
        Assert.Equal(HttpStatusCode.NotModified, (await client.SendAsync("GET", at, ifMatch: "W/\"2\"")).Status);

        // What is sent without a name of the rulebook's sites is kept, and set aside as a record with the reason.
        var wrong = NewUser(id);
        wrong["addresses"] = new JsonArray(new JsonObject { ["locality"] = "nowhere" });
        await client.SendAsync("PUT", at, wrong);
        var aside = (await world.GetAsync<Page<SetAside>>("/api/v1/sources/partners/set-aside", "edda")).Items.Single();
        Assert.Equal(("site", id), (aside.Column, aside.Key));
        await client.SendAsync("PUT", at, NewUser(id));
        Assert.Empty((await world.GetAsync<Page<SetAside>>("/api/v1/sources/partners/set-aside", "edda")).Items);

        Assert.Equal(HttpStatusCode.NoContent, (await client.SendAsync("DELETE", at)).Status);
        Assert.Equal("leaver", (await LatestAsync()).Kind);
        Assert.Equal((404, ""), await client.FaultAsync("GET", at));
        Assert.Empty((await world.VerifyLedgerAsync()).Faults);
    }

    [Fact]
    public async Task An_inactive_user_leaves_and_comes_back_as_the_same_person()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var (client, _) = await ConnectAsync(world);
        var (_, made, _) = await client.SendAsync("POST", "/scim/v2/Users", NewUser(HrRow.New().Number));
        var at = $"/scim/v2/Users/{made["id"]}";
        JsonNode Active(string value) =>
            JsonNode.Parse(
                $$"""{ "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"], "Operations": [ { "op": "replace", "value": { "active": {{value}} } } ] }"""
            )!;
        await client.SendAsync("PATCH", at, Active("false"));
        var person = (await world.GetAsync<Page<PersonSummary>>("/api/v1/people")).Items.Single();
        Assert.NotNull(person.End);
        await client.SendAsync("PATCH", at, Active("true"));
        Assert.Null((await world.GetAsync<Page<PersonSummary>>("/api/v1/people")).Items.Single().End);
    }

    [Fact]
    public async Task Every_error_of_the_standard_is_told_as_the_standard_tells_it()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var (client, token) = await ConnectAsync(world);
        var id = HrRow.New().Number;
        var (_, made, _) = await client.SendAsync("POST", "/scim/v2/Users", NewUser(id));
        var at = $"/scim/v2/Users/{made["id"]}";
        JsonNode Op(string operation) =>
            JsonNode.Parse($$"""{ "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"], "Operations": [ {{operation}} ] }""")!;

        Assert.Equal((400, "invalidFilter"), await client.FaultAsync("GET", "/scim/v2/Users?filter=userName+is+%22x%22"));
        Assert.Equal((403, "sensitive"), await client.FaultAsync("GET", "/scim/v2/Users?filter=password+eq+%22x%22"));
        Assert.Equal((409, "uniqueness"), await client.FaultAsync("POST", "/scim/v2/Users", NewUser(id)));
        var sameExternal = NewUser(id);
        sameExternal["userName"] = "other." + id;
        Assert.Equal((409, "uniqueness"), await client.FaultAsync("POST", "/scim/v2/Users", sameExternal));
        Assert.Equal((400, "mutability"), await client.FaultAsync("PATCH", at, Op("""{ "op": "replace", "path": "id", "value": "x" }""")));
        Assert.Equal((400, "invalidSyntax"), await client.FaultAsync("POST", "/scim/v2/Users", raw: "{ \"userName\": "));
        Assert.Equal((400, "invalidSyntax"), await client.FaultAsync("POST", "/scim/v2/Users", raw: "{ \"a\": 1, \"a\": 2 }"));
        Assert.Equal((400, "invalidSyntax"), await client.FaultAsync("PATCH", at, JsonNode.Parse("{}")));
        Assert.Equal(
            (400, "invalidPath"),
            await client.FaultAsync("PATCH", at, Op("""{ "op": "replace", "path": "no such", "value": "x" }"""))
        );
        Assert.Equal(
            (400, "noTarget"),
            await client.FaultAsync("PATCH", at, Op("""{ "op": "replace", "path": "emails[type eq \"x\"].value", "value": "y" }"""))
        );
        Assert.Equal(
            (400, "invalidValue"),
            await client.FaultAsync("POST", "/scim/v2/Users", JsonNode.Parse($$"""{ "schemas": ["{{User}}"], "title": "no name" }"""))
        );
        Assert.Equal((400, "invalidValue"), await client.FaultAsync("GET", "/scim/v2/Users?count=many"));
        Assert.Equal((400, "invalidVers"), await client.FaultAsync("GET", "/scim/v1/Users"));
        Assert.Equal((412, ""), await client.FaultAsync("PUT", at, NewUser(id), "W/\"9\""));
        Assert.Equal((404, ""), await client.FaultAsync("GET", "/scim/v2/Users/nobody"));
        Assert.Equal((404, ""), await client.FaultAsync("GET", "/scim/v2/Printers"));
        Assert.Equal(
            (413, ""),
            await client.FaultAsync("POST", "/scim/v2/Users", raw: $"{{ \"title\": \"{new string('x', 1_100_000)}\" }}")
        );
        Assert.Equal((415, ""), await client.FaultAsync("POST", "/scim/v2/Users", NewUser("z"), media: "text/plain"));
        Assert.Equal((501, ""), await client.FaultAsync("GET", "/scim/v2/Me"));
        Assert.Equal((403, ""), await client.FaultAsync("GET", "/scim/v2/Schemas?filter=a+pr"));

        Assert.Equal((401, ""), await new Client(ClientOf(world, "wrong")).FaultAsync("GET", "/scim/v2/Users"));
        // Two tokens are valid at once, never three; an ended one opens nothing any more, nor does a user's.
        var (second, _) = await ConnectAsync(world, on: false);
        var edda = await world.SignInAsync("edda");
        Assert.Equal(
            "two-tokens",
            (await World.RefusedAsync(edda.PostAsJsonAsync("/api/v1/sources/partners/tokens", new SourceTokenBody(null, 1)))).Code
        );
        await World.OkAsync(edda.DeleteAsync($"/api/v1/sources/partners/tokens/{token.Id}"));
        Assert.Equal((401, ""), await client.FaultAsync("GET", at));
        Assert.Equal(HttpStatusCode.OK, (await second.SendAsync("GET", at)).Status);
        Assert.Equal((401, ""), await new Client(await world.SignInAsync("edda")).FaultAsync("GET", "/scim/v2/Users"));
        await World.OkAsync(edda.PostAsJsonAsync("/api/v1/sources/partners/switch", new SwitchBody(false)));
        Assert.Equal((403, ""), await second.FaultAsync("GET", at));
        Assert.DoesNotContain(token.Token, await File.ReadAllTextAsync(world.LogFile), StringComparison.Ordinal);
    }

    [Fact]
    public async Task Lists_are_filtered_sorted_paged_and_projected_and_groups_know_their_members()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var (client, _) = await ConnectAsync(world);
        var ids = Enumerable.Range(0, 5).Select(_ => HrRow.New().Number).ToList();
        var users = new List<string>();
        foreach (var (id, family) in ids.Zip(new[] { "Delta", "alpha", "Charlie", "bravo", "Echo" }))
            users.Add((await client.SendAsync("POST", "/scim/v2/Users", NewUser(id, family))).Body["id"]!.GetValue<string>());
        static string[] Families(JsonObject list) =>
            [.. list["Resources"]!.AsArray().Select(r => r!["name"]!["familyName"]!.GetValue<string>())];
        var sorted = (await client.SendAsync("GET", "/scim/v2/Users?sortBy=name.familyName&startIndex=2&count=3")).Body;
        Assert.Equal(["bravo", "Charlie", "Delta"], Families(sorted));
        Assert.Equal(
            (5, 3, 2),
            (sorted["totalResults"]!.GetValue<int>(), sorted["itemsPerPage"]!.GetValue<int>(), sorted["startIndex"]!.GetValue<int>())
        );
        Assert.Equal(
            ["Echo", "Delta", "Charlie"],
            Families(
                    (
                        await client.SendAsync(
                            "GET",
                            "/scim/v2/Users?sortBy=name.familyName&sortOrder=descending&filter="
                                + Uri.EscapeDataString("name.familyName co \"e\" or name.familyName eq \"DELTA\"")
                        )
                    ).Body
                )
                .Take(3)
        );
        var one = (await client.SendAsync("GET", $"/scim/v2/Users?attributes=userName&filter=externalId+eq+%22{ids[0]}%22")).Body;
        Assert.Equal(["schemas", "id", "userName"], one["Resources"]![0]!.AsObject().Select(p => p.Key));
        Assert.Empty((await client.SendAsync("GET", "/scim/v2/Users?count=0")).Body["Resources"]!.AsArray());
        Assert.Empty((await client.SendAsync("GET", "/scim/v2/Users?filter=userName+eq+%22nobody%22")).Body["Resources"]!.AsArray());
        var searched = (
            await client.SendAsync(
                "POST",
                "/scim/v2/Users/.search",
                JsonNode.Parse(
                    """{ "schemas": ["urn:ietf:params:scim:api:messages:2.0:SearchRequest"], "filter": "name.familyName sw \"a\"", "excludedAttributes": ["addresses"] }"""
                )
            )
        ).Body;
        Assert.Equal(["alpha"], Families(searched));
        Assert.False(searched["Resources"]![0]!.AsObject().ContainsKey("addresses"));

        var (_, group, _) = await client.SendAsync(
            "POST",
            "/scim/v2/Groups",
            JsonNode.Parse(
                $$"""{ "schemas": ["urn:ietf:params:scim:schemas:core:2.0:Group"], "displayName": "Night shift", "members": [ { "value": "{{users[0]}}" } ] }"""
            )
        );
        Assert.Equal(
            "Night shift",
            (await client.SendAsync("GET", $"/scim/v2/Users/{users[0]}")).Body["groups"]![0]!["display"]!.GetValue<string>()
        );
        await client.SendAsync(
            "PATCH",
            $"/scim/v2/Groups/{group["id"]}",
            JsonNode.Parse(
                $$"""{ "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"], "Operations": [ { "op": "remove", "path": "members[value eq \"{{users[0]}}\"]" } ] }"""
            )
        );
        Assert.False((await client.SendAsync("GET", $"/scim/v2/Users/{users[0]}")).Body.ContainsKey("groups"));
        Assert.Equal(
            6,
            (
                await client.SendAsync(
                    "POST",
                    "/scim/v2/.search",
                    JsonNode.Parse("""{ "schemas": ["urn:ietf:params:scim:api:messages:2.0:SearchRequest"] }""")
                )
            ).Body["totalResults"]!.GetValue<int>()
        );

        var config = (await client.SendAsync("GET", "/scim/v2/ServiceProviderConfig")).Body;
        foreach (var feature in new[] { "patch", "bulk", "filter", "sort", "etag" })
            Assert.True(config[feature]!["supported"]!.GetValue<bool>(), feature);
        Assert.Equal(3, (await client.SendAsync("GET", "/scim/v2/Schemas")).Body["totalResults"]!.GetValue<int>());
        Assert.Equal(User, (await client.SendAsync("GET", $"/scim/v2/Schemas/{User}")).Body["id"]!.GetValue<string>());
        Assert.Equal(
            ["User", "Group"],
            (await client.SendAsync("GET", "/scim/v2/ResourceTypes")).Body["Resources"]!
                .AsArray()
                .Select(r => r!["name"]!.GetValue<string>())
        );
    }

    [Fact]
    public async Task Bulk_operations_name_each_other_and_stop_after_so_many_errors()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var (client, _) = await ConnectAsync(world);
        var id = HrRow.New().Number;
        JsonObject Bulk(JsonArray operations, int? failOn = null)
        {
            var body = new JsonObject
            {
                ["schemas"] = new JsonArray("urn:ietf:params:scim:api:messages:2.0:BulkRequest"),
                ["Operations"] = operations,
            };
            if (failOn is not null)
                body["failOnErrors"] = failOn;
            return body;
        }
        // RFC 7644 §3.7.2: the group comes before the user it names.
        var (_, answer, _) = await client.SendAsync(
            "POST",
            "/scim/v2/Bulk",
            Bulk([
                new JsonObject
                {
                    ["method"] = "POST",
                    ["path"] = "/Groups",
                    ["bulkId"] = "ytrewq",
                    ["data"] = JsonNode.Parse(
                        """{ "schemas": ["urn:ietf:params:scim:schemas:core:2.0:Group"], "displayName": "Bulk", "members": [ { "type": "User", "value": "bulkId:qwerty" } ] }"""
                    ),
                },
                new JsonObject
                {
                    ["method"] = "POST",
                    ["path"] = "/Users",
                    ["bulkId"] = "qwerty",
                    ["data"] = NewUser(id),
                },
                new JsonObject { ["method"] = "DELETE", ["path"] = "/Users/nobody" },
                new JsonObject
                {
                    ["method"] = "POST",
                    ["path"] = "/Groups",
                    ["bulkId"] = "loop",
                    ["data"] = JsonNode.Parse(
                        """{ "schemas": ["urn:ietf:params:scim:schemas:core:2.0:Group"], "displayName": "Loop", "members": [ { "value": "bulkId:nowhere" } ] }"""
                    ),
                },
            ])
        );
        Assert.Equal(["201", "201", "404", "409"], answer["Operations"]!.AsArray().Select(o => o!["status"]!.GetValue<string>()));
        var location = new Uri(answer["Operations"]![1]!["location"]!.GetValue<string>());
        Assert.Equal("Bulk", (await client.SendAsync("GET", location.AbsolutePath)).Body["groups"]![0]!["display"]!.GetValue<string>());
        Assert.Equal(id, (await world.GetAsync<Page<PersonSummary>>("/api/v1/people")).Items.Single().Number);

        var (_, stopped, _) = await client.SendAsync(
            "POST",
            "/scim/v2/Bulk",
            Bulk(
                [.. Enumerable.Range(0, 5).Select(i => (JsonNode)new JsonObject { ["method"] = "DELETE", ["path"] = $"/Users/none{i}" })],
                2
            )
        );
        Assert.Equal(2, stopped["Operations"]!.AsArray().Count);
        Assert.Equal(
            (413, ""),
            await client.FaultAsync(
                "POST",
                "/scim/v2/Bulk",
                Bulk([.. Enumerable.Range(0, 1001).Select(i => (JsonNode)new JsonObject { ["method"] = "DELETE", ["path"] = "/Users/x" })])
            )
        );
        Assert.Equal((400, "invalidSyntax"), await client.FaultAsync("POST", "/scim/v2/Bulk", new JsonObject()));
    }

    [Fact]
    public async Task Eight_clients_at_once_make_each_user_once()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var (client, _) = await ConnectAsync(world);
        var ids = Enumerable.Range(0, 40).Select(_ => HrRow.New().Number).ToList();
        var made = await Task.WhenAll(
            ids.Concat(ids).Select(async id => (await client.SendAsync("POST", "/scim/v2/Users", NewUser(id))).Status)
        );
        Assert.Equal((40, 40), (made.Count(s => s == HttpStatusCode.Created), made.Count(s => s == HttpStatusCode.Conflict)));
        Assert.Equal(40, (await world.GetAsync<Page<PersonSummary>>("/api/v1/people")).Items.Count);
    }
}
