using System.Diagnostics;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Runtime.CompilerServices;
using System.Text.Json;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Identity;
using Microsoft.Extensions.Options;
using Oikonom.Contracts;
using Oikonom.Service.Hosting;
using Oikonom.Standins.Applications;
using Oikonom.Standins.Directory;
using Oikonom.Standins.Mail;

namespace Oikonom.Testing;

/// <summary>One row of an HR file.</summary>
public sealed record HrRow(string Number, string Given, string Family)
{
    public string Person { get; init; } = "P" + Number;
    public string Kind { get; init; } = "employee";
    public string Start { get; init; } = "2026-01-05";
    public string End { get; init; } = "";
    public string Manager { get; init; } = "E9002";
    public string Department { get; init; } = "Dive Team";
    public string Site { get; init; } = "harbour";
    public string Title { get; init; } = "Diver";
    public string Phone { get; init; } = "+00 555";

    public const string Header =
        "person_no,employee_no,given_name,family_name,kind,start_date,end_date,manager_no,department,site,job_title,cost_centre,private_mail,phone";

    public override string ToString() =>
        string.Join(
            ',',
            new[]
            {
                Person,
                Number,
                Given,
                Family,
                Kind,
                Start,
                End,
                Manager,
                Department,
                Site,
                Title,
                "4200",
                "p@post.example",
                Phone,
            }.Select(v => v.Any(c => c is ',' or '"' or '\n') ? $"\"{v.Replace("\"", "\"\"", StringComparison.Ordinal)}\"" : v)
        );

    private static int _next;

    /// <summary>A row nobody else in this run has.</summary>
    public static HrRow New(string given = "Tor")
    {
        var id = Interlocked.Increment(ref _next) + (Environment.ProcessId * 1000L);
        return new($"T{id}", given, "Q" + Letters(id));
    }

    private static string Letters(long number)
    {
        var text = "";
        for (; number > 0; number /= 26)
            text += (char)('a' + (number % 26));
        return text;
    }
}

/// <summary>How a world is set up.</summary>
public sealed record WorldOptions
{
    /// <summary><c>sqlite</c>, or a connection string of PostgreSQL.</summary>
    public string Store { get; init; } = "sqlite";

    /// <summary>Where the service finds the directory; by default its real port.</summary>
    public int? DirectoryPort { get; init; }
    public bool Mail { get; init; } = true;
    public string Console { get; init; } = "";

    /// <summary>True when the test kills the service, or looks at it as a process: it then runs as one, as it is built for its users.
    /// All others run within the tests, over the same sockets.</summary>
    public bool OwnProcess { get; init; }

    /// <summary>True when it is measured how fast a process of its own is: it then runs exactly as it does for its users.</summary>
    public bool IsMeasured { get; init; }

    /// <summary>A service as its users run it, to be measured; it sends no mails.</summary>
    public static WorldOptions Measured { get; } =
        new()
        {
            Mail = false,
            OwnProcess = true,
            IsMeasured = true,
            Environment = new Dictionary<string, string> { ["LOG_LEVEL"] = "Warning" },
        };

    /// <summary>True when the test moves the service's clock.</summary>
    public bool MovesClock { get; init; }
    public IReadOnlyDictionary<string, string> Environment { get; init; } = new Dictionary<string, string>();

    /// <summary>The applications of the demo's rulebook by the port it names for each; null leaves them out of the rulebook.</summary>
    public IReadOnlyDictionary<int, ApplicationServer>? Applications { get; init; }

    /// <summary>False when the store has to be made from the first line: on another engine, behind another address, elsewhere.</summary>
    internal bool BeginsAsUsual => Store == "sqlite" && DirectoryPort is null && Applications is null && !Environment.ContainsKey("DATA");
}

/// <summary>A service of its own with rulebook, users and HR folder, against a real directory.</summary>
public sealed class World : IAsyncDisposable
{
    public const string Password = "test-password-1";
    private readonly ScratchFolder _folder = new();
    private readonly WorldOptions _options;

    /// <summary>Where the service keeps its data: <c>sqlite</c>, or what names a database.</summary>
    public string Store => _options.Store;
    private readonly Dictionary<string, HttpClient> _clients = [];
    private Process? _process;
    private WebApplication? _within;

