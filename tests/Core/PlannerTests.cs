using Oikonom.Core.Intake;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>The parts of a plan one by one: the second look, what began, what is kept for a hand-over, and how it is told.</summary>
public sealed class PlannerTests
{
    private static readonly DateTimeOffset Now = new(2026, 11, 25, 12, 0, 0, TimeSpan.Zero);
    private static readonly Dictionary<AccountKey, string> NoIds = [];
    private static readonly Dictionary<AccountKey, ExistingAccount> Nobody = [];
    private static readonly AccountKey Directory = "directory";
    private static readonly Reason Why = new("everyone", "templates/everyone.yaml:1", "always");

    private static readonly Edition Edition = Small.Edition(
        (
            "templates/office.yaml",
            "name: office\nwhen: department == \"Office\"\ngrants: [{ to: directory/pay, hand-over: P14D }, { to: directory/audit }]"
        )
    );

    private static AccessState With(Presence? presence, params string[] grants)
    {
        var accounts = new Dictionary<AccountKey, AccountState>();
        if (presence is { } one)
            accounts[Directory] = new(
                Directory,
                "tor.quill",
                "ou=people",
                new Dictionary<string, IReadOnlyList<string>> { ["cn"] = ["Tor"] },
                one,
                Why
            );
        return new(accounts, grants.Select(g => new GrantState(Small.Key(g), Why)).ToDictionary(g => g.Key));
    }

    private static Plan Make(Subject person, AccessState recorded, DateTimeOffset? now = null) =>
        Planner.Make(person, recorded, NoIds, Nobody, Edition, RequestKind.Mover, now ?? Now);

    [Theory]
    // What is recorded as wanted:              create password enable disable grant revoke verify
    [InlineData(null, false, "No No No Yes No Yes No")]
    [InlineData(Presence.Asleep, false, "Yes Yes No Yes No Yes Yes")]
    [InlineData(Presence.Disabled, false, "Yes Yes No Yes No Yes Yes")]
    [InlineData(Presence.Awake, false, "Yes Yes Yes No No Yes Yes")]
    [InlineData(Presence.Awake, true, "Yes Yes Yes No Yes No Yes")]
    [InlineData(Presence.Asleep, true, "Yes Yes No Yes Yes No Yes")]
    public void The_second_look_asks_for_each_kind_what_it_is_there_for(Presence? presence, bool holds, string looks)
    {
        var wanted = holds ? With(presence, "pay") : With(presence);
        var entry = new Entry("tor.quill", "ou=people", true, null);
        Change[] kinds =
        [
            new Change.CreateAccount(Directory, entry, [new("cn", [], ["Tor"])], Why),
            new Change.SetPassword(Directory, entry, Why),
            new Change.EnableAccount(Directory, entry, Why),
            new Change.DisableAccount(Directory, entry, Why),
            new Change.Grant(Small.Key("pay"), entry, Why),
            new Change.Revoke(Small.Key("pay"), entry, Why),
            new Change.Verify(Directory, entry, Why),
        ];
        Assert.Equal(looks, string.Join(' ', kinds.Select(k => Planner.Look(k, wanted))));
        // An entry that would be another one is not what was approved: by name, by container, by any attribute.
        if (presence is null)
            return;
        Assert.Equal(
            StillWanted.Changed,
            Planner.Look(new Change.ChangeAccount(Directory, entry with { Name = "t.quill" }, [], Why), wanted)
        );
        Assert.Equal(
            StillWanted.Changed,
            Planner.Look(new Change.ChangeAccount(Directory, entry with { Container = "ou=old" }, [], Why), wanted)
        );
        Assert.Equal(
            StillWanted.Changed,
            Planner.Look(new Change.ChangeAccount(Directory, entry, [new("cn", [], ["Tor"]), new("sn", [], ["Quill"])], Why), wanted)
        );
    }

    [Fact]
    public void What_began_and_is_not_there_is_found_and_nothing_else()
    {
        var start = new DateTimeOffset(2026, 11, 25, 0, 0, 0, TimeSpan.Zero);
        var windows = Desired.Windows(Small.Person(Small.Facts(department: "Office", start: "2026-11-25")), Edition);
        string Begun(AccessState recorded, DateTimeOffset since, DateTimeOffset? now = null) =>
            string.Join(' ', Planner.Begun(windows, recorded, since, now ?? Now).Order(StringComparer.Ordinal));
        Assert.Equal("directory directory/audit directory/pay", Begun(AccessState.Nothing, start));
        Assert.Equal("directory/audit", Begun(With(Presence.Awake, "pay"), start));
        Assert.Equal("", Begun(With(Presence.Awake, "pay", "audit"), start));
        // An account that sleeps and was to wake has begun; one that is awake has not.
        Assert.Equal("directory", Begun(With(Presence.Asleep, "pay", "audit"), start));
        // Before its day nothing began, and what began before the look of before is not new.
        Assert.Equal("", Begun(AccessState.Nothing, start.AddDays(-1), start.AddTicks(-1)));
        Assert.Equal("", Begun(AccessState.Nothing, start.AddTicks(1)));
    }

