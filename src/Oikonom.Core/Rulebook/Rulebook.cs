using Oikonom.Core.Expressions;
using Oikonom.Core.Planning;

namespace Oikonom.Core.Rulebook;

/// <summary>All the configuration an organisation writes, read and checked.</summary>
public sealed record Rulebook(
    string Name,
    string Title,
    IReadOnlyDictionary<string, Site> Sites,
    NameSchema Attributes,
    IReadOnlyList<string> Mandatory,
    IReadOnlyDictionary<string, SourceRule> Sources,
    IReadOnlyDictionary<string, TargetRule> Targets,
    IReadOnlyList<RoleTemplate> Templates,
    IReadOnlyList<Workflow> Workflows)
{
    private AccessFunction? _access;

    /// <summary>The attributes whose change makes a mover; the change of any other is a correction. Null means all.</summary>
    public IReadOnlySet<string>? Moves { get; init; }

    public IReadOnlyDictionary<string, NumberPool> Pools { get; init; } = new Dictionary<string, NumberPool>();
    public IReadOnlyList<Separation> Separations { get; init; } = [];

    /// <summary>True when a second person agrees before an edition counts.</summary>
    public bool PublishingNeedsSecond { get; init; }

    /// <summary>Mail domains of the organisation; an address elsewhere is a private one. Empty when none are declared.</summary>
    public IReadOnlyList<string> MailDomains { get; init; } = [];

    /// <summary>Attributes plus <c>account.name</c>, <c>pool.NAME</c> and <c>names.TARGET</c>: what an account's attributes may use.</summary>
    public NameSchema AccountNames { get; init; } = new([]);

    /// <summary>The templates made ready for asking what anybody should have.</summary>
    public AccessFunction Access => _access ??= new(this);

    public TimeZoneInfo ZoneOf(string site) => Sites.TryGetValue(site, out var found) ? found.Zone : TimeZoneInfo.Utc;

    public static NameSchema AccountSchema(NameSchema attributes, IEnumerable<string> pools, IEnumerable<string> targets) => new(attributes.Slots
        .Select(s => KeyValuePair.Create(s.Name, s.Slot.Type))
        .Append(new("account.name", ExpressionType.String))
        .Concat(pools.Select(pool => KeyValuePair.Create($"pool.{pool}", ExpressionType.String)))
        .Concat(targets.Select(target => KeyValuePair.Create($"names.{target}", ExpressionType.String))));
}

/// <summary>A published rulebook: numbered, immutable.</summary>
public sealed record Edition(int Number, string Digest, Rulebook Rulebook);

public sealed record Site(string Name, string Title, TimeZoneInfo Zone);

/// <summary>How records come from a source.</summary>
public enum SourceKind
{
    /// <summary>One delimited file, or the newest of a folder.</summary>
    File,

    /// <summary>An HTTP/JSON service that is asked page by page.</summary>
    Http,

    /// <summary>A SCIM 2.0 client that pushes users.</summary>
    Scim,

    /// <summary>Records posted to the service as JSON.</summary>
    Post,
}

/// <summary>What to do with a record that a full snapshot holds no more.</summary>
public enum VanishedPolicy
{
    /// <summary>It is listed, and a human says whether the person leaves.</summary>
    Ask,

    /// <summary>A leaver request is raised, under the brake as any other.</summary>
    Leave,
}

/// <summary>Where HR records come from, and which attribute is made of which columns.</summary>
public sealed record SourceRule(
    string Name, string Title, string Path, char Delimiter, string Encoding, NameSchema Columns, IReadOnlyList<string> ColumnNames,
    int KeyColumn, IReadOnlyList<MappedAttribute> Mapping, Place Place)
{
    public SourceKind Kind { get; init; }

    /// <summary>Where each column stands in a JSON record: a path with dots, by the index of the column.</summary>
    public IReadOnlyList<string> Paths { get; init; } = ColumnNames;

    /// <summary>False when <see cref="Path"/> is a folder pattern such as <c>exports/*.csv</c>.</summary>
    public bool IsFolder => Path.Contains('*', StringComparison.Ordinal);

    /// <summary>False when each delivery holds only what changed; then nothing can vanish.</summary>
    public bool IsFull { get; init; } = true;

    /// <summary>Records for which it does not hold are counted as outside and not taken.</summary>
    public Expression? Scope { get; init; }

    public HttpRule? Http { get; init; }
    public BrakeRule? Brake { get; init; }
    public VanishedPolicy Vanished { get; init; }

    /// <summary>A cron expression of five fields in the time zone of UTC, or null: only when somebody asks.</summary>
    public string? Schedule { get; init; }

    /// <summary>Fields written back to the source, by name, from the names and attributes of accounts.</summary>
    public IReadOnlyList<MappedAttribute> WriteBack { get; init; } = [];

    /// <summary>Mailbox that hears of failed and held runs, or "".</summary>
    public string ReportsTo { get; init; } = "";
}

/// <summary>How an HTTP source is asked.</summary>
/// <param name="Items">The member that holds the records of a page.</param>
/// <param name="Next">The member that holds the address or cursor of the next page.</param>
/// <param name="Since">The query parameter that asks for changes since an instant, or "".</param>
/// <param name="CallsPerSecond">The most calls in one second.</param>
public sealed record HttpRule(Uri Address, string Authority, string Header, string Secret, string Items, string Next, int PageSize, string Since, int CallsPerSecond);

/// <summary>How much one run may change before a human agrees; null means no limit. Percent is of the known records.</summary>
public sealed record BrakeRule(Limit? Joiners, Limit? Movers, Limit? Leavers, string Passes, Place Place);

