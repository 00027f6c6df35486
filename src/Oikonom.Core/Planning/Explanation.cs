using System.Text.RegularExpressions;
using Oikonom.Core.Expressions;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;

namespace Oikonom.Core.Planning;

/// <summary>One condition with the values it saw, and whether it held.</summary>
public sealed record ConditionLook(string Text, bool Holds, IReadOnlyList<KeyValuePair<string, string>> Values);

/// <summary>One rule that could give something: where it stands, and its conditions in order.</summary>
public sealed record RuleLook(string Template, string Place, string Employment, bool Applies, IReadOnlyList<ConditionLook> Conditions);

/// <summary>Why a person has something, or why not.</summary>
/// <param name="Key">The account, or account/entitlement.</param>
public sealed record Explanation(string Key, bool Wanted, string Summary, IReadOnlyList<RuleLook> Rules);

/// <summary>Answers "why does she have this, and why does he not?" from the rules alone.</summary>
public static class Explain
{
    /// <summary>Why somebody has, or has not, an entitlement at an instant.</summary>
    public static Explanation Grant(Subject person, Edition edition, EntitlementKey key, DateTimeOffset at)
    {
        var rulebook = edition.Rulebook;
        var windows = Desired.Windows(person, edition);
        var state = windows.At(at);
        var account = state.Accounts.ContainsKey(key.Account);
        var isDesk = rulebook.Targets.GetValueOrDefault(key.Target) is { HasAccounts: false };
        var rules = new List<RuleLook>();
        // What mirrors something is given by what gives that.
        var source = rulebook.Find(key)?.Mirrors;
        foreach (var employment in Employments.InOrder(person, rulebook, at))
        {
            var scope = ScopeOf(employment, rulebook);
            foreach (var template in rulebook.Templates)
            foreach (var grant in template.Grants.Where(g => g.Key == key || g.Key == source))
                rules.Add(
                    Rule(
                        template,
                        grant.Place,
                        employment,
                        [
                            .. Asked(template, person, at),
                            .. Parts(template.When, scope),
                            .. Parts(grant.When, scope),
                            .. TermLooks(employment, person, rulebook, at, isEarly: isDesk && grant.From is not null),
                            .. DaysOf(grant, employment, scope, rulebook, at),
                            .. InAccount(),
                            .. Declined(person, key.ToString(), key.Account.ToString()),
                        ]
                    )
                );
        }
        var wanted = state.Grants.GetValueOrDefault(key);
        rules.AddRange(
            person
                .Extra.Where(g => g.Key == key || g.Key == source)
                .Select(g =>
                    Given(
                        g,
                        wanted is not null,
                        [.. Lasting(person, rulebook, at), .. InAccount(), .. Declined(person, key.ToString(), key.Account.ToString())],
                        at
                    )
                )
        );
        if (rulebook.Access.LeastRoles.GetValueOrDefault(key.Target) is { } least && least.Role.Name == key.Name)
            rules.Add(LeastRole(least, state, key, Declined(person, key.ToString(), key.Account.ToString())));
        var zone = rulebook.ZoneOf(person.Facts.Site);
        return new(
            key.ToString(),
            wanted is not null,
            wanted is not null
                ? $"{wanted.Reason.Rule} gives it ({wanted.Reason.Place}): {wanted.Reason.Condition}."
                    + EndOf(windows.HeldUntil(key, at), zone)
                : WhyNot(rules, $"No template gives {key}; it can only be requested.")
                    + Comes(windows.Grants.GetValueOrDefault(key), at, zone),
            rules
        );

        // A desk holds no accounts.
        ConditionLook[] InAccount() => isDesk ? [] : [new($"an account in {key.Account}", account, [])];
    }

    /// <summary>A look at what everybody has whose account may be used, and who has no more.</summary>
    private static RuleLook LeastRole(
        AccessFunction.LeastRole least,
        AccessState state,
        EntitlementKey key,
        IEnumerable<ConditionLook> more
    )
    {
        var others = state
            .Grants.Keys.Where(k => k.Account == key.Account && least.Others.Contains(k.Name))
            .Select(k => KeyValuePair.Create("role", k.Name))
            .ToList();
        List<ConditionLook> conditions =
        [
            new($"the account in {key.Account} may be used", state.Accounts.GetValueOrDefault(key.Account) is { Enabled: true }, []),
            new($"no other role of {least.Title} is given", others.Count == 0, others),
            .. more,
        ];
        var place = least.Role.Place;
        return new(Reason.LeastRole, $"{place.File}:{place.Line}", "", conditions.All(c => c.Holds), conditions);
    }

    /// <summary>A look at something that was asked for and given.</summary>
    private static RuleLook Given(ExtraGrant given, bool isHeld, IEnumerable<ConditionLook> more, DateTimeOffset at)
    {
        var holds = given.From <= at && !(given.Until <= at);
        var term = $"granted from {given.From:yyyy-MM-dd}{(given.Until is { } until ? $" until {until:yyyy-MM-dd}" : "")}";
        return new(given.Reason.Rule, given.Reason.Place, "", holds && isHeld, [new(term, holds, []), .. more]);
    }

