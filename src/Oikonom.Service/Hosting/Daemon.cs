using System.Net;
using System.Net.Sockets;
using System.Security.Cryptography;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Authentication.Cookies;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.AspNetCore.Http.Json;
using Microsoft.AspNetCore.HttpOverrides;
using Oikonom.Core.Approval;
using Oikonom.Core.Ledger;
using Oikonom.Service.Access;
using Oikonom.Service.Approval;
using Oikonom.Service.Common;
using Oikonom.Service.Connectors;
using Oikonom.Service.Desk;
using Oikonom.Service.Editions;
using Oikonom.Service.Fulfilment;
using Oikonom.Service.Intake;
using Oikonom.Service.Ledger;
using Oikonom.Service.Live;
using Oikonom.Service.Notices;
using Oikonom.Service.Overview;
using Oikonom.Service.People;
using Oikonom.Service.Planning;
using Oikonom.Service.Records;
using Oikonom.Service.Rulebook;
using Oikonom.Service.Scim;
using Oikonom.Store;
using Oikonom.Store.Rooms;
using OpenTelemetry.Exporter;
using OpenTelemetry.Metrics;
using OpenTelemetry.Resources;
using OpenTelemetry.Trace;
using Serilog;
using Serilog.Configuration;
using Serilog.Events;
using Serilog.Formatting.Compact;

namespace Oikonom.Service.Hosting;

/// <summary>Puts the service together and runs it.</summary>
public static class Daemon
{
    /// <param name="args">Settings as --name value; they win over the environment.</param>
    /// <param name="clock">What time it is, by the settings.</param>
    /// <returns>The exit code: 1 when it could not start.</returns>
    public static async Task<int> RunAsync(string[] args, Func<ServiceOptions, TimeProvider> clock)
    {
        var (builder, options) = Read(args);
        try
        {
            await using var app = await StartAsync(builder, options, clock, logs => logs.Console(new RenderedCompactJsonFormatter()));
            await app.WaitForShutdownAsync();
            return 0;
        }
        catch (Exception error)
            when (error
                    is StoreFault
                        or IOException
                        or SocketException
                        or UnauthorizedAccessException
                        or Npgsql.NpgsqlException
                        or Microsoft.Data.Sqlite.SqliteException
                        or ArgumentException
            )
        {
            await System.Console.Error.WriteLineAsync($"oikonomd: {Explain(error, options)}");
            return 1;
        }
    }

    /// <summary>Starts a service within this process, which may hold several.</summary>
    /// <param name="args">Settings as --name=value; they win over the environment.</param>
    /// <param name="clock">What time it is, by the settings.</param>
    /// <param name="logFile">The file its log is added to, a JSON object a line.</param>
    /// <returns>The service, which listens; it ends when it is disposed of.</returns>
    /// <exception cref="ArgumentException">A setting is wrong.</exception>
    /// <exception cref="StoreFault">The store is one it does not open.</exception>
    public static Task<WebApplication> StartAsync(string[] args, Func<ServiceOptions, TimeProvider> clock, string logFile)
    {
        var (builder, options) = Read(args);
        return StartAsync(builder, options, clock, logs => logs.File(new RenderedCompactJsonFormatter(), logFile));
    }

    private static (WebApplicationBuilder Builder, ServiceOptions Options) Read(string[] args)
    {
        // Settings are read once: whoever watches files for changes is woken by each write to the store beside them.
        var builder = WebApplication.CreateSlimBuilder(
            new WebApplicationOptions { ApplicationName = "oikonomd", Args = ["--hostBuilder:reloadConfigOnChange=false", .. args] }
        );
        builder.Configuration.AddEnvironmentVariables("OIKONOM_").AddCommandLine(args);
        return (builder, ServiceOptions.From(builder.Configuration));
    }

    private static async Task<WebApplication> StartAsync(
        WebApplicationBuilder builder,
        ServiceOptions options,
        Func<ServiceOptions, TimeProvider> clock,
        Action<LoggerSinkConfiguration> logs
    )
    {
        var app = Build(builder, options, clock(options), logs);
        try
        {
            await PrepareAsync(app, options);
            await app.StartAsync();
            return app;
        }
        catch
        {
            await app.DisposeAsync();
            throw;
        }
    }

