using System.Security.Claims;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Authentication.Cookies;
using Oikonom.Contracts;
using Oikonom.Core.Ledger;
using Oikonom.Service.Fulfilment;
using Oikonom.Service.Hosting;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Access;

public static class AccessEndpoints
{
    public static void MapAccess(this RouteGroupBuilder api)
    {
        api.MapPost("/sign-in", async (SignInBody body, Accounts accounts, SignInLimit limit, Sessions sessions, HttpContext context, CancellationToken cancel) =>
        {
            limit.Require(context);
            var user = await accounts.SignInAsync(body.Name, body.Password, cancel);
            return MeOf(await sessions.BeginAsync(context, user, "password", cancel));
        }).WithName("signIn").WithSummary("Signs in with name and password; answers with a session cookie.").AllowAnonymous();

        api.MapPost("/sign-out", async (HttpContext context, Sessions sessions, CancellationToken cancel) =>
        {
            if (context.User.FindFirstValue("session") is { } session) await sessions.EndAsync(session, context.User.UserName(), context.User.UserName(), cancel);
            await context.SignOutAsync(CookieAuthenticationDefaults.AuthenticationScheme);
            return TypedResults.NoContent();
        }).WithName("signOut").WithSummary("Ends the session.").RequireAuthorization("read");

        api.MapPost("/tokens", async (TokenBody body, Accounts accounts, SignInLimit limit, HttpContext context, CancellationToken cancel) =>
        {
            limit.Require(context);
            if (body.Days is < 1 or > 365) throw Problem.Invalid("A token holds from 1 to 365 days.", "days");
            var user = await accounts.SignInAsync(body.Name, body.Password, cancel);
            var (row, token) = await accounts.IssueTokenAsync(user, body.Label is { Length: > 0 and <= 100 } label ? label : "client", body.Days ?? 30, cancel);
            return new IssuedToken(row.Id, token, row.ExpiresAt.ToInstant());
        }).WithName("issueToken").WithSummary("Issues an API token for name and password. The token is shown once.").AllowAnonymous();

        api.MapDelete("/tokens/current", async (ClaimsPrincipal user, Store.Store store, TimeProvider time, CancellationToken cancel) =>
        {
            var id = user.FindFirstValue("token") ?? throw Problem.Invalid("This call was not made with a token.");
            await store.WriteAsync(async s =>
            {
                await s.EndTokenAsync(id, time.Milliseconds());
                s.Record(LedgerEntry.Of(time.GetUtcNow(), user.UserName(), "token.ended", null, null, ("token", id)));
            }, cancel);
            return TypedResults.NoContent();
        }).WithName("endToken").WithSummary("Ends the token the call is made with.").RequireAuthorization("read");

        api.MapGet("/me", (ClaimsPrincipal user) => MeOf(user)).WithName("me").WithSummary("Who is signed in.").RequireAuthorization("read");

        api.MapOwnAccess();

        api.MapGet("/users", async (Store.Store store, CancellationToken cancel) =>
            new Page<User>([.. (await store.ReadAsync(s => s.UsersAsync(), cancel)).Select(View)], null))
            .WithName("listUsers").WithSummary("The users who can sign in.").RequireAuthorization("configure");

        api.MapPut("/users/{name}", SaveUserAsync).WithName("saveUser").WithSummary("Makes or changes a user.").RequireAuthorization("configure");

        api.MapGet("/secrets", async (Store.Store store, CancellationToken cancel) =>
            new Page<Secret>([.. (await store.ReadAsync(s => s.SecretNamesAsync(), cancel)).Select(row => new Secret(row.Name, row.Actor, row.At.ToInstant()))], null))
            .WithName("listSecrets").WithSummary("Names of the secrets; values are never shown.").RequireAuthorization("configure");

        api.MapPut("/secrets/{name}", async (string name, SecretBody body, SecretBook secrets, ConnectorBook connectors, ClaimsPrincipal user, CancellationToken cancel) =>
        {
            if (name.Length > 63 || !name.All(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c == '-')) throw Problem.Invalid("The name of a secret has lower-case letters, digits and hyphens.", "name");
            if (body.Value is not { Length: > 0 and <= 65536 }) throw Problem.Invalid("A secret has from 1 to 65536 characters.", "value");
            await secrets.SetAsync(name, body.Value, user.UserName(), cancel);
            await connectors.ResetAsync();
            return TypedResults.NoContent();
        }).WithName("setSecret").WithSummary("Sets a secret. It is stored encrypted and never shown again.").RequireAuthorization("configure");
    }

