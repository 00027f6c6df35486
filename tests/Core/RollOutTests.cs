using Oikonom.Core.Approval;
using Oikonom.Core.Intake;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Xunit;

namespace Oikonom.Core.Tests;

public sealed class RollOutTests
{
    private static readonly DateTimeOffset Now = new(2026, 11, 25, 12, 0, 0, TimeSpan.Zero);

    private static Edition On(int number, params (string Path, string Text)[] more) =>
        Small.Edition(more) with
        {
            Number = number,
            ReachedBy = number,
        };

    private static (string, string) Template(string name, string text) =>
        ($"templates/{name}.yaml", $"name: {name}\ntitle: {name}\n{text}\n");

    private static readonly (string, string) Pay = Template("pay", "when: department == \"Office\"\ngrants: [{ to: directory/pay }]");
    private static readonly (string, string) Audit = Template("audit", "when: department == \"Office\"\ngrants: [{ to: directory/audit }]");

    /// <summary>What is recorded is what an edition says of the person.</summary>
    private static AccessState Recorded(Edition edition, Subject person) => Desired.At(person, edition, Now);

    private static Plan PlanOf(Wish wish, Subject person, AccessState recorded, Edition edition, Edition? earlier, RequestKind kind) =>
        wish.Plan(
            person,
            person,
            recorded,
            new Dictionary<AccountKey, string>(),
            new Dictionary<AccountKey, ExistingAccount>(),
            edition,
            kind,
            Now,
            earlier is null ? null : new(earlier, person, person)
        );

    private static IReadOnlyList<string> Said(IEnumerable<Change> changes) =>
        [.. changes.Where(c => c is not Change.Verify).Select(c => $"{c.Kind} {c.Subject}")];

    [Fact]
    public void A_mover_takes_the_newest_edition_and_what_comes_of_its_rules_is_marked()
    {
        var (three, four) = (On(3, Pay), On(4, Pay, Audit));
        // HR moved them from another department; the third edition knows of the move only.
        var recorded = Recorded(three, Small.Person(Small.Facts("E1", "Dive")));
        var plan = PlanOf(Wish.Nothing, Small.Person(Small.Facts("E1", "Office")), recorded, four, three, RequestKind.Mover);
        Assert.Equal((4, 3), (plan.Edition, plan.From));
        Assert.Equal(["Grant audit", "Grant pay"], Said(plan.Changes).Order(StringComparer.Ordinal));
        Assert.Equal(["Grant audit"], Said(plan.Changes.Where(c => plan.ByRules!.Contains(c.Ordinal))));
        // On the edition already, nothing is marked.
        Assert.Equal(
            (null, null),
            PlanOf(Wish.Nothing, Small.Person(Small.Facts("E1", "Office")), recorded, four, null, RequestKind.Mover) is var own
                ? (own.From, own.ByRules)
                : default
        );
    }

    [Fact]
    public void Who_is_only_put_on_an_edition_gets_what_the_rules_change_and_nothing_that_is_under_way()
    {
        var everyone = (
            "templates/everyone.yaml",
            Small.Everyone.Replace("cn: given", "cn: given + \" \" + family", StringComparison.Ordinal)
        );
        var (three, four) = (On(3, Pay), On(4, Pay, Audit, everyone));
        // The move to the office is not decided yet: nobody gets what belongs to it by the way.
        var recorded = Recorded(three, Small.Person(Small.Facts("E1", "Dive")));
        var plan = PlanOf(new() { Edition = 4 }, Small.Person(Small.Facts("E1", "Office")), recorded, four, three, RequestKind.Change);
        Assert.Equal(["ChangeAccount tor.quill", "Grant audit"], Said(plan.Changes));
        Assert.Equal(["cn"], plan.Changes.OfType<Change.ChangeAccount>().Single().Attributes.Select(a => a.Name));
        Assert.Equal(Enumerable.Range(1, plan.Changes.Count), plan.Changes.Select(c => c.Ordinal));
        Assert.Contains(plan.Changes, c => c is Change.Verify);
        // Going there and back is nothing.
        var there = Recorded(four, Small.Person(Small.Facts("E1", "Office")));
        var back = PlanOf(new() { Edition = 3 }, Small.Person(Small.Facts("E1", "Office")), there, three, four, RequestKind.Change);
        Assert.Equal(["ChangeAccount tor.quill", "Revoke audit"], Said(back.Changes));
        // An attribute that only the rules of before set is emptied, and no other that the entry holds.
        var described = On(
            5,
            Pay,
            Audit,
            ("templates/everyone.yaml", Small.Everyone.Replace("cn: given", "cn: given, description: title", StringComparison.Ordinal))
        );
        var held = Recorded(described, Small.Person(Small.Facts("E1", "Office")));
        var account = held.Accounts["directory"];
        var more = new Dictionary<string, IReadOnlyList<string>>(account.Attributes) { ["seeAlso"] = ["by hand"] };
        held = held with { Accounts = new Dictionary<AccountKey, AccountState> { ["directory"] = account with { Attributes = more } } };
        var off = PlanOf(
            new() { Edition = 3 },
            Small.Person(Small.Facts("E1", "Office")),
            held,
            On(3, Pay, Audit),
            described,
            RequestKind.Change
        );
        Assert.Equal(
            [("description", 0)],
            off.Changes.OfType<Change.ChangeAccount>().Single().Attributes.Select(a => (a.Name, a.After.Count))
        );
        Assert.Equal(StillWanted.Yes, Planner.Look(off.Changes[0], Recorded(On(3, Pay, Audit), Small.Person(Small.Facts("E1", "Office")))));
        Assert.NotEqual(plan.Inputs, back.Inputs);
        Assert.True(new Wish { Edition = 3 }.ChangesInputs);
    }

