using CsCheck;
using Oikonom.Core.Expressions;
using Oikonom.Core.Intake;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>A rulebook of a few lines, made for one test.</summary>
internal static class Small
{
    /// <summary>An entitlement of the one directory.</summary>
    public static EntitlementKey Key(string name) => new("directory", name);

    public const string Target = """
        name: directory
        title: Directory
        kind: ldap
        address: ldaps://127.0.0.1:636
        authority: ca
        sign-in: { name: cn=x, secret: s }
        container: ou=people
        groups: ou=groups
        classes: [inetOrgPerson]
        match: [employeeNumber]
        entitlements:
          pay: { title: Payments, group: cn=pay, owner: E9 }
          audit: { title: Audit, group: cn=audit, owner: E9 }
          root: { title: Root, group: cn=root, owner: E9, privileged: yes, most-holders: 2 }
        """;

    public const string Everyone = """
        name: everyone
        accounts:
          directory:
            name: [given + "." + family, 'given.substring(0, 1) + "." + family']
            attributes: { cn: given, employeeNumber: number }
        """;

    public const string Staff = """
        name: staff
        for: [joiner, mover, leaver]
        stages: [{ name: m, decides: manager, otherwise: role:approver }]
        """;

    public static List<RulebookFile> Files(params (string Path, string Text)[] more)
    {
        var files = new Dictionary<string, string>
        {
            ["rulebook.yaml"] = "name: small\nsites:\n  harbour: { zone: Europe/Lisbon }\n  reef: { zone: Australia/Hobart }\n",
            ["targets/directory.yaml"] = Target,
            ["templates/everyone.yaml"] = Everyone,
            ["workflows/staff.yaml"] = Staff,
        };
        foreach (var (path, text) in more)
            files[path] = text;
        return [.. files.Select(f => new RulebookFile(f.Key, f.Value))];
    }

    public static Edition Edition(params (string Path, string Text)[] more)
    {
        var reading = RulebookReader.Read(Files(more));
        return new(1, "", reading.Rulebook ?? throw new InvalidOperationException(string.Join("\n", reading.Findings)));
    }

    public static Facts Facts(
        string number = "E1",
        string department = "Dive",
        string start = "2026-01-05",
        string? end = null,
        string site = "harbour",
        string title = "Diver"
    ) =>
        new([
            new("person", Value.Of("P1")),
            new("number", Value.Of(number)),
            new("given", Value.Of("Tor")),
            new("family", Value.Of("Quill")),
            new("kind", Value.Of("employee")),
            new("start", Value.Of(DateOnly.Parse(start, null))),
            new("end", end is null ? Value.Null : Value.Of(DateOnly.Parse(end, null))),
            new("department", Value.Of(department)),
            new("site", Value.Of(site)),
            new("title", Value.Of(title)),
        ]);

    public static Subject Person(Facts facts, params Facts[] others) =>
        new(PersonId.New(DateTimeOffset.UnixEpoch), facts, new Dictionary<AccountKey, string> { ["directory"] = "tor.quill" })
        {
            Others = others,
        };
}

public sealed class RuleTests
{
    private static readonly DateTimeOffset Now = new(2026, 11, 25, 12, 0, 0, TimeSpan.Zero);

    private static (string, string) Template(string name, string rest) => ($"templates/{name}.yaml", $"name: {name}\n{rest}");

    private static Plan PlanOf(Subject person, Edition edition, AccessState? recorded = null, RequestKind kind = RequestKind.Joiner) =>
        Planner.Make(
            person,
            recorded ?? AccessState.Nothing,
            new Dictionary<AccountKey, string>(),
            new Dictionary<AccountKey, ExistingAccount>(),
            edition,
            kind,
            Now
        );

    [Fact]
    public void Grants_come_from_every_employment_in_term_and_attributes_from_the_one_that_leads()
    {
        var edition = Small.Edition(
            Template("pay", "when: department == \"Office\"\ngrants: [{ to: directory/pay }]"),
            Template("audit", "when: department == \"Dive\"\ngrants: [{ to: directory/audit }]")
        );
        var person = Small.Person(Small.Facts(), Small.Facts("E2", "Office", "2026-12-01", "2026-12-31"));
        AccessState At(int month, int day) => Desired.At(person, edition, new(2026, month, day, 12, 0, 0, TimeSpan.Zero));
        Assert.Equal([Small.Key("audit")], At(11, 25).Grants.Keys);
        Assert.Equal([Small.Key("audit"), Small.Key("pay")], At(12, 10).Grants.Keys.Order());
        Assert.Equal(["E1"], At(12, 10).Accounts["directory"].Attributes["employeeNumber"]);
        Assert.Equal([Small.Key("audit")], Desired.At(person, edition, new(2027, 1, 2, 12, 0, 0, TimeSpan.Zero)).Grants.Keys);
        // The account lives as long as any employment does.
        var leaving = Small.Person(Small.Facts(end: "2026-11-30"), Small.Facts("E2", "Office", "2026-12-01"));
        Assert.True(Desired.At(leaving, edition, new(2027, 1, 2, 12, 0, 0, TimeSpan.Zero)).Accounts["directory"].Enabled);
        Assert.Equal(
            ["E2"],
            Desired.At(leaving, edition, new(2027, 1, 2, 12, 0, 0, TimeSpan.Zero)).Accounts["directory"].Attributes["employeeNumber"]
        );
    }

    [Fact]
    public void Grants_and_accounts_keep_to_days_relative_to_the_employment()
    {
        var edition = Small.Edition(
            ("templates/everyone.yaml", Small.Everyone + "\n    enabled-from: start - P2D\n    enabled-until: end + P1D\n    lead: P7D\n"),
            Template("pay", "grants: [{ to: directory/pay, from: start + P10D, until: start + P20D }]")
        );
        var person = Small.Person(Small.Facts(start: "2026-12-01", end: "2027-02-01"));
        AccountState? Account(DateTimeOffset at) => Desired.At(person, edition, at).Accounts.GetValueOrDefault("directory");
        var start = new DateTimeOffset(2026, 12, 1, 0, 0, 0, TimeSpan.Zero);
        Assert.Null(Account(start.AddDays(-7).AddSeconds(-1)));
        Assert.False(Account(start.AddDays(-7))!.Enabled);
        Assert.True(Account(start.AddDays(-2))!.Enabled);
        Assert.True(Account(new(2027, 2, 2, 23, 59, 59, TimeSpan.Zero))!.Enabled);
        Assert.False(Account(new(2027, 2, 3, 0, 0, 0, TimeSpan.Zero))!.Enabled);
        bool Pays(DateTimeOffset at) => Desired.At(person, edition, at).Grants.ContainsKey(Small.Key("pay"));
        Assert.Equal(
            [false, true, true, false],
            [
                Pays(start.AddDays(10).AddSeconds(-1)),
                Pays(start.AddDays(10)),
                Pays(start.AddDays(21).AddSeconds(-1)),
                Pays(start.AddDays(21)),
            ]
        );
        // Every change of the value lies on a turn.
        var turns = Desired.Windows(person, edition).Turns;
        foreach (var at in Enumerable.Range(-20, 120).Select(d => start.AddDays(d)))
        {
            var (before, after) = (Desired.At(person, edition, at.AddSeconds(-1)), Desired.At(person, edition, at));
            if (!before.Grants.Keys.SequenceEqual(after.Grants.Keys) || before.Accounts.Count != after.Accounts.Count)
                Assert.Contains(at, turns);
        }
    }

