using Oikonom.Core.Time;

namespace Oikonom.Service.Common;

/// <summary>
/// The one way to run a background loop: work until nothing is left, then sleep until woken or until the beat.
/// A failure is logged and the loop goes on, ever slower.
/// </summary>
public abstract partial class Loop(TimeSpan beat, Pulse pulse, ILogger log) : BackgroundService
{
    /// <summary>How long one round may take before it counts as hanging.</summary>
    protected virtual TimeSpan Patience => TimeSpan.FromMinutes(3);

    private static readonly BackOff Resting = new(TimeSpan.FromSeconds(1), TimeSpan.FromSeconds(30));

    private string Name => GetType().Name;

    private readonly SemaphoreSlim _wake = new(0, 1);

    /// <summary>Does what is due. True when there may be more at once.</summary>
    protected abstract Task<bool> WorkAsync(CancellationToken cancel);

    public void Wake()
    {
        try
        {
            if (_wake.CurrentCount == 0)
                _wake.Release();
        }
        catch (SemaphoreFullException)
        {
            // Somebody else woke it at the same time.
        }
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await Task.Yield();
        var failures = 0;
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                pulse.Begin(Name, Patience);
                var more = await WorkAsync(stoppingToken);
                pulse.Good(Name);
                failures = 0;
                if (!more)
                    await _wake.WaitAsync(beat, stoppingToken);
            }
            catch (OperationCanceledException) when (stoppingToken.IsCancellationRequested)
            {
                return;
            }
            catch (Exception error)
            {
                failures++;
                pulse.Bad(Name, error.Message);
                LogFailure(log, Name, failures, error);
                await Task.Delay(Resting.After(failures - 1), stoppingToken);
            }
        }
    }

    /// <summary>Works on each by itself: one that fails is logged, and the others go on.</summary>
    protected async Task EachAsync<T>(IEnumerable<T> items, Func<T, Task> work, Func<T, Exception, Task>? atFault = null)
    {
        foreach (var item in items)
        {
            try
            {
                await work(item);
            }
            catch (Exception error) when (error is not OperationCanceledException && !IsStoreAway(error))
            {
                LogOne(log, Name, item?.ToString() ?? "", error);
                if (atFault is not null)
                    await atFault(item, error);
            }
        }
    }

    /// <summary>The same with all of them at once, where their decisions are committed together.</summary>
    protected Task EachAtOnceAsync<T>(IEnumerable<T> items, Func<T, Task> work, Func<T, Exception, Task>? atFault = null) =>
        Task.WhenAll(items.Select(item => EachAsync([item], work, atFault)));

    /// <summary>True when nothing can be done for anybody until the store is back.</summary>
    protected static bool IsStoreAway(Exception error) =>
        error
            is System.Data.Common.DbException { IsTransient: true }
                or Npgsql.NpgsqlException { InnerException: System.Net.Sockets.SocketException or IOException };

    [LoggerMessage(Level = LogLevel.Error, Message = "{Loop} could not deal with {Item}; the others go on")]
    private static partial void LogOne(ILogger log, string loop, string item, Exception error);

    [LoggerMessage(Level = LogLevel.Error, Message = "{Loop} failed ({Failures} in a row) and goes on")]
    private static partial void LogFailure(ILogger log, string loop, int failures, Exception error);
}