    [Fact]
    public void What_is_asked_for_on_a_newer_edition_brings_what_its_rules_change_too()
    {
        var (three, four) = (On(3, Pay), On(4, Pay, Audit));
        var person = Small.Person(Small.Facts("E1", "Office"));
        var asks = new Wish { Grants = [new("directory", "keys", null, null)] };
        var after = person with { Extra = [new(new("directory", "keys"), Now, null, new("request", "1", ""))] };
        var plan = asks.Plan(
            person,
            after,
            Recorded(three, person),
            new Dictionary<AccountKey, string>(),
            new Dictionary<AccountKey, ExistingAccount>(),
            four,
            RequestKind.Access,
            Now,
            new(three, person, person)
        );
        Assert.Equal(["Grant audit", "Grant keys"], Said(plan.Changes));
        Assert.Equal(["Grant audit"], Said(plan.Changes.Where(c => plan.ByRules!.Contains(c.Ordinal))));
        Assert.Equal(3, plan.From);
    }

    [Fact]
    public void A_decision_covers_what_changes_whatever_its_order_and_the_name_a_new_account_gets()
    {
        static Affected Of(params Effect[] effects) => new("1", "E1", "Tor", "Dive", "harbour", effects, null);
        var gains = new Effect(EffectKind.GrantGained, "directory", "pay", "pay", Effect.NoAttributes);
        var account = new Effect(EffectKind.AccountGained, "directory", "tor.quill", "everyone", Effect.NoAttributes);
        Effect Changed(string to) => new(EffectKind.AccountChanged, "directory", "tor", "everyone", [new("cn", ["Tor"], [to])]);
        Assert.Equal(Of(gains, account).Digest, Of(account with { Subject = "tor.quill2" }, gains).Digest);
        Assert.NotEqual(Of(gains).Digest, Of(gains with { Subject = "audit" }).Digest);
        Assert.NotEqual(Of(gains).Digest, Of(gains with { Kind = EffectKind.GrantLost }).Digest);
        Assert.NotEqual(Of(gains).Digest, Of(gains with { Rule = "other" }).Digest);
        Assert.NotEqual(Of(Changed("Tor Quill")).Digest, Of(Changed("Tor Reed")).Digest);
        Assert.Equal((false, true), (Of(gains, Changed("x")).Loses, Of(gains, gains with { Kind = EffectKind.GrantLost }).Loses));
        Assert.True(
            Of(account with { Kind = EffectKind.AccountPutToSleep }).Loses && Of(account with { Kind = EffectKind.AccountLost }).Loses
        );
    }

    [Fact]
    public void Everybody_is_compared_with_the_edition_they_are_on()
    {
        var (two, three, four) = (On(2), On(3, Pay), On(4, Pay, Audit));
        var rehearsal = new Rehearsal(three.Rulebook, four.Rulebook, Now)
        {
            Others = new Dictionary<long, Rulebook.Rulebook> { [2] = two.Rulebook },
        };
        var part = rehearsal.Begin();
        var person = Small.Person(Small.Facts("E1", "Office"));
        part.Look(new("on three", person, person, 3));
        part.Look(new("on two", person, person, 2));
        part.Look(new("unchanged", Small.Person(Small.Facts("E2", "Dive")), Small.Person(Small.Facts("E2", "Dive")), 2));
        var report = rehearsal.End([part]);
        Assert.Equal(
            [("on three", 3L, "audit"), ("on two", 2L, "audit pay")],
            report.Affected.Select(a => (a.Id, a.On, string.Join(' ', a.Effects.Select(e => e.Subject).Order()))).OrderBy(a => a.Id)
        );
        var alone = Rehearsal.Of(new("1", person, person, 2), two.Rulebook, four.Rulebook, Now);
        Assert.Equal(report.Affected.Single(a => a.On == 2).Digest, alone.Digest);
        // What the draft does not look after any more is lost by nobody.
        var smaller = On(
            5,
            (
                "targets/directory.yaml",
                Small.Target.Replace("  pay: { title: Payments, group: cn=pay, owner: E9 }\n", "", StringComparison.Ordinal)
            )
        );
        var left = Rehearsal.Of(new("1", person, person, 3), three.Rulebook, smaller.Rulebook, Now);
        Assert.Equal([(EffectKind.LeftAlone, "pay")], left.Effects.Select(e => (e.Kind, e.Subject)));
        Assert.False(left.Loses);
        Assert.Empty(Rehearsal.Of(new("1", person, person, 4), four.Rulebook, four.Rulebook, Now).Effects);
    }

