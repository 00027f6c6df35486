using Oikonom.Testing;
using Xunit;

[assembly: AssemblyFixture(typeof(Oikonom.Ldap.Tests.DirectoryFixture))]

namespace Oikonom.Ldap.Tests;

public sealed class DirectoryFixture : IAsyncLifetime
{
    public TestDirectory Directory { get; private set; } = null!;

    public async ValueTask InitializeAsync() => Directory = await TestDirectory.StartAsync();

    public ValueTask DisposeAsync() => Directory.DisposeAsync();
}
