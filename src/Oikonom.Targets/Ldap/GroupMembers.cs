using Oikonom.Core.Fulfilment;
using Oikonom.Core.Rulebook;
using Oikonom.Ldap;

namespace Oikonom.Targets.Ldap;

/// <summary>Who is in which group of a directory, whichever way its groups list their members.</summary>
internal sealed class GroupMembers
{
    private readonly TargetRule _rule;
    private readonly TargetSettings.Ldap _settings;
    private readonly LdapDialect _dialect;
    private readonly LdapPool _pool;
    private readonly GroupBatcher _batcher;
    private readonly NamedGroups? _named;
    private readonly PrimaryGroups? _primary;

    /// <summary>The groups that are made where they are missing, and of which kind.</summary>
    private readonly Dictionary<string, GroupForm?> _made;

    /// <summary>The groups of one directory.</summary>
    public GroupMembers(TargetRule rule, TargetSettings.Ldap settings, LdapDialect dialect, LdapPool pool)
    {
        (_rule, _settings, _dialect, _pool) = (rule, settings, dialect, pool);
        _named = settings.Family == LdapFamily.PasswordPolicy ? new(settings.Groups, settings.NameAttribute, pool) : null;
        _primary = settings.Family == LdapFamily.DomainController ? new(rule, settings, pool) : null;
        _batcher = new(ModifyAsync, error => error is LdapResultException);
        var known = new Dictionary<string, string>(StringComparer.Ordinal);
        foreach (var entitlement in rule.Entitlements.Values.OrderBy(e => e.IsRead))
            known.TryAdd(LdapDn.Normalise(GroupOf(entitlement)), entitlement.Name);
        Known = known;
        _made = rule
            .Entitlements.Values.Where(e => e.IsMade)
            .GroupBy(e => LdapDn.Normalise(GroupOf(e)), StringComparer.Ordinal)
            .ToDictionary(g => g.Key, g => ((EntitlementMeans.Group)g.First().Means).Form, StringComparer.Ordinal);
    }

    /// <summary>The names of entitlements by those of their groups, in the one form.</summary>
    public IReadOnlyDictionary<string, string> Known { get; }

    private static string GroupOf(Entitlement entitlement) => ((EntitlementMeans.Group)entitlement.Means).Dn;

    /// <summary>An entry is in the group of an entitlement, or is not; false when there is no such entry.</summary>
    public async Task<bool> EnsureAsync(Entitlement entitlement, string dn, bool held, CancellationToken cancel)
    {
        var group = GroupOf(entitlement);
        var member = await IsNamedAsync(group, cancel).ConfigureAwait(false)
            ? await _named!.NameOfAsync(dn, cancel).ConfigureAwait(false)
            : dn;
        if (member is null)
            return false;
        if (_primary?.Has(group) == true)
            await EnsurePrimaryAsync(_primary, group, member, held, cancel).ConfigureAwait(false);
        else
            await _batcher.EnsureAsync(group, member, held, cancel).ConfigureAwait(false);
        return true;
    }

    /// <summary>A group is primary only to who is in it, and is left only by who has another one.</summary>
    private async Task EnsurePrimaryAsync(PrimaryGroups primary, string group, string dn, bool held, CancellationToken cancel)
    {
        if (held && await primary.IsOfAsync(group, dn, cancel).ConfigureAwait(false))
            return;
        if (!held)
            await primary.TakeAsync(group, dn, cancel).ConfigureAwait(false);
        await _batcher.EnsureAsync(group, dn, held, cancel).ConfigureAwait(false);
        if (held)
            await primary.GiveAsync(group, dn, cancel).ConfigureAwait(false);
    }

    /// <summary>The names of what an entry holds, in order.</summary>
    public async Task<IReadOnlyList<string>> OfAsync(string dn, CancellationToken cancel)
    {
        var groups = await NamesOfAsync(dn, cancel).ConfigureAwait(false);
        if (_named is not null)
            groups = [.. groups, .. await _named.OfAsync(dn, cancel).ConfigureAwait(false)];
        var held = groups.Select(g => Known.GetValueOrDefault(LdapDn.Normalise(g))).OfType<string>();
        // Who is only listed in a group that is to be the primary one does not have it as that.
        if (_primary is not null)
            held = held.Where(e => !_primary.Has(GroupOf(_rule.Entitlements[e])))
                .Concat(await _primary.EntitlementOfAsync(dn, cancel).ConfigureAwait(false) is { } own ? [own] : []);
        return [.. held.Order(StringComparer.Ordinal)];
    }

