using System.Diagnostics;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Ledger;
using Oikonom.Proofs;
using Oikonom.Service.Common;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Ledger;

/// <summary>
/// Recomputes the whole ledger: every hash, root and signature, by the pinned keys alone; that a head covers all
/// leaves; that the tree continues the head remembered outside the store and each that the caller kept; and that the
/// values still held are those that were sealed.
/// </summary>
public sealed class LedgerCheck(Store.Store store, SigningKey key, HeadKeeper keeper, TimeProvider time)
{
    private const int MaxFaults = 50;
    private static readonly TimeSpan SealedWithin = TimeSpan.FromMinutes(5);

    public async Task<LedgerVerification> RunAsync(IReadOnlyList<SignedHead> kept, CancellationToken cancel)
    {
        var watch = Stopwatch.StartNew();
        var faults = new List<string>();
        var ring = key.Ring;
        var frontier = new MerkleFrontier();
        if (keeper.Problem is { } standing)
            Fault(standing);
        var known = kept.Select(h => (Head: h, Whose: "The head you gave")).ToList();
        if (keeper.Last is { } remembered)
            known.Add((remembered, "The head remembered outside the store"));
        foreach (var (head, whose) in known)
            if (LedgerKey.Fault(ring, head) is { } strange)
                Fault($"{whose}: {strange}");
        var (headCount, unsealed, last) = await store.ReadAsync(
            async s =>
            {
                var heads = new Queue<HeadRow>(await s.HeadsAsync());
                var (count, newest) = (heads.Count, heads.LastOrDefault()?.Size ?? 0);
                foreach (var (head, whose) in known.Where(k => k.Head.Size == 0))
                    Kept(head, whose);
                await s.EachSealedAsync(
                    (position, hash, entry) =>
                    {
                        if (position != frontier.Size)
                            Fault($"Position {frontier.Size} is missing: the next leaf stands at {position}.");
                        if (entry.Body.Length == 0)
                            Fault($"The entry at position {position} is gone.");
                        else if (!Merkle.Leaf(entry.Body).AsSpan().SequenceEqual(hash))
                            Fault($"The entry at position {position} ({entry.Id}) is not what was sealed.");
                        else if (!Agrees(entry))
                            Fault($"The columns of the entry at position {position} ({entry.Id}) differ from its body.");
                        else if (LedgerText.Fault(entry.Body, entry.Held) is { } name)
                            Fault($"The value '{name}' of the entry at position {position} ({entry.Id}) is not what was sealed.");
                        frontier.Add(hash);
                        while (heads.TryPeek(out var head) && head.Size == frontier.Size)
                            Check(heads.Dequeue());
                        foreach (var (head, whose) in known.Where(k => k.Head.Size == frontier.Size))
                            Kept(head, whose);
                    },
                    cancel
                );
                // What was sealed while the leaves were read has a head of its own since.
                if (newest < frontier.Size && await s.LastHeadAsync() is { } since && since.Size >= frontier.Size)
                {
                    newest = frontier.Size;
                    if (since.Size == frontier.Size)
                        Check(since);
                }
                foreach (var head in heads)
                    Fault($"A head speaks of {head.Size} leaves; the tree has {frontier.Size}.");
                return (count, await s.UnsealedCountAsync(), newest);
            },
            cancel
        );
        if (last != frontier.Size)
            Fault($"No head covers all: the last speaks of {last} leaves, and the tree has {frontier.Size}.");
        foreach (var (head, whose) in known.Where(k => k.Head.Size > frontier.Size))
            Fault($"{whose} speaks of {head.Size} entries, and the tree has {frontier.Size}: entries are gone.");
        if (
            unsealed > 0
            && await store.ReadAsync(s => s.OldestUnsealedAsync(), cancel) is { } oldest
            && time.GetUtcNow() - oldest.ToInstant() > SealedWithin
        )
            Fault($"{unsealed} entries wait to be sealed since {oldest.ToInstant().UtcDateTime:yyyy-MM-dd HH:mm} UTC.");
        return new(
            faults.Count == 0,
            frontier.Size + unsealed,
            frontier.Size,
            unsealed,
            Convert.ToHexStringLower(frontier.Root()),
            headCount,
            faults,
            watch.ElapsedMilliseconds,
            ring[^1].Id,
            known.Count
        );

        void Check(HeadRow head)
        {
            if (!frontier.Root().AsSpan().SequenceEqual(head.Root))
                Fault($"The head of size {head.Size} has another root than its leaves.");
            else if (LedgerKey.Fault(ring, LedgerViews.HeadOf(head, ring)) is { } unsound)
                Fault(unsound);
        }

        void Kept(SignedHead head, string whose)
        {
            if (Convert.ToHexStringLower(frontier.Root()) != head.Root)
                Fault($"{whose} of {head.Size} entries has another root: the record was rewritten.");
        }

        void Fault(string text)
        {
            if (faults.Count < MaxFaults && !faults.Contains(text))
                faults.Add(text);
        }
    }

    private static bool Agrees(LedgerRow entry)
    {
        using var body = JsonDocument.Parse(entry.Body);
        var root = body.RootElement;
        return Text("id") == entry.Id
            && Text("kind") == entry.Kind
            && Text("actor") == entry.Actor
            && Text("person") == entry.PersonId
            && Text("request") == entry.RequestId
            && Text("at") == LedgerEntry.Stamp(entry.At.ToInstant());

        string? Text(string name) => root.TryGetProperty(name, out var value) ? value.GetString() : null;
    }
}
