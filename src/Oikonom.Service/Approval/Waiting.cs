using System.Text.Json;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <summary>For whom and what a request waited when it was planned anew.</summary>
/// <param name="At">Since when, in milliseconds.</param>
internal sealed record Waiting(string Stage, string Deciders, string Role, long At)
{
    public static Waiting Of(RequestRow row) => new(row.StageTitle, row.Deciders, row.DeciderRole, row.SinceAt);

    /// <summary>Since when it waits, when it waits for the same again; else null.</summary>
    public long? Since(RequestRow row) => Of(row) with { At = At } == this ? At : null;

    public string ToJson() => JsonSerializer.Serialize(this);

    /// <exception cref="JsonException">It is not what <see cref="ToJson"/> wrote.</exception>
    public static Waiting FromJson(string json) => JsonSerializer.Deserialize<Waiting>(json)!;
}
