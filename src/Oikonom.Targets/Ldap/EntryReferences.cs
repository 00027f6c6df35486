using System.Collections.Concurrent;
using System.Diagnostics;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Planning;
using Oikonom.Ldap;

namespace Oikonom.Targets.Ldap;

/// <summary>
/// Attributes whose values are names of other entries, such as <c>manager</c> (RFC 4524 section 2.13): the rulebook says by which
/// attribute such an entry is found, and with which value. Names change; what finds an entry does not.
/// </summary>
/// <param name="rules">By the attribute that refers: the attribute by which the entry is found.</param>
/// <param name="container">Below which entry they stand.</param>
internal sealed class EntryReferences(IReadOnlyDictionary<string, string> rules, string container, LdapPool pool)
{
    /// <summary>For how long it is remembered which entry a name leads to; so long may a read be behind.</summary>
    private static readonly TimeSpan Memory = TimeSpan.FromSeconds(20);
    private const int Most = 50_000;

    private readonly ConcurrentDictionary<(string Attribute, string Dn), (string? Value, long Until)> _known = new();

    /// <summary>Whether the target has any.</summary>
    public bool HasAny => rules.Count > 0;

    /// <summary>Whether an attribute refers to entries.</summary>
    public bool Has(string attribute) => rules.ContainsKey(attribute);

    /// <summary>A goal with names in the place of what entries are found by. What leads to nobody is left out until it does: a look
    /// at the account finds it missing then.</summary>
    public async Task<AccountGoal> ResolveAsync(AccountGoal goal, CancellationToken cancel)
    {
        if (!HasAny || !goal.Attributes.Keys.Any(Has))
            return goal;
        var attributes = new Dictionary<string, IReadOnlyList<string>>(StringComparer.OrdinalIgnoreCase);
        foreach (var (name, values) in goal.Attributes)
        {
            if (!rules.TryGetValue(name, out var key))
            {
                attributes[name] = values;
                continue;
            }
            var names = new List<string>();
            foreach (var value in values)
                if (await NameOfAsync(key, value, cancel).ConfigureAwait(false) is { } found)
                    names.Add(found);
            attributes[name] = names;
        }
        return goal with { Attributes = attributes };
    }

    /// <summary>What was read, where what is missing in it leads to nobody: as if it stood there.</summary>
    public async Task<ExistingAccount> ForgiveAsync(ExistingAccount found, AccountState wanted, CancellationToken cancel)
    {
        foreach (var (name, values) in wanted.Attributes.Where(a => Has(a.Key) && a.Value.Count > 0))
        {
            var there = found.Attributes.GetValueOrDefault(name) ?? [];
            var nobody = new List<string>();
            foreach (var value in values.Except(there))
                if (await NameOfAsync(rules[name], value, cancel).ConfigureAwait(false) is null)
                    nobody.Add(value);
            if (nobody.Count == 0)
                continue;
            var attributes = new Dictionary<string, IReadOnlyList<string>>(found.Attributes, StringComparer.OrdinalIgnoreCase)
            {
                [name] = [.. there, .. nobody],
            };
            found = found with { Attributes = attributes };
        }
        return found;
    }

    /// <summary>What was read, with what entries are found by in the place of their names. A name that leads to no entry stays as it
    /// is.</summary>
    public async Task<ExistingAccount> ReadAsync(ExistingAccount account, CancellationToken cancel)
    {
        if (!HasAny)
            return account;
        var referring = account.Attributes.Where(a => Has(a.Key)).ToList();
        if (referring.Count == 0)
            return account;
        var attributes = new Dictionary<string, IReadOnlyList<string>>(account.Attributes, StringComparer.OrdinalIgnoreCase);
        foreach (var (name, dns) in referring)
        {
            var values = new List<string>();
            foreach (var dn in dns)
                values.Add(await ValueOfAsync(rules[name], dn, cancel).ConfigureAwait(false) ?? dn);
            attributes[name] = values;
        }
        return account with { Attributes = attributes };
    }

    /// <summary>Whether two lists of names lead to the same entries.</summary>
    public static bool AreSame(IReadOnlyList<string> left, IReadOnlyList<string> right) =>
        Difference.SameValues([.. left.Select(LdapDn.Normalise)], [.. right.Select(LdapDn.Normalise)]);

    private async Task<string?> NameOfAsync(string key, string value, CancellationToken cancel)
    {
        if (value.Length == 0)
            return null;
        var connection = await pool.TakeAsync(cancel).ConfigureAwait(false);
        var found = await connection
            .SearchAsync(new(container, LdapScope.Subtree, LdapFilter.Equal(key, value), "1.1"), cancel)
            .ConfigureAwait(false);
        // Of several nobody knows who is meant.
        return found is [var one] ? one.Dn : null;
    }

    private async Task<string?> ValueOfAsync(string key, string dn, CancellationToken cancel)
    {
        var place = (key, LdapDn.Normalise(dn));
        if (_known.TryGetValue(place, out var known) && known.Until > Stopwatch.GetTimestamp())
            return known.Value;
        var connection = await pool.TakeAsync(cancel).ConfigureAwait(false);
        string? value;
        try
        {
            value = (await connection.ReadAsync(dn, [key], cancel).ConfigureAwait(false))?.Text(key);
        }
        catch (LdapResultException error) when (error.Code is LdapCode.InvalidDnSyntax or LdapCode.NoSuchObject)
        {
            value = null;
        }
        if (_known.Count > Most)
            _known.Clear();
        _known[place] = (value, Stopwatch.GetTimestamp() + (long)(Memory.TotalSeconds * Stopwatch.Frequency));
        return value;
    }
}