    private World(TestDirectory directory, WorldOptions options)
    {
        Directory = directory;
        _options = options;
        Port = DirectoryServer.FreePort();
        MailPort = DirectoryServer.FreePort();
    }

    public TestDirectory Directory { get; }
    public int Port { get; }
    public int MailPort { get; }
    public MailSink? Mail { get; private set; }
    public string Address => $"http://127.0.0.1:{Port}";
    public string DataFolder => _folder.At("data");
    public string LogFile => _folder.At("service.log");
    private string ClockFile => Path.Combine(DataFolder, "..", "clock");

    /// <summary>How far the service's clock was moved ahead.</summary>
    public TimeSpan Ahead { get; private set; }

    /// <summary>Moves the service's clock; what is due by then is done as soon as the loops look.</summary>
    public void MoveClock(TimeSpan by)
    {
        Ahead += by;
        var next = ClockFile + ".next";
        File.WriteAllText(next, Ahead.TotalSeconds.ToString(System.Globalization.CultureInfo.InvariantCulture));
        File.Move(next, ClockFile, overwrite: true);
        // Tokens end with their day.
        _clients.Clear();
    }

    /// <summary>
    /// What stands in the log and in the files of an embedded store, by their names, octets as Latin-1. Copies are read: whoever closes
    /// a file of a store that is open in the same process drops the locks of all on it.
    /// </summary>
    public async Task<IReadOnlyDictionary<string, string>> FilesAsync()
    {
        using var copies = new ScratchFolder();
        foreach (var file in System.IO.Directory.GetFiles(DataFolder, "oikonom.db*").Append(LogFile))
            await Child.RunAsync("cp", file, copies.Path);
        return System
            .IO.Directory.GetFiles(copies.Path)
            .ToDictionary(f => Path.GetFileName(f), f => File.ReadAllText(f, System.Text.Encoding.Latin1));
    }

    /// <summary>A file of a target that takes over files.</summary>
    public string TargetFile(string target, string name) => _folder.At("files", target, name);

    public string SourceFile => _folder.At("sources", "people.csv");
    public bool IsRunning => _within is not null || _process is { HasExited: false };

    public static async Task<World> StartAsync(TestDirectory directory, WorldOptions? options = null)
    {
        var world = new World(directory, options ?? new());
        System.IO.Directory.CreateDirectory(world._folder.At("sources"));
        if (world._options.Mail)
            world.StartMail();
        try
        {
            if (world._options.BeginsAsUsual)
            {
                var ready = await Ready.GetValue(directory, d => new(() => MakeReadyAsync(d))).Value;
                await Child.RunAsync("cp", "-a", ready.At("data"), world.DataFolder);
                await world.StartServiceAsync();
            }
            else
            {
                await world.StartServiceAsync();
                await world.SeedAsync();
            }
            return world;
        }
        catch
        {
            // What was started is ended, also when it did not come up.
            await world.DisposeAsync();
            throw;
        }
    }

    // A store with rulebook, users and secrets, made once for a directory and copied for each world that begins as usual.
    private static readonly ConditionalWeakTable<TestDirectory, Lazy<Task<ScratchFolder>>> Ready = [];

    private static async Task<ScratchFolder> MakeReadyAsync(TestDirectory directory)
    {
        var folder = new ScratchFolder();
        AppDomain.CurrentDomain.ProcessExit += (_, _) => folder.Dispose();
        System.IO.Directory.CreateDirectory(folder.Path);
        await using var world = new World(directory, new() { Mail = false });
        System.IO.Directory.CreateDirectory(world._folder.At("sources"));
        await world.StartServiceAsync();
        await world.SeedAsync();
        await world.StopAsync();
        await Child.RunAsync("cp", "-a", world.DataFolder, folder.At("data"));
        return folder;
    }

    /// <summary>Another node over the same store and keys.</summary>
    public async Task<World> JoinAsync(string name = "second")
    {
        var node = new World(
            Directory,
            _options with
            {
                Mail = false,
                Environment = new Dictionary<string, string>(_options.Environment)
                {
                    ["DATA"] = DataFolder,
                    ["NODE"] = name,
                    ["MAIL"] = "",
                },
            }
        );
        await node.StartServiceAsync();
        return node;
    }

