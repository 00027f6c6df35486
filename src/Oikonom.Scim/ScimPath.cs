namespace Oikonom.Scim;

/// <summary>
/// A path of RFC 7644 §3.5.2: an attribute, with the URN of its schema before it if need be, a filter on its values,
/// and a sub-attribute: <c>emails[type eq "work"].value</c>.
/// </summary>
public sealed record ScimPath(string? Urn, string Attribute, ScimFilter? Filter, string? Sub)
{
    /// <exception cref="ScimFault">The text is no path.</exception>
    public static ScimPath Parse(string text)
    {
        try
        {
            return new FilterReader(text).ReadWholePath();
        }
        catch (ScimFault fault)
        {
            throw ScimFault.InvalidPath(fault.Message);
        }
    }

    public override string ToString() =>
        $"{(Urn is null ? "" : Urn + ":")}{Attribute}{(Filter is null ? "" : $"[{Filter}]")}{(Sub is null ? "" : "." + Sub)}";
}
