using System.Collections.Concurrent;
using System.Text.Json;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Common;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Editions;

/// <summary>Editions by number, read once; the newest number is looked up, a moment later at most, since another node may
/// publish.</summary>
public sealed class EditionBook(Store.Store store, TimeProvider time)
{
    private static readonly TimeSpan Fresh = TimeSpan.FromMilliseconds(200);
    private readonly ConcurrentDictionary<long, Edition> _editions = new();
    private readonly ConcurrentDictionary<(long Number, int ReachedBy), Edition> _reached = new();
    private InUse? _inUse;

    private sealed record Latest(long Number, long At);

    private sealed record InUse(long Newest, IReadOnlyList<long> Earlier, long At);

    private Latest? _last;

    /// <summary>Looks again at once: this node published.</summary>
    public void Forget() => _last = null;

    /// <exception cref="Problem">No rulebook is published yet.</exception>
    public async Task<Edition> CurrentAsync(CancellationToken cancel) =>
        await CurrentOrNullAsync(cancel)
        ?? throw new Problem(
            409,
            "no-rulebook",
            "No rulebook",
            "No rulebook is published yet. Publish one with 'oikonom rulebook publish DIR'."
        );

    public async Task<Edition?> CurrentOrNullAsync(CancellationToken cancel)
    {
        if (_last is not { Number: > 0 } last || time.GetElapsedTime(last.At) > Fresh)
            _last = last = new(await store.ReadAsync(s => s.LastEditionNumberAsync(), cancel), time.GetTimestamp());
        var number = last.Number;
        return number == 0 ? null : await GetAsync(number, cancel);
    }

    public async Task<Edition> GetAsync(long number, CancellationToken cancel)
    {
        if (_editions.TryGetValue(number, out var known))
            return known;
        var row =
            await store.ReadAsync(s => s.EditionAsync(number), cancel)
            ?? throw Problem.NotFound($"edition {number}", "See 'oikonom rulebook show'.");
        var reading = RulebookReader.Read(Files(row));
        return _editions[number] = new(
            (int)number,
            row.Digest,
            reading.Rulebook
                ?? throw new InvalidOperationException($"Edition {number} cannot be read any more: {string.Join("; ", reading.Findings)}")
        );
    }

    /// <summary>
    /// The rules of the edition somebody is on, in the world as the newest edition knows it; who is on none is given the
    /// newest.
    /// </summary>
    /// <exception cref="Problem">No rulebook is published yet, or there is no such edition.</exception>
    public async Task<Edition> OnAsync(long number, CancellationToken cancel)
    {
        var current = await CurrentAsync(cancel);
        if (number == 0 || number == current.Number)
            return current;
        if (_reached.TryGetValue((number, current.Number), out var known))
            return known;
        foreach (var old in _reached.Keys.Where(k => k.ReachedBy < current.Number))
            _reached.TryRemove(old, out _);
        var edition = await GetAsync(number, cancel);
        return _reached[(number, current.Number)] = edition with
        {
            Rulebook = edition.Rulebook.In(current.Rulebook),
            ReachedBy = current.Number,
        };
    }

    /// <summary>The edition that was in force before one; before the first there is none but itself.</summary>
    public Task<Edition> BeforeAsync(long number, CancellationToken cancel) => GetAsync(Math.Max(1, number - 1), cancel);

    /// <summary>The newest edition, and those beside it that people are on, the newest first.</summary>
    /// <param name="atMost">How old the answer may be.</param>
    public async Task<IReadOnlyList<Edition>> InUseAsync(TimeSpan atMost, CancellationToken cancel)
    {
        if (await CurrentOrNullAsync(cancel) is not { } current)
            return [];
        if (_inUse is not { } known || known.Newest != current.Number || time.GetElapsedTime(known.At) >= atMost)
            _inUse = known = new(
                current.Number,
                await store.ReadAsync(s => s.EditionsBeforeAsync(current.Number), cancel),
                time.GetTimestamp()
            );
        var editions = new List<Edition> { current };
        foreach (var number in known.Earlier)
            editions.Add(await OnAsync(number, cancel));
        return editions;
    }

    public static IReadOnlyList<RulebookFile> Files(EditionRow row) => JsonSerializer.Deserialize<List<RulebookFile>>(row.Files) ?? [];
}
