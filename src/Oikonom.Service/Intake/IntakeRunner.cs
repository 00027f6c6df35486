using System.Runtime.InteropServices;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Expressions;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Intake;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;
using Oikonom.Service.Approval;
using Oikonom.Service.Fulfilment;
using Oikonom.Service.Hosting;
using Oikonom.Service.Rulebook;
using Oikonom.Sources.Files;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Intake;

/// <summary>One run of a source: reads, tells what changed, and raises what follows from it.</summary>
public sealed class IntakeRunner(Store.Store store, EditionBook editions, ConnectorBook connectors, RequestDesk desk, ServiceOptions options, TimeProvider time)
{
    private const int Chunk = 500;
    private const int Shown = 200;
    private static readonly UInt128 Seen = UInt128.MaxValue;
    private readonly SemaphoreSlim _one = new(1);

    private sealed record Changed(string Key, UInt128 Fingerprint, Facts Facts, int Line);

    private sealed class Reading
    {
        public int Read;
        public int Unchanged;
        public int Missing;
        public readonly List<Changed> Changes = [];
        public readonly List<SetAsideRow> SetAside = [];
    }

    public async Task<IntakeRun> RunAsync(string sourceName, string mode, bool dryRun, string actor, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        var source = edition.Rulebook.Sources.GetValueOrDefault(sourceName)
            ?? throw Problem.NotFound($"source '{sourceName}'", $"The rulebook has: {string.Join(", ", edition.Rulebook.Sources.Keys)}.{Nearest.Hint(sourceName, edition.Rulebook.Sources.Keys)}");
        if (!await _one.WaitAsync(TimeSpan.FromSeconds(30), cancel)) throw Problem.Conflict("run-under-way", "Another run is under way. Try again when it has ended.");
        try
        {
            return await RunAsync(edition, source, mode, dryRun, actor, cancel);
        }
        finally
        {
            _one.Release();
        }
    }

    private async Task<IntakeRun> RunAsync(Edition edition, SourceRule source, string mode, bool dryRun, string actor, CancellationToken cancel)
    {
        var started = time.GetUtcNow();
        var runId = Guid.CreateVersion7(started).ToString();
        Reading reading;
        try
        {
            // What is known is loaded while the file is parsed.
            var loading = Task.Run(() => store.ReadAsync(s => s.FingerprintsAsync(source.Name, cancel), cancel), cancel);
            var path = Path.Combine(options.Sources, source.Path);
            var rows = Scan(path, source, cancel);
            reading = Read(path, source, edition.Rulebook, rows, await loading, runId, cancel);
        }
        catch (SourceFault fault) when (!dryRun)
        {
            await FailedAsync(runId, source, mode, actor, started, fault.Message, cancel);
            throw;
        }
        var raised = new List<RaisedRequest>();
        var kinds = new int[3];
        foreach (var chunk in reading.Changes.Chunk(Chunk))
        {
            raised.AddRange(dryRun
                ? await store.ReadAsync(s => TakeAsync(s, edition, source, chunk, runId, mode, actor, dryRun: true), cancel)
                : await store.WriteAsync(s => TakeAsync(s, edition, source, chunk, runId, mode, actor, dryRun: false), cancel));
        }
        foreach (var kind in new[] { "joiner", "mover", "leaver" }.Index()) kinds[kind.Index] = raised.Count(r => r.Kind == kind.Item);
        var adopted = mode == "baseline" && !dryRun ? await AdoptAsync(edition, reading, cancel) : 0;
        var counts = new IntakeCounts(reading.Read, reading.Unchanged, reading.Changes.Count, kinds[0], kinds[1], kinds[2], reading.SetAside.Count, reading.Missing, adopted);
        var outcome = reading.SetAside.Count > 0 ? "completed-with-rows-set-aside" : "completed";
        var message = Describe(counts, mode);
        var ended = time.GetUtcNow();
        if (!dryRun)
        {
            await store.WriteAsync(async s =>
            {
                await s.ReplaceSetAsideAsync(source.Name, reading.SetAside);
                await s.AddRunAsync(new()
                {
                    Id = runId,
                    Source = source.Name,
                    Mode = mode,
                    Actor = actor,
                    StartedAt = started.ToUnixTimeMilliseconds(),
                    EndedAt = ended.ToUnixTimeMilliseconds(),
                    Outcome = outcome,
                    Message = message,
                    Counts = JsonSerializer.Serialize(counts, JsonSerializerOptions.Web),
                });
                s.Record(LedgerEntry.Of(ended, actor, "intake.run", null, null, ("run", runId), ("source", source.Name), ("mode", mode), ("edition", edition.Number), ("counts", counts)));
                s.Tell("intake", source.Name);
            }, cancel);
        }
        return new(runId, source.Name, mode, dryRun, actor, started, ended, outcome, message, counts, [.. reading.SetAside.Take(Shown).Select(View)], [.. raised.Take(Shown)]);
    }

