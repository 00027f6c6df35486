using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Approval;
using Oikonom.Core.Intake;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Common;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Intake;

/// <summary>A record that is new, changed or gone. <paramref name="Facts"/> is null when the source holds it no more.</summary>
public sealed record Incoming(string Key, UInt128 Fingerprint, Facts? Facts, int Line)
{
    /// <summary>Outside the scope of the source: remembered and not taken.</summary>
    public bool IsOutside { get; init; }

    /// <summary>The employment it replaces, when the number changed.</summary>
    public RecordRow? Replaces { get; init; }
}

/// <summary>Somebody met in a delivery, with all employments so far as the sources say them, and what was approved by hand.</summary>
public sealed class KnownPerson(string id, List<Facts> employments)
{
    public string Id => id;
    public List<Facts> Employments => employments;
    public List<FieldInput> Fields { get; init; } = [];
    public IReadOnlyList<Ending> Endings { get; private set; } = [];

    public static KnownPerson Of(string id, Inputs inputs) =>
        new(id, [.. inputs.Said]) { Fields = [.. inputs.Fields], Endings = inputs.Endings };

    /// <summary>An employment goes on under another number; what was approved for it stays with it.</summary>
    public void Renumber(string before, string after)
    {
        for (var i = 0; i < Fields.Count; i++)
            if (Fields[i].Employment == before)
                Fields[i] = Fields[i] with { Employment = after };
        if (Endings.Count > 0)
            Endings = [.. Endings.Select(e => e.Employment == before ? e with { Employment = after } : e)];
    }

    /// <summary>All inputs as they lie beside each other now.</summary>
    public Inputs Inputs => new([.. employments], [.. Fields], Endings);

    /// <summary>True when the store holds the person, so that a later record changes them.</summary>
    public bool IsStored { get; set; }
}

/// <summary>What follows from one record.</summary>
/// <param name="Leading">The employment that leads, as it is shown.</param>
/// <param name="Others">The others, as they are shown.</param>
/// <param name="Inputs">What lies behind it.</param>
public sealed record Taken(
    Incoming Incoming,
    Happening Happening,
    KnownPerson Person,
    Facts? Before,
    Facts Leading,
    IReadOnlyList<Facts> Others,
    Inputs Inputs,
    RequestRow? Waiting
)
{
    /// <summary>Attributes set by hand that end because the source changes them itself.</summary>
    public IReadOnlyList<FieldInput> Ended { get; init; } = [];

    public string PersonId => Person.Id;
    public string? RequestId { get; set; }
    public string Status { get; set; } = "received";
}

/// <summary>Who runs the intake, of what, and for which run.</summary>
public sealed record Taking(Edition Edition, SourceRule Source, string RunId, string Mode, string Actor)
{
    /// <summary>True for the first load of a source: a baseline then takes everybody as known.</summary>
    public bool IsFirst { get; init; } = true;

    /// <summary>True when a person came to be known in this very run: both ids begin with the instant they were made (RFC 9562).</summary>
    public bool IsNew(string person) => string.CompareOrdinal(person, 0, RunId, 0, 13) >= 0;
}

/// <summary>
/// Turns records into people and requests: decides what happened to each, and writes it in one decision. What is
/// decided without writing is what a dry run shows and what the brake counts.
/// </summary>
public sealed class RecordTaker(IOpenRequests requests, TimeProvider time)
{
    private static readonly string NoHash = new('0', 32);

    /// <summary>People met earlier in the same delivery, by key: needed while nothing is written, or when nothing is read.</summary>
    public sealed class Memory
    {
        internal readonly Dictionary<string, KnownPerson> People = new(StringComparer.Ordinal);

        /// <summary>True when the store knows nobody yet, so that there is nothing to look up.</summary>
        public bool IsFirstLoad { get; init; }
    }

