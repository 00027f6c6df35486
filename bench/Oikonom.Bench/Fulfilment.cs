using System.Diagnostics;
using System.Net.Http.Json;
using System.Security.Cryptography;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Approval;
using Oikonom.Core.Expressions;
using Oikonom.Core.Intake;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Ldap;
using Oikonom.Standins.Directory;
using Oikonom.Store;
using Oikonom.Store.Rooms;
using Oikonom.Testing;

namespace Oikonom.Bench;

/// <summary>
/// Joiner fulfilment by the real service (look, create, password, memberships, read-back, every store commit)
/// against a bare loop of the same operations on the same server with the same number of connections.
/// </summary>
internal static class Fulfilment
{
    private const int Connections = 4;

    /// <summary>A service runs for months: what it compiles anew in its first seconds under load does not count.</summary>
    private const int Warming = 4000;

    /// <summary>Time enough to put a bulk run into the store before it is due.</summary>
    private static readonly TimeSpan Ahead = TimeSpan.FromSeconds(10);
    private static readonly string[] Groups = ["all-people", "dive-team", "site-harbour"];

    /// <param name="syncs">Whether the directory writes to disk before it answers, as it does where it matters.</param>
    public static async Task RunAsync(int people, bool syncs)
    {
        await using var directory = await TestDirectory.StartAsync(durable: syncs);
        Console.WriteLine(
            $"Joiner fulfilment: {people} joiners, {Connections} connections, directory {(syncs ? "that syncs" : "without sync")}, "
                + "SQLite with full sync"
        );

        // In turns on a directory that grows alike, so that neither side meets larger groups.
        var (loop, strict, ours) = (new List<double>(), new List<double>(), new List<double>());
        await BareAsync(directory, people / 4, "warm", pipelined: true);
        for (var round = 0; round < 3; round++)
        {
            loop.Add(await BareAsync(directory, people, $"loop{round}", pipelined: false));
            await ClearGroupsAsync(directory);
            strict.Add(await BareAsync(directory, people, $"strict{round}", pipelined: true));
            await ClearGroupsAsync(directory);
            ours.Add(await OursAsync(directory, people, round));
            await ClearGroupsAsync(directory);
        }
        var (a, b, c) = (Median(loop), Median(strict), Median(ours));
        Console.WriteLine($"  bare loop, one joiner at a time per connection     {a, 8:0} joiners/s");
        Console.WriteLine($"  bare loop, pipelined and gathered as the service    {b, 8:0} joiners/s");
        Console.WriteLine($"  the service, all commits included                   {c, 8:0} joiners/s");
        Console.WriteLine($"  ratio to the bare loop                              {c / a, 8:0.00}   (wanted: 0.8 or more)");
        Console.WriteLine(
            $"  ratio to the pipelined loop                         {c / b, 8:0.00}   (wanted: {(syncs ? "0.9" : "0.7")} or more)"
        );
    }

    /// <summary>One node and three on a target far away: what waits for the line is done by all of them at once.</summary>
    /// <param name="people">Joiners of one node; three nodes get three times as many.</param>
    public static async Task NodesAsync(int people)
    {
        var oneWay = TimeSpan.FromMilliseconds(25);
        Console.WriteLine(
            $"Nodes: {people} joiners for each, PostgreSQL, one connection a node, {oneWay.TotalMilliseconds * 2} ms there and back"
        );
        await using var postgres = await PostgresServer.StartAsync();
        var rates = new Dictionary<int, double>();
        foreach (var nodes in new[] { 1, 3 })
        {
            await using var directory = await TestDirectory.StartAsync();
            await using var line = new SlowLine(directory.LdapsPort, oneWay);
            rates[nodes] = await FarAsync(postgres, directory, line, people, nodes);
        }
        var (one, three) = (rates[1], rates[3]);
        Console.WriteLine($"  one node                         {one, 8:0.0} joiners/s");
        Console.WriteLine($"  three nodes                      {three, 8:0.0} joiners/s");
        Console.WriteLine($"  ratio                            {three / one, 8:0.00}   (wanted: 2.7 or more)");
    }

