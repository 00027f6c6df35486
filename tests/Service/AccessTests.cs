using System.Net;
using System.Net.Http.Json;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

public sealed class AccessTests(Servers servers)
{
    private const string Everybody = "requester approver operator engineer auditor";

    /// <summary>Each endpoint and the roles it is open to; the same table stands in docs/access.md.</summary>
    internal static readonly (string Method, string Path, string Roles)[] Matrix =
    [
        ("POST", "/api/v1/sign-out", Everybody),
        ("DELETE", "/api/v1/tokens/current", Everybody),
        ("GET", "/api/v1/me", Everybody),
        ("GET", "/api/v1/users", "engineer"),
        ("PUT", "/api/v1/users/{name}", "engineer"),
        ("GET", "/api/v1/secrets", "engineer"),
        ("PUT", "/api/v1/secrets/{name}", "engineer"),
        ("POST", "/api/v1/rulebook/check", "engineer"),
        ("POST", "/api/v1/rulebook/editions", "engineer"),
        ("GET", "/api/v1/rulebook/editions", "engineer auditor"),
        ("GET", "/api/v1/rulebook/editions/{number}", "engineer auditor"),
        ("GET", "/api/v1/sources", Everybody),
        ("POST", "/api/v1/sources/{name}/runs", "requester operator engineer"),
        ("GET", "/api/v1/sources/{name}/runs", "requester operator engineer"),
        ("GET", "/api/v1/sources/{name}/set-aside", "requester operator engineer"),
        ("GET", "/api/v1/rulebook/warnings", "engineer auditor"),
        ("GET", "/api/v1/rulebook/proposals", "engineer auditor"),
        ("GET", "/api/v1/rulebook/proposals/{id}", "engineer auditor"),
        ("POST", "/api/v1/rulebook/proposals/{id}/approve", "engineer"),
        ("POST", "/api/v1/rulebook/proposals/{id}/decline", "engineer"),
        ("GET", "/api/v1/rulebook/diff", "engineer auditor"),
        ("POST", "/api/v1/rulebook/diff", "engineer"),
        ("POST", "/api/v1/rulebook/rehearsals", "engineer"),
        ("GET", "/api/v1/rulebook/rehearsals/{id}/people", "engineer"),
        ("GET", "/api/v1/rulebook/rehearsals/{id}/people.csv", "engineer"),
        ("GET", "/api/v1/rollouts", "approver operator engineer auditor"),
        ("POST", "/api/v1/rollouts", "engineer"),
        ("GET", "/api/v1/rollouts/{id}", "approver operator engineer auditor"),
        ("GET", "/api/v1/rollouts/{id}/people", "approver operator engineer auditor"),
        ("POST", "/api/v1/rollouts/{id}/decide", Everybody),
        ("POST", "/api/v1/rollouts/{id}/release", Everybody),
        ("POST", "/api/v1/rollouts/{id}/begin", "operator"),
        ("POST", "/api/v1/rollouts/{id}/stop", "operator"),
        ("POST", "/api/v1/rollouts/{id}/turn-back", Everybody),
        ("GET", "/api/v1/sources/{name}", "requester operator engineer"),
        ("POST", "/api/v1/sources/{name}/test", "engineer"),
        ("POST", "/api/v1/sources/{name}/preview", "engineer"),
        ("POST", "/api/v1/sources/{name}/switch", "engineer"),
        ("GET", "/api/v1/held-runs/{run}", "requester operator engineer"),
        ("POST", "/api/v1/held-runs/{run}/pass", "requester operator engineer"),
        ("POST", "/api/v1/held-runs/{run}/drop", "requester operator engineer"),
        ("GET", "/api/v1/sources/{name}/set-aside.csv", "requester operator engineer"),
        ("GET", "/api/v1/sources/{name}/records", "requester operator engineer"),
        ("POST", "/api/v1/sources/{name}/records", "requester operator engineer"),
        ("GET", "/api/v1/sources/{name}/vanished", "requester operator engineer"),
        ("POST", "/api/v1/sources/{name}/vanished/{key}", "requester operator engineer"),
        ("GET", "/api/v1/sources/{name}/write-backs", "requester operator engineer"),
        ("POST", "/api/v1/sources/{name}/tokens", "engineer"),
        ("GET", "/api/v1/sources/{name}/tokens", "engineer"),
        ("DELETE", "/api/v1/sources/{name}/tokens/{id}", "engineer"),
        ("GET", "/api/v1/people/{id}/explain", Everybody),
        ("GET", "/api/v1/people/{id}/history", Everybody),
        ("GET", "/api/v1/people/{id}/history/export", Everybody),
        ("GET", "/api/v1/requests/{id}/history", Everybody),
        ("GET", "/api/v1/requests/{id}/history/export", Everybody),
        ("GET", "/api/v1/inbox/count", Everybody),
        ("GET", "/api/v1/people", Everybody),
        ("GET", "/api/v1/people/{id}", Everybody),
        ("GET", "/api/v1/requests", Everybody),
        ("GET", "/api/v1/inbox", Everybody),
        ("GET", "/api/v1/requests/counts", Everybody),
        ("GET", "/api/v1/requests/{id}", Everybody),
        ("POST", "/api/v1/requests/{id}/approve", Everybody),
        ("POST", "/api/v1/requests/{id}/decline", Everybody),
        ("POST", "/api/v1/requests/{id}/release", "operator engineer"),
        ("POST", "/api/v1/requests/{id}/choose", "operator"),
        ("POST", "/api/v1/requests/{id}/retry", "operator"),
        ("POST", "/api/v1/requests/{id}/leave-out", "operator engineer"),
        ("GET", "/api/v1/me/sessions", Everybody),
        ("DELETE", "/api/v1/me/sessions/{id}", Everybody),
        ("GET", "/api/v1/sessions", "engineer"),
        ("DELETE", "/api/v1/sessions/{id}", "engineer"),
        ("GET", "/api/v1/me/tokens", Everybody),
        ("POST", "/api/v1/me/tokens", Everybody),
        ("DELETE", "/api/v1/me/tokens/{id}", Everybody),
        ("POST", "/api/v1/requests", "requester engineer"),
        ("GET", "/api/v1/requests/export", Everybody),
        ("POST", "/api/v1/requests/{id}/ask", Everybody),
        ("POST", "/api/v1/requests/{id}/answer", Everybody),
        ("POST", "/api/v1/requests/{id}/comment", Everybody),
        ("POST", "/api/v1/requests/{id}/withdraw", Everybody),
        ("POST", "/api/v1/requests/{id}/undo", Everybody),
        ("POST", "/api/v1/requests/{id}/hold", "operator engineer"),
        ("POST", "/api/v1/requests/{id}/resume", "operator engineer"),
        ("POST", "/api/v1/requests/{id}/return", "operator engineer"),
        ("POST", "/api/v1/requests/{id}/change", Everybody),
        ("POST", "/api/v1/requests/joint-effect", Everybody),
        ("POST", "/api/v1/requests/approve-many", Everybody),
        ("POST", "/api/v1/requests/release-many", "operator engineer"),
        ("POST", "/api/v1/requests/preview", "requester engineer"),
        ("GET", "/api/v1/requests/schemas/{kind}", "requester engineer"),
        ("POST", "/api/v1/requests/bulk", "requester engineer"),
        ("POST", "/api/v1/people/{id}/access/end", Everybody),
        ("POST", "/api/v1/people/{id}/look", "operator engineer"),
        ("POST", "/api/v1/people/{id}/findings/leave", "operator"),
        ("GET", "/api/v1/catalogue", Everybody),
        ("GET", "/api/v1/workflows", Everybody),
        ("GET", "/api/v1/drafts", "requester engineer"),
        ("PUT", "/api/v1/drafts/{id}", "requester engineer"),
        ("DELETE", "/api/v1/drafts/{id}", "requester engineer"),
        ("GET", "/api/v1/views", Everybody),
        ("PUT", "/api/v1/views/{name}", Everybody),
        ("DELETE", "/api/v1/views/{name}", Everybody),
        ("GET", "/api/v1/delegations", Everybody),
        ("GET", "/api/v1/delegations/candidates", Everybody),
        ("POST", "/api/v1/delegations", Everybody),
        ("DELETE", "/api/v1/delegations/{id}", Everybody),
        ("GET", "/api/v1/tasks", Everybody),
        ("GET", "/api/v1/tasks/{id}", Everybody),
        ("POST", "/api/v1/tasks/{id}/take", Everybody),
        ("POST", "/api/v1/tasks/{id}/hand-over", Everybody),
        ("POST", "/api/v1/tasks/{id}/done", Everybody),
        ("POST", "/api/v1/tasks/{id}/confirm", Everybody),
        ("POST", "/api/v1/tasks/{id}/give-back", Everybody),
        ("POST", "/api/v1/tasks/{id}/impossible", Everybody),
        ("POST", "/api/v1/tasks/{id}/reopen", Everybody),
        ("POST", "/api/v1/tasks/{id}/evidence", Everybody),
        ("GET", "/api/v1/tasks/{id}/evidence/{file}", Everybody),
        ("GET", "/api/v1/today", Everybody),
        ("GET", "/api/v1/notices", Everybody),
        ("POST", "/api/v1/notices/read", Everybody),
        ("GET", "/api/v1/me/hearing", Everybody),
        ("PUT", "/api/v1/me/hearing", Everybody),
        ("GET", "/api/v1/notices/templates", "engineer auditor"),
        ("POST", "/api/v1/notices/preview", "engineer"),
        ("GET", "/api/v1/hooks", "engineer"),
        ("POST", "/api/v1/hooks", "engineer"),
        ("POST", "/api/v1/hooks/{id}/replay", "engineer"),
        ("DELETE", "/api/v1/hooks/{id}", "engineer"),
        ("POST", "/api/v1/me/password", Everybody),
        ("POST", "/api/v1/users/{name}/link", "engineer"),
        ("GET", "/api/v1/users/changes", "engineer"),
        ("POST", "/api/v1/users/changes/{id}/agree", "engineer"),
        ("POST", "/api/v1/users/changes/{id}/decline", "engineer"),
        ("POST", "/api/v1/requests/{id}/new-link", Everybody),
        ("GET", "/api/v1/retention", "auditor engineer"),
        ("POST", "/api/v1/people/{id}/hold", "auditor engineer"),
        ("DELETE", "/api/v1/people/{id}/hold", "auditor engineer"),
        ("POST", "/api/v1/people/{id}/forget", "engineer"),
        ("POST", "/api/v1/retention/orders/{id}/confirm", "auditor engineer"),
        ("POST", "/api/v1/retention/orders/{id}/decline", "auditor engineer"),
        ("GET", "/api/v1/people/{id}/data", Everybody),
        ("GET", "/api/v1/ledger/entries/{entry}", "auditor engineer"),
        ("GET", "/api/v1/ledger/heads", "auditor engineer"),
        ("GET", "/api/v1/ledger/keys", "auditor engineer"),
        ("POST", "/api/v1/ledger/keys", "engineer"),
        ("GET", "/api/v1/ledger/export", "auditor engineer"),
        ("GET", "/api/v1/targets", Everybody),
        ("GET", "/api/v1/metrics", "operator engineer"),
        ("GET", "/api/v1/targets/{name}", "operator engineer"),
        ("POST", "/api/v1/targets/{name}/check", "operator engineer"),
        ("POST", "/api/v1/targets/{name}/pause", "operator engineer"),
        ("POST", "/api/v1/targets/{name}/resume", "operator engineer"),
        ("POST", "/api/v1/targets/{name}/run", "operator engineer"),
        ("POST", "/api/v1/targets/{name}/catalogue", "operator engineer"),
        ("GET", "/api/v1/targets/{name}/entitlements/{entitlement}/holders", "operator engineer"),
        ("POST", "/api/v1/targets/{name}/catalogue/publish", "engineer"),
        ("POST", "/api/v1/targets/{name}/reconcile", "operator engineer"),
        ("GET", "/api/v1/targets/{name}/reconciliations", "operator engineer"),
        ("GET", "/api/v1/targets/{name}/reconciliations/{id}", "operator engineer"),
        ("GET", "/api/v1/accounts", "operator engineer"),
        ("PUT", "/api/v1/accounts/{id}", "operator"),
        ("PUT", "/api/v1/accounts", "operator"),
        ("POST", "/api/v1/accounts/close", "operator"),
        ("POST", "/api/v1/accounts/{id}/link", "operator"),
        ("POST", "/api/v1/accounts/{id}/close", "operator"),
        ("GET", "/api/v1/handovers/{token}", Everybody),
        ("POST", "/api/v1/handovers/{token}", Everybody),
        ("POST", "/api/v1/handovers/{token}/again", Everybody),
        ("GET", "/api/v1/ledger", "auditor engineer"),
        ("POST", "/api/v1/ledger/verify", "auditor engineer"),
        ("GET", "/api/v1/events", Everybody),
    ];

