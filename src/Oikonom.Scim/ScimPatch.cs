using System.Text.Json;
using System.Text.Json.Nodes;

namespace Oikonom.Scim;

/// <summary>Applies a PATCH (RFC 7644 §3.5.2) to a resource: all operations, or none.</summary>
public static class ScimPatch
{
    private const int MaxOperations = 1000;

    /// <returns>The changed resource; the one given is left as it was.</returns>
    /// <exception cref="ScimFault">The message or an operation of it is not possible.</exception>
    public static JsonObject Apply(JsonObject resource, JsonNode? message, ScimResourceType type)
    {
        if (message is not JsonObject body)
            throw ScimFault.InvalidSyntax("The body of a PATCH is an object.");
        if (
            ScimValues.Get(body, "schemas") is not JsonArray schemas
            || !schemas.Any(s => Text(s)?.Equals(ScimSchemas.PatchOp, StringComparison.OrdinalIgnoreCase) == true)
        )
            throw ScimFault.InvalidSyntax($"'schemas' must hold {ScimSchemas.PatchOp}.");
        if (ScimValues.Get(body, "Operations") is not JsonArray { Count: > 0 } operations)
            throw ScimFault.InvalidSyntax("'Operations' must be a list with at least one operation.");
        if (operations.Count > MaxOperations)
            throw ScimFault.TooLarge($"A PATCH has {MaxOperations} operations at most.");
        var changed = (JsonObject)resource.DeepClone();
        foreach (var node in operations)
        {
            if (node is not JsonObject operation)
                throw ScimFault.InvalidSyntax("Each operation is an object.");
            One(changed, operation, type);
        }
        return changed;
    }

    private static void One(JsonObject resource, JsonObject operation, ScimResourceType type)
    {
        var op = Text(ScimValues.Get(operation, "op"))?.ToLowerInvariant();
        if (op is not ("add" or "replace" or "remove"))
            throw ScimFault.InvalidSyntax("'op' is add, replace or remove.");
        var path = ScimValues.Get(operation, "path") is { } text
            ? ScimPath.Parse(Text(text) ?? throw ScimFault.InvalidPath("'path' is a text."))
            : null;
        var value = ScimValues.Get(operation, "value")?.DeepClone();
        if (op == "remove")
        {
            Remove(resource, path ?? throw ScimFault.NoTarget("A remove names what it removes in 'path'."), value, type);
            return;
        }
        if (path is null)
        {
            if (value is not JsonObject whole)
                throw ScimFault.InvalidValue("Without a 'path' the value is an object of attributes.");
            foreach (var (name, part) in whole.ToList())
            {
                // Some clients write a path as the name of a member.
                var inner = type.Knows(name) ? new ScimPath(name, "", null, null) : ScimPath.Parse(name);
                Set(resource, inner, part?.DeepClone(), op, type);
            }
            return;
        }
        if (!operation.Any(m => m.Key.Equals("value", StringComparison.OrdinalIgnoreCase)))
            throw ScimFault.InvalidValue($"'{op}' needs a 'value'.");
        Set(resource, path, value, op, type);
    }

    private static (JsonObject Holder, ScimAttribute Attribute) Locate(JsonObject resource, ScimPath path, ScimResourceType type, bool make)
    {
        if (path.Urn is not null && !type.Knows(path.Urn))
            throw ScimFault.InvalidPath($"'{path.Urn}' is no schema of a {type.Name}.");
        var (_, attribute) = ScimValues.Find(resource, type, path.Urn, path.Attribute);
        if (attribute is null)
            throw ScimFault.InvalidPath($"'{path}' is no attribute of a {type.Name}.");
        if (path.Sub is not null && attribute.Find(path.Sub) is null)
            throw ScimFault.InvalidPath($"'{path.Sub}' is no part of '{attribute.Name}'.");
        RequireChangeable(attribute, path.Sub);
        if (path.Urn is null || path.Urn.Equals(type.Schema.Id, StringComparison.OrdinalIgnoreCase))
            return (resource, attribute);
        var extension = type.Extensions.First(e => e.Id.Equals(path.Urn, StringComparison.OrdinalIgnoreCase)).Id;
        if (ScimValues.Get(resource, extension) is JsonObject inside)
            return (inside, attribute);
        var fresh = new JsonObject();
        if (make)
            resource[ScimValues.NameIn(resource, extension)] = fresh;
        return (fresh, attribute);
    }

    private static void RequireChangeable(ScimAttribute attribute, string? sub)
    {
        if (attribute.Mutability == "readOnly" || (sub is not null && attribute.Find(sub)?.Mutability == "readOnly"))
            throw ScimFault.Mutability($"'{(sub is null ? attribute.Name : $"{attribute.Name}.{sub}")}' is read only.");
    }

