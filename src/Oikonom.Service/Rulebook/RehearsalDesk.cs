using System.Collections.Concurrent;
using System.Diagnostics;
using System.Text;
using System.Text.Json;
using System.Threading.Channels;
using Oikonom.Contracts;
using Oikonom.Core.Expressions;
using Oikonom.Core.Intake;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Service.Records;
using Oikonom.Sources.Files;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Rulebook;

/// <summary>Asks what a draft would do to everybody, and keeps the last answers so that they can be paged and exported.</summary>
public sealed class RehearsalDesk(Store.Store store, EditionBook editions, TimeProvider time)
{
    private const int Batch = 500;
    private const int MostKept = 4;
    private readonly ConcurrentDictionary<string, Held> _kept = new();

    /// <summary>An answer that is kept.</summary>
    public sealed record Held(
        string Id,
        DateTimeOffset At,
        string Against,
        RehearsalReport Report,
        long Milliseconds,
        int SetAside,
        IReadOnlyList<OpenRequestChange> OpenRequests,
        IReadOnlyList<Finding> Warnings
    );

    public async Task<Held> RunAsync(
        Core.Rulebook.Rulebook draft,
        IReadOnlyList<Finding> warnings,
        string? sourceName,
        string? hr,
        CancellationToken cancel
    )
    {
        var watch = Stopwatch.StartNew();
        var current = await editions.CurrentOrNullAsync(cancel);
        var records = hr is null ? (People: new Dictionary<string, List<Facts>>(), SetAside: 0) : Read(draft, sourceName, hr, cancel);
        var others = current is null ? new Dictionary<long, Core.Rulebook.Rulebook>() : await OthersAsync(cancel);
        var report = await LookAsync(current?.Rulebook, draft, records.People, cancel, others);
        var open = current is null ? [] : await OpenRequestsAsync(current, new(0, "", draft), cancel);
        var now = time.GetUtcNow();
        var kept = new Held(
            Guid.CreateVersion7(now).ToString(),
            now,
            current is null ? "nothing: no edition is published"
                : others.Count == 0 ? $"edition {current.Number}"
                : $"what each is on: edition {string.Join(", ", others.Keys.Append(current.Number).Order())}",
            report,
            watch.ElapsedMilliseconds,
            records.SetAside,
            open,
            [.. warnings, .. Warnings.WithPeople(draft, report.PeopleByTemplate)]
        );
        _kept[kept.Id] = kept;
        foreach (var old in _kept.Values.OrderByDescending(k => k.At).Skip(MostKept))
            _kept.TryRemove(old.Id, out _);
        return kept;
    }

    public Held Get(string id) =>
        _kept.GetValueOrDefault(id)
        ?? throw Problem.NotFound($"rehearsal '{id}' on this node any more", $"The last {MostKept} are kept; rehearse again.");

    /// <summary>The rules that people are on beside the newest.</summary>
    public async Task<IReadOnlyDictionary<long, Core.Rulebook.Rulebook>> OthersAsync(CancellationToken cancel) =>
        (await editions.InUseAsync(TimeSpan.Zero, cancel)).Skip(1).ToDictionary(e => (long)e.Number, e => e.Rulebook);

