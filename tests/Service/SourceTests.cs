using System.Net.Http.Json;
using System.Text.Json;
using nietras.SeparatedValues;
using Oikonom.Contracts;
using Oikonom.Standins.Directory;
using Oikonom.Standins.Hr;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

/// <summary>Sources of every kind: what they deliver, what is held back, what vanishes, what is written back.</summary>
public sealed class SourceTests(Servers servers)
{
    private const string Key = "test-key";

    private static async Task PublishAsync(World world, Func<string, string, string> change, params IEnumerable<RulebookFileBody> more) =>
        await World.OkAsync(
            (await world.SignInAsync("edda")).PostAsJsonAsync(
                "/api/v1/rulebook/editions",
                new RulebookBody([.. world.Rulebook(change), .. more])
            )
        );

    private static async Task<T> PostAsync<T>(World world, string path, object? body, string actor = "edda") =>
        (
            await (
                await World.OkAsync((await world.SignInAsync(actor)).PostAsJsonAsync(path, body ?? new { }))
            ).Content.ReadFromJsonAsync<T>()
        )!;

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task A_run_over_the_brake_raises_nothing_until_its_role_lets_exactly_it_pass(string engine)
    {
        await using var world = await World.StartAsync(servers.Directory, await servers.OnAsync(engine));
        await PublishAsync(
            world,
            (p, text) => p == "sources/hr.yaml" ? text.Replace("leavers: 20", "leavers: [2, 50%]", StringComparison.Ordinal) : text
        );
        var rows = Enumerable.Range(0, 8).Select(_ => HrRow.New()).ToList();
        world.WriteHr(rows);
        await world.RunIntakeAsync("baseline", actor: "edda");
        world.WriteHr(rows.Select((r, i) => i < 3 ? r with { End = "2026-11-20" } : r));
        // A look says beforehand that it would be held.
        Assert.Contains("It would be held: ", (await world.RunIntakeAsync(dryRun: true)).Message, StringComparison.Ordinal);
        var held = await world.RunIntakeAsync();
        Assert.Equal("held", held.Outcome);
        Assert.Contains("3 leavers of 8 known records; the brake is at 2 or 50 %", held.Message, StringComparison.Ordinal);
        Assert.Empty((await world.GetAsync<Page<RequestSummary>>("/api/v1/requests")).Items);
        Assert.Equal("held", (await world.GetAsync<Page<SourceSummary>>("/api/v1/sources")).Items.Single(s => s.Name == "hr").State);

        var shown = await world.GetAsync<HeldRun>($"/api/v1/held-runs/{held.Id}", "edda");
        Assert.Equal((3, true), (shown.Requests.Count, shown.MayDecide));
        Assert.All(shown.Requests, r => Assert.Equal(("leaver", "leaver"), (r.Kind, r.What)));
        Assert.Equal(
            "not-yours",
            (await World.RefusedAsync((await world.SignInAsync("ines")).PostAsJsonAsync($"/api/v1/held-runs/{held.Id}/pass", new { }))).Code
        );

        // The file changed since it was shown: what would be raised is something else, so it is held again.
        world.WriteHr(rows.Select((r, i) => i < 4 ? r with { End = "2026-11-20" } : r));
        var again = await PostAsync<IntakeRun>(world, $"/api/v1/held-runs/{held.Id}/pass", null);
        Assert.Equal("held", again.Outcome);
        Assert.Equal(
            "not-held",
            (await World.RefusedAsync((await world.SignInAsync("edda")).PostAsJsonAsync($"/api/v1/held-runs/{held.Id}/drop", new { }))).Code
        );
        var passed = await PostAsync<IntakeRun>(world, $"/api/v1/held-runs/{again.Id}/pass", null);
        Assert.Equal((4, "completed"), (passed.Counts.Leavers, passed.Outcome));
        Assert.Equal(4, (await world.GetAsync<Page<RequestSummary>>("/api/v1/requests")).Items.Count);
        Assert.Contains(
            await world.EventuallyAsync(() => Task.FromResult(world.Mail!.Mails.ToList()), m => m.Count > 0),
            m => m.Subject.Contains("waits under the brake", StringComparison.Ordinal)
        );
    }