    private static async Task<double> FarAsync(PostgresServer postgres, TestDirectory directory, SlowLine line, int people, int nodes)
    {
        var database = await postgres.NewDatabaseAsync();
        await using var world = await World.StartAsync(
            directory,
            WorldOptions.Measured with
            {
                Store = database,
                DirectoryPort = line.Port,
            }
        );
        var files = world.Rulebook(
            (path, text) =>
                path == "targets/directory.yaml" ? text.Replace("connections: 4", "connections: 1", StringComparison.Ordinal) : text
        );
        await World.OkAsync((await world.SignInAsync("edda")).PostAsJsonAsync("/api/v1/rulebook/editions", new RulebookBody(files)));
        await world.BringAsync(HrRow.New());
        var others = new List<World>();
        for (var i = 1; i < nodes; i++)
            others.Add(await world.JoinAsync($"node{i}"));
        World[] all = [world, .. others];
        var joiners = people * nodes;
        await using var store = await BulkAsync(all, new PostgresEngine(database), joiners, $"far{nodes}", TimeSpan.FromSeconds(15));
        var rate = await RateAsync(store, $"far{nodes}");
        foreach (var other in others)
            await other.DisposeAsync();
        return rate;
    }

    /// <summary>An urgent leaver while a bulk run is carried out: how long until the account is disabled.</summary>
    /// <param name="people">Joiners of the bulk run; each has six steps.</param>
    public static async Task UrgentAsync(int people)
    {
        await using var directory = await TestDirectory.StartAsync();
        await using var world = await BegunAsync(directory);
        var leaver = HrRow.New();
        await world.BringAsync(leaver);
        await using var store = await BulkAsync([world], EngineOf(world), people, "bulk");
        async Task<long> LeftAsync() => await store.ReadAsync(s => s.ScalarAsync<long>("SELECT COUNT(*) FROM steps WHERE state='pending'"));
        var all = await LeftAsync();
        while (await LeftAsync() > all - 500)
            await Task.Delay(50);
        Console.WriteLine($"An urgent leaver during a bulk run of {all} steps (wanted: disabled within 2 s of its release)");
        var ines = await world.SignInAsync("ines");
        var watch = Stopwatch.StartNew();
        var raised = await (
            await World.OkAsync(ines.PostAsJsonAsync("/api/v1/requests", new NewRequest("leaver", leaver.Number, "at once", Urgent: true)))
        ).Content.ReadFromJsonAsync<RequestDetail>();
        var request = await world.EventuallyAsync(() => world.RequestAsync(raised!.Summary.Id), r => r.Summary.State == "releasing", 120);
        var planned = watch.Elapsed;
        await world.ReleaseAsync(request);
        var released = watch.Elapsed;
        while (
            await store.ReadAsync(s =>
                s.ScalarAsync<long>(
                    "SELECT COUNT(*) FROM accounts a JOIN people p ON p.id=a.person_id WHERE p.number=@Number AND a.enabled=1",
                    new { leaver.Number }
                )
            ) > 0
        )
            await Task.Delay(10);
        Console.WriteLine($"  planned after it was asked for    {planned.TotalSeconds, 8:0.00} s");
        Console.WriteLine($"  disabled after its release        {(watch.Elapsed - released).TotalSeconds, 8:0.00} s");
        Console.WriteLine($"  steps of the bulk run left        {await LeftAsync(), 8}");
    }

    private static double Median(List<double> values) => values.Order().ElementAt(values.Count / 2);

    private static async Task ClearGroupsAsync(TestDirectory directory)
    {
        await using var ldap = await directory.ConnectAsync();
        foreach (var group in Groups)
            await ldap.ModifyAsync(GroupDn(group), [new(LdapChangeKind.Replace, "member", DirectoryOptions.Nobody)]);
    }

    private static string GroupDn(string group) => $"cn={group},{DirectoryOptions.Groups}";

    private static async Task<double> BareAsync(TestDirectory directory, int people, string prefix, bool pipelined)
    {
        var connections = new List<LdapConnection>();
        for (var i = 0; i < Connections; i++)
            connections.Add(await directory.ConnectAsync());
        var next = -1;
        var gather = new Gather(connections);
        var watch = Stopwatch.StartNew();
        await Task.WhenAll(
            Enumerable
                .Range(0, pipelined ? Connections * 24 : Connections)
                .Select(worker =>
                    Task.Run(async () =>
                    {
                        var ldap = connections[worker % Connections];
                        for (int i; (i = Interlocked.Increment(ref next)) < people; )
                            await JoinAsync(ldap, $"{prefix}-{i}", pipelined ? gather : null);
                    })
                )
        );
        var rate = people / watch.Elapsed.TotalSeconds;
        foreach (var connection in connections)
            await connection.DisposeAsync();
        return rate;
    }

