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
        // The tree of the two leaves "L123456" style: node hash over known leaves, computed with the prefix 0x01.
        var (a, b) = (Merkle.Leaf("a"), Merkle.Leaf("b"));
        Assert.Equal(
            Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData([1, .. a, .. b])),
            Convert.ToHexStringLower(Merkle.Root([a, b]))
        );
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
        Assert.Throws<ArgumentException>(() => LedgerEntry.Of(DateTimeOffset.UnixEpoch, "a", "b", null, null, ("kind", "c")));
    }
}
