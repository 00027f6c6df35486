using System.Text.Json.Nodes;

namespace Oikonom.Scim;

/// <summary>What a service provider says it can (RFC 7643 section 5), and how it describes users (section 7).</summary>
/// <param name="Patches">Resources are changed by PATCH; else they are replaced whole.</param>
/// <param name="Filters">Resources are found by a filter.</param>
/// <param name="Sorts">Pages can be asked for in an order.</param>
/// <param name="Tags">Resources carry versions that a change can name.</param>
/// <param name="PageSize">How many resources it gives at once.</param>
/// <param name="Users">What users are made of.</param>
public sealed record ScimProvider(bool Patches, bool Filters, bool Sorts, bool Tags, int PageSize, ScimResourceType Users)
{
    /// <summary>What is taken for so where a provider tells nothing: everything that the protocol demands.</summary>
    public static readonly ScimProvider Unknown = new(true, true, false, false, MostPerPage, ScimSchemas.Users);

    private const int MostPerPage = 200;

    /// <summary>How many calls it takes as one (RFC 7644 section 3.7); 0 where it takes none.</summary>
    public int MostPerBulk { get; init; }

    /// <summary>How many bytes such a request may have.</summary>
    public int LongestBulk { get; init; } = int.MaxValue;

    /// <param name="config">The answer of /ServiceProviderConfig; null when there is none.</param>
    /// <param name="schemas">The resources of /Schemas; none where it has no such address.</param>
    public static ScimProvider Of(JsonObject? config, IReadOnlyList<JsonObject> schemas)
    {
        var known = schemas.Select(ScimSchema.FromJson).OfType<ScimSchema>().Where(s => s.Attributes.Count > 0).ToList();
        var user = known.FirstOrDefault(s => s.Id.Equals(ScimSchemas.User, StringComparison.OrdinalIgnoreCase));
        var extensions = known
            .Where(s =>
                !s.Id.Equals(ScimSchemas.User, StringComparison.OrdinalIgnoreCase)
                && !s.Id.Equals(ScimSchemas.Group, StringComparison.OrdinalIgnoreCase)
            )
            .ToList();
        var users = user is null
            ? ScimSchemas.Users
            : new ScimResourceType("User", "/Users", user, extensions.Count > 0 ? extensions : ScimSchemas.Users.Extensions);
        if (config is null)
            return Unknown with { Users = users };
        var most = ScimValues.Get(config, "filter") is JsonObject filter ? ScimReading.Number(ScimValues.Get(filter, "maxResults")) : null;
        return new(
            Supported(config, "patch"),
            Supported(config, "filter"),
            Supported(config, "sort"),
            Supported(config, "etag"),
            most is > 0 and < MostPerPage ? most.Value : MostPerPage,
            users
        )
        {
            MostPerBulk = Supported(config, "bulk") ? Math.Clamp(OfBulk(config, "maxOperations") ?? MostAtOnce, 0, MostAtOnce) : 0,
            LongestBulk = OfBulk(config, "maxPayloadSize") is { } bytes and > 0 ? bytes : int.MaxValue,
        };
    }

    /// <summary>More at once would keep the first one waiting for the last.</summary>
    private const int MostAtOnce = 100;

    private static int? OfBulk(JsonObject config, string limit) =>
        ScimValues.Get(config, "bulk") is JsonObject bulk ? ScimReading.Number(ScimValues.Get(bulk, limit)) : null;

    private static bool Supported(JsonObject config, string what) =>
        ScimValues.Get(config, what) is JsonObject about && ScimReading.Truth(ScimValues.Get(about, "supported")) == true;
}
