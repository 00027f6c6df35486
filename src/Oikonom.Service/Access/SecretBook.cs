using System.Text.Json;
using Microsoft.AspNetCore.DataProtection;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Ledger;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Access;

/// <summary>Where a secret goes: the document of the rulebook that names it, and the address it is shown to.</summary>
public sealed record SecretUse(string Document, string Address)
{
    /// <summary>Null when the target signs in nowhere.</summary>
    public static SecretUse? Of(TargetRule target) =>
        target.Settings.SignsIn is { } at ? new($"targets/{target.Name}", $"{at.Host}:{at.Port}") : null;

    public static SecretUse Of(SourceRule source) =>
        new($"sources/{source.Name}", $"{source.Http!.Address.Scheme}://{source.Http.Address.Authority}");

    public override string ToString() => $"{Address} ({Document})";
}

/// <summary>
/// Secrets by name: encrypted at rest with the key ring, written once, never read back by a caller. A secret goes only
/// where it was set to go: to the addresses of the documents that named it when it was set, or used it first. Another
/// address, or another document, gets it only when whoever knows the secret sets it again for that.
/// </summary>
public sealed class SecretBook(Store.Store store, EditionBook editions, IDataProtectionProvider protection, TimeProvider time)
{
    private readonly IDataProtector _protector = protection.CreateProtector("oikonom.secrets.v1");

