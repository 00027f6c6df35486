using CsCheck;
using Oikonom.Core.Approval;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Proofs;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>What no sequence of acts by one person may reach, whatever the workflow, the users and the rights handed over.</summary>
public sealed class TrustTests
{
    private static Gen<T> OneOf<T>(params T[] of) => Gen.Int[0, of.Length - 1].Select(i => of[i]);

    private static readonly string[] Relations =
    [
        "manager",
        "manager-of-manager",
        "site-lead",
        "department-head",
        "owner",
        "role:approver",
        "role:operator",
        "group:board",
        "person:E1",
        "person:E3",
    ];

    private static readonly Gen<string> AnyStage = Gen.Select(
            OneOf(Relations),
            OneOf(Relations),
            OneOf("1", "2", "3", "all"),
            Gen.Bool,
            OneOf("", "requester-is-manager", "requester-is-owner", "requester-is-above-approver")
        )
        .Select(
            (decides, otherwise, quorum, perItem, skip) =>
                $"decides: {decides}, otherwise: [{otherwise}, role:approver], quorum: "
                + $"{quorum}{(perItem ? ", per: item" : "")}{(skip.Length > 0 ? $", skip-when: {skip}" : "")}"
        );

    // Users of E1 are the attacker's: under the number, under another of their numbers, or only known by the person behind them.
    private static readonly Gen<Party[]> AnyParties = Gen.Select(
            OneOf("E1", "E1b", "", "E2", "E3", "E4"),
            OneOf("approver", "approver operator", "operator", "requester approver operator engineer"),
            Gen.Bool,
            OneOf("", "reef")
        )
        .Select((number, roles, active, site) => (number, roles, active, site))
        .Array[2, 7]
        .Select(users =>
            users
                .Select(
                    (u, i) =>
                        new Party($"u{i}", u.roles.Split(' ').ToHashSet(), u.number.Length > 0 ? u.number : null, u.active || i == 0)
                        {
                            Person = u.number is "E1" or "E1b" || i == 0 ? "person:attacker" : Party.PersonOf(u.number, $"u{i}"),
                            Reach =
                                u.site.Length > 0
                                    ? new Dictionary<string, Reach> { ["approver"] = new([u.site], [], []) }
                                    : new Dictionary<string, Reach>(),
                        }
                )
                .ToArray()
        );

    private static Circumstances About(Facts recorded, Facts wished, IReadOnlyList<Item> items, string requester, string requesterNumber) =>
        new("change", Workflow.ByHand, requester, requesterNumber, wished, "E3", false, items, false)
        {
            Recorded = recorded,
            RequesterPerson = "person:attacker",
            BeneficiaryPerson = "person:attacker",
        };

    [Fact]
    public void No_person_brings_about_a_change_for_themselves_alone() =>
        Gen.Select(AnyStage.Array[1, 3], AnyParties, Gen.Int[0, 3], OneOf("E1", "E2", "E3"), OneOf("E1", "E2"), Gen.Bool)
            .Sample(
                (stages, parties, things, manager, wishedManager, handsOver) =>
                {
                    var yaml =
                        "name: staff\nfor: [joiner, mover, leaver, "
                        + $"change]\nstages:\n{string.Concat(stages.Select((s, i) => $"  - {{ name: s{i}, {s} }}\n"))}";
                    var edition = Small.Edition(
                        (
                            "rulebook.yaml",
                            "name: small\nsites: { harbour: { zone: Europe/Lisbon, lead: E1 }, reef: { zone: Europe/Lisbon, "
                                + "lead: E2 } }\ndepartment-heads: { Dive: E1 }\ngroups: { board: [E1, E2, E3] }\n"
                        ),
                        ("workflows/staff.yaml", yaml)
                    );
                    var recorded = Small
                        .Facts()
                        .With(BuiltIn.Number, Expressions.Value.Of("E1"))
                        .With(BuiltIn.Manager, Expressions.Value.Of(manager));
                    var wished = recorded.With(BuiltIn.Manager, Expressions.Value.Of(wishedManager));
                    var items = Enumerable
                        .Range(0, things)
                        .Select(i => new Item($"directory/t{i}", "directory", $"t{i}", "d", true, false, []))
                        .ToList();
                    var about = About(recorded, wished, items, "u0", "E1");
                    var attackers = parties.Where(p => p.Person == "person:attacker").ToList();
                    // Rights handed over to the attacker, also by those who would have a say.
                    IReadOnlyList<Delegation> lent = handsOver
                        ?
                        [
                            .. parties
                                .Where(p => p.Person != "person:attacker")
                                .Select(p => new Delegation("d", p.UserName, "u0", DateTimeOffset.MinValue, DateTimeOffset.MaxValue, [])),
                        ]
                        : [];
                    var asks = Standing.Ask(
                        edition.Rulebook.Workflows.Single(w => w.Name == "staff").Stages,
                        about,
                        edition.Rulebook,
                        parties
                    );
                    var votes = new List<Vote>();
                    foreach (var ballot in asks.SelectMany(a => a.Ballots))
                    foreach (var attacker in attackers)
                        if (DecisionRight.Acts(attacker, ballot.Deciders, about, lent, parties, DateTimeOffset.UnixEpoch) is { } right)
                            votes.Add(
                                new(ballot.Stage, ballot.Item, attacker.UserName, right, Standing.CoverOf(ballot.Item, items, "in"))
                                {
                                    ActorPerson = attacker.Person,
                                    ForPerson = parties.First(p => p.UserName == right).Person,
                                }
                            );
                    Assert.Empty(votes);
                    Assert.All(asks, a => Assert.Null(a.SkippedBecause));
                    Assert.Equal(0, Standing.FirstOpen(asks, items, votes, new HashSet<string>(), 0, "in"));
                },
                iter: 3000
            );

