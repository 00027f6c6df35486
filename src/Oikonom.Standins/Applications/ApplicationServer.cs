using System.Collections.Concurrent;
using System.Globalization;
using System.Net;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using System.Text.Json.Nodes;
using Oikonom.Scim;
using Oikonom.Standins.Directory;

namespace Oikonom.Standins.Applications;

/// <summary>
/// An application of Northmere that speaks SCIM 2.0 over TLS, strictly; and, when it is told to, with the imperfections that such
/// servers have. A page shows who is in it.
/// </summary>
public sealed class ApplicationServer : IAsyncDisposable
{
    private const int MaxPage = 100;
    private const int MaxBulk = 50;
    private const int MaxBulkBytes = 1024 * 1024;
    private readonly WebApplication _web;
    private readonly ConcurrentDictionary<string, bool> _imperfect = new();
    private int _calls;
    private int _bulks;

    private ApplicationServer(ApplicationKind kind, int port, string token, ApplicationData data, Certificates certificates)
    {
        (Kind, Port, Token, Data, AuthorityPem) = (kind, port, token, data, certificates.AuthorityPem);
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.UseKestrelHttpsConfiguration();
        using var pem = X509Certificate2.CreateFromPem(certificates.CertificatePem, certificates.KeyPem);
        var certificate = X509CertificateLoader.LoadPkcs12(pem.Export(X509ContentType.Pkcs12), null);
        builder.WebHost.ConfigureKestrel(kestrel => kestrel.Listen(IPAddress.Loopback, port, listen => listen.UseHttps(certificate)));
        _web = builder.Build();
        _web.Use(AnswerAsync);
        Map();
    }

    public ApplicationKind Kind { get; }
    public int Port { get; }

    /// <summary>The token it takes; whoever sets another one shuts out who has the old.</summary>
    public string Token { get; set; }
    public ApplicationData Data { get; }

    /// <summary>The certificate of who vouches for it.</summary>
    public string AuthorityPem { get; }
    public string Address => $"https://localhost:{Port}/scim/v2";

    /// <summary>How many calls of the protocol were answered.</summary>
    public int Calls => _calls;

    /// <summary>How many bulk requests were carried out.</summary>
    public int Bulks => _bulks;

    /// <param name="folder">Where users, groups and the certificate are kept; null keeps nothing.</param>
    public static async Task<ApplicationServer> StartAsync(ApplicationKind kind, int port, string token, string? folder)
    {
        var certificates = CertificatesIn(folder);
        var data = new ApplicationData(kind, folder is null ? null : Path.Combine(folder, $"{kind.Name}.json"));
        var server = new ApplicationServer(kind, port, token, data, certificates);
        await server._web.StartAsync();
        return server;
    }

    private static Certificates CertificatesIn(string? folder)
    {
        if (folder is null)
            return Certificates.Make();
        System.IO.Directory.CreateDirectory(folder);
        var (authority, certificate, key) = (
            Path.Combine(folder, "ca.pem"),
            Path.Combine(folder, "server.pem"),
            Path.Combine(folder, "server.key")
        );
        if (File.Exists(key))
            return new(File.ReadAllText(authority), File.ReadAllText(certificate), File.ReadAllText(key));
        var made = Certificates.Make();
        File.WriteAllText(authority, made.AuthorityPem);
        File.WriteAllText(certificate, made.CertificatePem);
        File.WriteAllText(key, made.KeyPem);
        return made;
    }

    /// <summary>Makes it do what servers get wrong, or stops that.</summary>
    public void Set(string imperfection, bool on = true)
    {
        if (on)
            _imperfect[imperfection] = true;
        else
            _imperfect.TryRemove(imperfection, out _);
    }

    private bool Is(string imperfection) => _imperfect.ContainsKey(imperfection);

    /// <summary>Lets in who has the token, and tells faults as the protocol wants (RFC 7644 section 3.12).</summary>
    private async Task AnswerAsync(HttpContext context, RequestDelegate next)
    {
        if (!context.Request.Path.StartsWithSegments("/scim/v2"))
        {
            await next(context);
            return;
        }
        var call = Interlocked.Increment(ref _calls);
        try
        {
            if (context.Request.Headers.Authorization != $"Bearer {Token}")
                throw new ScimFault(401, null, "The token is not known.");
            if (Is(Imperfection.Down))
                throw new ScimFault(503, null, "Closed for repairs.");
            if (Is(Imperfection.Busy) && call % 3 != 0)
            {
                context.Response.Headers.RetryAfter = "1";
                throw new ScimFault(429, null, "Too many calls.");
            }
            await next(context);
        }
        catch (ScimFault fault)
        {
            context.Response.StatusCode = fault.Status;
            await WriteAsync(context, ErrorOf(fault));
        }
    }