    public void StartMail() => Mail = new(MailPort);

    public async Task StopMailAsync()
    {
        await Mail!.DisposeAsync();
        Mail = null;
    }

    /// <param name="mustBeReady">False when the service is expected to say that it is not ready.</param>
    public async Task StartServiceAsync(bool mustBeReady = true)
    {
        var settings = new Dictionary<string, string>
        {
            ["LISTEN"] = Address,
            ["DATA"] = DataFolder,
            ["SOURCES"] = _folder.At("sources"),
            ["FILES"] = _folder.At("files"),
            ["STORE"] = _options.Store,
            ["FIRST_USERS"] = FirstUsers(),
            ["MAIL"] = _options.Mail ? $"127.0.0.1:{MailPort}" : "",
            ["MAIL_CLEAR"] = "true",
            ["NODE"] = "first",
            ["LEASE_SECONDS"] = "2",
            ["CONSOLE"] = _options.Console,
        };
        if (_options.MovesClock)
            settings["CLOCK_FILE"] = ClockFile;
        foreach (var (name, value) in _options.Environment)
            settings[name] = value;
        if (!_options.OwnProcess)
        {
            _within = await Daemon.StartAsync(
                [.. settings.Select(s => $"--{s.Key.Replace('_', '-')}={s.Value}")],
                options => options.ClockFile.Length > 0 ? new MovedClock(options) : TimeProvider.System,
                LogFile
            );
            return;
        }
        var info = new ProcessStartInfo("/bin/sh", ["-c", "exec \"$0\" >>\"$1\" 2>&1", Repository.At("bin", "oikonomd"), LogFile]);
        // A service of a test lives for seconds: compiling it a second time, faster, costs more than it gives.
        if (!_options.IsMeasured)
            info.Environment["DOTNET_TC_CallCounting"] = "0";
        foreach (var (name, value) in settings)
            info.Environment[$"OIKONOM_{name}"] = value;
        _process = Process.Start(info)!;
        using var client = new HttpClient();
        var said = "nothing";
        for (var attempt = 0; attempt < 1600; attempt++)
        {
            if (_process.HasExited)
                throw new InvalidOperationException($"The service ended: {await File.ReadAllTextAsync(LogFile)}");
            try
            {
                var health = await client.GetAsync($"{Address}/health/{(mustBeReady ? "ready" : "live")}");
                if (health.IsSuccessStatusCode)
                    return;
                said = await health.Content.ReadAsStringAsync();
            }
            catch (HttpRequestException)
            {
                // Not yet.
            }
            await Task.Delay(25);
        }
        throw new TimeoutException($"The service was not ready within 40 s: it said {said}; its log: {File.ReadAllText(LogFile)}");
    }

    /// <summary>SIGKILL: no time to write anything. Only what runs in a process of its own can be killed.</summary>
    public void Kill() => OwnProcess().Kill();

    public Task WaitForEndAsync() => OwnProcess().WaitForExitAsync();

    private Process OwnProcess() =>
        _process ?? throw new InvalidOperationException("This world's service runs within the test; ask for a process of its own.");

    private async Task SeedAsync()
    {
        var setup = await SignInAsync("setup");
        await OkAsync(setup.PutAsJsonAsync("/api/v1/secrets/directory-authority", new SecretBody(Directory.Server.AuthorityPem)));
        await OkAsync(setup.PutAsJsonAsync("/api/v1/secrets/directory-password", new SecretBody(Directory.Server.Options.ServicePassword)));
        foreach (var application in _options.Applications?.Values ?? [])
        {
            var name = application.Kind.Name;
            await OkAsync(setup.PutAsJsonAsync($"/api/v1/secrets/{name}-authority", new SecretBody(application.AuthorityPem)));
            await OkAsync(setup.PutAsJsonAsync($"/api/v1/secrets/{name}-token", new SecretBody(application.Token)));
        }
        await OkAsync(setup.PostAsJsonAsync("/api/v1/rulebook/editions", new RulebookBody(Rulebook())));
    }

