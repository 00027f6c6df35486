using System.Globalization;
using System.Runtime.CompilerServices;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;

namespace Oikonom.Targets.Files;

/// <summary>A system that takes over a file with all accounts (RFC 4180), and may answer with another one.</summary>
public sealed class FileConnector : IAccountConnector
{
    private readonly TargetRule _rule;
    private readonly TargetSettings.File _settings;
    private readonly string _folder;
    private readonly FileShelf _shelf;
    private readonly MatchKeys _keys;
    private readonly TimeProvider _time;
    private readonly Dictionary<string, string> _byValue;

    /// <summary>A connector of one target.</summary>
    /// <param name="root">The folder below which all targets have theirs.</param>
    /// <param name="time">When something was changed, and is handed over.</param>
    public FileConnector(TargetRule rule, string root, TimeProvider time)
    {
        (_rule, _settings, _time) = (rule, (TargetSettings.File)rule.Settings, time);
        _folder = Path.Combine(root, _settings.Folder);
        _shelf = new(_folder, _settings.Writes, _settings.Form, time);
        _keys = new(rule, ("account", "accounts"));
        _byValue = rule
            .Entitlements.Values.Select(e => (e.Name, Value: ValueOf(e)))
            .GroupBy(e => e.Value, StringComparer.Ordinal)
            .ToDictionary(g => g.Key, g => g.First().Name, StringComparer.Ordinal);
    }

    private static string ValueOf(Entitlement entitlement) => ((EntitlementMeans.Value)entitlement.Means).Text;

    /// <inheritdoc/>
    public TargetAbilities Can => _settings.Can;

    /// <inheritdoc/>
    public Task<Matches> FindAsync(IReadOnlyList<(string Attribute, string Value)> keys, CancellationToken cancel) =>
        DoAsync(
            table =>
                keys.Where(k => k.Value.Length > 0)
                    .Select(k => new Matches([.. With(table, k.Attribute, k.Value).Select(r => Describe(r, k.Attribute))]))
                    .FirstOrDefault(m => m.Found.Count > 0)
                ?? new([]),
            cancel
        );

    /// <inheritdoc/>
    public Task<ExistingAccount?> ReadAsync(string immutableId, CancellationToken cancel) =>
        DoAsync(table => table.Rows.TryGetValue(immutableId, out var row) ? Describe(row, "id") : null, cancel);

    /// <inheritdoc/>
    public async IAsyncEnumerable<ExistingAccount> ListAsync([EnumeratorCancellation] CancellationToken cancel)
    {
        foreach (var row in await DoAsync(table => table.Rows.Values.ToList(), cancel).ConfigureAwait(false))
            yield return Describe(row, "");
    }

    /// <inheritdoc/>
    public Task<TargetSchema?> SchemaAsync(CancellationToken cancel) => Task.FromResult<TargetSchema?>(null);

    /// <inheritdoc/>
    public Task<bool> NameIsTakenAsync(string name, CancellationToken cancel) =>
        DoAsync(table => With(table, _settings.NameAttribute, name).Any(), cancel);

    /// <inheritdoc/>
    public Task<EnsuredAccount> EnsureAccountAsync(AccountGoal goal, CancellationToken cancel) =>
        DoAsync(
            table =>
            {
                var row = goal.ImmutableId is { } id ? table.Rows.GetValueOrDefault(id) ?? throw _keys.Lost(id) : ByKeys(table, goal);
                if (row is null && !goal.MayCreate)
                    throw _keys.None(goal);
                if (With(table, _settings.NameAttribute, goal.Name).Any(r => r.Id != row?.Id))
                    throw _keys.Taken(goal.Name);
                var made = row ?? new(Guid.CreateVersion7(_time.GetUtcNow()).ToString(), "", true, NoValues, [], "");
                var wished = made with
                {
                    Name = goal.Name.Length > 0 ? goal.Name : made.Name,
                    Enabled = goal.Enabled ?? made.Enabled,
                    Attributes = Merged(made.Attributes, goal.Attributes),
                };
                return new EnsuredAccount(made.Id, LocationOf(wished), Put(table, row, wished), row is null);
            },
            cancel
        );

    private static readonly Dictionary<string, IReadOnlyList<string>> NoValues = [];

