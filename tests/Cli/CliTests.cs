using System.Diagnostics;
using System.Net.Http.Json;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Standins.Directory;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Cli.Tests;

/// <summary>A service and a directory, shared by all tests of the client.</summary>
public sealed class ClientFixture : IAsyncLifetime
{
    public TestDirectory Directory { get; private set; } = null!;
    public World World { get; private set; } = null!;

    public async ValueTask InitializeAsync()
    {
        Directory = await TestDirectory.StartAsync();
        World = await World.StartAsync(Directory, new() { OwnProcess = true });
    }

    public async ValueTask DisposeAsync()
    {
        await World.DisposeAsync();
        await Directory.DisposeAsync();
    }
}

/// <summary>The client as a process: what it prints, and how it ends.</summary>
public sealed class CliTests(ClientFixture fixture) : IClassFixture<ClientFixture>, IDisposable
{
    private readonly World _world = fixture.World;
    private readonly ScratchFolder _home = new();

    public void Dispose() => _home.Dispose();

    private async Task<(int Code, string Out, string Error)> RunAsync(string arguments, string input = "", string? address = null)
    {
        var info = new ProcessStartInfo(
            Repository.At("bin", "oikonom"),
            arguments.Split(' ', StringSplitOptions.RemoveEmptyEntries).Select(a => a.Replace('~', ' '))
        )
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        info.Environment["OIKONOM_URL"] = address ?? _world.Address;
        info.Environment["XDG_CONFIG_HOME"] = _home.Path;
        info.Environment.Remove("OIKONOM_TOKEN");
        using var process = Process.Start(info)!;
        await process.StandardInput.WriteAsync(input);
        process.StandardInput.Close();
        var (output, error) = (process.StandardOutput.ReadToEndAsync(), process.StandardError.ReadToEndAsync());
        await process.WaitForExitAsync();
        return (process.ExitCode, await output, await error);
    }

    [Fact]
    public async Task A_fault_of_the_client_is_one_line_with_a_number()
    {
        // A service that answers in no form the client knows.
        var port = DirectoryServer.FreePort();
        using var strange = new System.Net.HttpListener { Prefixes = { $"http://127.0.0.1:{port}/" } };
        strange.Start();
        var answering = Task.Run(async () =>
        {
            while (strange.IsListening)
            {
                var context = await strange.GetContextAsync();
                context.Response.ContentType = "application/json";
                await context.Response.OutputStream.WriteAsync("{\"items\":null,\"token\":\"x\"}"u8.ToArray());
                context.Response.Close();
            }
        });
        var address = $"http://127.0.0.1:{port}";
        await RunAsync("sign-in ines --password-stdin", World.Password, address);
        var (code, _, error) = await RunAsync("requests list", "", address);
        strange.Stop();
        await Assert.ThrowsAnyAsync<Exception>(() => answering);
        Assert.Equal(70, code);
        Assert.Matches(@"^oikonom: .*\(fault [0-9a-f]{8}: .*OIKONOM_DEBUG=1.*\n$", error);
        Assert.DoesNotContain("   at ", error, StringComparison.Ordinal);
    }

    private async Task SignInAsync(string name)
    {
        var signed = await RunAsync($"sign-in {name} --password-stdin", World.Password + "\n");
        Assert.Equal((0, ""), (signed.Code, signed.Error));
    }

    private async Task<JsonElement> JsonAsync(string arguments)
    {
        var ran = await RunAsync(arguments + " --output json");
        Assert.True(ran.Code == 0, ran.Error);
        return JsonDocument.Parse(ran.Out).RootElement;
    }

    [Fact]
    public async Task The_whole_path_through_the_client()
    {
        var row = HrRow.New("Kaya");
        _world.WriteHr(row);
        await SignInAsync("ines");
        Assert.Contains("would raise 1 joiner", (await RunAsync("intake run hr --dry-run")).Out, StringComparison.Ordinal);
        var raised = (await JsonAsync("intake run hr")).GetProperty("requests")[0].GetProperty("id").GetString()!;
        var planned = await _world.WaitForAsync(raised, "deciding");
        var number = planned.Summary.Number;
        Assert.Contains(row.Family, (await RunAsync("requests list --open")).Out, StringComparison.Ordinal);

        await SignInAsync("mara");
        Assert.Contains(row.Family, (await RunAsync("inbox")).Out, StringComparison.Ordinal);
        var shown = (await RunAsync($"requests show {number}")).Out;
        Assert.Contains("Waits  on mara since", shown, StringComparison.Ordinal);
        Assert.Contains("because of template 'dive-team' (templates/dive-team.yaml:5)", shown, StringComparison.Ordinal);
        Assert.Equal(5, (await RunAsync($"requests approve {number} --yes --plan 0000")).Code);
        Assert.Equal(2, (await RunAsync($"requests approve {number}")).Code);
        Assert.Contains(
            "approved and waiting for release",
            (await RunAsync($"requests approve {number} --yes --remark well~done")).Out,
            StringComparison.Ordinal
        );
        Assert.Equal(1, (await RunAsync($"requests release {number} --yes")).Code);

        await SignInAsync("otto");
        Assert.Equal(0, (await RunAsync($"requests release {number} --yes")).Code);
        await _world.WaitForAsync(raised, "completed");
        Assert.Contains("6 of 6 steps are done", (await RunAsync($"requests show {number}")).Out, StringComparison.Ordinal);
        Assert.Contains(
            $"kaya.{row.Family.ToLowerInvariant()}",
            (await RunAsync($"people show {row.Number}")).Out,
            StringComparison.Ordinal
        );
        Assert.Contains(row.Number, (await RunAsync($"people list --text {row.Family}")).Out, StringComparison.Ordinal);
        Assert.Contains("directory: good.", (await RunAsync("targets check directory")).Out, StringComparison.Ordinal);
        Assert.Contains("Northmere directory", (await RunAsync("targets list")).Out, StringComparison.Ordinal);
        Assert.Contains("ldaps://127.0.0.1", (await RunAsync("targets show directory")).Out, StringComparison.Ordinal);
        Assert.Equal(2, (await RunAsync("targets pause directory")).Code);
        Assert.Contains("is paused", (await RunAsync("targets pause directory --reason rebuilt")).Out, StringComparison.Ordinal);
        Assert.Contains("goes on", (await RunAsync("targets resume directory")).Out, StringComparison.Ordinal);
        Assert.Contains("as-decided", (await RunAsync("targets reconcile directory --dry-run")).Out, StringComparison.Ordinal);

        await SignInAsync("aldo");
        await _world.EventuallyAsync(_world.VerifyLedgerAsync, v => v.Unsealed == 0);
        Assert.Contains("Sound:", (await RunAsync("ledger verify")).Out, StringComparison.Ordinal);
        Assert.Contains("request.completed", (await RunAsync($"ledger list --request {raised}")).Out, StringComparison.Ordinal);
        Assert.True((await JsonAsync("ledger verify")).GetProperty("sound").GetBoolean());
    }

