using Oikonom.Testing;
using Xunit;

[assembly: AssemblyFixture(typeof(Oikonom.Service.Tests.Servers))]

namespace Oikonom.Service.Tests;

/// <summary>The servers all tests share: a directory and a PostgreSQL; each test has a service of its own.</summary>
public sealed class Servers : IAsyncLifetime
{
    public TestDirectory Directory { get; private set; } = null!;
    public PostgresServer Postgres { get; private set; } = null!;

    public async ValueTask InitializeAsync()
    {
        var directory = TestDirectory.StartAsync();
        Postgres = await PostgresServer.StartAsync();
        Directory = await directory;
    }

    public async ValueTask DisposeAsync()
    {
        await Directory.DisposeAsync();
        await Postgres.DisposeAsync();
    }

    public async Task<WorldOptions> OnAsync(string engine) =>
        new() { Store = engine == "postgres" ? await Postgres.NewDatabaseAsync() : "sqlite" };
}
