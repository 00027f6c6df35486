using System.Collections.Concurrent;
using System.Runtime.CompilerServices;
using System.Security.Cryptography;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Ldap;

namespace Oikonom.Targets.Ldap;

/// <summary>Accounts and memberships in a directory that speaks LDAP, in the dialect of its family.</summary>
public sealed class LdapConnector : IRestoringConnector, IChangesConnector, ICatalogueConnector
{
    private readonly TargetRule _rule;
    private readonly TargetSettings.Ldap _settings;
    private readonly LdapDialect _dialect;
    private readonly LdapPool _pool;
    private readonly GroupMembers _groups;
    private readonly EntryReferences _references;
    private readonly MatchKeys _keys;
    private readonly DeletedEntries _deleted;
    private readonly ChangedEntries _changed;
    private bool? _asserts;
    private readonly ConcurrentDictionary<string, string> _names = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>A connector of one target; it connects when it is first asked.</summary>
    public LdapConnector(TargetRule rule, Func<CancellationToken, Task<LdapSignIn>> signIn)
    {
        (_rule, _settings) = (rule, (TargetSettings.Ldap)rule.Settings);
        _dialect = LdapDialect.Of(_settings);
        _pool = new(_settings.Connections, rule.Title, signIn);
        _references = new(_settings.References, _settings.Container, _pool);
        _groups = new(rule, _settings, _dialect, _pool);
        _keys = new(rule, ("entry", "entries"));
        _deleted = new(rule, _dialect, _pool);
        _changed = new(rule, _settings, _dialect, _pool, _groups);
    }

    /// <inheritdoc/>
    public TargetAbilities Can => _settings.Can;
    private string Id => _dialect.Id;

    /// <inheritdoc/>
    public Task<Matches> FindAsync(IReadOnlyList<(string Attribute, string Value)> keys, CancellationToken cancel) =>
        GuardAsync(async () =>
        {
            foreach (var (attribute, value) in keys.Where(k => k.Value.Length > 0))
            {
                var entries = await SearchAsync(LdapFilter.Equal(attribute, value), cancel).ConfigureAwait(false);
                if (entries.Count == 0)
                    continue;
                var found = new List<ExistingAccount>();
                foreach (var entry in entries)
                    found.Add(
                        await _references
                            .ReadAsync(Describe(entry, attribute, await _groups.OfAsync(entry.Dn, cancel).ConfigureAwait(false)), cancel)
                            .ConfigureAwait(false)
                    );
                return new Matches(found);
            }
            return new Matches([]);
        });

    /// <inheritdoc/>
    public Task<ExistingAccount?> ReadAsync(string immutableId, CancellationToken cancel) =>
        GuardAsync(async () =>
            await ByIdAsync(immutableId, cancel).ConfigureAwait(false) is { } entry
                ? await _references
                    .ReadAsync(Describe(entry, Id, await _groups.OfAsync(entry.Dn, cancel).ConfigureAwait(false)), cancel)
                    .ConfigureAwait(false)
                : null
        );

    /// <inheritdoc/>
    public async IAsyncEnumerable<ExistingAccount> ListAsync([EnumeratorCancellation] CancellationToken cancel)
    {
        var (held, byName) = await _groups.HoldersAsync(cancel).ConfigureAwait(false);
        var connection = await GuardAsync(() => _pool.TakeAsync(cancel)).ConfigureAwait(false);
        var search = new LdapSearch(_settings.Container, LdapScope.Subtree, LdapFilter.Present(_settings.NameAttribute), _dialect.Wanted);
        await using var pages = connection.PageAsync(search, 500, cancel).GetAsyncEnumerator(cancel);
        while (await GuardAsync(() => pages.MoveNextAsync().AsTask()).ConfigureAwait(false))
        {
            var account = Describe(pages.Current, "", held.GetValueOrDefault(LdapDn.Normalise(pages.Current.Dn), SharedLists.Empty));
            if (byName.Count > 0 && byName.TryGetValue(account.Name, out var more))
                account = account with { Entitlements = [.. account.Entitlements, .. more] };
            yield return _references.HasAny
                ? await GuardAsync(() => _references.ReadAsync(account, cancel)).ConfigureAwait(false)
                : account;
        }
    }