    [Fact]
    public void What_a_move_takes_is_kept_for_the_hand_over_and_read_back_then()
    {
        var before = Desired.At(Small.Person(Small.Facts(department: "Office")), Edition, Now);
        var plan = Make(Small.Person(Small.Facts(department: "Dive")), before);
        var kept = Assert.Single(plan.Changes.OfType<Change.Revoke>(), c => c.Taken == Small.Key("pay"));
        Assert.Equal((Now.AddDays(14), true), (kept.Due, kept.Later));
        Assert.Equal("no template gives it any more; kept for the hand-over of P14D", kept.Reason.Condition);
        Assert.Single(plan.Changes.OfType<Change.Verify>(), c => c.Due == kept.Due && c.Later);
        var gone = Assert.Single(plan.Changes.OfType<Change.Revoke>(), c => c.Taken == Small.Key("audit"));
        Assert.Equal((null, false, "no template gives it any more"), (gone.Due, gone.Later, gone.Reason.Condition));
        // In the order of their days, numbered from one.
        Assert.Equal(Enumerable.Range(1, plan.Changes.Count), plan.Changes.Select(c => c.Ordinal));
        Assert.Equal(plan.Changes.OrderBy(c => c.Due ?? DateTimeOffset.MinValue), plan.Changes);
    }

    [Fact]
    public void What_people_do_by_hand_is_kept_for_the_hand_over_too_and_goes_at_once_with_who_leaves()
    {
        var edition = Small.Edition(
            (
                "targets/keys.yaml",
                "name: keys\nkind: desk\nrole: operator\nowner: E5\nentitlements:\n  key: { title: Key, give: Cut a key., owner: E9 }\n"
            ),
            ("templates/office.yaml", "name: office\nwhen: department == \"Office\"\ngrants: [{ to: keys/key, hand-over: P14D }]")
        );
        var key = new EntitlementKey("keys", "key");
        var before = Desired.At(Small.Person(Small.Facts(department: "Office")), edition, Now);
        Change.Revoke Taken(Subject person) =>
            Assert.Single(
                Planner.Make(person, before, NoIds, Nobody, edition, RequestKind.Mover, Now).Changes.OfType<Change.Revoke>(),
                c => c.Taken == key
            );
        var moved = Taken(Small.Person(Small.Facts(department: "Dive")));
        Assert.Equal((Now.AddDays(14), true), (moved.Due, moved.Later));
        // Who left yesterday hands nothing over.
        var left = Taken(Small.Person(Small.Facts(department: "Office", end: "2026-11-24")));
        Assert.Equal((null, false), (left.Due, left.Later));
        // A move that is dated ahead hands over from its day on.
        var later = Taken(
            Small.Person(Small.Facts(department: "Office")) with
            {
                Fields = [new("E1", "department", "Dive", Now.AddDays(10), null)],
            }
        );
        Assert.Equal((Now.AddDays(24), true), (later.Due, later.Later));
    }

