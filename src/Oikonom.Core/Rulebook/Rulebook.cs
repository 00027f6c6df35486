using Oikonom.Core.Expressions;
using Oikonom.Core.People;
using Oikonom.Core.Time;

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
    IReadOnlyList<Workflow> Workflows
)
{
    /// <summary>The attributes whose change makes a mover; the change of any other is a correction. Null means all.</summary>
    public IReadOnlySet<string>? Moves { get; init; }

    /// <summary>Pools of numbers by name.</summary>
    public IReadOnlyDictionary<string, NumberPool> Pools { get; init; } = new Dictionary<string, NumberPool>();

    /// <summary>What nobody may hold together.</summary>
    public IReadOnlyList<Separation> Separations { get; init; } = [];

    /// <summary>True when a second person agrees before an edition counts.</summary>
    public bool PublishingNeedsSecond { get; init; }

    /// <summary>True when a second person agrees before roles, links to persons, mail addresses or reach of a user change, or a
    /// user is made.</summary>
    public bool UsersNeedSecond { get; init; }

    /// <summary>Attributes that are not for everybody, with who may see each: <see cref="Visibility.Words"/> and
    /// <c>role:NAME</c>.</summary>
    public IReadOnlyDictionary<string, IReadOnlyList<string>> VisibleTo { get; init; } = Visibility.Default;

    /// <summary>When personal values are forgotten; null means never by rule.</summary>
    public RetentionRule? Retention { get; init; }

    /// <summary>How the roll-out of an edition is held back.</summary>
    public RollOutRule RollOuts { get; init; } = RollOutRule.Default;

    private IReadOnlyDictionary<string, IReadOnlySet<string>>? _privateInAccounts;

    /// <inheritdoc cref="Visibility.InAccounts"/>
    public IReadOnlyDictionary<string, IReadOnlySet<string>> PrivateInAccounts => _privateInAccounts ??= Visibility.InAccounts(this);

    /// <summary>Mail domains of the organisation; an address elsewhere is a private one. Empty when none are declared.</summary>
    public IReadOnlyList<string> MailDomains { get; init; } = [];

    /// <summary>Attributes plus <c>account.name</c>, <c>account.former</c>, <c>pool.NAME</c>, <c>names.TARGET</c> and
    /// <c>ids.TARGET</c>: what an account's attributes may use.</summary>
    public NameSchema AccountNames { get; init; } = new([]);

    /// <summary>Attributes plus <c>request.kind</c> and its like: what conditions of workflows may use.</summary>
    public NameSchema RequestNames { get; init; } = new([]);

    /// <summary>Employee number of the head of each department.</summary>
    public IReadOnlyDictionary<string, string> Departments { get; init; } = new Dictionary<string, string>();

    /// <summary>Groups of approvers, by employee number.</summary>
    public IReadOnlyDictionary<string, IReadOnlyList<string>> Groups { get; init; } = new Dictionary<string, IReadOnlyList<string>>();

    /// <summary>Texts of notices that replace the built-in ones, by event.</summary>
    public IReadOnlyDictionary<string, NoticeText> Notices { get; init; } = new Dictionary<string, NoticeText>();

    /// <summary>Role → the address that hears of failures in the place of each of its users.</summary>
    public IReadOnlyDictionary<string, string> Mailboxes { get; init; } = new Dictionary<string, string>();

    /// <summary>The working hours of a site, by the clock there.</summary>
    public WorkingHours HoursOf(string site) =>
        Sites.TryGetValue(site, out var found) ? found.Hours ?? WorkingHours.Always(found.Zone) : WorkingHours.Always(TimeZoneInfo.Utc);

    /// <summary>What people read in the place of the name of an attribute of people.</summary>
    public IReadOnlyDictionary<string, string> Titles { get; init; } = BuiltIn.Titles;

    /// <summary>What people read of an attribute of people; its name when nothing else is said.</summary>
    public string TitleOf(string attribute) => Titles.GetValueOrDefault(attribute) ?? attribute;

    /// <summary>What people read of an account: the title of its target, and the slot when it is not the ordinary one.</summary>
    public string TitleOf(AccountKey account) => account.Titled(Targets.GetValueOrDefault(account.Target)?.Title ?? account.Target);

    /// <summary>Every account that somebody may have, by target in their order, the ordinary one first.</summary>
    public IEnumerable<(TargetRule Target, AccountKey Account)> Accounts =>
        Targets.Values.Where(t => t.HasAccounts).SelectMany(t => AccountsIn(t.Name).Select(a => (t, a)));

    /// <summary>The accounts that templates make or describe in a target, the ordinary one first; it alone when none does.</summary>
    public IReadOnlyList<AccountKey> AccountsIn(string target) =>
        [.. Templates.SelectMany(t => t.Accounts).Where(a => a.Target == target).Select(a => a.Key).Append(new(target)).Distinct().Order()];

    /// <summary>What whoever holds an entitlement holds beside it, since it is mirrored there.</summary>
    public IEnumerable<EntitlementKey> MirrorsOf(EntitlementKey key) =>
        from target in Targets.Values
        from entitlement in target.Entitlements.Values
        where entitlement.Mirrors == key
        select new EntitlementKey(target.Name, entitlement.Name);

    /// <summary>An entitlement by its key; null when the rulebook has it not.</summary>
    public Entitlement? Find(EntitlementKey key) => Targets.GetValueOrDefault(key.Target)?.Entitlements.GetValueOrDefault(key.Name);

    /// <summary>
    /// These rules in the world as another edition knows it: who has what stays, but how a target is reached, what an
    /// entitlement is there, and which numbers a pool has left are not a matter of the edition somebody is on.
    /// </summary>
    public Rulebook In(Rulebook newest) =>
        this with
        {
            Targets = Targets.Values.Select(t => newest.Targets.GetValueOrDefault(t.Name) is { } n ? t.In(n) : t).ToDictionary(t => t.Name),
            Pools = Pools.Values.Select(p => newest.Pools.GetValueOrDefault(p.Name) ?? p).ToDictionary(p => p.Name),
            _privateInAccounts = null,
        };

    /// <summary>The time zone of a site; UTC for one that is not known.</summary>
    public TimeZoneInfo ZoneOf(string site) => Sites.TryGetValue(site, out var found) ? found.Zone : TimeZoneInfo.Utc;

    /// <summary>The names that expressions about accounts may use: attributes, numbers of pools, and names and ids in other
    /// targets.</summary>
    public static NameSchema AccountSchema(NameSchema attributes, IEnumerable<string> pools, IReadOnlyCollection<string> targets) =>
        new(
            attributes
                .Slots.Select(s => KeyValuePair.Create(s.Name, s.Slot.Type))
                .Append(new("account.name", ExpressionType.String))
                .Append(new("account.former", ExpressionType.ListOf(ExpressionType.String)))
                .Concat(pools.Select(pool => KeyValuePair.Create($"pool.{pool}", ExpressionType.String)))
                .Concat(targets.Select(target => KeyValuePair.Create($"names.{target}", ExpressionType.String)))
                .Concat(targets.Select(target => KeyValuePair.Create(AccountIds.NameOf(target), ExpressionType.String)))
        );
}