    [Fact]
    public async Task A_vanished_record_is_listed_and_a_human_says_what_became_of_the_person()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var (stays, leaves, renumbered) = (HrRow.New(), HrRow.New(), HrRow.New());
        world.WriteHr(stays, leaves, renumbered);
        await world.RunIntakeAsync("baseline", actor: "edda");
        world.WriteHr(HrRow.New(), renumbered with { Number = renumbered.Number + "-2" });
        var run = await world.RunIntakeAsync();
        Assert.Equal((2, 1, 1, 0), (run.Counts.Missing, run.Counts.Joiners, run.Counts.Movers, run.Counts.Leavers));
        Assert.Equal("number-change", run.Requests.Single(r => r.Kind == "mover").What);
        var vanished = (await world.GetAsync<Page<RecordView>>("/api/v1/sources/hr/vanished", "edda")).Items;
        Assert.Equal(new[] { stays.Number, leaves.Number }.Order(), vanished.Select(v => v.Key).Order());
        // The same file again lists nobody twice.
        Assert.Equal(0, (await world.RunIntakeAsync()).Counts.Missing);

        Assert.Equal(
            "kept",
            (await PostAsync<RecordView>(world, $"/api/v1/sources/hr/vanished/{stays.Number}", new VanishedBody("stays", null))).Status
        );
        Assert.Equal(
            400,
            (
                await World.RefusedAsync(
                    (await world.SignInAsync("edda")).PostAsJsonAsync(
                        $"/api/v1/sources/hr/vanished/{leaves.Number}",
                        new VanishedBody("leaves", new(2001, 1, 1))
                    )
                )
            ).Status
        );
        var left = await PostAsync<RecordView>(
            world,
            $"/api/v1/sources/hr/vanished/{leaves.Number}",
            new VanishedBody("leaves", new(2034, 1, 31))
        );
        Assert.Equal("leaver", (await world.RequestAsync(left.RequestId)).Summary.Kind);
        Assert.Equal(
            "2034-01-31",
            (await world.GetAsync<PersonDetail>($"/api/v1/people/{leaves.Number}")).Record.Single(a => a.Name == "end").Value
        );
        Assert.Empty((await world.GetAsync<Page<RecordView>>("/api/v1/sources/hr/vanished", "edda")).Items);
        Assert.Equal(
            404,
            (
                await World.RefusedAsync(
                    (await world.SignInAsync("edda")).PostAsJsonAsync(
                        $"/api/v1/sources/hr/vanished/{stays.Number}",
                        new VanishedBody("leaves", null)
                    )
                )
            ).Status
        );
        // Who comes back under the old record is known again, and nothing happens.
        world.WriteHr(stays);
        Assert.Equal("received", (await AfterAsync()).Status);

