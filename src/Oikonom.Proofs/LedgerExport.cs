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
        using var reader = lines.GetEnumerator();
        if (!reader.MoveNext())
            return new(0, 0, 0, null, ["The export is empty."]);
        if (Header(reader.Current) is not { } header)
            return new(0, 0, 0, null, [$"The first line is no header of the form {ExportHeader.Version}."]);
        var check = new Check(header, seen);
        check.Keys(pinned);
        check.EarlierHeads();
        while (reader.MoveNext())
            if (reader.Current.Length > 0)
                check.Entry(reader.Current);
        check.Tree();
        check.KeptHeads();
        return check.Finding;
    }

    private static ExportHeader? Header(string line)
    {
        try
        {
            return
                JsonSerializer.Deserialize<ExportHeader>(line, SignedHead.Strict) is { } read
                && read.Format == ExportHeader.Version
                && !read.Keys.Contains(null!)
                && !read.Earlier.Contains(null!)
                ? read
                : null;
        }
        catch (JsonException)
        {
            return null;
        }
    }

    /// <summary>One verification under way.</summary>
    private sealed class Check(ExportHeader header, IReadOnlyList<SignedHead> seen)
    {
        private readonly SignedHead _head = header.Head;
        private readonly List<string> _faults = [];

        /// <summary>The tree built from the entries, where the export says it holds all of them.</summary>
        private readonly MerkleFrontier? _frontier = header.Whole ? new() : null;
        private readonly Dictionary<long, List<SignedHead>> _wanted = seen.GroupBy(h => h.Size).ToDictionary(g => g.Key, g => g.ToList());

        /// <summary>Sizes of earlier trees that this one provably continues.</summary>
        private readonly HashSet<long> _continued = [];
        private long _entries;
        private long _values;
        private long _forgotten;

        public ExportFinding Finding => new(_entries, _values, _forgotten, _head, _faults);

        public void Keys(string pinned)
        {
            if (LedgerKey.Fault(header.Keys) is { } broken)
                Fault(broken);
            if (!header.Keys.Any(k => k.PublicKey == pinned))
                Fault("The key you trust is not in the history of keys of the export.");
            if (LedgerKey.Fault(header.Keys, _head) is { } unsigned)
                Fault(unsigned);
        }

        public void EarlierHeads()
        {
            foreach (var earlier in header.Earlier)
            {
                if (LedgerKey.Fault(header.Keys, earlier.Head) is { } bad)
                    Fault(bad);
                else if (
                    !Bytes(earlier.Proof, out var proof)
                    || !Bytes([earlier.Head.Root, _head.Root], out var roots)
                    || !Merkle.VerifyConsistency(earlier.Head.Size, roots[0], _head.Size, roots[1], proof)
                )
                    Fault($"The export does not continue the {earlier.Head}.");
                else
                    _continued.Add(earlier.Head.Size);
                Compare(earlier.Head.Size, earlier.Head.Root);
            }
            Compare(_head.Size, _head.Root);
            _continued.Add(_head.Size);
        }

        public void Entry(string line)
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
                Fault($"Line {_entries + 2} is no entry.");
                return;
            }
            _entries++;
            var leaf = Merkle.Leaf(entry.Body);
            if (
                !Bytes(entry.Proof, out var proof)
                || !Bytes([_head.Root], out var root)
                || !Merkle.VerifyInclusion(leaf, entry.Position, _head.Size, proof, root[0])
            )
                Fault($"The entry at position {entry.Position} is not in the tree of the head.");
            if (_frontier is not null)
                Grow(_frontier, entry.Position, leaf);
            Seals(entry);
        }

        private void Grow(MerkleFrontier frontier, long position, byte[] leaf)
        {
            if (position != frontier.Size)
                Fault($"Position {frontier.Size} is missing: the next entry stands at {position}.");
            frontier.Add(leaf);
            if (!_wanted.ContainsKey(frontier.Size))
                return;
            Compare(frontier.Size, Convert.ToHexStringLower(frontier.Root()));
            _continued.Add(frontier.Size);
        }

        private void Seals(ExportEntry entry)
        {
            try
            {
                using var body = JsonDocument.Parse(entry.Body);
                if (!body.RootElement.TryGetProperty("sealed", out var seals))
                    return;
                foreach (var seal in seals.EnumerateObject())
                {
                    if (entry.Values?.GetValueOrDefault(seal.Name) is not { } held)
                        _forgotten++;
                    else if (Commitment.Holds(held.Salt, held.Value, seal.Value.GetString() ?? ""))
                        _values++;
                    else
                        Fault($"The value '{seal.Name}' of the entry at position {entry.Position} is not what was sealed.");
                }
            }
            catch (Exception error) when (error is JsonException or InvalidOperationException)
            {
                Fault($"The entry at position {entry.Position} cannot be read.");
            }
        }

        /// <summary>The tree of the entries is that of the head.</summary>
        public void Tree()
        {
            if (_frontier is null)
                return;
            if (_frontier.Size != _head.Size)
                Fault($"The export says it is whole and holds {_frontier.Size} entries; its head speaks of {_head.Size}.");
            else if (Convert.ToHexStringLower(_frontier.Root()) != _head.Root)
                Fault("The entries together have another root than the head.");
        }

        public void KeptHeads()
        {
            foreach (var old in seen)
            {
                if (LedgerKey.Fault(header.Keys, old) is { } strange)
                    Fault($"A head you kept: {strange}");
                if (old.Size > _head.Size)
                    Fault($"You kept a head of {old.Size} entries, and the export has {_head.Size}: entries are gone.");
                else if (!_continued.Contains(old.Size))
                    Fault(
                        $"The export has no proof that it continues the head of {old.Size} entries you kept. Export it anew with "
                            + $"--from {old.Size}."
                    );
            }
        }

        private void Compare(long size, string root)
        {
            foreach (var old in _wanted.GetValueOrDefault(size) ?? [])
                if (old.Root != root)
                    Fault($"You kept another head of {size} entries: the record was rewritten.");
        }

        private void Fault(string text)
        {
            if (_faults.Count < MostFaults && !_faults.Contains(text))
                _faults.Add(text);
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
