using Oikonom.Core.Approval;
using Oikonom.Core.Intake;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>A second account in the same target, beside the ordinary one.</summary>
public sealed class SlotTests
{
    private static readonly DateTimeOffset Now = new(2026, 3, 2, 12, 0, 0, TimeSpan.Zero);
    private static readonly AccountKey Admin = "directory:administrator";

    private const string Keepers = """
        name: keepers
        when: department == "Systems"
        accounts:
          directory:administrator:
            name: '"adm-" + given'
            lead: P2D
            attributes: { cn: '"Keeper " + given', description: account.name }
        grants:
          - to: directory:administrator/root
            until: date("2026-06-30")
          - to: directory/pay
        """;

    private static readonly Edition Edition = Small.Edition(("templates/keepers.yaml", Keepers));

    private static Subject Named(string department = "Systems", string? end = null) =>
        Small.Person(Small.Facts(department: department, end: end)) with
        {
            AccountNames = new Dictionary<AccountKey, string> { ["directory"] = "tor.quill", [Admin] = "adm-tor" },
        };

    private static Plan PlanOf(Subject person, AccessState recorded, DateTimeOffset? now = null) =>
        Planner.Make(
            person,
            recorded,
            new Dictionary<AccountKey, string> { ["directory"] = "id-1", [Admin] = "id-2" },
            new Dictionary<AccountKey, ExistingAccount>(),
            Edition,
            RequestKind.Mover,
            now ?? Now
        );

    private static string Words(Plan plan, DateTimeOffset? due = null) =>
        string.Join(" ", plan.Changes.Where(c => c.Due == due).Select(c => $"{c.Kind}:{c.Key}"));

    [Theory]
    [InlineData("directory", "directory", "")]
    [InlineData("directory:administrator", "directory", "administrator")]
    public void An_account_is_written_as_its_target_and_its_slot(string text, string target, string slot)
    {
        var key = AccountKey.Parse(text);
        Assert.Equal((target, slot, text, slot.Length == 0), (key.Target, key.Slot, key.ToString(), key.IsOrdinary));
        Assert.Equal(new AccountKey(target, slot), key);
        Assert.Equal(new AccountKey(target, slot).GetHashCode(), key.GetHashCode());
        var held = EntitlementKey.Parse($"{text}/pay");
        Assert.Equal((key, target, "pay", $"{text}/pay"), (held.Account, held.Target, held.Name, held.ToString()));
    }

    [Fact]
    public void Each_account_has_its_own_name_attributes_and_grants()
    {
        var state = Desired.At(Named(), Edition, Now);
        Assert.Equal(["directory", Admin], state.Accounts.Keys.Order());
        Assert.Equal(
            ("adm-tor", "Keeper Tor", "adm-tor", "Tor"),
            (
                state.Accounts[Admin].Name,
                state.Accounts[Admin].Attributes["cn"].Single(),
                state.Accounts[Admin].Attributes["description"].Single(),
                state.Accounts["directory"].Attributes["cn"].Single()
            )
        );
        Assert.Equal(["directory/pay", "directory:administrator/root"], state.Grants.Keys.Select(k => k.ToString()).Order());
        Assert.Equal(["adm-Tor".ToLowerInvariant()], Desired.NameWishes(Named(), Edition, Admin));
        Assert.Empty(Desired.NameWishes(Named("Dive"), Edition, Admin));
        Assert.Equal([new AccountKey("directory"), Admin], Edition.Rulebook.AccountsIn("directory"));
        Assert.Equal("Directory (administrator)", Edition.Rulebook.TitleOf(Admin));
    }

    [Fact]
    public void How_long_an_account_may_be_used_is_told_without_a_gap()
    {
        var last = new DateTimeOffset(2026, 6, 30, 23, 0, 0, TimeSpan.Zero);
        var windows = Desired.Windows(Named(end: "2026-06-30"), Edition);
        Assert.Equal((last, last), (windows.AwakeUntil("directory", Now), windows.AwakeUntil(Admin, Now)));
        Assert.Equal(DateTimeOffset.MaxValue, Desired.Windows(Named(), Edition).AwakeUntil("directory", Now));
        Assert.Null(windows.AwakeUntil("directory", last));
        Assert.Null(Desired.Windows(Named("Dive"), Edition).AwakeUntil(Admin, Now));
        // Another department from a day on: the second account ends there, the ordinary one goes on.
        var moves = Named() with
        {
            Fields = [new("E1", "department", "Dive", Now.AddDays(9), null)],
        };
        Assert.Equal(
            (DateTimeOffset.MaxValue, Now.AddDays(9)),
            (Desired.Windows(moves, Edition).AwakeUntil("directory", Now), Desired.Windows(moves, Edition).AwakeUntil(Admin, Now))
        );
    }

