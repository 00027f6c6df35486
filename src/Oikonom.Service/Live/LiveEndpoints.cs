using System.Net.ServerSentEvents;
using System.Runtime.CompilerServices;
using Oikonom.Contracts;
using Oikonom.Service.Hosting;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Live;

/// <summary>Wakes waiting streams when this node commits; streams also look by themselves, for other nodes.</summary>
public sealed class LiveSignal
{
    private TaskCompletionSource _next = new(TaskCreationOptions.RunContinuationsAsynchronously);

    public Task Next => Volatile.Read(ref _next).Task;
    public void Raise() => Interlocked.Exchange(ref _next, new(TaskCreationOptions.RunContinuationsAsynchronously)).TrySetResult();
}

public static class LiveEndpoints
{
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(1);

    public static void MapLive(this RouteGroupBuilder api) => api.MapGet("/events", (HttpContext context, Store.Store store, LiveSignal signal, IHostApplicationLifetime life) =>
    {
        var stop = CancellationTokenSource.CreateLinkedTokenSource(context.RequestAborted, life.ApplicationStopping);
        context.Response.RegisterForDispose(stop);
        long? last = long.TryParse(context.Request.Headers["Last-Event-ID"], out var id) ? id : null;
        return TypedResults.ServerSentEvents(StreamAsync(store, signal, last, stop.Token));
    }).WithName("events").WithSummary("Server-sent events: hints of what changed. 'Last-Event-ID' goes on where a stream ended; the event 'gap' says that hints were lost.").RequireAuthorization("read");

    private static async IAsyncEnumerable<SseItem<LiveHint>> StreamAsync(Store.Store store, LiveSignal signal, long? last, [EnumeratorCancellation] CancellationToken cancel)
    {
        var at = last ?? await store.ReadAsync(s => s.LastHintAsync(), cancel);
        if (last is not null && await store.ReadAsync(s => s.FirstHintAsync(), cancel) > last + 1) yield return new(new("all", ""), "gap");
        yield return new(new("hello", ""), "hello") { EventId = at.ToString(System.Globalization.CultureInfo.InvariantCulture) };
        while (!cancel.IsCancellationRequested)
        {
            var next = signal.Next;
            foreach (var hint in await store.ReadAsync(s => s.HintsAfterAsync(at), cancel))
            {
                at = hint.Id;
                yield return new(new(hint.Topic, hint.Subject), "change") { EventId = at.ToString(System.Globalization.CultureInfo.InvariantCulture) };
            }
            try
            {
                await next.WaitAsync(Beat, cancel);
            }
            catch (TimeoutException)
            {
                // Nothing here; another node may have committed.
            }
            catch (OperationCanceledException)
            {
                yield break;
            }
        }
    }
}
