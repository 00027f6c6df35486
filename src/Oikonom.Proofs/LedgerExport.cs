using System.Text.Json;

namespace Oikonom.Proofs;

/// <summary>The first line of an export: the head its proofs lead to, the history of keys, and earlier heads it continues.</summary>
/// <param name="Whole">True when every entry of the tree is there.</param>
public sealed record ExportHeader(
    string Format,
    SignedHead Head,
    IReadOnlyList<LedgerKey> Keys,
    IReadOnlyList<EarlierHead> Earlier,
    bool Whole
)
{
    /// <summary>The form this reads and writes.</summary>
    public const string Version = "oikonom-ledger/1";
}

/// <summary>An earlier head, with the proof that the newest continues it (RFC 9162 §2.1.4).</summary>
public sealed record EarlierHead(SignedHead Head, IReadOnlyList<string> Proof);

/// <summary>Each further line of an export: an entry exactly as it was sealed, what is still held of its values, and the proof
/// that it is in the tree.</summary>
/// <param name="Values">Name → salt and value, of what is not forgotten.</param>
public sealed record ExportEntry(long Position, string Body, IReadOnlyDictionary<string, SaltedValue>? Values, IReadOnlyList<string> Proof);

/// <param name="Value">The value as JSON text.</param>
public sealed record SaltedValue(string Salt, string Value);

/// <summary>What a verification of an export found.</summary>
public sealed record ExportFinding(long Entries, long Values, long Forgotten, SignedHead? Head, IReadOnlyList<string> Faults);

/// <summary>Verifies an export with nothing but its lines and a public key that was pinned elsewhere.</summary>
public static class LedgerExport
{
    private const int MostFaults = 50;