    private static string Explain(Exception error, ServiceOptions options) =>
        error.GetBaseException() is SocketException { SocketErrorCode: SocketError.AddressAlreadyInUse }
        || error.Message.Contains("address already in use", StringComparison.OrdinalIgnoreCase)
            ? $"{options.Listen} is in use by another program. Stop it, or choose another port with --listen."
            : error.Message;

    private static WebApplication Build(
        WebApplicationBuilder builder,
        ServiceOptions options,
        TimeProvider time,
        Action<LoggerSinkConfiguration> logs
    )
    {
        PrepareFolder(options);
        AddServer(builder, options, logs);
        var services = builder.Services;
        AddRooms(services, options, time);
        AddLoops(services);
        AddSignIn(services, options);
        AddTelemetry(services, options);
        AddApi(services);
        AddProxies(services, options);
        var app = builder.Build();
        if (options.Proxies.Length > 0)
            app.UseForwardedHeaders();
        app.UseSecurityHeaders();
        app.UseConsoleFiles(options.Console);
        app.UseMiddleware<ProblemWriter>();
        app.UseMiddleware<ForgeryGuard>();
        app.UseAuthentication();
        app.UseAuthorization();
        app.UseMiddleware<ReachGuard>();
        Map(app, options);
        return app;
    }

    private static void AddServer(WebApplicationBuilder builder, ServiceOptions options, Action<LoggerSinkConfiguration> logs)
    {
        builder
            .WebHost.UseKestrelCore()
            .ConfigureKestrel(kestrel =>
            {
                kestrel.AddServerHeader = false;
                kestrel.Limits.MaxRequestBodySize = 32 * 1024 * 1024;
                var address = new Uri(options.Listen);
                if (address.Scheme != "http")
                    throw new ArgumentException("--listen takes an http:// address; put a TLS proxy before it for other machines.");
                kestrel.Listen(IPAddress.TryParse(address.Host, out var ip) ? ip : IPAddress.Loopback, address.Port);
            });
        builder.Logging.ClearProviders();
        builder.Host.UseSerilog(
            (_, log) =>
                logs(
                    log.MinimumLevel.Is(
                            Enum.TryParse<LogEventLevel>(options.LogLevel, true, out var level) ? level : LogEventLevel.Information
                        )
                        .MinimumLevel.Override("Microsoft", LogEventLevel.Warning)
                        .Enrich.WithProperty("node", options.Node)
                        .WriteTo
                ),
            // Each service has a log of its own, which ends with it.
            preserveStaticLogger: true
        );
    }

    private static void AddRooms(IServiceCollection services, ServiceOptions options, TimeProvider time)
    {
        services.AddSingleton(options).AddSingleton(time);
        services.AddSingleton<Engine>(_ =>
            options.Store == "sqlite" ? new SqliteEngine(Path.Combine(options.Data, "oikonom.db")) : new PostgresEngine(options.Store)
        );
        services.AddSingleton<Pulse>().AddSingleton<Health>().AddSingleton<Ledger.HeadKeeper>();
        services
            .AddSingleton<Store.Store>()
            .AddSingleton<SigningKey>()
            .AddSingleton<LedgerCheck>()
            .AddSingleton<LedgerDesk>()
            .AddSingleton<Accounts>()
            .AddSingleton<AccountDesk>()
            .AddSingleton<PasswordDesk>()
            .AddSingleton<UserDesk>()
            .AddSingleton<FirstPasswords>()
            .AddSingleton<Sight>()
            .AddSingleton<PeopleIndex>()
            .AddSingleton<Forgetting>()
            .AddSingleton<SecretBook>()
            .AddSingleton<Sessions>()
            .AddSingleton<SignInLimit>()
            .AddSingleton<EditionBook>()
            .AddSingleton<ConnectorBook>()
            .AddSingleton<TargetMeter>()
            .AddSingleton<TargetDesk>()
            .AddSingleton<Figures>()
            .AddSingleton<Notifier>()
            .AddSingleton<StageEntry>()
            .AddSingleton<EntryFinder>()
            .AddSingleton<RequestDesk>()
            .AddSingleton<IOpenRequests>(p => p.GetRequiredService<RequestDesk>())
            .AddSingleton<HandRequests>()
            .AddSingleton<ManyRequests>()
            .AddSingleton<TaskDesk>()
            .AddSingleton<Attention>()
            .AddSingleton<TodayDesk>()
            .AddSingleton<SourceOpener>()
            .AddSingleton<RecordTaker>()
            .AddSingleton<PushBrake>()
            .AddSingleton<Baseline>()
            .AddSingleton<IntakeRunner>()
            .AddSingleton<SourceDesk>()
            .AddSingleton<Idempotency>()
            .AddSingleton<RehearsalDesk>()
            .AddSingleton<RollOutDesk>()
            .AddSingleton<RollOutViews>()
            .AddSingleton<PublishDesk>()
            .AddSingleton<CatalogueDesk>()
            .AddSingleton<HoldersDesk>()
            .AddSingleton<LiveSignal>();
    }