    /// <summary>Everybody under both rulebooks; reading and asking go side by side.</summary>
    public async Task<RehearsalReport> LookAsync(
        Core.Rulebook.Rulebook? current,
        Core.Rulebook.Rulebook draft,
        Dictionary<string, List<Facts>> records,
        CancellationToken cancel,
        IReadOnlyDictionary<long, Core.Rulebook.Rulebook>? others = null
    )
    {
        var held = new HandMade();
        var naming = Alone(() => store.ReadAsync(s => held.ReadAsync(s, cancel), cancel), cancel).Unwrap();
        var rehearsal = new Rehearsal(current, draft, time.GetUtcNow(), held.Taken)
        {
            Others = others ?? new Dictionary<long, Core.Rulebook.Rulebook>(),
        };
        var channel = Channel.CreateBounded<List<ReadPerson>>(64);
        var met = new ConcurrentDictionary<string, bool>(StringComparer.Ordinal);
        var sameSchema = current is not null && current.Attributes.Slots.SequenceEqual(draft.Attributes.Slots);
        var workers = Enumerable.Range(0, Math.Max(2, Environment.ProcessorCount)).Select(_ => Alone(Work, cancel)).ToList();
        await store.ReadAsync(s => PourAsync(s, channel.Writer, cancel), cancel);
        var parts = (await Task.WhenAll(workers)).ToList();
        var fresh = rehearsal.Begin();
        foreach (var (key, employments) in records.Where(r => !met.ContainsKey(r.Key)))
            fresh.Look(new(key, null, WithRecords(new(default, employments[0], None), employments)));
        return rehearsal.End([.. parts, fresh]);

        Rehearsal.Part Work()
        {
            var part = rehearsal.Begin();
            foreach (var batch in channel.Reader.ReadAllAsync(cancel).ToBlockingEnumerable(cancel))
            {
                var people = batch.ConvertAll(p => (p, After: Of(p, draft.Attributes), Before: Earlier(p)));
                naming.GetAwaiter().GetResult();
                foreach (var (p, bare, earlier) in people)
                {
                    var after = held.Over(p.Id, bare, draft);
                    var rules = rehearsal.Others.GetValueOrDefault(p.On) ?? current;
                    var before = rules is null ? null : held.Over(p.Id, earlier ?? bare, rules);
                    if (records.Count > 0 && records.TryGetValue(after.Facts.PersonKey, out var theirs))
                    {
                        met[after.Facts.PersonKey] = true;
                        after = WithRecords(after, theirs);
                    }
                    part.Look(new(p.Id, before, after, p.On));
                }
            }
            return part;
        }

        Subject? Earlier(ReadPerson p) =>
            rehearsal.Others.TryGetValue(p.On, out var own) ? Of(p, own.Attributes)
            : current is null || sameSchema ? null
            : Of(p, current.Attributes);
    }

    /// <summary>A thread of its own: the pool, which the reader blocks a thread of, gives more only after half a second.</summary>
    private static Task<T> Alone<T>(Func<T> work, CancellationToken cancel) =>
        Task.Factory.StartNew(work, cancel, TaskCreationOptions.LongRunning, TaskScheduler.Default);

    private static async Task<bool> PourAsync(Session s, ChannelWriter<List<ReadPerson>> into, CancellationToken cancel)
    {
        var batch = new List<ReadPerson>(Batch);
        await s.EachPersonAsync(
            (id, facts, others, on) =>
            {
                batch.Add(new(id, facts, others, on));
                if (batch.Count < Batch)
                    return;
                // A full channel makes the reader wait: what is read is asked about before more is read.
                while (!into.TryWrite(batch))
                    Thread.Sleep(1);
                batch = new(Batch);
            },
            cancel
        );
        await into.WriteAsync(batch, cancel);
        into.Complete();
        return true;
    }

    /// <summary>A person as read, not yet taken apart.</summary>
    private readonly record struct ReadPerson(string Id, byte[] Facts, string Others, long On);

    /// <summary>Names of accounts, numbers of pools and inputs made by hand, of everybody; read while people are taken apart.</summary>
    private sealed class HandMade
    {
        private readonly Dictionary<string, Dictionary<AccountKey, string>> _names = new(StringComparer.Ordinal);
        private readonly Dictionary<string, Dictionary<AccountKey, IReadOnlyList<string>>> _former = new(StringComparer.Ordinal);
        private ILookup<string, ExtraRow>? _extras;
        private ILookup<string, PoolNumberRow>? _numbers;

        public HashSet<(string, string)> Taken { get; } = [];

        public async Task<bool> ReadAsync(Session s, CancellationToken cancel)
        {
            var keys = new Dictionary<(string, string), AccountKey>();
            await s.EachNameAsync(
                (person, target, slot, name, former) =>
                {
                    if (!_names.TryGetValue(person, out var own))
                        _names[person] = own = new(1);
                    if (!keys.TryGetValue((target, slot), out var key))
                        keys[(target, slot)] = key = new(target, slot);
                    own[key] = name;
                    Taken.Add((target, name));
                    if (Recorded.FormerOf(former) is { Count: > 0 } had)
                        _former[person] = new(_former.GetValueOrDefault(person) ?? []) { [key] = had };
                },
                cancel
            );
            _extras = (await s.AllExtrasAsync()).ToLookup(e => e.PersonId);
            _numbers = (await s.AllNumbersAsync()).ToLookup(n => n.PersonId);
            return true;
        }

