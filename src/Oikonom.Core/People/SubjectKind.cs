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

/// <summary>The kinds of subject by the names they are kept under.</summary>
public static class SubjectKinds
{
    public const string Person = "person";
    public const string Account = "account";

    /// <exception cref="FormatException">There is no such kind.</exception>
    public static SubjectKind Parse(string name) =>
        name switch
        {
            Person => SubjectKind.Person,
            Account => SubjectKind.Account,
            _ => throw new FormatException($"Nothing can be about a '{name}'."),
        };
}
