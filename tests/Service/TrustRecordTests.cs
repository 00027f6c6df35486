using System.Diagnostics;
using System.Net.Http.Json;
using System.Security.Cryptography;
using System.Text.Json;
using Microsoft.Data.Sqlite;
using Npgsql;
using Oikonom.Contracts;
using Oikonom.Ldap;
using Oikonom.Proofs;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

/// <summary>What is promised of the record: one bad outcome stops nothing, nothing is taken silently, and the ledger cannot be
/// forged.</summary>
public sealed class TrustRecordTests(Servers servers)
{
    private static async Task SqlAsync(WorldOptions options, World world, string sql)
    {
        if (options.Store == "sqlite")
        {
            await TrustApprovalTests.SqlAsync(world, sql);
            return;
        }
        await using var store = new NpgsqlConnection(options.Store);
        await store.OpenAsync();
        await using var command = new NpgsqlCommand(sql, store);
        await command.ExecuteNonQueryAsync();
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task One_outcome_that_cannot_be_recorded_stops_with_a_problem_and_holds_up_nobody(string engine)
    {
        var options = await servers.OnAsync(engine);
        await using var world = await World.StartAsync(servers.Directory, options);
        var victim = HrRow.New();
        await world.BringAsync(victim);
        var account = (await world.GetAsync<PersonDetail>($"/api/v1/people/{victim.Number}", "edda")).Accounts.Single();
        // Two joiners are approved; the entry of one is, behind Oikonom's back, recorded for somebody else by the time it is made.
        var (bad, good) = (HrRow.New(), HrRow.New());
        world.WriteHr(victim, bad, good);
        var raised = (await world.RunIntakeAsync()).Requests;
        var (first, second) = (
            await world.WaitForAsync(raised.Single(r => r.Number == bad.Number).Id!, "deciding"),
            await world.WaitForAsync(raised.Single(r => r.Number == good.Number).Id!, "deciding")
        );
        await SqlAsync(options, world, $"UPDATE accounts SET immutable_id='stolen' WHERE immutable_id='{account.ImmutableId}'");
        await using (var root = await servers.Directory.ConnectAsRootAsync())
        {
            // The step finds its own entry by its name, as one that an attempt whose answer was lost had left.
            var dn = TestDirectory.Dn(first.Plan.First(c => c.Kind == "create-account").Text.Split(' ')[3]);
            await root.AddAsync(dn, TestDirectory.Person(LdapDn.Parse(dn)[0][0].Value, bad.Number));
            var entry = await root.ReadAsync(dn, ["entryUUID"]);
            await SqlAsync(options, world, $"UPDATE accounts SET immutable_id='{entry!.Text("entryUUID")}' WHERE immutable_id='stolen'");
        }
        foreach (var request in new[] { first, second })
        {
            await world.ApproveAsync(request);
            await world.ReleaseAsync(await world.RequestAsync(request.Summary.Id));
        }
        await world.WaitForAsync(second.Summary.Id, "completed");
        var stopped = await world.EventuallyAsync(() => world.RequestAsync(first.Summary.Id), r => r.Steps.Any(s => s.State == "stopped"));
        Assert.Contains(
            $"is recorded for {victim.Given} {victim.Family} ({victim.Number})",
            stopped.Summary.Problem,
            StringComparison.Ordinal
        );
        using var anyone = new HttpClient { BaseAddress = new(world.Address) };
        Assert.True((await anyone.GetFromJsonAsync<Readiness>("/health/ready"))!.Ready);
        Assert.Contains((await world.GetAsync<TodayView>("/api/v1/today")).Stuck, r => r.Id == first.Summary.Id);
        Assert.True((await world.VerifyLedgerAsync()).Sound);
    }

    [Fact]
    public async Task A_loop_that_does_not_get_on_is_told_by_readiness_and_today()
    {
        await using var world = await World.StartAsync(servers.Directory);
        using var anyone = new HttpClient { BaseAddress = new(world.Address) };
        await TrustApprovalTests.SqlAsync(world, "ALTER TABLE hooks RENAME TO hooks_elsewhere");
        var response = await world.EventuallyAsync(async () => await anyone.GetAsync("/health/ready"), r => (int)r.StatusCode == 503);
        Assert.Contains(
            (await response.Content.ReadFromJsonAsync<Readiness>())!.Problems!,
            p => p.StartsWith("HookLoop does not get on since", StringComparison.Ordinal)
        );
        Assert.Contains((await world.GetAsync<TodayView>("/api/v1/today")).Standing, p => p.Contains("HookLoop", StringComparison.Ordinal));
        Assert.Empty((await world.GetAsync<TodayView>("/api/v1/today", "mara")).Standing);
        await TrustApprovalTests.SqlAsync(world, "ALTER TABLE hooks_elsewhere RENAME TO hooks");
        await world.EventuallyAsync(async () => (int)(await anyone.GetAsync("/health/ready")).StatusCode, s => s == 200);
    }

    [Fact]
    public async Task A_disk_without_room_makes_the_service_not_ready()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await world.StopAsync();
        using var process = Process.Start(
            new ProcessStartInfo(
                Repository.At("bin", "oikonomd"),
                ["--listen", world.Address, "--data", world.DataFolder, "--free-megabytes", "900000000"]
            )
            {
                RedirectStandardOutput = true,
            }
        )!;
        _ = process.StandardOutput.ReadToEndAsync();
        try
        {
            using var anyone = new HttpClient { BaseAddress = new(world.Address) };
            var found = await world.EventuallyAsync(
                async () =>
                {
                    try
                    {
                        return await (await anyone.GetAsync("/health/ready")).Content.ReadFromJsonAsync<Readiness>();
                    }
                    catch (HttpRequestException)
                    {
                        return null;
                    }
                },
                r => r is not null
            );
            Assert.False(found!.Ready);
            Assert.Contains(found.Problems!, p => p.Contains("MB left", StringComparison.Ordinal));
        }
        finally
        {
            process.Kill();
        }
    }

