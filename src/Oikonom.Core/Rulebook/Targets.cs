using Oikonom.Core.Expressions;
using Oikonom.Core.Time;

namespace Oikonom.Core.Rulebook;

/// <summary>What can be done in a kind of target; what it cannot is never planned, or done another way.</summary>
[Flags]
public enum TargetAbilities
{
    None = 0,

    /// <summary>It holds accounts that are made, changed, enabled and disabled.</summary>
    Accounts = 1,

    /// <summary>Passwords can be set.</summary>
    Passwords = 2,

    /// <summary>All it holds can be listed.</summary>
    Listing = 4,

    /// <summary>What was done can be read back.</summary>
    ReadBack = 8,

    /// <summary>Several changes go out as one.</summary>
    Batches = 16,

    /// <summary>It tells what changed since an instant.</summary>
    Changes = 32,

    /// <summary>Accounts can be deleted.</summary>
    Deletes = 64,

    /// <summary>What was deleted can be brought back.</summary>
    Restores = 128,

    /// <summary>It tells what it can give.</summary>
    Catalogue = 256,
}

/// <summary>A system that gives access: what all kinds have in common, with the settings of its kind.</summary>
public sealed record TargetRule(
    string Name,
    string Title,
    TargetSettings Settings,
    IReadOnlyDictionary<string, Entitlement> Entitlements,
    Place Place
)
{
    /// <summary>How existing accounts are recognised, the surest first.</summary>
    public IReadOnlyList<MatchRule> Match { get; init; } = [];

    /// <summary>What generated passwords are made of.</summary>
    public PasswordRule Password { get; init; } = PasswordRule.Default;

    /// <summary>Which account names it takes.</summary>
    public NameRule Names { get; init; } = NameRule.Default;

    /// <summary>What becomes of accounts that are changed outside.</summary>
    public WatchRule Watch { get; init; } = WatchRule.Default;

    /// <summary>When nothing is done in it, and for how long; null for never.</summary>
    public WorkingHours? Maintenance { get; init; }

    /// <summary>How many steps a node may begin in a second; null for as many as it can.</summary>
    public int? Rate { get; init; }

    /// <summary>Targets whose account is made and verified first.</summary>
    public IReadOnlyList<string> After { get; init; } = [];

    /// <summary>Employee number of who answers for the target, or "".</summary>
    public string Owner { get; init; } = "";

    /// <summary>How it is read what it can give; null where the rulebook says all of that.</summary>
    public CatalogueRule? Catalogue { get; init; }

    /// <summary>What people read in the place of an attribute's name.</summary>
    public IReadOnlyDictionary<string, string> Titles { get; init; } = new Dictionary<string, string>();

    /// <summary>What people read of an attribute of an account: what the rulebook says, else what the kind of target knows, else
    /// its name.</summary>
    public string TitleOf(string attribute) => Titles.GetValueOrDefault(attribute) ?? Settings.TitleOf(attribute) ?? attribute;

    /// <summary>The target with these rules for accounts, reached as another edition knows it.</summary>
    public TargetRule In(TargetRule newest) =>
        this with
        {
            Settings = Settings.In(newest.Settings),
            Owner = newest.Owner,
            Watch = newest.Watch,
            Maintenance = newest.Maintenance,
            Rate = newest.Rate,
            Entitlements = Entitlements.Values.Select(e => newest.Entitlements.GetValueOrDefault(e.Name) ?? e).ToDictionary(e => e.Name),
        };

    /// <summary>True when people have accounts in it; false when it gives what needs none.</summary>
    public bool HasAccounts => Settings.Can.HasFlag(TargetAbilities.Accounts);

    /// <summary>True when others may put people into something it gives, too.</summary>
    public bool HasShared => Entitlements.Values.Any(e => e.IsShared);

    /// <summary>Of what an account holds, what is to be as decided here: what others gave it of what they may give is
    /// theirs.</summary>
    /// <param name="found">Names of entitlements that it holds.</param>
    /// <param name="given">Names of those that were given here.</param>
    public IEnumerable<string> Ours(IEnumerable<string> found, IReadOnlyCollection<string> given) =>
        found.Where(e => Entitlements.GetValueOrDefault(e)?.IsShared != true || given.Contains(e));

    /// <summary>True when values that its tasks give become attributes of people.</summary>
    public bool FeedsPeople =>
        Settings is TargetSettings.Desk
        && Entitlements.Values.Any(e => e.Means is EntitlementMeans.Work work && work.Fields.Any(f => f.Feeds.Length > 0));
}

