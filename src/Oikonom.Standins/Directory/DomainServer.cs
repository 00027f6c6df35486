using System.Diagnostics;
using System.Net.Sockets;
using System.Text;

namespace Oikonom.Standins.Directory;

/// <summary>How a private domain controller is set up.</summary>
/// <param name="Folder">Where it keeps everything.</param>
/// <param name="Domain">The DNS name of its domain.</param>
public sealed record DomainOptions(string Folder, string Domain)
{
    public const int LdapsPort = 636;
    public const string AdministratorPassword = "Tide-and-Current-7";

    /// <summary>Changes (RFC 2849) it begins with.</summary>
    public string Tree { get; init; } = "";

    /// <summary>Who may see what was deleted and bring it back, beside administrators: a group by its sign in security descriptors,
    /// such as <c>AO</c> for account operators.</summary>
    public string Restorers { get; init; } = "";

    /// <summary>The distinguished name of the domain (RFC 2247).</summary>
    public string Base => string.Join(',', Domain.Split('.').Select(p => $"DC={p}"));
    public string Administrator => $"administrator@{Domain}";
}

/// <summary>A private domain controller on loopback. It takes the ports 389 and 636 and needs root.</summary>
public sealed class DomainServer : IAsyncDisposable
{
    private static readonly int[] Ports = [389, DomainOptions.LdapsPort];
    private readonly DomainOptions _options;
    private Process? _process;

    private DomainServer(DomainOptions options) => _options = options;

    public string AuthorityPem => File.ReadAllText(At("ca.pem"));

    /// <summary>Why none can be started here, or null.</summary>
    public static string? Missing()
    {
        if (!File.Exists("/usr/bin/samba-tool"))
            return "samba is not installed";
        if (!Environment.IsPrivilegedProcess)
            return "a domain controller needs root";
        foreach (var port in Ports)
            try
            {
                using var listener = new TcpListener(System.Net.IPAddress.Loopback, port);
                listener.Start();
            }
            catch (SocketException)
            {
                return $"port {port}, which it needs, is in use";
            }
        return null;
    }

    /// <summary>Makes the domain when the folder is new, then starts it and waits until it answers.</summary>
    /// <exception cref="InvalidOperationException">It could not be made or did not start.</exception>
    public static async Task<DomainServer> StartAsync(DomainOptions options, CancellationToken cancel = default)
    {
        var server = new DomainServer(options);
        try
        {
            if (!File.Exists(server.At("ready")))
                await server.MakeAsync(cancel);
            await server.OpenAsync(cancel);
            return server;
        }
        catch
        {
            await server.DisposeAsync();
            throw;
        }
    }

    private string At(params string[] parts) => Path.Combine([_options.Folder, .. parts]);

