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
        var ring = key.Ring;
        var check = new Check(ring, [.. kept.Select(h => (h, "The head you gave")), .. Remembered()]);
        if (keeper.Problem is { } standing)
            check.Fault(standing);
        check.KnownHeads();
        var (headCount, unsealed) = await store.ReadAsync(
            async s =>
            {
                var heads = await s.HeadsAsync();
                check.Begin(heads);
                await s.EachSealedAsync(check.Leaf, cancel);
                await check.EndAsync(s);
                return (heads.Count, await s.UnsealedCountAsync());
            },
            cancel
        );
        check.All();
        if (
            unsealed > 0
            && await store.ReadAsync(s => s.OldestUnsealedAsync(), cancel) is { } oldest
            && time.GetUtcNow() - oldest.ToInstant() > SealedWithin
        )
            check.Fault($"{unsealed} entries wait to be sealed since {oldest.ToInstant().UtcDateTime:yyyy-MM-dd HH:mm} UTC.");
        return new(
            check.Faults.Count == 0,
            check.Frontier.Size + unsealed,
            check.Frontier.Size,
            unsealed,
            Convert.ToHexStringLower(check.Frontier.Root()),
            headCount,
            check.Faults,
            watch.ElapsedMilliseconds,
            ring[^1].Id,
            check.KnownCount
        );
    }

    private IEnumerable<(SignedHead Head, string Whose)> Remembered() =>
        keeper.Last is { } head ? [(head, "The head remembered outside the store")] : [];

    /// <summary>One verification under way.</summary>
    /// <param name="known">Heads from outside the store, and whose they are.</param>
    private sealed class Check(IReadOnlyList<LedgerKey> ring, List<(SignedHead Head, string Whose)> known)
    {
        private Queue<HeadRow> _heads = new();

        /// <summary>Of how many leaves the newest head speaks.</summary>
        private long _newest;

        public MerkleFrontier Frontier { get; } = new();
        public List<string> Faults { get; } = [];
        public int KnownCount => known.Count;

        public void KnownHeads()
        {
            foreach (var (head, whose) in known)
                if (LedgerKey.Fault(ring, head) is { } strange)
                    Fault($"{whose}: {strange}");
        }

        public void Begin(IReadOnlyList<HeadRow> heads)
        {
            _heads = new(heads);
            _newest = heads.Count > 0 ? heads[^1].Size : 0;
            Kept(0);
        }

        public void Leaf(long position, byte[] hash, LedgerRow entry)
        {
            if (position != Frontier.Size)
                Fault($"Position {Frontier.Size} is missing: the next leaf stands at {position}.");
            if (entry.Body.Length == 0)
                Fault($"The entry at position {position} is gone.");
            else if (!Merkle.Leaf(entry.Body).AsSpan().SequenceEqual(hash))
                Fault($"The entry at position {position} ({entry.Id}) is not what was sealed.");
            else if (!Agrees(entry))
                Fault($"The columns of the entry at position {position} ({entry.Id}) differ from its body.");
            else if (LedgerText.Fault(entry.Body, entry.Held) is { } name)
                Fault($"The value '{name}' of the entry at position {position} ({entry.Id}) is not what was sealed.");
            Frontier.Add(hash);
            while (_heads.TryPeek(out var head) && head.Size == Frontier.Size)
                Head(_heads.Dequeue());
            Kept(Frontier.Size);
        }

        /// <summary>What was sealed while the leaves were read has a head of its own since.</summary>
        public async Task EndAsync(Store.Session s)
        {
            if (_newest < Frontier.Size && await s.LastHeadAsync() is { } since && since.Size >= Frontier.Size)
            {
                _newest = Frontier.Size;
                if (since.Size == Frontier.Size)
                    Head(since);
            }
            foreach (var head in _heads)
                Fault($"A head speaks of {head.Size} leaves; the tree has {Frontier.Size}.");
        }

        /// <summary>A head covers all, and none from outside speaks of more.</summary>
        public void All()
        {
            if (_newest != Frontier.Size)
                Fault($"No head covers all: the last speaks of {_newest} leaves, and the tree has {Frontier.Size}.");
            foreach (var (head, whose) in known.Where(k => k.Head.Size > Frontier.Size))
                Fault($"{whose} speaks of {head.Size} entries, and the tree has {Frontier.Size}: entries are gone.");
        }

        private void Head(HeadRow head)
        {
            if (!Frontier.Root().AsSpan().SequenceEqual(head.Root))
                Fault($"The head of size {head.Size} has another root than its leaves.");
            else if (LedgerKey.Fault(ring, LedgerViews.HeadOf(head, ring)) is { } unsound)
                Fault(unsound);
        }

        /// <summary>Heads from outside of that size have the root of the tree.</summary>
        private void Kept(long size)
        {
            foreach (var (head, whose) in known.Where(k => k.Head.Size == size))
                if (Convert.ToHexStringLower(Frontier.Root()) != head.Root)
                    Fault($"{whose} of {head.Size} entries has another root: the record was rewritten.");
        }

        public void Fault(string text)
        {
            if (Faults.Count < MaxFaults && !Faults.Contains(text))
                Faults.Add(text);
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
