using System.Security.Cryptography;
using System.Text.Json;
using System.Text.Json.Serialization;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Planning;

/// <summary>What a draft would do to one account or grant.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<EffectKind>))]
public enum EffectKind
{
    [JsonStringEnumMemberName("account-gained")]
    AccountGained,

    [JsonStringEnumMemberName("account-lost")]
    AccountLost,

    [JsonStringEnumMemberName("account-changed")]
    AccountChanged,

    [JsonStringEnumMemberName("account-woken")]
    AccountWoken,

    [JsonStringEnumMemberName("account-put-to-sleep")]
    AccountPutToSleep,

    [JsonStringEnumMemberName("grant-gained")]
    GrantGained,

    [JsonStringEnumMemberName("grant-lost")]
    GrantLost,

    /// <summary>An account or grant that stays as it is, since the draft does not look after it any more.</summary>
    [JsonStringEnumMemberName("left-alone")]
    LeftAlone,
}

/// <summary>One effect on one person. <paramref name="Rule"/> is the template that brings or brought it.</summary>
/// <param name="Target">The account, as a target, or target:slot where it is not the ordinary one.</param>
/// <param name="From">The first day of it at the person's site; null when it is so at once, or from their first day.</param>
/// <param name="Until">The last day of it at the person's site; null when it lasts as long as they stay.</param>
public sealed record Effect(
    EffectKind Kind,
    string Target,
    string Subject,
    string Rule,
    IReadOnlyList<AttributeChange> Attributes,
    DateOnly? From = null,
    DateOnly? Until = null
)
{
    /// <summary>No attribute changes.</summary>
    public static readonly IReadOnlyList<AttributeChange> NoAttributes = [];

    /// <summary>The entitlement as account/entitlement, of effects on grants.</summary>
    [JsonIgnore]
    public string Key => $"{Target}/{Subject}";
}

/// <summary>One person whom a draft would change, or for whom it cannot be worked out.</summary>
/// <param name="On">The edition they are on, or 0.</param>
public sealed record Affected(
    string Id,
    string Number,
    string Name,
    string Department,
    string Site,
    IReadOnlyList<Effect> Effects,
    string? Problem,
    long On = 0
)
{
    /// <summary>True when they would have less than now.</summary>
    public bool Loses => Effects.Any(e => e.Kind is EffectKind.AccountLost or EffectKind.AccountPutToSleep or EffectKind.GrantLost);

    /// <summary>
    /// SHA-256 of what would change, in lower-case hexadecimal: what an approval covers. The name of an account that is yet
    /// to be made is left out, since it is settled when the account is made.
    /// </summary>
    public string Digest =>
        Convert.ToHexStringLower(
            SHA256.HashData(
                JsonSerializer.SerializeToUtf8Bytes(
                    Effects
                        .Select(e => new
                        {
                            e.Kind,
                            e.Target,
                            Subject = e.Kind == EffectKind.AccountGained ? "" : e.Subject,
                            e.Rule,
                            Attributes = e.Attributes.OrderBy(a => a.Name, StringComparer.Ordinal),
                            e.From,
                            e.Until,
                        })
                        .OrderBy(e => e.Target, StringComparer.Ordinal)
                        .ThenBy(e => e.Kind)
                        .ThenBy(e => e.Subject, StringComparer.Ordinal)
                        .ThenBy(e => e.From),
                    Given
                )
            )
        )[..32];

    /// <summary>What is not said is left out, so that the digest of what happens at once is the same as ever.</summary>
    private static readonly JsonSerializerOptions Given = new() { DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull };
}

/// <summary>How many effects of one sort.</summary>
public sealed record Tally(string Name, int People, int Gained, int Lost, int Changed);

/// <summary>What a draft would do to everybody.</summary>
public sealed record RehearsalReport(
    int People,
    int Unchanged,
    int Changed,
    int Failing,
    IReadOnlyList<Tally> ByTarget,
    IReadOnlyList<Tally> ByEntitlement,
    IReadOnlyList<Tally> ByTemplate,
    IReadOnlyList<Tally> ByDepartment,
    IReadOnlyList<Affected> Affected
)
{
    /// <summary>How many people each template of the draft applies to.</summary>
    [JsonIgnore]
    public IReadOnlyDictionary<string, int> PeopleByTemplate { get; init; } = new Dictionary<string, int>();
}

/// <summary>A person in a rehearsal: as known now, and as the draft's records have them; either may be missing.</summary>
/// <param name="On">The edition <paramref name="Before"/> is read under, of <see cref="Rehearsal.Others"/>; 0 for the current one.</param>
public sealed record Rehearsed(string Id, Subject? Before, Subject? After, long On = 0);