    private static async Task JoinAsync(LdapConnection ldap, string name, Gather? gather)
    {
        var dn = TestDirectory.Dn(name);
        await ldap.SearchAsync(
            new(
                DirectoryOptions.People,
                LdapScope.Subtree,
                LdapFilter.Equal("employeeNumber", name),
                "*",
                "entryUUID",
                "pwdAccountLockedTime"
            )
        );
        await ldap.AddAsync(
            dn,
            [
                new("objectClass", "inetOrgPerson"),
                new("uid", name),
                new("cn", $"Tor {name}"),
                new("givenName", "Tor"),
                new("sn", name),
                new("displayName", $"Tor {name}"),
                new("mail", $"{name}@northmere.example"),
                new("employeeNumber", name),
                new("employeeType", "employee"),
                new("departmentNumber", "Dive Team"),
                new("title", "Diver"),
                new("l", "harbour"),
                new("telephoneNumber", "+00 555"),
            ],
            [LdapControls.PostRead("entryUUID")]
        );
        await ldap.ReadAsync(dn, ["pwdAccountLockedTime"]);
        await ldap.PasswordModifyAsync(dn, null, RandomNumberGenerator.GetHexString(48));
        foreach (var group in Groups)
        {
            if (gather is null)
                await ldap.ModifyAsync(GroupDn(group), [new(LdapChangeKind.Add, "member", dn)]);
            else
                await gather.AddAsync(group, dn);
        }
        var reading = ldap.ReadAsync(dn, ["*", "entryUUID", "pwdAccountLockedTime"]);
        await ldap.SearchAsync(new(DirectoryOptions.Groups, LdapScope.Subtree, LdapFilter.Equal("member", dn), "1.1"));
        await reading;
    }

    /// <summary>Gathers memberships per group as the service does.</summary>
    private sealed class Gather(IReadOnlyList<LdapConnection> connections)
    {
        private readonly Dictionary<string, (List<(string Dn, TaskCompletionSource Done)> Waiting, bool Running)> _groups =
            Groups.ToDictionary(g => g, _ => (new List<(string, TaskCompletionSource)>(), false));

        public Task AddAsync(string group, string dn)
        {
            var done = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
            lock (_groups)
            {
                var (waiting, running) = _groups[group];
                waiting.Add((dn, done));
                _groups[group] = (waiting, true);
                if (!running)
                    _ = Task.Run(() => DrainAsync(group));
            }
            return done.Task;
        }

        private async Task DrainAsync(string group)
        {
            while (true)
            {
                List<(string Dn, TaskCompletionSource Done)> batch;
                lock (_groups)
                {
                    batch = _groups[group].Waiting;
                    _groups[group] = ([], batch.Count > 0);
                    if (batch.Count == 0)
                        return;
                }
                await connections[Math.Abs(group.GetHashCode(StringComparison.Ordinal)) % connections.Count]
                    .ModifyAsync(GroupDn(group), [new(LdapChangeKind.Add, "member", batch.Select(b => b.Dn))]);
                foreach (var (_, done) in batch)
                    done.TrySetResult();
            }
        }
    }

    private static async Task<double> OursAsync(TestDirectory directory, int people, int round)
    {
        await using var world = await BegunAsync(directory);
        await world.BringAsync(HrRow.New());
        await using var store = await BulkAsync([world], EngineOf(world), Warming, $"warm{round}");
        await EndAsync(store);
        await ClearGroupsAsync(directory);
        await AddAllAsync(world, store, people, $"our{round}", Ahead);
        return await RateAsync(store, $"our{round}");
    }

    private static SqliteEngine EngineOf(World world) => new(Path.Combine(world.DataFolder, "oikonom.db"));

    /// <summary>Joiners in a second, from the first to the last step that was recorded as done.</summary>
    private static async Task<double> RateAsync(Store.Store store, string prefix)
    {
        await EndAsync(store);
        var done = await store.ReadAsync(s =>
            s.FirstAsync<Joined>(
                "SELECT COUNT(DISTINCT request_id) AS count, MIN(done_at) AS first_at, MAX(done_at) AS last_at FROM steps "
                    + $"WHERE request_id LIKE 'bench-{prefix}-%'"
            )
        );
        return done!.Count * 1000.0 / (done.LastAt - done.FirstAt);
    }

    private static async Task EndAsync(Store.Store store)
    {
        while (await store.ReadAsync(s => s.ScalarAsync<long>("SELECT COUNT(*) FROM requests WHERE state='fulfilling'")) > 0)
            await Task.Delay(200);
    }

    private static Task<World> BegunAsync(TestDirectory directory) => World.StartAsync(directory, WorldOptions.Measured);

