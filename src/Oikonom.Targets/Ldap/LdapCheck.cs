using System.Diagnostics;
using System.Globalization;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Rulebook;
using Oikonom.Ldap;

namespace Oikonom.Targets.Ldap;

/// <summary>
/// Looks whether a directory can be worked with, one thing after the other, and changes nothing: what is tried is tried with the
/// control that lets a server say what it would answer.
/// </summary>
internal sealed class LdapCheck(TargetRule rule, LdapDialect dialect, LdapPool pool)
{
    private readonly TargetSettings.Ldap _settings = (TargetSettings.Ldap)rule.Settings;
    private readonly List<TargetCheckpoint> _points = [];

    /// <summary>What was found, up to what is wrong with the way there; all that is wrong behind it.</summary>
    /// <param name="withRights">Whether it is asked what we may do, too.</param>
    public async Task<TargetHealth> RunAsync(bool withRights, CancellationToken cancel)
    {
        var watch = Stopwatch.StartNew();
        string? who = null;
        DateTimeOffset? until = null;
        try
        {
            var connection = await pool.TakeAsync(cancel).ConfigureAwait(false);
            until = connection.CertificateUntil;
            Good("Connection", $"{_settings.Address.Host}:{_settings.Port} is reached, and its certificate is trusted.");
            who = await WhoAsync(connection, cancel).ConfigureAwait(false);
            Good("Sign-in", $"as {who}.");
            var root = await connection
                .ReadAsync("", ["supportedCapabilities", "supportedControl", "namingContexts"], cancel)
                .ConfigureAwait(false);
            if (dialect.WhyNot(root) is { } why)
                Bad("Dialect", $"{why} ({rule.Place})");
            else if (dialect is PolicyDialect)
                await LocksAsync(connection, root, cancel).ConfigureAwait(false);
            await PlacesAsync(connection, cancel).ConfigureAwait(false);
            if (rule.Watch.Changes is not null)
                TellsChanges(root);
            if (_settings.Guards)
                await GuardAsync(connection, cancel).ConfigureAwait(false);
            if (dialect is DomainDialect)
                await DeletedAsync(connection, root, cancel).ConfigureAwait(false);
            if (withRights)
                await RightsAsync(connection, cancel).ConfigureAwait(false);
        }
        catch (TargetFault fault)
        {
            Bad(_points.Count == 0 ? "Connection" : "Sign-in", fault.Message);
        }
        catch (LdapConnectionException error)
        {
            Bad(_points.Count == 0 ? "Connection" : "Answers", error.Message);
        }
        catch (LdapResultException error)
        {
            Bad("Answers", $"it refuses: {error.Message}");
        }
        var bad = _points.Find(p => !p.Good);
        return new(
            bad is null,
            bad?.Text ?? $"Signed in; containers and {rule.Entitlements.Count} groups are there.",
            who,
            watch.ElapsedMilliseconds
        )
        {
            Checkpoints = _points,
            CertificateUntil = until,
        };
    }

    /// <summary>Who we are to the server (RFC 4532); the name we sign in by where it does not say.</summary>
    private async Task<string> WhoAsync(LdapConnection connection, CancellationToken cancel)
    {
        try
        {
            return await connection.WhoAmIAsync(cancel).ConfigureAwait(false);
        }
        catch (LdapResultException error) when (error.Code == LdapCode.ProtocolError)
        {
            return _settings.SignInName;
        }
    }

    private void Good(string what, string text) => _points.Add(new(what, true, text));

    private void Bad(string what, string text) => _points.Add(new(what, false, text));

