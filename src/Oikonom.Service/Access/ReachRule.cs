using System.Security.Claims;
using Oikonom.Service.Common;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Access;

/// <summary>What part of the organisation a call is about.</summary>
public enum Reached
{
    /// <summary>The caller's own things, or nothing of anybody.</summary>
    Own,

    /// <summary>The configuration, which is the same for all and names nobody.</summary>
    Shared,

    /// <summary>The request that <c>{id}</c> names: it must be within reach, before anything is done or told.</summary>
    Request,

    /// <summary>The person that <c>{id}</c> names, likewise.</summary>
    Person,

    /// <summary>Many at once; the handler shows and changes only what is within reach.</summary>
    Filtered,

    /// <summary>All of the organisation: nobody whose role is limited.</summary>
    Everywhere,
}

/// <summary>
/// The one place that holds reach for every call. Each endpoint says what it is about; one that does not is refused,
/// and a test finds it. Whom a request or person is out of reach for is told what is told of one that is not there.
/// </summary>
public static class ReachRule
{
    /// <summary>Says what the endpoint is about, and holds reach for it.</summary>
    public static TBuilder Reaching<TBuilder>(this TBuilder endpoint, Reached reached)
        where TBuilder : IEndpointConventionBuilder
    {
        endpoint.Add(builder => builder.Metadata.Add(reached.Mark()));
        return endpoint;
    }

    private static ReachedMark Mark(this Reached reached) => new(reached);

    /// <exception cref="Problem">What the call is about is out of the caller's reach.</exception>
    public static async Task RequireAsync(
        HttpContext context,
        Reached reached,
        IReadOnlyList<string> roles,
        Store.Store store,
        CancellationToken cancel
    )
    {
        var user = context.User;
        switch (reached)
        {
            case Reached.Everywhere when user.ReachOf(roles) is not null || user.TargetsOf(roles):
                throw new Problem(
                    403,
                    "out-of-reach",
                    "Not allowed",
                    "This is about all of the organisation, and your role is limited to a part of it."
                );
            case Reached.Request when context.GetRouteValue("id") is string id:
                await RequireRequestAsync(user, id, store, cancel);
                break;
            case Reached.Person when context.GetRouteValue("id") is string id:
                await RequirePersonAsync(user, id, store, cancel);
                break;
        }
    }

    private static async Task RequireRequestAsync(ClaimsPrincipal user, string id, Store.Store store, CancellationToken cancel)
    {
        if (user.ReachOf() is null)
            return;
        var row = await store.ReadAsync(s => s.FindRequestAsync(id), cancel);
        if (row is not null && Sees(user, row))
            return;
        throw Named.NoRequest(id);
    }

    private static async Task RequirePersonAsync(ClaimsPrincipal user, string id, Store.Store store, CancellationToken cancel)
    {
        if (user.ReachOf() is null)
            return;
        var row = await store.ReadAsync(s => s.FindPersonAsync(id), cancel);
        if (row is not null && Sees(user, row))
            return;
        throw Named.NoPerson(id);
    }

    /// <summary>True when a request is within the caller's reach; what they raised themselves always is.</summary>
    public static bool Sees(ClaimsPrincipal user, RequestRow row) =>
        user.ReachOf() is not { } parts || parts.Any(p => p.Covers(row.Site, row.Department)) || row.Requester == user.UserName();

    /// <summary>True when a person is within the caller's reach; they themselves always are.</summary>
    public static bool Sees(ClaimsPrincipal user, PersonRow row) =>
        user.ReachOf() is not { } parts || parts.Any(p => p.Covers(row.Site, row.Department)) || user.IsSelf(row);
}

/// <summary>What an endpoint says it is about.</summary>
public sealed record ReachedMark(Reached Reached);

/// <summary>Holds reach before each call that needs it; runs after authorisation.</summary>
public sealed class ReachGuard(RequestDelegate next)
{
    public async Task InvokeAsync(HttpContext context)
    {
        if (
            context.GetEndpoint() is { } endpoint
            && context.Request.Path.StartsWithSegments("/api")
            && context.User.Identity?.IsAuthenticated == true
        )
        {
            var mark = endpoint.Metadata.GetMetadata<ReachedMark>();
            if (mark is null)
                throw new Problem(403, "out-of-reach", "Not allowed", "This call does not say what it is about.");
            var policies = endpoint
                .Metadata.GetOrderedMetadata<Microsoft.AspNetCore.Authorization.IAuthorizeData>()
                .Select(a => a.Policy)
                .OfType<string>();
            var roles = policies.SelectMany(p => Roles.Policies.GetValueOrDefault(p) ?? []).Distinct().ToList();
            await ReachRule.RequireAsync(
                context,
                mark.Reached,
                roles,
                context.RequestServices.GetRequiredService<Store.Store>(),
                context.RequestAborted
            );
        }
        await next(context);
    }
}
