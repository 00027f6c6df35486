using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using System.Text;

namespace Oikonom.Standins.Directory;

/// <summary>How a private directory server is set up.</summary>
public sealed record DirectoryOptions(string Folder, int LdapPort, int LdapsPort)
{
    public const string Suffix = "dc=northmere,dc=example";
    public const string People = "ou=people," + Suffix;
    public const string Groups = "ou=groups," + Suffix;
    public const string ServiceName = "cn=oikonom,ou=services," + Suffix;
    public const string Nobody = "cn=nobody,ou=services," + Suffix;
    public const string RootName = "cn=root," + Suffix;

    public string ServicePassword { get; init; } = "service-password";
    public string RootPassword { get; init; } = "root-password";

    /// <summary>False leaves out the sync to disk at each change: faster, and fair to compare with.</summary>
    public bool Durable { get; init; }

    /// <summary>Entries beside the containers and the service account, as LDIF.</summary>
    public string Tree { get; init; } = "";
    public Certificates? Certificates { get; init; }
}

/// <summary>A private OpenLDAP server on loopback with TLS, in a folder of its own.</summary>
public sealed class DirectoryServer : IAsyncDisposable
{
    private readonly DirectoryOptions _options;
    private Process? _process;

    private DirectoryServer(DirectoryOptions options, string authorityPem)
    {
        _options = options;
        AuthorityPem = authorityPem;
    }

    public string AuthorityPem { get; }
    public DirectoryOptions Options => _options;
    public bool IsRunning => _process is { HasExited: false };

    private const int FirstPort = 20_000;
    private const int Ports = 12_000;
    private static int _lastPort = Random.Shared.Next(Ports);

    /// <summary>A port nobody listens on, never given twice; below those that outgoing connections take by themselves.</summary>
    public static int FreePort()
    {
        while (true)
        {
            var port = FirstPort + (Interlocked.Increment(ref _lastPort) & int.MaxValue) % Ports;
            try
            {
                using var listener = new TcpListener(IPAddress.Loopback, port);
                listener.Start();
                return port;
            }
            catch (SocketException)
            {
                // Somebody has it; the next one may be free.
            }
        }
    }

    /// <summary>Makes the folder when it is new, then starts the server and waits until it answers.</summary>
    public static async Task<DirectoryServer> StartAsync(DirectoryOptions options, CancellationToken cancel = default)
    {
        var configuration = Path.Combine(options.Folder, "config");
        var authorityFile = Path.Combine(options.Folder, "ca.pem");
        if (!System.IO.Directory.Exists(configuration))
            await CreateAsync(options, configuration, authorityFile, cancel);
        var server = new DirectoryServer(options, await File.ReadAllTextAsync(authorityFile, cancel));
        await server.StartAsync(cancel);
        return server;
    }

    public async Task StartAsync(CancellationToken cancel = default)
    {
        var info = new ProcessStartInfo(
            "/usr/sbin/slapd",
            [
                "-F",
                Path.Combine(_options.Folder, "config"),
                "-h",
                $"ldap://127.0.0.1:{_options.LdapPort} ldaps://127.0.0.1:{_options.LdapsPort}",
                "-d",
                "0",
            ]
        )
        {
            RedirectStandardError = true,
            RedirectStandardOutput = true,
        };
        _process = Process.Start(info) ?? throw new InvalidOperationException("slapd did not start.");
        _process.ErrorDataReceived += (_, _) => { };
        _process.OutputDataReceived += (_, _) => { };
        _process.BeginErrorReadLine();
        _process.BeginOutputReadLine();
        for (var attempt = 0; attempt < 200; attempt++)
        {
            if (_process.HasExited)
                throw new InvalidOperationException(
                    $"slapd ended at once with exit code {_process.ExitCode}; are the ports {_options.LdapPort} and "
                        + $"{_options.LdapsPort} free?"
                );
            try
            {
                using var client = new TcpClient();
                await client.ConnectAsync(IPAddress.Loopback, _options.LdapsPort, cancel);
                return;
            }
            catch (SocketException)
            {
                await Task.Delay(25, cancel);
            }
        }
        throw new TimeoutException("slapd did not answer within 5 s.");
    }