/// <summary>The settings of a target by its kind: closed, one record per kind.</summary>
public abstract record TargetSettings
{
    private TargetSettings() { }

    /// <summary>The word for the kind in the rulebook.</summary>
    public abstract string Kind { get; }

    /// <summary>What can be done in targets of the kind.</summary>
    public abstract TargetAbilities Can { get; }

    /// <summary>How many people's steps may be under way at once.</summary>
    public abstract int Parallel { get; }

    /// <summary>Where new accounts stand, in the target's own words; "" where there is no such thing.</summary>
    public virtual string Container => "";

    /// <summary>The attribute that carries the name of an account.</summary>
    public virtual string NameAttribute => "name";

    /// <summary>What people read of an attribute that all targets of the kind have, or null.</summary>
    public virtual string? TitleOf(string attribute) => null;

    /// <summary>The secret it signs in with, and where that is sent; null when there is none.</summary>
    public virtual (string Secret, string Host, int Port)? SignsIn => null;

    /// <summary>The settings with the way to the target as others know it, when they are of the same kind.</summary>
    public abstract TargetSettings In(TargetSettings newest);

    /// <summary>A directory (RFC 4511).</summary>
    /// <param name="StartTls">True when the connection becomes secure after it was opened; else it is from the start.</param>
    /// <param name="Authority">The secret that holds the certificate of who vouches for it.</param>
    /// <param name="Classes">Object classes of a new entry.</param>
    /// <param name="Placeholder">What a group holds that may not be empty, or null.</param>
    public sealed record Ldap(
        Uri Address,
        bool StartTls,
        string Authority,
        string SignInName,
        string Secret,
        int Connections,
        string Accounts,
        string NamedBy,
        IReadOnlyList<string> Classes,
        string Groups,
        string? Placeholder
    ) : TargetSettings
    {
        private const int PerConnection = 24;

        /// <summary>Which family of servers it is of.</summary>
        public LdapFamily Family { get; init; }

        /// <summary>Whether organizational units that are missing on the way to an account are made (RFC 4519 section 3.11).</summary>
        public bool MakesContainers { get; init; }

        /// <summary>True when entries of a domain are kept from being deleted by mistake.</summary>
        public bool Guards { get; init; }

        /// <summary>Attributes whose values are names of other entries (RFC 4524 section 2.13), with the attribute by which the
        /// rulebook means such an entry.</summary>
        public IReadOnlyDictionary<string, string> References { get; init; } = NoReferences;

        private static readonly Dictionary<string, string> NoReferences = [];

        /// <summary>Attributes of people in directories (RFC 4519, RFC 2798).</summary>
        private static readonly Dictionary<string, string> Known = new(StringComparer.OrdinalIgnoreCase)
        {
            ["uid"] = "User name",
            ["cn"] = "Full name",
            ["sn"] = "Family name",
            ["givenName"] = "Given name",
            ["displayName"] = "Name shown",
            ["mail"] = "Mail",
            ["title"] = "Job title",
            ["ou"] = "Department",
            ["departmentNumber"] = "Department",
            ["l"] = "Place",
            ["o"] = "Organisation",
            ["employeeNumber"] = "Employee number",
            ["employeeType"] = "Kind of employment",
            ["labeledURI"] = "Address of the mailbox or page",
            ["manager"] = "Line manager",
            ["telephoneNumber"] = "Telephone",
            ["mobile"] = "Mobile telephone",
            ["description"] = "Description",
            ["initials"] = "Initials",
            ["street"] = "Street",
            ["postalCode"] = "Postal code",
            ["physicalDeliveryOfficeName"] = "Office",
            ["roomNumber"] = "Room",
            ["preferredLanguage"] = "Language",
            ["carLicense"] = "Number plate",
            ["sAMAccountName"] = "User name",
            ["userPrincipalName"] = "Sign-in name",
            ["department"] = "Department",
            ["company"] = "Organisation",
            ["employeeID"] = "Employee number",
            ["accountExpires"] = "Expires after",
            ["homeDirectory"] = "Home folder",
            ["homeDrive"] = "Drive of the home folder",
            ["profilePath"] = "Profile folder",
            ["scriptPath"] = "Sign-in script",
        };

        public override string Kind => "ldap";
        public override TargetAbilities Can =>
            TargetAbilities.Accounts
            | TargetAbilities.Passwords
            | TargetAbilities.Listing
            | TargetAbilities.ReadBack
            | TargetAbilities.Batches
            | TargetAbilities.Changes
            | TargetAbilities.Catalogue
            | (Family == LdapFamily.DomainController ? TargetAbilities.Restores : TargetAbilities.None);
        public override int Parallel => Connections * PerConnection;
        public override string Container => Accounts;
        public override string NameAttribute => NamedBy;

        public override TargetSettings In(TargetSettings newest) =>
            newest is Ldap now
                ? this with
                {
                    Address = now.Address,
                    StartTls = now.StartTls,
                    Authority = now.Authority,
                    SignInName = now.SignInName,
                    Secret = now.Secret,
                    Connections = now.Connections,
                    Groups = now.Groups,
                    Placeholder = now.Placeholder,
                    Family = now.Family,
                    References = now.References,
                }
                : this;

        public override string? TitleOf(string attribute) => Known.GetValueOrDefault(attribute);

        /// <summary>The port of the address; where it names none, the one of LDAP (RFC 4511) or of LDAP over TLS.</summary>
        public int Port =>
            Address.Port > 0 ? Address.Port
            : StartTls ? 389
            : 636;
        public override (string Secret, string Host, int Port)? SignsIn => (Secret, Address.Host, Port);
    }

