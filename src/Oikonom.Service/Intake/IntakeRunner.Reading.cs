using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;
using System.Text.Json;
using System.Threading.Channels;
using Oikonom.Core.Intake;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;
using Oikonom.Sources;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Intake;

/// <content>Reading a delivery: what is new or changed is told by key and fingerprint, and mapped.</content>
public sealed partial class IntakeRunner
{
    private sealed class Reading
    {
        public int Read;
        public int Unchanged;
        public List<Incoming> Changes { get; private set; } = [];

        /// <summary>How many records were new or changed, those already handed over included.</summary>
        public int Changed => _handedOver + Changes.Count;
        private int _handedOver;
        public readonly List<Incoming> Outside = [];
        public readonly List<string> Missing = [];
        public readonly List<SetAsideRow> SetAside = [];
        public readonly List<(string Key, string Status)> Statuses = [];
        public int Known;

        /// <summary>True for the keys of records that were taken before.</summary>
        public Func<string, bool> IsKnown { get; init; } = _ => false;

        public void Aside(
            string runId,
            SourceRule source,
            Delivery delivery,
            int line,
            string column,
            string value,
            string reason,
            string key,
            string fields
        ) =>
            SetAside.Add(
                new()
                {
                    RunId = runId,
                    Source = source.Name,
                    File = delivery.Origin,
                    Line = line,
                    ColumnName = column,
                    Value = value,
                    Reason = reason,
                    RecordKey = key,
                    Fields = fields,
                }
            );

        /// <summary>The changes so far, which are not kept here any longer.</summary>
        public List<Incoming> HandOver()
        {
            var changes = Changes;
            (Changes, _handedOver) = ([], _handedOver + changes.Count);
            return changes;
        }

        public void Add(List<RowMapping.Mapped> mapped, string runId, SourceRule source, Delivery delivery)
        {
            foreach (var (row, read) in mapped)
            {
                if (read.Fault is { } fault && !(read.IsWithdrawn && IsKnown(row.Key)))
                    Aside(runId, source, delivery, row.Line, fault.Column, fault.Value, fault.Reason, row.Key, Fields(source, row.Texts));
                else if (read.Outside)
                    Outside.Add(new(row.Key, row.Fingerprint, null, row.Line) { IsOutside = true });
                else
                    Changes.Add(new(row.Key, row.Fingerprint, read.Facts!, row.Line));
            }
        }
    }

    /// <summary>Keys and fingerprints of all rows of sound form, and the faults of the others: enough to tell what changed.</summary>
    private sealed class Scanned
    {
        public readonly List<string> Keys = [];
        public readonly List<UInt128> Fingerprints = [];
        public readonly List<int> Lines = [];
        public readonly List<(int Line, string Fault)> Faults = [];
    }

    private async Task<Reading> ReadAsync(
        Core.Rulebook.Rulebook rulebook,
        SourceRule source,
        Delivery delivery,
        bool full,
        string person,
        string runId,
        CancellationToken cancel
    )
    {
        if (full && !await store.ReadAsync(s => s.HasRecordsAsync(source.Name), cancel))
            return First(delivery, source, rulebook, runId, cancel);
        if (full)
        {
            // What is known is loaded while the delivery is parsed.
            var loading = Task.Run(() => store.ReadAsync(s => s.FingerprintsAsync(source.Name, cancel), cancel), cancel);
            var rows = Scan(delivery, source, person, cancel);
            return Compare(delivery, source, rulebook, rows, await loading, full, runId, cancel);
        }
        // Of a small delivery only its own records are looked up: its cost does not grow with the people known.
        var some = Scan(delivery, source, person, cancel);
        var records = await store.ReadAsync(s => s.RecordsWithHashAsync(source.Name, [.. some.Keys.Distinct()]), cancel);
        var known = records.ToDictionary(
            r => r.RecordKey,
            r => UInt128.Parse(r.Hash, System.Globalization.NumberStyles.HexNumber, System.Globalization.CultureInfo.InvariantCulture),
            StringComparer.Ordinal
        );
        return Compare(delivery, source, rulebook, some, known, full, runId, cancel);
    }

