using System.Globalization;
using System.Text.Json;
using Oikonom.Core.Ledger;
using Oikonom.Proofs;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Ledger;

/// <summary>
/// Remembers the last signed head outside the store, so that a ledger that was cut short, or put back to an earlier
/// state, is noticed. Whoever restores a back-up on purpose says so by removing the file.
/// </summary>
public sealed class HeadKeeper(ServiceOptions options)
{
    private readonly string _file = Path.Combine(options.Data, "ledger-head.json");
    private readonly Lock _gate = new();
    private long _size = -1;

    /// <summary>What is wrong with the ledger against the head remembered, or null.</summary>
    public string? Problem { get; private set; }

    public SignedHead? Last
    {
        get
        {
            try
            {
                return File.Exists(_file) ? SignedHead.FromJson(File.ReadAllText(_file)) : null;
            }
            catch (JsonException)
            {
                return null;
            }
        }
    }

    public void Remember(SignedHead head)
    {
        lock (_gate)
        {
            if (_size < 0)
                _size = Last?.Size ?? 0;
            if (head.Size <= _size || Problem is not null)
                return;
            OwnFile.Write(_file, head.ToJson());
            _size = head.Size;
        }
    }

    /// <summary>Holds the leaves of the store against a head that was remembered.</summary>
    /// <param name="head">The head as it was before the leaves were read: another node may remember a later one meanwhile.</param>
    /// <param name="root">The root of as many leaves as the head has, or null when there are fewer.</param>
    public string? Compare(SignedHead? head, string? root)
    {
        if (head is null)
            return Problem = null;
        Problem =
            root is null
                ? $"The ledger was cut: a head of {head.Size} entries was signed here on "
                    + $"{head.At.ToInstant().UtcDateTime:yyyy-MM-dd HH:mm} UTC, and the store holds fewer. If a back-up was restored "
                    + $"on purpose, remove {Path.GetFileName(_file)} from the data folder and start again."
            : root != head.Root
                ? $"The ledger was rewritten: its first {head.Size} entries are not those of the head signed here on "
                    + $"{head.At.ToInstant().UtcDateTime:yyyy-MM-dd HH:mm} UTC."
            : null;
        return Problem;
    }
}

/// <summary>
/// Publishes a head of the ledger at intervals to where the service cannot take it back: as an entry (and so to hooks),
/// by mail to the box of the auditors, and to a file if one is set.
/// </summary>
public sealed class HeadLoop(
    Store.Store store,
    EditionBook editions,
    SigningKey key,
    ServiceOptions options,
    TimeProvider time,
    Pulse pulse,
    ILogger<HeadLoop> log
) : Loop(TimeSpan.FromSeconds(Math.Clamp(options.HeadHours * 900, 0.2, 300)), pulse, log)
{
    /// <summary>The kind of entry that publishes a head.</summary>
    public const string Kind = "ledger.head";

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        var edition = await editions.CurrentOrNullAsync(cancel);
        var published = await store.WriteAsync(
            async s =>
            {
                var now = time.GetUtcNow();
                var at = now.ToUnixTimeMilliseconds();
                // One node publishes, and not again before the interval is over.
                if (
                    await s.LastHeadAsync() is not { } row
                    || !await s.TakeLeaseAsync(
                        "publish-head",
                        Guid.NewGuid().ToString("N"),
                        at,
                        at + (long)TimeSpan.FromHours(options.HeadHours).TotalMilliseconds
                    )
                )
                    return null;
                var head = LedgerViews.HeadOf(row, key.Ring);
                s.Record(
                    LedgerEntry.Of(
                        now,
                        "oikonom",
                        Kind,
                        null,
                        null,
                        ("size", head.Size),
                        ("root", head.Root),
                        ("signed", head.At),
                        ("signature", head.Signature),
                        ("key", head.Key)
                    )
                );
                if (edition?.Rulebook.Mailboxes.GetValueOrDefault(Access.Roles.Auditor) is { } box)
                    s.Send(
                        new(
                            box,
                            $"Ledger head of {head.Size.ToString(CultureInfo.InvariantCulture)} entries",
                            $"This is the signed head of the ledger of {options.PublicAddress}. Keep it: the ledger can be held "
                                + "against it at any time, with\n\noikonom ledger verify --head FILE\n\nwhere FILE holds the line "
                                + $"below.\n\n{head.ToJson()}\n",
                            null
                        )
                    );
                return head;
            },
            cancel
        );
        if (published is not null && options.Heads.Length > 0)
            await File.AppendAllTextAsync(options.Heads, published.ToJson() + "\n", cancel);
        return false;
    }
}
