using System.Security.Cryptography;
using System.Text.Json;
using CsCheck;
using Oikonom.Core.Ledger;
using Oikonom.Proofs;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>An export is believed for what it proves and for nothing else.</summary>
public sealed class ProofTests
{
    private sealed record Signer(ECDsa Key)
    {
        public static Signer New() => new(ECDsa.Create(ECCurve.NamedCurves.nistP256));

        public string Public { get; } = Convert.ToBase64String(Key.ExportSubjectPublicKeyInfo());
        public string Id => LedgerKey.IdOf(Public);

        private string Sign(byte[] bytes) => Convert.ToBase64String(Key.SignData(bytes, HashAlgorithmName.SHA256));

        public SignedHead Head(long size, byte[] root) =>
            new(size, Convert.ToHexStringLower(root), size * 1000, Sign(SignedHead.Bytes(size, root, size * 1000)), Id);

        public LedgerKey Names(Signer next, long fromSize) =>
            new(next.Id, next.Public, fromSize, fromSize * 1000, Id, Sign(LedgerKey.Bytes(next.Public, fromSize, fromSize * 1000)));
    }

    /// <summary>A record of entries with its keys, and the exports of it.</summary>
    private sealed class Record
    {
        private readonly List<LedgerEntry> _entries;
        private readonly MerkleTree _tree;

        public Record(int size, string word = "reason")
        {
            _entries =
            [
                .. Enumerable
                    .Range(0, size)
                    .Select(i =>
                        LedgerEntry.Of(
                            DateTimeOffset.UnixEpoch.AddMinutes(i),
                            "mara",
                            "request.approved",
                            $"p{i % 3}",
                            $"r{i}",
                            ("stage", "Owner"),
                            ("remark", $"{word} {i}")
                        )
                    ),
            ];
            _tree = new([.. _entries.Select(e => Merkle.Leaf(e.Body))]);
            Keys = [First.Names(First, 0), First.Names(Second, Math.Max(1, size / 2))];
        }

        public static Signer First { get; } = Signer.New();
        public static Signer Second { get; } = Signer.New();
        public IReadOnlyList<LedgerKey> Keys { get; }
        public int Size => _entries.Count;

        public SignedHead Head(int size) => (size > Math.Max(1, Size / 2) ? Second : First).Head(size, _tree.Root(size));

        public List<string> Export(Func<int, bool>? which = null, params IReadOnlyList<int> earlier)
        {
            var header = new ExportHeader(
                ExportHeader.Version,
                Head(Size),
                Keys,
                [.. earlier.Select(n => new EarlierHead(Head(n), Hex(_tree.ConsistencyProof(n, Size))))],
                which is null
            );
            return
            [
                Json(header),
                .. Enumerable
                    .Range(0, Size)
                    .Where(i => which is null || which(i))
                    .Select(i =>
                        Json(
                            new ExportEntry(
                                i,
                                _entries[i].Body,
                                LedgerText.ValuesOf(_entries[i].Values),
                                Hex(_tree.InclusionProof(i, Size))
                            )
                        )
                    ),
            ];
        }

        private static IReadOnlyList<string> Hex(IReadOnlyList<byte[]> hashes) => [.. hashes.Select(Convert.ToHexStringLower)];
    }

    private static string Json<T>(T value) => JsonSerializer.Serialize(value, JsonSerializerOptions.Web);

    private static ExportEntry EntryOf(string line) => JsonSerializer.Deserialize<ExportEntry>(line, JsonSerializerOptions.Web)!;

    private static ExportHeader HeaderOf(string line) => JsonSerializer.Deserialize<ExportHeader>(line, JsonSerializerOptions.Web)!;