    private async Task PlacesAsync(LdapConnection connection, CancellationToken cancel)
    {
        foreach (var (what, container) in new[] { ("Place of accounts", _settings.Container), ("Place of groups", _settings.Groups) })
            if (await connection.ReadAsync(container, ["1.1"], cancel).ConfigureAwait(false) is null)
                Bad(what, $"Signed in, but {container} does not exist or may not be read ({rule.Place}).");
            else
                Good(what, $"{container} is there.");
        var missing = 0;
        foreach (var entitlement in rule.Entitlements.Values)
        {
            var (group, form) = (((EntitlementMeans.Group)entitlement.Means).Dn, ((EntitlementMeans.Group)entitlement.Means).Form);
            if (
                await connection.ReadAsync(group, [form is null ? "1.1" : DomainDialect.GroupType], cancel).ConfigureAwait(false) is
                { } found
            )
            {
                Compare(entitlement, group, form, found);
                continue;
            }
            // What is made where it is missing may be missing.
            if (entitlement.IsMade)
                continue;
            if (++missing <= MostTold)
                Bad(
                    "Groups",
                    $"Signed in, but the group of '{entitlement.Name}', {group}, does not exist or may not be read ({entitlement.Place})."
                );
        }
        if (missing > MostTold)
            Bad("Groups", $"So it is with {missing - MostTold} more groups.");
        if (missing == 0 && rule.Entitlements.Count > 0)
            Good("Groups", $"all {rule.Entitlements.Count} of the rulebook are there.");
    }

    /// <summary>A group of another kind takes other members, or gives nothing: it is told before anybody is put into it.</summary>
    private void Compare(Entitlement entitlement, string group, GroupForm? form, LdapEntry found)
    {
        if (
            form is not null
            && int.TryParse(found.Text(DomainDialect.GroupType), CultureInfo.InvariantCulture, out var type)
            && GroupForm.Of(type) is var there
            && there != form
        )
            Bad("Groups", $"The group of '{entitlement.Name}', {group}, is a {there}; the rulebook says a {form} ({entitlement.Place}).");
    }

    /// <summary>How many groups that are missing are told one by one.</summary>
    private const int MostTold = 5;

    /// <summary>The control of password policies (draft-behera-ldap-password-policy, section 6.1).</summary>
    private const string PolicyControl = "1.3.6.1.4.1.42.2.27.8.5.1";

    /// <summary>Whether who is disabled is kept out: a server without a policy, or whose policy does not lock, lets them in.</summary>
    private async Task LocksAsync(LdapConnection connection, LdapEntry? root, CancellationToken cancel)
    {
        const string What = "Locks";
        if (root?.Texts("supportedControl").Contains(PolicyControl) != true)
        {
            Bad(What, "The server has no password policy: who is disabled could sign in all the same. Load its password policy.");
            return;
        }
        var policies = new List<LdapEntry>();
        foreach (var context in root.Texts("namingContexts").Where(c => LdapDn.IsBelow(_settings.Container, c)))
            policies.AddRange(
                await connection
                    .SearchAsync(new(context, LdapScope.Subtree, LdapFilter.Equal("objectClass", "pwdPolicy"), "pwdLockout"), cancel)
                    .ConfigureAwait(false)
            );
        if (policies.Count == 0)
            Good(What, "no password policy may be read; the first account that is disabled shows whether it holds.");
        else if (policies.Find(p => p.Text("pwdLockout") != "TRUE") is { } open)
            Bad(
                What,
                $"The password policy {open.Dn} does not lock: whoever it is for could sign in while disabled. Set pwdLockout to TRUE."
            );
        else
            Good(
                What,
                policies.Count == 1
                    ? $"{policies[0].Dn} keeps out who is disabled."
                    : $"all {policies.Count} policies keep out who is disabled."
            );
    }

    private void TellsChanges(LdapEntry? root)
    {
        const string What = "Changes";
        if (root?.Texts("supportedControl").Contains(ChangedEntries.ControlOf(_settings)) == true)
            Good(What, "the server tells what changed.");
        else
            Bad(What, $"{ChangedEntries.WhyNot(rule, _settings)} ({rule.Place})");
    }

