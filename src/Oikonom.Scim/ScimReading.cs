using System.Text.Json;
using System.Text.Json.Nodes;

namespace Oikonom.Scim;

/// <summary>Reads values of resources by their path, forgiving what servers get wrong in form.</summary>
public static class ScimReading
{
    /// <summary>The texts under a path (RFC 7644 section 3.10): of several values all, of a complex one its <c>value</c>.</summary>
    /// <exception cref="ScimFault"><c>invalidPath</c>: the text is no path.</exception>
    public static IReadOnlyList<string> Texts(JsonObject resource, string path, ScimResourceType type) =>
        Texts(resource, ScimPath.Parse(path), type);

    internal static IReadOnlyList<string> Texts(JsonObject resource, ScimPath path, ScimResourceType type)
    {
        var (holder, attribute) = Place(resource, path, type);
        if (holder is null)
            return [];
        var values = ScimValues.Each(ScimValues.Get(holder, path.Attribute));
        if (path.Filter is { } filter)
            values = values.Where(v => filter.MatchesValue(v, attribute));
        var exact = path.Sub is null ? attribute : attribute.Find(path.Sub) ?? attribute;
        return
        [
            .. values.Select(v => Text(v is JsonObject complex ? ScimValues.Get(complex, path.Sub ?? "value") : v, exact)).OfType<string>(),
        ];
    }

    /// <summary>Where the values of a path stand, and what is known of the attribute; of one that nobody described, that it may have
    /// several values with the usual parts (RFC 7643 section 2.4).</summary>
    internal static (JsonObject? Holder, ScimAttribute Attribute) Place(JsonObject resource, ScimPath path, ScimResourceType type)
    {
        var attribute = Described(path, type);
        return path.Urn is null || path.Urn.Equals(type.Schema.Id, StringComparison.OrdinalIgnoreCase)
            ? (resource, attribute)
            : (ScimValues.Get(resource, path.Urn) as JsonObject, attribute);
    }

    internal static ScimAttribute Described(ScimPath path, ScimResourceType type)
    {
        var attribute = ScimValues.Find([], type, path.Urn, path.Attribute).Attribute ?? ScimSchemas.Stranger(path.Attribute);
        // Servers describe attributes without their parts, and use them all the same.
        return path is { Filter: null, Sub: null } || attribute.Sub.Count > 0
            ? attribute
            : attribute with
            {
                Type = "complex",
                Sub = ScimSchemas.Stranger(path.Attribute).Sub,
            };
    }

    /// <summary>Every value of a resource as texts under the path that leads to it: of several values each under its type.</summary>
    public static IReadOnlyDictionary<string, IReadOnlyList<string>> All(JsonObject resource, ScimResourceType type)
    {
        var found = new Dictionary<string, IReadOnlyList<string>>(StringComparer.OrdinalIgnoreCase);
        foreach (var (name, value) in resource)
            if (value is JsonObject inside && name.StartsWith("urn:", StringComparison.OrdinalIgnoreCase))
                foreach (var (part, content) in inside)
                    Add(found, $"{name}:{part}", content);
            else if (name is not ("schemas" or "id" or "meta" or "active" or "password" or "groups"))
                Add(found, name, value);
        foreach (var path in found.Keys.ToList())
            found[path] = Texts(resource, path, type);
        return found;
    }

    private static void Add(Dictionary<string, IReadOnlyList<string>> found, string path, JsonNode? value)
    {
        if (value is JsonObject complex)
            foreach (var (part, _) in complex)
                found[$"{path}.{part}"] = [];
        else
            found[path] = [];
        foreach (var one in ScimValues.Each(value as JsonArray).OfType<JsonObject>())
            if (ScimPatch.Text(ScimValues.Get(one, "type")) is { Length: > 0 } kind && !kind.AsSpan().ContainsAny('"', '\\', ']'))
                foreach (var (part, _) in one.Where(p => p.Key is not ("type" or "primary")))
                    found[$"{path}[type eq \"{kind}\"].{part}"] = [];
    }

    /// <summary>The text of one value; a truth written as a text is one all the same. Null of nothing, and of what has parts.</summary>
    private static string? Text(JsonNode? node, ScimAttribute attribute) =>
        node is not JsonValue value
            ? null
            : value.GetValueKind() switch
            {
                JsonValueKind.True => "true",
                JsonValueKind.False => "false",
                JsonValueKind.Number => value.ToJsonString(),
                JsonValueKind.String when attribute.Type == "boolean" && Truth(value) is { } truth => truth ? "true" : "false",
                JsonValueKind.String => value.GetValue<string>() is { Length: > 0 } text ? text : null,
                _ => null,
            };

    /// <summary>True or false, also where it is written as a text; null of anything else.</summary>
    public static bool? Truth(JsonNode? node) =>
        node is not JsonValue value
            ? null
            : value.GetValueKind() switch
            {
                JsonValueKind.True => true,
                JsonValueKind.False => false,
                JsonValueKind.String when bool.TryParse(value.GetValue<string>(), out var truth) => truth,
                _ => null,
            };

    /// <summary>A whole number, also where it is written as a text; null of anything else.</summary>
    public static int? Number(JsonNode? node) =>
        node is not JsonValue value
            ? null
            : value.GetValueKind() switch
            {
                JsonValueKind.Number when value.TryGetValue<int>(out var number) => number,
                JsonValueKind.String
                    when int.TryParse(
                        value.GetValue<string>(),
                        System.Globalization.NumberStyles.None,
                        System.Globalization.CultureInfo.InvariantCulture,
                        out var number
                    ) => number,
                _ => null,
            };
}
