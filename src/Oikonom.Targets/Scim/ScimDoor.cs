using System.Net;
using System.Net.Security;
using System.Security.Cryptography.X509Certificates;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Rulebook;
using Oikonom.Scim;

namespace Oikonom.Targets.Scim;

/// <summary>What the connector needs to be let in.</summary>
/// <param name="Token">The bearer token (RFC 6750).</param>
/// <param name="Authorities">Certificates of who vouches for the application; none for those of the machine.</param>
public sealed record ScimSignIn(string Token, X509Certificate2Collection Authorities);

/// <summary>
/// The way into an application: its connections, its token, and what is known of its server. A token that is not taken any more is
/// read anew once, so that another one that was set meanwhile is used without a gap.
/// </summary>
internal sealed class ScimDoor(TargetRule rule, Func<CancellationToken, Task<ScimSignIn>> signIn) : IDisposable
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(30);

    private sealed record Way(ScimSignIn SignIn, HttpClient Http, ScimClient Client);

    private readonly SemaphoreSlim _gate = new(1);
    private Way? _way;
    private ScimProvider? _provider;

    /// <summary>True once the server, whatever it says of itself, refused a PATCH as something it cannot do.</summary>
    public bool CannotPatch { get; set; }

    /// <summary>Until when the certificate that was shown last holds; null before.</summary>
    public DateTimeOffset? CertificateUntil { get; private set; }

    /// <summary>True once a filter did not find who was there: then everybody is looked through.</summary>
    public bool FiltersMiss { get; set; }

    /// <summary>Whether the server keeps what identifies users to us; null while that is not known.</summary>
    public bool? LosesExternalIds { get; set; }

    /// <summary>Makes ready what is needed to ask; nothing is sent. What was learnt of the server is learnt anew, since it may be
    /// another by now.</summary>
    /// <exception cref="TargetFault">A secret is not set, or is no certificate.</exception>
    public Task SignInAsync(CancellationToken cancel)
    {
        (_provider, CannotPatch, FiltersMiss, LosesExternalIds) = (null, false, false, null);
        return WayAsync(null, cancel);
    }

    /// <summary>Asks the application, and tells what went wrong in the words of a target.</summary>
    /// <exception cref="TargetFault">It is not there or refuses.</exception>
    public async Task<T> AskAsync<T>(Func<ScimClient, ScimProvider, Task<T>> ask, CancellationToken cancel)
    {
        var way = await WayAsync(null, cancel).ConfigureAwait(false);
        try
        {
            return await AskAsync(way, ask, cancel).ConfigureAwait(false);
        }
        catch (ScimRefusal refusal) when (refusal.Kind == ScimRefusalKind.Token)
        {
            var fresh = await WayAsync(way, cancel).ConfigureAwait(false);
            if (ReferenceEquals(fresh, way))
                throw Fault(refusal);
            try
            {
                return await AskAsync(fresh, ask, cancel).ConfigureAwait(false);
            }
            catch (ScimRefusal again)
            {
                throw Fault(again);
            }
        }
        catch (ScimRefusal refusal)
        {
            throw Fault(refusal);
        }
        catch (ScimFault fault)
        {
            throw new TargetFault($"{rule.Title}: {fault.Message}", transient: false, inner: fault);
        }
    }

    private async Task<T> AskAsync<T>(Way way, Func<ScimClient, ScimProvider, Task<T>> ask, CancellationToken cancel)
    {
        var provider = _provider ??= await way.Client.ProviderAsync(cancel).ConfigureAwait(false);
        return await ask(way.Client, FiltersMiss ? provider with { Filters = false } : provider).ConfigureAwait(false);
    }

    private TargetFault Fault(ScimRefusal refusal) =>
        new(
            refusal.Kind == ScimRefusalKind.Token
                ? $"{refusal.Message} Set the right one with 'oikonom secrets set {rule.Settings.SignsIn!.Value.Secret}'."
                : refusal.Message,
            transient: refusal.Kind
                is ScimRefusalKind.Unreachable
                    or ScimRefusalKind.Token
                    or ScimRefusalKind.Busy
                    or ScimRefusalKind.Changed,
            inner: refusal
        )
        {
            After = refusal.After,
        };

    /// <param name="refused">The way that was not let in: another one is made when its token is another by now.</param>
    private async Task<Way> WayAsync(Way? refused, CancellationToken cancel)
    {
        if (_way is { } known && !ReferenceEquals(known, refused))
            return known;
        await _gate.WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            if (_way is { } other && !ReferenceEquals(other, refused))
                return other;
            var wanted = await signIn(cancel).ConfigureAwait(false);
            if (refused is not null && wanted.Token == refused.SignIn.Token)
                return refused;
            // The old way is left to those who are still on it. What the server can is asked anew: it belongs to the way.
            _provider = null;
            return _way = Open(wanted);
        }
        finally
        {
            _gate.Release();
        }
    }

    private Way Open(ScimSignIn wanted)
    {
        var handler = new SocketsHttpHandler
        {
            AllowAutoRedirect = false,
            AutomaticDecompression = DecompressionMethods.All,
            ConnectTimeout = TimeSpan.FromSeconds(10),
            MaxConnectionsPerServer = rule.Settings.Parallel,
            PooledConnectionLifetime = TimeSpan.FromMinutes(5),
        };
        handler.SslOptions = new SslClientAuthenticationOptions
        {
            CertificateChainPolicy =
                wanted.Authorities.Count == 0
                    ? null
                    : new() { TrustMode = X509ChainTrustMode.CustomRootTrust, RevocationMode = X509RevocationMode.NoCheck },
            RemoteCertificateValidationCallback = (_, certificate, _, errors) =>
            {
                if (certificate is X509Certificate2 shown)
                    CertificateUntil = shown.NotAfter.ToUniversalTime();
                return errors == SslPolicyErrors.None;
            },
        };
        handler.SslOptions.CertificateChainPolicy?.CustomTrustStore.AddRange(wanted.Authorities);
        var http = new HttpClient(handler) { BaseAddress = ((TargetSettings.Scim)rule.Settings).Address, Timeout = Patience };
        http.DefaultRequestHeaders.Authorization = new("Bearer", wanted.Token);
        return new(wanted, http, new(http, rule.Title));
    }

    /// <summary>Ends all connections.</summary>
    public void Dispose()
    {
        _way?.Http.Dispose();
        _gate.Dispose();
    }
}