    /// <summary>Who holds what: by the names of entries in their one form, and by account name where groups list names. Groups are read
    /// beside each other.</summary>
    public async Task<(Dictionary<string, IReadOnlyList<string>> ByEntry, Dictionary<string, IReadOnlyList<string>> ByName)> HoldersAsync(
        CancellationToken cancel
    )
    {
        var (held, byName, lists) = (
            new Dictionary<string, IReadOnlyList<string>>(StringComparer.Ordinal),
            new Dictionary<string, IReadOnlyList<string>>(StringComparer.Ordinal),
            new SharedLists()
        );
        await Parallel
            .ForEachAsync(
                _rule.Entitlements.Values,
                new ParallelOptions { MaxDegreeOfParallelism = _settings.Connections, CancellationToken = cancel },
                async (entitlement, stop) =>
                {
                    var (isNamed, keys) = await GuardAsync(() => MembersAsync(entitlement, stop)).ConfigureAwait(false);
                    var holders = isNamed ? byName : held;
                    lock (lists)
                        foreach (var key in keys)
                            holders[key] = lists.With(holders.GetValueOrDefault(key, SharedLists.Empty), entitlement.Name);
                }
            )
            .ConfigureAwait(false);
        return (held, byName);
    }

    /// <summary>Who holds an entitlement, as it is now.</summary>
    public async Task<ChangedHolders> HoldingAsync(Entitlement entitlement, CancellationToken cancel)
    {
        var (isNamed, keys) = await MembersAsync(entitlement, cancel).ConfigureAwait(false);
        var holders = keys.ToHashSet(StringComparer.Ordinal);
        return new(entitlement.Name, (name, dn) => holders.Contains(isNamed ? name : LdapDn.Normalise(dn)));
    }

    /// <summary>The members of a group: by account name, or by the names of entries in their one form.</summary>
    private async Task<(bool IsNamed, IReadOnlyList<string> Keys)> MembersAsync(Entitlement entitlement, CancellationToken cancel)
    {
        var isNamed = await IsNamedAsync(GroupOf(entitlement), cancel).ConfigureAwait(false);
        var connection = await _pool.TakeAsync(cancel).ConfigureAwait(false);
        var attribute = isNamed ? NamedGroups.Member : _dialect.Member;
        var members = new List<string>();
        if (_primary?.Has(GroupOf(entitlement)) == true)
            members.AddRange(await _primary.HoldersAsync(GroupOf(entitlement), cancel).ConfigureAwait(false));
        else
            for (var wanted = attribute; wanted.Length > 0; )
            {
                var group = await connection.ReadAsync(GroupOf(entitlement), [wanted], cancel).ConfigureAwait(false);
                var found = group?.Attributes.FirstOrDefault(a =>
                    a.Name.Split(';')[0].Equals(attribute, StringComparison.OrdinalIgnoreCase)
                );
                members.AddRange(found?.Texts ?? []);
                wanted = found is null ? "" : LdapDialect.Rest(found.Name);
            }
        return (isNamed, isNamed ? members : members.ConvertAll(LdapDn.Normalise));
    }

    /// <summary>The groups that list an entry.</summary>
    public async Task<IReadOnlyList<string>> NamesOfAsync(string dn, CancellationToken cancel)
    {
        var connection = await _pool.TakeAsync(cancel).ConfigureAwait(false);
        var groups = await connection
            .SearchAsync(new(_settings.Groups, LdapScope.Subtree, LdapFilter.Equal(_dialect.Member, dn), "1.1"), cancel)
            .ConfigureAwait(false);
        return [.. groups.Select(g => g.Dn)];
    }

    /// <summary>Whether a group lists its members by the names of their accounts.</summary>
    private Task<bool> IsNamedAsync(string group, CancellationToken cancel) => _named?.HasAsync(group, cancel) ?? Task.FromResult(false);

