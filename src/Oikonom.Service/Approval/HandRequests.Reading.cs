using System.Globalization;
using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Core.Expressions;
using Oikonom.Core.Intake;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <content>A body is read: each field by itself, so that all that is wrong is told at once.</content>
public sealed partial class HandRequests
{
    private async Task<Ready> ReadAsync(Session s, NewRequest body, ClaimsPrincipal user, Edition edition)
    {
        var problems = new List<FieldProblem>();
        if (!Kinds.Contains(body.Kind))
        {
            problems.Add(
                new("kind", $"'{body.Kind}' is no kind of request; use {string.Join(", ", Kinds)}.{Nearest.Hint(body.Kind ?? "", Kinds)}")
            );
            return new(body, RequestKind.Access, null, null, Wish.Nothing, null, problems);
        }
        var kind = EnumText.Parse<RequestKind>(body.Kind);
        if (body.Reason?.Length > 2000)
            problems.Add(new("reason", "A reason has 2000 characters at most."));
        var wish = new Wish { Reason = body.Reason?.Trim() ?? "" };
        if (kind == RequestKind.Joiner)
            return await JoinerAsync(s, body, user, edition, wish, problems);
        var person = await s.FindPersonAsync(body.Person?.Trim() ?? "");
        if (person is null)
        {
            problems.Add(
                new(
                    "person",
                    string.IsNullOrWhiteSpace(body.Person)
                        ? "Say for whom: a person's id or employee number."
                        : $"There is no person '{body.Person}'."
                )
            );
            return new(body, kind, null, null, wish, null, problems);
        }
        user.RequireReach(person.Site, person.Department, Roles.Requester, Roles.Engineer);
        var recorded = await Recorded.LoadAsync(s, [person.Id]);
        var facts = recorded.Facts(person.Id, edition);
        wish = kind switch
        {
            RequestKind.Mover or RequestKind.Change => wish with
            {
                Changes = Changes(body.Record, facts, edition, problems, needed: true),
                From = Begin(body, facts, edition, problems),
            },
            RequestKind.Leaver => Leaver(body, wish, facts, edition, problems),
            RequestKind.Access => wish with { Grants = Grants(body.Grants, facts, edition, problems) },
            RequestKind.Extension => Extension(body, wish, facts, recorded, person.Id, edition, problems),
            RequestKind.Account => wish with { Templates = Template(body, facts, edition, problems) },
            _ => wish with { Target = Target(body, recorded, person.Id, edition, problems) },
        };
        if (kind is RequestKind.Access or RequestKind.Extension or RequestKind.Account && wish.Reason.Length == 0)
            problems.Add(new("reason", "Say what it is needed for; the approver reads it."));
        return new(body, kind, person, null, wish, recorded, problems);
    }

    private async Task<Ready> JoinerAsync(
        Session s,
        NewRequest body,
        ClaimsPrincipal user,
        Edition edition,
        Wish wish,
        List<FieldProblem> problems
    )
    {
        var record = new Dictionary<string, string>(body.Record ?? new Dictionary<string, string>());
        var stem = Math.Abs(time.Milliseconds() % 1_000_000_000).ToString("d9", CultureInfo.InvariantCulture);
        if (record.GetValueOrDefault(BuiltIn.Number, "").Trim().Length == 0)
            record[BuiltIn.Number] = "H" + stem;
        if (record.GetValueOrDefault(BuiltIn.Person, "").Trim().Length == 0)
            record[BuiltIn.Person] = record[BuiltIn.Number];
        var facts = new Facts([]);
        foreach (var (name, text) in record)
        {
            if (RecordReader.Refuse(text ?? "") is { } refused)
                problems.Add(new(name, refused));
            else if (facts.WithText(name, (text ?? "").Trim(), edition.Rulebook.Attributes, out var problem) is { } changed)
                facts = changed;
            else
                problems.Add(new(name, problem));
        }
        foreach (var name in edition.Rulebook.Mandatory.Where(m => facts[m].IsNull && !problems.Exists(p => p.Field == m)))
            problems.Add(new(name, $"'{name}' is needed."));
        CheckFacts(facts, edition, problems);
        if (facts.Site.Length > 0)
            user.RequireReach(facts.Site, facts.Text(BuiltIn.Department), Roles.Requester, Roles.Engineer);
        if (problems.Count == 0)
            foreach (
                var asked in edition
                    .Rulebook.Access.Ask()
                    .Asks(new(PersonId.New(DateTimeOffset.UnixEpoch), facts, new Dictionary<AccountKey, string>()))
            )
                problems.Add(new(asked, $"The template leaves '{asked}' open; fill it in."));
        var known = await s.PersonByNumberAsync(record[BuiltIn.Number]) ?? await s.PersonByNumberAsync(record[BuiltIn.Person]);
        if (known is not null)
            problems.Add(new(BuiltIn.Number, $"{known.Display} ({known.Number}) is known already; raise a mover or a leaver for them."));
        return new(body, RequestKind.Joiner, null, facts, wish, null, problems);
    }

