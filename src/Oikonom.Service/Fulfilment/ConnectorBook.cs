using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Rulebook;
using Oikonom.Ldap;
using Oikonom.Service.Access;
using Oikonom.Targets.Ldap;

namespace Oikonom.Service.Fulfilment;

/// <summary>One connector per target as an edition describes it. Reset when a secret or the rulebook changes.</summary>
public sealed class ConnectorBook(SecretBook secrets) : IAsyncDisposable
{
    private readonly ConcurrentDictionary<(int Edition, string Target), IConnector> _connectors = new();

    public IConnector For(Edition edition, string target) => _connectors.GetOrAdd((edition.Number, target), key =>
        new LdapConnector(edition.Rulebook.Targets[key.Target], cancel => SignInAsync(edition.Rulebook.Targets[key.Target], cancel)));

    private async Task<LdapSignIn> SignInAsync(TargetRule target, CancellationToken cancel)
    {
        var authorities = new X509Certificate2Collection();
        try
        {
            authorities.ImportFromPem(await secrets.GetAsync(target.Authority, cancel));
        }
        catch (CryptographicException error)
        {
            throw new TargetFault($"The authority '{target.Authority}' is no certificate in PEM form. Set it again with 'oikonom secrets set {target.Authority}'.", transient: true, inner: error);
        }
        if (authorities.Count == 0) throw new TargetFault($"The authority '{target.Authority}' holds no certificate in PEM form. Set it again with 'oikonom secrets set {target.Authority}'.", transient: true);
        var options = new LdapOptions
        {
            Host = target.Address.Host,
            Port = SecretUse.PortOf(target),
            Security = target.StartTls ? LdapSecurity.StartTls : LdapSecurity.Tls,
            Authorities = authorities,
        };
        return new(options, target.SignInName, await secrets.GetForAsync(target.Secret, SecretUse.Of(target), false, cancel));
    }

    public async Task ResetAsync()
    {
        foreach (var key in _connectors.Keys)
            if (_connectors.TryRemove(key, out var connector)) await connector.DisposeAsync();
    }

    public async ValueTask DisposeAsync() => await ResetAsync();
}
