using System.Text.Json;

namespace Oikonom.Sources;

/// <summary>Takes texts out of JSON records by paths with dots, such as <c>name.givenName</c> or <c>emails.0.value</c>.</summary>
public static class JsonPaths
{
    /// <summary>The texts of all paths; what is not there, or is no single value, is "".</summary>
    public static IReadOnlyList<string> Texts(JsonElement record, IReadOnlyList<string> paths)
    {
        var texts = new string[paths.Count];
        for (var i = 0; i < texts.Length; i++)
            texts[i] = Text(record, paths[i]);
        return texts;
    }

    public static string Text(JsonElement record, string path)
    {
        var at = record;
        var rest = path.AsSpan();
        while (rest.Length > 0)
        {
            // A schema's URN holds dots itself; it is followed by a colon and the name.
            if (at.ValueKind == JsonValueKind.Object && at.TryGetProperty(rest, out var whole))
            {
                at = whole;
                break;
            }
            if (
                rest.StartsWith("urn:", StringComparison.OrdinalIgnoreCase)
                && rest.LastIndexOf(':') is var colon and > 0
                && at.ValueKind == JsonValueKind.Object
                && at.TryGetProperty(rest[..colon], out var extension)
            )
            {
                at = extension;
                rest = rest[(colon + 1)..];
                continue;
            }
            var dot = rest.IndexOf('.');
            var name = dot < 0 ? rest : rest[..dot];
            rest = dot < 0 ? default : rest[(dot + 1)..];
            if (at.ValueKind == JsonValueKind.Object && at.TryGetProperty(name, out var member))
                at = member;
            else if (at.ValueKind == JsonValueKind.Array && int.TryParse(name, out var index) && index >= 0 && index < at.GetArrayLength())
                at = at[index];
            else
                return "";
        }
        return at.ValueKind switch
        {
            JsonValueKind.String => at.GetString() ?? "",
            JsonValueKind.Number => at.GetRawText(),
            JsonValueKind.True => "true",
            JsonValueKind.False => "false",
            _ => "",
        };
    }
}
