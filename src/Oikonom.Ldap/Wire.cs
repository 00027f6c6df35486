using System.Formats.Asn1;
using System.Text;

namespace Oikonom.Ldap;

/// <summary>Protocol operations by application tag, RFC 4511 appendix B.</summary>
internal static class Op
{
    /// <summary>Tags of operations (RFC 4511 section 4.2 and following).</summary>
    public const int BindRequest = 0,
        BindResponse = 1,
        UnbindRequest = 2,
        SearchRequest = 3,
        SearchEntry = 4,
        SearchDone = 5,
        ModifyRequest = 6,
        ModifyResponse = 7,
        AddRequest = 8,
        AddResponse = 9,
        DeleteRequest = 10,
        DeleteResponse = 11,
        ModifyDnRequest = 12,
        ModifyDnResponse = 13,
        CompareRequest = 14,
        CompareResponse = 15,
        AbandonRequest = 16,
        SearchReference = 19,
        ExtendedRequest = 23,
        ExtendedResponse = 24,
        Intermediate = 25;
}

/// <summary>A decoded answer: one of entry, reference, intermediate response or result.</summary>
internal readonly record struct Answer(int MessageId, int Operation, LdapSearchItem Item);

/// <summary>
/// Bytes to messages and back. Whatever the bytes, decoding gives a message or a protocol failure: it never
/// crashes, never recurses, and never reads beyond the message.
/// </summary>
internal static class Wire
{
    /// <summary>Length of the message that starts the buffer: 0 when more bytes are needed.</summary>
    /// <exception cref="LdapConnectionException">The bytes start no LDAP message, or it is too large.</exception>
    public static int FrameLength(ReadOnlySpan<byte> buffer, int max)
    {
        if (buffer.Length < 2)
            return 0;
        if (buffer[0] != 0x30)
            throw Garbage($"a message starts with 0x30, not with 0x{buffer[0]:x2}");
        int length = buffer[1];
        if (length < 0x80)
            return buffer.Length >= 2 + length ? 2 + length : 0;
        var count = length & 0x7f;
        if (count is 0 or > 4)
            throw Garbage("the length of a message is not in a form that LDAP allows");
        if (buffer.Length < 2 + count)
            return 0;
        long total = 0;
        foreach (var b in buffer.Slice(2, count))
            total = (total << 8) | b;
        if (total > max)
            throw Garbage($"a message of {total} bytes is larger than the limit of {max}");
        return buffer.Length >= 2 + count + total ? 2 + count + (int)total : 0;
    }

    private static LdapConnectionException Garbage(string what, Exception? inner = null) =>
        new(LdapFailure.Protocol, $"The peer speaks no sound LDAP: {what}.", inner);

    /// <summary>Reads one message (RFC 4511 section 4.1.1). Throws <see cref="LdapConnectionException"/> when it is none.</summary>
    public static Answer Decode(ReadOnlyMemory<byte> message)
    {
        try
        {
            var outer = new AsnReader(message, AsnEncodingRules.BER);
            var sequence = outer.ReadSequence();
            if (!sequence.TryReadInt32(out var id) || id < 0)
                throw Garbage("a message has no sound id");
            var tag = sequence.PeekTag();
            if (tag.TagClass != TagClass.Application)
                throw Garbage("a message holds no operation");
            var body = sequence.ReadEncodedValue();
            var controls = sequence.HasData ? Controls(sequence) : [];
            return new(id, tag.TagValue, Item(tag, body, controls));
        }
        catch (Exception error)
            when (error
                    is AsnContentException
                        or ArgumentException
                        or InvalidOperationException
                        or OverflowException
                        or DecoderFallbackException
            )
        {
            throw Garbage("a message cannot be decoded", error);
        }
    }