    public async Task<List<Taken>> DecideAsync(Session s, Taking taking, IReadOnlyList<Incoming> chunk, Memory memory)
    {
        var rulebook = taking.Edition.Rulebook;
        var now = time.GetUtcNow();
        var records = memory.IsFirstLoad
            ? []
            : (await s.RecordsAsync(taking.Source.Name, [.. chunk.Select(c => c.Key)])).ToDictionary(r => r.RecordKey);
        var befores = chunk
            .Select(c => c.Replaces?.Facts ?? records.GetValueOrDefault(c.Key)?.Facts)
            .Select(json => json is null ? null : Facts.FromJson(json, rulebook.Attributes))
            .ToList();
        var keys = chunk.Select((c, i) => (c.Facts ?? befores[i])?.PersonKey ?? "").Where(k => k.Length > 0).Distinct().ToList();
        var people = memory.IsFirstLoad
            ? []
            : (await s.PeopleByKeyAsync([.. keys.Where(k => !memory.People.ContainsKey(k))])).ToDictionary(p => p.PersonKey);
        var handMade = people.Values.Where(p => p.Said.Length > 0).Select(p => p.Id).ToList();
        var extras = handMade.Count == 0 ? null : (await s.ExtrasAsync(handMade)).ToLookup(e => e.PersonId);
        var open = memory.IsFirstLoad
            ? []
            : (
                await s.OpenRequestsOfAsync([
                    .. people.Values.Select(p => p.Id).Concat(keys.Where(memory.People.ContainsKey).Select(k => memory.People[k].Id)),
                ])
            )
                .GroupBy(r => r.PersonId)
                .ToDictionary(g => g.Key, g => g.First());
        var today = new Dictionary<string, DateOnly>(StringComparer.Ordinal);
        var ids = new IdSeries(now);
        var taken = new List<Taken>(chunk.Count);
        // Employments that this delivery tells of for the first time, of people with several rows in it.
        var fresh = chunk
            .Where((c, i) => befores[i] is null && c.Facts is not null)
            .Select(c => c.Facts!)
            .ToLookup(f => f.PersonKey, StringComparer.Ordinal);
        for (var i = 0; i < chunk.Count; i++)
        {
            var (incoming, before) = (chunk[i], befores[i]);
            if ((incoming.Facts ?? before) is not { } facts)
                continue;
            if (!memory.People.TryGetValue(facts.PersonKey, out var person))
            {
                person = people.GetValueOrDefault(facts.PersonKey) is { } row
                    ? KnownPerson.Of(row.Id, Inputs.Of(row, extras?[row.Id] ?? [], rulebook))
                    : new(ids.Next().ToString(), new(1));
                memory.People[facts.PersonKey] = person;
            }
            if (!today.TryGetValue(facts.Site, out var day))
                today[facts.Site] = day = DateOnly.FromDateTime(TimeZoneInfo.ConvertTime(now, rulebook.ZoneOf(facts.Site)).DateTime);
            var coming = before is null ? [] : fresh[facts.PersonKey];
            taken.Add(Take(taking, incoming, before, person, coming, day, now, open.GetValueOrDefault(person.Id)));
        }
        return taken;
    }

    /// <summary>What one row means for the person it is about; their inputs are as the row says afterwards.</summary>
    private static Taken Take(
        Taking taking,
        Incoming incoming,
        Facts? before,
        KnownPerson person,
        IEnumerable<Facts> coming,
        DateOnly day,
        DateTimeOffset now,
        RequestRow? waiting
    )
    {
        var rulebook = taking.Edition.Rulebook;
        var number = (before ?? incoming.Facts!).Number;
        person.Employments.RemoveAll(e => e.Number == number);
        var happening = Happening
            .Between(before, incoming.Facts, person.Employments.Count == 0 ? [] : person.Inputs.Shown(rulebook, now), day, rulebook.Moves)
            .With(coming, incoming.Facts, day);
        person.Employments.Add(incoming.Facts ?? Gone(before!, day));
        var ended = Ended(person, before, incoming.Facts);
        if (before is not null && incoming.Facts is { } later && later.Number != before.Number)
            person.Renumber(before.Number, later.Number);
        var inputs = person.Inputs;
        var shown = inputs.Shown(rulebook, now);
        var leading = shown[Inputs.LeadingOf(shown, rulebook, now)];
        if (taking.Mode == "baseline" && (taking.IsFirst || (before is null && taking.IsNew(person.Id))))
            happening = happening with { Raises = null };
        return new(
            incoming,
            happening,
            person,
            before,
            leading,
            shown.Count == 1 ? [] : [.. shown.Where(e => !ReferenceEquals(e, leading))],
            inputs,
            waiting
        )
        {
            Ended = ended,
        };
    }

    /// <summary>What the source holds no more ends today at the latest; a hire withdrawn is an employment that never was.</summary>
    private static Facts Gone(Facts before, DateOnly day) =>
        before.End < day
            ? before
            : before.With(BuiltIn.End, Core.Expressions.Value.Of(before.Start > day ? before.Start.AddDays(-1) : day));

    /// <summary>Where the source itself says something new of an attribute, what was set by hand is over.</summary>
    private static List<FieldInput> Ended(KnownPerson person, Facts? before, Facts? after)
    {
        if (person.Fields.Count == 0 || before is null || after is null)
            return [];
        var changed = before.DifferenceTo(after).Select(d => d.Name).ToHashSet(StringComparer.Ordinal);
        var ended = person.Fields.FindAll(f => f.Employment == before.Number && changed.Contains(f.Name));
        person.Fields.RemoveAll(ended.Contains);
        return ended;
    }

