using System.Diagnostics;
using System.Globalization;
using System.Text.Json;
using System.Threading.Channels;
using Oikonom.Core;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Common;
using Oikonom.Service.Connectors;
using Oikonom.Service.Records;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>
/// Reads a target whole, or what changed in it, and holds it against what is recorded: each entry gets a class, and what differs goes
/// the way of every look.
/// Entries that answer to nobody are recorded as nobody's; those of nobody that are gone are forgotten.
/// </summary>
public sealed class Reconciler(Store.Store store, ConnectorBook connectors, LookDesk looks, TimeProvider time)
{
    private const int Chunk = 500;

    /// <summary>How many entries are read ahead of being compared.</summary>
    private const int Ahead = 2000;

    /// <summary>How many items are kept of one reconciliation; counts are always whole.</summary>
    private const int MostItems = 5000;

    /// <summary>One entry that is not as decided.</summary>
    private sealed record Found(EntryClass Class, string Name, string Location, string Id, string? PersonId, string Text);

    /// <summary>What is recorded of a target, by the immutable id.</summary>
    private sealed record Books(
        Dictionary<string, BookedAccount> Accounts,
        Dictionary<(string Person, string Slot), IReadOnlyList<string>> Grants,
        HashSet<string> Owners
    );

    /// <summary>What reading came to.</summary>
    private sealed class Findings
    {
        public long Entries;
        public readonly Dictionary<EntryClass, int> Counts = [];
        public readonly List<Found> Items = [];

        /// <summary>Accounts of people that are to be looked at one by one.</summary>
        public readonly List<BookedAccount> Suspects = [];
        public readonly List<ExistingAccount> Strangers = [];
        public readonly HashSet<string> Seen = [];

        /// <summary>Of the strangers those that are recorded as nobody's already.</summary>
        public readonly HashSet<string> Unmatched = [];
        public readonly Dictionary<string, ExistingAccount> ByName = new(StringComparer.OrdinalIgnoreCase);

        public void Count(EntryClass of) => Counts[of] = Counts.GetValueOrDefault(of) + 1;

        public void Add(Found found)
        {
            Count(found.Class);
            Items.Add(found);
        }
    }

    /// <param name="dry">Only looked: nothing is written down but what was found.</param>
    /// <exception cref="TargetFault">The target does not answer, or refuses.</exception>
    /// <exception cref="Problem">The target cannot be read whole.</exception>
    public async Task<ReconciliationRow> RunAsync(Edition edition, TargetRule target, bool dry, string actor, CancellationToken cancel)
    {
        if (!target.Settings.Can.HasFlag(TargetAbilities.Listing))
            throw Problem.Conflict("not-listed", $"{target.Title} cannot be read whole: it holds no accounts that can be listed.");
        var (watch, begun) = (Stopwatch.StartNew(), time.GetUtcNow());
        using var stop = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        var entries = Channel.CreateBounded<ExistingAccount>(new BoundedChannelOptions(Ahead) { SingleReader = true, SingleWriter = true });
        // The target is read while what is recorded is loaded, and further while entries are compared.
        var reading = Task.Run(
            () => ReadAsync(connectors.Accounts(edition, target.Name), entries.Writer, stop.Token),
            CancellationToken.None
        );
        var found = new Findings();
        Books books;
        try
        {
            books = await BooksAsync(target, cancel);
            found.Seen.EnsureCapacity(books.Accounts.Count);
            var shared = target.HasShared ? target : null;
            await foreach (var entry in entries.Reader.ReadAllAsync(cancel))
                Look(entry, books, found, shared);
        }
        finally
        {
            await stop.CancelAsync();
            await reading;
        }
        var gone = books.Accounts.Values.Where(a => !found.Seen.Contains(a.ImmutableId)).ToList();
        await SuspectsAsync(edition, found, gone, books, cancel);
        await StrangersAsync(edition, target, books, found, cancel);
        await LeaveBusyAsync(found, cancel);
        if (!dry)
            await WriteAsync(target, found, gone, begun, cancel);
        return await KeepAsync(target, found, dry, actor, begun, watch.ElapsedMilliseconds, cancel);
    }

