using System.Security.Cryptography;
using System.Text.Json;
using System.Text.Json.Serialization;
using Oikonom.Core.Intake;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Planning;

/// <summary>An entitlement somebody asked for. Null instants mean at once, and without an end.</summary>
public sealed record WishedGrant(string Target, string Entitlement, DateTimeOffset? From, DateTimeOffset? Until)
{
    /// <summary>What is wished, by the account that would hold it.</summary>
    [JsonIgnore]
    public EntitlementKey Key => new(AccountKey.Parse(Target), Entitlement);
}

/// <summary>A template on request somebody asked for.</summary>
public sealed record WishedTemplate(string Template, DateTimeOffset? From, DateTimeOffset? Until);

/// <summary>
/// What a request would change in the inputs of the one function: attributes of the person, grants and templates
/// beside the rules, and what was struck from the plan. Once approved it is written there, and not before.
/// </summary>
public sealed record Wish
{
    /// <summary>A wish that changes nothing.</summary>
    public static readonly Wish Nothing = new();

    /// <summary>Why, in the words of who asks.</summary>
    public string Reason { get; init; } = "";

    /// <summary>Attribute → its new text; "" takes it away.</summary>
    public SortedDictionary<string, string> Changes { get; init; } = new(StringComparer.Ordinal);

    /// <summary>Entitlements with their terms.</summary>
    public IReadOnlyList<WishedGrant> Grants { get; init; } = [];

    /// <summary>Templates on request with their terms.</summary>
    public IReadOnlyList<WishedTemplate> Templates { get; init; } = [];

    /// <summary>Entitlements (account/entitlement) that end at once although they were asked for until later.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public IReadOnlyList<string>? Ends { get; init; }

    /// <summary>Of <see cref="Ends"/> those that a rule gives, and that are refused to it from now on.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public IReadOnlyList<string>? Refuses { get; init; }

    /// <summary>Accounts and entitlements that an approver declined while the rest went on.</summary>
    public IReadOnlyList<string> Struck { get; init; } = [];

    /// <summary>The account that gets a password or is unlocked.</summary>
    public string Target { get; init; } = "";

    /// <summary>When <see cref="Changes"/> begin to hold; null means once they are approved.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public DateTimeOffset? From { get; init; }

    /// <summary>Access ends at once, not at the end of a day.</summary>
    public bool Urgent { get; init; }

    /// <summary>The number of the joiner that is undone: what it did is taken away in reverse.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public long? Undoes { get; init; }

    /// <summary>The edition of the rulebook the person is to be on; null leaves them where they are, or where the kind of request
    /// puts them.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public int? Edition { get; init; }

    /// <summary>When an account that the wish is about ends: on its day, at once, or null where it stays.</summary>
    /// <param name="now">The instant at which it is asked.</param>
    public DateTimeOffset? EndAt(DateTimeOffset now) => From ?? (Urgent ? now : null);

    /// <summary>True when the request changes an input: then it is decided on, also when no change in a target follows from it.</summary>
    public bool ChangesInputs => !IsEmpty || Urgent;

    /// <summary>True when it asks for nothing.</summary>
    public bool IsEmpty =>
        Changes.Count == 0
        && Grants.Count == 0
        && Templates.Count == 0
        && Struck.Count == 0
        && Target.Length == 0
        && Edition is null
        && Ends is null;

    private bool IsStruck(WishedGrant grant) => Struck.Contains(grant.Key.ToString());

    /// <summary>The wish as it is kept.</summary>
    public string ToJson() => JsonSerializer.Serialize(this, JsonSerializerOptions.Web);

    /// <summary>Reads a wish. Throws <see cref="JsonException"/> when it is none.</summary>
    public static Wish FromJson(string json) =>
        json.Length <= 2 ? Nothing : JsonSerializer.Deserialize<Wish>(json, JsonSerializerOptions.Web) ?? Nothing;

