using System.Security.Cryptography;
using System.Text;

namespace Oikonom.Core.Ledger;

/// <summary>Hashes of a Merkle tree as RFC 9162 §2.1 defines them, with SHA-256.</summary>
public static class Merkle
{
    /// <summary>SHA-256(0x00 ‖ entry), RFC 9162 §2.1.1.</summary>
    public static byte[] Leaf(string body)
    {
        var bytes = new byte[1 + Encoding.UTF8.GetByteCount(body)];
        Encoding.UTF8.GetBytes(body, bytes.AsSpan(1));
        return SHA256.HashData(bytes);
    }

    /// <summary>SHA-256(0x01 ‖ left ‖ right), RFC 9162 §2.1.1.</summary>
    public static byte[] Node(ReadOnlySpan<byte> left, ReadOnlySpan<byte> right)
    {
        Span<byte> bytes = stackalloc byte[65];
        bytes[0] = 1;
        left.CopyTo(bytes[1..]);
        right.CopyTo(bytes[33..]);
        return SHA256.HashData(bytes);
    }

    /// <summary>The proof that a leaf is in the tree: sibling hashes from the leaf up (RFC 9162 §2.1.3.1).</summary>
    public static IReadOnlyList<byte[]> InclusionProof(IReadOnlyList<byte[]> leaves, int index)
    {
        var proof = new List<byte[]>();
        Path(0, leaves.Count, index);
        return proof;

        void Path(int from, int count, int at)
        {
            if (count <= 1) return;
            var split = Split(count);
            if (at < split)
            {
                Path(from, split, at);
                proof.Add(Root(leaves, from + split, count - split));
            }
            else
            {
                Path(from + split, count - split, at - split);
                proof.Add(Root(leaves, from, split));
            }
        }
    }

    /// <summary>Verifies an inclusion proof by the steps of RFC 9162 §2.1.3.2.</summary>
    public static bool VerifyInclusion(byte[] leaf, long index, long size, IReadOnlyList<byte[]> proof, byte[] root)
    {
        if (index < 0 || index >= size) return false;
        var (node, last, hash) = (index, size - 1, leaf);
        foreach (var sibling in proof)
        {
            if (last == 0) return false;
            if ((node & 1) == 1 || node == last)
            {
                hash = Node(sibling, hash);
                while ((node & 1) == 0 && node != 0)
                {
                    node >>= 1;
                    last >>= 1;
                }
            }
            else hash = Node(hash, sibling);
            node >>= 1;
            last >>= 1;
        }
        return last == 0 && hash.AsSpan().SequenceEqual(root);
    }

    public static byte[] Root(IReadOnlyList<byte[]> leaves) => Root(leaves, 0, leaves.Count);

    private static byte[] Root(IReadOnlyList<byte[]> leaves, int from, int count)
    {
        if (count == 0) return SHA256.HashData([]);
        if (count == 1) return leaves[from];
        var split = Split(count);
        return Node(Root(leaves, from, split), Root(leaves, from + split, count - split));
    }

    private static int Split(int count) => 1 << (31 - System.Numerics.BitOperations.LeadingZeroCount((uint)(count - 1)));
}

/// <summary>The right edge of a growing tree: enough to add leaves and to give the root, in logarithmic space.</summary>
public sealed class MerkleFrontier
{
    private readonly List<(int Level, byte[] Hash)> _peaks = [];

    public long Size { get; private set; }

    public void Add(byte[] leaf)
    {
        var (level, hash) = (0, leaf);
        while (_peaks.Count > 0 && _peaks[^1].Level == level)
        {
            hash = Merkle.Node(_peaks[^1].Hash, hash);
            _peaks.RemoveAt(_peaks.Count - 1);
            level++;
        }
        _peaks.Add((level, hash));
        Size++;
    }

    public byte[] Root()
    {
        if (_peaks.Count == 0) return SHA256.HashData([]);
        var root = _peaks[^1].Hash;
        for (var i = _peaks.Count - 2; i >= 0; i--) root = Merkle.Node(_peaks[i].Hash, root);
        return root;
    }
}
