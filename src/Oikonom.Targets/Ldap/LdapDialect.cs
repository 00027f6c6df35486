using System.Globalization;
using Oikonom.Ldap;

namespace Oikonom.Targets.Ldap;

/// <summary>
/// What one family of directory servers has of its own: how an entry is known for ever, how it is locked, and where
/// memberships stand. Everything else is the protocol's (RFC 4511).
/// </summary>
/// <param name="Id">The attribute that never changes (RFC 4530 and its like).</param>
/// <param name="Lock">The attribute that keeps an account from being used.</param>
/// <param name="Locked">Its value for an account that is locked until it is unlocked.</param>
/// <param name="Member">The attribute of a group that lists its members by name.</param>
/// <param name="MustChange">The attribute that demands a new password at the first use.</param>
internal sealed record LdapDialect(string Id, string Lock, string Locked, string Member, string MustChange)
{
    /// <summary>Attributes in which servers keep the last sign-in, the surest first.</summary>
    /// <remarks>It stands before the families, which are made of it.</remarks>
    private static readonly string[] LogOns = ["pwdLastSuccess", "authTimestamp"];

    /// <summary>Servers with the password policy of the draft behind <c>pwdAccountLockedTime</c>.</summary>
    public static readonly LdapDialect PasswordPolicy = new("entryUUID", "pwdAccountLockedTime", "000001010000Z", "member", "pwdReset");

    /// <summary>What is read of an account.</summary>
    public IReadOnlyList<string> Wanted { get; } = ["*", Id, Lock, .. LogOns];

    /// <summary>Attributes that belong to the server, not to the account.</summary>
    public bool IsOwn(string attribute) =>
        attribute == Id || attribute == Lock || attribute is "objectClass" or "userPassword" || LogOns.Contains(attribute);

    /// <summary>When somebody signed in with the entry last (RFC 4517 section 3.3.13); null where it is not kept.</summary>
    public static DateTimeOffset? LastLogOn(LdapEntry entry) =>
        LogOns
            .Select(entry.Text)
            .Select(text =>
                DateTimeOffset.TryParseExact(
                    text,
                    ["yyyyMMddHHmmss'Z'", "yyyyMMddHHmmss.FFFFFFF'Z'"],
                    CultureInfo.InvariantCulture,
                    DateTimeStyles.AssumeUniversal | DateTimeStyles.AdjustToUniversal,
                    out var at
                )
                    ? at
                    : (DateTimeOffset?)null
            )
            .FirstOrDefault(at => at is not null);

    /// <summary>True when the entry is locked by the attribute of this family.</summary>
    public bool IsLocked(LdapEntry entry) => entry.Text(Lock) == Locked;

    /// <summary>The change that locks an account until it is unlocked.</summary>
    public LdapModification LockIt() => new(LdapChangeKind.Replace, Lock, Locked);

    /// <summary>The change that lets an account be used, whatever locked it.</summary>
    public LdapModification UnlockIt() => new(LdapChangeKind.Replace, Lock);
}