    private static readonly Dictionary<string, string> UserOf = new()
    {
        ["requester"] = "ines",
        ["approver"] = "mara",
        ["operator"] = "otto",
        ["engineer"] = "edda",
        ["auditor"] = "aldo",
    };

    [Fact]
    public async Task Each_endpoint_is_open_to_its_roles_and_to_nobody_else()
    {
        await using var world = await World.StartAsync(servers.Directory);
        using var anonymous = new HttpClient { BaseAddress = new(world.Address) };

        // The table is complete: every operation of the API stands in it, or needs no sign-in.
        var document = await anonymous.GetFromJsonAsync<JsonElement>("/openapi/v1.json");
        var operations = document
            .GetProperty("paths")
            .EnumerateObject()
            .SelectMany(p => p.Value.EnumerateObject().Select(o => (o.Name.ToUpperInvariant(), p.Name)))
            .ToHashSet();
        Assert.Equal(
            operations.Order(),
            Matrix
                .Select(m => (m.Method, m.Path))
                .Append(("POST", "/api/v1/sign-in"))
                .Append(("GET", "/api/v1/sign-in/openid"))
                .Append(("POST", "/api/v1/tokens"))
                .Concat([
                    ("POST", "/api/v1/password-links"),
                    ("GET", "/api/v1/password-links/{token}"),
                    ("POST", "/api/v1/password-links/{token}"),
                ])
                .Order()
        );

        foreach (var (method, path, roles) in Matrix)
        {
            if (path is "/api/v1/tokens/current" or "/api/v1/sign-out")
                continue;
            var real = path.Replace("{id}", Guid.NewGuid().ToString(), StringComparison.Ordinal)
                .Replace("{name}", "nothing", StringComparison.Ordinal)
                .Replace("{token}", "x", StringComparison.Ordinal)
                .Replace("{number}", "77", StringComparison.Ordinal)
                .Replace("{run}", "none", StringComparison.Ordinal)
                .Replace("{key}", "none", StringComparison.Ordinal)
                .Replace("/diff", method == "GET" ? "/diff?from=1&to=1" : "/diff", StringComparison.Ordinal);
            async Task<int> StatusAsync(HttpClient client)
            {
                using var message = new HttpRequestMessage(new(method), real);
                if (method is "POST" or "PUT")
                    message.Content = JsonContent.Create(new { });
                using var response = await client.SendAsync(message, HttpCompletionOption.ResponseHeadersRead);
                return (int)response.StatusCode;
            }

            Assert.True(await StatusAsync(anonymous) == 401, $"{method} {path} answers without sign-in");
            foreach (var (role, user) in UserOf)
            {
                var status = await StatusAsync(await world.SignInAsync(user));
                var open = roles.Split(' ').Contains(role);
                Assert.True(open ? status is not (401 or 403) : status == 403, $"{method} {path} answers {status} to {role}");
                Assert.NotEqual(500, status);
            }
        }
        Assert.All(
            Matrix,
            m => Assert.Contains($"`{m.Method} {m.Path}`", File.ReadAllText(Repository.At("docs", "access.md")), StringComparison.Ordinal)
        );
    }

