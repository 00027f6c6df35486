using System.Buffers.Binary;
using System.Collections.Concurrent;
using System.Globalization;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Rulebook;
using Oikonom.Ldap;

namespace Oikonom.Targets.Ldap;

/// <summary>
/// The primary group of users of a domain: the user names it by a number, and the group does not list who has it as that one. Whoever
/// is given an entitlement that says so has its group as the primary one, and has the domain's own again without it.
/// </summary>
internal sealed class PrimaryGroups
{
    private const string Attribute = "primaryGroupID";

    /// <summary>The number of the group that every user of a domain has at first (Domain Users).</summary>
    private const long Everybody = 513;

    private readonly TargetRule _rule;
    private readonly LdapPool _pool;
    private readonly string _container;

    /// <summary>The groups that are primary ones, in their one form, with the entitlement of each.</summary>
    private readonly Dictionary<string, string> _groups;
    private readonly ConcurrentDictionary<string, long> _numbers = new(StringComparer.Ordinal);

    /// <summary>The primary groups of one domain.</summary>
    public PrimaryGroups(TargetRule rule, TargetSettings.Ldap settings, LdapPool pool)
    {
        (_rule, _pool, _container) = (rule, pool, settings.Container);
        _groups = rule
            .Entitlements.Values.Where(e => e.Means is EntitlementMeans.Group { IsPrimary: true })
            .GroupBy(e => LdapDn.Normalise(((EntitlementMeans.Group)e.Means).Dn), StringComparer.Ordinal)
            .ToDictionary(g => g.Key, g => g.First().Name, StringComparer.Ordinal);
    }

    /// <summary>Whether a group is one.</summary>
    public bool Has(string group) => _groups.Count > 0 && _groups.ContainsKey(LdapDn.Normalise(group));

    /// <summary>Makes a group a user's primary one, which it has to be in already.</summary>
    public async Task GiveAsync(string group, string dn, CancellationToken cancel)
    {
        var number =
            await NumberAsync(group, cancel).ConfigureAwait(false)
            ?? throw new TargetFault($"{_rule.Title} does not show the number of the group {group}.", transient: false);
        await SetAsync(dn, number, cancel).ConfigureAwait(false);
    }

    /// <summary>Gives a user the domain's own primary group again where a group is it: the server then lists them in that one.</summary>
    public async Task TakeAsync(string group, string dn, CancellationToken cancel)
    {
        if (await IsOfAsync(group, dn, cancel).ConfigureAwait(false))
            await SetAsync(dn, Everybody, cancel).ConfigureAwait(false);
    }

    /// <summary>Whether a group is a user's primary one: then it does not list them, and they are in it all the same.</summary>
    public async Task<bool> IsOfAsync(string group, string dn, CancellationToken cancel) =>
        await NumberAsync(group, cancel).ConfigureAwait(false) is { } number && await OfAsync(dn, cancel).ConfigureAwait(false) == number;

    /// <summary>The entitlement whose group is a user's primary one; null when that is none of the rulebook's.</summary>
    public async Task<string?> EntitlementOfAsync(string dn, CancellationToken cancel)
    {
        if (_groups.Count == 0 || await OfAsync(dn, cancel).ConfigureAwait(false) is not { } number)
            return null;
        foreach (var (group, entitlement) in _groups)
            if (await NumberAsync(group, cancel).ConfigureAwait(false) == number)
                return entitlement;
        return null;
    }

    /// <summary>The names of those whose primary group it is.</summary>
    public async Task<IReadOnlyList<string>> HoldersAsync(string group, CancellationToken cancel)
    {
        if (await NumberAsync(group, cancel).ConfigureAwait(false) is not { } of)
            return [];
        var number = of.ToString(CultureInfo.InvariantCulture);
        var connection = await _pool.TakeAsync(cancel).ConfigureAwait(false);
        var holders = new List<string>();
        var search = new LdapSearch(_container, LdapScope.Subtree, LdapFilter.Equal(Attribute, number), "1.1");
        await foreach (var entry in connection.PageAsync(search, 500, cancel).ConfigureAwait(false))
            holders.Add(entry.Dn);
        return holders;
    }

    private async Task<long?> OfAsync(string dn, CancellationToken cancel)
    {
        var connection = await _pool.TakeAsync(cancel).ConfigureAwait(false);
        var entry = await connection.ReadAsync(dn, [Attribute], cancel).ConfigureAwait(false);
        return long.TryParse(entry?.Text(Attribute), CultureInfo.InvariantCulture, out var number) ? number : null;
    }

    private async Task SetAsync(string dn, long number, CancellationToken cancel)
    {
        var connection = await _pool.TakeAsync(cancel).ConfigureAwait(false);
        var change = new LdapModification(LdapChangeKind.Replace, Attribute, number.ToString(CultureInfo.InvariantCulture));
        await connection.ModifyAsync(dn, [change], null, cancel).ConfigureAwait(false);
    }

    /// <summary>The number of a group: the last part of its security identifier (MS-DTYP section 2.4.2); null where there is no such
    /// group.</summary>
    private async Task<long?> NumberAsync(string group, CancellationToken cancel)
    {
        var key = LdapDn.Normalise(group);
        if (_numbers.TryGetValue(key, out var known))
            return known;
        var connection = await _pool.TakeAsync(cancel).ConfigureAwait(false);
        var entry = await connection.ReadAsync(group, ["objectSid"], cancel).ConfigureAwait(false);
        if (entry?["objectSid"] is not { Values: [{ Length: > 8 } sid, ..] })
            return null;
        return _numbers[key] = BinaryPrimitives.ReadUInt32LittleEndian(sid.AsSpan(sid.Length - 4));
    }
}
