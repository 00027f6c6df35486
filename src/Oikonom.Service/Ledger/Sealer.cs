using Oikonom.Core.Ledger;
using Oikonom.Proofs;
using Oikonom.Service.Common;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Ledger;

/// <summary>Seals ledger entries into the tree in the order of commit, and signs the head. One node at a time does it.</summary>
public sealed class Sealer(
    Store.Store store,
    SigningKey key,
    HeadKeeper heads,
    ServiceOptions options,
    TimeProvider time,
    Pulse pulse,
    ILogger<Sealer> log
) : Loop(TimeSpan.FromMilliseconds(250), pulse, log)
{
    private const int Batch = 2000;
    private static readonly TimeSpan Duty = TimeSpan.FromSeconds(20);
    private readonly SemaphoreSlim _one = new(1);
    private MerkleFrontier? _frontier;

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        await _one.WaitAsync(cancel);
        try
        {
            return await SealAsync(cancel);
        }
        finally
        {
            _one.Release();
        }
    }

    private async Task<bool> SealAsync(CancellationToken cancel)
    {
        var frontier = _frontier ??= await LoadAsync(cancel);
        var pending = await store.ReadAsync(s => s.UnsealedAsync(Batch), cancel);
        if (pending.Count == 0)
            return false;
        // Hashed outside the transaction, so that sealing never holds up a decision.
        var leaves = pending.Select(e => (e.Entry, Hash: Merkle.Leaf(e.Body))).ToList();
        var now = time.Milliseconds();
        try
        {
            var head = await store.WriteAsync(
                async s =>
                {
                    if (!await s.TakeLeaseAsync("sealer", options.Node, now, now + (long)Duty.TotalMilliseconds))
                        return null;
                    if ((await s.LastHeadAsync())?.Size is var size && (size ?? 0) != frontier.Size)
                        return null;
                    var position = frontier.Size;
                    await s.AddLeavesAsync([.. leaves.Select((l, i) => (position + i, l.Entry, Convert.ToHexStringLower(l.Hash)))]);
                    foreach (var leaf in leaves)
                        frontier.Add(leaf.Hash);
                    var root = frontier.Root();
                    var signed = key.Sign(frontier.Size, root, now);
                    await s.AddHeadAsync(
                        new()
                        {
                            Size = signed.Size,
                            Root = root,
                            SignedAt = now,
                            Signature = Convert.FromBase64String(signed.Signature),
                            PublicKey = key.Ring[^1].PublicKey,
                        }
                    );
                    return signed;
                },
                cancel
            );
            if (head is null)
                _frontier = null;
            else
                heads.Remember(head);
            return head is not null && pending.Count == Batch;
        }
        catch
        {
            _frontier = null;
            throw;
        }
    }

    private async Task<MerkleFrontier> LoadAsync(CancellationToken cancel)
    {
        var frontier = new MerkleFrontier();
        var (head, found) = (heads.Last, (string?)null);
        var wanted = head?.Size;
        if (wanted == 0)
            found = Convert.ToHexStringLower(frontier.Root());
        await store.ReadAsync(
            async s =>
            {
                await s.EachLeafAsync(
                    (_, hash) =>
                    {
                        frontier.Add(hash);
                        if (frontier.Size == wanted)
                            found = Convert.ToHexStringLower(frontier.Root());
                    },
                    cancel
                );
                return true;
            },
            cancel
        );
        // Where another node sealed since, this one's memory lies behind and agrees all the same.
        heads.Compare(head, found);
        return frontier;
    }

    /// <summary>Makes a new signing key, from the size on that the tree has now.</summary>
    /// <exception cref="Problem">Another node seals at this moment.</exception>
    public async Task<LedgerKey> RotateAsync(string actor, CancellationToken cancel)
    {
        await _one.WaitAsync(cancel);
        try
        {
            return await store.WriteAsync(
                async s =>
                {
                    var now = time.GetUtcNow();
                    if (
                        !await s.TakeLeaseAsync("sealer", options.Node, now.ToUnixTimeMilliseconds(), (now + Duty).ToUnixTimeMilliseconds())
                    )
                        throw Problem.Conflict("sealing", "Another node seals the ledger at this moment. Try again in half a minute.");
                    var named = key.Rotate((await s.LastHeadAsync())?.Size ?? 0);
                    s.Record(LedgerEntry.Of(now, actor, "ledger.key-changed", null, null, ("key", named.Id), ("size", named.FromSize)));
                    return named;
                },
                cancel
            );
        }
        finally
        {
            _one.Release();
        }
    }
}