    [Fact]
    public void A_plan_beside_another_keeps_what_that_does_not_do()
    {
        var entry = new Entry("tor.quill", "ou=people", true, "id-1");
        Change.ChangeAccount Changes(string container, params (string Name, string After)[] values) =>
            new(Directory, entry with { Container = container }, [.. values.Select(v => new AttributeChange(v.Name, [], [v.After]))], Why)
            {
                Ordinal = 1,
            };
        Conflict Broken(string name) => new(name, name, "directory/pay", "a rule", "directory/audit", "a rule", "");
        Plan PlanOf(Change change, params string[] broken) =>
            new(1, [change, new Change.Verify(Directory, entry, Why) { Ordinal = 2 }])
            {
                Conflicts = broken.Length > 0 ? [.. broken.Select(Broken)] : null,
            };
        string Left(Plan plan, Plan other)
        {
            var left = plan.Beside(other);
            Assert.Equal(Enumerable.Range(1, left.Changes.Count), left.Changes.Select(c => c.Ordinal));
            return string.Join(' ', left.Changes.Select(c => $"{c.Kind}({string.Join(',', c.Attributes.Select(a => a.Name))})"))
                + string.Concat(left.Conflicts?.Select(c => "!" + c.Separation) ?? []);
        }
        var (title, both) = (Changes("ou=people", ("title", "Diver")), Changes("ou=people", ("title", "Diver"), ("cn", "Tor")));
        Assert.Equal("", Left(PlanOf(title), PlanOf(title)));
        Assert.Equal("", Left(PlanOf(title), PlanOf(both)));
        Assert.Equal("ChangeAccount(cn) Verify()", Left(PlanOf(both), PlanOf(title)));
        // The same attribute with another value, and another attribute with the same value, are not the same.
        Assert.Equal("ChangeAccount(title) Verify()", Left(PlanOf(title), PlanOf(Changes("ou=people", ("title", "Lead")))));
        Assert.Equal("ChangeAccount(title) Verify()", Left(PlanOf(title), PlanOf(Changes("ou=people", ("cn", "Diver")))));
        // So is another place.
        Assert.Equal("ChangeAccount(title) Verify()", Left(PlanOf(title), PlanOf(Changes("ou=guests", ("title", "Diver")))));
        var grant = new Change.Grant(Small.Key("pay"), entry, Why) { Ordinal = 1 };
        Assert.Equal("Grant() Verify()", Left(PlanOf(grant), PlanOf(title)));
        // A separation that the other breaks as well is not this one's.
        Assert.Equal("Grant() Verify()!a", Left(PlanOf(grant, "a"), PlanOf(title)));
        Assert.Equal("Grant() Verify()", Left(PlanOf(grant, "a"), PlanOf(title, "a")));
        Assert.Equal("Grant() Verify()!b", Left(PlanOf(grant, "a", "b"), PlanOf(title, "a", "c")));
    }

    [Fact]
    public void What_a_move_leaves_as_it_is_is_told_with_its_reason_and_its_end_and_binds_no_decision()
    {
        var asked = new Reason("request", "9", "month end");
        var before = Desired.At(Small.Person(Small.Facts(department: "Office")), Edition, Now);
        var held = new AccessState(
            before.Accounts,
            before.Grants.Values.Append(new GrantState(Small.Key("root"), asked)).ToDictionary(g => g.Key)
        );
        var person = Small.Person(Small.Facts(department: "Dive")) with
        {
            Extra = [new ExtraGrant(Small.Key("root"), Now.AddDays(-3), Now.AddDays(20), asked)],
        };
        var plan = Make(person, held);
        // The account, what was asked for until its day, and what the hand-over leaves; not what the move takes at once.
        Assert.Equal(
            ["directory - ", $"directory/pay {Now.AddDays(14):o} office", $"directory/root {Now.AddDays(20):o} request"],
            plan.Kept!.Select(k => k.Grant is { } key ? $"{key} {k.Until:o} {k.Reason.Rule}" : $"{k.Account} - {k.Until:o}")
        );
        Assert.Equal((plan with { Kept = null }).Digest, plan.Digest);
        Assert.Equal(plan.Kept, Plan.FromJson(plan.ToJson()).Kept);
    }

    [Fact]
    public void Who_leaves_keeps_nothing()
    {
        var before = Desired.At(Small.Person(Small.Facts(department: "Office")), Edition, Now);
        var gone = Small.Person(Small.Facts(department: "Office", end: "2026-11-20"));
        Assert.Null(Make(gone, before).Kept);
    }

    [Fact]
    public void What_was_there_before_any_rule_gave_it_is_said_to_be_so()
    {
        var before = Desired.At(Small.Person(Small.Facts(department: "Office")), Edition, Now);
        var found = new AccessState(
            before.Accounts,
            before
                .Grants.Values.Append(new GrantState(Small.Key("root"), new(Reason.Baseline, "uid=x", "was there")))
                .ToDictionary(g => g.Key)
        );
        var taken = Assert.Single(Make(Small.Person(Small.Facts(department: "Office")), found).Changes.OfType<Change.Revoke>());
        Assert.Equal("was there, and no rule gives it", taken.Reason.Condition);
    }

    [Fact]
    public void Who_leaves_keeps_nothing_for_a_hand_over_and_the_reason_says_that_the_term_is_over()
    {
        var before = Desired.At(Small.Person(Small.Facts(department: "Office")), Edition, Now);
        var plan = Planner.Make(
            Small.Person(Small.Facts(department: "Office", end: "2026-11-20")),
            before,
            NoIds,
            Nobody,
            Edition,
            RequestKind.Leaver,
            Now
        );
        Assert.All(plan.Changes.OfType<Change.Revoke>(), c => Assert.Equal((null, "the term has ended"), (c.Due, c.Reason.Condition)));
        Assert.Equal(2, plan.Changes.OfType<Change.Revoke>().Count());
    }