/// <summary>A published rulebook: numbered, immutable.</summary>
public sealed record Edition(int Number, string Digest, Rulebook Rulebook)
{
    /// <summary>The edition that says how the world is reached: the newest, also for people who are on an earlier one.</summary>
    public int ReachedBy { get; init; } = Number;
}

/// <summary>A place where people work, with the clock that counts there.</summary>
public sealed record Site(string Name, string Title, TimeZoneInfo Zone)
{
    /// <summary>Employee number of who leads the site, or "".</summary>
    public string Lead { get; init; } = "";

    /// <summary>When people work there; null means always.</summary>
    public WorkingHours? Hours { get; init; }
}

/// <summary>The text of a notice: subject and body with names in double braces.</summary>
public sealed record NoticeText(string Event, string Subject, string Body, Place Place);

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
    string Name,
    string Title,
    string Path,
    char Delimiter,
    string Encoding,
    NameSchema Columns,
    IReadOnlyList<string> ColumnNames,
    int KeyColumn,
    IReadOnlyList<MappedAttribute> Mapping,
    Place Place
)
{
    /// <summary>How its rows are fetched or come in.</summary>
    public SourceKind Kind { get; init; }

    /// <summary>Where each column stands in a JSON record: a path with dots, by the index of the column.</summary>
    public IReadOnlyList<string> Paths { get; init; } = ColumnNames;

    /// <summary>False when <see cref="Path"/> is a folder pattern such as <c>exports/*.csv</c>.</summary>
    public bool IsFolder => Path.Contains('*', StringComparison.Ordinal);

    /// <summary>False when each delivery holds only what changed; then nothing can vanish.</summary>
    public bool IsFull { get; init; } = true;

    /// <summary>Records for which it does not hold are counted as outside and not taken.</summary>
    public Expression? Scope { get; init; }

    /// <summary>How it is asked over HTTP; null for other kinds.</summary>
    public HttpRule? Http { get; init; }

    /// <summary>Above how many leavers and the like a run is held; null: none is.</summary>
    public BrakeRule? Brake { get; init; }

    /// <summary>What becomes of a record that a full delivery holds no more.</summary>
    public VanishedPolicy Vanished { get; init; }

    /// <summary>When it is fetched by itself; null means only when somebody asks.</summary>
    public Schedule? Schedule { get; init; }

    /// <summary>Fields written back to the source, by name, from the names and attributes of accounts.</summary>
    public IReadOnlyList<MappedAttribute> WriteBack { get; init; } = [];

    /// <summary>Mailbox that hears of failed and held runs and of what a run leaves for people, or "".</summary>
    public string ReportsTo { get; init; } = "";

    /// <summary>Which days are taken; a record with others is set aside.</summary>
    public PlausibleRule Plausible { get; init; } = new(80, 2, 60);
}

