using System.Text.Json;
using CsCheck;
using Oikonom.Core.Ledger;
using Oikonom.Proofs;
using Xunit;

namespace Oikonom.Core.Tests;

public sealed class LedgerTests
{
    [Fact]
    public void Hashes_are_those_of_rfc_9162()
    {
        Assert.Equal("e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855", Convert.ToHexStringLower(Merkle.Root([])));
        Assert.Equal("6e340b9cffb37a989ca544e6bb780a2c78901d3fb33738768511a30617afa01d", Convert.ToHexStringLower(Merkle.Leaf("")));
        // The leaves of a known tree, and its root after each of them.
        string[] leaves = ["", "\x00", "\x10", "\x20\x21", "\x30\x31", "@ABC", "PQRSTUVW", "`abcdefghijklmno"];
        string[] roots =
        [
            "6e340b9cffb37a989ca544e6bb780a2c78901d3fb33738768511a30617afa01d",
            "fac54203e7cc696cf0dfcb42c92a1d9dbaf70ad9e621f4bd8d98662f00e3c125",
            "aeb6bcfe274b70a14fb067a5e5578264db0fa9b51af5e0ba159158f329e06e77",
            "d37ee418976dd95753c1c73862b9398fa2a2cf9b4ff0fdfe8b30cd95209614b7",
            "4e3bbb1f7b478dcfe71fb631631519a3bca12c9aefca1612bfce4c13a86264d4",
            "76e67dadbcdf1e10e1b74ddc608abd2f98dfb16fbce75277b5232a127f2087ef",
            "ddb89be403809e325750d3d263cd78929c2942b7942a34b77e122c9594a74c8c",
            "5dc9da79a70659a9ad559cb701ded9a2ab9d823aad2f4960cfe370eff4604328",
        ];
        var hashes = leaves.Select(Merkle.Leaf).ToList();
        Assert.All(roots, (root, at) => Assert.Equal(root, Convert.ToHexStringLower(Merkle.Root([.. hashes.Take(at + 1)]))));
    }

    /// <summary>The tree of seven leaves that RFC 9162 (2.1.5) draws, with the proofs it gives for it.</summary>
    [Fact]
    public void Proofs_are_those_of_the_tree_in_rfc_9162()
    {
        var d = Enumerable.Range(0, 7).Select(n => Merkle.Leaf($"d{n}")).ToList();
        var (a, b, c, e, f, j) = (d[0], d[1], d[2], d[3], d[4], d[6]);
        var (g, h, i) = (Merkle.Node(a, b), Merkle.Node(c, e), Merkle.Node(f, d[5]));
        var (k, l) = (Merkle.Node(g, h), Merkle.Node(i, j));
        Assert.Equal(Merkle.Node(k, l), Merkle.Root(d));
        Assert.Equal([b, h, l], Merkle.InclusionProof(d, 0));
        Assert.Equal([c, g, l], Merkle.InclusionProof(d, 3));
        Assert.Equal([d[5], j, k], Merkle.InclusionProof(d, 4));
        Assert.Equal([i, k], Merkle.InclusionProof(d, 6));
        Assert.True(Merkle.VerifyConsistency(3, Merkle.Root([.. d.Take(3)]), 7, Merkle.Root(d), [c, e, g, l]));
        Assert.True(Merkle.VerifyConsistency(4, k, 7, Merkle.Root(d), [l]));
        Assert.True(Merkle.VerifyConsistency(6, Merkle.Root([.. d.Take(6)]), 7, Merkle.Root(d), [i, j, k]));
        Assert.False(Merkle.VerifyConsistency(4, k, 7, Merkle.Root(d), [i]));
        Assert.False(Merkle.VerifyConsistency(6, Merkle.Root([.. d.Take(6)]), 7, Merkle.Root(d), [j, i, k]));
    }

