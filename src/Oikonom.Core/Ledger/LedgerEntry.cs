using System.Collections.Frozen;
using System.Text.Json;
using Oikonom.Proofs;

namespace Oikonom.Core.Ledger;

/// <summary>
/// One thing that happened. <see cref="Body"/> is the canonical JSON that is hashed; the other fields repeat it
/// for looking up. What is said of people stands in <see cref="Values"/> beside it: the body holds a commitment to
/// each value, so that values can be forgotten and the record still verifies.
/// </summary>
/// <param name="Values">Name → salt and value, as JSON; null when the body holds all.</param>
public sealed record LedgerEntry(
    string Id,
    DateTimeOffset At,
    string Actor,
    string Kind,
    string? Person,
    string? Request,
    string Body,
    string? Values = null
)
{
    private static readonly JsonWriterOptions Options = new()
    {
        Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    };
    private static readonly JsonSerializerOptions ValueOptions = new(JsonSerializerDefaults.Web)
    {
        Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    };

    private static readonly string[] Reserved = ["id", "at", "actor", "kind", "person", "request", "sealed"];

    /// <summary>
    /// The details that say nothing of a person: names of the rulebook, ids, counts, digests, and who of those who
    /// answer for it acted. All others are sealed, so that a new detail is never written in clear by oversight.
    /// </summary>
    private static readonly FrozenSet<string> InClear = new[]
    {
        "active",
        "address",
        "approver",
        "as",
        "begins",
        "change",
        "check",
        "counts",
        "delegation",
        "digest",
        "document",
        "due",
        "edition",
        "ends",
        "entitlement",
        "expires",
        "for",
        "from",
        "good",
        "hook",
        "item",
        "items",
        "key",
        "kinds",
        "line",
        "mode",
        "node",
        "order",
        "passed",
        "people",
        "pool",
        "proposal",
        "raises",
        "reach",
        "release",
        "replanned",
        "requestKind",
        "resource",
        "resourceId",
        "role",
        "roles",
        "rollout",
        "activeBefore",
        "reachBefore",
        "rolesBefore",
        "root",
        "rule",
        "run",
        "secret",
        "session",
        "sha256",
        "signature",
        "signed",
        "size",
        "source",
        "stage",
        "step",
        "target",
        "task",
        "to",
        "token",
        "user",
        "verdict",
        "version",
        "way",
        "what",
        "count",
    }.ToFrozenSet(StringComparer.Ordinal);

    /// <param name="details">Further members, written in the order given; a null value is left out. Those that may say something
    /// of a person are sealed.</param>
    /// <exception cref="ArgumentException">A detail has the name of a member that every entry has.</exception>
    public static LedgerEntry Of(
        DateTimeOffset at,
        string actor,
        string kind,
        string? person,
        string? request,
        params ReadOnlySpan<(string Name, object? Value)> details
    )
    {
        var id = Guid.CreateVersion7(at).ToString();
        var text = Text.Of();
        var sealedValues = text.Sealed;
        var writer = text.Begin();
        writer.WriteString("id", id);
        writer.WriteString("at", Stamp(at));
        writer.WriteString("actor", actor);
        writer.WriteString("kind", kind);
        if (person is not null)
            writer.WriteString("person", person);
        if (request is not null)
            writer.WriteString("request", request);
        foreach (var (name, value) in details)
        {
            if (Reserved.Contains(name))
                throw new ArgumentException($"'{name}' is a member of every entry.", nameof(details));
            if (value is null)
                continue;
            if (InClear.Contains(name))
            {
                writer.WritePropertyName(name);
                JsonSerializer.Serialize(writer, value, value.GetType(), ValueOptions);
                continue;
            }
            var json = JsonSerializer.Serialize(value, value.GetType(), ValueOptions);
            var (salt, hash) = Commitment.To(json);
            sealedValues.Add((name, salt, json, hash));
        }
        if (sealedValues.Count == 0)
            return new(id, at, actor, kind, person, request, text.End());
        writer.WriteStartObject("sealed");
        foreach (var (name, _, _, hash) in sealedValues)
            writer.WriteString(name, hash);
        writer.WriteEndObject();
        var body = text.End();
        writer = text.Begin();
        foreach (var (name, salt, json, _) in sealedValues)
        {
            writer.WriteStartObject(name);
            writer.WriteString("salt", salt);
            writer.WritePropertyName("value");
            writer.WriteRawValue(json, skipInputValidation: true);
            writer.WriteEndObject();
        }
        return new(id, at, actor, kind, person, request, body, text.End());
    }

    /// <summary>What an entry is written with; kept for the next one of the same thread, since a bulk run writes thousands.</summary>
    private sealed class Text
    {
        [ThreadStatic]
        private static Text? _kept;
        private readonly System.Buffers.ArrayBufferWriter<byte> _buffer = new(1024);
        private readonly Utf8JsonWriter _writer;

        private Text() => _writer = new(_buffer, Options);

        /// <summary>The values that are sealed, of the entry being written.</summary>
        public List<(string Name, string Salt, string Json, string Hash)> Sealed { get; } = [];

        /// <summary>That of this thread, emptied: an entry that could not be written leaves nothing behind.</summary>
        public static Text Of()
        {
            var text = _kept ??= new();
            text.Sealed.Clear();
            return text;
        }

        /// <summary>Begins an object; what was written before is gone.</summary>
        public Utf8JsonWriter Begin()
        {
            _buffer.ResetWrittenCount();
            _writer.Reset();
            _writer.WriteStartObject();
            return _writer;
        }

        /// <summary>Ends the object, as JSON.</summary>
        public string End()
        {
            _writer.WriteEndObject();
            _writer.Flush();
            return System.Text.Encoding.UTF8.GetString(_buffer.WrittenSpan);
        }
    }

    /// <summary>RFC 3339 in UTC with milliseconds.</summary>
    public static string Stamp(DateTimeOffset at) =>
        at.UtcDateTime.ToString("yyyy-MM-dd'T'HH:mm:ss.fff'Z'", System.Globalization.CultureInfo.InvariantCulture);
}

