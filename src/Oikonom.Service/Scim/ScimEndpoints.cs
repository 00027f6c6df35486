using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Oikonom.Scim;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Scim;

/// <summary>The SCIM 2.0 service provider (RFC 7643, RFC 7644) for sources that push.</summary>
public static class ScimEndpoints
{
    private const int MaxResults = 200;
    private const int MaxOperations = 1000;
    private const int MaxPayload = 1_048_576;
    private const string Base = "/scim/v2";

    public static void MapScim(this WebApplication app)
    {
        var scim = app.MapGroup(Base).AllowAnonymous().ExcludeFromDescription().AddEndpointFilter(GuardAsync);
        scim.MapGet("/ServiceProviderConfig", (HttpContext context) => Write(context, 200, Provider(context)));
        scim.MapGet(
            "/Schemas",
            (HttpContext context) => Write(context, 200, List(context, ScimSchemas.All.Select(s => s.ToJson(Address(context)))))
        );
        scim.MapGet(
            "/Schemas/{id}",
            (string id, HttpContext context) =>
                Write(
                    context,
                    200,
                    (
                        ScimSchemas.All.FirstOrDefault(s => s.Id.Equals(id, StringComparison.OrdinalIgnoreCase))
                        ?? throw ScimFault.NotFound(id)
                    ).ToJson(Address(context))
                )
        );
        scim.MapGet(
            "/ResourceTypes",
            (HttpContext context) => Write(context, 200, List(context, ScimSchemas.Types.Select(t => t.ToJson(Address(context)))))
        );
        scim.MapGet(
            "/ResourceTypes/{id}",
            (string id, HttpContext context) =>
                Write(
                    context,
                    200,
                    (ScimSchemas.Types.FirstOrDefault(t => t.Name == id) ?? throw ScimFault.NotFound(id)).ToJson(Address(context))
                )
        );
        foreach (var type in ScimSchemas.Types)
            MapType(scim, type);
        scim.MapPost("/Bulk", BulkAsync);
        scim.MapPost(
            "/.search",
            async (HttpContext context, ScimDesk desk, CancellationToken cancel) =>
                await SearchAsync(context, desk, ScimSchemas.Types, cancel)
        );
        scim.Map(
            "/Me/{**rest}",
            IResult () => throw new ScimFault(501, null, "The address /Me is not supported: a token stands for a source, not for a user.")
        );
        scim.Map(
            "/{**rest}",
            IResult (HttpContext context) => throw new ScimFault(404, null, $"There is no address {context.Request.Path}.")
        );
        app.Map(
                "/scim/{version}/{**rest}",
                IResult (string version, HttpContext context) =>
                    Fault(context, ScimFault.InvalidVersion($"The protocol version '{version}' is not supported; use v2."))
            )
            .AllowAnonymous()
            .ExcludeFromDescription();
    }

    private static void MapType(RouteGroupBuilder scim, ScimResourceType type)
    {
        scim.MapPost(
            type.Endpoint,
            async (HttpContext context, ScimDesk desk, CancellationToken cancel) =>
            {
                var answer = await desk.CreateAsync(Pusher(context), type, await BodyAsync(context, cancel), cancel);
                return Write(context, 201, answer, type);
            }
        );
        scim.MapGet(
            type.Endpoint,
            async (HttpContext context, ScimDesk desk, CancellationToken cancel) =>
            {
                var query = context.Request.Query;
                return await ListAsync(
                    context,
                    desk,
                    [type],
                    query["filter"],
                    query["sortBy"],
                    query["sortOrder"],
                    query["startIndex"],
                    query["count"],
                    Words(query["attributes"]),
                    Words(query["excludedAttributes"]),
                    cancel
                );
            }
        );
        scim.MapPost(
            $"{type.Endpoint}/.search",
            async (HttpContext context, ScimDesk desk, CancellationToken cancel) => await SearchAsync(context, desk, [type], cancel)
        );
        scim.MapGet(
            $"{type.Endpoint}/{{id}}",
            async (string id, HttpContext context, ScimDesk desk, CancellationToken cancel) =>
            {
                var answer = await desk.GetAsync(Pusher(context), type, id, cancel);
                if (
                    context.Request.Headers.IfNoneMatch.ToString() is { Length: > 0 } known
                    && known.Contains(ScimDesk.Tag(answer.Version), StringComparison.Ordinal)
                )
                {
                    context.Response.Headers.ETag = ScimDesk.Tag(answer.Version);
                    return Results.StatusCode(304);
                }
                return Write(context, 200, answer, type);
            }
        );
        MapChanges(scim, type);
    }

