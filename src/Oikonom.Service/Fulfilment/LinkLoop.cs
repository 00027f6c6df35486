using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>
/// Sends links to first passwords when the account can be used, or as long before as its target's rule says. When the first
/// day is put off, so is the link.
/// </summary>
public sealed class LinkLoop(
    Store.Store store,
    EditionBook editions,
    FirstPasswords links,
    GroupCommit commits,
    TimeProvider time,
    Pulse pulse,
    ILogger<LinkLoop> log
) : Loop(TimeSpan.FromSeconds(1), pulse, log)
{
    private const int Batch = 100;

    /// <summary>How long a person whom the rules cannot serve now is left alone.</summary>
    private static readonly TimeSpan Pause = TimeSpan.FromMinutes(10);

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        if (await editions.CurrentOrNullAsync(cancel) is not { } newest)
            return false;
        var due = await store.ReadAsync(s => s.LinksDueAsync(time.Milliseconds(), Batch), cancel);
        if (due.Count == 0)
            return false;
        var (recorded, users, requests) = await store.ReadAsync(
            async s =>
                (
                    await Recorded.LoadAsync(s, [.. due.Select(r => r.PersonId).Distinct()]),
                    await s.UsersAsync(),
                    (await s.RequestsByIdAsync([.. due.Select(r => r.RequestId).Distinct()])).ToDictionary(r => r.Id)
                ),
            cancel
        );
        // Many wake at once, and each is a decision of its own: they go to the disk together.
        await EachAtOnceAsync(
            due,
            row => SendAsync(row, recorded, users, requests, newest, cancel),
            (row, _) => PutOffAsync(row, time.GetUtcNow() + Pause, cancel)
        );
        return due.Count == Batch;
    }

    private Task PutOffAsync(LinkDueRow row, DateTimeOffset until, CancellationToken cancel) =>
        DecideAsync(s => s.PutLinkOffAsync(row, until.ToUnixTimeMilliseconds()), cancel);

    private Task DecideAsync(Func<Session, Task> decision, CancellationToken cancel) =>
        commits.RunAsync(
            async s =>
            {
                await decision(s);
                return true;
            },
            cancel
        );

    private async Task SendAsync(
        LinkDueRow row,
        Recorded recorded,
        IReadOnlyList<UserRow> users,
        Dictionary<string, RequestRow> requests,
        Edition newest,
        CancellationToken cancel
    )
    {
        var key = new AccountKey(row.Target, row.Slot);
        // An account that is gone, or never wakes any more, has nothing to hand over.
        if (recorded.Account(row.PersonId, key) is not { } account || await links.WakesAsync(recorded, account) is not { } wakes)
        {
            await DecideAsync(s => s.TakeLinkAsync(row), cancel);
            return;
        }
        var sends = wakes - (newest.Rulebook.Targets.GetValueOrDefault(row.Target)?.Password.LinkAhead ?? TimeSpan.Zero);
        if (sends > time.GetUtcNow())
        {
            await PutOffAsync(row, sends, cancel);
            return;
        }
        await DecideAsync(
            async s =>
            {
                if (await s.TakeLinkAsync(row) && requests.GetValueOrDefault(row.RequestId) is { } request)
                    await links.SendAsync(s, recorded.Person(row.PersonId), request, key, account.Name, users, wakes);
            },
            cancel
        );
    }
}
