using System.Net.Http.Json;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using System.Text.RegularExpressions;
using Microsoft.Data.Sqlite;
using Oikonom.Contracts;
using Oikonom.Testing;
using Xunit;
using static Oikonom.Service.Tests.ApprovalTests;

namespace Oikonom.Service.Tests;

/// <summary>Reach holds for every call: nothing is changed and nothing is told of what lies outside it.</summary>
public sealed class TrustReachTests(Servers servers)
{
    private static readonly string[] Watched =
    [
        "people",
        "requests",
        "decisions",
        "steps",
        "chains",
        "accounts",
        "grants",
        "extras",
        "editions",
        "proposals",
        "secrets",
        "source_states",
        "source_tokens",
        "hr_records",
        "hr_versions",
        "held_runs",
        "hooks",
        "tasks",
        "evidence",
        "retention_holds",
        "forget_orders",
        "user_changes",
        "delegations",
        "write_backs",
        "ledger_heads",
    ];

    /// <summary>What the store holds, but for sign-ins and what only the caller keeps.</summary>
    private static async Task<string> DigestAsync(World world)
    {
        await using var store = new SqliteConnection($"Data Source={world.DataFolder}/oikonom.db;Pooling=False;Default Timeout=30");
        await store.OpenAsync();
        var text = new StringBuilder();
        foreach (var table in Watched.Where(t => t != "ledger_heads"))
        {
            await using var command = store.CreateCommand();
            command.CommandText = $"SELECT * FROM {table}";
            await using var reader = await command.ExecuteReaderAsync();
            while (await reader.ReadAsync())
                for (var i = 0; i < reader.FieldCount; i++)
                    if (reader.GetName(i) is not ("lease_until" or "lease_owner" or "updated_at" or "fence"))
                        text.Append(table).Append(reader.GetName(i)).Append('=').Append(reader.GetValue(i)).Append('\n');
        }
        await using var users = store.CreateCommand();
        users.CommandText = "SELECT name, display, mail, password_hash, roles, number, active, reach FROM users ORDER BY name";
        await using (var reader = await users.ExecuteReaderAsync())
            while (await reader.ReadAsync())
                for (var i = 0; i < reader.FieldCount; i++)
                    text.Append(reader.GetValue(i)).Append('\n');
        return Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text.ToString())));
    }

    [Fact]
    public async Task Who_is_limited_to_another_site_changes_nothing_here_and_learns_nothing_of_it()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await TrustApprovalTests.PublishAsync(world);
        // Here: somebody who works at Harbour House, with a request, a task, evidence, a vanished record and a leaver that waits.
        var (here, vanished) = (await PersonAsync(world, HrRow.New("Hazel")), HrRow.New("Hazel"));
        world.WriteHr(here, vanished);
        await world.RunIntakeAsync();
        world.WriteHr(here);
        await world.RunIntakeAsync();
        var asked = await RaiseAsync(
            world,
            new(
                "access",
                here.Number,
                "a secret reason",
                Grants: [new("facilities/wet-suit"), new("directory/payments", null, "2034-06-30")]
            )
        );
        asked = await world.WaitForAsync(asked.Summary.Id, "deciding");
        var suit = await RaiseAsync(
            world,
            new("change", here.Number, "x", new Dictionary<string, string> { ["title"] = "Keeper of secrets" })
        );
        suit = await world.WaitForAsync(suit.Summary.Id, "deciding");
        var person = await world.GetAsync<PersonDetail>($"/api/v1/people/{here.Number}", "edda");
        var entry = (await world.GetAsync<Page<LedgerEntryView>>($"/api/v1/ledger?person={person.Id}", "aldo")).Items[0];
        // There: somebody with every role, each limited to Reef Point.
        var all = new[] { "requester", "approver", "operator", "engineer", "auditor" };
        await world.SaveUserAsync(
            "far",
            new("Far", "far@northmere.example", all, "E9500", true, all.ToDictionary(r => r, _ => new ReachBody(["reefpoint"])))
        );
        var far = await world.SignInAsync("far");
        var files = world.Rulebook((path, text) => text + "# by far\n");
        string Body(RequestDetail of) =>
            JsonSerializer.Serialize(
                new Dictionary<string, object?>
                {
                    ["planDigest"] = of.PlanDigest,
                    ["reason"] = "x",
                    ["remark"] = "x",
                    ["text"] = "x",
                    ["kind"] = "change",
                    ["person"] = here.Number,
                    ["record"] = new { title = "Diver of Reef Point" },
                    ["ids"] = new[] { of.Summary.Id },
                    ["requests"] = new[] { new { id = of.Summary.Id, planDigest = of.PlanDigest } },
                    ["csv"] = $"kind,person,reason,title\nchange,{here.Number},x,Other\n",
                    ["to"] = "far",
                    ["from"] = "mara",
                    ["begins"] = "2026-01-01",
                    ["ends"] = "2034-01-01",
                    ["kinds"] = Array.Empty<string>(),
                    ["records"] = new[] { new { person_no = here.Person } },
                    ["verdict"] = "leaves",
                    ["mode"] = "full",
                    ["on"] = false,
                    ["files"] = files,
                    ["label"] = "x",
                    ["days"] = 1,
                    ["display"] = "Mara",
                    ["mail"] = "far@northmere.example",
                    ["roles"] = new[] { "approver" },
                    ["number"] = "E9500",
                    ["active"] = true,
                    ["value"] = "x",
                    ["address"] = "https://hook.northmere.example/",
                    ["secret"] = "a-secret-of-sixteen",
                    ["position"] = 0,
                    ["target"] = "directory",
                    ["immutableId"] = "x",
                    ["until"] = "2034-12-31",
                    ["query"] = "x",
                    ["event"] = "decide",
                    ["quick"] = true,
                    ["current"] = "wrong-wrong-1",
                    ["new"] = "right-right-11",
                }
            );
        var people = new[] { here.Family, vanished.Family, "Keeper of secrets", "a secret reason", "p@post.example" };
        var leaks = new List<string>();
        foreach (
            var (method, path, _) in AccessTests.Matrix.Where(m =>
                m.Path is not ("/api/v1/sign-out" or "/api/v1/tokens/current" or "/api/v1/events")
                && !m.Path.StartsWith("/api/v1/me", StringComparison.Ordinal)
            )
        )
        {
            foreach (var of in new[] { asked, suit })
            {
                var id =
                    path.Contains("/people/", StringComparison.Ordinal) ? person.Id
                    : path.Contains("/requests/", StringComparison.Ordinal) ? of.Summary.Id
                    : path.Contains("/drafts/", StringComparison.Ordinal) ? Guid.NewGuid().ToString()
                    : "x";
                var name =
                    path.Contains("/sources/", StringComparison.Ordinal) ? "hr"
                    : path.Contains("/targets/", StringComparison.Ordinal) ? "directory"
                    : path.Contains("/users/", StringComparison.Ordinal) ? "mara"
                    : path.Contains("/secrets/", StringComparison.Ordinal) ? "directory-password"
                    : "v";
                var url = path.Replace("{id}", id, StringComparison.Ordinal)
                    .Replace("{name}", name, StringComparison.Ordinal)
                    .Replace("{kind}", "access", StringComparison.Ordinal)
                    .Replace("{number}", "1", StringComparison.Ordinal)
                    .Replace("{entry}", entry.Id, StringComparison.Ordinal)
                    .Replace("{key}", vanished.Number, StringComparison.Ordinal);
                url = Regex.Replace(url, "\\{[a-z]+\\}", Guid.NewGuid().ToString());
                var before = await DigestAsync(world);
                using var message = new HttpRequestMessage(new(method), url);
                if (method is "POST" or "PUT")
                    message.Content = new StringContent(Body(of), Encoding.UTF8, "application/json");
                using var response = await far.SendAsync(message);
                var text = await response.Content.ReadAsStringAsync();
                if (people.FirstOrDefault(p => text.Contains(p, StringComparison.OrdinalIgnoreCase)) is { } told)
                    leaks.Add($"{method} {path} → {(int)response.StatusCode} tells '{told}'");
                if (
                    !path.Contains("{id}", StringComparison.Ordinal)
                    && method == "GET"
                    && text.Contains(of.Summary.Id, StringComparison.Ordinal)
                )
                    leaks.Add($"{method} {path} names the request");
                if ((int)response.StatusCode >= 500)
                    leaks.Add($"{method} {path} → {(int)response.StatusCode}");
                if (await DigestAsync(world) != before)
                    leaks.Add($"{method} {path} → {(int)response.StatusCode} changes something");
            }
        }
        Assert.True(leaks.Count == 0, string.Join("\n", leaks.Distinct()));
        // A joiner for another site, a move from another site, and the whole file: refused before anything is written.
        var joiner = new NewRequest(
            "joiner",
            null,
            "x",
            new Dictionary<string, string>
            {
                ["given"] = "Fay",
                ["family"] = "Far",
                ["kind"] = "employee",
                ["start"] = "2034-01-04",
                ["site"] = "harbour",
                ["department"] = "Dive Team",
                ["title"] = "Diver",
            }
        );
        Assert.Equal("out-of-reach", (await World.RefusedAsync(far.PostAsJsonAsync("/api/v1/requests", joiner))).Code);
    }

    [Fact]
    public async Task Every_call_says_what_it_is_about()
    {
        await using var world = await World.StartAsync(servers.Directory);
        using var anyone = new HttpClient { BaseAddress = new(world.Address) };
        var document = JsonDocument.Parse(await anyone.GetStringAsync("/openapi/v1.json")).RootElement;
        var edda = await world.SignInAsync("edda");
        foreach (
            var path in document
                .GetProperty("paths")
                .EnumerateObject()
                .Where(p => p.Value.TryGetProperty("get", out _) && !p.Name.Contains("/events", StringComparison.Ordinal))
        )
        {
            var refusal = await edda.GetAsync(Regex.Replace(path.Name, "\\{[a-z]+\\}", "00000000-0000-0000-0000-000000000000"));
            Assert.DoesNotContain("does not say what it is about", await refusal.Content.ReadAsStringAsync(), StringComparison.Ordinal);
        }
    }

    [Fact]
    public async Task A_stream_tells_nothing_of_what_is_out_of_reach()
    {
        await using var world = await World.StartAsync(servers.Directory);
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
        using var response = await (await world.SignInAsync("far")).GetAsync("/api/v1/events", HttpCompletionOption.ResponseHeadersRead);
        using var reader = new StreamReader(await response.Content.ReadAsStreamAsync());
        var (here, there) = (HrRow.New(), HrRow.New() with { Site = "reefpoint" });
        world.WriteHr(here, there);
        var raised = (await world.RunIntakeAsync()).Requests;
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(20));
        var heard = new StringBuilder();
        while (!heard.ToString().Contains(raised.Single(r => r.Number == there.Number).Id!, StringComparison.Ordinal))
            heard.Append(await reader.ReadLineAsync(limit.Token));
        Assert.DoesNotContain(raised.Single(r => r.Number == here.Number).Id!, heard.ToString(), StringComparison.Ordinal);
    }

    /// <summary>
    /// Somebody with every right but an engineer's tries anything, in any order, with fixed seeds: nothing that is for
    /// them changes without the approval of somebody else.
    /// </summary>
    [Theory]
    [InlineData(1)]
    [InlineData(2)]
    [InlineData(3)]
    public async Task No_sequence_of_calls_by_one_person_gives_them_anything(int seed)
    {
        await using var world = await World.StartAsync(servers.Directory);
        await TrustApprovalTests.PublishAsync(world);
        var me = await PersonAsync(world, HrRow.New("Eve") with { Number = "E9600" });
        await world.SaveUserAsync("eve", new("Eve", "eve@northmere.example", ["requester", "approver", "operator"], "E9600", true));
        await world.SaveUserAsync(
            "mallory",
            new("Mallory", "mallory@northmere.example", ["requester", "approver", "operator"], null, true)
        );
        // The second user of the same person, as an earlier release may have left it.
        await TrustApprovalTests.SqlAsync(world, "UPDATE users SET number='E9600' WHERE name='mallory'");
        var before = await world.GetAsync<PersonDetail>($"/api/v1/people/{me.Number}", "edda");
        var random = new Random(seed);
        T Any<T>(params T[] of) => of[random.Next(of.Length)];
        var raised = new List<string>();
        var until = DateTime.UtcNow.AddDays(20).ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture);
        for (var i = 0; i < 150; i++)
        {
            var client = await world.SignInAsync(Any("eve", "mallory"));
            if (raised.Count == 0 || random.Next(4) == 0)
            {
                var body = Any<NewRequest>(
                    new(
                        "access",
                        me.Number,
                        "x",
                        Grants:
                        [
                            new(
                                Any("directory/payments", "directory/dive-team", "directory/rescue-volunteers", "facilities/wet-suit"),
                                null,
                                until
                            ),
                        ]
                    ),
                    new("access", me.Number, "x", Grants: [new("directory/system-admins", null, until)]),
                    new("change", me.Number, "x", new Dictionary<string, string> { ["manager"] = "E9600" }),
                    new(
                        "change",
                        me.Number,
                        "x",
                        new Dictionary<string, string> { ["title"] = $"Title {i}", ["manager"] = Any("E9600", "E9003") }
                    ),
                    new(
                        "mover",
                        me.Number,
                        "x",
                        new Dictionary<string, string>
                        {
                            ["department"] = Any("Research", "Animal Care"),
                            ["kind"] = Any("contractor", "employee"),
                        }
                    ),
                    new("account", me.Number, "x", Template: "field-work", Until: until),
                    new("extension", me.Number, "x", Grants: [new("directory/payments", null, until)])
                );
                using var answer = await client.PostAsJsonAsync("/api/v1/requests", body);
                if (answer.IsSuccessStatusCode)
                    raised.Add((await answer.Content.ReadFromJsonAsync<RequestDetail>())!.Summary.Id);
                continue;
            }
            var request = await world.RequestAsync(raised[random.Next(raised.Count)]);
            object act = Any<object>(
                new ApproveBody(request.PlanDigest ?? "", null),
                new ReleaseBody(request.PlanDigest ?? ""),
                new ChangeBody(request.PlanDigest ?? "", Record: new Dictionary<string, string> { ["manager"] = "E9600" }),
                new TextBody("x"),
                new DelegationBody("eve", "2026-01-01", "2034-12-31", From: "mara"),
                new ManyBody([new(request.Summary.Id, request.PlanDigest ?? "")])
            );
            var path = act switch
            {
                ApproveBody => $"requests/{request.Summary.Id}/approve",
                ReleaseBody => $"requests/{request.Summary.Id}/{Any("release", "return", "hold", "resume", "retry")}",
                ChangeBody => $"requests/{request.Summary.Id}/change",
                TextBody => $"requests/{request.Summary.Id}/{Any("ask", "answer", "comment", "withdraw")}",
                DelegationBody => "delegations",
                _ => $"requests/{Any("approve-many", "release-many")}",
            };
            using var _ = await client.PostAsync($"/api/v1/{path}", JsonContent.Create(act, act.GetType()));
        }
        var after = await world.GetAsync<PersonDetail>($"/api/v1/people/{me.Number}", "edda");
        Assert.Equal(JsonSerializer.Serialize(before.Record), JsonSerializer.Serialize(after.Record));
        Assert.Equal(before.Grants.Select(g => $"{g.Target}/{g.Entitlement}"), after.Grants.Select(g => $"{g.Target}/{g.Entitlement}"));
        Assert.NotEmpty(raised);
        foreach (var id in raised)
        {
            var request = await world.RequestAsync(id);
            Assert.DoesNotContain(request.Summary.State, new[] { "releasing", "fulfilling", "completed" });
            Assert.DoesNotContain(request.Decisions, d => d.Verdict == "approved" || d.Verdict == "skipped");
        }
    }
}
