using System.Data.Common;
using Dapper;

namespace Oikonom.Store;

/// <summary>The store: reads, and decisions that commit as one.</summary>
public sealed class Store : IAsyncDisposable
{
    private const int MaxTries = 5;
    private readonly Engine _engine;
    private readonly TimeProvider _time;
    private readonly SemaphoreSlim _gate = new(1);
    private DbConnection? _writer;

    static Store() => DefaultTypeMap.MatchNamesWithUnderscores = true;

    /// <summary>A store on an engine.</summary>
    public Store(Engine engine, TimeProvider time)
    {
        _engine = engine;
        _time = time;
    }

    /// <summary>The engine it runs on.</summary>
    public Engine Engine => _engine;

    /// <summary>Raised after a decision committed; loops look for work, streams for hints.</summary>
    public event Action? Committed;

    /// <summary>Reads. Between two statements others may write; what must fit together is read by <see cref="SnapshotAsync"/>.</summary>
    public async Task<T> ReadAsync<T>(Func<Session, Task<T>> work, CancellationToken cancel = default)
    {
        var connection = await _engine.OpenAsync(cancel).ConfigureAwait(false);
        await using var _ = connection.ConfigureAwait(false);
        return await work(new(_engine, connection, null)).ConfigureAwait(false);
    }

    /// <summary>Reads all of it as of one instant, whoever writes meanwhile.</summary>
    public Task<T> SnapshotAsync<T>(Func<Session, Task<T>> work, CancellationToken cancel = default) =>
        ReadAsync(
            async session =>
            {
                await session.ExecuteAsync(_engine.BeginSnapshot).ConfigureAwait(false);
                try
                {
                    return await work(session).ConfigureAwait(false);
                }
                finally
                {
                    await session.ExecuteAsync("ROLLBACK").ConfigureAwait(false);
                }
            },
            cancel
        );

    /// <summary>One transaction: what <paramref name="work"/> did, the ledger, the hints and the notices, or nothing.</summary>
    public async Task<T> WriteAsync<T>(Func<Session, Task<T>> work, CancellationToken cancel = default)
    {
        for (var attempt = 1; ; attempt++)
        {
            try
            {
                var (result, wakes) = _engine.SingleWriter
                    ? await WriteAloneAsync(work, cancel).ConfigureAwait(false)
                    : await WriteSharedAsync(work, cancel).ConfigureAwait(false);
                if (wakes)
                    Committed?.Invoke();
                return result;
            }
            catch (Exception error) when (_engine.IsRace(error) && attempt < MaxTries)
            {
                await Task.Delay(TimeSpan.FromMilliseconds(5 * attempt * attempt), cancel).ConfigureAwait(false);
            }
        }
    }

    /// <summary>Decides: all of it is written, or nothing.</summary>
    public Task WriteAsync(Func<Session, Task> work, CancellationToken cancel = default) =>
        WriteAsync(
            async session =>
            {
                await work(session).ConfigureAwait(false);
                return true;
            },
            cancel
        );

    private async Task<(T, bool)> WriteAloneAsync<T>(Func<Session, Task<T>> work, CancellationToken cancel)
    {
        await _gate.WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            _writer ??= await OpenWriterAsync(cancel).ConfigureAwait(false);
            return await InTransactionAsync(_writer, work, cancel).ConfigureAwait(false);
        }
        finally
        {
            _gate.Release();
        }
    }

    /// <summary>The one writer gets room for a large transaction, so that its pages are written once.</summary>
    private async Task<DbConnection> OpenWriterAsync(CancellationToken cancel)
    {
        var connection = await _engine.OpenAsync(cancel).ConfigureAwait(false);
        await connection.ExecuteAsync("PRAGMA cache_size=-131072").ConfigureAwait(false);
        return connection;
    }

    private async Task<(T, bool)> WriteSharedAsync<T>(Func<Session, Task<T>> work, CancellationToken cancel)
    {
        var connection = await _engine.OpenAsync(cancel).ConfigureAwait(false);
        await using var _ = connection.ConfigureAwait(false);
        return await InTransactionAsync(connection, work, cancel).ConfigureAwait(false);
    }

    private async Task<(T, bool)> InTransactionAsync<T>(DbConnection connection, Func<Session, Task<T>> work, CancellationToken cancel)
    {
        var transaction = await _engine.BeginAsync(connection, cancel).ConfigureAwait(false);
        await using var _ = transaction.ConfigureAwait(false);
        var session = new Session(_engine, connection, transaction);
        var result = await work(session).ConfigureAwait(false);
        await session.FlushAsync(_time.GetUtcNow().ToUnixTimeMilliseconds()).ConfigureAwait(false);
        await transaction.CommitAsync(cancel).ConfigureAwait(false);
        return (result, session.Wakes);
    }

    /// <summary>Ends all connections.</summary>
    public async ValueTask DisposeAsync()
    {
        if (_writer is not null)
            await _writer.DisposeAsync().ConfigureAwait(false);
        if (_engine is IAsyncDisposable disposable)
            await disposable.DisposeAsync().ConfigureAwait(false);
        _gate.Dispose();
    }
}