    /// <summary>
    /// Reads what changed since the last time, and holds that against what is recorded. The first time, and when the target does not
    /// know any more what changed, it is read whole.
    /// </summary>
    /// <param name="keepsNothing">Whether it is written down, too, when nothing was changed by anybody but us.</param>
    /// <returns>What was found; null when there was nothing to be written down.</returns>
    /// <exception cref="TargetFault">The target does not answer, or does not tell.</exception>
    /// <exception cref="Problem">This kind of target does not tell what changed.</exception>
    public async Task<ReconciliationRow?> ChangesAsync(
        Edition edition,
        TargetRule target,
        string actor,
        bool keepsNothing,
        CancellationToken cancel
    )
    {
        if (connectors.Accounts(edition, target.Name) is not IChangesConnector connector)
            throw Problem.Conflict("changes-not-told", $"{target.Title} does not tell what changed in it; read it whole.");
        var (watch, begun) = (Stopwatch.StartNew(), time.GetUtcNow());
        var since = (await store.ReadAsync(s => s.TargetStatesAsync(), cancel)).FirstOrDefault(t => t.Target == target.Name)?.ChangesSince;
        var changes = await connector.ChangesAsync(since is { Length: > 0 } ? since : null, cancel);
        if (changes.IsLost)
            (since, changes) = ("", await connector.ChangesAsync(null, cancel));
        ReconciliationRow? row;
        if (since is not { Length: > 0 } || changes.Accounts.Count > TargetChanges.MostAlone)
            row = await RunAsync(edition, target, false, actor, cancel);
        else
        {
            var found = new Findings();
            var gone = new List<BookedAccount>();
            if (changes.Accounts.Count + changes.Holders.Count > 0 || changes.Present is not null)
            {
                var books = await BooksAsync(target, cancel);
                await LookAtChangesAsync(target, connector, changes, books, found, gone, cancel);
                await LeaveBusyAsync(found.Suspects, cancel);
                await LeaveBusyAsync(gone, cancel);
                await SuspectsAsync(edition, found, gone, books, cancel);
                await StrangersAsync(edition, target, books, found, cancel);
                await LeaveBusyAsync(found, cancel);
                await WriteAsync(target, found, gone, begun, cancel);
            }
            row =
                keepsNothing || found.Items.Count > 0
                    ? await KeepAsync(target, found, false, actor, begun, watch.ElapsedMilliseconds, cancel, changesAlone: true)
                    : null;
        }
        // What is not written down because this ends here is told once more.
        await store.WriteAsync(s => s.ChangesSinceAsync(target.Name, changes.Since, begun.ToUnixTimeMilliseconds()), cancel);
        return row;
    }

    /// <summary>What is being done to somebody at this moment was changed by us: it is looked at when that is over.</summary>
    private async Task LeaveBusyAsync(List<BookedAccount> accounts, CancellationToken cancel)
    {
        var busy = await BusyAsync(accounts.Select(a => a.PersonId), cancel);
        var left = accounts.Where(a => a.PersonId is { } person && busy.Contains(person)).Select(a => a.Id).ToList();
        if (left.Count == 0)
            return;
        accounts.RemoveAll(a => a.PersonId is { } person && busy.Contains(person));
        await store.WriteAsync(s => s.LookedAtAsync(left, 0), cancel);
    }

    /// <summary>An entry that is not recorded yet and answers to somebody to whom something is being done is being made by us.</summary>
    private async Task LeaveBusyAsync(Findings found, CancellationToken cancel)
    {
        var busy = await BusyAsync(found.Items.Select(i => i.PersonId), cancel);
        foreach (var item in found.Items.Where(i => i.PersonId is { } person && busy.Contains(person)).ToList())
        {
            found.Items.Remove(item);
            found.Counts[item.Class]--;
            found.Strangers.RemoveAll(e => e.ImmutableId == item.Id);
        }
    }

    private async Task<HashSet<string>> BusyAsync(IEnumerable<string?> people, CancellationToken cancel)
    {
        var ids = people.OfType<string>().Distinct().ToList();
        return ids.Count == 0 ? [] : [.. await store.ReadAsync(s => s.BusyAsync(ids, time.Milliseconds()), cancel)];
    }