    private static readonly (string Name, string Role, string Number)[] Users =
    [
        ("setup", "engineer", ""),
        ("ines", "requester", "E9001"),
        ("mara", "approver", "E9002"),
        ("tomas", "approver", "E9003"),
        ("otto", "operator", ""),
        ("edda", "engineer", ""),
        ("aldo", "auditor", ""),
    ];

    // One hash for all, and a cheap one: it is looked at again at each sign-in of each test.
    private static readonly Lazy<string> Hash = new(() =>
        new PasswordHasher<string>(Options.Create(new PasswordHasherOptions { IterationCount = 1000 })).HashPassword("", Password)
    );

    /// <summary>The users an empty store begins with.</summary>
    private string FirstUsers()
    {
        var file = _folder.At("first-users.json");
        File.WriteAllText(
            file,
            JsonSerializer.Serialize(
                Users.Select(u => new
                {
                    name = u.Name,
                    display = u.Name.ToUpperInvariant(),
                    mail = $"{u.Name}@northmere.example",
                    roles = new[] { u.Role },
                    number = u.Number,
                    passwordHash = Hash.Value,
                })
            )
        );
        return file;
    }

    /// <summary>A user with one role, whose reach in it is one site.</summary>
    /// <param name="number">The person they are, or "".</param>
    public Task SaveUserAsync(string name, string role, string number, string site) =>
        SaveUserAsync(
            name,
            new(name, $"{name}@northmere.example", [role], number, true, new Dictionary<string, ReachBody> { [role] = new([site]) })
        );

    /// <summary>Makes or changes a user as two engineers do, and sets the password of a new one by the link in the mail.</summary>
    public async Task SaveUserAsync(string name, UserBody body, bool setPassword = true)
    {
        var isNew = !(await GetAsync<Page<User>>("/api/v1/users", "setup")).Items.Any(u => u.Name == name);
        var saved = await (
            await OkAsync((await SignInAsync("edda")).PutAsJsonAsync($"/api/v1/users/{name}", body))
        ).Content.ReadFromJsonAsync<UserSaved>();
        if (saved!.Waits is { } waits)
            await OkAsync((await SignInAsync("setup")).PostAsJsonAsync($"/api/v1/users/changes/{waits.Id}/agree", new { }));
        if (isNew && setPassword)
            await SetPasswordAsync(body.Mail, Password);
    }

    /// <summary>Sets a password by the newest link that went to a mail address.</summary>
    public async Task SetPasswordAsync(string mail, string password)
    {
        using var client = new HttpClient { BaseAddress = new(Address) };
        await OkAsync(
            client.PostAsJsonAsync($"/api/v1/password-links/{await LinkAsync(mail, "/password/")}", new NewPasswordBody(password))
        );
    }

    /// <summary>The token of the newest link of a kind that went to a mail address.</summary>
    public async Task<string> LinkAsync(string mail, string path)
    {
        var text = await EventuallyAsync(
            () =>
                Task.FromResult(
                    Mail!
                        .Mails.LastOrDefault(m =>
                            m.To.Contains(mail, StringComparison.OrdinalIgnoreCase) && m.Body.Contains(path, StringComparison.Ordinal)
                        )
                        ?.Body
                ),
            t => t is not null
        );
        return string.Concat(
            text![(text!.LastIndexOf(path, StringComparison.Ordinal) + path.Length)..].TakeWhile(c => !char.IsWhiteSpace(c))
        );
    }

    /// <summary>The demo's rulebook, pointed at this directory; <paramref name="change"/> may edit a file.</summary>
    public IReadOnlyList<RulebookFileBody> Rulebook(Func<string, string, string>? change = null)
    {
        return
        [
            .. Repository
                .RulebookFiles()
                .Where(file => !Repository.IsOfOffice(file.Path))
                .Where(file => _options.Applications is not null || !Repository.IsOfApplications(file.Path))
                .Select(file =>
                {
                    var text = file.Text.Replace(":7436", $":{_options.DirectoryPort ?? Directory.LdapsPort}", StringComparison.Ordinal);
                    foreach (var (port, application) in _options.Applications ?? new Dictionary<int, ApplicationServer>())
                        text = text.Replace($":{port}", $":{application.Port}", StringComparison.Ordinal);
                    return new RulebookFileBody(file.Path, change?.Invoke(file.Path, text) ?? text);
                }),
        ];
    }

