using System.Diagnostics;
using Oikonom.Core.Expressions;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Bench;

/// <summary>A draft of 60 templates against everybody in a store, about ten grants each; the published edition is the other side.</summary>
internal static class Rehearse
{
    public static async Task RunAsync()
    {
        var (current, draft) = (Rulebook(0), Rulebook(7));
        Console.WriteLine("Rehearse: 60 templates, both editions asked for everybody");
        foreach (var people in new[] { 10_000, 50_000, 100_000 })
        {
            var path = Path.Combine(Path.GetTempPath(), $"oikonom-bench-{Guid.NewGuid():N}.db");
            try
            {
                var engine = new SqliteEngine(path);
                engine.Migrate();
                await using var store = new Store.Store(engine, TimeProvider.System);
                await FillAsync(store, people);
                var desk = new Service.Rulebook.RehearsalDesk(store, new(store, TimeProvider.System), TimeProvider.System);
                GC.Collect();
                await desk.LookAsync(current, draft, [], default);
                GC.Collect();
                using var peak = new PeakMemory();
                var watch = Stopwatch.StartNew();
                var report = await desk.LookAsync(current, draft, [], default);
                var elapsed = watch.Elapsed;
                var grants = report.ByTarget.Sum(t => (long)t.Gained);
                Console.WriteLine(
                    $"  {people, 7} people   {elapsed.TotalSeconds, 6:0.00} s   {elapsed.TotalMicroseconds / people, 6:0.0} µs "
                        + $"each   {peak.Megabytes, 5:0} MB   {report.Changed} changed, {grants} "
                        + $"gained{(people == 100_000 ? "   (wanted: 3 s and 700 MB or less)" : "")}"
                );
            }
            finally
            {
                Microsoft.Data.Sqlite.SqliteConnection.ClearAllPools();
                foreach (var suffix in new[] { "", "-wal", "-shm" })
                    File.Delete(path + suffix);
            }
        }
    }

    private static Rulebook Rulebook(int shift)
    {
        var entitlements = string.Concat(Enumerable.Range(0, 80).Select(i => $"  e{i}: {{ title: E{i}, group: cn=e{i}, owner: E1 }}\n"));
        var files = new List<RulebookFile>
        {
            new(
                "rulebook.yaml",
                "name: bench\nsites: { harbour: { zone: Europe/Lisbon }, saltmarsh: { zone: America/Halifax }, reefpoint: { "
                    + "zone: Australia/Hobart } }\n"
            ),
            new(
                "targets/directory.yaml",
                $"name: directory\nkind: ldap\naddress: ldaps://127.0.0.1:636\nauthority: a\nsign-in: {{ name: cn=x, secret: s "
                    + "}\ncontainer: ou=p\ngroups: ou=g\nclasses: [inetOrgPerson]\nmatch: "
                    + $"[employeeNumber]\nentitlements:\n{entitlements}"
            ),
            new(
                "workflows/staff.yaml",
                "name: staff\nfor: [joiner, mover, leaver]\nstages: [{ name: m, decides: manager, otherwise: role:approver }]\n"
            ),
            new(
                "templates/everyone.yaml",
                "name: everyone\naccounts:\n  directory:\n    name: given + \".\" + family\n    attributes: { cn: 'given + \" "
                    + "\" + family', givenName: given, sn: family, mail: 'account.name + \"@northmere.example\"', employeeNumber: "
                    + "number, employeeType: kind, departmentNumber: department, title: title, l: site }\ngrants:\n"
                    + string.Concat(Enumerable.Range(0, 6).Select(i => $"  - to: directory/e{i}\n"))
            ),
        };
        for (var i = 0; i < 59; i++)
        {
            var when =
                i < 50
                    ? $"department == \"D{i}\" && kind in [\"employee\", \"researcher\"]"
                    : $"site == \"{new[] { "harbour", "saltmarsh", "reefpoint" }[i % 3]}\" && kind != \"volunteer\" && title != \"T{i}\"";
            files.Add(new($"templates/t{i}.yaml", $"name: t{i}\nwhen: '{when}'\ngrants:\n  - to: directory/e{6 + ((i + shift) % 70)}\n"));
        }
        var reading = RulebookReader.Read(files);
        return reading.Rulebook ?? throw new InvalidOperationException(string.Join("; ", reading.Findings));
    }

    private static async Task FillAsync(Store.Store store, int people)
    {
        var sites = new[] { "harbour", "saltmarsh", "reefpoint" };
        foreach (var chunk in Enumerable.Range(0, people).Chunk(5000))
        {
            var rows = chunk
                .Select(i =>
                {
                    var facts = new Facts([
                        new("person", Value.Of($"P{i}")),
                        new("number", Value.Of($"E{i}")),
                        new("given", Value.Of("Tor")),
                        new("family", Value.Of($"Quill{i}")),
                        new("kind", Value.Of(i % 9 == 0 ? "volunteer" : "employee")),
                        new("start", Value.Of(new DateOnly(2015, 1, 5))),
                        new("department", Value.Of($"D{i % 50}")),
                        new("site", Value.Of(sites[i % 3])),
                        new("title", Value.Of($"T{i % 40}")),
                        new("manager", Value.Of($"E{i / 12}")),
                        new("phone", Value.Of($"+00 555 {i}")),
                        new("costCentre", Value.Of("4200")),
                    ]);
                    return new PersonRow
                    {
                        Id = Guid.CreateVersion7().ToString(),
                        PersonKey = $"P{i}",
                        Number = $"E{i}",
                        Display = facts.DisplayName,
                        SearchKey = $"quill{i}",
                        Kind = "employee",
                        Department = "D",
                        Site = sites[i % 3],
                        Title = "T",
                        StartDay = "2015-01-05",
                        Facts = facts.ToJson(),
                        Source = "hr",
                        At = 1,
                    };
                })
                .ToList();
            await store.WriteAsync(async s =>
            {
                await s.AddPeopleAsync(rows);
                await s.UpsertAccountsAsync([
                    .. rows.Select(r => new AccountRow
                    {
                        Id = Guid.NewGuid().ToString(),
                        PersonId = r.Id,
                        Target = "directory",
                        Name = "tor." + r.SearchKey,
                        Container = "ou=p",
                        Location = "x",
                        ImmutableId = r.Id,
                        Attributes = "{}",
                        Enabled = 1,
                        Reason = "{}",
                        At = 1,
                    }),
                ]);
            });
        }
    }

    /// <summary>The most memory the process had while it was watched, in megabytes.</summary>
    private sealed class PeakMemory : IDisposable
    {
        private readonly Timer _timer;
        private long _most;

        public PeakMemory() =>
            _timer = new(
                _ =>
                {
                    using var process = Process.GetCurrentProcess();
                    _most = Math.Max(_most, process.WorkingSet64);
                },
                null,
                0,
                20
            );

        public double Megabytes => _most / 1_048_576.0;

        public void Dispose() => _timer.Dispose();
    }
}
