using System.Security.Claims;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Authentication.Cookies;
using Oikonom.Contracts;
using Oikonom.Core.Ledger;
using Oikonom.Service.Common;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Access;

public static class AccessEndpoints
{
    public static void MapAccess(this RouteGroupBuilder api)
    {
        MapSignIn(api);
        MapTokens(api);
    }

    private static void MapSignIn(RouteGroupBuilder api)
    {
        api.MapPost(
                "/sign-in",
                async (
                    SignInBody body,
                    Accounts accounts,
                    SignInLimit limit,
                    Sessions sessions,
                    HttpContext context,
                    CancellationToken cancel
                ) =>
                {
                    limit.Require(context);
                    var user = await accounts.SignInAsync(body.Name, body.Password, AddressOf(context), cancel);
                    return MeOf(await sessions.BeginAsync(context, user, "password", cancel));
                }
            )
            .WithName("signIn")
            .WithSummary("Signs in with name and password; answers with a session cookie.")
            .AllowAnonymous()
            .Reaching(Reached.Own);

        api.MapPost(
                "/sign-out",
                async (HttpContext context, Sessions sessions, CancellationToken cancel) =>
                {
                    if (context.User.FindFirstValue("session") is { } session)
                        await sessions.EndAsync(session, context.User.UserName(), context.User.UserName(), cancel);
                    await context.SignOutAsync(CookieAuthenticationDefaults.AuthenticationScheme);
                    return TypedResults.NoContent();
                }
            )
            .WithName("signOut")
            .WithSummary("Ends the session.")
            .RequireAuthorization("read")
            .Reaching(Reached.Own);
    }

    private static void MapTokens(RouteGroupBuilder api)
    {
        api.MapPost(
                "/tokens",
                async (TokenBody body, Accounts accounts, SignInLimit limit, HttpContext context, CancellationToken cancel) =>
                {
                    limit.Require(context);
                    if (body.Days is < 1 or > 365)
                        throw Problem.Invalid("A token holds from 1 to 365 days.", "days");
                    var user = await accounts.SignInAsync(body.Name, body.Password, AddressOf(context), cancel);
                    var (row, token) = await accounts.IssueTokenAsync(
                        user,
                        body.Label is { Length: > 0 and <= 100 } label ? label : "client",
                        body.Days ?? 30,
                        cancel
                    );
                    return new IssuedToken(row.Id, token, row.ExpiresAt.ToInstant());
                }
            )
            .WithName("issueToken")
            .WithSummary("Issues an API token for name and password. The token is shown once.")
            .AllowAnonymous()
            .Reaching(Reached.Own);

        api.MapDelete(
                "/tokens/current",
                async (ClaimsPrincipal user, Store.Store store, TimeProvider time, CancellationToken cancel) =>
                {
                    var id = user.FindFirstValue("token") ?? throw Problem.Invalid("This call was not made with a token.");
                    await store.WriteAsync(
                        async s =>
                        {
                            await s.EndTokenAsync(id, time.Milliseconds());
                            s.Record(LedgerEntry.Of(time.GetUtcNow(), user.UserName(), "token.ended", null, null, ("token", id)));
                        },
                        cancel
                    );
                    return TypedResults.NoContent();
                }
            )
            .WithName("endToken")
            .WithSummary("Ends the token the call is made with.")
            .RequireAuthorization("read")
            .Reaching(Reached.Own);

        api.MapGet("/me", (ClaimsPrincipal user) => MeOf(user))
            .WithName("me")
            .WithSummary("Who is signed in.")
            .RequireAuthorization("read")
            .Reaching(Reached.Own);

        api.MapOwnAccess();
        api.MapPasswords();
        api.MapUsers();
    }

    public static string AddressOf(HttpContext context) => context.Connection.RemoteIpAddress?.ToString() ?? "";

    private static Me MeOf(ClaimsPrincipal user) =>
        new(
            user.UserName(),
            user.FindFirstValue("display") ?? "",
            user.RoleNames(),
            user.Number() is { Length: > 0 } number ? number : null,
            UserDesk.ReachOf(user.FindFirstValue("reach") ?? "{}")
        );

