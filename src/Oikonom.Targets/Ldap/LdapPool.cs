using Oikonom.Core.Fulfilment;
using Oikonom.Ldap;

namespace Oikonom.Targets.Ldap;

/// <summary>What the connector needs to sign in. Read anew for each connection, so that a changed secret takes effect.</summary>
public sealed record LdapSignIn(LdapOptions Options, string Name, string Password);

/// <summary>A few connections, opened when needed and shared: each carries many operations at once.</summary>
internal sealed class LdapPool(int size, string title, Func<CancellationToken, Task<LdapSignIn>> signIn) : IAsyncDisposable
{
    private readonly LdapConnection?[] _connections = new LdapConnection?[size];
    private readonly SemaphoreSlim[] _gates = [.. Enumerable.Range(0, size).Select(_ => new SemaphoreSlim(1))];
    private int _next;
    private bool _closed;

    /// <exception cref="TargetFault">The pool was closed since: its target is set up anew, and the caller tries again.</exception>
    public async Task<LdapConnection> TakeAsync(CancellationToken cancel)
    {
        RequireOpen();
        var index = (Interlocked.Increment(ref _next) & int.MaxValue) % _connections.Length;
        if (_connections[index] is { IsOpen: true } open)
            return open;
        await _gates[index].WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            RequireOpen();
            if (_connections[index] is { IsOpen: true } other)
                return other;
            if (_connections[index] is { } lost)
                await lost.DisposeAsync().ConfigureAwait(false);
            _connections[index] = null;
            return _connections[index] = await OpenAsync(cancel).ConfigureAwait(false);
        }
        finally
        {
            _gates[index].Release();
        }
    }

    private async Task<LdapConnection> OpenAsync(CancellationToken cancel)
    {
        var wanted = await signIn(cancel).ConfigureAwait(false);
        var connection = await LdapConnection.ConnectAsync(wanted.Options, cancel).ConfigureAwait(false);
        try
        {
            await connection.BindAsync(wanted.Name, wanted.Password, cancel).ConfigureAwait(false);
            return connection;
        }
        catch (LdapResultException error)
        {
            await connection.DisposeAsync().ConfigureAwait(false);
            throw new TargetFault(
                error.Code == LdapCode.InvalidCredentials
                    ? $"{title} does not accept the password of {wanted.Name}. Set the right one with 'oikonom secrets set'."
                    : $"{title} refuses to let {wanted.Name} in: {error.Message}",
                transient: true,
                inner: error
            );
        }
        catch
        {
            await connection.DisposeAsync().ConfigureAwait(false);
            throw;
        }
    }

    private void RequireOpen()
    {
        if (_closed)
            throw new TargetFault($"{title} is being set up anew.", transient: true);
    }

    /// <summary>Closes all connections; whoever is opening one is waited for, so that none is left behind.</summary>
    public async ValueTask DisposeAsync()
    {
        _closed = true;
        for (var i = 0; i < _connections.Length; i++)
        {
            await _gates[i].WaitAsync().ConfigureAwait(false);
            if (_connections[i] is { } connection)
                await connection.DisposeAsync().ConfigureAwait(false);
            _gates[i].Release();
        }
    }
}
