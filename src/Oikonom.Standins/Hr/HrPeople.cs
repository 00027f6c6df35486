using System.Collections.Concurrent;
using System.Globalization;
using System.Text.Json;

namespace Oikonom.Standins.Hr;

/// <summary>What goes wrong with the next calls, for as many of them as asked.</summary>
public enum HrFault
{
    None,
    TooMany,
    Broken,
    Slow,
    Cut,
    Shifting,
}

/// <summary>
/// The HR system's service: people as JSON, page by page, all or those changed since an instant, opened by a key; it
/// takes write-backs, and goes wrong on demand.
/// </summary>
public sealed class HrPeople(string key, TimeProvider time)
{
    private static readonly string[] Given = ["Maren", "Tor", "Ilse", "Bram", "Noor", "Yara", "Kai", "Lene", "Otis", "Signe"];
    private static readonly string[] Family =
    [
        "Oldfield",
        "Selkirk",
        "Harbour",
        "Quill",
        "Marsh",
        "Fenwick",
        "Tidewell",
        "Stone",
        "Brook",
        "Lark",
    ];
    private static readonly string[] Departments = ["Animal Care", "Dive Team", "Visitor Services", "Research", "Administration"];
    private static readonly string[] Sites = ["harbour", "saltmarsh", "reefpoint"];
    private readonly Lock _gate = new();
    private SortedDictionary<string, (Dictionary<string, string> Record, DateTimeOffset ChangedAt)> _people = new(StringComparer.Ordinal);
    private (HrFault Kind, int Left) _fault;
    private int _calls;

    /// <summary>Fields written back, by record.</summary>
    public ConcurrentDictionary<string, IReadOnlyDictionary<string, string>> Written { get; } = new();
    public int Calls => Volatile.Read(ref _calls);

    public void Set(IEnumerable<IReadOnlyDictionary<string, string>> records)
    {
        var now = time.GetUtcNow();
        lock (_gate)
        {
            var fresh = new SortedDictionary<string, (Dictionary<string, string>, DateTimeOffset)>(StringComparer.Ordinal);
            foreach (var record in records)
                fresh[record["employee_no"]] = (new(record), now);
            _people = fresh;
        }
    }

    public void Change(string number, string field, string value)
    {
        lock (_gate)
        {
            var (record, _) = _people[number];
            _people[number] = (new(record) { [field] = value }, time.GetUtcNow());
        }
    }

    /// <summary>Makes that many people up; the same number gives the same people.</summary>
    public static IEnumerable<IReadOnlyDictionary<string, string>> Invent(int count)
    {
        for (var i = 1; i <= count; i++)
        {
            var number = i.ToString("D6", CultureInfo.InvariantCulture);
            yield return new Dictionary<string, string>
            {
                ["person_no"] = "P" + number,
                ["employee_no"] = "H" + number,
                ["given_name"] = Given[i % Given.Length],
                ["family_name"] = Family[i / Given.Length % Family.Length] + number,
                ["kind"] = i % 7 == 0 ? "volunteer" : "employee",
                ["start_date"] = new DateOnly(2010, 1, 4).AddDays(i % 5000).ToString("yyyy-MM-dd", CultureInfo.InvariantCulture),
                ["end_date"] = "",
                ["manager_no"] = i == 1 ? "" : "H" + (1 + (i / 12)).ToString("D6", CultureInfo.InvariantCulture),
                ["department"] = Departments[i % Departments.Length],
                ["site"] = Sites[i % Sites.Length],
                ["job_title"] = "Member of " + Departments[i % Departments.Length],
                ["cost_centre"] = (4000 + (i % 50)).ToString(CultureInfo.InvariantCulture),
                ["private_mail"] = $"h{number}@post.example",
                ["phone"] = "+00 555 " + number,
            };
        }
    }

    /// <summary>The next <paramref name="calls"/> calls go wrong.</summary>
    public void Fail(HrFault kind, int calls) => _fault = (kind, calls);

    public void Map(WebApplication app)
    {
        app.MapGet("/people", PageAsync);
        app.MapPatch(
            "/people/{number}",
            async (string number, HttpContext context) =>
            {
                if (!Opens(context))
                    return Results.StatusCode(401);
                if (Take() is HrFault.Broken or HrFault.TooMany)
                    return Results.StatusCode(503);
                lock (_gate)
                    if (!_people.ContainsKey(number))
                        return Results.NotFound(new { detail = $"There is no record '{number}'." });
                Written[number] = await context.Request.ReadFromJsonAsync<Dictionary<string, string>>(context.RequestAborted) ?? [];
                return Results.NoContent();
            }
        );
        MapControls(app);
    }