    [Fact]
    public void What_differs_only_later_is_told_with_its_days()
    {
        static (string, string)[] Of(Affected affected) =>
            [.. affected.Effects.Select(e => ($"{EnumText.Of(e.Kind)} {e.Subject}", $"{e.From:yyyy-MM-dd}..{e.Until:yyyy-MM-dd}"))];

        static Edition Until(string? day) =>
            On(
                2,
                (
                    "templates/pay.yaml",
                    "name: pay\ntitle: Pay\ngrants:\n  - to: directory/pay\n" + (day is null ? "" : $"    until: date(\"{day}\")\n")
                )
            );

        var person = Small.Person(Small.Facts("E1", "Office", end: "2031-06-30"));
        Affected Between(Edition before, Edition after) => Rehearsal.Of(new("1", person, person), before.Rulebook, after.Rulebook, Now);

        Assert.Equal([("grant-lost pay", "2030-03-01..")], Of(Between(Until(null), Until("2030-02-28"))));
        Assert.Equal([("grant-gained pay", "2030-03-01..2031-05-31")], Of(Between(Until("2030-02-28"), Until("2031-05-31"))));
        Assert.Equal([("grant-gained pay", "..2030-02-28")], Of(Between(On(1), Until("2030-02-28"))));
        // What lasts as long as they stay has no day of its own, and what ends after them differs from nothing.
        Assert.Equal([("grant-gained pay", "..")], Of(Between(On(1), Until(null))));
        Assert.Empty(Between(Until(null), Until("2032-01-01")).Effects);
        Assert.True(Between(Until(null), Until("2030-02-28")).Loses);
        Assert.NotEqual(Between(On(1), Until(null)).Digest, Between(On(1), Until("2030-02-28")).Digest);
        Assert.NotEqual(Between(Until(null), Until("2030-02-28")).Digest, Between(Until(null), Until("2030-03-31")).Digest);
    }

    [Fact]
    public void The_digest_of_what_happens_at_once_is_as_it_was() =>
        Assert.Equal(
            "79a38acca5c336962d3cd44b18b4e815",
            new Affected("1", "", "", "", "", [new(EffectKind.GrantGained, "directory", "pay", "pay", Effect.NoAttributes)], null).Digest
        );

    [Fact]
    public void Rules_of_an_earlier_edition_hold_in_the_world_as_the_newest_knows_it()
    {
        var old = Northmere.Edition.Rulebook;
        var moved = RulebookReader
            .Read([
                .. Northmere
                    .Files.Where(f => f.Path != "pools/till.yaml")
                    .Select(f =>
                        f.Path == "targets/directory.yaml"
                            ? f with
                            {
                                Text = f
                                    .Text.Replace(":7436", ":7999", StringComparison.Ordinal)
                                    .Replace("title: Dive team", "title: Divers", StringComparison.Ordinal)
                                    .Replace("ou=people", "ou=staff", StringComparison.Ordinal),
                            }
                        : f.Path == "templates/ticket-desk.yaml"
                            ? f with
                            {
                                Text =
                                    "name: ticket-desk\ntitle: T\nwhen: department == \"Visitor Services\"\ngrants: [{ to: directory/ticket-desk }]\n",
                            }
                        : f
                    ),
            ])
            .Rulebook!;
        var seen = old.In(moved);
        var (before, now) = (
            (TargetSettings.Ldap)old.Targets["directory"].Settings,
            (TargetSettings.Ldap)seen.Targets["directory"].Settings
        );
        Assert.Equal(7999, now.Port);
        Assert.Equal(before.Container, now.Container);
        Assert.Equal("Divers", seen.Targets["directory"].Entitlements["dive-team"].Title);
        Assert.Equal(old.Templates, seen.Templates);
        Assert.Contains("till", seen.Pools.Keys);
        Assert.Equal(old.Targets.Keys, seen.Targets.Keys);
        Assert.NotSame(old.Access, seen.Access);
    }