    /// <inheritdoc/>
    public Task<TargetChanges> ChangesAsync(string? since, CancellationToken cancel) =>
        GuardAsync(() => _changed.SinceAsync(since, cancel));

    /// <inheritdoc/>
    public Task<bool> NameIsTakenAsync(string name, CancellationToken cancel) =>
        GuardAsync(async () =>
        {
            var connection = await _pool.TakeAsync(cancel).ConfigureAwait(false);
            var (below, named) = (_dialect.NamesBelow(_settings.Container), LdapFilter.Equal(_settings.NameAttribute, name));
            return (await connection.SearchAsync(new(below, LdapScope.Subtree, named, "1.1"), cancel).ConfigureAwait(false)).Count > 0;
        });

    /// <inheritdoc/>
    public Task<bool> IsDeletedAsync(string immutableId, CancellationToken cancel) =>
        GuardAsync(async () => await _deleted.FindAsync(immutableId, cancel).ConfigureAwait(false) is not null);

    /// <inheritdoc/>
    public Task<EnsuredAccount> EnsureAccountAsync(AccountGoal goal, CancellationToken cancel) =>
        GuardAsync(async () =>
        {
            if (goal is { Restores: true, ImmutableId: { } deleted })
                return await RestoreAsync(deleted, goal, cancel).ConfigureAwait(false);
            var entry = goal.ImmutableId is { } id
                ? await ByIdAsync(id, cancel).ConfigureAwait(false) ?? throw _keys.Lost(id)
                : await ByKeysAsync(goal, cancel).ConfigureAwait(false);
            if (entry is null && !goal.MayCreate)
                throw _keys.None(goal);
            var resolved = await _references.ResolveAsync(goal, cancel).ConfigureAwait(false);
            return entry is null
                ? await CreateAsync(resolved, cancel).ConfigureAwait(false)
                : await MendAsync(entry, resolved, cancel).ConfigureAwait(false);
        });

    private async Task<LdapEntry?> ByKeysAsync(AccountGoal goal, CancellationToken cancel)
    {
        foreach (var key in MatchKeys.Of(goal))
        {
            var found = await SearchAsync(LdapFilter.Equal(key.Attribute, key.Value), cancel).ConfigureAwait(false);
            if (_keys.Sole(goal, key, found, e => LdapDn.Same(e.Dn, DnOf(goal)), e => e.Dn) is { } sole)
                return sole;
        }
        return null;
    }

    private async Task<EnsuredAccount> CreateAsync(AccountGoal goal, CancellationToken cancel)
    {
        var dn = DnOf(goal);
        var connection = await _pool.TakeAsync(cancel).ConfigureAwait(false);
        var fresh = _dialect.Fresh(goal.Name, _settings, goal.Enabled != false).ToList();
        var attributes = goal
            .Attributes.Where(a => a.Value.Count > 0 && !fresh.Exists(f => f.Name.Equals(a.Key, StringComparison.OrdinalIgnoreCase)))
            .Select(a => new LdapAttribute(a.Key, _dialect.ToServer(a.Key, a.Value)))
            .Concat(fresh)
            .Prepend(new("objectClass", _settings.Classes));
        LdapResult result;
        try
        {
            result = await InContainerAsync(
                    connection,
                    goal.Container,
                    () => connection.AddAsync(dn, attributes, [LdapControls.PostRead(Id)], cancel),
                    cancel
                )
                .ConfigureAwait(false);
        }
        catch (LdapResultException error) when (error.Code == LdapCode.EntryAlreadyExists)
        {
            // The add of an attempt that was cut off may arrive after this one has looked.
            if (await ByKeysAsync(goal, cancel).ConfigureAwait(false) is { } ours)
                return await MendAsync(ours, goal, cancel).ConfigureAwait(false);
            throw _keys.Taken(goal.Name);
        }
        var id =
            (LdapControls.ReadEntry(result, LdapControls.PostReadOid) is { } made ? _dialect.IdOf(made) : null)
            ?? await IdAtAsync(connection, dn, cancel).ConfigureAwait(false)
            ?? throw new TargetFault($"{_rule.Title} shows no {Id} for {dn}.", transient: false);
        Remember(id, dn);
        if (goal.Enabled == false && !_dialect.IsMadeLocked)
            await LockAsync(connection, dn, id, cancel).ConfigureAwait(false);
        await GuardDeletionAsync(connection, id, dn, true, cancel).ConfigureAwait(false);
        return new(id, dn, Changed: true, Created: true);
    }