    /// <param name="lines">The lines of the export, one JSON object each.</param>
    /// <param name="pinned">A public key (SubjectPublicKeyInfo in Base64) the reader trusts; it must be in the export's history
    /// of keys.</param>
    /// <param name="seen">Heads the reader kept from before: the export must continue each of them.</param>
    public static ExportFinding Verify(IEnumerable<string> lines, string pinned, IReadOnlyList<SignedHead> seen)
    {
        var faults = new List<string>();
        using var reader = lines.GetEnumerator();
        ExportHeader header;
        try
        {
            if (!reader.MoveNext())
                return new(0, 0, 0, null, ["The export is empty."]);
            header =
                JsonSerializer.Deserialize<ExportHeader>(reader.Current, SignedHead.Strict) is { } read
                && read.Format == ExportHeader.Version
                && !read.Keys.Contains(null!)
                && !read.Earlier.Contains(null!)
                    ? read
                    : throw new JsonException();
        }
        catch (JsonException)
        {
            return new(0, 0, 0, null, [$"The first line is no header of the form {ExportHeader.Version}."]);
        }
        var head = header.Head;
        if (LedgerKey.Fault(header.Keys) is { } broken)
            Fault(broken);
        if (!header.Keys.Any(k => k.PublicKey == pinned))
            Fault("The key you trust is not in the history of keys of the export.");
        if (LedgerKey.Fault(header.Keys, head) is { } unsigned)
            Fault(unsigned);
        var frontier = header.Whole ? new MerkleFrontier() : null;
        var wanted = seen.GroupBy(h => h.Size).ToDictionary(g => g.Key, g => g.ToList());
        var continued = new HashSet<long>();
        foreach (var earlier in header.Earlier)
        {
            if (LedgerKey.Fault(header.Keys, earlier.Head) is { } bad)
                Fault(bad);
            else if (
                !Bytes(earlier.Proof, out var proof)
                || !Bytes([earlier.Head.Root, head.Root], out var roots)
                || !Merkle.VerifyConsistency(earlier.Head.Size, roots[0], head.Size, roots[1], proof)
            )
                Fault($"The export does not continue the {earlier.Head}.");
            else
                continued.Add(earlier.Head.Size);
            Compare(earlier.Head.Size, earlier.Head.Root);
        }
        Compare(head.Size, head.Root);
        continued.Add(head.Size);
        var (entries, values, forgotten) = (0L, 0L, 0L);
        while (reader.MoveNext())
        {
            if (reader.Current.Length == 0)
                continue;
            Look(reader.Current);
        }
        if (frontier is not null)
        {
            if (frontier.Size != head.Size)
                Fault($"The export says it is whole and holds {frontier.Size} entries; its head speaks of {head.Size}.");
            else if (Convert.ToHexStringLower(frontier.Root()) != head.Root)
                Fault("The entries together have another root than the head.");
        }
        foreach (var old in seen)
        {
            if (LedgerKey.Fault(header.Keys, old) is { } strange)
                Fault($"A head you kept: {strange}");
            if (old.Size > head.Size)
                Fault($"You kept a head of {old.Size} entries, and the export has {head.Size}: entries are gone.");
            else if (!continued.Contains(old.Size))
                Fault(
                    $"The export has no proof that it continues the head of {old.Size} entries you kept. Export it anew with "
                        + $"--from {old.Size}."
                );
        }
        return new(entries, values, forgotten, head, faults);

        void Look(string line)
        {
            ExportEntry? entry;
            try
            {
                entry = JsonSerializer.Deserialize<ExportEntry>(line, SignedHead.Strict);
            }
            catch (JsonException)
            {
                entry = null;
            }
            if (entry is null)
            {
                Fault($"Line {entries + 2} is no entry.");
                return;
            }
            entries++;
            var leaf = Merkle.Leaf(entry.Body);
            if (
                !Bytes(entry.Proof, out var proof)
                || !Bytes([head.Root], out var root)
                || !Merkle.VerifyInclusion(leaf, entry.Position, head.Size, proof, root[0])
            )
                Fault($"The entry at position {entry.Position} is not in the tree of the head.");
            if (frontier is not null)
            {
                if (entry.Position != frontier.Size)
                    Fault($"Position {frontier.Size} is missing: the next entry stands at {entry.Position}.");
                frontier.Add(leaf);
                if (wanted.ContainsKey(frontier.Size))
                {
                    Compare(frontier.Size, Convert.ToHexStringLower(frontier.Root()));
                    continued.Add(frontier.Size);
                }
            }
            Seals(entry);
        }

        void Seals(ExportEntry entry)
        {
            try
            {
                using var body = JsonDocument.Parse(entry.Body);
                if (!body.RootElement.TryGetProperty("sealed", out var seals))
                    return;
                foreach (var seal in seals.EnumerateObject())
                {
                    if (entry.Values?.GetValueOrDefault(seal.Name) is not { } held)
                        forgotten++;
                    else if (Commitment.Holds(held.Salt, held.Value, seal.Value.GetString() ?? ""))
                        values++;
                    else
                        Fault($"The value '{seal.Name}' of the entry at position {entry.Position} is not what was sealed.");
                }
            }
            catch (Exception error) when (error is JsonException or InvalidOperationException)
            {
                Fault($"The entry at position {entry.Position} cannot be read.");
            }
        }

        void Compare(long size, string root)
        {
            foreach (var old in wanted.GetValueOrDefault(size) ?? [])
                if (old.Root != root)
                    Fault($"You kept another head of {size} entries: the record was rewritten.");
        }

        void Fault(string text)
        {
            if (faults.Count < MostFaults && !faults.Contains(text))
                faults.Add(text);
        }
    }

    private static bool Bytes(IReadOnlyList<string> hex, out List<byte[]> bytes)
    {
        bytes = [];
        foreach (var one in hex)
        {
            if (one is not { Length: 64 } || !one.All(char.IsAsciiHexDigit))
                return false;
            bytes.Add(Convert.FromHexString(one));
        }
        return true;
    }
}
