using System.Diagnostics;
using System.Net;
using System.Net.Http.Json;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Standins.Directory;
using Oikonom.Standins.OpenId;
using Oikonom.Testing;
using Xunit;
using static Oikonom.Service.Tests.ApprovalTests;

namespace Oikonom.Service.Tests;

/// <summary>What is promised of credentials, sign-in and reach.</summary>
public sealed class TrustAccessTests(Servers servers)
{
    private static (int, string) Short((int Status, string Code, string Detail) refusal) => (refusal.Status, refusal.Code);

    private static HttpClient Anyone(World world) => new() { BaseAddress = new(world.Address) };

    private static async Task<HttpClient> WithAsync(World world, string name, string password)
    {
        var client = Anyone(world);
        var token = await (
            await World.OkAsync(client.PostAsJsonAsync("/api/v1/tokens", new TokenBody(name, password, "x", 30)))
        ).Content.ReadFromJsonAsync<IssuedToken>();
        client.DefaultRequestHeaders.Authorization = new("Bearer", token!.Token);
        return client;
    }

    [Fact]
    public async Task A_secret_goes_only_where_it_was_set_to_go()
    {
        await using var world = await World.StartAsync(servers.Directory);
        using var listener = Listener.Start(out var port);
        var heard = new System.Collections.Concurrent.ConcurrentQueue<string>();
        _ = Task.Run(async () =>
        {
            while (listener.IsListening)
            {
                var context = await listener.GetContextAsync();
                heard.Enqueue(string.Join(' ', context.Request.Headers.AllKeys.Select(k => context.Request.Headers[k])));
                context.Response.StatusCode = 200;
                await using (var writer = new StreamWriter(context.Response.OutputStream))
                    await writer.WriteAsync("{\"items\":[]}");
            }
        });
        var edda = await world.SignInAsync("edda");
        await World.OkAsync(edda.PutAsJsonAsync("/api/v1/secrets/payroll-key", new SecretBody("the-key-of-payroll")));
        // A draft that names another source's secret, or the same one at one's own address, has nothing sent to it.
        IReadOnlyList<RulebookFileBody> Draft(string secret) =>
            world.Rulebook(
                (path, text) =>
                    path == "sources/payroll.yaml"
                        ? System.Text.RegularExpressions.Regex.Replace(
                            text.Replace("payroll-key", secret, StringComparison.Ordinal),
                            "http://127.0.0.1:7431[^\\s]*",
                            $"http://127.0.0.1:{port}/people"
                        )
                        : text
            );
        foreach (var secret in new[] { "payroll-key", "directory-password" })
        {
            var refused = await World.RefusedAsync(
                edda.PostAsJsonAsync("/api/v1/sources/payroll/preview", new PreviewBody(5, Draft(secret)))
            );
            Assert.Equal((422, "source-unreadable"), Short(refused));
            Assert.Contains("was set for", refused.Detail, StringComparison.Ordinal);
        }
        // Publishing does not send it elsewhere either, until whoever knows it sets it for that.
        await World.OkAsync(edda.PostAsJsonAsync("/api/v1/rulebook/editions", new RulebookBody(Draft("payroll-key"))));
        await World.OkAsync(edda.PostAsJsonAsync("/api/v1/sources/payroll/test", new { }));
        Assert.DoesNotContain(heard, h => h.Contains("the-key-of-payroll", StringComparison.Ordinal));
        var set = await (
            await World.OkAsync(edda.PutAsJsonAsync("/api/v1/secrets/payroll-key", new SecretBody("the-key-of-payroll")))
        ).Content.ReadFromJsonAsync<SecretSet>();
        Assert.Contains(set!.Waiting, w => w.Contains($"127.0.0.1:{port}", StringComparison.Ordinal));
        Assert.Equal(
            400,
            (await World.RefusedAsync(edda.PutAsJsonAsync("/api/v1/secrets/payroll-key", new SecretBody("x", ["sources/hr"])))).Status
        );
        await World.OkAsync(edda.PutAsJsonAsync("/api/v1/secrets/payroll-key", new SecretBody("the-key-of-payroll", ["sources/payroll"])));
        await World.OkAsync(edda.PostAsJsonAsync("/api/v1/sources/payroll/test", new { }));
        Assert.Contains(heard, h => h.Contains("the-key-of-payroll", StringComparison.Ordinal));
        var entries = (await world.GetAsync<Page<LedgerEntryView>>("/api/v1/ledger?kind=secret", "aldo")).Items;
        Assert.Contains(
            entries,
            e => e.Kind == "secret.set" && e.Body.GetProperty("to").GetRawText().Contains($"{port}", StringComparison.Ordinal)
        );
        Assert.DoesNotContain("the-key-of-payroll", JsonSerializer.Serialize(entries), StringComparison.Ordinal);
        listener.Stop();
    }