    /// <summary>Brings a deleted entry back, and gives it all that its account is to have. What was begun before is gone on with.</summary>
    private async Task<EnsuredAccount> RestoreAsync(string id, AccountGoal goal, CancellationToken cancel)
    {
        if (await ByIdAsync(id, cancel).ConfigureAwait(false) is not { } entry)
        {
            // Whom somebody made again meanwhile is no second one to be made.
            if (await ByKeysAsync(goal, cancel).ConfigureAwait(false) is not null)
                throw _keys.Taken(goal.Name);
            await BringBackAsync(id, goal, cancel).ConfigureAwait(false);
            entry = await ByIdAsync(id, cancel).ConfigureAwait(false) ?? throw _keys.Lost(id);
        }
        var connection = await _pool.TakeAsync(cancel).ConfigureAwait(false);
        // Its password is lost, and it may come back unlocked: until it gets its own, it has one that nobody knows.
        await _dialect.SetPasswordAsync(connection, _dialect.NameOf(id, entry.Dn), LdapDialect.Unknown(), cancel).ConfigureAwait(false);
        return await MendAsync(entry, await _references.ResolveAsync(goal, cancel).ConfigureAwait(false), cancel).ConfigureAwait(false) with
        {
            Changed = true,
        };
    }

    private async Task BringBackAsync(string id, AccountGoal goal, CancellationToken cancel)
    {
        var connection = await _pool.TakeAsync(cancel).ConfigureAwait(false);
        var from = await _deleted.FindAsync(id, cancel).ConfigureAwait(false) ?? throw _keys.Lost(id);
        if (!await IsThereAsync(connection, goal.Container, cancel).ConfigureAwait(false))
            await MakeContainerAsync(connection, goal.Container, null, cancel).ConfigureAwait(false);
        try
        {
            await _deleted.RestoreAsync(connection, from, DnOf(goal), cancel).ConfigureAwait(false);
        }
        catch (LdapResultException error) when (error.Code == LdapCode.EntryAlreadyExists)
        {
            throw _keys.Taken(goal.Name);
        }
    }

    private async Task<EnsuredAccount> MendAsync(LdapEntry entry, AccountGoal goal, CancellationToken cancel)
    {
        var connection = await _pool.TakeAsync(cancel).ConfigureAwait(false);
        var id = _dialect.IdOf(entry) ?? throw new TargetFault($"{_rule.Title} shows no {Id} for {entry.Dn}.", transient: false);
        var (dn, isRenamed) = await MoveAsync(connection, entry, id, goal, cancel).ConfigureAwait(false);
        var changed = dn != entry.Dn;
        await CarryNameAsync(entry, goal, cancel).ConfigureAwait(false);
        var changes = new List<LdapModification>();
        foreach (var (name, values) in goal.Attributes)
        {
            // The server changes what names an entry with its name.
            if (isRenamed && string.Equals(name, LdapDn.Parse(dn)[0][0].Attribute, StringComparison.OrdinalIgnoreCase))
                continue;
            IReadOnlyList<string> there = entry[name] is { } had ? _dialect.FromServer(had) : [];
            if (!(_references.Has(name) ? EntryReferences.AreSame(there, values) : Difference.SameValues(there, values)))
                changes.Add(new(LdapChangeKind.Replace, name, _dialect.ToServer(name, values)));
        }
        if (goal.Enabled is { } enabled)
        {
            if (enabled)
                changes.AddRange(_dialect.Unlock(entry));
            else if (!_dialect.IsLocked(entry))
                changes.AddRange(_dialect.Lock(entry));
        }
        if (changes.Count > 0)
        {
            await connection
                .ModifyAsync(_dialect.NameOf(id, dn), changes, await OnlyAsync(connection, id, cancel).ConfigureAwait(false), cancel)
                .ConfigureAwait(false);
            changed = true;
        }
        changed |= await GuardDeletionAsync(connection, id, dn, true, cancel).ConfigureAwait(false);
        Remember(id, dn);
        return new(id, dn, changed, Created: false);
    }