    [Fact]
    public void A_blocking_separation_stops_a_plan_and_names_both_reasons()
    {
        var edition = Small.Edition(
            Template("pay", "grants: [{ to: directory/pay }]"),
            Template("audit", "when: department == \"Dive\"\ngrants: [{ to: directory/audit, from: start + P400D }]"),
            (
                "separations/money.yaml",
                "name: money\ntitle: Nobody pays and audits\nnobody-with: [directory/pay]\nalso-has: [directory/audit]\n"
            )
        );
        // It is broken only in a year from now, and still found.
        var fault = Assert.Throws<PlanFault>(() => PlanOf(Small.Person(Small.Facts()), edition));
        Assert.Contains("Nobody pays and audits", fault.Message, StringComparison.Ordinal);
        Assert.Contains("templates/pay.yaml", fault.Message, StringComparison.Ordinal);
        Assert.Contains("templates/audit.yaml", fault.Message, StringComparison.Ordinal);
        Assert.Null(PlanOf(Small.Person(Small.Facts(department: "Office")), edition).Conflicts);
    }

    [Fact]
    public void A_separation_that_asks_goes_to_its_approver_and_is_part_of_what_is_approved()
    {
        var edition = Small.Edition(
            Template("both", "grants: [{ to: directory/pay }, { to: directory/audit }]"),
            (
                "separations/money.yaml",
                "name: money\ntitle: Nobody pays and audits\nnobody-with: [directory/pay]\nalso-has: [directory/audit]\nthen: "
                    + "decide\ndecides: role:auditor\n"
            )
        );
        var plan = PlanOf(Small.Person(Small.Facts()), edition);
        var conflict = Assert.Single(plan.Conflicts!);
        Assert.Equal(("directory/pay", "directory/audit", "role:auditor"), (conflict.One, conflict.Other, conflict.Decides));
        Assert.NotEqual(plan.Digest, (plan with { Conflicts = null }).Digest);
        Assert.Equal(plan.Digest, Plan.FromJson(plan.ToJson()).Digest);
    }

    [Fact]
    public void Privileged_access_is_asked_for_with_an_end_and_an_old_one_without_holds_up_no_other_plan()
    {
        var edition = Small.Edition(Template("keepers", "on-request: yes\ngrants: [{ to: directory/root }]"));
        var person = Small.Person(Small.Facts());
        var end = Now.AddHours(8);
        foreach (
            var (open, ended) in new[]
            {
                (new Wish { Grants = [new("directory", "root", null, null)] }, new Wish { Grants = [new("directory", "root", null, end)] }),
                (new Wish { Templates = [new("keepers", null, null)] }, new Wish { Templates = [new("keepers", null, end)] }),
            }
        )
        {
            var fault = Assert.Throws<PlanFault>(() => PlanOf2(open, person, RequestKind.Access));
            Assert.Contains("never given without an end", fault.Message, StringComparison.Ordinal);
            var given = PlanOf2(ended, person, RequestKind.Access).Changes.OfType<Change.Grant>().Single();
            Assert.Equal("root", given.Given.Name);
        }
        // It was given before it was privileged: who leaves, leaves.
        var before = person with
        {
            Extra = [new(new("directory", "root"), Now.AddDays(-9), null, new("request", "", ""))],
        };
        Assert.Contains(
            PlanOf2(new Wish { Urgent = true }, before, RequestKind.Leaver, Desired.At(before, edition, Now)).Changes,
            c => c is Change.Revoke { Taken.Name: "root", Due: null }
        );

        Plan PlanOf2(Wish wish, Subject who, RequestKind kind, AccessState? recorded = null) =>
            wish.Plan(
                who,
                wish.Apply(who, edition.Rulebook, new("request", "1", ""), Now),
                recorded ?? AccessState.Nothing,
                new Dictionary<AccountKey, string>(),
                new Dictionary<AccountKey, ExistingAccount>(),
                edition,
                kind,
                Now
            );
    }

    [Fact]
    public void A_mover_keeps_what_is_lost_for_the_hand_over()
    {
        var edition = Small.Edition(
            Template("pay", "when: department == \"Office\"\ngrants: [{ to: directory/pay, hand-over: P14D }]"),
            Template("audit", "when: department == \"Dive\"\ngrants: [{ to: directory/audit }]")
        );
        var before = Desired.At(Small.Person(Small.Facts(department: "Office")), edition, Now);
        var plan = PlanOf(Small.Person(Small.Facts(department: "Dive")), edition, before, RequestKind.Mover);
        var revoke = plan.Changes.Single(c => c.Kind == ChangeKind.Revoke);
        Assert.Equal((Now.AddDays(14), true, "pay"), (revoke.Due, revoke.Later, revoke.Subject));
        Assert.Equal(ChangeKind.Verify, plan.Changes[^1].Kind);
        Assert.True(
            plan.Changes.Zip(plan.Changes.Skip(1))
                .All(p => (p.First.Due ?? DateTimeOffset.MinValue) <= (p.Second.Due ?? DateTimeOffset.MinValue))
        );
        // Who leaves altogether keeps nothing.
        var left = PlanOf(Small.Person(Small.Facts(department: "Dive", end: "2026-11-20")), edition, before, RequestKind.Leaver);
        Assert.All(left.Changes, c => Assert.Null(c.Due));
    }

    [Fact]
    public void Targets_come_in_the_order_they_wait_for_each_other()
    {
        var mail = Small
            .Target.Replace("name: directory\n", "name: mail\nafter: [directory]\n", StringComparison.Ordinal)
            .Replace(
                "match: [employeeNumber]",
                "match:\n  - employeeNumber\n  - { attribute: mail, when: kind == \"employee\" }",
                StringComparison.Ordinal
            );
        var edition = Small.Edition(
            ("targets/a-mail.yaml", mail),
            (
                "templates/mail.yaml",
                (
                    "name: mail\naccounts:\n  mail:\n    name: names.directory + \"-box\"\n    attributes: { cn: names.directory, "
                    + "mail: 'account.name + \"@x\"' }\n"
                ).Replace("names.directory + \"-box\"", "given", StringComparison.Ordinal)
            )
        );
        var person = Small.Person(Small.Facts()) with
        {
            AccountNames = new Dictionary<AccountKey, string> { ["directory"] = "tor.quill", ["mail"] = "tor" },
        };
        var plan = PlanOf(person, edition);
        Assert.Equal(["directory", "mail"], plan.Changes.Select(c => c.Target).Distinct());
        Assert.Equal(["tor.quill"], plan.Changes.First(c => c.Target == "mail").Attributes.Single(a => a.Name == "cn").After);
        Assert.Equal(
            [("mail", "tor@x")],
            edition
                .Rulebook.Access.Ask()
                .Keys(
                    person,
                    edition.Rulebook.Targets["mail"],
                    "mail",
                    new Dictionary<string, IReadOnlyList<string>> { ["mail"] = ["tor@x"] }
                )
        );
        var loop = RulebookReader.Read(
            Small.Files(("targets/a-mail.yaml", mail), ("targets/directory.yaml", Small.Target + "\nafter: [mail]\n"))
        );
        Assert.Contains(loop.Findings, f => f.Message.Contains("wait for each other", StringComparison.Ordinal));
    }