    [Fact]
    public async Task Wrong_passwords_are_slowed_down_and_say_nothing_about_who_exists()
    {
        await using var world = await World.StartAsync(servers.Directory);
        using var client = new HttpClient { BaseAddress = new(world.Address) };
        Task<HttpResponseMessage> Try(string name, string password) =>
            client.PostAsJsonAsync("/api/v1/sign-in", new SignInBody(name, password));
        var (known, unknown) = (await World.RefusedAsync(Try("mara", "wrong")), await World.RefusedAsync(Try("nobody", "wrong")));
        Assert.Equal(known, unknown);
        for (var i = 0; i < 4; i++)
            (known, unknown) = (await World.RefusedAsync(Try("mara", "wrong")), await World.RefusedAsync(Try("nobody", "wrong")));
        Assert.Equal((401, known), (unknown.Status, unknown));
        var (slowed, same) = (
            await World.RefusedAsync(Try("mara", World.Password)),
            await World.RefusedAsync(Try("nobody", World.Password))
        );
        Assert.Equal((429, "too-many-tries", 429, "too-many-tries"), (slowed.Status, slowed.Code, same.Status, same.Code));
        await World.OkAsync(Try("tomas", World.Password));
        var kinds = (await world.GetAsync<Page<LedgerEntryView>>("/api/v1/ledger?kind=sign-in", "aldo"))
            .Items.Select(e => (e.Actor, e.Kind))
            .ToList();
        Assert.Contains(("mara", "sign-in.slowed"), kinds);
        Assert.Contains(("tomas", "sign-in.succeeded"), kinds);
    }