    /// <summary>What changes or removes a resource.</summary>
    private static void MapChanges(RouteGroupBuilder scim, ScimResourceType type)
    {
        scim.MapPut(
            $"{type.Endpoint}/{{id}}",
            async (string id, HttpContext context, ScimDesk desk, CancellationToken cancel) =>
                Write(
                    context,
                    200,
                    await desk.ReplaceAsync(Pusher(context), type, id, await BodyAsync(context, cancel), IfMatch(context), cancel),
                    type
                )
        );
        scim.MapPatch(
            $"{type.Endpoint}/{{id}}",
            async (string id, HttpContext context, ScimDesk desk, CancellationToken cancel) =>
                Write(
                    context,
                    200,
                    await desk.PatchAsync(Pusher(context), type, id, await BodyAsync(context, cancel), IfMatch(context), cancel),
                    type
                )
        );
        scim.MapDelete(
            $"{type.Endpoint}/{{id}}",
            async (string id, HttpContext context, ScimDesk desk, CancellationToken cancel) =>
            {
                await desk.DeleteAsync(Pusher(context), type, id, IfMatch(context), cancel);
                return Results.NoContent();
            }
        );
    }

    /// <summary>Lets through who carries a valid token of a source that is switched on; failures become SCIM errors.</summary>
    private static async ValueTask<object?> GuardAsync(EndpointFilterInvocationContext invocation, EndpointFilterDelegate next)
    {
        var context = invocation.HttpContext;
        try
        {
            var header = context.Request.Headers.Authorization.ToString();
            if (!header.StartsWith("Bearer ", StringComparison.OrdinalIgnoreCase))
                return Unauthorized(context, "A bearer token of the source is needed.");
            var services = context.RequestServices;
            var (store, time) = (services.GetRequiredService<Store.Store>(), services.GetRequiredService<TimeProvider>());
            var token = await store.ReadAsync(
                s => s.SourceTokenAsync(Accounts.HashToken(header["Bearer ".Length..].Trim())),
                context.RequestAborted
            );
            if (token is null || token.EndedAt is not null || token.ExpiresAt <= time.Milliseconds())
                return Unauthorized(context, "The token is unknown or over.");
            if (token.Active != 1)
                throw new ScimFault(403, null, $"The source '{token.Source}' is switched off. Test it and switch it on first.");
            context.Items["pusher"] = new Pusher(token.Source, token.Id);
            return await next(invocation);
        }
        catch (ScimFault fault)
        {
            return Fault(context, fault);
        }
        catch (Problem problem)
        {
            return Fault(context, new(problem.Status, null, problem.Message));
        }
    }

    private static IResult Unauthorized(HttpContext context, string detail)
    {
        context.Response.Headers.WWWAuthenticate = "Bearer";
        return Fault(context, new(401, null, detail));
    }

    private static Pusher Pusher(HttpContext context) => (Pusher)context.Items["pusher"]!;

    private static string Address(HttpContext context) => $"{context.Request.Scheme}://{context.Request.Host}{Base}";

    private static IResult Fault(HttpContext context, ScimFault fault) => Write(context, fault.Status, ErrorOf(fault));