    /// <summary>Why somebody has, or has not, an account at an instant.</summary>
    public static Explanation Account(Subject person, Edition edition, AccountKey key, DateTimeOffset at)
    {
        var rulebook = edition.Rulebook;
        // A name is not needed to tell whether an account is wanted.
        var named = person.AccountNames.ContainsKey(key)
            ? person
            : person with
            {
                AccountNames = new Dictionary<AccountKey, string>(person.AccountNames) { [key] = "-" },
            };
        var windows = Desired.Windows(named, edition);
        var state = windows.At(at);
        var rules = new List<RuleLook>();
        foreach (var employment in Employments.InOrder(person, rulebook, at))
        {
            var scope = ScopeOf(employment, rulebook);
            var term = Term.Of(employment, rulebook);
            foreach (var template in rulebook.Templates)
            {
                foreach (var account in template.Accounts.Where(a => a.Key == key && a.Names.Count > 0))
                {
                    var from = term.MadeFrom(account.Lead);
                    rules.Add(
                        Rule(
                            template,
                            account.Place,
                            employment,
                            [
                                .. Asked(template, person, at),
                                .. Parts(template.When, scope),
                                new(
                                    $"made from {Day(from, rulebook, employment)} on",
                                    from <= at,
                                    [
                                        new("lead", System.Xml.XmlConvert.ToString(account.Lead)),
                                        new(BuiltIn.Start, employment.Text(BuiltIn.Start)),
                                    ]
                                ),
                                .. Declined(person, key.ToString()),
                            ]
                        )
                    );
                }
            }
        }
        var wanted = state.Accounts.GetValueOrDefault(key);
        var awake =
            wanted is null ? ""
            : wanted.Enabled ? " It is awake." + EndOf(windows.AwakeUntil(key, at), rulebook.ZoneOf(person.Facts.Site))
            : " It is asleep: outside the employment.";
        return new(
            key.ToString(),
            wanted is not null,
            wanted is not null
                ? $"{wanted.Reason.Rule} makes it ({wanted.Reason.Place}): {wanted.Reason.Condition}.{awake}"
                : WhyNot(rules, $"No template makes an account in {key}.")
                    + Comes(windows.Accounts.GetValueOrDefault(key), at, rulebook.ZoneOf(person.Facts.Site)),
            rules
        );
    }

    /// <summary>What was asked for goes with the last employment, whatever its own term.</summary>
    private static IEnumerable<ConditionLook> Lasting(Subject person, Rulebook.Rulebook rulebook, DateTimeOffset at)
    {
        var end = Employments.Now(person, rulebook, at).Max(e => Term.Of(e, rulebook.ZoneOf(e.Site), person.Endings).End);
        if (end < DateTimeOffset.MaxValue)
            yield return new("an employment lasts", at < end, [new("ended", Instant(end))]);
    }

    /// <summary>What an approver struck is not given, whatever the rules say.</summary>
    private static IEnumerable<ConditionLook> Declined(Subject person, params string[] keys)
    {
        if (keys.FirstOrDefault(person.Refused.Contains) is { } struck)
            yield return new($"no approver declined {struck}", false, []);
    }

    /// <summary>Until when it stays without a gap, as the last day at the site; nothing where no end is known.</summary>
    private static string EndOf(DateTimeOffset? until, TimeZoneInfo zone) =>
        until is not { } end || end == DateTimeOffset.MaxValue ? "" : $" It ends with {LastDay(end, zone)}.";

    /// <summary>When it comes, where it is not there yet.</summary>
    private static string Comes<T>(IReadOnlyList<Window<T>>? windows, DateTimeOffset at, TimeZoneInfo zone)
    {
        foreach (var window in windows ?? [])
            if (window.From > at)
                return $" It comes on {FirstDay(window.From, zone)}: {window.Reason.Rule} gives it ({window.Reason.Place}).";
        return "";
    }

    private static string FirstDay(DateTimeOffset at, TimeZoneInfo zone) => Text(TimeZoneInfo.ConvertTime(at, zone));

    private static string LastDay(DateTimeOffset at, TimeZoneInfo zone) =>
        TimeZoneInfo.ConvertTime(at, zone) is { TimeOfDay.Ticks: 0 } midnight
            ? Text(midnight.AddDays(-1))
            : Text(TimeZoneInfo.ConvertTime(at, zone));

    private static string Text(DateTimeOffset local) =>
        local.ToString(local.TimeOfDay.Ticks == 0 ? "yyyy-MM-dd" : "yyyy-MM-dd HH:mm", System.Globalization.CultureInfo.InvariantCulture);

    private static RuleLook Rule(RoleTemplate template, Place place, Facts employment, IReadOnlyList<ConditionLook> conditions) =>
        new(template.Name, $"{place.File}:{place.Line}", employment.Number, conditions.All(c => c.Holds), conditions);