    private static async Task<LedgerVerification> VerifyAsync(World world, params LedgerHead[] heads) =>
        (
            await (
                await World.OkAsync((await world.SignInAsync("aldo")).PostAsJsonAsync("/api/v1/ledger/verify", new LedgerVerifyBody(heads)))
            ).Content.ReadFromJsonAsync<LedgerVerification>()
        )!;

    /// <summary>Writes to the ledger's tables as their owner can, and starts the service again.</summary>
    private static async Task ForgeAsync(WorldOptions options, World world, string sql)
    {
        await world.StopAsync();
        var free =
            options.Store == "sqlite"
                ? "DROP TRIGGER IF EXISTS ledger_no_update; DROP TRIGGER IF EXISTS ledger_no_delete; DROP TRIGGER IF EXISTS "
                    + "leaves_no_update; DROP TRIGGER IF EXISTS leaves_no_delete; DROP TRIGGER IF EXISTS heads_no_update; DROP "
                    + "TRIGGER IF EXISTS heads_no_delete;"
                : "DROP TRIGGER IF EXISTS ledger_append_only ON ledger; DROP TRIGGER IF EXISTS leaves_append_only ON "
                    + "ledger_leaves; DROP TRIGGER IF EXISTS heads_append_only ON ledger_heads;";
        await SqlAsync(options, world, free + sql);
        await world.StartServiceAsync(mustBeReady: false);
    }

