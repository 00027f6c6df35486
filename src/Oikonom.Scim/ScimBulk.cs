using System.Globalization;
using System.Text.Json.Nodes;

namespace Oikonom.Scim;

/// <summary>One call that changes something, as it stands in a bulk request.</summary>
/// <param name="Method">POST, PUT or PATCH.</param>
/// <param name="Path">Below the address of the protocol's version, without a slash before it.</param>
/// <param name="Tag">The version the resource must still have; "" lets any be changed.</param>
internal sealed record ScimCall(HttpMethod Method, string Path, JsonObject Body, string Tag)
{
    /// <summary>What it adds to the length of a bulk request, in characters, or somewhat more.</summary>
    public int Length { get; } = Body.ToJsonString().Length + Path.Length + 256;
}

/// <summary>What a server answers to one call of a bulk request (RFC 7644 section 3.7.3).</summary>
internal sealed record ScimAnswer(int Status, JsonObject? Body, string Tag, JsonObject? Error);

/// <summary>
/// Gathers calls that change something: while some are under way the next ones collect, and go out as one bulk request
/// (RFC 7644 section 3.7). One that is alone goes as it is. No call sees more than its own answer.
/// </summary>
/// <param name="most">How many operations the server takes at once.</param>
/// <param name="longest">How many bytes a request may have.</param>
/// <param name="alone">Makes one call.</param>
/// <param name="bulk">Sends a bulk request; null when the server takes none after all, and each goes alone.</param>
/// <param name="refusal">What an answer that says no means.</param>
internal sealed class ScimBulk(
    int most,
    int longest,
    Func<ScimCall, Task<(JsonObject? Body, string Tag)>> alone,
    Func<JsonObject, Task<JsonObject?>> bulk,
    Func<ScimAnswer, ScimRefusal> refusal
)
{
    /// <summary>How many requests are under way at once: while one is on its way the server works at the other.</summary>
    private const int Lanes = 2;
    private readonly Queue<Waiting> _waiting = [];
    private int _running;

    private sealed record Waiting(ScimCall Call, TaskCompletionSource<(JsonObject? Body, string Tag)> Done);

    /// <summary>Makes a call, alone or with others.</summary>
    /// <exception cref="ScimRefusal">It was not made, or the server says no to it.</exception>
    public Task<(JsonObject? Body, string Tag)> CallAsync(ScimCall call, CancellationToken cancel)
    {
        var waiting = new Waiting(call, new(TaskCreationOptions.RunContinuationsAsynchronously));
        lock (_waiting)
        {
            _waiting.Enqueue(waiting);
            if (_running < Lanes)
            {
                _running++;
                _ = Task.Run(RunAsync, CancellationToken.None);
            }
        }
        return waiting.Done.Task.WaitAsync(cancel);
    }

    private async Task RunAsync()
    {
        while (true)
        {
            List<Waiting> some;
            lock (_waiting)
            {
                some = Take();
                if (some.Count == 0)
                {
                    _running--;
                    return;
                }
            }
            try
            {
                if (some.Count == 1 || await bulk(MessageOf(some)).ConfigureAwait(false) is not { } answer)
                    await Task.WhenAll(some.Select(AloneAsync)).ConfigureAwait(false);
                else
                    Tell(some, answer);
            }
            catch (Exception error)
            {
                foreach (var waiting in some)
                    waiting.Done.TrySetException(error);
            }
        }
    }

    /// <summary>As many as go into one request, in the order they came; one goes in any case.</summary>
    private List<Waiting> Take()
    {
        var (some, length) = (new List<Waiting>(), 256);
        while (some.Count < most && _waiting.TryPeek(out var next) && (some.Count == 0 || length + next.Call.Length <= longest))
        {
            length += next.Call.Length;
            some.Add(_waiting.Dequeue());
        }
        return some;
    }

    private async Task AloneAsync(Waiting waiting)
    {
        try
        {
            waiting.Done.TrySetResult(await alone(waiting.Call).ConfigureAwait(false));
        }
        catch (Exception error)
        {
            waiting.Done.TrySetException(error);
        }
    }

    private static JsonObject MessageOf(List<Waiting> some) =>
        new()
        {
            ["schemas"] = new JsonArray(ScimSchemas.BulkRequest),
            ["Operations"] = new JsonArray([
                .. some.Select(
                    (waiting, i) =>
                    {
                        var call = new JsonObject
                        {
                            ["method"] = waiting.Call.Method.Method,
                            ["path"] = "/" + waiting.Call.Path,
                            ["bulkId"] = IdOf(i),
                            ["data"] = waiting.Call.Body.DeepClone(),
                        };
                        if (waiting.Call.Tag.Length > 0)
                            call["version"] = waiting.Call.Tag;
                        return call;
                    }
                ),
            ]),
        };

    private static string IdOf(int place) => place.ToString(CultureInfo.InvariantCulture);

    /// <summary>Each call gets its own answer: by its id, or by its place where the server repeats no ids and answers all.</summary>
    private void Tell(List<Waiting> some, JsonObject answer)
    {
        var answers = (ScimValues.Get(answer, "Operations") as JsonArray ?? []).OfType<JsonObject>().ToList();
        var byId = new Dictionary<string, JsonObject>(StringComparer.Ordinal);
        foreach (var one in answers)
            if (ScimPatch.Text(ScimValues.Get(one, "bulkId")) is { Length: > 0 } id)
                byId.TryAdd(id, one);
        for (var i = 0; i < some.Count; i++)
        {
            var mine = byId.GetValueOrDefault(IdOf(i));
            if (mine is null && byId.Count == 0 && answers.Count == some.Count)
                mine = answers[i];
            if (mine is null)
                // Whether it was done is not known: who asked looks before it is done again.
                some[i].Done.TrySetException(new ScimRefusal(ScimRefusalKind.Busy, "The answer to a bulk request leaves this call out."));
            else if (Read(mine) is var said && said.Status is >= 200 and < 300)
                some[i].Done.TrySetResult((said.Body ?? Named(mine), said.Tag));
            else
                some[i].Done.TrySetException(refusal(said));
        }
    }

    private static ScimAnswer Read(JsonObject one)
    {
        var status = ScimValues.Get(one, "status");
        // Servers of an earlier draft wrap it.
        if (status is JsonObject wrapped)
            status = ScimValues.Get(wrapped, "code");
        var body = ScimValues.Get(one, "response") as JsonObject;
        var number = ScimReading.Number(status) ?? 0;
        return number is >= 200 and < 300
            ? new(number, body, ScimPatch.Text(ScimValues.Get(one, "version")) ?? ScimClient.Tag(body), null)
            : new(number, null, "", body);
    }

    /// <summary>What was made and is not shown is known by its address (RFC 7644 section 3.7.3).</summary>
    private static JsonObject? Named(JsonObject one) =>
        ScimPatch.Text(ScimValues.Get(one, "method")) is not { } method || !method.Equals("POST", StringComparison.OrdinalIgnoreCase) ? null
        : ScimPatch.Text(ScimValues.Get(one, "location")) is { Length: > 0 } location
            ? new JsonObject { ["id"] = Uri.UnescapeDataString(location[(location.TrimEnd('/').LastIndexOf('/') + 1)..].TrimEnd('/')) }
        : null;
}
