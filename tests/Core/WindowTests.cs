using CsCheck;
using Oikonom.Core.Expressions;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>The one function as windows: held against a plain reading of the rules, instant by instant.</summary>
public sealed class WindowTests
{
    private static readonly DateTimeOffset Now = new(2026, 11, 25, 12, 0, 0, TimeSpan.Zero);

    private static readonly Edition Edition = Small.Edition(
        (
            "targets/keys.yaml",
            "name: keys\nkind: desk\nrole: operator\nowner: E5\nentitlements:\n  key: { title: Key, give: Cut a key., "
                + "take-back: Take it back., owner: E9 }\n"
        ),
        ("templates/everyone.yaml", Small.Everyone + "\n    lead: P5D\n    enabled-until: end + P2D\n"),
        (
            "templates/office.yaml",
            "name: office\nwhen: department == \"Office\"\ngrants: [{ to: directory/pay, from: start + P3D, until: start + "
                + "P40D }, { to: keys/key, from: start - P2D }]\n"
        ),
        (
            "templates/dive.yaml",
            "name: dive\nwhen: department == \"Dive\"\ngrants: [{ to: directory/audit }, { to: directory/pay, when: title == \"Lead\" }]\n"
        ),
        ("templates/remote.yaml", "name: remote\non-request: yes\ngrants: [{ to: directory/audit }, { to: keys/key }]\n")
    );

    private static Gen<T> OneOf<T>(params T[] values) => Gen.Int[0, values.Length - 1].Select(i => values[i]);

    private static readonly Gen<DateTimeOffset> AnyInstant = Gen.Int[-24 * 90, 24 * 90].Select(hours => Now.AddHours(hours));
    private static readonly Gen<DateTimeOffset?> AnyEnd = Gen.Int[0, 24 * 60]
        .Select(hours => hours < 200 ? (DateTimeOffset?)null : Now.AddHours(hours - 500));
    private static readonly Gen<string> AnyDay = Gen.Int[-90, 90].Select(day => Now.AddDays(day).ToString("yyyy-MM-dd", null));

    private static Gen<Facts> AnyEmployment(string number) =>
        from department in OneOf("Dive", "Office", "Shop")
        from title in OneOf("Diver", "Lead")
        from site in OneOf("harbour", "reef")
        from start in Gen.Int[-120, 60]
        from length in Gen.Int[0, 200]
        select Small.Facts(
            number,
            department,
            Now.AddDays(start).ToString("yyyy-MM-dd", null),
            length > 150 ? null : Now.AddDays(start + length).ToString("yyyy-MM-dd", null),
            site,
            title
        );

    private static readonly Gen<FieldInput> AnyField =
        from employment in OneOf("E1", "E2", "E3")
        from field in Gen.OneOf(
            OneOf("Dive", "Office").Select(d => ("department", d)),
            OneOf("Diver", "Lead").Select(t => ("title", t)),
            AnyDay.Select(d => ("end", d)),
            Gen.Const(("end", ""))
        )
        from begins in AnyInstant
        from ends in AnyEnd
        select new FieldInput(employment, field.Item1, field.Item2, begins, ends > begins ? ends : null);

    private static readonly Gen<Subject> AnyPerson =
        from one in AnyEmployment("E1")
        from two in AnyEmployment("E2")
        from three in AnyEmployment("E3")
        from count in Gen.Int[0, 2]
        from fields in AnyField.List[0, 3]
        from endings in (from e in OneOf("E1", "E2") from at in AnyInstant select new Ending(e, new(2026, 11, 1), at)).List[0, 1]
        from asked in (from begins in AnyInstant from ends in AnyEnd select new AskedTemplate("remote", begins, ends)).List[0, 2]
        from extra in (
            from key in OneOf("pay", "audit")
            from begins in AnyInstant
            from ends in AnyEnd
            select new ExtraGrant(new("directory", key), begins, ends, new("request", key, ""))
        ).List[0, 2]
        from refused in OneOf("", "directory/pay", "keys/key", "", "", "directory")
        select Small.Person(
            one,
            count switch
            {
                0 => [],
                1 => [two],
                _ => [two, three],
            }
        ) with
        {
            Fields = fields,
            Endings = endings,
            Asked = asked,
            Extra = extra,
            Refused = refused.Length > 0 ? [refused] : [],
        };

