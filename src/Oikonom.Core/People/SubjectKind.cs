using System.Text.Json.Serialization;

namespace Oikonom.Core.People;

/// <summary>What a request, its steps and its tasks may be about.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<SubjectKind>))]
public enum SubjectKind
{
    [JsonStringEnumMemberName("person")]
    Person,

    /// <summary>An account that belongs to nobody.</summary>
    [JsonStringEnumMemberName("account")]
    Account,
}
