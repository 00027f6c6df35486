using System.Globalization;
using System.Text;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Rulebook;
using Oikonom.Ldap;

namespace Oikonom.Targets.Ldap;

/// <summary>
/// Domain controllers: entries are known by <c>objectGUID</c> and written to under that name, an account is kept from being used by a
/// flag of <c>userAccountControl</c>, and days are counted from the year 1601.
/// </summary>
internal sealed class DomainDialect : LdapDialect
{
    private const string Control = "userAccountControl";
    private const string LockedOut = "lockoutTime";
    private const string LastSignIn = "lastLogonTimestamp";

    /// <summary>ADS_UF_NORMAL_ACCOUNT.</summary>
    private const int Normal = 0x200;

    /// <summary>ADS_UF_ACCOUNTDISABLE.</summary>
    private const int Disabled = 0x2;

    /// <summary>What a server says that is one, in its root.</summary>
    private const string Capability = "1.2.840.113556.1.4.800";

    /// <summary>Attributes in which an instant stands as the number of 100 ns since 1601.</summary>
    private static readonly HashSet<string> Instants = new(StringComparer.OrdinalIgnoreCase) { "accountExpires" };

    /// <summary>What the server keeps for itself beside what a person has.</summary>
    private static readonly HashSet<string> Own = new(StringComparer.OrdinalIgnoreCase)
    {
        "objectGUID",
        "objectSid",
        "objectClass",
        "objectCategory",
        "distinguishedName",
        "cn",
        "name",
        "instanceType",
        "whenCreated",
        "whenChanged",
        "uSNCreated",
        "uSNChanged",
        "badPwdCount",
        "badPasswordTime",
        "codePage",
        "countryCode",
        "lastLogoff",
        "lastLogon",
        LastSignIn,
        LockedOut,
        "logonCount",
        "logonHours",
        "pwdLastSet",
        "primaryGroupID",
        "sAMAccountType",
        // The server's own ends of references that other entries make.
        "memberOf",
        "directReports",
        "managedObjects",
        "nonSecurityMemberBL",
        "ownerBL",
        "serverReferenceBL",
        "msDS-ObjectReferenceBL",
        "msDS-AuthenticatedToAccountlist",
        "dSCorePropagationData",
        "unicodePwd",
        Control,
    };

    public override string Id => "objectGUID";
    public override string Password => "unicodePwd";
    public override IReadOnlyList<string> Wanted { get; } = ["*"];
    public override IReadOnlyList<string> LockedBy { get; } = [Control, LockedOut];
    public override bool KeepsReferences => true;
    public override bool IsMadeLocked => true;

    public override bool IsOwn(string attribute) => Own.Contains(attribute);

    public override string? IdOf(LdapEntry entry) =>
        entry[Id] is { Values: [{ Length: 16 } octets, ..] } ? new Guid(octets).ToString() : null;

    public override LdapFilter ById(string id) =>
        LdapFilter.Equal(Id, Guid.TryParse(id, out var guid) ? guid.ToByteArray() : Encoding.UTF8.GetBytes(id));

    public override string NameOf(string id, string dn) => $"<GUID={id}>";

    public override string NamedBy(TargetSettings.Ldap settings) => "CN";

    /// <summary>Names are unique in the whole domain, whose name ends with the components of its DNS name (RFC 2247).</summary>
    public override string NamesBelow(string container)
    {
        var at = container;
        while (at.Length > 0 && !LdapDn.Parse(at)[0][0].Attribute.Equals("DC", StringComparison.OrdinalIgnoreCase))
            at = LdapDn.Parent(at);
        return at.Length > 0 ? at : container;
    }

    /// <summary>A global security group, as servers make one unless told.</summary>
    public override IEnumerable<LdapAttribute> FreshGroup(string name, GroupForm? form) =>
        [
            new("objectClass", "group"),
            // The name for older clients takes fewer signs.
            new("sAMAccountName", string.Concat(name.Select(c => char.IsControl(c) || NotInNames.Contains(c) ? '-' : c))),
            .. form is null ? Array.Empty<LdapAttribute>() : [new(GroupType, form.Type.ToString(CultureInfo.InvariantCulture))],
        ];

    private const string NotInNames = "\"/\\[]:;|=,+*?<>";

    /// <summary>Where a group counts, and whether access can be given to it.</summary>
    public const string GroupType = "groupType";

