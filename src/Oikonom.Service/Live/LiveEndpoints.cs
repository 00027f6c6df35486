using System.Net.ServerSentEvents;
using System.Runtime.CompilerServices;
using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Service.Access;
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
    private static readonly TimeSpan LookEvery = TimeSpan.FromSeconds(3);

    public static void MapLive(this RouteGroupBuilder api) =>
        api.MapGet(
                "/events",
                (
                    HttpContext context,
                    Store.Store store,
                    LiveSignal signal,
                    Accounts accounts,
                    Sessions sessions,
                    TimeProvider time,
                    IHostApplicationLifetime life
                ) =>
                {
                    var stop = CancellationTokenSource.CreateLinkedTokenSource(context.RequestAborted, life.ApplicationStopping);
                    context.Response.RegisterForDispose(stop);
                    long? last = long.TryParse(context.Request.Headers["Last-Event-ID"], out var id) ? id : null;
                    return TypedResults.ServerSentEvents(
                        StreamAsync(
                            store,
                            signal,
                            context.User,
                            () => accounts.StillHoldsAsync(context.User, sessions, stop.Token),
                            time,
                            last,
                            stop.Token
                        )
                    );
                }
            )
            .WithName("events")
            .WithSummary(
                "Server-sent events: hints of what changed. 'Last-Event-ID' goes on where a stream ended; the event 'gap' says "
                    + "that hints were lost."
            )
            .RequireAuthorization("read")
            .Reaching(Reached.Filtered);

    /// <summary>Hints while the sign-in lasts; those about requests and people only where these are within reach.</summary>
    private static async IAsyncEnumerable<SseItem<LiveHint>> StreamAsync(
        Store.Store store,
        LiveSignal signal,
        ClaimsPrincipal user,
        Func<Task<bool>> holds,
        TimeProvider time,
        long? last,
        [EnumeratorCancellation] CancellationToken cancel
    )
    {
        var at = last ?? await store.ReadAsync(s => s.LastHintAsync(), cancel);
        if (last is not null && await store.ReadAsync(s => s.FirstHintAsync(), cancel) > last + 1)
            yield return new(new("all", ""), "gap");
        yield return new(new("hello", ""), "hello") { EventId = at.ToString(System.Globalization.CultureInfo.InvariantCulture) };
        var looked = time.GetTimestamp();
        while (!cancel.IsCancellationRequested)
        {
            var next = signal.Next;
            if (time.GetElapsedTime(looked) > LookEvery)
            {
                if (!await holds())
                    yield break;
                looked = time.GetTimestamp();
            }
            var hints = await store.ReadAsync(s => s.HintsAfterAsync(at), cancel);
            var seen = await SeenAsync(store, user, hints, cancel);
            foreach (var hint in hints)
            {
                at = hint.Id;
                if (!seen(hint))
                    continue;
                yield return new(new(hint.Topic, hint.Subject), "change")
                {
                    EventId = at.ToString(System.Globalization.CultureInfo.InvariantCulture),
                };
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

    /// <summary>Which of the hints the caller may hear: nothing is told of what is out of reach, not even that it changed.</summary>
    private static async Task<Func<HintRow, bool>> SeenAsync(
        Store.Store store,
        ClaimsPrincipal user,
        IReadOnlyList<HintRow> hints,
        CancellationToken cancel
    )
    {
        if (user.ReachOf() is null || hints.Count == 0)
            return _ => true;
        var (requests, people) = await store.ReadAsync(
            async s =>
                (
                    await s.RequestsByIdAsync([.. hints.Where(h => h.Topic == "requests").Select(h => h.Subject).Distinct()]),
                    await s.PeopleByIdAsync([.. hints.Where(h => h.Topic == "people").Select(h => h.Subject).Distinct()])
                ),
            cancel
        );
        var seen = requests
            .Where(r => ReachRule.Sees(user, r))
            .Select(r => r.Id)
            .Concat(people.Where(p => ReachRule.Sees(user, p)).Select(p => p.Id))
            .ToHashSet(StringComparer.Ordinal);
        foreach (var task in hints.Where(h => h.Topic == "tasks").Select(h => h.Subject).Distinct())
            if (
                await store.ReadAsync(s => s.TaskAsync(task), cancel) is { } row
                && user.ReachOf()!.Any(p => p.Covers(row.Site, row.Department))
            )
                seen.Add(task);
        return hint =>
            hint.Topic switch
            {
                "requests" or "people" or "tasks" => seen.Contains(hint.Subject),
                "users" or "delegations" => false,
                _ => true,
            };
    }
}