    /// <summary>Brings an entry to its container and under its name, in one operation.</summary>
    /// <returns>The name it has then, and whether its own part of it is another.</returns>
    private async Task<(string Dn, bool IsRenamed)> MoveAsync(
        LdapConnection connection,
        LdapEntry entry,
        string id,
        AccountGoal goal,
        CancellationToken cancel
    )
    {
        var from = entry.Dn;
        var parent = LdapDn.Parent(from);
        var own = from[..(from.Length - parent.Length)].TrimEnd(',', ' ');
        var name = OwnName(entry, goal) ?? own;
        var container = goal.Container.Length > 0 && !LdapDn.Same(parent, goal.Container) ? goal.Container : null;
        if (name == own && container is null)
            return (from, false);
        var only = await OnlyAsync(connection, id, cancel).ConfigureAwait(false);
        var holding = _dialect.KeepsReferences ? [] : await _groups.NamesOfAsync(from, cancel).ConfigureAwait(false);
        Task<LdapResult> RenameAsync() =>
            connection.ModifyDnAsync(
                _dialect.NameOf(id, from),
                name,
                deleteOldRdn: name != own || _dialect.KeepsReferences,
                // An entry that is named by its id is found below the parent that is said alone.
                container ?? (_dialect.KeepsReferences ? parent : null),
                only,
                cancel
            );
        if (container is not null)
            await GuardDeletionAsync(connection, id, from, false, cancel).ConfigureAwait(false);
        try
        {
            await (container is null ? RenameAsync() : InContainerAsync(connection, container, RenameAsync, cancel)).ConfigureAwait(false);
        }
        catch (LdapResultException error) when (error.Code == LdapCode.EntryAlreadyExists && name != own)
        {
            throw _keys.Taken(goal.Name);
        }
        var to = $"{name},{container ?? parent}";
        foreach (var group in holding)
            await _groups.CarryAsync(group, _dialect.Member, from, to, cancel).ConfigureAwait(false);
        return (to, name != own);
    }

    /// <summary>Groups that list accounts by their names list the new name, once it is theirs: before that it could be somebody
    /// else's. What is cut off here is found missing when the account is read back.</summary>
    private Task CarryNameAsync(LdapEntry entry, AccountGoal goal, CancellationToken cancel)
    {
        var wished = goal.Attributes.FirstOrDefault(a => a.Key.Equals(_settings.NameAttribute, StringComparison.OrdinalIgnoreCase)).Value;
        return wished is [var name] && entry.Text(_settings.NameAttribute) is { } had && had != name
            ? _groups.CarryNameAsync(had, name, cancel)
            : Task.CompletedTask;
    }

    /// <summary>What names an entry in its container once its account has another name; null when that stays. An entry that was
    /// taken over may be named by something else than its account: that is its own.</summary>
    private string? OwnName(LdapEntry entry, AccountGoal goal)
    {
        var wished = goal.Attributes.FirstOrDefault(a => a.Key.Equals(_settings.NameAttribute, StringComparison.OrdinalIgnoreCase)).Value;
        if (wished is not [var name] || LdapDn.Parse(entry.Dn)[0] is not [var (attribute, value)])
            return null;
        var had = entry.Text(_settings.NameAttribute);
        var isNamed =
            attribute.Equals(_settings.NameAttribute, StringComparison.OrdinalIgnoreCase)
            || (
                attribute.Equals(_dialect.NamedBy(_settings), StringComparison.OrdinalIgnoreCase)
                && value.Equals(had, StringComparison.OrdinalIgnoreCase)
            );
        return isNamed && value != name ? LdapDn.Rdn(attribute, name) : null;
    }

    /// <summary>Does what needs a container; where the rulebook lets it, units that are missing are made, from the container of the
    /// target downwards.</summary>
    private async Task<LdapResult> InContainerAsync(
        LdapConnection connection,
        string container,
        Func<Task<LdapResult>> work,
        CancellationToken cancel
    )
    {
        try
        {
            return await work().ConfigureAwait(false);
        }
        catch (LdapResultException error)
            when (error.Code is LdapCode.NoSuchObject or LdapCode.Other && !LdapDn.Same(container, _settings.Container))
        {
            // Some servers have no code of its own for it.
            if (error.Code == LdapCode.Other && await IsThereAsync(connection, container, cancel).ConfigureAwait(false))
                throw;
            await MakeContainerAsync(connection, container, error, cancel).ConfigureAwait(false);
        }
        return await work().ConfigureAwait(false);
    }

