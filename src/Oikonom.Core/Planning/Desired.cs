using Oikonom.Core.People;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;

namespace Oikonom.Core.Planning;

/// <summary>Why something is wanted: the template, where its line stands, and the condition that held.</summary>
public sealed record Reason(string Rule, string Place, string Condition);

/// <summary>An account as it should be, or as it is recorded, in one target. Attribute names compare without case.</summary>
public sealed record AccountState(
    string Target, string Name, string Container, IReadOnlyList<string> Classes,
    IReadOnlyDictionary<string, IReadOnlyList<string>> Attributes, bool Enabled, Reason Reason);

/// <summary>An entitlement held in a target.</summary>
public sealed record GrantState(string Target, string Entitlement, Reason Reason)
{
    public string Key => $"{Target}/{Entitlement}";
}

/// <summary>The accounts and grants of one person at one instant, by target and by target/entitlement.</summary>
public sealed record AccessState(
    IReadOnlyDictionary<string, AccountState> Accounts,
    IReadOnlyDictionary<string, GrantState> Grants)
{
    public static readonly AccessState Nothing = new(new Dictionary<string, AccountState>(), new Dictionary<string, GrantState>());
}

/// <summary>A grant that was approved beside the templates; it holds from an instant until an instant, or open.</summary>
public sealed record ExtraGrant(string Target, string Entitlement, DateTimeOffset From, DateTimeOffset? Until, Reason Reason);

/// <summary>A template on request that was approved for a person, from an instant until an instant, or open.</summary>
public sealed record AskedTemplate(string Template, DateTimeOffset From, DateTimeOffset? Until)
{
    public bool Covers(DateTimeOffset at) => From <= at && (Until is not { } until || at < until);
}

/// <summary>A rulebook meets a person it cannot serve; the message says what to mend.</summary>
public sealed class PlanFault(string message) : Exception(message);

/// <summary>A person as the function of time sees them: what HR says of the leading employment, and the account names that are theirs.</summary>
public sealed record Subject(PersonId Id, Facts Facts, IReadOnlyDictionary<string, string> AccountNames)
{
    private static readonly Dictionary<string, string> None = [];

    /// <summary>Employments beside the leading one.</summary>
    public IReadOnlyList<Facts> Others { get; init; } = [];

    /// <summary>Numbers the person has, by pool, with the pool's prefix.</summary>
    public IReadOnlyDictionary<string, string> Numbers { get; init; } = None;

    /// <summary>Grants that were approved beside the templates.</summary>
    public IReadOnlyList<ExtraGrant> Extra { get; init; } = [];

    /// <summary>Templates on request that were approved for the person.</summary>
    public IReadOnlyList<AskedTemplate> Asked { get; init; } = [];

    /// <summary>What templates would give and an approver declined: a target, or target/entitlement.</summary>
    public IReadOnlyList<string> Refused { get; init; } = [];

    public IEnumerable<Facts> Employments => Others.Count == 0 ? [Facts] : [Facts, .. Others];
}

/// <summary>
/// The one function of the product: what a person's access should be at an instant. Pure; everything else asks
/// it in another way.
/// </summary>
public static class Desired
{
    /// <inheritdoc cref="Asking.At"/>
    public static AccessState At(Subject person, Edition edition, DateTimeOffset at) => edition.Rulebook.Access.Ask().At(person, at);

    /// <inheritdoc cref="Asking.Turns"/>
    public static IReadOnlyList<DateTimeOffset> Turns(Subject person, Edition edition) => edition.Rulebook.Access.Ask().Turns(person);

    /// <inheritdoc cref="Asking.NameWishes"/>
    public static IReadOnlyList<string> NameWishes(Subject person, Edition edition, string target) => edition.Rulebook.Access.Ask().NameWishes(person, target);

    /// <summary>First instant of the first day and the instant after the last day of an employment, in the site's time zone.</summary>
    public static (DateTimeOffset Start, DateTimeOffset End) Term(Facts facts, Rulebook.Rulebook rulebook) => Term(facts, rulebook, rulebook.ZoneOf(facts.Site));

    internal static (DateTimeOffset Start, DateTimeOffset End) Term(Facts facts, Rulebook.Rulebook rulebook, TimeZoneInfo zone) =>
        (SiteDays.StartOf(facts.Start, zone), facts.End is { } last ? SiteDays.EndOf(last, zone) : DateTimeOffset.MaxValue);

    /// <summary>From the first start to the last end over all employments.</summary>
    public static (DateTimeOffset Start, DateTimeOffset End) Term(Subject person, Rulebook.Rulebook rulebook)
    {
        var (start, end) = Term(person.Facts, rulebook);
        foreach (var other in person.Others)
        {
            var (from, until) = Term(other, rulebook);
            if (from < start) start = from;
            if (until > end) end = until;
        }
        return (start, end);
    }

    internal static DateTimeOffset Before(DateTimeOffset start, TimeSpan lead) =>
        start - DateTimeOffset.MinValue > lead ? start - lead : DateTimeOffset.MinValue;
}
