using Oikonom.Core.Approval;
using Oikonom.Core.People;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.People;

/// <summary>
/// Everybody in memory, in order of name, with the text they are found by: any part of a name in any script, with and
/// without accents, the number, and account names. A list of 100,000 people takes some 40 MB and is looked through in
/// milliseconds on both engines. Each call first reads what changed since the last one, so that nobody is found late.
/// </summary>
public sealed class PeopleIndex(Store.Store store)
{
    /// <summary>A decision that took longer than this before it was committed could be read too late; none may.</summary>
    private const long Overlap = 60_000;

    private readonly SemaphoreSlim _gate = new(1, 1);
    private volatile State _state = new([], new(StringComparer.Ordinal), long.MinValue, [], []);

    private sealed record Entry(string Id, string Key, string Text, string Names, string Site, string Department, string Title, long Version)
    {
        public bool Holds(string word) => Text.Contains(word, StringComparison.Ordinal) || Names.Contains(word, StringComparison.Ordinal);
    }

    private sealed record State(Entry[] People, Dictionary<string, Entry> ById, long Until, IReadOnlyList<string> Departments, IReadOnlyList<string> Titles);

    /// <summary>The ids of a page of people in order of name, after a cursor of name and id.</summary>
    /// <param name="text">Words that must all be found; "" finds everybody.</param>
    /// <param name="reach">The parts of the organisation the caller may see; null means all.</param>
    public async Task<IReadOnlyList<string>> FindAsync(string text, string site, string department, string afterKey, string afterId, int limit, IReadOnlyList<Reach>? reach, CancellationToken cancel)
    {
        var people = (await FreshAsync(cancel)).People;
        var words = SearchText.Words(text);
        var found = new List<string>(limit);
        for (var i = After(people, afterKey, afterId); i < people.Length && found.Count < limit; i++)
        {
            var person = people[i];
            if (site.Length > 0 && person.Site != site) continue;
            if (department.Length > 0 && person.Department != department) continue;
            if (reach is not null && !reach.Any(p => p.Covers(person.Site, person.Department))) continue;
            if (words.All(person.Holds)) found.Add(person.Id);
        }
        return found;
    }

    /// <summary>The departments and job titles that people have now, in order.</summary>
    public async Task<(IReadOnlyList<string> Departments, IReadOnlyList<string> Titles)> PlacesAsync(CancellationToken cancel)
    {
        var state = await FreshAsync(cancel);
        return (state.Departments, state.Titles);
    }

    private static int After(Entry[] people, string key, string id)
    {
        if (key.Length == 0 && id.Length == 0) return 0;
        var (low, high) = (0, people.Length);
        while (low < high)
        {
            var middle = (low + high) / 2;
            if (Compare(people[middle].Key, people[middle].Id, key, id) <= 0) low = middle + 1;
            else high = middle;
        }
        return low;
    }

    private static int Compare(string leftKey, string leftId, string rightKey, string rightId) =>
        string.CompareOrdinal(leftKey, rightKey) is not 0 and var byKey ? byKey : string.CompareOrdinal(leftId, rightId);

    private async Task<State> FreshAsync(CancellationToken cancel)
    {
        await _gate.WaitAsync(cancel);
        try
        {
            var state = _state;
            var since = state.Until == long.MinValue ? long.MinValue : state.Until - Overlap;
            var (people, names) = await store.ReadAsync(async s => (await s.PeopleSinceAsync(since), await s.NamesSinceAsync(since)), cancel);
            var changed = new Dictionary<string, Entry>(StringComparer.Ordinal);
            foreach (var row in people)
            {
                var known = state.ById.GetValueOrDefault(row.Id);
                if (known?.Version == row.Version) continue;
                changed[row.Id] = new(row.Id, row.SearchKey, SearchText.Of(row.SearchKey, row.Number), row.Number.Length == 0 ? "" : known?.Names ?? "", row.Site, row.Department, row.Title, row.Version);
            }
            foreach (var (person, name) in names)
            {
                var lower = SearchText.Of(name, "").Trim();
                // Who is forgotten is not found by what they were called.
                if ((changed.GetValueOrDefault(person) ?? state.ById.GetValueOrDefault(person)) is { } entry && !entry.Names.Split(' ').Contains(lower))
                    changed[person] = entry with { Names = $"{entry.Names} {lower}" };
            }
            var until = Math.Max(state.Until, people.Select(p => p.UpdatedAt).DefaultIfEmpty(long.MinValue).Max());
            if (changed.Count == 0) return until == state.Until ? state : _state = state with { Until = until };
            return _state = Merge(state, changed, until);
        }
        finally
        {
            _gate.Release();
        }
    }

    private static State Merge(State state, Dictionary<string, Entry> changed, long until)
    {
        var fresh = changed.Values.ToArray();
        Array.Sort(fresh, (a, b) => Compare(a.Key, a.Id, b.Key, b.Id));
        var merged = new Entry[state.People.Length + fresh.Length - fresh.Count(f => state.ById.ContainsKey(f.Id))];
        var (from, into) = (0, 0);
        foreach (var person in state.People)
        {
            if (changed.ContainsKey(person.Id)) continue;
            while (from < fresh.Length && Compare(fresh[from].Key, fresh[from].Id, person.Key, person.Id) < 0) merged[into++] = fresh[from++];
            merged[into++] = person;
        }
        while (from < fresh.Length) merged[into++] = fresh[from++];
        var byId = new Dictionary<string, Entry>(state.ById, StringComparer.Ordinal);
        foreach (var person in fresh) byId[person.Id] = person;
        return new(merged, byId, until, Places(merged, p => p.Department), Places(merged, p => p.Title));
    }

    private static IReadOnlyList<string> Places(Entry[] people, Func<Entry, string> of) =>
        [.. people.Select(of).Where(p => p.Length > 0).Distinct(StringComparer.Ordinal).Order(StringComparer.Ordinal)];
}