    private static async Task<bool> IsThereAsync(LdapConnection connection, string dn, CancellationToken cancel) =>
        await connection.ReadAsync(dn, ["1.1"], cancel).ConfigureAwait(false) is not null;

    /// <summary>Makes a container and what it stands in, where the rulebook lets it.</summary>
    /// <param name="cause">What the server said when it was missed.</param>
    private async Task MakeContainerAsync(LdapConnection connection, string container, Exception? cause, CancellationToken cancel)
    {
        if (!_settings.MakesContainers)
            throw new TargetFault(
                $"{_rule.Title} has no container {container}. Create it, or let it be made with 'create-containers: yes'.",
                transient: false,
                inner: cause
            );
        var missing = new Stack<string>();
        for (var at = container; at.Length > 0 && !LdapDn.Same(at, _settings.Container); at = LdapDn.Parent(at))
            missing.Push(at);
        foreach (var unit in missing)
            await MakeUnitAsync(connection, unit, cancel).ConfigureAwait(false);
    }

    private async Task MakeUnitAsync(LdapConnection connection, string dn, CancellationToken cancel)
    {
        var (attribute, value) = LdapDn.Parse(dn)[0][0];
        if (!attribute.Equals("ou", StringComparison.OrdinalIgnoreCase))
            throw new TargetFault($"{_rule.Title} has no container {dn}, and only units (ou) are made.", transient: false);
        try
        {
            await connection.AddAsync(dn, [new("objectClass", "organizationalUnit"), new("ou", value)], null, cancel).ConfigureAwait(false);
            if (_settings.Guards)
                await DeletionGuard.SetAsync(connection, dn, DeletionGuard.OfPlace, true, cancel).ConfigureAwait(false);
        }
        catch (LdapResultException error) when (error.Code == LdapCode.EntryAlreadyExists)
        {
            // Somebody else made it meanwhile.
        }
    }

    private async Task LockAsync(LdapConnection connection, string dn, string id, CancellationToken cancel)
    {
        var entry = await connection.ReadAsync(dn, _dialect.LockedBy, cancel).ConfigureAwait(false) ?? throw _keys.Lost(id);
        await connection
            .ModifyAsync(
                _dialect.NameOf(id, dn),
                [.. _dialect.Lock(entry)],
                await OnlyAsync(connection, id, cancel).ConfigureAwait(false),
                cancel
            )
            .ConfigureAwait(false);
    }

    /// <summary>Keeps an entry from being deleted by mistake where the rulebook wishes it, or lets it be moved.</summary>
    /// <returns>True when that was not so already.</returns>
    private async Task<bool> GuardDeletionAsync(LdapConnection connection, string id, string dn, bool guarded, CancellationToken cancel)
    {
        if (!_settings.Guards)
            return false;
        return await DeletionGuard
                .SetAsync(connection, _dialect.NameOf(id, dn), DeletionGuard.OfEntry, guarded, cancel)
                .ConfigureAwait(false)
            ?? throw new TargetFault($"{_rule.Title} does not show who may delete {dn}, so that it cannot be guarded.", transient: false);
    }

    private async Task<string?> IdAtAsync(LdapConnection connection, string dn, CancellationToken cancel) =>
        await connection.ReadAsync(dn, [Id], cancel).ConfigureAwait(false) is { } entry ? _dialect.IdOf(entry) : null;

    /// <summary>The control that lets a change happen only to the entry with this id, whatever its name is by then (RFC 4528);
    /// none where the server has it not.</summary>
    private async Task<IReadOnlyList<LdapControl>> OnlyAsync(LdapConnection connection, string id, CancellationToken cancel)
    {
        _asserts ??=
            (await connection.ReadAsync("", ["supportedControl"], cancel).ConfigureAwait(false))
                ?.Texts("supportedControl")
                .Contains(LdapControls.AssertionOid) == true;
        return _asserts == true ? [LdapControls.Assertion(_dialect.ById(id))] : [];
    }