        public Subject Over(string id, Subject bare, Core.Rulebook.Rulebook rules)
        {
            var named = _names.TryGetValue(id, out var own) && own.Count > 0 ? bare with { AccountNames = own } : bare;
            if (_former.TryGetValue(id, out var former))
                named = named with { FormerNames = former };
            return _extras!.Contains(id) || _numbers!.Contains(id) ? Recorded.With(named, [.. _extras[id]], _numbers![id], rules) : named;
        }
    }

    private static readonly Dictionary<AccountKey, string> None = [];

    private static Subject Of(ReadPerson read, NameSchema schema)
    {
        var subject = new Subject(PersonId.Parse(read.Id), Facts.FromJson(read.Facts, schema), None);
        return read.Others.Length <= 2 ? subject : subject with { Others = Facts.ListFromJson(read.Others, schema) };
    }

    /// <summary>The person with the records of a file in the place of those known under the same numbers.</summary>
    private Subject WithRecords(Subject known, List<Facts> records)
    {
        var employments = known.Employments.Where(e => !records.Exists(r => r.Number == e.Number)).Concat(records).ToList();
        var leading = Employments.Leading(employments, DateOnly.FromDateTime(time.GetUtcNow().UtcDateTime));
        return known with { Facts = leading, Others = [.. employments.Where(e => !ReferenceEquals(e, leading))] };
    }

    private static (Dictionary<string, List<Facts>> People, int SetAside) Read(
        Core.Rulebook.Rulebook draft,
        string? name,
        string text,
        CancellationToken cancel
    )
    {
        var source = name is null
            ? draft.Sources.Values.FirstOrDefault(s => s.Kind == SourceKind.File)
                ?? throw Problem.Invalid("The draft has no source of the kind file; name the source whose mapping is to be used.", "source")
            : draft.Sources.GetValueOrDefault(name)
                ?? throw Problem.NotFound($"source '{name}' in the draft", $"It has: {string.Join(", ", draft.Sources.Keys)}.");
        var people = new Dictionary<string, List<Facts>>(StringComparer.Ordinal);
        var reader = new RecordReader(source, draft);
        var texts = new string[source.ColumnNames.Count];
        var aside = 0;
        using var stream = new MemoryStream(Encoding.UTF8.GetBytes(text));
        DelimitedFile.Read(
            stream,
            source with
            {
                Encoding = "utf-8",
            },
            row =>
            {
                if (row.Fault is not null)
                {
                    aside++;
                    return;
                }
                for (var i = 0; i < texts.Length; i++)
                    texts[i] = row.Text(i);
                var read = reader.Read(texts);
                if (read.Outside)
                    return;
                if (read.Facts is not { } facts)
                {
                    aside++;
                    return;
                }
                if (!people.TryGetValue(facts.PersonKey, out var own))
                    people[facts.PersonKey] = own = [];
                own.Add(facts);
            },
            cancel
        );
        return (people, aside);
    }

    /// <summary>The open requests that wait for people, and that another rulebook would plan differently or send another way of
    /// approval.</summary>
    /// <param name="since">Only those that changed since then, in milliseconds; 0 for all.</param>
    public async Task<IReadOnlyList<OpenRequestChange>> OpenRequestsAsync(
        Edition current,
        Edition draft,
        CancellationToken cancel,
        long since = 0
    )
    {
        var rows = (await store.ReadAsync(s => s.WaitingRequestsAsync(), cancel)).Where(r => r.UpdatedAt >= since).ToList();
        if (rows.Count == 0)
            return [];
        var recorded = await store.ReadAsync(s => Recorded.LoadAsync(s, [.. rows.Select(r => r.PersonId).Distinct()]), cancel);
        var otherWay = WayOf(current.Rulebook) != WayOf(draft.Rulebook);
        var changed = new List<OpenRequestChange>();
        foreach (var row in rows)
        {
            var another = otherWay && await GoesAnotherWayAsync(row, current, draft, cancel);
            if (another || (TakesNewest(row) && Differs(recorded, row, current, draft)))
                changed.Add(new(row.Id, row.Number, row.Kind, row.Display, row.StateText, another));
        }
        return changed;
    }

