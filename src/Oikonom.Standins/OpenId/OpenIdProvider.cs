using System.Security.Claims;
using OpenIddict.Abstractions;
using static OpenIddict.Abstractions.OpenIddictConstants;
using static OpenIddict.Server.OpenIddictServerEvents;

namespace Oikonom.Standins.OpenId;

/// <summary>Somebody the provider knows.</summary>
public sealed record OpenIdUser(string Name, string Display, string Mail, string Number, IReadOnlyList<string> Groups)
{
    /// <summary>Who it is for good, also under another name.</summary>
    public string Subject { get; init; } = Name;
}

/// <summary>
/// An OpenID provider on loopback: discovery, authorization code flow with PKCE, signed tokens. Whoever is set as
/// <see cref="Current"/> is signed in there; nothing is stored.
/// </summary>
public sealed class OpenIdProvider : IAsyncDisposable
{
    public const string Client = "oikonom";
    public const string Secret = "openid-demo-secret";
    private readonly WebApplication _app;

    private OpenIdProvider(WebApplication app) => _app = app;

    /// <summary>Who signs in when asked; null refuses.</summary>
    public OpenIdUser? Current { get; set; }

    /// <summary>Answers another question than was asked, when it is set: a nonce that is not that of the request.</summary>
    public string? Nonce { get; set; }

    public static async Task<OpenIdProvider> StartAsync(int port)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.UseSetting("urls", $"http://127.0.0.1:{port}");
        OpenIdProvider? provider = null;
        builder
            .Services.AddOpenIddict()
            .AddServer(server =>
            {
                server.SetIssuer($"http://127.0.0.1:{port}/").SetAuthorizationEndpointUris("authorize").SetTokenEndpointUris("token");
                server.AllowAuthorizationCodeFlow().RequireProofKeyForCodeExchange();
                server.RegisterScopes(Scopes.Profile, Scopes.Email, "groups");
                server.EnableDegradedMode();
                server.AddEphemeralEncryptionKey().AddEphemeralSigningKey();
                server.UseAspNetCore().DisableTransportSecurityRequirement();
                server.AddEventHandler<ValidateAuthorizationRequestContext>(handler =>
                    handler.UseInlineHandler(context =>
                    {
                        if (context.ClientId != Client)
                            context.Reject(Errors.InvalidClient, "The client is not known.");
                        return default;
                    })
                );
                server.AddEventHandler<ValidateTokenRequestContext>(handler =>
                    handler.UseInlineHandler(context =>
                    {
                        if (context.ClientId != Client || context.ClientSecret != Secret)
                            context.Reject(Errors.InvalidClient, "The client is not known.");
                        return default;
                    })
                );
                server.AddEventHandler<HandleAuthorizationRequestContext>(handler =>
                    handler.UseInlineHandler(context =>
                    {
                        if (provider?.Current is not { } user)
                        {
                            context.Reject(Errors.AccessDenied, "Nobody is signed in at the provider.");
                            return default;
                        }
                        if (provider.Nonce is { } nonce)
                            context.Request.Nonce = nonce;
                        context.SignIn(Principal(user, context.Request.GetScopes()));
                        return default;
                    })
                );
            });
        var app = builder.Build();
        provider = new(app);
        await app.StartAsync();
        return provider;
    }

    private static ClaimsPrincipal Principal(OpenIdUser user, IEnumerable<string> scopes)
    {
        var identity = new ClaimsIdentity("stand-in", Claims.Name, Claims.Role);
        identity.AddClaim(new(Claims.Subject, user.Subject));
        identity.AddClaim(new(Claims.PreferredUsername, user.Name));
        identity.AddClaim(new(Claims.Name, user.Display));
        identity.AddClaim(new(Claims.Email, user.Mail));
        identity.AddClaim(new("employee_number", user.Number));
        foreach (var group in user.Groups)
            identity.AddClaim(new("groups", group));
        identity.SetScopes(scopes);
        identity.SetDestinations(_ => [Destinations.IdentityToken]);
        return new(identity);
    }

    public ValueTask DisposeAsync() => _app.DisposeAsync();
}
