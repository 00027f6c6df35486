using System.Text.Json.Serialization;
using Oikonom.Core.People;

namespace Oikonom.Core.Intake;

/// <summary>The kind of a request.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<RequestKind>))]
public enum RequestKind
{
    [JsonStringEnumMemberName("joiner")] Joiner,
    [JsonStringEnumMemberName("mover")] Mover,
    [JsonStringEnumMemberName("leaver")] Leaver,
}

/// <summary>Decides from two versions of a record what happened. Pure.</summary>
public static class Happening
{
    /// <returns>The kind of request to raise, or null when nothing needs to be done.</returns>
    public static RequestKind? Between(Facts? before, Facts after, DateOnly today)
    {
        var over = after.End < today;
        if (before is null) return over ? null : RequestKind.Joiner;
        if (before.DifferenceTo(after).Count == 0) return null;
        var wasOver = before.End < today;
        if (wasOver && !over) return RequestKind.Joiner;
        if (wasOver) return null;
        if (over || (before.End is null && after.End is not null) || after.End < before.End) return RequestKind.Leaver;
        return RequestKind.Mover;
    }
}