    [Fact]
    public async Task A_session_cookie_is_strict_and_changes_nothing_without_the_header()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var cookies = new CookieContainer();
        using var client = new HttpClient(new HttpClientHandler { CookieContainer = cookies }) { BaseAddress = new(world.Address) };
        var answer = await World.OkAsync(client.PostAsJsonAsync("/api/v1/sign-in", new SignInBody("edda", World.Password)));
        var cookie = answer.Headers.GetValues("Set-Cookie").Single();
        Assert.Contains("httponly", cookie, StringComparison.OrdinalIgnoreCase);
        Assert.Contains("samesite=strict", cookie, StringComparison.OrdinalIgnoreCase);
        Assert.Equal("edda", (await client.GetFromJsonAsync<Me>("/api/v1/me"))!.Name);
        Assert.Equal("header-needed", (await World.RefusedAsync(client.PutAsJsonAsync("/api/v1/secrets/x", new SecretBody("y")))).Code);
        client.DefaultRequestHeaders.Add("X-Oikonom", "1");
        await World.OkAsync(client.PutAsJsonAsync("/api/v1/secrets/x", new SecretBody("y")));

        // A changed user is asked to sign in again.
        await World.OkAsync(
            (await world.SignInAsync("setup")).PutAsJsonAsync(
                "/api/v1/users/edda",
                new UserBody("Edda", "edda@northmere.example", [], null, true)
            )
        );
        Assert.Equal(HttpStatusCode.Unauthorized, (await client.GetAsync("/api/v1/me")).StatusCode);
    }

    [Fact]
    public async Task An_ended_token_and_an_ended_user_open_nothing()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var mara = await world.SignInAsync("mara");
        await World.OkAsync(mara.DeleteAsync("/api/v1/tokens/current"));
        Assert.Equal((401, "sign-in-needed"), ((await World.RefusedAsync(mara.GetAsync("/api/v1/me"))).Status, "sign-in-needed"));
        var tomas = await world.SignInAsync("tomas");
        await World.OkAsync(
            (await world.SignInAsync("edda")).PutAsJsonAsync(
                "/api/v1/users/tomas",
                new UserBody("Tomas", "tomas@northmere.example", ["approver"], "E9003", false)
            )
        );
        Assert.Equal(401, (await World.RefusedAsync(tomas.GetAsync("/api/v1/me"))).Status);
    }

    [Fact]
    public async Task A_bad_body_gets_a_clear_refusal_and_no_stack_trace()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var edda = await world.SignInAsync("edda");
        async Task<(int Status, string Code, string Detail)> PutAsync(string json) =>
            await World.RefusedAsync(
                edda.PutAsync("/api/v1/users/new", new StringContent(json, System.Text.Encoding.UTF8, "application/json"))
            );
        foreach (
            var json in new[]
            {
                "",
                "{",
                "[]",
                "null",
                "{\"display\":5}",
                "{\"display\":\"x\",\"mail\":\"not an address\",\"roles\":[]}",
                "{\"display\":\"x\",\"mail\":\"\",\"roles\":[\"king\"]}",
                "{\"display\":\"x\",\"mail\":\"\",\"roles\":[],\"password\":\"short\"}",
            }
        )
        {
            var refusal = await PutAsync(json);
            Assert.True(refusal is { Status: 400, Code: "invalid", Detail.Length: > 10 }, $"{json} → {refusal}");
            Assert.DoesNotContain("   at ", refusal.Detail, StringComparison.Ordinal);
        }
        Assert.Equal(400, (await World.RefusedAsync(edda.GetAsync("/api/v1/requests?limit=0"))).Status);
        Assert.Equal(400, (await World.RefusedAsync(edda.GetAsync("/api/v1/requests?after=x"))).Status);
        Assert.Equal(404, (await World.RefusedAsync(edda.GetAsync("/api/v1/nothing"))).Status);
        Assert.Equal(404, (await World.RefusedAsync(edda.GetAsync("/api/v1/requests/999999"))).Status);
    }

    [Fact]
    public async Task An_unsound_rulebook_is_not_published_and_the_findings_are_told()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var edda = await world.SignInAsync("edda");
        var broken = new RulebookBody(
            world.Rulebook(
                (path, text) =>
                    path == "templates/dive-team.yaml" ? text.Replace("department ==", "departmant ==", StringComparison.Ordinal) : text
            )
        );
        var refused = await edda.PostAsJsonAsync("/api/v1/rulebook/editions", broken);
        Assert.Equal(422, (int)refused.StatusCode);
        var finding = (await refused.Content.ReadFromJsonAsync<JsonElement>()).GetProperty("findings")[0];
        Assert.Equal(
            ("templates/dive-team.yaml", 3, 7),
            (finding.GetProperty("file").GetString(), finding.GetProperty("line").GetInt32(), finding.GetProperty("column").GetInt32())
        );
        Assert.Single((await world.GetAsync<Page<EditionSummary>>("/api/v1/rulebook/editions", "edda")).Items);
        Assert.Equal(
            "unchanged",
            (await World.RefusedAsync(edda.PostAsJsonAsync("/api/v1/rulebook/editions", new RulebookBody(world.Rulebook())))).Code
        );
        await World.OkAsync(
            edda.PostAsJsonAsync("/api/v1/rulebook/editions", new RulebookBody(world.Rulebook((path, text) => text + "# second\n")))
        );
        Assert.Equal(2, (await world.GetAsync<EditionDetail>("/api/v1/rulebook/editions/current", "aldo")).Number);
    }

    [Fact]
    public async Task The_api_is_as_its_document_says()
    {
        await using var world = await World.StartAsync(servers.Directory);
        using var client = new HttpClient { BaseAddress = new(world.Address) };
        var text = (await client.GetStringAsync("/openapi/v1.json")).ReplaceLineEndings("\n").TrimEnd() + "\n";
        var path = Repository.At("docs", "openapi.json");
        if (Environment.GetEnvironmentVariable("OIKONOM_UPDATE") == "1")
            await File.WriteAllTextAsync(path, text);
        Assert.True(
            text == (await File.ReadAllTextAsync(path)).ReplaceLineEndings("\n").TrimEnd() + "\n",
            "docs/openapi.json has drifted from the code; run the tests once with OIKONOM_UPDATE=1 and commit it."
        );
    }

    [Fact]
    public async Task Changes_are_told_live_and_a_stream_goes_on_where_it_ended()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var otto = await world.SignInAsync("otto");
        async Task<(List<string> Events, string LastId)> ListenAsync(string? after, Func<Task> meanwhile, Func<string, bool> until)
        {
            using var message = new HttpRequestMessage(HttpMethod.Get, "/api/v1/events");
            if (after is not null)
                message.Headers.Add("Last-Event-ID", after);
            using var response = await otto.SendAsync(message, HttpCompletionOption.ResponseHeadersRead);
            using var reader = new StreamReader(await response.Content.ReadAsStreamAsync());
            var (events, id, started) = (new List<string>(), "", false);
            using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(15));
            while (await reader.ReadLineAsync(limit.Token) is { } line)
            {
                if (line.StartsWith("id:", StringComparison.Ordinal))
                    id = line[3..].Trim();
                if (!line.StartsWith("data:", StringComparison.Ordinal))
                    continue;
                events.Add(line);
                if (!started)
                {
                    started = true;
                    await meanwhile();
                }
                if (until(line))
                    return (events, id);
            }
            throw new InvalidOperationException("The stream ended.");
        }

        var (_, last) = await ListenAsync(
            null,
            () => world.BringAsync(HrRow.New(), "deciding"),
            line => line.Contains("\"requests\"", StringComparison.Ordinal)
        );
        await world.BringAsync(HrRow.New(), "deciding");
        var (missed, _) = await ListenAsync(
            last,
            () => Task.CompletedTask,
            line => line.Contains("\"requests\"", StringComparison.Ordinal)
        );
        Assert.NotEmpty(missed);
    }

    [Fact]
    public async Task Pages_are_guarded_by_a_strict_policy_and_health_is_told()
    {
        await using var world = await World.StartAsync(servers.Directory);
        using var client = new HttpClient { BaseAddress = new(world.Address) };
        var ready = await client.GetAsync("/health/ready");
        Assert.True((await ready.Content.ReadFromJsonAsync<Readiness>())!.Ready);
        var policy = ready.Headers.GetValues("Content-Security-Policy").Single();
        Assert.Contains("default-src 'none'", policy, StringComparison.Ordinal);
        Assert.DoesNotContain("unsafe", policy, StringComparison.Ordinal);
        Assert.Equal(HttpStatusCode.OK, (await client.GetAsync("/health/live")).StatusCode);
    }

    [Fact]
    public async Task A_port_in_use_is_a_clear_message()
    {
        await using var world = await World.StartAsync(servers.Directory);
        using var folder = new ScratchFolder();
        File.SetUnixFileMode(folder.Path, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        using var second = System.Diagnostics.Process.Start(
            new System.Diagnostics.ProcessStartInfo(Repository.At("bin", "oikonomd"), ["--listen", world.Address, "--data", folder.Path])
            {
                RedirectStandardError = true,
                RedirectStandardOutput = true,
            }
        )!;
        var error = await second.StandardError.ReadToEndAsync();
        await second.WaitForExitAsync();
        Assert.Equal(1, second.ExitCode);
        Assert.Contains("is in use by another program", error, StringComparison.Ordinal);
        Assert.DoesNotContain("   at ", error, StringComparison.Ordinal);
    }
}
