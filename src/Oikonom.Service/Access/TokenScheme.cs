using System.Text.Encodings.Web;
using Microsoft.AspNetCore.Authentication;
using Microsoft.Extensions.Options;

namespace Oikonom.Service.Access;

/// <summary>Bearer tokens (RFC 6750) of the client and of programs.</summary>
public sealed class TokenScheme(
    IOptionsMonitor<AuthenticationSchemeOptions> options,
    ILoggerFactory logger,
    UrlEncoder encoder,
    Accounts accounts
) : AuthenticationHandler<AuthenticationSchemeOptions>(options, logger, encoder)
{
    public const string Name = "token";

    protected override async Task<AuthenticateResult> HandleAuthenticateAsync()
    {
        var header = Request.Headers.Authorization.ToString();
        if (!header.StartsWith("Bearer ", StringComparison.OrdinalIgnoreCase))
            return AuthenticateResult.NoResult();
        return await accounts.ByTokenAsync(header["Bearer ".Length..].Trim(), Context.RequestAborted) is { } found
            ? AuthenticateResult.Success(new(Accounts.Principal(found.User, Name, found.Token.Id, found.Token.Roles), Name))
            : AuthenticateResult.Fail("The token is unknown or over.");
    }

    protected override Task HandleChallengeAsync(AuthenticationProperties properties)
    {
        Response.StatusCode = 401;
        Response.Headers.WWWAuthenticate = "Bearer";
        return Task.CompletedTask;
    }
}
