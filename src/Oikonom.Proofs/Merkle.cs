using System.Security.Cryptography;
using System.Text;

namespace Oikonom.Proofs;

/// <summary>Hashes and proofs of a Merkle tree as RFC 9162 §2.1 defines them, with SHA-256.</summary>
public static class Merkle
{
    /// <summary>SHA-256(0x00 ‖ entry), RFC 9162 §2.1.1.</summary>
    /// <param name="body">The entry; its UTF-8 bytes are hashed.</param>
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

    /// <summary>The root of a list of leaves (RFC 9162 §2.1.1).</summary>
    public static byte[] Root(IReadOnlyList<byte[]> leaves) => new MerkleTree(leaves).Root();

    /// <inheritdoc cref="MerkleTree.InclusionProof"/>
    public static IReadOnlyList<byte[]> InclusionProof(IReadOnlyList<byte[]> leaves, int index) =>
        new MerkleTree(leaves).InclusionProof(index, leaves.Count);

    /// <summary>Verifies an inclusion proof by the steps of RFC 9162 §2.1.3.2.</summary>
    /// <returns>True when the leaf stands at the index of the tree of that size and root.</returns>
    public static bool VerifyInclusion(byte[] leaf, long index, long size, IReadOnlyList<byte[]> proof, byte[] root)
    {
        if (index < 0 || index >= size)
            return false;
        var (node, last, hash) = (index, size - 1, leaf);
        foreach (var sibling in proof)
        {
            if (last == 0)
                return false;
            if ((node & 1) == 1 || node == last)
            {
                hash = Node(sibling, hash);
                while ((node & 1) == 0 && node != 0)
                {
                    node >>= 1;
                    last >>= 1;
                }
            }
            else
                hash = Node(hash, sibling);
            node >>= 1;
            last >>= 1;
        }
        return last == 0 && hash.AsSpan().SequenceEqual(root);
    }

    /// <summary>Verifies a consistency proof by the steps of RFC 9162 §2.1.4.2.</summary>
    /// <returns>True when the tree of <paramref name="size"/> leaves continues that of <paramref name="earlier"/> leaves.</returns>
    public static bool VerifyConsistency(long earlier, byte[] earlierRoot, long size, byte[] root, IReadOnlyList<byte[]> proof)
    {
        if (earlier < 0 || earlier > size)
            return false;
        if (earlier == size)
            return proof.Count == 0 && earlierRoot.AsSpan().SequenceEqual(root);
        // The empty tree is continued by each.
        if (earlier == 0)
            return proof.Count == 0;
        var path = (earlier & (earlier - 1)) == 0 ? [earlierRoot, .. proof] : proof;
        if (path.Count == 0)
            return false;
        var (node, last) = (earlier - 1, size - 1);
        while ((node & 1) == 1)
        {
            node >>= 1;
            last >>= 1;
        }
        var (before, after) = (path[0], path[0]);
        foreach (var hash in path.Skip(1))
        {
            if (last == 0)
                return false;
            if ((node & 1) == 1 || node == last)
            {
                before = Node(hash, before);
                after = Node(hash, after);
                while ((node & 1) == 0 && node != 0)
                {
                    node >>= 1;
                    last >>= 1;
                }
            }
            else
                after = Node(after, hash);
            node >>= 1;
            last >>= 1;
        }
        return last == 0 && before.AsSpan().SequenceEqual(earlierRoot) && after.AsSpan().SequenceEqual(root);
    }
}

/// <summary>A tree over leaves that are all at hand; whole subtrees are hashed once, so that many proofs cost little.</summary>
public sealed class MerkleTree
{
    private readonly List<IReadOnlyList<byte[]>> _levels = [];

    /// <param name="leaves">The leaf hashes in their order.</param>
    public MerkleTree(IReadOnlyList<byte[]> leaves)
    {
        Size = leaves.Count;
        _levels.Add(leaves);
        while (_levels[^1].Count > 1)
        {
            var below = _levels[^1];
            var level = new byte[below.Count / 2][];
            for (var i = 0; i < level.Length; i++)
                level[i] = Merkle.Node(below[2 * i], below[(2 * i) + 1]);
            _levels.Add(level);
        }
    }

    public int Size { get; }

    /// <summary>The root of the first <paramref name="size"/> leaves; of all when it is null.</summary>
    public byte[] Root(int? size = null) => Range(0, size ?? Size);

    /// <summary>The proof that a leaf is in the tree of the first <paramref name="size"/> leaves: sibling hashes from the leaf
    /// up (RFC 9162 §2.1.3.1).</summary>
    public IReadOnlyList<byte[]> InclusionProof(int index, int size)
    {
        var proof = new List<byte[]>();
        Path(0, size, index);
        return proof;

        void Path(int from, int count, int at)
        {
            if (count <= 1)
                return;
            var split = Split(count);
            if (at < split)
            {
                Path(from, split, at);
                proof.Add(Range(from + split, count - split));
            }
            else
            {
                Path(from + split, count - split, at - split);
                proof.Add(Range(from, split));
            }
        }
    }

    /// <summary>The proof that the tree of <paramref name="size"/> leaves continues that of <paramref name="earlier"/> (RFC 9162
    /// §2.1.4.1).</summary>
    public IReadOnlyList<byte[]> ConsistencyProof(int earlier, int size)
    {
        var proof = new List<byte[]>();
        if (earlier > 0 && earlier < size)
            Sub(0, size, earlier, true);
        return proof;

        void Sub(int from, int count, int m, bool isOld)
        {
            if (m == count)
            {
                if (!isOld)
                    proof.Add(Range(from, count));
                return;
            }
            var split = Split(count);
            if (m <= split)
            {
                Sub(from, split, m, isOld);
                proof.Add(Range(from + split, count - split));
            }
            else
            {
                Sub(from + split, count - split, m - split, false);
                proof.Add(Range(from, split));
            }
        }
    }

    /// <summary>The hash of a stretch of leaves that begins where a subtree does.</summary>
    private byte[] Range(int from, int count)
    {
        if (count == 0)
            return SHA256.HashData([]);
        if ((count & (count - 1)) == 0)
        {
            var level = System.Numerics.BitOperations.Log2((uint)count);
            return _levels[level][from >> level];
        }
        var split = Split(count);
        return Merkle.Node(Range(from, split), Range(from + split, count - split));
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
        if (_peaks.Count == 0)
            return SHA256.HashData([]);
        var root = _peaks[^1].Hash;
        for (var i = _peaks.Count - 2; i >= 0; i--)
            root = Merkle.Node(_peaks[i].Hash, root);
        return root;
    }
}
