using CsCheck;
using Oikonom.Core.Expressions;
using Oikonom.Core.Intake;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Xunit;

namespace Oikonom.Core.Tests;

public sealed class PlanTests
{
    private static readonly DateTimeOffset Now = new(2026, 11, 25, 12, 0, 0, TimeSpan.Zero);
    private static readonly Edition Edition = Northmere.Edition;

    private static Facts FactsOf(
        string department = "Dive Team",
        string kind = "employee",
        string site = "harbour",
        DateOnly? start = null,
        DateOnly? end = null,
        string family = "Quill"
    ) =>
        new([
            new("person", Value.Of("P1")),
            new("number", Value.Of("E1")),
            new("given", Value.Of("Tor")),
            new("family", Value.Of(family)),
            new("kind", Value.Of(kind)),
            new("start", Value.Of(start ?? new DateOnly(2026, 11, 2))),
            new("end", Value.Of(end)),
            new("manager", Value.Of("E2")),
            new("department", Value.Of(department)),
            new("site", Value.Of(site)),
            new("title", Value.Of("Diver")),
            new("phone", Value.Of("+00 555 1")),
        ]);

    private static Subject SubjectOf(Facts facts) =>
        new(PersonId.New(Now), facts, new Dictionary<AccountKey, string> { ["directory"] = "tor.quill" });

    private static Plan PlanOf(
        Subject subject,
        AccessState recorded,
        RequestKind kind = RequestKind.Joiner,
        DateTimeOffset? now = null,
        Edition? edition = null
    ) =>
        Planner.Make(
            subject,
            recorded,
            new Dictionary<AccountKey, string>(),
            new Dictionary<AccountKey, ExistingAccount>(),
            edition ?? Edition,
            kind,
            now ?? Now
        );

    private static string Words(Plan plan) => string.Join(" ", plan.Changes.Select(c => $"{c.Kind}:{c.Subject}"));

    [Fact]
    public void A_joiner_gets_account_password_groups_and_a_read_back_in_this_order()
    {
        var plan = PlanOf(SubjectOf(FactsOf()), AccessState.Nothing);
        Assert.Equal(
            "CreateAccount:tor.quill SetPassword:tor.quill Grant:all-people Grant:dive-team Grant:site-harbour Verify:tor.quill",
            Words(plan)
        );
        var create = plan.Changes[0];
        Assert.True(create.Entry.Enabled);
        Assert.Equal(["tor.quill@northmere.example"], create.Attributes.Single(a => a.Name == "mail").After);
        Assert.Equal(("dive-team", "templates/dive-team.yaml:5"), (plan.Changes[3].Reason.Rule, plan.Changes[3].Reason.Place));
        Assert.Contains("department == \"Dive Team\"", plan.Changes[3].Reason.Condition, StringComparison.Ordinal);
    }

    [Fact]
    public void Before_the_first_day_the_account_sleeps_and_wakes_at_midnight_of_the_site()
    {
        var plan = PlanOf(SubjectOf(FactsOf(start: new(2026, 12, 1), site: "reefpoint")), AccessState.Nothing);
        Assert.False(plan.Changes[0].Entry.Enabled);
        var wake = plan.Changes.Single(c => c.Kind == ChangeKind.EnableAccount);
        // 1 December 00:00 in Hobart (UTC+11 in summer) is 13:00 UTC on the day before.
        Assert.Equal(new DateTimeOffset(2026, 11, 30, 13, 0, 0, TimeSpan.Zero), wake.Due);
        Assert.All(plan.Changes.Where(c => c.Kind == ChangeKind.Grant), c => Assert.Equal(wake.Due, c.Due));
        Assert.DoesNotContain(plan.Changes, c => c.Later);
    }

    [Fact]
    public void Long_before_the_start_nothing_is_due_at_once()
    {
        var plan = PlanOf(SubjectOf(FactsOf(start: new(2027, 6, 1))), AccessState.Nothing);
        Assert.All(plan.Changes, c => Assert.NotNull(c.Due));
        Assert.Equal(new DateTimeOffset(2027, 5, 17, 23, 0, 0, TimeSpan.Zero), plan.Changes[0].Due);
    }

    [Fact]
    public void A_fixed_term_ends_after_the_last_day_and_that_lies_later()
    {
        var plan = PlanOf(SubjectOf(FactsOf("Research", "researcher", "saltmarsh", end: new(2027, 3, 31))), AccessState.Nothing);
        var end = new DateTimeOffset(2027, 4, 1, 3, 0, 0, TimeSpan.Zero);
        var last = plan.Changes.Where(c => c.Due == end).ToList();
        Assert.Equal(ChangeKind.DisableAccount, last[0].Kind);
        Assert.Equal(4, last.Count(c => c.Kind == ChangeKind.Revoke));
        Assert.All(last, c => Assert.True(c.Later));
        Assert.Equal("Visiting until 2027-03-31", plan.Changes[0].Attributes.Single(a => a.Name == "description").After[0]);
    }