    [Fact]
    public void A_plan_goes_through_the_ordinary_account_first_and_reads_each_back()
    {
        Assert.Equal(
            "CreateAccount:directory SetPassword:directory Grant:directory/pay Verify:directory "
                + "CreateAccount:directory:administrator SetPassword:directory:administrator "
                + "Grant:directory:administrator/root Verify:directory:administrator",
            Words(PlanOf(Named(), AccessState.Nothing))
        );
        // The end of a grant of the one touches nothing of the other.
        Assert.Equal(
            "Revoke:directory:administrator/root Verify:directory:administrator",
            Words(PlanOf(Named(), AccessState.Nothing), new DateTimeOffset(2026, 6, 30, 23, 0, 0, TimeSpan.Zero))
        );
    }

    [Fact]
    public void Who_leaves_the_department_loses_the_second_account_and_keeps_the_ordinary_one()
    {
        var plan = PlanOf(Named("Dive"), Desired.At(Named(), Edition, Now));
        Assert.Equal(
            "Revoke:directory/pay Verify:directory DisableAccount:directory:administrator Revoke:directory:administrator/root "
                + "Verify:directory:administrator",
            Words(plan)
        );
        Assert.Equal(["id-1", "id-2"], plan.Changes.Select(c => c.Entry.ImmutableId).Distinct());
        Assert.All(
            plan.Changes,
            c => Assert.NotEqual(StillWanted.No, Planner.Look(c, Desired.At(Named("Dive"), Edition, Now), isRecorded: true))
        );
        Assert.Equal(StillWanted.No, Planner.Look(plan.Changes.Single(c => c is Change.DisableAccount), Desired.At(Named(), Edition, Now)));
    }

    [Fact]
    public void Each_is_decided_on_its_own_and_declining_one_leaves_the_other()
    {
        var items = Items.Of(PlanOf(Named(), AccessState.Nothing), Edition.Rulebook);
        Assert.Equal(
            [
                ("directory", "directory"),
                ("directory/pay", "directory"),
                ("directory:administrator", "directory:administrator"),
                ("directory:administrator/root", "directory:administrator"),
            ],
            items.Select(i => (i.Key, i.Account)).Order()
        );
        Assert.True(items.Single(i => i.Key == "directory:administrator/root").IsPrivileged);
        var refused = Named() with { Refused = ["directory:administrator"] };
        var state = Desired.At(refused, Edition, Now);
        Assert.Equal(["directory"], state.Accounts.Keys.Select(k => k.ToString()));
        Assert.Equal(["directory/pay"], state.Grants.Keys.Select(k => k.ToString()));
        Assert.Equal(["directory"], Desired.Windows(refused, Edition).Accounts.Keys.Select(k => k.ToString()));
        Assert.Equal(["directory/pay"], Desired.Windows(refused, Edition).Grants.Keys.Select(k => k.ToString()));
        Assert.Empty(Desired.NameWishes(refused, Edition, Admin));
    }

    [Fact]
    public void Match_keys_lead_to_the_ordinary_account_alone()
    {
        var target = Edition.Rulebook.Targets["directory"];
        var asking = Edition.Rulebook.Access.Ask();
        var state = Desired.At(Named(), Edition, Now);
        Assert.Equal([("employeeNumber", "E1")], asking.Keys(Named(), target, "directory", state.Accounts["directory"].Attributes));
        Assert.Equal([("uid", "adm-tor")], asking.Keys(Named(), target, Admin, state.Accounts[Admin].Attributes));
        Assert.Empty(asking.Keys(Small.Person(Small.Facts()), target, Admin, state.Accounts[Admin].Attributes));
        Assert.Equal([("employeeNumber", "E1")], asking.MatchKeys(Named(), target));
    }

