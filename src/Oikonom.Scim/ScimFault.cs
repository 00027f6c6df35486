namespace Oikonom.Scim;

/// <summary>A refusal as SCIM tells it (RFC 7644 §3.12): HTTP status, a <c>scimType</c> where one is defined, and the detail.</summary>
public sealed class ScimFault(int status, string? scimType, string detail) : Exception(detail)
{
    public int Status { get; } = status;
    public string? ScimType { get; } = scimType;

    public static ScimFault InvalidFilter(string detail) => new(400, "invalidFilter", detail);

    public static ScimFault InvalidPath(string detail) => new(400, "invalidPath", detail);

    public static ScimFault InvalidSyntax(string detail) => new(400, "invalidSyntax", detail);

    public static ScimFault InvalidValue(string detail) => new(400, "invalidValue", detail);

    public static ScimFault NoTarget(string detail) => new(400, "noTarget", detail);

    public static ScimFault Mutability(string detail) => new(400, "mutability", detail);

    public static ScimFault TooMany(string detail) => new(400, "tooMany", detail);

    public static ScimFault InvalidVersion(string detail) => new(400, "invalidVers", detail);

    public static ScimFault Sensitive(string detail) => new(403, "sensitive", detail);

    public static ScimFault Uniqueness(string detail) => new(409, "uniqueness", detail);

    public static ScimFault NotFound(string id) => new(404, null, $"Resource {id} not found.");

    public static ScimFault Precondition() => new(412, null, "The resource has another version than the one named in If-Match.");

    public static ScimFault TooLarge(string detail) => new(413, null, detail);
}