    public static SetAside View(SetAsideRow row) => new(row.File, (int)row.Line, row.ColumnName, row.Value, row.Reason);

    private static string Describe(IntakeCounts c, string mode) =>
        $"{c.Read} rows: {c.Unchanged} unchanged, {c.Changed} new or changed, {c.SetAside} set aside" + (c.Missing > 0 ? $", {c.Missing} known records are not in the file" : "") +
        (mode == "baseline" ? $"; nothing raised, {c.Adopted} existing accounts recorded." : $"; raised {c.Joiners} joiners, {c.Movers} movers, {c.Leavers} leavers.");

    private Task FailedAsync(string runId, SourceRule source, string mode, string actor, DateTimeOffset started, string message, CancellationToken cancel) => store.WriteAsync(async s =>
    {
        await s.AddRunAsync(new() { Id = runId, Source = source.Name, Mode = mode, Actor = actor, StartedAt = started.ToUnixTimeMilliseconds(), EndedAt = time.Milliseconds(), Outcome = "unreadable", Message = message, Counts = "{}" });
        s.Record(LedgerEntry.Of(time.GetUtcNow(), actor, "intake.unreadable", null, null, ("run", runId), ("source", source.Name), ("problem", message)));
    }, cancel);

    /// <summary>Keys and fingerprints of all rows of sound form, and the faults of the others: enough to tell what changed.</summary>
    private sealed class Scanned
    {
        public readonly List<string> Keys = [];
        public readonly List<UInt128> Fingerprints = [];
        public readonly List<int> Lines = [];
        public readonly List<(int Line, string Fault)> Faults = [];
    }

    private static Scanned Scan(string path, SourceRule source, CancellationToken cancel)
    {
        var scanned = new Scanned();
        DelimitedFile.Read(path, source, row =>
        {
            if (row.Fault is not null)
            {
                scanned.Faults.Add((row.Line, row.Fault));
                return;
            }
            scanned.Keys.Add(row.Key.ToString());
            scanned.Fingerprints.Add(row.Fingerprint);
            scanned.Lines.Add(row.Line);
        }, cancel);
        return scanned;
    }

    private static Reading Read(string path, SourceRule source, Core.Rulebook.Rulebook rulebook, Scanned rows, Dictionary<string, UInt128> known, string runId, CancellationToken cancel)
    {
        var reading = new Reading { Read = rows.Keys.Count + rows.Faults.Count };
        var keyName = source.ColumnNames[source.KeyColumn];
        var fresh = new HashSet<string>(StringComparer.Ordinal);
        var changed = new Dictionary<int, UInt128>();
        foreach (var (line, fault) in rows.Faults) Aside(line, "", "", fault, "");
        for (var i = 0; i < rows.Keys.Count; i++)
        {
            var (key, line) = (rows.Keys[i], rows.Lines[i]);
            if (key.Length == 0)
            {
                Aside(line, keyName, "", "The key of the record is empty.", "");
                continue;
            }
            // A known key is marked where it stands, so that an unchanged row costs one look-up.
            ref var fingerprint = ref CollectionsMarshal.GetValueRefOrNullRef(known, key);
            var isKnown = !System.Runtime.CompilerServices.Unsafe.IsNullRef(ref fingerprint);
            if (isKnown ? fingerprint == Seen : !fresh.Add(key)) Aside(line, keyName, key, "Another row of this file has the same key; the first one counts.", key);
            else if (isKnown && fingerprint == rows.Fingerprints[i]) reading.Unchanged++;
            else changed[line] = rows.Fingerprints[i];
            if (isKnown) fingerprint = Seen;
        }
        foreach (var (_, fingerprint) in known)
            if (fingerprint != Seen) reading.Missing++;
        if (changed.Count > 0) Map(path, source, rulebook, changed, reading, Aside, cancel);
        reading.SetAside.Sort((a, b) => a.Line.CompareTo(b.Line));
        return reading;

        void Aside(int line, string column, string value, string reason, string key) => reading.SetAside.Add(new()
        {
            RunId = runId,
            Source = source.Name,
            File = source.Path,
            Line = line,
            ColumnName = column,
            Value = value,
            Reason = reason,
            RecordKey = key,
        });
    }