    /// <summary>An application that speaks SCIM 2.0 (RFC 7643, RFC 7644).</summary>
    /// <param name="Address">Where the protocol's version begins, such as https://host/scim/v2/.</param>
    /// <param name="Authority">The secret that holds the certificate of who vouches for it; "" for those of the machine.</param>
    /// <param name="Secret">The secret that holds the bearer token (RFC 6750).</param>
    /// <param name="Calls">How many calls may be under way at once.</param>
    public sealed record Scim(Uri Address, string Authority, string Secret, int Calls) : TargetSettings
    {
        /// <summary>What people read of attributes of users (RFC 7643 section 4.1 and 4.3).</summary>
        private static readonly Dictionary<string, string> Known = new(StringComparer.OrdinalIgnoreCase)
        {
            ["userName"] = "User name",
            ["externalId"] = "External id",
            ["displayName"] = "Name shown",
            ["nickName"] = "Nickname",
            ["name.givenName"] = "Given name",
            ["name.familyName"] = "Family name",
            ["name.formatted"] = "Full name",
            ["title"] = "Job title",
            ["userType"] = "Kind of employment",
            ["preferredLanguage"] = "Language",
            ["locale"] = "Language and country",
            ["timezone"] = "Time zone",
            ["emails[type eq \"work\"].value"] = "Mail",
            ["phoneNumbers[type eq \"work\"].value"] = "Telephone",
            ["urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:employeeNumber"] = "Employee number",
            ["urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:costCenter"] = "Cost centre",
            ["urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department"] = "Department",
            ["urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:division"] = "Division",
            ["urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:organization"] = "Organisation",
        };

        public override string Kind => "scim";
        public override TargetAbilities Can =>
            TargetAbilities.Accounts
            | TargetAbilities.Listing
            | TargetAbilities.ReadBack
            | TargetAbilities.Changes
            | TargetAbilities.Catalogue;
        public override int Parallel => Calls;
        public override string NameAttribute => "userName";

        public override TargetSettings In(TargetSettings newest) => newest is Scim ? newest : this;

        public override string? TitleOf(string attribute) => Known.GetValueOrDefault(attribute);

        public override (string Secret, string Host, int Port)? SignsIn => (Secret, Address.Host, Address.Port);
    }

    /// <summary>A system that takes over a file with all accounts (RFC 4180), and may answer with another one.</summary>
    /// <param name="Folder">Where, below the service's folder for such targets.</param>
    /// <param name="Writes">When what was changed is handed over; null where that is at once.</param>
    /// <param name="AnswersWithin">How long an answer may take; null where there is none.</param>
    public sealed record File(string Folder, Schedule? Writes, TimeSpan? AnswersWithin) : TargetSettings
    {
        /// <summary>What is handed over beside the table of all accounts.</summary>
        public FileForm Form { get; init; } = FileForm.Table;

        /// <summary>Columns of the file that are not attributes.</summary>
        public static readonly IReadOnlyList<string> Columns = ["id", "name", "enabled", "entitlements", "changed"];

        public override string Kind => "file";
        public override TargetAbilities Can => TargetAbilities.Accounts | TargetAbilities.Listing | TargetAbilities.ReadBack;
        public override int Parallel => 200;