    private static void AddLoops(IServiceCollection services)
    {
        services
            .AddSingleton<ScimDesk>()
            .AddSingleton<Pressure>()
            .AddSingleton<GroupCommit>()
            .AddHostedService(p => p.GetRequiredService<GroupCommit>());
        services
            .AddSingleton<Aftermath>()
            .AddSingleton<TaskValues>()
            .AddSingleton<LeaveOutDesk>()
            .AddSingleton<OutcomeWriter>()
            .AddHostedService(p => p.GetRequiredService<OutcomeWriter>());
        AddLoop<PlannerLoop>(services);
        AddLoop<FulfilmentLoop>(services);
        services.AddSingleton<LookDesk>().AddSingleton<Reconciler>();
        AddLoop<LookLoop>(services);
        AddLoop<TargetLoop>(services);
        AddLoop<LinkLoop>(services);
        AddLoop<InstantLoop>(services);
        AddLoop<RollOutLoop>(services);
        AddLoop<Sealer>(services);
        AddLoop<HeadLoop>(services);
        AddLoop<RetentionLoop>(services);
        AddLoop<MailLoop>(services);
        AddLoop<Housekeeping>(services);
        AddLoop<SourceLoop>(services);
        AddLoop<ClockLoop>(services);
        AddLoop<HookLoop>(services);
        services
            .AddHttpClient(HookLoop.Client)
            .ConfigurePrimaryHttpMessageHandler(() =>
                new SocketsHttpHandler { AllowAutoRedirect = false, ConnectTimeout = TimeSpan.FromSeconds(10) }
            );
        AddLoop<WriteBackLoop>(services);
    }

    private static void AddSignIn(IServiceCollection services, ServiceOptions options)
    {
        services.AddDataProtection().SetApplicationName("oikonom").PersistKeysToFileSystem(new(Path.Combine(options.Data, "keys")));
        services
            .AddAuthentication("either")
            .AddPolicyScheme(
                "either",
                null,
                scheme =>
                    scheme.ForwardDefaultSelector = context =>
                        context.Request.Headers.ContainsKey("Authorization") && !context.Request.Path.StartsWithSegments("/scim")
                            ? TokenScheme.Name
                            : CookieAuthenticationDefaults.AuthenticationScheme
            )
            .AddScheme<AuthenticationSchemeOptions, TokenScheme>(TokenScheme.Name, null)
            .AddCookie(cookie =>
            {
                cookie.Cookie.Name = "oikonom";
                cookie.Cookie.HttpOnly = true;
                cookie.Cookie.SameSite = SameSiteMode.Strict;
                cookie.Cookie.SecurePolicy = options.IsSecure ? CookieSecurePolicy.Always : CookieSecurePolicy.SameAsRequest;
                cookie.ExpireTimeSpan = TimeSpan.FromHours(12);
                cookie.SlidingExpiration = true;
                cookie.Events.OnRedirectToLogin = context => Status(context.Response, 401);
                cookie.Events.OnRedirectToAccessDenied = context => Status(context.Response, 403);
                cookie.Events.OnValidatePrincipal = RefreshAsync;
            });
        if (options.OpenIdAuthority.Length > 0)
            OpenIdSignIn.Add(services, options);
        services.AddAuthorization(authorization =>
        {
            foreach (var (name, roles) in Roles.Policies)
                authorization.AddPolicy(name, policy => policy.RequireAuthenticatedUser().RequireRole(roles));
            authorization.FallbackPolicy = authorization.DefaultPolicy;
        });
    }