/// <summary>
/// Asks the one function under the current edition and under a draft, for everybody and over all time from now on, and
/// counts the differences. Nothing is touched, no name and no number is reserved: a name that is not there yet is shown
/// as it would be if nobody else came before.
/// </summary>
public sealed class Rehearsal(
    Rulebook.Rulebook? current,
    Rulebook.Rulebook draft,
    DateTimeOffset now,
    IReadOnlySet<(string Target, string Name)>? taken = null
)
{
    /// <summary>Rulebooks that people are on beside the current one, by the number of their edition.</summary>
    public IReadOnlyDictionary<long, Rulebook.Rulebook> Others { get; init; } = new Dictionary<long, Rulebook.Rulebook>();

    /// <summary>The work of one thread.</summary>
    public sealed class Part
    {
        private readonly DateTimeOffset _now;
        private readonly Rulebook.Rulebook? _current;
        private readonly Rulebook.Rulebook _draft;
        private readonly Asking? _before;
        private readonly IReadOnlyDictionary<long, (Rulebook.Rulebook Rules, Asking Asking)> _others;
        private readonly Asking _after;
        private readonly IReadOnlySet<(string Target, string Name)>? _taken;
        private readonly List<DateTimeOffset> _turns = [];
        internal readonly int[] Matches;
        internal readonly List<Affected> Affected = [];
        internal int People;

        internal Part(
            Rulebook.Rulebook? current,
            Rulebook.Rulebook draft,
            IReadOnlyDictionary<long, Rulebook.Rulebook> others,
            DateTimeOffset now,
            IReadOnlySet<(string Target, string Name)>? taken
        )
        {
            _taken = taken;
            _others = others.ToDictionary(o => o.Key, o => (o.Value, o.Value.Access.Ask()));
            (_current, _draft, _now) = (current, draft, now);
            _before = current?.Access.Ask();
            _after = draft.Access.Ask();
            Matches = new int[draft.Templates.Count];
        }

        /// <summary>Compares both rulebooks for one person.</summary>
        public void Look(Rehearsed person)
        {
            People++;
            var facts = (person.After ?? person.Before)!.Facts;
            List<Effect> effects = [];
            string? problem = null;
            try
            {
                // The later day counts, so that those who have yet to begin are seen too.
                var term = Term.Of((person.After ?? person.Before)!, _draft);
                var at = term.Start > _now ? term.Start : _now;
                var (rules, asking) = _others.TryGetValue(person.On, out var other) ? other : (_current, _before);
                var known = person.Before is null || asking is null ? null : Named(asking, person.Before, rules!);
                var wished = person.After is null ? null : Named(_after, person.After, _draft);
                _turns.Clear();
                var before = known is null ? AccessState.Nothing : Quietly(() => asking!.From(known, at, _turns), AccessState.Nothing);
                var after = wished is null ? AccessState.Nothing : _after.From(wished, at, _turns);
                if (wished is not null)
                {
                    Count(wished);
                    Separations.In(after, _draft);
                }
                effects = Between(before, after, _draft);
                if (_turns.Count > 0)
                    effects = Later(
                        effects,
                        known is null ? AccessWindows.Nothing : Quietly(() => asking!.Windows(known), AccessWindows.Nothing),
                        wished is null ? AccessWindows.Nothing : _after.Windows(wished),
                        _draft.ZoneOf(facts.Site),
                        term.End
                    );
            }
            catch (PlanFault fault)
            {
                problem = fault.Message;
            }
            if (effects.Count > 0 || problem is not null)
                Affected.Add(
                    new(person.Id, facts.Number, facts.DisplayName, facts.Text(BuiltIn.Department), facts.Site, effects, problem, person.On)
                );
        }

        /// <summary>Counts the templates that apply to the leading employment.</summary>
        private void Count(Subject person)
        {
            // Whoever is one employment without dated inputs was matched just now.
            var isPlain = person.Others.Count == 0 && person.Asked.Count == 0 && person.Fields.Count == 0;
            var matches = isPlain ? _after.Matches : _after.Match(person.Facts);
            for (var i = 0; i < matches.Length; i++)
                if (matches[i])
                    Matches[i]++;
        }

        /// <summary>A person whom the current edition cannot serve has nothing by it.</summary>
        private static T Quietly<T>(Func<T> ask, T nothing)
        {
            try
            {
                return ask();
            }
            catch (PlanFault)
            {
                return nothing;
            }
        }

        /// <summary>
        /// The effects with what comes of later instants: what ends sooner than the person does has a last day, what begins
        /// later a first one.
        /// </summary>
        private List<Effect> Later(List<Effect> atOnce, AccessWindows before, AccessWindows after, TimeZoneInfo zone, DateTimeOffset end)
        {
            var found = atOnce;
            var open = new Dictionary<(EffectKind, string, string), int>();
            for (var i = 0; i < found.Count; i++)
                open[Of(found[i])] = i;
            foreach (var turn in _turns.Distinct().Order())
            {
                var here = Between(before.At(turn), after.At(turn), _draft);
                var still = here.Select(Of).ToHashSet();
                foreach (var (what, place) in open.Where(o => !still.Contains(o.Key)).ToList())
                {
                    open.Remove(what);
                    if (turn != end)
                        found[place] = found[place] with { Until = Day(turn.AddTicks(-1)) };
                }
                foreach (var effect in here.Where(e => !open.ContainsKey(Of(e))))
                {
                    open[Of(effect)] = found.Count;
                    found.Add(effect with { From = Day(turn) });
                }
            }
            return found;

            DateOnly Day(DateTimeOffset instant) => DateOnly.FromDateTime(TimeZoneInfo.ConvertTime(instant, zone).DateTime);
            static (EffectKind, string, string) Of(Effect effect) => (effect.Kind, effect.Target, effect.Subject);
        }

        private Subject Named(Asking asking, Subject person, Rulebook.Rulebook rulebook)
        {
            Dictionary<AccountKey, string>? names = null;
            foreach (var slot in rulebook.Access.Slots)
            {
                if (person.AccountNames.ContainsKey(slot.Key) || asking.NameWishes(person, slot.Key) is not { Count: > 0 } wishes)
                    continue;
                names ??= new(person.AccountNames);
                names[slot.Key] = _taken is null
                    ? wishes[0]
                    : AccountNames.Candidates(wishes, slot.Rule.Names).First(name => !_taken.Contains((slot.Rule.Name, name)));
            }
            return names is null ? person : person with { AccountNames = names };
        }

        private static List<Effect> Between(AccessState before, AccessState after, Rulebook.Rulebook draft)
        {
            var effects = new List<Effect>();
            foreach (var (key, account) in after.Accounts)
            {
                if (!before.Accounts.TryGetValue(key, out var earlier))
                {
                    effects.Add(new(EffectKind.AccountGained, key.ToString(), account.Name, account.Reason.Rule, Effect.NoAttributes));
                    continue;
                }
                var changes = Changes(earlier, account);
                if (changes is not null)
                    effects.Add(new(EffectKind.AccountChanged, key.ToString(), account.Name, account.Reason.Rule, changes));
                if (earlier.Enabled != account.Enabled)
                    effects.Add(
                        new(
                            account.Enabled ? EffectKind.AccountWoken : EffectKind.AccountPutToSleep,
                            key.ToString(),
                            account.Name,
                            account.Reason.Rule,
                            Effect.NoAttributes
                        )
                    );
            }
            foreach (var (key, account) in before.Accounts)
                if (!after.Accounts.ContainsKey(key))
                    effects.Add(
                        new(
                            draft.Targets.ContainsKey(key.Target) ? EffectKind.AccountLost : EffectKind.LeftAlone,
                            key.ToString(),
                            account.Name,
                            account.Reason.Rule,
                            Effect.NoAttributes
                        )
                    );
            foreach (var (key, grant) in after.Grants)
                if (!before.Grants.ContainsKey(key))
                    effects.Add(
                        new(EffectKind.GrantGained, key.Account.ToString(), grant.Entitlement, grant.Reason.Rule, Effect.NoAttributes)
                    );
            foreach (var (key, grant) in before.Grants)
                if (!after.Grants.ContainsKey(key))
                    effects.Add(
                        new(
                            draft.Find(key) is null ? EffectKind.LeftAlone : EffectKind.GrantLost,
                            key.Account.ToString(),
                            grant.Entitlement,
                            grant.Reason.Rule,
                            Effect.NoAttributes
                        )
                    );
            return effects;
        }

        private static List<AttributeChange>? Changes(AccountState before, AccountState after)
        {
            List<AttributeChange>? changes = null;
            if (before.Container != after.Container)
                (changes ??= []).Add(new("container", [before.Container], [after.Container]));
            if (
                before.Attributes is SmallMap<IReadOnlyList<string>> left
                && after.Attributes is SmallMap<IReadOnlyList<string>> right
                && left.HasNamesOf(right)
            )
            {
                for (var i = 0; i < right.Count; i++)
                    if (!Same(left.ValueAt(i), right.ValueAt(i)))
                        (changes ??= []).Add(new(right.NameAt(i), left.ValueAt(i), right.ValueAt(i)));
                return changes;
            }
            foreach (var (name, values) in after.Attributes)
            {
                var old = before.Attributes.GetValueOrDefault(name) ?? [];
                if (!Same(old, values))
                    (changes ??= []).Add(new(name, old, values));
            }
            foreach (var (name, values) in before.Attributes)
                if (values.Count > 0 && !after.Attributes.ContainsKey(name))
                    (changes ??= []).Add(new(name, values, []));
            return changes;
        }

        private static bool Same(IReadOnlyList<string> left, IReadOnlyList<string> right)
        {
            if (left.Count != right.Count)
                return false;
            for (var i = 0; i < left.Count; i++)
                if (!string.Equals(left[i], right[i], StringComparison.Ordinal))
                    return false;
            return true;
        }
    }

    /// <summary>A part for one thread.</summary>
    public Part Begin() => new(current, draft, Others, now, taken);

    /// <summary>What another edition would change for one person.</summary>
    public static Affected Of(Rehearsed person, Rulebook.Rulebook before, Rulebook.Rulebook after, DateTimeOffset now)
    {
        var part = new Rehearsal(before, after, now).Begin();
        part.Look(person);
        return part.Affected is [var affected] ? affected : new(person.Id, "", "", "", "", [], null, person.On);
    }

    /// <summary>Puts the parts together: whom the draft cannot serve first, then by name.</summary>
    public RehearsalReport End(IReadOnlyList<Part> parts)
    {
        var affected = parts
            .SelectMany(p => p.Affected)
            .AsParallel()
            .OrderBy(a => a.Problem is null)
            .ThenBy(a => a.Name, StringComparer.Ordinal)
            .ThenBy(a => a.Id, StringComparer.Ordinal)
            .ToList();
        var people = parts.Sum(p => p.People);
        var failing = affected.Count(a => a.Problem is not null);
        IReadOnlyList<Tally>[] tallies =
        [
            [],
            [],
            [],
            [],
        ];
        Parallel.Invoke(
            () => tallies[0] = Count(affected, (_, e) => e.Target),
            () => tallies[1] = Count(affected, (_, e) => e.Kind is EffectKind.GrantGained or EffectKind.GrantLost ? e.Key : null),
            () => tallies[2] = Count(affected, (_, e) => e.Rule),
            () => tallies[3] = Count(affected, (a, _) => a.Department)
        );
        var byTemplate = draft
            .Templates.Select((t, i) => (t.Name, Count: parts.Sum(p => p.Matches[i])))
            .ToDictionary(t => t.Name, t => t.Count);
        return new(
            people,
            people - affected.Count,
            affected.Count - failing,
            failing,
            tallies[0],
            tallies[1],
            tallies[2],
            tallies[3],
            affected
        )
        {
            PeopleByTemplate = byTemplate,
        };
    }

    /// <summary>Gains, losses and changes of some people, by what an effect is counted under; null counts it nowhere.</summary>
    public static IReadOnlyList<Tally> Count(IEnumerable<Affected> affected, Func<Affected, Effect, string?> of)
    {
        var counts = new Dictionary<string, (int People, int Gained, int Lost, int Changed, string Last)>(StringComparer.Ordinal);
        foreach (var person in affected)
        {
            foreach (var effect in person.Effects)
            {
                if (of(person, effect) is not { } name)
                    continue;
                ref var count = ref System.Runtime.InteropServices.CollectionsMarshal.GetValueRefOrAddDefault(counts, name, out _);
                if (count.Last != person.Id)
                    (count.People, count.Last) = (count.People + 1, person.Id);
                if (effect.Kind is EffectKind.AccountGained or EffectKind.GrantGained or EffectKind.AccountWoken)
                    count.Gained++;
                else if (effect.Kind is EffectKind.AccountChanged or EffectKind.LeftAlone)
                    count.Changed++;
                else
                    count.Lost++;
            }
        }
        return
        [
            .. counts
                .OrderByDescending(c => c.Value.People)
                .ThenBy(c => c.Key, StringComparer.Ordinal)
                .Select(c => new Tally(c.Key, c.Value.People, c.Value.Gained, c.Value.Lost, c.Value.Changed)),
        ];
    }
}
