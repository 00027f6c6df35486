using System.Net;
using System.Net.Http.Headers;
using System.Runtime.CompilerServices;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace Oikonom.Scim;

/// <summary>A resource as it was read, with its version (RFC 7644 section 3.14); "" where the server tells none.</summary>
public sealed record ScimRead(JsonObject Resource, string Tag)
{
    /// <summary>The id that the server gave it (RFC 7643 section 3.1); "" where it shows none.</summary>
    public string Id => ScimPatch.Text(ScimValues.Get(Resource, "id")) ?? "";
}

/// <summary>
/// A client of SCIM 2.0 (RFC 7644). It believes no answer: each is bounded, read whole, and what a filter was to find is
/// looked through again, since there are servers that answer a filter with everybody.
/// </summary>
/// <param name="http">Whose base address is that of the protocol's version and which carries the token; it belongs to the caller.</param>
/// <param name="title">How people call the application.</param>
public sealed class ScimClient(HttpClient http, string title)
{
    private const int MostPerResource = 1024 * 1024;
    private const int MostPerPage = 64 * 1024 * 1024;
    private const int MostReadings = 4;
    private const int MostPages = 100_000;
    private const int FirstWords = 160;
    private ScimBulk? _bulk;

    /// <summary>The server's time at its last answer (RFC 9110 section 6.6.1); null where it tells none.</summary>
    public DateTimeOffset? ServerTime { get; private set; }

    private static readonly MediaTypeHeaderValue Scim = new("application/scim+json") { CharSet = "utf-8" };

    /// <summary>What the server can, and what its users are made of; what it does not tell is taken for as the protocol demands.</summary>
    /// <exception cref="ScimRefusal">It is not there, or answers what is no SCIM.</exception>
    public async Task<ScimProvider> ProviderAsync(CancellationToken cancel)
    {
        var config = await FindAsync("ServiceProviderConfig", cancel).ConfigureAwait(false);
        var schemas = await FindAsync("Schemas", cancel).ConfigureAwait(false);
        var provider = ScimProvider.Of(config, schemas is null ? [] : [.. Resources(schemas).OfType<JsonObject>()]);
        _bulk =
            provider.MostPerBulk > 1
                ? new(
                    provider.MostPerBulk,
                    provider.LongestBulk,
                    call => CallAsync(call.Method, call.Path, call.Body, call.Tag, MostPerResource, CancellationToken.None),
                    BulkAsync,
                    answer => Refusal(answer.Status, Told(answer.Error), null)
                )
                : null;
        return provider;
    }

    /// <summary>A call that changes something goes with others where the server takes them together.</summary>
    private Task<(JsonObject? Body, string Tag)> ChangeAsync(
        HttpMethod method,
        string path,
        JsonObject body,
        string tag,
        CancellationToken cancel
    ) =>
        _bulk is { } bulk
            ? bulk.CallAsync(new(method, path, body, tag), cancel)
            : CallAsync(method, path, body, tag, MostPerResource, cancel);

    /// <summary>Several calls at once; null when the server takes none, whatever it says of itself: nothing was done then.</summary>
    private async Task<JsonObject?> BulkAsync(JsonObject message)
    {
        try
        {
            return (await CallAsync(HttpMethod.Post, "Bulk", message, "", MostPerPage, CancellationToken.None).ConfigureAwait(false)).Body
                ?? throw new ScimRefusal(ScimRefusalKind.Nonsense, $"{title} answers a bulk request with nothing.");
        }
        catch (ScimRefusal refused) when (refused.Kind is ScimRefusalKind.NotThere or ScimRefusalKind.Unable or ScimRefusalKind.Refused)
        {
            _bulk = null;
            return null;
        }
        catch (ScimRefusal unclear) when (unclear.Kind == ScimRefusalKind.Nonsense)
        {
            // What of it was done is not known: each is looked up and done alone from now on.
            _bulk = null;
            throw new ScimRefusal(ScimRefusalKind.Busy, unclear.Message, inner: unclear);
        }
    }

    private async Task<JsonObject?> FindAsync(string path, CancellationToken cancel)
    {
        try
        {
            return (await CallAsync(HttpMethod.Get, path, null, "", MostPerPage, cancel).ConfigureAwait(false)).Body;
        }
        catch (ScimRefusal refusal) when (refusal.Kind is ScimRefusalKind.NotThere or ScimRefusalKind.Unable)
        {
            return null;
        }
    }

    /// <summary>One resource by its id; null when there is none.</summary>
    /// <exception cref="ScimRefusal">It is not there, or answers what is no SCIM.</exception>
    public async Task<ScimRead?> ReadAsync(ScimResourceType type, string id, CancellationToken cancel)
    {
        try
        {
            return Read(await CallAsync(HttpMethod.Get, PathOf(type, id), null, "", MostPerResource, cancel).ConfigureAwait(false), id);
        }
        catch (ScimRefusal refusal) when (refusal.Kind == ScimRefusalKind.NotThere)
        {
            return null;
        }
    }