    private static LdapSearchItem Item(Asn1Tag tag, ReadOnlyMemory<byte> body, IReadOnlyList<LdapControl> controls)
    {
        var reader = new AsnReader(body, AsnEncodingRules.BER);
        var content = reader.ReadSequence(tag);
        switch (tag.TagValue)
        {
            case Op.SearchEntry:
                var dn = Text(content);
                var attributes = new List<LdapAttribute>();
                var list = content.ReadSequence();
                while (list.HasData)
                {
                    var one = list.ReadSequence();
                    var name = Text(one);
                    var values = new List<byte[]>();
                    var set = one.ReadSetOf(skipSortOrderValidation: true);
                    while (set.HasData)
                        values.Add(set.ReadOctetString());
                    attributes.Add(new(name, values));
                }
                return new LdapSearchItem.Found(new(dn, attributes, controls));
            case Op.SearchReference:
                var uris = new List<string>();
                while (content.HasData)
                    uris.Add(Text(content));
                return new LdapSearchItem.Reference(uris);
            case Op.Intermediate:
                string? oid = null;
                byte[]? value = null;
                if (content.HasData && content.PeekTag().HasSameClassAndValue(Context(0)))
                    oid = Encoding.UTF8.GetString(content.ReadOctetString(Context(0)));
                if (content.HasData && content.PeekTag().HasSameClassAndValue(Context(1)))
                    value = content.ReadOctetString(Context(1));
                return new LdapSearchItem.Intermediate(oid, value);
            default:
                return new LdapSearchItem.Done(Result(content, controls));
        }
    }

    private static LdapResult Result(AsnReader content, IReadOnlyList<LdapControl> controls)
    {
        var code = (int)new System.Numerics.BigInteger(content.ReadEnumeratedBytes().Span, isBigEndian: true);
        var (matched, message) = (Text(content), Text(content));
        var referrals = new List<string>();
        string? name = null;
        byte[]? value = null;
        while (content.HasData)
        {
            var tag = content.PeekTag();
            if (tag.HasSameClassAndValue(Context(3)))
            {
                var list = content.ReadSequence(tag);
                while (list.HasData)
                    referrals.Add(Text(list));
            }
            else if (tag.HasSameClassAndValue(Context(10)))
                name = Encoding.UTF8.GetString(content.ReadOctetString(Context(10)));
            else if (tag.HasSameClassAndValue(Context(11)))
                value = content.ReadOctetString(Context(11));
            else
                content.ReadEncodedValue();
        }
        return new((LdapCode)code, matched, message, referrals, controls, name, value);
    }

    private static List<LdapControl> Controls(AsnReader sequence)
    {
        var controls = new List<LdapControl>();
        var list = sequence.ReadSequence(Context(0, constructed: true));
        while (list.HasData)
        {
            var one = list.ReadSequence();
            var oid = Text(one);
            var critical = one.HasData && one.PeekTag().HasSameClassAndValue(Asn1Tag.Boolean) && one.ReadBoolean();
            controls.Add(new(oid, critical, one.HasData ? one.ReadOctetString() : null));
        }
        return controls;
    }

    internal static Asn1Tag Context(int number, bool constructed = false) => new(TagClass.ContextSpecific, number, constructed);

    internal static Asn1Tag Application(int number, bool constructed = true) => new(TagClass.Application, number, constructed);

    private static string Text(AsnReader reader) => Encoding.UTF8.GetString(reader.ReadOctetString());

    /// <summary>Writes one message (RFC 4511 section 4.1.1).</summary>
    public static byte[] Encode(int id, Action<AsnWriter> operation, IReadOnlyList<LdapControl> controls)
    {
        var writer = new AsnWriter(AsnEncodingRules.BER, 256);
        using (writer.PushSequence())
        {
            writer.WriteInteger(id);
            operation(writer);
            if (controls.Count > 0)
            {
                using var list = writer.PushSequence(Context(0, constructed: true));
                foreach (var control in controls)
                {
                    using var one = writer.PushSequence();
                    Text(writer, control.Oid);
                    if (control.Critical)
                        writer.WriteBoolean(true);
                    if (control.Value is not null)
                        writer.WriteOctetString(control.Value);
                }
            }
        }
        return writer.Encode();
    }

    /// <summary>Writes an octet string of UTF-8 (RFC 4511 section 4.1.2).</summary>
    public static void Text(AsnWriter writer, string text) => writer.WriteOctetString(Encoding.UTF8.GetBytes(text));

    /// <summary>Writes an attribute with its values (RFC 4511 section 4.1.7).</summary>
    public static void Attribute(AsnWriter writer, LdapAttribute attribute)
    {
        using var sequence = writer.PushSequence();
        Text(writer, attribute.Name);
        using var set = writer.PushSetOf();
        foreach (var value in attribute.Values)
            writer.WriteOctetString(value);
    }
}
