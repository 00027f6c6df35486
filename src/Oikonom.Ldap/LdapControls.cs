using System.Formats.Asn1;
using System.Text;

namespace Oikonom.Ldap;

/// <summary>The controls and extended operations the client can use, by RFC.</summary>
public static class LdapControls
{
    /// <summary>Paged results, RFC 2696.</summary>
    public const string PagingOid = "1.2.840.113556.1.4.319";

    /// <summary>Assertion, RFC 4528.</summary>
    public const string AssertionOid = "1.3.6.1.1.12";

    /// <summary>The entry before a change, RFC 4527 §3.1.</summary>
    public const string PreReadOid = "1.3.6.1.1.13.1";

    /// <summary>The entry after a change, RFC 4527 §3.2.</summary>
    public const string PostReadOid = "1.3.6.1.1.13.2";

    /// <summary>Content synchronization, RFC 4533 §2.2.</summary>
    public const string SyncRequestOid = "1.3.6.1.4.1.4203.1.9.1.1";

    /// <summary>The state of one entry, RFC 4533 §2.3.</summary>
    public const string SyncStateOid = "1.3.6.1.4.1.4203.1.9.1.2";

    /// <summary>The end of a refresh, RFC 4533 §2.4.</summary>
    public const string SyncDoneOid = "1.3.6.1.4.1.4203.1.9.1.3";

    /// <summary>News between entries, RFC 4533 §2.5.</summary>
    public const string SyncInfoOid = "1.3.6.1.4.1.4203.1.9.1.4";

    /// <summary>Adding what is there and removing what is not is no error: of domain controllers.</summary>
    public const string PermissiveModifyOid = "1.2.840.113556.1.4.1413";

    /// <summary>Changes since a cookie: of domain controllers.</summary>
    public const string DirSyncOid = "1.2.840.113556.1.4.841";

    /// <summary>Deleted entries are found, too: of domain controllers.</summary>
    public const string ShowDeletedOid = "1.2.840.113556.1.4.417";

    /// <summary>Which parts of a security descriptor are read or written: of domain controllers.</summary>
    public const string DescriptorPartsOid = "1.2.840.113556.1.4.801";

    /// <summary>StartTLS, RFC 4511 §4.14.</summary>
    public const string StartTlsOid = "1.3.6.1.4.1.1466.20037";

    /// <summary>Password modify, RFC 3062.</summary>
    public const string PasswordModifyOid = "1.3.6.1.4.1.4203.1.11.1";

    /// <summary>Who am I, RFC 4532.</summary>
    public const string WhoAmIOid = "1.3.6.1.4.1.4203.1.11.3";

    /// <summary>The server says how it would answer, and does nothing; where it cannot, it refuses.</summary>
    public static readonly LdapControl NoOperation = new("1.3.6.1.4.1.4203.666.5.2", true, null);

    /// <summary>Simple paged results, RFC 2696.</summary>
    public static LdapControl Paging(int size, byte[] cookie) =>
        new(
            PagingOid,
            true,
            Sequence(w =>
            {
                w.WriteInteger(size);
                w.WriteOctetString(cookie);
            })
        );

    /// <summary>The cookie of the next page; empty after the last.</summary>
    public static byte[] PagingCookie(LdapControl control) =>
        Read(
            control,
            reader =>
            {
                reader.ReadInteger();
                return reader.ReadOctetString();
            }
        );

    /// <summary>The operation runs only when the entry matches, RFC 4528.</summary>
    public static LdapControl Assertion(LdapFilter filter)
    {
        var writer = new AsnWriter(AsnEncodingRules.BER);
        filter.Write(writer);
        return new(AssertionOid, true, writer.Encode());
    }

    /// <summary>The entry as it is after the change comes with the answer, RFC 4527 §3.2.</summary>
    public static LdapControl PostRead(params IReadOnlyList<string> attributes) =>
        new(PostReadOid, false, Sequence(w => Texts(w, attributes)));

    /// <summary>The entry as it was before the change comes with the answer, RFC 4527 §3.1.</summary>
    public static LdapControl PreRead(params IReadOnlyList<string> attributes) =>
        new(PreReadOid, false, Sequence(w => Texts(w, attributes)));

    /// <summary>The entry in a pre-read or post-read answer, or null.</summary>
    public static LdapEntry? ReadEntry(LdapResult result, string oid)
    {
        if (result.Control(oid) is not { Value: { } value })
            return null;
        // The value is a SearchResultEntry: the same content as one on the wire.
        var writer = new AsnWriter(AsnEncodingRules.BER);
        using (writer.PushSequence())
        {
            writer.WriteInteger(0);
            writer.WriteEncodedValue(value);
        }
        return (Wire.Decode(writer.Encode()).Item as LdapSearchItem.Found)?.Entry;
    }

    /// <summary>Adding a value that is there, or removing one that is not, is no error.</summary>
    public static LdapControl PermissiveModify { get; } = new(PermissiveModifyOid, true);

    /// <summary>Deleted entries are found, too.</summary>
    public static LdapControl ShowDeleted { get; } = new(ShowDeletedOid, true);

    /// <summary>Of a security descriptor only the access list is read or written.</summary>
    public static LdapControl AccessList { get; } = new(DescriptorPartsOid, true, Sequence(w => w.WriteInteger(4)));

    /// <summary>Content synchronisation, RFC 4533 §2.2: refresh only, or refresh and persist.</summary>
    public static LdapControl Sync(bool persist, byte[]? cookie = null) =>
        new(
            SyncRequestOid,
            true,
            Sequence(w =>
            {
                w.WriteEnumeratedValue(persist ? SyncMode.RefreshAndPersist : SyncMode.RefreshOnly);
                if (cookie is not null)
                    w.WriteOctetString(cookie);
            })
        );

