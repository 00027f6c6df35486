using Microsoft.AspNetCore.DataProtection;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Ledger;
using Oikonom.Service.Hosting;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Access;

/// <summary>Secrets by name: encrypted at rest with the key ring, written once, never read back by a caller.</summary>
public sealed class SecretBook(Store.Store store, IDataProtectionProvider protection, TimeProvider time)
{
    private readonly IDataProtector _protector = protection.CreateProtector("oikonom.secrets.v1");

    public Task SetAsync(string name, string value, string actor, CancellationToken cancel) => store.WriteAsync(async s =>
    {
        await s.SaveSecretAsync(name, _protector.Protect(value), actor, time.Milliseconds());
        s.Record(LedgerEntry.Of(time.GetUtcNow(), actor, "secret.set", null, null, ("name", name)));
    }, cancel);

    /// <exception cref="TargetFault">It was never set, or the key ring cannot open it.</exception>
    public async Task<string> GetAsync(string name, CancellationToken cancel)
    {
        var sealed_ = await store.ReadAsync(s => s.SecretAsync(name), cancel)
            ?? throw new TargetFault($"The secret '{name}' is not set. Set it with 'oikonom secrets set {name}'.", transient: true);
        try
        {
            return _protector.Unprotect(sealed_);
        }
        catch (System.Security.Cryptography.CryptographicException error)
        {
            throw new TargetFault($"The secret '{name}' cannot be opened with this node's keys. Restore the keys, or set it again.", transient: true, inner: error);
        }
    }
}