    /// <inheritdoc/>
    public Task SetPasswordAsync(string immutableId, string? password, CancellationToken cancel) =>
        GuardAsync(async () =>
        {
            var (dn, entry) = await FindAsync(immutableId, [Id, .. _dialect.LockedBy], cancel).ConfigureAwait(false);
            var connection = await _pool.TakeAsync(cancel).ConfigureAwait(false);
            var asleep = _dialect.IsLocked(entry);
            await _dialect
                .SetPasswordAsync(connection, _dialect.NameOf(immutableId, dn), password ?? LdapDialect.Unknown(), cancel)
                .ConfigureAwait(false);
            // The operation takes no assertion: the entry is read back, so that a name that changed hands meanwhile is told.
            if (
                await IdAtAsync(connection, dn, cancel).ConfigureAwait(false) is var now
                && !string.Equals(now, immutableId, StringComparison.OrdinalIgnoreCase)
            )
                throw new TargetFault(
                    $"While the password was set in {_rule.Title}, {dn} became another entry ({now ?? "gone"}). Give that entry "
                        + "a new password, then retry.",
                    transient: false
                );
            // Whoever is handed a password changes it at the first use.
            var after = _dialect.AfterPassword(asleep, mustChange: password is not null).ToList();
            if (after.Count > 0)
                await connection
                    .ModifyAsync(
                        _dialect.NameOf(immutableId, dn),
                        after,
                        await OnlyAsync(connection, immutableId, cancel).ConfigureAwait(false),
                        cancel
                    )
                    .ConfigureAwait(false);
            return true;
        });