    /// <summary>The person as they would be with the wish.</summary>
    /// <exception cref="PlanFault">An attribute cannot be read.</exception>
    public Subject Apply(Subject person, Rulebook.Rulebook rulebook, Reason reason, DateTimeOffset now)
    {
        var fields = Changes.Select(c => new FieldInput(person.Facts.Number, c.Key, c.Value, From ?? now, null)).ToList();
        // What cannot be read is told now, not on the day it begins.
        Employments.With(person.Facts, fields, rulebook, DateTimeOffset.MaxValue);
        var ended = Urgent ? person.Employments.Select(e => new Ending(e.Number, e.Start, now)).ToList() : [];
        var keys = Grants.Select(g => g.Key).ToHashSet();
        var templates = Templates.Select(t => t.Template).ToHashSet(StringComparer.Ordinal);
        return person with
        {
            Fields =
            [
                .. person.Fields.Where(f => !Changes.ContainsKey(f.Name) || f.Employment != person.Facts.Number || f.From < (From ?? now)),
                .. fields,
            ],
            Endings =
            [
                .. person.Endings.Where(e =>
                    !(Changes.ContainsKey(BuiltIn.End) && e.Employment == person.Facts.Number)
                    && !ended.Exists(x => IsSame(x, e) && x.At < e.At)
                ),
                // Who was ended at once already stays ended since then.
                .. ended.Where(x => !person.Endings.Any(e => IsSame(x, e) && e.At <= x.At)),
            ],
            Extra =
            [
                .. person.Extra.Where(e => !keys.Contains(e.Key) && Ends?.Contains(e.Key.ToString()) != true),
                .. Grants.Where(g => !IsStruck(g)).Select(g => new ExtraGrant(g.Key, g.From ?? now, g.Until, reason)),
            ],
            Asked =
            [
                .. person.Asked.Where(a => !templates.Contains(a.Template)),
                .. Templates.Select(t => new AskedTemplate(t.Template, t.From ?? now, t.Until)),
            ],
            Refused =
            [
                .. person.Refused.Where(r => !Grants.Any(g => g.Key.ToString() == r)),
                .. Struck.Where(s => !Grants.Any(g => g.Key.ToString() == s)),
                .. Refuses ?? [],
            ],
        };
    }

    private static bool IsSame(Ending one, Ending other) => one.Employment == other.Employment && one.Start == other.Start;

    /// <summary>The plan of a request that carries this wish; a request about one thing plans that one thing and nothing else
    /// that is under way.</summary>
    /// <inheritdoc cref="Planner.Make"/>
    public Plan Plan(
        Subject before,
        Subject after,
        AccessState recorded,
        IReadOnlyDictionary<AccountKey, string> immutableIds,
        IReadOnlyDictionary<AccountKey, ExistingAccount> existing,
        Edition edition,
        RequestKind kind,
        DateTimeOffset now,
        Earlier? earlier = null
    )
    {
        Privileges.RequireEnds(this, edition.Rulebook);
        var asks = Grants.Where(g => !IsStruck(g)).Select(g => new Ask(g.Key, g.From, g.Until)).ToList();
        var effect = Effect(before, after, recorded, immutableIds, existing, edition, kind, now, earlier);
        return (Undoes is null ? effect : effect.Reversed()) with { Asks = asks.Count > 0 ? asks : null, Inputs = InputsDigest() };
    }

    /// <summary>A plan with the identity of the inputs this wish changes.</summary>
    public Plan Carried(Plan plan) => plan with { Inputs = InputsDigest() };

    /// <summary>The identity of the inputs beside the entitlements asked for; null when there are none.</summary>
    private string? InputsDigest() =>
        Ends is not null ? Convert.ToHexStringLower(SHA256.HashData(JsonSerializer.SerializeToUtf8Bytes(new { Ends, Refuses })))[..32]
        : Edition is { } edition ? Convert.ToHexStringLower(SHA256.HashData(JsonSerializer.SerializeToUtf8Bytes(new { edition })))[..32]
        : Changes.Count == 0 && Templates.Count == 0 && Target.Length == 0 && !Urgent ? null
        : Convert.ToHexStringLower(
            SHA256.HashData(
                JsonSerializer.SerializeToUtf8Bytes(
                    From is null
                        ? new
                        {
                            Changes,
                            Templates,
                            Target,
                            Urgent,
                        }
                        : (object)
                            new
                            {
                                Changes,
                                Templates,
                                Target,
                                Urgent,
                                From,
                            }
                )
            )
        )[..32];

