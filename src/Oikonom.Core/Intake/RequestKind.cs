using System.Text.Json.Serialization;

namespace Oikonom.Core.Intake;

/// <summary>The kind of a request.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<RequestKind>))]
public enum RequestKind
{
    [JsonStringEnumMemberName("joiner")]
    Joiner,

    [JsonStringEnumMemberName("mover")]
    Mover,

    [JsonStringEnumMemberName("leaver")]
    Leaver,

    [JsonStringEnumMemberName("correction")]
    Correction,

    /// <summary>An entitlement beside the templates, for a term.</summary>
    [JsonStringEnumMemberName("access")]
    Access,

    /// <summary>Another end for something that is held for a term.</summary>
    [JsonStringEnumMemberName("extension")]
    Extension,

    /// <summary>Attributes of the person, changed by hand.</summary>
    [JsonStringEnumMemberName("change")]
    Change,

    /// <summary>A new first password for an account.</summary>
    [JsonStringEnumMemberName("password")]
    Password,

    /// <summary>The end of a lock after wrong passwords.</summary>
    [JsonStringEnumMemberName("unlock")]
    Unlock,

    /// <summary>An account on one target, by a template on request.</summary>
    [JsonStringEnumMemberName("account")]
    Account,

    /// <summary>The end of an account that belongs to nobody.</summary>
    [JsonStringEnumMemberName("closing")]
    Closing,

    /// <summary>Something that is held is given back, or taken away, before its end.</summary>
    [JsonStringEnumMemberName("end")]
    End,
}

/// <summary>What kinds of request have in common.</summary>
public static class RequestKinds
{
    /// <summary>True for a plan that is about the whole person, who stays: accounts whose names follow the person are renamed by
    /// it. What is about one thing, and who leaves, renames nothing.</summary>
    public static bool RenamesAccounts(this RequestKind kind) =>
        kind is RequestKind.Joiner or RequestKind.Mover or RequestKind.Correction or RequestKind.Change;
}