    private static JsonObject ErrorOf(ScimFault fault)
    {
        var error = new JsonObject
        {
            ["schemas"] = new JsonArray(ScimSchemas.Error),
            ["status"] = fault.Status.ToString(CultureInfo.InvariantCulture),
            ["detail"] = fault.Message,
        };
        if (fault.ScimType is not null)
            error["scimType"] = fault.ScimType;
        return error;
    }

    private static IResult Write(HttpContext context, int status, JsonNode body) =>
        Results.Text(body.ToJsonString(), "application/scim+json", Encoding.UTF8, status);

    private static IResult Write(HttpContext context, int status, ScimAnswer answer, ScimResourceType type)
    {
        var resource = Located(context, answer.Resource);
        context.Response.Headers.ETag = ScimDesk.Tag(answer.Version);
        context.Response.Headers.Location = resource["meta"]!["location"]!.GetValue<string>();
        var query = context.Request.Query;
        return Write(
            context,
            status,
            ScimResources.Projected(resource, type, Words(query["attributes"]), Words(query["excludedAttributes"]))
        );
    }

    private static JsonObject Located(HttpContext context, JsonObject resource)
    {
        var meta = (JsonObject)resource["meta"]!;
        meta["location"] = $"{context.Request.Scheme}://{context.Request.Host}{meta["location"]!.GetValue<string>()}";
        return resource;
    }

