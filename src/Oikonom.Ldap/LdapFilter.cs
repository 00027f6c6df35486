using System.Formats.Asn1;
using System.Globalization;
using System.Text;

namespace Oikonom.Ldap;

/// <summary>A search filter: built by parts, read from text and written to text by RFC 4515, encoded by RFC 4511 §4.5.1.7.</summary>
public abstract record LdapFilter
{
    private const int MaxDepth = 64;

    /// <summary>All of the parts hold, or any of them, RFC 4511 §4.5.1.7.</summary>
    public sealed record Group(bool All, IReadOnlyList<LdapFilter> Parts) : LdapFilter;

    /// <summary>The part does not hold.</summary>
    public sealed record Negation(LdapFilter Part) : LdapFilter;

    /// <summary>The attribute is there, with whatever value.</summary>
    public sealed record Presence(string Attribute) : LdapFilter;

    /// <summary>Operator is one of <c>= &gt;= &lt;= ~=</c>.</summary>
    public sealed record Comparison(string Attribute, string Operator, byte[] Value) : LdapFilter;

    /// <summary>A value begins, goes on and ends like this, in this order, RFC 4511 §4.5.1.7.2.</summary>
    public sealed record Substrings(string Attribute, byte[]? Initial, IReadOnlyList<byte[]> Any, byte[]? Final) : LdapFilter;

    /// <summary>An extensible match, RFC 4511 §4.5.1.7.7.</summary>
    public sealed record Extensible(string? Attribute, string? Rule, bool DnAttributes, byte[] Value) : LdapFilter;

    /// <summary>All of the parts; none of them holds for every entry, RFC 4526.</summary>
    public static LdapFilter And(params IReadOnlyList<LdapFilter> parts) => new Group(true, parts);

    /// <summary>Any of the parts; none of them holds for no entry, RFC 4526.</summary>
    public static LdapFilter Or(params IReadOnlyList<LdapFilter> parts) => new Group(false, parts);

    /// <summary>Where the part does not hold.</summary>
    public static LdapFilter Not(LdapFilter part) => new Negation(part);

    /// <summary>Where the attribute is there.</summary>
    public static LdapFilter Present(string attribute) => new Presence(attribute);

    /// <summary>Where the attribute has this text; it needs no escaping.</summary>
    public static LdapFilter Equal(string attribute, string value) => new Comparison(attribute, "=", Encoding.UTF8.GetBytes(value));

    /// <summary>Where the attribute has exactly these octets.</summary>
    public static LdapFilter Equal(string attribute, byte[] value) => new Comparison(attribute, "=", value);

    /// <exception cref="FormatException">The text is no filter; tells where.</exception>
    public static LdapFilter Parse(string text)
    {
        var at = 0;
        var filter = Read(text, ref at, 0);
        return at == text.Length ? filter : throw new FormatException($"The filter goes on after its end, at {at}.");
    }

    private static LdapFilter Read(string text, ref int at, int depth)
    {
        if (depth > MaxDepth)
            throw new FormatException($"The filter is nested deeper than {MaxDepth} levels.");
        Expect(text, ref at, '(');
        LdapFilter filter;
        var c = at < text.Length ? text[at] : throw new FormatException("The filter ends too early.");
        if (c is '&' or '|')
        {
            at++;
            var parts = new List<LdapFilter>();
            while (at < text.Length && text[at] == '(')
                parts.Add(Read(text, ref at, depth + 1));
            filter = new Group(c == '&', parts);
        }
        else if (c == '!')
        {
            at++;
            filter = new Negation(Read(text, ref at, depth + 1));
        }
        else
            filter = Item(text, ref at);
        Expect(text, ref at, ')');
        return filter;
    }

    private static void Expect(string text, ref int at, char wanted)
    {
        if (at >= text.Length || text[at] != wanted)
            throw new FormatException($"The filter needs '{wanted}' at {at}.");
        at++;
    }

    private static LdapFilter Item(string text, ref int at)
    {
        var end = text.IndexOf(')', at);
        if (end < 0)
            throw new FormatException("The filter has no closing ')'.");
        var item = text[at..end];
        var equals = item.IndexOf('=', StringComparison.Ordinal);
        if (equals < 1)
            throw new FormatException($"The filter needs an attribute and '=' at {at}.");
        at = end;
        var (name, value) = (item[..equals], item[(equals + 1)..]);
        if (name[^1] == ':')
            return ReadExtensible(name[..^1], value);
        if (name[^1] is '>' or '<' or '~')
            return new Comparison(NameOf(name[..^1]), $"{name[^1]}=", Unescape(value));
        if (value == "*")
            return new Presence(NameOf(name));
        if (!value.Contains('*', StringComparison.Ordinal))
            return new Comparison(NameOf(name), "=", Unescape(value));
        var parts = value.Split('*').Select(Unescape).ToArray();
        if (parts[1..^1].Any(p => p.Length == 0))
            throw new FormatException("Two '*' stand side by side in the filter.");
        return new Substrings(NameOf(name), parts[0].Length > 0 ? parts[0] : null, parts[1..^1], parts[^1].Length > 0 ? parts[^1] : null);
    }