    private static Scanned Scan(Delivery delivery, SourceRule source, string person, CancellationToken cancel)
    {
        var scanned = new Scanned();
        delivery.Each(
            row =>
            {
                if (row.Fault is not null)
                {
                    if (person.Length == 0)
                        scanned.Faults.Add((row.Line, row.Fault));
                    return;
                }
                if (person.Length > 0 && !Holds(row, source, person))
                    return;
                scanned.Keys.Add(row.Key.ToString());
                scanned.Fingerprints.Add(row.Fingerprint);
                scanned.Lines.Add(row.Line);
            },
            cancel
        );
        return scanned;
    }

    /// <summary>The columns of which the person's key and number are made.</summary>
    private static IEnumerable<int> Naming(SourceRule source) =>
        source
            .Mapping.Where(m => m.Name is BuiltIn.Person or BuiltIn.Number)
            .SelectMany(m => m.Expression.References)
            .Select(r => source.ColumnNames.ToList().IndexOf(r["row.".Length..]))
            .Distinct();

    private static bool Holds(SourceRow row, SourceRule source, string text)
    {
        if (row.Key.SequenceEqual(text))
            return true;
        foreach (var column in Naming(source))
            if (row.Text(column) == text)
                return true;
        return false;
    }

    private Reading Compare(
        Delivery delivery,
        SourceRule source,
        Core.Rulebook.Rulebook rulebook,
        Scanned rows,
        Dictionary<string, UInt128> known,
        bool full,
        string runId,
        CancellationToken cancel
    )
    {
        var reading = new Reading
        {
            Read = rows.Keys.Count + rows.Faults.Count,
            Known = known.Count,
            IsKnown = known.ContainsKey,
        };
        var keyName = source.ColumnNames[source.KeyColumn];
        var fresh = new HashSet<string>(StringComparer.Ordinal);
        var changed = new Dictionary<int, UInt128>();
        foreach (var (line, fault) in rows.Faults)
            Aside(line, "", "", fault, "", "{}");
        for (var i = 0; i < rows.Keys.Count; i++)
        {
            var (key, line) = (rows.Keys[i], rows.Lines[i]);
            if (key.Length == 0)
            {
                Aside(line, keyName, "", "The key of the record is empty.", "", "{}");
                continue;
            }
            // A known key is marked where it stands, so that an unchanged row costs one look-up.
            ref var fingerprint = ref CollectionsMarshal.GetValueRefOrNullRef(known, key);
            var isKnown = !Unsafe.IsNullRef(ref fingerprint);
            if (isKnown ? fingerprint == Seen : !fresh.Add(key))
                Aside(line, keyName, key, DoubleKey, key, "{}");
            else if (isKnown && fingerprint == rows.Fingerprints[i])
            {
                reading.Unchanged++;
                if (!full)
                    reading.Statuses.Add((key, "unchanged"));
            }
            else
                changed[line] = rows.Fingerprints[i];
            if (isKnown)
                fingerprint = Seen;
        }
        // A record without a fingerprint is known to be gone.
        if (full)
            foreach (var (key, fingerprint) in known)
                if (fingerprint != Seen && fingerprint != UInt128.Zero)
                    reading.Missing.Add(key);
        if (changed.Count > 0)
            Map(delivery, source, rulebook, changed, reading, runId, cancel);
        reading.SetAside.Sort((a, b) => a.Line.CompareTo(b.Line));
        return reading;

        void Aside(int line, string column, string value, string reason, string key, string fields) =>
            reading.Aside(runId, source, delivery, line, column, value, reason, key, fields);
    }

    /// <summary>The first delivery of a source: there is nothing to compare with, so that each row is gone through once.</summary>
    private Reading First(Delivery delivery, SourceRule source, Core.Rulebook.Rulebook rulebook, string runId, CancellationToken cancel)
    {
        var reading = new Reading();
        var parts = new List<Task<List<RowMapping.Mapped>>>();
        ScanFirst(delivery, source, new(source, rulebook, parts.Add) { On = Day }, reading, runId, cancel);
        foreach (var part in parts)
            reading.Add(part.GetAwaiter().GetResult(), runId, source, delivery);
        reading.SetAside.Sort((a, b) => a.Line.CompareTo(b.Line));
        return reading;
    }

