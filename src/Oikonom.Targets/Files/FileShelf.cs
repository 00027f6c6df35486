using System.Collections.Concurrent;
using Oikonom.Core.Time;

namespace Oikonom.Targets.Files;

/// <summary>
/// The folder of a target, for one piece of work at a time over all nodes. What comes while the file is being written goes into it
/// together with the next writing. With a schedule, changes gather in a file of their own, which becomes the one that the other side
/// reads when its time has come.
/// </summary>
internal sealed class FileShelf(string folder, Schedule? writes, TimeProvider time)
{
    /// <summary>The file that the other side reads.</summary>
    public const string Accounts = "accounts.csv";

    /// <summary>The file that the other side writes.</summary>
    public const string Answers = "answers.csv";
    private const string Gathering = "accounts.next.csv";
    private const string Lock = ".lock";

    /// <summary>An empty file whose time says until when all times of the schedule were met.</summary>
    private const string Met = ".met";
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(20);
    private static readonly TimeSpan Pause = TimeSpan.FromMilliseconds(20);
    private readonly SemaphoreSlim _turn = new(1, 1);
    private readonly ConcurrentQueue<Wish> _waiting = new();
    private readonly Kept<Dictionary<string, FileRow>> _rows = new(AccountsFile.Read);
    private readonly Kept<Dictionary<string, FileRow>> _handedOver = new(AccountsFile.Read);
    private readonly Kept<Dictionary<string, FileAnswer>> _answers = new(AccountsFile.ReadAnswers);

    private sealed record Wish(Action<Table> Work, TaskCompletionSource Done);

    /// <summary>What a file holds, read again only when it is another one.</summary>
    private sealed class Kept<T>(Func<string, T> read)
        where T : new()
    {
        private (DateTime At, long Length) _of;
        private T _value = new();

        /// <summary>What the file holds now.</summary>
        public T Of(string path)
        {
            var file = new FileInfo(path);
            var now = file.Exists ? (file.LastWriteTimeUtc, file.Length) : default;
            if (now != _of)
                (_value, _of) = (read(path), now);
            return _value;
        }

        /// <summary>What was just written into the file.</summary>
        public void Set(string path, T value)
        {
            var file = new FileInfo(path);
            (_value, _of) = (value, (file.LastWriteTimeUtc, file.Length));
        }
    }

    /// <summary>What is there, while it is one's turn.</summary>
    internal sealed class Table(
        Dictionary<string, FileRow> rows,
        Func<Dictionary<string, FileRow>?> handedOver,
        Func<Dictionary<string, FileAnswer>> answers
    )
    {
        private Dictionary<string, FileRow>? _changed;

        /// <summary>All accounts as they are to be.</summary>
        public IReadOnlyDictionary<string, FileRow> Rows => _changed ?? rows;

        /// <summary>All accounts as the other side finds them.</summary>
        public IReadOnlyDictionary<string, FileRow> HandedOver => handedOver() ?? Rows;

        /// <summary>What the other side said.</summary>
        public IReadOnlyDictionary<string, FileAnswer> Answers => answers();

        /// <summary>All accounts when one was changed; else null.</summary>
        public Dictionary<string, FileRow>? Changed => _changed;

        /// <summary>Adds an account, or has it as it is here.</summary>
        public void Put(FileRow row) => (_changed ??= new(rows, StringComparer.Ordinal))[row.Id] = row;
    }

    /// <summary>When what is changed now is handed over; null when that is at once.</summary>
    public DateTimeOffset? NextWriting => writes?.Next(File.Exists(At(Met)) ? TimeOf(Met) : time.GetUtcNow());

    private DateTimeOffset TimeOf(string name) => new(File.GetLastWriteTimeUtc(At(name)), TimeSpan.Zero);

    private string At(string name) => Path.Combine(folder, name);

    /// <summary>Does a piece of work with what is there; what it changed is on disk when this returns.</summary>
    /// <exception cref="IOException">The folder cannot be read or written, or another node does not let go of it.</exception>
    /// <exception cref="UnauthorizedAccessException">It may not be.</exception>
    /// <exception cref="InvalidDataException">A file is not what it should be.</exception>
    public async Task<T> DoAsync<T>(Func<Table, T> work, CancellationToken cancel)
    {
        T result = default!;
        var wish = new Wish(table => result = work(table), new(TaskCreationOptions.RunContinuationsAsynchronously));
        _waiting.Enqueue(wish);
        await _turn.WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            if (!wish.Done.Task.IsCompleted)
                await RunAsync(cancel).ConfigureAwait(false);
        }
        finally
        {
            _turn.Release();
        }
        await wish.Done.Task.ConfigureAwait(false);
        return result;
    }

    private async Task RunAsync(CancellationToken cancel)
    {
        var batch = new List<Wish>();
        while (_waiting.TryDequeue(out var next))
            batch.Add(next);
        try
        {
            Directory.CreateDirectory(folder);
            using var turn = await TakeAsync(cancel).ConfigureAwait(false);
            var path = At(writes is null ? Accounts : Gathering);
            if (writes is not null && !File.Exists(At(Accounts)))
                AccountsFile.Write(At(Accounts), [], time.GetUtcNow());
            var table = new Table(
                _rows.Of(path),
                () => writes is null ? null : _handedOver.Of(At(Accounts)),
                () => _answers.Of(At(Answers))
            );
            HandOver();
            var done = batch.Where(wish => Did(wish, table)).ToList();
            if (table.Changed is { } changed)
            {
                AccountsFile.Write(path, changed.Values, time.GetUtcNow());
                _rows.Set(path, changed);
            }
            foreach (var wish in done)
                wish.Done.TrySetResult();
        }
        catch (Exception error)
        {
            foreach (var wish in batch)
                wish.Done.TrySetException(error);
        }
    }

    /// <summary>One piece of work that is refused harms no other: it has changed nothing.</summary>
    private static bool Did(Wish wish, Table table)
    {
        try
        {
            wish.Work(table);
            return true;
        }
        catch (Exception error)
        {
            wish.Done.TrySetException(error);
            return false;
        }
    }

    /// <summary>What was gathered becomes what the other side reads, once a time of the schedule has come since then.</summary>
    private void HandOver()
    {
        if (writes is null || (File.Exists(At(Met)) && NextWriting > time.GetUtcNow()))
            return;
        if (File.Exists(At(Met)) && File.Exists(At(Gathering)) && TimeOf(Gathering) >= TimeOf(Accounts))
            AccountsFile.Write(At(Accounts), _rows.Of(At(Gathering)).Values, time.GetUtcNow());
        File.WriteAllText(At(Met), "");
        File.SetLastWriteTimeUtc(At(Met), time.GetUtcNow().UtcDateTime);
    }

    /// <summary>The turn among nodes: whoever has the file of this name open has it.</summary>
    private async Task<FileStream> TakeAsync(CancellationToken cancel)
    {
        var until = time.GetTimestamp();
        while (true)
        {
            try
            {
                return new(At(Lock), FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None);
            }
            catch (IOException) when (File.Exists(At(Lock)) && time.GetElapsedTime(until) < Patience)
            {
                await Task.Delay(Pause, cancel).ConfigureAwait(false);
            }
        }
    }
}
