using System.Security.Cryptography;
using System.Text.Json;
using System.Text.Json.Serialization;
using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Planning;

/// <summary>An entitlement that a request asks for by name, with its term: an input, whether or not a change follows from it
/// today.</summary>
public sealed record Ask(EntitlementKey Key, DateTimeOffset? From, DateTimeOffset? Until);

/// <summary>The exact changes a request will make, in order. The same inputs give the same plan and the same digest.</summary>
public sealed record Plan(int Edition, IReadOnlyList<Change> Changes)
{
    /// <summary>Separations the result would break and that somebody may allow; null when there are none.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public IReadOnlyList<Conflict>? Conflicts { get; init; }

    /// <summary>What is asked for by name; null when nothing is.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public IReadOnlyList<Ask>? Asks { get; init; }

    /// <summary>SHA-256 of the inputs that the request would change beside <see cref="Asks"/>; null when there are none. An
    /// approval covers it.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public string? Inputs { get; init; }

    private static readonly JsonSerializerOptions Options = new(JsonSerializerDefaults.Web)
    {
        Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    };

    public string ToJson() => JsonSerializer.Serialize(this, Options);

    public static Plan FromJson(string json) =>
        JsonSerializer.Deserialize<Plan>(json, Options) ?? throw new JsonException("An empty plan.");

    /// <summary>SHA-256 of the plan in lower-case hexadecimal: what a decision is bound to.</summary>
    [JsonIgnore]
    public string Digest => Convert.ToHexStringLower(SHA256.HashData(JsonSerializer.SerializeToUtf8Bytes(this, Options)));
}
