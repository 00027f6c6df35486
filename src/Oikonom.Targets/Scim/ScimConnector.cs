using System.Diagnostics;
using System.Runtime.CompilerServices;
using System.Text.Json.Nodes;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Scim;

namespace Oikonom.Targets.Scim;

/// <summary>
/// Accounts, roles, licences and groups in an application that speaks SCIM 2.0 (RFC 7643, RFC 7644), in whatever way its server
/// can: by PATCH or by PUT, with versions or without, found by filters or by looking through everybody.
/// </summary>
public sealed class ScimConnector : IChangesConnector, ICatalogueConnector
{
    private const string Enabled = "active";
    private readonly TargetRule _rule;
    private readonly ScimDoor _door;
    private readonly ScimGroups _groups;
    private readonly MatchKeys _keys;
    private readonly ILookup<bool, Entitlement> _inGroups;
    private readonly ChangedUsers _changed;

    /// <summary>A connector of one target; it connects when it is first asked.</summary>
    public ScimConnector(TargetRule rule, Func<CancellationToken, Task<ScimSignIn>> signIn)
    {
        _rule = rule;
        _door = new(rule, signIn);
        _groups = new(_door, rule.Title, rule.Entitlements.Values.Where(e => e.IsMade).Select(e => GroupOf(e)!));
        _keys = new(rule, ("user", "users"));
        _inGroups = rule.Entitlements.Values.ToLookup(e => e.Means is EntitlementMeans.NamedGroup);
        _changed = new(rule, _door, _groups, DescribeAsync);
    }

    /// <inheritdoc/>
    public TargetAbilities Can => _rule.Settings.Can;

    /// <inheritdoc/>
    public Task<Matches> FindAsync(IReadOnlyList<(string Attribute, string Value)> keys, CancellationToken cancel) =>
        _door.AskAsync(
            async (client, provider) =>
            {
                foreach (var (attribute, value) in keys.Where(k => k.Value.Length > 0))
                {
                    var found = await client.WithAsync(provider.Users, attribute, value, provider, "", cancel).ConfigureAwait(false);
                    if (found.Count == 0)
                        continue;
                    var accounts = new List<ExistingAccount>();
                    foreach (var user in found)
                        accounts.Add(await DescribeAsync(user.Resource, attribute, provider, cancel).ConfigureAwait(false));
                    return new Matches(accounts);
                }
                return new Matches([]);
            },
            cancel
        );

    /// <inheritdoc/>
    public Task<ExistingAccount?> ReadAsync(string immutableId, CancellationToken cancel) =>
        _door.AskAsync(
            async (client, provider) =>
                await client.ReadAsync(provider.Users, immutableId, cancel).ConfigureAwait(false) is { } user
                    ? await DescribeAsync(user.Resource, "id", provider, cancel).ConfigureAwait(false)
                    : null,
            cancel
        );

    /// <inheritdoc/>
    public async IAsyncEnumerable<ExistingAccount> ListAsync([EnumeratorCancellation] CancellationToken cancel)
    {
        var (client, provider) = await _door.AskAsync((c, p) => Task.FromResult((c, p)), cancel).ConfigureAwait(false);
        var members = await _door.AskAsync((_, _) => MembersAsync(cancel), cancel).ConfigureAwait(false);
        await using var users = client.ListAsync(provider.Users, "", provider, "", cancel).GetAsyncEnumerator(cancel);
        while (await _door.AskAsync((_, _) => users.MoveNextAsync().AsTask(), cancel).ConfigureAwait(false))
            yield return Describe(users.Current, provider, members);
    }

    private Task<IReadOnlyDictionary<string, IReadOnlySet<string>>> MembersAsync(CancellationToken cancel) =>
        _groups.MembersAsync([.. _inGroups[true].Select(e => GroupOf(e)!)], cancel);