    /// <summary>Maps the rows that are new or changed; the file must still be the one that was scanned.</summary>
    private static void Map(string path, SourceRule source, Core.Rulebook.Rulebook rulebook, Dictionary<int, UInt128> changed, Reading reading, Action<int, string, string, string, string> aside, CancellationToken cancel)
    {
        var mapper = new RecordReader(source, rulebook);
        var texts = new string[source.ColumnNames.Count];
        DelimitedFile.Read(path, source, row =>
        {
            if (!changed.Remove(row.Line, out var fingerprint)) return;
            if (row.Fault is not null || row.Fingerprint != fingerprint) throw Replaced(source);
            for (var i = 0; i < texts.Length; i++) texts[i] = row.Text(i);
            var read = mapper.Read(texts);
            if (read.Fault is { } fault) aside(row.Line, fault.Column, fault.Value, fault.Reason, row.Key.ToString());
            else reading.Changes.Add(new(row.Key.ToString(), row.Fingerprint, read.Facts!, row.Line));
        }, cancel);
        if (changed.Count > 0) throw Replaced(source);
    }

    private static SourceFault Replaced(SourceRule source) => new($"The file '{source.Path}' changed while it was read. Run it again; replace a file by moving the new one into its place.");

    private async Task<List<RaisedRequest>> TakeAsync(Session s, Edition edition, SourceRule source, IReadOnlyList<Changed> chunk, string runId, string mode, string actor, bool dryRun)
    {
        var now = time.GetUtcNow();
        var at = now.ToUnixTimeMilliseconds();
        var records = (await s.RecordsAsync(source.Name, [.. chunk.Select(c => c.Key)])).ToDictionary(r => r.RecordKey);
        var people = (await s.PeopleByKeyAsync([.. chunk.Select(c => c.Facts.PersonKey).Distinct()])).ToDictionary(p => p.PersonKey);
        var open = (await s.OpenRequestsOfAsync([.. people.Values.Select(p => p.Id)])).ToLookup(r => r.PersonId);
        var (newPeople, newRecords, requests, raised) = (new Dictionary<string, PersonRow>(), new List<RecordRow>(), new List<RequestRow>(), new List<RaisedRequest>());
        foreach (var change in chunk)
        {
            var before = records.GetValueOrDefault(change.Key)?.Facts is { } json ? Facts.FromJson(json, edition.Rulebook.Attributes) : null;
            var known = people.GetValueOrDefault(change.Facts.PersonKey) ?? newPeople.GetValueOrDefault(change.Facts.PersonKey);
            var personId = known?.Id ?? PersonId.New(now).ToString();
            var today = DateOnly.FromDateTime(TimeZoneInfo.ConvertTime(now, edition.Rulebook.ZoneOf(change.Facts.Text(BuiltIn.Site))).DateTime);
            var kind = mode == "baseline" ? null : Happening.Between(before, change.Facts, today);
            string? requestId = null;
            if (kind is { } what)
            {
                var name = JsonSerializer.Serialize(what).Trim('"');
                if (open[personId].FirstOrDefault() is { } waiting)
                {
                    requestId = waiting.Id;
                    if (!dryRun) await FoldAsync(s, waiting, what, change, source, before);
                }
                else
                {
                    requestId = RequestId.New(now).ToString();
                    requests.Add(new()
                    {
                        Id = requestId,
                        Kind = name,
                        State = "planning",
                        PersonId = personId,
                        Requester = actor,
                        Edition = edition.Number,
                        CreatedAt = at,
                        Workflow = StageEntry.WorkflowFor(edition, name).Name,
                        Cause = JsonSerializer.Serialize(CauseOf(what, change, source, before)),
                    });
                    s.Record(LedgerEntry.Of(now, actor, "request.raised", personId, requestId, ("requestKind", name), ("source", source.Name), ("line", change.Line), ("run", runId), ("changes", before?.DifferenceTo(change.Facts) ?? [])));
                }
                raised.Add(new(requestId, name, change.Facts.DisplayName, change.Facts.Number));
            }
            newPeople[change.Facts.PersonKey] = Row(personId, change.Facts, source.Name, at);
            newRecords.Add(new()
            {
                Source = source.Name,
                RecordKey = change.Key,
                Hash = change.Fingerprint.ToString("x32", System.Globalization.CultureInfo.InvariantCulture),
                Facts = change.Facts.ToJson(),
                Status = requestId is null ? "received" : "request",
                PersonId = personId,
                RequestId = requestId,
                RunId = runId,
                At = at,
            });
        }
        if (dryRun) return raised;
        await s.UpsertPeopleAsync([.. newPeople.Values]);
        await s.UpsertRecordsAsync(newRecords);
        await s.AddVersionsAsync(newRecords);
        await s.AddRequestsAsync(requests);
        foreach (var request in requests) s.Tell("requests", request.Id);
        return raised;
    }

