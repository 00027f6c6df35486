using System.Globalization;
using System.Security.Cryptography;
using Oikonom.Core.Rulebook;
using Oikonom.Ldap;

namespace Oikonom.Targets.Ldap;

/// <summary>
/// What one family of directory servers has of its own: how an entry is known for ever, how it is locked, how a password is set and
/// in which form values stand. Everything else is the protocol's (RFC 4511).
/// </summary>
internal abstract class LdapDialect
{
    /// <summary>The dialect a target's server speaks.</summary>
    public static LdapDialect Of(TargetSettings.Ldap settings) =>
        settings.Family == LdapFamily.DomainController ? new DomainDialect() : new PolicyDialect();

    /// <summary>The attribute that never changes (RFC 4530 and its like).</summary>
    public abstract string Id { get; }

    /// <summary>The attribute of a group that lists its members by name (RFC 4519 section 2.17).</summary>
    public string Member => "member";

    /// <summary>The attribute that keeps the password.</summary>
    public abstract string Password { get; }

    /// <summary>What is read of an account.</summary>
    public abstract IReadOnlyList<string> Wanted { get; }

    /// <summary>What is read to know whether an account is locked.</summary>
    public abstract IReadOnlyList<string> LockedBy { get; }

    /// <summary>True when the server itself keeps members of groups right when an entry is moved, and its name whole.</summary>
    public abstract bool KeepsReferences { get; }

    /// <summary>Attributes that belong to the server, not to the account.</summary>
    public abstract bool IsOwn(string attribute);

    /// <summary>The id of an entry as text; null when it shows none.</summary>
    public abstract string? IdOf(LdapEntry entry);

    /// <summary>What finds the entry of an id.</summary>
    public abstract LdapFilter ById(string id);

    /// <summary>Under which name an entry is written to: one that is its own for ever where the server knows such.</summary>
    public abstract string NameOf(string id, string dn);

    /// <summary>The attribute that names an entry in its container (RFC 4512 section 2.3.2).</summary>
    public abstract string NamedBy(TargetSettings.Ldap settings);

    /// <summary>Below which entry no two accounts have the same name.</summary>
    public abstract string NamesBelow(string container);

    /// <summary>What a new entry has beside what the rulebook says of it.</summary>
    public abstract IEnumerable<LdapAttribute> Fresh(string name, TargetSettings.Ldap settings, bool enabled);

    /// <summary>What makes an entry a group, beside its name and members.</summary>
    public abstract IEnumerable<LdapAttribute> FreshGroup(string name, GroupForm? form);

    /// <summary>Whether <see cref="Fresh"/> makes an entry locked; else it is locked by a change of its own.</summary>
    public abstract bool IsMadeLocked { get; }

    /// <summary>Values in the form in which the server keeps them.</summary>
    /// <exception cref="TargetFault">One has not a form it can be made of.</exception>
    public abstract IReadOnlyList<string> ToServer(string attribute, IReadOnlyList<string> values);

    /// <summary>The values of an attribute in the form in which the rulebook says them.</summary>
    public abstract IReadOnlyList<string> FromServer(LdapAttribute attribute);

    /// <summary>When somebody signed in with the entry last; null where it is not kept.</summary>
    public abstract DateTimeOffset? LastLogOn(LdapEntry entry);

    /// <summary>True when the entry is locked until it is unlocked.</summary>
    public abstract bool IsLocked(LdapEntry entry);

    /// <summary>The changes that lock an account until it is unlocked.</summary>
    public abstract IEnumerable<LdapModification> Lock(LdapEntry entry);

    /// <summary>The changes that let an account be used, whatever locked it; none when nothing does.</summary>
    public abstract IEnumerable<LdapModification> Unlock(LdapEntry entry);

    /// <summary>Sets a password.</summary>
    /// <param name="dn">The name to write to.</param>
    public abstract Task SetPasswordAsync(LdapConnection connection, string dn, string password, CancellationToken cancel);

    /// <summary>What has to be changed once a password was set.</summary>
    /// <param name="wasLocked">Whether the account was locked before.</param>
    /// <param name="mustChange">Whether it is to be changed at the first use.</param>
    public abstract IEnumerable<LdapModification> AfterPassword(bool wasLocked, bool mustChange);

