using System.Collections.Concurrent;
using System.Text.Json.Nodes;
using Oikonom.Core.Fulfilment;
using Oikonom.Scim;

namespace Oikonom.Targets.Scim;

/// <summary>Members of the groups of an application (RFC 7643 section 4.2), found by the name a group is shown under.</summary>
internal sealed class ScimGroups
{
    private readonly ScimDoor _door;
    private readonly string _title;
    private readonly GroupBatcher _batcher;
    private readonly HashSet<string> _made;
    private readonly ConcurrentDictionary<string, string> _ids = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>The groups of one application.</summary>
    /// <param name="made">Names of groups that are made where they are missing.</param>
    public ScimGroups(ScimDoor door, string title, IEnumerable<string> made)
    {
        (_door, _title, _made) = (door, title, made.ToHashSet(StringComparer.OrdinalIgnoreCase));
        _batcher = new(ModifyAsync, error => error is TargetFault { Transient: false });
    }

    /// <summary>Somebody is in a group, or is not.</summary>
    /// <exception cref="TargetFault">The application refuses, or has no such group.</exception>
    public Task EnsureAsync(string group, string member, bool present, CancellationToken cancel) =>
        _batcher.EnsureAsync(group, member, present, cancel);

    /// <summary>The id of the group with a name; null when there is none.</summary>
    public Task<string?> IdOfAsync(string name, CancellationToken cancel) =>
        _door.AskAsync(
            async (client, provider) =>
                _ids.GetValueOrDefault(name) ?? (await FindAsync(client, provider, name, "members", cancel).ConfigureAwait(false))?.Id,
            cancel
        );

    private async Task<ScimRead?> FindAsync(
        ScimClient client,
        ScimProvider provider,
        string name,
        string excluded,
        CancellationToken cancel
    )
    {
        var found = await client.WithAsync(ScimSchemas.Groups, "displayName", name, provider, excluded, cancel).ConfigureAwait(false);
        if (found.Count > 1)
            throw new TargetFault($"{_title} has {found.Count} groups with the name '{name}'.", transient: false);
        if (found.Count == 1)
            _ids[name] = found[0].Id;
        return found.FirstOrDefault();
    }

    /// <summary>The members of groups by their names; a group that is not there has none.</summary>
    public async Task<IReadOnlyDictionary<string, IReadOnlySet<string>>> MembersAsync(IReadOnlyList<string> names, CancellationToken cancel)
    {
        var members = new Dictionary<string, IReadOnlySet<string>>(StringComparer.OrdinalIgnoreCase);
        foreach (var name in names.Distinct(StringComparer.OrdinalIgnoreCase))
            if (await ReadAsync(name, cancel).ConfigureAwait(false) is { } group)
                members[name] = Members(group);
        return members;
    }

    private static HashSet<string> Members(ScimRead group) =>
        ScimReading.Texts(group.Resource, "members", ScimSchemas.Groups).ToHashSet(StringComparer.Ordinal);

    private Task<ScimRead?> ReadAsync(string name, CancellationToken cancel) =>
        _door.AskAsync(
            async (client, provider) =>
            {
                if (
                    _ids.TryGetValue(name, out var known)
                    && await client.ReadAsync(ScimSchemas.Groups, known, cancel).ConfigureAwait(false) is { } group
                    && ScimReading.Texts(group.Resource, "displayName", ScimSchemas.Groups).Contains(name, StringComparer.OrdinalIgnoreCase)
                )
                    return group;
                _ids.TryRemove(name, out _);
                return await FindAsync(client, provider, name, "members", cancel).ConfigureAwait(false) is { } found
                    ? await client.ReadAsync(ScimSchemas.Groups, found.Id, cancel).ConfigureAwait(false)
                    : null;
            },
            cancel
        );

    /// <summary>Which of some groups somebody is in: by what their own resource shows, or else by looking into each.</summary>
    public async Task<IReadOnlySet<string>> OfAsync(JsonObject user, IReadOnlyList<string> names, CancellationToken cancel)
    {
        if (ScimValues.Get(user, "groups") is JsonArray { Count: > 0 } shown)
        {
            var ids = ScimValues.Each(shown).OfType<JsonObject>().Select(g => ScimValues.Get(g, "value")?.ToString()).ToHashSet();
            var inside = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
            foreach (var name in names)
                if (await IdOfAsync(name, cancel).ConfigureAwait(false) is { } id && ids.Contains(id))
                    inside.Add(name);
            return inside;
        }
        // Whoever is in none shows none, and so does a server that shows them never.
        var self = new ScimRead(user, "").Id;
        var members = await MembersAsync(names, cancel).ConfigureAwait(false);
        return members.Where(m => m.Value.Contains(self)).Select(m => m.Key).ToHashSet(StringComparer.OrdinalIgnoreCase);
    }

