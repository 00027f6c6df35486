using System.Net;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;

namespace Oikonom.Standins.Directory;

/// <summary>A private authority and a server certificate signed by it, for a server on loopback.</summary>
public sealed record Certificates(string AuthorityPem, string CertificatePem, string KeyPem)
{
    /// <param name="host">The DNS name in the certificate; the loopback address is added when it is localhost.</param>
    public static Certificates Make(string host = "localhost", DateTimeOffset? notAfter = null)
    {
        var now = DateTimeOffset.UtcNow;
        using var authorityKey = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var authorityRequest = new CertificateRequest("CN=Northmere test authority", authorityKey, HashAlgorithmName.SHA256);
        authorityRequest.CertificateExtensions.Add(new X509BasicConstraintsExtension(true, false, 0, true));
        authorityRequest.CertificateExtensions.Add(
            new X509KeyUsageExtension(X509KeyUsageFlags.KeyCertSign | X509KeyUsageFlags.CrlSign, true)
        );
        authorityRequest.CertificateExtensions.Add(new X509SubjectKeyIdentifierExtension(authorityRequest.PublicKey, false));
        using var authority = authorityRequest.CreateSelfSigned(now.AddDays(-2), now.AddYears(10));
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var request = new CertificateRequest($"CN={host}", key, HashAlgorithmName.SHA256);
        var names = new SubjectAlternativeNameBuilder();
        names.AddDnsName(host);
        if (host == "localhost")
            names.AddIpAddress(IPAddress.Loopback);
        request.CertificateExtensions.Add(names.Build());
        request.CertificateExtensions.Add(new X509BasicConstraintsExtension(false, false, 0, true));
        request.CertificateExtensions.Add(new X509EnhancedKeyUsageExtension([new Oid("1.3.6.1.5.5.7.3.1")], false));
        using var certificate = request.Create(authority, now.AddDays(-1), notAfter ?? now.AddYears(5), RandomNumberGenerator.GetBytes(12));
        return new(authority.ExportCertificatePem(), certificate.ExportCertificatePem(), key.ExportPkcs8PrivateKeyPem());
    }
}