/// <summary>Years from today within which first and last days are plausible.</summary>
/// <param name="OldestStart">How far back a first day may lie.</param>
/// <param name="FurthestStart">How far ahead a first day may lie.</param>
/// <param name="FurthestEnd">How far ahead a last day may lie.</param>
public sealed record PlausibleRule(int OldestStart, int FurthestStart, int FurthestEnd);

/// <summary>How an HTTP source is asked.</summary>
/// <param name="Items">The member that holds the records of a page.</param>
/// <param name="Next">The member that holds the address or cursor of the next page.</param>
/// <param name="Since">The query parameter that asks for changes since an instant, or "".</param>
/// <param name="CallsPerSecond">The most calls in one second.</param>
public sealed record HttpRule(
    Uri Address,
    string Authority,
    string Header,
    string Secret,
    string Items,
    string Next,
    int PageSize,
    string Since,
    int CallsPerSecond
);

/// <summary>How much one run may change before a human agrees; null means no limit. Percent is of the known records.</summary>
public sealed record BrakeRule(Limit? Joiners, Limit? Movers, Limit? Leavers, string Passes, Place Place);

/// <summary>A count, a share of the known people in percent, or both; whichever is reached first counts.</summary>
public sealed record Limit(int? Count, int? Percent)
{
    /// <summary>True when more happened than the count, or than the share of what is known in percent, allows.</summary>
    public bool IsOver(int happened, int known) => happened > Count || (Percent is { } percent && happened * 100L > (long)percent * known);

    public override string ToString() =>
        string.Join(
            " or ",
            new[]
            {
                Count?.ToString(System.Globalization.CultureInfo.InvariantCulture),
                Percent is { } p ? $"{p} %" : null,
            }.OfType<string>()
        );
}

/// <summary>An attribute and the expression over a row that yields it.</summary>
public sealed record MappedAttribute(string Name, Expression Expression, Place Place);

/// <summary>For whom it applies, the accounts it creates and the grants it gives.</summary>
public sealed record RoleTemplate(
    string Name,
    string Title,
    int Priority,
    Expression? When,
    IReadOnlyList<AccountRule> Accounts,
    IReadOnlyList<GrantRule> Grants,
    Place Place
)
{
    /// <summary>Pools of which each person gets a number.</summary>
    public IReadOnlyList<string> Numbers { get; init; } = [];

    /// <summary>Attributes that HR leaves open and a requester is asked for.</summary>
    public IReadOnlyList<string> Asks { get; init; } = [];

    /// <summary>Where its condition stands.</summary>
    public Place WhenPlace { get; init; }

    /// <summary>True when it applies only to those for whom it was asked for and approved.</summary>
    public bool IsOnRequest { get; init; }
}

