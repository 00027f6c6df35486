using System.Security.Cryptography.X509Certificates;
using Oikonom.Ldap;
using Oikonom.Standins.Directory;

namespace Oikonom.Testing;

/// <summary>A private domain controller of the tests', and ways to it.</summary>
public sealed class DomainController : IAsyncDisposable
{
    public const string Base = "DC=northmere,DC=example";
    public const string Administrator = "administrator@northmere.example";
    public const string Password = DomainOptions.AdministratorPassword;
    private readonly ScratchFolder _folder = new();
    private DomainServer? _server;

    /// <summary>Why none can be started here, or null.</summary>
    public static string? Missing() => DomainServer.Missing();

    public LdapOptions Options
    {
        get
        {
            var authorities = new X509Certificate2Collection();
            authorities.ImportFromPem(AuthorityPem);
            return new()
            {
                Host = "127.0.0.1",
                Port = DomainOptions.LdapsPort,
                Authorities = authorities,
            };
        }
    }

    public string AuthorityPem => _server!.AuthorityPem;

    public static async Task<DomainController> StartAsync()
    {
        var controller = new DomainController();
        controller._server = await DomainServer.StartAsync(new(controller._folder.At("domain"), "northmere.example"));
        return controller;
    }

    public async Task<LdapConnection> ConnectAsync()
    {
        var connection = await LdapConnection.ConnectAsync(Options);
        await connection.BindAsync(Administrator, Password);
        return connection;
    }

    public async ValueTask DisposeAsync()
    {
        if (_server is not null)
            await _server.DisposeAsync();
        _folder.Dispose();
    }
}