    private FileRow? ByKeys(FileShelf.Table table, AccountGoal goal)
    {
        foreach (var key in MatchKeys.Of(goal))
        {
            bool IsPlanned(FileRow row) => string.Equals(row.Name, goal.Name, StringComparison.OrdinalIgnoreCase);
            if (_keys.Sole(goal, key, [.. With(table, key.Attribute, key.Value)], IsPlanned, row => row.Name) is { } sole)
                return sole;
        }
        return null;
    }

    /// <summary>Writes a row that is not as it was, with when; true when it was not.</summary>
    private bool Put(FileShelf.Table table, FileRow? before, FileRow after)
    {
        if (
            before is not null
            && before.Name == after.Name
            && before.Enabled == after.Enabled
            && before.Entitlements.SequenceEqual(after.Entitlements)
            && before.Attributes.Count == after.Attributes.Count
            && before.Attributes.All(a => after.Attributes.TryGetValue(a.Key, out var values) && values.SequenceEqual(a.Value))
        )
            return false;
        table.Put(after with { Changed = _time.GetUtcNow().ToString("yyyy-MM-dd'T'HH:mm:ss.fffffff'Z'", CultureInfo.InvariantCulture) });
        return true;
    }

    /// <summary>The attributes after a change; the name has its own place.</summary>
    private Dictionary<string, IReadOnlyList<string>> Merged(
        IReadOnlyDictionary<string, IReadOnlyList<string>> before,
        IReadOnlyDictionary<string, IReadOnlyList<string>> wished
    )
    {
        var merged = new Dictionary<string, IReadOnlyList<string>>(before, StringComparer.OrdinalIgnoreCase);
        foreach (var (name, values) in wished.Where(w => !IsName(w.Key)))
            if (values.Count == 0)
                merged.Remove(name);
            else
                merged[name] = values;
        return merged;
    }

    /// <inheritdoc/>
    public Task SetPasswordAsync(string immutableId, string? password, CancellationToken cancel) =>
        throw new TargetFault($"{_rule.Title} takes no passwords.", transient: false);

    /// <inheritdoc/>
    public async Task<PortResult> EnsureGrantAsync(GrantGoal goal, CancellationToken cancel)
    {
        try
        {
            var value = ValueOf(goal.Entitlement);
            await DoAsync(
                    table =>
                    {
                        var row = table.Rows.GetValueOrDefault(goal.Account!) ?? throw _keys.Lost(goal.Account!);
                        var others = row.Entitlements.Where(e => e != value);
                        return Put(table, row, row with { Entitlements = goal.Held ? [.. others.Append(value).Order()] : [.. others] });
                    },
                    cancel
                )
                .ConfigureAwait(false);
            return new PortResult.Reached();
        }
        catch (TargetFault fault)
        {
            return fault.Result;
        }
    }

    /// <inheritdoc/>
    public Task<ReadBack> VerifyAsync(
        string immutableId,
        AccountState wanted,
        IReadOnlyCollection<string> entitlements,
        CancellationToken cancel
    ) =>
        DoAsync(
            table =>
            {
                if (!table.Rows.TryGetValue(immutableId, out var row))
                    return new ReadBack([new Difference.Gone(immutableId)]);
                var differences = Difference.Between(wanted, entitlements, Describe(row, "id"));
                if (differences.Count == 0)
                    RequireTaken(table, row);
                return new ReadBack(differences);
            },
            cancel
        );

    /// <summary>What is as it should be counts once the other side could read it, and has said that it did where it answers.</summary>
    private void RequireTaken(FileShelf.Table table, FileRow row)
    {
        if (table.HandedOver.GetValueOrDefault(row.Id)?.Changed != row.Changed)
            throw Waits(
                $"the file of {_rule.Title} is written, which is due at {_shelf.NextWriting:yyyy-MM-dd HH:mm} UTC.",
                _shelf.NextWriting - _time.GetUtcNow()
            );
        if (_settings.AnswersWithin is not { } within)
            return;
        var answer = table.Answers.GetValueOrDefault(row.Id);
        if (answer?.Changed == row.Changed)
        {
            if (!answer.IsDone)
                throw new TargetFault(
                    $"{_rule.Title} refuses {row.Name}: {(answer.Message.Length > 0 ? answer.Message : "it does not say why")}",
                    transient: false
                );
            return;
        }
        var since = DateTimeOffset.Parse(row.Changed, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal);
        if (_settings.Writes is not null && File.Exists(Path.Combine(_folder, FileShelf.Accounts)))
            since = new[] { since, File.GetLastWriteTimeUtc(Path.Combine(_folder, FileShelf.Accounts)) }.Max();
        if (_time.GetUtcNow() > since + within)
            throw new TargetFault(
                $"{_rule.Title} has not answered about {row.Name} since {since:yyyy-MM-dd HH:mm} UTC. Ask its owner, then retry.",
                transient: false
            );
        throw Waits($"{_rule.Title} has answered about {row.Name}.", null);
    }

