using Oikonom.Core.Fulfilment;
using Oikonom.Core.Rulebook;
using Oikonom.Ldap;

namespace Oikonom.Targets.Ldap;

/// <summary>
/// Entries that were deleted and are kept by their server for a while: looked for by their id, and brought back as themselves, so
/// that whatever knows them by it knows them again. Values, memberships and the password are lost; they are written anew.
/// </summary>
internal sealed class DeletedEntries(TargetRule rule, LdapDialect dialect, LdapPool pool)
{
    private const string IsDeleted = "isDeleted";

    /// <summary>The name that an entry has since it was deleted; null when it was not, is not kept any more, or where we may not see
    /// what was deleted.</summary>
    /// <exception cref="LdapResultException">The server refuses for another reason.</exception>
    public async Task<string?> FindAsync(string id, CancellationToken cancel)
    {
        var connection = await pool.TakeAsync(cancel).ConfigureAwait(false);
        try
        {
            var found = await connection
                .SearchAsync(
                    new(dialect.NameOf(id, ""), LdapScope.Base, LdapFilter.Present("objectClass"), IsDeleted)
                    {
                        Controls = [LdapControls.ShowDeleted],
                    },
                    cancel
                )
                .ConfigureAwait(false);
            return found is [var entry] && entry.Text(IsDeleted) == "TRUE" ? entry.Dn : null;
        }
        catch (LdapResultException error) when (IsUnseen(error))
        {
            return null;
        }
    }

    /// <summary>Whether we may see what was deleted in a domain.</summary>
    public async Task<bool> MaySeeAsync(LdapConnection connection, string domain, CancellationToken cancel)
    {
        var search = new LdapSearch($"CN=Deleted Objects,{domain}", LdapScope.Base, LdapFilter.Present("objectClass"), "1.1")
        {
            Controls = [LdapControls.ShowDeleted],
        };
        try
        {
            return (await connection.SearchAsync(search, cancel).ConfigureAwait(false)).Count > 0;
        }
        catch (LdapResultException error) when (IsUnseen(error))
        {
            return false;
        }
    }

    private static bool IsUnseen(LdapResultException error) =>
        error.Code is LdapCode.NoSuchObject or LdapCode.InsufficientAccessRights or LdapCode.UnavailableCriticalExtension;

    /// <summary>Brings an entry back under a name: without a password, and without most of what it had.</summary>
    /// <param name="from">The name it has since it was deleted.</param>
    /// <exception cref="TargetFault">We may not.</exception>
    /// <exception cref="LdapResultException">The name belongs to another entry by now, or its container is not there.</exception>
    public async Task RestoreAsync(LdapConnection connection, string from, string dn, CancellationToken cancel)
    {
        try
        {
            await connection
                .ModifyAsync(
                    from,
                    [new(LdapChangeKind.Delete, IsDeleted), new(LdapChangeKind.Replace, "distinguishedName", dn)],
                    [LdapControls.ShowDeleted],
                    cancel
                )
                .ConfigureAwait(false);
        }
        catch (LdapResultException error) when (error.Code is LdapCode.InsufficientAccessRights)
        {
            throw new TargetFault(
                $"We may not bring deleted entries back in {rule.Title}: give the account that Oikonom signs in with the right to "
                    + "reanimate them, then retry.",
                transient: false,
                inner: error
            );
        }
    }
}
