using System.Text.Json;
using System.Text.Json.Nodes;
using Oikonom.Core.Rulebook;
using Oikonom.Scim;
using Oikonom.Sources;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Intake;

/// <summary>Records that were pushed to a source, as they are kept.</summary>
public static class KeptRecords
{
    private const int ScanPage = 2000;

    /// <summary>The records of all users that are kept and active, as if they had been fetched.</summary>
    public static async Task<RecordDelivery> KeptAsync(Store.Store store, SourceRule source, CancellationToken cancel)
    {
        var records = await store.ReadAsync(
            async s =>
            {
                var all = new List<IReadOnlyList<string>>();
                for (long skip = 0; ; skip += ScanPage)
                {
                    var rows = await s.ScimPageAsync(source.Name, "User", skip, ScanPage);
                    all.AddRange(
                        rows.Select(row => (Row: row, Resource: Parse(row)))
                            .Where(r => !IsInactive(source, r.Resource))
                            .Select(r => Texts(source, r.Row, r.Resource))
                    );
                    if (rows.Count < ScanPage)
                        return all;
                }
            },
            cancel
        );
        return new(source, "/scim/v2/Users", full: true, records);
    }

    public static bool IsInactive(SourceRule source, JsonObject resource) =>
        ScimValues.Get(resource, "active") is JsonValue active
        && active.GetValueKind() == JsonValueKind.False
        && !source.Paths.Contains("active");

    public static IReadOnlyList<string> Texts(SourceRule source, ScimRow row, JsonObject resource)
    {
        var whole = (JsonObject)resource.DeepClone();
        whole["id"] = row.Id;
        using var document = JsonDocument.Parse(whole.ToJsonString());
        return JsonPaths.Texts(document.RootElement, source.Paths);
    }

    public static JsonObject Parse(ScimRow row) => JsonNode.Parse(row.Body) as JsonObject ?? [];
}
