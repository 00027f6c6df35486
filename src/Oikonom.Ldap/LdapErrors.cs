namespace Oikonom.Ldap;

/// <summary>Result codes of RFC 4511 §4.1.9 and appendix A that callers tell apart.</summary>
public enum LdapCode
{
    Success = 0,
    OperationsError = 1,
    ProtocolError = 2,
    TimeLimitExceeded = 3,
    SizeLimitExceeded = 4,
    CompareFalse = 5,
    CompareTrue = 6,
    StrongerAuthRequired = 8,
    Referral = 10,
    AdminLimitExceeded = 11,
    UnavailableCriticalExtension = 12,
    ConfidentialityRequired = 13,
    NoSuchAttribute = 16,
    UndefinedAttributeType = 17,
    ConstraintViolation = 19,
    AttributeOrValueExists = 20,
    InvalidAttributeSyntax = 21,
    NoSuchObject = 32,
    InvalidDnSyntax = 34,
    InvalidCredentials = 49,
    InsufficientAccessRights = 50,
    Busy = 51,
    Unavailable = 52,
    UnwillingToPerform = 53,
    NamingViolation = 64,
    ObjectClassViolation = 65,
    NotAllowedOnNonLeaf = 66,
    NotAllowedOnRdn = 67,
    EntryAlreadyExists = 68,
    Other = 80,
    SyncRefreshRequired = 4096,

    /// <summary>It would have been done, had the control not said that it shall not.</summary>
    NoOperation = 16654,
    AssertionFailed = 122,
}

/// <summary>The server answered with a result that is no success.</summary>
public sealed class LdapResultException(LdapResult result) : Exception(Describe(result))
{
    /// <summary>What the server answered.</summary>
    public LdapResult Result { get; } = result;

    /// <summary>The code of the result, RFC 4511 §4.1.9.</summary>
    public LdapCode Code => Result.Code;

    private static string Describe(LdapResult result)
    {
        var text = $"{result.Code} ({(int)result.Code})";
        if (result.Message.Length > 0)
            text += $": {result.Message}";
        if (result.Referrals.Count > 0)
            text += $" → {string.Join(", ", result.Referrals)}";
        return text;
    }
}

/// <summary>Why a connection could not be made or did not hold.</summary>
public enum LdapFailure
{
    /// <summary>Nobody listens there, or the network does not reach it.</summary>
    Unreachable,

    /// <summary>No answer in time. What was asked may still happen: read back.</summary>
    TimedOut,

    /// <summary>The certificate is signed by no trusted authority, is expired, or is otherwise unsound.</summary>
    CertificateUntrusted,

    /// <summary>The certificate is for another host.</summary>
    WrongHost,

    /// <summary>TLS could not be agreed on.</summary>
    TlsRefused,

    /// <summary>The peer closed the line. What was asked may have happened: read back.</summary>
    Closed,

    /// <summary>The peer sent what is no LDAP.</summary>
    Protocol,
}

/// <summary>The connection failed; <see cref="Failure"/> tells how.</summary>
public sealed class LdapConnectionException(LdapFailure failure, string message, Exception? inner = null) : Exception(message, inner)
{
    /// <summary>What went wrong, so that callers need not read the text.</summary>
    public LdapFailure Failure { get; } = failure;
}