    private async Task<IResult> PageAsync(HttpContext context, int? size, string? after, string? since)
    {
        if (!Opens(context))
            return Results.Json(new { detail = "The key is not accepted." }, statusCode: 401);
        Interlocked.Increment(ref _calls);
        var fault = Take();
        switch (fault)
        {
            case HrFault.TooMany:
                context.Response.Headers.RetryAfter = "1";
                return Results.StatusCode(429);
            case HrFault.Broken:
                return Results.StatusCode(500);
            case HrFault.Slow:
                await Task.Delay(TimeSpan.FromMilliseconds(500), time, context.RequestAborted);
                break;
        }
        if (!string.IsNullOrEmpty(since) && !DateTimeOffset.TryParse(since, CultureInfo.InvariantCulture, out _))
            return Results.Json(new { detail = $"'{since}' is no time." }, statusCode: 400);
        var from = string.IsNullOrEmpty(since) ? DateTimeOffset.MinValue : DateTimeOffset.Parse(since, CultureInfo.InvariantCulture);
        var take = Math.Clamp(size ?? 100, 1, 5000);
        List<KeyValuePair<string, (Dictionary<string, string> Record, DateTimeOffset ChangedAt)>> known;
        lock (_gate)
            known = [.. _people.Where(p => p.Value.ChangedAt >= from)];
        var page = known.SkipWhile(p => after is not null && string.CompareOrdinal(p.Key, after) <= 0).Take(take + 1).ToList();
        var body = JsonSerializer.SerializeToUtf8Bytes(
            new
            {
                // A page that changes while it is read tells another total than the page before.
                total = fault == HrFault.Shifting ? known.Count + 1 : known.Count,
                items = page.Take(take).Select(p => p.Value.Record),
                next = page.Count > take
                    ? $"/people?size={take}&after={Uri.EscapeDataString(page[take - 1].Key)}"
                        + $"{(since is null ? "" : $"&since={Uri.EscapeDataString(since)}")}"
                    : null,
            }
        );
        if (fault != HrFault.Cut)
            return Results.Bytes(body, "application/json");
        context.Response.ContentType = "application/json";
        context.Response.ContentLength = body.Length;
        await context.Response.Body.WriteAsync(body.AsMemory(0, body.Length / 2), context.RequestAborted);
        await context.Response.Body.FlushAsync(context.RequestAborted);
        context.Abort();
        return Results.Empty;
    }

    /// <summary>What the demo and tests turn: faults, people who are made up, and what was written back.</summary>
    private void MapControls(WebApplication app)
    {
        app.MapGet("/written", () => Written.OrderBy(w => w.Key, StringComparer.Ordinal).ToDictionary(w => w.Key, w => w.Value));
        app.MapPost(
            "/faults/{kind}",
            (string kind, int? calls) =>
            {
                if (!Enum.TryParse<HrFault>(kind, ignoreCase: true, out var fault))
                    return Results.NotFound(
                        new { detail = $"'{kind}' is no fault; known are {string.Join(", ", Enum.GetNames<HrFault>())}." }
                    );
                Fail(fault, calls ?? 1);
                return Results.NoContent();
            }
        );
        app.MapPost(
            "/people/invented/{count:int}",
            (int count) =>
            {
                if (count is < 1 or > 500_000)
                    return Results.BadRequest(new { detail = "From 1 to 500000." });
                Set(Invent(count));
                return Results.NoContent();
            }
        );
    }

    private bool Opens(HttpContext context) =>
        context.Request.Headers["X-Api-Key"] == key || context.Request.Headers.Authorization == $"Bearer {key}";

    private HrFault Take()
    {
        lock (_gate)
        {
            if (_fault.Left <= 0)
                return HrFault.None;
            _fault.Left--;
            return _fault.Kind;
        }
    }
}

/// <summary>The HR service on a port of its own.</summary>
public sealed class HrServer : IAsyncDisposable
{
    private readonly WebApplication _app;

    private HrServer(WebApplication app, HrPeople people) => (_app, People) = (app, people);

    public HrPeople People { get; }

    public static async Task<HrServer> StartAsync(int port, string key)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.ConfigureKestrel(kestrel => kestrel.ListenLocalhost(port));
        var app = builder.Build();
        var people = new HrPeople(key, TimeProvider.System);
        people.Map(app);
        await app.StartAsync();
        return new(app, people);
    }

    public async ValueTask DisposeAsync() => await _app.DisposeAsync();
}