    [Fact]
    public void A_separation_holds_between_the_accounts_of_one_person()
    {
        var edition = Small.Edition(
            ("templates/keepers.yaml", Keepers),
            ("separations/apart.yaml", "name: apart\nnobody-with: [directory/pay]\nalso-has: [directory/root]\n")
        );
        var fault = Assert.Throws<PlanFault>(() => Separations.In(Desired.At(Named(), edition, Now), edition.Rulebook));
        Assert.Contains("directory:administrator/root", fault.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void A_rehearsal_and_an_explanation_tell_the_slot()
    {
        var rehearsal = new Rehearsal(Small.Edition().Rulebook, Edition.Rulebook, Now).Begin();
        rehearsal.Look(new("1", Named(), Named()));
        var report = new Rehearsal(Small.Edition().Rulebook, Edition.Rulebook, Now).End([rehearsal]);
        Assert.Equal(
            [
                (EffectKind.AccountGained, "directory:administrator", "adm-tor"),
                (EffectKind.GrantGained, "directory", "pay"),
                (EffectKind.GrantGained, "directory:administrator", "root"),
            ],
            report.Affected.Single().Effects.Select(e => (e.Kind, e.Target, e.Subject)).Order()
        );
        Assert.True(Explain.Account(Named(), Edition, Admin, Now).Wanted);
        Assert.False(Explain.Account(Named("Dive"), Edition, Admin, Now).Wanted);
        Assert.True(Explain.Grant(Named(), Edition, EntitlementKey.Parse("directory:administrator/root"), Now).Wanted);
        Assert.False(Explain.Grant(Named(), Edition, EntitlementKey.Parse("directory/root"), Now).Wanted);
    }

    [Fact]
    public void A_change_keeps_its_slot_and_one_of_the_ordinary_account_is_kept_as_before_there_were_slots()
    {
        var plan = Plan.FromJson(PlanOf(Named(), AccessState.Nothing).ToJson());
        Assert.Equal(PlanOf(Named(), AccessState.Nothing).Digest, plan.Digest);
        Assert.Equal(["directory", "directory:administrator"], plan.Changes.Select(c => c.Account.ToString()).Distinct());
        Assert.Equal(
            ["directory/pay", "directory:administrator/root"],
            plan.Changes.OfType<Change.Grant>().Select(g => g.Given.ToString())
        );
        Assert.DoesNotContain(
            "slot",
            PlanOf(Small.Person(Small.Facts()), AccessState.Nothing).ToJson(),
            StringComparison.OrdinalIgnoreCase
        );
    }

    [Theory]
    [InlineData("directory:Administrator:\n    name: given", "'Administrator' is no name of a slot")]
    [InlineData("directory:administrator:\n    name: given\n    attributes: { employeeNumber: number }", "finds the ordinary account")]
    [InlineData("nowhere:administrator:\n    name: given", "There is no target 'nowhere'")]
    public void What_would_mix_accounts_up_is_found_when_the_rulebook_is_read(string account, string expected)
    {
        var reading = RulebookReader.Read(Small.Files(("templates/keepers.yaml", $"name: keepers\naccounts:\n  {account}\n")));
        Assert.Contains(reading.Findings, f => f.Message.Contains(expected, StringComparison.Ordinal));
    }

    [Fact]
    public void A_grant_to_a_slot_that_nobody_makes_is_found()
    {
        var reading = RulebookReader.Read(
            Small.Files(("templates/keepers.yaml", "name: keepers\ngrants: [{ to: directory:adminstrator/pay }]\n"))
        );
        Assert.Contains(
            reading.Findings,
            f => f.Message.Contains("No template makes an account in 'directory:adminstrator'", StringComparison.Ordinal)
        );
    }
}

/// <summary>An account that belongs to nobody, until it ends.</summary>
public sealed class NobodysAccountTests
{
    private static readonly DateTimeOffset Now = new(2026, 3, 2, 12, 0, 0, TimeSpan.Zero);

    private static NobodysAccount Account(DateTimeOffset? until, bool enabled = true) =>
        new(
            new(
                "directory",
                "svc-backup",
                "ou=services",
                new Dictionary<string, IReadOnlyList<string>>(),
                enabled ? Presence.Awake : Presence.Disabled,
                new("baseline", "", "")
            ),
            "id-9",
            until,
            new("closing", "", "its end was approved")
        );

    private static string Words(Plan plan) => string.Join(" ", plan.Changes.Select(c => $"{c.Ordinal}:{c.Kind}:{c.Due:yyyy-MM-dd}"));

    [Fact]
    public void It_stays_as_it_is_while_no_end_is_known()
    {
        Assert.Equal("", Words(Account(null).Plan(3, true, Now)));
        Assert.True(Account(null).Windows().At(Now).Accounts["directory"].Enabled);
        Assert.False(Account(null, enabled: false).Windows().At(Now).Accounts["directory"].Enabled);
    }

    [Fact]
    public void It_is_disabled_at_its_end_and_read_back()
    {
        Assert.Equal("1:DisableAccount: 2:Verify:", Words(Account(Now).Plan(3, true, Now)));
        Assert.Equal("1:DisableAccount:2026-03-05 2:Verify:2026-03-05", Words(Account(Now.AddDays(3)).Plan(3, true, Now)));
        Assert.Equal("1:DisableAccount:", Words(Account(Now.AddDays(-1)).Plan(3, false, Now)));
        Assert.Equal("", Words(Account(Now, enabled: false).Plan(3, true, Now)));
        var plan = Account(Now.AddDays(3)).Plan(3, true, Now);
        Assert.Equal((3, "id-9", false), (plan.Edition, plan.Changes[0].Entry.ImmutableId, plan.Changes[0].Entry.Enabled));
        Assert.Equal(StillWanted.No, Planner.Look(plan.Changes[0], Account(Now.AddDays(3)).Windows().At(Now)));
        Assert.Equal(StillWanted.Yes, Planner.Look(plan.Changes[0], Account(Now.AddDays(3)).Windows().At(Now.AddDays(3))));
    }
}