    public async Task<HttpClient> SignInAsync(string name)
    {
        if (_clients.TryGetValue(name, out var known))
            return known;
        var client = new HttpClient { BaseAddress = new(Address), Timeout = TimeSpan.FromSeconds(60) };
        var token = await (
            await OkAsync(client.PostAsJsonAsync("/api/v1/tokens", new TokenBody(name, Password, "test", 90)))
        ).Content.ReadFromJsonAsync<IssuedToken>();
        client.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", token!.Token);
        return _clients[name] = client;
    }

    public static async Task<HttpResponseMessage> OkAsync(Task<HttpResponseMessage> call)
    {
        var response = await call;
        if (!response.IsSuccessStatusCode)
            throw new InvalidOperationException(
                $"{response.RequestMessage?.Method} {response.RequestMessage?.RequestUri} → {(int)response.StatusCode}: "
                    + $"{await response.Content.ReadAsStringAsync()}"
            );
        return response;
    }

    /// <summary>The refusal of a call: status, code and detail.</summary>
    public static async Task<(int Status, string Code, string Detail)> RefusedAsync(Task<HttpResponseMessage> call)
    {
        var response = await call;
        var body = await response.Content.ReadFromJsonAsync<JsonElement>();
        return (
            (int)response.StatusCode,
            body.TryGetProperty("code", out var code) ? code.GetString() ?? "" : "",
            body.TryGetProperty("detail", out var detail) ? detail.GetString() ?? "" : ""
        );
    }

    public void WriteHr(params IEnumerable<HrRow> rows) =>
        File.WriteAllText(SourceFile, HrRow.Header + "\n" + string.Concat(rows.Select(r => r + "\n")));

    public async Task<IntakeRun> RunIntakeAsync(string mode = "full", bool dryRun = false, string actor = "ines") =>
        (
            await (
                await OkAsync((await SignInAsync(actor)).PostAsJsonAsync("/api/v1/sources/hr/runs", new IntakeBody(mode, dryRun)))
            ).Content.ReadFromJsonAsync<IntakeRun>()
        )!;

    /// <summary>Takes the people as known. When the source was loaded before, another engineer lets it pass.</summary>
    public async Task BaselineAsync()
    {
        var run = await RunIntakeAsync("baseline", actor: "edda");
        if (run.Outcome == "held")
            await OkAsync((await SignInAsync("setup")).PostAsJsonAsync($"/api/v1/held-runs/{run.Id}/pass", new { }));
    }

    public async Task<T> GetAsync<T>(string path, string actor = "otto")
    {
        var client = await SignInAsync(actor);
        HttpResponseMessage answer;
        try
        {
            answer = await OkAsync(client.GetAsync(path));
        }
        catch (HttpRequestException error) when (error.InnerException is IOException)
        {
            // The connection was one to the service as it was before it was killed.
            answer = await OkAsync(client.GetAsync(path));
        }
        return (await answer.Content.ReadFromJsonAsync<T>())!;
    }

    public Task<RequestDetail> RequestAsync(string? id, string actor = "otto") => GetAsync<RequestDetail>($"/api/v1/requests/{id}", actor);

    /// <summary>How long a test waits for what is to come, in seconds: longer than a busy machine takes. Only what never comes
    /// costs so much.</summary>
    private const double Patience = 60;

    /// <summary>Waits until a request is in a state; told with its story when it does not come to that.</summary>
    public async Task<RequestDetail> WaitForAsync(string? id, string state, double seconds = Patience)
    {
        RequestDetail? last = null;
        var watch = Stopwatch.StartNew();
        while (watch.Elapsed < TimeSpan.FromSeconds(seconds))
        {
            last = await RequestAsync(id);
            if (last.Summary.State == state)
                return last;
            await Task.Delay(PauseAfter(watch.Elapsed));
        }
        throw new TimeoutException(
            $"The request is {last?.Summary.State}, not {state}: {last?.Story.Now} {last?.Summary.Problem} "
                + $"{string.Join(" | ", last?.Steps.Select(s => $"{s.Text}: {s.State} {s.Problem}") ?? [])}"
        );
    }