    /// <summary>Rows that one decision will write.</summary>
    private sealed class Rows
    {
        public Dictionary<string, PersonRow> People { get; } = [];
        public List<RecordRow> Records { get; } = [];
        public List<VersionRow> Versions { get; } = [];
        public List<RequestRow> Requests { get; } = [];
        public List<string> Dropped { get; } = [];

        /// <summary>The request of a person in this delivery: one for all that happened to them.</summary>
        public Dictionary<string, string> Raised { get; } = new(StringComparer.Ordinal);
    }

    /// <summary>Writes what was decided, inside a decision; the requests are named in <see cref="Taken.RequestId"/>.</summary>
    public async Task WriteAsync(Session s, Taking taking, IReadOnlyList<Taken> taken, IReadOnlyList<Incoming> outside, Memory memory)
    {
        var now = time.GetUtcNow();
        var at = now.ToUnixTimeMilliseconds();
        var rows = new Rows();
        foreach (var one in taken)
        {
            if (one.Happening.Raises is { } kind)
                await RaiseAsync(s, taking, one, kind, rows, now);
            one.Status =
                one.Incoming.Facts is null ? "gone"
                : one.RequestId is null ? "received"
                : "request";
            rows.People[one.PersonId] = one.Inputs.Row(one.PersonId, taking.Source.Name, taking.Edition.Rulebook, now);
            foreach (var field in one.Ended)
                await EndAsync(s, one, field, taking, at);
            if (one.Inputs.HasHandMade && one.Before is { } was && one.Incoming.Facts is { } becomes && was.Number != becomes.Number)
                await s.RenumberExtrasAsync(one.PersonId, was.Number, becomes.Number);
            if (one.Before is { } before)
                rows.Versions.Add(new(taking.Source.Name, one.Incoming.Key, one.PersonId, taking.RunId, at, before.ToJson()));
            if (one.Incoming.Replaces is { } old)
                rows.Dropped.Add(old.RecordKey);
            rows.Records.Add(Record(taking, one, at));
        }
        rows.Records.AddRange(
            outside.Select(o => new RecordRow
            {
                Source = taking.Source.Name,
                RecordKey = o.Key,
                Hash = Hash(o),
                Status = "outside",
                RunId = taking.RunId,
                At = at,
            })
        );
        if (memory.IsFirstLoad)
            await AddAsync(s, taken, rows);
        else
        {
            await s.UpsertPeopleAsync([.. rows.People.Values]);
            await s.UpsertRecordsAsync(rows.Records);
        }
        await s.AddVersionsAsync(rows.Versions);
        await s.DropRecordsAsync(taking.Source.Name, rows.Dropped);
        await s.AddRequestsAsync(rows.Requests);
        foreach (var request in rows.Requests)
            s.Tell("requests", request.Id);
    }

    /// <summary>What happened asks for something: it joins the request that is open, or raises one.</summary>
    private async Task RaiseAsync(Session s, Taking taking, Taken one, RequestKind kind, Rows rows, DateTimeOffset now)
    {
        if (rows.Raised.TryGetValue(one.PersonId, out var same))
            one.RequestId = same;
        else if (one.Waiting is { } waiting)
        {
            one.RequestId = waiting.Id;
            await FoldAsync(s, waiting, kind, one, taking);
        }
        else
        {
            var request = Request(taking, one, kind, now.ToUnixTimeMilliseconds());
            one.RequestId = request.Id;
            rows.Requests.Add(request);
            s.Record(
                LedgerEntry.Of(
                    now,
                    taking.Actor,
                    "request.raised",
                    one.PersonId,
                    request.Id,
                    ("requestKind", request.Kind),
                    ("what", one.Happening.What),
                    ("source", taking.Source.Name),
                    ("line", one.Incoming.Line),
                    ("run", taking.RunId),
                    ("changes", one.Incoming.Facts is null ? [] : one.Before?.DifferenceTo(one.Incoming.Facts) ?? [])
                )
            );
        }
        rows.Raised[one.PersonId] = one.RequestId;
    }