/// <summary>A count, a share of the known people in percent, or both; whichever is reached first counts.</summary>
public sealed record Limit(int? Count, int? Percent)
{
    public bool IsOver(int happened, int known) => happened > Count || (Percent is { } percent && happened * 100L > (long)percent * known);
    public override string ToString() => string.Join(" or ", new[] { Count?.ToString(System.Globalization.CultureInfo.InvariantCulture), Percent is { } p ? $"{p} %" : null }.OfType<string>());
}

public sealed record MappedAttribute(string Name, Expression Expression, Place Place);

/// <summary>A system that holds accounts.</summary>
public sealed record TargetRule(
    string Name, string Title, Uri Address, bool StartTls, string Authority, string SignInName, string Secret, int Connections,
    string Container, string NameAttribute, IReadOnlyList<string> Classes, IReadOnlyList<MatchRule> Match, PasswordRule Password,
    string GroupContainer, string? Placeholder, IReadOnlyDictionary<string, Entitlement> Entitlements, Place Place)
{
    public NameRule Names { get; init; } = NameRule.Default;

    /// <summary>Targets whose account is made and verified first.</summary>
    public IReadOnlyList<string> After { get; init; } = [];
}

/// <summary>An attribute by which an existing entry is recognised, in order, each under a condition if it has one.</summary>
public sealed record MatchRule(string Attribute, Expression? When);

/// <summary>What a generated password is made of; <paramref name="Words"/> above 0 gives a phrase of that many words.</summary>
public sealed record PasswordRule(int Length, int Classes, int Words, bool ChangeAtFirstUse)
{
    public static readonly PasswordRule Default = new(16, 3, 0, true);
}

/// <summary>Which names a target takes: longest, and the marks allowed beside lower-case letters and digits.</summary>
public sealed record NameRule(int Longest, string Marks)
{
    public static readonly NameRule Default = new(32, ".-_");
}

/// <summary>What an entitlement is.</summary>
public enum EntitlementKind { Group, Role, Licence }

/// <summary>Something a target can give an account; here a group, by its distinguished name.</summary>
public sealed record Entitlement(string Name, string Title, string Group, string? Owner, Place Place)
{
    public EntitlementKind Kind { get; init; }
    public string Description { get; init; } = "";

    /// <summary>Powerful access: never open-ended.</summary>
    public bool IsPrivileged { get; init; }

    /// <summary>The most people that may hold it (seats of a licence), or null.</summary>
    public int? MostHolders { get; init; }
}

/// <summary>For whom it applies, the accounts it creates and the grants it gives.</summary>
public sealed record RoleTemplate(
    string Name, string Title, int Priority, Expression? When, IReadOnlyList<AccountRule> Accounts, IReadOnlyList<GrantRule> Grants, Place Place)
{
    /// <summary>Pools of which each person gets a number.</summary>
    public IReadOnlyList<string> Numbers { get; init; } = [];

    /// <summary>Attributes that HR leaves open and a requester is asked for.</summary>
    public IReadOnlyList<string> Asks { get; init; } = [];
    public Place WhenPlace { get; init; }
}

/// <summary>The account a template makes in a target. <paramref name="Lead"/>: how long before the start it exists, asleep.</summary>
public sealed record AccountRule(
    string Target, IReadOnlyList<Expression> Names, TimeSpan Lead, IReadOnlyList<AttributeRule> Attributes, Place Place)
{
    /// <summary>First day on which it is awake; null means the first day of the employment.</summary>
    public Expression? EnabledFrom { get; init; }

    /// <summary>Last day on which it is awake; null means the last day of the employment.</summary>
    public Expression? EnabledUntil { get; init; }
}

public sealed record AttributeRule(string Name, Expression Expression, Place Place);

/// <summary>An entitlement a template gives, under a condition of its own if it has one.</summary>
public sealed record GrantRule(string Target, string Entitlement, Expression? When, Place Place)
{
    public string Key { get; } = $"{Target}/{Entitlement}";

    /// <summary>First day on which it is held; null means as long as the employment has begun.</summary>
    public Expression? From { get; init; }

    /// <summary>Last day on which it is held; null means until the employment ends.</summary>
    public Expression? Until { get; init; }

    /// <summary>How long it is kept after the rules stopped giving it: the hand-over of a mover.</summary>
    public TimeSpan HandOver { get; init; }
}

/// <summary>Numbers to give out, by site; a person has at most one of each pool, and keeps it.</summary>
public sealed record NumberPool(string Name, string Title, string Prefix, IReadOnlyDictionary<string, IReadOnlyList<NumberRange>> Ranges, Place Place)
{
    /// <summary>The name of the range for sites that have none of their own.</summary>
    public const string Anywhere = "anywhere";

    public IReadOnlyList<NumberRange> For(string site) => Ranges.TryGetValue(site, out var own) ? own : Ranges.GetValueOrDefault(Anywhere) ?? [];
}

/// <summary>From first to last, both included.</summary>
public readonly record struct NumberRange(long First, long Last);

/// <summary>What happens when somebody would hold both sides of a separation.</summary>
public enum SeparationEffect { Block, Decide }

/// <summary>Entitlements (as <c>target/entitlement</c>) that nobody holds from both sides of.</summary>
public sealed record Separation(string Name, string Title, IReadOnlyList<string> One, IReadOnlyList<string> Other, SeparationEffect Effect, string Decides, Place Place);

/// <summary>The approval path of a kind of request.</summary>
public sealed record Workflow(string Name, string Title, IReadOnlyList<string> For, IReadOnlyList<Stage> Stages, bool ReleasedByOperator, Place Place);

/// <summary>Who decides: <c>manager</c>, <c>role:NAME</c> or <c>person:NUMBER</c>; and who when there is none.</summary>
public sealed record Stage(string Name, string Title, string Decides, string Otherwise, Place Place);
