namespace Oikonom.Scim;

/// <summary>A refusal as SCIM tells it (RFC 7644 §3.12): HTTP status, a <c>scimType</c> where one is defined, and the detail.</summary>
public sealed class ScimFault(int status, string? scimType, string detail) : Exception(detail)
{
    /// <summary>The HTTP status, RFC 7644 §3.12.</summary>
    public int Status { get; } = status;

    /// <summary>The detail error keyword, RFC 7644 table 9; null where none is defined.</summary>
    public string? ScimType { get; } = scimType;

    /// <summary>A filter cannot be read, or compares what cannot be compared.</summary>
    public static ScimFault InvalidFilter(string detail) => new(400, "invalidFilter", detail);

    /// <summary>The path of a patch cannot be read.</summary>
    public static ScimFault InvalidPath(string detail) => new(400, "invalidPath", detail);

    /// <summary>The body has not the shape of its message.</summary>
    public static ScimFault InvalidSyntax(string detail) => new(400, "invalidSyntax", detail);

    /// <summary>A value is missing, or not of its attribute's type.</summary>
    public static ScimFault InvalidValue(string detail) => new(400, "invalidValue", detail);

    /// <summary>A path with a filter finds nothing to change.</summary>
    public static ScimFault NoTarget(string detail) => new(400, "noTarget", detail);

    /// <summary>A read-only attribute, or one that cannot change any more.</summary>
    public static ScimFault Mutability(string detail) => new(400, "mutability", detail);

    /// <summary>More than the server gives at once.</summary>
    public static ScimFault TooMany(string detail) => new(400, "tooMany", detail);

    /// <summary>The version of the protocol is not spoken.</summary>
    public static ScimFault InvalidVersion(string detail) => new(400, "invalidVers", detail);

    /// <summary>What is asked for must not stand in an address.</summary>
    public static ScimFault Sensitive(string detail) => new(403, "sensitive", detail);

    /// <summary>A value that must be unique is another resource's.</summary>
    public static ScimFault Uniqueness(string detail) => new(409, "uniqueness", detail);

    /// <summary>There is no such resource.</summary>
    public static ScimFault NotFound(string id) => new(404, null, $"Resource {id} not found.");

    /// <summary>The version of If-Match is not that of the resource, RFC 7644 §3.14.</summary>
    public static ScimFault Precondition() => new(412, null, "The resource has another version than the one named in If-Match.");

    /// <summary>The body, or the number of operations, is over the limit, RFC 7644 §3.7.4.</summary>
    public static ScimFault TooLarge(string detail) => new(413, null, detail);
}