    /// <summary>Who may delete whatever stands in a place deletes what is guarded, too.</summary>
    private async Task GuardAsync(LdapConnection connection, CancellationToken cancel)
    {
        const string What = "Guard";
        var place = _settings.Container;
        if (
            await DeletionGuard.ReadAsync(connection, place, cancel).ConfigureAwait(false) is { } list
            && DeletionGuard.Has(list, DeletionGuard.OfPlace)
        )
            Good(What, $"nobody deletes what stands in {place} by mistake.");
        else
            Bad(
                What,
                $"Who may delete whatever stands in {place} deletes guarded entries, too: deny everybody to delete what is in it "
                    + $"(delete child), or take 'guards' out ({rule.Place})."
            );
    }

    /// <summary>Whether what somebody deletes can be brought back: that is a right of its own, and nothing is wrong without it.</summary>
    private async Task DeletedAsync(LdapConnection connection, LdapEntry? root, CancellationToken cancel)
    {
        const string What = "Deleted accounts";
        foreach (var domain in root?.Texts("namingContexts").Where(c => LdapDn.IsBelow(_settings.Container, c)) ?? [])
            if (await new DeletedEntries(rule, dialect, pool).MaySeeAsync(connection, domain, cancel).ConfigureAwait(false))
                Good(What, "are seen, and brought back as themselves.");
            else
                Good(
                    What,
                    $"may not be seen: who is deleted is made anew, as another one to whatever knew them. Let {_settings.SignInName} list "
                        + $"CN=Deleted Objects,{domain} and reanimate what is in it."
                );
    }

    /// <summary>What it may do, as far as the server lets itself be asked without anything being done.</summary>
    private async Task RightsAsync(LdapConnection connection, CancellationToken cancel)
    {
        if (dialect is DomainDialect)
        {
            Good("Rights", "a domain controller cannot be asked without doing it; the first account shows.");
            return;
        }
        // Adding is not tried: there are servers that mix up entries after an add that was not to be done.
        var some = await SomebodyAsync(connection, cancel).ConfigureAwait(false);
        if (some is null)
            return;
        await TryAsync("May disable accounts", control => connection.ModifyAsync(some.Dn, [.. dialect.Lock(some)], control, cancel))
            .ConfigureAwait(false);
        await TryAsync(
                "May set passwords",
                control =>
                    connection.ModifyAsync(some.Dn, [new(LdapChangeKind.Replace, dialect.Password, LdapDialect.Unknown())], control, cancel)
            )
            .ConfigureAwait(false);
        if (rule.Entitlements.Values.FirstOrDefault() is { Means: EntitlementMeans.Group group })
            await TryAsync(
                    "May change members",
                    control => connection.ModifyAsync(group.Dn, [new(LdapChangeKind.Add, dialect.Member, some.Dn)], control, cancel)
                )
                .ConfigureAwait(false);
    }

    private async Task<LdapEntry?> SomebodyAsync(LdapConnection connection, CancellationToken cancel)
    {
        var search = new LdapSearch(_settings.Container, LdapScope.Subtree, LdapFilter.Present(_settings.NameAttribute), dialect.LockedBy);
        await foreach (var entry in connection.PageAsync(search, 1, cancel).ConfigureAwait(false))
            return entry;
        return null;
    }

    /// <returns>False when the server cannot be asked in this way.</returns>
    private async Task<bool> TryAsync(string what, Func<IReadOnlyList<LdapControl>, Task<LdapResult>> attempt)
    {
        try
        {
            await attempt([LdapControls.NoOperation]).ConfigureAwait(false);
        }
        catch (LdapResultException error)
            when (error.Code is LdapCode.NoOperation or LdapCode.AttributeOrValueExists or LdapCode.EntryAlreadyExists)
        {
            // It would have done it.
        }
        catch (LdapResultException error) when (error.Code is LdapCode.UnavailableCriticalExtension)
        {
            Good("Rights", "this server cannot be asked without doing it; the first account shows.");
            return false;
        }
        catch (LdapResultException error)
        {
            Bad(what, $"{what.ToLowerInvariant().Replace("may ", "it may not ", StringComparison.Ordinal)}: {error.Message}");
            return true;
        }
        Good(what, "yes.");
        return true;
    }
}
