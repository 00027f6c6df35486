using System.Globalization;
using System.Net.Http.Json;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Proofs;
using Oikonom.Testing;
using Xunit;
using static Oikonom.Service.Tests.ApprovalTests;

namespace Oikonom.Service.Tests;

/// <summary>What is promised of personal values: seen by who needs them, and forgotten without breaking the record.</summary>
public sealed class TrustPersonTests(Servers servers)
{
    private static long Now(World world) => (DateTimeOffset.UtcNow + world.Ahead).ToUnixTimeMilliseconds();

    private static string Day(int from) => DateTime.UtcNow.AddDays(from).ToString("yyyy-MM-dd", CultureInfo.InvariantCulture);

    /// <summary>Everything the store says of somebody, looked through for a text.</summary>
    private static async Task<IReadOnlyList<string>> TablesWithAsync(WorldOptions options, World world, string text)
    {
        var found = new List<string>();
        System.Data.Common.DbConnection store =
            options.Store == "sqlite"
                ? new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={world.DataFolder}/oikonom.db;Pooling=False;Default Timeout=30")
                : new Npgsql.NpgsqlConnection(options.Store);
        await using var _ = store;
        await store.OpenAsync();
        var tables = new List<string>();
        await using (var command = store.CreateCommand())
        {
            command.CommandText =
                options.Store == "sqlite"
                    ? "SELECT name FROM sqlite_master WHERE type='table'"
                    : "SELECT table_name FROM information_schema.tables WHERE table_schema='public'";
            await using var reader = await command.ExecuteReaderAsync();
            while (await reader.ReadAsync())
                tables.Add(reader.GetString(0));
        }
        foreach (var table in tables.Where(t => !t.StartsWith("sqlite", StringComparison.Ordinal)))
        {
            await using var command = store.CreateCommand();
            command.CommandText = $"SELECT * FROM {table}";
            await using var reader = await command.ExecuteReaderAsync();
            while (await reader.ReadAsync())
                for (var i = 0; i < reader.FieldCount; i++)
                    if (reader.GetValue(i) is string value && value.Contains(text, StringComparison.OrdinalIgnoreCase))
                        found.Add($"{table}.{reader.GetName(i)}");
        }
        return [.. found.Distinct()];
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task Who_left_is_forgotten_by_rule_and_every_proof_still_holds(string engine)
    {
        var options = await servers.OnAsync(engine);
        await using var world = await World.StartAsync(servers.Directory, options);
        // Two who left long ago: one had powerful access, which is remembered longer.
        await TrustApprovalTests.PublishAsync(
            world,
            (path, text) =>
                path == "rulebook.yaml"
                    ? text.Replace("people: P2Y", "people: P1M", StringComparison.Ordinal)
                        .Replace("powerful: P6Y", "powerful: P5Y", StringComparison.Ordinal)
                    : text
        );
        var (gone, held) = (HrRow.New("Orla"), HrRow.New("Orla"));
        foreach (var row in new[] { gone, held })
        {
            await PersonAsync(world, row);
            var left = await RaiseAsync(world, new("leaver", row.Number, $"{row.Family} told me so", Urgent: true));
            await world.WaitForAsync(left.Summary.Id, "releasing");
            await world.ReleaseAsync(await world.RequestAsync(left.Summary.Id));
            await world.WaitForAsync(left.Summary.Id, "completed");
        }
        var person = await world.GetAsync<PersonDetail>($"/api/v1/people/{gone.Number}", "edda");
        Assert.NotEmpty(await TablesWithAsync(options, world, gone.Family));
        var edda = await world.SignInAsync("edda");
        // Nobody is forgotten before the time, nor while held; both are listed before.
        await World.OkAsync(
            edda.PostAsJsonAsync(
                $"/api/v1/people/{held.Number}/hold",
                new HoldBody("A claim is open", DateOnly.FromDateTime(DateTime.UtcNow).AddDays(60))
            )
        );
        var next = await world.GetAsync<RetentionView>("/api/v1/retention", "aldo");
        Assert.Equal("1 month after the last employment", next.Rule);
        Assert.Empty(next.Next.Single(e => e.Number == gone.Number).Stops);
        Assert.Contains("A claim is open", next.Next.Single(e => e.Number == held.Number).Stops.Single(), StringComparison.Ordinal);

        // By order, of one and confirmed by another.
        Assert.Equal(
            "in-use",
            (await World.RefusedAsync(edda.PostAsJsonAsync($"/api/v1/people/{held.Number}/forget", new ForgetBody("x")))).Code
        );
        var order = await (
            await World.OkAsync(edda.PostAsJsonAsync($"/api/v1/people/{gone.Number}/forget", new ForgetBody("asked in writing")))
        ).Content.ReadFromJsonAsync<ForgetOrder>();
        Assert.Equal(
            "own-order",
            (await World.RefusedAsync(edda.PostAsJsonAsync($"/api/v1/retention/orders/{order!.Id}/confirm", new { }))).Code
        );
        var export = (await (await world.SignInAsync("aldo")).GetStringAsync("/api/v1/ledger/export")).Split(
            '\n',
            StringSplitOptions.RemoveEmptyEntries
        );
        await World.OkAsync((await world.SignInAsync("aldo")).PostAsJsonAsync($"/api/v1/retention/orders/{order.Id}/confirm", new { }));

        // Nothing of the name is left in any table; the other's is.
        Assert.Empty(await TablesWithAsync(options, world, gone.Family));
        Assert.Empty(await TablesWithAsync(options, world, "\"" + gone.Number + "\""));
        Assert.NotEmpty(await TablesWithAsync(options, world, held.Family));
        // The record verifies, by the service and offline, also as the continuation of what was exported before.
        var verified = await world.EventuallyAsync(() => world.VerifyLedgerAsync(), v => v.Unsealed == 0);
        Assert.True(verified.Sound, string.Join(" ", verified.Faults));
        var head = JsonSerializer.Deserialize<ExportHeader>(export[0], JsonSerializerOptions.Web)!;
        var after = (await (await world.SignInAsync("aldo")).GetStringAsync($"/api/v1/ledger/export?from={head.Head.Size}")).Split(
            '\n',
            StringSplitOptions.RemoveEmptyEntries
        );
        var found = LedgerExport.Verify(after, head.Keys[0].PublicKey, [head.Head]);
        Assert.Empty(found.Faults);
        Assert.True(found.Forgotten > 5);
        // Pages say so.
        var page = await world.GetAsync<PersonDetail>($"/api/v1/people/{person.Id}", "edda");
        Assert.Equal("Forgotten person", page.Name);
        Assert.StartsWith("order of edda, confirmed by aldo", page.ForgottenBy, StringComparison.Ordinal);
        Assert.Contains(
            (await world.GetAsync<Page<HistoryLine>>($"/api/v1/people/{person.Id}/history", "edda")).Items,
            l => l.ForgottenAt is not null
        );
        foreach (var request in page.Requests)
            Assert.Equal("What it was about is forgotten.", (await world.RequestAsync(request.Id)).Cause.Text);
        // The name they had is nobody else's, although nobody can read it any more.
        var twin = HrRow.New(gone.Given) with
        {
            Family = gone.Family,
        };
        var planned = await world.BringAsync(twin, "deciding");
        Assert.DoesNotContain(
            planned.Plan.Single(c => c.Kind == "create-account").Text.Split(' ')[3],
            new[] { person.Accounts.Single().Name }
        );
        // HR's row, which says by now that they left, brings nobody back.
        world.WriteHr(gone with { End = Day(-1) }, held with { End = Day(-1) }, twin);
        Assert.DoesNotContain((await world.RunIntakeAsync()).Requests, r => r.Number == gone.Number);
    }

    [Fact]
    public async Task The_rule_forgets_by_itself_and_keeps_decisions_on_powerful_access_longer()
    {
        await using var world = await World.StartAsync(servers.Directory, new() { MovesClock = true });
        await world.SaveUserAsync("silas", new("Silas", "silas@northmere.example", ["approver", "operator"], "E9004", true));
        string Rule(string path, string text) =>
            path == "rulebook.yaml"
                ? text.Replace("people: P2Y", "people: P1M", StringComparison.Ordinal)
                    .Replace("powerful: P6Y", "powerful: P5Y", StringComparison.Ordinal)
                : text;
        await TrustApprovalTests.PublishAsync(world, Rule);
        var person = await PersonAsync(world, HrRow.New("Orla"));
        var power = await RaiseAsync(
            world,
            new("access", person.Number, $"{person.Family} mends the pumps", Grants: [new("directory/system-admins", null, Day(10))])
        );
        await world.WaitForAsync(power.Summary.Id, "deciding");
        foreach (var approver in new[] { "mara", "mara", "tomas" })
            await ApproveAsync(world, await world.RequestAsync(power.Summary.Id), approver);
        await DoAsync(
            world,
            await world.RequestAsync(power.Summary.Id),
            "release",
            new ReleaseBody((await world.RequestAsync(power.Summary.Id)).PlanDigest!),
            "otto"
        );
        await world.WaitForAsync(power.Summary.Id, "completed");
        var left = await RaiseAsync(world, new("leaver", person.Number, $"{person.Family} left", Urgent: true));
        await world.WaitForAsync(left.Summary.Id, "releasing");
        await world.ReleaseAsync(await world.RequestAsync(left.Summary.Id));
        await world.WaitForAsync(left.Summary.Id, "completed");
        var detail = await world.GetAsync<PersonDetail>($"/api/v1/people/{person.Number}", "edda");
        async Task LaterAsync(TimeSpan by)
        {
            // Its beats are of the machine's clock: it looks when it starts.
            world.MoveClock(by);
            await world.StopAsync();
            await world.StartServiceAsync();
        }
        await LaterAsync(TimeSpan.FromDays(20));
        await world.EventuallyAsync(
            () => TrustApprovalTests.NumberAsync(world, "SELECT count(*) FROM leases WHERE name='retention' AND until_at > " + Now(world)),
            held => held == 1
        );
        Assert.Null((await world.GetAsync<PersonDetail>($"/api/v1/people/{detail.Id}", "edda")).ForgottenAt);
        await LaterAsync(TimeSpan.FromDays(20));
        var page = await world.EventuallyAsync(
            () => world.GetAsync<PersonDetail>($"/api/v1/people/{detail.Id}", "edda"),
            p => p.ForgottenAt is not null
        );
        Assert.Equal("1 month after the last employment", page.ForgottenBy);
        Assert.Contains(person.Family, (await world.RequestAsync(power.Summary.Id)).Cause.Text, StringComparison.Ordinal);
        // The joiner gave nothing powerful; what took powerful access away is kept like what gave it.
        Assert.Contains(person.Family, (await world.RequestAsync(left.Summary.Id)).Cause.Text, StringComparison.Ordinal);
        Assert.DoesNotContain(
            person.Family,
            JsonSerializer.Serialize(await world.RequestAsync(detail.Requests.Single(r => r.Kind == "joiner").Id)),
            StringComparison.Ordinal
        );
        // And that, too, in its time.
        await LaterAsync(TimeSpan.FromDays(5 * 366));
        await world.EventuallyAsync(() => world.RequestAsync(power.Summary.Id), r => r.Cause.Text == "What it was about is forgotten.");
        Assert.True((await world.EventuallyAsync(() => world.VerifyLedgerAsync(), v => v.Unsealed == 0)).Sound);
    }

    [Fact]
    public async Task Private_values_are_seen_by_who_needs_them()
    {
        await using var world = await World.StartAsync(servers.Directory);
        // The phone goes into the directory, so that plans and accounts hold it too.
        await TrustApprovalTests.PublishAsync(world);
        await world.SaveUserAsync("silas", new("Silas", "silas@northmere.example", ["approver"], "E9004", true));
        await world.SaveUserAsync("self", new("Self", "self@northmere.example", ["approver"], "E9700", true));
        var person = await PersonAsync(world, HrRow.New() with { Number = "E9700" });
        var change = await RaiseAsync(
            world,
            new("change", person.Number, "x", new Dictionary<string, string> { ["phone"] = "+00 777", ["title"] = "Head diver" })
        );
        change = await world.WaitForAsync(change.Summary.Id, "deciding");
        // HR, the line manager and the person see them; another approver, the engineer and the auditor do not, wherever they look.
        foreach (
            var (name, sees) in new[]
            {
                ("ines", true),
                ("mara", true),
                ("self", true),
                ("tomas", false),
                ("silas", false),
                ("edda", false),
                ("aldo", false),
            }
        )
        {
            var client = await world.SignInAsync(name);
            var places = new List<string>
            {
                $"people/{person.Number}",
                $"requests/{change.Summary.Id}",
                $"people/{person.Number}/history",
                $"people/{person.Number}/history/export",
                $"requests/{change.Summary.Id}/history",
                $"people/{person.Number}/explain",
            };
            if (name is "edda" or "aldo")
                places.AddRange([$"ledger?request={change.Summary.Id}", $"ledger/export?request={change.Summary.Id}"]);
            if (name is "edda")
                places.AddRange(["sources/hr/records", "sources/hr/set-aside"]);
            foreach (var place in places)
            {
                var text = (await client.GetStringAsync($"/api/v1/{place}")).Replace("\\u002B", "+", StringComparison.Ordinal);
                var told =
                    text.Contains("+00 777", StringComparison.Ordinal)
                    || text.Contains("+00 555", StringComparison.Ordinal)
                    || text.Contains("p@post.example", StringComparison.Ordinal);
                if (
                    place.StartsWith("people/", StringComparison.Ordinal) && place.EndsWith(person.Number, StringComparison.Ordinal)
                    || place == $"requests/{change.Summary.Id}"
                )
                    Assert.True(told == sees, $"{name} at {place}: {(sees ? "does not see" : "sees")} private values");
                else if (!sees)
                    Assert.False(told, $"{name} at {place} sees private values");
            }
        }
        // Who carries it out sees what they write, in the request and nowhere else.
        var otto = await world.SignInAsync("otto");
        Assert.Contains(
            "+00 777",
            (await otto.GetStringAsync($"/api/v1/requests/{change.Summary.Id}")).Replace("\\u002B", "+", StringComparison.Ordinal),
            StringComparison.Ordinal
        );
        Assert.DoesNotContain(
            "+00 555",
            (await otto.GetStringAsync($"/api/v1/people/{person.Number}")).Replace("\\u002B", "+", StringComparison.Ordinal),
            StringComparison.Ordinal
        );
        // Mails tell none of it, to nobody but who it belongs to.
        Assert.DoesNotContain(
            world.Mail!.Mails,
            m => m.Body.Contains("+00 777", StringComparison.Ordinal) || m.Body.Contains("+00 555", StringComparison.Ordinal)
        );
        // Everybody gets all that is held of themselves, and nobody else's.
        Assert.Contains(
            "+00 555",
            (await (await world.SignInAsync("self")).GetStringAsync($"/api/v1/people/{person.Number}/data")).Replace(
                "\\u002B",
                "+",
                StringComparison.Ordinal
            ),
            StringComparison.Ordinal
        );
        Assert.Equal(
            403,
            (await World.RefusedAsync((await world.SignInAsync("tomas")).GetAsync($"/api/v1/people/{person.Number}/data"))).Status
        );
    }
}