    /// <summary>The server stands still: it takes connections, and answers nothing.</summary>
    public Task HoldAsync() => SignalAsync("STOP");

    /// <summary>The server goes on where it stood.</summary>
    public Task GoOnAsync() => SignalAsync("CONT");

    private async Task SignalAsync(string signal)
    {
        var id = _process!.Id.ToString(System.Globalization.CultureInfo.InvariantCulture);
        using var kill = Process.Start("kill", [$"-{signal}", id]);
        await kill.WaitForExitAsync();
    }

    public async Task StopAsync()
    {
        if (_process is not { } process)
            return;
        _process = null;
        if (!process.HasExited)
        {
            using var kill = Process.Start("kill", [process.Id.ToString(System.Globalization.CultureInfo.InvariantCulture)]);
            using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(10));
            try
            {
                await process.WaitForExitAsync(limit.Token);
            }
            catch (OperationCanceledException)
            {
                process.Kill();
            }
        }
        process.Dispose();
    }

    public async ValueTask DisposeAsync() => await StopAsync();

    private static async Task CreateAsync(DirectoryOptions options, string configuration, string authorityFile, CancellationToken cancel)
    {
        if (!File.Exists("/usr/sbin/slapd"))
            throw new InvalidOperationException(
                "The directory server is not installed. Run 'make install', or install the packages slapd, slapd-contrib and ldap-utils."
            );
        System.IO.Directory.CreateDirectory(Path.Combine(options.Folder, "data"));
        var certificates = options.Certificates ?? Certificates.Make();
        await File.WriteAllTextAsync(authorityFile, certificates.AuthorityPem, cancel);
        await File.WriteAllTextAsync(Path.Combine(options.Folder, "server.pem"), certificates.CertificatePem, cancel);
        await File.WriteAllTextAsync(Path.Combine(options.Folder, "server.key"), certificates.KeyPem, cancel);
        File.SetUnixFileMode(Path.Combine(options.Folder, "server.key"), UnixFileMode.UserRead | UnixFileMode.UserWrite);
        var building = configuration + ".new";
        System.IO.Directory.CreateDirectory(building);
        await AddAsync(["-n", "0", "-F", building], Configuration(options), cancel);
        await AddAsync(["-n", "1", "-F", building], Base(options) + options.Tree, cancel);
        System.IO.Directory.Move(building, configuration);
    }

    private static async Task AddAsync(string[] arguments, string ldif, CancellationToken cancel)
    {
        using var process = Process.Start(
            new ProcessStartInfo("/usr/sbin/slapadd", [.. arguments, "-q"]) { RedirectStandardInput = true, RedirectStandardError = true }
        )!;
        var errors = process.StandardError.ReadToEndAsync(cancel);
        await process.StandardInput.WriteAsync(ldif.AsMemory(), cancel);
        process.StandardInput.Close();
        await process.WaitForExitAsync(cancel);
        if (process.ExitCode != 0)
            throw new InvalidOperationException($"The directory could not be filled: {await errors}");
    }

    private static string Configuration(DirectoryOptions o)
    {
        var folder = o.Folder;
        return $"""
                dn: cn=config
                objectClass: olcGlobal
                cn: config
                olcPidFile: {folder}/slapd.pid
                olcTLSCACertificateFile: {folder}/ca.pem
                olcTLSCertificateFile: {folder}/server.pem
                olcTLSCertificateKeyFile: {folder}/server.key
                olcSecurity: update_ssf=1 simple_bind=1
                olcConnMaxPendingAuth: 5000

                dn: cn=module{"{0}"},cn=config
                objectClass: olcModuleList
                cn: module{"{0}"}
                olcModulePath: /usr/lib/ldap
                olcModuleLoad: back_mdb
                olcModuleLoad: memberof
                olcModuleLoad: refint
                olcModuleLoad: ppolicy
                olcModuleLoad: syncprov

                dn: cn=schema,cn=config
                objectClass: olcSchemaConfig
                cn: schema

                include: file:///etc/ldap/schema/core.ldif
                include: file:///etc/ldap/schema/cosine.ldif
                include: file:///etc/ldap/schema/inetorgperson.ldif
                include: file:///etc/ldap/schema/nis.ldif

                dn: olcDatabase={"{-1}"}frontend,cn=config
                objectClass: olcDatabaseConfig
                objectClass: olcFrontendConfig
                olcDatabase: {"{-1}"}frontend
                olcSizeLimit: 500

                dn: olcDatabase={"{0}"}config,cn=config
                objectClass: olcDatabaseConfig
                olcDatabase: {"{0}"}config
                olcAccess: to * by * none

                {Database(o)}
                """ + "\n";
    }

    private static string Database(DirectoryOptions o)
    {
        var write = $"by dn.exact=\"{DirectoryOptions.ServiceName}\" write";
        return $"""
            dn: olcDatabase={"{1}"}mdb,cn=config
            objectClass: olcDatabaseConfig
            objectClass: olcMdbConfig
            olcDatabase: {"{1}"}mdb
            olcSuffix: {DirectoryOptions.Suffix}
            olcRootDN: {DirectoryOptions.RootName}
            olcRootPW: {o.RootPassword}
            olcDbDirectory: {o.Folder}/data
            olcDbMaxSize: 4294967296
            {(o.Durable ? "olcDbCheckpoint: 1024 5" : "olcDbEnvFlags: nosync")}
            olcDbIndex: objectClass,entryUUID,entryCSN,uid,employeeNumber,member,memberOf eq
            olcDbIndex: cn,sn,mail eq,sub
            olcLastBind: TRUE
            olcLimits: dn.exact="{DirectoryOptions.ServiceName}" size=unlimited time=unlimited
            olcAccess: to attrs=userPassword {write} by self write by anonymous auth by * none
            olcAccess: to dn.subtree="{DirectoryOptions.People}" {write} by users read by * none
            olcAccess: to dn.subtree="{DirectoryOptions.Groups}" {write} by users read by * none
            olcAccess: to * by users read by * none

            dn: olcOverlay={"{0}"}memberof,olcDatabase={"{1}"}mdb,cn=config
            objectClass: olcOverlayConfig
            objectClass: olcMemberOf
            olcOverlay: {"{0}"}memberof
            olcMemberOfRefInt: TRUE

            dn: olcOverlay={"{1}"}ppolicy,olcDatabase={"{1}"}mdb,cn=config
            objectClass: olcOverlayConfig
            objectClass: olcPPolicyConfig
            olcOverlay: {"{1}"}ppolicy
            olcPPolicyHashCleartext: TRUE
            olcPPolicyDefault: cn=default,ou=policies,{DirectoryOptions.Suffix}

            dn: olcOverlay={"{2}"}syncprov,olcDatabase={"{1}"}mdb,cn=config
            objectClass: olcOverlayConfig
            objectClass: olcSyncProvConfig
            olcOverlay: {"{2}"}syncprov
            """;
    }

    private static string Base(DirectoryOptions o)
    {
        var ldif = new StringBuilder();
        ldif.Append(
            $"""
            dn: {DirectoryOptions.Suffix}
            objectClass: organization
            objectClass: dcObject
            dc: northmere
            o: Northmere

            dn: {DirectoryOptions.People}
            objectClass: organizationalUnit
            ou: people

            dn: {DirectoryOptions.Groups}
            objectClass: organizationalUnit
            ou: groups

            dn: ou=services,{DirectoryOptions.Suffix}
            objectClass: organizationalUnit
            ou: services

            dn: ou=policies,{DirectoryOptions.Suffix}
            objectClass: organizationalUnit
            ou: policies

            dn: cn=default,ou=policies,{DirectoryOptions.Suffix}
            objectClass: organizationalRole
            objectClass: pwdPolicy
            cn: default
            pwdAttribute: userPassword
            pwdMustChange: TRUE
            pwdLockout: TRUE
            pwdAllowUserChange: TRUE

            dn: {DirectoryOptions.ServiceName}
            objectClass: organizationalRole
            objectClass: simpleSecurityObject
            cn: oikonom
            userPassword: {o.ServicePassword}

            dn: {DirectoryOptions.Nobody}
            objectClass: organizationalRole
            cn: nobody

            """
        );
        return ldif.Append('\n').ToString();
    }
}
