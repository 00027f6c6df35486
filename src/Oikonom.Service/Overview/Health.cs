using Oikonom.Contracts;
using Oikonom.Service.Common;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Overview;

/// <summary>Whether the service can do its work: the store answers, loops get on, the disk has room, the record is whole.</summary>
public sealed class Health(Store.Store store, Pulse pulse, ServiceOptions options, Ledger.HeadKeeper heads)
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);

    public async Task<Readiness> LookAsync(CancellationToken cancel)
    {
        var problems = Problems().ToList();
        try
        {
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
            limit.CancelAfter(Patience);
            var edition = await store.ReadAsync(s => s.LastEditionNumberAsync(), limit.Token);
            return new(
                problems.Count == 0,
                store.Engine.Name,
                (int)edition,
                ServiceOptions.Version,
                options.OpenIdAuthority.Length > 0,
                problems.Count == 0 ? null : problems
            );
        }
        catch (Exception error)
            when (error is System.Data.Common.DbException or IOException or TimeoutException
                || (error is OperationCanceledException && !cancel.IsCancellationRequested)
            )
        {
            return new(
                false,
                store.Engine.Name,
                0,
                ServiceOptions.Version,
                options.OpenIdAuthority.Length > 0,
                [.. problems, "The store does not answer."]
            );
        }
    }

    /// <summary>What does not get on, in words for whoever runs the service.</summary>
    public IEnumerable<string> Problems()
    {
        foreach (var stands in pulse.Standing())
            yield return $"{stands.Loop} does not get on since {stands.Since.UtcDateTime:yyyy-MM-dd HH:mm} UTC: {stands.Problem}";
        if (Room() is { } free && free < options.FreeMegabytes)
            yield return $"The disk of the data folder has {free} MB left; at least {options.FreeMegabytes} MB are needed.";
        if (heads.Problem is { } problem)
            yield return problem;
    }

    private long? Room()
    {
        try
        {
            return new DriveInfo(Path.GetFullPath(options.Data)).AvailableFreeSpace / 1_048_576;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or ArgumentException)
        {
            return null;
        }
    }
}
