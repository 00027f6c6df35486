using System.Collections.Concurrent;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Rulebook;
using Oikonom.Ldap;

namespace Oikonom.Targets.Ldap;

/// <summary>The groups of a directory, with what their attributes say of them.</summary>
/// <param name="known">The rulebook's names of groups, by their own in the one form.</param>
/// <param name="ownerKey">The attribute of an owner's entry that says who they are, or "".</param>
/// <param name="readers">How many owners are looked up at once.</param>
internal sealed class GroupCatalogue(LdapPool pool, IReadOnlyDictionary<string, string> known, string ownerKey, int readers)
{
    private const int PageSize = 500;

    /// <summary>All groups that the filter finds, in no order.</summary>
    /// <exception cref="TargetFault">The filter is none.</exception>
    public async Task<IReadOnlyList<OfferedEntitlement>> ReadAsync(CatalogueRule rule, CancellationToken cancel)
    {
        LdapFilter filter;
        try
        {
            filter = LdapFilter.Parse(rule.Read[0]);
        }
        catch (FormatException error)
        {
            throw new TargetFault($"The filter of the catalogue, {rule.Read[0]}: {error.Message}", transient: false, inner: error);
        }
        string[] wanted =
        [
            .. new[] { rule.Name, rule.Title, rule.Description, rule.Owner }
                .Where(a => a.Length > 0)
                .Distinct(StringComparer.OrdinalIgnoreCase),
        ];
        var connection = await pool.TakeAsync(cancel).ConfigureAwait(false);
        var groups = new List<LdapEntry>();
        await foreach (
            var entry in connection.PageAsync(new(rule.Below, LdapScope.Subtree, filter, wanted), PageSize, cancel).ConfigureAwait(false)
        )
            groups.Add(entry);
        var owners = await OwnersAsync([.. groups.Select(g => Of(g, rule.Owner)).Where(o => o.Length > 0).Distinct()], cancel)
            .ConfigureAwait(false);
        return
        [
            .. groups.Select(g => new OfferedEntitlement(
                new EntitlementMeans.Group(g.Dn),
                Of(g, rule.Name) is { Length: > 0 } name ? name : LdapDn.Parse(g.Dn)[0][0].Value,
                known.GetValueOrDefault(LdapDn.Normalise(g.Dn))
            )
            {
                Title = Of(g, rule.Title),
                Description = Of(g, rule.Description),
                Owner = owners.GetValueOrDefault(Of(g, rule.Owner), ""),
            }),
        ];
    }

    private static string Of(LdapEntry entry, string attribute) => attribute.Length > 0 ? entry.Text(attribute) ?? "" : "";

    /// <summary>Who owners are: by what their entry says, or as it is said where that is no name of an entry.</summary>
    private async Task<IReadOnlyDictionary<string, string>> OwnersAsync(IReadOnlyList<string> said, CancellationToken cancel)
    {
        var owners = new ConcurrentDictionary<string, string>(StringComparer.Ordinal);
        await Parallel
            .ForEachAsync(
                said,
                new ParallelOptions { MaxDegreeOfParallelism = readers, CancellationToken = cancel },
                async (owner, stop) => owners[owner] = await OwnerAsync(owner, stop).ConfigureAwait(false)
            )
            .ConfigureAwait(false);
        return owners;
    }

    private async Task<string> OwnerAsync(string said, CancellationToken cancel)
    {
        if (!said.Contains('=', StringComparison.Ordinal) || ownerKey.Length == 0)
            return said;
        var connection = await pool.TakeAsync(cancel).ConfigureAwait(false);
        try
        {
            return (await connection.ReadAsync(said, [ownerKey], cancel).ConfigureAwait(false))?.Text(ownerKey) ?? "";
        }
        catch (LdapResultException error) when (error.Code is LdapCode.InvalidDnSyntax or LdapCode.NoSuchObject)
        {
            return "";
        }
    }
}
