using System.Globalization;
using System.Net;
using System.Net.Http.Headers;
using System.Net.Security;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using System.Text.Json;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;

namespace Oikonom.Sources.Http;

/// <summary>
/// A source that is asked over HTTP for JSON, page by page. Keeps to the allowed rate and to <c>Retry-After</c>
/// (RFC 9110 §10.2.3), tries again what is transient, and reads anew what changed while it was read.
/// </summary>
public sealed class HttpSource : IDisposable
{
    private const int MaxTries = 6;
    private const int MaxReadings = 4;
    private const int MaxPages = 100_000;
    private const int MaxPage = 64 * 1024 * 1024;
    private static readonly BackOff Resting = new(TimeSpan.FromMilliseconds(200), TimeSpan.FromSeconds(12.8));
    private static readonly TimeSpan LongestWait = TimeSpan.FromMinutes(2);
    private readonly SourceRule _source;
    private readonly HttpRule _rule;
    private readonly HttpClient _client;
    private readonly TimeProvider _time;
    private DateTimeOffset _nextCall;

    /// <param name="secret">The key or token that opens the source.</param>
    /// <param name="authority">The certificate (PEM) that signs the service's; "" for those of the machine.</param>
    public HttpSource(SourceRule source, string secret, string authority, TimeProvider time)
    {
        _source = source;
        _rule = source.Http ?? throw new ArgumentException("The source is not asked over HTTP.", nameof(source));
        _time = time;
        var handler = new SocketsHttpHandler
        {
            AllowAutoRedirect = false,
            AutomaticDecompression = DecompressionMethods.All,
            ConnectTimeout = TimeSpan.FromSeconds(10),
        };
        if (authority.Length > 0)
        {
            var trusted = X509CertificateLoader.LoadCertificate(Encoding.ASCII.GetBytes(authority));
            handler.SslOptions = new SslClientAuthenticationOptions
            {
                CertificateChainPolicy = new()
                {
                    TrustMode = X509ChainTrustMode.CustomRootTrust,
                    RevocationMode = X509RevocationMode.NoCheck,
                },
            };
            handler.SslOptions.CertificateChainPolicy.CustomTrustStore.Add(trusted);
        }
        _client = new(handler) { Timeout = TimeSpan.FromSeconds(60) };
        if (_rule.Header.Equals("Authorization", StringComparison.OrdinalIgnoreCase))
            _client.DefaultRequestHeaders.Authorization = new("Bearer", secret);
        else
            _client.DefaultRequestHeaders.TryAddWithoutValidation(_rule.Header, secret);
        _client.DefaultRequestHeaders.Accept.Add(new("application/json"));
    }

    /// <summary>All records, or those changed since an instant (ISO 8601) when <paramref name="since"/> is given.</summary>
    /// <exception cref="SourceFault">The source is away, refuses, or answers what cannot be read.</exception>
    public async Task<RecordDelivery> ReadAsync(string since, CancellationToken cancel)
    {
        var started = _time.GetUtcNow();
        for (var reading = 1; ; reading++)
        {
            var (records, steady) = await PagesAsync(since, cancel).ConfigureAwait(false);
            if (steady)
                return new(
                    _source,
                    _rule.Address.ToString(),
                    _source.IsFull && since.Length == 0,
                    records,
                    started.AddMinutes(-1).ToString("yyyy-MM-dd'T'HH:mm:ss'Z'", CultureInfo.InvariantCulture)
                );
            if (reading == MaxReadings)
                throw new SourceFault(
                    $"{_rule.Address} changed each of the {MaxReadings} times it was read; run it when the source is quiet.",
                    transient: true
                );
        }
    }

    /// <summary>The first records, for a test or a preview.</summary>
    public async Task<RecordDelivery> FirstAsync(int count, CancellationToken cancel)
    {
        using var page = await GetAsync(Query("", Math.Min(count, _rule.PageSize)), cancel).ConfigureAwait(false);
        return new(_source, _rule.Address.ToString(), false, [.. PageOf(page).Records.Take(count)]);
    }

    private async Task<(List<IReadOnlyList<string>> Records, bool Steady)> PagesAsync(string since, CancellationToken cancel)
    {
        var records = new List<IReadOnlyList<string>>();
        var keys = new HashSet<string>(StringComparer.Ordinal);
        long? total = null;
        var next = Query(since, _rule.PageSize);
        for (var pages = 0; pages < MaxPages; pages++)
        {
            using var page = await GetAsync(next, cancel).ConfigureAwait(false);
            var (found, known, following) = PageOf(page);
            // A total that moves, or a key that comes twice on different pages, means that the pages shifted.
            if (pages > 0 && known != total)
                return (records, false);
            total = known;
            var before = records.Count;
            foreach (var texts in found)
            {
                if (pages > 0 && keys.Contains(texts[_source.KeyColumn]))
                    return (records, false);
                records.Add(texts);
            }
            for (var i = before; i < records.Count; i++)
                keys.Add(records[i][_source.KeyColumn]);
            if (following.Length == 0)
                return (records, total is null || total == records.Count);
            next = NextOf(following);
        }
        throw new SourceFault($"{_rule.Address} has no last page within {MaxPages}.");
    }

    private JsonPage PageOf(JsonDocument page) =>
        JsonPage.Of(page.RootElement, _rule.Items, _rule.Next, _source.Paths, _rule.Address.ToString());

