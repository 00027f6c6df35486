namespace Oikonom.Service.Hosting;

/// <summary>
/// The one way to run a background loop: work until nothing is left, then sleep until woken or until the beat.
/// A failure is logged and the loop goes on, ever slower.
/// </summary>
public abstract partial class Loop(TimeSpan beat, ILogger log) : BackgroundService
{
    private readonly SemaphoreSlim _wake = new(0, 1);

    /// <summary>Does what is due. True when there may be more at once.</summary>
    protected abstract Task<bool> WorkAsync(CancellationToken cancel);

    public void Wake()
    {
        try
        {
            if (_wake.CurrentCount == 0) _wake.Release();
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
                var more = await WorkAsync(stoppingToken);
                failures = 0;
                if (!more) await _wake.WaitAsync(beat, stoppingToken);
            }
            catch (OperationCanceledException) when (stoppingToken.IsCancellationRequested)
            {
                return;
            }
            catch (Exception error)
            {
                failures++;
                LogFailure(log, GetType().Name, failures, error);
                await Task.Delay(TimeSpan.FromSeconds(Math.Min(30, Math.Pow(2, failures - 1))), stoppingToken);
            }
        }
    }

    [LoggerMessage(Level = LogLevel.Error, Message = "{Loop} failed ({Failures} in a row) and goes on")]
    private static partial void LogFailure(ILogger log, string loop, int failures, Exception error);
}