    private static List<string> Words(string? text) =>
        [.. (text ?? "").Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)];

    private static long? IfMatch(HttpContext context)
    {
        var text = context.Request.Headers.IfMatch.ToString();
        if (text.Length == 0 || text == "*")
            return null;
        return
            text.StartsWith("W/\"", StringComparison.Ordinal)
            && text.EndsWith('"')
            && long.TryParse(text[3..^1], NumberStyles.None, CultureInfo.InvariantCulture, out var version)
            ? version
            : throw ScimFault.Precondition();
    }

    private static async Task<JsonNode?> BodyAsync(HttpContext context, CancellationToken cancel)
    {
        if (context.Request.ContentLength > MaxPayload)
            throw ScimFault.TooLarge($"The body has {context.Request.ContentLength} bytes; {MaxPayload} are the most.");
        var media = context.Request.ContentType ?? "";
        if (
            !media.StartsWith("application/scim+json", StringComparison.OrdinalIgnoreCase)
            && !media.StartsWith("application/json", StringComparison.OrdinalIgnoreCase)
        )
            throw new ScimFault(415, null, "The body is application/scim+json.");
        using var body = new MemoryStream();
        var buffer = new byte[16_384];
        int read;
        while ((read = await context.Request.Body.ReadAsync(buffer, cancel)) > 0)
        {
            if (body.Length + read > MaxPayload)
                throw ScimFault.TooLarge($"The body is larger than {MaxPayload} bytes.");
            body.Write(buffer, 0, read);
        }
        return ScimBody.Read(body.GetBuffer().AsSpan(0, (int)body.Length));
    }

    private static JsonObject Provider(HttpContext context) =>
        new()
        {
            ["schemas"] = new JsonArray(ScimSchemas.ProviderSchema),
            ["patch"] = new JsonObject { ["supported"] = true },
            ["bulk"] = new JsonObject
            {
                ["supported"] = true,
                ["maxOperations"] = MaxOperations,
                ["maxPayloadSize"] = MaxPayload,
            },
            ["filter"] = new JsonObject { ["supported"] = true, ["maxResults"] = MaxResults },
            ["changePassword"] = new JsonObject { ["supported"] = false },
            ["sort"] = new JsonObject { ["supported"] = true },
            ["etag"] = new JsonObject { ["supported"] = true },
            ["authenticationSchemes"] = new JsonArray(
                new JsonObject
                {
                    ["type"] = "oauthbearertoken",
                    ["name"] = "Bearer token",
                    ["description"] = "A token of the source (RFC 6750); two may be valid at once.",
                    ["primary"] = true,
                }
            ),
            ["meta"] = new JsonObject
            {
                ["resourceType"] = "ServiceProviderConfig",
                ["location"] = $"{Address(context)}/ServiceProviderConfig",
            },
        };

    private static JsonObject List(HttpContext context, IEnumerable<JsonObject> resources)
    {
        // RFC 7644 §4: discovery takes no filter.
        if (context.Request.Query.ContainsKey("filter"))
            throw new ScimFault(403, null, "Discovery addresses take no filter.");
        var all = resources.ToList();
        return ListOf(all, all.Count, 1);
    }

    private static JsonObject ListOf(IReadOnlyList<JsonObject> page, long total, int start) =>
        new()
        {
            ["schemas"] = new JsonArray(ScimSchemas.ListResponse),
            ["totalResults"] = total,
            ["itemsPerPage"] = page.Count,
            ["startIndex"] = start,
            ["Resources"] = new JsonArray([.. page.Select(p => (JsonNode)p)]),
        };

    private static async Task<IResult> ListAsync(
        HttpContext context,
        ScimDesk desk,
        IReadOnlyList<ScimResourceType> types,
        string? filter,
        string? sortBy,
        string? sortOrder,
        string? startIndex,
        string? count,
        List<string> attributes,
        List<string> excluded,
        CancellationToken cancel
    )
    {
        if (attributes.Count > 0 && excluded.Count > 0)
            throw ScimFault.InvalidValue("Either 'attributes' or 'excludedAttributes', not both.");
        if (sortOrder is not (null or "" or "ascending" or "descending"))
            throw ScimFault.InvalidValue("'sortOrder' is ascending or descending.");
        // RFC 7644 §3.4.2.4: below 1 counts as 1, a negative count as 0.
        var start = Math.Max(1, Number(startIndex, 1, "startIndex"));
        var size = Math.Clamp(Number(count, 100, "count"), 0, MaxResults);
        var (page, total) = (new List<JsonObject>(), 0L);
        foreach (var type in types)
        {
            var found = await desk.ListAsync(
                Pusher(context),
                type,
                filter,
                string.IsNullOrEmpty(sortBy) ? null : sortBy,
                sortOrder == "descending",
                Math.Max(1, start - (int)total),
                Math.Max(0, size - page.Count),
                cancel
            );
            page.AddRange(found.Page.Select(r => ScimResources.Projected(Located(context, r), type, attributes, excluded)));
            total += found.Total;
        }
        return Write(context, 200, ListOf(page, total, start));
    }

    private static int Number(string? text, int otherwise, string name) =>
        string.IsNullOrEmpty(text) ? otherwise
        : int.TryParse(text, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var number) ? number
        : throw ScimFault.InvalidValue($"'{name}' is a number.");

    private static async Task<IResult> SearchAsync(
        HttpContext context,
        ScimDesk desk,
        IReadOnlyList<ScimResourceType> types,
        CancellationToken cancel
    )
    {
        if (
            await BodyAsync(context, cancel) is not JsonObject body
            || ScimValues.Get(body, "schemas") is not JsonArray schemas
            || !schemas.Any(s => s?.ToString() == ScimSchemas.SearchRequest)
        )
            throw ScimFault.InvalidSyntax($"'schemas' must hold {ScimSchemas.SearchRequest}.");
        string? Of(string name) =>
            ScimValues.Get(body, name) switch
            {
                null => null,
                JsonValue value => value.ToString(),
                _ => throw ScimFault.InvalidSyntax($"'{name}' is one value."),
            };
        List<string> Many(string name) =>
            ScimValues.Get(body, name) switch
            {
                null => [],
                JsonArray list => [.. list.Select(x => x?.ToString() ?? "")],
                var one => Words(one.ToString()),
            };
        return await ListAsync(
            context,
            desk,
            types,
            Of("filter"),
            Of("sortBy"),
            Of("sortOrder"),
            Of("startIndex"),
            Of("count"),
            Many("attributes"),
            Many("excludedAttributes"),
            cancel
        );
    }

    /// <summary>RFC 7644 §3.7: operations in one message; those that name another by its bulkId wait for it.</summary>
    private static async Task<IResult> BulkAsync(HttpContext context, ScimDesk desk, CancellationToken cancel)
    {
        if (
            await BodyAsync(context, cancel) is not JsonObject body
            || ScimValues.Get(body, "schemas") is not JsonArray schemas
            || !schemas.Any(s => s?.ToString() == ScimSchemas.BulkRequest)
        )
            throw ScimFault.InvalidSyntax($"'schemas' must hold {ScimSchemas.BulkRequest}.");
        if (ScimValues.Get(body, "Operations") is not JsonArray { Count: > 0 } operations)
            throw ScimFault.InvalidSyntax("'Operations' must be a list with at least one operation.");
        if (operations.Count > MaxOperations)
            throw ScimFault.TooLarge($"A bulk message has {MaxOperations} operations at most.");
        var failOn = ScimValues.Get(body, "failOnErrors") is JsonValue limit && limit.TryGetValue<int>(out var most) ? most : int.MaxValue;
        var ids = new Dictionary<string, string>(StringComparer.Ordinal);
        var results = new JsonObject?[operations.Count];
        var pending = Enumerable.Range(0, operations.Count).ToList();
        var errors = 0;
        while (pending.Count > 0 && errors < failOn)
        {
            var waiting = new List<int>();
            foreach (var index in pending)
            {
                if (errors >= failOn)
                    break;
                if (operations[index] is JsonObject operation && Unresolved(operation, ids))
                    waiting.Add(index);
                else
                {
                    results[index] = await OperationAsync(context, desk, operations[index] as JsonObject, ids, cancel);
                    if (results[index]!["response"] is not null)
                        errors++;
                }
            }
            if (waiting.Count == pending.Count)
            {
                // Nothing moved: what is left names each other, or nobody.
                foreach (var index in waiting)
                    results[index] = Failed(
                        operations[index] as JsonObject,
                        new(409, null, "It names a bulkId that no operation of this message gives, or they name each other.")
                    );
                break;
            }
            pending = waiting;
        }
        return Write(
            context,
            200,
            new JsonObject
            {
                ["schemas"] = new JsonArray(ScimSchemas.BulkResponse),
                ["Operations"] = new JsonArray([.. results.OfType<JsonObject>().Select(r => (JsonNode)r)]),
            }
        );
    }

    private static bool Unresolved(JsonNode node, Dictionary<string, string> ids) =>
        node switch
        {
            JsonObject json => json.Any(m => m.Key != "bulkId" && m.Value is not null && Unresolved(m.Value, ids)),
            JsonArray array => array.Any(v => v is not null && Unresolved(v, ids)),
            JsonValue value when value.GetValueKind() == JsonValueKind.String => Reference(value.GetValue<string>()) is { } name
                && !ids.ContainsKey(name),
            _ => false,
        };

    private static string? Reference(string text) =>
        text.IndexOf("bulkId:", StringComparison.Ordinal) is var at and >= 0 ? text[(at + 7)..].Split('/')[0] : null;

    private static JsonNode? Resolved(JsonNode? node, Dictionary<string, string> ids) =>
        node switch
        {
            JsonObject json => new JsonObject(json.Select(m => KeyValuePair.Create(m.Key, Resolved(m.Value, ids)))),
            JsonArray array => new JsonArray([.. array.Select(v => Resolved(v, ids))]),
            JsonValue value when value.GetValueKind() == JsonValueKind.String && Reference(value.GetValue<string>()) is { } name => value
                .GetValue<string>()
                .Replace($"bulkId:{name}", ids[name], StringComparison.Ordinal),
            _ => node?.DeepClone(),
        };

    private static async Task<JsonObject> OperationAsync(
        HttpContext context,
        ScimDesk desk,
        JsonObject? operation,
        Dictionary<string, string> ids,
        CancellationToken cancel
    )
    {
        try
        {
            if (operation is null)
                throw ScimFault.InvalidSyntax("Each operation is an object.");
            var method = ScimValues.Get(operation, "method")?.ToString().ToUpperInvariant() ?? "";
            var path = (Resolved(ScimValues.Get(operation, "path"), ids)?.ToString() ?? "").Trim('/').Split('/');
            var type =
                ScimSchemas.Types.FirstOrDefault(t => t.Endpoint.TrimStart('/') == path[0])
                ?? throw ScimFault.InvalidPath($"'{path[0]}' is no kind of resource.");
            var data = Resolved(ScimValues.Get(operation, "data"), ids);
            var bulkId = ScimValues.Get(operation, "bulkId")?.ToString();
            if (method == "POST" && path.Length == 1)
            {
                if (string.IsNullOrEmpty(bulkId))
                    throw ScimFault.InvalidSyntax("A POST in a bulk message has a 'bulkId'.");
                var made = await desk.CreateAsync(Pusher(context), type, data, cancel);
                ids[bulkId] = made.Resource["id"]!.GetValue<string>();
                return Done(operation, 201, context, type, ids[bulkId], made.Version);
            }
            if (path.Length != 2 || path[1].Length == 0)
                throw ScimFault.InvalidPath($"{method} takes a path such as {type.Endpoint}/ID.");
            return await ChangeAsync(context, desk, operation, method, type, path[1], data, cancel);
        }
        catch (ScimFault fault)
        {
            return Failed(operation, fault);
        }
    }

    private static async Task<JsonObject> ChangeAsync(
        HttpContext context,
        ScimDesk desk,
        JsonObject operation,
        string method,
        ScimResourceType type,
        string id,
        JsonNode? data,
        CancellationToken cancel
    )
    {
        var version =
            ScimValues.Get(operation, "version")?.ToString() is { } tag
            && tag.StartsWith("W/\"", StringComparison.Ordinal)
            && long.TryParse(tag[3..^1], CultureInfo.InvariantCulture, out var number)
                ? number
                : (long?)null;
        switch (method)
        {
            case "PUT":
                var put = await desk.ReplaceAsync(Pusher(context), type, id, data, version, cancel);
                return Done(operation, 200, context, type, id, put.Version);
            case "PATCH":
                var patched = await desk.PatchAsync(Pusher(context), type, id, data, version, cancel);
                return Done(operation, 200, context, type, id, patched.Version);
            case "DELETE":
                await desk.DeleteAsync(Pusher(context), type, id, version, cancel);
                return Done(operation, 204, context, type, id, null);
            default:
                throw ScimFault.InvalidSyntax("'method' is POST, PUT, PATCH or DELETE.");
        }
    }

    private static JsonObject Done(JsonObject operation, int status, HttpContext context, ScimResourceType type, string id, long? version)
    {
        var result = new JsonObject
        {
            ["location"] = $"{Address(context)}{type.Endpoint}/{id}",
            ["method"] = ScimValues.Get(operation, "method")?.DeepClone(),
            ["status"] = status.ToString(CultureInfo.InvariantCulture),
        };
        if (ScimValues.Get(operation, "bulkId") is { } bulkId)
            result["bulkId"] = bulkId.DeepClone();
        if (version is { } known)
            result["version"] = ScimDesk.Tag(known);
        return result;
    }

    private static JsonObject Failed(JsonObject? operation, ScimFault fault)
    {
        var result = new JsonObject
        {
            ["method"] = operation is null ? null : ScimValues.Get(operation, "method")?.DeepClone(),
            ["status"] = fault.Status.ToString(CultureInfo.InvariantCulture),
            ["response"] = ErrorOf(fault),
        };
        if (operation is not null && ScimValues.Get(operation, "bulkId") is { } bulkId)
            result["bulkId"] = bulkId.DeepClone();
        return result;
    }
}
