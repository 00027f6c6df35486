using System.Buffers.Binary;
using System.Security.Cryptography;
using Oikonom.Core.Ledger;
using Oikonom.Service.Hosting;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Ledger;

/// <summary>The key heads are signed with: ECDSA over P-256, kept in the data folder, readable by the service alone.</summary>
public sealed class SigningKey : IDisposable
{
    private readonly ECDsa _key;

    public SigningKey(ServiceOptions options)
    {
        var path = Path.Combine(options.Data, "ledger-key.pem");
        if (File.Exists(path))
        {
            _key = ECDsa.Create();
            _key.ImportFromPem(File.ReadAllText(path));
        }
        else
        {
            _key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
            var stream = new FileStream(path, new FileStreamOptions { Mode = FileMode.CreateNew, Access = FileAccess.Write, UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite });
            using var writer = new StreamWriter(stream);
            writer.Write(_key.ExportPkcs8PrivateKeyPem());
        }
        PublicKey = Convert.ToBase64String(_key.ExportSubjectPublicKeyInfo());
    }

    /// <summary>SubjectPublicKeyInfo in Base64.</summary>
    public string PublicKey { get; }

    public byte[] Sign(long size, byte[] root, long at) => _key.SignData(HeadBytes(size, root, at), HashAlgorithmName.SHA256);

    /// <summary>What is signed: tree size and time (64 bits each, big-endian), then the root.</summary>
    public static byte[] HeadBytes(long size, byte[] root, long at)
    {
        var bytes = new byte[16 + root.Length];
        BinaryPrimitives.WriteInt64BigEndian(bytes, size);
        BinaryPrimitives.WriteInt64BigEndian(bytes.AsSpan(8), at);
        root.CopyTo(bytes, 16);
        return bytes;
    }

    public void Dispose() => _key.Dispose();
}

/// <summary>Seals ledger entries into the tree in the order of commit, and signs the head. One node at a time does it.</summary>
public sealed class Sealer(Store.Store store, SigningKey key, ServiceOptions options, TimeProvider time, ILogger<Sealer> log) : Loop(TimeSpan.FromMilliseconds(250), log)
{
    private const int Batch = 2000;
    private static readonly TimeSpan Duty = TimeSpan.FromSeconds(20);
    private MerkleFrontier? _frontier;

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        var pending = await store.ReadAsync(s => s.UnsealedAsync(Batch), cancel);
        if (pending.Count == 0) return false;
        // Hashed outside the transaction, so that sealing never holds up a decision.
        var leaves = pending.Select(e => (e.Entry, Hash: Merkle.Leaf(e.Body))).ToList();
        var frontier = _frontier ??= await LoadAsync(cancel);
        var now = time.Milliseconds();
        try
        {
            var sealed_ = await store.WriteAsync(async s =>
            {
                if (!await s.TakeLeaseAsync("sealer", options.Node, now, now + (long)Duty.TotalMilliseconds)) return false;
                if ((await s.LastHeadAsync())?.Size is var size && (size ?? 0) != frontier.Size) return false;
                var position = frontier.Size;
                await s.AddLeavesAsync([.. leaves.Select((l, i) => (position + i, l.Entry, Convert.ToHexStringLower(l.Hash)))]);
                foreach (var leaf in leaves) frontier.Add(leaf.Hash);
                var root = frontier.Root();
                await s.AddHeadAsync(new() { Size = frontier.Size, Root = root, SignedAt = now, Signature = key.Sign(frontier.Size, root, now), PublicKey = key.PublicKey });
                return true;
            }, cancel);
            if (!sealed_) _frontier = null;
            return sealed_ && pending.Count == Batch;
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
        await store.ReadAsync(async s =>
        {
            await s.EachLeafAsync((_, hash) => frontier.Add(hash), cancel);
            return true;
        }, cancel);
        return frontier;
    }
}