    [Fact]
    public void A_mover_gets_the_difference()
    {
        var before = Desired.At(SubjectOf(FactsOf()), Edition, Now);
        var plan = PlanOf(SubjectOf(FactsOf("Visitor Services", site: "saltmarsh")), before, RequestKind.Mover);
        Assert.Equal(
            "ChangeAccount:tor.quill Grant:site-saltmarsh Grant:ticket-desk Revoke:dive-team Revoke:site-harbour Verify:tor.quill",
            Words(plan)
        );
        Assert.Equal(["Dive Team"], plan.Changes[0].Attributes.Single(a => a.Name == "departmentNumber").Before);
    }

    [Fact]
    public void A_leaver_loses_access_first_and_nothing_lies_later()
    {
        var before = Desired.At(SubjectOf(FactsOf()), Edition, Now);
        var plan = PlanOf(SubjectOf(FactsOf(end: new(2026, 11, 20))), before, RequestKind.Leaver);
        Assert.Equal(ChangeKind.DisableAccount, plan.Changes[0].Kind);
        Assert.DoesNotContain(plan.Changes, c => c.Later || c.Due is not null);
        // Whatever else the record says at once, in whichever order it is looked at: first nobody gets in any more.
        var elsewhere = FactsOf(end: new(2026, 11, 20), department: "Research", site: "reefpoint");
        var both = PlanOf(SubjectOf(elsewhere), before, RequestKind.Leaver);
        Assert.Equal(both.Changes.Select(c => c.Kind).OrderBy(k => k != ChangeKind.DisableAccount), both.Changes.Select(c => c.Kind));
        Assert.Contains(both.Changes, c => c.Kind == ChangeKind.Revoke);
    }

    [Fact]
    public void Nobody_gets_a_first_account_when_the_employment_is_over() =>
        Assert.Empty(PlanOf(SubjectOf(FactsOf(end: new(2026, 11, 20))), AccessState.Nothing, RequestKind.Leaver).Changes);

    [Fact]
    public void Adoption_shows_what_it_changes_and_sets_no_password()
    {
        var found = new ExistingAccount(
            "directory",
            "id-1",
            "tquill",
            "ou=people,dc=northmere,dc=example",
            "uid=tquill,ou=people,dc=northmere,dc=example",
            "employeeNumber",
            new Dictionary<string, IReadOnlyList<string>> { ["sn"] = ["Kwill"], ["employeeNumber"] = ["E1"] },
            true,
            ["all-people", "ticket-desk"]
        );
        var subject = SubjectOf(FactsOf()) with { AccountNames = new Dictionary<AccountKey, string> { ["directory"] = "tquill" } };
        var plan = Planner.Make(
            subject,
            AccessState.Nothing,
            new Dictionary<AccountKey, string>(),
            new Dictionary<AccountKey, ExistingAccount> { ["directory"] = found },
            Edition,
            RequestKind.Joiner,
            Now
        );
        Assert.Equal(ChangeKind.AdoptAccount, plan.Changes[0].Kind);
        Assert.Equal("id-1", plan.Changes[0].Entry.ImmutableId);
        Assert.Equal(["Kwill"], plan.Changes[0].Attributes.Single(a => a.Name == "sn").Before);
        Assert.DoesNotContain(plan.Changes, c => c.Kind == ChangeKind.SetPassword);
        Assert.DoesNotContain(plan.Changes, c => c is { Kind: ChangeKind.Grant, Subject: "all-people" });
        Assert.Contains(plan.Changes, c => c is { Kind: ChangeKind.Revoke, Subject: "ticket-desk" });
    }

    [Fact]
    public void An_extra_grant_holds_from_until_and_ends_with_the_employment()
    {
        var subject = SubjectOf(FactsOf(end: new(2027, 1, 31)));
        var grant = new ExtraGrant(new("directory", "research-lab"), Now.AddDays(1), Now.AddDays(2), new("request", "", "asked for"));
        bool Has(DateTimeOffset at) =>
            Desired.At(subject with { Extra = [grant] }, Edition, at).Grants.ContainsKey(new("directory", "research-lab"));
        Assert.False(Has(Now));
        Assert.True(Has(Now.AddDays(1)));
        Assert.False(Has(Now.AddDays(2)));
        var open = grant with { Until = null };
        Assert.False(
            Desired.At(subject with { Extra = [open] }, Edition, Now.AddDays(200)).Grants.ContainsKey(new("directory", "research-lab"))
        );
    }