    private static Extensible ReadExtensible(string left, string value)
    {
        var parts = left.Split(':');
        var dn = parts.Skip(1).Any(p => p.Equals("dn", StringComparison.OrdinalIgnoreCase));
        var rule = parts.Skip(1).LastOrDefault(p => p.Length > 0 && !p.Equals("dn", StringComparison.OrdinalIgnoreCase));
        if (parts[0].Length == 0 && rule is null)
            throw new FormatException("An extensible match needs an attribute or a rule.");
        return new(parts[0].Length > 0 ? NameOf(parts[0]) : null, rule, dn, Unescape(value));
    }

    private static string NameOf(string name) =>
        name.Length > 0 && name.All(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '.' or ';' or '_')
            ? name
            : throw new FormatException($"'{name}' is no attribute name.");

    private static byte[] Unescape(string text)
    {
        var bytes = new List<byte>(text.Length);
        Span<byte> utf8 = stackalloc byte[4];
        for (var i = 0; i < text.Length; )
        {
            if (text[i] == '\\')
            {
                if (i + 2 >= text.Length || !char.IsAsciiHexDigit(text[i + 1]) || !char.IsAsciiHexDigit(text[i + 2]))
                    throw new FormatException("A '\\' in a filter needs two hexadecimal digits.");
                bytes.Add(byte.Parse(text.AsSpan(i + 1, 2), NumberStyles.HexNumber, CultureInfo.InvariantCulture));
                i += 3;
                continue;
            }
            if (text[i] is '(' or '\0')
                throw new FormatException("'(' and NUL must be escaped in a filter.");
            if (Rune.DecodeFromUtf16(text.AsSpan(i), out var rune, out var used) != System.Buffers.OperationStatus.Done)
                throw new FormatException("The filter is no sound Unicode text.");
            bytes.AddRange(utf8[..rune.EncodeToUtf8(utf8)]);
            i += used;
        }
        return [.. bytes];
    }

    private static string Escape(byte[] value)
    {
        var text = new StringBuilder(value.Length + 8);
        var utf8 = System.Text.Unicode.Utf8.IsValid(value);
        foreach (var c in utf8 ? Encoding.UTF8.GetString(value) : Encoding.Latin1.GetString(value))
        {
            if (c is '*' or '(' or ')' or '\\' || c < ' ' || c == 0x7f || (!utf8 && c > 0x7f))
                text.Append('\\').Append(((int)c).ToString("x2", CultureInfo.InvariantCulture));
            else
                text.Append(c);
        }
        return text.ToString();
    }

    /// <summary>The filter as text; reading it again gives the same filter.</summary>
    public sealed override string ToString() =>
        this switch
        {
            Group g => $"({(g.All ? '&' : '|')}{string.Concat(g.Parts)})",
            Negation n => $"(!{n.Part})",
            Presence p => $"({p.Attribute}=*)",
            Comparison c => $"({c.Attribute}{c.Operator}{Escape(c.Value)})",
            Substrings s =>
                $"({s.Attribute}={Escape(s.Initial ?? [])}*{string.Concat(s.Any.Select(a => Escape(a) + "*"))}{Escape(s.Final ?? [])})",
            Extensible e => $"({e.Attribute}{(e.DnAttributes ? ":dn" : "")}{(e.Rule is null ? "" : ":" + e.Rule)}:={Escape(e.Value)})",
            _ => "",
        };

    internal void Write(AsnWriter writer)
    {
        switch (this)
        {
            case Group g:
                using (writer.PushSetOf(Tag(g.All ? 0 : 1, true)))
                    foreach (var part in g.Parts)
                        part.Write(writer);
                break;
            case Negation n:
                using (writer.PushSequence(Tag(2, true)))
                    n.Part.Write(writer);
                break;
            case Presence p:
                writer.WriteOctetString(Encoding.UTF8.GetBytes(p.Attribute), Tag(7, false));
                break;
            case Comparison c:
                using (
                    writer.PushSequence(
                        Tag(
                            c.Operator switch
                            {
                                "=" => 3,
                                ">=" => 5,
                                "<=" => 6,
                                _ => 8,
                            },
                            true
                        )
                    )
                )
                {
                    writer.WriteOctetString(Encoding.UTF8.GetBytes(c.Attribute));
                    writer.WriteOctetString(c.Value);
                }
                break;
            case Substrings s:
                Write(writer, s);
                break;
            case Extensible e:
                using (writer.PushSequence(Tag(9, true)))
                {
                    if (e.Rule is not null)
                        writer.WriteOctetString(Encoding.UTF8.GetBytes(e.Rule), Tag(1, false));
                    if (e.Attribute is not null)
                        writer.WriteOctetString(Encoding.UTF8.GetBytes(e.Attribute), Tag(2, false));
                    writer.WriteOctetString(e.Value, Tag(3, false));
                    if (e.DnAttributes)
                        writer.WriteBoolean(true, Tag(4, false));
                }
                break;
        }
    }

    private static void Write(AsnWriter writer, Substrings s)
    {
        using (writer.PushSequence(Tag(4, true)))
        {
            writer.WriteOctetString(Encoding.UTF8.GetBytes(s.Attribute));
            using (writer.PushSequence())
            {
                if (s.Initial is not null)
                    writer.WriteOctetString(s.Initial, Tag(0, false));
                foreach (var any in s.Any)
                    writer.WriteOctetString(any, Tag(1, false));
                if (s.Final is not null)
                    writer.WriteOctetString(s.Final, Tag(2, false));
            }
        }
    }

    private static Asn1Tag Tag(int number, bool constructed) => new(TagClass.ContextSpecific, number, constructed);
}
