using System.Security.Claims;
using System.Threading.RateLimiting;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Authentication.Cookies;
using Oikonom.Contracts;
using Oikonom.Core.Ledger;
using Oikonom.Service.Common;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Access;

/// <summary>How often one address may try to sign in.</summary>
public sealed class SignInLimit : IDisposable
{
    private const int PerMinute = 60;
    private readonly PartitionedRateLimiter<string> _limiter = PartitionedRateLimiter.Create<string, string>(address =>
        RateLimitPartition.GetSlidingWindowLimiter(
            address,
            _ =>
                new()
                {
                    PermitLimit = PerMinute,
                    Window = TimeSpan.FromMinutes(1),
                    SegmentsPerWindow = 6,
                    AutoReplenishment = true,
                }
        )
    );

    /// <exception cref="Problem">The address tried too often.</exception>
    public void Require(HttpContext context)
    {
        using var lease = _limiter.AttemptAcquire(context.Connection.RemoteIpAddress?.ToString() ?? "");
        if (!lease.IsAcquired)
            throw new Problem(
                429,
                "too-often",
                "Too often",
                $"This address tried to sign in more than {PerMinute} times in a minute. Wait a moment."
            );
    }

    public void Dispose() => _limiter.Dispose();
}

/// <summary>Sign-ins by browser that last: each is listed, and ends when somebody ends it.</summary>
public sealed class Sessions(Store.Store store, ServiceOptions options, TimeProvider time)
{
    private static readonly TimeSpan SeenEvery = TimeSpan.FromMinutes(1);
    public static readonly TimeSpan Longest = TimeSpan.FromHours(12);

    /// <summary>Signs a user in: a session of its own, and the cookie that carries it.</summary>
    public async Task<ClaimsPrincipal> BeginAsync(HttpContext context, UserRow user, string way, CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        var agent = context.Request.Headers.UserAgent.ToString();
        var row = new SessionRow
        {
            Id = Guid.CreateVersion7(now).ToString(),
            UserName = user.Name,
            CreatedAt = now.ToUnixTimeMilliseconds(),
            SeenAt = now.ToUnixTimeMilliseconds(),
            Address = context.Connection.RemoteIpAddress?.ToString() ?? "",
            Agent = agent.Length > 200 ? agent[..200] : agent,
            Way = way,
        };
        await store.WriteAsync(s => s.AddSignInAsync(row), cancel);
        var principal = Accounts.Principal(user, CookieAuthenticationDefaults.AuthenticationScheme, session: row.Id);
        await context.SignInAsync(CookieAuthenticationDefaults.AuthenticationScheme, principal);
        return principal;
    }

    /// <summary>The session goes on after its user changed the password: the cookie is written anew.</summary>
    public Task GoOnAsync(HttpContext context, UserRow user, string session) =>
        context.SignInAsync(
            CookieAuthenticationDefaults.AuthenticationScheme,
            Accounts.Principal(user, CookieAuthenticationDefaults.AuthenticationScheme, session: session)
        );

    /// <summary>True while nobody ended the session, and it is younger than a sign-in may be.</summary>
    public async Task<bool> IsOpenAsync(Store.Session s, ClaimsPrincipal user) =>
        user.FindFirstValue("session") is { } id && await s.SignInAsync(id) is { EndedAt: null } row && IsYoung(row);

    private bool IsYoung(SessionRow row) =>
        time.Milliseconds() - row.CreatedAt < (long)TimeSpan.FromHours(options.SessionHours).TotalMilliseconds;

    /// <summary>True while nobody ended the session; notes now and then that it was seen.</summary>
    public async Task<bool> IsOpenAsync(ClaimsPrincipal user, CancellationToken cancel)
    {
        if (user.FindFirstValue("session") is not { } id)
            return false;
        if (await store.ReadAsync(s => s.SignInAsync(id), cancel) is not { EndedAt: null } row || !IsYoung(row))
            return false;
        var now = time.Milliseconds();
        if (now - row.SeenAt > (long)SeenEvery.TotalMilliseconds)
            await store.WriteAsync(s => s.SeenAsync(id, now), cancel);
        return true;
    }

    /// <param name="user">Whose session it must be, or "" for anybody's.</param>
    public Task<bool> EndAsync(string id, string user, string actor, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                if (!await s.EndSignInAsync(id, user, time.Milliseconds()))
                    return false;
                s.Record(LedgerEntry.Of(time.GetUtcNow(), actor, "session.ended", null, null, ("session", id)));
                return true;
            },
            cancel
        );
}

/// <summary>What people see and end of their own sign-ins and tokens.</summary>
public static class OwnAccessEndpoints
{
    public static void MapOwnAccess(this RouteGroupBuilder api)
    {
        MapSessions(api);
        MapEverybodysSessions(api);
        MapTokens(api);
        MapTokenEnds(api);
    }

