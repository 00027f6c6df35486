using System.Security.Claims;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Authentication.Cookies;
using Microsoft.AspNetCore.Authentication.OpenIdConnect;
using Microsoft.IdentityModel.Protocols.OpenIdConnect;
using Oikonom.Core.Approval;
using Oikonom.Core.Ledger;
using Oikonom.Service.Common;
using Oikonom.Store;
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
        if (authority.Scheme != "https" && !(authority.Scheme == "http" && authority.IsLoopback))
            throw new ArgumentException("--openid-authority takes an https:// address, or http:// on this machine.");
        services
            .AddAuthentication()
            .AddOpenIdConnect(
                Scheme,
                open =>
                {
                    (open.Authority, open.ClientId, open.ClientSecret) = (
                        options.OpenIdAuthority,
                        options.OpenIdClient,
                        options.OpenIdSecret
                    );
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
                    foreach (var scope in new[] { "openid", "profile", "email", "groups" })
                        open.Scope.Add(scope);
                    foreach (var cookie in new[] { open.CorrelationCookie, open.NonceCookie })
                        (cookie.SameSite, cookie.SecurePolicy) = (
                            SameSiteMode.Lax,
                            options.IsSecure ? CookieSecurePolicy.Always : CookieSecurePolicy.SameAsRequest
                        );
                    open.ClaimActions.Remove("iss");
                    // The address people reach the service by, whatever the proxy made of it.
                    open.Events.OnRedirectToIdentityProvider = context =>
                    {
                        context.ProtocolMessage.RedirectUri = options.PublicAddress + open.CallbackPath;
                        return Task.CompletedTask;
                    };
                    Answer(open.Events, options);
                }
            );
    }

    /// <summary>What follows when somebody comes back from the authority.</summary>
    private static void Answer(OpenIdConnectEvents events, ServiceOptions options)
    {
        // After everything was validated, the nonce too: the handler's own sign-in is not needed, the session is ours.
        events.OnTicketReceived = async context =>
        {
            var services = context.HttpContext.RequestServices;
            context.HandleResponse();
            try
            {
                var user = await UserOfAsync(
                    context.Principal!,
                    options,
                    services.GetRequiredService<Store.Store>(),
                    services.GetRequiredService<TimeProvider>(),
                    context.HttpContext.RequestAborted
                );
                await services
                    .GetRequiredService<Sessions>()
                    .BeginAsync(context.HttpContext, user, "openid", context.HttpContext.RequestAborted);
                context.Response.Redirect(Onward(context.ReturnUri));
            }
            catch (Problem problem)
            {
                await RefusedAsync(services, context.Principal, problem.Message);
                context.Response.Redirect($"/sign-in?refused={problem.Code}");
            }
        };
        events.OnRemoteFailure = async context =>
        {
            context.HandleResponse();
            await RefusedAsync(context.HttpContext.RequestServices, null, context.Failure?.Message ?? "");
            context.Response.Redirect("/sign-in?refused=openid");
        };
    }

    public static void MapOpenId(this RouteGroupBuilder api, ServiceOptions options) =>
        api.MapGet(
                "/sign-in/openid",
                (string? onward) =>
                    options.OpenIdAuthority.Length == 0
                        ? throw Problem.NotFound("OpenID provider", "Sign in with name and password.")
                        : Results.Challenge(new AuthenticationProperties { RedirectUri = Onward(onward) }, [Scheme])
            )
            .WithName("signInByOpenId")
            .WithSummary("Goes to the OpenID provider, and comes back signed in.")
            .AllowAnonymous()
            .Reaching(Reached.Own);

    /// <summary>A path of this site, or its start: an address elsewhere, however it is written, leads nowhere.</summary>
    public static string Onward(string? path) =>
        path is { Length: > 0 and <= 2000 }
        && path[0] == '/'
        && (path.Length == 1 || path[1] is not ('/' or '\\'))
        && path.All(c => c is > ' ' and < (char)127 and not '\\')
            ? path
            : "/";

    /// <summary>A sign-in that was refused is on the record.</summary>
    private static Task RefusedAsync(IServiceProvider services, ClaimsPrincipal? token, string why) =>
        services
            .GetRequiredService<Store.Store>()
            .WriteAsync(s =>
            {
                s.Record(
                    LedgerEntry.Of(
                        services.GetRequiredService<TimeProvider>().GetUtcNow(),
                        "oikonom",
                        "sign-in.refused",
                        null,
                        null,
                        ("way", "openid"),
                        ("subject", token?.FindFirstValue("sub")),
                        ("name", token?.FindFirstValue("preferred_username")),
                        ("problem", why)
                    )
                );
                return Task.CompletedTask;
            });

    /// <summary>
    /// The user behind a validated token, known by issuer and subject (OpenID Connect Core 1.0, section 5.7): names may
    /// change hands, the subject does not. Made at the first sign-in, with the roles their groups give.
    /// </summary>
    private static async Task<UserRow> UserOfAsync(
        ClaimsPrincipal token,
        ServiceOptions options,
        Store.Store store,
        TimeProvider time,
        CancellationToken cancel
    )
    {
        var (issuer, subject) = (token.FindFirstValue("iss") ?? options.OpenIdAuthority, token.FindFirstValue("sub") ?? "");
        if (subject.Length is 0 or > 255)
            throw new Problem(403, "name-unknown", "Not signed in", "The provider names no subject.");
        var groups = token.FindAll("groups").Select(g => g.Value).ToHashSet();
        var roles = RolesOf(options.OpenIdRoles).Where(r => groups.Contains(r.Group)).Select(r => r.Role).Distinct().ToList();
        if (roles.Count == 0)
            throw new Problem(403, "no-role", "Not signed in", "None of your groups gives a role in Oikonom.");
        var wanted = (token.FindFirstValue("preferred_username") ?? subject).ToLowerInvariant();
        return await store.WriteAsync(
            async s =>
            {
                var before = await s.UserBySubjectAsync(issuer, subject);
                var name = before?.Name ?? wanted;
                before ??= await EarlierAsync(s, name);
                if (before is { Active: 0 })
                    throw new Problem(403, "ended", "Not signed in", "Your access to Oikonom has ended.");
                var number = token.FindFirstValue("employee_number") is { Length: > 0 and <= 100 } given ? given : before?.Number ?? "";
                var person = number.Length > 0 ? (await s.PersonByNumberAsync(number))?.Id ?? "" : "";
                if (number.Length > 0)
                    await RequireOneUserAsync(s, name, number, person);
                var user = Made(before, token, name, string.Join(' ', roles), number, person, (issuer, subject), time.Milliseconds());
                await s.SaveUserAsync(user);
                s.Record(
                    LedgerEntry.Of(
                        time.GetUtcNow(),
                        name,
                        "sign-in.succeeded",
                        null,
                        null,
                        ("way", "openid"),
                        ("roles", user.Roles),
                        ("rolesBefore", before?.Roles)
                    )
                );
                return user;
            },
            cancel
        );
    }

    /// <summary>A user as the provider says; what was said of them here stays. Other roles, or another person, end what is open.</summary>
    private static UserRow Made(
        UserRow? before,
        ClaimsPrincipal token,
        string name,
        string roles,
        string number,
        string person,
        (string Issuer, string Subject) by,
        long now
    ) =>
        new()
        {
            Name = name,
            Display = token.FindFirstValue("name") ?? name,
            Mail = token.FindFirstValue("email") ?? "",
            Issuer = by.Issuer,
            Subject = by.Subject,
            Roles = roles,
            Number = number,
            PersonId =
                person.Length > 0 ? person
                : before?.Number == number ? before.PersonId
                : "",
            Stamp = before is not null && before.Roles == roles && before.Number == number ? before.Stamp : Guid.NewGuid().ToString("N"),
            CreatedAt = before?.CreatedAt ?? now,
            Reach = before?.Reach ?? "{}",
            Hearing = before?.Hearing ?? "{}",
        };

    /// <summary>A user of an earlier release was known by name alone: the first to come is taken for them, as it was then.</summary>
    /// <exception cref="Problem">403: the name is none that can be taken, or is another's.</exception>
    private static async Task<UserRow?> EarlierAsync(Session s, string name)
    {
        if (UserNames.Fault(name) is { } fault)
            throw new Problem(403, "name-unknown", "Not signed in", $"The provider names nobody Oikonom can take: {fault}");
        var other = await s.UserAsync(name);
        if (other is null || (other is { PasswordHash: "", Subject: "" } && !await s.HasLinkAsync(name)))
            return other;
        throw new Problem(403, "name-taken", "Not signed in", $"'{name}' is another user of Oikonom.");
    }

    /// <exception cref="Problem">403: somebody else signs in as this person.</exception>
    private static async Task RequireOneUserAsync(Session s, string name, string number, string person)
    {
        var same = (await s.UsersAsync()).FirstOrDefault(u =>
            u.Name != name && (u.Number == number || (person.Length > 0 && u.PersonId == person))
        );
        if (same is not null)
            throw new Problem(
                403,
                "person-has-user",
                "Not signed in",
                $"Person {number} signs in as '{same.Name}' already; a person has one user."
            );
    }

    private static IEnumerable<(string Group, string Role)> RolesOf(string text) =>
        text.Split(';', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)
            .Select(p => p.Split('=', 2))
            .Where(p => p.Length == 2 && Roles.All.Contains(p[1]))
            .Select(p => (p[0], p[1]));
}