    [Fact]
    public async Task One_of_several_entries_is_chosen_and_a_request_is_declined_through_the_client()
    {
        await using var ldap = await fixture.Directory.ConnectAsync();
        var row = HrRow.New();
        foreach (var name in new[] { "a-", "b-" })
            await ldap.AddAsync(
                TestDirectory.Dn(name + row.Number.ToLowerInvariant()),
                TestDirectory.Person(name + row.Number.ToLowerInvariant(), row.Number)
            );
        _world.WriteHr(row, HrRow.New() with { Start = "no date" });
        await SignInAsync("ines");
        var run = await RunAsync("intake run hr");
        Assert.Contains("1 set aside", run.Out, StringComparison.Ordinal);
        Assert.Contains("'no date' is not a date", (await RunAsync("intake set-aside hr")).Out, StringComparison.Ordinal);
        Assert.Contains("HR export", (await RunAsync("intake sources")).Out, StringComparison.Ordinal);
        var raised = (await _world.GetAsync<Page<RequestSummary>>($"/api/v1/requests?text={row.Number}")).Items.Single();
        var choosing = await _world.WaitForAsync(raised.Id, "choosing");

        await SignInAsync("otto");
        var shown = (await RunAsync($"requests show {raised.Number}")).Out;
        Assert.Contains($"oikonom requests choose {raised.Number}", shown, StringComparison.Ordinal);
        Assert.Contains(choosing.Candidates[0].ImmutableId, shown, StringComparison.Ordinal);
        Assert.Equal(1, (await RunAsync($"requests choose {raised.Number} directory nonsense")).Code);
        Assert.Equal(0, (await RunAsync($"requests choose {raised.Number} directory {choosing.Candidates[0].ImmutableId}")).Code);
        await _world.WaitForAsync(raised.Id, "deciding");
        Assert.Equal(5, (await RunAsync($"requests retry {raised.Number} --yes")).Code);

        await SignInAsync("mara");
        Assert.Equal(2, (await RunAsync($"requests decline {raised.Number} --yes")).Code);
        Assert.Contains(
            "is now declined",
            (await RunAsync($"requests decline {raised.Number} --yes --reason not~agreed")).Out,
            StringComparison.Ordinal
        );
        Assert.Contains("not agreed", (await RunAsync($"requests show {raised.Number}")).Out, StringComparison.Ordinal);
        Assert.Contains("MARA (mara)", (await RunAsync("me")).Out, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_rulebook_is_checked_published_and_shown()
    {
        await SignInAsync("edda");
        using var folder = new ScratchFolder();
        void Write(Func<string, string, string>? change)
        {
            foreach (var file in _world.Rulebook(change))
            {
                Directory.CreateDirectory(Path.GetDirectoryName(folder.At(file.Path))!);
                File.WriteAllText(folder.At(file.Path), file.Text);
            }
        }

        Write(
            (path, text) =>
                path == "templates/research.yaml" ? text.Replace("department ==", "departmnt ==", StringComparison.Ordinal) : text
        );
        var bad = await RunAsync($"rulebook check {folder.Path}");
        Assert.Equal(1, bad.Code);
        Assert.Contains(
            "templates/research.yaml:3:7: 'departmnt' is not a declared name. Did you mean 'department'?",
            bad.Out,
            StringComparison.Ordinal
        );
        var refused = await RunAsync($"rulebook publish {folder.Path} --yes");
        Assert.Equal(1, refused.Code);
        Assert.Contains("research.yaml:3:7", refused.Error, StringComparison.Ordinal);

        Write((path, text) => text + "# by the client\n");
        Assert.Equal(0, (await RunAsync($"rulebook check {folder.Path}")).Code);
        Assert.Contains(
            "it would be published",
            (await RunAsync($"rulebook publish {folder.Path} --dry-run")).Out,
            StringComparison.Ordinal
        );
        Assert.Contains("is published", (await RunAsync($"rulebook publish {folder.Path} --yes")).Out, StringComparison.Ordinal);
        Assert.Contains(
            "templates:   administrators, animal-care, dive-team, everyone, field-work, research, ticket-desk",
            (await RunAsync("rulebook show")).Out,
            StringComparison.Ordinal
        );
        Assert.Equal(5, (await RunAsync($"rulebook publish {folder.Path} --yes")).Code);
        Assert.Equal(4, (await RunAsync("rulebook show 99")).Code);
    }

    [Fact]
    public async Task A_secret_is_set_from_standard_input_and_never_shown()
    {
        await SignInAsync("edda");
        Assert.Equal(0, (await RunAsync("secrets set extra", "very-secret\n")).Code);
        var list = await RunAsync("secrets list");
        Assert.Contains("extra", list.Out, StringComparison.Ordinal);
        Assert.DoesNotContain("very-secret", list.Out, StringComparison.Ordinal);
        Assert.Equal(2, (await RunAsync("secrets set extra", "")).Code);
    }

    [Fact]
    public async Task Users_are_made_limited_and_ended_and_nobody_raises_themselves()
    {
        await SignInAsync("edda");
        var made = await RunAsync(
            "users set gerda --display Gerda~Wrack --mail gerda@northmere.example --role approver --role auditor --reach "
                + "approver=site:harbour,department:Research,target:directory"
        );
        Assert.Equal((0, ""), (made.Code, made.Error));
        await AgreeAsync(made.Out);
        await _world.SetPasswordAsync("gerda@northmere.example", World.Password);
        var user = JsonDocument
            .Parse((await RunAsync("users list --output json")).Out)
            .RootElement.GetProperty("items")
            .EnumerateArray()
            .Single(u => u.GetProperty("name").GetString() == "gerda");
        Assert.Equal("harbour", user.GetProperty("reach").GetProperty("approver").GetProperty("sites")[0].GetString());
        Assert.Contains(
            "approver (site:harbour department:Research target:directory)",
            (await RunAsync("users list")).Out.ReplaceLineEndings(" "),
            StringComparison.Ordinal
        );

        // What is not named stays; a limit ends by name.
        await AgreeAsync((await RunAsync("users set gerda --reach approver=everywhere --person E1002")).Out);
        user = JsonDocument
            .Parse((await RunAsync("users list --output json")).Out)
            .RootElement.GetProperty("items")
            .EnumerateArray()
            .Single(u => u.GetProperty("name").GetString() == "gerda");
        Assert.Equal(
            ("Gerda Wrack", "E1002", 2, JsonValueKind.Null),
            (
                user.GetProperty("display").GetString(),
                user.GetProperty("number").GetString(),
                user.GetProperty("roles").GetArrayLength(),
                user.GetProperty("reach").ValueKind
            )
        );
        foreach (
            var (arguments, code) in new[]
            {
                ("users set gerda --role captain", 1),
                ("users set gerda --reach approver", 2),
                ("users set gerda --reach approver=moon", 2),
                ("users set gerda --reach captain=site:harbour", 1),
                ("users set gerda --reach approver=site:harbor", 1),
                ("users set Gerda --role auditor", 1),
                ("users set nobody --role auditor", 1),
            }
        )
        {
            var refused = await RunAsync(arguments);
            Assert.Equal((arguments, code), (arguments, refused.Code));
            Assert.Single(refused.Error.TrimEnd().Split('\n'));
        }
        Assert.Contains("harbour", (await RunAsync("users set gerda --reach approver=site:harbor")).Error, StringComparison.Ordinal);
        Assert.Contains(
            "another engineer",
            (await RunAsync("users set edda --role engineer --role approver")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains("another engineer", (await RunAsync("users set edda --active false")).Error, StringComparison.Ordinal);
        Assert.Equal(0, (await RunAsync("users set edda --mail edda@northmere.example")).Code);

        await SignInAsync("gerda");
        Assert.Equal(1, (await RunAsync("users list")).Code);
        await SignInAsync("edda");
        Assert.Contains("may not sign in", (await RunAsync("users set gerda --active false")).Out, StringComparison.Ordinal);
        Assert.Equal(3, (await RunAsync("sign-in gerda --password-stdin", World.Password + "\n")).Code);
    }

    /// <summary>Another engineer sees what waits, and agrees; who asked for it cannot.</summary>
    private async Task AgreeAsync(string told)
    {
        var id = told.TrimEnd().Split(' ')[^1];
        Assert.Equal($"Another engineer agrees first: oikonom users agree {id}\n", told);
        Assert.Equal(1, (await RunAsync($"users agree {id}")).Code);
        await SignInAsync("setup");
        Assert.Contains("asked by edda", (await RunAsync("users changes")).Out, StringComparison.Ordinal);
        Assert.Equal(0, (await RunAsync($"users agree {id}")).Code);
        Assert.Equal(4, (await RunAsync("users decline nothing")).Code);
        await SignInAsync("edda");
    }

    /// <summary>Takes the people as known. When the source was loaded before, another engineer lets it pass.</summary>
    private async Task BaselineAsync()
    {
        var ran = await RunAsync("intake run hr --baseline");
        if (ran.Code == 0)
            return;
        var run = (await JsonAsync("intake runs hr")).GetProperty("items")[0].GetProperty("id").GetString();
        Assert.Equal(1, (await RunAsync($"intake pass {run} --yes")).Code);
        await SignInAsync("setup");
        var passed = await RunAsync($"intake pass {run} --yes");
        Assert.Equal((0, ""), (passed.Code, passed.Error));
        await SignInAsync("edda");
    }

    [Fact]
    public async Task A_token_for_a_program_is_made_replaced_and_ended()
    {
        await SignInAsync("edda");
        var made = await RunAsync("tokens make reports --days 7");
        Assert.Equal(0, made.Code);
        Assert.Contains("not shown again", made.Error, StringComparison.Ordinal);
        var token = made.Out.Trim();
        Assert.DoesNotContain(token, (await RunAsync("tokens list --output json")).Out, StringComparison.Ordinal);
        using var client = new HttpClient { BaseAddress = new(_world.Address) };
        client.DefaultRequestHeaders.Authorization = new("Bearer", token);
        Assert.True((await client.GetAsync("/api/v1/users")).IsSuccessStatusCode);
        var second = JsonDocument
            .Parse((await RunAsync("tokens make reports --days 7 --output json")).Out)
            .RootElement.GetProperty("id")
            .GetString();
        var first = JsonDocument
            .Parse((await RunAsync("tokens list --output json")).Out)
            .RootElement.GetProperty("items")
            .EnumerateArray()
            .Where(t => t.GetProperty("label").GetString() == "reports")
            .Select(t => t.GetProperty("id").GetString())
            .Single(i => i != second);
        Assert.True((await client.GetAsync("/api/v1/users")).IsSuccessStatusCode);
        Assert.Contains("ended", (await RunAsync($"tokens end {first}")).Out, StringComparison.Ordinal);
        Assert.Equal(System.Net.HttpStatusCode.Unauthorized, (await client.GetAsync("/api/v1/users")).StatusCode);
        foreach (
            var (arguments, code) in new[]
            {
                ($"tokens end {first}", 4),
                ("tokens make x --days 400", 1),
                ("tokens make x --role auditor", 1),
                ("tokens make x --days soon", 2),
            }
        )
            Assert.Equal((arguments, code), (arguments, (await RunAsync(arguments)).Code));
    }

    [Fact]
    public async Task How_somebody_hears_is_told_and_set()
    {
        await SignInAsync("otto");
        Assert.Contains("In the console and by mail, one by one.", (await RunAsync("notices hearing")).Out, StringComparison.Ordinal);
        Assert.Contains(
            "gathered each day; no mail from 20:00 to 7:00 (Atlantic/Azores)",
            (await RunAsync("notices hearing --digest day --quiet 20-7 --zone Atlantic/Azores")).Out,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "In the console, not by mail, gathered each day",
            (await RunAsync("notices hearing --mail false")).Out,
            StringComparison.Ordinal
        );
        foreach (
            var (arguments, code) in new[]
            {
                ("--quiet late", 2),
                ("--quiet 7", 2),
                ("--quiet 25-7", 1),
                ("--digest weekly", 1),
                ("--zone Mars/Olympus", 1),
            }
        )
            Assert.Equal((arguments, code), (arguments, (await RunAsync($"notices hearing {arguments}")).Code));
        Assert.Contains(
            "In the console and by mail, one by one.",
            (await RunAsync("notices hearing --mail true --digest none --quiet none")).Out,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task Exit_codes_are_stable_and_a_refusal_is_one_line()
    {
        var nobody = await RunAsync("inbox");
        Assert.Equal(3, nobody.Code);
        Assert.Contains("Not signed in", nobody.Error, StringComparison.Ordinal);
        Assert.Equal(3, (await RunAsync("sign-in ines --password-stdin", "wrong\n")).Code);
        await SignInAsync("ines");
        Assert.Equal(4, (await RunAsync("requests show 999999")).Code);
        Assert.Equal(1, (await RunAsync("ledger list")).Code);
        Assert.Equal(2, (await RunAsync("requests nothing")).Code);
        Assert.Equal(2, (await RunAsync("requests show")).Code);
        var away = await RunAsync("sign-in ines --password-stdin", "x\n", "http://127.0.0.1:1");
        Assert.Equal(6, away.Code);
        Assert.All(new[] { nobody, away }, r => Assert.Single(r.Error.TrimEnd('\n').Split('\n')));
        Assert.Equal(0, (await RunAsync("sign-out")).Code);
        Assert.Equal(3, (await RunAsync("me")).Code);
    }

    [Fact]
    public async Task The_kept_token_is_for_its_owner_alone()
    {
        await SignInAsync("ines");
        Assert.Equal(
            UnixFileMode.UserRead | UnixFileMode.UserWrite,
            File.GetUnixFileMode(Path.Combine(_home.Path, "oikonom", "credentials.json"))
        );
    }

    [Fact]
    public async Task Sources_are_tested_previewed_held_and_decided_through_the_client()
    {
        await SignInAsync("edda");
        var rows = Enumerable.Range(0, 24).Select(_ => HrRow.New()).ToList();
        _world.WriteHr(rows);
        Assert.Equal("The first 24 records are sound.\n", (await RunAsync("intake test hr")).Out);
        Assert.Contains("hr is on; it runs next at", (await RunAsync("intake switch hr on")).Out, StringComparison.Ordinal);
        Assert.Contains("hr is off", (await RunAsync("intake switch hr off")).Out, StringComparison.Ordinal);
        Assert.Contains("Dive Team", (await RunAsync("intake preview hr --limit 1")).Out, StringComparison.Ordinal);
        await BaselineAsync();
        _world.WriteHr(rows.Skip(1).Select((r, i) => i < 21 ? r with { End = "2026-11-20" } : r));
        var held = await RunAsync("intake run hr");
        Assert.Equal(1, held.Code);
        Assert.Contains("21 leavers of", held.Out, StringComparison.Ordinal);
        var run = (await JsonAsync("intake runs hr")).GetProperty("items")[0].GetProperty("id").GetString();
        Assert.Contains("You may let it pass", (await RunAsync($"intake held {run}")).Out, StringComparison.Ordinal);
        Assert.Equal("The run is dropped; nothing was raised.\n", (await RunAsync($"intake drop {run} --yes")).Out);
        Assert.Equal(5, (await RunAsync($"intake pass {run} --yes")).Code);
        _world.WriteHr(rows.Skip(1));
        Assert.Contains("1 known records are not in the file", (await RunAsync("intake run hr")).Out, StringComparison.Ordinal);
        Assert.Contains(rows[0].Number, (await RunAsync("intake vanished hr")).Out, StringComparison.Ordinal);
        Assert.Equal(2, (await RunAsync($"intake vanished hr {rows[0].Number}")).Code);
        Assert.Equal("The record is kept.\n", (await RunAsync($"intake vanished hr {rows[0].Number} --stays")).Out);
        Assert.Contains("kept", (await RunAsync($"intake records hr --key {rows[0].Number}")).Out, StringComparison.Ordinal);
        Assert.Contains("brake: more than 60 joiners", (await RunAsync("intake show hr")).Out, StringComparison.Ordinal);
        Assert.Contains("Nothing was written back", (await RunAsync("intake write-backs payroll")).Out, StringComparison.Ordinal);

        var token = await JsonAsync("intake token partners --days 1");
        Assert.StartsWith("oiks_", token.GetProperty("token").GetString(), StringComparison.Ordinal);
        Assert.Contains("push", (await RunAsync("intake tokens partners")).Out, StringComparison.Ordinal);
        Assert.Equal(0, (await RunAsync($"intake end-token partners {token.GetProperty("id").GetString()}")).Code);
        Assert.Equal(0, (await RunAsync("intake test volunteers")).Code);
        Assert.Equal(0, (await RunAsync("intake switch volunteers on")).Code);
        var file = Path.Combine(_home.Path, "records.json");
        await File.WriteAllTextAsync(
            file,
            $$"""[{ "badge": "{{rows[0].Number}}", "given": "Una", "family": "Tern", "from": "2026-01-02", "station": "saltmarsh" }, { "badge": "x" }]""",
            TestContext.Current.CancellationToken
        );
        var posted = await RunAsync($"intake post volunteers {file}");
        Assert.Equal(1, posted.Code);
        Assert.Contains("joiner", posted.Out, StringComparison.Ordinal);
        Assert.Contains("'given' is mandatory and empty", posted.Out, StringComparison.Ordinal);
        var export = Path.Combine(_home.Path, "aside.csv");
        await RunAsync($"intake set-aside volunteers --export {export}");
        Assert.Contains(
            "'given' is mandatory and empty",
            await File.ReadAllTextAsync(export, TestContext.Current.CancellationToken),
            StringComparison.Ordinal
        );
        Assert.Contains(
            "yes department == \"Dive Team\"",
            (await RunAsync($"explain {rows[1].Number} directory/dive-team")).Out,
            StringComparison.Ordinal
        );
        Assert.Contains("directory/research-lab", (await RunAsync($"explain {rows[1].Number}")).Out, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_draft_is_checked_rehearsed_compared_and_published_through_the_client()
    {
        await SignInAsync("edda");
        _world.WriteHr(HrRow.New(), HrRow.New() with { Department = "Research" });
        await BaselineAsync();
        var draft = Path.Combine(_home.Path, "draft");
        var before = (await JsonAsync("rulebook show")).GetProperty("number").GetInt32();
        Assert.Contains(
            $"of edition {before} are in {draft}",
            (await RunAsync($"rulebook export current {draft}")).Out,
            StringComparison.Ordinal
        );
        Assert.Contains("They are the same", (await RunAsync($"rulebook diff current {draft}")).Out, StringComparison.Ordinal);
        Assert.Equal(2, (await RunAsync($"rulebook export current {draft}")).Code);
        var template = Path.Combine(draft, "templates", "dive-team.yaml");
        await File.WriteAllTextAsync(
            template,
            (await File.ReadAllTextAsync(template, TestContext.Current.CancellationToken)).Replace(
                "department == \"Dive Team\"",
                "department == \"Research\"",
                StringComparison.Ordinal
            ),
            TestContext.Current.CancellationToken
        );
        var check = await RunAsync($"rulebook check {draft}");
        Assert.Contains("warning clear-text: 'payroll' is asked in clear text. Use https://", check.Out, StringComparison.Ordinal);
        Assert.Equal((0, 1), (check.Code, (await RunAsync($"rulebook check {draft} --strict")).Code));
        var list = Path.Combine(_home.Path, "list.csv");
        var rehearsed = await RunAsync($"rulebook rehearse {draft} --export {list}");
        Assert.Contains("gains directory/dive-team", rehearsed.Out, StringComparison.Ordinal);
        Assert.Contains(
            "loses directory/dive-team",
            await File.ReadAllTextAsync(list, TestContext.Current.CancellationToken),
            StringComparison.Ordinal
        );
        Assert.Contains(
            "+ when: department == \"Research\"",
            (await RunAsync($"rulebook diff current {draft}")).Out,
            StringComparison.Ordinal
        );
        Assert.Contains(
            $"Edition {before + 1} is published",
            (await RunAsync($"rulebook publish {draft} --yes")).Out,
            StringComparison.Ordinal
        );
        Assert.Contains("1 lines new, 1 gone", (await RunAsync($"rulebook diff {before} {before + 1}")).Out, StringComparison.Ordinal);
        Assert.Contains("edda", (await RunAsync("rulebook list")).Out, StringComparison.Ordinal);
        Assert.Contains("No edition waits", (await RunAsync("rulebook proposals")).Out, StringComparison.Ordinal);
        Assert.Equal(4, (await RunAsync("rulebook approve nothing --yes")).Code);
        Assert.Contains("never-holds", (await RunAsync("rulebook warnings")).Out, StringComparison.Ordinal);
        Assert.Contains("pools:       till", (await RunAsync("rulebook show")).Out, StringComparison.Ordinal);
        // The other tests go on with the rulebook they know.
        await World.OkAsync(
            (await _world.SignInAsync("edda")).PostAsJsonAsync("/api/v1/rulebook/editions", new RulebookBody(_world.Rulebook()))
        );
    }

    [Fact]
    public async Task A_roll_out_is_decided_carried_out_and_turned_back_through_the_client()
    {
        var row = HrRow.New() with { Title = "Bellmaker", Department = "Workshop" };
        await _world.BringAsync(row);
        await SignInAsync("edda");
        var draft = Path.Combine(_home.Path, "rolled");
        await RunAsync($"rulebook export current {draft}");
        async Task ChangeAsync(string file, string old, string fresh)
        {
            var path = Path.Combine(draft, file);
            var text = await File.ReadAllTextAsync(path);
            await File.WriteAllTextAsync(path, text.Replace(old, fresh, StringComparison.Ordinal));
        }
        await ChangeAsync("rulebook.yaml", "decides: group:data-office", "decides: person:E9002");
        await ChangeAsync(
            Path.Combine("templates", "everyone.yaml"),
            "  - to: directory/all-people\n",
            "  - to: directory/all-people\n  - to: directory/research-lab\n    when: title == \"Bellmaker\"\n"
        );
        var published = await RunAsync($"rulebook publish {draft} --yes");
        Assert.Contains("Nobody is moved by it. Roll-out ", published.Out, StringComparison.Ordinal);
        Assert.Contains("1 people differ, 0 of them would have less", published.Out, StringComparison.Ordinal);
        var number = (await JsonAsync("rollouts list --open")).GetProperty("items")[0].GetProperty("number").GetInt32();
        Assert.Contains(
            $"would give it: roll-out {number}",
            (await RunAsync($"explain {row.Number} directory/research-lab")).Out,
            StringComparison.Ordinal
        );
        Assert.Contains("gains directory/research-lab", (await RunAsync($"rollouts people {number}")).Out, StringComparison.Ordinal);
        Assert.Contains("is no state of people", (await RunAsync($"rollouts people {number} --state x")).Error, StringComparison.Ordinal);
        Assert.Contains("This decision belongs to", (await RunAsync($"rollouts approve {number} --yes")).Error, StringComparison.Ordinal);
        Assert.Equal(4, (await RunAsync("rollouts show 9999")).Code);

        await SignInAsync("mara");
        Assert.Contains("Workshop", (await RunAsync($"rollouts show {number}")).Out, StringComparison.Ordinal);
        Assert.Contains(
            "has nobody of 'Nowhere'",
            (await RunAsync($"rollouts approve {number} --department Nowhere --yes")).Error,
            StringComparison.Ordinal
        );
        Assert.Equal(1, (await RunAsync($"rollouts decline {number} --department Workshop --yes")).Code);
        var approved = await RunAsync($"rollouts approve {number} --department Workshop --remark bells --yes");
        Assert.Contains("mara approved 1 people of Workshop", approved.Out, StringComparison.Ordinal);
        await SignInAsync("otto");
        Assert.Equal(1, (await RunAsync($"rollouts begin {number} --size 5 --pause soon --yes")).Code);
        Assert.Equal(0, (await RunAsync($"rollouts begin {number} --size 5 --yes")).Code);
        Task<RolloutSummary> StandsAsync(string state) =>
            _world.EventuallyAsync(
                async () => (await _world.GetAsync<RolloutDetail>($"/api/v1/rollouts/{number}", "otto")).Summary,
                s => s.State == state
            );
        await StandsAsync("done");
        Assert.Contains("done", (await RunAsync($"rollouts people {number} --wave 1")).Out, StringComparison.Ordinal);
        Assert.Contains("research-lab", (await RunAsync($"people show {row.Number}")).Out, StringComparison.Ordinal);
        Assert.NotEqual(0, (await RunAsync($"rollouts stop {number} --reason x --yes")).Code);
        await SignInAsync("mara");
        Assert.Equal(0, (await RunAsync($"rollouts turn-back {number} --reason quiet --yes")).Code);
        await _world.EventuallyAsync(
            async () => (await RunAsync($"rollouts show {number}")).Out,
            o => o.Contains("was turned back", StringComparison.Ordinal)
        );
        await SignInAsync("edda");
        Assert.Equal(0, (await RunAsync("rollouts make")).Code);
        Assert.NotEqual(0, (await RunAsync($"rollouts release {number} --reason x --yes")).Code);
        await World.OkAsync(
            (await _world.SignInAsync("edda")).PostAsJsonAsync("/api/v1/rulebook/editions", new RulebookBody(_world.Rulebook()))
        );
    }

    [Fact]
    public async Task Access_is_asked_for_and_decided_from_the_command_line()
    {
        var row = HrRow.New();
        await _world.BringAsync(row);
        await SignInAsync("ines");
        var dry = await RunAsync($"requests new access --person {row.Number} --entitlement directory/paymets --until 2034-01-31 --dry-run");
        Assert.Equal(1, dry.Code);
        Assert.Contains("Did you mean 'directory/payments'?", dry.Out, StringComparison.Ordinal);
        Assert.Contains("Say what it is needed for", dry.Out, StringComparison.Ordinal);
        dry = await RunAsync(
            $"requests new access --person {row.Number} --entitlement directory/payments --until 2034-01-31 --reason audit --dry-run"
        );
        Assert.Equal(0, dry.Code);
        Assert.Contains("Who decides (Access beside the templates)", dry.Out, StringComparison.Ordinal);
        var made = await RunAsync(
            $"requests new access --person {row.Number} --entitlement directory/payments --until 2034-01-31 --reason audit"
        );
        var number = made.Out.Split(' ')[1];
        await _world.WaitForAsync(number, "deciding");
        Assert.Equal(5, (await RunAsync($"requests answer {number} later")).Code);
        await SignInAsync("mara");
        Assert.Contains("waiting for an answer", (await RunAsync($"requests ask {number} Which?")).Out, StringComparison.Ordinal);
        await SignInAsync("ines");
        Assert.Contains("waiting for a decision", (await RunAsync($"requests answer {number} winter")).Out, StringComparison.Ordinal);
        var show = await RunAsync($"requests show {number}");
        Assert.Contains("Stage  Line manager: the line manager, now", show.Out, StringComparison.Ordinal);
        Assert.Contains("“winter”", show.Out, StringComparison.Ordinal);
        Assert.Contains($"{number},access,deciding", (await RunAsync("requests export --state deciding")).Out, StringComparison.Ordinal);
        Assert.Contains("withdrawn", (await RunAsync($"requests withdraw {number} enough --yes")).Out, StringComparison.Ordinal);
        Assert.Contains("privileged", (await RunAsync("catalogue")).Out, StringComparison.Ordinal);
        Assert.Contains("Data office: the group data-office", (await RunAsync("workflows list")).Out, StringComparison.Ordinal);
        Assert.Contains("wait for you", (await RunAsync("today")).Out, StringComparison.Ordinal);
        await SignInAsync("mara");
        Assert.Contains(
            "tomas decides for mara",
            (await RunAsync("delegations add tomas --from 2033-12-21 --until 2034-01-03")).Out,
            StringComparison.Ordinal
        );
        Assert.Contains("tomas", (await RunAsync("delegations list")).Out, StringComparison.Ordinal);
        Assert.Contains("Nothing is to be done by hand", (await RunAsync("tasks list")).Out, StringComparison.Ordinal);
    }

    [Fact]
    public async Task What_a_target_can_give_is_written_into_a_rulebook_and_what_was_read_before_goes()
    {
        await SignInAsync("edda");
        using var folder = new ScratchFolder();
        var (code, _, error) = await RunAsync($"targets catalogue directory --write {folder.Path}");
        Assert.Equal(2, code);
        Assert.Contains("it has no rulebook.yaml", error, StringComparison.Ordinal);
        foreach (var file in _world.Rulebook())
        {
            var path = Path.Combine(folder.Path, file.Path);
            Directory.CreateDirectory(Path.GetDirectoryName(path)!);
            await File.WriteAllTextAsync(path, file.Text, TestContext.Current.CancellationToken);
        }
        var catalogue = Path.Combine(folder.Path, "catalogue");
        Directory.CreateDirectory(catalogue);
        foreach (var name in new[] { "directory.7.yaml", "directory-of-others.yaml" })
            await File.WriteAllTextAsync(Path.Combine(catalogue, name), "", TestContext.Current.CancellationToken);
        var written = await RunAsync($"targets catalogue directory --write {folder.Path}");
        // The published rulebook does not know it so yet.
        Assert.Equal(1, written.Code);
        Assert.Contains("directory can give", written.Out, StringComparison.Ordinal);
        Assert.Equal(
            ["directory-of-others.yaml", "directory.yaml"],
            Directory.GetFiles(catalogue).Select(Path.GetFileName).Order(StringComparer.Ordinal)
        );
        File.Delete(Path.Combine(catalogue, "directory-of-others.yaml"));
        Assert.Equal(0, (await RunAsync($"rulebook check {folder.Path}")).Code);
    }

    [Fact]
    public async Task Every_command_has_help_with_an_example()
    {
        var commands = (
            "sign-in|sign-out|me|intake run|intake sources|intake show|intake test|intake preview|intake switch|intake "
            + "runs|intake set-aside|intake records|intake vanished|intake held|intake pass|intake drop|intake post|intake "
            + "write-backs|intake token|intake tokens|intake end-token|explain|requests list|requests show|requests "
            + "approve|requests decline|requests release|requests choose|requests retry|requests leave-out|requests new|requests end-access|requests bulk|requests "
            + "ask|requests answer|requests comment|requests withdraw|requests undo|requests hold|requests resume|requests return|requests "
            + "change|requests export|requests history|requests schema|people history|people look|people leave|people retention|people hold|people "
            + "end-hold|people forget|people confirm-forget|people decline-forget|people data|sessions list|sessions end|hooks "
            + "list|hooks replay|hooks end|notices texts|notices preview|today|tasks list|tasks show|tasks take|tasks "
            + "hand-over|tasks done|tasks confirm|tasks give-back|tasks impossible|delegations list|delegations add|delegations end|catalogue|workflows "
            + "list|inbox|people list|people show|targets list|targets show|targets check|targets pause|targets resume|targets run|targets reconcile|targets catalogue|targets holders|targets accounts|targets mark|targets link|targets close|ledger list|ledger show|ledger verify|ledger "
            + "heads|ledger keys|ledger export|ledger rotate-key|requests new-link|password change|password forgot|rulebook "
            + "check|rulebook rehearse|rulebook diff|rulebook publish|rulebook proposals|rulebook approve|rulebook "
            + "decline|rulebook list|rulebook show|rulebook export|rulebook warnings|secrets list|secrets set|users list|users "
            + "set|rollouts list|rollouts show|rollouts people|rollouts make|rollouts approve|rollouts decline|rollouts begin|rollouts "
            + "stop|rollouts turn-back|rollouts release|users changes|users agree|users decline|users link|notices hearing|tokens list|tokens make|tokens end"
        ).Split('|');
        foreach (var command in commands)
        {
            var help = await RunAsync(command + " --help");
            Assert.Equal(0, help.Code);
            Assert.Contains($"Example: oikonom {command}", help.Out, StringComparison.Ordinal);
            Assert.Contains(
                $"oikonom {command}",
                await File.ReadAllTextAsync(Repository.At("docs", "client.md")),
                StringComparison.Ordinal
            );
        }
        // Whatever a message tells people to run is there.
        var named = Directory
            .EnumerateFiles(Repository.At("src"), "*.cs", SearchOption.AllDirectories)
            .Where(f => !f.Contains("/obj/", StringComparison.Ordinal))
            .SelectMany(f =>
                System
                    .Text.RegularExpressions.Regex.Matches(File.ReadAllText(f), "'oikonom ([a-z-]+(?: [a-z-]+)?)")
                    .Select(m => m.Groups[1].Value)
            )
            .Distinct()
            .ToList();
        Assert.True(named.Count > 10);
        Assert.All(named, n => Assert.Contains(commands, c => n == c || n.StartsWith(c + " ", StringComparison.Ordinal)));
    }
}

/// <summary>The demo and its tour, as a user runs them.</summary>
public sealed class TourTests
{
    [Fact]
    public async Task The_demo_starts_the_tour_passes_and_a_second_start_keeps_its_data()
    {
        using var folder = new ScratchFolder();
        var port = 20_000 + (Environment.ProcessId % 12_000);
        for (var start = 0; start < 2; start++)
        {
            using var demo = Process.Start(
                new ProcessStartInfo(
                    Repository.At("bin", "standins", "oikonom-standins"),
                    ["demo", "--port", $"{port}", "--folder", folder.Path]
                )
                {
                    RedirectStandardOutput = true,
                    RedirectStandardError = true,
                }
            )!;
            var ready = new TaskCompletionSource();
            demo.OutputDataReceived += (_, line) =>
            {
                if (line.Data?.Contains("Ctrl-C stops all of it", StringComparison.Ordinal) == true)
                    ready.TrySetResult();
            };
            demo.BeginOutputReadLine();
            await ready.Task.WaitAsync(TimeSpan.FromSeconds(180));

            using var second = Process.Start(
                new ProcessStartInfo(Repository.At("bin", "standins", "oikonom-standins"), ["demo", "--port", $"{port}"])
                {
                    RedirectStandardError = true,
                    RedirectStandardOutput = true,
                }
            )!;
            Assert.Contains($"Port {port} is in use", await second.StandardError.ReadToEndAsync(), StringComparison.Ordinal);
            await second.WaitForExitAsync();
            Assert.Equal(1, second.ExitCode);

            var info = new ProcessStartInfo("bash", [Repository.At("demo", "tour.sh")])
            {
                RedirectStandardOutput = true,
                RedirectStandardError = true,
            };
            (info.Environment["DEMO_PORT"], info.Environment["DEMO_FOLDER"]) = ($"{port}", folder.Path);
            using var tour = Process.Start(info)!;
            var (output, errors) = (tour.StandardOutput.ReadToEndAsync(), tour.StandardError.ReadToEndAsync());
            await tour.WaitForExitAsync();
            Assert.True(tour.ExitCode == 0, await output + await errors);
            Assert.Contains("All is as it should be.", await output, StringComparison.Ordinal);
            if (start == 1)
                Assert.Contains("raised 0 joiners", await output, StringComparison.Ordinal);

            using var stop = Process.Start("kill", ["-TERM", $"{demo.Id}"]);
            await demo.WaitForExitAsync(new CancellationTokenSource(TimeSpan.FromSeconds(30)).Token);
            Assert.Equal(0, demo.ExitCode);
        }
    }
}
