using System.Diagnostics;
using Oikonom.Ldap;

namespace Oikonom.Targets.Ldap;

/// <summary>
/// Groups that list the names of accounts in <c>memberUid</c> in the place of the names of entries (posixGroup, RFC 2307 section 2.2).
/// Which of the groups are so is asked of the server.
/// </summary>
internal sealed class NamedGroups(string groups, string nameAttribute, LdapPool pool)
{
    /// <summary>The attribute of such a group that lists its members.</summary>
    public const string Member = "memberUid";

    private static readonly TimeSpan Memory = TimeSpan.FromMinutes(1);

    private static readonly LdapFilter IsOne = LdapFilter.Equal("objectClass", "posixGroup");

    private sealed record Known(IReadOnlySet<string> Dns, long Until);

    private Known _known = new(new HashSet<string>(), 0);

    /// <summary>Whether a group is one.</summary>
    public async Task<bool> HasAsync(string group, CancellationToken cancel) =>
        (await AllAsync(cancel).ConfigureAwait(false)).Contains(LdapDn.Normalise(group));

    /// <summary>The groups that list an account by its name.</summary>
    /// <param name="dn">The entry of the account.</param>
    public async Task<IReadOnlyList<string>> OfAsync(string dn, CancellationToken cancel) =>
        (await AllAsync(cancel).ConfigureAwait(false)).Count == 0 || await NameOfAsync(dn, cancel).ConfigureAwait(false) is not { } name
            ? []
            : await NamingAsync(name, cancel).ConfigureAwait(false);

    /// <summary>The groups that list a name.</summary>
    public async Task<IReadOnlyList<string>> NamingAsync(string name, CancellationToken cancel)
    {
        var all = await AllAsync(cancel).ConfigureAwait(false);
        if (all.Count == 0)
            return [];
        var connection = await pool.TakeAsync(cancel).ConfigureAwait(false);
        var found = await connection
            .SearchAsync(new(groups, LdapScope.Subtree, LdapFilter.And(IsOne, LdapFilter.Equal(Member, name)), "1.1"), cancel)
            .ConfigureAwait(false);
        return [.. found.Select(g => g.Dn).Where(dn => all.Contains(LdapDn.Normalise(dn)))];
    }

    /// <summary>The name of the account an entry is; null when it is gone.</summary>
    public async Task<string?> NameOfAsync(string dn, CancellationToken cancel)
    {
        // Most entries are named by it.
        if (LdapDn.Parse(dn)[0] is [var (attribute, value)] && attribute.Equals(nameAttribute, StringComparison.OrdinalIgnoreCase))
            return value;
        var connection = await pool.TakeAsync(cancel).ConfigureAwait(false);
        return (await connection.ReadAsync(dn, [nameAttribute], cancel).ConfigureAwait(false))?.Text(nameAttribute);
    }

    private async Task<IReadOnlySet<string>> AllAsync(CancellationToken cancel)
    {
        if (_known is var known && known.Until > Stopwatch.GetTimestamp())
            return known.Dns;
        var connection = await pool.TakeAsync(cancel).ConfigureAwait(false);
        var dns = new HashSet<string>(StringComparer.Ordinal);
        var search = new LdapSearch(groups, LdapScope.Subtree, IsOne, "objectClass");
        await foreach (var group in connection.PageAsync(search, 500, cancel).ConfigureAwait(false))
            // One that lists entries as well is like any other.
            if (!group.Texts("objectClass").Contains("groupOfNames", StringComparer.OrdinalIgnoreCase))
                dns.Add(LdapDn.Normalise(group.Dn));
        _known = new(dns, Stopwatch.GetTimestamp() + (long)(Memory.TotalSeconds * Stopwatch.Frequency));
        return dns;
    }
}