    private ExistingAccount Describe(JsonObject user, ScimProvider provider, IReadOnlyDictionary<string, IReadOnlySet<string>> members)
    {
        var id = new ScimRead(user, "").Id;
        var groups = _inGroups[true].Where(e => members.GetValueOrDefault(GroupOf(e)!)?.Contains(id) == true);
        return Describe(user, "", provider, [.. ByValue(user, provider), .. groups.Select(e => e.Name)]);
    }

    private async Task<IReadOnlyDictionary<string, ExistingAccount>> DescribeAsync(
        IReadOnlyList<JsonObject> users,
        ScimProvider provider,
        CancellationToken cancel
    )
    {
        if (users.Count == 0)
            return new Dictionary<string, ExistingAccount>();
        var members = await MembersAsync(cancel).ConfigureAwait(false);
        return users.Select(u => Describe(u, provider, members)).ToDictionary(a => a.ImmutableId, StringComparer.Ordinal);
    }

    /// <inheritdoc/>
    public Task<TargetChanges> ChangesAsync(string? since, CancellationToken cancel) => _changed.SinceAsync(since, cancel);

    /// <inheritdoc/>
    public Task<bool> NameIsTakenAsync(string name, CancellationToken cancel) =>
        _door.AskAsync(
            async (client, provider) =>
                (
                    await client
                        .WithAsync(provider.Users, _rule.Settings.NameAttribute, name, provider, "groups", cancel)
                        .ConfigureAwait(false)
                ).Count > 0,
            cancel
        );

    /// <inheritdoc/>
    public Task<EnsuredAccount> EnsureAccountAsync(AccountGoal goal, CancellationToken cancel) =>
        _door.AskAsync(
            async (client, provider) =>
            {
                var user = goal.ImmutableId is { } id
                    ? await client.ReadAsync(provider.Users, id, cancel).ConfigureAwait(false) ?? throw _keys.Lost(id)
                    : await ByKeysAsync(client, provider, goal, cancel).ConfigureAwait(false);
                if (user is not null)
                    return await MendAsync(client, provider, user, goal, cancel).ConfigureAwait(false);
                if (!goal.MayCreate)
                    throw _keys.None(goal);
                return await CreateAsync(client, provider, goal, cancel).ConfigureAwait(false);
            },
            cancel
        );

    private async Task<ScimRead?> ByKeysAsync(ScimClient client, ScimProvider provider, AccountGoal goal, CancellationToken cancel)
    {
        foreach (var key in MatchKeys.Of(goal))
        {
            var found = await client.WithAsync(provider.Users, key.Attribute, key.Value, provider, "", cancel).ConfigureAwait(false);
            bool IsPlanned(ScimRead user) => string.Equals(NameOf(user.Resource), goal.Name, StringComparison.OrdinalIgnoreCase);
            if (_keys.Sole(goal, key, found, IsPlanned, user => NameOf(user.Resource)) is { } sole)
                return sole;
        }
        return null;
    }

    private async Task<EnsuredAccount> CreateAsync(ScimClient client, ScimProvider provider, AccountGoal goal, CancellationToken cancel)
    {
        var operations = goal
            .Attributes.Where(a => !IsName(a.Key))
            .Append(new(_rule.Settings.NameAttribute, [goal.Name]))
            .Append(new(Enabled, [goal.Enabled == false ? "false" : "true"]))
            .Select(a => ScimWriting.Operation([], a.Key, a.Value, provider.Users))
            .OfType<JsonObject>();
        try
        {
            var made = await client
                .CreateAsync(provider.Users, ScimWriting.Fresh(operations, provider.Users), cancel)
                .ConfigureAwait(false);
            return new(made.Id, LocationOf(made.Id), Changed: true, Created: true);
        }
        catch (ScimRefusal refusal) when (refusal.Kind == ScimRefusalKind.Taken)
        {
            // The creation of an attempt that was cut off may arrive after this one has looked.
            if (await ByKeysAsync(client, provider, goal, cancel).ConfigureAwait(false) is { } ours)
                return await MendAsync(client, provider, ours, goal, cancel).ConfigureAwait(false);
            // It found nobody, and somebody has the name, in other letters perhaps: its filters are not trusted any more.
            _door.FiltersMiss = true;
            throw _keys.Taken(goal.Name);
        }
    }

