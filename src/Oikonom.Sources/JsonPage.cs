using System.Text.Json;

namespace Oikonom.Sources;

/// <summary>One page of records as an HTTP source gives it.</summary>
/// <param name="Records">The texts of each record, in the order of the paths.</param>
/// <param name="Total">How many there are on all pages, when the source says so.</param>
/// <param name="Next">The address or cursor of the next page; "" when this is the last.</param>
public sealed record JsonPage(IReadOnlyList<IReadOnlyList<string>> Records, long? Total, string Next)
{
    /// <param name="items">The name of the list; a page that is a list itself needs none.</param>
    /// <param name="next">The name of what leads to the next page.</param>
    /// <exception cref="SourceFault">It is no such page.</exception>
    public static JsonPage Of(JsonElement root, string items, string next, IReadOnlyList<string> paths, string address)
    {
        try
        {
            if (root.ValueKind == JsonValueKind.Array)
                return new([.. root.EnumerateArray().Select(r => JsonPaths.Texts(r, paths))], null, "");
            if (
                root.ValueKind != JsonValueKind.Object
                || !root.TryGetProperty(items, out var list)
                || list.ValueKind != JsonValueKind.Array
            )
                throw new SourceFault($"{address} answered without the list '{items}'.");
            long? total =
                root.TryGetProperty("total", out var count) && count.ValueKind == JsonValueKind.Number && count.TryGetInt64(out var number)
                    ? number
                    : null;
            var onward = !root.TryGetProperty(next, out var follows)
                ? ""
                : follows.ValueKind switch
                {
                    JsonValueKind.String => follows.GetString()!,
                    JsonValueKind.Number => follows.GetRawText(),
                    _ => "",
                };
            return new([.. list.EnumerateArray().Select(r => JsonPaths.Texts(r, paths))], total, onward);
        }
        catch (InvalidOperationException)
        {
            // Half of a surrogate pair, in a name or a value.
            throw new SourceFault($"{address} answered with a text that is no sound Unicode.");
        }
    }
}
