using System.Security.Cryptography.X509Certificates;
using Oikonom.Ldap;
using Oikonom.Standins.Directory;

namespace Oikonom.Testing;

/// <summary>A private directory server for one test assembly, with the groups of Northmere and nobody in it.</summary>
public sealed class TestDirectory : IAsyncDisposable
{
    private readonly ScratchFolder _folder;

    private TestDirectory(ScratchFolder folder, DirectoryServer server)
    {
        _folder = folder;
        Server = server;
    }

    public DirectoryServer Server { get; }
    public int LdapsPort => Server.Options.LdapsPort;

    public static async Task<TestDirectory> StartAsync(string? tree = null, Certificates? certificates = null, bool durable = false)
    {
        var folder = new ScratchFolder();
        var server = await DirectoryServer.StartAsync(
            new(folder.At("directory"), DirectoryServer.FreePort(), DirectoryServer.FreePort())
            {
                Tree = tree ?? NorthmereTree.Ldif("", []),
                Certificates = certificates,
                Durable = durable,
            }
        );
        return new(folder, server);
    }

    public X509Certificate2Collection Authorities
    {
        get
        {
            var authorities = new X509Certificate2Collection();
            authorities.ImportFromPem(Server.AuthorityPem);
            return authorities;
        }
    }

    public LdapOptions Options =>
        new()
        {
            Host = "127.0.0.1",
            Port = LdapsPort,
            Authorities = Authorities,
            OperationTimeout = TimeSpan.FromSeconds(20),
        };

    public async Task<LdapConnection> ConnectAsync(LdapOptions? options = null)
    {
        var connection = await LdapConnection.ConnectAsync(options ?? Options);
        await connection.BindAsync(DirectoryOptions.ServiceName, Server.Options.ServicePassword);
        return connection;
    }

    public async Task<LdapConnection> ConnectAsRootAsync()
    {
        var connection = await LdapConnection.ConnectAsync(Options);
        await connection.BindAsync(DirectoryOptions.RootName, Server.Options.RootPassword);
        return connection;
    }

    public static string Dn(string name) => LdapDn.Child("uid", name, DirectoryOptions.People);

    public static IEnumerable<LdapAttribute> Person(string name, string number = "") =>
        new LdapAttribute[] { new("objectClass", "inetOrgPerson"), new("uid", name), new("cn", name), new("sn", name) }.Concat(
            number.Length > 0 ? [new LdapAttribute("employeeNumber", number)] : []
        );

    public async ValueTask DisposeAsync()
    {
        await Server.DisposeAsync();
        _folder.Dispose();
    }
}
