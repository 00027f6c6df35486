using System.Collections.Frozen;
using System.Reflection;
using System.Text.Json.Serialization;

namespace Oikonom.Core;

/// <summary>The names under which values of an enumeration are kept and told: those of their JSON members.</summary>
public static class EnumText
{
    /// <summary>The name by which a value is kept and told.</summary>
    public static string Of<T>(T value)
        where T : struct, Enum => Known<T>.Names[value];

    /// <exception cref="FormatException">No value has that name.</exception>
    public static T Parse<T>(string name)
        where T : struct, Enum =>
        Known<T>.Values.TryGetValue(name, out var value) ? value : throw new FormatException($"'{name}' is no {typeof(T).Name}.");

    /// <summary>All names, in the order of the values.</summary>
    public static IReadOnlyList<string> All<T>()
        where T : struct, Enum => [.. Enum.GetValues<T>().Select(Of)];

    private static class Known<T>
        where T : struct, Enum
    {
        /// <summary>The name of each value.</summary>
        public static readonly FrozenDictionary<T, string> Names = Enum.GetValues<T>().ToFrozenDictionary(v => v, NameOf);

        /// <summary>The value of each name.</summary>
        public static readonly FrozenDictionary<string, T> Values = Names.ToFrozenDictionary(p => p.Value, p => p.Key);

        private static string NameOf(T value) =>
            typeof(T).GetField(value.ToString())!.GetCustomAttribute<JsonStringEnumMemberNameAttribute>()?.Name
            ?? value.ToString().ToLowerInvariant();
    }
}
