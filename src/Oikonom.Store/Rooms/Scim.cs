namespace Oikonom.Store.Rooms;

/// <summary>A resource that was pushed (RFC 7643).</summary>
public sealed record ScimRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>The name of the source in the rulebook.</summary>
    public string Source { get; init; } = "";

    /// <summary>User or Group.</summary>
    public string Kind { get; init; } = "";

    /// <summary>What is unique in its source and kind, in lower case: the user name, or the name of the group.</summary>
    public string UniqueKey { get; init; } = "";

    /// <summary>The id that who pushes knows it by (RFC 7643 section 3.1), or "".</summary>
    public string ExternalId { get; init; } = "";

    /// <summary>What it holds, as JSON or as text.</summary>
    public string Body { get; init; } = "{}";

    /// <summary>Raised with each change, so that nobody overwrites what they did not see.</summary>
    public long Version { get; init; }

    /// <summary>When it was made, in milliseconds since 1970 (UTC).</summary>
    public long CreatedAt { get; init; }

    /// <summary>When it was changed last, in milliseconds since 1970 (UTC).</summary>
    public long ModifiedAt { get; init; }
}

/// <summary>Resources that sources pushed by SCIM.</summary>
public static class ScimTable
{
    private const string Columns = "id, source, kind, unique_key, external_id, body, version, created_at, modified_at";

    /// <summary>A resource by its id; null when there is none.</summary>
    public static Task<ScimRow?> ScimAsync(this Session session, string source, string kind, string id, bool forUpdate = false) =>
        session.FirstAsync<ScimRow>(
            $"SELECT {Columns} FROM scim_resources WHERE id=@id AND source=@source AND kind=@kind"
                + (forUpdate ? session.Engine.ForUpdate : ""),
            new
            {
                id,
                source,
                kind,
            }
        );

    /// <summary>The id of the resource with a unique key; null when there is none.</summary>
    public static Task<string?> ScimByKeyAsync(this Session session, string source, string kind, string key) =>
        session.FirstAsync<string>(
            "SELECT id FROM scim_resources WHERE source=@source AND kind=@kind AND unique_key=@key",
            new
            {
                source,
                kind,
                key,
            }
        );

    /// <summary>The id of the resource that who pushes knows by an id of their own; null when there is none.</summary>
    public static Task<string?> ScimByExternalAsync(this Session session, string source, string kind, string external) =>
        session.FirstAsync<string>(
            "SELECT id FROM scim_resources WHERE source=@source AND kind=@kind AND external_id=@external",
            new
            {
                source,
                kind,
                external,
            }
        );

    /// <summary>False when another one has the same key.</summary>
    public static async Task<bool> AddScimAsync(this Session session, ScimRow row) =>
        await session
            .BulkAsync(
                $"INSERT INTO scim_resources ({Columns}) SELECT {Columns} FROM {{rows}} AS x WHERE true ON CONFLICT (source, "
                    + "kind, unique_key) DO NOTHING",
                [row],
                ("id", "text"),
                ("source", "text"),
                ("kind", "text"),
                ("unique_key", "text"),
                ("external_id", "text"),
                ("body", "text"),
                ("version", "bigint"),
                ("created_at", "bigint"),
                ("modified_at", "bigint")
            )
            .ConfigureAwait(false) == 1;

    /// <summary>Writes a resource down.</summary>
    public static Task SaveScimAsync(this Session session, ScimRow row) =>
        session.ExecuteAsync(
            "UPDATE scim_resources SET unique_key=@UniqueKey, external_id=@ExternalId, body=@Body, version=@Version, "
                + "modified_at=@ModifiedAt WHERE id=@Id",
            row
        );

    /// <summary>Drops a resource.</summary>
    public static Task DropScimAsync(this Session session, string id) =>
        session.ExecuteAsync("DELETE FROM scim_resources WHERE id=@id", new { id });

    /// <summary>How many resources of a kind a source has.</summary>
    public static Task<long> ScimCountAsync(this Session session, string source, string kind) =>
        session.ScalarAsync<long>("SELECT COUNT(*) FROM scim_resources WHERE source=@source AND kind=@kind", new { source, kind });

    /// <summary>A page in order of making.</summary>
    public static Task<IReadOnlyList<ScimRow>> ScimPageAsync(this Session session, string source, string kind, long skip, int take) =>
        session.QueryAsync<ScimRow>(
            $"SELECT {Columns} FROM scim_resources WHERE source=@source AND kind=@kind ORDER BY id LIMIT @take OFFSET @skip",
            new
            {
                source,
                kind,
                skip,
                take,
            }
        );

    /// <summary>Groups whose members name a resource.</summary>
    public static Task<IReadOnlyList<ScimRow>> ScimGroupsWithAsync(this Session session, string source, string id) =>
        session.QueryAsync<ScimRow>(
            $"SELECT {Columns} FROM scim_resources WHERE source=@source AND kind='Group' AND body LIKE @like ESCAPE '!'",
            new { source, like = Like.Containing($"\"{id}\"") }
        );
}
