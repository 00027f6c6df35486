using System.Net.Security;
using System.Security.Authentication;
using System.Security.Cryptography.X509Certificates;

namespace Oikonom.Ldap;

/// <summary>Protects the line and judges the server's certificate, with a reason that tells one fault from another.</summary>
internal static class Tls
{
    /// <summary>Makes a stream secure, trusting nothing but the authorities of the options; throws when the server is another.</summary>
    public static async Task<Stream> SecureAsync(Stream stream, LdapOptions options, CancellationToken cancel)
    {
        LdapConnectionException? refusal = null;
        var secure = new SslStream(stream, leaveInnerStreamOpen: false);
        var tls = new SslClientAuthenticationOptions
        {
            TargetHost = options.Host,
            EnabledSslProtocols = SslProtocols.Tls12 | SslProtocols.Tls13,
            RemoteCertificateValidationCallback = (_, certificate, chain, errors) =>
                (refusal = Judge(options, certificate, chain, errors)) is null,
        };
        if (options.Authorities.Count > 0)
        {
            tls.CertificateChainPolicy = new()
            {
                TrustMode = X509ChainTrustMode.CustomRootTrust,
                RevocationMode = X509RevocationMode.NoCheck,
                DisableCertificateDownloads = true,
            };
            tls.CertificateChainPolicy.CustomTrustStore.AddRange(options.Authorities);
        }
        try
        {
            await secure.AuthenticateAsClientAsync(tls, cancel).ConfigureAwait(false);
        }
        catch (AuthenticationException) when (refusal is not null)
        {
            throw refusal;
        }
        return secure;
    }

    private static LdapConnectionException? Judge(
        LdapOptions options,
        X509Certificate? certificate,
        X509Chain? chain,
        SslPolicyErrors errors
    )
    {
        if (errors == SslPolicyErrors.None)
            return null;
        if (certificate is null)
            return new(LdapFailure.CertificateUntrusted, "The server shows no certificate.");
        if (errors.HasFlag(SslPolicyErrors.RemoteCertificateChainErrors))
        {
            var why = string.Join(
                "; ",
                chain?.ChainStatus.Select(s => s.StatusInformation.Trim()).Where(s => s.Length > 0).Distinct() ?? []
            );
            return new(
                LdapFailure.CertificateUntrusted,
                $"The certificate of {options.Host}:{options.Port} is not trusted: {why}. It is for {certificate.Subject}, "
                    + $"signed by {certificate.Issuer}."
            );
        }
        return new(LdapFailure.WrongHost, $"The certificate of {options.Host}:{options.Port} is for another host: {certificate.Subject}.");
    }
}