    private static Task SealedAsync(World world) =>
        world.EventuallyAsync(() => world.VerifyLedgerAsync(), v => v is { Unsealed: 0, Sealed: > 10 });

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task A_ledger_that_was_cut_is_found_out(string engine)
    {
        var options = await servers.OnAsync(engine);
        await using var world = await World.StartAsync(servers.Directory, options);
        await world.BringAsync(HrRow.New(), "deciding");
        await SealedAsync(world);
        var head = (await world.GetAsync<Page<LedgerHead>>("/api/v1/ledger/heads?limit=1", "aldo")).Items.Single();
        Assert.True((await VerifyAsync(world, head)).Sound);
        // The tail goes, with every head that speaks of it.
        await ForgeAsync(
            options,
            world,
            "DELETE FROM ledger_heads WHERE size>8; DELETE FROM ledger WHERE entry IN (SELECT entry FROM ledger_leaves WHERE "
                + "position>=8); DELETE FROM ledger_leaves WHERE position>=8;"
        );
        var found = await world.EventuallyAsync(() => VerifyAsync(world), v => !v.Sound);
        Assert.Contains(
            found.Faults,
            f =>
                f.Contains("cut", StringComparison.Ordinal)
                || f.Contains("entries are gone", StringComparison.Ordinal)
                || f.Contains("rewritten", StringComparison.Ordinal)
        );
        using var anyone = new HttpClient { BaseAddress = new(world.Address) };
        await world.EventuallyAsync(async () => (int)(await anyone.GetAsync("/health/ready")).StatusCode, s => s == 503);
        // Who kept a head needs no file of the service to see it.
        File.Delete(Path.Combine(world.DataFolder, "ledger-head.json"));
        Assert.Contains((await VerifyAsync(world, head)).Faults, f => f.Contains("The head you gave", StringComparison.Ordinal));
    }

    [Fact]
    public async Task Heads_that_are_gone_and_heads_signed_with_another_key_are_found_out()
    {
        var options = await servers.OnAsync("sqlite");
        await using var world = await World.StartAsync(servers.Directory, options);
        await world.BringAsync(HrRow.New(), "deciding");
        await SealedAsync(world);
        var head = (await world.GetAsync<Page<LedgerHead>>("/api/v1/ledger/heads?limit=1", "aldo")).Items.Single();
        await ForgeAsync(options, world, "DELETE FROM ledger_heads;");
        Assert.Contains((await VerifyAsync(world)).Faults, f => f.Contains("No head covers all", StringComparison.Ordinal));

        // An entry is rewritten, the tree is computed anew, and all of it is signed with a key of the forger's.
        await ForgeAsync(
            options,
            world,
            "UPDATE ledger SET body=replace(body, '\"actor\":\"ines\"', '\"actor\":\"otto\"'), actor='otto' WHERE actor='ines';"
        );
        var bodies = new List<string>();
        await using (var store = new SqliteConnection($"Data Source={world.DataFolder}/oikonom.db;Pooling=False;Default Timeout=30"))
        {
            await store.OpenAsync();
            var read = store.CreateCommand();
            read.CommandText = "SELECT e.body FROM ledger_leaves l JOIN ledger e ON e.entry=l.entry ORDER BY l.position";
            await using (var reader = await read.ExecuteReaderAsync())
                while (await reader.ReadAsync())
                    bodies.Add(reader.GetString(0));
            using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
            var leaves = bodies.ConvertAll(Merkle.Leaf);
            var root = Merkle.Root(leaves);
            for (var i = 0; i < leaves.Count; i++)
            {
                var write = store.CreateCommand();
                write.CommandText = "UPDATE ledger_leaves SET hash=@hash WHERE position=@position";
                write.Parameters.AddWithValue("hash", leaves[i]);
                write.Parameters.AddWithValue("position", i);
                await write.ExecuteNonQueryAsync();
            }
            var sign = store.CreateCommand();
            sign.CommandText =
                "INSERT OR REPLACE INTO ledger_heads (size, root, signed_at, signature, public_key) VALUES (@size, @root, 1, "
                + "@signature, @key)";
            sign.Parameters.AddWithValue("size", leaves.Count);
            sign.Parameters.AddWithValue("root", root);
            sign.Parameters.AddWithValue("signature", key.SignData(SignedHead.Bytes(leaves.Count, root, 1), HashAlgorithmName.SHA256));
            sign.Parameters.AddWithValue("key", Convert.ToBase64String(key.ExportSubjectPublicKeyInfo()));
            await sign.ExecuteNonQueryAsync();
        }
        var found = await VerifyAsync(world, head);
        Assert.Contains(found.Faults, f => f.Contains("not with the pinned", StringComparison.Ordinal));
        Assert.Contains(found.Faults, f => f.Contains("rewritten", StringComparison.Ordinal));
    }

