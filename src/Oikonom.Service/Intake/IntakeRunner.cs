using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;
using System.Text.Json;
using System.Threading.Channels;
using Oikonom.Contracts;
using Oikonom.Core.Expressions;
using Oikonom.Core.Intake;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Hosting;
using Oikonom.Service.Rulebook;
using Oikonom.Sources;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Intake;

/// <summary>What a run is asked for.</summary>
/// <param name="Mode">full, changes or baseline.</param>
/// <param name="Person">Only the record with this key or number, or "".</param>
/// <param name="Passes">The held run that was let pass, or "".</param>
public sealed record RunOrder(string Source, string Mode, bool DryRun, string Actor, string Person = "", string Passes = "");

/// <summary>One run of a source: reads, tells what changed, and raises what follows from it.</summary>
public sealed class IntakeRunner(Store.Store store, EditionBook editions, SourceOpener opener, RecordTaker taker, Baseline baseline, TimeProvider time)
{
    private const int Chunk = 1000;
    private const int FirstChunk = 25_000;
    private const int LoadChunk = 4000;
    private const int MostAhead = 8;
    private const int Shown = 200;
    private static readonly UInt128 Seen = UInt128.MaxValue;
    private readonly SemaphoreSlim _one = new(1);

    private sealed class Reading
    {
        public int Read;
        public int Unchanged;
        public readonly List<Incoming> Changes = [];
        public readonly List<Incoming> Outside = [];
        public readonly List<string> Missing = [];
        public readonly List<SetAsideRow> SetAside = [];
        public readonly List<(string Key, string Status)> Statuses = [];
        public int Known;

        public void Aside(string runId, SourceRule source, Delivery delivery, int line, string column, string value, string reason, string key, string fields) => SetAside.Add(new()
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
        });