    /// <summary>The rules read as they stand, for one instant, with nothing made ready.</summary>
    private static (Dictionary<string, Presence> Accounts, HashSet<string> Grants) Plainly(Subject person, DateTimeOffset at)
    {
        var rulebook = Edition.Rulebook;
        var (accounts, grants, needing) = (new Dictionary<string, Presence>(), new HashSet<string>(), new HashSet<string>());
        var (begin, last) = (DateTimeOffset.MaxValue, DateTimeOffset.MinValue);
        foreach (var employment in Employments.InOrder(person, rulebook, at))
        {
            var zone = rulebook.ZoneOf(employment.Site);
            var start = SiteDays.StartOf(employment.Start, zone);
            var end = employment.End is { } day ? SiteDays.EndOf(day, zone) : DateTimeOffset.MaxValue;
            var cut = person
                .Endings.Where(e => e.Employment == employment.Number && (start <= e.At || employment.Start <= e.Start))
                .Select(e => (DateTimeOffset?)e.At)
                .Min();
            if (cut < end)
                end = cut.Value;
            else
                cut = null;
            if (end > last)
                last = end;
            if (start < begin)
                begin = start;
            var scope = new Scope(rulebook.Attributes);
            employment.Fill(scope, rulebook.Attributes);
            foreach (var template in rulebook.Templates)
            {
                if (template.IsOnRequest && !person.Asked.Any(a => a.Template == template.Name && a.Covers(at)))
                    continue;
                if (template.When is not null && !template.When.Holds(scope))
                    continue;
                foreach (var account in template.Accounts.Where(a => at >= start - a.Lead && (end > start || cut is not null)))
                {
                    var until =
                        account.EnabledUntil is null || cut is not null
                            ? end
                            : SiteDays.EndOf(account.EnabledUntil.Evaluate(scope).AsDateOrNull ?? DateOnly.MaxValue, zone);
                    if (employment.End is null && cut is null)
                        until = DateTimeOffset.MaxValue;
                    var presence =
                        until <= start ? Presence.Disabled
                        : at < start ? Presence.Asleep
                        : at < until ? Presence.Awake
                        : Presence.Disabled;
                    if (!accounts.TryGetValue(account.Target, out var known) || (known != Presence.Awake && presence == Presence.Awake))
                        accounts[account.Target] = presence;
                }
                foreach (var grant in template.Grants)
                {
                    var from = grant.From?.Evaluate(scope).AsDateOrNull is { } first ? SiteDays.StartOf(first, zone) : start;
                    var until = grant.Until?.Evaluate(scope).AsDateOrNull is { } over ? SiteDays.EndOf(over, zone) : end;
                    var isEarly = grant.Target == "keys" && grant.From is not null;
                    if (
                        at < from
                        || (at < start && !isEarly)
                        || at >= until
                        || at >= end
                        || (grant.When is not null && !grant.When.Holds(scope))
                    )
                        continue;
                    (grant.Target == "keys" ? grants : needing).Add(grant.Key.ToString());
                }
            }
        }
        foreach (var extra in person.Extra.Where(e => e.From <= at && !(e.Until <= at) && begin <= at && at < last))
            needing.Add(extra.Key.ToString());
        foreach (var refused in person.Refused)
            accounts.Remove(refused);
        grants.UnionWith(needing.Where(key => accounts.ContainsKey(key.Split('/')[0])));
        grants.ExceptWith(person.Refused);
        return (accounts, grants);
    }

    private static string Told(Dictionary<string, Presence> accounts, IEnumerable<string> grants) =>
        string.Join(' ', accounts.OrderBy(a => a.Key).Select(a => $"{a.Key}={a.Value}").Concat(grants.Order(StringComparer.Ordinal)));

    private static string Told(AccessState state) =>
        Told(state.Accounts.ToDictionary(a => a.Key.ToString(), a => a.Value.Presence), state.Grants.Keys.Select(k => k.ToString()));

    [Fact]
    public void Who_was_ended_at_once_stays_ended_when_it_is_asked_again()
    {
        var now = new DateTimeOffset(2026, 11, 25, 12, 0, 0, TimeSpan.Zero);
        var wish = new Wish { Urgent = true };
        var reason = new Reason("request", "1", "");
        var once = wish.Apply(Small.Person(Small.Facts()), Edition.Rulebook, reason, now);
        var twice = wish.Apply(once, Edition.Rulebook, reason, now.AddDays(3));
        Assert.Equal([now], once.Endings.Select(e => e.At));
        Assert.Equal([now], twice.Endings.Select(e => e.At));
        Assert.False(Desired.At(twice, Edition, now.AddDays(4)).Accounts["directory"].Enabled);
        // An end that was to come later gives way to the one at once.
        var later = Small.Person(Small.Facts()) with
        {
            Endings = [once.Endings[0] with { At = now.AddDays(9) }],
        };
        Assert.Equal([now], wish.Apply(later, Edition.Rulebook, reason, now).Endings.Select(e => e.At));
    }

