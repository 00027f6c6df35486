using System.Globalization;
using System.Text;

namespace Oikonom.Ldap;

/// <summary>Distinguished names as text, RFC 4514.</summary>
public static class LdapDn
{
    /// <summary>Escapes a value so that it stands in a name as itself (§2.4).</summary>
    public static string Escape(string value)
    {
        var text = new StringBuilder(value.Length + 8);
        for (var i = 0; i < value.Length; i++)
        {
            var c = value[i];
            if (
                c is '"' or '+' or ',' or ';' or '<' or '>' or '\\' or '='
                || (c == '#' && i == 0)
                || (c == ' ' && (i == 0 || i == value.Length - 1))
            )
                text.Append('\\').Append(c);
            else if (c < ' ' || c == 0x7f)
                text.Append('\\').Append(((int)c).ToString("x2", CultureInfo.InvariantCulture));
            else
                text.Append(c);
        }
        return text.ToString();
    }

    /// <summary>A relative name with its value escaped, RFC 4514 §2.4.</summary>
    public static string Rdn(string attribute, string value) => $"{attribute}={Escape(value)}";

    /// <summary>The name of an entry below another, with its own value escaped, RFC 4514 §2.</summary>
    public static string Child(string attribute, string value, string parent) => $"{Rdn(attribute, value)},{parent}";

    /// <summary>The relative names, leftmost first; a multi-valued one gives several pairs.</summary>
    /// <exception cref="FormatException">The text is no distinguished name.</exception>
    public static IReadOnlyList<IReadOnlyList<(string Attribute, string Value)>> Parse(string dn)
    {
        var names = new List<IReadOnlyList<(string, string)>>();
        var i = 0;
        while (i < dn.Length)
        {
            var pairs = new List<(string, string)>();
            while (true)
            {
                var equals = dn.IndexOf('=', i);
                if (equals <= i)
                    throw new FormatException($"'{dn}' is no distinguished name: an attribute and '=' are expected at {i}.");
                var attribute = dn[i..equals].Trim();
                i = equals + 1;
                pairs.Add((attribute, Value(dn, ref i)));
                if (i >= dn.Length || dn[i] != '+')
                    break;
                i++;
            }
            names.Add(pairs);
            if (i >= dn.Length)
                break;
            i++;
            if (i >= dn.Length)
                throw new FormatException($"'{dn}' is no distinguished name: it ends with a separator.");
        }
        return names;
    }

    private static string Value(string dn, ref int i)
    {
        var bytes = new List<byte>();
        while (i < dn.Length && dn[i] == ' ')
            i++;
        var solid = 0;
        Span<byte> utf8 = stackalloc byte[4];
        while (i < dn.Length && dn[i] is not (',' or '+' or ';'))
        {
            if (dn[i] == '\\')
            {
                if (i + 1 >= dn.Length)
                    throw new FormatException($"'{dn}' ends in an escape.");
                if (i + 2 < dn.Length && char.IsAsciiHexDigit(dn[i + 1]) && char.IsAsciiHexDigit(dn[i + 2]))
                {
                    bytes.Add(byte.Parse(dn.AsSpan(i + 1, 2), NumberStyles.HexNumber, CultureInfo.InvariantCulture));
                    i += 3;
                }
                else
                {
                    bytes.Add((byte)dn[i + 1]);
                    i += 2;
                }
                solid = bytes.Count;
                continue;
            }
            var status = Rune.DecodeFromUtf16(dn.AsSpan(i), out var rune, out var used);
            if (status != System.Buffers.OperationStatus.Done)
                throw new FormatException($"'{dn}' is no sound Unicode text.");
            bytes.AddRange(utf8[..rune.EncodeToUtf8(utf8)]);
            if (rune.Value != ' ')
                solid = bytes.Count;
            i += used;
        }
        return Encoding.UTF8.GetString([.. bytes[..solid]]);
    }

    /// <summary>True when both name the same entry: attribute types and values compare without case.</summary>
    public static bool Same(string left, string right) => string.Equals(Normalise(left), Normalise(right), StringComparison.Ordinal);

    /// <summary>True when a name is another one or stands below it.</summary>
    public static bool IsBelow(string dn, string above)
    {
        var (one, other) = (Normalise(dn), Normalise(above));
        return other.Length == 0 || one == other || one.EndsWith("," + other, StringComparison.Ordinal);
    }

    /// <summary>A name in one form, in lower case: two ways to write the same name become equal. What is no name stays as it is.</summary>
    public static string Normalise(string dn)
    {
        if (IsPlain(dn))
            return dn.ToLowerInvariant();
        try
        {
            return string.Join(
                ',',
                Parse(dn)
                    .Select(rdn =>
                        string.Join(
                            '+',
                            rdn.Select(pair => $"{pair.Attribute.ToLowerInvariant()}={Escape(pair.Value.ToLowerInvariant())}")
                                .Order(StringComparer.Ordinal)
                        )
                    )
            );
        }
        catch (FormatException)
        {
            return dn.ToLowerInvariant();
        }
    }

    /// <summary>True of a name that is written in its one form but for the case of letters: nothing is escaped in it or would have to
    /// be, and no blank stands beside a separator. Most are.</summary>
    private static bool IsPlain(string dn)
    {
        var hasType = false;
        var before = ',';
        for (var i = 0; i < dn.Length; i++)
        {
            var c = dn[i];
            if (c is '"' or '+' or ';' or '<' or '>' or '\\' or '#' || c < ' ' || c == 0x7f)
                return false;
            if (c == ' ' && (before is ',' or '=' || i == dn.Length - 1 || dn[i + 1] is ',' or '='))
                return false;
            if (c == '=')
            {
                if (hasType || before == ',')
                    return false;
                hasType = true;
            }
            else if (c == ',')
            {
                if (!hasType)
                    return false;
                hasType = false;
            }
            before = c;
        }
        return hasType;
    }

    /// <summary>The part after the first relative name; "" for a name of one part.</summary>
    public static string Parent(string dn)
    {
        for (var i = 0; i < dn.Length; i++)
        {
            if (dn[i] == '\\')
                i++;
            else if (dn[i] is ',' or ';')
                return dn[(i + 1)..].TrimStart();
        }
        return "";
    }
}