    /// <summary>Into an empty store: nothing is looked up, but for people met earlier in the same file.</summary>
    private static async Task AddAsync(Session s, IReadOnlyList<Taken> taken, Rows rows)
    {
        // Another employment of somebody may stand anywhere in a file, also after they were written.
        var again = taken.Where(t => t.Person.IsStored).Select(t => t.PersonId).ToHashSet(StringComparer.Ordinal);
        var people = rows.People.Values;
        await s.AddPeopleAsync(again.Count == 0 ? people : [.. people.Where(p => !again.Contains(p.Id))]);
        await s.UpsertPeopleAsync([.. people.Where(p => again.Contains(p.Id))]);
        await s.AddRecordsAsync(rows.Records);
        foreach (var one in taken)
        {
            one.Person.IsStored = true;
            one.Incoming.Facts?.LetTextGo();
        }
    }

    private static RecordRow Record(Taking taking, Taken one, long at) =>
        new()
        {
            Source = taking.Source.Name,
            RecordKey = one.Incoming.Key,
            Hash = one.Incoming.Facts is null ? NoHash : Hash(one.Incoming),
            Facts = one.Incoming.Facts?.ToJson(),
            Status = one.Status,
            PersonId = one.PersonId,
            RequestId = one.RequestId,
            RunId = taking.RunId,
            At = at,
        };

    private static string Hash(Incoming incoming) =>
        incoming.Fingerprint.ToString("x32", System.Globalization.CultureInfo.InvariantCulture);

    private static async Task EndAsync(Session s, Taken one, FieldInput field, Taking taking, long at)
    {
        await s.EndFieldAsync(one.PersonId, field.Employment, field.Name, 0, at);
        s.Record(
            LedgerEntry.Of(
                at.ToInstant(),
                taking.Actor,
                "input.ended",
                one.PersonId,
                one.RequestId,
                ("field", field.Name),
                ("value", field.Text),
                ("because", "the source changed it"),
                ("source", taking.Source.Name)
            )
        );
    }

