using System.Text.Json;
using System.Text.Json.Serialization;
using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Planning;

/// <summary>What a change does; each has a record of its own in <see cref="Change"/>.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<ChangeKind>))]
public enum ChangeKind
{
    [JsonStringEnumMemberName("create-account")]
    CreateAccount,

    [JsonStringEnumMemberName("adopt-account")]
    AdoptAccount,

    [JsonStringEnumMemberName("change-account")]
    ChangeAccount,

    [JsonStringEnumMemberName("set-password")]
    SetPassword,

    [JsonStringEnumMemberName("enable-account")]
    EnableAccount,

    [JsonStringEnumMemberName("disable-account")]
    DisableAccount,

    [JsonStringEnumMemberName("grant")]
    Grant,

    [JsonStringEnumMemberName("revoke")]
    Revoke,

    [JsonStringEnumMemberName("verify")]
    Verify,
}

/// <summary>One attribute, before and after; empty lists mean absent.</summary>
public sealed record AttributeChange(string Name, IReadOnlyList<string> Before, IReadOnlyList<string> After)
{
    /// <summary>No attribute changes.</summary>
    public static readonly IReadOnlyList<AttributeChange> None = [];
}

/// <summary>The account a change is about, as it is to be when the change has run.</summary>
/// <param name="Container">Where it stands, in the target's own words; "" where there is no such thing.</param>
/// <param name="Enabled">True when it may be used.</param>
/// <param name="ImmutableId">Null before it was made. With an account that is to be made it is the one that was deleted and is
/// brought back as itself.</param>
public sealed record Entry(string Name, string Container, bool Enabled, string? ImmutableId)
{
    /// <summary>Work at a desk is about no account.</summary>
    public static readonly Entry None = new("", "", true, null);

    internal static Entry Of(AccountState account, string? immutableId) =>
        new(account.Name, account.Container, account.Enabled, immutableId);
}

/// <summary>
/// One change of a plan: closed, one record per kind. <see cref="Due"/> null means at once. <see cref="Later"/> marks
/// what lies beyond the completion of the request, such as the end of a fixed term.
/// </summary>
[JsonConverter(typeof(ChangeJson))]
public abstract record Change
{
    private Change(AccountKey account, Entry entry, Reason reason) => (Account, Entry, Reason) = (account, entry, reason);

    /// <summary>Its place in the plan, from 1 on.</summary>
    public int Ordinal { get; init; }

    /// <summary>The account it is about; where a target has none, the target alone.</summary>
    public AccountKey Account { get; }

    /// <summary>The target it is in.</summary>
    public string Target => Account.Target;

    /// <summary>When it is to be done; null: as soon as the request is carried out.</summary>
    public DateTimeOffset? Due { get; init; }

    /// <summary>True when the request is complete without it: it was approved now and comes later.</summary>
    public bool Later { get; init; }

    /// <summary>The account it is done to, as it will be.</summary>
    public Entry Entry { get; }

    /// <summary>The rule or the request behind it.</summary>
    public Reason Reason { get; init; }

    /// <summary>Which of the closed set it is.</summary>
    public abstract ChangeKind Kind { get; }

    /// <summary>The name of the account, or of the entitlement that is given or taken back.</summary>
    public virtual string Subject => Entry.Name;

    /// <summary>What it changes in the entry.</summary>
    public virtual IReadOnlyList<AttributeChange> Attributes => AttributeChange.None;

    /// <summary>The same change with the values that an account is to have by now.</summary>
    public Change With(AccountState account)
    {
        List<AttributeChange> attributes =
        [
            .. Attributes.Select(a => a with { After = account.Attributes.GetValueOrDefault(a.Name) ?? [] }),
        ];
        return this switch
        {
            CreateAccount create => create with { Given = attributes },
            AdoptAccount adopt => adopt with { Mended = attributes },
            ChangeAccount change => change with { Changed = attributes },
            _ => this,
        };
    }

    /// <summary>The entitlement it gives or takes back, or null.</summary>
    public virtual EntitlementKey? Entitlement => null;

    /// <summary>True when it takes access away; such changes wait for nothing else of the same person.</summary>
    public bool TakesAway => this is DisableAccount or Revoke;

    /// <summary>The account, or account/entitlement, it is about.</summary>
    public string Key => Entitlement is { } key ? key.ToString() : Account.ToString();

    /// <summary>A new account, awake or asleep as its entry says.</summary>
    public sealed record CreateAccount(AccountKey Account, Entry Entry, IReadOnlyList<AttributeChange> Given, Reason Reason)
        : Change(Account, Entry, Reason)
    {
        public override ChangeKind Kind => ChangeKind.CreateAccount;
        public override IReadOnlyList<AttributeChange> Attributes => Given;

        /// <summary>True when it was deleted in its target, and is brought back as itself.</summary>
        public bool IsBroughtBack => Entry.ImmutableId is not null;
    }

    /// <summary>Takes over an entry that was there before.</summary>
    public sealed record AdoptAccount(AccountKey Account, Entry Entry, IReadOnlyList<AttributeChange> Mended, Reason Reason)
        : Change(Account, Entry, Reason)
    {
        public override ChangeKind Kind => ChangeKind.AdoptAccount;
        public override IReadOnlyList<AttributeChange> Attributes => Mended;
    }