    [Fact]
    public async Task Heads_go_out_keys_change_by_name_and_an_export_verifies_without_the_service()
    {
        using var folder = new ScratchFolder();
        await using var world = await World.StartAsync(
            servers.Directory,
            new()
            {
                Environment = new Dictionary<string, string> { ["HEADS"] = folder.At("heads.jsonl"), ["HEAD_HOURS"] = "0.0003" },
            }
        );
        await world.BringAsync(HrRow.New(), "deciding");
        // To the box of the auditors, to the file, and as an entry for hooks.
        var mail = await world.EventuallyAsync(
            () =>
                Task.FromResult(world.Mail!.Mails.FirstOrDefault(m => m.To.Contains("audit@northmere.example", StringComparison.Ordinal))),
            m => m is not null
        );
        var mailed = SignedHead.FromJson(mail!.Body.Split('\n').First(l => l.StartsWith('{')).Trim());
        await world.EventuallyAsync(() => Task.FromResult(File.Exists(folder.At("heads.jsonl"))), there => there);
        var written = SignedHead.FromJson(File.ReadLines(folder.At("heads.jsonl")).First());
        Assert.NotEmpty((await world.GetAsync<Page<LedgerEntryView>>("/api/v1/ledger?kind=ledger.head", "aldo")).Items);

        // A new key is named by the old one; heads of both are believed.
        await World.OkAsync((await world.SignInAsync("edda")).PostAsJsonAsync("/api/v1/ledger/keys", new { }));
        await world.BringAsync(HrRow.New(), "deciding");
        var keys = (await world.GetAsync<Page<LedgerKeyView>>("/api/v1/ledger/keys", "aldo")).Items;
        Assert.Equal((2, keys[0].Id), (keys.Count, keys[1].NamedBy));
        await world.EventuallyAsync(
            () => VerifyAsync(world, new LedgerHead(mailed.Size, mailed.Root, mailed.At, mailed.Signature, mailed.Key)),
            v => v is { Sound: true, Unsealed: 0 } && v.Key == keys[1].Id
        );

        var text = await (
            await World.OkAsync((await world.SignInAsync("aldo")).GetAsync($"/api/v1/ledger/export?from={written.Size}"))
        ).Content.ReadAsStringAsync();
        var lines = text.Split('\n', StringSplitOptions.RemoveEmptyEntries);
        ExportFinding Verify(IEnumerable<string> export, string? key = null, params SignedHead[] seen) =>
            LedgerExport.Verify(export, key ?? keys[0].PublicKey, seen);
        var sound = Verify(lines, null, mailed, written);
        Assert.Empty(sound.Faults);
        Assert.Equal((lines.Length - 1, true), ((int)sound.Entries, sound.Values > 0));
        // Whatever is touched is told: an entry, a value, a missing line, the key, another history.
        using var stranger = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        Assert.NotEmpty(Verify(lines, Convert.ToBase64String(stranger.ExportSubjectPublicKeyInfo())).Faults);
        Assert.NotEmpty(Verify(lines.Where((_, i) => i != 3)).Faults);
        var entry = JsonSerializer.Deserialize<ExportEntry>(
            lines.First(l => l.Contains("\"values\":{", StringComparison.Ordinal)),
            JsonSerializerOptions.Web
        )!;
        string Line(ExportEntry changed) => JsonSerializer.Serialize(changed, JsonSerializerOptions.Web);
        IEnumerable<string> With(ExportEntry changed) =>
            lines.Select(
                (l, i) =>
                    i > 0 && JsonSerializer.Deserialize<ExportEntry>(l, JsonSerializerOptions.Web)!.Position == entry.Position
                        ? Line(changed)
                        : l
            );
        Assert.NotEmpty(Verify(With(entry with { Body = entry.Body.Replace("\"kind\"", "\"Kind\"", StringComparison.Ordinal) })).Faults);
        Assert.NotEmpty(
            Verify(With(entry with { Values = entry.Values!.ToDictionary(v => v.Key, v => v.Value with { Value = "\"another\"" }) })).Faults
        );
        Assert.NotEmpty(Verify(lines, null, mailed with { Root = new string('0', 64) }).Faults);
        // What is left out of the values is as good as forgotten, and all else still holds.
        Assert.Empty(Verify(With(entry with { Values = null })).Faults);
        // A part of it verifies too.
        var request = (await world.GetAsync<Page<RequestSummary>>("/api/v1/requests")).Items[0];
        var part = (await (await world.SignInAsync("aldo")).GetStringAsync($"/api/v1/ledger/export?request={request.Number}")).Split(
            '\n',
            StringSplitOptions.RemoveEmptyEntries
        );
        Assert.Empty(Verify(part).Faults);
        Assert.InRange(part.Length, 2, lines.Length - 2);
    }

