namespace Oikonom.Scim;

/// <summary>Why a call to a service provider came to nothing.</summary>
public enum ScimRefusalKind
{
    /// <summary>It was not reached, or its connection was not trusted.</summary>
    Unreachable,

    /// <summary>It does not take the token (RFC 7644 section 2, RFC 6750).</summary>
    Token,

    /// <summary>It is busy, or not well: the same call may succeed later.</summary>
    Busy,

    /// <summary>The resource changed since it was read (RFC 7644 section 3.14).</summary>
    Changed,

    /// <summary>A value that must be unique is another resource's (RFC 7644 section 3.3.1).</summary>
    Taken,

    /// <summary>There is no such resource, or no such address.</summary>
    NotThere,

    /// <summary>It cannot do this at all (RFC 7644 section 3.12, status 501; or 405).</summary>
    Unable,

    /// <summary>It says no.</summary>
    Refused,

    /// <summary>It answers what is no SCIM.</summary>
    Nonsense,
}

/// <summary>A service provider was not reached, said no, or answered what cannot be read.</summary>
public sealed class ScimRefusal(ScimRefusalKind kind, string message, TimeSpan? after = null, Exception? inner = null)
    : Exception(message, inner)
{
    /// <summary>Why.</summary>
    public ScimRefusalKind Kind { get; } = kind;

    /// <summary>How long it asks to be left alone (RFC 9110 section 10.2.3); null when it does not say.</summary>
    public TimeSpan? After { get; } = after;
}