    private static void Set(JsonObject resource, ScimPath path, JsonNode? value, string op, ScimResourceType type)
    {
        if (path.Urn is not null && path.Attribute.Length == 0)
        {
            // All of an extension, or attributes named by their schema.
            if (value is not JsonObject parts)
                throw ScimFault.InvalidValue($"The value of '{path.Urn}' is an object.");
            foreach (var (name, part) in parts.ToList())
                Set(resource, ScimPath.Parse(name) with { Urn = path.Urn }, part?.DeepClone(), op, type);
            return;
        }
        var (holder, attribute) = Locate(resource, path, type, make: true);
        var name_ = ScimValues.NameIn(holder, attribute.Name);
        if (path.Filter is not null)
        {
            SetFiltered(holder, name_, attribute, path, path.Filter, value, op);
            return;
        }
        if (path.Sub is not null)
        {
            SetPart(holder, name_, attribute, path.Sub, value);
            return;
        }
        if (attribute.MultiValued)
        {
            var values = value is JsonArray many ? many.Select(v => v?.DeepClone()).ToList() : [value];
            var array = op == "add" && holder[name_] is JsonArray known ? known : [];
            holder[name_] = array;
            foreach (var each in values)
                AddValue(array, Value(each, attribute), attribute);
            return;
        }
        if (attribute.Type == "complex" && op == "add" && holder[name_] is JsonObject old && value is JsonObject merged)
        {
            foreach (var (key, part) in merged.ToList())
                old[ScimValues.NameIn(old, key)] = Checked(
                    part?.DeepClone(),
                    attribute.Find(key) ?? throw ScimFault.InvalidValue($"'{key}' is no part of '{attribute.Name}'.")
                );
            return;
        }
        holder[name_] = Value(value, attribute);
        if (value is null)
            holder.Remove(name_);
    }

    /// <summary>Sets the values that answer to a filter (RFC 7644, section 3.5.2); an add makes the one that it describes.</summary>
    private static void SetFiltered(
        JsonObject holder,
        string name,
        ScimAttribute attribute,
        ScimPath path,
        ScimFilter filter,
        JsonNode? value,
        string op
    )
    {
        if (!attribute.MultiValued)
            throw ScimFault.InvalidPath($"'{attribute.Name}' has one value; it cannot be filtered.");
        var array = holder[name] as JsonArray;
        var hits = array is null
            ? []
            : array.Select((v, i) => (Node: v, Index: i)).Where(v => v.Node is not null && filter.MatchesValue(v.Node, attribute)).ToList();
        if (hits.Count == 0)
        {
            if (op == "replace")
                throw ScimFault.NoTarget($"No value of '{attribute.Name}' answers to the filter.");
            var made = Described(filter);
            if (path.Sub is not null)
                made[path.Sub] = Checked(value, attribute.Find(path.Sub)!);
            else if (value is JsonObject more)
                Merge(made, more);
            else
                throw ScimFault.InvalidValue($"The value of '{path}' is an object.");
            if (array is null)
                holder[name] = array = [];
            AddValue(array, made, attribute);
            return;
        }
        foreach (var (node, index) in hits)
        {
            if (path.Sub is not null && node is JsonObject complex)
                complex[ScimValues.NameIn(complex, path.Sub)] = Checked(value?.DeepClone(), attribute.Find(path.Sub)!);
            else if (op != "replace" && node is JsonObject part && value is JsonObject more)
                Merge(part, more);
            else
                array![index] = Value(value?.DeepClone(), attribute);
            if (array![index] is JsonObject set)
                OnePrimary(array, set);
        }
    }

    /// <summary>Sets one part of a complex attribute, in each of its values where it has several.</summary>
    private static void SetPart(JsonObject holder, string name, ScimAttribute attribute, string sub, JsonNode? value)
    {
        var part = attribute.Find(sub)!;
        if (attribute.MultiValued)
        {
            foreach (var each in ScimValues.Each(holder[name]).OfType<JsonObject>())
                each[ScimValues.NameIn(each, sub)] = Checked(value?.DeepClone(), part);
            return;
        }
        if (holder[name] is not JsonObject complex)
            holder[name] = complex = [];
        complex[ScimValues.NameIn(complex, sub)] = Checked(value, part);
    }

    private static void Remove(JsonObject resource, ScimPath path, JsonNode? value, ScimResourceType type)
    {
        if (path.Urn is not null && path.Attribute.Length == 0)
        {
            resource.Remove(ScimValues.NameIn(resource, path.Urn));
            return;
        }
        var (holder, attribute) = Locate(resource, path, type, make: false);
        if (attribute.Required && path.Sub is null && path.Filter is null)
            throw ScimFault.Mutability($"'{attribute.Name}' is required and cannot be removed.");
        var name = ScimValues.NameIn(holder, attribute.Name);
        if (path.Filter is not null)
        {
            if (holder[name] is not JsonArray array)
                throw ScimFault.NoTarget($"No value of '{attribute.Name}' answers to the filter.");
            var hits = array.Where(v => v is not null && path.Filter.MatchesValue(v, attribute)).ToList();
            if (hits.Count == 0)
                throw ScimFault.NoTarget($"No value of '{attribute.Name}' answers to the filter.");
            foreach (var hit in hits)
            {
                if (path.Sub is not null && hit is JsonObject complex)
                    complex.Remove(ScimValues.NameIn(complex, path.Sub));
                else
                    array.Remove(hit);
            }
            if (array.Count == 0)
                holder.Remove(name);
            return;
        }
        if (path.Sub is not null)
        {
            foreach (var complex in ScimValues.Each(holder[name]).OfType<JsonObject>())
                complex.Remove(ScimValues.NameIn(complex, path.Sub));
            return;
        }
        if (value is JsonArray some && attribute.MultiValued && holder[name] is JsonArray all)
        {
            // Some clients list the values to remove.
            foreach (var gone in some.OfType<JsonNode>().ToList())
            foreach (var hit in all.Where(v => v is not null && Same(v, gone)).ToList())
                all.Remove(hit);
            if (all.Count == 0)
                holder.Remove(name);
            return;
        }
        holder.Remove(name);
    }

