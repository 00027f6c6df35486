using System.Globalization;

namespace Oikonom.Service.Common;

/// <summary>How the service is set up: from OIKONOM_* in the environment, then from --name value on the command line.</summary>
public sealed record ServiceOptions
{
    public const string Version = "0.1.0";

    /// <summary>Address to listen on; loopback unless said otherwise.</summary>
    public string Listen { get; init; } = "http://127.0.0.1:7430";

    /// <summary>The address people reach the console by, for links in mails.</summary>
    public string Address { get; init; } = "";

    /// <summary>Folder of the embedded store and the keys.</summary>
    public string Data { get; init; } = "data";

    /// <summary><c>sqlite</c>, or a PostgreSQL connection string.</summary>
    public string Store { get; init; } = "sqlite";

    /// <summary>Folder the paths of file sources are relative to.</summary>
    public string Sources { get; init; } = "sources";

    /// <summary>Folder below which targets that take over files have theirs.</summary>
    public string Files { get; init; } = "files";

    /// <summary>Folder of the built console, or "" when it is served elsewhere.</summary>
    public string Console { get; init; } = "";

    /// <summary>host:port of the mail server; "" sends nothing and keeps the notices.</summary>
    public string Mail { get; init; } = "";
    public string MailFrom { get; init; } = "oikonom@localhost";

    /// <summary>True when the mail server is on this machine and speaks clear text; otherwise StartTLS is demanded.</summary>
    public bool MailClear { get; init; }
    public string Node { get; init; } = $"{Environment.MachineName}-{Environment.ProcessId}";

    /// <summary>Password of the user <c>setup</c>, made at the first start; one is made up when it is empty.</summary>
    public string FirstPassword { get; init; } = "";

    /// <summary>How long a claim on work holds, in seconds.</summary>
    public double LeaseSeconds { get; init; } = 30;
    public string LogLevel { get; init; } = "Information";

    /// <summary>How much room the disk of the data folder must have, in MB; with less the service is not ready.</summary>
    public long FreeMegabytes { get; init; } = 64;

    /// <summary>Addresses, or networks such as 10.0.0.0/8, of the proxies whose X-Forwarded-For and -Proto are believed, with
    /// commas between; "" believes nobody.</summary>
    public string Proxies { get; init; } = "";

    /// <summary>A JSON file that makes the first users of an empty store; "" makes the user <c>setup</c> alone.</summary>
    public string FirstUsers { get; init; } = "";

    /// <summary>A file to which each signed head of the ledger that is published is added, such as one on a medium that takes
    /// back nothing; "" for none.</summary>
    public string Heads { get; init; } = "";

    /// <summary>Where traces and metrics go by OTLP over HTTP, such as http://127.0.0.1:4318; "" tells nobody.</summary>
    public string Telemetry { get; init; } = "";

    /// <summary>For demos and tests on one machine: a file with the seconds by which the clock is ahead; "" for the right time.</summary>
    public string ClockFile { get; init; } = "";

    /// <summary>After how many hours a sign-in ends, also when it is used.</summary>
    public double SessionHours { get; init; } = 24;

    /// <summary>How often a head of the ledger is published, in hours.</summary>
    public double HeadHours { get; init; } = 24;

    /// <summary>Address of an OpenID provider, or "" for own accounts alone; https, or http on this machine.</summary>
    public string OpenIdAuthority { get; init; } = "";
    public string OpenIdClient { get; init; } = "oikonom";
    public string OpenIdSecret { get; init; } = "";

    /// <summary>Which groups of the provider give which role: <c>group=role</c>, with semicolons between.</summary>
    public string OpenIdRoles { get; init; } = "";

    /// <summary>True when people reach the service by https alone: cookies then never go in clear.</summary>
    public bool IsSecure => Address.StartsWith("https://", StringComparison.OrdinalIgnoreCase);

    public string PublicAddress => Address.Length > 0 ? Address.TrimEnd('/') : Listen.TrimEnd('/');

    public static ServiceOptions From(IConfiguration configuration)
    {
        var options = new ServiceOptions();
        double Number(string name, double otherwise, double least, double most) =>
            double.TryParse(configuration[name] ?? configuration[name.Replace('-', '_')], CultureInfo.InvariantCulture, out var given)
                ? Math.Clamp(given, least, most)
                : otherwise;
        return options with
        {
            Listen = configuration["listen"] ?? options.Listen,
            Address = configuration["address"] ?? options.Address,
            Data = configuration["data"] ?? options.Data,
            Store = configuration["store"] ?? options.Store,
            Sources = configuration["sources"] ?? options.Sources,
            Files = configuration["files"] ?? options.Files,
            Console = configuration["console"] ?? options.Console,
            Mail = configuration["mail"] ?? options.Mail,
            MailFrom = configuration["mail-from"] ?? configuration["mail_from"] ?? options.MailFrom,
            MailClear = (configuration["mail-clear"] ?? configuration["mail_clear"]) is "true" or "1" or "yes",
            Node = configuration["node"] ?? options.Node,
            FirstPassword = configuration["first-password"] ?? configuration["first_password"] ?? "",
            LeaseSeconds = double.TryParse(
                configuration["lease-seconds"] ?? configuration["lease_seconds"],
                CultureInfo.InvariantCulture,
                out var lease
            )
                ? Math.Clamp(lease, 0.5, 600)
                : options.LeaseSeconds,
            OpenIdAuthority = (configuration["openid-authority"] ?? configuration["openid_authority"] ?? "").TrimEnd('/'),
            OpenIdClient = configuration["openid-client"] ?? configuration["openid_client"] ?? options.OpenIdClient,
            OpenIdSecret = configuration["openid-secret"] ?? configuration["openid_secret"] ?? "",
            OpenIdRoles = configuration["openid-roles"] ?? configuration["openid_roles"] ?? "",
            FreeMegabytes = long.TryParse(configuration["free-megabytes"] ?? configuration["free_megabytes"], out var free)
                ? free
                : options.FreeMegabytes,
            Proxies = configuration["proxies"] ?? "",
            FirstUsers = configuration["first-users"] ?? configuration["first_users"] ?? "",
            Heads = configuration["heads"] ?? "",
            Telemetry = (configuration["telemetry"] ?? "").TrimEnd('/'),
            ClockFile = configuration["clock-file"] ?? configuration["clock_file"] ?? "",
            SessionHours = Number("session-hours", options.SessionHours, 0.0001, 720),
            HeadHours = Number("head-hours", options.HeadHours, 0.0001, 720),
            LogLevel = configuration["log-level"] ?? configuration["log_level"] ?? options.LogLevel,
        };
    }
}