    private async Task LookAtChangesAsync(
        TargetRule target,
        IAccountConnector connector,
        TargetChanges changes,
        Books books,
        Findings found,
        List<BookedAccount> gone,
        CancellationToken cancel
    )
    {
        var shared = target.HasShared ? target : null;
        var ids = changes.Accounts.ToHashSet(StringComparer.OrdinalIgnoreCase);
        if (changes.Present is { } present)
            ids.UnionWith(books.Accounts.Keys.Where(id => !present.Contains(id)));
        foreach (var id in ids)
            if ((changes.Read?.GetValueOrDefault(id) ?? await connector.ReadAsync(id, cancel)) is { } entry)
                Look(entry, books, found, shared);
            else if (books.Accounts.TryGetValue(id, out var account))
                gone.Add(account);
        found.Entries += gone.Count;
        if (changes.Holders.Count == 0)
            return;
        // Of groups it is told who is in them now; whom that concerns has not changed itself.
        var suspects = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        void See(string id, string name, string location)
        {
            if (ids.Contains(id) || books.Accounts.GetValueOrDefault(id) is not { PersonId: { } person } account)
                return;
            var held = books.Grants.GetValueOrDefault((person, account.Slot), SharedLists.Empty);
            foreach (var group in changes.Holders)
            {
                var (holds, given) = (group.Holds(name, location), held.Contains(group.Entitlement));
                if (holds != given && (given || shared?.Ours([group.Entitlement], held).Any() != false))
                    suspects.Add(id);
            }
        }
        await store.ReadAsync(
            async s =>
            {
                await s.EachPlaceAsync(target.Name, See, cancel);
                return true;
            },
            cancel
        );
        found.Entries += suspects.Count;
        found.Suspects.AddRange(suspects.Select(id => books.Accounts[id]));
    }

    private static async Task ReadAsync(IAccountConnector connector, ChannelWriter<ExistingAccount> to, CancellationToken cancel)
    {
        try
        {
            await foreach (var entry in connector.ListAsync(cancel))
                await to.WriteAsync(entry, cancel);
            to.Complete();
        }
        catch (Exception error)
        {
            // Whoever reads what was found meets it there.
            to.TryComplete(error);
        }
    }

    private Task<Books> BooksAsync(TargetRule target, CancellationToken cancel) =>
        store.ReadAsync(
            async s =>
            {
                var (books, lists) = (new Books(new(StringComparer.OrdinalIgnoreCase), [], []), new SharedLists());
                await s.EachAccountAsync(
                    target.Name,
                    a =>
                    {
                        books.Accounts[a.ImmutableId] = a;
                        if (a is { PersonId: { } person, Slot.Length: 0 })
                            books.Owners.Add(person);
                    },
                    cancel
                );
                await s.EachGrantAsync(
                    target.Name,
                    (person, slot, entitlement) =>
                    {
                        books.Grants[(person, slot)] = lists.With(
                            books.Grants.GetValueOrDefault((person, slot), SharedLists.Empty),
                            entitlement
                        );
                    },
                    cancel
                );
                return books;
            },
            cancel
        );

    /// <param name="shared">The target, where others may give something of it, too; else null.</param>
    private static void Look(ExistingAccount entry, Books books, Findings found, TargetRule? shared)
    {
        found.Entries++;
        if (entry.ImmutableId.Length == 0)
            return;
        found.Seen.Add(entry.ImmutableId);
        if (!books.Accounts.TryGetValue(entry.ImmutableId, out var account))
        {
            found.Strangers.Add(entry);
            found.ByName.TryAdd(entry.Name, entry);
        }
        else if (account.PersonId is not { } person)
        {
            if (account.Purpose == AccountPurpose.Ignored || AccountPurpose.IsKnown(account.Purpose))
                found.Count(EntryClass.Known);
            else if (found.Unmatched.Add(entry.ImmutableId))
                found.Strangers.Add(entry);
        }
        else if (IsAsLeft(account, books.Grants.GetValueOrDefault((person, account.Slot)) ?? [], entry, shared))
            found.Count(EntryClass.AsDecided);
        else
            found.Suspects.Add(account);
    }

    private static bool IsAsLeft(BookedAccount account, IReadOnlyList<string> held, ExistingAccount entry, TargetRule? shared) =>
        Difference.IsAsLeft(
            account.Attributes,
            account.Enabled,
            held,
            shared is null ? entry : entry with { Entitlements = [.. shared.Ours(entry.Entitlements, held)] }
        );