    /// <summary>The resources that have a value, each looked at again here.</summary>
    /// <param name="path">A path of RFC 7644 section 3.10 without a filter of its own, or with one.</param>
    /// <param name="excluded">Attributes that are not needed, separated by commas.</param>
    /// <exception cref="ScimRefusal">It is not there, or answers what is no SCIM.</exception>
    public async Task<IReadOnlyList<ScimRead>> WithAsync(
        ScimResourceType type,
        string path,
        string value,
        ScimProvider provider,
        string excluded,
        CancellationToken cancel
    )
    {
        var found = new List<ScimRead>();
        var filter = provider.Filters ? $"{path} eq {ScimWriting.Quoted(value)}" : "";
        await foreach (var resource in ListAsync(type, filter, provider, excluded, cancel).ConfigureAwait(false))
            if (ScimReading.Texts(resource, path, type).Contains(value, StringComparer.OrdinalIgnoreCase))
                found.Add(new(resource, Tag(resource)));
        return found;
    }

    /// <summary>
    /// Every resource once, page by page. What changes while it is read is read again, so that nobody who was there all the
    /// time is missed.
    /// </summary>
    /// <param name="filter">A filter of RFC 7644 section 3.4.2.2, or "".</param>
    /// <exception cref="ScimRefusal">It is not there, answers what is no SCIM, or changes too fast.</exception>
    public async IAsyncEnumerable<JsonObject> ListAsync(
        ScimResourceType type,
        string filter,
        ScimProvider provider,
        string excluded,
        [EnumeratorCancellation] CancellationToken cancel
    )
    {
        var seen = new HashSet<string>(StringComparer.Ordinal);
        for (var reading = 1; ; reading++)
        {
            var (start, total, moved, inThis) = (1, -1, false, 0);
            for (var pages = 0; ; pages++)
            {
                var page = await PageAsync(type, filter, provider, excluded, start, cancel).ConfigureAwait(false);
                var known = ScimReading.Number(ScimValues.Get(page, "totalResults")) ?? -1;
                moved |= total >= 0 && known != total;
                total = known;
                var resources = Resources(page);
                foreach (var resource in resources.OfType<JsonObject>())
                {
                    inThis++;
                    if (seen.Add(ScimPatch.Text(ScimValues.Get(resource, "id")) ?? Guid.NewGuid().ToString()))
                        yield return resource;
                }
                start += resources.Count;
                if (resources.Count == 0 || start > total)
                    break;
                if (pages == MostPages)
                    throw new ScimRefusal(ScimRefusalKind.Nonsense, $"{title} has no last page within {MostPages}.");
            }
            // Somebody who came or went moved the rest: whoever slipped from one page to another is found by reading again.
            if (!moved && (total < 0 || inThis >= total))
                yield break;
            if (reading == MostReadings)
                throw new ScimRefusal(
                    ScimRefusalKind.Busy,
                    $"{title} changed each of the {MostReadings} times it was read; it is read again when it is quiet."
                );
        }
    }

    /// <summary>How many resources of a kind there are (RFC 7644 section 3.4.2.4).</summary>
    /// <exception cref="ScimRefusal">It is not there, answers what is no SCIM, or does not tell.</exception>
    public async Task<int> CountAsync(ScimResourceType type, CancellationToken cancel)
    {
        var path = $"{type.Endpoint.TrimStart('/')}?startIndex=1&count=0";
        var (page, _) = await CallAsync(HttpMethod.Get, path, null, "", MostPerPage, cancel).ConfigureAwait(false);
        return ScimReading.Number(page is null ? null : ScimValues.Get(page, "totalResults"))
            ?? throw new ScimRefusal(ScimRefusalKind.Nonsense, $"{title} does not tell how many there are.");
    }

    private async Task<JsonObject> PageAsync(
        ScimResourceType type,
        string filter,
        ScimProvider provider,
        string excluded,
        int start,
        CancellationToken cancel
    )
    {
        var query = new StringBuilder($"{type.Endpoint.TrimStart('/')}?startIndex={start}&count={provider.PageSize}");
        if (filter.Length > 0)
            query.Append("&filter=").Append(Uri.EscapeDataString(filter));
        else if (provider.Sorts)
            query.Append("&sortBy=id");
        if (excluded.Length > 0)
            query.Append("&excludedAttributes=").Append(Uri.EscapeDataString(excluded));
        return (await CallAsync(HttpMethod.Get, query.ToString(), null, "", MostPerPage, cancel).ConfigureAwait(false)).Body
            ?? throw new ScimRefusal(ScimRefusalKind.Nonsense, $"{title} answers a list with nothing.");
    }