    /// <summary>The identity of what a run would raise: a run that is let pass must raise exactly this.</summary>
    public static string DigestOf(IEnumerable<Taken> taken)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        foreach (
            var line in taken
                .Where(t => t.Happening.Raises is not null)
                .Select(t => $"{t.Happening.What}|{t.Incoming.Key}|{t.Incoming.Fingerprint:x32}\n")
                .Order(StringComparer.Ordinal)
        )
            hash.AppendData(Encoding.UTF8.GetBytes(line));
        return Convert.ToHexStringLower(hash.GetHashAndReset());
    }

    /// <summary>The identity of all that a run would take, whether or not it raises anything.</summary>
    public static string DigestOfAll(IEnumerable<Taken> taken)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        foreach (
            var line in taken
                .Select(t => $"{t.Happening.What}|{t.Happening.Raises}|{t.Incoming.Key}|{t.Incoming.Fingerprint:x32}\n")
                .Order(StringComparer.Ordinal)
        )
            hash.AppendData(Encoding.UTF8.GetBytes(line));
        return Convert.ToHexStringLower(hash.GetHashAndReset());
    }

    public static RaisedRequest View(Taken taken) =>
        new(
            taken.RequestId,
            EnumText.Of(taken.Happening.Raises!.Value),
            (taken.Incoming.Facts ?? taken.Leading).DisplayName,
            (taken.Incoming.Facts ?? taken.Leading).Number,
            EnumText.Of(taken.Happening.What)
        );

    /// <summary>With what would change, as a dry run tells it; nothing of it is kept.</summary>
    public static RaisedRequest Told(Taken taken, SourceRule source, Core.Rulebook.Rulebook rulebook)
    {
        var cause = CauseOf(taken, source, rulebook);
        var differences = cause.Differences;
        if (taken.Before is null && taken.Incoming.Facts is { } facts)
            differences =
            [
                .. facts
                    .Values.Select(v => (v.Key, Text: facts.Text(v.Key)))
                    .Where(v => v.Text.Length > 0)
                    .OrderBy(v => v.Key, StringComparer.Ordinal)
                    .Select(v => new AttributeChange(v.Key, [], [v.Text])),
            ];
        return View(taken) with
        {
            Text = cause.Text,
            Changes = [.. differences.Select(d => new AttributeChangeView(d.Name, d.Before, d.After))],
        };
    }

    private RequestRow Request(Taking taking, Taken one, RequestKind kind, long at)
    {
        var name = EnumText.Of(kind);
        return new()
        {
            Id = RequestId.New(at.ToInstant()).ToString(),
            Kind = name,
            State = RequestState.Planning,
            PersonId = one.PersonId,
            Requester = taking.Actor,
            Edition = taking.Edition.Number,
            CreatedAt = at,
            Workflow = requests.WorkflowFor(taking.Edition, name),
            Source = taking.Source.Name,
            Cause = JsonSerializer.Serialize(CauseOf(one, taking.Source, taking.Edition.Rulebook)),
        };
    }

    /// <summary>What HR says changed while a request for the person waits: it is planned anew instead of raising a second one.</summary>
    private async Task FoldAsync(Session s, RequestRow waiting, RequestKind kind, Taken one, Taking taking)
    {
        var row = await s.RequestAsync(waiting.Id, forUpdate: true);
        if (row is null)
            return;
        row.Cause = JsonSerializer.Serialize(CauseOf(one, taking.Source, taking.Edition.Rulebook));
        if (kind == RequestKind.Leaver)
            row.Kind = "leaver";
        await requests.RenewAsync(
            s,
            row,
            one.Incoming.Line > 0 ? $"HR changed the record (line {one.Incoming.Line})" : "HR holds the record no more"
        );
    }

    public static Cause CauseOf(Taken one, SourceRule source, Core.Rulebook.Rulebook rulebook)
    {
        var facts = one.Incoming.Facts ?? one.Leading;
        var name = facts.DisplayName;
        var end = facts.Text(BuiltIn.End);
        var differences = one.Incoming.Facts is null ? [] : one.Before?.DifferenceTo(one.Incoming.Facts) ?? [];
        var text = one.Happening.What switch
        {
            What.Joiner => $"{name} starts on {facts.Text(BuiltIn.Start)} as {facts.Text(BuiltIn.Title)}",
            // The first day of somebody who goes on under the same employment is long past.
            What.Return when one.Before is { } was && was.Start == facts.Start =>
                $"{name} comes back as {facts.Text(BuiltIn.Title)}; the last day had been {was.Text(BuiltIn.End)}",
            What.Return => $"{name} comes back on {facts.Text(BuiltIn.Start)} as {facts.Text(BuiltIn.Title)}",
            What.SecondEmployment => $"{name} has a second employment from {facts.Text(BuiltIn.Start)} as {facts.Text(BuiltIn.Title)}",
            What.EmploymentEnds when one.Incoming.Facts is null =>
                $"{name} is in the source no more as {one.Before!.Text(BuiltIn.Title)}, and works on as {one.Leading.Text(BuiltIn.Title)}",
            What.EmploymentEnds => $"One of the employments of {name} ends: {facts.Text(BuiltIn.Title)}, last day {end}",
            What.Leaver when one.Incoming.Facts is null => $"{name} is in the source no more",
            What.Leaver => $"{name} leaves; the last day is {end}",
            What.ShortenedEnd => $"{name} leaves earlier; the last day is {end}",
            What.WithdrawnHire => $"The hire of {name} was withdrawn",
            What.ExtendedEnd => end.Length > 0 ? $"{name} stays longer, until {end}" : $"{name} stays; the end was withdrawn",
            What.PostponedStart => $"{name} starts later, on {facts.Text(BuiltIn.Start)}",
            What.EarlierStart => $"{name} starts earlier, on {facts.Text(BuiltIn.Start)}",
            What.KindChange => $"{name} is now {facts.Text(BuiltIn.Kind)}",
            What.NameChange => $"{one.Before!.DisplayName} is now called {name}",
            What.NumberChange => $"{name} has the new number {facts.Number}",
            What.Correction => $"The record of {name} was corrected: {Said(differences, rulebook)}",
            What.Mover => $"{name} moves: {Said(differences, rulebook)}",
            _ => $"The record of {name} changed: {Said(differences, rulebook)}",
        };
        return new(
            text,
            source.Title,
            one.Incoming.Line > 0 ? one.Incoming.Line : null,
            [
                .. differences.Select(d => new AttributeChange(
                    d.Name,
                    d.Before.Length > 0 ? [d.Before] : [],
                    d.After.Length > 0 ? [d.After] : []
                )),
            ]
        );
    }

    /// <summary>Which fields changed, from what to what; of those that not everybody may see only that they changed.</summary>
    private static string Said(IReadOnlyList<AttributeDifference> differences, Core.Rulebook.Rulebook rulebook)
    {
        const int most = 3;
        var said = differences.Take(most).Select(One).ToList();
        return string.Join("; ", said) + (differences.Count > most ? $"; and {differences.Count - most} more" : "");

        string One(AttributeDifference d)
        {
            var title = rulebook.TitleOf(d.Name);
            var field = title.Length > 1 && char.IsLower(title[1]) ? char.ToLowerInvariant(title[0]) + title[1..] : title;
            return rulebook.VisibleTo.ContainsKey(d.Name) ? $"{field} changed"
                : d.Before.Length == 0 ? $"{field} {d.After}"
                : $"{field} {d.Before} → {(d.After.Length > 0 ? d.After : "none")}";
        }
    }
}