    private static Me MeOf(ClaimsPrincipal user) => new(user.UserName(), user.FindFirstValue("display") ?? "", user.RoleNames(), user.Number() is { Length: > 0 } number ? number : null, ReachOf(user.FindFirstValue("reach") ?? "{}"));

    private static Dictionary<string, ReachBody>? ReachOf(string json) => Core.Approval.Reach.FromJson(json) is { Count: > 0 } reach ? reach.ToDictionary(r => r.Key, r => new ReachBody(r.Value.Sites, r.Value.Departments, r.Value.Targets)) : null;

    private static User View(UserRow row) => new(row.Name, row.Display, row.Mail, row.Roles.Split(' ', StringSplitOptions.RemoveEmptyEntries), row.Number.Length > 0 ? row.Number : null, row.Active == 1,
        row.LockedUntil > 0 ? row.LockedUntil.ToInstant() : null, ReachOf(row.Reach));

    private static async Task<User> SaveUserAsync(string name, UserBody body, Store.Store store, Rulebook.EditionBook editions, TimeProvider time, ClaimsPrincipal actor, CancellationToken cancel)
    {
        if (name.Length is 0 or > 64 || !name.All(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c is '.' or '-' or '_')) throw Problem.Invalid("A user name has lower-case letters, digits, dots, hyphens and underscores; 64 at most.", "name");
        if (body.Roles is null || body.Roles.FirstOrDefault(r => !Roles.All.Contains(r)) is { } unknown) throw Problem.Invalid($"Roles are {string.Join(", ", Roles.All)}.", "roles");
        if (body.Password is { } password && password.Length is < 10 or > 256) throw Problem.Invalid("A password has from 10 to 256 characters.", "password");
        if (body.Display is not { Length: > 0 and <= 200 }) throw Problem.Invalid("The display name is missing or longer than 200 characters.", "display");
        if (body.Mail is null || body.Mail.Length > 254 || (body.Mail.Length > 0 && !MimeKit.MailboxAddress.TryParse(body.Mail, out _))) throw Problem.Invalid("The mail address is not valid.", "mail");
        if (body.Reach?.Keys.FirstOrDefault(r => !Roles.All.Contains(r)) is { } strange) throw Problem.Invalid($"'{strange}' is no role; roles are {string.Join(", ", Roles.All)}.", "reach");
        var edition = await editions.CurrentOrNullAsync(cancel);
        if (edition is not null && body.Reach?.Values.SelectMany(r => r.Sites ?? []).FirstOrDefault(x => !edition.Rulebook.Sites.ContainsKey(x)) is { } nowhere) throw Problem.Invalid($"'{nowhere}' is no site of the rulebook.{Core.Expressions.Nearest.Hint(nowhere, edition.Rulebook.Sites.Keys)}", "reach");
        var row = await store.WriteAsync(async s =>
        {
            var before = await s.UserAsync(name);
            if (before is null && body.Password is null) throw Problem.Invalid("A new user needs a password.", "password");
            var after = new UserRow
            {
                Name = name,
                Display = body.Display,
                Mail = body.Mail,
                Roles = string.Join(' ', body.Roles.Distinct()),
                Number = body.Number ?? "",
                PasswordHash = body.Password is { } fresh ? Accounts.HashPassword(fresh) : before!.PasswordHash,
                Active = body.Active == false ? 0 : 1,
                Hearing = before?.Hearing ?? "{}",
                Reach = body.Reach is null ? before?.Reach ?? "{}" : Core.Approval.Reach.ToJson(body.Reach.ToDictionary(r => r.Key, r => new Core.Approval.Reach(r.Value.Sites ?? [], r.Value.Departments ?? [], r.Value.Targets ?? []))),
                Stamp = Guid.NewGuid().ToString("N"),
                CreatedAt = before?.CreatedAt ?? time.Milliseconds(),
            };
            if (before?.Name == actor.UserName() && (after.Active == 0 || after.Reach != before.Reach || !before.Roles.Split(' ').ToHashSet().SetEquals(after.Roles.Split(' '))))
                throw new Problem(403, "own-roles", "Not allowed", "Nobody changes their own roles or ends their own sign-in; another engineer does.");
            await s.SaveUserAsync(after);
            s.Record(LedgerEntry.Of(time.GetUtcNow(), actor.UserName(), before is null ? "user.made" : "user.changed", null, null,
                ("user", name), ("roles", after.Roles), ("rolesBefore", before?.Roles), ("active", after.Active == 1), ("reach", after.Reach.Length > 2 ? after.Reach : null), ("passwordSet", body.Password is not null)));
            return after;
        }, cancel);
        return View(row);
    }
}