    private static TargetFault Waits(string what, TimeSpan? after) => new(what, transient: true) { IsWaiting = true, After = after };

    /// <inheritdoc/>
    public Task<TargetHealth> CheckAsync(bool withRights, CancellationToken cancel)
    {
        var begun = _time.GetTimestamp();
        var points = new List<TargetCheckpoint>();
        Task<TargetHealth> Health(string message)
        {
            var took = (long)_time.GetElapsedTime(begun).TotalMilliseconds;
            return Task.FromResult(new TargetHealth(points.TrueForAll(p => p.Good), message, null, took) { Checkpoints = points });
        }
        if (!Directory.Exists(_folder))
        {
            points.Add(new("Folder", true, $"{_settings.Folder} is made with the first account."));
            return Health("The folder is made with the first account.");
        }
        points.Add(new("Folder", true, _settings.Folder));
        // What is looked at is read as the other side reads it: nothing is handed over by a check.
        foreach (var (what, file) in new[] { ("Accounts", FileShelf.Accounts), ("Answers", FileShelf.Answers) })
            try
            {
                var path = Path.Combine(_folder, file);
                var count = what == "Accounts" ? AccountsFile.Read(path).Count : AccountsFile.ReadAnswers(path).Count;
                if (what == "Accounts" || _settings.AnswersWithin is not null)
                    points.Add(new(what, true, $"{file} holds {count.ToString(CultureInfo.InvariantCulture)}."));
            }
            catch (Exception error) when (error is InvalidDataException or IOException or UnauthorizedAccessException)
            {
                points.Add(new(what, false, $"{file} cannot be understood: {error.Message}."));
            }
        return Health(points.Find(p => !p.Good)?.Text ?? "The files can be read.");
    }

    private IEnumerable<FileRow> With(FileShelf.Table table, string attribute, string value) =>
        table.Rows.Values.Where(r =>
            IsName(attribute)
                ? string.Equals(r.Name, value, StringComparison.OrdinalIgnoreCase)
                : r.Attributes.GetValueOrDefault(attribute)?.Contains(value, StringComparer.OrdinalIgnoreCase) == true
        );

    private bool IsName(string attribute) => string.Equals(attribute, _settings.NameAttribute, StringComparison.OrdinalIgnoreCase);

    private static string LocationOf(FileRow row) => $"{FileShelf.Accounts}: {row.Name}";

    private ExistingAccount Describe(FileRow row, string matchedBy) =>
        new(
            _rule.Name,
            row.Id,
            row.Name,
            "",
            LocationOf(row),
            matchedBy,
            new Dictionary<string, IReadOnlyList<string>>(row.Attributes, StringComparer.OrdinalIgnoreCase)
            {
                [_settings.NameAttribute] = [row.Name],
            },
            row.Enabled,
            [.. row.Entitlements.Select(e => _byValue.GetValueOrDefault(e)).OfType<string>()]
        );

    private async Task<T> DoAsync<T>(Func<FileShelf.Table, T> work, CancellationToken cancel)
    {
        try
        {
            return await _shelf.DoAsync(work, cancel).ConfigureAwait(false);
        }
        catch (InvalidDataException error)
        {
            throw new TargetFault($"{_rule.Title}: a file cannot be understood, {error.Message}.", transient: true, inner: error);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new TargetFault($"{_rule.Title}: its folder cannot be used: {error.Message}", transient: true, inner: error);
        }
    }

    /// <inheritdoc/>
    public ValueTask DisposeAsync() => ValueTask.CompletedTask;
}
