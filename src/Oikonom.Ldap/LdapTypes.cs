using System.Security.Cryptography.X509Certificates;
using System.Text;

namespace Oikonom.Ldap;

/// <summary>How the line is protected. There is no fall-back from one to another.</summary>
public enum LdapSecurity
{
    /// <summary>TLS from the first byte (ldaps).</summary>
    Tls,

    /// <summary>TLS after the StartTLS operation (RFC 4513 §3).</summary>
    StartTls,

    /// <summary>Clear text; must be asked for by name.</summary>
    None,
}

/// <summary>Where to connect, what to trust, and the limits.</summary>
public sealed record LdapOptions
{
    public required string Host { get; init; }
    public required int Port { get; init; }
    public LdapSecurity Security { get; init; } = LdapSecurity.Tls;

    /// <summary>The only authorities trusted; empty means those of the system.</summary>
    public X509Certificate2Collection Authorities { get; init; } = [];
    public TimeSpan ConnectTimeout { get; init; } = TimeSpan.FromSeconds(10);

    /// <summary>Longest wait for the answer to one operation, or between two entries of a search.</summary>
    public TimeSpan OperationTimeout { get; init; } = TimeSpan.FromSeconds(30);

    /// <summary>Largest message accepted, in bytes.</summary>
    public int MaxMessage { get; init; } = 64 * 1024 * 1024;

    /// <summary>How many operations may be under way at once.</summary>
    public int Window { get; init; } = 256;
}

/// <summary>A control, RFC 4511 §4.1.11.</summary>
public sealed record LdapControl(string Oid, bool Critical, byte[]? Value = null);

/// <summary>The end of an operation, RFC 4511 §4.1.9.</summary>
public sealed record LdapResult(
    LdapCode Code,
    string MatchedDn,
    string Message,
    IReadOnlyList<string> Referrals,
    IReadOnlyList<LdapControl> Controls,
    string? ResponseName = null,
    byte[]? ResponseValue = null
)
{
    public LdapControl? Control(string oid) => Controls.FirstOrDefault(c => c.Oid == oid);
}

/// <summary>The values of one attribute. Names compare without case.</summary>
public sealed record LdapAttribute(string Name, IReadOnlyList<byte[]> Values)
{
    public LdapAttribute(string name, params IEnumerable<string> values)
        : this(name, [.. values.Select(Encoding.UTF8.GetBytes)]) { }

    public IReadOnlyList<string> Texts => [.. Values.Select(Encoding.UTF8.GetString)];
}

/// <summary>An entry a search returned, with the controls that came with it.</summary>
public sealed record LdapEntry(string Dn, IReadOnlyList<LdapAttribute> Attributes, IReadOnlyList<LdapControl> Controls)
{
    public LdapAttribute? this[string name] =>
        Attributes.FirstOrDefault(a => string.Equals(a.Name, name, StringComparison.OrdinalIgnoreCase));

    public string? Text(string name) => this[name] is { Values.Count: > 0 } attribute ? Encoding.UTF8.GetString(attribute.Values[0]) : null;

    public IReadOnlyList<string> Texts(string name) => this[name]?.Texts ?? [];
}

/// <summary>What a search yields on its way: an entry, a reference (never followed), or an intermediate response.</summary>
public abstract record LdapSearchItem
{
    public sealed record Found(LdapEntry Entry) : LdapSearchItem;

    public sealed record Reference(IReadOnlyList<string> Uris) : LdapSearchItem;

    public sealed record Intermediate(string? Oid, byte[]? Value) : LdapSearchItem;

    public sealed record Done(LdapResult Result) : LdapSearchItem;
}

public enum LdapScope
{
    Base = 0,
    One = 1,
    Subtree = 2,
}

public sealed record LdapSearch(string Base, LdapScope Scope, LdapFilter Filter, params IReadOnlyList<string> Attributes)
{
    public int SizeLimit { get; init; }
    public bool TypesOnly { get; init; }
    public IReadOnlyList<LdapControl> Controls { get; init; } = [];
}

public enum LdapChangeKind
{
    Add = 0,
    Delete = 1,
    Replace = 2,
}

/// <summary>One modification, RFC 4511 §4.6.</summary>
public sealed record LdapModification(LdapChangeKind Kind, LdapAttribute Attribute)
{
    public LdapModification(LdapChangeKind kind, string name, params IEnumerable<string> values)
        : this(kind, new LdapAttribute(name, values)) { }
}
