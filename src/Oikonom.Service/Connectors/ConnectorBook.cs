using System.Collections.Concurrent;
using System.Diagnostics;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Rulebook;
using Oikonom.Ldap;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Desk;
using Oikonom.Targets.Files;
using Oikonom.Targets.Ldap;
using Oikonom.Targets.Scim;

namespace Oikonom.Service.Connectors;

/// <summary>One connector per target as an edition describes it, made by its kind. Reset when a secret or the rulebook changes.</summary>
public sealed class ConnectorBook(Store.Store store, SecretBook secrets, ServiceOptions options, TimeProvider time) : IAsyncDisposable
{
    private readonly ConcurrentDictionary<(int Edition, int ReachedBy, string Target), IConnector> _connectors = new();

    public IConnector For(Edition edition, string target) =>
        _connectors.GetOrAdd(
            (edition.Number, edition.ReachedBy, target),
            key => Make(edition.Rulebook, edition.Rulebook.Targets[key.Target])
        );

    /// <summary>The connector of a target in which people have accounts.</summary>
    /// <exception cref="TargetFault">They have none in it.</exception>
    public IAccountConnector Accounts(Edition edition, string target) =>
        For(edition, target) as IAccountConnector
        ?? throw new TargetFault($"{edition.Rulebook.Targets[target].Title} holds no accounts.", transient: false);

    /// <summary>A connector of a target as a draft describes it, for one look; whoever asks disposes of it.</summary>
    public IConnector MakeOnce(Core.Rulebook.Rulebook draft, TargetRule target) => Make(draft, target);

    private IConnector Make(Core.Rulebook.Rulebook rulebook, TargetRule target) =>
        target.Settings switch
        {
            TargetSettings.Ldap ldap => new LdapConnector(target, cancel => SignInAsync(target, ldap, cancel)),
            TargetSettings.Scim scim => new ScimConnector(target, cancel => SignInAsync(target, scim, cancel)),
            TargetSettings.File => new FileConnector(target, options.Files, time),
            TargetSettings.Desk => new DeskConnector(target, rulebook, store, time),
            _ => throw new UnreachableException($"No connector is made for targets of the kind '{target.Settings.Kind}'."),
        };

    private async Task<LdapSignIn> SignInAsync(TargetRule target, TargetSettings.Ldap ldap, CancellationToken cancel)
    {
        var options = new LdapOptions
        {
            Host = ldap.Address.Host,
            Port = ldap.Port,
            Security = ldap.StartTls ? LdapSecurity.StartTls : LdapSecurity.Tls,
            Authorities = await AuthorityAsync(ldap.Authority, cancel),
        };
        return new(options, ldap.SignInName, await secrets.GetForAsync(ldap.Secret, SecretUse.Of(target)!, false, cancel));
    }

    private async Task<ScimSignIn> SignInAsync(TargetRule target, TargetSettings.Scim scim, CancellationToken cancel) =>
        new(
            await secrets.GetForAsync(scim.Secret, SecretUse.Of(target)!, false, cancel),
            scim.Authority.Length > 0 ? await AuthorityAsync(scim.Authority, cancel) : []
        );

    private async Task<X509Certificate2Collection> AuthorityAsync(string name, CancellationToken cancel)
    {
        var authorities = new X509Certificate2Collection();
        try
        {
            authorities.ImportFromPem(await secrets.GetAsync(name, cancel));
        }
        catch (CryptographicException error)
        {
            throw Unusable("is no certificate", error);
        }
        return authorities.Count > 0 ? authorities : throw Unusable("holds no certificate", null);

        TargetFault Unusable(string what, Exception? error) =>
            new(
                $"The authority '{name}' {what} in PEM form. Set it again with 'oikonom secrets set {name}'.",
                transient: true,
                inner: error
            );
    }

    public async Task ResetAsync()
    {
        foreach (var key in _connectors.Keys)
            if (_connectors.TryRemove(key, out var connector))
                await connector.DisposeAsync();
    }

    public async ValueTask DisposeAsync() => await ResetAsync();
}
