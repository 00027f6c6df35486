using Oikonom.Core.Rulebook;

namespace Oikonom.Sources.Files;

/// <summary>The files of a source: one, or those of a folder that are yet to be read.</summary>
public static class FileSource
{
    private static readonly TimeSpan Settled = TimeSpan.FromMilliseconds(300);
    private const int MaxWait = 20;
    private static readonly string[] Unfinished = [".tmp", ".part", ".new", ".partial"];

    /// <summary>
    /// What there is to read: of a folder of snapshots the newest file, of a folder of changes every file after
    /// <paramref name="since"/> in order of name. A file that is still being written is waited for.
    /// </summary>
    /// <exception cref="SourceFault">No file is there, or one is still being written.</exception>
    public static async Task<IReadOnlyList<Delivery>> OpenAsync(
        string folder,
        SourceRule source,
        string since,
        TimeProvider time,
        CancellationToken cancel
    )
    {
        if (!source.IsFolder)
        {
            var path = Path.Combine(folder, source.Path);
            if (File.Exists(path))
                await SettleAsync(path, source.Path, time, cancel).ConfigureAwait(false);
            return [new DelimitedFile(path, source, source.IsFull)];
        }
        var directory = Path.Combine(folder, Path.GetDirectoryName(source.Path) ?? "");
        if (!Directory.Exists(directory))
            throw new SourceFault($"The folder '{Path.GetDirectoryName(source.Path)}' does not exist in the folder of sources.");
        var names = Directory
            .GetFiles(directory, Path.GetFileName(source.Path))
            .Select(p => Path.GetFileName(p)!)
            .Where(n => !n.StartsWith('.') && !Unfinished.Contains(Path.GetExtension(n)))
            .Order(StringComparer.Ordinal)
            .ToList();
        if (names.Count == 0)
            throw new SourceFault($"No file is like '{source.Path}' in the folder of sources.");
        var wanted = source.IsFull ? [names[^1]] : names.Where(n => string.CompareOrdinal(n, since) > 0).ToList();
        var deliveries = new List<Delivery>();
        foreach (var name in wanted)
        {
            await SettleAsync(Path.Combine(directory, name), name, time, cancel).ConfigureAwait(false);
            deliveries.Add(new DelimitedFile(Path.Combine(directory, name), source, source.IsFull, name));
        }
        return deliveries;
    }

    /// <summary>Waits until a file has not been touched for a moment; gives up when it never rests.</summary>
    private static async Task SettleAsync(string path, string name, TimeProvider time, CancellationToken cancel)
    {
        for (var attempt = 0; attempt < MaxWait; attempt++)
        {
            var age = time.GetUtcNow() - new DateTimeOffset(File.GetLastWriteTimeUtc(path));
            if (age >= Settled || age < -TimeSpan.FromMinutes(1))
                return;
            await Task.Delay(Settled, time, cancel).ConfigureAwait(false);
        }
        throw new SourceFault(
            $"The file '{name}' is still being written. Run it again; best write beside it and move it into place.",
            transient: true
        );
    }
}
