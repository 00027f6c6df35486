using System.Security.Cryptography;
using System.Text.Json;
using System.Text.Json.Serialization;
using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Planning;

/// <summary>An entitlement that a request asks for by name, with its term: an input, whether or not a change follows from it
/// today.</summary>
public sealed record Ask(EntitlementKey Key, DateTimeOffset? From, DateTimeOffset? Until);

/// <summary>The exact changes a request will make, in order. The same inputs give the same plan and the same digest.</summary>
public sealed record Plan(int Edition, IReadOnlyList<Change> Changes)
{
    /// <summary>Separations the result would break and that somebody may allow; null when there are none.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public IReadOnlyList<Conflict>? Conflicts { get; init; }

    /// <summary>What is asked for by name; null when nothing is.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public IReadOnlyList<Ask>? Asks { get; init; }

    /// <summary>SHA-256 of the inputs that the request would change beside <see cref="Asks"/>; null when there are none. An
    /// approval covers it.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public string? Inputs { get; init; }

    /// <summary>The edition the person was on, when the plan puts them on another; else null.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public int? From { get; init; }

    /// <summary>Ordinals of the changes that come of the rules having changed, not of the person; null when none do.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public IReadOnlyList<int>? ByRules { get; init; }

    /// <summary>What the person holds and keeps; null when nothing is. It tells, and no decision is bound to it.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public IReadOnlyList<Kept>? Kept { get; init; }

    /// <summary>This plan as what undoes another one: accounts are disabled before all else, and targets that come after others go
    /// before them. Within a target the order stays, since what needs something is taken before that.</summary>
    public Plan Reversed()
    {
        var places = Changes.GroupBy(c => c.Account).ToDictionary(g => g.Key, g => g.Min(c => c.Ordinal));
        return this with
        {
            Changes =
            [
                .. Changes
                    .OrderBy(c => c.Due ?? DateTimeOffset.MinValue)
                    .ThenBy(c => c is Change.DisableAccount ? 0 : 1)
                    .ThenByDescending(c => places[c.Account])
                    .ThenBy(c => c.Ordinal)
                    .Select((c, i) => c with { Ordinal = i + 1 }),
            ],
        };
    }

    /// <summary>
    /// Of this plan, what another one does not do: of a changed account the attributes that differ, and the read-backs that
    /// belong to what is left.
    /// </summary>
    public Plan Beside(Plan other)
    {
        var theirs = other.Changes.Where(c => c is not Change.Verify).GroupBy(PlaceOf).ToDictionary(g => g.Key, g => g.First());
        var own = new List<Change>();
        foreach (var change in Changes.Where(c => c is not Change.Verify))
        {
            if (!theirs.TryGetValue(PlaceOf(change), out var same))
                own.Add(change);
            else if (change.Attributes.Where(a => !same.Attributes.Any(b => Equal(a, b))).ToList() is { Count: > 0 } differing)
                own.Add(change is Change.ChangeAccount account ? account with { Changed = differing } : change);
            else if (!string.Equals(change.Entry.Container, same.Entry.Container, StringComparison.Ordinal))
                own.Add(change);
        }
        var places = own.Select(c => (c.Account, c.Due)).ToHashSet();
        own.AddRange(Changes.Where(c => c is Change.Verify && places.Contains((c.Account, c.Due))));
        return this with
        {
            Changes = [.. own.OrderBy(c => c.Ordinal).Select((c, i) => c with { Ordinal = i + 1 })],
            Conflicts = Conflicts?.Where(c => other.Conflicts?.Any(o => o.Separation == c.Separation) != true).ToList()
                is { Count: > 0 } left
                ? left
                : null,
        };

        static (ChangeKind, AccountKey, string, DateTimeOffset?, string) PlaceOf(Change c) =>
            (c.Kind, c.Account, c.Subject, c.Due, c.Entry.Name);
        static bool Equal(AttributeChange left, AttributeChange right) => left.Name == right.Name && left.After.SequenceEqual(right.After);
    }

    /// <summary>The plan with what comes of the rules marked: what it does beyond a plan by the rules of before.</summary>
    public Plan Marked(Edition earlier, Plan byEarlier)
    {
        var places = Beside(byEarlier).Changes.Where(c => c is not Change.Verify).Select(PlaceOf).ToHashSet();
        var marked = Changes.Where(c => c is not Change.Verify && places.Contains(PlaceOf(c))).Select(c => c.Ordinal).ToList();
        return this with { From = earlier.Number, ByRules = marked.Count > 0 ? marked : null };

        static (ChangeKind, AccountKey, string, DateTimeOffset?) PlaceOf(Change c) => (c.Kind, c.Account, c.Subject, c.Due);
    }

    private static readonly JsonSerializerOptions Options = new(JsonSerializerDefaults.Web)
    {
        Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    };

    /// <summary>The plan as it is kept.</summary>
    public string ToJson() => JsonSerializer.Serialize(this, Options);

    /// <summary>Reads a plan. Throws <see cref="JsonException"/> when it is none.</summary>
    public static Plan FromJson(string json) =>
        JsonSerializer.Deserialize<Plan>(json, Options) ?? throw new JsonException("An empty plan.");

    /// <summary>SHA-256 of the plan in lower-case hexadecimal: what a decision is bound to.</summary>
    [JsonIgnore]
    public string Digest =>
        Convert.ToHexStringLower(SHA256.HashData(JsonSerializer.SerializeToUtf8Bytes(this with { Kept = null }, Options)));
}