    [Fact]
    public void A_look_at_any_instant_is_a_plain_reading_of_the_rules() =>
        Gen.Select(AnyPerson, AnyInstant)
            .Sample(
                (person, at) =>
                {
                    var (accounts, grants) = Plainly(person, at);
                    Assert.Equal(Told(accounts, grants), Told(Desired.At(person, Edition, at)));
                    Assert.Equal(Told(accounts, grants), Told(Desired.Windows(person, Edition).At(at)));
                },
                iter: 4000
            );

    [Fact]
    public void Stepping_through_every_turn_equals_jumping_and_nothing_changes_between_turns() =>
        AnyPerson.Sample(
            person =>
            {
                var windows = Desired.Windows(person, Edition);
                var instants = windows.Turns.SelectMany(t => new[] { t.AddTicks(-1), t }).ToList();
                for (var i = 0; i < instants.Count; i++)
                {
                    var stepped = windows.At(instants[i]);
                    Assert.Equal(Told(Desired.At(person, Edition, instants[i])), Told(stepped));
                    // From one turn up to the next nothing moves.
                    if (i % 2 == 0 && i > 0)
                        Assert.Equal(Told(windows.At(instants[i - 1])), Told(stepped));
                }
                Assert.Equal(windows.Turns, windows.Turns.Distinct().Order());
                for (DateTimeOffset? at = DateTimeOffset.MinValue, i = null; at is { } next; at = i)
                {
                    i = windows.NextAfter(next);
                    Assert.True(i is null || i > next);
                }
            },
            iter: 1500
        );

    [Fact]
    public void Windows_do_not_overlap_stand_in_order_and_nothing_is_held_outside_one() =>
        Gen.Select(AnyPerson, AnyInstant)
            .Sample(
                (person, at) =>
                {
                    var windows = Desired.Windows(person, Edition);
                    var state = windows.At(at);
                    foreach (var (target, list) in windows.Accounts)
                    {
                        InOrder(list.Select(w => (w.From, w.Until)));
                        Assert.Equal(
                            list.Where(w => w.Covers(at)).Select(w => (Presence?)w.State.Presence).SingleOrDefault(),
                            state.Accounts.GetValueOrDefault(target)?.Presence
                        );
                    }
                    foreach (var (key, list) in windows.Grants)
                    {
                        InOrder(list.Select(w => (w.From, w.Until)));
                        Assert.Equal(
                            list.Where(w => w.Covers(at)).Select(w => w.State.Reason).SingleOrDefault(),
                            state.Grants.GetValueOrDefault(key)?.Reason
                        );
                    }
                    Assert.All(state.Accounts.Keys, target => Assert.True(windows.Accounts.ContainsKey(target)));
                    Assert.All(state.Grants.Keys, key => Assert.True(windows.HeldUntil(key, at) > at));
                    Assert.All(windows.Grants.Keys.Except(state.Grants.Keys), key => Assert.Null(windows.HeldUntil(key, at)));

                    static void InOrder(IEnumerable<(DateTimeOffset From, DateTimeOffset Until)> list)
                    {
                        var before = DateTimeOffset.MinValue;
                        foreach (var (from, until) in list)
                        {
                            Assert.True(from >= before && until > from);
                            before = until;
                        }
                    }
                },
                iter: 2000
            );

    [Fact]
    public void Each_window_has_a_reason_that_holds_while_it_lasts() =>
        AnyPerson.Sample(
            person =>
            {
                foreach (var (key, list) in Desired.Windows(person, Edition).Grants)
                {
                    foreach (var window in list)
                    {
                        var at = window.From == DateTimeOffset.MinValue ? window.Until.AddTicks(-1) : window.From;
                        var told = Explain.Grant(person, Edition, window.State.Key, at);
                        Assert.True(told.Wanted);
                        Assert.Contains(told.Rules, r => r.Applies && r.Template == window.Reason.Rule);
                        // Right after its end it is given by the next window, or something is told that does not hold.
                        if (window.Until == DateTimeOffset.MaxValue)
                            continue;
                        var after = Explain.Grant(person, Edition, key, window.Until);
                        Assert.Equal(list.Any(w => w.Covers(window.Until)), after.Wanted);
                        Assert.True(after.Wanted || after.Rules.All(r => r.Conditions.Any(c => !c.Holds)), after.Summary);
                        Assert.DoesNotContain("hold: .", after.Summary, StringComparison.Ordinal);
                    }
                }
            },
            iter: 800
        );