    private async Task<EnsuredAccount> MendAsync(
        ScimClient client,
        ScimProvider provider,
        ScimRead user,
        AccountGoal goal,
        CancellationToken cancel
    )
    {
        IEnumerable<KeyValuePair<string, IReadOnlyList<string>>> wished = goal.Attributes;
        if (goal.Enabled is { } enabled)
            wished = wished.Append(new(Enabled, [enabled ? "true" : "false"]));
        bool changed;
        try
        {
            changed = await ChangeAsync(client, provider, user, [.. wished], cancel).ConfigureAwait(false);
        }
        catch (ScimRefusal refusal) when (refusal.Kind == ScimRefusalKind.Taken && goal.Attributes.Keys.Any(IsName))
        {
            throw _keys.Taken(goal.Name);
        }
        return new(user.Id, LocationOf(user.Id), changed, Created: false);
    }

    /// <summary>Brings values to what is wished; what changed meanwhile is read and compared once more.</summary>
    private async Task<bool> ChangeAsync(
        ScimClient client,
        ScimProvider provider,
        ScimRead user,
        IReadOnlyList<KeyValuePair<string, IReadOnlyList<string>>> wished,
        CancellationToken cancel
    )
    {
        for (var attempt = 0; ; attempt++)
        {
            var operations = wished
                .Select(a => ScimWriting.Operation(user.Resource, a.Key, a.Value, provider.Users))
                .OfType<JsonObject>()
                .ToList();
            if (operations.Count == 0)
                return attempt > 0;
            try
            {
                await SendAsync(client, provider, user, operations, cancel).ConfigureAwait(false);
                return true;
            }
            catch (ScimRefusal refusal) when (refusal.Kind == ScimRefusalKind.Changed && attempt < 3)
            {
                user = await client.ReadAsync(provider.Users, user.Id, cancel).ConfigureAwait(false) ?? throw _keys.Lost(user.Id);
            }
        }
    }

    private async Task SendAsync(
        ScimClient client,
        ScimProvider provider,
        ScimRead user,
        List<JsonObject> operations,
        CancellationToken cancel
    )
    {
        var tag = provider.Tags ? user.Tag : "";
        if (provider.Patches && !_door.CannotPatch)
            try
            {
                await client
                    .PatchAsync(provider.Users, user.Id, ScimWriting.Patch(operations.Select(o => (JsonObject)o.DeepClone())), tag, cancel)
                    .ConfigureAwait(false);
                return;
            }
            catch (ScimRefusal refusal) when (refusal.Kind == ScimRefusalKind.Unable)
            {
                _door.CannotPatch = true;
            }
        var whole = ScimPatch.Apply(ScimWriting.Writable(user.Resource), ScimWriting.Patch(operations), provider.Users);
        await client.ReplaceAsync(provider.Users, user.Id, whole, tag, cancel).ConfigureAwait(false);
    }

    /// <summary>Applications of this kind take no passwords from us: people come to them signed in.</summary>
    /// <exception cref="TargetFault">Always.</exception>
    public Task SetPasswordAsync(string immutableId, string? password, CancellationToken cancel) =>
        throw new TargetFault($"{_rule.Title} takes no passwords.", transient: false);