    [Fact]
    public async Task An_entry_is_shown_with_a_proof_that_holds()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await world.BringAsync(HrRow.New(), "deciding");
        await SealedAsync(world);
        var entry = (await world.GetAsync<Page<LedgerEntryView>>("/api/v1/ledger?kind=request.planned", "aldo")).Items[0];
        var proof = await world.GetAsync<LedgerProof>($"/api/v1/ledger/entries/{entry.Id}", "aldo");
        Assert.True(proof.Holds);
        Assert.True(
            Merkle.VerifyInclusion(
                Merkle.Leaf(proof.Sealed),
                proof.Entry.Position!.Value,
                proof.Head.Size,
                [.. proof.Proof.Select(Convert.FromHexString)],
                Convert.FromHexString(proof.Head.Root)
            )
        );
        Assert.Equal(
            403,
            (await World.RefusedAsync((await world.SignInAsync("otto")).GetAsync($"/api/v1/ledger/entries/{entry.Id}"))).Status
        );
    }

    [Fact]
    public async Task A_baseline_swallows_nobody()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var (known, leaver) = (HrRow.New(), HrRow.New() with { Site = "reefpoint" });
        world.WriteHr(known, leaver);
        Assert.Equal(
            403,
            (
                await World.RefusedAsync(
                    (await world.SignInAsync("ines")).PostAsJsonAsync("/api/v1/sources/hr/runs", new IntakeBody("baseline", false))
                )
            ).Status
        );
        await world.RunIntakeAsync("baseline", actor: "edda");
        // Later: who is limited runs nothing; an engineer's baseline waits for another, with what it would take.
        await world.SaveUserAsync(
            "far",
            new(
                "Far",
                "far@northmere.example",
                ["requester"],
                null,
                true,
                new Dictionary<string, ReachBody> { ["requester"] = new(["harbour"]) }
            )
        );
        var fresh = HrRow.New();
        var left = leaver with
        {
            End = DateTime.UtcNow.AddDays(3).ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture),
        };
        world.WriteHr(known, left, fresh);
        foreach (var mode in new[] { "full", "baseline" })
            Assert.Equal(
                403,
                (
                    await World.RefusedAsync(
                        (await world.SignInAsync("far")).PostAsJsonAsync("/api/v1/sources/hr/runs", new IntakeBody(mode, false))
                    )
                ).Status
            );
        var held = await world.RunIntakeAsync("baseline", actor: "edda");
        Assert.Equal("held", held.Outcome);
        Assert.Contains("waits for another engineer", held.Message, StringComparison.Ordinal);
        var edda = await world.SignInAsync("edda");
        Assert.Equal("own-run", (await World.RefusedAsync(edda.PostAsJsonAsync($"/api/v1/held-runs/{held.Id}/pass", new { }))).Code);
        var run = await (
            await World.OkAsync((await world.SignInAsync("setup")).PostAsJsonAsync($"/api/v1/held-runs/{held.Id}/pass", new { }))
        ).Content.ReadFromJsonAsync<IntakeRun>();
        // The new one is taken as known; who was known before is compared as ever: the leaver raises a request.
        Assert.Equal([("leaver", left.Number)], run!.Requests.Select(r => (r.Kind, r.Number)));
        Assert.Equal(fresh.Number, (await world.GetAsync<PersonDetail>($"/api/v1/people/{fresh.Number}", "edda")).Number);
    }
}
