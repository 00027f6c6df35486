using Oikonom.Core.Fulfilment;
using Oikonom.Core.Rulebook;
using Oikonom.Ldap;

namespace Oikonom.Targets.Ldap;

/// <summary>
/// What changed in a directory, as its server tells it: by DirSync of domain controllers, else by content synchronisation (RFC 4533).
/// Both give a cookie to go on from, so that nothing between two looks is missed.
/// </summary>
internal sealed class ChangedEntries(TargetRule rule, TargetSettings.Ldap settings, LdapDialect dialect, LdapPool pool, GroupMembers groups)
{
    /// <summary>How much of an answer is taken at once.</summary>
    private const int MostBytes = 1_000_000;

    /// <summary>Only what the account that asks may see is told; no right to replicate is needed for that.</summary>
    private const int ByOwnRights = 1;

    /// <summary>What one look gathers.</summary>
    private sealed class Gathered
    {
        /// <summary>The ids of entries that changed, and are no known groups.</summary>
        public HashSet<string> Accounts { get; } = new(StringComparer.OrdinalIgnoreCase);

        /// <summary>The entitlements whose groups changed.</summary>
        public HashSet<string> Groups { get; } = new(StringComparer.Ordinal);

        /// <summary>What is there and did not change, where the server tells that in the place of what is gone.</summary>
        public HashSet<string> Unchanged { get; } = new(StringComparer.OrdinalIgnoreCase);

        /// <summary>Whether what is gone was named.</summary>
        public bool NamesDeleted { get; set; } = true;

        /// <summary>Where to go on from.</summary>
        public byte[] Cookie { get; set; } = [];
    }

    /// <summary>What changed since a cookie; with none only where to go on from is told.</summary>
    /// <exception cref="TargetFault">The server cannot tell.</exception>
    public async Task<TargetChanges> SinceAsync(string? since, CancellationToken cancel)
    {
        var connection = await pool.TakeAsync(cancel).ConfigureAwait(false);
        var root = await connection.ReadAsync("", ["namingContexts", "supportedControl"], cancel).ConfigureAwait(false);
        var isDomain = settings.Family == LdapFamily.DomainController;
        if (root?.Texts("supportedControl").Contains(ControlOf(settings)) != true)
            throw new TargetFault(WhyNot(rule, settings), transient: false);
        var all = root.Texts("namingContexts").Where(c => LdapDn.IsBelow(settings.Container, c)).MaxBy(c => c.Length) ?? settings.Container;
        var gathered = new Gathered();
        try
        {
            gathered.Cookie = since is null ? [] : Convert.FromBase64String(since);
            await (
                isDomain ? SyncDomainAsync(connection, all, since is null, gathered, cancel) : SyncAsync(connection, all, gathered, cancel)
            ).ConfigureAwait(false);
        }
        catch (Exception error) when (since is not null && IsOfCookie(error))
        {
            return new([], [], "") { IsLost = true };
        }
        var cookie = Convert.ToBase64String(gathered.Cookie);
        if (since is null || cookie == since)
            return new([], [], cookie);
        var holders = new List<ChangedHolders>();
        foreach (var entitlement in rule.Entitlements.Values.Where(e => gathered.Groups.Contains(e.Name)))
            holders.Add(await groups.HoldingAsync(entitlement, cancel).ConfigureAwait(false));
        gathered.Unchanged.UnionWith(gathered.Accounts);
        return new(gathered.Accounts, holders, cookie) { Present = gathered.NamesDeleted ? null : gathered.Unchanged };
    }

    /// <summary>Whether a position is the fault: the server was set back, or forgot it, or it is none.</summary>
    private static bool IsOfCookie(Exception error) =>
        error
            is FormatException
                or LdapResultException
                {
                    Code: LdapCode.SyncRefreshRequired
                        or LdapCode.UnwillingToPerform
                        or LdapCode.ProtocolError
                        or LdapCode.OperationsError
                        or LdapCode.InvalidAttributeSyntax
                        or LdapCode.UnavailableCriticalExtension
                };

