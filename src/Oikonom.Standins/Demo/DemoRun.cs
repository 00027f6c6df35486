using System.Diagnostics;
using System.Globalization;
using System.Net;
using System.Net.Http.Headers;
using System.Net.Sockets;
using System.Runtime.InteropServices;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Standins.Directory;

namespace Oikonom.Standins.Demo;

/// <summary>How the demo is run: where it keeps its data, and the first of its ten ports.</summary>
public sealed record DemoOptions(string Repository, string Folder, int Port, bool Fresh)
{
    public const int DefaultPort = 7430;
    public int Service => Port;
    public int HrPort => Port + 1;
    public int MailPagePort => Port + 2;
    public int SmtpPort => Port + 3;
    public int LdapPort => Port + 5;
    public int LdapsPort => Port + 6;
    public int RecordsPort => Port + 8;
    public int ShopPort => Port + 9;

    /// <summary>Whether the office domain is to run, where it can.</summary>
    public bool Office { get; init; } = true;

    /// <summary>Every port it listens at.</summary>
    public IReadOnlyList<int> Ports => [Service, HrPort, MailPagePort, SmtpPort, LdapPort, LdapsPort, RecordsPort, ShopPort];

    /// <summary>Where the demo's own files lie.</summary>
    public string Northmere => Path.Combine(Repository, "demo", "northmere");
    public string Address => $"http://127.0.0.1:{Service}";
}

/// <summary>What went wrong in words for a person; nothing else is printed.</summary>
public sealed class DemoFault(string message) : Exception(message);

/// <summary>Northmere in one process tree: directory, HR, mail, and the service with its rulebook and users.</summary>
public sealed class DemoRun(DemoOptions options)
{
    public const string Password = "northmere-demo";
    private const string PayrollKey = "payroll-demo-key";

    /// <summary>Name, display, roles, employee number, and what they are for.</summary>
    public static readonly IReadOnlyList<(string Name, string Display, string[] Roles, string Number, string For)> Users =
    [
        ("ines", "Ines Morrow", ["requester"], "E1007", "runs HR; raises requests"),
        ("mara", "Mara Selkirk", ["approver"], "E1002", "manager, animal care at Harbour House"),
        ("tomas", "Tomas Brackwater", ["approver"], "E1003", "manager, dive team"),
        ("lise", "Lise Vesterholt", ["approver"], "E1008", "manager, rescue station"),
        ("otto", "Otto Lindgard", ["operator"], "", "releases and mends"),
        ("edda", "Edda Castermans", ["engineer"], "", "rulebook, targets, secrets"),
        ("nora", "Nora Thistlewood", ["engineer"], "", "agrees to what Edda changes"),
        ("aldo", "Aldo Winterbourne", ["auditor"], "", "reads the ledger"),
    ];

    private static readonly (string Number, string Given, string Family, string Name)[] LeftBehind =
    [
        ("E1303", "Zoe", "Darcy", "zoe.darcy"),
        ("E1305", "Petra", "Halvorsen", "petra.halvorsen"),
        ("E1305", "Petra", "Halvorsen", "phalvorsen"),
        // Not of people at all.
        ("", "Entrance", "Kiosk", "kiosk-entrance"),
        ("", "Nightly", "Backup", "svc-backup"),
    ];

    public async Task<int> RunAsync(Action<string> say, CancellationToken cancel)
    {
        foreach (var port in options.Ports)
            RequireFree(port);
        var seeded = Path.Combine(options.Folder, "seeded");
        var isNew = Prepare(seeded);
        await using var around = await DemoSurroundings.StartAsync(options, FirstDay(), isNew, LeftBehind, PayrollKey, cancel);
        using var service = StartService();
        try
        {
            await ReadyAsync(service, cancel);
            if (isNew)
            {
                await SeedAsync(around, Path.Combine(options.Northmere, "rulebook"), cancel);
                await File.WriteAllTextAsync(seeded, "", cancel);
            }
            Welcome(say, around.WithoutOffice);
            await service.WaitForExitAsync(cancel);
            throw new DemoFault(
                $"The service ended by itself with exit code {service.ExitCode}. Its log is {Path.Combine(options.Folder, "service.log")}."
            );
        }
        catch (OperationCanceledException)
        {
            return 0;
        }
        finally
        {
            await StopAsync(service);
        }
    }