    private static void CheckFacts(Facts facts, Edition edition, List<FieldProblem> problems)
    {
        if (facts.Site.Length > 0 && !edition.Rulebook.Sites.ContainsKey(facts.Site))
            problems.Add(
                new(BuiltIn.Site, $"'{facts.Site}' is no site of the rulebook.{Nearest.Hint(facts.Site, edition.Rulebook.Sites.Keys)}")
            );
        if (facts.End < facts.Start)
            problems.Add(new(BuiltIn.End, $"The end {facts.Text(BuiltIn.End)} lies before the start {facts.Text(BuiltIn.Start)}."));
    }

    private static SortedDictionary<string, string> Changes(
        IReadOnlyDictionary<string, string>? record,
        Facts facts,
        Edition edition,
        List<FieldProblem> problems,
        bool needed
    )
    {
        var changes = new SortedDictionary<string, string>(StringComparer.Ordinal);
        var after = facts;
        foreach (var (name, text) in record ?? new Dictionary<string, string>())
        {
            var value = (text ?? "").Trim();
            if (name is BuiltIn.Person or BuiltIn.Number)
                problems.Add(new(name, $"'{name}' is who the person is; only HR changes it."));
            else if (RecordReader.Refuse(value) is { } refused)
                problems.Add(new(name, refused));
            else if (value.Length == 0 && edition.Rulebook.Mandatory.Contains(name))
                problems.Add(new(name, $"'{name}' is needed."));
            else if (after.WithText(name, value, edition.Rulebook.Attributes, out var problem) is not { } changed)
                problems.Add(new(name, problem));
            else if (facts.Text(name) != value)
                (after, changes[name]) = (changed, value);
        }
        CheckFacts(after, edition, problems);
        if (needed && changes.Count == 0 && problems.Count == 0)
            problems.Add(new("record", "Nothing would change; give the attributes that differ."));
        return changes;
    }

    /// <summary>From when on what is asked for holds; null when it is at once.</summary>
    private DateTimeOffset? Begin(NewRequest body, Facts facts, Edition edition, List<FieldProblem> problems) =>
        Instant(body.From, "from", edition.Rulebook.ZoneOf(facts.Site), false, problems) is { } from && from > time.GetUtcNow()
            ? from
            : null;