        async Task<RecordView> AfterAsync()
        {
            await world.RunIntakeAsync();
            return (await world.GetAsync<Page<RecordView>>($"/api/v1/sources/hr/records?key={stays.Number}", "edda")).Items.Single();
        }
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task A_service_is_read_page_by_page_through_its_faults_and_hears_what_was_decided(string engine)
    {
        var port = DirectoryServer.FreePort();
        await using var hr = await HrServer.StartAsync(port, Key);
        await using var world = await World.StartAsync(servers.Directory, await servers.OnAsync(engine));
        await PublishAsync(
            world,
            (p, text) =>
                text.Replace(":7431", $":{port}", StringComparison.Ordinal)
                    .Replace("size: 500", "size: 40", StringComparison.Ordinal)
                    .Replace("calls-per-second: 50", "calls-per-second: 1000", StringComparison.Ordinal)
        );
        await World.OkAsync((await world.SignInAsync("edda")).PutAsJsonAsync("/api/v1/secrets/payroll-key", new SecretBody(Key)));
        hr.People.Set(HrPeople.Invent(100));
        foreach (var fault in new[] { HrFault.TooMany, HrFault.Broken, HrFault.Cut, HrFault.Shifting, HrFault.Slow })
        {
            hr.People.Fail(fault, 1);
            var tried = await PostAsync<IntakeRun>(world, "/api/v1/sources/payroll/runs", new IntakeBody("full", true));
            Assert.Equal((100, 100), (tried.Counts.Read, tried.Counts.Joiners));
        }
        Assert.Equal(
            100,
            (await PostAsync<IntakeRun>(world, "/api/v1/sources/payroll/runs", new IntakeBody("baseline", false))).Counts.Changed
        );

        // Only what changed is fetched, and what did not come has not vanished.
        hr.People.Change("H000007", "job_title", "Keeper of the tide pools");
        var calls = hr.People.Calls;
        await Task.Delay(10, TestContext.Current.CancellationToken);
        var one = await PostAsync<IntakeRun>(world, "/api/v1/sources/payroll/runs", new IntakeBody("full", false, "H000007"));
        Assert.Equal((1, 1, 0), (one.Counts.Read, one.Counts.Movers, one.Counts.Missing));
        var changes = await PostAsync<IntakeRun>(world, "/api/v1/sources/payroll/runs", new IntakeBody("changes", false));
        Assert.Equal(0, changes.Counts.Missing + changes.Counts.Movers);
        Assert.True(hr.People.Calls > calls);

        // A joiner who is done is told to the service, which was away for a while.
        hr.People.Set([
            .. HrPeople.Invent(100),
            new Dictionary<string, string>(HrPeople.Invent(101).Last())
            {
                ["department"] = "Dive Team",
                ["manager_no"] = "E9002",
                ["employee_no"] = "W" + Guid.NewGuid().ToString("N")[..10],
                ["person_no"] = "PW1",
                ["start_date"] = "2026-01-05",
                ["given_name"] = "Wanda",
                ["family_name"] = "Q" + Guid.NewGuid().ToString("N")[..8],
            },
        ]);
        var joiner = (await PostAsync<IntakeRun>(world, "/api/v1/sources/payroll/runs", new IntakeBody("full", false))).Requests.Single(r =>
            r.Kind == "joiner"
        );
        hr.People.Fail(HrFault.Broken, 2);
        var request = await world.WaitForAsync(joiner.Id, "deciding");
        await world.ApproveAsync(request);
        await world.ReleaseAsync(request);
        await world.WaitForAsync(joiner.Id, "completed");
        var written = await world.EventuallyAsync(
            () => world.GetAsync<Page<WriteBackView>>("/api/v1/sources/payroll/write-backs", "edda"),
            p => p.Items.Any(w => w.State == "done")
        );
        var name = (await world.GetAsync<PersonDetail>($"/api/v1/people/{joiner.Number}")).Accounts.Single().Name;
        Assert.Equal(
            (name, $"{name}@northmere.example"),
            (hr.People.Written[joiner.Number]["user_name"], hr.People.Written[joiner.Number]["mail"])
        );
        Assert.Single(written.Items);

        // A wrong key is told at once and harms nothing.
        await World.OkAsync((await world.SignInAsync("edda")).PutAsJsonAsync("/api/v1/secrets/payroll-key", new SecretBody("wrong")));
        Assert.Contains(
            "is not accepted",
            (
                await World.RefusedAsync(
                    (await world.SignInAsync("edda")).PostAsJsonAsync("/api/v1/sources/payroll/runs", new IntakeBody("full", false))
                )
            ).Detail,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task A_source_is_switched_on_when_it_was_tested_as_it_is_and_then_runs_by_its_schedule()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await PublishAsync(
            world,
            (p, text) => p == "sources/hr.yaml" ? text.Replace("\"*/30 5-20 * * 1-6\"", "\"* * * * *\"", StringComparison.Ordinal) : text
        );
        var edda = await world.SignInAsync("edda");
        Assert.Equal(
            "not-tested",
            (await World.RefusedAsync(edda.PostAsJsonAsync("/api/v1/sources/hr/switch", new SwitchBody(true)))).Code
        );
        Assert.False((await PostAsync<SourceTest>(world, "/api/v1/sources/hr/test", null)).Good);
        Assert.Contains(
            "does not exist",
            (await World.RefusedAsync(edda.PostAsJsonAsync("/api/v1/sources/hr/switch", new SwitchBody(true)))).Detail,
            StringComparison.Ordinal
        );

        world.WriteHr(HrRow.New(), HrRow.New() with { Site = "nowhere" }, HrRow.New());
        var test = await PostAsync<SourceTest>(world, "/api/v1/sources/hr/test", null);
        Assert.Equal((true, 3, 1), (test.Good, test.Records, test.Problems));
        var preview = await PostAsync<SourceTest>(world, "/api/v1/sources/hr/preview", new PreviewBody(2, null));
        Assert.Equal((2, "site"), (preview.Rows.Count, preview.Rows[1].Problem!.Column));
        Assert.Contains(preview.Rows[0].Attributes, a => a is { Name: "department", Value: "Dive Team" });
        // The mapping of a draft shows other attributes, and is not published.
        var draft = world.Rulebook(
            (p, text) =>
                p == "sources/hr.yaml"
                    ? text.Replace("title: row.job_title", "title: upper(row.job_title)", StringComparison.Ordinal)
                    : text
        );
        Assert.Contains(
            (await PostAsync<SourceTest>(world, "/api/v1/sources/hr/preview", new PreviewBody(1, draft))).Rows[0].Attributes,
            a => a is { Name: "title", Value: "DIVER" }
        );

        var on = await PostAsync<SourceDetail>(world, "/api/v1/sources/hr/switch", new SwitchBody(true));
        Assert.Equal("on", on.Summary.State);
        Assert.NotNull(on.Summary.NextRun);
        // A changed mapping needs a new test.
        await PublishAsync(
            world,
            (p, text) =>
                p == "sources/hr.yaml"
                    ? text.Replace("title: row.job_title", "title: upper(row.job_title)", StringComparison.Ordinal)
                        .Replace("\"*/30 5-20 * * 1-6\"", "\"* * * * *\"", StringComparison.Ordinal)
                    : text
        );
        await PostAsync<SourceDetail>(world, "/api/v1/sources/hr/switch", new SwitchBody(false));
        Assert.Contains(
            "changed since it was tested",
            (await World.RefusedAsync(edda.PostAsJsonAsync("/api/v1/sources/hr/switch", new SwitchBody(true)))).Detail,
            StringComparison.Ordinal
        );
        await PostAsync<SourceTest>(world, "/api/v1/sources/hr/test", null);
        await PostAsync<SourceDetail>(world, "/api/v1/sources/hr/switch", new SwitchBody(true));
        var runs = await world.EventuallyAsync(
            () => world.GetAsync<Page<IntakeRun>>("/api/v1/sources/hr/runs", "edda"),
            p => p.Items.Count > 0,
            75
        );
        Assert.Equal(("schedule", 2, 1), (runs.Items[0].Actor, runs.Items[0].Counts.Joiners, runs.Items[0].Counts.SetAside));
    }

    [Fact]
    public async Task Posted_records_are_answered_one_by_one_and_the_same_call_twice_is_one_call()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var edda = await world.SignInAsync("edda");
        var id = HrRow.New().Number;
        var good = new
        {
            badge = id,
            given = "Una",
            family = "Tern",
            from = "2026-01-02",
            until = "",
            station = "saltmarsh",
        };
        var body = new
        {
            records = new object[]
            {
                good,
                new
                {
                    badge = id + "b",
                    given = "",
                    family = "Gull",
                    from = "soon",
                    until = "",
                    station = "saltmarsh",
                },
                new { badge = id + "c" },
            },
        };
        Assert.Equal("switched-off", (await World.RefusedAsync(edda.PostAsJsonAsync("/api/v1/sources/volunteers/records", body))).Code);
        await PostAsync<SourceTest>(world, "/api/v1/sources/volunteers/test", null);
        await PostAsync<SourceDetail>(world, "/api/v1/sources/volunteers/switch", new SwitchBody(true));

        async Task<HttpResponseMessage> CallAsync(object what, string key)
        {
            using var message = new HttpRequestMessage(HttpMethod.Post, "/api/v1/sources/volunteers/records")
            {
                Content = JsonContent.Create(what),
            };
            message.Headers.Add("Idempotency-Key", key);
            return await edda.SendAsync(message);
        }

        var answers = await Task.WhenAll(CallAsync(body, "k1"), CallAsync(body, "k1"));
        var texts = await Task.WhenAll(answers.Select(a => a.Content.ReadAsStringAsync()));
        Assert.Equal(texts[0], texts[1]);
        var answer = JsonSerializer.Deserialize<RecordsAnswer>(texts[0], JsonSerializerOptions.Web)!;
        Assert.Equal(["request", "set-aside", "set-aside"], answer.Records.Select(r => r.Status));
        Assert.Equal(("joiner", "from"), (answer.Records[0].Kind, answer.Records[1].Problem!.Column));
        Assert.Equal("joiner", (await world.RequestAsync(answer.Records[0].Request)).Summary.Kind);
        Assert.Equal("key-used", (await World.RefusedAsync(CallAsync(new { records = new[] { good } }, "k1"))).Code);
        Assert.Equal(
            ["unchanged"],
            (await PostAsync<RecordsAnswer>(world, "/api/v1/sources/volunteers/records", new { records = new[] { good } })).Records.Select(
                r => r.Status
            )
        );
        // A mended record clears what was set aside.
        await PostAsync<RecordsAnswer>(
            world,
            "/api/v1/sources/volunteers/records",
            new
            {
                records = new[]
                {
                    new
                    {
                        badge = id + "b",
                        given = "Gil",
                        family = "Gull",
                        from = "2026-02-02",
                        until = "",
                        station = "saltmarsh",
                    },
                },
            }
        );
        Assert.Equal(
            [id + "c"],
            (await world.GetAsync<Page<SetAside>>("/api/v1/sources/volunteers/set-aside", "edda")).Items.Select(a => a.Key)
        );
        foreach (var bad in new object[] { new { }, new { records = Array.Empty<object>() }, new { records = new object[] { 7 } } })
            Assert.Equal(400, (int)(await edda.PostAsJsonAsync("/api/v1/sources/volunteers/records", bad)).StatusCode);
        Assert.Equal("not-posted", (await World.RefusedAsync(edda.PostAsJsonAsync("/api/v1/sources/hr/records", body))).Code);
    }

