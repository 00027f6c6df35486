using System.Diagnostics;
using System.Globalization;
using System.Security.Cryptography;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Ledger;
using Oikonom.Service.Hosting;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Ledger;

public static class LedgerEndpoints
{
    private const int MaxFaults = 50;

    public static void MapLedger(this RouteGroupBuilder api)
    {
        api.MapGet("/ledger", async (Store.Store store, CancellationToken cancel, string? person, string? request, string? kind, string? after, int? limit) =>
        {
            var size = Paging.Limit(limit);
            var before = after is null ? long.MaxValue : long.TryParse(after, NumberStyles.None, CultureInfo.InvariantCulture, out var n) ? n : throw Problem.Invalid("The cursor 'after' is the 'next' of the page before.", "after");
            var rows = await store.ReadAsync(s => s.LedgerPageAsync(person ?? "", request ?? "", Paging.Text(kind), before, size + 1), cancel);
            return new Page<LedgerEntryView>(
                [.. rows.Take(size).Select(r => new LedgerEntryView(r.Id, r.At.ToInstant(), r.Actor, r.Kind, r.PersonId, r.RequestId, r.Position, JsonSerializer.Deserialize<JsonElement>(r.Body)))],
                rows.Count > size ? rows[size - 1].Entry.ToString(CultureInfo.InvariantCulture) : null);
        }).WithName("listLedger").WithSummary("Ledger entries, newest first. Filters: person, request, kind (a prefix).").RequireAuthorization("audit");

        api.MapPost("/ledger/verify", VerifyAsync).WithName("verifyLedger").WithSummary("Recomputes every hash, root and signature of the ledger (RFC 9162).").RequireAuthorization("audit");
    }

    private static async Task<LedgerVerification> VerifyAsync(Store.Store store, CancellationToken cancel)
    {
        var watch = Stopwatch.StartNew();
        var faults = new List<string>();
        var frontier = new MerkleFrontier();
        var heads = new Queue<HeadRow>();
        var (headCount, unsealed) = await store.ReadAsync(async s =>
        {
            foreach (var head in await s.HeadsAsync()) heads.Enqueue(head);
            var count = heads.Count;
            await s.EachSealedAsync((position, hash, entry) =>
            {
                if (position != frontier.Size) Fault($"Position {frontier.Size} is missing: the next leaf stands at {position}.");
                if (entry.Body.Length == 0) Fault($"The entry at position {position} is gone.");
                else if (!Merkle.Leaf(entry.Body).AsSpan().SequenceEqual(hash)) Fault($"The entry at position {position} ({entry.Id}) is not what was sealed.");
                else if (!Agrees(entry)) Fault($"The columns of the entry at position {position} ({entry.Id}) differ from its body.");
                frontier.Add(hash);
                while (heads.TryPeek(out var head) && head.Size == frontier.Size)
                {
                    heads.Dequeue();
                    if (!frontier.Root().AsSpan().SequenceEqual(head.Root)) Fault($"The head of size {head.Size} has another root than its leaves.");
                    else if (!SignedSoundly(head)) Fault($"The signature of the head of size {head.Size} is not sound.");
                }
            }, cancel);
            foreach (var head in heads) Fault($"A head speaks of {head.Size} leaves; the tree has {frontier.Size}.");
            return (count, await s.UnsealedCountAsync());
        }, cancel);
        return new(faults.Count == 0, frontier.Size + unsealed, frontier.Size, unsealed, Convert.ToHexStringLower(frontier.Root()), headCount, faults, watch.ElapsedMilliseconds);

        void Fault(string text)
        {
            if (faults.Count < MaxFaults) faults.Add(text);
        }
    }

    private static bool Agrees(LedgerRow entry)
    {
        using var body = JsonDocument.Parse(entry.Body);
        var root = body.RootElement;
        return Text("id") == entry.Id && Text("kind") == entry.Kind && Text("actor") == entry.Actor && Text("person") == entry.PersonId && Text("request") == entry.RequestId && Text("at") == LedgerEntry.Stamp(entry.At.ToInstant());

        string? Text(string name) => root.TryGetProperty(name, out var value) ? value.GetString() : null;
    }

    private static bool SignedSoundly(HeadRow head)
    {
        using var key = ECDsa.Create();
        try
        {
            key.ImportSubjectPublicKeyInfo(Convert.FromBase64String(head.PublicKey), out _);
            return key.VerifyData(SigningKey.HeadBytes(head.Size, head.Root, head.SignedAt), head.Signature, HashAlgorithmName.SHA256);
        }
        catch (Exception error) when (error is CryptographicException or FormatException)
        {
            return false;
        }
    }
}