    private static JsonArray Resources(JsonObject list) => ScimValues.Get(list, "Resources") as JsonArray ?? [];

    /// <summary>Makes a resource (RFC 7644 section 3.3).</summary>
    /// <exception cref="ScimRefusal">Among others with <see cref="ScimRefusalKind.Taken"/>.</exception>
    public async Task<ScimRead> CreateAsync(ScimResourceType type, JsonObject resource, CancellationToken cancel) =>
        Read(await ChangeAsync(HttpMethod.Post, type.Endpoint.TrimStart('/'), resource, "", cancel).ConfigureAwait(false), null);

    /// <summary>Changes a resource (RFC 7644 section 3.5.2).</summary>
    /// <param name="tag">The version it must still have; "" lets any be changed.</param>
    /// <returns>The resource after it, or null where the server does not show it (status 204).</returns>
    /// <exception cref="ScimRefusal">Among others with <see cref="ScimRefusalKind.Changed"/>.</exception>
    public async Task<ScimRead?> PatchAsync(ScimResourceType type, string id, JsonObject message, string tag, CancellationToken cancel)
    {
        var answer = await ChangeAsync(HttpMethod.Patch, PathOf(type, id), message, tag, cancel).ConfigureAwait(false);
        return answer.Body is null ? null : Read(answer, id);
    }

    /// <summary>Puts a resource in the place of the one that is there (RFC 7644 section 3.5.1).</summary>
    /// <exception cref="ScimRefusal">Among others with <see cref="ScimRefusalKind.Changed"/>.</exception>
    public async Task ReplaceAsync(ScimResourceType type, string id, JsonObject resource, string tag, CancellationToken cancel) =>
        await ChangeAsync(HttpMethod.Put, PathOf(type, id), resource, tag, cancel).ConfigureAwait(false);

    private static string PathOf(ScimResourceType type, string id) => $"{type.Endpoint.TrimStart('/')}/{Uri.EscapeDataString(id)}";

    /// <param name="id">The id that was asked for; null when the server gives one.</param>
    private ScimRead Read((JsonObject? Body, string Tag) answer, string? id)
    {
        var read = new ScimRead(answer.Body ?? [], answer.Tag);
        if (read.Id.Length == 0)
            throw new ScimRefusal(ScimRefusalKind.Nonsense, $"{title} answers with something that has no id.");
        if (id is not null && read.Id != id)
            throw new ScimRefusal(ScimRefusalKind.Nonsense, $"{title} was asked for {id} and answers with {read.Id}.");
        return read;
    }

    internal static string Tag(JsonObject? resource) =>
        resource is not null && ScimValues.Get(resource, "meta") is JsonObject meta
            ? ScimPatch.Text(ScimValues.Get(meta, "version")) ?? ""
            : "";