    [Fact]
    public async Task An_engineer_takes_nobody_over()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var edda = await world.SignInAsync("edda");
        // A password in the body sets nothing: mara's stays hers.
        await World.OkAsync(
            edda.PutAsync(
                "/api/v1/users/mara",
                JsonContent.Create(
                    new
                    {
                        display = "Mara",
                        mail = "mara@northmere.example",
                        roles = new[] { "approver" },
                        number = "E9002",
                        active = true,
                        password = "taken-over-now",
                    }
                )
            )
        );
        await World.OkAsync(Anyone(world).PostAsJsonAsync("/api/v1/sign-in", new SignInBody("mara", World.Password)));
        Assert.Equal(
            401,
            (await World.RefusedAsync(Anyone(world).PostAsJsonAsync("/api/v1/sign-in", new SignInBody("mara", "taken-over-now")))).Status
        );

        // What gives more, or leads a link elsewhere, waits for another engineer; what takes away does not.
        foreach (
            var body in new UserBody[]
            {
                new("Mara", "evil@northmere.example", ["approver"], "E9002", true),
                new("Mara", "mara@northmere.example", ["approver", "engineer"], "E9002", true),
                new("Mara", "mara@northmere.example", ["approver"], "E9999", true),
            }
        )
        {
            var saved = await (await World.OkAsync(edda.PutAsJsonAsync("/api/v1/users/mara", body))).Content.ReadFromJsonAsync<UserSaved>();
            Assert.NotNull(saved!.Waits);
            Assert.Equal(
                "own-change",
                (await World.RefusedAsync(edda.PostAsJsonAsync($"/api/v1/users/changes/{saved.Waits!.Id}/agree", new { }))).Code
            );
            var mara = (await world.GetAsync<Page<User>>("/api/v1/users", "edda")).Items.Single(u => u.Name == "mara");
            Assert.Equal(("mara@northmere.example", "approver", "E9002"), (mara.Mail, string.Join(',', mara.Roles), mara.Number));
        }
        var open = await world.GetAsync<Page<UserChange>>("/api/v1/users/changes", "setup");
        Assert.Equal(("mara", true), (open.Items.Single().User, open.Items.Single().MayAgree));
        Assert.Equal(
            ("person", "E9002", "E9999"),
            (
                open.Items.Single().Changes.Single().Name,
                open.Items.Single().Changes.Single().Before.Single(),
                open.Items.Single().Changes.Single().After.Single()
            )
        );
        await World.OkAsync(
            (await world.SignInAsync("setup")).PostAsJsonAsync(
                $"/api/v1/users/changes/{open.Items.Single().Id}/decline",
                new ProposalBody("why?")
            )
        );
        Assert.Null(
            (
                await (
                    await World.OkAsync(
                        edda.PutAsJsonAsync("/api/v1/users/mara", new UserBody("Mara", "mara@northmere.example", [], "E9002", true))
                    )
                ).Content.ReadFromJsonAsync<UserSaved>()
            )!.Waits
        );
        // Nobody touches their own number, mail or roles, alone or by a second user.
        foreach (
            var body in new UserBody[]
            {
                new("Edda", "edda@northmere.example", ["engineer"], "E9002", true),
                new("Edda", "other@northmere.example", ["engineer"], null, true),
                new("Edda", "edda@northmere.example", ["engineer", "approver"], null, true),
            }
        )
            Assert.Equal("own-roles", (await World.RefusedAsync(edda.PutAsJsonAsync("/api/v1/users/edda", body))).Code);
        // Ending the other engineers leaves nobody to decide alone.
        await World.OkAsync(
            edda.PutAsJsonAsync("/api/v1/users/setup", new UserBody("Setup", "setup@northmere.example", ["engineer"], null, false))
        );
        Assert.NotNull(
            (
                await (
                    await World.OkAsync(
                        edda.PutAsJsonAsync("/api/v1/users/mole", new UserBody("Mole", "mole@northmere.example", ["engineer"], null, true))
                    )
                ).Content.ReadFromJsonAsync<UserSaved>()
            )!.Waits
        );
        // Each field before and after is on the record.
        var entry = (await world.GetAsync<Page<LedgerEntryView>>("/api/v1/ledger?kind=user.change-asked", "aldo")).Items.First(e =>
            e.Body.GetProperty("user").GetString() == "mara"
        );
        Assert.Contains("E9999", entry.Body.GetProperty("changes").GetRawText(), StringComparison.Ordinal);
    }

    [Fact]
    public async Task Nobody_takes_the_second_person_away_alone()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var (edda, setup) = (await world.SignInAsync("edda"), await world.SignInAsync("setup"));
        // An edition that lets one person change users is itself for two.
        var alone = world.Rulebook(
            (path, text) =>
                path == "rulebook.yaml" ? text.Replace("users: second-person", "users: one-person", StringComparison.Ordinal) : text
        );
        var proposed = await (
            await World.OkAsync(edda.PostAsJsonAsync("/api/v1/rulebook/editions", new RulebookBody(alone)))
        ).Content.ReadFromJsonAsync<Published>();
        Assert.Null(proposed!.Edition);
        Assert.Equal(
            "own-proposal",
            (
                await World.RefusedAsync(
                    edda.PostAsJsonAsync($"/api/v1/rulebook/proposals/{proposed.Proposal!.Id}/approve", new ProposalBody(null))
                )
            ).Code
        );
        // Nor by a second user of the same person.
        await world.SaveUserAsync("edda2", new("Edda", "edda2@northmere.example", ["engineer"], null, true));
        await TrustApprovalTests.SqlAsync(world, "UPDATE users SET number='E9700' WHERE name IN ('edda', 'edda2')");
        Assert.Equal(
            "own-proposal",
            (
                await World.RefusedAsync(
                    (await world.SignInAsync("edda2")).PostAsJsonAsync(
                        $"/api/v1/rulebook/proposals/{proposed.Proposal.Id}/approve",
                        new ProposalBody(null)
                    )
                )
            ).Code
        );
        var more = new UserBody("Mole", "mole@northmere.example", ["approver"], null, true);
        var waits = (
            await (await World.OkAsync(edda.PutAsJsonAsync("/api/v1/users/mole", more))).Content.ReadFromJsonAsync<UserSaved>()
        )!.Waits;
        Assert.Equal(
            "own-change",
            (
                await World.RefusedAsync(
                    (await world.SignInAsync("edda2")).PostAsJsonAsync($"/api/v1/users/changes/{waits!.Id}/agree", new { })
                )
            ).Code
        );
        // With the other's agreement it counts, and one person does it from then on.
        await World.OkAsync(setup.PostAsJsonAsync($"/api/v1/rulebook/proposals/{proposed.Proposal.Id}/approve", new ProposalBody(null)));
        Assert.Null(
            (await (await World.OkAsync(edda.PutAsJsonAsync("/api/v1/users/mole", more))).Content.ReadFromJsonAsync<UserSaved>())!.Waits
        );
        // What waited was asked for over another user than there is now: it is not to be had any more.
        Assert.Empty((await world.GetAsync<Page<UserChange>>("/api/v1/users/changes", "setup")).Items);
        Assert.Equal(404, (await World.RefusedAsync(setup.PostAsJsonAsync($"/api/v1/users/changes/{waits.Id}/agree", new { }))).Status);
    }

    [Fact]
    public async Task A_password_is_set_by_its_owner_and_ends_all_that_came_before()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await world.SaveUserAsync("newt", new("Newt", "newt@northmere.example", ["approver"], null, true), setPassword: false);
        Assert.Equal("link-sent", (await world.GetAsync<Page<User>>("/api/v1/users", "edda")).Items.Single(u => u.Name == "newt").Way);
        var link = await world.LinkAsync("newt@northmere.example", "/password/");
        using var anyone = Anyone(world);
        // The link is in the mail alone: not in the store, not in the ledger.
        Assert.All(await world.FilesAsync(), f => Assert.DoesNotContain(link, f.Value, StringComparison.Ordinal));
        Assert.Equal("newt", (await anyone.GetFromJsonAsync<PasswordLink>($"/api/v1/password-links/{link}"))!.Name);
        foreach (var bad in new[] { "short", "aaaaaaaaaaaa", "newt-is-my-name" })
            Assert.Equal(
                400,
                (await World.RefusedAsync(anyone.PostAsJsonAsync($"/api/v1/password-links/{link}", new NewPasswordBody(bad)))).Status
            );
        await World.OkAsync(anyone.PostAsJsonAsync($"/api/v1/password-links/{link}", new NewPasswordBody("first-of-all-11")));
        Assert.Equal(
            404,
            (
                await World.RefusedAsync(anyone.PostAsJsonAsync($"/api/v1/password-links/{link}", new NewPasswordBody("second-of-all-2")))
            ).Status
        );
        using var first = await WithAsync(world, "newt", "first-of-all-11");
        using var second = await WithAsync(world, "newt", "first-of-all-11");

        // Changed by giving the present one: what it was changed with goes on, all else ends.
        Assert.Equal(
            "wrong-credentials",
            (
                await World.RefusedAsync(
                    first.PostAsJsonAsync("/api/v1/me/password", new OwnPasswordBody("wrong-of-it-1", "third-of-all-33"))
                )
            ).Code
        );
        await World.OkAsync(first.PostAsJsonAsync("/api/v1/me/password", new OwnPasswordBody("first-of-all-11", "third-of-all-33")));
        await World.OkAsync(first.GetAsync("/api/v1/me"));
        Assert.Equal(401, (await World.RefusedAsync(second.GetAsync("/api/v1/me"))).Status);

        // Forgotten: the answer is the same for whoever there is not; the new password ends every token.
        world.Mail!.Clear();
        foreach (var name in new[] { "newt", "nobody-at-all" })
            Assert.Equal(
                HttpStatusCode.Accepted,
                (await anyone.PostAsJsonAsync("/api/v1/password-links", new ForgottenBody(name))).StatusCode
            );
        await world.SetPasswordAsync("newt@northmere.example", "fourth-of-all-4");
        Assert.Equal(401, (await World.RefusedAsync(first.GetAsync("/api/v1/me"))).Status);
        Assert.Equal(
            ["link", "own", "link"],
            (await world.GetAsync<Page<LedgerEntryView>>("/api/v1/ledger?kind=password.set&actor=newt", "aldo")).Items.Select(e =>
                e.Body.GetProperty("way").GetString()
            )
        );
    }

    [Fact]
    public async Task A_token_never_outlives_the_one_it_was_made_with()
    {
        await using var world = await World.StartAsync(servers.Directory);
        using var parent = Anyone(world);
        var made = await (
            await World.OkAsync(parent.PostAsJsonAsync("/api/v1/tokens", new TokenBody("mara", World.Password, "a day", 1)))
        ).Content.ReadFromJsonAsync<IssuedToken>();
        parent.DefaultRequestHeaders.Authorization = new("Bearer", made!.Token);
        var child = await (
            await World.OkAsync(parent.PostAsJsonAsync("/api/v1/me/tokens", new OwnTokenBody("a year", 365)))
        ).Content.ReadFromJsonAsync<IssuedToken>();
        Assert.True(child!.ExpiresAt <= made.ExpiresAt);
        using var heir = Anyone(world);
        heir.DefaultRequestHeaders.Authorization = new("Bearer", child.Token);
        await World.OkAsync(heir.GetAsync("/api/v1/me"));
        await World.OkAsync(parent.DeleteAsync("/api/v1/tokens/current"));
        Assert.Equal(401, (await World.RefusedAsync(heir.GetAsync("/api/v1/me"))).Status);
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task Of_many_guesses_at_once_no_more_are_looked_at_than_one_after_the_other(string engine)
    {
        await using var world = await World.StartAsync(servers.Directory, await servers.OnAsync(engine));
        using var anyone = Anyone(world);
        async Task<List<int>> GuessAsync(string name) =>
            [
                .. (
                    await Task.WhenAll(
                        Enumerable
                            .Range(0, 40)
                            .Select(i => anyone.PostAsJsonAsync("/api/v1/sign-in", new SignInBody(name, $"guess-number-{i}")))
                    )
                ).Select(r => (int)r.StatusCode),
            ];
        var (known, unknown) = (await GuessAsync("mara"), new List<int>());
        Assert.InRange(known.Count(s => s == 401), 1, 5);
        Assert.All(known, s => Assert.True(s is 401 or 429));
        // The owner still gets in, by link.
        await World.OkAsync(anyone.PostAsJsonAsync("/api/v1/password-links", new ForgottenBody("mara")));
        await world.SetPasswordAsync("mara@northmere.example", "owner-gets-in-1");
        await World.OkAsync(anyone.PostAsJsonAsync("/api/v1/sign-in", new SignInBody("mara", "owner-gets-in-1")));
    }

    [Fact]
    public async Task Names_of_the_system_and_what_looks_like_them_are_nobodys()
    {
        await using var world = await World.StartAsync(servers.Directory, new() { Mail = false });
        foreach (var name in new[] { "oikonom", "0ikon0m", "oikonorn", "oiko-nom", "silence-1", "system", "me" })
        {
            var refused = await World.RefusedAsync(
                (await world.SignInAsync("edda")).PutAsJsonAsync(
                    $"/api/v1/users/{name}",
                    new UserBody("X", "x@northmere.example", ["approver"], null, true)
                )
            );
            Assert.Equal((400, "invalid"), Short(refused));
            Assert.Contains("stands for Oikonom itself", refused.Detail, StringComparison.Ordinal);
        }
    }

    [Fact]
    public async Task Who_signs_in_by_openid_is_known_by_the_subject_and_the_answer_belongs_to_the_question()
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
                    ["OPENID_ROLES"] = "keepers=approver",
                },
            }
        );
        HttpClient Browser(bool follow = true) =>
            new(new HttpClientHandler { CookieContainer = new CookieContainer(), AllowAutoRedirect = follow })
            {
                BaseAddress = new(world.Address),
            };
        provider.Current = new("rosa.penn", "Rosa Penn", "rosa@northmere.example", "E9042", ["keepers"]) { Subject = "s-1" };
        using var rosa = Browser();
        await rosa.GetAsync("/api/v1/sign-in/openid?onward=/api/v1/me");
        Assert.Equal("rosa.penn", (await rosa.GetFromJsonAsync<Me>("/api/v1/me"))!.Name);
        // Another subject with the same preferred name takes nobody over; the same subject under a new name is the same user.
        provider.Current = provider.Current with
        {
            Subject = "s-2",
            Number = "",
        };
        using var other = Browser();
        await other.GetAsync("/api/v1/sign-in/openid?onward=/api/v1/me");
        Assert.Equal(HttpStatusCode.Unauthorized, (await other.GetAsync("/api/v1/me")).StatusCode);
        provider.Current = provider.Current with { Subject = "s-1", Name = "rosa.quill", Number = "E9042" };
        using var renamed = Browser();
        await renamed.GetAsync("/api/v1/sign-in/openid?onward=/api/v1/me");
        Assert.Equal("rosa.penn", (await renamed.GetFromJsonAsync<Me>("/api/v1/me"))!.Name);
        // A person has one user, also where another provider or number list says otherwise; the system's names are nobody's.
        foreach (var (name, subject, number) in new[] { ("second.self", "s-3", "E9002"), ("oikonom", "s-4", "") })
        {
            provider.Current = new(name, name, "", number, ["keepers"]) { Subject = subject };
            using var refused = Browser();
            await refused.GetAsync("/api/v1/sign-in/openid?onward=/api/v1/me");
            Assert.Equal(HttpStatusCode.Unauthorized, (await refused.GetAsync("/api/v1/me")).StatusCode);
        }
        // Whatever 'onward' says, it leads to a page of this site.
        provider.Current = new("rosa.penn", "Rosa Penn", "", "E9042", ["keepers"]) { Subject = "s-1" };
        foreach (
            var (onward, leads) in new[]
            {
                ("/people", "/people"),
                ("//evil.example", "/"),
                ("/\\evil.example", "/"),
                ("/\t/evil.example", "/"),
                ("/a\nb", "/"),
                ("https://evil.example", "/"),
            }
        )
        {
            using var steps = Browser(follow: false);
            var next = $"/api/v1/sign-in/openid?onward={Uri.EscapeDataString(onward)}";
            for (var i = 0; i < 3; i++)
                next = (await steps.GetAsync(next)).Headers.Location!.OriginalString;
            Assert.Equal(leads, next);
        }
        // A wrong nonce signs nobody in.
        provider.Current = new("rosa.penn", "Rosa Penn", "", "E9042", ["keepers"]) { Subject = "s-1" };
        provider.Nonce = "of-another-question";
        using var replayed = Browser();
        await replayed.GetAsync("/api/v1/sign-in/openid?onward=/api/v1/me");
        Assert.Equal(HttpStatusCode.Unauthorized, (await replayed.GetAsync("/api/v1/me")).StatusCode);
        provider.Nonce = null;
        // Refused sign-ins are on the record.
        Assert.True((await world.GetAsync<Page<LedgerEntryView>>("/api/v1/ledger?kind=sign-in.refused", "aldo")).Items.Count >= 4);
    }

    [Fact]
    public async Task Forwarded_headers_are_believed_of_proxies_that_are_set_and_of_nobody_else()
    {
        foreach (
            var (proxies, address, believed) in new[]
            {
                ("127.0.0.1", "", true),
                ("192.0.2.1", "", false),
                ("", "", false),
                ("", "https://oikonom.northmere.example", false),
            }
        )
        {
            await using var world = await World.StartAsync(
                servers.Directory,
                new()
                {
                    Mail = false,
                    Environment = new Dictionary<string, string> { ["PROXIES"] = proxies, ["ADDRESS"] = address },
                }
            );
            using var client = new HttpClient(new HttpClientHandler { UseCookies = false }) { BaseAddress = new(world.Address) };
            client.DefaultRequestHeaders.Add("X-Forwarded-For", "203.0.113.7");
            client.DefaultRequestHeaders.Add("X-Forwarded-Proto", "https");
            var answer = await World.OkAsync(client.PostAsJsonAsync("/api/v1/sign-in", new SignInBody("edda", World.Password)));
            Assert.Equal(
                believed || address.Length > 0,
                answer.Headers.GetValues("Set-Cookie").Single().Contains("secure", StringComparison.OrdinalIgnoreCase)
            );
            var session = (await world.GetAsync<Page<SessionView>>("/api/v1/sessions", "edda")).Items.Single();
            Assert.Equal(believed ? "203.0.113.7" : "127.0.0.1", session.Address);
        }
    }

    [Fact]
    public async Task A_session_has_an_end_and_streams_end_with_it()
    {
        await using var world = await World.StartAsync(
            servers.Directory,
            new() { Environment = new Dictionary<string, string> { ["SESSION_HOURS"] = "0.0025" } }
        );
        using var browser = new HttpClient(new HttpClientHandler { CookieContainer = new CookieContainer() })
        {
            BaseAddress = new(world.Address),
        };
        await World.OkAsync(browser.PostAsJsonAsync("/api/v1/sign-in", new SignInBody("edda", World.Password)));
        await World.OkAsync(browser.GetAsync("/api/v1/me"));
        // Used all the time, it ends all the same; the stream ends with it, and one by a token when that is ended.
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(40));
        using var stream = await (
            await browser.GetAsync("/api/v1/events", HttpCompletionOption.ResponseHeadersRead)
        ).Content.ReadAsStreamAsync();
        using var reader = new StreamReader(stream);
        while (await reader.ReadLineAsync(limit.Token) is not null)
        {
            // Hints, until the session is over.
        }
        await world.EventuallyAsync(async () => (int)(await browser.GetAsync("/api/v1/me")).StatusCode, s => s == 401);
        using var token = await WithAsync(world, "otto", World.Password);
        using var second = new StreamReader(
            await (await token.GetAsync("/api/v1/events", HttpCompletionOption.ResponseHeadersRead)).Content.ReadAsStreamAsync()
        );
        await World.OkAsync(token.DeleteAsync("/api/v1/tokens/current"));
        while (await second.ReadLineAsync(limit.Token) is not null)
        {
            // Likewise.
        }
    }

    [Fact]
    public async Task A_data_folder_that_others_can_read_is_refused_and_the_store_is_closed()
    {
        await using var world = await World.StartAsync(servers.Directory);
        foreach (var file in Directory.GetFiles(world.DataFolder, "oikonom.db*").Append(Path.Combine(world.DataFolder, "ledger-key.pem")))
            Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(file));
        await world.StopAsync();
        File.SetUnixFileMode(
            world.DataFolder,
            UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute | UnixFileMode.GroupRead
        );
        using var process = Process.Start(
            new ProcessStartInfo(Repository.At("bin", "oikonomd"), ["--listen", world.Address, "--data", world.DataFolder])
            {
                RedirectStandardError = true,
                RedirectStandardOutput = true,
            }
        )!;
        var error = await process.StandardError.ReadToEndAsync();
        await process.WaitForExitAsync();
        Assert.Equal(1, process.ExitCode);
        Assert.Contains("chmod 700", error, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task A_look_holds_up_nobody_and_a_key_counts_on_every_node(string engine)
    {
        await using var world = await World.StartAsync(servers.Directory, await servers.OnAsync(engine));
        var person = await PersonAsync(world);
        var ines = await world.SignInAsync("ines");
        // One key, two nodes, at once: one request.
        await using var node = await world.JoinAsync();
        var body = new NewRequest("access", person.Number, "x", Grants: [new("directory/payments", null, "2034-06-30")]);
        async Task<string> RaiseAsync(World at)
        {
            using var client = Anyone(at);
            client.DefaultRequestHeaders.Authorization = ines.DefaultRequestHeaders.Authorization;
            client.DefaultRequestHeaders.Add("Idempotency-Key", "one-and-the-same");
            return (
                await (await World.OkAsync(client.PostAsJsonAsync("/api/v1/requests", body))).Content.ReadFromJsonAsync<RequestDetail>()
            )!
                .Summary
                .Id;
        }
        Assert.Single((await Task.WhenAll(Enumerable.Range(0, 6).Select(i => RaiseAsync(i % 2 == 0 ? world : node)))).Distinct());
        // A long look at a file, and meanwhile somebody signs in: the look takes no write.
        var csv =
            "kind,person,reason,target\n" + string.Concat(Enumerable.Range(0, 1500).Select(_ => $"password,{person.Number},x,directory\n"));
        var look = ines.PostAsJsonAsync("/api/v1/requests/bulk", new BulkBody(csv, DryRun: true));
        for (var i = 0; i < 3; i++)
            await World.OkAsync(Anyone(world).PostAsJsonAsync("/api/v1/sign-in", new SignInBody("otto", World.Password)));
        Assert.False(look.IsCompleted, "The look was over too soon to tell.");
        await World.OkAsync(look);
    }

    [Fact]
    public async Task What_somebody_took_is_handed_over_by_them_by_who_leads_the_desk_or_by_an_engineer()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await TrustApprovalTests.PublishAsync(
            world,
            (path, text) =>
                path == "targets/facilities.yaml" ? text.Replace("owner: E1006", "owner: E9055", StringComparison.Ordinal) : text
        );
        foreach (var (name, number) in new[] { ("ollie", ""), ("olga", ""), ("lead", "E9055") })
            await world.SaveUserAsync(name, new(name, $"{name}@northmere.example", ["operator"], number, true));
        var person = await PersonAsync(world);
        var asked = await RaiseAsync(world, new("access", person.Number, "x", Grants: [new("facilities/wet-suit")]));
        asked = await world.WaitForAsync(asked.Summary.Id, "deciding");
        await ApproveAsync(world, asked, "mara");
        await ApproveAsync(world, await world.RequestAsync(asked.Summary.Id), "tomas");
        var task = (
            await world.EventuallyAsync(() => world.GetAsync<Page<TaskView>>("/api/v1/tasks", "ollie"), t => t.Items.Count > 0)
        ).Items.Single();
        async Task<HttpResponseMessage> To(string by, string to) =>
            await (await world.SignInAsync(by)).PostAsJsonAsync($"/api/v1/tasks/{task.Id}/hand-over", new HandOverBody(to));
        await World.OkAsync((await world.SignInAsync("ollie")).PostAsJsonAsync($"/api/v1/tasks/{task.Id}/take", new { }));
        Assert.Equal("not-yours", (await World.RefusedAsync(To("olga", "olga"))).Code);
        await World.OkAsync(To("ollie", "olga"));
        Assert.Equal("not-yours", (await World.RefusedAsync(To("ollie", "ollie"))).Code);
        await World.OkAsync(To("lead", "ollie"));
    }
}
