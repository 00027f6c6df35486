using AnyAscii;

namespace Oikonom.Core.People;

/// <summary>
/// The text a person is found by, and the words somebody types to find them: both in lower-case Latin letters without
/// accents, letter by letter, so that any part of a name is found in any script.
/// </summary>
public static class SearchText
{
    private const string Nobody = "\uffff";

    /// <param name="key">Family and given name, as lists are sorted by them.</param>
    public static string Of(string key, string number) => Latin($"{key} {number}");

    /// <summary>The words of a search; each must be found. A text of which nothing can be read finds nobody, an empty one
    /// everybody.</summary>
    public static IReadOnlyList<string> Words(string text) =>
        Latin(text).Split(default(char[]), StringSplitOptions.RemoveEmptyEntries) is { Length: > 0 } words ? words
        : string.IsNullOrWhiteSpace(text) ? []
        : [Nobody];

    private static string Latin(string text) => text.Transliterate().ToLowerInvariant();
}
