using System.Diagnostics.CodeAnalysis;
using System.Text.Json;
using System.Text.Json.Serialization;

namespace Oikonom.Core.Rulebook;

/// <summary>
/// Which of the accounts that somebody may have in a target: the ordinary one, written <c>target</c>, or one in a slot of
/// its own beside it, such as an administrator's, written <c>target:slot</c>. Compares ordinal; made once per line of a
/// rulebook and shared, so that looking it up costs little.
/// </summary>
[JsonConverter(typeof(AccountKeyJson))]
public sealed class AccountKey : TextKey<AccountKey>
{
    /// <param name="target">The name of the target; it holds no colon and no slash.</param>
    /// <param name="slot">"" for the ordinary account.</param>
    public AccountKey(string target, string slot = "")
        : base(slot.Length == 0 ? target : $"{target}:{slot}") => (Target, Slot) = (target, slot);

    /// <summary>The target it is in.</summary>
    public string Target { get; }

    /// <summary>"" for the ordinary account.</summary>
    public string Slot { get; }

    /// <summary>True for the account that people have beside no other.</summary>
    public bool IsOrdinary => Slot.Length == 0;

    /// <summary>What stands before the first colon is the target; without one it is the ordinary account.</summary>
    public static AccountKey Parse(string text) =>
        text.IndexOf(':', StringComparison.Ordinal) is var at and > 0 ? new(text[..at], text[(at + 1)..]) : new(text);

    /// <inheritdoc cref="Parse"/>
    [SuppressMessage("Usage", "CA2225", Justification = "Parse is the named form.")]
    public static implicit operator AccountKey(string text) => Parse(text);

    /// <summary>A title of what it is about, with the slot where it is not the ordinary one.</summary>
    public string Titled(string title) => IsOrdinary ? title : $"{title} ({Slot})";
}

internal sealed class AccountKeyJson : JsonConverter<AccountKey>
{
    public override AccountKey Read(ref Utf8JsonReader reader, Type typeToConvert, JsonSerializerOptions options) =>
        AccountKey.Parse(reader.GetString() ?? throw new JsonException("This is no account of a target."));

    public override void Write(Utf8JsonWriter writer, AccountKey value, JsonSerializerOptions options) =>
        writer.WriteStringValue(value.ToString());

    public override AccountKey ReadAsPropertyName(ref Utf8JsonReader reader, Type typeToConvert, JsonSerializerOptions options) =>
        AccountKey.Parse(reader.GetString()!);

    public override void WriteAsPropertyName(Utf8JsonWriter writer, AccountKey value, JsonSerializerOptions options) =>
        writer.WritePropertyName(value.ToString());
}