    /// <param name="documents">The documents it is set for, such as targets/directory; none leaves it where it goes now.</param>
    /// <param name="last">Its last day (UTC), where its maker says one; null otherwise.</param>
    /// <returns>Where it goes now, and where the rulebook would send it beside that.</returns>
    public async Task<(IReadOnlyList<SecretUse> Bound, IReadOnlyList<SecretUse> Waiting)> SetAsync(
        string name,
        string value,
        IReadOnlyList<string> documents,
        DateOnly? last,
        string actor,
        CancellationToken cancel
    )
    {
        if (last < DateOnly.FromDateTime(time.GetUtcNow().UtcDateTime))
            throw Problem.Invalid($"Its last day, {last:yyyy-MM-dd}, is over.", "validUntil");
        var uses = Uses((await editions.CurrentOrNullAsync(cancel))?.Rulebook, name);
        if (documents.FirstOrDefault(d => !uses.Any(u => u.Document == d)) is { } unknown)
            throw Problem.Invalid(
                $"'{unknown}' does not use the secret '{name}' in the published "
                    + $"rulebook{(uses.Count == 0 ? "" : $"; {string.Join(", ", uses.Select(u => u.Document))} does")}.",
                "for"
            );
        return await store.WriteAsync(
            async s =>
            {
                var before = await s.SecretRowAsync(name);
                var known = Read(before?.Bound ?? "");
                // Set for the first time, it goes where the rulebook sends it; later only where it went, and where it is set for.
                IReadOnlyList<SecretUse> bound =
                    documents.Count > 0
                        ? [.. known.Where(k => !documents.Contains(k.Document)), .. uses.Where(u => documents.Contains(u.Document))]
                    : before is null || known.Count == 0 ? uses
                    : known;
                await s.SaveSecretAsync(
                    new()
                    {
                        Name = name,
                        Sealed = _protector.Protect(value),
                        Actor = actor,
                        UpdatedAt = time.Milliseconds(),
                        Bound = Write(bound),
                        ValidUntil = last is { } day
                            ? new DateTimeOffset(day.AddDays(1).ToDateTime(TimeOnly.MinValue), TimeSpan.Zero).ToUnixTimeMilliseconds()
                            : null,
                    }
                );
                s.Record(
                    LedgerEntry.Of(
                        time.GetUtcNow(),
                        actor,
                        "secret.set",
                        null,
                        null,
                        ("secret", name),
                        ("to", bound.Select(b => b.ToString()).ToList()),
                        ("until", last?.ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture))
                    )
                );
                return (bound, (IReadOnlyList<SecretUse>)[.. uses.Where(u => !bound.Contains(u))]);
            },
            cancel
        );
    }

    /// <summary>The last day (UTC) on which what ends at an instant can be used.</summary>
    public static DateOnly LastDay(DateTimeOffset until) => DateOnly.FromDateTime(until.UtcDateTime.AddTicks(-1));

    /// <summary>Binds secrets that were never used to where an edition that was just published sends them.</summary>
    public Task BindAsync(Core.Rulebook.Rulebook rulebook, string actor, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                foreach (var row in (await s.SecretRowsAsync()).Where(r => r.Bound.Length == 0))
                {
                    if (Uses(rulebook, row.Name) is { Count: > 0 } uses && await s.BindSecretAsync(row.Name, Write(uses), ""))
                        s.Record(
                            LedgerEntry.Of(
                                time.GetUtcNow(),
                                actor,
                                "secret.bound",
                                null,
                                null,
                                ("secret", row.Name),
                                ("to", uses.Select(u => u.ToString()).ToList())
                            )
                        );
                }
            },
            cancel
        );

    public async Task<IReadOnlyList<(SecretRow Row, IReadOnlyList<SecretUse> Bound)>> ListAsync(CancellationToken cancel) =>
        [.. (await store.ReadAsync(s => s.SecretRowsAsync(), cancel)).Select(r => (r, Read(r.Bound)))];

    /// <summary>What is shown to nobody, such as a certificate that is compared with.</summary>
    /// <exception cref="TargetFault">It was never set, or the key ring cannot open it.</exception>
    public async Task<string> GetAsync(string name, CancellationToken cancel) => Open(await RowAsync(name, cancel));

    /// <summary>A credential, to be shown to one address.</summary>
    /// <param name="isDraft">True when a draft asks: then it goes nowhere it did not go before.</param>
    /// <exception cref="TargetFault">It was never set, was set for another address, or cannot be opened.</exception>
    public async Task<string> GetForAsync(string name, SecretUse use, bool isDraft, CancellationToken cancel)
    {
        var row = await RowAsync(name, cancel);
        var bound = Read(row.Bound);
        if (bound.Contains(use))
            return Open(row);
        if (bound.Count > 0)
            throw new TargetFault(
                $"The secret '{name}' was set for {string.Join(", ", bound)}, and {use.Document} would send it to "
                    + $"{use.Address}. Whoever knows it sets it again: 'oikonom secrets set {name} --for {use.Document}'.",
                transient: true
            );
        if (isDraft)
            throw new TargetFault(
                $"The secret '{name}' was not set for {use}. A draft sends it nowhere new: publish first.",
                transient: true
            );
        await store.WriteAsync(
            async s =>
            {
                if (await s.BindSecretAsync(name, Write([use]), row.Bound))
                    s.Record(
                        LedgerEntry.Of(
                            time.GetUtcNow(),
                            "oikonom",
                            "secret.bound",
                            null,
                            null,
                            ("secret", name),
                            ("document", use.Document),
                            ("address", use.Address)
                        )
                    );
            },
            cancel
        );
        return await GetForAsync(name, use, true, cancel);
    }

    private async Task<SecretRow> RowAsync(string name, CancellationToken cancel) =>
        await store.ReadAsync(s => s.SecretRowAsync(name), cancel)
        ?? throw new TargetFault($"The secret '{name}' is not set. Set it with 'oikonom secrets set {name}'.", transient: true);

    private string Open(SecretRow row)
    {
        try
        {
            return _protector.Unprotect(row.Sealed);
        }
        catch (System.Security.Cryptography.CryptographicException error)
        {
            throw new TargetFault(
                $"The secret '{row.Name}' cannot be opened with this node's keys. Restore the keys, or set it again.",
                transient: true,
                inner: error
            );
        }
    }

    /// <summary>Where a rulebook would send a secret.</summary>
    private static IReadOnlyList<SecretUse> Uses(Core.Rulebook.Rulebook? rulebook, string name) =>
        rulebook is null
            ? []
            :
            [
                .. rulebook.Targets.Values.Where(t => t.Settings.SignsIn?.Secret == name).Select(SecretUse.Of).OfType<SecretUse>(),
                .. rulebook.Sources.Values.Where(s => s.Http?.Secret == name).Select(SecretUse.Of),
            ];

    private static IReadOnlyList<SecretUse> Read(string bound) =>
        bound.Length == 0 ? [] : JsonSerializer.Deserialize<List<SecretUse>>(bound) ?? [];

    private static string Write(IReadOnlyList<SecretUse> bound) => bound.Count == 0 ? "" : JsonSerializer.Serialize(bound);
}
