using System.Threading.Channels;
using Oikonom.Core.Planning;
using Oikonom.Scim;
using Oikonom.Store;

namespace Oikonom.Service.Common;

/// <summary>
/// Commits small decisions in groups: whatever waits goes into one transaction, so the disk is asked once for many.
/// One that is refused leaves the others as they are.
/// </summary>
public sealed class GroupCommit(Store.Store store) : BackgroundService
{
    private const int MaxGroup = 64;
    private readonly Channel<Work> _channel = Channel.CreateBounded<Work>(1024);

    /// <summary>What the decisions of one transaction do together at its end, such as looking things up once for all.</summary>
    public sealed class Together
    {
        private readonly Dictionary<object, (List<object> Items, Func<IReadOnlyList<object>, Task> Finish)> _gathered = [];

        /// <summary>Leaves <paramref name="item"/> to be finished with the others under the same key.</summary>
        public void Add(object key, object item, Func<IReadOnlyList<object>, Task> finish)
        {
            if (!_gathered.TryGetValue(key, out var known))
                _gathered[key] = known = ([], finish);
            known.Items.Add(item);
        }

        public IEnumerable<object> Of(object key) => _gathered.TryGetValue(key, out var known) ? known.Items : [];

        public async Task FinishAsync()
        {
            foreach (var (items, finish) in _gathered.Values.ToList())
                await finish(items);
            _gathered.Clear();
        }
    }

    private sealed record Work(Func<Session, Together, Task<object>> Run, TaskCompletionSource<object> Done)
    {
        public object? Result { get; set; }
        public Exception? Fault { get; set; }
    }

    /// <summary>Runs <paramref name="work"/> in a transaction and returns when it is committed. A fault must be thrown before
    /// anything is written.</summary>
    public Task<T> RunAsync<T>(Func<Session, Task<T>> work, CancellationToken cancel)
        where T : notnull => RunAsync((s, _) => work(s), cancel);

    /// <inheritdoc cref="RunAsync{T}(Func{Session, Task{T}}, CancellationToken)"/>
    public async Task<T> RunAsync<T>(Func<Session, Together, Task<T>> work, CancellationToken cancel)
        where T : notnull
    {
        var item = new Work(async (s, together) => await work(s, together), new(TaskCreationOptions.RunContinuationsAsynchronously));
        await _channel.Writer.WriteAsync(item, cancel);
        return (T)await item.Done.Task.WaitAsync(cancel);
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        var group = new List<Work>();
        while (await _channel.Reader.WaitToReadAsync(stoppingToken))
        {
            group.Clear();
            while (group.Count < MaxGroup && _channel.Reader.TryRead(out var item))
                group.Add(item);
            try
            {
                await CommitAsync(group, stoppingToken);
            }
            catch (Exception error) when (error is not OperationCanceledException)
            {
                // One of them broke the transaction: each goes alone, and only the one fails.
                foreach (var item in group)
                {
                    try
                    {
                        await CommitAsync([item], stoppingToken);
                    }
                    catch (Exception own) when (own is not OperationCanceledException)
                    {
                        item.Done.TrySetException(own);
                    }
                }
            }
        }
    }

    private async Task CommitAsync(List<Work> group, CancellationToken cancel)
    {
        await store.WriteAsync(
            async s =>
            {
                var together = new Together();
                foreach (var item in group)
                {
                    (item.Result, item.Fault) = (null, null);
                    try
                    {
                        item.Result = await item.Run(s, together);
                    }
                    catch (Exception fault) when (fault is ScimFault or PlanFault)
                    {
                        item.Fault = fault;
                    }
                }
                await together.FinishAsync();
            },
            cancel
        );
        foreach (var item in group)
        {
            if (item.Fault is { } fault)
                item.Done.TrySetException(fault);
            else
                item.Done.TrySetResult(item.Result!);
        }
    }
}
