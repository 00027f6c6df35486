using System.Text.Json;
using System.Text.Json.Nodes;

namespace Oikonom.Scim;

/// <summary>Reads the body of a request: JSON of bounded depth, no name twice, and every text whole.</summary>
public static class ScimBody
{
    private const int MaxDepth = 32;

    /// <exception cref="ScimFault">The bytes are no sound JSON.</exception>
    public static JsonNode? Read(ReadOnlySpan<byte> body)
    {
        try
        {
            var node = JsonNode.Parse(body, documentOptions: new() { MaxDepth = MaxDepth, AllowDuplicateProperties = false });
            Walk(node);
            return node;
        }
        // A text with half of a surrogate pair is only found out when it is taken.
        catch (Exception error) when (error is JsonException or ArgumentException or InvalidOperationException)
        {
            throw ScimFault.InvalidSyntax($"The body is no sound JSON: {error.Message}");
        }
    }

    private static void Walk(JsonNode? node)
    {
        switch (node)
        {
            case JsonObject json:
                foreach (var (_, value) in json)
                    Walk(value);
                break;
            case JsonArray array:
                foreach (var value in array)
                    Walk(value);
                break;
            case JsonValue value when value.GetValueKind() == JsonValueKind.String:
                value.GetValue<string>();
                break;
        }
    }
}
