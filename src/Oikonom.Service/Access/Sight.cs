using System.Security.Claims;
using System.Text.Json;
using System.Text.Json.Nodes;
using Oikonom.Contracts;
using Oikonom.Core.Approval;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Access;

/// <summary>
/// Who sees which attribute of whom: the rulebook's <c>visible-to</c>, asked in one place for pages, lists, plans,
/// history, exports and what goes out. People always see their own.
/// </summary>
public sealed class Sight(EditionBook editions)
{
    private const int LongestLine = 12;

    /// <summary>What of a person the caller does not see.</summary>
    /// <param name="person">Null when it is about nobody in particular.</param>
    /// <param name="fulfilling">True for the page of a request, whose plan operators carry out.</param>
    public async Task<Veil> OverAsync(Session s, ClaimsPrincipal user, PersonRow? person, bool fulfilling, CancellationToken cancel)
    {
        var rulebook = (await editions.CurrentOrNullAsync(cancel))?.Rulebook;
        var rules = rulebook?.VisibleTo ?? Visibility.Default;
        if (rules.Count == 0 || (person is not null && user.IsSelf(person)))
            return new([], rulebook);
        var party = user.AsParty();
        bool? inLine = null;
        var hidden = new HashSet<string>(StringComparer.Ordinal);
        foreach (var (attribute, audience) in rules)
        {
            var seen = false;
            foreach (var word in audience)
            {
                seen = word switch
                {
                    Visibility.Hr => Holds(party, Roles.Requester, person),
                    Visibility.Fulfilment => fulfilling && Holds(party, Roles.Operator, person),
                    Visibility.ManagerLine => inLine ??= person is not null && await LeadsAsync(s, user, person),
                    Visibility.Everyone => true,
                    _ => word.StartsWith("role:", StringComparison.Ordinal) && Holds(party, word[5..], person),
                };
                if (seen)
                    break;
            }
            if (!seen)
                hidden.Add(attribute);
        }
        return new(hidden, rulebook);
    }

    /// <summary>What leaves Oikonom for nobody in particular, such as to a hook.</summary>
    public async Task<Veil> OutsideAsync(CancellationToken cancel)
    {
        var rulebook = (await editions.CurrentOrNullAsync(cancel))?.Rulebook;
        return new([.. (rulebook?.VisibleTo ?? Visibility.Default).Keys], rulebook);
    }

    private static bool Holds(Party party, string role, PersonRow? person) =>
        party.Roles.Contains(role)
        && (
            !party.Reach.TryGetValue(role, out var reach)
            || (person is null ? reach.Sites.Count == 0 && reach.Departments.Count == 0 : reach.Covers(person.Site, person.Department))
        );

    /// <summary>True when the caller is the manager of the person, or theirs, and so on.</summary>
    private static async Task<bool> LeadsAsync(Session s, ClaimsPrincipal user, PersonRow person)
    {
        if (user.Number().Length == 0 && user.FindFirstValue("person") is not { Length: > 0 })
            return false;
        var (next, met) = (person.Manager, new HashSet<string>(StringComparer.Ordinal));
        while (next.Length > 0 && met.Count < LongestLine && met.Add(next))
        {
            if (next == user.Number())
                return true;
            if (await s.PersonByNumberAsync(next) is not { } manager)
                return false;
            if (user.IsSelf(manager))
                return true;
            next = manager.Manager;
        }
        return false;
    }
}

/// <summary>Attributes that stay covered for somebody.</summary>
public sealed class Veil(HashSet<string> hidden, Core.Rulebook.Rulebook? rulebook)
{
    /// <summary>What stands in the place of a value.</summary>
    public const string Cover = "not shown to you";
    private static readonly string[] Covered = [Cover];

    public bool IsClear => hidden.Count == 0;

    /// <summary>True when an attribute of the record is covered.</summary>
    public bool Hides(string attribute) => hidden.Contains(attribute);

    /// <summary>True when an attribute of an account is made of one that is covered.</summary>
    public bool Hides(string target, string attribute) =>
        hidden.Count > 0
        && rulebook?.PrivateInAccounts.GetValueOrDefault(Visibility.Key(target, attribute)) is { } sources
        && sources.Overlaps(hidden);

    /// <summary>True when a column of a source is mapped to one that is covered.</summary>
    public bool HidesColumn(SourceRule source, string column) =>
        hidden.Count > 0
        && rulebook is not null
        && Visibility.InColumns(source, rulebook).GetValueOrDefault(column) is { } made
        && made.Overlaps(hidden);

    public AttributeValue Over(AttributeValue value) => Hides(value.Name) ? value with { Value = Cover } : value;

