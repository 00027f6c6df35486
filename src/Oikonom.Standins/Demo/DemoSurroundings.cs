using System.Net;
using Oikonom.Standins.Applications;
using Oikonom.Standins.Directory;
using Oikonom.Standins.Gates;
using Oikonom.Standins.Hr;
using Oikonom.Standins.Mail;

namespace Oikonom.Standins.Demo;

/// <summary>What stands around the service in the demo: a directory, a domain where it can be had, HR, mail, two applications,
/// gates.</summary>
internal sealed class DemoSurroundings : IAsyncDisposable
{
    private const string RecordsToken = "records-demo-token";
    private const string ShopToken = "shop-demo-token";
    private readonly List<IAsyncDisposable> _parts = [];

    private DirectoryServer? _directory;
    private ApplicationServer? _records;
    private ApplicationServer? _shop;
    private DomainServer? _office;

    private DemoSurroundings() { }

    /// <summary>Why the office domain does not run; null when it does.</summary>
    public string? WithoutOffice { get; private set; }

    /// <summary>What the service has to know to be let in, by the names that the rulebook uses.</summary>
    public IEnumerable<(string Name, string Value)> Secrets =>
        [
            ("directory-authority", _directory!.AuthorityPem),
            ("directory-password", _directory.Options.ServicePassword),
            ("records-authority", _records!.AuthorityPem),
            ("records-token", _records.Token),
            ("shop-authority", _shop!.AuthorityPem),
            ("shop-token", _shop.Token),
            .. _office is null
                ? Array.Empty<(string, string)>()
                : [("office-authority", _office.AuthorityPem), ("office-password", NorthmereDomain.ServicePassword)],
        ];

    public static async Task<DemoSurroundings> StartAsync(
        DemoOptions options,
        DateOnly firstDay,
        bool isNew,
        IReadOnlyList<(string Number, string Given, string Family, string Name)> leftBehind,
        string payrollKey,
        CancellationToken cancel
    )
    {
        var around = new DemoSurroundings();
        try
        {
            await around.BeginAsync(options, firstDay, isNew, leftBehind, payrollKey, cancel);
            return around;
        }
        catch
        {
            await around.DisposeAsync();
            throw;
        }
    }

    private async Task BeginAsync(
        DemoOptions options,
        DateOnly firstDay,
        bool isNew,
        IReadOnlyList<(string Number, string Given, string Family, string Name)> leftBehind,
        string payrollKey,
        CancellationToken cancel
    )
    {
        var people = Path.Combine(options.Northmere, "hr", "people.csv");
        WithoutOffice = options.Office ? DomainServer.Missing() : "it was left out";
        var office = WithoutOffice is null ? OfficeAsync(options, people, cancel) : null;
        _directory = Keep(
            await DirectoryServer.StartAsync(
                new(Path.Combine(options.Folder, "directory"), options.LdapPort, options.LdapsPort)
                {
                    Durable = true,
                    Tree = NorthmereTree.Ldif(people, leftBehind),
                },
                cancel
            )
        );
        var sink = Keep(new MailSink(options.SmtpPort));
        var hr = new HrService(Path.Combine(options.Northmere, "hr"), Path.Combine(options.Folder, "sources"), firstDay);
        if (isNew)
            hr.Export("people");
        var payroll = new HrPeople(payrollKey, TimeProvider.System);
        payroll.Set(HrPeople.Invent(60));
        await Web(
                options.HrPort,
                app =>
                {
                    hr.Map(app);
                    payroll.Map(app);
                }
            )
            .StartAsync(cancel);
        await Web(options.MailPagePort, app => app.MapMail(sink)).StartAsync(cancel);
        _records = await ApplicationAsync(NorthmereApplications.Records, options, options.RecordsPort, RecordsToken, people);
        _shop = await ApplicationAsync(NorthmereApplications.Shop, options, options.ShopPort, ShopToken, people);
        Keep(GateSystem.Start(Path.Combine(options.Folder, "files", "gates")));
        if (office is not null)
            _office = await office;
    }

    private async Task<DomainServer?> OfficeAsync(DemoOptions options, string people, CancellationToken cancel)
    {
        try
        {
            var domain = new DomainOptions(Path.Combine(options.Folder, "office"), NorthmereDomain.Domain)
            {
                Tree = NorthmereDomain.Ldif(people),
                Restorers = "AO",
            };
            return Keep(await DomainServer.StartAsync(domain, cancel));
        }
        catch (InvalidOperationException error)
        {
            WithoutOffice = error.Message;
            return null;
        }
    }

    private async Task<ApplicationServer> ApplicationAsync(ApplicationKind kind, DemoOptions options, int port, string token, string people)
    {
        var server = Keep(await ApplicationServer.StartAsync(kind, port, token, Path.Combine(options.Folder, kind.Name)));
        NorthmereApplications.Fill(server.Data, kind, people);
        return server;
    }

    private T Keep<T>(T part)
        where T : IAsyncDisposable
    {
        lock (_parts)
            _parts.Add(part);
        return part;
    }

    private WebApplication Web(int port, Action<WebApplication> map)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.ConfigureKestrel(kestrel => kestrel.Listen(IPAddress.Loopback, port));
        var app = Keep(builder.Build());
        map(app);
        return app;
    }

    public async ValueTask DisposeAsync()
    {
        for (var i = _parts.Count - 1; i >= 0; i--)
            await _parts[i].DisposeAsync();
    }
}