    [Fact]
    public void A_grant_that_was_asked_for_ends_because_its_term_is_over()
    {
        var asked = new GrantState(Small.Key("audit"), new("request", "9", "month end"));
        var recorded = With(Presence.Awake) with { Grants = new Dictionary<EntitlementKey, GrantState> { [asked.Key] = asked } };
        var plan = Make(Small.Person(Small.Facts()), recorded);
        Assert.Equal("the term has ended", Assert.Single(plan.Changes.OfType<Change.Revoke>()).Reason.Condition);
    }

    /// <summary>An entry of the directory that is Tor's, found by the number.</summary>
    private static ExistingAccount TorsEntry(bool enabled) =>
        new(
            "directory",
            "id-1",
            "tor.quill",
            "ou=people",
            "uid=tor.quill,ou=people",
            "employeeNumber",
            new Dictionary<string, IReadOnlyList<string>> { ["cn"] = ["Tor"], ["employeeNumber"] = ["E1"] },
            enabled,
            []
        );

    [Theory]
    [InlineData(true, false)]
    [InlineData(false, true)]
    public void What_is_adopted_is_woken_only_when_it_slept(bool enabled, bool wakes)
    {
        var found = TorsEntry(enabled);
        var plan = Planner.Make(
            Small.Person(Small.Facts()),
            AccessState.Nothing,
            NoIds,
            new Dictionary<AccountKey, ExistingAccount> { [Directory] = found },
            Edition,
            RequestKind.Joiner,
            Now
        );
        Assert.Equal(wakes, plan.Changes.OfType<Change.EnableAccount>().Any());
        Assert.All(plan.Changes, c => Assert.Equal("id-1", c.Entry.ImmutableId));
    }

    [Fact]
    public void An_open_entry_of_somebody_who_has_yet_to_begin_is_ours_before_it_is_disabled()
    {
        var ahead = Small.Edition(
            ("templates/everyone.yaml", Small.Everyone.Replace("attributes:", "lead: P14D\n    attributes:", StringComparison.Ordinal))
        );
        var found = TorsEntry(true);
        var plan = Planner.Make(
            Small.Person(Small.Facts(start: "2026-12-01")),
            AccessState.Nothing,
            NoIds,
            new Dictionary<AccountKey, ExistingAccount> { [Directory] = found },
            ahead,
            RequestKind.Joiner,
            Now
        );
        Assert.Equal([typeof(Change.AdoptAccount), typeof(Change.DisableAccount)], plan.Changes.Take(2).Select(c => c.GetType()));
        // What is not wanted yet is left alone.
        var later = Planner.Make(
            Small.Person(Small.Facts(start: "2026-12-31")),
            AccessState.Nothing,
            NoIds,
            new Dictionary<AccountKey, ExistingAccount> { [Directory] = found },
            ahead,
            RequestKind.Joiner,
            Now
        );
        Assert.All(later.Changes, c => Assert.NotNull(c.Due));
        Assert.DoesNotContain(later.Changes, c => c is Change.DisableAccount);
    }

    [Theory]
    [InlineData("2026-11-30")]
    [InlineData("2026-11-01")]
    public void An_employment_that_never_was_gives_nothing_at_any_time(string end)
    {
        var windows = Desired.Windows(Small.Person(Small.Facts(department: "Office", start: "2026-12-01", end: end)), Edition);
        Assert.Empty(windows.Accounts);
        Assert.Empty(windows.Grants);
        Assert.Empty(windows.Turns);
    }

    [Fact]
    public void A_fixed_term_is_planned_to_its_end_and_what_lies_beyond_it_is_later()
    {
        var plan = Make(Small.Person(Small.Facts(department: "Office", start: "2026-12-01", end: "2027-02-28")), AccessState.Nothing);
        var begins = new DateTimeOffset(2026, 12, 1, 0, 0, 0, TimeSpan.Zero);
        var ends = new DateTimeOffset(2027, 3, 1, 0, 0, 0, TimeSpan.Zero);
        Assert.All(plan.Changes.OfType<Change.Grant>(), c => Assert.Equal((begins, false), (c.Due, c.Later)));
        Assert.All(plan.Changes.OfType<Change.Revoke>(), c => Assert.Equal((ends, true), (c.Due, c.Later)));
        var last = plan.Changes.Where(c => c.Due == ends).ToList();
        Assert.IsType<Change.DisableAccount>(last[0]);
        Assert.All(last, c => Assert.True(c.Later));
        // At the very instant of the start nothing waits any more.
        Assert.DoesNotContain(
            Make(Small.Person(Small.Facts(department: "Office", start: "2026-12-01")), AccessState.Nothing, begins).Changes,
            c => c.Due is not null
        );
    }
}