        public override TargetSettings In(TargetSettings newest) => newest is File ? newest : this;
    }

    /// <summary>People who do the work by hand, for what has no interface.</summary>
    /// <param name="Role">Who does it.</param>
    /// <param name="Due">Within which working time at the person's site.</param>
    public sealed record Desk(string Role, TimeSpan Due) : TargetSettings
    {
        public override string Kind => "desk";
        public override TargetAbilities Can => TargetAbilities.None;
        public override int Parallel => 24;

        public override TargetSettings In(TargetSettings newest) => newest is Desk ? newest : this;
    }
}

/// <summary>What a target knows of accounts, as far as the rulebook's classes go.</summary>
/// <param name="Attributes">All names of attributes, in any case; of a part of several values without what chooses one.</param>
/// <param name="Allowed">Those that an account of the target's classes can have.</param>
/// <param name="Classes">All names of object classes.</param>
/// <param name="UnknownClasses">Classes of the rulebook that it does not have.</param>
public sealed record TargetSchema(
    IReadOnlySet<string> Attributes,
    IReadOnlySet<string> Allowed,
    IReadOnlyCollection<string> Classes,
    IReadOnlyList<string> UnknownClasses
)
{
    /// <summary>The name of an attribute without what chooses one of its values: <c>emails.value</c> of
    /// <c>emails[type eq "work"].value</c> (RFC 7644 section 3.10).</summary>
    public static string Bare(string attribute)
    {
        var (open, close) = (attribute.IndexOf('['), attribute.IndexOf(']'));
        return open > 0 && close > open ? attribute[..open] + attribute[(close + 1)..] : attribute;
    }
}

/// <summary>What a manual task asks to be filled in. <paramref name="Pattern"/> is a regular expression the whole value matches,
/// or "".</summary>
public sealed record TaskField(string Name, string Title, bool IsMandatory, string Pattern)
{
    /// <summary>The attribute of the person that the value becomes once the work is done, or "".</summary>
    public string Feeds { get; init; } = "";
}

/// <summary>An attribute by which an existing entry is recognised, in order, each under a condition if it has one.</summary>
public sealed record MatchRule(string Attribute, Expression? When);

/// <summary>What a generated password is made of; <paramref name="Words"/> above 0 gives a phrase of that many words.</summary>
public sealed record PasswordRule(int Length, int Classes, int Words, bool ChangeAtFirstUse)
{
    /// <summary>How long before the account wakes the link to its first password is sent; zero: when it wakes.</summary>
    public TimeSpan LinkAhead { get; init; }

    /// <summary>Sixteen characters of three classes, to be changed at the first use.</summary>
    public static readonly PasswordRule Default = new(16, 3, 0, true);
}

/// <summary>Which names a target takes: longest, and the marks allowed beside lower-case letters and digits.</summary>
public sealed record NameRule(int Longest, string Marks)
{
    /// <summary>As long as 32 characters, with dot, hyphen and underscore.</summary>
    public static readonly NameRule Default = new(32, ".-_");
}

/// <summary>Families of directory servers, by what each has of its own.</summary>
public enum LdapFamily
{
    /// <summary>Entries with entryUUID (RFC 4530), locked by their password policy.</summary>
    PasswordPolicy,

    /// <summary>Domain controllers: objectGUID, userAccountControl, unicodePwd.</summary>
    DomainController,
}

/// <summary>What an entitlement is.</summary>
public enum EntitlementKind
{
    Group,
    Role,
    Licence,
}

/// <summary>Something a target can give somebody, with how its kind gives it.</summary>
public sealed record Entitlement(string Name, string Title, EntitlementMeans Means, string? Owner, Place Place)
{
    /// <summary>A group, a role or a licence.</summary>
    public EntitlementKind Kind { get; init; }

    /// <summary>What it is for, as people read it; may be empty.</summary>
    public string Description { get; init; } = "";

    /// <summary>Powerful access: never open-ended.</summary>
    public bool IsPrivileged { get; init; }

    /// <summary>The most people that may hold it (seats of a licence), or null.</summary>
    public int? MostHolders { get; init; }

    /// <summary>False when nobody may ask for it by hand.</summary>
    public bool IsRequestable { get; init; } = true;

    /// <summary>What the account must have before it is given: names of entitlements of the same target, or of attributes.</summary>
    public IReadOnlyList<string> Needs { get; init; } = [];