    [Fact]
    public async Task A_folder_of_changes_is_read_file_by_file_once_and_records_outside_the_scope_are_counted()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await PublishAsync(
            world,
            (p, text) =>
                p != "sources/hr.yaml"
                    ? text
                    : text.Replace("path: people.csv", "path: daily/hr-*.csv", StringComparison.Ordinal)
                        .Replace("delimiter: \",\"", "delimiter: detect", StringComparison.Ordinal)
                        .Replace("encoding: utf-8", "encoding: detect", StringComparison.Ordinal)
                        + "delivers: changes\nscope: department != \"Kitchen\"\n"
        );
        var folder = Directory.CreateDirectory(Path.Combine(Path.GetDirectoryName(world.SourceFile)!, "daily")).FullName;
        var (first, second, outside) = (HrRow.New("Zoë"), HrRow.New(), HrRow.New() with { Department = "Kitchen" });
        void Write(string name, System.Text.Encoding encoding, char delimiter, params HrRow[] rows) =>
            File.WriteAllText(
                Path.Combine(folder, name),
                (HrRow.Header + "\n" + string.Concat(rows.Select(r => r + "\n"))).Replace(',', delimiter),
                encoding
            );
        Write("hr-2026-11-01.csv", System.Text.Encoding.Latin1, ';', first, outside);
        Write("hr-2026-11-02.csv", System.Text.Encoding.UTF8, '\t', second, first with { Title = "Dive master" });
        Write("hr-2026-11-03.csv.part", System.Text.Encoding.UTF8, ',', HrRow.New());
        var run = await world.RunIntakeAsync();
        Assert.Equal((2, 1, 1), (run.Counts.Read, run.Counts.Joiners, run.Counts.Movers));
        var runs = (await world.GetAsync<Page<IntakeRun>>("/api/v1/sources/hr/runs", "edda")).Items;
        Assert.Equal([0, 1], runs.Select(r => r.Counts.Outside));
        Assert.Equal(
            "outside",
            (await world.GetAsync<Page<RecordView>>("/api/v1/sources/hr/records?status=outside", "edda")).Items.Single().Status
        );
        Assert.Equal("Zoë " + first.Family, (await world.GetAsync<PersonDetail>($"/api/v1/people/{first.Number}")).Name);
        Assert.Contains("No new file", (await world.RunIntakeAsync()).Message, StringComparison.Ordinal);
        // Who leaves the scope is listed as vanished, not forgotten.
        Write("hr-2026-11-02b.csv", System.Text.Encoding.UTF8, ',', first with { Department = "Kitchen" });
        Assert.Equal(1, (await world.RunIntakeAsync()).Counts.Missing);
        Assert.Equal(
            [first.Number],
            (await world.GetAsync<Page<RecordView>>("/api/v1/sources/hr/vanished", "edda")).Items.Select(v => v.Key)
        );
        Write("hr-2026-11-03.csv", System.Text.Encoding.UTF8, ',', second with { End = "2026-12-24" });
        Assert.Equal("leaver", (await world.RunIntakeAsync()).Requests.Single().Kind);
        Assert.Equal(2, (await world.GetAsync<Page<PersonSummary>>("/api/v1/people")).Items.Count);
    }

    [Fact]
    public async Task Employments_beside_each_other_keep_the_person_and_what_each_gives()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var diver = HrRow.New();
        var done = await world.BringAsync(diver);
        var keeper = diver with { Number = diver.Number + "k", Department = "Animal Care", Title = "Keeper" };
        world.WriteHr(diver, keeper);
        var run = await world.RunIntakeAsync();
        Assert.Equal("second-employment", run.Requests.Single().What);
        var request = await world.WaitForAsync(run.Requests.Single().Id, "deciding");
        Assert.Equal(done.Summary.PersonId, request.Summary.PersonId);
        Assert.Equal(["animal-care"], request.Plan.Where(c => c.Kind == "grant").Select(c => c.Subject));
        Assert.DoesNotContain(request.Plan, c => c.Kind is "revoke" or "create-account");
        await world.ApproveAsync(request);
        await world.ReleaseAsync(request);
        await world.WaitForAsync(request.Summary.Id, "completed");
        // The first one ends: its group goes, the account stays awake for the second.
        world.WriteHr(diver with { End = "2026-11-20" }, keeper);
        var leaver = (await world.RunIntakeAsync()).Requests.Single();
        var plan = (await world.WaitForAsync(leaver.Id, "deciding")).Plan;
        Assert.Equal(["dive-team"], plan.Where(c => c.Kind == "revoke").Select(c => c.Subject));
        Assert.DoesNotContain(plan, c => c.Kind == "disable-account");
    }

    [Fact]
    public async Task What_is_set_aside_goes_back_to_hr_as_a_file_that_runs_nothing()
    {
        await using var world = await World.StartAsync(servers.Directory);
        world.WriteHr(
            HrRow.New("=cmd|' /C calc'!A0") with
            {
                Site = "@SUM(1)",
            },
            HrRow.New("Ann, \"A\"") with
            {
                Start = "-1+1",
            },
            HrRow.New(new string('x', 5000)),
            HrRow.New("Nul\0l"),
            HrRow.New("\u202Eesrever")
        );
        Assert.Equal(5, (await world.RunIntakeAsync()).Counts.SetAside);
        var text = await (await (await world.SignInAsync("edda")).GetAsync("/api/v1/sources/hr/set-aside.csv")).Content.ReadAsStringAsync();
        using var reader = Sep.New(',').Reader(o => o with { Unescape = true }).FromText(text.TrimStart('\uFEFF'));
        var rows = 0;
        foreach (var row in reader)
        {
            rows++;
            foreach (var column in reader.Header.ColNames)
                Assert.False(
                    row[column].Span.Length > 0 && "=+-@".Contains(row[column].Span[0], StringComparison.Ordinal),
                    row[column].ToString()
                );
        }
        Assert.Equal(5, rows);
        Assert.Contains("'=cmd|' /C calc'!A0", text, StringComparison.Ordinal);
        Assert.Contains("'@SUM(1)", text, StringComparison.Ordinal);
    }
}