    private async Task ModifyAsync(string name, IReadOnlyList<GroupBatcher.Wish> wishes, CancellationToken cancel)
    {
        for (var attempt = 0; ; attempt++)
        {
            var group = await ReadAsync(name, cancel).ConfigureAwait(false);
            if (group is null && _made.Contains(name))
            {
                var members = wishes.Where(w => w.Present).Select(w => w.Member).ToList();
                // Nobody is in a group that is not there.
                if (members.Count == 0 || await MakeAsync(name, members, cancel).ConfigureAwait(false))
                    return;
                continue;
            }
            if (group is null)
                throw new TargetFault(
                    $"{_title} has no group '{name}'. Create it, or correct the entitlement in the rulebook.",
                    transient: false
                );
            var there = Members(group);
            var changes = wishes.Where(w => there.Contains(w.Member) != w.Present).ToList();
            if (changes.Count == 0)
                return;
            if (
                await _door
                    .AskAsync((client, provider) => TrySendAsync(client, provider, group, changes, cancel), cancel)
                    .ConfigureAwait(false)
            )
                return;
            if (attempt == 4)
                throw new TargetFault($"The group '{name}' of {_title} changes all the time.", transient: true);
        }
    }

    /// <summary>Makes a group with its first members (RFC 7643 section 4.2).</summary>
    /// <returns>False when somebody else made it meanwhile.</returns>
    private Task<bool> MakeAsync(string name, List<string> members, CancellationToken cancel) =>
        _door.AskAsync(
            async (client, _) =>
            {
                var group = new JsonObject
                {
                    ["schemas"] = new JsonArray(ScimSchemas.Group),
                    ["displayName"] = name,
                    ["members"] = new JsonArray([.. members.Select(m => (JsonNode)new JsonObject { ["value"] = m })]),
                };
                try
                {
                    _ids[name] = (await client.CreateAsync(ScimSchemas.Groups, group, cancel).ConfigureAwait(false)).Id;
                    return true;
                }
                catch (ScimRefusal refusal) when (refusal.Kind == ScimRefusalKind.Taken)
                {
                    return false;
                }
            },
            cancel
        );

    /// <returns>False when the group changed since it was read.</returns>
    private async Task<bool> TrySendAsync(
        ScimClient client,
        ScimProvider provider,
        ScimRead group,
        List<GroupBatcher.Wish> changes,
        CancellationToken cancel
    )
    {
        var tag = provider.Tags ? group.Tag : "";
        var operations = changes
            .Where(c => !c.Present)
            .Select(c => new JsonObject { ["op"] = "remove", ["path"] = $"members[value eq {ScimWriting.Quoted(c.Member)}]" })
            .ToList();
        var added = changes.Where(c => c.Present).Select(c => (JsonNode)new JsonObject { ["value"] = c.Member }).ToList();
        if (added.Count > 0)
            operations.Add(
                new()
                {
                    ["op"] = "add",
                    ["path"] = "members",
                    ["value"] = new JsonArray([.. added]),
                }
            );
        try
        {
            if (provider.Patches && !_door.CannotPatch)
                try
                {
                    await client
                        .PatchAsync(
                            ScimSchemas.Groups,
                            group.Id,
                            ScimWriting.Patch(operations.Select(o => (JsonObject)o.DeepClone())),
                            tag,
                            cancel
                        )
                        .ConfigureAwait(false);
                    return true;
                }
                catch (ScimRefusal refusal) when (refusal.Kind == ScimRefusalKind.Unable)
                {
                    _door.CannotPatch = true;
                }
            var whole = ScimPatch.Apply(ScimWriting.Writable(group.Resource), ScimWriting.Patch(operations), ScimSchemas.Groups);
            await client.ReplaceAsync(ScimSchemas.Groups, group.Id, whole, tag, cancel).ConfigureAwait(false);
            return true;
        }
        catch (ScimRefusal refusal) when (refusal.Kind == ScimRefusalKind.Changed)
        {
            return false;
        }
    }
}