    [Fact]
    public void An_asked_grant_goes_on_where_the_template_s_ends_and_the_bar_has_that_end()
    {
        var person = Small.Person(Small.Facts(department: "Office", start: "2026-11-01")) with
        {
            Extra = [new(new("directory", "pay"), Now, Now.AddDays(90), new("request", "9", "month end"))],
        };
        var windows = Desired.Windows(person, Edition);
        Assert.Equal(["office", "request"], windows.Grants[Small.Key("pay")].Select(w => w.Reason.Rule));
        Assert.Equal(Now.AddDays(90), windows.HeldUntil(Small.Key("pay"), Now));
        Assert.Null(windows.HeldUntil(Small.Key("pay"), Now.AddDays(91)));
        Assert.Equal(DateTimeOffset.MaxValue, Desired.Windows(Small.Person(Small.Facts()), Edition).HeldUntil(Small.Key("audit"), Now));
    }

    [Fact]
    public void What_hr_says_and_what_was_approved_lie_beside_each_other()
    {
        var person = Small.Person(Small.Facts());
        var moved = new Wish
        {
            Changes = new(StringComparer.Ordinal) { ["department"] = "Office" },
            From = Now.AddDays(10),
        }.Apply(person, Edition.Rulebook, new("request", "1", ""), Now);
        Assert.Equal("Dive", moved.Facts.Text("department"));
        Assert.Contains(Small.Key("audit"), Desired.At(moved, Edition, Now.AddDays(9)).Grants.Keys);
        Assert.DoesNotContain(Small.Key("audit"), Desired.At(moved, Edition, Now.AddDays(10)).Grants.Keys);
        // A later correction by HR of something else changes nothing of it.
        var corrected = moved with
        {
            Facts = moved.Facts.With("phone", Value.Of("+00 555 7")),
        };
        Assert.Equal(Told(Desired.At(moved, Edition, Now.AddDays(30))), Told(Desired.At(corrected, Edition, Now.AddDays(30))));
        // The later of two decisions on one attribute wins, from when it begins.
        var again = new Wish
        {
            Changes = new(StringComparer.Ordinal) { ["department"] = "Dive" },
            From = Now.AddDays(20),
        }.Apply(moved, Edition.Rulebook, new("request", "2", ""), Now);
        Assert.Equal(
            [false, true],
            [
                Desired.At(again, Edition, Now.AddDays(15)).Grants.ContainsKey(Small.Key("audit")),
                Desired.At(again, Edition, Now.AddDays(21)).Grants.ContainsKey(Small.Key("audit")),
            ]
        );
        Assert.Throws<PlanFault>(() =>
            new Wish { Changes = new(StringComparer.Ordinal) { ["start"] = "soon" } }.Apply(person, Edition.Rulebook, new("", "", ""), Now)
        );
    }

    [Fact]
    public void Who_was_ended_at_once_stays_out_whatever_hr_corrects_and_comes_back_by_another_decision()
    {
        var person = Small.Person(Small.Facts(), Small.Facts("E2", "Office"));
        var out_ = new Wish { Urgent = true }.Apply(person, Edition.Rulebook, new("", "", ""), Now);
        Assert.Equal(["E1", "E2"], out_.Endings.Select(e => e.Employment));
        AccessState At(Subject who, DateTimeOffset at) => Desired.At(who, Edition, at);
        Assert.Equal(
            (true, false),
            (At(out_, Now.AddTicks(-1)).Accounts["directory"].Enabled, At(out_, Now).Accounts["directory"].Enabled)
        );
        Assert.Empty(At(out_, Now).Grants);
        var corrected = out_ with
        {
            Facts = out_.Facts.With("phone", Value.Of("+00 555 7")).With("end", Value.Of(new DateOnly(2027, 5, 1))),
        };
        Assert.False(At(corrected, Now.AddDays(3)).Accounts["directory"].Enabled);
        // Not even before the first day, when the hire is postponed by HR to a day that was known.
        var coming = Small.Person(Small.Facts(start: "2026-12-10"));
        var never = new Wish { Urgent = true }.Apply(coming, Edition.Rulebook, new("", "", ""), Now);
        Assert.False(At(never, Now.AddDays(30)).Accounts["directory"].Enabled);
        // A first day after all of that is a new employment; another last day is a new decision.
        Assert.True(
            At(out_ with { Facts = out_.Facts.With("start", Value.Of(new DateOnly(2027, 3, 1))) }, Now.AddDays(120))
                .Accounts["directory"]
                .Enabled
        );
        var back = new Wish { Changes = new(StringComparer.Ordinal) { ["end"] = "2027-06-30" } }.Apply(
            out_,
            Edition.Rulebook,
            new("", "", ""),
            Now.AddDays(1)
        );
        Assert.True(At(back, Now.AddDays(2)).Accounts["directory"].Enabled);
        Assert.Equal("2026-11-24", Employments.Shown(out_.Facts, [], out_.Endings, Edition.Rulebook, Now).Text("end"));
    }

