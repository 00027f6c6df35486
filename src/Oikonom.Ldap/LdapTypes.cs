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
    /// <summary>Name or address of the server; with TLS it must be one of the names in its certificate.</summary>
    public required string Host { get; init; }

    /// <summary>Port, from 1 to 65535; 389 and 636 are the usual ones.</summary>
    public required int Port { get; init; }

    /// <summary>How the line is protected before anything is sent.</summary>
    public LdapSecurity Security { get; init; } = LdapSecurity.Tls;

    /// <summary>The only authorities trusted; empty means those of the system.</summary>
    public X509Certificate2Collection Authorities { get; init; } = [];

    /// <summary>How long connecting and the TLS handshake may take together.</summary>
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
    /// <summary>The control of an object identifier that came with the result; null when none did.</summary>
    public LdapControl? Control(string oid) => Controls.FirstOrDefault(c => c.Oid == oid);
}

/// <summary>The values of one attribute. Names compare without case.</summary>
public sealed record LdapAttribute(string Name, IReadOnlyList<byte[]> Values)
{
    /// <summary>An attribute of texts, each as UTF-8.</summary>
    public LdapAttribute(string name, params IEnumerable<string> values)
        : this(name, [.. values.Select(Encoding.UTF8.GetBytes)]) { }

    /// <summary>The values as texts, read as UTF-8.</summary>
    public IReadOnlyList<string> Texts => [.. Values.Select(Encoding.UTF8.GetString)];
}

/// <summary>An entry a search returned, with the controls that came with it.</summary>
public sealed record LdapEntry(string Dn, IReadOnlyList<LdapAttribute> Attributes, IReadOnlyList<LdapControl> Controls)
{
    /// <summary>The attribute of a name, in any case and with the options it was asked by; null when the entry has none.</summary>
    public LdapAttribute? this[string name]
    {
        get
        {
            for (var i = 0; i < Attributes.Count; i++)
                if (string.Equals(Attributes[i].Name, name, StringComparison.OrdinalIgnoreCase))
                    return Attributes[i];
            return null;
        }
    }

    /// <summary>The first value of an attribute as text; null when there is none.</summary>
    public string? Text(string name) => this[name] is { Values.Count: > 0 } attribute ? Encoding.UTF8.GetString(attribute.Values[0]) : null;

    /// <summary>All values of an attribute as texts; none when there is no such attribute.</summary>
    public IReadOnlyList<string> Texts(string name) => this[name]?.Texts ?? [];
}

/// <summary>What a search yields on its way: an entry, a reference (never followed), or an intermediate response.</summary>
public abstract record LdapSearchItem
{
    /// <summary>An entry that was found, RFC 4511 §4.5.2.</summary>
    public sealed record Found(LdapEntry Entry) : LdapSearchItem;

    /// <summary>Another server has the rest, RFC 4511 §4.5.3; nobody follows it.</summary>
    public sealed record Reference(IReadOnlyList<string> Uris) : LdapSearchItem;

    /// <summary>An intermediate response, RFC 4511 §4.13.</summary>
    public sealed record Intermediate(string? Oid, byte[]? Value) : LdapSearchItem;

    /// <summary>The end of a search, with its result.</summary>
    public sealed record Done(LdapResult Result) : LdapSearchItem;
}

/// <summary>How far below its base a search goes, RFC 4511 §4.5.1.2.</summary>
public enum LdapScope
{
    Base = 0,
    One = 1,
    Subtree = 2,
}

/// <summary>A search, RFC 4511 §4.5.1. Without attributes all that are not operational come.</summary>
public sealed record LdapSearch(string Base, LdapScope Scope, LdapFilter Filter, params IReadOnlyList<string> Attributes)
{
    /// <summary>The most entries the server is to send; 0 for no limit.</summary>
    public int SizeLimit { get; init; }

    /// <summary>True for the names of attributes without their values.</summary>
    public bool TypesOnly { get; init; }

    /// <summary>Controls that go with it, RFC 4511 §4.1.11.</summary>
    public IReadOnlyList<LdapControl> Controls { get; init; } = [];
}

/// <summary>What a modification does with the values, RFC 4511 §4.6, and RFC 4525 for an increment.</summary>
public enum LdapChangeKind
{
    Add = 0,
    Delete = 1,
    Replace = 2,
}

/// <summary>One modification, RFC 4511 §4.6.</summary>
public sealed record LdapModification(LdapChangeKind Kind, LdapAttribute Attribute)
{
    /// <summary>A change of an attribute by texts, each as UTF-8.</summary>
    public LdapModification(LdapChangeKind kind, string name, params IEnumerable<string> values)
        : this(kind, new LdapAttribute(name, values)) { }
}