    /// <inheritdoc/>
    public async Task<PortResult> EnsureGrantAsync(GrantGoal goal, CancellationToken cancel)
    {
        try
        {
            return await _door
                .AskAsync(
                    async (client, provider) =>
                    {
                        var user =
                            await client.ReadAsync(provider.Users, goal.Account!, cancel).ConfigureAwait(false)
                            ?? throw _keys.Lost(goal.Account!);
                        switch (goal.Entitlement.Means)
                        {
                            case EntitlementMeans.NamedGroup group:
                                await _groups.EnsureAsync(group.Name, user.Id, goal.Held, cancel).ConfigureAwait(false);
                                break;
                            case EntitlementMeans.Value value:
                                await HoldAsync(client, provider, user, value, goal.Held, cancel).ConfigureAwait(false);
                                break;
                            default:
                                throw new UnreachableException($"No application gives {goal.Entitlement.Means.GetType().Name}.");
                        }
                        return new PortResult.Reached();
                    },
                    cancel
                )
                .ConfigureAwait(false);
        }
        catch (TargetFault fault)
        {
            return fault.Result;
        }
    }

    private async Task HoldAsync(
        ScimClient client,
        ScimProvider provider,
        ScimRead user,
        EntitlementMeans.Value value,
        bool held,
        CancellationToken cancel
    )
    {
        for (var attempt = 0; ; attempt++)
        {
            if (Has(user.Resource, value, provider) == held)
                return;
            var operation = held
                ? new JsonObject
                {
                    ["op"] = "add",
                    ["path"] = value.Attribute,
                    ["value"] = new JsonArray(new JsonObject { ["value"] = value.Text }),
                }
                : new JsonObject { ["op"] = "remove", ["path"] = $"{value.Attribute}[value eq {ScimWriting.Quoted(value.Text)}]" };
            try
            {
                await SendAsync(client, provider, user, [operation], cancel).ConfigureAwait(false);
                return;
            }
            catch (ScimRefusal refusal) when (refusal.Kind == ScimRefusalKind.Changed && attempt < 3)
            {
                user = await client.ReadAsync(provider.Users, user.Id, cancel).ConfigureAwait(false) ?? throw _keys.Lost(user.Id);
            }
        }
    }

    /// <inheritdoc/>
    public Task<ReadBack> VerifyAsync(
        string immutableId,
        AccountState wanted,
        IReadOnlyCollection<string> entitlements,
        CancellationToken cancel
    ) =>
        _door.AskAsync(
            async (client, provider) =>
            {
                if (await client.ReadAsync(provider.Users, immutableId, cancel).ConfigureAwait(false) is not { } user)
                    return new ReadBack([new Difference.Gone(immutableId)]);
                var differences = new List<Difference>();
                foreach (var (name, values) in wanted.Attributes)
                {
                    var found = ScimReading.Texts(user.Resource, name, provider.Users);
                    if (!SameValues(name, found, values) && !await IsLostAsync(client, provider, name, found, cancel).ConfigureAwait(false))
                        differences.Add(new Difference.OtherValues(name, found, values));
                }
                if (IsEnabled(user.Resource) != wanted.Enabled)
                    differences.Add(new Difference.OtherPresence(!wanted.Enabled));
                var held = await HeldAsync(user.Resource, provider, cancel).ConfigureAwait(false);
                differences.AddRange(entitlements.Except(held).Select(e => new Difference.Missing(e)));
                differences.AddRange(_rule.Ours(held, entitlements).Except(entitlements).Select(e => new Difference.Surplus(e)));
                return new ReadBack(differences);
            },
            cancel
        );

    /// <summary>True of what the server takes and keeps of nobody (RFC 7643 section 3.1 wants it kept, and some do not).</summary>
    private async Task<bool> IsLostAsync(
        ScimClient client,
        ScimProvider provider,
        string name,
        IReadOnlyList<string> found,
        CancellationToken cancel
    )
    {
        if (found.Count > 0 || !name.Equals("externalId", StringComparison.OrdinalIgnoreCase))
            return false;
        if (_door.LosesExternalIds is { } known)
            return known;
        await foreach (var user in client.ListAsync(provider.Users, "", provider, "groups", cancel).ConfigureAwait(false))
            if (ScimReading.Texts(user, name, provider.Users).Count > 0)
            {
                _door.LosesExternalIds = false;
                return false;
            }
        _door.LosesExternalIds = true;
        return true;
    }