    /// <summary>The control by which a server of that family tells what changed.</summary>
    public static string ControlOf(TargetSettings.Ldap settings) =>
        settings.Family == LdapFamily.DomainController ? LdapControls.DirSyncOid : LdapControls.SyncRequestOid;

    /// <summary>What is said where it does not.</summary>
    public static string WhyNot(TargetRule rule, TargetSettings.Ldap settings) =>
        $"{rule.Title} does not tell what changed ({ControlOf(settings)}): let its server do so, or take 'changes' out of its 'watch'.";

    private void Take(LdapEntry entry, string? id, Gathered gathered)
    {
        if (groups.Known.TryGetValue(LdapDn.Normalise(entry.Dn), out var entitlement))
            gathered.Groups.Add(entitlement);
        else if (id is not null)
            gathered.Accounts.Add(id);
    }

    /// <summary>Each changed entry with what changed of it, the deleted ones among them.</summary>
    private async Task SyncDomainAsync(LdapConnection connection, string all, bool isFirst, Gathered gathered, CancellationToken cancel)
    {
        // The first time nothing but the cookie is wanted.
        var filter = isFirst
            ? LdapFilter.Equal("objectClass", "organizationalUnit")
            : LdapFilter.Or(LdapFilter.Equal("objectClass", "user"), LdapFilter.Equal("objectClass", "group"));
        bool more;
        do
        {
            more = false;
            var search = new LdapSearch(all, LdapScope.Subtree, filter, isFirst ? [dialect.Id] : [])
            {
                Controls = [LdapControls.DirSync(ByOwnRights, MostBytes, gathered.Cookie)],
            };
            await foreach (var item in connection.StreamAsync(search, cancel).ConfigureAwait(false))
            {
                if (item is LdapSearchItem.Found { Entry: var entry } && !isFirst)
                    Take(entry, dialect.IdOf(entry), gathered);
                else if (item is LdapSearchItem.Done { Result: var result })
                {
                    if (result.Code != LdapCode.Success)
                        throw new LdapResultException(result);
                    if (result.Control(LdapControls.DirSyncOid) is { } state)
                        (more, gathered.Cookie) = LdapControls.DirSyncState(state);
                }
            }
        } while (more);
    }

    private async Task SyncAsync(LdapConnection connection, string all, Gathered gathered, CancellationToken cancel)
    {
        var search = new LdapSearch(
            all,
            LdapScope.Subtree,
            LdapFilter.Or(
                LdapFilter.Present(settings.NameAttribute),
                LdapFilter.Equal("objectClass", "groupOfNames"),
                LdapFilter.Equal("objectClass", "posixGroup")
            ),
            "1.1"
        )
        {
            Controls = [LdapControls.Sync(persist: false, gathered.Cookie.Length > 0 ? gathered.Cookie : null)],
        };
        gathered.NamesDeleted = false;
        await foreach (var item in connection.StreamAsync(search, cancel).ConfigureAwait(false))
            switch (item)
            {
                case LdapSearchItem.Found { Entry: var entry }
                    when entry.Controls.FirstOrDefault(c => c.Oid == LdapControls.SyncStateOid) is { } control:
                    var (change, uuid, _) = LdapControls.SyncState(control);
                    if (change == LdapSyncChange.Present)
                        gathered.Unchanged.Add(uuid.ToString());
                    else
                        Take(entry, uuid.ToString(), gathered);
                    break;
                case LdapSearchItem.Intermediate { Oid: LdapControls.SyncInfoOid, Value: { } value }:
                    var (entries, isDeleted) = LdapControls.SyncIds(value);
                    (isDeleted ? gathered.Accounts : gathered.Unchanged).UnionWith(entries.Select(e => e.ToString()));
                    break;
                case LdapSearchItem.Done { Result: var result }:
                    if (result.Code != LdapCode.Success)
                        throw new LdapResultException(result);
                    if (result.Control(LdapControls.SyncDoneOid) is { } done)
                    {
                        gathered.Cookie = LdapControls.SyncDone(done) ?? gathered.Cookie;
                        gathered.NamesDeleted = LdapControls.SyncNamesDeleted(done);
                    }
                    break;
                default:
                    break;
            }
    }
}