/// <summary>Reads entries back: the sealed body together with what is still held of its values.</summary>
public static class LedgerText
{
    /// <summary>The values of an entry, by name, each as JSON text with its salt.</summary>
    public static IReadOnlyDictionary<string, SaltedValue> ValuesOf(string? values)
    {
        var found = new Dictionary<string, SaltedValue>(StringComparer.Ordinal);
        if (values is null)
            return found;
        using var document = JsonDocument.Parse(values);
        foreach (var one in document.RootElement.EnumerateObject())
            found[one.Name] = new(one.Value.GetProperty("salt").GetString() ?? "", one.Value.GetProperty("value").GetRawText());
        return found;
    }

    /// <summary>The entry as it reads: its values in their places, and the names of those that are forgotten under
    /// <c>forgotten</c>.</summary>
    public static JsonElement Open(string body, string? values)
    {
        using var document = JsonDocument.Parse(body);
        if (!document.RootElement.TryGetProperty("sealed", out var seals))
            return document.RootElement.Clone();
        var held = ValuesOf(values);
        var buffer = new System.Buffers.ArrayBufferWriter<byte>(512);
        using (var writer = new Utf8JsonWriter(buffer))
        {
            writer.WriteStartObject();
            foreach (var member in document.RootElement.EnumerateObject().Where(m => m.Name != "sealed"))
                member.WriteTo(writer);
            var gone = new List<string>();
            foreach (var seal in seals.EnumerateObject())
            {
                if (!held.TryGetValue(seal.Name, out var value))
                {
                    gone.Add(seal.Name);
                    continue;
                }
                writer.WritePropertyName(seal.Name);
                writer.WriteRawValue(value.Value);
            }
            if (gone.Count > 0)
            {
                writer.WriteStartArray("forgotten");
                foreach (var name in gone)
                    writer.WriteStringValue(name);
                writer.WriteEndArray();
            }
            writer.WriteEndObject();
        }
        using var opened = JsonDocument.Parse(buffer.WrittenMemory);
        return opened.RootElement.Clone();
    }

    /// <summary>What is wrong with the values that are held of an entry, or null: each must be what was sealed.</summary>
    public static string? Fault(string body, string? values)
    {
        if (values is null)
            return null;
        using var document = JsonDocument.Parse(body);
        foreach (var (name, held) in ValuesOf(values))
            if (
                !document.RootElement.TryGetProperty("sealed", out var seals)
                || !seals.TryGetProperty(name, out var hash)
                || !Commitment.Holds(held.Salt, held.Value, hash.GetString() ?? "")
            )
                return name;
        return null;
    }
}