/// <summary>The account a template makes in a target. <paramref name="Lead"/>: how long before the start it exists, asleep.</summary>
public sealed record AccountRule(
    AccountKey Key,
    IReadOnlyList<Expression> Names,
    TimeSpan Lead,
    IReadOnlyList<AttributeRule> Attributes,
    Place Place
)
{
    /// <summary>The target it is in.</summary>
    public string Target => Key.Target;

    /// <summary>Where below the container of the target it stands, in the target's own words; null for that container itself.</summary>
    public Expression? Container { get; init; }

    /// <summary>True when the account is renamed once the person's names lead to another; else it keeps the name it got.</summary>
    public bool FollowsName { get; init; }

    /// <summary>First day on which it is awake; null means the first day of the employment.</summary>
    public Expression? EnabledFrom { get; init; }

    /// <summary>Last day on which it is awake; null means the last day of the employment.</summary>
    public Expression? EnabledUntil { get; init; }
}

/// <summary>An attribute of an account and the expression that yields it.</summary>
public sealed record AttributeRule(string Name, Expression Expression, Place Place);

/// <summary>An entitlement a template gives, under a condition of its own if it has one.</summary>
public sealed record GrantRule(EntitlementKey Key, Expression? When, Place Place)
{
    /// <summary>The target it is in.</summary>
    public string Target => Key.Target;

    /// <summary>The name of the entitlement in it.</summary>
    public string Entitlement => Key.Name;

    /// <summary>First day on which it is held; null means as long as the employment has begun.</summary>
    public Expression? From { get; init; }

    /// <summary>Last day on which it is held; null means until the employment ends.</summary>
    public Expression? Until { get; init; }

    /// <summary>How long it is kept after the rules stopped giving it: the hand-over of a mover.</summary>
    public TimeSpan HandOver { get; init; }
}

/// <summary>Numbers to give out, by site; a person has at most one of each pool, and keeps it.</summary>
public sealed record NumberPool(
    string Name,
    string Title,
    string Prefix,
    IReadOnlyDictionary<string, IReadOnlyList<NumberRange>> Ranges,
    Place Place
)
{
    /// <summary>The name of the range for sites that have none of their own.</summary>
    public const string Anywhere = "anywhere";

    /// <summary>The ranges of a site, else those for anywhere; none when it has neither.</summary>
    public IReadOnlyList<NumberRange> For(string site) =>
        Ranges.TryGetValue(site, out var own) ? own : Ranges.GetValueOrDefault(Anywhere) ?? [];
}

/// <summary>From first to last, both included.</summary>
public readonly record struct NumberRange(long First, long Last);

/// <summary>What happens when somebody would hold both sides of a separation.</summary>
public enum SeparationEffect
{
    Block,
    Decide,
}

/// <summary>Entitlements that nobody holds from both sides of.</summary>
public sealed record Separation(
    string Name,
    string Title,
    IReadOnlyList<EntitlementKey> One,
    IReadOnlyList<EntitlementKey> Other,
    SeparationEffect Effect,
    string Decides,
    Place Place
)
{
    /// <summary>Who may allow it, read once; null when it is forbidden to all.</summary>
    public Approver? Approver { get; init; }
}