    public override IEnumerable<LdapAttribute> Fresh(string name, TargetSettings.Ldap settings, bool enabled) =>
        [
            new(settings.NameAttribute, name),
            // Who is to have a password gets it by a step of its own; until then nobody knows it.
            new(Password, [Quoted(Unknown())]),
            new(Control, Text(Normal | (enabled ? 0 : Disabled))),
        ];

    public override IReadOnlyList<string> ToServer(string attribute, IReadOnlyList<string> values) =>
        Instants.Contains(attribute) ? [.. values.Where(v => v.Length > 0).Select(v => Counted(attribute, v)).DefaultIfEmpty("0")] : values;

    public override IReadOnlyList<string> FromServer(LdapAttribute attribute) =>
        !Instants.Contains(attribute.Name)
            ? attribute.Texts
            :
            [
                .. attribute
                    .Texts.Where(t => long.TryParse(t, CultureInfo.InvariantCulture, out var n) && n is > 0 and < long.MaxValue)
                    .Select(t => Day(DateTimeOffset.FromFileTime(long.Parse(t, CultureInfo.InvariantCulture)).ToUniversalTime())),
            ];

    /// <summary>A day ends when it is over, as people say "until"; an instant is itself.</summary>
    private static string Counted(string attribute, string value)
    {
        if (DateOnly.TryParseExact(value, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out var day))
            return Text(day.AddDays(1).ToDateTime(TimeOnly.MinValue, DateTimeKind.Utc).ToFileTimeUtc());
        if (DateTimeOffset.TryParse(value, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out var at))
            return Text(at.ToFileTime());
        throw new TargetFault($"'{value}' is no day and no instant, as {attribute} takes it.", transient: false);
    }

    private static string Day(DateTimeOffset at) =>
        at.TimeOfDay == TimeSpan.Zero
            ? at.AddDays(-1).ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)
            : at.ToString("yyyy-MM-dd'T'HH:mm:ss'Z'", CultureInfo.InvariantCulture);

    private static string Text(long number) => number.ToString(CultureInfo.InvariantCulture);

    private static long Number(LdapEntry entry, string attribute) =>
        long.TryParse(entry.Text(attribute), CultureInfo.InvariantCulture, out var number) ? number : 0;

    /// <summary>A password as the server takes it: in quotation marks, as UTF-16 with the lower octet first.</summary>
    private static byte[] Quoted(string password) => Encoding.Unicode.GetBytes($"\"{password}\"");

    public override DateTimeOffset? LastLogOn(LdapEntry entry) =>
        Number(entry, LastSignIn) is > 0 and var at ? DateTimeOffset.FromFileTime(at).ToUniversalTime() : null;

    public override bool IsLocked(LdapEntry entry) => (Number(entry, Control) & Disabled) != 0;

    public override IEnumerable<LdapModification> Lock(LdapEntry entry) =>
        [new(LdapChangeKind.Replace, Control, Text((entry[Control] is null ? Normal : Number(entry, Control)) | Disabled))];

    public override IEnumerable<LdapModification> Unlock(LdapEntry entry)
    {
        if (IsLocked(entry))
            yield return new(LdapChangeKind.Replace, Control, Text(Number(entry, Control) & ~Disabled));
        // Too many wrong passwords.
        if (Number(entry, LockedOut) > 0)
            yield return new(LdapChangeKind.Replace, LockedOut, "0");
    }

    public override async Task SetPasswordAsync(LdapConnection connection, string dn, string password, CancellationToken cancel) =>
        await connection
            .ModifyAsync(dn, [new(LdapChangeKind.Replace, new LdapAttribute(Password, [Quoted(password)]))], null, cancel)
            .ConfigureAwait(false);

    public override IEnumerable<LdapModification> AfterPassword(bool wasLocked, bool mustChange) =>
        mustChange ? [new(LdapChangeKind.Replace, "pwdLastSet", "0")] : [];

    /// <summary>True for a server that says so of itself.</summary>
    /// <param name="root">The root of its tree (RFC 4512 section 5.1).</param>
    public static bool IsDomainController(LdapEntry? root) =>
        root?.Texts("supportedCapabilities").Contains(Capability, StringComparer.Ordinal) == true;

    public override string? WhyNot(LdapEntry? root) =>
        IsDomainController(root) ? null : "This server is no domain controller: take 'dialect: domain-controller' out.";
}
