using System.Globalization;
using System.Text.Json;
using System.Text.Json.Nodes;
using Oikonom.Core.Intake;
using Oikonom.Core.Ledger;
using Oikonom.Core.Rulebook;
using Oikonom.Scim;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Service.Intake;
using Oikonom.Sources;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Scim;

/// <summary>Who pushes: the source and the token.</summary>
public sealed record Pusher(string Source, string Token);

/// <summary>A resource with its version.</summary>
public sealed record ScimAnswer(JsonObject Resource, long Version);

/// <summary>
/// Takes what a SCIM client pushes (RFC 7644): keeps the resource as it was sent, and turns each user into a record
/// of the source, in one decision.
/// </summary>
public sealed class ScimDesk(
    GroupCommit writer,
    Store.Store store,
    EditionBook editions,
    RecordTaker taker,
    PushBrake brake,
    Pressure pressure,
    TimeProvider time
)
{
    private const int MaxScan = 200_000;
    private const int ScanPage = 2000;

    public Task<ScimAnswer> CreateAsync(Pusher pusher, ScimResourceType type, JsonNode? body, CancellationToken cancel)
    {
        var resource = ScimResources.Checked(body, type);
        return WriteAsync(
            pusher,
            cancel,
            async (s, together, edition, source) =>
            {
                var now = time.GetUtcNow();
                var id = Guid.CreateVersion7(now).ToString();
                var row = new ScimRow
                {
                    Id = id,
                    Source = pusher.Source,
                    Kind = type.Name,
                    UniqueKey = KeyOf(resource, type),
                    ExternalId = Text(resource, "externalId"),
                    Body = resource.ToJsonString(),
                    Version = 1,
                    CreatedAt = now.ToUnixTimeMilliseconds(),
                    ModifiedAt = now.ToUnixTimeMilliseconds(),
                };
                await RequireUniqueExternalAsync(s, row, source, type);
                if (!await s.AddScimAsync(row))
                    throw SameName(type);
                await IntakeAsync(s, together, edition, source, type, row, null, resource);
                return new ScimAnswer(resource, 1) with { Resource = Shown(row, resource) };
            }
        );
    }

    public Task<ScimAnswer> ReplaceAsync(
        Pusher pusher,
        ScimResourceType type,
        string id,
        JsonNode? body,
        long? ifMatch,
        CancellationToken cancel
    )
    {
        var resource = ScimResources.Checked(body, type);
        return ChangeAsync(pusher, type, id, ifMatch, _ => resource, cancel);
    }

    public Task<ScimAnswer> PatchAsync(
        Pusher pusher,
        ScimResourceType type,
        string id,
        JsonNode? message,
        long? ifMatch,
        CancellationToken cancel
    ) => ChangeAsync(pusher, type, id, ifMatch, before => ScimResources.Checked(ScimPatch.Apply(before, message, type), type), cancel);

    private Task<ScimAnswer> ChangeAsync(
        Pusher pusher,
        ScimResourceType type,
        string id,
        long? ifMatch,
        Func<JsonObject, JsonObject> change,
        CancellationToken cancel
    ) =>
        WriteAsync(
            pusher,
            cancel,
            async (s, together, edition, source) =>
            {
                var row = await s.ScimAsync(pusher.Source, type.Name, id, forUpdate: true) ?? throw ScimFault.NotFound(id);
                if (ifMatch is not null && ifMatch != row.Version)
                    throw ScimFault.Precondition();
                var before = KeptRecords.Parse(row);
                var after = change(before);
                var body = after.ToJsonString();
                if (body == row.Body)
                    return new ScimAnswer(Shown(row, after), row.Version);
                var changed = row with
                {
                    UniqueKey = KeyOf(after, type),
                    ExternalId = Text(after, "externalId"),
                    Body = body,
                    Version = row.Version + 1,
                    ModifiedAt = time.Milliseconds(),
                };
                await RequireUniqueAsync(s, changed, source, type);
                await s.SaveScimAsync(changed);
                await IntakeAsync(s, together, edition, source, type, changed, before, after);
                return new ScimAnswer(Shown(changed, after), changed.Version);
            }
        );

    public Task DeleteAsync(Pusher pusher, ScimResourceType type, string id, long? ifMatch, CancellationToken cancel) =>
        WriteAsync(
            pusher,
            cancel,
            async (s, together, edition, source) =>
            {
                var row = await s.ScimAsync(pusher.Source, type.Name, id, forUpdate: true) ?? throw ScimFault.NotFound(id);
                if (ifMatch is not null && ifMatch != row.Version)
                    throw ScimFault.Precondition();
                await s.DropScimAsync(id);
                await IntakeAsync(s, together, edition, source, type, row, KeptRecords.Parse(row), null);
                return true;
            }
        );

    public Task<ScimAnswer> GetAsync(Pusher pusher, ScimResourceType type, string id, CancellationToken cancel) =>
        store.ReadAsync(
            async s =>
            {
                var row = await s.ScimAsync(pusher.Source, type.Name, id) ?? throw ScimFault.NotFound(id);
                var resource = Shown(row, KeptRecords.Parse(row));
                if (type.Name == "User")
                {
                    var groups = await s.ScimGroupsWithAsync(pusher.Source, id);
                    if (groups.Count > 0)
                        resource["groups"] = new JsonArray([
                            .. groups.Select(g =>
                                (JsonNode)
                                    new JsonObject
                                    {
                                        ["value"] = g.Id,
                                        ["$ref"] = $"../Groups/{g.Id}",
                                        ["display"] = Text(KeptRecords.Parse(g), "displayName"),
                                        ["type"] = "direct",
                                    }
                            ),
                        ]);
                }
                return new ScimAnswer(resource, row.Version);
            },
            cancel
        );

    /// <summary>Resources that match, from <paramref name="start"/> (1 is the first), and how many match in all.</summary>
    public Task<(IReadOnlyList<JsonObject> Page, long Total)> ListAsync(
        Pusher pusher,
        ScimResourceType type,
        string? filter,
        string? sortBy,
        bool descending,
        int start,
        int count,
        CancellationToken cancel
    ) =>
        store.ReadAsync<(IReadOnlyList<JsonObject>, long)>(
            async s =>
            {
                var wanted = filter is { Length: > 0 } ? ScimFilter.Parse(filter) : null;
                if (wanted is not null && Names(wanted).Any(n => n.Equals("password", StringComparison.OrdinalIgnoreCase)))
                    throw ScimFault.Sensitive("A password is never part of an address or a filter.");
                if (wanted is null && sortBy is null)
                {
                    var total = await s.ScimCountAsync(pusher.Source, type.Name);
                    return (
                        [
                            .. (await s.ScimPageAsync(pusher.Source, type.Name, start - 1, count)).Select(r =>
                                Shown(r, KeptRecords.Parse(r))
                            ),
                        ],
                        total
                    );
                }
                if (
                    wanted is ScimFilter.Compare { Operator: "eq", Value: { } value, Path: { Urn: null, Sub: null } path }
                    && value.GetValueKind() == JsonValueKind.String
                    && await ByKeyAsync(s, pusher, type, path.Attribute, value.GetValue<string>()) is { } ids
                )
                {
                    var found = ids.Length == 0 ? null : await s.ScimAsync(pusher.Source, type.Name, ids);
                    IReadOnlyList<JsonObject> one =
                        found is not null && wanted.Matches(Shown(found, KeptRecords.Parse(found)), type)
                            ? [Shown(found, KeptRecords.Parse(found))]
                            : [];
                    return (start == 1 && count > 0 ? one : [], one.Count);
                }
                var matches = await ScanAsync(s, pusher, type, wanted);
                var ordered = sortBy is null ? matches : ScimResources.Sorted(matches, type, sortBy, descending);
                return ([.. ordered.Skip(start - 1).Take(count)], matches.Count);
            },
            cancel
        );

    /// <summary>All resources that a filter lets through, looked at one by one.</summary>
    /// <exception cref="ScimFault">tooMany: there are more than can be looked at.</exception>
    private async Task<List<JsonObject>> ScanAsync(Session s, Pusher pusher, ScimResourceType type, ScimFilter? wanted)
    {
        var matches = new List<JsonObject>();
        for (long skip = 0; ; skip += ScanPage)
        {
            var rows = await s.ScimPageAsync(pusher.Source, type.Name, skip, ScanPage);
            foreach (var row in rows)
            {
                var resource = Shown(row, KeptRecords.Parse(row));
                if (wanted is null || wanted.Matches(resource, type))
                    matches.Add(resource);
            }
            if (rows.Count < ScanPage)
                return matches;
            if (skip + ScanPage >= MaxScan)
                throw ScimFault.TooMany($"More than {MaxScan} resources would have to be looked at; ask for userName, externalId or id.");
        }
    }

    /// <summary>The id behind a key that is looked up at once, "" when there is none, or null for any other attribute.</summary>
    private static async Task<string?> ByKeyAsync(Session s, Pusher pusher, ScimResourceType type, string attribute, string value) =>
        attribute.ToUpperInvariant() switch
        {
            "ID" => value,
            "EXTERNALID" => await s.ScimByExternalAsync(pusher.Source, type.Name, value) ?? "",
            "USERNAME" when type.Name == "User" => await s.ScimByKeyAsync(pusher.Source, type.Name, value.ToLowerInvariant()) ?? "",
            "DISPLAYNAME" when type.Name == "Group" => await s.ScimByKeyAsync(pusher.Source, type.Name, value.ToLowerInvariant()) ?? "",
            _ => null,
        };

    private static IEnumerable<string> Names(ScimFilter filter) =>
        filter switch
        {
            ScimFilter.And and => Names(and.Left).Concat(Names(and.Right)),
            ScimFilter.Or or => Names(or.Left).Concat(Names(or.Right)),
            ScimFilter.Not not => Names(not.Inner),
            ScimFilter.Values values => [values.Path.Attribute],
            ScimFilter.Compare compare => [compare.Path.Attribute],
            _ => [],
        };

    private async Task<T> WriteAsync<T>(
        Pusher pusher,
        CancellationToken cancel,
        Func<Session, GroupCommit.Together, Edition, SourceRule, Task<T>> work
    )
        where T : notnull
    {
        pressure.Note();
        var edition = await editions.CurrentAsync(cancel);
        var source = edition.Rulebook.Sources.GetValueOrDefault(pusher.Source) is { Kind: SourceKind.Scim } found
            ? found
            : throw new ScimFault(403, null, $"The rulebook has no SCIM source '{pusher.Source}' any more.");
        return await writer.RunAsync((s, together) => work(s, together, edition, source), cancel);
    }

    private static async Task RequireUniqueAsync(Session s, ScimRow row, SourceRule source, ScimResourceType type)
    {
        if (await s.ScimByKeyAsync(row.Source, row.Kind, row.UniqueKey) is { } same && same != row.Id)
            throw SameName(type);
        await RequireUniqueExternalAsync(s, row, source, type);
    }

    private static ScimFault SameName(ScimResourceType type) =>
        ScimFault.Uniqueness($"Another {type.Name} has the same {(type.Name == "User" ? "userName" : "displayName")}.");

    private static async Task RequireUniqueExternalAsync(Session s, ScimRow row, SourceRule source, ScimResourceType type)
    {
        // Where the external id tells records apart, it is as unique as they are.
        if (
            type.Name == "User"
            && source.Paths[source.KeyColumn] == "externalId"
            && row.ExternalId.Length > 0
            && await s.ScimByExternalAsync(row.Source, row.Kind, row.ExternalId) is { } other
            && other != row.Id
        )
            throw ScimFault.Uniqueness("Another User has the same externalId, which is the key of this source.");
    }

    /// <summary>The record that follows from a user: taken, set aside with the reason, or gone.</summary>
    private async Task IntakeAsync(
        Session s,
        GroupCommit.Together together,
        Edition edition,
        SourceRule source,
        ScimResourceType type,
        ScimRow row,
        JsonObject? before,
        JsonObject? after
    )
    {
        var now = time.GetUtcNow();
        var actor = $"scim:{source.Name}";
        var what =
            after is null ? "scim.deleted"
            : before is null ? "scim.created"
            : "scim.changed";
        s.Record(LedgerEntry.Of(now, actor, what, null, null, [.. Named(source, type, row)]));
        if (type.Name != "User")
            return;
        var (old, texts) = (
            before is null ? null : KeptRecords.Texts(source, row, before),
            after is null ? null : KeptRecords.Texts(source, row, after)
        );
        var inactive = after is not null && KeptRecords.IsInactive(source, after);
        var taking = new Taking(edition, source, "push", "changes", actor);
        var oldKey = old?[source.KeyColumn] ?? "";
        if (texts is null || inactive)
        {
            var key = oldKey.Length > 0 ? oldKey : texts?[source.KeyColumn] ?? "";
            await TakeAsync(s, together, taking, new(key, UInt128.Zero, null, 0));
            await s.ClearSetAsideAsync(source.Name, [key]);
            return;
        }
        var read = new RecordReader(source, edition.Rulebook, on: DateOnly.FromDateTime(now.UtcDateTime)).Read(texts);
        var newKey = texts[source.KeyColumn];
        await s.ClearSetAsideAsync(source.Name, [.. new[] { newKey, oldKey }.Where(k => k.Length > 0).Distinct()]);
        if (read.Fault is not null || newKey.Length == 0)
        {
            await SetAsideAsync(s, source, row, texts, read.Fault);
            return;
        }
        var fingerprint = UInt128.Zero;
        new RecordDelivery(source, "", false, [texts]).Each(r => fingerprint = r.Fingerprint, CancellationToken.None);
        if (read.Outside)
        {
            await taker.WriteAsync(s, taking, [], [new(newKey, fingerprint, null, 0) { IsOutside = true }], new());
            return;
        }
        var replaced =
            oldKey.Length > 0 && oldKey != newKey
                ? (await s.RecordsAsync(source.Name, [oldKey])).FirstOrDefault(r => r.Facts is not null)
                : null;
        await TakeAsync(s, together, taking, new(newKey, fingerprint, read.Facts, 0) { Replaces = replaced });
    }

    private static IEnumerable<(string, object?)> Named(SourceRule source, ScimResourceType type, ScimRow row) =>
        [("source", source.Name), ("resource", type.Name), ("resourceId", row.Id), ("version", row.Version)];

    /// <summary>A user who is no record of a person yet is listed with the reason.</summary>
    private static async Task SetAsideAsync(Session s, SourceRule source, ScimRow row, IReadOnlyList<string> texts, RowFault? fault)
    {
        var (column, value, reason) = fault is not null
            ? (fault.Column, fault.Value, fault.Reason)
            : (source.ColumnNames[source.KeyColumn], "", "The key of the record is empty.");
        await s.AddSetAsideAsync([
            new()
            {
                RunId = "push",
                Source = source.Name,
                File = $"/scim/v2/Users/{row.Id}",
                Line = 0,
                ColumnName = column,
                Value = value,
                Reason = reason,
                RecordKey = texts[source.KeyColumn],
                Fields = JsonSerializer.Serialize(source.Paths.Select((p, i) => (p, t: texts[i])).ToDictionary(x => x.p, x => x.t)),
            },
        ]);
        s.Tell("sources", source.Name);
    }

    /// <summary>Records of one group are decided together; one that comes twice, or is of a person met already, waits for what
    /// came before it.</summary>
    private async Task TakeAsync(Session s, GroupCommit.Together together, Taking taking, Incoming incoming)
    {
        var person = incoming.Facts?.PersonKey;
        if (
            person is null
            || together.Of(taking.Source.Name).OfType<Incoming>().Any(i => i.Key == incoming.Key || i.Facts?.PersonKey == person)
        )
            await together.FinishAsync();
        together.Add(
            taking.Source.Name,
            incoming,
            async items =>
            {
                var memory = new RecordTaker.Memory();
                var decided = await taker.DecideAsync(s, taking, [.. items.Cast<Incoming>()], memory);
                await taker.WriteAsync(s, taking, await brake.KeepBackAsync(s, taking, decided), [], memory);
            }
        );
    }

    private static string Text(JsonObject resource, string name) =>
        ScimValues.Get(resource, name) is JsonValue value && value.GetValueKind() == JsonValueKind.String ? value.GetValue<string>() : "";

    private static string KeyOf(JsonObject resource, ScimResourceType type) =>
        Text(resource, type.Name == "User" ? "userName" : "displayName").ToLowerInvariant();

    private static JsonObject Shown(ScimRow row, JsonObject resource)
    {
        var shown = new JsonObject { ["schemas"] = resource["schemas"]?.DeepClone(), ["id"] = row.Id };
        foreach (var (name, value) in resource)
            if (name != "schemas")
                shown[name] = value?.DeepClone();
        shown["meta"] = new JsonObject
        {
            ["resourceType"] = row.Kind,
            ["created"] = Stamp(row.CreatedAt),
            ["lastModified"] = Stamp(row.ModifiedAt),
            ["location"] = $"/scim/v2/{row.Kind}s/{row.Id}",
            ["version"] = Tag(row.Version),
        };
        return shown;
    }

    public static string Tag(long version) => $"W/\"{version.ToString(CultureInfo.InvariantCulture)}\"";

    private static string Stamp(long at) => at.ToInstant().ToString("yyyy-MM-dd'T'HH:mm:ss.fff'Z'", CultureInfo.InvariantCulture);
}
