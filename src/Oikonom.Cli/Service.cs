using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Text.Json;

namespace Oikonom.Cli;

/// <summary>Exit codes; stable.</summary>
public static class Exit
{
    public const int Good = 0;
    public const int Refused = 1;
    public const int Usage = 2;
    public const int NotSignedIn = 3;
    public const int NotFound = 4;
    public const int Conflict = 5;
    public const int Unreachable = 6;

    /// <summary>The client itself is at fault.</summary>
    public const int Fault = 70;
}

/// <summary>What is told in one line on standard error, with the exit code.</summary>
public sealed class CliFault(int code, string message) : Exception(message)
{
    public int Code { get; } = code;

    /// <summary>What the service answered (RFC 9457), where it answered at all.</summary>
    public JsonElement? Problem { get; init; }

    /// <summary>The fault for machines: the problem of the service, else the same sentence that people read.</summary>
    public string AsJson() =>
        Problem is { ValueKind: JsonValueKind.Object } problem
            ? problem.GetRawText()
            : JsonSerializer.Serialize(
                new
                {
                    title = "The client cannot go on",
                    detail = Message,
                    exit = Code,
                }
            );
}

/// <summary>Speaks HTTP with the service; refusals become one line and an exit code.</summary>
public sealed class Service : IDisposable
{
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web);
    private readonly HttpClient _client;

    public Service(bool anonymous = false)
    {
        Address = Environment.GetEnvironmentVariable("OIKONOM_URL") is { Length: > 0 } url
            ? url.TrimEnd('/')
            : Credentials.LastAddress() ?? "http://127.0.0.1:7430";
        if (!Uri.TryCreate(Address, UriKind.Absolute, out var uri) || uri.Scheme is not ("http" or "https"))
            throw new CliFault(Exit.Usage, $"OIKONOM_URL is '{Address}', which is no http address.");
        _client = new() { BaseAddress = uri, Timeout = TimeSpan.FromMinutes(10) };
        if (anonymous)
            return;
        var token = Environment.GetEnvironmentVariable("OIKONOM_TOKEN") is { Length: > 0 } given
            ? given
            : Credentials.Token(Address)
                ?? throw new CliFault(Exit.NotSignedIn, $"Not signed in to {Address}. Run 'oikonom sign-in NAME', or set OIKONOM_TOKEN.");
        _client.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", token);
    }

    public string Address { get; }

    public Task<(T Value, JsonElement Raw)> GetAsync<T>(string path, CancellationToken cancel) =>
        SendAsync<T>(HttpMethod.Get, path, null, cancel);

    public Task<(T Value, JsonElement Raw)> PostAsync<T>(string path, object? body, CancellationToken cancel) =>
        SendAsync<T>(HttpMethod.Post, path, body ?? new { }, cancel);

    public Task<(T Value, JsonElement Raw)> PutAsync<T>(string path, object body, CancellationToken cancel) =>
        SendAsync<T>(HttpMethod.Put, path, body, cancel);

    public Task PutAsync(string path, object body, CancellationToken cancel) => SendAsync<JsonElement>(HttpMethod.Put, path, body, cancel);

    /// <summary>Sends bytes as they are.</summary>
    public async Task UploadAsync(string path, byte[] content, CancellationToken cancel)
    {
        using var message = new HttpRequestMessage(HttpMethod.Post, path) { Content = new ByteArrayContent(content) };
        message.Content.Headers.ContentType = new("application/octet-stream");
        using var response = await TrySendAsync(message, cancel);
        if (!response.IsSuccessStatusCode)
            throw await FaultAsync(response, cancel);
    }

    public Task DeleteAsync(string path, CancellationToken cancel) => SendAsync<JsonElement>(HttpMethod.Delete, path, null, cancel);

    /// <summary>The body as text, such as a file to keep.</summary>
    public async Task<string> GetTextAsync(string path, CancellationToken cancel)
    {
        using var response = await TrySendAsync(new(HttpMethod.Get, path), cancel);
        return response.IsSuccessStatusCode ? await response.Content.ReadAsStringAsync(cancel) : throw await FaultAsync(response, cancel);
    }

    private async Task<HttpResponseMessage> TrySendAsync(HttpRequestMessage message, CancellationToken cancel)
    {
        try
        {
            return await _client.SendAsync(message, cancel);
        }
        catch (HttpRequestException error)
        {
            throw new CliFault(
                Exit.Unreachable,
                $"{Address} cannot be reached: {error.GetBaseException().Message}. Is the service running?"
            );
        }
    }

    private async Task<(T, JsonElement)> SendAsync<T>(HttpMethod method, string path, object? body, CancellationToken cancel)
    {
        using var message = new HttpRequestMessage(method, path);
        if (body is not null)
            message.Content = JsonContent.Create(body, options: Json);
        var response = await TrySendAsync(message, cancel);
        using (response)
        {
            if (!response.IsSuccessStatusCode)
                throw await FaultAsync(response, cancel);
            if (response.StatusCode == System.Net.HttpStatusCode.NoContent)
                return (default!, default);
            if (response.Content.Headers.ContentLength is 0 || response.StatusCode == System.Net.HttpStatusCode.Accepted)
                return (default!, default);
            var raw = await response.Content.ReadFromJsonAsync<JsonElement>(cancel);
            return (raw.Deserialize<T>(Json)!, raw);
        }
    }

    private static async Task<CliFault> FaultAsync(HttpResponseMessage response, CancellationToken cancel)
    {
        var detail = $"The service answered {(int)response.StatusCode}.";
        var more = "";
        JsonElement? told = null;
        try
        {
            var problem = await response.Content.ReadFromJsonAsync<JsonElement>(cancel);
            told = problem;
            if (problem.TryGetProperty("detail", out var text))
                detail = text.GetString() ?? detail;
            if (problem.TryGetProperty("findings", out var findings))
                more = string.Concat(
                    findings
                        .EnumerateArray()
                        .Select(f =>
                            $"\n  {f.GetProperty("file").GetString()}:{f.GetProperty("line").GetInt32()}:"
                            + $"{f.GetProperty("column").GetInt32()}: "
                            + $"{f.GetProperty("message").GetString()}"
                        )
                );
        }
        catch (JsonException)
        {
            // A proxy answered; its status is all there is to tell.
        }
        return new(
            (int)response.StatusCode switch
            {
                401 => Exit.NotSignedIn,
                404 => Exit.NotFound,
                409 => Exit.Conflict,
                _ => Exit.Refused,
            },
            detail + more
        )
        {
            Problem = told,
        };
    }

    public void Dispose() => _client.Dispose();
}