    private void Map()
    {
        var scim = _web.MapGroup("/scim/v2");
        scim.MapGet("/ServiceProviderConfig", context => WriteAsync(context, Config()));
        scim.MapGet(
            "/Schemas",
            context =>
                Is(Imperfection.NoSchemas)
                    ? throw ScimFault.NotFound("Schemas")
                    : WriteAsync(context, List([.. ScimSchemas.All.Select(s => s.ToJson(Address))], 1, ScimSchemas.All.Count))
        );
        scim.MapGet(
            "/ResourceTypes",
            context => WriteAsync(context, List([.. ScimSchemas.Types.Select(t => t.ToJson(Address))], 1, ScimSchemas.Types.Count))
        );
        foreach (var type in ScimSchemas.Types)
            Map(scim, type);
        scim.MapPost("/Bulk", BulkAsync);
        scim.Map("/{**rest}", Task (HttpContext context) => throw ScimFault.NotFound(context.Request.Path));
        _web.MapGet("/", () => Results.Content(ApplicationPage.Of(this), "text/html; charset=utf-8"));
        _web.MapGet("/imperfections", () => Imperfection.All.Select(i => new { name = i, on = Is(i) }));
        _web.MapPut("/imperfections/{name}", (string name) => Switch(name, true));
        _web.MapDelete("/imperfections/{name}", (string name) => Switch(name, false));
    }

    private IResult Switch(string name, bool on)
    {
        if (!Imperfection.All.Contains(name))
            return Results.NotFound(new { detail = $"There is no imperfection '{name}'; see /imperfections." });
        Set(name, on);
        return Results.NoContent();
    }

    private void Map(RouteGroupBuilder scim, ScimResourceType type)
    {
        scim.MapGet(type.Endpoint, context => WriteAsync(context, ListOf(type, context.Request.Query)));
        scim.MapPost(
            type.Endpoint,
            async context =>
            {
                var made = Data.Add(type, await BodyAsync(context));
                context.Response.StatusCode = 201;
                context.Response.Headers.Location = $"{Address}{type.Endpoint}/{made["id"]}";
                await WriteAsync(context, Shown(made));
            }
        );
        scim.MapGet(
            type.Endpoint + "/{id}",
            context =>
            {
                var id = (string)context.GetRouteValue("id")!;
                return WriteAsync(context, Shown(Data.Find(type, id) ?? throw ScimFault.NotFound(id)), isOne: true);
            }
        );
        scim.MapPut(
            type.Endpoint + "/{id}",
            async context =>
            {
                var body = await BodyAsync(context);
                await WriteAsync(context, Shown(Data.Change(type, (string)context.GetRouteValue("id")!, Version(context), _ => body)));
            }
        );
        scim.MapPatch(
            type.Endpoint + "/{id}",
            async context =>
            {
                if (Is(Imperfection.PatchRefused) || Is(Imperfection.NoPatch))
                    throw new ScimFault(501, null, "PATCH is not possible here.");
                var body = await BodyAsync(context);
                var changed = Data.Change(
                    type,
                    (string)context.GetRouteValue("id")!,
                    Version(context),
                    before => ScimPatch.Apply(before, body, type)
                );
                if (Is(Imperfection.SilentPatch))
                    context.Response.StatusCode = 204;
                else
                    await WriteAsync(context, Shown(changed));
            }
        );
        scim.MapDelete(
            type.Endpoint + "/{id}",
            context =>
            {
                Data.Remove(type, (string)context.GetRouteValue("id")!);
                context.Response.StatusCode = 204;
                return Task.CompletedTask;
            }
        );
    }