    [Fact]
    public void A_quorum_is_never_less_than_the_rule_says_and_a_person_counts_once() =>
        Gen.Select(AnyStage, AnyParties, Gen.Int[0, 2])
            .Sample(
                (stage, parties, things) =>
                {
                    var edition = Small.Edition(
                        (
                            "rulebook.yaml",
                            "name: small\nsites: { harbour: { zone: Europe/Lisbon, lead: E3 }, reef: { zone: Europe/Lisbon } "
                                + "}\ndepartment-heads: { Dive: E4 }\ngroups: { board: [E2, E3, E4] }\n"
                        ),
                        ("workflows/staff.yaml", $"name: staff\nfor: [joiner, mover, leaver]\nstages: [{{ name: s, {stage} }}]")
                    );
                    var items = Enumerable
                        .Range(0, things)
                        .Select(i => new Item($"directory/t{i}", "directory", $"t{i}", "d", true, false, []))
                        .ToList();
                    var rule = edition.Rulebook.Workflows.Single(w => w.Name == "staff").Stages.Single();
                    var about = new Circumstances("joiner", "hr", "ines", "E900", Small.Facts(), "E3", false, items, false);
                    foreach (var ballot in Standing.Ask([rule], about, edition.Rulebook, parties).Single().Ballots)
                    {
                        Assert.True(ballot.Needed >= (rule.Quorum == Stage.All ? 1 : rule.Quorum));
                        // Everybody votes with every user they have: a person is one voice.
                        var votes = parties
                            .Where(p => p.Active)
                            .Select(p => new Vote(ballot.Stage, ballot.Item, p.UserName, p.UserName, Standing.CoverOf(ballot.Item, items))
                            {
                                ActorPerson = p.Person,
                                ForPerson = p.Person,
                            })
                            .ToList();
                        Assert.Equal(
                            votes.Select(v => v.ActorPerson).Distinct().Count(),
                            Standing.Given(ballot, items, votes, new HashSet<string>()).Count
                        );
                        Assert.True(ballot.Own is null || ballot.OwnNeeded <= ballot.Own.Count);
                        var able = parties
                            .Where(p => p.Active && !p.IsConcerned(about) && ballot.Deciders.Includes(p, about))
                            .Select(p => p.Person)
                            .Distinct()
                            .Count();
                        Assert.Equal(able < ballot.Needed, ballot.TooFew is not null);
                    }
                },
                iter: 2000
            );

    [Fact]
    public void An_approval_covers_the_inputs_and_each_thing_that_is_asked_for()
    {
        var edition = Small.Edition();
        var plan = new Plan(1, []) { Asks = [new(Small.Key("staff"), null, null)], Inputs = "a" };
        var item = Items.Of(plan, edition.Rulebook).Single();
        Assert.Equal(("directory/staff", 0), (item.Key, item.Ordinals.Count));
        var later = Items.Of(plan with { Asks = [new(Small.Key("staff"), null, DateTimeOffset.UnixEpoch)] }, edition.Rulebook).Single();
        Assert.NotEqual(item.Digest, later.Digest);
        Assert.NotEqual(plan.Digest, (plan with { Inputs = "b" }).Digest);
        foreach (var ballot in new[] { "", item.Key })
        {
            var vote = new Vote("s", ballot, "mara", "mara", Standing.CoverOf(ballot, [item], "a"));
            Assert.True(Standing.Counts(vote, [item], new HashSet<string>(), "a"));
            Assert.False(Standing.Counts(vote, [item], new HashSet<string>(), "b"));
            Assert.False(Standing.Counts(vote, [item], new HashSet<string>()));
            Assert.False(Standing.Counts(vote, [later], new HashSet<string>(), "a"));
        }
    }