    /// <summary>
    /// The first load of an empty store: one thread reads, others map, and what is mapped is written meanwhile, all
    /// in one decision. A file that breaks off in the middle leaves nothing behind. What was written is not kept.
    /// </summary>
    private async Task<(Reading Reading, Baseline.Adoption Adoption)> LoadFirstAsync(
        Taking taking,
        Delivery delivery,
        CancellationToken cancel
    ) =>
        await store.WriteAsync(
            async s =>
            {
                var (reading, scanned, memory) = (new Reading(), new Reading(), new RecordTaker.Memory { IsFirstLoad = true });
                var adoption = baseline.Begin(taking.Edition, cancel);
                using var stop = CancellationTokenSource.CreateLinkedTokenSource(cancel);
                var parts = Channel.CreateBounded<Task<List<RowMapping.Mapped>>>(MostAhead);
                var scanning = ScanAhead(taking, delivery, scanned, parts.Writer, stop.Token);
                try
                {
                    await foreach (var part in parts.Reader.ReadAllAsync(cancel))
                    {
                        reading.Add(await part, taking.RunId, taking.Source, delivery);
                        if (reading.Changes.Count >= LoadChunk)
                            await WriteOnAsync();
                    }
                    // A delivery that could not be read to its end is told of before anything is committed.
                    await scanning;
                    await WriteOnAsync();
                    await taker.WriteAsync(s, taking, [], reading.Outside, memory);

                    async Task WriteOnAsync()
                    {
                        var decided = await taker.DecideAsync(s, taking, reading.HandOver(), memory);
                        await taker.WriteAsync(s, taking, decided, [], memory);
                        adoption.Add(decided);
                    }
                }
                finally
                {
                    await stop.CancelAsync();
                    await scanning.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                }
                reading.Read = scanned.Read;
                reading.SetAside.AddRange(scanned.SetAside);
                reading.SetAside.Sort((a, b) => a.Line.CompareTo(b.Line));
                reading.Statuses.AddRange(reading.Outside.Select(o => (o.Key, "outside")));
                return (reading, adoption);
            },
            cancel
        );

    /// <summary>Reads a delivery on a thread of its own and hands its parts over as they are mapped.</summary>
    private Task ScanAhead(
        Taking taking,
        Delivery delivery,
        Reading scanned,
        ChannelWriter<Task<List<RowMapping.Mapped>>> parts,
        CancellationToken stop
    ) =>
        Task.Factory.StartNew(
            () =>
            {
                try
                {
                    ScanFirst(
                        delivery,
                        taking.Source,
                        new(taking.Source, taking.Edition.Rulebook, part => parts.WriteAsync(part, stop).AsTask().GetAwaiter().GetResult())
                        {
                            On = Day,
                        },
                        scanned,
                        taking.RunId,
                        stop
                    );
                }
                finally
                {
                    parts.Complete();
                }
            },
            stop,
            TaskCreationOptions.LongRunning,
            TaskScheduler.Default
        );

    private static void ScanFirst(
        Delivery delivery,
        SourceRule source,
        RowMapping mapping,
        Reading reading,
        string runId,
        CancellationToken cancel
    )
    {
        var keyName = source.ColumnNames[source.KeyColumn];
        var met = new HashSet<string>(StringComparer.Ordinal);
        delivery.Each(
            row =>
            {
                reading.Read++;
                var key = row.Fault is null ? row.Key.ToString() : "";
                if (row.Fault is not null)
                    Aside(row.Line, "", "", row.Fault, "", "{}");
                else if (key.Length == 0)
                    Aside(row.Line, keyName, "", "The key of the record is empty.", "", "{}");
                else if (!met.Add(key))
                    Aside(row.Line, keyName, key, DoubleKey, key, "{}");
                else
                    mapping.Add(key, row);
            },
            cancel
        );
        mapping.End();

        void Aside(int line, string column, string value, string reason, string key, string fields) =>
            reading.Aside(runId, source, delivery, line, column, value, reason, key, fields);
    }

    private const string DoubleKey = "Another row of this file has the same key; the first one counts.";