    /// <summary>Several changes at once, each with its own answer (RFC 7644 section 3.7).</summary>
    private async Task BulkAsync(HttpContext context)
    {
        if (Is(Imperfection.NoBulk) || Is(Imperfection.BulkRefused))
            throw new ScimFault(501, null, "Bulk requests are not possible here.");
        var body = await BodyAsync(context);
        if (context.Request.ContentLength > MaxBulkBytes || body["Operations"] is not JsonArray { Count: > 0 and <= MaxBulk } operations)
            throw new ScimFault(413, null, $"A bulk request has 1 to {MaxBulk} operations and {MaxBulkBytes} bytes at most.");
        Interlocked.Increment(ref _bulks);
        var answers = operations.Select(o => Operate(o as JsonObject ?? throw ScimFault.InvalidSyntax("An operation is an object.")));
        var all = answers.ToList();
        if (Is(Imperfection.HalfBulk))
            all.RemoveAt(all.Count - 1);
        await WriteAsync(
            context,
            new() { ["schemas"] = new JsonArray(ScimSchemas.BulkResponse), ["Operations"] = new JsonArray([.. all]) }
        );
    }

    private JsonObject Operate(JsonObject operation)
    {
        var (method, path) = (operation["method"]?.GetValue<string>(), operation["path"]?.GetValue<string>() ?? "");
        var answer = new JsonObject { ["method"] = method };
        if (operation["bulkId"] is { } id && !Is(Imperfection.SilentBulk))
            answer["bulkId"] = id.GetValue<string>();
        try
        {
            var type =
                ScimSchemas.Types.FirstOrDefault(t => path == t.Endpoint || path.StartsWith(t.Endpoint + "/", StringComparison.Ordinal))
                ?? throw ScimFault.NotFound(path);
            var of = Uri.UnescapeDataString(path[type.Endpoint.Length..].TrimStart('/'));
            var data = operation["data"] as JsonObject ?? throw ScimFault.InvalidSyntax("An operation has its data.");
            var version = Is(Imperfection.NoVersions) ? "" : operation["version"]?.GetValue<string>() ?? "";
            var after = method switch
            {
                "POST" => Data.Add(type, data),
                "PUT" => Data.Change(type, of, version, _ => data),
                "PATCH" when Is(Imperfection.PatchRefused) || Is(Imperfection.NoPatch) => throw new ScimFault(
                    501,
                    null,
                    "PATCH is not possible here."
                ),
                "PATCH" => Data.Change(type, of, version, before => ScimPatch.Apply(before, data, type)),
                _ => throw ScimFault.InvalidSyntax($"'{method}' is not possible in a bulk request here."),
            };
            answer["status"] = method == "POST" ? "201" : "200";
            answer["location"] = $"{Address}{type.Endpoint}/{after["id"]}";
            if (!Is(Imperfection.SilentBulk))
            {
                answer["version"] = after["meta"]?["version"]?.GetValue<string>();
                answer["response"] = Shown(after);
            }
        }
        catch (ScimFault fault)
        {
            answer["status"] = fault.Status.ToString(CultureInfo.InvariantCulture);
            answer["response"] = ErrorOf(fault);
        }
        return answer;
    }

    private static JsonObject ErrorOf(ScimFault fault)
    {
        var body = new JsonObject
        {
            ["schemas"] = new JsonArray(ScimSchemas.Error),
            ["status"] = fault.Status.ToString(CultureInfo.InvariantCulture),
            ["detail"] = fault.Message,
        };
        if (fault.ScimType is { } type)
            body["scimType"] = type;
        return body;
    }

    private string Version(HttpContext context) => Is(Imperfection.NoVersions) ? "" : context.Request.Headers.IfMatch.ToString();

    private JsonObject Config()
    {
        static JsonObject Can(bool can) => new() { ["supported"] = can };
        var filter = Can(true);
        filter["maxResults"] = MaxPage;
        var bulk = Can(!Is(Imperfection.NoBulk));
        (bulk["maxOperations"], bulk["maxPayloadSize"]) = (MaxBulk, MaxBulkBytes);
        return new()
        {
            ["schemas"] = new JsonArray(ScimSchemas.ProviderSchema),
            ["patch"] = Can(!Is(Imperfection.NoPatch)),
            ["bulk"] = bulk,
            ["filter"] = filter,
            ["changePassword"] = Can(false),
            ["sort"] = Can(false),
            ["etag"] = Can(!Is(Imperfection.NoVersions)),
            ["authenticationSchemes"] = new JsonArray(new JsonObject { ["type"] = "oauthbearertoken", ["name"] = "Bearer token" }),
        };
    }

