using System.Text.Json;
using System.Text.Json.Nodes;

namespace Oikonom.Scim;

/// <summary>Checks what a client sends as a resource, and shapes what it gets back.</summary>
public static class ScimResources
{
    /// <summary>
    /// The resource as it is kept: what is read only or unknown is left out (RFC 7644 §3.3), types are checked, and the
    /// password is dropped.
    /// </summary>
    /// <exception cref="ScimFault">It is no resource of this kind.</exception>
    public static JsonObject Checked(JsonNode? body, ScimResourceType type)
    {
        if (body is not JsonObject given)
            throw ScimFault.InvalidSyntax("The body is an object.");
        if (
            ScimValues.Get(given, "schemas") is not JsonArray schemas
            || !schemas.Any(s => ScimPatch.Text(s)?.Equals(type.Schema.Id, StringComparison.OrdinalIgnoreCase) == true)
        )
            throw ScimFault.InvalidSyntax($"'schemas' must hold {type.Schema.Id}.");
        var resource = new JsonObject();
        foreach (var (name, value) in given)
        {
            if (type.Extensions.FirstOrDefault(e => e.Id.Equals(name, StringComparison.OrdinalIgnoreCase)) is { } extension)
            {
                if (value is null)
                    continue;
                if (value is not JsonObject inside)
                    throw ScimFault.InvalidValue($"'{extension.Id}' is an object.");
                var kept = new JsonObject();
                foreach (var (part, content) in inside)
                    Keep(kept, extension.Find(part), content);
                if (kept.Count > 0)
                    resource[extension.Id] = kept;
            }
            else
                Keep(resource, ScimValues.AttributeOf(type, name), value);
        }
        foreach (var required in type.Schema.Attributes.Where(a => a.Required))
            if (ScimValues.Get(resource, required.Name) is not { } value || !ScimValues.IsPresent(value))
                throw ScimFault.InvalidValue($"'{required.Name}' is required.");
        resource["schemas"] = new JsonArray([
            type.Schema.Id,
            .. type.Extensions.Where(e => resource.ContainsKey(e.Id)).Select(e => (JsonNode)e.Id),
        ]);
        return resource;
    }

    private static void Keep(JsonObject resource, ScimAttribute? attribute, JsonNode? value)
    {
        if (attribute is null || value is null || attribute.Mutability is "readOnly" or "writeOnly" || attribute.Name == "schemas")
            return;
        if (!attribute.MultiValued)
        {
            if (value is JsonArray)
                throw ScimFault.InvalidValue($"'{attribute.Name}' has one value.");
            if (One(value, attribute) is { } one)
                resource[attribute.Name] = one;
            return;
        }
        if (value is not JsonArray many)
            throw ScimFault.InvalidValue($"'{attribute.Name}' is a list.");
        var kept = new JsonArray([.. many.OfType<JsonNode>().Select(v => One(v, attribute)).OfType<JsonNode>()]);
        if (kept.OfType<JsonObject>().Count(v => ScimValues.Get(v, "primary") is JsonValue p && p.GetValueKind() == JsonValueKind.True) > 1)
            throw ScimFault.InvalidValue($"Only one value of '{attribute.Name}' is the primary one.");
        if (kept.Count > 0)
            resource[attribute.Name] = kept;
    }

    private static JsonNode? One(JsonNode value, ScimAttribute attribute)
    {
        if (attribute.Sub.Count == 0)
            return ScimPatch.Checked(value, attribute)?.DeepClone();
        if (value is not JsonObject complex)
            throw ScimFault.InvalidValue($"'{attribute.Name}' is made of objects.");
        var kept = new JsonObject();
        foreach (var (name, part) in complex)
            if (attribute.Find(name) is { } sub && sub.Mutability != "readOnly" && part is not null)
                kept[sub.Name] = ScimPatch.Checked(part, sub)?.DeepClone();
        return kept.Count > 0 ? kept : null;
    }