    private async Task MakeAsync(CancellationToken cancel)
    {
        var folder = _options.Folder;
        if (System.IO.Directory.Exists(folder))
            System.IO.Directory.Delete(folder, recursive: true);
        System.IO.Directory.CreateDirectory(folder, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        await RunAsync(
            cancel,
            "samba-tool",
            "domain",
            "provision",
            $"--realm={_options.Domain.ToUpperInvariant()}",
            $"--domain={_options.Domain.Split('.')[0].ToUpperInvariant()}",
            "--server-role=dc",
            "--dns-backend=NONE",
            $"--adminpass={DomainOptions.AdministratorPassword}",
            $"--targetdir={folder}",
            "--host-name=dc1",
            "--host-ip=127.0.0.1",
            "--option=interfaces=127.0.0.1/8",
            "--option=bind interfaces only=yes"
        );
        var certificates = Certificates.Make();
        await File.WriteAllTextAsync(At("ca.pem"), certificates.AuthorityPem, cancel);
        await File.WriteAllTextAsync(At("cert.pem"), certificates.CertificatePem, cancel);
        await File.WriteAllTextAsync(At("key.pem"), certificates.KeyPem, cancel);
        File.SetUnixFileMode(At("key.pem"), UnixFileMode.UserRead | UnixFileMode.UserWrite);
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
        var path = At("etc", "smb.conf");
        var text = await File.ReadAllTextAsync(path, cancel);
        await File.WriteAllTextAsync(path, text.Replace("[global]", settings, StringComparison.Ordinal), cancel);
        if (_options.Tree.Length > 0)
        {
            await File.WriteAllTextAsync(At("tree.ldif"), _options.Tree, cancel);
            await RunAsync(cancel, "ldbmodify", "-H", At("private", "sam.ldb"), At("tree.ldif"));
        }
        if (_options.Restorers.Length > 0)
            await LetRestoreAsync(cancel);
        await File.WriteAllTextAsync(At("ready"), "", cancel);
    }

    /// <summary>Lets more than administrators list deleted entries, and make them entries again (Reanimate-Tombstones).</summary>
    private async Task LetRestoreAsync(CancellationToken cancel)
    {
        const string All = "RPWPCCDCLCLORCWOWDSDSW";
        var descriptor = $"O:SYG:SYD:PAI(A;;{All};;;SY)(A;;{All};;;BA)(A;;LCLORP;;;{_options.Restorers})";
        var deleted =
            $"dn: CN=Deleted Objects,{_options.Base}\nchangetype: modify\nreplace: nTSecurityDescriptor\n"
            + $"nTSecurityDescriptor: {descriptor}\n";
        await File.WriteAllTextAsync(At("deleted.ldif"), deleted, cancel);
        var database = At("private", "sam.ldb");
        await RunAsync(cancel, "ldbmodify", "-H", database, "--controls=show_deleted:1", At("deleted.ldif"));
        var right = $"(OA;;CR;45ec5156-db7e-47bb-b53f-dbeb2d03c40f;;{_options.Restorers})";
        await RunAsync(cancel, "samba-tool", "dsacl", "set", "-H", database, $"--objectdn={_options.Base}", $"--sddl={right}");
    }

    private async Task OpenAsync(CancellationToken cancel)
    {
        var info = new ProcessStartInfo(
            "samba",
            ["-F", "-M", "single", "--no-process-group", "-s", At("etc", "smb.conf"), "--debug-stdout"]
        )
        {
            RedirectStandardError = true,
            RedirectStandardOutput = true,
            WorkingDirectory = "/",
        };
        _process = Process.Start(info) ?? throw new InvalidOperationException("samba did not start.");
        _process.OutputDataReceived += (_, _) => { };
        _process.ErrorDataReceived += (_, _) => { };
        _process.BeginOutputReadLine();
        _process.BeginErrorReadLine();
        for (var attempt = 0; ; attempt++)
        {
            try
            {
                using var client = new TcpClient();
                await client.ConnectAsync("127.0.0.1", DomainOptions.LdapsPort, cancel);
                return;
            }
            catch (SocketException) when (attempt < 300 && !_process.HasExited)
            {
                await Task.Delay(50, cancel);
            }
            catch (SocketException error)
            {
                throw new InvalidOperationException("samba did not answer within 15 s.", error);
            }
        }
    }

    private static async Task RunAsync(CancellationToken cancel, params string[] command)
    {
        var said = new StringBuilder();
        var info = new ProcessStartInfo(command[0], command[1..]) { RedirectStandardError = true, RedirectStandardOutput = true };
        info.WorkingDirectory = "/";
        using var process = Process.Start(info) ?? throw new InvalidOperationException($"{command[0]} did not start.");
        void Hear(object sender, DataReceivedEventArgs line)
        {
            lock (said)
                said.AppendLine(line.Data);
        }
        process.OutputDataReceived += Hear;
        process.ErrorDataReceived += Hear;
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        await process.WaitForExitAsync(cancel);
        if (process.ExitCode != 0)
            throw new InvalidOperationException($"{command[0]} ended with {process.ExitCode}: {said}");
    }

    public async ValueTask DisposeAsync()
    {
        if (_process is { HasExited: false })
        {
            _process.Kill(entireProcessTree: true);
            await _process.WaitForExitAsync();
        }
        _process?.Dispose();
        _process = null;
    }
}
