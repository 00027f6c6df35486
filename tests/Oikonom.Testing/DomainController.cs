using System.Diagnostics;
using System.Net.Sockets;
using System.Security.Cryptography.X509Certificates;
using Oikonom.Ldap;
using Oikonom.Standins.Directory;

namespace Oikonom.Testing;

/// <summary>A private domain controller on loopback. It takes the ports 389 and 636 and needs root.</summary>
public sealed class DomainController : IAsyncDisposable
{
    public const string Base = "DC=northmere,DC=example";
    public const string Administrator = "administrator@northmere.example";
    public const string Password = "Tide-and-Current-7";
    private readonly ScratchFolder _folder = new();
    private readonly Certificates _certificates = Certificates.Make();
    private Process? _process;

    /// <summary>Why none can be started here, or null.</summary>
    public static string? Missing() =>
        !File.Exists("/usr/bin/samba-tool") ? "samba is not installed"
        : !Environment.IsPrivilegedProcess ? "a domain controller needs root"
        : null;

    public LdapOptions Options
    {
        get
        {
            var authorities = new X509Certificate2Collection();
            authorities.ImportFromPem(_certificates.AuthorityPem);
            return new()
            {
                Host = "127.0.0.1",
                Port = 636,
                Authorities = authorities,
            };
        }
    }

    public static async Task<DomainController> StartAsync()
    {
        var controller = new DomainController();
        await controller.OpenAsync();
        return controller;
    }

    private async Task OpenAsync()
    {
        var folder = _folder.Path;
        await Child.RunAsync(
            "samba-tool",
            "domain",
            "provision",
            "--realm=NORTHMERE.EXAMPLE",
            "--domain=NORTHMERE",
            "--server-role=dc",
            "--dns-backend=NONE",
            $"--adminpass={Password}",
            $"--targetdir={folder}",
            "--host-name=dc1",
            "--host-ip=127.0.0.1",
            "--option=interfaces=127.0.0.1/8",
            "--option=bind interfaces only=yes"
        );
        foreach (
            var (file, text) in new[]
            {
                ("ca.pem", _certificates.AuthorityPem),
                ("cert.pem", _certificates.CertificatePem),
                ("key.pem", _certificates.KeyPem),
            }
        )
            await File.WriteAllTextAsync(_folder.At(file), text);
        File.SetUnixFileMode(_folder.At("key.pem"), UnixFileMode.UserRead | UnixFileMode.UserWrite);
        var path = _folder.At("etc", "smb.conf");
        var settings = string.Join(
            '\n',
            "[global]",
            "server services = ldap",
            $"tls keyfile = {folder}/key.pem",
            $"tls certfile = {folder}/cert.pem",
            $"tls cafile = {folder}/ca.pem",
            $"pid directory = {folder}",
            $"ncalrpc dir = {folder}/ncalrpc",
            $"ntp signd socket directory = {folder}/ntp",
            $"winbindd socket directory = {folder}/winbindd"
        );
        await File.WriteAllTextAsync(path, (await File.ReadAllTextAsync(path)).Replace("[global]", settings, StringComparison.Ordinal));
        _process = Child.Start("samba", "-F", "-M", "single", "--no-process-group", "-s", path, "--debug-stdout");
        for (var attempt = 0; ; attempt++)
        {
            try
            {
                using var client = new TcpClient();
                await client.ConnectAsync("127.0.0.1", 636);
                return;
            }
            catch (SocketException) when (attempt < 300 && !_process.HasExited)
            {
                await Task.Delay(50);
            }
        }
    }

    public async Task<LdapConnection> ConnectAsync()
    {
        var connection = await LdapConnection.ConnectAsync(Options);
        await connection.BindAsync(Administrator, Password);
        return connection;
    }

    public async ValueTask DisposeAsync()
    {
        if (_process is { HasExited: false })
        {
            _process.Kill(entireProcessTree: true);
            await _process.WaitForExitAsync();
        }
        _process?.Dispose();
        _folder.Dispose();
    }
}