    [Fact]
    public void Numbers_of_pools_stand_in_attributes()
    {
        var edition = Small.Edition(
            (
                "pools/extension.yaml",
                "name: extension\nprefix: \"+00 555 \"\nranges: { harbour: 2000-2099, anywhere: [5000-5009, 6000-6009] }\n"
            ),
            (
                "templates/everyone.yaml",
                Small.Everyone.Replace(
                    "employeeNumber: number",
                    "employeeNumber: number, telephoneNumber: pool.extension",
                    StringComparison.Ordinal
                ) + "\nnumbers: [extension]\n"
            )
        );
        var person = Small.Person(Small.Facts()) with { Numbers = new Dictionary<string, string> { ["extension"] = "+00 555 2000" } };
        Assert.Equal(["+00 555 2000"], Desired.At(person, edition, Now).Accounts["directory"].Attributes["telephoneNumber"]);
        var (pool, site) = Assert.Single(edition.Rulebook.Access.Ask().Numbers(person));
        Assert.Equal(("extension", "harbour"), (pool.Name, site));
        Assert.Equal([new(5000, 5009), new NumberRange(6000, 6009)], pool.For("reef"));
    }

    [Fact]
    public void Names_keep_to_the_rule_of_the_target()
    {
        var edition = Small.Edition(("targets/directory.yaml", Small.Target + "\nnames: { longest: 8, marks: \"_\" }\n"));
        Assert.Equal(["torquill", "tquill"], Desired.NameWishes(Small.Person(Small.Facts()), edition, "directory"));
        Assert.Equal(
            ["torquill", "tquill", "torquil2"],
            AccountNames.Candidates(["torquill", "tquill"], edition.Rulebook.Targets["directory"].Names).Take(3)
        );
    }

    [Theory]
    [InlineData(16, 3, 0)]
    [InlineData(20, 4, 0)]
    [InlineData(12, 3, 4)]
    [InlineData(40, 2, 5)]
    public void Passwords_keep_to_their_rule_and_differ(int length, int classes, int words)
    {
        var random = new Random(7);
        var made = Enumerable.Range(0, 200).Select(_ => Passwords.Make(new(length, classes, words, true), random.Next)).ToList();
        Assert.Equal(200, made.Distinct().Count());
        Assert.All(
            made,
            p =>
            {
                Assert.True(p.Length >= length);
                Assert.True(
                    new[] { p.Any(char.IsLower), p.Any(char.IsUpper), p.Any(char.IsDigit), p.Any(c => !char.IsLetterOrDigit(c)) }.Count(x =>
                        x
                    ) >= classes,
                    p
                );
                if (words > 0)
                    Assert.True(p.Split('-').Length >= words);
            }
        );
    }

