using System.Collections.Concurrent;
using System.Text.Json;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Hosting;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Rulebook;

/// <summary>Editions by number, read once; the newest number is looked up, a moment later at most, since another node may
/// publish.</summary>
public sealed class EditionBook(Store.Store store, TimeProvider time)
{
    private static readonly TimeSpan Fresh = TimeSpan.FromMilliseconds(200);
    private readonly ConcurrentDictionary<long, Edition> _editions = new();

    private sealed record Latest(long Number, long At);

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

    public static IReadOnlyList<RulebookFile> Files(EditionRow row) => JsonSerializer.Deserialize<List<RulebookFile>>(row.Files) ?? [];
}