    [Fact]
    public void What_the_deciding_edition_does_not_know_weighs_as_much_as_what_weighs_most()
    {
        var (three, four) = (On(3, Pay, Audit), On(4));
        var plan = new Plan(
            3,
            [
                new Change.Grant(new("directory", "pay"), Entry.None, new("pay", "", "")) { Ordinal = 1 },
                new Change.Grant(new("directory", "gone"), Entry.None, new("gone", "", "")) { Ordinal = 2 },
                new Change.Revoke(new("directory", "old"), Entry.None, new("old", "", "")) { Ordinal = 3 },
            ]
        );
        Assert.Equal(
            [("directory/pay", false), ("directory/gone", true), ("directory/old", false)],
            Items.Of(plan, four.Rulebook).Select(i => (i.Key, i.IsPrivileged))
        );
        Assert.NotEmpty(three.Rulebook.Templates);
    }

    [Fact]
    public void Only_these_moves_are_made()
    {
        var moves =
            from state in Enum.GetValues<RollOutState>()
            from what in Enum.GetValues<RollOutEvent>()
            let next = Next(state, what)
            where next is not null
            select $"{state} {what} {next}";
        Assert.Equal(
            [
                "Held Release Open",
                "Held Supersede Superseded",
                "Open Begin Running",
                "Open Supersede Superseded",
                "Running WaveEnded Pausing",
                "Running Finish Done",
                "Running Stop Stopped",
                "Running Supersede Superseded",
                "Pausing Begin Running",
                "Pausing Stop Stopped",
                "Pausing TurnBack TurningBack",
                "Pausing Supersede Superseded",
                "Stopped Begin Running",
                "Stopped TurnBack TurningBack",
                "Stopped Supersede Superseded",
                "TurningBack Stop Stopped",
                "TurningBack WaveTurnedBack Stopped",
                "TurningBack AllTurnedBack TurnedBack",
                "TurningBack Supersede Superseded",
                "Done Begin Running",
                "Done TurnBack TurningBack",
                "Superseded TurnBack TurningBack",
            ],
            moves
        );
        Assert.Equal(
            [RollOutState.Open, RollOutState.Running, RollOutState.Pausing, RollOutState.Stopped],
            Enum.GetValues<RollOutState>().Where(RollOutMachine.IsDecidedOn)
        );
        Assert.Equal(
            [RollOutState.Done, RollOutState.TurnedBack, RollOutState.Superseded],
            Enum.GetValues<RollOutState>().Where(s => !RollOutMachine.IsOpen(s))
        );

        static RollOutState? Next(RollOutState state, RollOutEvent what)
        {
            try
            {
                return RollOutMachine.Next(state, what);
            }
            catch (RefusedMove refused)
            {
                Assert.Equal("wrong-state", refused.Code);
                return null;
            }
        }
    }

    [Fact]
    public void The_rulebook_says_who_decides_and_who_lets_pass()
    {
        static Party Who(string number, params string[] roles) =>
            new("u" + number, roles.ToHashSet(), number.Length > 0 ? number : null, true);
        var rulebook = Northmere.Edition.Rulebook;
        var rule = rulebook.RollOuts;
        Assert.Equal("25 %", rule.Brake.ToString());
        Assert.True(rule.MayDecide(Who("E1008"), "", rulebook));
        Assert.False(rule.MayDecide(Who("E1005", "approver", "engineer"), "", rulebook));
        // Heads decide about their own department, and nobody without a number about any.
        Assert.True(rule.MayDecide(Who("E1005"), "Research", rulebook));
        Assert.False(rule.MayDecide(Who("E1005"), "Dive Team", rulebook));
        Assert.False(rule.MayDecide(Who("", "approver"), "Office", rulebook));
        Assert.Equal((true, false), (rule.MayPass(Who("", "engineer")), rule.MayPass(Who("E1008", "approver"))));
        var person = rule with { Passes = "person:E9", Decides = [new("role", "auditor", null), new("person", "E7", null)] };
        Assert.Equal((true, false), (person.MayPass(Who("E9")), person.MayPass(Who("", "engineer"))));
        Assert.Equal(
            (true, true, false),
            (
                person.MayDecide(Who("", "auditor"), "", rulebook),
                person.MayDecide(Who("E7"), "", rulebook),
                person.MayDecide(Who("E8", "approver"), "", rulebook)
            )
        );
        var wrong = RulebookReader
            .Read(Northmere.With("rulebook.yaml", "decides: group:data-office", "decides: manager"))
            .Findings.Single();
        Assert.Contains("decided by role:NAME, person:NUMBER or group:NAME", wrong.Message, StringComparison.Ordinal);
    }
}