    /// <inheritdoc/>
    public Task<IReadOnlyList<OfferedEntitlement>> CatalogueAsync(CatalogueRule rule, CancellationToken cancel) =>
        new ApplicationCatalogue(_door, _rule).ReadAsync(rule, cancel);

    /// <inheritdoc/>
    public async Task<TargetHealth> CheckAsync(bool withRights, CancellationToken cancel)
    {
        var watch = Stopwatch.StartNew();
        var checks = new List<TargetCheckpoint>();
        try
        {
            await _door.SignInAsync(cancel).ConfigureAwait(false);
            checks.Add(new("Token and authority", true, "are set."));
            return await _door
                .AskAsync(
                    async (client, provider) =>
                    {
                        checks.Add(new("Connection", true, $"{_rule.Settings.SignsIn!.Value.Host} is reached and trusted."));
                        checks.Add(new("What it can", true, Told(provider)));
                        var users = 0;
                        await foreach (
                            var _ in client
                                .ListAsync(provider.Users, "", provider with { PageSize = 1 }, "groups", cancel)
                                .ConfigureAwait(false)
                        )
                            if (++users > 0)
                                break;
                        checks.Add(new("Users", true, "may be read."));
                        // What was read from the application itself was there.
                        foreach (var entitlement in _inGroups[true].Where(e => e is { IsRead: false, IsMade: false }))
                            if (await _groups.IdOfAsync(GroupOf(entitlement)!, cancel).ConfigureAwait(false) is null)
                                checks.Add(new("Groups", false, $"it has no group '{GroupOf(entitlement)}' of '{entitlement.Name}'."));
                        if (_inGroups[true].Any() && checks.All(c => c.Good))
                            checks.Add(new("Groups", true, $"{_inGroups[true].Count()} of {_inGroups[true].Count()} are there."));
                        if (_rule.Watch.Changes is not null)
                            checks.Add(await ChangesAsync(cancel).ConfigureAwait(false));
                        return Health();
                    },
                    cancel
                )
                .ConfigureAwait(false);
        }
        catch (TargetFault fault)
        {
            checks.Add(new(checks.Count == 0 ? "Token and authority" : "Connection", false, fault.Message));
            return Health();
        }

        TargetHealth Health()
        {
            var bad = checks.Find(c => !c.Good);
            return new(bad is null, bad?.Text ?? "The token is taken; users may be read.", "its token", watch.ElapsedMilliseconds)
            {
                Checkpoints = checks,
                CertificateUntil = _door.CertificateUntil,
            };
        }
    }

    private async Task<TargetCheckpoint> ChangesAsync(CancellationToken cancel)
    {
        try
        {
            await _changed.SinceAsync(null, cancel).ConfigureAwait(false);
            return new("Changes", true, "it tells what changed.");
        }
        catch (TargetFault fault)
        {
            return new("Changes", false, fault.Message);
        }
    }

    private static string Told(ScimProvider provider) =>
        $"changes by {(provider.Patches ? "PATCH" : "PUT")}, {(provider.Filters ? "finds by filter" : "cannot filter")}, "
        + $"{(provider.Tags ? "with" : "without")} versions, {provider.PageSize} a page, "
        + (provider.MostPerBulk > 1 ? $"{provider.MostPerBulk} changes at once." : "one change at a time.");

    /// <inheritdoc/>
    public Task<TargetSchema?> SchemaAsync(CancellationToken cancel) =>
        _door.AskAsync<TargetSchema?>(
            (_, provider) =>
            {
                var names = new HashSet<string>(["externalId"], StringComparer.OrdinalIgnoreCase);
                foreach (var attribute in provider.Users.Schema.Attributes)
                    Add("", attribute);
                foreach (var extension in provider.Users.Extensions)
                foreach (var attribute in extension.Attributes)
                    Add($"{extension.Id}:", attribute);
                return Task.FromResult<TargetSchema?>(new(names, names, [], []));

                void Add(string before, ScimAttribute attribute)
                {
                    names.Add(before + attribute.Name);
                    foreach (var part in attribute.Sub)
                        names.Add($"{before}{attribute.Name}.{part.Name}");
                }
            },
            cancel
        );