    private static void AddApi(IServiceCollection services)
    {
        services.Configure<RouteHandlerOptions>(handlers => handlers.ThrowOnBadRequest = true);
        services.Configure<JsonOptions>(json =>
            json.SerializerOptions.NumberHandling = System.Text.Json.Serialization.JsonNumberHandling.Strict
        );
        services.AddOpenApi(
            "v1",
            openApi =>
                openApi.AddDocumentTransformer(
                    (document, _, _) =>
                    {
                        document.Info.Title = "Oikonom";
                        document.Info.Version = "v1";
                        document.Info.Description =
                            "Coordinates the lifecycle of people's identities. Failures are problem details (RFC 9457) with a stable code.";
                        document.Servers = [];
                        return Task.CompletedTask;
                    }
                )
        );
    }

    /// <summary>The data folder holds keys: only its owner may look into it.</summary>
    /// <exception cref="ArgumentException">Others can.</exception>
    private static void PrepareFolder(ServiceOptions options)
    {
        const UnixFileMode own = UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute;
        const UnixFileMode others =
            UnixFileMode.GroupRead
            | UnixFileMode.GroupWrite
            | UnixFileMode.GroupExecute
            | UnixFileMode.OtherRead
            | UnixFileMode.OtherWrite
            | UnixFileMode.OtherExecute;
        Directory.CreateDirectory(options.Data, own);
        if ((File.GetUnixFileMode(options.Data) & others) != 0)
            throw new ArgumentException(
                $"The data folder {options.Data} holds keys, and others can look into it. Close it with: chmod 700 {options.Data}"
            );
        if (options.Store != "sqlite")
            return;
        var store = Path.Combine(options.Data, "oikonom.db");
        // The files beside it take their mode from it.
        using (
            new FileStream(
                store,
                new FileStreamOptions
                {
                    Mode = FileMode.OpenOrCreate,
                    Access = FileAccess.Write,
                    Share = FileShare.ReadWrite,
                    UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
                }
            )
        ) { }
        foreach (var file in new[] { store, store + "-wal", store + "-shm" }.Where(File.Exists))
            File.SetUnixFileMode(file, UnixFileMode.UserRead | UnixFileMode.UserWrite);
    }