    /// <summary>Attributes or the container of an account that is recorded.</summary>
    public sealed record ChangeAccount(AccountKey Account, Entry Entry, IReadOnlyList<AttributeChange> Changed, Reason Reason)
        : Change(Account, Entry, Reason)
    {
        public override ChangeKind Kind => ChangeKind.ChangeAccount;
        public override IReadOnlyList<AttributeChange> Attributes => Changed;
    }

    /// <summary>A password nobody knows.</summary>
    public sealed record SetPassword(AccountKey Account, Entry Entry, Reason Reason) : Change(Account, Entry, Reason)
    {
        public override ChangeKind Kind => ChangeKind.SetPassword;
    }

    /// <summary>The account may be used from then on.</summary>
    public sealed record EnableAccount(AccountKey Account, Entry Entry, Reason Reason) : Change(Account, Entry, Reason)
    {
        public override ChangeKind Kind => ChangeKind.EnableAccount;
    }

    /// <summary>The account may not be used from then on; what it holds stays.</summary>
    public sealed record DisableAccount(AccountKey Account, Entry Entry, Reason Reason) : Change(Account, Entry, Reason)
    {
        public override ChangeKind Kind => ChangeKind.DisableAccount;
    }

    /// <summary>The account gets an entitlement.</summary>
    public sealed record Grant(EntitlementKey Given, Entry Entry, Reason Reason) : Change(Given.Account, Entry, Reason)
    {
        public override ChangeKind Kind => ChangeKind.Grant;
        public override string Subject => Given.Name;
        public override EntitlementKey? Entitlement => Given;
    }

    /// <summary>The account loses an entitlement.</summary>
    public sealed record Revoke(EntitlementKey Taken, Entry Entry, Reason Reason) : Change(Taken.Account, Entry, Reason)
    {
        public override ChangeKind Kind => ChangeKind.Revoke;
        public override string Subject => Taken.Name;
        public override EntitlementKey? Entitlement => Taken;
    }

    /// <summary>Reads the account back and compares.</summary>
    public sealed record Verify(AccountKey Account, Entry Entry, Reason Reason) : Change(Account, Entry, Reason)
    {
        public override ChangeKind Kind => ChangeKind.Verify;
    }
}

/// <summary>Changes as they are kept: one flat object for all kinds, told apart by <c>kind</c>. What it does not know is refused.</summary>
internal sealed class ChangeJson : JsonConverter<Change>
{
    private sealed record Flat(
        int Ordinal,
        ChangeKind Kind,
        string Target,
        string Subject,
        DateTimeOffset? Due,
        bool Later,
        string Account,
        string Container,
        IReadOnlyList<AttributeChange>? Attributes,
        bool Enabled,
        string? ImmutableId,
        Reason Reason
    )
    {
        /// <summary>Null for the ordinary account, as it was before there were others.</summary>
        [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
        public string? Slot { get; init; }
    }

    public override Change Read(ref Utf8JsonReader reader, Type typeToConvert, JsonSerializerOptions options)
    {
        var flat = JsonSerializer.Deserialize<Flat>(ref reader, options) ?? throw new JsonException("A change is missing.");
        var entry = new Entry(flat.Account, flat.Container, flat.Enabled, flat.ImmutableId);
        var (account, attributes, reason) = (
            new AccountKey(flat.Target, flat.Slot ?? ""),
            flat.Attributes ?? AttributeChange.None,
            flat.Reason
        );
#pragma warning disable CS8524 // What is no kind was refused when it was read; a kind that is missing here does not compile (CS8509).
        Change change = flat.Kind switch
        {
            ChangeKind.CreateAccount => new Change.CreateAccount(account, entry, attributes, reason),
            ChangeKind.AdoptAccount => new Change.AdoptAccount(account, entry, attributes, reason),
            ChangeKind.ChangeAccount => new Change.ChangeAccount(account, entry, attributes, reason),
            ChangeKind.SetPassword => new Change.SetPassword(account, entry, reason),
            ChangeKind.EnableAccount => new Change.EnableAccount(account, entry, reason),
            ChangeKind.DisableAccount => new Change.DisableAccount(account, entry, reason),
            ChangeKind.Grant => new Change.Grant(new(account, flat.Subject), entry, reason),
            ChangeKind.Revoke => new Change.Revoke(new(account, flat.Subject), entry, reason),
            ChangeKind.Verify => new Change.Verify(account, entry, reason),
        };
#pragma warning restore CS8524
        return change with { Ordinal = flat.Ordinal, Due = flat.Due, Later = flat.Later };
    }

    public override void Write(Utf8JsonWriter writer, Change value, JsonSerializerOptions options) =>
        JsonSerializer.Serialize(
            writer,
            new Flat(
                value.Ordinal,
                value.Kind,
                value.Target,
                value.Subject,
                value.Due,
                value.Later,
                value.Entry.Name,
                value.Entry.Container,
                value.Attributes,
                value.Entry.Enabled,
                value.Entry.ImmutableId,
                value.Reason
            )
            {
                Slot = value.Account.IsOrdinary ? null : value.Account.Slot,
            },
            options
        );
}