    /// <summary>What seems to differ, or to be gone, is read alone: only that counts.</summary>
    private async Task SuspectsAsync(Edition edition, Findings found, List<BookedAccount> gone, Books books, CancellationToken cancel)
    {
        var suspects = found.Suspects.Concat(gone.Where(a => a.PersonId is not null)).Select(a => a.Id).ToList();
        var rows = suspects.Count == 0 ? [] : await store.ReadAsync(s => s.AccountsByIdAsync(suspects), cancel);
        foreach (var account in rows)
        {
            var held = books.Grants.GetValueOrDefault((account.PersonId!, account.Slot)) ?? [];
            var differences =
                await looks.DifferencesAsync(account, held, edition, cancel)
                ?? throw new TargetFault($"{edition.Rulebook.Targets[account.Target].Title} stopped answering.", transient: true);
            var kind = Reconciling.Of(differences);
            if (kind == EntryClass.AsDecided)
            {
                found.Count(kind);
                continue;
            }
            var text = string.Join(
                "; ",
                LookDesk.Shown(differences).Take(6).Select(d => LookDesk.Told(d, edition.Rulebook.Targets[account.Target]))
            );
            if (kind == EntryClass.Deleted && found.ByName.TryGetValue(account.Name, out var again))
                (kind, text) = (EntryClass.MadeAgain, $"{text}; another one has its name: {again.Location}");
            found.Add(new(kind, account.Name, account.Location, account.ImmutableId, account.PersonId, text));
        }
    }

    /// <summary>Entries that are recorded for nobody: whom they answer to, if anybody.</summary>
    private async Task StrangersAsync(Edition edition, TargetRule target, Books books, Findings found, CancellationToken cancel)
    {
        if (found.Strangers.Count == 0)
            return;
        var owners = await OwnersAsync(edition, target, found.Strangers, cancel);
        var answers = found.Strangers.ConvertAll(e => (Entry: e, Owner: OwnerOf(e, target, owners)));
        var often = answers.Where(x => x.Owner.Person is not null).CountBy(x => x.Owner.Person!).ToDictionary();
        foreach (var (entry, (person, hasLeft)) in answers)
        {
            var hasAnother = person is not null && (books.Owners.Contains(person) || often[person] > 1);
            var kind = Reconciling.OfStranger(person is null ? null : hasLeft, hasAnother);
            var text = kind switch
            {
                EntryClass.Orphan => "answers to somebody who has left",
                EntryClass.Duplicate => "answers to somebody to whom another one answers too",
                EntryClass.Unclaimed => "answers to somebody who has none; their next plan takes it over",
                _ => "answers to nobody",
            };
            found.Add(new(kind, entry.Name, entry.Location, entry.ImmutableId, person, $"{text}{(entry.Enabled ? "" : "; disabled")}"));
        }
    }

    private static (string? Person, bool HasLeft) OwnerOf(
        ExistingAccount entry,
        TargetRule target,
        Dictionary<string, (string? Person, bool HasLeft)> owners
    ) =>
        target
            .Match.Select(m =>
                entry.Attributes.TryGetValue(m.Attribute, out var values) && values.Count > 0
                    ? owners.GetValueOrDefault($"{m.Attribute}={values[0]}")
                    : default
            )
            .FirstOrDefault(o => o.Person is not null);

    /// <summary>The people whom entries answer to, by attribute and value, and whether their employment is over.</summary>
    private async Task<Dictionary<string, (string? Person, bool HasLeft)>> OwnersAsync(
        Edition edition,
        TargetRule target,
        List<ExistingAccount> strangers,
        CancellationToken cancel
    )
    {
        var wanted = target
            .Match.SelectMany(m =>
                strangers
                    .Select(e => e.Attributes.GetValueOrDefault(m.Attribute))
                    .Where(v => v is { Count: > 0 })
                    .Select(v => $"{m.Attribute}={v![0]}")
            )
            .ToHashSet(StringComparer.OrdinalIgnoreCase);
        var owners = new Dictionary<string, (string? Person, bool HasLeft)>(StringComparer.OrdinalIgnoreCase);
        if (wanted.Count == 0)
            return owners;
        var (asking, now) = (edition.Rulebook.Access.Ask(), time.GetUtcNow());
        foreach (var chunk in (await PeopleAsync(cancel)).Chunk(Chunk))
        {
            var recorded = await store.ReadAsync(s => Recorded.LoadAsync(s, chunk), cancel);
            foreach (var id in chunk)
            {
                var subject = recorded.Subject(id, edition);
                foreach (var (attribute, value) in KeysOf(asking, subject, target))
                    if ($"{attribute}={value}" is var key && wanted.Contains(key))
                        owners[key] = (id, Term.Of(subject, edition.Rulebook).End <= now);
            }
        }
        return owners;
    }