    /// <summary>The next page: an address of the same host, or a cursor.</summary>
    private Uri NextOf(string text)
    {
        if (text.StartsWith('/') || text.Contains("://", StringComparison.Ordinal) || text.StartsWith('?'))
        {
            if (!Uri.TryCreate(_rule.Address, text, out var uri))
                throw new SourceFault($"{_rule.Address} names a next page that is no address.");
            if (uri.Host != _rule.Address.Host || uri.Port != _rule.Address.Port || uri.Scheme != _rule.Address.Scheme)
                throw new SourceFault($"{_rule.Address} sends on to another host ({uri.Host}); the key is not shown to it.");
            return uri;
        }
        return new($"{_rule.Address}?after={Uri.EscapeDataString(text)}&size={_rule.PageSize}");
    }

    private Uri Query(string since, int size) =>
        new(
            $"{_rule.Address}?size={size.ToString(CultureInfo.InvariantCulture)}"
                + (since.Length > 0 && _rule.Since.Length > 0 ? $"&{_rule.Since}={Uri.EscapeDataString(since)}" : "")
        );

    private Task<JsonDocument> GetAsync(Uri address, CancellationToken cancel) => SendAsync(() => new(HttpMethod.Get, address), cancel);

    /// <summary>Writes fields back to one record (RFC 7396 merge patch).</summary>
    /// <exception cref="SourceFault">The source is away or refuses.</exception>
    public async Task WriteBackAsync(string key, string fields, CancellationToken cancel)
    {
        using var _ = await SendAsync(
                () =>
                    new(HttpMethod.Patch, $"{_rule.Address.ToString().TrimEnd('/')}/{Uri.EscapeDataString(key)}")
                    {
                        Content = new StringContent(fields, Encoding.UTF8, "application/merge-patch+json"),
                    },
                cancel
            )
            .ConfigureAwait(false);
    }

    private async Task<JsonDocument> SendAsync(Func<HttpRequestMessage> make, CancellationToken cancel)
    {
        for (var attempt = 1; ; attempt++)
        {
            await PaceAsync(cancel).ConfigureAwait(false);
            string problem;
            var wait = Resting.After(attempt);
            try
            {
                using var message = make();
                using var response = await _client
                    .SendAsync(message, HttpCompletionOption.ResponseHeadersRead, cancel)
                    .ConfigureAwait(false);
                if (response.IsSuccessStatusCode)
                    return await ParseAsync(response, cancel).ConfigureAwait(false);
                problem = $"{_rule.Address} answered {(int)response.StatusCode}";
                if (response.StatusCode is HttpStatusCode.Unauthorized or HttpStatusCode.Forbidden)
                    throw new SourceFault($"{problem}: the key '{_rule.Secret}' is not accepted. Set it anew.");
                if (
                    response.StatusCode is not (HttpStatusCode.TooManyRequests or HttpStatusCode.RequestTimeout)
                    && (int)response.StatusCode < 500
                )
                    throw new SourceFault($"{problem}.");
                if (RetryAfter(response.Headers.RetryAfter) is { } asked)
                    wait = asked;
                if (wait > LongestWait)
                    throw new SourceFault($"{problem} and asks to come back in {wait.TotalMinutes:0} minutes.", transient: true);
            }
            catch (HttpRequestException error) when (error.InnerException is System.Security.Authentication.AuthenticationException tls)
            {
                throw new SourceFault($"The certificate of {_rule.Address} is not trusted: {tls.Message}");
            }
            catch (Exception error)
                when (error is HttpRequestException or IOException or JsonException
                    || (error is TaskCanceledException && !cancel.IsCancellationRequested)
                )
            {
                problem =
                    error is JsonException
                        ? $"{_rule.Address} broke off in the middle of an answer"
                        : $"{_rule.Address} cannot be reached: {error.GetBaseException().Message}";
            }
            if (attempt >= MaxTries)
                throw new SourceFault($"{problem}, {MaxTries} times.", transient: true);
            await Task.Delay(wait, _time, cancel).ConfigureAwait(false);
        }
    }

    private static async Task<JsonDocument> ParseAsync(HttpResponseMessage response, CancellationToken cancel)
    {
        if (response.StatusCode == HttpStatusCode.NoContent)
            return JsonDocument.Parse("{}");
        if (response.Content.Headers.ContentLength > MaxPage)
            throw new SourceFault($"A page is larger than {MaxPage >> 20} MB; ask for smaller ones.");
        var bytes = new MemoryStream();
        await using var stream = await response.Content.ReadAsStreamAsync(cancel).ConfigureAwait(false);
        var buffer = new byte[81_920];
        int read;
        while ((read = await stream.ReadAsync(buffer, cancel).ConfigureAwait(false)) > 0)
        {
            if (bytes.Length + read > MaxPage)
                throw new SourceFault($"A page is larger than {MaxPage >> 20} MB; ask for smaller ones.");
            bytes.Write(buffer, 0, read);
        }
        return bytes.Length == 0
            ? JsonDocument.Parse("{}")
            : JsonDocument.Parse(bytes.GetBuffer().AsMemory(0, (int)bytes.Length), new() { MaxDepth = 32 });
    }

    private TimeSpan? RetryAfter(RetryConditionHeaderValue? header) =>
        header?.Delta
        ?? (
            header?.Date is { } date
                ? date - _time.GetUtcNow() is { Ticks: > 0 } wait
                    ? wait
                    : TimeSpan.Zero
                : null
        );

    private async Task PaceAsync(CancellationToken cancel)
    {
        var now = _time.GetUtcNow();
        if (_nextCall > now)
            await Task.Delay(_nextCall - now, _time, cancel).ConfigureAwait(false);
        _nextCall = (_nextCall > now ? _nextCall : now) + TimeSpan.FromSeconds(1.0 / _rule.CallsPerSecond);
    }

    public void Dispose() => _client.Dispose();
}