    /// <summary>Makes the folder ready; what was not seeded to its end begins anew.</summary>
    /// <returns>True when there is nothing in it yet.</returns>
    private bool Prepare(string seeded)
    {
        if (options.Fresh && System.IO.Directory.Exists(options.Folder))
            System.IO.Directory.Delete(options.Folder, recursive: true);
        System.IO.Directory.CreateDirectory(options.Folder);
        if (File.Exists(seeded))
            return false;
        foreach (var half in new[] { "service", "directory", "records", "shop", "office" })
            if (System.IO.Directory.Exists(Path.Combine(options.Folder, half)))
                System.IO.Directory.Delete(Path.Combine(options.Folder, half), recursive: true);
        return true;
    }

    /// <summary>The day the demo was first started; the days of HR's files are counted from it.</summary>
    private DateOnly FirstDay()
    {
        var file = Path.Combine(options.Folder, "first-day");
        if (
            File.Exists(file)
            && DateOnly.TryParseExact(File.ReadAllText(file), "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out var day)
        )
            return day;
        day = DateOnly.FromDateTime(DateTime.UtcNow);
        File.WriteAllText(file, day.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture));
        return day;
    }

    private void RequireFree(int port)
    {
        try
        {
            using var listener = new TcpListener(IPAddress.Loopback, port);
            listener.Start();
        }
        catch (SocketException)
        {
            throw new DemoFault(
                $"Port {port} is in use. Stop what uses it, or choose other ports: make demo ARGS=\"--port "
                    + $"{options.Port + 1000}\" (the demo takes ten from there on)."
            );
        }
    }

    private Process StartService()
    {
        var binary = Path.Combine(options.Repository, "bin", "oikonomd");
        if (!File.Exists(binary))
            throw new DemoFault("bin/oikonomd is missing. Run 'make build' first.");
        var log = Path.Combine(options.Folder, "service.log");
        var info = new ProcessStartInfo("/bin/sh", ["-c", "exec \"$0\" >>\"$1\" 2>&1", binary, log]);
        foreach (
            var (name, value) in new[]
            {
                ("LISTEN", options.Address),
                ("DATA", Path.Combine(options.Folder, "service")),
                ("SOURCES", Path.Combine(options.Folder, "sources")),
                ("FILES", Path.Combine(options.Folder, "files")),
                ("CONSOLE", Path.Combine(options.Repository, "console", "dist")),
                ("MAIL", $"127.0.0.1:{options.SmtpPort}"),
                ("MAIL_CLEAR", "true"),
                ("MAIL_FROM", "oikonom@northmere.example"),
                ("FIRST_USERS", FirstUsers()),
                ("NODE", "northmere-1"),
                ("CLOCK_FILE", Path.Combine(options.Folder, DemoClock.File)),
            }
        )
            info.Environment[$"OIKONOM_{name}"] = value;
        return Process.Start(info)!;
    }

    /// <summary>The users an empty store begins with; each would set their own password by a link, had they a mailbox.</summary>
    private string FirstUsers()
    {
        var file = Path.Combine(options.Folder, "first-users.json");
        File.WriteAllText(
            file,
            JsonSerializer.Serialize(
                Users.Select(u => new
                {
                    name = u.Name,
                    display = u.Display,
                    mail = $"{u.Name}@northmere.example",
                    roles = u.Roles,
                    number = u.Number,
                    password = Password,
                })
            )
        );
        return file;
    }

    private async Task ReadyAsync(Process service, CancellationToken cancel)
    {
        using var client = new HttpClient();
        for (var attempt = 0; attempt < 300; attempt++)
        {
            if (service.HasExited)
                throw new DemoFault($"The service did not start. Its log is {Path.Combine(options.Folder, "service.log")}.");
            try
            {
                if ((await client.GetAsync(new Uri($"{options.Address}/health/ready"), cancel)).IsSuccessStatusCode)
                    return;
            }
            catch (HttpRequestException)
            {
                // Not yet.
            }
            await Task.Delay(100, cancel);
        }
        throw new DemoFault("The service was not ready within 30 s.");
    }

    private async Task SeedAsync(DemoSurroundings around, string rulebook, CancellationToken cancel)
    {
        using var client = new HttpClient { BaseAddress = new(options.Address) };
        var token = await Read<IssuedToken>(
            await client.PostAsJsonAsync("/api/v1/tokens", new TokenBody("edda", Password, "demo", 1), cancel),
            cancel
        );
        client.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", token.Token);
        foreach (var (name, value) in around.Secrets.Append(("payroll-key", PayrollKey)))
            await Done(await client.PutAsJsonAsync($"/api/v1/secrets/{name}", new SecretBody(value), cancel), cancel);
        await Done(
            await client.PostAsJsonAsync(
                "/api/v1/rulebook/editions",
                new RulebookBody(Rulebook(rulebook, around.WithoutOffice is null)),
                cancel
            ),
            cancel
        );
        await Done(await client.PostAsJsonAsync("/api/v1/sources/hr/runs", new IntakeBody("baseline", false), cancel), cancel);
    }