    /// <summary>What HR says changed while a request for the person waits: it is planned anew instead of raising a second one.</summary>
    private async Task FoldAsync(Session s, RequestRow waiting, RequestKind what, Changed change, SourceRule source, Facts? before)
    {
        var row = await s.RequestAsync(waiting.Id, forUpdate: true);
        if (row is null) return;
        row.Cause = JsonSerializer.Serialize(CauseOf(what, change, source, before));
        if (what == RequestKind.Leaver) row.Kind = "leaver";
        if (row.State is "deciding" or "releasing") await desk.ReplanAsync(s, row, $"HR changed the record (line {change.Line})");
        else
        {
            (row.State, row.DueAt, row.UpdatedAt) = ("planning", time.Milliseconds(), Math.Max(time.Milliseconds(), row.UpdatedAt + 1));
            await s.SaveRequestAsync(row);
        }
    }

    private static Cause CauseOf(RequestKind kind, Changed change, SourceRule source, Facts? before)
    {
        var name = change.Facts.DisplayName;
        var text = kind switch
        {
            RequestKind.Joiner => $"{name} starts on {change.Facts.Text(BuiltIn.Start)} as {change.Facts.Text(BuiltIn.Title)}",
            RequestKind.Leaver => $"{name} leaves; the last day is {change.Facts.Text(BuiltIn.End)}",
            _ => $"The record of {name} changed",
        };
        return new(text, source.Title, change.Line, [.. (before?.DifferenceTo(change.Facts) ?? []).Select(d => new AttributeChange(d.Name, d.Before.Length > 0 ? [d.Before] : [], d.After.Length > 0 ? [d.After] : []))]);
    }

    private static PersonRow Row(string id, Facts facts, string source, long at) => new()
    {
        Id = id,
        PersonKey = facts.PersonKey,
        Number = facts.Number,
        Display = facts.DisplayName,
        SearchKey = $"{facts.Text(BuiltIn.Family)} {facts.Text(BuiltIn.Given)}".ToLowerInvariant(),
        Kind = facts.Text(BuiltIn.Kind),
        Department = facts.Text(BuiltIn.Department),
        Site = facts.Text(BuiltIn.Site),
        Title = facts.Text(BuiltIn.Title),
        Manager = facts.Manager,
        StartDay = facts.Text(BuiltIn.Start),
        EndDay = facts.End is null ? null : facts.Text(BuiltIn.End),
        Facts = facts.ToJson(),
        Source = source,
        At = at,
    };