    /// <summary>Changes since a cookie, in the domain-controller dialect.</summary>
    public static LdapControl DirSync(int flags, int maxBytes, byte[] cookie) =>
        new(
            DirSyncOid,
            true,
            Sequence(w =>
            {
                w.WriteInteger(flags);
                w.WriteInteger(maxBytes);
                w.WriteOctetString(cookie);
            })
        );

    /// <summary>The cookie a DirSync answer carries, and whether more is to come.</summary>
    public static (bool More, byte[] Cookie) DirSyncState(LdapControl control) =>
        Read(
            control,
            reader =>
            {
                reader.TryReadInt32(out var more);
                reader.ReadInteger();
                return (more != 0, reader.ReadOctetString());
            }
        );

    /// <summary>What happened to an entry, RFC 4533 §2.3.</summary>
    public static (LdapSyncChange Change, Guid EntryUuid, byte[]? Cookie) SyncState(LdapControl control) =>
        Read(
            control,
            reader =>
            {
                var change = (LdapSyncChange)(int)new System.Numerics.BigInteger(reader.ReadEnumeratedBytes().Span, isBigEndian: true);
                var uuid = new Guid(reader.ReadOctetString(), bigEndian: true);
                return (change, uuid, reader.HasData ? reader.ReadOctetString() : null);
            }
        );

    /// <summary>The cookie to go on from, RFC 4533 §2.4.</summary>
    public static byte[]? SyncDone(LdapControl control) =>
        Read(
            control,
            reader =>
                reader.HasData && reader.PeekTag().HasSameClassAndValue(Asn1Tag.PrimitiveOctetString) ? reader.ReadOctetString() : null
        );

    /// <summary>Whether what is gone was named, RFC 4533 §2.4: else all that is there still was, and the rest is gone.</summary>
    public static bool SyncNamesDeleted(LdapControl control) =>
        Read(
            control,
            reader =>
            {
                if (reader.HasData && reader.PeekTag().HasSameClassAndValue(Asn1Tag.PrimitiveOctetString))
                    reader.ReadOctetString();
                return reader.HasData && reader.ReadBoolean();
            }
        );

    /// <summary>The entries named between others, RFC 4533 §2.5 (<c>syncIdSet</c>), and whether they are gone or there as they were;
    /// none for other news.</summary>
    /// <param name="value">The value of an intermediate answer.</param>
    public static (IReadOnlyList<Guid> Entries, bool AreDeleted) SyncIds(byte[] value) =>
        Decode(
            SyncInfoOid,
            () =>
            {
                var outer = new AsnReader(value, AsnEncodingRules.BER);
                if (outer.PeekTag() is var tag && !tag.HasSameClassAndValue(Wire.Context(3)))
                    return ([], false);
                var reader = outer.ReadSequence(tag);
                if (reader.HasData && reader.PeekTag().HasSameClassAndValue(Asn1Tag.PrimitiveOctetString))
                    reader.ReadOctetString();
                var isDeleted = reader.HasData && reader.PeekTag().HasSameClassAndValue(Asn1Tag.Boolean) && reader.ReadBoolean();
                var set = reader.ReadSetOf();
                var entries = new List<Guid>();
                while (set.HasData)
                    entries.Add(new Guid(set.ReadOctetString(), bigEndian: true));
                return ((IReadOnlyList<Guid>)entries, isDeleted);
            }
        );

    private enum SyncMode
    {
        RefreshOnly = 1,
        RefreshAndPersist = 3,
    }

    private static void Texts(AsnWriter writer, IReadOnlyList<string> texts)
    {
        foreach (var text in texts)
            Wire.Text(writer, text);
    }

    private static byte[] Sequence(Action<AsnWriter> content)
    {
        var writer = new AsnWriter(AsnEncodingRules.BER);
        using (writer.PushSequence())
            content(writer);
        return writer.Encode();
    }

    private static T Read<T>(LdapControl control, Func<AsnReader, T> read) =>
        Decode(control.Oid, () => read(new AsnReader(control.Value ?? [], AsnEncodingRules.BER).ReadSequence()));

    private static T Decode<T>(string oid, Func<T> read)
    {
        try
        {
            return read();
        }
        catch (Exception error) when (error is AsnContentException or ArgumentException or OverflowException)
        {
            throw new LdapConnectionException(LdapFailure.Protocol, $"The value of {oid} cannot be decoded.", error);
        }
    }

    /// <summary>Password modify, RFC 3062 §2: the server makes one up when <paramref name="newPassword"/> is null.</summary>
    internal static byte[] PasswordModify(string? user, string? oldPassword, string? newPassword) =>
        Sequence(w =>
        {
            if (user is not null)
                w.WriteOctetString(Encoding.UTF8.GetBytes(user), Wire.Context(0));
            if (oldPassword is not null)
                w.WriteOctetString(Encoding.UTF8.GetBytes(oldPassword), Wire.Context(1));
            if (newPassword is not null)
                w.WriteOctetString(Encoding.UTF8.GetBytes(newPassword), Wire.Context(2));
        });

    internal static string? GeneratedPassword(byte[]? value) =>
        value is null
            ? null
            : Read(
                new("", false, value),
                reader => reader.HasData ? Encoding.UTF8.GetString(reader.ReadOctetString(Wire.Context(0))) : null
            );
}

/// <summary>The state an entry is in, RFC 4533 §2.3.</summary>
public enum LdapSyncChange
{
    Present = 0,
    Add = 1,
    Modify = 2,
    Delete = 3,
}
