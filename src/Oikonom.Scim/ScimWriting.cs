using System.Globalization;
using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace Oikonom.Scim;

/// <summary>Makes the operations of a PATCH (RFC 7644 section 3.5.2) that bring values under paths to what is wished.</summary>
public static class ScimWriting
{
    /// <summary>The operation that gives a path the values, or null when it has them.</summary>
    /// <param name="current">The resource as it was read.</param>
    /// <param name="values">None takes them away.</param>
    /// <exception cref="ScimFault"><c>invalidPath</c>: the text is no path.</exception>
    public static JsonObject? Operation(JsonObject current, string path, IReadOnlyList<string> values, ScimResourceType type)
    {
        var parsed = ScimPath.Parse(path);
        var before = ScimReading.Texts(current, parsed, type);
        if (before.Count == values.Count && before.Order(StringComparer.Ordinal).SequenceEqual(values.Order(StringComparer.Ordinal)))
            return null;
        if (values.Count == 0)
            return new JsonObject { ["op"] = "remove", ["path"] = path };
        var attribute = ScimReading.Described(parsed, type);
        if (parsed.Filter is { } filter && before.Count == 0 && !Chosen(current, parsed, type))
        {
            // A filter that chooses nothing is refused (section 3.5.2.3): what it describes is added.
            var fresh = ScimPatch.Described(filter);
            fresh[parsed.Sub ?? "value"] = Value(values[0], attribute.Find(parsed.Sub ?? "value") ?? attribute);
            return new JsonObject
            {
                ["op"] = "add",
                ["path"] = new ScimPath(parsed.Urn, parsed.Attribute, null, null).ToString(),
                ["value"] = new JsonArray(fresh),
            };
        }
        var exact = parsed.Sub is null ? attribute : attribute.Find(parsed.Sub) ?? attribute;
        return new JsonObject
        {
            ["op"] = "replace",
            ["path"] = path,
            ["value"] =
                attribute.MultiValued && parsed is { Filter: null, Sub: null } ? Several(values, attribute) : Value(values[0], exact),
        };
    }

    /// <summary>A text as it stands in a filter or a path (RFC 7644 section 3.4.2.2): every letter as it is, so that simple servers
    /// read it too.</summary>
    public static string Quoted(string text) => JsonSerializer.Serialize(text, AsItIs);

    private static readonly JsonSerializerOptions AsItIs = new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };

    /// <summary>The message of some operations.</summary>
    public static JsonObject Patch(IEnumerable<JsonObject> operations) =>
        new() { ["schemas"] = new JsonArray(ScimSchemas.PatchOp), ["Operations"] = new JsonArray([.. operations]) };

    /// <summary>The resource without what only the server writes (RFC 7644 section 3.5.1).</summary>
    public static JsonObject Writable(JsonObject resource)
    {
        var copy = (JsonObject)resource.DeepClone();
        foreach (var own in new[] { "meta", "groups" })
            copy.Remove(ScimValues.NameIn(copy, own));
        return copy;
    }

    /// <summary>A new resource with what some operations add to nothing.</summary>
    /// <exception cref="ScimFault">An operation is not possible in resources of the type.</exception>
    public static JsonObject Fresh(IEnumerable<JsonObject> operations, ScimResourceType type)
    {
        var resource = ScimPatch.Apply(
            new JsonObject { ["schemas"] = new JsonArray(type.Schema.Id) },
            Patch(operations.Select(o => (JsonObject)o.DeepClone())),
            type
        );
        resource["schemas"] = new JsonArray([
            type.Schema.Id,
            .. type.Extensions.Where(e => ScimValues.Get(resource, e.Id) is not null).Select(e => (JsonNode)e.Id),
        ]);
        return resource;
    }

    private static bool Chosen(JsonObject current, ScimPath path, ScimResourceType type)
    {
        var (holder, attribute) = ScimReading.Place(current, path, type);
        return holder is not null
            && ScimValues.Each(ScimValues.Get(holder, path.Attribute)).Any(v => path.Filter!.MatchesValue(v, attribute));
    }

    private static JsonArray Several(IReadOnlyList<string> values, ScimAttribute attribute) =>
        new([
            .. values.Select(v =>
                attribute.Sub.Count > 0
                    ? new JsonObject { ["value"] = Value(v, attribute.Find("value") ?? attribute) }
                    : Value(v, attribute)
            ),
        ]);

    private static JsonNode Value(string text, ScimAttribute attribute) =>
        attribute.Type switch
        {
            "boolean" when bool.TryParse(text, out var truth) => truth,
            "integer" when long.TryParse(text, CultureInfo.InvariantCulture, out var number) => number,
            "decimal" when decimal.TryParse(text, CultureInfo.InvariantCulture, out var number) => number,
            _ => text,
        };
}