    public AttributeValue Over(string target, AttributeValue value) => Hides(target, value.Name) ? value with { Value = Cover } : value;

    public AttributeChangeView Over(AttributeChangeView change) => Hides(change.Name) ? Covering(change) : change;

    public AttributeChangeView Over(string target, AttributeChangeView change) => Hides(target, change.Name) ? Covering(change) : change;

    public ChangeView Over(ChangeView change) =>
        IsClear || change.Attributes.Count == 0
            ? change
            : change with
            {
                Attributes = [.. change.Attributes.Select(a => Over(change.Target, a))],
            };

    private static AttributeChangeView Covering(AttributeChangeView change) =>
        new(change.Name, change.Before.Count > 0 ? Covered : [], change.After.Count > 0 ? Covered : []);

    public PersonDetail Over(PersonDetail person) =>
        IsClear
            ? person
            : person with
            {
                Record = [.. person.Record.Select(Over)],
                Accounts = [.. person.Accounts.Select(a => a with { Attributes = [.. a.Attributes.Select(v => Over(a.Target, v))] })],
                Findings = person.Findings?.Select(Over).ToList(),
            };

    public FindingView Over(FindingView finding) =>
        finding with
        {
            Differences =
            [
                .. finding.Differences.Select(d =>
                    d.Name.Length > 0 && Hides(finding.Target, d.Name)
                        ? d with
                        {
                            Found = d.Found.Count > 0 ? Covered : [],
                            Left = d.Left.Count > 0 ? Covered : [],
                        }
                        : d
                ),
            ],
        };

    public RequestDetail Over(RequestDetail request) =>
        IsClear
            ? request
            : request with
            {
                Cause = request.Cause with { Differences = [.. request.Cause.Differences.Select(Over)] },
                Plan = [.. request.Plan.Select(Over)],
                Candidates = [.. request.Candidates.Select(c => c with { Attributes = [.. c.Attributes.Select(v => Over(c.Target, v))] })],
                Wish = request.Wish with { Changes = [.. request.Wish.Changes.Select(Over)] },
                Effect = Over(request.Effect),
            };

    public PlanEffect Over(PlanEffect effect) =>
        IsClear ? effect : effect with { Gained = [.. effect.Gained.Select(Over)], Changed = [.. effect.Changed.Select(Over)] };

    private EffectLine Over(EffectLine line) =>
        line.Attributes.Count == 0 ? line : line with { Attributes = [.. line.Attributes.Select(a => Over(line.Target, a))] };

    /// <summary>What a rehearsal would do to somebody.</summary>
    public AffectedView Over(AffectedView person) => IsClear ? person : person with { Effects = [.. person.Effects.Select(Over)] };

    public EffectView Over(EffectView effect)
    {
        if (!effect.Attributes.Any(a => Hides(effect.Target, a.Name)))
            return effect;
        IReadOnlyList<AttributeChangeView> covered = [.. effect.Attributes.Select(a => Over(effect.Target, a))];
        return effect with { Attributes = covered, Text = EffectText.Of(effect.Target, covered.Select(a => (a.Name, a.Before, a.After))) };
    }

    /// <summary>A ledger entry with what is covered in it: changes of the record, attributes of accounts, wishes and fields.</summary>
    public JsonElement Over(JsonElement entry)
    {
        if (IsClear || JsonNode.Parse(entry.GetRawText()) is not JsonObject body)
            return entry;
        var target = (string?)body["target"] ?? "";
        Changes(body["changes"], Hides);
        Changes(body["attributes"], name => Hides(target, name));
        if (body["wish"] is JsonObject wish)
            Values(wish["changes"]);
        Values(body["fields"]);
        return JsonSerializer.SerializeToElement(body);

        static void Changes(JsonNode? list, Func<string, bool> hides)
        {
            foreach (var change in (list as JsonArray ?? []).OfType<JsonObject>())
            {
                if ((change["name"] ?? change["Name"]) is not JsonValue name || !hides(name.ToString()))
                    continue;
                foreach (var key in new[] { "before", "after", "Before", "After" })
                    if (change[key] is { } value)
                        change[key] = value is JsonArray array
                            ? array.Count > 0
                                ? new JsonArray(Cover)
                                : new JsonArray()
                            : value.ToString().Length > 0
                                ? Cover
                                : "";
            }
        }

        void Values(JsonNode? map)
        {
            if (map is not JsonObject values)
                return;
            foreach (var name in values.Select(v => v.Key).Where(Hides).ToList())
                values[name] = Cover;
        }
    }
}
