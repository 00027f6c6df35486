using System.Diagnostics.CodeAnalysis;
using System.Text.Json;
using System.Text.Json.Serialization;

namespace Oikonom.Core.Rulebook;

/// <summary>
/// An entitlement as one account of a target holds it, written <c>target/entitlement</c>, or
/// <c>target:slot/entitlement</c> where the account is not the ordinary one. Compares ordinal; made once per line of a
/// rulebook and shared, so that looking it up costs little.
/// </summary>
[JsonConverter(typeof(EntitlementKeyJson))]
public sealed class EntitlementKey : TextKey<EntitlementKey>
{
    /// <param name="account">The account that holds it; a target alone means the ordinary one.</param>
    /// <param name="name">The name of the entitlement within the target.</param>
    public EntitlementKey(AccountKey account, string name)
        : base($"{account}/{name}") => (Account, Name) = (account, name);

    /// <summary>The account that holds it; where a target has no accounts, the target alone.</summary>
    public AccountKey Account { get; }

    /// <summary>The target it is in.</summary>
    public string Target => Account.Target;

    /// <summary>Its name in the target.</summary>
    public string Name { get; }

    /// <summary>True when both name the same entitlement of a target, whichever account holds it.</summary>
    public bool IsSameEntitlement(EntitlementKey other) => Name == other.Name && Target == other.Target;

    /// <summary>False when the text has no slash, or nothing on one side of it: then it names a whole target, or nothing.</summary>
    public static bool TryParse(string? text, [NotNullWhen(true)] out EntitlementKey? key)
    {
        key =
            text?.IndexOf('/', StringComparison.Ordinal) is { } at && at > 0 && at < text.Length - 1
                ? new(AccountKey.Parse(text[..at]), text[(at + 1)..])
                : null;
        return key is not null;
    }

    /// <exception cref="FormatException">The text is no <c>target/entitlement</c>.</exception>
    public static EntitlementKey Parse(string text) =>
        TryParse(text, out var key) ? key : throw new FormatException($"'{text}' is no target/entitlement.");
}

internal sealed class EntitlementKeyJson : JsonConverter<EntitlementKey>
{
    public override EntitlementKey Read(ref Utf8JsonReader reader, Type typeToConvert, JsonSerializerOptions options) =>
        EntitlementKey.TryParse(reader.GetString(), out var key) ? key : throw new JsonException("This is no target/entitlement.");

    public override void Write(Utf8JsonWriter writer, EntitlementKey value, JsonSerializerOptions options) =>
        writer.WriteStringValue(value.ToString());
}