/// <summary>The approval path of requests.</summary>
public sealed record Workflow(
    string Name,
    string Title,
    IReadOnlyList<string> For,
    IReadOnlyList<Stage> Stages,
    bool ReleasedByOperator,
    Place Place
)
{
    /// <summary>The source of what people raise themselves.</summary>
    public const string ByHand = "hand";

    /// <summary>The way of what is over because its written end has come: nobody decides, and nobody releases.</summary>
    public static readonly Workflow WrittenEnd = new("written-end", "Written end", ["leaver"], [], false, new("", 0, 0));

    /// <summary>The way of what was decided with a roll-out: nobody decides once more, and nobody releases.</summary>
    public static readonly Workflow RolledOut = new("rolled-out", "Roll-out", ["change"], [], false, new("", 0, 0));

    /// <summary>The way of what its holder, their manager or its owner ends: nobody else decides, and nobody releases.</summary>
    public static readonly Workflow GivenBack = new("given-back", "Given back", ["end"], [], false, new("", 0, 0));

    /// <summary>The way of what undoes a joiner that was taken back while it ran: who may stop it may undo it, too.</summary>
    public static readonly Workflow Undone = new("undone", "Undone", ["leaver"], [], false, new("", 0, 0));

    /// <summary>The way of what sets right what was changed outside: it was decided before, and an operator releases it.</summary>
    public static readonly Workflow Restored = new("restored", "Set right", ["change"], [], true, new("", 0, 0));

    /// <summary>The same where the target's rule lets it run at once.</summary>
    public static readonly Workflow Mended = Restored with { Name = "mended", ReleasedByOperator = false };

    /// <summary>True for the ways of what sets right what was changed outside.</summary>
    public bool IsRestoring => Name == Restored.Name || Name == Mended.Name;

    /// <summary>The ways that no rulebook writes, by name.</summary>
    public static Workflow? BuiltIn(string name) =>
        name == WrittenEnd.Name ? WrittenEnd
        : name == Restored.Name ? Restored
        : name == Mended.Name ? Mended
        : name == GivenBack.Name ? GivenBack
        : name == Undone.Name ? Undone
        : name == RolledOut.Name ? RolledOut
        : null;

    /// <summary>The sources it is for, or <see cref="ByHand"/>; empty means all.</summary>
    public IReadOnlyList<string> Sources { get; init; } = [];

    /// <summary>A condition over the person and the request; null means always.</summary>
    public Expression? When { get; init; }

    /// <summary>Among workflows that fit, the highest counts.</summary>
    public int Priority { get; init; }

    /// <summary>Who releases: a role, or a group of people.</summary>
    public Approver ReleasedBy { get; init; } = new("role", "operator", null);

    /// <summary>True when whoever approved may not also release.</summary>
    public bool FourEyes { get; init; }
}

/// <summary>Somebody who decides, by what they are to the request. <paramref name="Relation"/> is <c>manager</c>,
/// <c>manager-of-manager</c>, <c>department-head</c>, <c>owner</c>, <c>target-owner</c>, <c>site-lead</c>, <c>group</c>,
/// <c>role</c>, <c>person</c> or <c>expression</c>.</summary>
public sealed record Approver(string Relation, string Argument, Expression? Expression)
{
    public override string ToString() =>
        Expression is not null ? $"expression: {Expression.Text}"
        : Argument.Length > 0 ? $"{Relation}:{Argument}"
        : Relation;
}

/// <summary>What makes a stage unnecessary.</summary>
public enum SkipRule
{
    RequesterIsManager,
    RequesterIsAboveApprover,
    RequesterIsOwner,
    NothingPrivileged,
}

/// <summary>What happens when nobody decided in time, after all escalation.</summary>
public enum SilenceRule
{
    Wait,
    Decline,
    Approve,
}

/// <summary>One decision on the way: who decides, how many, until when.</summary>
public sealed record Stage(string Name, string Title, IReadOnlyList<Approver> Decides, IReadOnlyList<Approver> Otherwise, Place Place)
{
    /// <summary>A quorum of everybody.</summary>
    public const int All = 0;

    /// <summary>Only for whom this holds; null: for all.</summary>
    public Expression? When { get; init; }

    /// <summary>How many must approve, or <see cref="All"/>.</summary>
    public int Quorum { get; init; } = 1;

    /// <summary>True when each item has deciders of its own.</summary>
    public bool PerItem { get; init; }

    /// <summary>True when items may be declined while the rest goes on.</summary>
    public bool InPart { get; init; }

    /// <summary>When it is not asked, and why.</summary>
    public IReadOnlyList<SkipRule> Skips { get; init; } = [];

    /// <summary>Working time at the person's site until it is late, or null.</summary>
    public TimeSpan? Deadline { get; init; }

    /// <summary>Working time between reminders, or null.</summary>
    public TimeSpan? Remind { get; init; }

    /// <summary>Who decides too once it is late.</summary>
    public IReadOnlyList<Approver> Escalates { get; init; } = [];

    /// <summary>What happens when it is late and nobody decided.</summary>
    public SilenceRule OnSilence { get; init; }

    /// <summary>What an approver may change: attributes, <c>until</c> of grants, <c>templates</c>.</summary>
    public IReadOnlyList<string> MayChange { get; init; } = [];
}
