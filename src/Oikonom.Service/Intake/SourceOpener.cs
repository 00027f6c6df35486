using Oikonom.Core.Fulfilment;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Sources;
using Oikonom.Sources.Files;
using Oikonom.Sources.Http;

namespace Oikonom.Service.Intake;

/// <summary>Opens what a source delivers, whatever its kind.</summary>
public sealed class SourceOpener(Store.Store store, SecretBook secrets, ServiceOptions options, TimeProvider time)
{
    /// <param name="since">How far changes were read before, or "" for everything.</param>
    /// <exception cref="SourceFault">The source cannot be read.</exception>
    public async Task<IReadOnlyList<Delivery>> OpenAsync(SourceRule source, string since, CancellationToken cancel)
    {
        switch (source.Kind)
        {
            case SourceKind.File:
                return await FileSource.OpenAsync(options.Sources, source, since, time, cancel);
            case SourceKind.Http:
                using (var http = await HttpAsync(source, cancel))
                    return [await http.ReadAsync(source.Http!.Since.Length > 0 ? since : "", cancel)];
            case SourceKind.Scim:
                return [await KeptRecords.KeptAsync(store, source, cancel)];
            default:
                throw Problem.Conflict("pushes", $"'{source.Name}' is pushed to Oikonom; there is nothing to fetch.");
        }
    }

    /// <summary>The first records, for a test or a preview.</summary>
    /// <param name="isDraft">True when the rule is that of a draft: its secret goes nowhere new.</param>
    public async Task<IReadOnlyList<Delivery>> FirstAsync(SourceRule source, int count, bool isDraft, CancellationToken cancel)
    {
        if (source.Kind != SourceKind.Http)
            return [.. (await OpenAsync(source, "", cancel)).TakeLast(1)];
        using var http = await HttpAsync(source, cancel, isDraft);
        return [await http.FirstAsync(count, cancel)];
    }

    public async Task<HttpSource> HttpAsync(SourceRule source, CancellationToken cancel, bool isDraft = false)
    {
        try
        {
            var secret = await secrets.GetForAsync(source.Http!.Secret, SecretUse.Of(source), isDraft, cancel);
            var authority = source.Http.Authority.Length > 0 ? await secrets.GetAsync(source.Http.Authority, cancel) : "";
            return new(source, secret, authority, time);
        }
        catch (TargetFault fault)
        {
            throw new SourceFault(fault.Message);
        }
        catch (System.Security.Cryptography.CryptographicException)
        {
            throw new SourceFault($"The secret '{source.Http!.Authority}' is no certificate in PEM form.");
        }
    }
}
