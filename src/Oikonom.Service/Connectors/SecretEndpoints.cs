using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Service.Access;
using Oikonom.Service.Common;

namespace Oikonom.Service.Connectors;

/// <summary>Secrets by name; what is set anew makes the connectors anew.</summary>
public static class SecretEndpoints
{
    public static void MapSecrets(this RouteGroupBuilder api)
    {
        api.MapGet(
                "/secrets",
                async (SecretBook secrets, CancellationToken cancel) =>
                    new Page<Secret>(
                        [
                            .. (await secrets.ListAsync(cancel)).Select(s => new Secret(
                                s.Row.Name,
                                s.Row.Actor,
                                s.Row.UpdatedAt.ToInstant(),
                                [.. s.Bound.Select(b => b.ToString())],
                                s.Row.ValidUntil.ToInstant() is { } until ? SecretBook.LastDay(until) : null
                            )),
                        ],
                        null
                    )
            )
            .WithName("listSecrets")
            .WithSummary("Names of the secrets, and where each goes; values are never shown.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);

        api.MapPut(
                "/secrets/{name}",
                async (
                    string name,
                    SecretBody body,
                    SecretBook secrets,
                    ConnectorBook connectors,
                    ClaimsPrincipal user,
                    CancellationToken cancel
                ) =>
                {
                    if (name.Length > 63 || !name.All(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c == '-'))
                        throw Problem.Invalid("The name of a secret has lower-case letters, digits and hyphens.", "name");
                    if (body.Value is not { Length: > 0 and <= 65536 })
                        throw Problem.Invalid("A secret has from 1 to 65536 characters.", "value");
                    var (bound, waiting) = await secrets.SetAsync(
                        name,
                        body.Value,
                        body.For ?? [],
                        body.ValidUntil,
                        user.UserName(),
                        cancel
                    );
                    await connectors.ResetAsync();
                    return new SecretSet(name, [.. bound.Select(b => b.ToString())], [.. waiting.Select(b => b.ToString())]);
                }
            )
            .WithName("setSecret")
            .WithSummary(
                "Sets a secret. It is stored encrypted and never shown again. It goes only to the addresses of the documents "
                    + "it is set for ('for'), or of those that used it already. With its last day "
                    + "('validUntil') its end is told in good time."
            )
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
    }
}
