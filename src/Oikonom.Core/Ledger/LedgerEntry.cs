using System.Text.Json;

namespace Oikonom.Core.Ledger;

/// <summary>
/// One thing that happened. <see cref="Body"/> is the canonical JSON that is hashed; the other fields repeat it
/// for looking up.
/// </summary>
public sealed record LedgerEntry(string Id, DateTimeOffset At, string Actor, string Kind, string? Person, string? Request, string Body)
{
    private static readonly JsonWriterOptions Options = new() { Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping };

    private static readonly string[] Reserved = ["id", "at", "actor", "kind", "person", "request"];

    /// <param name="details">Further members, written in the order given; a null value is left out.</param>
    /// <exception cref="ArgumentException">A detail has the name of a member that every entry has.</exception>
    public static LedgerEntry Of(DateTimeOffset at, string actor, string kind, string? person, string? request, params ReadOnlySpan<(string Name, object? Value)> details)
    {
        var id = Guid.CreateVersion7(at).ToString();
        var buffer = new System.Buffers.ArrayBufferWriter<byte>(512);
        using (var writer = new Utf8JsonWriter(buffer, Options))
        {
            writer.WriteStartObject();
            writer.WriteString("id", id);
            writer.WriteString("at", Stamp(at));
            writer.WriteString("actor", actor);
            writer.WriteString("kind", kind);
            if (person is not null) writer.WriteString("person", person);
            if (request is not null) writer.WriteString("request", request);
            foreach (var (name, value) in details)
            {
                if (Reserved.Contains(name)) throw new ArgumentException($"'{name}' is a member of every entry.", nameof(details));
                if (value is null) continue;
                writer.WritePropertyName(name);
                switch (value)
                {
                    case string text: writer.WriteStringValue(text); break;
                    case int number: writer.WriteNumberValue(number); break;
                    case long number: writer.WriteNumberValue(number); break;
                    case bool truth: writer.WriteBooleanValue(truth); break;
                    default: JsonSerializer.Serialize(writer, value, value.GetType(), JsonSerializerOptions.Web); break;
                }
            }
            writer.WriteEndObject();
        }
        return new(id, at, actor, kind, person, request, System.Text.Encoding.UTF8.GetString(buffer.WrittenSpan));
    }

    /// <summary>RFC 3339 in UTC with milliseconds.</summary>
    public static string Stamp(DateTimeOffset at) => at.UtcDateTime.ToString("yyyy-MM-dd'T'HH:mm:ss.fff'Z'", System.Globalization.CultureInfo.InvariantCulture);
}
