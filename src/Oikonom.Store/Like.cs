namespace Oikonom.Store;

/// <summary>Patterns for LIKE … ESCAPE '!', in which a text stands for itself.</summary>
internal static class Like
{
    /// <summary>A pattern for texts that contain another, in lower case.</summary>
    public static string Containing(string text) => $"%{Escaped(text.ToLowerInvariant())}%";

    private static string Escaped(string text) =>
        text.Replace("!", "!!", StringComparison.Ordinal)
            .Replace("%", "!%", StringComparison.Ordinal)
            .Replace("_", "!_", StringComparison.Ordinal);
}