    /// <summary>The entitlement whose holders hold this one too, for as long, under this name; null when it stands alone.</summary>
    public EntitlementKey? Mirrors { get; init; }

    /// <summary>True for the role that everybody has whose account may be used, while they have no other role of the target.</summary>
    public bool IsLeast { get; init; }

    /// <summary>True when the group is made in the target where it is missing.</summary>
    public bool IsMade { get; init; }

    /// <summary>True when its owners put people into it in the target itself, too: who was not put there from here is left there.</summary>
    public bool IsShared { get; init; }

    /// <summary>True when it was read from the target, and the rulebook says nothing in addition.</summary>
    public bool IsRead { get; init; }
}

/// <summary>In which form accounts are handed over in files.</summary>
/// <param name="IsLdif">As LDIF (RFC 2849), else as a table (RFC 4180).</param>
/// <param name="IsChanges">What changed, a file for each time, else all accounts.</param>
/// <param name="Below">The name below which entries of LDIF stand; may be empty.</param>
/// <param name="Classes">The object classes of such entries; may be none.</param>
public sealed record FileForm(bool IsLdif, bool IsChanges, string Below, IReadOnlyList<string> Classes)
{
    /// <summary>The table of all accounts, and nothing beside it.</summary>
    public static readonly FileForm Table = new(false, false, "", []);

    /// <summary>True when something is written beside the table.</summary>
    public bool IsMore => IsLdif || IsChanges;
}

/// <summary>Where a group of a domain counts, and from where its members may come.</summary>
public enum GroupScope
{
    /// <summary>Counts everywhere; holds accounts of its own domain.</summary>
    Global,

    /// <summary>Counts in its own domain; holds accounts of any.</summary>
    [System.Text.Json.Serialization.JsonStringEnumMemberName("domain-local")]
    DomainLocal,

    /// <summary>Counts everywhere; holds accounts of any domain of the forest.</summary>
    Universal,
}

/// <summary>What kind of group a domain controller keeps.</summary>
/// <param name="IsDistribution">A list for mail alone: no access can be given to it.</param>
public sealed record GroupForm(GroupScope Scope, bool IsDistribution)
{
    private const int Security = unchecked((int)0x80000000);

    private int Flag =>
        Scope switch
        {
            GroupScope.DomainLocal => 4,
            GroupScope.Universal => 8,
            _ => 2,
        };

    /// <summary>The value of <c>groupType</c>.</summary>
    public int Type => Flag | (IsDistribution ? 0 : Security);

    /// <summary>The kind that a value of <c>groupType</c> tells.</summary>
    public static GroupForm Of(int type) =>
        new(
            (type & 4) != 0 ? GroupScope.DomainLocal
                : (type & 8) != 0 ? GroupScope.Universal
                : GroupScope.Global,
            (type & Security) == 0
        );

    /// <summary>As people say it: a universal security group.</summary>
    public override string ToString() => $"{EnumText.Of(Scope)} {(IsDistribution ? "distribution" : "security")} group";
}

/// <summary>How an entitlement is given in a kind of target: closed, one record per kind.</summary>
public abstract record EntitlementMeans
{
    private EntitlementMeans() { }

    /// <summary>Membership in a group of a directory, by its distinguished name (RFC 4514).</summary>
    public sealed record Group(string Dn) : EntitlementMeans
    {
        /// <summary>What a domain controller is told of it when it is made; null leaves that to the server.</summary>
        public GroupForm? Form { get; init; }

        /// <summary>True when who is in it has it as the primary group of a domain.</summary>
        public bool IsPrimary { get; init; }
    }

    /// <summary>Membership in a group of an application, by the name it is shown under (RFC 7643 section 4.2).</summary>
    public sealed record NamedGroup(string Name) : EntitlementMeans;

    /// <summary>One of several values of an attribute of the account, such as a role or a licence (RFC 7643 section 4.1.2).</summary>
    public sealed record Value(string Attribute, string Text) : EntitlementMeans;

    /// <summary>Work by hand: what is to be done when it is given and when it is taken back, filled in, checked off and shown.</summary>
    public sealed record Work(
        string Give,
        string TakeBack,
        IReadOnlyList<TaskField> Fields,
        IReadOnlyList<string> Checks,
        bool NeedsEvidence
    ) : EntitlementMeans
    {
        /// <summary>True when somebody else than who did it looks whether it is done, before it counts.</summary>
        public bool NeedsSecond { get; init; }
    }
}