    [Fact]
    public void Templates_that_contradict_each_other_stop_the_plan_unless_one_ranks_higher()
    {
        const string more = "accounts:\n  directory:\n    attributes:\n      title: '\"Other\"'\n";
        var clash = new Edition(
            2,
            "",
            RulebookReader.Read(Northmere.With("templates/dive-team.yaml", "grants:", more + "grants:")).Rulebook!
        );
        Assert.Contains(
            "different values",
            Assert.Throws<PlanFault>(() => PlanOf(SubjectOf(FactsOf()), AccessState.Nothing, edition: clash)).Message,
            StringComparison.Ordinal
        );
        var ranked = new Edition(
            3,
            "",
            RulebookReader.Read(Northmere.With("templates/dive-team.yaml", "grants:", "priority: 5\n" + more + "grants:")).Rulebook!
        );
        Assert.Equal(
            ["Other"],
            PlanOf(SubjectOf(FactsOf()), AccessState.Nothing, edition: ranked).Changes[0].Attributes.Single(a => a.Name == "title").After
        );
    }

    [Fact]
    public void The_second_look_drops_what_is_no_longer_wanted_and_sends_back_what_is_new()
    {
        var plan = PlanOf(SubjectOf(FactsOf()), AccessState.Nothing);
        AccessState At(Facts facts) => Desired.At(SubjectOf(facts), Edition, Now);
        Assert.All(plan.Changes, c => Assert.Equal(StillWanted.Yes, Planner.Look(c, At(FactsOf()))));
        Assert.Equal(StillWanted.Changed, Planner.Look(plan.Changes[0], At(FactsOf(family: "Penn"))));
        Assert.Equal(StillWanted.No, Planner.Look(plan.Changes[3], At(FactsOf("Research"))));
        Assert.All(
            plan.Changes.Where(c => c.Kind == ChangeKind.Grant),
            c => Assert.Equal(StillWanted.No, Planner.Look(c, At(FactsOf(end: new(2026, 11, 20)))))
        );
    }

    private static readonly Gen<Facts> AnyFacts = Gen.Select(
        Any.Of("Dive Team", "Animal Care", "Visitor Services", "Research", "Operations"),
        Any.Of("employee", "volunteer", "researcher", "seasonal"),
        Any.Of("harbour", "saltmarsh", "reefpoint"),
        Gen.Int[-400, 400],
        Gen.Int[-300, 600],
        (department, kind, site, start, length) =>
            FactsOf(
                department,
                kind,
                site,
                DateOnly.FromDateTime(Now.DateTime).AddDays(start),
                length < 0 ? null : DateOnly.FromDateTime(Now.DateTime).AddDays(start + length)
            )
    );

    [Fact]
    public void The_same_inputs_give_the_same_plan() =>
        AnyFacts.Sample(
            facts =>
            {
                var subject = SubjectOf(facts);
                Assert.Equal(PlanOf(subject, AccessState.Nothing).Digest, PlanOf(subject, AccessState.Nothing).Digest);
                Assert.Equal(
                    PlanOf(subject, AccessState.Nothing).Digest,
                    Plan.FromJson(PlanOf(subject, AccessState.Nothing).ToJson()).Digest
                );
            },
            iter: 300
        );

    [Fact]
    public void What_is_as_wanted_needs_nothing_at_once() =>
        AnyFacts.Sample(
            facts =>
            {
                var subject = SubjectOf(facts);
                var plan = PlanOf(subject, Desired.At(subject, Edition, Now), RequestKind.Mover);
                Assert.DoesNotContain(plan.Changes, c => c.Due is null);
            },
            iter: 300
        );

    [Fact]
    public void Carrying_out_a_plan_leads_to_what_is_wanted_at_every_turn() =>
        Gen.Select(AnyFacts, AnyFacts)
            .Sample(
                (before, after) =>
                {
                    var (old, fresh) = (SubjectOf(before), SubjectOf(after));
                    var state = Desired.At(old, Edition, Now);
                    var plan = PlanOf(fresh, state, RequestKind.Mover);
                    var (enabled, grants) = (state.Accounts.GetValueOrDefault("directory")?.Enabled, state.Grants.Keys.ToHashSet());
                    foreach (var group in plan.Changes.GroupBy(c => c.Due).OrderBy(g => g.Key ?? Now))
                    {
                        foreach (var change in group)
                        {
                            switch (change.Kind)
                            {
                                case ChangeKind.CreateAccount:
                                    enabled = change.Entry.Enabled;
                                    break;
                                case ChangeKind.EnableAccount:
                                    enabled = true;
                                    break;
                                case ChangeKind.DisableAccount:
                                    enabled = false;
                                    break;
                                case ChangeKind.Grant:
                                    Assert.True(grants.Add(change.Entitlement!));
                                    break;
                                case ChangeKind.Revoke:
                                    Assert.True(grants.Remove(change.Entitlement!));
                                    break;
                            }
                        }
                        var wanted = Desired.At(fresh, Edition, group.Key ?? Now);
                        Assert.Equal(wanted.Grants.Keys.Order(), grants.Order());
                        if (wanted.Accounts.TryGetValue("directory", out var account))
                            Assert.Equal(account.Enabled, enabled);
                    }
                },
                iter: 500
            );
}
