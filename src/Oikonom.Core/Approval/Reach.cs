using System.Text.Json;

namespace Oikonom.Core.Approval;

/// <summary>A part of the organisation. An empty list means no limit of that kind.</summary>
public sealed record Reach(IReadOnlyList<string> Sites, IReadOnlyList<string> Departments, IReadOnlyList<string> Targets)
{
    /// <summary>No limit: all sites, departments and targets.</summary>
    public static readonly Reach Everywhere = new([], [], []);

    /// <summary>True when nothing limits it.</summary>
    public bool IsEverywhere => Sites.Count == 0 && Departments.Count == 0 && Targets.Count == 0;

    /// <summary>True when somebody who works there is within it; an empty list of sites or departments covers all.</summary>
    public bool Covers(string site, string department) =>
        (Sites.Count == 0 || Sites.Contains(site)) && (Departments.Count == 0 || Departments.Contains(department));

    /// <summary>True when a target is within it; an empty list covers all.</summary>
    public bool CoversTarget(string target) => Targets.Count == 0 || Targets.Contains(target);

    /// <summary>Role → its limits, from JSON; a role that is not named has none.</summary>
    public static IReadOnlyDictionary<string, Reach> FromJson(string json)
    {
        if (json.Length <= 2)
            return new Dictionary<string, Reach>();
        var read = JsonSerializer.Deserialize<Dictionary<string, Reach>>(json, JsonSerializerOptions.Web) ?? [];
        return read.ToDictionary(r => r.Key, r => new Reach(r.Value.Sites ?? [], r.Value.Departments ?? [], r.Value.Targets ?? []));
    }

    /// <summary>The reach of each role as it is kept.</summary>
    public static string ToJson(IReadOnlyDictionary<string, Reach> reach) => JsonSerializer.Serialize(reach, JsonSerializerOptions.Web);
}