    /// <summary>Puts joiners into the store while all nodes are stopped, and starts them again.</summary>
    /// <param name="ahead">How long after that they are due, so that all nodes begin together.</param>
    private static async Task<Store.Store> BulkAsync(World[] nodes, Engine engine, int people, string prefix, TimeSpan ahead = default)
    {
        var world = nodes[0];
        foreach (var node in nodes)
        {
            node.Kill();
            await node.WaitForEndAsync();
        }
        var store = new Store.Store(engine, TimeProvider.System);
        await AddAllAsync(world, store, people, prefix, ahead);
        await Task.WhenAll(nodes.Select(n => n.StartServiceAsync()));
        return store;
    }

    private static async Task AddAllAsync(World world, Store.Store store, int people, string prefix, TimeSpan ahead)
    {
        var rulebook = RulebookReader.Read([.. world.Rulebook().Select(f => new RulebookFile(f.Path, f.Text))]).Rulebook!;
        var edition = new Edition(1, "", rulebook);
        var due = TimeProvider.System.GetUtcNow() + ahead;
        foreach (var chunk in Enumerable.Range(0, people).Chunk(500))
            await store.WriteAsync(s => AddAsync(s, edition, [.. chunk.Select(i => $"{prefix}-{i}")], due));
        if (ahead > TimeSpan.Zero && due < TimeProvider.System.GetUtcNow())
            throw new InvalidOperationException($"It took more than {ahead.TotalSeconds} s to put the run into the store.");
    }

    private sealed class Joined
    {
        public long Count { get; init; }
        public long FirstAt { get; init; }
        public long LastAt { get; init; }
    }

    private static async Task AddAsync(Session s, Edition edition, IReadOnlyList<string> names, DateTimeOffset due)
    {
        var now = TimeProvider.System.GetUtcNow();
        var at = now.ToUnixTimeMilliseconds();
        var (rows, requests, steps, reserved) = (new List<PersonRow>(), new List<RequestRow>(), new List<StepRow>(), new List<NameRow>());
        foreach (var name in names)
        {
            var facts = new Facts([
                new("person", Value.Of(name)),
                new("number", Value.Of(name)),
                new("given", Value.Of("Tor")),
                new("family", Value.Of(name)),
                new("kind", Value.Of("employee")),
                new("start", Value.Of(new DateOnly(2026, 1, 5))),
                new("manager", Value.Of("E9002")),
                new("department", Value.Of("Dive Team")),
                new("site", Value.Of("harbour")),
                new("title", Value.Of("Diver")),
                new("phone", Value.Of("+00 555")),
            ]);
            var person = PersonId.New(now);
            var subject = new Subject(person, facts, new Dictionary<AccountKey, string> { ["directory"] = name });
            var plan = Planner.Make(
                subject,
                AccessState.Nothing,
                new Dictionary<AccountKey, string>(),
                new Dictionary<AccountKey, ExistingAccount>(),
                edition,
                RequestKind.Joiner,
                now
            );
            rows.Add(
                new()
                {
                    Id = person.ToString(),
                    PersonKey = name,
                    Number = name,
                    Display = facts.DisplayName,
                    SearchKey = name,
                    Kind = "employee",
                    Department = "Dive Team",
                    Site = "harbour",
                    Title = "Diver",
                    Manager = "E9002",
                    StartDay = "2026-01-05",
                    Facts = facts.ToJson(),
                    Source = "hr",
                    At = at,
                }
            );
            reserved.Add(
                new()
                {
                    Target = "directory",
                    NameKey = name,
                    PersonId = person.ToString(),
                    At = at,
                }
            );
            requests.Add(
                new()
                {
                    Id = "bench-" + name,
                    Kind = "joiner",
                    State = RequestState.Fulfilling,
                    PersonId = person.ToString(),
                    Requester = "ines",
                    Cause = "{}",
                    Edition = 1,
                    Workflow = "staff",
                    CreatedAt = at,
                }
            );
            steps.AddRange(
                plan.Changes.Select(change => new StepRow
                {
                    Id = Guid.CreateVersion7(now).ToString(),
                    RequestId = "bench-" + name,
                    SubjectId = person.ToString(),
                    Target = "directory",
                    Ordinal = change.Ordinal,
                    Change = JsonSerializer.Serialize(change, JsonSerializerOptions.Web),
                    DueAt = due.ToUnixTimeMilliseconds(),
                })
            );
        }
        await s.UpsertPeopleAsync(rows);
        await s.TakeNamesAsync(reserved);
        await s.AddRequestsAsync(requests);
        await s.AddStepsAsync(steps);
    }
}