    [Fact]
    public void A_whole_export_and_a_part_of_one_verify_by_any_key_of_the_history() =>
        Gen.Int[2, 40]
            .Sample(
                size =>
                {
                    var record = new Record(size);
                    foreach (var pinned in new[] { Record.First, Record.Second })
                    {
                        var whole = LedgerExport.Verify(record.Export(null, 1), pinned.Public, [record.Head(1), record.Head(size)]);
                        Assert.Empty(whole.Faults);
                        Assert.Equal((size, size, 0), (whole.Entries, whole.Values, whole.Forgotten));
                        // A whole export proves by its entries that it continues a head, also without a proof of its own.
                        Assert.Empty(LedgerExport.Verify(record.Export(), pinned.Public, [record.Head(size - 1)]).Faults);
                        var part = LedgerExport.Verify(record.Export(i => i % 3 == 1), pinned.Public, []);
                        Assert.Empty(part.Faults);
                        Assert.Equal(Enumerable.Range(0, size).Count(i => i % 3 == 1), part.Entries);
                    }
                },
                iter: 40
            );

    [Fact]
    public void What_is_forgotten_is_counted_and_nothing_else_changes()
    {
        var lines = new Record(9).Export();
        for (var i = 1; i < lines.Count; i += 2)
            lines[i] = Json(EntryOf(lines[i]) with { Values = null });
        var found = LedgerExport.Verify(lines, Record.First.Public, []);
        Assert.Empty(found.Faults);
        Assert.Equal((9, 4, 5), (found.Entries, found.Values, found.Forgotten));
    }

    [Fact]
    public void No_change_of_an_export_stays_unseen() =>
        Gen.Select(Gen.Int[3, 30], Gen.Int[0, 11], Gen.Int[0, 1000])
            .Sample(
                (size, how, at) =>
                {
                    var record = new Record(size);
                    var lines = record.Export(null, 2);
                    var n = 1 + (at % size);
                    var (entry, header) = (EntryOf(lines[n]), HeaderOf(lines[0]));
                    switch (how)
                    {
                        case 0:
                            lines.RemoveAt(n);
                            break;
                        case 1:
                            lines.Insert(n, lines[n]);
                            break;
                        case 2:
                            lines[n] = Json(entry with { Body = entry.Body.Replace("mara", "mole", StringComparison.Ordinal) });
                            break;
                        case 3:
                            lines[n] = Json(entry with { Position = (entry.Position + 1) % size });
                            break;
                        case 4:
                            var (name, held) = entry.Values!.First();
                            lines[n] = Json(
                                entry with
                                {
                                    Values = new Dictionary<string, SaltedValue> { [name] = held with { Value = "\"another reason\"" } },
                                }
                            );
                            break;
                        case 5:
                            lines[n] = Json(entry with { Proof = [.. entry.Proof.Skip(1)] });
                            break;
                        case 6:
                            lines[0] = Json(header with { Head = header.Head with { Size = size - 1 } });
                            break;
                        case 7:
                            lines[0] = Json(header with { Head = header.Head with { At = header.Head.At + 1 } });
                            break;
                        case 8:
                            lines[0] = Json(
                                header with
                                {
                                    Keys = [header.Keys[0], header.Keys[1] with { FromSize = header.Keys[1].FromSize + 1 }],
                                }
                            );
                            break;
                        case 9:
                            lines[0] = Json(header with { Keys = [header.Keys[1]] });
                            break;
                        case 10:
                            lines[0] = Json(
                                header with
                                {
                                    Earlier = [header.Earlier[0] with { Head = new Record(size, "other").Head(2) }],
                                }
                            );
                            break;
                        default:
                            lines[n] = lines[n][..(lines[n].Length / 2)];
                            break;
                    }
                    Assert.NotEmpty(LedgerExport.Verify(lines, Record.First.Public, []).Faults);
                },
                iter: 600
            );