    /// <summary>What is wrong when the server is of another family than the rulebook says; null when it is right.</summary>
    /// <param name="root">The root of the server's tree (RFC 4512 section 5.1).</param>
    public abstract string? WhyNot(LdapEntry? root);

    /// <summary>Servers give a long list in parts, and say in the name of the attribute which it is, such as
    /// <c>member;range=0-1499</c>.</summary>
    /// <returns>What is asked for to get the part after it; "" after the last.</returns>
    public static string Rest(string attribute)
    {
        var option = attribute.Split(';').FirstOrDefault(o => o.StartsWith("range=", StringComparison.OrdinalIgnoreCase));
        return option?.Split('-') is [_, var last] && long.TryParse(last, NumberStyles.None, CultureInfo.InvariantCulture, out var end)
            ? $"{attribute.Split(';')[0]};range={(end + 1).ToString(CultureInfo.InvariantCulture)}-*"
            : "";
    }

    /// <summary>A password nobody knows.</summary>
    public static string Unknown() => $"Aa1-{RandomNumberGenerator.GetHexString(44)}";
}

/// <summary>Servers with entryUUID (RFC 4530) and the password policy of the draft behind <c>pwdAccountLockedTime</c>.</summary>
internal sealed class PolicyDialect : LdapDialect
{
    private const string LockAttribute = "pwdAccountLockedTime";
    private const string Locked = "000001010000Z";

    /// <summary>Attributes in which servers keep the last sign-in, the surest first.</summary>
    private static readonly string[] LogOns = ["pwdLastSuccess", "authTimestamp"];

    public override string Id => "entryUUID";
    public override string Password => "userPassword";
    public override IReadOnlyList<string> Wanted { get; } = ["*", "entryUUID", LockAttribute, .. LogOns];
    public override IReadOnlyList<string> LockedBy { get; } = [LockAttribute];
    public override bool KeepsReferences => false;
    public override bool IsMadeLocked => false;

    public override bool IsOwn(string attribute) =>
        attribute == Id || attribute is LockAttribute or "objectClass" or "userPassword" || LogOns.Contains(attribute);

    public override string? IdOf(LdapEntry entry) => entry.Text(Id);

    public override LdapFilter ById(string id) => LdapFilter.Equal(Id, id);

    public override string NameOf(string id, string dn) => dn;

    public override string NamedBy(TargetSettings.Ldap settings) => settings.NameAttribute;

    public override string NamesBelow(string container) => container;

    public override IEnumerable<LdapAttribute> Fresh(string name, TargetSettings.Ldap settings, bool enabled) => [];

    /// <summary>A group of names (RFC 4519 section 3.5).</summary>
    public override IEnumerable<LdapAttribute> FreshGroup(string name, GroupForm? form) => [new("objectClass", "groupOfNames")];

    public override IReadOnlyList<string> ToServer(string attribute, IReadOnlyList<string> values) => values;

    public override IReadOnlyList<string> FromServer(LdapAttribute attribute) => attribute.Texts;

    public override DateTimeOffset? LastLogOn(LdapEntry entry) =>
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

    public override bool IsLocked(LdapEntry entry) => entry.Text(LockAttribute) == Locked;

    public override IEnumerable<LdapModification> Lock(LdapEntry entry) => [new(LdapChangeKind.Replace, LockAttribute, Locked)];

    public override IEnumerable<LdapModification> Unlock(LdapEntry entry) =>
        entry[LockAttribute] is null ? [] : [new(LdapChangeKind.Replace, LockAttribute)];

    /// <summary>By the operation of RFC 3062, so that the server keeps it as it keeps passwords.</summary>
    public override async Task SetPasswordAsync(LdapConnection connection, string dn, string password, CancellationToken cancel) =>
        await connection.PasswordModifyAsync(dn, null, password, cancel).ConfigureAwait(false);

    public override IEnumerable<LdapModification> AfterPassword(bool wasLocked, bool mustChange)
    {
        // The server takes a new password as the end of any lock; who sleeps goes on sleeping.
        if (wasLocked)
            yield return new(LdapChangeKind.Replace, LockAttribute, Locked);
        if (mustChange)
            yield return new(LdapChangeKind.Replace, "pwdReset", "TRUE");
    }

    public override string? WhyNot(LdapEntry? root) =>
        DomainDialect.IsDomainController(root) ? "This server is a domain controller: say 'dialect: domain-controller'." : null;
}
