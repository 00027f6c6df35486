using System.Diagnostics;
using Oikonom.Core.Approval;
using Oikonom.Core.People;
using Oikonom.Service.Common;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Records;

/// <summary>
/// Everybody in memory, in order of name, with the text they are found by: any part of a name in any script, with and
/// without accents, the number, and account names. A list of 100,000 people takes some 40 MB and is looked through in
/// milliseconds on both engines. Each call first reads what changed since the last one, so that nobody is found late.
/// </summary>
public sealed class PeopleIndex(Store.Store store, TimeProvider time)
{
    /// <summary>How far back changes are looked for, in milliseconds: decisions are committed a little after the instant they
    /// carry.</summary>
    private const long Overlap = 60_000;
    private const long WholeEvery = 30_000;

    /// <summary>Line ends that part the texts: no word holds one.</summary>
    private const int Gaps = 2;

    private readonly SemaphoreSlim _gate = new(1, 1);
    private volatile State _state = new([], [], [], new(StringComparer.Ordinal), [], [], []);
    private long _began = long.MinValue;

    /// <summary>From when on changes are looked for, and how many there were at the last look.</summary>
    private long _since = long.MinValue;
    private (long People, long Versions, long Accounts, long Newest) _mark;
    private long _wholeAt = long.MinValue / 2;

    private sealed record Entry(
        string Id,
        string Key,
        string Text,
        string Names,
        string Site,
        string Department,
        string Title,
        string Kind,
        long Version
    );

    /// <param name="Texts">What everybody is found by, one after the other, in the order of <paramref name="People"/>.</param>
    /// <param name="Ends">Where each person's text ends in it.</param>
    private sealed record State(
        Entry[] People,
        char[] Texts,
        int[] Ends,
        Dictionary<string, Entry> ById,
        IReadOnlyList<string> Departments,
        IReadOnlyList<string> Titles,
        IReadOnlyList<string> Kinds
    );

    /// <summary>The ids of a page of people in order of name, after a cursor of name and id.</summary>
    /// <param name="text">Words that must all be found; "" finds everybody.</param>
    /// <param name="reach">The parts of the organisation the caller may see; null means all.</param>
    public async Task<IReadOnlyList<string>> FindAsync(
        string text,
        string site,
        string department,
        string afterKey,
        string afterId,
        int limit,
        IReadOnlyList<Reach>? reach,
        CancellationToken cancel
    )
    {
        var state = await FreshAsync(cancel);
        var words = SearchText.Words(text);
        var found = new List<string>(limit);
        for (
            var i = Next(state, After(state.People, afterKey, afterId), words);
            i >= 0 && found.Count < limit;
            i = Next(state, i + 1, words)
        )
        {
            var person = state.People[i];
            if (site.Length > 0 && person.Site != site)
                continue;
            if (department.Length > 0 && person.Department != department)
                continue;
            if (reach is null || reach.Any(p => p.Covers(person.Site, person.Department)))
                found.Add(person.Id);
        }
        return found;
    }

    /// <summary>The place of the next person, from a place on, in whose text all words are; -1 when there is none.</summary>
    private static int Next(State state, int from, IReadOnlyList<string> words)
    {
        if (words.Count == 0)
            return from < state.People.Length ? from : -1;
        while (from < state.People.Length)
        {
            // The first word is looked for in the texts of all who follow at once.
            var begin = from == 0 ? 0 : state.Ends[from - 1];
            var hit = state.Texts.AsSpan(begin).IndexOf(words[0], StringComparison.Ordinal);
            if (hit < 0)
                return -1;
            var place = Array.BinarySearch(state.Ends, from, state.Ends.Length - from, begin + hit + 1);
            from = place < 0 ? ~place : place;
            if (HoldsAll(state, from, words))
                return from;
            from++;
        }
        return -1;
    }

    private static bool HoldsAll(State state, int place, IReadOnlyList<string> words)
    {
        var begin = place == 0 ? 0 : state.Ends[place - 1];
        var text = state.Texts.AsSpan(begin, state.Ends[place] - begin);
        foreach (var word in words)
            if (text.IndexOf(word, StringComparison.Ordinal) < 0)
                return false;
        return true;
    }

    /// <summary>The departments, job titles and kinds of employment that people have now, in order.</summary>
    public async Task<(IReadOnlyList<string> Departments, IReadOnlyList<string> Titles, IReadOnlyList<string> Kinds)> PlacesAsync(
        CancellationToken cancel
    )
    {
        var state = await FreshAsync(cancel);
        return (state.Departments, state.Titles, state.Kinds);
    }

    private static int After(Entry[] people, string key, string id)
    {
        if (key.Length == 0 && id.Length == 0)
            return 0;
        var (low, high) = (0, people.Length);
        while (low < high)
        {
            var middle = (low + high) / 2;
            if (Compare(people[middle].Key, people[middle].Id, key, id) <= 0)
                low = middle + 1;
            else
                high = middle;
        }
        return low;
    }

    private static int Compare(string leftKey, string leftId, string rightKey, string rightId) =>
        string.CompareOrdinal(leftKey, rightKey) is not 0 and var byKey ? byKey : string.CompareOrdinal(leftId, rightId);