    private Wish Leaver(NewRequest body, Wish wish, Facts facts, Edition edition, List<FieldProblem> problems)
    {
        if (body.Urgent == true)
            return wish with { Urgent = true };
        if (body.LastDay is not { } last)
        {
            problems.Add(new("lastDay", "Name the last day, or say that it is urgent."));
            return wish;
        }
        if (last < facts.Start)
            problems.Add(new("lastDay", $"The last day lies before the first, {facts.Text(BuiltIn.Start)}."));
        if (facts.End == last)
            problems.Add(new("lastDay", $"{last:yyyy-MM-dd} is the last day already."));
        return wish with
        {
            Changes = new(StringComparer.Ordinal) { [BuiltIn.End] = last.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture) },
        };
    }

    private List<WishedGrant> Grants(IReadOnlyList<GrantWish>? wishes, Facts facts, Edition edition, List<FieldProblem> problems)
    {
        if (wishes is not { Count: > 0 })
            problems.Add(new("grants", "Say what is asked for: at least one entitlement."));
        var grants = new List<WishedGrant>();
        foreach (var wish in wishes ?? [])
        {
            if (Entitled(wish.Entitlement, edition, problems) is not { } found)
                continue;
            if (!found.Entitlement.IsRequestable)
                problems.Add(new("grants", $"'{found.Entitlement.Title}' is given by the rulebook only; nobody asks for it."));
            var zone = edition.Rulebook.ZoneOf(facts.Site);
            var (from, until) = (Instant(wish.From, "from", zone, false, problems), Instant(wish.Until, "until", zone, true, problems));
            CheckTerm(from, until, problems);
            if (until is null && found.Entitlement.IsPrivileged)
                problems.Add(new("until", Privileges.NeedsEnd(found.Entitlement)));
            if (grants.Exists(g => g.Key == found.Key))
                problems.Add(new("grants", $"'{wish.Entitlement}' stands here twice."));
            grants.Add(new(found.Key.Account.ToString(), found.Key.Name, from, until));
        }
        return grants;
    }

    private void CheckTerm(DateTimeOffset? from, DateTimeOffset? until, List<FieldProblem> problems)
    {
        if (until <= time.GetUtcNow())
            problems.Add(new("until", "The end lies in the past."));
        else if (until <= from)
            problems.Add(new("until", "The end lies before the begin."));
    }

    private static (EntitlementKey Key, Entitlement Entitlement)? Entitled(string? key, Edition edition, List<FieldProblem> problems)
    {
        if (EntitlementKey.TryParse(key, out var named) && edition.Rulebook.Find(named) is { } entitlement)
        {
            if (edition.Rulebook.Targets[named.Target].HasAccounts && !edition.Rulebook.AccountsIn(named.Target).Contains(named.Account))
            {
                problems.Add(new("grants", $"No template makes an account '{named.Account}' that could hold it."));
                return null;
            }
            return (named, entitlement);
        }
        var known = edition.Rulebook.Targets.Values.SelectMany(t => t.Entitlements.Keys.Select(e => $"{t.Name}/{e}"));
        problems.Add(new("grants", $"There is no entitlement '{key}'.{Nearest.Hint(key ?? "", known)}"));
        return null;
    }

    private Wish Extension(
        NewRequest body,
        Wish wish,
        Facts facts,
        Recorded recorded,
        string person,
        Edition edition,
        List<FieldProblem> problems
    )
    {
        if (body.Record is { Count: > 0 } record)
        {
            foreach (var name in record.Keys.Where(k => k != BuiltIn.End))
                problems.Add(new(name, "An extension changes the end alone; raise a change for other attributes."));
            return wish with { Changes = Changes(record, facts, edition, problems, needed: true) };
        }
        var held = recorded.Subject(person, edition).Extra;
        var grants = Grants(body.Grants, facts, edition, problems);
        foreach (var grant in grants.Where(g => !held.Any(h => h.Key == g.Key)))
            problems.Add(new("grants", $"{grant.Key} is not held for a term that could be extended; ask for access instead."));
        return wish with { Grants = [.. grants.Select(g => g with { From = held.FirstOrDefault(h => h.Key == g.Key)?.From ?? g.From })] };
    }

    private List<WishedTemplate> Template(NewRequest body, Facts facts, Edition edition, List<FieldProblem> problems)
    {
        if (!OnRequest(body.Template, edition, problems))
            return [];
        var zone = edition.Rulebook.ZoneOf(facts.Site);
        var (from, until) = (Instant(body.From, "from", zone, false, problems), Instant(body.Until, "until", zone, true, problems));
        CheckTerm(from, until, problems);
        if (until is null && Privileges.Unending(body.Template!, edition.Rulebook) is { } privileged)
            problems.Add(new("until", Privileges.NeedsEnd(privileged)));
        return [new(body.Template!, from, until)];
    }

    /// <summary>True when the name is that of a template on request; else a problem says why not.</summary>
    private static bool OnRequest(string? name, Edition edition, List<FieldProblem> problems)
    {
        var template = edition.Rulebook.Templates.FirstOrDefault(t => t.Name == name);
        if (template is { IsOnRequest: true })
            return true;
        var known = edition.Rulebook.Templates.Where(t => t.IsOnRequest).Select(t => t.Name).ToList();
        problems.Add(
            new(
                "template",
                template is null
                    ? $"There is no template '{name}'.{Nearest.Hint(name ?? "", known)} Templates on request are: "
                        + $"{(known.Count == 0 ? "none" : string.Join(", ", known))}."
                    : $"The template '{template.Name}' applies by its condition; nobody asks for it."
            )
        );
        return false;
    }

    private static string Target(NewRequest body, Recorded recorded, string person, Edition edition, List<FieldProblem> problems)
    {
        var targets = recorded
            .State(person)
            .Accounts.Keys.Where(a => edition.Rulebook.Targets.ContainsKey(a.Target))
            .Order()
            .Select(a => a.ToString())
            .ToList();
        if (string.IsNullOrEmpty(body.Target) && targets.Count == 1)
            return targets[0];
        if (body.Target is { } named && targets.Contains(named))
            return named;
        problems.Add(new("target", targets.Count == 0 ? "The person has no account." : $"Name the account: {string.Join(", ", targets)}."));
        return "";
    }

    /// <summary>A day at the site (its begin, or its end when it is the last), or an instant.</summary>
    private static DateTimeOffset? Instant(string? text, string field, TimeZoneInfo zone, bool last, List<FieldProblem> problems)
    {
        if (string.IsNullOrWhiteSpace(text))
            return null;
        if (DateOnly.TryParseExact(text, "yyyy-MM-dd", out var day))
            return last ? SiteDays.EndOf(day, zone) : SiteDays.StartOf(day, zone);
        if (
            text.Contains('T', StringComparison.Ordinal)
            && DateTimeOffset.TryParse(
                text,
                CultureInfo.InvariantCulture,
                DateTimeStyles.AssumeUniversal | DateTimeStyles.AdjustToUniversal,
                out var at
            )
        )
            return at;
        problems.Add(new(field, $"'{text}' is no day such as 2026-12-01 and no instant such as 2026-12-01T08:00:00Z."));
        return null;
    }
}
