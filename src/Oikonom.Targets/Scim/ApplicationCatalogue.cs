using System.Text.Json.Nodes;
using Oikonom.Core.Rulebook;
using Oikonom.Scim;

namespace Oikonom.Targets.Scim;

/// <summary>The groups of an application (RFC 7643 section 4.2), and the roles and licences that somebody in it has: the protocol has
/// no list of those.</summary>
internal sealed class ApplicationCatalogue(ScimDoor door, TargetRule rule)
{
    /// <summary>What it can give, in no order.</summary>
    public Task<IReadOnlyList<OfferedEntitlement>> ReadAsync(CatalogueRule wanted, CancellationToken cancel) =>
        door.AskAsync<IReadOnlyList<OfferedEntitlement>>(
            async (client, provider) =>
            {
                var read = new Dictionary<string, OfferedEntitlement>(StringComparer.Ordinal);
                if (wanted.Read.Contains("groups"))
                    await foreach (var group in client.ListAsync(ScimSchemas.Groups, "", provider, "members", cancel).ConfigureAwait(false))
                        if (ScimReading.Texts(group, "displayName", ScimSchemas.Groups) is [{ Length: > 0 } name, ..])
                            Add(read, new EntitlementMeans.NamedGroup(name), name, "");
                string[] values = [.. Values(wanted)];
                if (values.Length > 0)
                    await foreach (var user in client.ListAsync(provider.Users, "", provider, "groups", cancel).ConfigureAwait(false))
                    foreach (var attribute in values)
                        Values(read, user, attribute);
                return [.. read.Values];
            },
            cancel
        );

    private static IEnumerable<string> Values(CatalogueRule wanted)
    {
        if (wanted.Read.Contains("roles"))
            yield return "roles";
        if (wanted.Read.Contains("licences"))
            yield return "entitlements";
    }

    /// <summary>What somebody has of an attribute, with how it is shown (RFC 7643 section 2.4).</summary>
    private void Values(Dictionary<string, OfferedEntitlement> read, JsonObject user, string attribute)
    {
        foreach (var node in ScimValues.Each(ScimValues.Get(user, attribute)))
        {
            var (value, shown) = node is JsonObject one
                ? (ScimValues.Get(one, "value")?.ToString() ?? "", ScimValues.Get(one, "display")?.ToString() ?? "")
                : (node.ToString(), "");
            if (value.Length > 0)
                Add(read, new EntitlementMeans.Value(attribute, value), value, shown);
        }
    }

    private void Add(Dictionary<string, OfferedEntitlement> read, EntitlementMeans means, string name, string title)
    {
        var known = rule.Entitlements.Values.FirstOrDefault(e => IsSame(e.Means, means))?.Name;
        var entry = new OfferedEntitlement(means, name, known) { Title = title };
        var key = $"{means.GetType().Name} {(means as EntitlementMeans.Value)?.Attribute} {name}";
        if (!read.TryGetValue(key, out var had) || had.Title.Length == 0)
            read[key] = entry;
    }

    private static bool IsSame(EntitlementMeans left, EntitlementMeans right) =>
        (left, right) switch
        {
            (EntitlementMeans.NamedGroup l, EntitlementMeans.NamedGroup r) => l.Name.Equals(r.Name, StringComparison.OrdinalIgnoreCase),
            _ => left == right,
        };
}