    /// <summary>Maps the rows that are new or changed; the delivery must still be the one that was scanned.</summary>
    private void Map(
        Delivery delivery,
        SourceRule source,
        Core.Rulebook.Rulebook rulebook,
        Dictionary<int, UInt128> changed,
        Reading reading,
        string runId,
        CancellationToken cancel
    )
    {
        var parts = new List<Task<List<RowMapping.Mapped>>>();
        var mapping = new RowMapping(source, rulebook, parts.Add) { On = Day, KnowsPeople = true };
        delivery.Each(
            row =>
            {
                if (!changed.Remove(row.Line, out var fingerprint))
                    return;
                if (row.Fault is not null || row.Fingerprint != fingerprint)
                    throw Replaced(delivery);
                mapping.Add(row.Key.ToString(), row);
            },
            cancel
        );
        if (changed.Count > 0)
            throw Replaced(delivery);
        mapping.End();
        foreach (var part in parts)
            reading.Add(part.GetAwaiter().GetResult(), runId, source, delivery);
    }

    private DateOnly Day => DateOnly.FromDateTime(time.GetUtcNow().UtcDateTime);

    /// <summary>One thread reads, the others map; what was mapped is put together again in the order of the file.</summary>
    private sealed class RowMapping(SourceRule source, Core.Rulebook.Rulebook rulebook, Action<Task<List<RowMapping.Mapped>>> send)
    {
        private const int BatchSize = 500;
        private const int Kept = 64;
        private readonly string?[] _texts = new string?[source.ColumnNames.Count * Kept];
        private List<Row> _batch = [];

        /// <summary>The day on which it is read, for days that nobody means.</summary>
        public required DateOnly On { get; init; }

        /// <summary>True where people are known already, so that a hire can have been withdrawn; see <see cref="RecordReader"/>.</summary>
        public bool KnowsPeople { get; init; }

        internal sealed record Row(string Key, UInt128 Fingerprint, int Line, string[] Texts);

        internal sealed record Mapped(Row Row, RowReading Read);

        public void Add(string key, SourceRow row)
        {
            var texts = new string[source.ColumnNames.Count];
            for (var i = 0; i < texts.Length; i++)
                texts[i] = Text(i, row.Span(i));
            _batch.Add(new(key, row.Fingerprint, row.Line, texts));
            if (_batch.Count == BatchSize)
                Send();
        }

        /// <summary>Departments, sites and days come again and again: one text serves for all of them.</summary>
        private string Text(int column, ReadOnlySpan<char> text)
        {
            if (text.Length is 0 or > 40)
                return text.ToString();
            ref var kept = ref _texts[(column * Kept) + (int)((uint)string.GetHashCode(text) % Kept)];
            if (kept is not null && text.SequenceEqual(kept))
                return kept;
            return kept = text.ToString();
        }

        /// <summary>Sends the rest; a few rows are not worth another thread.</summary>
        public void End() => send(_batch.Count < BatchSize / 5 ? Task.FromResult(Map(_batch)) : Task.Run(() => Map(_batch)));

        private void Send()
        {
            var rows = _batch;
            _batch = new(BatchSize);
            send(Task.Run(() => Map(rows)));
        }

        private List<Mapped> Map(List<Row> rows)
        {
            var mapper = new RecordReader(source, rulebook, KnowsPeople ? On : null, On);
            return rows.ConvertAll(row =>
            {
                var read = mapper.Read(row.Texts);
                // Put into words here too, while other threads do the same: the store has one writer.
                read.Facts?.ToJson();
                return new Mapped(read.Fault is null ? row with { Texts = [] } : row, read);
            });
        }
    }

    private static string Fields(SourceRule source, string[] texts)
    {
        var fields = new Dictionary<string, string>();
        for (var i = 0; i < texts.Length; i++)
            fields[source.Paths[i]] = texts[i].Length <= 300 ? texts[i] : texts[i][..300] + "…";
        return JsonSerializer.Serialize(fields);
    }

    private static SourceFault Replaced(Delivery delivery) =>
        new(
            $"The file '{delivery.Origin}' changed while it was read. Run it again; replace a file by moving the new one into its place.",
            transient: true
        );
}