    /// <inheritdoc/>
    public ValueTask DisposeAsync()
    {
        _door.Dispose();
        return ValueTask.CompletedTask;
    }

    private bool IsName(string attribute) => attribute.Equals(_rule.Settings.NameAttribute, StringComparison.OrdinalIgnoreCase);

    private bool SameValues(string name, IReadOnlyList<string> left, IReadOnlyList<string> right) =>
        left.Count == right.Count
        && left.Order(StringComparer.Ordinal)
            .SequenceEqual(
                right.Order(StringComparer.Ordinal),
                // Names of users are told apart without regard to case (RFC 7643 section 4.1.1).
                IsName(name) ? StringComparer.OrdinalIgnoreCase : StringComparer.Ordinal
            );

    private static string? GroupOf(Entitlement entitlement) => (entitlement.Means as EntitlementMeans.NamedGroup)?.Name;

    private static bool Has(JsonObject user, EntitlementMeans.Value value, ScimProvider provider) =>
        ScimReading.Texts(user, value.Attribute, provider.Users).Contains(value.Text, StringComparer.OrdinalIgnoreCase);

    private IEnumerable<string> ByValue(JsonObject user, ScimProvider provider) =>
        _inGroups[false].Where(e => e.Means is EntitlementMeans.Value value && Has(user, value, provider)).Select(e => e.Name);

    private async Task<IReadOnlyList<string>> HeldAsync(JsonObject user, ScimProvider provider, CancellationToken cancel)
    {
        var held = ByValue(user, provider).ToList();
        if (_inGroups[true].Any())
        {
            var groups = await _groups.OfAsync(user, [.. _inGroups[true].Select(e => GroupOf(e)!)], cancel).ConfigureAwait(false);
            held.AddRange(_inGroups[true].Where(e => groups.Contains(GroupOf(e)!)).Select(e => e.Name));
        }
        return [.. held.Order(StringComparer.Ordinal)];
    }

    private async Task<ExistingAccount> DescribeAsync(JsonObject user, string matchedBy, ScimProvider provider, CancellationToken cancel) =>
        Describe(user, matchedBy, provider, await HeldAsync(user, provider, cancel).ConfigureAwait(false));

    private ExistingAccount Describe(JsonObject user, string matchedBy, ScimProvider provider, IReadOnlyList<string> entitlements)
    {
        var id = new ScimRead(user, "").Id;
        return new(
            _rule.Name,
            id,
            NameOf(user),
            "",
            LocationOf(id),
            matchedBy,
            ScimReading
                .All(user, provider.Users)
                .Where(a => a.Value.Count > 0 && !_inGroups[false].Any(e => IsOf(a.Key, e)))
                .ToDictionary(StringComparer.OrdinalIgnoreCase),
            IsEnabled(user),
            entitlements
        );
    }

    /// <summary>Whether a path leads into the attribute by which an entitlement is given.</summary>
    private static bool IsOf(string path, Entitlement entitlement) =>
        entitlement.Means is EntitlementMeans.Value value
        && path.StartsWith(value.Attribute, StringComparison.OrdinalIgnoreCase)
        && (path.Length == value.Attribute.Length || path[value.Attribute.Length] is '.' or '[');

    private string NameOf(JsonObject user) =>
        ScimReading.Texts(user, _rule.Settings.NameAttribute, ScimSchemas.Users).FirstOrDefault() ?? "";

    /// <summary>Who says nothing of it may be used (RFC 7643 section 4.1.1 leaves it open).</summary>
    private static bool IsEnabled(JsonObject user) => ScimReading.Truth(ScimValues.Get(user, Enabled)) != false;

    internal static string LocationOf(string id) => $"Users/{id}";
}