    [Fact]
    public void An_explanation_names_the_rule_that_gives_and_the_condition_that_failed()
    {
        var edition = Small.Edition(
            Template(
                "pay",
                "when: department == \"Office\" && kind == \"employee\"\ngrants: [{ to: directory/pay, when: 'title == \"Clerk\"' }]"
            )
        );
        var held = Explain.Grant(Small.Person(Small.Facts(department: "Office", title: "Clerk")), edition, Small.Key("pay"), Now);
        Assert.True(held.Wanted);
        Assert.Contains("templates/pay.yaml:3", held.Summary, StringComparison.Ordinal);
        var absent = Explain.Grant(Small.Person(Small.Facts(department: "Office")), edition, Small.Key("pay"), Now);
        Assert.False(absent.Wanted);
        Assert.Contains("title == \"Clerk\" (where title is 'Diver')", absent.Summary, StringComparison.Ordinal);
        var rule = Assert.Single(absent.Rules);
        Assert.Equal([true, true, false], rule.Conditions.Take(3).Select(c => c.Holds));
        Assert.Equal("department == \"Office\"", rule.Conditions[0].Text);
        Assert.Equal([new("department", "Office")], rule.Conditions[0].Values);
        Assert.Contains(
            "only be requested",
            Explain.Grant(Small.Person(Small.Facts()), edition, Small.Key("audit"), Now).Summary,
            StringComparison.Ordinal
        );
        // What an approver struck is told, and never an empty reason.
        var declined = Explain.Grant(
            Small.Person(Small.Facts(department: "Office", title: "Clerk")) with
            {
                Refused = ["directory/pay"],
            },
            edition,
            Small.Key("pay"),
            Now
        );
        Assert.Contains("does not hold: no approver declined directory/pay.", declined.Summary, StringComparison.Ordinal);
        Assert.Contains(
            "no approver declined directory.",
            Explain.Account(Small.Person(Small.Facts()) with { Refused = ["directory"] }, edition, "directory", Now).Summary,
            StringComparison.Ordinal
        );
        // It says until when, and when it comes.
        var clerk = Small.Facts(department: "Office", title: "Clerk", start: "2027-02-01", end: "2027-05-31");
        var begun = new DateTimeOffset(2027, 3, 1, 12, 0, 0, TimeSpan.Zero);
        Assert.EndsWith(
            " It ends with 2027-05-31.",
            Explain.Grant(Small.Person(clerk), edition, Small.Key("pay"), begun).Summary,
            StringComparison.Ordinal
        );
        Assert.EndsWith(
            " It is awake. It ends with 2027-05-31.",
            Explain.Account(Small.Person(clerk), edition, "directory", begun).Summary,
            StringComparison.Ordinal
        );
        Assert.Contains(
            " It comes on 2027-02-01: pay gives it (templates/pay.yaml:3).",
            Explain.Grant(Small.Person(clerk), edition, Small.Key("pay"), Now).Summary,
            StringComparison.Ordinal
        );
        Assert.DoesNotContain(
            "It ends",
            Explain.Grant(Small.Person(Small.Facts(department: "Office", title: "Clerk")), edition, Small.Key("pay"), Now).Summary,
            StringComparison.Ordinal
        );
        Assert.True(Explain.Account(Small.Person(Small.Facts()), edition, "directory", Now).Wanted);
        Assert.Contains(
            "asleep",
            Explain.Account(Small.Person(Small.Facts(end: "2026-02-01")), edition, "directory", Now).Summary,
            StringComparison.Ordinal
        );
        // Of a hire that was withdrawn every condition holds, and what is missing is said.
        Assert.EndsWith(
            "but there is no employment at this time.",
            Explain.Account(Small.Person(Small.Facts(start: "2027-02-01", end: "2027-01-31")), edition, "directory", begun).Summary,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public void A_rehearsal_tells_gains_losses_changes_and_who_fails_and_touches_nothing()
    {
        var current = Small.Edition(Template("pay", "when: department == \"Office\"\ngrants: [{ to: directory/pay }]")).Rulebook;
        var draft = Small
            .Edition(
                ("templates/everyone.yaml", Small.Everyone.Replace("cn: given", "cn: given + \" \" + family", StringComparison.Ordinal)),
                Template("audit", "when: department == \"Dive\"\ngrants: [{ to: directory/audit }]"),
                Template(
                    "broken",
                    "when: title == \"Broken\"\naccounts: { directory: { attributes: { cn: string(date(title)) } } }\npriority: 5"
                )
            )
            .Rulebook;
        var rehearsal = new Rehearsal(current, draft, Now);
        var part = rehearsal.Begin();
        Rehearsed Of(string id, Facts facts) => new(id, Small.Person(facts), Small.Person(facts));
        part.Look(Of("1", Small.Facts("E1", "Dive")));
        part.Look(Of("2", Small.Facts("E2", "Office")));
        part.Look(Of("3", Small.Facts("E3", "Office", title: "Broken")));
        part.Look(
            new(
                "4",
                null,
                Small.Person(Small.Facts("E4", "Dive", "2027-03-01")) with
                {
                    AccountNames = new Dictionary<AccountKey, string>(),
                }
            )
        );
        part.Look(
            new(
                "5",
                Small.Person(Small.Facts("E5", "Kitchen", end: "2025-02-02", start: "2024-01-01")),
                Small.Person(Small.Facts("E5", "Kitchen", end: "2025-02-02", start: "2024-01-01"))
            )
        );
        var report = rehearsal.End([part]);
        Assert.Equal((5, 4, 0, 1), (report.People, report.Changed, report.Unchanged, report.Failing));
        Assert.Contains("cannot be computed", report.Affected.Single(a => a.Id == "3").Problem, StringComparison.Ordinal);
        Assert.Equal(
            [EffectKind.AccountChanged, EffectKind.GrantGained],
            report.Affected.Single(a => a.Id == "1").Effects.Select(e => e.Kind)
        );
        Assert.Equal(
            [EffectKind.AccountChanged, EffectKind.GrantLost],
            report.Affected.Single(a => a.Id == "2").Effects.Select(e => e.Kind)
        );
        Assert.Equal(["tor.quill", "audit"], report.Affected.Single(a => a.Id == "4").Effects.Select(e => e.Subject));
        Assert.Equal(new Tally("directory/audit", 2, 2, 0, 0), report.ByEntitlement[0]);
        Assert.Equal(["Dive", "Kitchen", "Office"], report.ByDepartment.Select(d => d.Name).Order());
        Assert.Equal(2, report.PeopleByTemplate["audit"]);
    }

    [Fact]
    public void The_same_rulebook_rehearsed_changes_nobody() =>
        Gen.Select(Any.Of("Dive", "Office"), Gen.Int[-700, 300], Gen.Int[0, 600], Gen.Bool)
            .Sample(
                (department, start, length, ends) =>
                {
                    var edition = Small
                        .Edition(Template("pay", "when: department == \"Office\"\ngrants: [{ to: directory/pay }]"))
                        .Rulebook;
                    var first = DateOnly.FromDateTime(Now.Date).AddDays(start);
                    var person = Small.Person(
                        Small.Facts("E1", department, first.ToString("O"), ends ? first.AddDays(length).ToString("O") : null)
                    );
                    var rehearsal = new Rehearsal(edition, edition, Now);
                    var part = rehearsal.Begin();
                    part.Look(new("1", person, person));
                    Assert.Equal(1, rehearsal.End([part]).Unchanged);
                },
                iter: 100
            );

    /// <summary>A directory in which 'audit' needs 'pay' and a value of 'l', which a template sets where there is one.</summary>
    private static Edition Needing(string grants, string needs = "[pay, l]") =>
        Small.Edition(
            (
                "targets/directory.yaml",
                Small.Target.Replace("group: cn=audit,", $"group: cn=audit, needs: {needs},", StringComparison.Ordinal)
            ),
            (
                "templates/everyone.yaml",
                Small.Everyone.Replace(
                    "employeeNumber: number }",
                    "employeeNumber: number, l: 'title == \"Nowhere\" ? \"\" : site' }",
                    StringComparison.Ordinal
                )
            ),
            Template("more", $"grants:\n{grants}")
        );

    private const string Pay = "  - to: directory/pay\n    when: department == \"Dive\"\n";
    private const string Audit = "  - to: directory/audit\n";

    [Fact]
    public void What_something_needs_is_given_before_it_and_taken_after_it()
    {
        var edition = Needing(Audit + Pay);
        var plan = PlanOf(Small.Person(Small.Facts()), edition);
        Assert.Equal(["pay", "audit"], plan.Changes.OfType<Change.Grant>().Select(g => g.Given.Name));
        var recorded = Desired.At(Small.Person(Small.Facts()), edition, Now);
        var left = PlanOf(Small.Person(Small.Facts(end: "2026-11-20")), edition, recorded, RequestKind.Leaver);
        Assert.Equal(["audit", "pay"], left.Changes.OfType<Change.Revoke>().Select(g => g.Taken.Name));
    }

    [Fact]
    public void Nothing_is_given_without_what_it_needs_and_nothing_stays_without_it()
    {
        var edition = Needing(Audit + Pay);
        Assert.Contains(
            "'Audit' in Directory needs 'Payments', which is not given",
            Assert.Throws<PlanFault>(() => PlanOf(Small.Person(Small.Facts(department: "Office")), edition)).Message,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "needs Place (l) of the account, which has no value",
            Assert.Throws<PlanFault>(() => PlanOf(Small.Person(Small.Facts(title: "Nowhere")), edition)).Message,
            StringComparison.Ordinal
        );
        var recorded = Desired.At(Small.Person(Small.Facts()), edition, Now);
        Assert.Contains(
            "needs 'Payments', which would be taken away",
            Assert
                .Throws<PlanFault>(() => PlanOf(Small.Person(Small.Facts(department: "Office")), edition, recorded, RequestKind.Mover))
                .Message,
            StringComparison.Ordinal
        );
        // What was so before is not this plan's matter: who leaves leaves.
        var odd = new AccessState(recorded.Accounts, recorded.Grants.Values.Where(g => g.Entitlement == "audit").ToDictionary(g => g.Key));
        Assert.NotEmpty(
            PlanOf(Small.Person(Small.Facts(department: "Office", end: "2026-11-20")), edition, odd, RequestKind.Leaver).Changes
        );
        Assert.Empty(
            PlanOf(Small.Person(Small.Facts(department: "Office")), edition, odd, RequestKind.Mover).Changes.OfType<Change.Grant>()
        );
    }

    private static (string, string) Mirroring(string more) =>
        ("targets/directory.yaml", Small.Target.Replace("group: cn=audit,", $"group: cn=audit, {more},", StringComparison.Ordinal));

    [Fact]
    public void What_mirrors_something_is_held_as_long_as_that_and_says_why()
    {
        var edition = Small.Edition(
            Mirroring("mirrors: directory/pay"),
            Template(
                "more",
                "grants:\n  - to: directory/pay\n    when: department == \"Dive\"\n    until: start + P400D\n    hand-over: P14D\n"
            )
        );
        var person = Small.Person(Small.Facts());
        var plan = PlanOf(person, edition);
        var given = plan.Changes.OfType<Change.Grant>().ToDictionary(g => g.Given.Name);
        Assert.Equal(["audit", "pay"], given.Keys.Order());
        Assert.Equal("department == \"Dive\"; as Payments", given["audit"].Reason.Condition);
        Assert.Equal(2, plan.Changes.OfType<Change.Revoke>().Select(r => r.Due).Count(d => d > Now));
        Assert.Single(plan.Changes.OfType<Change.Revoke>().Select(r => r.Due).Distinct());
        // Who moves hands both over as long.
        var recorded = Desired.At(person, edition, Now);
        var moved = PlanOf(Small.Person(Small.Facts(department: "Office")), edition, recorded, RequestKind.Mover);
        Assert.Equal([Now.AddDays(14)], moved.Changes.OfType<Change.Revoke>().Select(r => r.Due!.Value).Distinct());
        Assert.Equal(["audit", "pay"], moved.Changes.OfType<Change.Revoke>().Select(r => r.Taken.Name).Order());
        // What was asked for is mirrored too, and it is told why.
        var asking = Small.Person(Small.Facts(department: "Office")) with
        {
            Extra = [new(Small.Key("pay"), Now.AddDays(-1), Now.AddDays(9), new("request", "7", "month end"))],
        };
        Assert.Equal(["audit", "pay"], Desired.At(asking, edition, Now).Grants.Keys.Select(k => k.Name).Order());
        Assert.Empty(Desired.At(asking, edition, Now.AddDays(10)).Grants);
        var why = Explain.Grant(asking, edition, Small.Key("audit"), Now);
        Assert.True(why.Wanted);
        Assert.Contains("as Payments", why.Summary, StringComparison.Ordinal);
        Assert.NotEmpty(why.Rules);
        Assert.DoesNotContain(
            RulebookReader
                .Read(Small.Files(Mirroring("mirrors: directory/pay"), Template("more", "grants:\n  - to: directory/pay\n")))
                .Warnings,
            w => w.Code == "never-given" && w.Message.Contains("audit", StringComparison.Ordinal)
        );
    }

    [Theory]
    [InlineData("mirrors: pay", "'pay' is no TARGET/ENTITLEMENT.")]
    [InlineData("mirrors: directory/pays", "There is no entitlement 'directory/pays'. Did you mean 'directory/pay'?")]
    [InlineData("mirrors: directory/audit", "'directory/audit' mirrors something itself")]
    [InlineData("privileged: yes, mirrors: directory/pay", "'audit' is privileged, and 'directory/pay', which it mirrors, is not.")]
    public void What_is_mirrored_must_be_there(string more, string finding)
    {
        var found = RulebookReader.Read(Small.Files(Mirroring(more))).Findings;
        Assert.Contains(found, f => f.Message.StartsWith(finding, StringComparison.Ordinal) && f.Place.File == "targets/directory.yaml");
    }

    private static (string, string) Domain(string pay, string audit) =>
        (
            "targets/directory.yaml",
            (Small.Target + "\ndialect: domain-controller\n")
                .Replace("classes: [inetOrgPerson]\n", "", StringComparison.Ordinal)
                .Replace("group: cn=pay,", $"group: cn=pay{pay},", StringComparison.Ordinal)
                .Replace("group: cn=audit,", $"group: cn=audit{audit},", StringComparison.Ordinal)
        );

    [Fact]
    public void An_account_has_one_primary_group()
    {
        var both = Template("more", "grants:\n  - to: directory/pay\n  - to: directory/audit\n");
        var fault = Assert.Throws<PlanFault>(() =>
            PlanOf(Small.Person(Small.Facts()), Small.Edition(Domain(", primary: yes", ", primary: yes"), both))
        );
        Assert.Contains("'Audit' and 'Payments' in Directory are both primary groups", fault.Message, StringComparison.Ordinal);
        Assert.Equal(
            2,
            PlanOf(Small.Person(Small.Facts()), Small.Edition(Domain(", primary: yes", ""), both)).Changes.OfType<Change.Grant>().Count()
        );
        foreach (var (kind, told) in new[] { ("domain-local", true), ("universal", false) })
            Assert.Equal(
                told,
                RulebookReader
                    .Read(Small.Files(Domain($", primary: yes, scope: {kind}", "")))
                    .Findings.Any(f => f.Message.StartsWith("A primary group is a security group", StringComparison.Ordinal))
            );
        // Other directories have none.
        Assert.Contains(
            RulebookReader.Read(Small.Files(Mirroring("primary: yes"))).Findings,
            f => f.Message.Contains("'primary' is not a known key here", StringComparison.Ordinal)
        );
    }

    private static (string, string) Roles(string of, string more = "") =>
        (
            "targets/directory.yaml",
            Small
                .Target.Replace("group: cn=pay,", $"group: cn=pay, kind: role, {of},", StringComparison.Ordinal)
                .Replace("group: cn=audit,", $"group: cn=audit, kind: role{more},", StringComparison.Ordinal)
        );

    [Fact]
    public void The_least_role_is_held_while_no_other_is()
    {
        var edition = Small.Edition(
            Roles("least: yes"),
            Template("more", "grants:\n  - to: directory/audit\n    when: department == \"Dive\"\n    until: start + P400D\n")
        );
        EntitlementKey[] HeldBy(Subject person, DateTimeOffset at) => [.. Desired.At(person, edition, at).Grants.Keys];

        var diver = Small.Person(Small.Facts());
        var over = new DateTimeOffset(2027, 2, 10, 0, 0, 0, TimeSpan.Zero);
        Assert.Equal([Small.Key("audit")], HeldBy(diver, Now));
        Assert.Equal([Small.Key("pay")], HeldBy(diver, over));
        Assert.Equal([Small.Key("pay")], HeldBy(Small.Person(Small.Facts(department: "Office")), Now));
        // Not before the first day, and not after the last.
        Assert.Empty(HeldBy(Small.Person(Small.Facts(department: "Office", start: "2026-12-01")), Now));
        Assert.Empty(HeldBy(Small.Person(Small.Facts(department: "Office", end: "2026-11-20")), Now));

        // One plan says both, and the instants are the same.
        var plan = PlanOf(diver, edition);
        Assert.Equal(
            [plan.Changes.OfType<Change.Revoke>().Single(r => r.Taken == Small.Key("audit")).Due],
            plan.Changes.OfType<Change.Grant>().Where(g => g.Given == Small.Key("pay")).Select(g => g.Due)
        );
        var moved = PlanOf(Small.Person(Small.Facts(department: "Office")), edition, Desired.At(diver, edition, Now), RequestKind.Mover);
        Assert.Equal(Small.Key("pay"), Assert.Single(moved.Changes.OfType<Change.Grant>()).Given);
        Assert.Equal(Small.Key("audit"), Assert.Single(moved.Changes.OfType<Change.Revoke>()).Taken);

        // What was asked for is more for as long as it holds, and what an approver declined is not.
        var asking = Small.Person(Small.Facts(department: "Office")) with
        {
            Extra = [new(Small.Key("audit"), Now.AddDays(2), Now.AddDays(9), new("request", "7", "month end"))],
        };
        Assert.Equal(
            ["pay", "audit", "pay"],
            new[] { Now, Now.AddDays(3), Now.AddDays(10) }.SelectMany(at => HeldBy(asking, at)).Select(k => k.Name)
        );
        Assert.Equal([Small.Key("pay")], HeldBy(diver with { Refused = ["directory/audit"] }, Now));
        Assert.Empty(HeldBy(diver with { Refused = ["directory/audit", "directory/pay"] }, Now));

        // A look at one instant and the windows of all time say the same.
        foreach (var person in new[] { diver, asking })
        {
            var windows = Desired.Windows(person, edition);
            foreach (var turn in windows.Turns)
                Assert.Equal(windows.At(turn).Grants.Keys.Order(), Desired.At(person, edition, turn).Grants.Keys.Order());
        }

        var why = Explain.Grant(asking, edition, Small.Key("pay"), Now);
        Assert.Contains("the least role in Directory, while no other is given", why.Summary, StringComparison.Ordinal);
        Assert.Contains(
            "this does not hold: no other role of Directory is given (where role is 'audit')",
            Explain.Grant(asking, edition, Small.Key("pay"), Now.AddDays(3)).Summary,
            StringComparison.Ordinal
        );
        Assert.DoesNotContain(
            RulebookReader.Read(Small.Files(Roles("least: yes"))).Warnings,
            w => w.Code == "never-given" && w.Message.Contains("pay", StringComparison.Ordinal)
        );
    }

    [Theory]
    [InlineData("least: yes, privileged: yes", "", "'pay' cannot be what everybody has there: it is privileged.")]
    [InlineData("least: yes, most-holders: 3", "", "'pay' cannot be what everybody has there: only some may hold it")]
    [InlineData("least: yes, mirrors: directory/root", "", "'pay' cannot be what everybody has there: it mirrors something.")]
    [InlineData("least: yes", ", least: yes", "'pay' and 'audit' cannot both be what everybody has")]
    [InlineData("least: yes", ", mirrors: directory/pay", "'audit' is a role, and 'directory/pay', which it mirrors, is what one has")]
    public void Not_everything_can_be_the_least_role(string of, string more, string finding)
    {
        var found = RulebookReader.Read(Small.Files(Roles(of, more))).Findings;
        Assert.Contains(found, f => f.Message.StartsWith(finding, StringComparison.Ordinal) && f.Place.File == "targets/directory.yaml");
    }

    [Fact]
    public void A_list_for_mail_gives_no_access_and_kinds_of_groups_are_of_domains()
    {
        (string, string) Domain(string more, string dialect = "dialect: domain-controller") =>
            (
                "targets/directory.yaml",
                Small
                    .Target.Replace("classes: [inetOrgPerson]", $"classes: [user]\n{dialect}", StringComparison.Ordinal)
                    .Replace("group: cn=root,", $"group: cn=root, {more},", StringComparison.Ordinal)
            );
        Assert.Contains(
            RulebookReader.Read(Small.Files(Domain("group-type: distribution"))).Findings,
            f => f.Message == "'root' is a distribution group, which gives no access; it cannot be privileged."
        );
        Assert.Contains(
            RulebookReader.Read(Small.Files(Domain("scope: universal", ""))).Findings,
            f => f.Message.Contains("'scope'", StringComparison.Ordinal)
        );
        var rule = Small.Edition(Domain("scope: domain-local")).Rulebook.Targets["directory"];
        var form = ((EntitlementMeans.Group)rule.Entitlements["root"].Means).Form;
        Assert.Equal(new(GroupScope.DomainLocal, false), form);
        Assert.Null(((EntitlementMeans.Group)rule.Entitlements["pay"].Means).Form);
        foreach (var type in new[] { 2, 4, 8, unchecked((int)0x80000002), unchecked((int)0x80000008) })
            Assert.Equal(type, GroupForm.Of(type).Type);
    }

    [Theory]
    [InlineData("[payments]", "'payments' is nothing that 'directory' gives, and no template sets it")]
    [InlineData("[mail]", "'mail' is nothing that 'directory' gives")]
    [InlineData("[audit]", "'audit' and 'audit' would need each other")]
    public void What_is_needed_must_be_there(string needs, string finding)
    {
        var found = RulebookReader
            .Read(
                Small.Files(
                    (
                        "targets/directory.yaml",
                        Small.Target.Replace("group: cn=audit,", $"group: cn=audit, needs: {needs},", StringComparison.Ordinal)
                    )
                )
            )
            .Findings;
        Assert.Contains(found, f => f.Message.Contains(finding, StringComparison.Ordinal) && f.Place.File == "targets/directory.yaml");
    }
}

public sealed class WarningTests
{
    private static IReadOnlyList<string> Codes(params (string Path, string Text)[] more) =>
        [.. RulebookReader.Read(Small.Files(more)).Warnings.Select(w => w.Code)];

    private static (string, string) Template(string rest) => ("templates/t.yaml", $"name: t\n{rest}");

    [Theory]
    [InlineData("department == \"A\" && department == \"B\"", "never-holds")]
    [InlineData("site == \"nowhere\"", "never-holds")]
    [InlineData("department in [\"A\"] && !(department in [\"A\", \"B\"])", "never-holds")]
    [InlineData("kind == \"a\" || kind != \"a\"", "always-holds")]
    [InlineData("site == \"harbour\" || site == \"reef\"", "always-holds")]
    public void A_condition_that_can_never_or_always_hold_is_found(string when, string code) =>
        Assert.Contains(code, Codes(Template($"when: '{when}'\ngrants: [{{ to: directory/pay }}]")));

    [Theory]
    [InlineData("department == \"A\" || department == \"B\"")]
    [InlineData("department.startsWith(\"A\") && department.startsWith(\"B\")")]
    [InlineData("start > date(\"2026-01-01\") && end == null")]
    [InlineData("size(title) > 3 && title != \"\"")]
    public void A_condition_that_may_go_either_way_is_not(string when)
    {
        var codes = Codes(Template($"when: '{when}'\ngrants: [{{ to: directory/pay }}]"));
        Assert.DoesNotContain("never-holds", codes);
        Assert.DoesNotContain("always-holds", codes);
    }

    [Fact]
    public void What_is_said_of_a_condition_is_never_wrong()
    {
        var schema = new NameSchema(BuiltIn.Attributes);
        var atoms = new[]
        {
            "department == \"A\"",
            "department != \"B\"",
            "kind in [\"x\", \"y\"]",
            "kind == \"z\"",
            "title == \"\"",
            "title != \"\"",
        };
        var any = Gen.Select(Gen.Int[0, 5], Gen.Int[0, 5], Gen.Int[0, 5], Gen.Bool, Gen.Bool, Gen.Bool)
            .Select(
                (a, b, c, and, or, not) =>
                    $"{(not ? "!" : "")}({atoms[a]}) {(and ? "&&" : "||")} {atoms[b]} {(or ? "||" : "&&")} {atoms[c]}"
            );
        Gen.Select(any, Any.Of("A", "B", "C", ""), Any.Of("x", "y", "z", "w"), Any.Of("", "t"))
            .Sample(
                (text, department, kind, title) =>
                {
                    var condition = Expression.Compile(text, schema);
                    var scope = new Scope(schema);
                    foreach (var (name, value) in new[] { ("department", department), ("kind", kind), ("title", title) })
                        scope[schema.IndexOf(name)] = Value.Of(value);
                    switch (Satisfiability.Of(condition, schema, new Dictionary<string, IReadOnlyList<string>>()))
                    {
                        case Verdict.Never:
                            Assert.False(condition.Holds(scope));
                            break;
                        case Verdict.Always:
                            Assert.True(condition.Holds(scope));
                            break;
                    }
                },
                iter: 3000
            );
    }

    [Fact]
    public void Every_warning_of_the_catalogue_is_found_where_it_is_due()
    {
        var target =
            Small.Target.Replace(
                "audit: { title: Audit, group: cn=audit, owner: E9 }",
                "audit: { title: Audit, group: cn=audit }",
                StringComparison.Ordinal
            ) + "\npassword: { change-at-first-use: no }\n";
        var reading = RulebookReader.Read(
            Small.Files(
                ("rulebook.yaml", "name: small\nsites:\n  harbour: { zone: Europe/Lisbon }\nmail-domains: [northmere.example]\n"),
                ("targets/directory.yaml", target),
                (
                    "templates/everyone.yaml",
                    Small.Everyone.Replace("cn: given", "cn: given, userAccountControl: '\"66048\"'", StringComparison.Ordinal)
                ),
                ("templates/t.yaml", "name: t\nwhen: 'kind == \"a\" && kind == \"b\"'\ngrants: [{ to: directory/root }]\n"),
                ("templates/u.yaml", "name: u\nwhen: 'kind == \"a\" || kind != \"a\"'\ngrants: [{ to: directory/pay }]\n"),
                ("pools/a.yaml", "name: a\nranges: { harbour: 1-10 }\n"),
                ("pools/b.yaml", "name: b\nranges: { anywhere: 10-20 }\n"),
                (
                    "sources/hr.yaml",
                    "name: hr\nkind: http\naddress: http://127.0.0.1:1/x\nsign-in: { secret: k }\nkey: n\ncolumns: [n, "
                        + "d]\nmapping: { person: row.n, number: row.n, given: row.n, family: row.n, kind: row.n, start: "
                        + "date(row.d), site: row.n }\nreports-to: somebody@post.example\n"
                )
            )
        );
        Assert.NotNull(reading.Rulebook);
        var found = reading
            .Warnings.Concat(Warnings.WithPeople(reading.Rulebook, new Dictionary<string, int>()))
            .Concat(Warnings.WithRoles(reading.Rulebook, new HashSet<string>()))
            .Concat(Warnings.WithNumbers(reading.Rulebook, new HashSet<string> { "E9" }))
            .Concat(Warnings.WithSchema(reading.Rulebook, reading.Rulebook.Targets["directory"], Known, ""))
            .Concat(Warnings.WithSchema(reading.Rulebook, reading.Rulebook.Targets["directory"], null, "it is away."))
            .ToList();
        Assert.Equal(Warnings.Catalogue.Select(w => w.Code).Order(), found.Select(w => w.Code).Distinct().Order());
        Assert.All(found, f => Assert.True(f.IsWarning && f.Place.Line > 0 && Warnings.MendOf(f.Code).Length > 0));
        Assert.Equal(
            ("targets/directory.yaml", 13),
            (found.Single(f => f.Code == "no-owner").Place.File, found.Single(f => f.Code == "no-owner").Place.Line)
        );
    }

    /// <summary>A directory that has little of what the rulebook names.</summary>
    private static readonly TargetSchema Known = new(
        new HashSet<string>(StringComparer.OrdinalIgnoreCase) { "cn", "employeeNumber" },
        new HashSet<string>(StringComparer.OrdinalIgnoreCase) { "CN" },
        ["inetOrgPersons"],
        ["inetOrgPerson"]
    );

    [Fact]
    public void What_a_target_does_not_have_is_told_at_its_place_with_what_is_near()
    {
        var rulebook = RulebookReader
            .Read(
                Small.Files(
                    (
                        "templates/everyone.yaml",
                        Small.Everyone.Replace("cn: given", "cn: given, employeNumber: number", StringComparison.Ordinal)
                    )
                )
            )
            .Rulebook!;
        var target = rulebook.Targets["directory"];
        Assert.Equal(
            [
                "targets/directory.yaml: 'Directory' has no object class 'inetOrgPerson'. Did you mean 'inetOrgPersons'?",
                "templates/everyone.yaml: 'Directory' has no attribute 'employeNumber'. Did you mean 'employeeNumber'?",
                "templates/everyone.yaml: An account in 'Directory' cannot have 'employeeNumber': none of its object classes has it.",
            ],
            Warnings.WithSchema(rulebook, target, Known, "").Select(f => $"{f.Place.File}: {f.Message}").Order(StringComparer.Ordinal)
        );
        Assert.Contains(
            "away",
            Assert.Single(Warnings.WithSchema(rulebook, target, null, "it is away.")).Message,
            StringComparison.Ordinal
        );
        // All three entitlements are owned by E9, and nobody has that number.
        Assert.Equal(3, Warnings.WithNumbers(rulebook, new HashSet<string> { "E9" }).Count());
        Assert.Empty(Warnings.WithNumbers(rulebook, new HashSet<string> { "E8" }));
    }

    [Fact]
    public void One_slip_in_a_file_is_one_finding()
    {
        // The target, which all templates and separations name, cannot be read.
        var reading = RulebookReader.Read(Small.Files(("targets/directory.yaml", Small.Target + "\n  broken: [")));
        var finding = Assert.Single(reading.Findings);
        Assert.Equal("targets/directory.yaml", finding.Place.File);
        Assert.Contains("YAML", finding.Message, StringComparison.Ordinal);
        Assert.Null(reading.Rulebook);
    }

    [Theory]
    [InlineData("pools/p.yaml", "name: p\nranges: { nowhere: 1-2 }", "is no site")]
    [InlineData("pools/p.yaml", "name: p\nranges: { harbour: 9-2 }", "is no range")]
    [InlineData("pools/p.yaml", "name: p", "'ranges' is missing")]
    [InlineData("separations/s.yaml", "name: s\nnobody-with: [directory/pay]\nalso-has: [directory/pay]", "both sides")]
    [InlineData("separations/s.yaml", "name: s\nnobody-with: [directory/pay]\nalso-has: [directory/audits]", "Did you mean 'audit'?")]
    [InlineData(
        "separations/s.yaml",
        "name: s\nnobody-with: [directory/pay]\nalso-has: [directory/audit]\nthen: decide",
        "'decides' is missing"
    )]
    [InlineData("templates/t.yaml", "name: t\nnumbers: [extention]", "There is no pool")]
    [InlineData("templates/t.yaml", "name: t\ngrants: [{ to: directory/pay, until: given }]", "must yield date")]
    [InlineData("templates/t.yaml", "name: t\ngrants: [{ to: directory/pay, hand-over: soon }]", "ISO 8601 duration")]
    [InlineData("targets/t.yaml", "name: t\nkind: ldap\npassword: { words: 2 }", "guessed too easily")]
    [InlineData("sources/s.yaml", "name: s\nkind: ftp", "is not known for 'kind'")]
    [InlineData("sources/s.yaml", "name: s\nkind: http\naddress: http://hr.northmere.example/x", "clear text")]
    [InlineData("sources/s.yaml", "name: s\nkind: file\npath: x.csv\nschedule: at noon", "five fields")]
    [InlineData("sources/s.yaml", "name: s\nkind: file\npath: x.csv\nbrake: { leavers: many }", "is no limit")]
    [InlineData("sources/s.yaml", "name: s\nkind: file\npath: a*/x.csv", "Only the name of the file")]
    public void A_mistake_in_the_new_documents_is_told(string path, string text, string part) =>
        Assert.Contains(
            RulebookReader.Read(Small.Files((path, text))).Findings,
            f => f.Place.File == path && f.Message.Contains(part, StringComparison.Ordinal)
        );
}

public sealed class ScheduleTests
{
    private static readonly DateTimeOffset Now = new(2026, 11, 25, 12, 7, 30, TimeSpan.Zero);

    [Theory]
    [InlineData("* * * * *", "2026-11-25 12:08")]
    [InlineData("*/15 * * * *", "2026-11-25 12:15")]
    [InlineData("0 6 * * *", "2026-11-26 06:00")]
    [InlineData("30 6-8 * * 1-5", "2026-11-26 06:30")]
    [InlineData("0 0 1 * *", "2026-12-01 00:00")]
    [InlineData("0 0 29 2 *", "2028-02-29 00:00")]
    [InlineData("0 12 * * 0", "2026-11-29 12:00")]
    [InlineData("0 12 * * 7", "2026-11-29 12:00")]
    [InlineData("0 0 13 * 5", "2027-08-13 00:00")]
    [InlineData("5/20 3 * * *", "2026-11-26 03:05")]
    [InlineData("0 22-2 * * *", "2026-11-25 22:00")]
    public void The_next_time_is_found(string text, string next)
    {
        Assert.True(Schedule.TryParse(text, TimeZoneInfo.Utc, out var schedule, out _));
        Assert.Equal(next, schedule.Next(Now)!.Value.ToString("yyyy-MM-dd HH:mm"));
    }

    [Theory]
    [InlineData("")]
    [InlineData("* * * *")]
    [InlineData("60 * * * *")]
    [InlineData("* 24 * * *")]
    [InlineData("* * 0 * *")]
    [InlineData("*/0 * * * *")]
    [InlineData("*-5 * * * *")]
    [InlineData("a * * * *")]
    [InlineData("1-2-3 * * * *")]
    public void What_is_no_schedule_is_refused_with_the_reason(string text)
    {
        Assert.False(Schedule.TryParse(text, TimeZoneInfo.Utc, out _, out var wrong));
        Assert.NotEmpty(wrong);
    }

    [Theory]
    // The clock leaps from one to two: 01:30 is over before it comes, and runs at once. In autumn it shows 01:30 twice; the first counts.
    [InlineData("2027-03-28 00:00", "2027-03-28 01:00")]
    [InlineData("2027-10-30 23:00", "2027-10-31 00:30")]
    [InlineData("2027-10-31 00:30", "2027-11-01 01:30")]
    [InlineData("2027-07-01 00:00", "2027-07-01 00:30")]
    public void A_schedule_goes_by_the_clock_of_its_place(string after, string next)
    {
        Assert.True(Schedule.TryParse("30 1 * * *", TimeZoneInfo.FindSystemTimeZoneById("Europe/Lisbon"), out var schedule, out _));
        var from = DateTimeOffset.Parse(after + "Z", System.Globalization.CultureInfo.InvariantCulture);
        Assert.Equal(next, schedule.Next(from)!.Value.ToString("yyyy-MM-dd HH:mm"));
    }

    [Fact]
    public void A_day_that_never_comes_has_no_next_time()
    {
        Assert.True(Schedule.TryParse("0 0 31 2 *", TimeZoneInfo.Utc, out var schedule, out _));
        Assert.Null(schedule.Next(Now));
    }
}

public sealed class LineDiffTests
{
    [Fact]
    public void Either_text_can_be_made_from_the_difference() =>
        Gen.Select(Gen.String[Gen.Char['a', 'd'], 0, 12].List[0, 25], Gen.String[Gen.Char['a', 'd'], 0, 12].List[0, 25])
            .Sample(
                (left, right) =>
                {
                    var (before, after) = (
                        string.Join('\n', left.Select(l => l.Length > 2 ? "x" : l + "y")),
                        string.Join('\n', right.Select(l => l.Length > 2 ? "x" : l + "y"))
                    );
                    var lines = LineDiff.Between(before, after);
                    Assert.Equal(before, string.Join('\n', lines.Where(l => l.Change != LineChange.New).Select(l => l.Text)));
                    Assert.Equal(after, string.Join('\n', lines.Where(l => l.Change != LineChange.Gone).Select(l => l.Text)));
                    Assert.Equal(
                        Enumerable.Range(1, lines.Count(l => l.Before is not null)),
                        lines.Where(l => l.Before is not null).Select(l => l.Before!.Value)
                    );
                    Assert.Equal(
                        Enumerable.Range(1, lines.Count(l => l.After is not null)),
                        lines.Where(l => l.After is not null).Select(l => l.After!.Value)
                    );
                },
                iter: 500
            );

    [Fact]
    public void One_changed_line_is_one_gone_and_one_new() =>
        Assert.Equal(
            [(LineChange.Same, "a"), (LineChange.Gone, "b"), (LineChange.New, "x"), (LineChange.Same, "c")],
            LineDiff.Between("a\nb\nc\n", "a\nx\nc\n").Select(l => (l.Change, l.Text))
        );
}