    [Fact]
    public void The_growing_edge_gives_the_root_of_the_whole_tree()
    {
        var frontier = new MerkleFrontier();
        var leaves = new List<byte[]>();
        Assert.Equal(Merkle.Root(leaves), frontier.Root());
        for (var i = 0; i < 200; i++)
        {
            leaves.Add(Merkle.Leaf($"entry {i}"));
            frontier.Add(leaves[^1]);
            Assert.Equal(Merkle.Root(leaves), frontier.Root());
        }
    }

    [Fact]
    public void Each_leaf_is_proved_and_no_other() =>
        Gen.Int[1, 130]
            .SelectMany(size => Gen.Int[0, size - 1].Select(index => (size, index)))
            .Sample(
                pair =>
                {
                    var leaves = Enumerable.Range(0, pair.size).Select(i => Merkle.Leaf($"entry {i}")).ToList();
                    var (root, proof) = (Merkle.Root(leaves), Merkle.InclusionProof(leaves, pair.index));
                    Assert.True(Merkle.VerifyInclusion(leaves[pair.index], pair.index, pair.size, proof, root));
                    Assert.False(Merkle.VerifyInclusion(Merkle.Leaf("another"), pair.index, pair.size, proof, root));
                    if (pair.size > 1)
                        Assert.False(Merkle.VerifyInclusion(leaves[pair.index], (pair.index + 1) % pair.size, pair.size, proof, root));
                },
                iter: 300
            );

    [Fact]
    public void An_entry_is_one_json_object_and_keeps_its_own_members()
    {
        var entry = LedgerEntry.Of(
            DateTimeOffset.UnixEpoch,
            "mara",
            "request.approved",
            "p",
            "r",
            ("digest", "x"),
            ("none", null),
            ("count", 3)
        );
        using var body = JsonDocument.Parse(entry.Body);
        Assert.Equal("1970-01-01T00:00:00.000Z", body.RootElement.GetProperty("at").GetString());
        Assert.Equal(3, body.RootElement.GetProperty("count").GetInt32());
        Assert.False(body.RootElement.TryGetProperty("none", out _));
        // The columns beside the body say what it says, in its own order, and what is missing is not there.
        Assert.Equal(["id", "at", "actor", "kind", "person", "request"], body.RootElement.EnumerateObject().Select(m => m.Name).Take(6));
        Assert.Equal((entry.Id, "mara", "request.approved", "p", "r"), (Of("id"), Of("actor"), Of("kind"), Of("person"), Of("request")));
        using var bare = JsonDocument.Parse(LedgerEntry.Of(DateTimeOffset.UnixEpoch, "a", "b", null, null).Body);
        Assert.Equal(["id", "at", "actor", "kind"], bare.RootElement.EnumerateObject().Select(m => m.Name));
        // With nothing sealed and nothing forgotten, nothing is said of that.
        var open = LedgerText.Open(entry.Body, entry.Values);
        Assert.False(open.TryGetProperty("forgotten", out _));
        Assert.Equal("x", open.GetProperty("digest").GetString());

        string? Of(string member) => body.RootElement.GetProperty(member).GetString();
        Assert.Throws<ArgumentException>(() => LedgerEntry.Of(DateTimeOffset.UnixEpoch, "a", "b", null, null, ("kind", "c")));
    }

    /// <summary>Entries are written one after the other with the same buffer: nothing of one may be in the next.</summary>
    [Fact]
    public void An_entry_that_cannot_be_written_leaves_nothing_in_the_next()
    {
        var at = DateTimeOffset.UnixEpoch;
        Assert.Throws<ArgumentException>(() => LedgerEntry.Of(at, "a", "b", "p", null, ("account", "marlow"), ("kind", "c")));
        var next = LedgerEntry.Of(at, "a", "b", null, null, ("digest", "x"));
        Assert.Equal($$"""{"id":"{{next.Id}}","at":"1970-01-01T00:00:00.000Z","actor":"a","kind":"b","digest":"x"}""", next.Body);
        Assert.Null(next.Values);
        var held = LedgerEntry.Of(at, "a", "b", null, null, ("account", "kelp"));
        Assert.Equal("account", Assert.Single(LedgerText.ValuesOf(held.Values)).Key);
        Assert.Null(LedgerText.Fault(held.Body, held.Values));
    }
}