    /// <summary>After a baseline: the accounts these people already have are recorded as they are; nothing is changed in a target.</summary>
    private async Task<int> AdoptAsync(Edition edition, Reading reading, CancellationToken cancel)
    {
        var adopted = 0;
        var people = (await store.ReadAsync(s => s.PeopleByKeyAsync([.. reading.Changes.Select(c => c.Facts.PersonKey).Distinct()]), cancel)).ToDictionary(p => p.Id);
        foreach (var target in edition.Rulebook.Targets.Values)
        {
            var byKey = new Dictionary<string, PersonRow>(StringComparer.OrdinalIgnoreCase);
            foreach (var person in people.Values)
            {
                var subject = new Subject(PersonId.Parse(person.Id), Facts.FromJson(person.Facts, edition.Rulebook.Attributes), new Dictionary<string, string> { [target.Name] = "-" });
                var (start, _) = Desired.Term(subject.Facts, edition.Rulebook);
                if (Desired.At(subject, edition, [], start).Accounts.GetValueOrDefault(target.Name) is not { } wanted) continue;
                foreach (var (attribute, value) in Planning.PlannerLoop.Keys(target, wanted.Attributes)) byKey.TryAdd($"{attribute}={value}", person);
            }
            var matches = new List<(PersonRow Person, ExistingAccount Account)>();
            await foreach (var account in connectors.For(edition, target.Name).ListAsync(cancel))
            {
                var person = target.Match.Select(m => account.Attributes.TryGetValue(m, out var values) && values.Count > 0 ? byKey.GetValueOrDefault($"{m}={values[0]}") : null).FirstOrDefault(p => p is not null);
                if (person is not null) matches.Add((person, account));
            }
            // Two entries for one person are left for a human.
            foreach (var chunk in matches.GroupBy(m => m.Person.Id).Where(g => g.Count() == 1).Select(g => g.First()).Chunk(Chunk))
            {
                await store.WriteAsync(s => RecordAsync(s, target, chunk), cancel);
                adopted += chunk.Length;
            }
        }
        return adopted;
    }

    private async Task RecordAsync(Session s, TargetRule target, IReadOnlyList<(PersonRow Person, ExistingAccount Account)> matches)
    {
        var now = time.Milliseconds();
        var (accounts, grants, names) = (new List<AccountRow>(), new List<GrantRow>(), new List<NameRow>());
        foreach (var (person, account) in matches)
        {
            var reason = JsonSerializer.Serialize(new Reason("baseline", account.Location, "was there when Oikonom began"));
            var container = account.Location[(account.Location.IndexOf(',', StringComparison.Ordinal) + 1)..];
            accounts.Add(new()
            {
                PersonId = person.Id,
                Target = target.Name,
                Name = account.Name,
                Container = container,
                Location = account.Location,
                ImmutableId = account.ImmutableId,
                Attributes = JsonSerializer.Serialize(account.Attributes),
                Enabled = account.Enabled ? 1 : 0,
                Reason = reason,
                At = now,
            });
            names.Add(new() { Target = target.Name, NameKey = account.Name.ToLowerInvariant(), PersonId = person.Id, At = now });
            grants.AddRange(account.Entitlements.Select(e => new GrantRow { Id = Guid.CreateVersion7(time.GetUtcNow()).ToString(), PersonId = person.Id, Target = target.Name, Entitlement = e, FromAt = now, Reason = reason }));
        }
        await s.UpsertAccountsAsync(accounts);
        await s.TakeNamesAsync(names);
        await s.OpenGrantsAsync(grants);
        s.Record(LedgerEntry.Of(time.GetUtcNow(), "oikonom", "accounts.recorded", null, null, ("target", target.Name), ("accounts", accounts.Select(a => new { a.PersonId, a.Location, a.ImmutableId }).ToList())));
    }
}
