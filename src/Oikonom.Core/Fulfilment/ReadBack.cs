using System.Diagnostics;
using System.Text.Json;
using System.Text.Json.Serialization;

namespace Oikonom.Core.Fulfilment;

/// <summary>One way in which a target differs from what was done: closed.</summary>
[JsonPolymorphic(TypeDiscriminatorPropertyName = "what")]
[JsonDerivedType(typeof(Gone), "gone")]
[JsonDerivedType(typeof(OtherValues), "values")]
[JsonDerivedType(typeof(OtherPresence), "presence")]
[JsonDerivedType(typeof(Missing), "missing")]
[JsonDerivedType(typeof(Surplus), "surplus")]
public abstract record Difference
{
    private Difference() { }

    /// <summary>The entry is not there any more.</summary>
    public sealed record Gone(string ImmutableId) : Difference;

    /// <summary>An attribute has other values than it was given.</summary>
    public sealed record OtherValues(string Attribute, IReadOnlyList<string> Found, IReadOnlyList<string> Wanted) : Difference;

    /// <summary>It may be used and should not, or the other way round.</summary>
    public sealed record OtherPresence(bool IsEnabled) : Difference;

    /// <summary>It does not hold what it was given.</summary>
    public sealed record Missing(string Entitlement) : Difference;

    /// <summary>It holds what nobody gave, or what was taken.</summary>
    public sealed record Surplus(string Entitlement) : Difference;

    /// <summary>Differences as they are kept.</summary>
    public static string ToJson(IReadOnlyList<Difference> differences) => JsonSerializer.Serialize(differences, JsonSerializerOptions.Web);

    /// <exception cref="JsonException">It is not what <see cref="ToJson"/> wrote.</exception>
    public static IReadOnlyList<Difference> FromJson(string json) =>
        JsonSerializer.Deserialize<List<Difference>>(json, JsonSerializerOptions.Web) ?? [];

    /// <summary>What of the account it is about: two differences of one place are the same one, whatever was found.</summary>
    [JsonIgnore]
    public string Place =>
        this switch
        {
            OtherValues other => $"value:{other.Attribute.ToLowerInvariant()}",
            Missing missing => $"missing:{missing.Entitlement}",
            Surplus surplus => $"surplus:{surplus.Entitlement}",
            _ => GetType().Name,
        };

    /// <summary>What differs, without the values that were found.</summary>
    [JsonIgnore]
    public string Bare =>
        this switch
        {
            Gone => "the entry was deleted",
            OtherValues other => $"{other.Attribute} was changed",
            OtherPresence presence => presence.IsEnabled ? "the account was enabled" : "the account was disabled",
            Missing missing => $"taken out of {missing.Entitlement}",
            Surplus surplus => $"put into {surplus.Entitlement}",
            _ => throw new UnreachableException($"{GetType().Name} has no words."),
        };

    /// <summary>The difference in words.</summary>
    [JsonIgnore]
    public string Text =>
        this switch
        {
            Gone gone => $"the entry {gone.ImmutableId} is gone",
            OtherValues other => $"{other.Attribute} is '{string.Join(", ", other.Found)}', not '{string.Join(", ", other.Wanted)}'",
            OtherPresence presence => presence.IsEnabled ? "the account is enabled" : "the account is disabled",
            Missing missing => $"not in {missing.Entitlement}",
            Surplus surplus => $"still in {surplus.Entitlement}",
            _ => throw new UnreachableException($"{GetType().Name} has no words."),
        };
}

/// <summary>What a read-back found; nothing when the target is as it should be.</summary>
public sealed record ReadBack(IReadOnlyList<Difference> Differences)
{
    /// <summary>True when the target is as it should be.</summary>
    public bool Matches => Differences.Count == 0;
}