    [Fact]
    public void A_rewritten_record_is_found_out_by_whoever_kept_a_head()
    {
        var (before, after) = (new Record(12), new Record(15, "rewritten"));
        // Signed anew with the very keys: only the head that was kept tells.
        Assert.Empty(LedgerExport.Verify(after.Export(), Record.First.Public, []).Faults);
        foreach (var kept in new[] { 3, 12 })
            Assert.Contains(
                LedgerExport.Verify(after.Export(null, kept), Record.First.Public, [before.Head(kept)]).Faults,
                f => f.Contains("rewritten", StringComparison.Ordinal)
            );
        Assert.Contains(
            LedgerExport.Verify(before.Export(), Record.First.Public, [after.Head(15)]).Faults,
            f => f.Contains("entries are gone", StringComparison.Ordinal)
        );
        // A part of a record needs the proof that it continues what was kept, and is told how to get it.
        Assert.Contains(
            LedgerExport.Verify(before.Export(i => i == 1), Record.First.Public, [before.Head(5)]).Faults,
            f => f.Contains("--from 5", StringComparison.Ordinal)
        );
        Assert.Empty(LedgerExport.Verify(before.Export(i => i == 1, 5), Record.First.Public, [before.Head(5)]).Faults);
    }

    [Fact]
    public void A_key_nobody_named_signs_nothing()
    {
        var record = new Record(8);
        using var thief = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var own = new Signer(thief);
        var lines = record.Export();
        var header = HeaderOf(lines[0]);
        var root = Convert.FromHexString(header.Head.Root);
        // By a key that is not in the history, by one put into it without a name, and by the first after it gave the right away.
        foreach (
            var forged in new[]
            {
                header with
                {
                    Head = own.Head(8, root),
                },
                header with
                {
                    Head = own.Head(8, root),
                    Keys = [.. header.Keys, own.Names(own, 6)],
                },
                header with
                {
                    Head = Record.First.Head(8, root),
                },
            }
        )
        {
            lines[0] = Json(forged);
            Assert.NotEmpty(LedgerExport.Verify(lines, Record.First.Public, []).Faults);
        }
        lines[0] = Json(header);
        Assert.Contains(
            LedgerExport.Verify(lines, own.Public, []).Faults,
            f => f.Contains("The key you trust is not in the history", StringComparison.Ordinal)
        );
    }

    [Theory]
    [InlineData("")]
    [InlineData("not json")]
    [InlineData("null")]
    [InlineData("{}")]
    [InlineData("""{"format":"oikonom-ledger/2","head":null,"keys":[],"earlier":[],"whole":true}""")]
    public void What_is_no_export_is_told(string line) => Assert.NotEmpty(LedgerExport.Verify([line], Record.First.Public, []).Faults);

    [Fact]
    public void A_commitment_holds_for_its_value_and_salt_alone() =>
        Gen.Select(Gen.String, Gen.String)
            .Sample(
                (value, other) =>
                {
                    var (salt, hash) = Commitment.To(value);
                    Assert.True(Commitment.Holds(salt, value, hash));
                    Assert.Equal(value == other, Commitment.Holds(salt, other, hash));
                    Assert.False(Commitment.Holds(Commitment.To(value).Salt, value, hash));
                    Assert.False(Commitment.Holds("no salt", value, hash));
                    Assert.Equal(2 * Commitment.SaltBytes, salt.Length);
                }
            );

    [Fact]
    public void A_tree_that_grows_leaf_by_leaf_is_the_tree_of_all_leaves() =>
        Gen.Int[0, 200]
            .Sample(
                size =>
                {
                    var frontier = new MerkleFrontier();
                    var leaves = Enumerable.Range(0, size).Select(i => Merkle.Leaf($"entry {i}")).ToList();
                    foreach (var leaf in leaves)
                        frontier.Add(leaf);
                    Assert.Equal(
                        (size, Convert.ToHexStringLower(Merkle.Root(leaves))),
                        (frontier.Size, Convert.ToHexStringLower(frontier.Root()))
                    );
                    for (var i = 0; i < size; i += Math.Max(1, size / 5))
                    {
                        var proof = Merkle.InclusionProof(leaves, i);
                        Assert.True(Merkle.VerifyInclusion(leaves[i], i, size, proof, Merkle.Root(leaves)));
                        Assert.False(Merkle.VerifyInclusion(leaves[i], i, size, [.. proof, leaves[i]], Merkle.Root(leaves)));
                    }
                },
                iter: 60
            );
}
