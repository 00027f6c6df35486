using System.Diagnostics;
using System.Text.Json;
using System.Text.Json.Serialization;
using Oikonom.Core.Planning;

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

    /// <summary>How an account that was read differs from what was done to it.</summary>
    /// <param name="wanted">What was done: attributes that were never given are not compared.</param>
    /// <param name="entitlements">What it was given.</param>
    public static IReadOnlyList<Difference> Between(AccountState wanted, IReadOnlyCollection<string> entitlements, ExistingAccount found)
    {
        var differences = new List<Difference>();
        foreach (var (name, values) in wanted.Attributes)
        {
            var there = found.Attributes.GetValueOrDefault(name) ?? [];
            if (!SameValues(there, values))
                differences.Add(new OtherValues(name, there, values));
        }
        if (found.Enabled != wanted.Enabled)
            differences.Add(new OtherPresence(found.Enabled));
        differences.AddRange(entitlements.Except(found.Entitlements).Select(e => new Missing(e)));
        differences.AddRange(found.Entitlements.Except(entitlements).Select(e => new Surplus(e)));
        return differences;
    }

    /// <summary>True when an entry is as its account was left: <see cref="Between"/> for many, which makes nothing.</summary>
    /// <param name="attributes">What was done, as a JSON object of lists of texts, in UTF-8.</param>
    /// <param name="held">What it was given.</param>
    /// <exception cref="JsonException">The attributes are no such object.</exception>
    public static bool IsAsLeft(ReadOnlySpan<byte> attributes, bool enabled, IReadOnlyCollection<string> held, ExistingAccount found)
    {
        if (found.Enabled != enabled || held.Count != found.Entitlements.Count || held.Any(h => !found.Entitlements.Contains(h)))
            return false;
        var reader = new Utf8JsonReader(attributes);
        while (reader.Read())
        {
            if (reader.TokenType != JsonTokenType.PropertyName)
                continue;
            if (!found.Attributes.TryGetValue(reader.GetString()!, out var values))
                values = [];
            reader.Read();
            if (!AreSame(ref reader, values))
                return false;
        }
        return true;
    }

    /// <summary>Whether a list that is read holds these values, in whatever order.</summary>
    private static bool AreSame(ref Utf8JsonReader reader, IReadOnlyList<string> values)
    {
        var (count, inOrder, read) = (0, true, default(List<string>));
        while (reader.Read() && reader.TokenType == JsonTokenType.String)
        {
            inOrder &= count < values.Count && reader.ValueTextEquals(values[count]);
            count++;
            if (values.Count > 1)
                (read ??= []).Add(reader.GetString()!);
        }
        return count == values.Count && (inOrder || (read is not null && SameValues(read, values)));
    }

    /// <summary>Whether two lists hold the same values, in whatever order.</summary>
    public static bool SameValues(IReadOnlyList<string> left, IReadOnlyList<string> right) =>
        left.Count == right.Count
        && (
            left.Count == 1
                ? left[0] == right[0]
                : left.Order(StringComparer.Ordinal).SequenceEqual(right.Order(StringComparer.Ordinal), StringComparer.Ordinal)
        );

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