    private Plan Effect(
        Subject before,
        Subject after,
        AccessState recorded,
        IReadOnlyDictionary<AccountKey, string> immutableIds,
        IReadOnlyDictionary<AccountKey, ExistingAccount> existing,
        Edition edition,
        RequestKind kind,
        DateTimeOffset now,
        Earlier? earlier
    )
    {
        Plan Make(Subject person, Edition by, AccessWindows? off = null) =>
            Planner.Make(person, recorded, immutableIds, existing, by, kind, now, off);
        AccessWindows? Off(Subject? person) => person is null ? null : Quietly(() => Desired.Windows(person, earlier!.Edition));
        // Whom the rules of before could not serve had nothing by them.
        Plan MakeEarlier(Subject person) => Quietly(() => Make(person, earlier.Edition)) ?? new(earlier.Edition.Number, []);
        switch (kind)
        {
            case RequestKind.Password or RequestKind.Unlock:
                return OfAccount(recorded, immutableIds, edition, kind);
            case RequestKind.Access or RequestKind.Extension or RequestKind.Account or RequestKind.End:
                var own = Make(after, edition, Off(earlier?.Before))
                    .Beside(earlier is null ? Make(before, edition) : MakeEarlier(earlier.Before));
                // What else they hold is not what such a request is about.
                own = own with
                {
                    Kept = null,
                    // What is given back ends because somebody said so, not by a rule.
                    Changes =
                        kind != RequestKind.End
                            ? own.Changes
                            : [.. own.Changes.Select(c => c is Change.Revoke ? c with { Reason = new("request", "", Reason) } : c)],
                };
                return earlier is null ? own : own.Marked(earlier.Edition, Make(after, edition).Beside(Make(before, edition)));
            default:
                var whole = Make(after, edition, Off(earlier?.After));
                if (earlier is null)
                    return whole;
                var byEarlier = MakeEarlier(earlier.After);
                // Who is only put on another edition gets what the rules change, and nothing else that is under way.
                return (Edition is null ? whole : whole.Beside(byEarlier)).Marked(earlier.Edition, byEarlier);
        }
    }

    /// <summary>What rules make of somebody; null when they cannot serve them.</summary>
    private static T? Quietly<T>(Func<T> make)
        where T : class
    {
        try
        {
            return make();
        }
        catch (PlanFault)
        {
            return null;
        }
    }

    /// <summary>A new password, or an end of its lock, for one account; nothing else changes.</summary>
    /// <exception cref="PlanFault">There is no such account, or it is disabled.</exception>
    private Plan OfAccount(AccessState recorded, IReadOnlyDictionary<AccountKey, string> immutableIds, Edition edition, RequestKind kind)
    {
        var key = AccountKey.Parse(Target);
        var account =
            recorded.Accounts.GetValueOrDefault(key)
            ?? throw new PlanFault($"{edition.Rulebook.TitleOf(key)} holds no account of this person.");
        if (!account.Enabled)
            throw new PlanFault(
                $"The account {account.Name} is disabled because the person does not work here now; there is nothing to unlock."
            );
        var reason = new Reason("request", "", Reason);
        var entry = Entry.Of(account, immutableIds.GetValueOrDefault(key));
        Change doing =
            kind == RequestKind.Password ? new Change.SetPassword(key, entry, reason) : new Change.EnableAccount(key, entry, reason);
        return new(edition.Number, [doing with { Ordinal = 1 }, new Change.Verify(key, entry, reason) { Ordinal = 2 }]);
    }
}

/// <summary>The edition a request takes somebody off, with the person as its rules see them, before the wish and after it.</summary>
public sealed record Earlier(Edition Edition, Subject Before, Subject After);