    private static void MapSessions(RouteGroupBuilder api)
    {
        api.MapGet(
                "/me/sessions",
                async (Store.Store store, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel) =>
                    new Page<SessionView>(
                        [
                            .. (
                                await store.ReadAsync(
                                    s => s.SignInsAsync(user.UserName(), time.Milliseconds() - (long)Sessions.Longest.TotalMilliseconds),
                                    cancel
                                )
                            ).Select(r => View(r, user)),
                        ],
                        null
                    )
            )
            .WithName("listSessions")
            .WithSummary("Where the caller is signed in.")
            .RequireAuthorization("read")
            .Reaching(Reached.Own);
        api.MapDelete(
                "/me/sessions/{id}",
                async (string id, Sessions sessions, ClaimsPrincipal user, CancellationToken cancel) =>
                    await sessions.EndAsync(id, user.UserName(), user.UserName(), cancel)
                        ? Results.NoContent()
                        : throw Problem.NotFound($"session '{id}'", "It may have ended.")
            )
            .WithName("endSession")
            .WithSummary("Ends one of the caller's sessions.")
            .RequireAuthorization("read")
            .Reaching(Reached.Own);
    }

    private static void MapEverybodysSessions(RouteGroupBuilder api)
    {
        api.MapGet(
                "/sessions",
                async (Store.Store store, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel) =>
                    new Page<SessionView>(
                        [
                            .. (
                                await store.ReadAsync(
                                    s => s.SignInsAsync("", time.Milliseconds() - (long)Sessions.Longest.TotalMilliseconds),
                                    cancel
                                )
                            ).Select(r => View(r, user)),
                        ],
                        null
                    )
            )
            .WithName("listAllSessions")
            .WithSummary("Where everybody is signed in.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
        api.MapDelete(
                "/sessions/{id}",
                async (string id, Sessions sessions, ClaimsPrincipal user, CancellationToken cancel) =>
                    await sessions.EndAsync(id, "", user.UserName(), cancel)
                        ? Results.NoContent()
                        : throw Problem.NotFound($"session '{id}'", "It may have ended.")
            )
            .WithName("endAnySession")
            .WithSummary("Ends anybody's session.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
    }

    private static void MapTokens(RouteGroupBuilder api)
    {
        api.MapGet(
                "/me/tokens",
                async (Store.Store store, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel) =>
                    new Page<TokenView>(
                        [
                            .. (await store.ReadAsync(s => s.TokensOfAsync(user.UserName(), time.Milliseconds()), cancel)).Select(
                                t => new TokenView(
                                    t.Id,
                                    t.Label,
                                    t.CreatedAt.ToInstant(),
                                    t.ExpiresAt.ToInstant(),
                                    t.Roles.Split(' ', StringSplitOptions.RemoveEmptyEntries),
                                    t.Id == user.FindFirstValue("token")
                                )
                            ),
                        ],
                        null
                    )
            )
            .WithName("listTokens")
            .WithSummary("The caller's API tokens that hold. Two may hold at once, for rotation.")
            .RequireAuthorization("read")
            .Reaching(Reached.Own);
        api.MapPost(
                "/me/tokens",
                async (OwnTokenBody body, Accounts accounts, Store.Store store, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    if (body.Days is < 1 or > 365)
                        throw Problem.Invalid("A token holds from 1 to 365 days.", "days");
                    if (body.Label is not { Length: > 0 and <= 100 })
                        throw Problem.Invalid("A token has a label of 100 characters at most.", "label");
                    // A token gives nothing that its maker does not have.
                    if (body.Roles?.FirstOrDefault(r => !user.RoleNames().Contains(r)) is { } foreign)
                        throw Problem.Invalid($"You do not have the role '{foreign}'.", "roles");
                    var parent = user.FindFirstValue("token");
                    var roles =
                        body.Roles is { Count: > 0 } ? body.Roles
                        : parent is not null ? user.RoleNames()
                        : null;
                    var row =
                        await store.ReadAsync(s => s.UserAsync(user.UserName()), cancel)
                        ?? throw Problem.NotFound("user", "Sign in again.");
                    var (issued, token) = await accounts.IssueTokenAsync(row, body.Label, body.Days ?? 30, cancel, roles, parent);
                    return new IssuedToken(issued.Id, token, issued.ExpiresAt.ToInstant());
                }
            )
            .WithName("makeToken")
            .WithSummary("Makes an API token, limited to some of the caller's roles if wanted. It is shown once.")
            .RequireAuthorization("read")
            .Reaching(Reached.Own);
    }

    private static void MapTokenEnds(RouteGroupBuilder api)
    {
        api.MapDelete(
                "/me/tokens/{id}",
                async (string id, Store.Store store, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    await store.WriteAsync(
                        async s =>
                        {
                            if (!await s.EndTokenOfAsync(id, user.UserName(), time.Milliseconds()))
                                throw Problem.NotFound($"token '{id}'", "See 'oikonom tokens list'.");
                            s.Record(LedgerEntry.Of(time.GetUtcNow(), user.UserName(), "token.ended", null, null, ("token", id)));
                        },
                        cancel
                    );
                    return TypedResults.NoContent();
                }
            )
            .WithName("endOwnToken")
            .WithSummary("Ends one of the caller's tokens.")
            .RequireAuthorization("read")
            .Reaching(Reached.Own);
    }

    private static SessionView View(SessionRow row, ClaimsPrincipal user) =>
        new(
            row.Id,
            row.UserName,
            row.CreatedAt.ToInstant(),
            row.SeenAt.ToInstant(),
            row.Address,
            row.Agent,
            row.Way,
            row.Id == user.FindFirstValue("session")
        );
}