    /// <summary>The rulebook with the demo's own port; the copy in the demo folder is what 'rulebook check' can be tried on.</summary>
    private List<RulebookFileBody> Rulebook(string folder, bool withOffice)
    {
        var files = new List<RulebookFileBody>();
        foreach (var file in System.IO.Directory.GetFiles(folder, "*.yaml", SearchOption.AllDirectories).Order(StringComparer.Ordinal))
        {
            var path = Path.GetRelativePath(folder, file).Replace('\\', '/');
            if (!withOffice && Path.GetFileNameWithoutExtension(path) == "office")
                continue;
            var text = File.ReadAllText(file)
                .Replace(":7436", $":{options.LdapsPort.ToString(CultureInfo.InvariantCulture)}", StringComparison.Ordinal)
                .Replace(":7438", $":{options.RecordsPort.ToString(CultureInfo.InvariantCulture)}", StringComparison.Ordinal)
                .Replace(":7439", $":{options.ShopPort.ToString(CultureInfo.InvariantCulture)}", StringComparison.Ordinal)
                .Replace(":7431", $":{options.HrPort.ToString(CultureInfo.InvariantCulture)}", StringComparison.Ordinal);
            var copy = Path.Combine(options.Folder, "rulebook", path);
            System.IO.Directory.CreateDirectory(Path.GetDirectoryName(copy)!);
            File.WriteAllText(copy, text);
            files.Add(new(path, text));
        }
        return files;
    }

    private static async Task<T> Read<T>(HttpResponseMessage response, CancellationToken cancel)
    {
        await Done(response, cancel);
        return (await response.Content.ReadFromJsonAsync<T>(cancel))!;
    }

    private static async Task Done(HttpResponseMessage response, CancellationToken cancel)
    {
        if (response.IsSuccessStatusCode)
            return;
        var problem = await response.Content.ReadFromJsonAsync<JsonElement>(cancel);
        throw new DemoFault($"Setting up failed at {response.RequestMessage?.RequestUri}: {problem.GetProperty("detail").GetString()}");
    }

    private void Welcome(Action<string> say, string? withoutOffice)
    {
        say("");
        say($"  Oikonom runs for Northmere.       Console   {options.Address}");
        say($"                                    API       {options.Address}/openapi/v1.json");
        say($"                                    Mail      http://127.0.0.1:{options.MailPagePort}");
        say($"                                    HR        http://127.0.0.1:{options.HrPort}/records");
        say($"                                    Directory ldaps://127.0.0.1:{options.LdapsPort}");
        say(
            withoutOffice is null
                ? $"                                    Office    ldaps://127.0.0.1:{DomainOptions.LdapsPort}, a domain controller"
                : $"                                    Office    does not run: {withoutOffice}"
        );
        say($"                                    Records   https://localhost:{options.RecordsPort}");
        say($"                                    Shop      https://localhost:{options.ShopPort}");
        say("");
        say($"  Sign in as (password {Password}):");
        foreach (var (name, display, roles, _, what) in Users)
            say($"    {name, -7}{display, -20}{string.Join(", ", roles), -12}{what}");
        say("");
        say("  Try next, in another terminal:");
        say($"    curl -X POST http://127.0.0.1:{options.HrPort}/exports/people-with-joiners    HR exports eight joiners");
        say($"    export OIKONOM_URL={options.Address}");
        say("    bin/oikonom sign-in ines --password-stdin <<< northmere-demo");
        say("    bin/oikonom intake run hr");
        say("    then sign in to the console as mara, and look at the inbox.");
        say("  Or let demo/tour.sh walk the whole path.");
        say("");
        say("  Ctrl-C stops all of it; the data stays. 'make demo ARGS=--fresh' starts over.");
        say("");
    }

    private static async Task StopAsync(Process service)
    {
        if (service.HasExited)
            return;
        _ = Kill(service.Id, 15);
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(10));
        try
        {
            await service.WaitForExitAsync(limit.Token);
        }
        catch (OperationCanceledException)
        {
            service.Kill();
        }
    }

    [DllImport("libc", EntryPoint = "kill")]
    private static extern int Kill(int process, int signal);
}