    /// <summary>True when the request puts the person on the newest edition; any other is planned by the one they are on.</summary>
    private static bool TakesNewest(RequestRow row) =>
        row.OnEdition == 0 || row.Kind is "joiner" or "mover" || (row.Plan is { } plan && Plan.FromJson(plan).From is not null);

    /// <summary>All of a rulebook that says who decides: where it is the same, no request goes another way.</summary>
    private static string WayOf(Core.Rulebook.Rulebook rulebook) =>
        JsonSerializer.Serialize(
            new
            {
                Workflows = rulebook.Workflows.Select(w => new
                {
                    w.Name,
                    w.For,
                    w.Sources,
                    When = w.When?.Text,
                    w.Priority,
                    Stages = w.Stages.Select(WayOf),
                    w.ReleasedByOperator,
                    By = WayOf(w.ReleasedBy),
                    w.FourEyes,
                }),
                rulebook.Groups,
                rulebook.Departments,
                Leads = rulebook.Sites.Values.Select(s => new { s.Name, s.Lead }),
                Things = rulebook.Targets.Values.Select(t => new
                {
                    t.Name,
                    t.Owner,
                    Entitlements = t.Entitlements.Values.Select(e => new
                    {
                        e.Name,
                        e.Owner,
                        e.IsPrivileged,
                        e.MostHolders,
                    }),
                }),
                Separations = rulebook.Separations.Select(s => new { s.Name, Approver = s.Approver is null ? "" : WayOf(s.Approver) }),
            }
        );

    private static object WayOf(Stage stage) =>
        new
        {
            stage.Name,
            When = stage.When?.Text,
            Decides = stage.Decides.Select(WayOf),
            Otherwise = stage.Otherwise.Select(WayOf),
            stage.Quorum,
            stage.PerItem,
            stage.InPart,
            stage.Skips,
            stage.MayChange,
            stage.Deadline,
            stage.OnSilence,
            Escalates = stage.Escalates.Select(WayOf),
        };

    private static string WayOf(Approver approver) => $"{approver.Relation}:{approver.Argument}:{approver.Expression?.Text}";

    /// <summary>True when other people would decide on the request, more of them, or on something that weighs more now.</summary>
    private Task<bool> GoesAnotherWayAsync(RequestRow row, Edition current, Edition draft, CancellationToken cancel) =>
        store.ReadAsync(
            async s =>
            {
                if (row.Plan is null)
                    return false;
                try
                {
                    var person =
                        await s.PersonAsync(row.PersonId)
                        ?? throw new InvalidOperationException($"The person of request {row.Id} is gone.");
                    var (plan, now) = (Plan.FromJson(row.Plan), time.GetUtcNow());
                    var (before, after) = (
                        await Case.PreviewAsync(s, row, current, plan, person, now),
                        await Case.PreviewAsync(s, row, draft, plan, person, now)
                    );
                    return WayOf(before) != WayOf(after);
                }
                catch (PlanFault)
                {
                    return true;
                }
            },
            cancel
        );

    private static string WayOf(Case of) =>
        JsonSerializer.Serialize(
            new
            {
                of.Workflow.Name,
                of.Workflow.ReleasedByOperator,
                By = WayOf(of.Workflow.ReleasedBy),
                of.Workflow.FourEyes,
                Items = of.Items.Select(i => new { i.Key, i.IsPrivileged }),
                Stages = of.Stages.Select(a => new
                {
                    Rule = WayOf(a.Rule),
                    Asked = a.SkippedBecause is null,
                    a.Ballots,
                }),
            }
        );