    private async Task<(JsonObject? Body, string Tag)> CallAsync(
        HttpMethod method,
        string path,
        JsonObject? body,
        string tag,
        int most,
        CancellationToken cancel
    )
    {
        using var request = new HttpRequestMessage(method, new Uri(path, UriKind.Relative));
        request.Headers.Accept.ParseAdd("application/scim+json");
        request.Headers.Accept.ParseAdd("application/json;q=0.9");
        if (body is not null)
            request.Content = new StringContent(body.ToJsonString(), Encoding.UTF8, Scim);
        if (tag.Length > 0)
            request.Headers.TryAddWithoutValidation("If-Match", tag);
        try
        {
            using var response = await http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, cancel).ConfigureAwait(false);
            ServerTime = response.Headers.Date ?? ServerTime;
            var bytes = await BytesAsync(response, most, cancel).ConfigureAwait(false);
            if (!response.IsSuccessStatusCode)
                throw Refusal(response, bytes);
            if (bytes.Length == 0)
                return (null, response.Headers.ETag?.ToString() ?? "");
            var json = Parsed(bytes);
            return (json, response.Headers.ETag?.ToString() ?? Tag(json));
        }
        catch (HttpRequestException error)
        {
            throw new ScimRefusal(ScimRefusalKind.Unreachable, Unreachable(error), inner: error);
        }
        catch (IOException error)
        {
            throw new ScimRefusal(ScimRefusalKind.Unreachable, $"{title} broke off its answer: {error.Message}", inner: error);
        }
        catch (TaskCanceledException error) when (!cancel.IsCancellationRequested)
        {
            throw new ScimRefusal(
                ScimRefusalKind.Unreachable,
                $"{title} did not answer within {http.Timeout.TotalSeconds:0} s.",
                inner: error
            );
        }
    }

    private string Unreachable(HttpRequestException error) =>
        error.HttpRequestError switch
        {
            HttpRequestError.NameResolutionError => $"The name {http.BaseAddress?.Host} of {title} is not known.",
            HttpRequestError.ConnectionError => $"Nothing answers for {title} at {http.BaseAddress?.Authority}.",
            HttpRequestError.SecureConnectionError =>
                $"The connection to {title} is not trusted: {error.InnerException?.Message ?? error.Message}",
            _ => $"{title} was not reached: {error.InnerException?.Message ?? error.Message}",
        };

    private async Task<byte[]> BytesAsync(HttpResponseMessage response, int most, CancellationToken cancel)
    {
        var stream = await response.Content.ReadAsStreamAsync(cancel).ConfigureAwait(false);
        await using var _ = stream.ConfigureAwait(false);
        using var whole = new MemoryStream();
        var buffer = new byte[16 * 1024];
        int read;
        while ((read = await stream.ReadAsync(buffer, cancel).ConfigureAwait(false)) > 0)
        {
            whole.Write(buffer, 0, read);
            if (whole.Length > most)
                throw new ScimRefusal(
                    ScimRefusalKind.Nonsense,
                    $"{title} answers with more than {most / 1024 / 1024} MB, which begins '{Words(whole.GetBuffer().AsSpan(0, 1024))}'."
                );
        }
        return whole.ToArray();
    }

    private JsonObject Parsed(byte[] bytes)
    {
        try
        {
            if (ScimBody.Read(bytes) is JsonObject json)
                return json;
        }
        catch (ScimFault)
        {
            // Told below, with the first words of what it is.
        }
        throw new ScimRefusal(ScimRefusalKind.Nonsense, $"{title} answers with something that is no SCIM: '{Words(bytes)}'.");
    }

    private ScimRefusal Refusal(HttpResponseMessage response, byte[] bytes) =>
        Refusal((int)response.StatusCode, Told(bytes), After(response));

    private ScimRefusal Refusal(int status, (string Detail, string? Type) told, TimeSpan? after)
    {
        var (detail, type) = told;
        var kind = ((HttpStatusCode)status, type) switch
        {
            (HttpStatusCode.Unauthorized, _) => ScimRefusalKind.Token,
            (HttpStatusCode.NotFound, _) => ScimRefusalKind.NotThere,
            (HttpStatusCode.PreconditionFailed, _) => ScimRefusalKind.Changed,
            (HttpStatusCode.Conflict, _) or (_, "uniqueness") => ScimRefusalKind.Taken,
            (HttpStatusCode.NotImplemented or HttpStatusCode.MethodNotAllowed, _) => ScimRefusalKind.Unable,
            (HttpStatusCode.RequestTimeout or HttpStatusCode.TooManyRequests, _) => ScimRefusalKind.Busy,
            _ => status >= 500 ? ScimRefusalKind.Busy : ScimRefusalKind.Refused,
        };
        var text = kind switch
        {
            ScimRefusalKind.Token => $"{title} does not take the token: {detail}",
            ScimRefusalKind.Busy => $"{title} cannot now ({status}): {detail}",
            _ => $"{title} refuses ({status}): {detail}",
        };
        return new(kind, text, after);
    }

    /// <summary>What an error says (RFC 7644 section 3.12); of what is none, its first words.</summary>
    private static (string Detail, string? Type) Told(byte[] bytes)
    {
        try
        {
            if (ScimBody.Read(bytes) is JsonObject error && Told(error) is { Detail.Length: > 0 } told)
                return told;
        }
        catch (ScimFault)
        {
            // It is shown as it came.
        }
        return (bytes.Length == 0 ? "it says nothing more." : $"'{Words(bytes)}'.", null);
    }

    private static (string Detail, string? Type) Told(JsonObject? error) =>
        (
            error is not null && ScimPatch.Text(ScimValues.Get(error, "detail")) is { } detail ? Words(Encoding.UTF8.GetBytes(detail)) : "",
            error is null ? null : ScimPatch.Text(ScimValues.Get(error, "scimType"))
        );

    private static TimeSpan? After(HttpResponseMessage response) =>
        response.Headers.RetryAfter switch
        {
            { Delta: { } wait } => wait,
            { Date: { } until } when response.Headers.Date is { } now && until > now => until - now,
            _ => null,
        };

    /// <summary>The first words of an answer, for people: one line, without what is no letter of a text.</summary>
    private static string Words(ReadOnlySpan<byte> bytes)
    {
        var words = new StringBuilder();
        foreach (var rune in Encoding.UTF8.GetString(bytes[..Math.Min(bytes.Length, 1024)]).EnumerateRunes())
        {
            if (words.Length >= FirstWords)
                break;
            var plain = Rune.IsControl(rune) || Rune.IsWhiteSpace(rune) ? new Rune(' ') : rune;
            if (plain.Value != ' ' || (words.Length > 0 && words[^1] != ' '))
                words.Append(plain.ToString());
        }
        return words.ToString().TrimEnd();
    }
}