    /// <inheritdoc/>
    public async Task<PortResult> EnsureGrantAsync(GrantGoal goal, CancellationToken cancel)
    {
        try
        {
            return await GuardAsync(async () =>
                {
                    var member = await LocateAsync(goal.Account!, cancel).ConfigureAwait(false);
                    if (!await _groups.EnsureAsync(goal.Entitlement, member, goal.Held, cancel).ConfigureAwait(false))
                        throw _keys.Lost(goal.Account!);
                    return new PortResult.Reached();
                })
                .ConfigureAwait(false);
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
        GuardAsync(async () =>
        {
            // What it holds is asked for beside it, and once more where its name was another one.
            var guessed = _names.GetValueOrDefault(immutableId);
            var holding = guessed is null ? null : _groups.OfAsync(guessed, cancel);
            var (dn, entry) = await FindAsync(immutableId, _dialect.Wanted, cancel).ConfigureAwait(false);
            var held = holding is null ? [] : await holding.ConfigureAwait(false);
            if (dn != guessed)
                held = await _groups.OfAsync(dn, cancel).ConfigureAwait(false);
            var found = await _references.ReadAsync(Describe(entry, Id, held), cancel).ConfigureAwait(false);
            found = await _references.ForgiveAsync(found, wanted, cancel).ConfigureAwait(false);
            found = found with { Entitlements = [.. _rule.Ours(found.Entitlements, entitlements)] };
            return new ReadBack(Difference.Between(OfOthers(wanted), entitlements, found));
        });

    /// <summary>What is recorded without what the server keeps itself: an earlier release may have read that, too.</summary>
    private AccountState OfOthers(AccountState wanted) =>
        wanted.Attributes.Keys.Any(_dialect.IsOwn)
            ? wanted with
            {
                Attributes = wanted
                    .Attributes.Where(a => !_dialect.IsOwn(a.Key))
                    .ToDictionary(a => a.Key, a => a.Value, StringComparer.OrdinalIgnoreCase),
            }
            : wanted;

    /// <inheritdoc/>
    public Task<TargetHealth> CheckAsync(bool withRights, CancellationToken cancel) =>
        new LdapCheck(_rule, _dialect, _pool).RunAsync(withRights, cancel);

    /// <inheritdoc/>
    public Task<TargetSchema?> SchemaAsync(CancellationToken cancel) =>
        GuardAsync<TargetSchema?>(async () =>
        {
            var connection = await _pool.TakeAsync(cancel).ConfigureAwait(false);
            // The root tells where the subschema stands, RFC 4512 sections 4.4 and 5.1.
            var root = await connection.ReadAsync("", ["subschemaSubentry"], cancel).ConfigureAwait(false);
            if (root?.Text("subschemaSubentry") is not { Length: > 0 } place)
                return null;
            var entry = await connection.ReadAsync(place, ["attributeTypes", "objectClasses"], cancel).ConfigureAwait(false);
            if (entry is null)
                return null;
            var schema = new LdapSchema(entry.Texts("attributeTypes"), entry.Texts("objectClasses"));
            return new(
                schema.Attributes.ToHashSet(StringComparer.OrdinalIgnoreCase),
                _dialect is PolicyDialect
                    ? schema.Allowed(_settings.Classes)
                    : schema.Attributes.ToHashSet(StringComparer.OrdinalIgnoreCase),
                schema.Classes,
                [.. _settings.Classes.Except(schema.Classes, StringComparer.OrdinalIgnoreCase)]
            );
        });

    /// <inheritdoc/>
    public Task<IReadOnlyList<OfferedEntitlement>> CatalogueAsync(CatalogueRule rule, CancellationToken cancel) =>
        GuardAsync(() =>
            new GroupCatalogue(
                _pool,
                _groups.Known,
                _rule.Match is [var first, ..] ? first.Attribute : "",
                _settings.Connections
            ).ReadAsync(rule, cancel)
        );

    /// <summary>Ends all connections.</summary>
    public ValueTask DisposeAsync() => _pool.DisposeAsync();

    private string DnOf(AccountGoal goal) => LdapDn.Child(_dialect.NamedBy(_settings), goal.Name, goal.Container);

    private void Remember(string id, string dn)
    {
        if (_names.Count > 50_000)
            _names.Clear();
        _names[id] = dn;
    }

    /// <summary>
    /// The name that the entry with this id has at this moment. What is remembered is a guess: the entry under it must
    /// still carry the id, since names change hands.
    /// </summary>
    private async Task<string> LocateAsync(string id, CancellationToken cancel) =>
        (await FindAsync(id, [Id], cancel).ConfigureAwait(false)).Dn;

    /// <summary>The entry with this id under the name it has at this moment, with some of its attributes, the id among them.</summary>
    private async Task<(string Dn, LdapEntry Entry)> FindAsync(string id, IReadOnlyList<string> attributes, CancellationToken cancel)
    {
        if (_names.TryGetValue(id, out var dn))
        {
            var connection = await _pool.TakeAsync(cancel).ConfigureAwait(false);
            if (
                await connection.ReadAsync(dn, attributes, cancel).ConfigureAwait(false) is { } there
                && string.Equals(_dialect.IdOf(there), id, StringComparison.OrdinalIgnoreCase)
            )
                return (dn, there);
            _names.TryRemove(id, out _);
        }
        var entry = await ByIdAsync(id, cancel).ConfigureAwait(false) ?? throw _keys.Lost(id);
        Remember(id, entry.Dn);
        return (entry.Dn, entry);
    }

    private async Task<LdapEntry?> ByIdAsync(string id, CancellationToken cancel) =>
        (await SearchAsync(_dialect.ById(id), cancel).ConfigureAwait(false)).FirstOrDefault();

    private async Task<IReadOnlyList<LdapEntry>> SearchAsync(
        LdapFilter filter,
        CancellationToken cancel,
        params IReadOnlyList<string> attributes
    )
    {
        var connection = await _pool.TakeAsync(cancel).ConfigureAwait(false);
        return await connection
            .SearchAsync(new(_settings.Container, LdapScope.Subtree, filter, attributes.Count > 0 ? attributes : _dialect.Wanted), cancel)
            .ConfigureAwait(false);
    }

    private ExistingAccount Describe(LdapEntry entry, string matchedBy, IReadOnlyList<string> entitlements)
    {
        var attributes = new Dictionary<string, IReadOnlyList<string>>(entry.Attributes.Count, StringComparer.OrdinalIgnoreCase);
        foreach (var attribute in entry.Attributes)
            if (!_dialect.IsOwn(attribute.Name))
                attributes.Add(attribute.Name, _dialect.FromServer(attribute));
        return new(
            _rule.Name,
            _dialect.IdOf(entry) ?? "",
            entry.Text(_settings.NameAttribute) ?? "",
            LdapDn.Parent(entry.Dn),
            entry.Dn,
            matchedBy,
            attributes,
            !_dialect.IsLocked(entry),
            entitlements
        )
        {
            LastLogOn = _dialect.LastLogOn(entry),
        };
    }

    private Task<T> GuardAsync<T>(Func<Task<T>> work) => LdapFaults.GuardAsync(_rule.Title, work);
}