    [Fact]
    public void What_is_said_of_people_is_sealed_and_the_entry_holds_without_it() =>
        Gen.Select(Gen.String, Gen.String, Gen.Int)
            .Sample(
                (text, remark, number) =>
                {
                    var entry = LedgerEntry.Of(
                        DateTimeOffset.UnixEpoch,
                        "mara",
                        "request.approved",
                        "p",
                        "r",
                        ("digest", "d"),
                        ("remark", remark),
                        ("account", text),
                        ("number", number),
                        ("anythingNew", text)
                    );
                    Assert.All(
                        ["remark", "account", "number", "anythingNew"],
                        name =>
                            Assert.Contains(
                                $"\"{name}\":\"",
                                entry.Body[entry.Body.IndexOf("\"sealed\"", StringComparison.Ordinal)..],
                                StringComparison.Ordinal
                            )
                    );
                    Assert.Null(LedgerText.Fault(entry.Body, entry.Values));
                    var open = LedgerText.Open(entry.Body, entry.Values);
                    Assert.Equal(
                        (remark, text, number, "d"),
                        (
                            open.GetProperty("remark").GetString(),
                            open.GetProperty("account").GetString(),
                            open.GetProperty("number").GetInt32(),
                            open.GetProperty("digest").GetString()
                        )
                    );
                    var gone = LedgerText.Open(entry.Body, null);
                    Assert.False(gone.TryGetProperty("remark", out _));
                    Assert.Equal(4, gone.GetProperty("forgotten").GetArrayLength());
                    // The same value twice is two commitments: who knows one entry cannot tell the other.
                    var again = LedgerEntry.Of(DateTimeOffset.UnixEpoch, "mara", "request.approved", "p", "r", ("remark", remark));
                    Assert.NotEqual(LedgerText.ValuesOf(entry.Values)["remark"].Salt, LedgerText.ValuesOf(again.Values)["remark"].Salt);
                },
                iter: 300
            );

    [Fact]
    public void Later_trees_continue_earlier_ones_and_no_others() =>
        Gen.Int[0, 70]
            .SelectMany(size => Gen.Int[0, size].Select(earlier => (size, earlier)))
            .Sample(
                pair =>
                {
                    var leaves = Enumerable.Range(0, pair.size).Select(i => Merkle.Leaf($"entry {i}")).ToList();
                    var tree = new MerkleTree(leaves);
                    var (before, after, proof) = (tree.Root(pair.earlier), tree.Root(), tree.ConsistencyProof(pair.earlier, pair.size));
                    Assert.Equal(Merkle.Root([.. leaves.Take(pair.earlier)]), before);
                    Assert.True(Merkle.VerifyConsistency(pair.earlier, before, pair.size, after, proof));
                    if (pair.earlier == 0)
                        return;
                    var other = Merkle.Root([.. Enumerable.Range(0, pair.earlier).Select(i => Merkle.Leaf($"another {i}"))]);
                    Assert.False(Merkle.VerifyConsistency(pair.earlier, other, pair.size, after, proof));
                    Assert.False(Merkle.VerifyConsistency(pair.earlier, before, pair.size, other, proof));
                    if (pair.earlier < pair.size)
                        Assert.False(Merkle.VerifyConsistency(pair.earlier, before, pair.size, after, [.. proof, before]));
                },
                iter: 1500
            );

    [Theory]
    [InlineData("oikonom")]
    [InlineData("0ikon0m")]
    [InlineData("oikonorn")]
    [InlineData("oiko-nom")]
    [InlineData("oik.onom.")]
    [InlineData("silence-1")]
    [InlineData("sy5tem")]
    [InlineData("schedule")]
    [InlineData("me")]
    [InlineData("Ines")]
    [InlineData("")]
    public void Names_of_the_system_and_what_looks_like_them_are_nobodys(string name)
    {
        Assert.NotNull(UserNames.Fault(name));
        Assert.All(["ines.morrow", "simon", "mel", "edda", "tomas", "jane.oikonen"], good => Assert.Null(UserNames.Fault(good)));
    }

    [Fact]
    public void Each_promise_names_tests_that_are_there()
    {
        var named = System
            .Text.RegularExpressions.Regex.Matches(File.ReadAllText(Repository.At("docs", "security.md")), "`([A-Z][a-z]*(?:_\\w+)+)`")
            .Select(m => m.Groups[1].Value)
            .ToHashSet(StringComparer.Ordinal);
        var there = string.Concat(Directory.GetFiles(Repository.At("tests"), "*.cs", SearchOption.AllDirectories).Select(File.ReadAllText));
        Assert.True(named.Count > 30, $"{named.Count} tests are named.");
        Assert.All(named, name => Assert.Matches($@"public (async )?(Task|void) {name}\(", there));
    }

    [Fact]
    public void Retention_is_counted_in_whole_months_from_the_last_day()
    {
        Assert.Equal((24, 18, 30), (RetentionRule.Read("P2Y"), RetentionRule.Read("P18M"), RetentionRule.Read("P2Y6M")));
        Assert.All(["", "P", "P0Y", "2Y", "P2D", "P1.5Y", "P99999Y"], text => Assert.Null(RetentionRule.Read(text)));
        var rule = new RetentionRule(24, 72);
        Assert.Equal(
            (new DateOnly(2028, 3, 31), new DateOnly(2032, 3, 31)),
            (rule.KeptUntil(new(2026, 3, 31)), rule.PowerfulKeptUntil(new(2026, 3, 31)))
        );
    }
}