    private Task<List<string>> PeopleAsync(CancellationToken cancel) =>
        store.ReadAsync(
            async s =>
            {
                var ids = new List<string>();
                await s.EachPersonAsync((id, _, _, _) => ids.Add(id), cancel);
                return ids;
            },
            cancel
        );

    /// <summary>A person whom the rulebook cannot serve answers to nothing.</summary>
    private static IReadOnlyList<(string Attribute, string Value)> KeysOf(Asking asking, Subject subject, TargetRule target)
    {
        try
        {
            return asking.MatchKeys(subject, target);
        }
        catch (PlanFault)
        {
            return [];
        }
    }

    private async Task WriteAsync(
        TargetRule target,
        Findings found,
        List<BookedAccount> gone,
        DateTimeOffset begun,
        CancellationToken cancel
    )
    {
        var suspects = found.Suspects.Concat(gone.Where(a => a.PersonId is not null)).Select(a => a.Id).ToList();
        foreach (var chunk in suspects.Chunk(Chunk))
            if ((await looks.LookAsync(chunk, cancel)).Postponed is { Count: > 0 } postponed)
                await store.WriteAsync(s => s.LookedAtAsync(postponed, 0), cancel);
        var now = time.GetUtcNow();
        var lost = gone.Where(a => a.PersonId is null && a.At < begun.ToUnixTimeMilliseconds()).ToList();
        foreach (var chunk in found.Strangers.Where(e => !found.Unmatched.Contains(e.ImmutableId)).Chunk(Chunk))
            await store.WriteAsync(
                s => Recorded.AddNobodysAsync(s, target, chunk, "was found when the target was read whole", now),
                cancel
            );
        if (lost.Count == 0)
            return;
        await store.WriteAsync(
            async s =>
            {
                var rows = await s.AccountsByIdAsync([.. lost.Select(a => a.Id)]);
                await s.DropNobodysAsync([.. rows.Select(a => a.Id)]);
                foreach (var account in rows)
                    s.Record(
                        LedgerEntry.Of(
                            now,
                            "oikonom",
                            "account.gone",
                            null,
                            null,
                            ("target", target.Name),
                            ("account", account.Name),
                            ("entry", account.ImmutableId)
                        )
                    );
            },
            cancel
        );
    }

    private async Task<ReconciliationRow> KeepAsync(
        TargetRule target,
        Findings found,
        bool dry,
        string actor,
        DateTimeOffset begun,
        long took,
        CancellationToken cancel,
        bool changesAlone = false
    )
    {
        var counts = found.Counts.Where(c => c.Value > 0).OrderBy(c => c.Key).ToDictionary(c => EnumText.Of(c.Key), c => c.Value);
        var row = new ReconciliationRow
        {
            Id = Guid.CreateVersion7(begun).ToString(),
            Target = target.Name,
            At = begun.ToUnixTimeMilliseconds(),
            Actor = actor,
            Dry = dry ? 1 : 0,
            Milliseconds = took,
            Entries = found.Entries,
            Counts = JsonSerializer.Serialize(counts),
            Changes = changesAlone ? 1 : 0,
        };
        await store.WriteAsync(
            async s =>
            {
                await s.AddReconciliationAsync(
                    row,
                    [
                        .. found
                            .Items.OrderBy(i => i.Class)
                            .Take(MostItems)
                            .Select(
                                (item, place) =>
                                    new ReconciliationItemRow
                                    {
                                        Reconciliation = row.Id,
                                        Place = place,
                                        Class = EnumText.Of(item.Class),
                                        Name = item.Name,
                                        Location = item.Location,
                                        ImmutableId = item.Id,
                                        PersonId = item.PersonId,
                                        Text = item.Text,
                                    }
                            ),
                    ]
                );
                await TargetDesk.NoteAsync(
                    s,
                    target.Name,
                    dry ? "looked"
                        : changesAlone ? "changes"
                        : "read",
                    actor,
                    Told(found, counts),
                    time.GetUtcNow()
                );
            },
            cancel
        );
        return row;
    }

    private static string Told(Findings found, Dictionary<string, int> counts) =>
        $"{found.Entries.ToString(CultureInfo.InvariantCulture)} {(found.Entries == 1 ? "entry" : "entries")}: "
        + string.Join(", ", counts.Select(c => $"{c.Value.ToString(CultureInfo.InvariantCulture)} {c.Key}"));
}
