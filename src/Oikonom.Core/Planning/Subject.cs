using Oikonom.Core.People;
using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Planning;

/// <summary>A grant that was approved beside the templates; it holds from an instant until an instant, or open.</summary>
public sealed record ExtraGrant(EntitlementKey Key, DateTimeOffset From, DateTimeOffset? Until, Reason Reason);

/// <summary>A template on request that was approved for a person, from an instant until an instant, or open.</summary>
public sealed record AskedTemplate(string Template, DateTimeOffset From, DateTimeOffset? Until)
{
    /// <summary>True at an instant of its term; the end is not in it.</summary>
    public bool Covers(DateTimeOffset at) => From <= at && (Until is not { } until || at < until);
}

/// <summary>
/// An attribute of one employment that was approved by hand, beside what HR says: it holds from an instant until an
/// instant, or open.
/// </summary>
/// <param name="Employment">The number of the employment.</param>
/// <param name="Text">The value as text; "" takes it away.</param>
public sealed record FieldInput(string Employment, string Name, string Text, DateTimeOffset From, DateTimeOffset? Until)
{
    /// <summary>True at an instant of its term; the end is not in it.</summary>
    public bool Covers(DateTimeOffset at) => From <= at && (Until is not { } until || at < until);
}

/// <summary>
/// An end that was approved by hand and holds whatever else HR corrects: the employment is over from an instant on.
/// It holds for the employment as it was known then; one that begins later than that, and after the end, is new.
/// </summary>
/// <param name="Employment">The number of the employment.</param>
/// <param name="Start">Its first day as it was known then.</param>
public sealed record Ending(string Employment, DateOnly Start, DateTimeOffset At);

/// <summary>A rulebook meets a person it cannot serve; the message says what to mend.</summary>
public sealed class PlanFault(string message) : Exception(message);

/// <summary>A person as the function of time sees them: what HR says of the leading employment, and the account names that are
/// theirs.</summary>
public sealed record Subject(PersonId Id, Facts Facts, IReadOnlyDictionary<AccountKey, string> AccountNames)
{
    private static readonly Dictionary<string, string> None = [];
    private static readonly Dictionary<AccountKey, string> NoNames = [];
    private static readonly Dictionary<AccountKey, IReadOnlyList<string>> NoFormerNames = [];

    /// <summary>Employments beside the leading one.</summary>
    public IReadOnlyList<Facts> Others { get; init; } = [];

    /// <summary>The names that accounts of the person had before, the oldest first.</summary>
    public IReadOnlyDictionary<AccountKey, IReadOnlyList<string>> FormerNames { get; init; } = NoFormerNames;

    /// <summary>The immutable ids of the accounts that are there; what is yet to be made has none.</summary>
    public IReadOnlyDictionary<AccountKey, string> AccountIds { get; init; } = NoNames;

    /// <summary>Numbers the person has, by pool, with the pool's prefix.</summary>
    public IReadOnlyDictionary<string, string> Numbers { get; init; } = None;

    /// <summary>Grants that were approved beside the templates.</summary>
    public IReadOnlyList<ExtraGrant> Extra { get; init; } = [];

    /// <summary>Templates on request that were approved for the person.</summary>
    public IReadOnlyList<AskedTemplate> Asked { get; init; } = [];

    /// <summary>What templates would give and an approver declined: an account, or account/entitlement.</summary>
    public IReadOnlyList<string> Refused { get; init; } = [];

    /// <summary>Attributes that were approved by hand, beside what HR says. The later of two wins.</summary>
    public IReadOnlyList<FieldInput> Fields { get; init; } = [];

    /// <summary>Ends that were approved by hand.</summary>
    public IReadOnlyList<Ending> Endings { get; init; } = [];

    /// <summary>The person with the name of an account that is yet to be made; what was thought of before was never worn.</summary>
    public Subject Named(AccountKey account, string name) =>
        this with
        {
            AccountNames = new Dictionary<AccountKey, string>(AccountNames) { [account] = name },
        };

    /// <summary>The person with an account that is there under another name; the one it had is kept among its former names.</summary>
    public Subject Renamed(AccountKey account, string name)
    {
        if (AccountNames.GetValueOrDefault(account) is var had && had == name)
            return this;
        if (had is null)
            return Named(account, name);
        var before = FormerNames.GetValueOrDefault(account) ?? [];
        return Named(account, name) with
        {
            FormerNames = new Dictionary<AccountKey, IReadOnlyList<string>>(FormerNames)
            {
                [account] = [.. before.Where(n => n != had), had],
            },
        };
    }

    /// <summary>The person as they are while no account of theirs is there: what rests on an id is known once it is made.</summary>
    public Subject WithoutIds() => this with { AccountIds = NoNames };

    /// <summary>The employments as HR says them, the leading one first.</summary>
    public IEnumerable<Facts> Employments => Others.Count == 0 ? [Facts] : [Facts, .. Others];
}

/// <summary>
/// The one function of the product: what a person's access should be, as windows over time. Pure; everything else is
/// a view of them.
/// </summary>
public static class Desired
{
    /// <inheritdoc cref="Asking.Windows"/>
    public static AccessWindows Windows(Subject person, Edition edition) => edition.Rulebook.Access.Ask().Windows(person);

    /// <inheritdoc cref="Asking.At"/>
    public static AccessState At(Subject person, Edition edition, DateTimeOffset at) => edition.Rulebook.Access.Ask().At(person, at);

    /// <inheritdoc cref="Asking.NameWishes"/>
    public static IReadOnlyList<string> NameWishes(Subject person, Edition edition, AccountKey account) =>
        edition.Rulebook.Access.Ask().NameWishes(person, account);
}