    private bool Differs(Recorded recorded, RequestRow row, Edition current, Edition draft)
    {
        try
        {
            var (before, after) = (
                Wished(recorded.Subject(row.PersonId, current), row, current),
                Wished(recorded.Subject(row.PersonId, draft), row, draft)
            );
            var now = time.GetUtcNow();
            var (one, other) = (Desired.Windows(before, current), Desired.Windows(after, draft));
            return one.Turns.Concat(other.Turns).Where(t => t > now).Append(now).Distinct().Any(at => !Same(one.At(at), other.At(at)));
        }
        catch (PlanFault)
        {
            // What cannot be worked out is planned anew, and says why.
            return true;
        }
    }

    /// <summary>The person as they would be with what the request asks for.</summary>
    private Subject Wished(Subject person, RequestRow row, Edition edition) =>
        Wish.FromJson(row.Wish) is { ChangesInputs: true } wish
            ? wish.Apply(
                person,
                edition.Rulebook,
                new("request", row.Number.ToString(System.Globalization.CultureInfo.InvariantCulture), wish.Reason),
                row.CreatedAt.ToInstant()
            )
            : person;

    private static bool Same(AccessState left, AccessState right) =>
        left.Grants.Keys.ToHashSet().SetEquals(right.Grants.Keys)
        && left.Accounts.Count == right.Accounts.Count
        && left.Accounts.All(a =>
            right.Accounts.TryGetValue(a.Key, out var other)
            && a.Value.Enabled == other.Enabled
            && a.Value.Container == other.Container
            && a.Value.Name == other.Name
            && a.Value.Attributes.Count == other.Attributes.Count
            && a.Value.Attributes.All(x => other.Attributes.TryGetValue(x.Key, out var values) && x.Value.SequenceEqual(values))
        );

    public static RehearsalView View(Held kept, IReadOnlyList<Affected> page) =>
        new()
        {
            Id = kept.Id,
            At = kept.At,
            Against = kept.Against,
            People = kept.Report.People,
            Unchanged = kept.Report.Unchanged,
            Changed = kept.Report.Changed,
            Failing = kept.Report.Failing,
            Milliseconds = kept.Milliseconds,
            SetAside = kept.SetAside,
            ByTarget = Tallies(kept.Report.ByTarget),
            ByEntitlement = Tallies(kept.Report.ByEntitlement),
            ByTemplate = Tallies(kept.Report.ByTemplate),
            ByDepartment = Tallies(kept.Report.ByDepartment),
            OpenRequests = kept.OpenRequests,
            Affected = [.. page.Select(View)],
            Warnings = [.. kept.Warnings.Select(RulebookFiles.View)],
        };

    public static IReadOnlyList<TallyView> Tallies(IReadOnlyList<Tally> tallies) =>
        [.. tallies.Select(t => new TallyView(t.Name, t.People, t.Gained, t.Lost, t.Changed))];

    public static AffectedView View(Affected person) =>
        new(person.Id, person.Number, person.Name, person.Department, person.Site, [.. person.Effects.Select(View)], person.Problem);

    public static EffectView View(Effect effect) =>
        new(
            EnumText.Of(effect.Kind),
            effect.Target,
            effect.Subject,
            Text(effect),
            effect.Rule,
            [.. effect.Attributes.Select(a => new AttributeChangeView(a.Name, a.Before, a.After))],
            effect.From,
            effect.Until
        );

    public static string Text(Effect effect)
    {
        var what = What(effect);
        if (effect.From is { } from)
            what += $", from {from:yyyy-MM-dd}";
        return effect.Until is { } until ? $"{what}, until {until:yyyy-MM-dd}" : what;
    }

    private static string What(Effect effect) =>
        effect.Kind switch
        {
            EffectKind.AccountGained => $"gets the account {effect.Subject} in {effect.Target}",
            EffectKind.AccountLost => $"loses the account {effect.Subject} in {effect.Target}",
            EffectKind.AccountChanged => EffectText.Of(effect.Target, effect.Attributes.Select(a => (a.Name, a.Before, a.After))),
            EffectKind.AccountWoken => $"the account {effect.Subject} in {effect.Target} wakes",
            EffectKind.AccountPutToSleep => $"the account {effect.Subject} in {effect.Target} is put to sleep",
            EffectKind.GrantGained => $"gains {effect.Key}",
            EffectKind.LeftAlone => $"{effect.Key} stays as it is: this rulebook does not look after it any more",
            _ => $"loses {effect.Key}",
        };
}