    [Fact]
    public void Only_what_had_a_written_end_before_it_came_is_over()
    {
        var person = Small.Person(Small.Facts(end: "2026-11-20"));
        var windows = Desired.Windows(person, Edition);
        var before = Desired.At(person, Edition, new(2026, 11, 10, 0, 0, 0, TimeSpan.Zero));
        var ids = new Dictionary<AccountKey, string> { ["directory"] = "id-1" };
        // The last day ends at midnight in Lisbon; the account may be used two days longer, its groups not.
        var (groups, account) = (
            new DateTimeOffset(2026, 11, 21, 0, 0, 0, TimeSpan.Zero),
            new DateTimeOffset(2026, 11, 23, 0, 0, 0, TimeSpan.Zero)
        );
        string Over(AccessState recorded, DateTimeOffset since, DateTimeOffset now, Func<Change, bool>? covered = null) =>
            string.Join(
                ' ',
                Planner
                    .Over(windows, recorded, ids, Edition.Rulebook, since, now, covered ?? (_ => false))
                    .Select(c => $"{c.Ordinal}{c.Kind}:{c.Subject}")
            );
        Assert.Equal("1Revoke:audit 2Verify:tor.quill", Over(before, groups, groups));
        Assert.Equal("1DisableAccount:tor.quill 2Revoke:audit 3Verify:tor.quill", Over(before, groups, account));
        Assert.Equal("", Over(before, groups, groups.AddTicks(-1)));
        // What was told only after it had come waits for people; so does what a step takes away already.
        Assert.Equal("", Over(before, account.AddTicks(1), account.AddDays(1)));
        Assert.Equal("1DisableAccount:tor.quill 2Verify:tor.quill", Over(before, groups, account, c => c.Kind == ChangeKind.Revoke));
        // A grant for which no rule ever had a window, and a person who moves, are not over.
        var stranger = before with
        {
            Grants = new Dictionary<EntitlementKey, GrantState> { [Small.Key("pay")] = new(Small.Key("pay"), new("baseline", "", "")) },
        };
        Assert.Equal("1DisableAccount:tor.quill 2Verify:tor.quill", Over(stranger, groups, account));
        Assert.Equal("", Over(AccessState.Nothing, groups, account));
        Assert.All(
            Planner.Over(windows, before, ids, Edition.Rulebook, groups, account, _ => false),
            c => Assert.Equal("id-1", c.Entry.ImmutableId)
        );
        Assert.Equal(
            "the term has ended",
            Planner.Over(windows, before, ids, Edition.Rulebook, groups, account, _ => false)[0].Reason.Condition
        );
    }

    [Theory]
    // Two employments last from the first start to the last end, whichever leads.
    [InlineData("2026-01-05", "2026-03-31", "2026-02-01", "2026-06-30", "2026-01-05", "2026-07-01")]
    [InlineData("2026-02-01", "2026-06-30", "2026-01-05", "2026-03-31", "2026-01-05", "2026-07-01")]
    [InlineData("2026-01-05", "2026-06-30", "2026-02-01", "2026-03-31", "2026-01-05", "2026-07-01")]
    [InlineData("2026-01-05", "2026-06-30", "2026-01-05", "2026-06-30", "2026-01-05", "2026-07-01")]
    public void The_term_of_a_person_spans_all_employments(string start, string end, string start2, string end2, string from, string until)
    {
        var person = Small.Person(Small.Facts(start: start, end: end), Small.Facts("E2", start: start2, end: end2));
        var rulebook = Small.Edition().Rulebook;
        var zone = TimeZoneInfo.FindSystemTimeZoneById("Europe/Lisbon");
        DateTimeOffset At(string day) => Oikonom.Core.Time.SiteDays.StartOf(DateOnly.Parse(day, null), zone);
        var term = Term.Of(person, rulebook);
        Assert.Equal((At(from), At(until)), (term.Start, term.End));
        // What was approved by hand about the last day counts, with one employment and with two.
        foreach (var others in new[] { person.Others, [] })
        {
            var longer = person with { Others = others, Fields = [new("E1", "end", "2027-01-31", At("2026-01-01"), null)] };
            Assert.Equal(At("2027-02-01"), Term.Of(longer, rulebook).End);
        }
    }
}