        public void Add(List<RowMapping.Mapped> mapped, string runId, SourceRule source, Delivery delivery)
        {
            foreach (var (row, read) in mapped)
            {
                if (read.Fault is { } fault) Aside(runId, source, delivery, row.Line, fault.Column, fault.Value, fault.Reason, row.Key, Fields(source, row.Texts));
                else if (read.Outside) Outside.Add(new(row.Key, row.Fingerprint, null, row.Line) { IsOutside = true });
                else Changes.Add(new(row.Key, row.Fingerprint, read.Facts!, row.Line));
            }
        }
    }

    /// <summary>A run as it ended, with what became of each record of a small delivery.</summary>
    public sealed record Ended(IntakeRun Run, IReadOnlyList<Taken> Taken, IReadOnlyList<(string Key, string Status)> Statuses);

    public async Task<IntakeRun> RunAsync(RunOrder order, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        var source = SourceOf(edition, order.Source);
        return await OneAtATimeAsync(async () =>
        {
            IReadOnlyList<Delivery> deliveries;
            try
            {
                deliveries = await opener.OpenAsync(source, await SinceAsync(source, order), cancel);
            }
            catch (SourceFault fault)
            {
                if (!order.DryRun) await FailedAsync(source, order, fault.Message, cancel);
                throw;
            }
            IntakeRun? last = null;
            foreach (var delivery in deliveries)
            {
                last = (await RunAsync(edition, source, order, delivery, cancel)).Run;
                if (last.Outcome == "held") break;
                if (!order.DryRun && order.Person.Length == 0 && delivery.Reaches.Length > 0) await store.WriteAsync(s => s.SetSinceAsync(source.Name, delivery.Reaches), cancel);
            }
            var now = time.GetUtcNow();
            return last ?? new("", source.Name, order.Mode, order.DryRun, order.Actor, now, now, "completed", "No new file is there.", new(0, 0, 0, 0, 0, 0, 0, 0, 0), [], []);
        }, cancel);
    }

    /// <summary>Takes records that came by themselves: posted, or pushed.</summary>
    public async Task<Ended> TakeAsync(string sourceName, RecordDelivery delivery, string mode, string actor, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        var source = SourceOf(edition, sourceName);
        return await OneAtATimeAsync(() => RunAsync(edition, source, new(sourceName, mode, false, actor), delivery, cancel), cancel);
    }

    public static SourceRule SourceOf(Edition edition, string name) => edition.Rulebook.Sources.GetValueOrDefault(name)
        ?? throw Problem.NotFound($"source '{name}'", $"The rulebook has: {string.Join(", ", edition.Rulebook.Sources.Keys)}.{Nearest.Hint(name, edition.Rulebook.Sources.Keys)}");

    private async Task<T> OneAtATimeAsync<T>(Func<Task<T>> run, CancellationToken cancel)
    {
        if (!await _one.WaitAsync(TimeSpan.FromSeconds(60), cancel)) throw Problem.Conflict("run-under-way", "Another run is under way. Try again when it has ended.");
        try
        {
            return await run();
        }
        finally
        {
            _one.Release();
        }
    }

    private async Task<string> SinceAsync(SourceRule source, RunOrder order)
    {
        var incremental = order.Mode == "changes" || (source.Kind == SourceKind.File && source.IsFolder && !source.IsFull);
        return incremental && order.Person.Length == 0 ? (await store.ReadAsync(s => s.SourceStateAsync(source.Name)))?.Since ?? "" : "";
    }

    private async Task<Ended> RunAsync(Edition edition, SourceRule source, RunOrder order, Delivery delivery, CancellationToken cancel)
    {
        var started = time.GetUtcNow();
        var runId = Guid.CreateVersion7(started).ToString();
        var full = delivery.IsFull && order.Person.Length == 0;
        var taking = new Taking(edition, source, runId, order.Mode, order.Actor);
        Reading reading;
        try
        {
            if (full && !order.DryRun && order.Mode == "baseline" && await store.ReadAsync(s => s.IsFirstLoadAsync(source.Name), cancel))
            {
                var (loaded, people, adopting) = await LoadFirstAsync(taking, delivery, cancel);
                var first = Result(taking, order, started, loaded, people, [], await adopting.EndAsync(cancel));
                await EndAsync(source, first, loaded, [], full, order, edition.Number, cancel);
                return new(first, people, loaded.Statuses);
            }
            reading = await ReadAsync(edition.Rulebook, source, delivery, full, order.Person, runId, cancel);
        }
        catch (SourceFault fault) when (!order.DryRun)
        {
            await FailedAsync(source, order, fault.Message, cancel);
            throw;
        }
        var vanished = await VanishAsync(reading, source, edition, cancel);
        var incoming = reading.Changes;
        if (order.DryRun || (source.Brake is not null && order.Mode != "baseline"))
        {
            var decided = await DecideAsync(taking, incoming, cancel);
            if (!order.DryRun && await BrakeAsync(source, decided, reading, order, runId, started, cancel) is { } held) return new(held, decided, reading.Statuses);
            if (order.DryRun) return new(Result(taking, order, started, reading, decided, vanished, 0), decided, reading.Statuses);
        }
        var adoption = order.Mode == "baseline" ? baseline.Begin(edition, cancel) : null;
        var taken = await WriteAsync(taking, reading, incoming, adoption, cancel);
        var adopted = adoption is null ? 0 : await adoption.EndAsync(cancel);
        var run = Result(taking, order, started, reading, taken, vanished, adopted);
        await EndAsync(source, run, reading, vanished, full, order, edition.Number, cancel);
        return new(run, taken, reading.Statuses);
    }

    private IntakeRun Result(Taking taking, RunOrder order, DateTimeOffset started, Reading reading, List<Taken> taken, IReadOnlyList<RecordRow> vanished, int adopted)
    {
        int Count(RequestKind kind) => taken.Count(t => t.Happening.Raises == kind);
        var counts = new IntakeCounts(reading.Read, reading.Unchanged, reading.Changes.Count, Count(RequestKind.Joiner), Count(RequestKind.Mover), Count(RequestKind.Leaver), reading.SetAside.Count, vanished.Count, adopted, Count(RequestKind.Correction), reading.Outside.Count);
        return new(taking.RunId, taking.Source.Name, order.Mode, order.DryRun, order.Actor, started, time.GetUtcNow(), reading.SetAside.Count > 0 ? "completed-with-rows-set-aside" : "completed", Describe(counts, order.Mode), counts,
            [.. reading.SetAside.Take(Shown).Select(View)], [.. taken.Where(t => t.Happening.Raises is not null).Take(Shown).Select(RecordTaker.View)]);
    }

    public static SetAside View(SetAsideRow row) => new(row.File, (int)row.Line, row.ColumnName, row.Value, row.Reason, row.RecordKey);

    private static string Describe(IntakeCounts c, string mode) =>
        $"{c.Read} rows: {c.Unchanged} unchanged, {c.Changed} new or changed, {c.SetAside} set aside" + (c.Outside > 0 ? $", {c.Outside} outside the scope" : "") + (c.Missing > 0 ? $", {c.Missing} known records are not in the file" : "") +
        (mode == "baseline" ? $"; nothing raised, {c.Adopted} existing accounts recorded." : $"; raised {c.Joiners} joiners, {c.Movers} movers, {c.Leavers} leavers" + (c.Corrections > 0 ? $", {c.Corrections} corrections." : "."));

    private Task FailedAsync(SourceRule source, RunOrder order, string message, CancellationToken cancel) => store.WriteAsync(async s =>
    {
        var now = time.GetUtcNow();
        var id = Guid.CreateVersion7(now).ToString();
        await s.AddRunAsync(new() { Id = id, Source = source.Name, Mode = order.Mode, Actor = order.Actor, StartedAt = now.ToUnixTimeMilliseconds(), EndedAt = now.ToUnixTimeMilliseconds(), Outcome = "unreadable", Message = message, Counts = "{}" });
        s.Record(LedgerEntry.Of(now, order.Actor, "intake.unreadable", null, null, ("run", id), ("source", source.Name), ("problem", message)));
        s.Tell("sources", source.Name);
        Report(s, source, "could not be read", message);
    }, cancel);

    internal static void Report(Session s, SourceRule source, string what, string message)
    {
        if (source.ReportsTo.Length > 0) s.Send(new(source.ReportsTo, $"{source.Title}: a run {what}", $"The source '{source.Title}' {what}:\n\n{message}\n", null));
    }

    /// <summary>Keys and fingerprints of all rows of sound form, and the faults of the others: enough to tell what changed.</summary>
    private sealed class Scanned
    {
        public readonly List<string> Keys = [];
        public readonly List<UInt128> Fingerprints = [];
        public readonly List<int> Lines = [];
        public readonly List<(int Line, string Fault)> Faults = [];
    }

    private async Task<Reading> ReadAsync(Core.Rulebook.Rulebook rulebook, SourceRule source, Delivery delivery, bool full, string person, string runId, CancellationToken cancel)
    {
        if (full && !await store.ReadAsync(s => s.HasRecordsAsync(source.Name), cancel)) return First(delivery, source, rulebook, runId, cancel);
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
        var known = records.ToDictionary(r => r.RecordKey, r => UInt128.Parse(r.Hash, System.Globalization.NumberStyles.HexNumber, System.Globalization.CultureInfo.InvariantCulture), StringComparer.Ordinal);
        return Compare(delivery, source, rulebook, some, known, full, runId, cancel);
    }

    private static Scanned Scan(Delivery delivery, SourceRule source, string person, CancellationToken cancel)
    {
        var scanned = new Scanned();
        delivery.Each(row =>
        {
            if (row.Fault is not null)
            {
                if (person.Length == 0) scanned.Faults.Add((row.Line, row.Fault));
                return;
            }
            if (person.Length > 0 && !Holds(row, source, person)) return;
            scanned.Keys.Add(row.Key.ToString());
            scanned.Fingerprints.Add(row.Fingerprint);
            scanned.Lines.Add(row.Line);
        }, cancel);
        return scanned;
    }

    /// <summary>The columns of which the person's key and number are made.</summary>
    private static IEnumerable<int> Naming(SourceRule source) => source.Mapping.Where(m => m.Name is BuiltIn.Person or BuiltIn.Number)
        .SelectMany(m => m.Expression.References).Select(r => source.ColumnNames.ToList().IndexOf(r["row.".Length..])).Distinct();

    private static bool Holds(SourceRow row, SourceRule source, string text)
    {
        if (row.Key.SequenceEqual(text)) return true;
        foreach (var column in Naming(source))
            if (row.Text(column) == text) return true;
        return false;
    }

    private static Reading Compare(Delivery delivery, SourceRule source, Core.Rulebook.Rulebook rulebook, Scanned rows, Dictionary<string, UInt128> known, bool full, string runId, CancellationToken cancel)
    {
        var reading = new Reading { Read = rows.Keys.Count + rows.Faults.Count, Known = known.Count };
        var keyName = source.ColumnNames[source.KeyColumn];
        var fresh = new HashSet<string>(StringComparer.Ordinal);
        var changed = new Dictionary<int, UInt128>();
        foreach (var (line, fault) in rows.Faults) Aside(line, "", "", fault, "", "{}");
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
            if (isKnown ? fingerprint == Seen : !fresh.Add(key)) Aside(line, keyName, key, DoubleKey, key, "{}");
            else if (isKnown && fingerprint == rows.Fingerprints[i])
            {
                reading.Unchanged++;
                if (!full) reading.Statuses.Add((key, "unchanged"));
            }
            else changed[line] = rows.Fingerprints[i];
            if (isKnown) fingerprint = Seen;
        }
        // A record without a fingerprint is known to be gone.
        if (full)
            foreach (var (key, fingerprint) in known)
                if (fingerprint != Seen && fingerprint != UInt128.Zero) reading.Missing.Add(key);
        if (changed.Count > 0) Map(delivery, source, rulebook, changed, reading, runId, cancel);
        reading.SetAside.Sort((a, b) => a.Line.CompareTo(b.Line));
        return reading;

        void Aside(int line, string column, string value, string reason, string key, string fields) => reading.Aside(runId, source, delivery, line, column, value, reason, key, fields);
    }

    /// <summary>The first delivery of a source: there is nothing to compare with, so that each row is gone through once.</summary>
    private static Reading First(Delivery delivery, SourceRule source, Core.Rulebook.Rulebook rulebook, string runId, CancellationToken cancel)
    {
        var reading = new Reading();
        var parts = new List<Task<List<RowMapping.Mapped>>>();
        ScanFirst(delivery, source, new(source, rulebook, parts.Add), reading, runId, cancel);
        foreach (var part in parts) reading.Add(part.GetAwaiter().GetResult(), runId, source, delivery);
        reading.SetAside.Sort((a, b) => a.Line.CompareTo(b.Line));
        return reading;
    }

    /// <summary>
    /// The first load of an empty store: one thread reads, others map, and what is mapped is written meanwhile, all
    /// in one decision. A file that breaks off in the middle leaves nothing behind.
    /// </summary>
    private async Task<(Reading Reading, List<Taken> Taken, Baseline.Adoption Adoption)> LoadFirstAsync(Taking taking, Delivery delivery, CancellationToken cancel) => await store.WriteAsync(async s =>
    {
        var (reading, scanned, taken, memory) = (new Reading(), new Reading(), new List<Taken>(), new RecordTaker.Memory { IsFirstLoad = true });
        var adoption = baseline.Begin(taking.Edition, cancel);
        using var stop = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        var parts = Channel.CreateBounded<Task<List<RowMapping.Mapped>>>(MostAhead);
        var scanning = Task.Factory.StartNew(() =>
        {
            try
            {
                ScanFirst(delivery, taking.Source, new(taking.Source, taking.Edition.Rulebook, part => parts.Writer.WriteAsync(part, stop.Token).AsTask().GetAwaiter().GetResult()), scanned, taking.RunId, stop.Token);
            }
            finally
            {
                parts.Writer.Complete();
            }
        }, stop.Token, TaskCreationOptions.LongRunning, TaskScheduler.Default);
        try
        {
            var written = 0;
            await foreach (var part in parts.Reader.ReadAllAsync(cancel))
            {
                reading.Add(await part, taking.RunId, taking.Source, delivery);
                if (reading.Changes.Count - written < LoadChunk) continue;
                await WriteOnAsync();
            }
            // A delivery that could not be read to its end is told of before anything is committed.
            await scanning;
            await WriteOnAsync();
            await taker.WriteAsync(s, taking, [], reading.Outside, memory);

            async Task WriteOnAsync()
            {
                var decided = await taker.DecideAsync(s, taking, reading.Changes[written..], memory);
                written = reading.Changes.Count;
                await taker.WriteAsync(s, taking, decided, [], memory);
                adoption.Add(decided);
                taken.AddRange(decided);
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
        return (reading, taken, adoption);
    }, cancel);

    private static void ScanFirst(Delivery delivery, SourceRule source, RowMapping mapping, Reading reading, string runId, CancellationToken cancel)
    {
        var keyName = source.ColumnNames[source.KeyColumn];
        var met = new HashSet<string>(StringComparer.Ordinal);
        delivery.Each(row =>
        {
            reading.Read++;
            var key = row.Fault is null ? row.Key.ToString() : "";
            if (row.Fault is not null) Aside(row.Line, "", "", row.Fault, "", "{}");
            else if (key.Length == 0) Aside(row.Line, keyName, "", "The key of the record is empty.", "", "{}");
            else if (!met.Add(key)) Aside(row.Line, keyName, key, DoubleKey, key, "{}");
            else mapping.Add(key, row);
        }, cancel);
        mapping.End();

        void Aside(int line, string column, string value, string reason, string key, string fields) => reading.Aside(runId, source, delivery, line, column, value, reason, key, fields);
    }

    private const string DoubleKey = "Another row of this file has the same key; the first one counts.";

    /// <summary>Maps the rows that are new or changed; the delivery must still be the one that was scanned.</summary>
    private static void Map(Delivery delivery, SourceRule source, Core.Rulebook.Rulebook rulebook, Dictionary<int, UInt128> changed, Reading reading, string runId, CancellationToken cancel)
    {
        var parts = new List<Task<List<RowMapping.Mapped>>>();
        var mapping = new RowMapping(source, rulebook, parts.Add);
        delivery.Each(row =>
        {
            if (!changed.Remove(row.Line, out var fingerprint)) return;
            if (row.Fault is not null || row.Fingerprint != fingerprint) throw Replaced(delivery);
            mapping.Add(row.Key.ToString(), row);
        }, cancel);
        if (changed.Count > 0) throw Replaced(delivery);
        mapping.End();
        foreach (var part in parts) reading.Add(part.GetAwaiter().GetResult(), runId, source, delivery);
    }

    /// <summary>One thread reads, the others map; what was mapped is put together again in the order of the file.</summary>
    private sealed class RowMapping(SourceRule source, Core.Rulebook.Rulebook rulebook, Action<Task<List<RowMapping.Mapped>>> send)
    {
        private const int BatchSize = 2000;
        private const int Kept = 64;
        private readonly string?[] _texts = new string?[source.ColumnNames.Count * Kept];
        private List<Row> _batch = [];

        internal sealed record Row(string Key, UInt128 Fingerprint, int Line, string[] Texts);
        internal sealed record Mapped(Row Row, RowReading Read);

        public void Add(string key, SourceRow row)
        {
            var texts = new string[source.ColumnNames.Count];
            for (var i = 0; i < texts.Length; i++) texts[i] = Text(i, row.Span(i));
            _batch.Add(new(key, row.Fingerprint, row.Line, texts));
            if (_batch.Count == BatchSize) Send();
        }

        /// <summary>Departments, sites and days come again and again: one text serves for all of them.</summary>
        private string Text(int column, ReadOnlySpan<char> text)
        {
            if (text.Length is 0 or > 40) return text.ToString();
            ref var kept = ref _texts[(column * Kept) + (int)((uint)string.GetHashCode(text) % Kept)];
            if (kept is not null && text.SequenceEqual(kept)) return kept;
            return kept = text.ToString();
        }

        /// <summary>Sends the rest; a few rows are not worth another thread.</summary>
        public void End() => send(_batch.Count < BatchSize / 10 ? Task.FromResult(Map(_batch)) : Task.Run(() => Map(_batch)));

        private void Send()
        {
            var rows = _batch;
            _batch = new(BatchSize);
            send(Task.Run(() => Map(rows)));
        }

        private List<Mapped> Map(List<Row> rows)
        {
            var mapper = new RecordReader(source, rulebook);
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
        for (var i = 0; i < texts.Length; i++) fields[source.Paths[i]] = texts[i].Length <= 300 ? texts[i] : texts[i][..300] + "…";
        return JsonSerializer.Serialize(fields);
    }

    private static SourceFault Replaced(Delivery delivery) => new($"The file '{delivery.Origin}' changed while it was read. Run it again; replace a file by moving the new one into its place.", transient: true);

    /// <summary>
    /// What a full delivery held no more. A record under a new key that is the same employment takes the place of
    /// the old one; what was outside the scope anyway is forgotten; the rest is listed, or leaves if the rulebook says so.
    /// </summary>
    private async Task<IReadOnlyList<RecordRow>> VanishAsync(Reading reading, SourceRule source, Edition edition, CancellationToken cancel)
    {
        var left = await LeftScopeAsync(reading, source, cancel);
        if (reading.Missing.Count == 0 && left.Count == 0) return [];
        var rows = (await store.ReadAsync(s => s.RecordsAsync(source.Name, reading.Missing), cancel)).Concat(left).ToList();
        var replaced = new HashSet<string>(StringComparer.Ordinal);
        var vanished = rows.Where(r => r.Facts is not null).Select(r => (Row: r, Facts: Facts.FromJson(r.Facts!, edition.Rulebook.Attributes))).ToList();
        var byPerson = vanished.ToLookup(v => v.Facts.PersonKey);
        for (var i = 0; i < reading.Changes.Count; i++)
        {
            var change = reading.Changes[i];
            var old = byPerson[change.Facts!.PersonKey].FirstOrDefault(v => Happening.IsSameEmployment(v.Facts, change.Facts) && !replaced.Contains(v.Row.RecordKey));
            if (old.Row is null) continue;
            replaced.Add(old.Row.RecordKey);
            reading.Changes[i] = change with { Replaces = old.Row };
        }
        var gone = vanished.Where(v => !replaced.Contains(v.Row.RecordKey)).ToList();
        // What was pushed as gone, or as inactive, is said outright: it leaves.
        if (source.Vanished == VanishedPolicy.Leave || source.Kind == SourceKind.Scim)
        {
            reading.Changes.AddRange(gone.Select(v => new Incoming(v.Row.RecordKey, UInt128.Zero, null, 0)));
            return [.. gone.Select(v => v.Row)];
        }
        return [.. gone.Select(v => v.Row)];
    }

    /// <summary>Records that were taken and are outside the scope now: as if they had vanished, since nobody leaves silently.</summary>
    private async Task<IReadOnlyList<RecordRow>> LeftScopeAsync(Reading reading, SourceRule source, CancellationToken cancel)
    {
        if (reading.Outside.Count == 0) return [];
        var left = (await store.ReadAsync(s => s.RecordsAsync(source.Name, [.. reading.Outside.Select(o => o.Key)]), cancel)).Where(r => r.PersonId is not null && r.Status is "received" or "request").ToList();
        var keys = left.Select(r => r.RecordKey).ToHashSet(StringComparer.Ordinal);
        reading.Outside.RemoveAll(o => keys.Contains(o.Key));
        return left;
    }

    private async Task<List<Taken>> DecideAsync(Taking taking, List<Incoming> incoming, CancellationToken cancel)
    {
        var memory = new RecordTaker.Memory();
        var decided = new List<Taken>(incoming.Count);
        foreach (var chunk in incoming.Chunk(Chunk)) decided.AddRange(await store.ReadAsync(s => taker.DecideAsync(s, taking, chunk, memory), cancel));
        return decided;
    }

    private async Task<List<Taken>> WriteAsync(Taking taking, Reading reading, List<Incoming> incoming, Baseline.Adoption? adoption, CancellationToken cancel)
    {
        var taken = new List<Taken>(incoming.Count);
        var memory = new RecordTaker.Memory { IsFirstLoad = incoming.Count > Chunk && await store.ReadAsync(s => s.IsFirstLoadAsync(taking.Source.Name), cancel) };
        foreach (var chunk in incoming.Chunk(memory.IsFirstLoad ? FirstChunk : Chunk))
        {
            var some = await store.WriteAsync(async s =>
            {
                var decided = await taker.DecideAsync(s, taking, chunk, memory.IsFirstLoad ? memory : new());
                await taker.WriteAsync(s, taking, decided, [], memory);
                return decided;
            }, cancel);
            adoption?.Add(some);
            taken.AddRange(some);
        }
        foreach (var chunk in reading.Outside.Chunk(Chunk)) await store.WriteAsync(s => taker.WriteAsync(s, taking, [], chunk, memory), cancel);
        reading.Statuses.AddRange(reading.Outside.Select(o => (o.Key, "outside")));
        return taken;
    }

    /// <summary>Holds a run that would raise more than the rulebook allows, before anything is raised. Null when it may go on.</summary>
    private async Task<IntakeRun?> BrakeAsync(SourceRule source, List<Taken> decided, Reading reading, RunOrder order, string runId, DateTimeOffset started, CancellationToken cancel)
    {
        var digest = RecordTaker.DigestOf(decided);
        if (order.Passes.Length > 0)
        {
            var passed = await store.ReadAsync(s => s.HeldAsync(order.Passes), cancel);
            if (passed?.Digest == digest || (passed is not null && PushBrake.Covers(passed, decided))) return null;
        }
        var known = Math.Max(reading.Known, (int)await store.ReadAsync(s => s.RecordCountAsync(source.Name), cancel));
        // What was pushed since yesterday counts too: a run over what is kept is no way around.
        var pushed = source.Kind == SourceKind.Scim ? await store.ReadAsync(s => s.RaisedSinceAsync(source.Name, (started - PushBrake.Window).ToUnixTimeMilliseconds()), cancel) : new Dictionary<string, long>();
        var over = new List<string>();
        Look(source.Brake!.Joiners, RequestKind.Joiner, "joiners");
        Look(source.Brake.Movers, RequestKind.Mover, "movers");
        Look(source.Brake.Leavers, RequestKind.Leaver, "leavers");
        if (over.Count == 0) return null;
        var why = $"{string.Join("; ", over)}. Nothing was raised.";
        var raises = decided.Where(t => t.Happening.Raises is not null).Select(RecordTaker.View).ToList();
        var counts = new IntakeCounts(reading.Read, reading.Unchanged, reading.Changes.Count, raises.Count(r => r.Kind == "joiner"), raises.Count(r => r.Kind == "mover"), raises.Count(r => r.Kind == "leaver"), reading.SetAside.Count, reading.Missing.Count, 0);
        var ended = time.GetUtcNow();
        await store.WriteAsync(async s =>
        {
            await s.SupersedeHeldAsync(source.Name, runId, time.Milliseconds());
            await s.AddHeldAsync(new() { RunId = runId, Source = source.Name, Digest = digest, Why = why, Raises = JsonSerializer.Serialize(raises), Actor = order.Actor, At = ended.ToUnixTimeMilliseconds() });
            await s.AddRunAsync(new() { Id = runId, Source = source.Name, Mode = order.Mode, Actor = order.Actor, StartedAt = started.ToUnixTimeMilliseconds(), EndedAt = ended.ToUnixTimeMilliseconds(), Outcome = "held", Message = why, Counts = JsonSerializer.Serialize(counts, JsonSerializerOptions.Web) });
            s.Record(LedgerEntry.Of(ended, order.Actor, "intake.held", null, null, ("run", runId), ("source", source.Name), ("why", why), ("digest", digest), ("raises", raises.Count)));
            s.Tell("sources", source.Name);
            Report(s, source, "waits under the brake", why);
        }, cancel);
        return new(runId, source.Name, order.Mode, false, order.Actor, started, ended, "held", why, counts, [], [.. raises.Take(Shown)]);

        void Look(Limit? limit, RequestKind kind, string name)
        {
            var fresh = decided.Count(t => t.Happening.Raises == kind);
            var count = fresh + (int)pushed.GetValueOrDefault(RecordTaker.Name(kind));
            if (fresh > 0 && limit?.IsOver(count, known) == true) over.Add($"The run would raise {count} {name} of {known} known records; the brake is at {limit}");
        }
    }

    private Task EndAsync(SourceRule source, IntakeRun run, Reading reading, IReadOnlyList<RecordRow> vanished, bool full, RunOrder order, int edition, CancellationToken cancel) => store.WriteAsync(async s =>
    {
        if (full) await s.ReplaceSetAsideAsync(source.Name, reading.SetAside);
        else
        {
            await s.ClearSetAsideAsync(source.Name, [.. reading.Changes.Select(c => c.Key).Concat(reading.Statuses.Select(x => x.Key)).Concat(reading.SetAside.Select(x => x.RecordKey)).Where(k => k.Length > 0).Distinct()]);
            await s.AddSetAsideAsync(reading.SetAside);
        }
        if (source.Vanished == VanishedPolicy.Ask && vanished.Count > 0)
        {
            await s.UpsertRecordsAsync([.. vanished.Select(v => new RecordRow { Source = source.Name, RecordKey = v.RecordKey, Hash = new('0', 32), Status = "vanished", RunId = run.Id })]);
            s.Record(LedgerEntry.Of(time.GetUtcNow(), order.Actor, "intake.vanished", null, null, ("run", run.Id), ("source", source.Name), ("records", vanished.Select(v => v.RecordKey).ToList())));
        }
        await s.DropRecordsAsync(source.Name, [.. reading.Missing.Except(vanished.Select(v => v.RecordKey)).Except(reading.Changes.Select(c => c.Replaces?.RecordKey).OfType<string>())]);
        await s.SupersedeHeldAsync(source.Name, "", time.Milliseconds());
        await s.AddRunAsync(new()
        {
            Id = run.Id,
            Source = source.Name,
            Mode = run.Mode,
            Actor = run.Actor,
            StartedAt = run.StartedAt.ToUnixTimeMilliseconds(),
            EndedAt = time.Milliseconds(),
            Outcome = run.Outcome,
            Message = run.Message,
            Counts = JsonSerializer.Serialize(run.Counts, JsonSerializerOptions.Web),
        });
        s.Record(LedgerEntry.Of(time.GetUtcNow(), run.Actor, "intake.run", null, null, ("run", run.Id), ("source", source.Name), ("mode", run.Mode), ("edition", edition), ("counts", run.Counts), ("passed", order.Passes.Length > 0 ? order.Passes : null)));
        s.Tell("intake", source.Name);
        s.Tell("sources", source.Name);
    }, cancel);
}