    private static bool Same(JsonNode left, JsonNode right) =>
        left is JsonObject a && right is JsonObject b && ScimValues.Get(b, "value") is { } value
            ? JsonNode.DeepEquals(ScimValues.Get(a, "value"), value)
            : JsonNode.DeepEquals(left, right);

    private static void AddValue(JsonArray array, JsonNode? value, ScimAttribute attribute)
    {
        if (value is null)
            return;
        if (array.Any(v => v is not null && (JsonNode.DeepEquals(v, value) || (attribute.Name == "members" && Same(v, value)))))
            return;
        array.Add(value);
        if (value is JsonObject complex)
            OnePrimary(array, complex);
    }

    /// <summary>At most one value is the primary one (RFC 7643 §2.4): the one set last.</summary>
    private static void OnePrimary(JsonArray array, JsonObject set)
    {
        if (ScimValues.Get(set, "primary") is not JsonValue primary || primary.GetValueKind() != JsonValueKind.True)
            return;
        foreach (var other in array.OfType<JsonObject>().Where(o => !ReferenceEquals(o, set)))
            if (ScimValues.Get(other, "primary") is JsonValue value && value.GetValueKind() == JsonValueKind.True)
                other[ScimValues.NameIn(other, "primary")] = false;
    }

    /// <summary>The value that a filter of plain equalities describes.</summary>
    internal static JsonObject Described(ScimFilter filter) =>
        filter switch
        {
            ScimFilter.Compare { Operator: "eq" } compare => new() { [compare.Path.Attribute] = compare.Value?.DeepClone() },
            ScimFilter.And and => Merge(Described(and.Left), Described(and.Right)),
            _ => throw ScimFault.NoTarget("No value answers to the filter, and it does not describe one."),
        };

    private static JsonObject Merge(JsonObject into, JsonObject from)
    {
        foreach (var (name, value) in from.ToList())
            into[ScimValues.NameIn(into, name)] = value?.DeepClone();
        return into;
    }

    private static JsonNode? Value(JsonNode? value, ScimAttribute attribute)
    {
        if (attribute.Sub.Count == 0)
            return Checked(value, attribute);
        switch (value)
        {
            case null:
                return null;
            case JsonObject complex:
                foreach (var (name, part) in complex)
                    Checked(part, attribute.Find(name) ?? throw ScimFault.InvalidValue($"'{name}' is no part of '{attribute.Name}'."));
                return complex;
            case JsonValue plain when attribute.MultiValued:
                return new JsonObject { ["value"] = Checked(plain, attribute.Find("value")!) };
            // The manager is sometimes given by the id alone.
            case JsonValue plain when attribute.Name == "manager":
                return new JsonObject { ["value"] = Checked(plain, attribute.Find("value")!) };
            default:
                throw ScimFault.InvalidValue($"'{attribute.Name}' is an object.");
        }
    }

    /// <summary>The value, when its JSON type is that of the attribute; texts "True" and "False" are taken for what they mean.</summary>
    internal static JsonNode? Checked(JsonNode? value, ScimAttribute attribute)
    {
        if (value is null)
            return null;
        var kind = value.GetValueKind();
        switch (attribute.Type)
        {
            case "boolean":
                if (kind is JsonValueKind.True or JsonValueKind.False)
                    return value;
                if (kind == JsonValueKind.String && bool.TryParse(value.GetValue<string>(), out var truth))
                    return truth;
                throw ScimFault.InvalidValue($"'{attribute.Name}' is true or false.");
            case "integer" or "decimal":
                return kind == JsonValueKind.Number ? value : throw ScimFault.InvalidValue($"'{attribute.Name}' is a number.");
            case "dateTime":
                return
                    kind == JsonValueKind.String
                    && DateTimeOffset.TryParse(value.GetValue<string>(), System.Globalization.CultureInfo.InvariantCulture, out _)
                    ? value
                    : throw ScimFault.InvalidValue($"'{attribute.Name}' is a time (RFC 3339).");
            case "complex":
                return value;
            default:
                return kind == JsonValueKind.String ? value : throw ScimFault.InvalidValue($"'{attribute.Name}' is a text.");
        }
    }

    internal static string? Text(JsonNode? node) =>
        node is JsonValue value && value.GetValueKind() == JsonValueKind.String ? value.GetValue<string>() : null;
}
