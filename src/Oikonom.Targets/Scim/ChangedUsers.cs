using System.Globalization;
using System.Text.Json.Nodes;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Scim;

namespace Oikonom.Targets.Scim;

/// <summary>
/// What changed in an application by the time at which each resource changed last (<c>meta.lastModified</c>, RFC 7643 section 3.1).
/// All times are those of its server. It tells nobody who is gone; that is seen by how many are left, and then who.
/// </summary>
internal sealed class ChangedUsers(
    TargetRule rule,
    ScimDoor door,
    ScimGroups groups,
    Func<IReadOnlyList<JsonObject>, ScimProvider, CancellationToken, Task<IReadOnlyDictionary<string, ExistingAccount>>> describe
)
{
    /// <summary>Changes become visible a little after the time they carry; so much is looked at again.</summary>
    private static readonly TimeSpan Behind = TimeSpan.FromMinutes(1);

    /// <summary>Where a look goes on from: the server's time then, and how many users there were.</summary>
    private sealed record Position(DateTimeOffset At, int Users)
    {
        public override string ToString() => string.Create(CultureInfo.InvariantCulture, $"{Text(At)} {Users}");

        /// <summary>A position as it was kept; null for what is none.</summary>
        public static Position? Parse(string text) =>
            text.Split(' ') is [var at, var users]
            && DateTimeOffset.TryParse(at, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out var instant)
            && int.TryParse(users, NumberStyles.None, CultureInfo.InvariantCulture, out var count)
                ? new(instant.ToUniversalTime(), count)
                : null;
    }

    /// <summary>What changed since a position; with none only where to go on from is told.</summary>
    /// <exception cref="TargetFault">The server cannot tell.</exception>
    public Task<TargetChanges> SinceAsync(string? since, CancellationToken cancel) =>
        door.AskAsync(
            async (client, provider) =>
            {
                var users = await client.CountAsync(provider.Users, cancel).ConfigureAwait(false);
                var now = new Position(
                    client.ServerTime ?? throw Cannot("its server does not tell the time (RFC 9110 section 6.6.1)"),
                    users
                );
                var before = since is null ? null : Position.Parse(since);
                // It is no position, or the server's clock was put back since.
                if (since is not null && (before is null || before.At > now.At + Behind))
                    return new([], [], "") { IsLost = true };
                var from = (before?.At ?? now.At) - Behind;
                // Also the first time, so that a server that cannot is told from the beginning.
                var changed = await ChangedAsync(client, provider, provider.Users, from, "", cancel).ConfigureAwait(false);
                if (before is null)
                    return new([], [], now.ToString());
                if (changed.Count > TargetChanges.MostAlone)
                    return new([], [], "") { IsLost = true };
                var holders = await HoldersAsync(client, provider, from, cancel).ConfigureAwait(false);
                var read = await describe(changed, provider, cancel).ConfigureAwait(false);
                // At least so many were there and are not any more.
                var gone = before.Users + changed.Count(u => At(u, "created") is not { } made || made >= from) - users;
                return new TargetChanges([.. read.Keys], holders, now.ToString())
                {
                    Read = read,
                    Present = gone > 0 ? await PresentAsync(client, provider, cancel).ConfigureAwait(false) : null,
                };
            },
            cancel
        );

    private async Task<IReadOnlyList<JsonObject>> ChangedAsync(
        ScimClient client,
        ScimProvider provider,
        ScimResourceType type,
        DateTimeOffset from,
        string excluded,
        CancellationToken cancel
    )
    {
        if (!provider.Filters)
            throw Cannot("its server finds nothing by a filter");
        var changed = new List<JsonObject>();
        try
        {
            await foreach (
                var resource in client
                    .ListAsync(type, $"meta.lastModified ge \"{Text(from)}\"", provider, excluded, cancel)
                    .ConfigureAwait(false)
            )
            {
                // There are servers that answer a filter with everybody.
                var at = At(resource, "lastModified") ?? throw Cannot("its server does not show when something changed");
                if (at >= from)
                    changed.Add(resource);
                // They are read with all others.
                if (changed.Count > TargetChanges.MostAlone)
                    break;
            }
        }
        catch (ScimRefusal refusal) when (refusal.Kind == ScimRefusalKind.Refused)
        {
            throw Cannot($"its server does not filter by meta.lastModified: {refusal.Message}");
        }
        return changed;
    }

    private async Task<IReadOnlyList<ChangedHolders>> HoldersAsync(
        ScimClient client,
        ScimProvider provider,
        DateTimeOffset from,
        CancellationToken cancel
    )
    {
        var given = rule.Entitlements.Values.Where(e => e.Means is EntitlementMeans.NamedGroup).ToList();
        if (given.Count == 0)
            return [];
        var changed = (await ChangedAsync(client, provider, ScimSchemas.Groups, from, "members", cancel).ConfigureAwait(false))
            .SelectMany(g => ScimReading.Texts(g, "displayName", ScimSchemas.Groups))
            .ToHashSet(StringComparer.OrdinalIgnoreCase);
        var touched = given
            .Select(e => (Given: e, Group: ((EntitlementMeans.NamedGroup)e.Means).Name))
            .Where(e => changed.Contains(e.Group))
            .ToList();
        var members = await groups.MembersAsync([.. touched.Select(e => e.Group)], cancel).ConfigureAwait(false);
        return
        [
            .. touched.Select(e =>
            {
                var inside = (members.GetValueOrDefault(e.Group) ?? new HashSet<string>())
                    .Select(ScimConnector.LocationOf)
                    .ToHashSet(StringComparer.Ordinal);
                return new ChangedHolders(e.Given.Name, (_, location) => inside.Contains(location));
            }),
        ];
    }

    private static async Task<IReadOnlySet<string>> PresentAsync(ScimClient client, ScimProvider provider, CancellationToken cancel)
    {
        var present = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        await foreach (var user in client.ListAsync(provider.Users, "", provider, "groups", cancel).ConfigureAwait(false))
            present.Add(new ScimRead(user, "").Id);
        return present;
    }

    private static DateTimeOffset? At(JsonObject resource, string name) =>
        ScimValues.Get(resource, "meta") is JsonObject meta
        && DateTimeOffset.TryParse(
            (ScimValues.Get(meta, name) as JsonValue)?.ToString(),
            CultureInfo.InvariantCulture,
            DateTimeStyles.AssumeUniversal,
            out var at
        )
            ? at.ToUniversalTime()
            : null;

    private static string Text(DateTimeOffset at) => at.UtcDateTime.ToString("yyyy-MM-dd'T'HH:mm:ss.fff'Z'", CultureInfo.InvariantCulture);

    private TargetFault Cannot(string why) =>
        new($"{rule.Title} does not tell what changed, since {why}: take 'changes' out of its 'watch'.", transient: false);
}
