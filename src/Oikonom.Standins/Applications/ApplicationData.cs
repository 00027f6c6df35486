using System.Globalization;
using System.Text.Json;
using System.Text.Json.Nodes;
using Oikonom.Scim;

namespace Oikonom.Standins.Applications;

/// <summary>What an application is: how it is called, and what it can give.</summary>
/// <param name="Roles">The values of roles that it knows; any other is refused.</param>
/// <param name="Licences">The licences that it has, with how many.</param>
public sealed record ApplicationKind(
    string Name,
    string Title,
    IReadOnlyList<string> Groups,
    IReadOnlyList<string> Roles,
    IReadOnlyDictionary<string, int> Licences
);

/// <summary>Users and groups of an application; kept in a file when it is given one.</summary>
public sealed class ApplicationData
{
    private readonly ApplicationKind _kind;
    private readonly string? _file;
    private readonly Lock _lock = new();
    private readonly Dictionary<string, JsonObject> _users = [];
    private readonly Dictionary<string, JsonObject> _groups = [];
    private long _changes;

    public ApplicationData(ApplicationKind kind, string? file)
    {
        (_kind, _file) = (kind, file);
        if (file is not null && File.Exists(file) && JsonNode.Parse(File.ReadAllText(file)) is JsonObject kept)
        {
            Take(kept["users"] as JsonArray, _users);
            Take(kept["groups"] as JsonArray, _groups);
        }
        foreach (var name in kind.Groups.Where(n => !_groups.Values.Any(g => Text(g, "displayName") == n)))
            Add(ScimSchemas.Groups, new JsonObject { ["schemas"] = new JsonArray(ScimSchemas.Group), ["displayName"] = name });
    }

    private static void Take(JsonArray? from, Dictionary<string, JsonObject> into)
    {
        foreach (var one in (from ?? []).OfType<JsonObject>())
            into[Text(one, "id")!] = (JsonObject)one.DeepClone();
    }

    private Dictionary<string, JsonObject> Of(ScimResourceType type) => type.Name == "User" ? _users : _groups;

    private static string? Text(JsonObject json, string name) => ScimValues.Get(json, name)?.GetValue<string>();

    /// <summary>All resources of a kind in the order they were made.</summary>
    public IReadOnlyList<JsonObject> All(ScimResourceType type)
    {
        lock (_lock)
            return [.. Of(type).Values.OrderBy(r => Text(r, "id"), StringComparer.Ordinal).Select(r => Shown(type, r))];
    }

    public JsonObject? Find(ScimResourceType type, string id)
    {
        lock (_lock)
            return Of(type).TryGetValue(id, out var found) ? Shown(type, found) : null;
    }

    /// <exception cref="ScimFault">It is no resource of the kind, or its name is taken.</exception>
    public JsonObject Add(ScimResourceType type, JsonObject body)
    {
        lock (_lock)
        {
            var resource = Checked(type, body, null);
            var now = Now();
            resource["id"] = Guid.CreateVersion7().ToString();
            resource["meta"] = new JsonObject
            {
                ["resourceType"] = type.Name,
                ["created"] = now,
                ["lastModified"] = now,
                ["version"] = Version(),
            };
            Of(type)[Text(resource, "id")!] = resource;
            Keep();
            return Shown(type, resource);
        }
    }

    /// <param name="version">The version it must have, or "".</param>
    /// <exception cref="ScimFault">It is not there, has another version, or cannot become this.</exception>
    public JsonObject Change(ScimResourceType type, string id, string version, Func<JsonObject, JsonObject> change)
    {
        lock (_lock)
        {
            var before = Of(type).GetValueOrDefault(id) ?? throw ScimFault.NotFound(id);
            if (version.Length > 0 && version != "*" && version != before["meta"]!["version"]!.GetValue<string>())
                throw ScimFault.Precondition();
            var after = Checked(type, change((JsonObject)before.DeepClone()), id);
            after["id"] = id;
            var meta = (JsonObject)before["meta"]!.DeepClone();
            (meta["lastModified"], meta["version"]) = (Now(), Version());
            after["meta"] = meta;
            Of(type)[id] = after;
            Keep();
            return Shown(type, after);
        }
    }

    /// <exception cref="ScimFault">It is not there.</exception>
    public void Remove(ScimResourceType type, string id)
    {
        lock (_lock)
        {
            if (!Of(type).Remove(id))
                throw ScimFault.NotFound(id);
            foreach (var group in _groups.Values)
                if (group["members"] is JsonArray members)
                    foreach (var gone in members.OfType<JsonObject>().Where(m => Text(m, "value") == id).ToList())
                        members.Remove(gone);
            Keep();
        }
    }

    private JsonObject Checked(ScimResourceType type, JsonObject body, string? id)
    {
        var resource = ScimResources.Checked(body, type);
        var named = type.Name == "User" ? "userName" : "displayName";
        var name = Text(resource, named);
        if (Of(type).Values.Any(o => Text(o, "id") != id && string.Equals(Text(o, named), name, StringComparison.OrdinalIgnoreCase)))
            throw ScimFault.Uniqueness($"'{name}' is taken.");
        foreach (var role in Values(resource, "roles").Where(r => !_kind.Roles.Contains(r)))
            throw ScimFault.InvalidValue($"There is no role '{role}'.");
        foreach (var licence in Values(resource, "entitlements"))
        {
            if (!_kind.Licences.TryGetValue(licence, out var seats))
                throw ScimFault.InvalidValue($"There is no licence '{licence}'.");
            if (_users.Values.Count(u => Text(u, "id") != id && Values(u, "entitlements").Contains(licence)) >= seats)
                throw ScimFault.InvalidValue($"All {seats} licences '{licence}' are in use.");
        }
        foreach (var member in Values(resource, "members").Where(m => !_users.ContainsKey(m)))
            throw ScimFault.InvalidValue($"There is no user {member}.");
        return resource;
    }

    private static IEnumerable<string> Values(JsonObject resource, string attribute) =>
        ScimValues.Each(resource[attribute]).OfType<JsonObject>().Select(v => Text(v, "value")).OfType<string>();

    /// <summary>The resource as it is shown: users tell the groups they are in.</summary>
    private JsonObject Shown(ScimResourceType type, JsonObject resource)
    {
        var shown = (JsonObject)resource.DeepClone();
        if (type.Name != "User")
            return shown;
        var id = Text(resource, "id")!;
        var groups = _groups.Values.Where(g => Values(g, "members").Contains(id)).ToList();
        if (groups.Count > 0)
            shown["groups"] = new JsonArray([
                .. groups.Select(g => new JsonObject { ["value"] = Text(g, "id"), ["display"] = Text(g, "displayName") }),
            ]);
        return shown;
    }

    private static string Now() => DateTime.UtcNow.ToString("yyyy-MM-dd'T'HH:mm:ss'Z'", CultureInfo.InvariantCulture);

    private string Version() => $"W/\"{++_changes}-{DateTime.UtcNow.Ticks:x}\"";

    private void Keep()
    {
        if (_file is null)
            return;
        var kept = new JsonObject
        {
            ["users"] = new JsonArray([.. _users.Values.Select(u => u.DeepClone())]),
            ["groups"] = new JsonArray([.. _groups.Values.Select(g => g.DeepClone())]),
        };
        System.IO.Directory.CreateDirectory(Path.GetDirectoryName(_file)!);
        File.WriteAllText(_file + ".new", kept.ToJsonString(new JsonSerializerOptions { WriteIndented = true }));
        File.Move(_file + ".new", _file, overwrite: true);
    }
}
