using System.Text.Json;
using System.Text.Json.Nodes;

namespace Oikonom.Scim;

/// <summary>Looks into resources: names are compared without case (RFC 7643 §2.1).</summary>
public static class ScimValues
{
    /// <summary>The member of a name, in any case (RFC 7643 §2.1); null when there is none.</summary>
    public static JsonNode? Get(JsonObject json, string name)
    {
        if (json.TryGetPropertyValue(name, out var exact))
            return exact;
        foreach (var (key, value) in json)
            if (key.Equals(name, StringComparison.OrdinalIgnoreCase))
                return value;
        return null;
    }

    /// <summary>The name a member has in the object, however it was written.</summary>
    public static string NameIn(JsonObject json, string name)
    {
        foreach (var (key, _) in json)
            if (key.Equals(name, StringComparison.OrdinalIgnoreCase))
                return key;
        return name;
    }

    /// <summary>The values of an attribute: each of several, or the one.</summary>
    public static IEnumerable<JsonNode> Each(JsonNode? node) =>
        node switch
        {
            null => [],
            JsonArray array => array.OfType<JsonNode>(),
            _ => [node],
        };

    /// <summary>True for what <c>pr</c> finds, RFC 7644 §3.4.2.2: not null, and not empty.</summary>
    public static bool IsPresent(JsonNode node) =>
        node switch
        {
            JsonObject json => json.Any(m => m.Value is not null && IsPresent(m.Value)),
            JsonArray array => array.Count > 0,
            JsonValue value => value.GetValueKind() != JsonValueKind.String || value.GetValue<string>().Length > 0,
            _ => false,
        };

    /// <summary>What an attribute holds, and what is known of it; the latter is null when the kind has no such attribute.</summary>
    public static (JsonNode? Node, ScimAttribute? Attribute) Find(JsonObject resource, ScimResourceType type, string? urn, string name)
    {
        if (urn is not null && !urn.Equals(type.Schema.Id, StringComparison.OrdinalIgnoreCase))
        {
            var extension = type.Extensions.FirstOrDefault(e => e.Id.Equals(urn, StringComparison.OrdinalIgnoreCase));
            return extension?.Find(name) is not { } own
                ? (null, null)
                : (Get(resource, extension.Id) is JsonObject inside ? Get(inside, name) : null, own);
        }
        var attribute = AttributeOf(type, name);
        return attribute is null ? (null, null) : (Get(resource, name), attribute);
    }

    /// <summary>The attribute of a kind of resource, or one that all kinds have; null when there is none.</summary>
    public static ScimAttribute? AttributeOf(ScimResourceType type, string name) =>
        type.Schema.Find(name) ?? ScimSchemas.Common.FirstOrDefault(a => a.Name.Equals(name, StringComparison.OrdinalIgnoreCase));
}