    private static string WhyNot(List<RuleLook> rules, string none)
    {
        if (rules.Count == 0)
            return none;
        // The rule that comes nearest says most.
        var nearest = rules.OrderBy(r => r.Conditions.Count(c => !c.Holds)).First();
        var failed = nearest
            .Conditions.Where(c => !c.Holds)
            .Select(c =>
                c.Values.Count == 0 ? c.Text : $"{c.Text} (where {string.Join(", ", c.Values.Select(v => $"{v.Key} is '{v.Value}'"))})"
            )
            .ToList();
        // Of a hire that was withdrawn everything holds but the employment.
        if (failed.Count == 0)
            return $"{nearest.Template} would give it ({nearest.Place}), but there is no employment at this time.";
        return $"{nearest.Template} would give it ({nearest.Place}), but this does not hold: {string.Join("; ", failed)}.";
    }

    private static Scope ScopeOf(Facts employment, Rulebook.Rulebook rulebook)
    {
        var scope = new Scope(rulebook.Attributes);
        employment.Fill(scope, rulebook.Attributes);
        return scope;
    }

    private static IEnumerable<ConditionLook> Parts(Expression? condition, Scope scope)
    {
        foreach (var part in condition?.Parts ?? [])
        {
            var values = condition!
                .References.Where(name =>
                    Regex.IsMatch(
                        part.Text,
                        $@"(?<![\w.""']){Regex.Escape(name)}(?![\w""'])",
                        RegexOptions.CultureInvariant,
                        TimeSpan.FromSeconds(1)
                    )
                )
                .Select(name => KeyValuePair.Create(name, condition.ValueOf(name, scope).ToString()))
                .ToList();
            bool holds;
            try
            {
                holds = part.Holds(scope);
            }
            catch (ExpressionFault fault)
            {
                values.Add(new("problem", fault.Message));
                holds = false;
            }
            yield return new(part.Text, holds, values);
        }
    }

    /// <summary>Of a template on request: whether it was asked for, and holds now.</summary>
    private static IEnumerable<ConditionLook> Asked(RoleTemplate template, Subject person, DateTimeOffset at)
    {
        if (!template.IsOnRequest)
            yield break;
        var asked = person.Asked.Where(a => a.Template == template.Name).ToList();
        var until = asked.Where(a => a.Until is not null).Select(a => Instant(a.Until!.Value)).LastOrDefault();
        yield return new(
            asked.Count == 0 ? "asked for and approved" : "asked for, and its term holds",
            asked.Any(a => a.Covers(at)),
            until is null ? [] : [new("until", until)]
        );
    }

    private static IEnumerable<ConditionLook> TermLooks(
        Facts employment,
        Subject person,
        Rulebook.Rulebook rulebook,
        DateTimeOffset at,
        bool isEarly
    )
    {
        var term = Term.Of(employment, rulebook.ZoneOf(employment.Site), person.Endings);
        // Work by hand may begin before the first day.
        if (!isEarly)
            yield return new("the employment has begun", term.Start <= at, [new(BuiltIn.Start, employment.Text(BuiltIn.Start))]);
        if (term.IsCut)
            yield return new("the employment was not ended by a request", at < term.End, [new("ended", Instant(term.End))]);
        else if (employment.End is not null)
            yield return new("the employment has not ended", at < term.End, [new(BuiltIn.End, employment.Text(BuiltIn.End))]);
    }

    private static IEnumerable<ConditionLook> DaysOf(
        GrantRule grant,
        Facts employment,
        Scope scope,
        Rulebook.Rulebook rulebook,
        DateTimeOffset at
    )
    {
        var zone = rulebook.ZoneOf(employment.Site);
        if (DayOf(grant.From, scope) is { } from)
            yield return new(
                $"from {grant.From!.Text}",
                SiteDays.StartOf(from, zone) <= at,
                [new("from", from.ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture))]
            );
        if (DayOf(grant.Until, scope) is { } until)
            yield return new(
                $"until {grant.Until!.Text}",
                at < SiteDays.EndOf(until, zone),
                [new("until", until.ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture))]
            );
    }

    private static DateOnly? DayOf(Expression? day, Scope scope)
    {
        try
        {
            return day?.Evaluate(scope).AsDateOrNull;
        }
        catch (ExpressionFault)
        {
            // The plan says what cannot be computed; here the day is simply unknown.
            return null;
        }
    }

    private static string Instant(DateTimeOffset at) =>
        at.UtcDateTime.ToString("yyyy-MM-dd HH:mm", System.Globalization.CultureInfo.InvariantCulture) + " UTC";

    private static string Day(DateTimeOffset at, Rulebook.Rulebook rulebook, Facts employment) =>
        at == DateTimeOffset.MinValue
            ? "ever"
            : TimeZoneInfo
                .ConvertTime(at, rulebook.ZoneOf(employment.Site))
                .ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture);
}
