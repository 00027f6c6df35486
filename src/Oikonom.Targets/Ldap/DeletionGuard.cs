using System.Buffers.Binary;
using Oikonom.Ldap;

namespace Oikonom.Targets.Ldap;

/// <summary>
/// What keeps entries of a domain from being deleted by mistake: a rule at the front of an access list (MS-DTYP section 2.4.4) denies
/// everybody to delete the entry, and one in that of its place denies everybody to delete what stands there, since either right is
/// enough. Who means it takes the first away. Moving an entry deletes it where it was, so that it is taken away for that, too.
/// </summary>
internal static class DeletionGuard
{
    private const string Attribute = "nTSecurityDescriptor";

    private const int Header = 20;
    private const int ListHeader = 8;
    private const int ListAt = 16;

    /// <summary>Denied (type 1) to everybody (S-1-1-0): to delete the entry, and all below it.</summary>
    public static readonly IReadOnlyList<byte> OfEntry = [1, 0, 20, 0, 0x40, 0, 1, 0, 1, 1, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0];

    /// <summary>Denied to everybody: to delete what stands in the entry.</summary>
    public static readonly IReadOnlyList<byte> OfPlace = [1, 0, 20, 0, 2, 0, 0, 0, 1, 1, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0];

    /// <summary>Whether a descriptor holds a rule.</summary>
    /// <exception cref="FormatException">It is no descriptor with an access list.</exception>
    public static bool Has(byte[] descriptor, IReadOnlyList<byte> rule) => Rules(descriptor).Exists(r => r.SequenceEqual(rule));

    /// <summary>A descriptor with a rule at its front, and with nothing else than its access list.</summary>
    /// <exception cref="FormatException">It is no descriptor with an access list.</exception>
    public static byte[] With(byte[] descriptor, IReadOnlyList<byte> rule) =>
        Has(descriptor, rule)
            ? descriptor
            : Made(
                descriptor,
                [
                    [.. rule],
                    .. Rules(descriptor),
                ]
            );

    /// <summary>A descriptor without a rule, likewise.</summary>
    /// <exception cref="FormatException">It is no descriptor with an access list.</exception>
    public static byte[] Without(byte[] descriptor, IReadOnlyList<byte> rule) =>
        Has(descriptor, rule) ? Made(descriptor, Rules(descriptor).FindAll(r => !r.SequenceEqual(rule))) : descriptor;

    /// <summary>Lets an entry have a rule, or not.</summary>
    /// <param name="name">A name to write to.</param>
    /// <returns>True when that was not so already; null when it does not show its access list.</returns>
    public static async Task<bool?> SetAsync(
        LdapConnection connection,
        string name,
        IReadOnlyList<byte> rule,
        bool wanted,
        CancellationToken cancel
    )
    {
        if (await ReadAsync(connection, name, cancel).ConfigureAwait(false) is not { } descriptor)
            return null;
        if (Has(descriptor, rule) == wanted)
            return false;
        var changed = wanted ? With(descriptor, rule) : Without(descriptor, rule);
        await connection
            .ModifyAsync(name, [new(LdapChangeKind.Replace, new LdapAttribute(Attribute, [changed]))], [LdapControls.AccessList], cancel)
            .ConfigureAwait(false);
        return true;
    }

    /// <summary>The access list of an entry in its descriptor; null when it is not shown.</summary>
    public static async Task<byte[]?> ReadAsync(LdapConnection connection, string name, CancellationToken cancel)
    {
        var search = new LdapSearch(name, LdapScope.Base, LdapFilter.Present("objectClass"), Attribute)
        {
            Controls = [LdapControls.AccessList],
        };
        var found = await connection.SearchAsync(search, cancel).ConfigureAwait(false);
        return found is [var entry] && entry[Attribute] is { Values: [var descriptor, ..] } ? descriptor : null;
    }

    private static List<byte[]> Rules(byte[] descriptor)
    {
        var at = descriptor.Length >= Header ? BinaryPrimitives.ReadInt32LittleEndian(descriptor.AsSpan(ListAt)) : 0;
        if (at < Header || at > descriptor.Length - ListHeader)
            throw new FormatException("The security descriptor has no access list.");
        var count = BinaryPrimitives.ReadUInt16LittleEndian(descriptor.AsSpan(at + 4));
        var rules = new List<byte[]>(count);
        at += ListHeader;
        for (var i = 0; i < count; i++)
        {
            var size = at <= descriptor.Length - 4 ? BinaryPrimitives.ReadUInt16LittleEndian(descriptor.AsSpan(at + 2)) : 0;
            if (size < 8 || at > descriptor.Length - size)
                throw new FormatException("The access list is cut off.");
            rules.Add(descriptor[at..(at + size)]);
            at += size;
        }
        return rules;
    }

    private static byte[] Made(byte[] descriptor, List<byte[]> rules)
    {
        var list = BinaryPrimitives.ReadInt32LittleEndian(descriptor.AsSpan(ListAt));
        var size = ListHeader + rules.Sum(r => r.Length);
        var made = new byte[Header + size];
        // Revision and control stay; owner and group are not written.
        descriptor.AsSpan(0, 4).CopyTo(made);
        BinaryPrimitives.WriteInt32LittleEndian(made.AsSpan(ListAt), Header);
        descriptor.AsSpan(list, 2).CopyTo(made.AsSpan(Header));
        BinaryPrimitives.WriteUInt16LittleEndian(made.AsSpan(Header + 2), (ushort)size);
        BinaryPrimitives.WriteUInt16LittleEndian(made.AsSpan(Header + 4), (ushort)rules.Count);
        var at = Header + ListHeader;
        foreach (var rule in rules)
        {
            rule.CopyTo(made, at);
            at += rule.Length;
        }
        return made;
    }
}