    private async Task<State> FreshAsync(CancellationToken cancel)
    {
        var arrived = Stopwatch.GetTimestamp();
        await _gate.WaitAsync(cancel);
        try
        {
            // Whoever waited for a look that began after they came has what they need.
            if (_began >= arrived)
                return _state;
            var began = Stopwatch.GetTimestamp();
            await LookAsync(cancel);
            // Only a look that came to its end serves those who waited: whoever began it may have gone away.
            _began = began;
            return _state;
        }
        finally
        {
            _gate.Release();
        }
    }

    /// <summary>Reads what changed. While nothing did, two counts over the last minute tell so.</summary>
    private async Task LookAsync(CancellationToken cancel)
    {
        var now = time.Milliseconds();
        var state = _state;
        if (now - _wholeAt > WholeEvery)
        {
            // Now and then all is counted: a decision that took very long before it was committed is not missed.
            _wholeAt = now;
            var whole = await store.ReadAsync(s => s.PeopleMarkAsync(long.MinValue), cancel);
            if (whole.People != state.ById.Count || whole.Versions != state.ById.Values.Sum(p => p.Version))
                _since = long.MinValue;
        }
        if (_since > long.MinValue && await IsUnchangedAsync(now, cancel))
            return;
        var (since, next) = (_since, Math.Max(_since, now - Overlap));
        var (mark, people, names) = await store.ReadAsync(
            async s => (await s.PeopleMarkAsync(next), await s.PeopleSinceAsync(since), await s.NamesSinceAsync(since)),
            cancel
        );
        var changed = new Dictionary<string, Entry>(StringComparer.Ordinal);
        foreach (var row in people)
        {
            var known = state.ById.GetValueOrDefault(row.Id);
            if (known?.Version == row.Version)
                continue;
            // Who is forgotten is not found by what they were called.
            var accounts = row.Number.Length == 0 ? "" : known?.Names ?? "";
            changed[row.Id] = new(
                row.Id,
                row.SearchKey,
                SearchText.Of(row.SearchKey, row.Number),
                accounts,
                row.Site,
                row.Department,
                row.Title,
                row.Kind,
                row.Version
            );
        }
        foreach (var (person, name) in names)
        {
            var latin = SearchText.Of(name, "").Trim();
            if (
                (changed.GetValueOrDefault(person) ?? state.ById.GetValueOrDefault(person)) is { } entry
                && !entry.Names.Split(' ').Contains(latin)
            )
                changed[person] = entry with { Names = $"{entry.Names} {latin}" };
        }
        if (changed.Count > 0)
            _state = Merge(state, changed);
        (_since, _mark) = (next, mark);
    }

    /// <summary>True when nothing changed since the last look; what lies long behind is then not counted again.</summary>
    private async Task<bool> IsUnchangedAsync(long now, CancellationToken cancel)
    {
        var later = now - _since > 2 * Overlap ? now - Overlap : _since;
        // The later mark is taken first: what is committed between the two shows in the one that decides.
        var (next, mark) = await store.ReadAsync(
            async s => (later == _since ? default : await s.PeopleMarkAsync(later), await s.PeopleMarkAsync(_since)),
            cancel
        );
        if (mark != _mark)
            return false;
        if (later != _since)
            (_since, _mark) = (later, next);
        return true;
    }

    private static State Merge(State state, Dictionary<string, Entry> changed)
    {
        var fresh = changed.Values.ToArray();
        Array.Sort(fresh, (a, b) => Compare(a.Key, a.Id, b.Key, b.Id));
        var merged = new Entry[state.People.Length + fresh.Length - fresh.Count(f => state.ById.ContainsKey(f.Id))];
        var (from, into) = (0, 0);
        foreach (var person in state.People)
        {
            if (changed.ContainsKey(person.Id))
                continue;
            while (from < fresh.Length && Compare(fresh[from].Key, fresh[from].Id, person.Key, person.Id) < 0)
                merged[into++] = fresh[from++];
            merged[into++] = person;
        }
        while (from < fresh.Length)
            merged[into++] = fresh[from++];
        var byId = new Dictionary<string, Entry>(state.ById, StringComparer.Ordinal);
        foreach (var person in fresh)
            byId[person.Id] = person;
        var ends = new int[merged.Length];
        var length = 0;
        for (var i = 0; i < merged.Length; i++)
            ends[i] = length += merged[i].Text.Length + merged[i].Names.Length + Gaps;
        var texts = new char[length];
        for (var i = 0; i < merged.Length; i++)
        {
            var at = i == 0 ? 0 : ends[i - 1];
            merged[i].Text.CopyTo(texts.AsSpan(at));
            texts[at + merged[i].Text.Length] = '\n';
            merged[i].Names.CopyTo(texts.AsSpan(at + merged[i].Text.Length + 1));
            texts[ends[i] - 1] = '\n';
        }
        return new(merged, texts, ends, byId, Places(merged, p => p.Department), Places(merged, p => p.Title), Places(merged, p => p.Kind));
    }

    private static IReadOnlyList<string> Places(Entry[] people, Func<Entry, string> of) =>
        [.. people.Select(of).Where(p => p.Length > 0).Distinct(StringComparer.Ordinal).Order(StringComparer.Ordinal)];
}
