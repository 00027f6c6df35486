using System.Security.Claims;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Authentication.Cookies;
using Microsoft.AspNetCore.Authentication.OpenIdConnect;
using Microsoft.IdentityModel.Protocols.OpenIdConnect;
using Oikonom.Core.Ledger;
using Oikonom.Service.Hosting;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Access;

/// <summary>
/// Sign-in by an OpenID provider (OpenID Connect Core 1.0, authorization code flow with PKCE, RFC 7636). Its groups
/// give the roles, anew with each sign-in; a name that an own account has is never taken over.
/// </summary>
public static class OpenIdSignIn
{
    public const string Scheme = "openid";

    public static void Add(IServiceCollection services, ServiceOptions options)
    {
        var authority = new Uri(options.OpenIdAuthority);
        if (authority.Scheme != "https" && !(authority.Scheme == "http" && authority.IsLoopback)) throw new ArgumentException("--openid-authority takes an https:// address, or http:// on this machine.");
        services.AddAuthentication().AddOpenIdConnect(Scheme, open =>
        {
            (open.Authority, open.ClientId, open.ClientSecret) = (options.OpenIdAuthority, options.OpenIdClient, options.OpenIdSecret);
            open.RequireHttpsMetadata = authority.Scheme == "https";
            open.ResponseType = OpenIdConnectResponseType.Code;
            open.ResponseMode = OpenIdConnectResponseMode.Query;
            open.CallbackPath = "/api/v1/sign-in/openid/callback";
            open.SignInScheme = CookieAuthenticationDefaults.AuthenticationScheme;
            open.MapInboundClaims = false;
            open.UsePkce = true;
            open.SaveTokens = false;
            open.GetClaimsFromUserInfoEndpoint = false;
            open.Scope.Clear();
            foreach (var scope in new[] { "openid", "profile", "email", "groups" }) open.Scope.Add(scope);
            foreach (var cookie in new[] { open.CorrelationCookie, open.NonceCookie }) (cookie.SameSite, cookie.SecurePolicy) = (SameSiteMode.Lax, CookieSecurePolicy.SameAsRequest);
            open.Events.OnTokenValidated = async context =>
            {
                var sessions = context.HttpContext.RequestServices.GetRequiredService<Sessions>();
                var store = context.HttpContext.RequestServices.GetRequiredService<Store.Store>();
                var time = context.HttpContext.RequestServices.GetRequiredService<TimeProvider>();
                var user = await UserOfAsync(context.Principal!, options, store, time, context.HttpContext.RequestAborted);
                await sessions.BeginAsync(context.HttpContext, user, "openid", context.HttpContext.RequestAborted);
                // The session is ours; the handler's own sign-in is not needed.
                context.HandleResponse();
                context.Response.Redirect(context.Properties?.RedirectUri ?? "/");
            };
            open.Events.OnRemoteFailure = context =>
            {
                context.HandleResponse();
                context.Response.Redirect("/sign-in");
                return Task.CompletedTask;
            };
        });
    }

    public static void MapOpenId(this RouteGroupBuilder api, ServiceOptions options) => api.MapGet("/sign-in/openid", (string? onward) =>
        options.OpenIdAuthority.Length == 0 ? throw Problem.NotFound("OpenID provider", "Sign in with name and password.")
        : Results.Challenge(new AuthenticationProperties { RedirectUri = onward is { Length: > 0 } path && path.StartsWith('/') && !path.StartsWith("//", StringComparison.Ordinal) && !path.StartsWith("/\\", StringComparison.Ordinal) ? path : "/" }, [Scheme]))
        .WithName("signInByOpenId").WithSummary("Goes to the OpenID provider, and comes back signed in.").AllowAnonymous();

    /// <summary>The user behind a validated token: made at the first sign-in, with the roles their groups give.</summary>
    private static async Task<UserRow> UserOfAsync(ClaimsPrincipal token, ServiceOptions options, Store.Store store, TimeProvider time, CancellationToken cancel)
    {
        var name = (token.FindFirstValue("preferred_username") ?? token.FindFirstValue("sub") ?? "").ToLowerInvariant();
        if (name.Length is 0 or > 64 || !name.All(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c is '.' or '-' or '_')) throw new Problem(403, "name-unknown", "Not signed in", "The provider names nobody Oikonom can take: a user name has lower-case letters, digits, dots, hyphens and underscores.");
        var groups = token.FindAll("groups").Select(g => g.Value).ToHashSet();
        var roles = RolesOf(options.OpenIdRoles).Where(r => groups.Contains(r.Group)).Select(r => r.Role).Distinct().ToList();
        if (roles.Count == 0) throw new Problem(403, "no-role", "Not signed in", "None of your groups gives a role in Oikonom.");
        return await store.WriteAsync(async s =>
        {
            var before = await s.UserAsync(name);
            if (before is { PasswordHash.Length: > 0 }) throw new Problem(403, "name-taken", "Not signed in", $"'{name}' is an own account of Oikonom; sign in with its password.");
            if (before is { Active: 0 }) throw new Problem(403, "ended", "Not signed in", "Your access to Oikonom has ended.");
            var user = new UserRow
            {
                Name = name,
                Display = token.FindFirstValue("name") ?? name,
                Mail = token.FindFirstValue("email") ?? "",
                Roles = string.Join(' ', roles),
                Number = token.FindFirstValue("employee_number") ?? before?.Number ?? "",
                Stamp = before is not null && before.Roles == string.Join(' ', roles) ? before.Stamp : Guid.NewGuid().ToString("N"),
                CreatedAt = before?.CreatedAt ?? time.Milliseconds(),
                Reach = before?.Reach ?? "{}",
                Hearing = before?.Hearing ?? "{}",
            };
            await s.SaveUserAsync(user);
            s.Record(LedgerEntry.Of(time.GetUtcNow(), name, "sign-in.succeeded", null, null, ("way", "openid"), ("roles", user.Roles), ("rolesBefore", before?.Roles)));
            return user;
        }, cancel);
    }

    private static IEnumerable<(string Group, string Role)> RolesOf(string text) => text.Split(';', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)
        .Select(p => p.Split('=', 2)).Where(p => p.Length == 2 && Roles.All.Contains(p[1])).Select(p => (p[0], p[1]));
}