    private async Task ModifyAsync(string group, IReadOnlyList<GroupBatcher.Wish> wishes, CancellationToken cancel)
    {
        var connection = await _pool.TakeAsync(cancel).ConfigureAwait(false);
        var changes = new List<LdapModification>();
        var (adds, removes) = (
            wishes.Where(w => w.Present).Select(w => w.Member).ToList(),
            wishes.Where(w => !w.Present).Select(w => w.Member).ToList()
        );
        var attribute = await IsNamedAsync(group, cancel).ConfigureAwait(false) ? NamedGroups.Member : _dialect.Member;
        if (adds.Count > 0)
            changes.Add(new(LdapChangeKind.Add, attribute, adds));
        if (removes.Count > 0)
            changes.Add(new(LdapChangeKind.Delete, attribute, removes));
        try
        {
            await connection.ModifyAsync(group, changes, null, cancel).ConfigureAwait(false);
        }
        catch (LdapResultException error)
            when (wishes.Count == 1
                && error.Code is LdapCode.AttributeOrValueExists or LdapCode.EntryAlreadyExists or LdapCode.NoSuchAttribute
            )
        {
            // Already as it should be.
        }
        catch (LdapResultException error) when (wishes is [{ Present: false } gone] && error.Code == LdapCode.UnwillingToPerform)
        {
            // A domain controller says no more than this when it is no member.
            if ((await NamesOfAsync(gone.Member, cancel).ConfigureAwait(false)).Any(g => LdapDn.Same(g, group)))
                throw;
        }
        catch (LdapResultException error)
            when (error.Code == LdapCode.ObjectClassViolation
                && removes.Count > 0
                && adds.Count == 0
                && _settings.Placeholder is { } placeholder
            )
        {
            // A group of names may not be empty: the placeholder stays when the last member goes.
            await connection
                .ModifyAsync(group, [new(LdapChangeKind.Add, _dialect.Member, placeholder), .. changes], null, cancel)
                .ConfigureAwait(false);
        }
        catch (LdapResultException error) when (error.Code == LdapCode.NoSuchObject && _made.ContainsKey(LdapDn.Normalise(group)))
        {
            // Nobody is in a group that is not there.
            if (adds.Count > 0)
                await MakeAsync(connection, group, attribute, adds, cancel).ConfigureAwait(false);
        }
        catch (LdapResultException error) when (error.Code == LdapCode.NoSuchObject)
        {
            throw new TargetFault(
                $"{_rule.Title} has no group {group}. Create it, or correct the entitlement in the rulebook.",
                transient: false,
                inner: error
            );
        }
    }

    /// <summary>Makes a group with its first members; made by somebody else meanwhile, they are put into that.</summary>
    private async Task MakeAsync(LdapConnection connection, string group, string attribute, List<string> members, CancellationToken cancel)
    {
        var (name, value) = LdapDn.Parse(group)[0][0];
        var listed = _settings.Placeholder is { } placeholder ? [placeholder, .. members] : members;
        try
        {
            await connection
                .AddAsync(
                    group,
                    [.. _dialect.FreshGroup(value, _made[LdapDn.Normalise(group)]), new(name, value), new(attribute, listed)],
                    [],
                    cancel
                )
                .ConfigureAwait(false);
        }
        catch (LdapResultException error) when (error.Code == LdapCode.EntryAlreadyExists)
        {
            foreach (var member in members)
                await _batcher.EnsureAsync(group, member, true, cancel).ConfigureAwait(false);
        }
    }

    /// <summary>Groups that list accounts by their names list another one.</summary>
    public async Task CarryNameAsync(string from, string to, CancellationToken cancel)
    {
        foreach (var group in _named is null ? [] : await _named.NamingAsync(from, cancel).ConfigureAwait(false))
            await CarryAsync(group, NamedGroups.Member, from, to, cancel).ConfigureAwait(false);
    }

    /// <summary>Servers that keep no references right leave a member under the name it had: it is put in under its new one.</summary>
    public async Task CarryAsync(string group, string attribute, string from, string to, CancellationToken cancel)
    {
        var connection = await _pool.TakeAsync(cancel).ConfigureAwait(false);
        foreach (
            var change in new LdapModification[] { new(LdapChangeKind.Add, attribute, to), new(LdapChangeKind.Delete, attribute, from) }
        )
            try
            {
                await connection.ModifyAsync(group, [change], null, cancel).ConfigureAwait(false);
            }
            catch (LdapResultException error)
                when (error.Code is LdapCode.AttributeOrValueExists or LdapCode.NoSuchAttribute or LdapCode.NoSuchObject)
            {
                // The server did it itself.
            }
    }

    private Task<T> GuardAsync<T>(Func<Task<T>> work) => LdapFaults.GuardAsync(_rule.Title, work);
}