    /// <summary>
    /// The resource with only the attributes asked for, or without those excluded (RFC 7644 §3.4.2.5); what is always
    /// returned stays.
    /// </summary>
    public static JsonObject Projected(
        JsonObject resource,
        ScimResourceType type,
        IReadOnlyList<string> attributes,
        IReadOnlyList<string> excluded
    )
    {
        if (attributes.Count > 0)
        {
            var shown = new JsonObject { ["schemas"] = resource["schemas"]?.DeepClone(), ["id"] = resource["id"]?.DeepClone() };
            foreach (var path in attributes.Select(ScimPath.Parse))
                Copy(resource, shown, type, path);
            return shown;
        }
        if (excluded.Count == 0)
            return resource;
        var left = (JsonObject)resource.DeepClone();
        foreach (var path in excluded.Select(ScimPath.Parse))
        {
            var holder = HolderOf(left, type, path);
            if (path.Attribute.Length == 0)
                left.Remove(ScimValues.NameIn(left, path.Urn!));
            else if (holder is null || ScimValues.AttributeOf(type, path.Attribute) is { Returned: "always" })
                continue;
            else if (path.Sub is null)
                holder.Remove(ScimValues.NameIn(holder, path.Attribute));
            else
                foreach (var complex in ScimValues.Each(ScimValues.Get(holder, path.Attribute)).OfType<JsonObject>())
                    complex.Remove(ScimValues.NameIn(complex, path.Sub));
        }
        return left;
    }

    private static JsonObject? HolderOf(JsonObject resource, ScimResourceType type, ScimPath path) =>
        path.Urn is null || path.Urn.Equals(type.Schema.Id, StringComparison.OrdinalIgnoreCase)
            ? resource
            : ScimValues.Get(resource, path.Urn) as JsonObject;

    private static void Copy(JsonObject resource, JsonObject shown, ScimResourceType type, ScimPath path)
    {
        if (path.Attribute.Length == 0)
        {
            if (ScimValues.Get(resource, path.Urn!) is { } extension)
                shown[ScimValues.NameIn(resource, path.Urn!)] = extension.DeepClone();
            return;
        }
        if (HolderOf(resource, type, path) is not { } holder || ScimValues.Get(holder, path.Attribute) is not { } value)
            return;
        var into = shown;
        if (!ReferenceEquals(holder, resource))
        {
            var name = ScimValues.NameIn(resource, path.Urn!);
            if (shown[name] is not JsonObject inside)
                shown[name] = inside = [];
            into = inside;
        }
        var key = ScimValues.NameIn(holder, path.Attribute);
        if (path.Sub is null)
        {
            into[key] = value.DeepClone();
            return;
        }
        JsonObject Part(JsonObject complex) =>
            ScimValues.Get(complex, path.Sub) is { } part ? new() { [ScimValues.NameIn(complex, path.Sub)] = part.DeepClone() } : [];
        if (value is JsonArray many)
            into[key] = new JsonArray([.. many.OfType<JsonObject>().Select(c => (JsonNode)Part(c))]);
        else if (value is JsonObject complex)
        {
            var part = Part(complex);
            if (into[key] is JsonObject earlier)
                foreach (var (n, v) in part)
                    earlier[n] = v?.DeepClone();
            else
                into[key] = part;
        }
    }

    /// <summary>
    /// Orders resources by an attribute (RFC 7644 §3.4.2.3): of several values the primary one or the first counts, and
    /// what has no value comes last when ascending.
    /// </summary>
    public static IEnumerable<JsonObject> Sorted(IEnumerable<JsonObject> resources, ScimResourceType type, string sortBy, bool descending)
    {
        var path = ScimPath.Parse(sortBy);
        var attribute =
            ScimValues.Find([], type, path.Urn, path.Attribute).Attribute
            ?? throw ScimFault.InvalidPath($"'{sortBy}' is no attribute of a {type.Name}.");
        var exact = (
            path.Sub is null
                ? attribute.Sub.Count > 0
                    ? attribute.Find("value") ?? attribute
                    : attribute
                : attribute.Find(path.Sub) ?? throw ScimFault.InvalidPath($"'{path.Sub}' is no part of '{attribute.Name}'.")
        ).CaseExact;
        var order = Comparer<string?>.Create(
            (a, b) =>
                a is null
                    ? b is null
                        ? 0
                        : 1
                    : b is null
                        ? -1
                        : string.Compare(a, b, exact ? StringComparison.Ordinal : StringComparison.OrdinalIgnoreCase)
        );
        string? Key(JsonObject resource)
        {
            var values = ScimValues.Each(ScimValues.Find(resource, type, path.Urn, path.Attribute).Node).ToList();
            var value =
                values
                    .OfType<JsonObject>()
                    .FirstOrDefault(v => ScimValues.Get(v, "primary") is JsonValue p && p.GetValueKind() == JsonValueKind.True)
                ?? values.FirstOrDefault();
            if (value is JsonObject complex)
                value = ScimValues.Get(complex, path.Sub ?? "value");
            return value switch
            {
                null => null,
                JsonValue v when v.GetValueKind() == JsonValueKind.String => v.GetValue<string>(),
                _ => value.ToJsonString(),
            };
        }
        return descending ? resources.OrderByDescending(Key, order) : resources.OrderBy(Key, order);
    }
}