    public async Task<T> EventuallyAsync<T>(Func<Task<T>> look, Func<T, bool> good, double seconds = Patience)
    {
        var watch = Stopwatch.StartNew();
        while (true)
        {
            var found = await look();
            if (good(found))
                return found;
            if (watch.Elapsed > TimeSpan.FromSeconds(seconds))
                throw new TimeoutException($"It did not come to that within {seconds} s; last seen: {JsonSerializer.Serialize(found)}");
            await Task.Delay(PauseAfter(watch.Elapsed));
        }
    }

    /// <summary>What comes soon is seen soon; what takes long is not asked for all the time.</summary>
    private static TimeSpan PauseAfter(TimeSpan waited) => TimeSpan.FromMilliseconds(Math.Clamp(waited.TotalMilliseconds / 5, 25, 250));

    public async Task ApproveAsync(RequestDetail request, string actor = "mara") =>
        await OkAsync(
            (await SignInAsync(actor)).PostAsJsonAsync(
                $"/api/v1/requests/{request.Summary.Id}/approve",
                new ApproveBody(request.PlanDigest!, null)
            )
        );

    public async Task ReleaseAsync(RequestDetail request) =>
        await OkAsync(
            (await SignInAsync("otto")).PostAsJsonAsync(
                $"/api/v1/requests/{request.Summary.Id}/release",
                new ReleaseBody(request.PlanDigest!)
            )
        );

    /// <summary>From an HR row to the wanted state of its request: raised, planned, approved, released.</summary>
    public async Task<RequestDetail> BringAsync(HrRow row, string state = "completed")
    {
        WriteHr(row);
        var raised = (await RunIntakeAsync()).Requests.Single(r => r.Number == row.Number);
        var request = await WaitForAsync(raised.Id!, "deciding");
        if (state == "deciding")
            return request;
        await ApproveAsync(request);
        if (state == "releasing")
            return await RequestAsync(raised.Id!);
        await ReleaseAsync(request);
        return await WaitForAsync(raised.Id!, state);
    }

    /// <summary>Brings a request that was raised to its completion, by whatever decisions and release it still wants.</summary>
    public async Task<RequestDetail> ThroughAsync(string? id)
    {
        var request = await EventuallyAsync(() => RequestAsync(id), r => r.Summary.State is "deciding" or "releasing" or "completed");
        if (request.Summary.State == "deciding")
            await ApproveAsync(request);
        request = await EventuallyAsync(() => RequestAsync(id), r => r.Summary.State is "releasing" or "completed");
        if (request.Summary.State == "releasing")
            await ReleaseAsync(request);
        return await WaitForAsync(id, "completed");
    }

    public async Task<LedgerVerification> VerifyLedgerAsync() =>
        (
            await (
                await OkAsync((await SignInAsync("aldo")).PostAsync("/api/v1/ledger/verify", null))
            ).Content.ReadFromJsonAsync<LedgerVerification>()
        )!;

    /// <summary>Asks the service to end, and waits for it.</summary>
    public async Task StopAsync()
    {
        if (_within is not null)
        {
            using var patience = new CancellationTokenSource(TimeSpan.FromSeconds(10));
            await _within.StopAsync(patience.Token);
            await _within.DisposeAsync();
            _within = null;
        }
        if (_process is { HasExited: false })
        {
            using var stop = Process.Start("kill", [_process.Id.ToString(System.Globalization.CultureInfo.InvariantCulture)]);
            using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(10));
            try
            {
                await _process.WaitForExitAsync(limit.Token);
            }
            catch (OperationCanceledException)
            {
                _process.Kill();
            }
        }
    }

    public async ValueTask DisposeAsync()
    {
        foreach (var client in _clients.Values)
            client.Dispose();
        await StopAsync();
        _process?.Dispose();
        if (Mail is not null)
            await Mail.DisposeAsync();
        _folder.Dispose();
    }
}