    private JsonObject ListOf(ScimResourceType type, IQueryCollection query)
    {
        var all = Data.All(type).AsEnumerable();
        var start = Math.Max(Whole(query["startIndex"], 1), 1);
        // Whoever stands first is away for every page but the first: all others slip one place forward.
        if (Is(Imperfection.PagesMove) && start > 1 && _calls % 3 == 0)
            all = all.Skip(1);
        if (query["filter"].ToString() is { Length: > 0 } text && !Is(Imperfection.IgnoresFilters))
        {
            var filter = ScimFilter.Parse(text);
            all = all.Where(r => filter.Matches(r, type) && (!Is(Imperfection.CaseMatters) || Exactly(r, text)));
        }
        var found = all.Select(Shown).ToList();
        var count = Math.Clamp(Whole(query["count"], MaxPage), 0, MaxPage);
        return List(
            [
                .. found
                    .Skip(start - 1)
                    .Take(count)
                    .Select(r => ScimResources.Projected(r, type, Words(query["attributes"]), Words(query["excludedAttributes"]))),
            ],
            start,
            found.Count
        );
    }

    /// <summary>Whether a name of a user that a filter names stands in the resource letter by letter.</summary>
    private static bool Exactly(JsonObject resource, string filter) =>
        !filter.StartsWith("userName ", StringComparison.OrdinalIgnoreCase)
        || filter.Contains($"\"{resource["userName"]}\"", StringComparison.Ordinal);

    private static int Whole(string? text, int otherwise) =>
        int.TryParse(text, NumberStyles.Integer, CultureInfo.InvariantCulture, out var number) ? number : otherwise;

    private static IReadOnlyList<string> Words(string? text) =>
        (text ?? "").Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);

    private static JsonObject List(IReadOnlyList<JsonObject> resources, int start, int total) =>
        new()
        {
            ["schemas"] = new JsonArray(ScimSchemas.ListResponse),
            ["totalResults"] = total,
            ["startIndex"] = start,
            ["itemsPerPage"] = resources.Count,
            ["Resources"] = new JsonArray([.. resources]),
        };

    private JsonObject Shown(JsonObject resource)
    {
        if (Is(Imperfection.LosesExternalIds))
            resource.Remove("externalId");
        if (Is(Imperfection.HidesGroups))
            resource.Remove("groups");
        if (Is(Imperfection.NoVersions))
            (resource["meta"] as JsonObject)?.Remove("version");
        if (Is(Imperfection.HidesTimes) && resource["meta"] is JsonObject meta)
        {
            meta.Remove("created");
            meta.Remove("lastModified");
        }
        if (Is(Imperfection.TruthsAsTexts) && ScimReading.Truth(resource["active"]) is { } active)
            resource["active"] = active ? "True" : "False";
        return resource;
    }

    private static async Task<JsonObject> BodyAsync(HttpContext context)
    {
        if (context.Request.ContentType?.Split(';')[0].Trim() is not ("application/scim+json" or "application/json"))
            throw new ScimFault(415, null, "The body is application/scim+json.");
        using var body = new MemoryStream();
        await context.Request.Body.CopyToAsync(body);
        return ScimBody.Read(body.ToArray()) as JsonObject ?? throw ScimFault.InvalidSyntax("The body is an object.");
    }

    private async Task WriteAsync(HttpContext context, JsonObject body, bool isOne = false)
    {
        var text = body.ToJsonString();
        context.Response.ContentType = "application/scim+json";
        if (body["meta"]?["version"]?.GetValue<string>() is { } version)
            context.Response.Headers.ETag = version;
        if (isOne && Is(Imperfection.AnswersHtml))
        {
            context.Response.ContentType = "text/html";
            text = "<!doctype html><html><head><title>Signed out</title></head><body>Your session has ended.</body></html>";
        }
        if (isOne && Is(Imperfection.HalfAnswers))
            text = text[..(text.Length / 2)];
        if (isOne && Is(Imperfection.HugeAnswers))
            text = text[..^1] + $",\"nickName\":\"{new string('x', 10 * 1024 * 1024)}\"}}";
        await context.Response.Body.WriteAsync(Encoding.UTF8.GetBytes(text));
    }

    public async ValueTask DisposeAsync()
    {
        await _web.StopAsync();
        await _web.DisposeAsync();
    }
}