    /// <summary>Whom X-Forwarded-For and -Proto are believed of: the proxies that are set, and nobody else.</summary>
    private static void AddProxies(IServiceCollection services, ServiceOptions options) =>
        services.Configure<ForwardedHeadersOptions>(forwarded =>
        {
            forwarded.ForwardedHeaders = ForwardedHeaders.XForwardedFor | ForwardedHeaders.XForwardedProto;
            forwarded.KnownProxies.Clear();
            forwarded.KnownIPNetworks.Clear();
            forwarded.ForwardLimit = null;
            foreach (var text in options.Proxies.Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries))
            {
                if (IPAddress.TryParse(text, out var address))
                    forwarded.KnownProxies.Add(address);
                else if (System.Net.IPNetwork.TryParse(text, out var network))
                    forwarded.KnownIPNetworks.Add(network);
                else
                    throw new ArgumentException($"--proxies takes addresses and networks such as 10.0.0.0/8; '{text}' is neither.");
            }
        });

    /// <summary>Traces and metrics go out only where the service was told to send them.</summary>
    /// <exception cref="ArgumentException">That is no address.</exception>
    private static void AddTelemetry(IServiceCollection services, ServiceOptions options)
    {
        if (options.Telemetry.Length == 0)
            return;
        if (!Uri.TryCreate(options.Telemetry, UriKind.Absolute, out var address) || address.Scheme is not ("http" or "https"))
            throw new ArgumentException($"--telemetry takes an address such as http://127.0.0.1:4318; '{options.Telemetry}' is none.");
        void To(OtlpExporterOptions exporter, string what) =>
            (exporter.Protocol, exporter.Endpoint) = (OtlpExportProtocol.HttpProtobuf, new Uri($"{options.Telemetry}/v1/{what}"));
        services
            .AddOpenTelemetry()
            .ConfigureResource(r => r.AddService("oikonom", serviceVersion: ServiceOptions.Version, serviceInstanceId: options.Node))
            .WithTracing(t => t.AddSource(Telemetry.Name).AddOtlpExporter(e => To(e, "traces")))
            .WithMetrics(m => m.AddMeter(Telemetry.Name).AddOtlpExporter(e => To(e, "metrics")));
    }

    private static void AddLoop<T>(IServiceCollection services)
        where T : Loop => services.AddSingleton<T>().AddHostedService(p => p.GetRequiredService<T>());

    private static Task Status(HttpResponse response, int status)
    {
        response.StatusCode = status;
        return Task.CompletedTask;
    }

    /// <summary>A changed role, a new password or an ended user takes effect with the next call.</summary>
    private static async Task RefreshAsync(CookieValidatePrincipalContext context)
    {
        var store = context.HttpContext.RequestServices.GetRequiredService<Store.Store>();
        var user = await store.ReadAsync(s => s.UserAsync(context.Principal!.UserName()), context.HttpContext.RequestAborted);
        if (
            user is not { Active: 1 }
            || user.Stamp != context.Principal!.FindFirst("stamp")?.Value
            || !await context
                .HttpContext.RequestServices.GetRequiredService<Sessions>()
                .IsOpenAsync(context.Principal, context.HttpContext.RequestAborted)
        )
            context.RejectPrincipal();
    }

    private static void Map(WebApplication app, ServiceOptions options)
    {
        var api = app.MapGroup("/api/v1");
        api.MapAccess();
        api.MapSecrets();
        api.MapOpenId(options);
        api.MapRulebook();
        api.MapRollOuts();
        api.MapIntake();
        api.MapPeople();
        api.MapFindings();
        api.MapHistory();
        api.MapRequests();
        api.MapLeavingOut();
        api.MapHandRequests();
        api.MapDelegations();
        api.MapTasks();
        api.MapToday();
        api.MapNotices();
        api.MapHooks();
        api.MapTargets();
        api.MapFigures();
        api.MapForgetting();
        api.MapLedger();
        api.MapLive();
        app.MapScim();
        app.MapOpenApi().AllowAnonymous();
        app.MapGet("/health/live", () => TypedResults.Ok()).AllowAnonymous().ExcludeFromDescription();
        app.MapGet(
                "/health/ready",
                async (Health health, CancellationToken cancel) =>
                {
                    var found = await health.LookAsync(cancel);
                    return Results.Json(found, statusCode: found.Ready ? 200 : 503);
                }
            )
            .AllowAnonymous()
            .ExcludeFromDescription();
        app.Map("/api/{**rest}", IResult () => throw Problem.NotFound("such address", "The API is described at /openapi/v1.json."))
            .AllowAnonymous()
            .ExcludeFromDescription()
            .Reaching(Reached.Own);
        app.MapConsolePages(options.Console);
    }

    private static async Task PrepareAsync(WebApplication app, ServiceOptions options)
    {
        var services = app.Services;
        services.GetRequiredService<Engine>().Migrate();
        services.GetRequiredService<SigningKey>();
        var store = services.GetRequiredService<Store.Store>();
        var time = services.GetRequiredService<TimeProvider>();
        await FirstUserAsync(store, options, time);
        var loops = new Loop[]
        {
            services.GetRequiredService<PlannerLoop>(),
            services.GetRequiredService<FulfilmentLoop>(),
            services.GetRequiredService<MailLoop>(),
            services.GetRequiredService<WriteBackLoop>(),
        };
        var signal = services.GetRequiredService<LiveSignal>();
        store.Committed += () =>
        {
            foreach (var loop in loops)
                loop.Wake();
            signal.Raise();
        };
    }

    /// <summary>A store without users gets those of the file that is set, or the user <c>setup</c>, who can make the others.</summary>
    private static Task FirstUserAsync(Store.Store store, ServiceOptions options, TimeProvider time) =>
        store.WriteAsync(async s =>
        {
            if ((await s.UsersAsync()).Count > 0)
                return;
            foreach (var user in FirstUsers(options))
            {
                await s.SaveUserAsync(
                    new()
                    {
                        Name = user.Name,
                        Display = user.Display ?? user.Name,
                        Mail = user.Mail ?? "",
                        Roles = string.Join(' ', user.Roles),
                        Number = user.Number ?? "",
                        PasswordHash = user.PasswordHash ?? Accounts.HashPassword(user.Password!),
                        Stamp = Guid.NewGuid().ToString("N"),
                        CreatedAt = time.Milliseconds(),
                    }
                );
                s.Record(
                    LedgerEntry.Of(
                        time.GetUtcNow(),
                        "oikonom",
                        "user.made",
                        null,
                        null,
                        ("user", user.Name),
                        ("roles", string.Join(' ', user.Roles))
                    )
                );
            }
        });

    private sealed record FirstUser(
        string Name,
        IReadOnlyList<string> Roles,
        string? Display,
        string? Mail,
        string? Number,
        string? Password,
        string? PasswordHash
    );

    private static IReadOnlyList<FirstUser> FirstUsers(ServiceOptions options)
    {
        if (options.FirstUsers.Length > 0)
        {
            List<FirstUser>? users;
            try
            {
                users = System.Text.Json.JsonSerializer.Deserialize<List<FirstUser>>(
                    File.ReadAllText(options.FirstUsers),
                    System.Text.Json.JsonSerializerOptions.Web
                );
            }
            catch (System.Text.Json.JsonException error)
            {
                throw new ArgumentException($"{options.FirstUsers} is no list of users: {error.Message}");
            }
            if (
                users is not { Count: > 0 }
                || users.Any(u =>
                    u?.Name is null
                    || UserNames.Fault(u.Name) is not null
                    || u.Roles is null
                    || u.Roles.Any(r => !Roles.All.Contains(r))
                    || (u.Password is null && u.PasswordHash is null)
                )
            )
                throw new ArgumentException(
                    $"Each user of {options.FirstUsers} has a 'name', 'roles', and a 'password' or 'passwordHash'."
                );
            return users;
        }
        var password = options.FirstPassword;
        if (password.Length == 0)
        {
            password = RandomNumberGenerator.GetHexString(20, lowercase: true);
            OwnFile.Write(Path.Combine(options.Data, "first-password"), password + "\n");
        }
        return [new("setup", [Roles.Engineer], "First user", null, null, password, null)];
    }
}

/// <summary>
/// A call that changes something with a session cookie must carry the header <c>X-Oikonom</c>, which no foreign
/// page can send; the cookie is SameSite=Strict besides. Tokens need none: no browser adds them by itself.
/// </summary>
public sealed class ForgeryGuard(RequestDelegate next)
{
    public Task InvokeAsync(HttpContext context)
    {
        var changes =
            !HttpMethods.IsGet(context.Request.Method)
            && !HttpMethods.IsHead(context.Request.Method)
            && !HttpMethods.IsOptions(context.Request.Method);
        if (
            changes
            && context.Request.Cookies.ContainsKey("oikonom")
            && !context.Request.Headers.ContainsKey("Authorization")
            && !context.Request.Headers.ContainsKey("X-Oikonom")
        )
            throw new Problem(
                403,
                "header-needed",
                "Not allowed",
                "A call that changes something from a browser session carries the header X-Oikonom."
            );
        return next(context);
    }
}