    private static void MapPasswords(this RouteGroupBuilder api)
    {
        api.MapPost(
                "/password-links",
                async (ForgottenBody body, PasswordDesk passwords, SignInLimit limit, HttpContext context, CancellationToken cancel) =>
                {
                    limit.Require(context);
                    await passwords.ForgottenAsync(body.Name, cancel);
                    return TypedResults.Accepted((string?)null);
                }
            )
            .WithName("forgotPassword")
            .WithSummary(
                "Sends a one-time link for a new password to the mail address of a user, if there is one. The answer tells nothing."
            )
            .AllowAnonymous()
            .Reaching(Reached.Own);
        api.MapGet(
                "/password-links/{token}",
                (string token, PasswordDesk passwords, SignInLimit limit, HttpContext context, CancellationToken cancel) =>
                {
                    limit.Require(context);
                    return passwords.LookAsync(token, cancel);
                }
            )
            .WithName("getPasswordLink")
            .WithSummary("Whose password a one-time link sets; it is not used up.")
            .AllowAnonymous()
            .Reaching(Reached.Own);
        api.MapPost(
                "/password-links/{token}",
                async (
                    string token,
                    NewPasswordBody body,
                    PasswordDesk passwords,
                    SignInLimit limit,
                    HttpContext context,
                    CancellationToken cancel
                ) =>
                {
                    limit.Require(context);
                    await passwords.UseAsync(token, body.Password, cancel);
                    return TypedResults.NoContent();
                }
            )
            .WithName("usePasswordLink")
            .WithSummary("Sets the password by a one-time link. All sessions and tokens of the user end.")
            .AllowAnonymous()
            .Reaching(Reached.Own);
        MapOwnPassword(api);
    }

    private static void MapOwnPassword(RouteGroupBuilder api)
    {
        api.MapPost(
                "/me/password",
                async (OwnPasswordBody body, PasswordDesk passwords, Sessions sessions, HttpContext context, CancellationToken cancel) =>
                {
                    var user = await passwords.ChangeAsync(context.User, body, AddressOf(context), cancel);
                    if (context.User.FindFirstValue("session") is { } session)
                        await sessions.GoOnAsync(context, user, session);
                    return TypedResults.NoContent();
                }
            )
            .WithName("changePassword")
            .WithSummary("Changes the caller's own password; all their other sessions and tokens end.")
            .RequireAuthorization("read")
            .Reaching(Reached.Own);
    }

    private static void MapUsers(this RouteGroupBuilder api)
    {
        api.MapGet("/users", (UserDesk desk, CancellationToken cancel) => desk.ListAsync(cancel))
            .WithName("listUsers")
            .WithSummary("The users who can sign in.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
        api.MapPut(
                "/users/{name}",
                (string name, UserBody body, UserDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                    desk.SaveAsync(name, body, user, cancel)
            )
            .WithName("saveUser")
            .WithSummary(
                "Makes or changes a user. Where the rulebook wants a second person the change waits until another engineer "
                    + "agrees. A new user gets a one-time link by mail."
            )
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
        api.MapPost(
                "/users/{name}/link",
                async (string name, UserDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    await desk.LinkAsync(name, user, cancel);
                    return TypedResults.NoContent();
                }
            )
            .WithName("sendUserLink")
            .WithSummary("Sends a user a one-time link by which they set their password.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
        api.MapGet("/users/changes", (UserDesk desk, ClaimsPrincipal user, CancellationToken cancel) => desk.ChangesAsync(user, cancel))
            .WithName("listUserChanges")
            .WithSummary("Changes of users that wait for a second person.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
        api.MapPost(
                "/users/changes/{id}/agree",
                (string id, UserDesk desk, ClaimsPrincipal user, CancellationToken cancel) => desk.DecideAsync(id, true, null, user, cancel)
            )
            .WithName("agreeUserChange")
            .WithSummary("Agrees to a change that another engineer asked for.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
        api.MapPost(
                "/users/changes/{id}/decline",
                (string id, ProposalBody body, UserDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                    desk.DecideAsync(id, false, body.Remark, user, cancel)
            )
            .WithName("declineUserChange")
            .WithSummary("Declines a change of a user.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
    }
}
