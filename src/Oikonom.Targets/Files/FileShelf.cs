using System.Collections.Concurrent;
using System.Globalization;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;

namespace Oikonom.Targets.Files;

/// <summary>
/// The folder of a target, for one piece of work at a time over all nodes. What comes while the file is being written goes into it
/// together with the next writing. With a schedule, changes gather in a file of their own, which becomes the one that the other side
/// reads when its time has come.
/// </summary>
internal sealed class FileShelf(string folder, Schedule? writes, FileForm form, TimeProvider time)
{
    /// <summary>The file that the other side reads.</summary>
    public const string Accounts = "accounts.csv";

    /// <summary>The file that the other side writes.</summary>
    public const string Answers = "answers.csv";
    private const string Ldif = "accounts.ldif";

    /// <summary>The accounts as files of changes told them last.</summary>
    private const string Told = ".told.csv";
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
    private readonly Kept<Dictionary<string, FileRow>> _told = new(AccountsFile.Read);
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

    /// <summary>Now, or a little later where a file carries that time already: each writing has its own.</summary>
    private DateTimeOffset After(string path)
    {
        var now = time.GetUtcNow();
        return File.Exists(path) && new DateTimeOffset(File.GetLastWriteTimeUtc(path), TimeSpan.Zero) is var last && last >= now
            ? last.AddTicks(1)
            : now;
    }

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
            TellMore();
            var done = batch.Where(wish => Did(wish, table)).ToList();
            if (table.Changed is { } changed)
            {
                AccountsFile.Write(path, changed.Values, After(path));
                _rows.Set(path, changed);
                TellMore();
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
            AccountsFile.Write(At(Accounts), _rows.Of(At(Gathering)).Values, After(At(Accounts)));
        File.WriteAllText(At(Met), "");
        File.SetLastWriteTimeUtc(At(Met), time.GetUtcNow().UtcDateTime);
    }

    /// <summary>
    /// What is handed over beside the table is made from it, and made up for where that was broken off: a file of changes has the time
    /// of the table it was made from in its name, so that it is the same file however often it is written.
    /// </summary>
    private void TellMore()
    {
        var accounts = At(Accounts);
        if (!form.IsMore || !File.Exists(accounts))
            return;
        var of = TimeOf(Accounts);
        if (!form.IsChanges)
        {
            if (!File.Exists(At(Ldif)) || TimeOf(Ldif) != of)
                AccountsFile.Write(At(Ldif), LdifFile.All(_handedOver.Of(accounts).Values, form), of);
            return;
        }
        var (now, told) = (_handedOver.Of(accounts), _told.Of(At(Told)));
        var changed = now.Values.Where(r => told.GetValueOrDefault(r.Id)?.Changed != r.Changed).ToList();
        if (changed.Count == 0)
            return;
        var path = At($"changes-{of.UtcDateTime.ToString("yyyyMMdd'T'HHmmss.fffffff'Z'", CultureInfo.InvariantCulture)}");
        if (form.IsLdif)
            AccountsFile.Write(path + ".ldif", LdifFile.Changes(changed, told, form), of);
        else
            AccountsFile.Write(path + ".csv", changed, of);
        AccountsFile.Write(At(Told), now.Values, of);
        _told.Set(At(Told), now);
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
