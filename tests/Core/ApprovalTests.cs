using CsCheck;
using Oikonom.Core.Approval;
using Oikonom.Core.Intake;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;
using Xunit;

namespace Oikonom.Core.Tests;

public sealed class ApprovalTests
{
    private static readonly DateTimeOffset Now = new(2026, 11, 25, 12, 0, 0, TimeSpan.Zero);
    private static readonly HashSet<string> None = [];

    private const string Organisation = """
        name: small
        sites:
          harbour: { zone: Europe/Lisbon, lead: E5, hours: "09:00-17:00", days: [mon, tue, wed, thu, fri], holidays: [2026-12-25] }
          reef: { zone: Australia/Hobart }
        department-heads: { Dive: E4 }
        groups: { board: [E6, E7] }
        """;

    private static Edition With(string workflow) => Small.Edition(("rulebook.yaml", Organisation), ("workflows/staff.yaml", workflow));

    private static Workflow Staff(string stages) =>
        With($"name: staff\nfor: [joiner, mover, leaver]\nstages:\n{stages}").Rulebook.Workflows.Single();

    private static Party User(string name, string number, params string[] roles) =>
        new(name, roles.ToHashSet(), number.Length > 0 ? number : null, true);

    private static readonly Party[] Parties =
    [
        User("mara", "E2", "approver"),
        User("tomas", "E3", "approver"),
        User("hedda", "E4", "approver"),
        User("silas", "E5", "approver"),
        User("bo", "E6", "approver"),
        User("bea", "E7", "approver"),
        User("ona", "E9", "approver"),
        User("otto", "", "operator"),
        User("ines", "E1001", "requester"),
    ];

    private static Facts FactsOf(string manager = "E2") => Small.Facts().With(BuiltIn.Manager, Expressions.Value.Of(manager));

    private static Item Thing(string key, string digest = "1", bool privileged = false) =>
        new(key, key.Split('/')[0], key.Contains('/', StringComparison.Ordinal) ? key.Split('/')[1] : null, digest, true, privileged, []);

    private static Circumstances About(
        IReadOnlyList<Item>? items = null,
        string manager = "E2",
        string requester = "ines",
        string requesterNumber = "E1001",
        string above = "E3",
        string kind = "joiner"
    ) =>
        new(
            kind,
            "hr",
            requester,
            requesterNumber,
            FactsOf(manager),
            above,
            false,
            items ?? [Thing("directory"), Thing("directory/pay")],
            false
        );

    [Theory]
    [InlineData("manager", "mara", "the line manager")]
    [InlineData("manager-of-manager", "tomas", "the line manager's manager")]
    [InlineData("department-head", "hedda", "the head of department")]
    [InlineData("site-lead", "silas", "the site lead")]
    [InlineData("owner", "ona", "the owner")]
    [InlineData("group:board", "bea,bo", "the group board")]
    [InlineData("person:E7", "bea", "person E7")]
    [InlineData("[manager, site-lead]", "mara,silas", "the line manager or the site lead")]
    [InlineData(
        "{ expression: 'department == \"Dive\" ? \"E6\" : \"E7\"' }",
        "bo",
        "whom “department == \"Dive\" ? \"E6\" : \"E7\"” names"
    )]
    public void Approvers_are_found_by_what_they_are_to_the_request(string decides, string users, string why)
    {
        var stage = Staff(
            $"  - name: s\n    decides: {(decides.StartsWith('{') ? $"[{decides}]" : decides)}\n    otherwise: role:approver\n"
        )
            .Stages.Single();
        var edition = With("name: staff\nfor: [joiner, mover, leaver]\nstages: []");
        var found = Approvers.Resolve(stage.Decides, stage.Otherwise, null, About(), edition.Rulebook, Parties);
        Assert.Equal((users, why), (string.Join(',', found.UserNames), found.Why));
    }

    /// <summary>Each fact of a request is what a condition sees, and changing it changes what holds.</summary>
    [Theory]
    [InlineData("request.kind == \"joiner\"", "kind")]
    [InlineData("request.source == \"hr\"", "source")]
    [InlineData("request.requester == \"ines\"", "requester")]
    [InlineData("!request.byHand", "source")]
    [InlineData("!request.urgent", "urgent")]
    [InlineData("!request.privileged", "items")]
    [InlineData("!request.separation", "separation")]
    [InlineData("request.items == 2", "items")]
    [InlineData("!request.gives", "gives")]
    public void A_condition_sees_the_facts_of_its_request(string condition, string changed)
    {
        var edition = With(
            $"name: staff\nfor: [joiner, mover, leaver]\nstages: [{{ name: m, decides: manager, otherwise: role:approver, when: '{condition}' }}]"
        );
        var when = edition.Rulebook.Workflows.Single().Stages.Single().When;
        var about = About();
        Assert.True(Approvers.Holds(when, about, edition.Rulebook));
        var other = changed switch
        {
            "kind" => about with { Kind = "mover" },
            "source" => about with { Source = Workflow.ByHand },
            "requester" => about with { Requester = "otto" },
            "urgent" => about with { Urgent = true },
            "separation" => about with { BreaksSeparation = true },
            "gives" => about with { Items = [Thing("directory") with { Gives = true }] },
            _ => about with { Items = [Thing("directory"), Thing("directory/pay"), Thing("directory/vault", privileged: true)] },
        };
        Assert.False(Approvers.Holds(when, other, edition.Rulebook));
    }

    [Fact]
    public void What_makes_wakes_or_grants_gives_something_and_what_changes_or_takes_does_not()
    {
        var (why, entry) = (new Reason("everyone", "", ""), new Entry("tor", "", true, "1"));
        AttributeChange[] title = [new("title", ["a"], ["b"])];
        var rulebook = Small.Edition().Rulebook;
        bool Gives(params Change[] changes) => Items.Of(new(1, changes), rulebook).Any(i => i.Gives);
        Assert.True(Gives(new Change.CreateAccount("directory", entry, title, why)));
        Assert.True(Gives(new Change.AdoptAccount("directory", entry, title, why)));
        Assert.True(Gives(new Change.ChangeAccount("directory", entry, title, why), new Change.EnableAccount("directory", entry, why)));
        Assert.True(Gives(new Change.Grant(Small.Key("pay"), entry, why)));
        Assert.False(Gives(new Change.ChangeAccount("directory", entry, title, why), new Change.Verify("directory", entry, why)));
        Assert.False(Gives(new Change.DisableAccount("directory", entry, why), new Change.Revoke(Small.Key("pay"), entry, why)));
        Assert.True(Items.Of(new(1, []) { Asks = [new(Small.Key("pay"), null, null)] }, rulebook).Single().Gives);
    }

    [Fact]
    public void A_condition_that_holds_for_the_person_as_recorded_or_as_wished_holds()
    {
        var edition = With(
            "name: staff\nfor: [joiner, mover, leaver]\nstages: [{ name: m, decides: manager, otherwise: role:approver, when: 'department == \"Dive\"' }]"
        );
        var when = edition.Rulebook.Workflows.Single().Stages.Single().When;
        bool Holds(string before, string after) =>
            Approvers.Holds(
                when,
                About() with
                {
                    Facts = Small.Facts(department: after),
                    Recorded = Small.Facts(department: before),
                },
                edition.Rulebook
            );
        Assert.Equal((true, true, true, false), (Holds("Dive", "Dive"), Holds("Dive", "Sea"), Holds("Sea", "Dive"), Holds("Sea", "Sea")));
    }

    /// <summary>A role beside people: those who have it, can sign in, and are not concerned themselves.</summary>
    [Fact]
    public void Who_has_a_role_decides_unless_they_cannot_sign_in_or_it_is_about_them()
    {
        var edition = With(
            "name: staff\nfor: [joiner, mover, leaver]\nstages: [{ name: m, decides: [person:E7, role:operator], otherwise: role:approver }]"
        );
        var stage = edition.Rulebook.Workflows.Single().Stages.Single();
        Party[] parties =
        [
            .. Parties,
            User("gone", "", "operator") with
            {
                Active = false,
            },
            User("self", "E1", "operator"),
            User("ines", "E1001", "operator"),
            User("olga", "", "operator"),
        ];
        var found = Approvers.Resolve(stage.Decides, stage.Otherwise, null, About(), edition.Rulebook, parties);
        Assert.Equal("bea,olga,otto", string.Join(',', found.UserNames));
        Assert.Equal("person E7 or anyone with the role operator", found.Why);
        // Where nobody can, it says so once.
        var nobody = Approvers.Resolve(stage.Decides, stage.Decides, null, About(), edition.Rulebook, []);
        Assert.EndsWith("because person E7 E7 cannot sign in and nobody else has the role operator", nobody.Why, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("{}", true)]
    [InlineData("{\"operator\":{\"sites\":[\"reef\"]}}", false)]
    [InlineData("{\"operator\":{\"departments\":[\"Dive\"]}}", false)]
    [InlineData("{\"operator\":{\"targets\":[\"directory\"]}}", false)]
    [InlineData("{\"operator\":{}}", true)]
    public void A_reach_is_everywhere_when_it_names_nothing(string json, bool everywhere) =>
        Assert.Equal(everywhere, Reach.FromJson(json).Values.All(r => r.IsEverywhere));

    [Theory]
    [InlineData("", "ines", "HR names no manager")]
    [InlineData("E77", "ines", "the line manager E77 cannot sign in")]
    [InlineData("E2", "mara", "nobody decides for themselves")]
    [InlineData("E1", "ines", "the line manager E1 cannot sign in")]
    public void A_stage_is_never_a_dead_end(string manager, string requester, string why)
    {
        var edition = With("name: staff\nfor: [joiner, mover, leaver]\nstages: [{ name: m, decides: manager, otherwise: role:approver }]");
        var stage = edition.Rulebook.Workflows.Single().Stages.Single();
        var found = Approvers.Resolve(
            stage.Decides,
            stage.Otherwise,
            null,
            About(manager: manager, requester: requester),
            edition.Rulebook,
            Parties
        );
        Assert.Equal(([], "approver"), (found.UserNames, found.Role));
        Assert.Contains(why, found.Why, StringComparison.Ordinal);
    }

    [Fact]
    public void Each_item_goes_to_its_own_owner_and_a_role_counts_only_where_it_reaches()
    {
        var edition = With(
            "name: staff\nfor: [joiner, mover, leaver]\nstages: [{ name: o, decides: owner, otherwise: role:engineer, per: item }]"
        );
        var ask = Standing
            .Ask(edition.Rulebook.Workflows.Single().Stages, About([Thing("directory/pay"), Thing("directory")]), edition.Rulebook, Parties)
            .Single();
        Assert.Equal(
            [("directory/pay", "ona"), ("directory", "")],
            ask.Ballots.Select(b => (b.Item, string.Join(',', b.Deciders.UserNames)))
        );
        Assert.Contains("it has no owner", ask.Ballots[1].Deciders.Why, StringComparison.Ordinal);

        var far = User("rae", "E8", "approver") with { Reach = new Dictionary<string, Reach> { ["approver"] = new(["reef"], [], []) } };
        Assert.False(new Deciders([], "approver", "").Includes(far, About()));
        // What counts is where the person works, not where the request would move them.
        Assert.False(new Deciders([], "approver", "").Includes(far, About() with { Facts = Small.Facts(site: "reef") }));
        Assert.True(new Deciders([], "approver", "").Includes(far, About() with { Recorded = Small.Facts(site: "reef") }));
    }

    [Fact]
    public void Conditions_and_reasons_to_skip_leave_stages_out_and_say_why()
    {
        var edition = With(
            """
            name: staff
            for: [joiner, mover, leaver]
            stages:
              - { name: p, decides: role:approver, when: request.privileged }
              - { name: m, decides: manager, otherwise: role:approver, skip-when: requester-is-manager }
              - { name: x, decides: role:approver, skip-when: nothing-privileged }
            """
        );
        var stages = edition.Rulebook.Workflows.Single().Stages;
        var asks = Standing.Ask(stages, About(requester: "mara", requesterNumber: "E2"), edition.Rulebook, Parties);
        Assert.Equal(
            ["its condition does not hold (request.privileged)", "the line manager raised the request", "nothing in it is privileged"],
            asks.Select(a => a.SkippedBecause)
        );
        asks = Standing.Ask(stages, About([Thing("directory/root", privileged: true)]), edition.Rulebook, Parties);
        Assert.All(asks, a => Assert.Null(a.SkippedBecause));
    }

    [Theory]
    [InlineData("requester-is-above-approver", "E3", "directory/pay", true)]
    [InlineData("requester-is-above-approver", "E2", "directory/pay", false)] // the manager, not theirs
    [InlineData("requester-is-above-approver", "", "directory/pay", false)]
    [InlineData("requester-is-owner", "E9", "directory/pay directory/audit", true)]
    [InlineData("requester-is-owner", "E9", "directory/pay directory", false)] // the account has no owner
    [InlineData("requester-is-owner", "E2", "directory/pay", false)]
    [InlineData("requester-is-owner", "E9", "", false)] // nothing of theirs is in it
    [InlineData("requester-is-owner", "", "directory", false)] // nobody owns it, and that is nobody's word
    [InlineData("requester-is-manager", "E2", "directory", true)]
    [InlineData("requester-is-manager", "E3", "directory", false)]
    [InlineData("requester-is-manager", "", "directory", false)]
    public void A_stage_is_skipped_for_whom_it_would_ask_and_for_nobody_else(string rule, string number, string items, bool skipped)
    {
        var edition = With(
            "name: staff\nfor: [joiner, mover, leaver]\nstages:\n  - { name: s, decides: role:approver, skip-when: " + rule + " }"
        );
        var stages = edition.Rulebook.Workflows.Single().Stages;
        var about = About(
            [.. items.Split(' ', StringSplitOptions.RemoveEmptyEntries).Select(i => Thing(i))],
            requester: "somebody",
            requesterNumber: number
        );
        bool Skips(Circumstances of) => Standing.Ask(stages, of, edition.Rulebook, Parties).Single().SkippedBecause is not null;
        Assert.Equal(skipped, Skips(about));
        // For oneself, and where nobody knows the person but who asks, no stage is left out by who asks.
        Assert.False(Skips(about with { RequesterPerson = about.BeneficiaryPerson }));
        if (rule != "requester-is-owner")
            Assert.False(Skips(about with { Source = Workflow.ByHand }));
        // Without a manager, nobody without a number is the manager.
        Assert.False(Skips(About([], manager: "", requester: "somebody", requesterNumber: "", above: "")));
    }

    [Fact]
    public void One_person_counts_once_in_whatever_order_approvals_came()
    {
        var ballot = new Ballot("s", "", new(["mara", "tomas"], null, ""), 2);
        IReadOnlyList<Item> items = [Thing("directory")];
        Vote By(string actor, string of) => new("s", "", actor, of, Standing.CoverOf("", items));
        string Given(params Vote[] votes) => string.Join(',', Standing.Given(ballot, items, votes, None).Order(StringComparer.Ordinal));
        Vote[] votes = [By("tomas", "mara"), By("mara", "mara"), By("tomas", "tomas")];
        foreach (var order in new[] { new[] { 0, 1, 2 }, [0, 2, 1], [1, 0, 2], [1, 2, 0], [2, 0, 1], [2, 1, 0] })
            Assert.Equal("mara,tomas", Given([.. order.Select(i => votes[i])]));
        // Tomas with both rights is one person, and so is mara whose right was used.
        Assert.Equal("tomas", Given(By("tomas", "mara"), By("tomas", "tomas")));
        Assert.Equal("mara", Given(By("mara", "mara"), By("tomas", "mara")));
        // Who lent the right cannot be lent another one.
        Assert.Equal("ann", Given(By("tomas", "ann"), By("ann", "bo")));
        Assert.Equal("ann", Given(By("ann", "bo"), By("tomas", "ann")));
        Assert.Equal("ann", Given(By("zoe", "ann"), By("tomas", "ann")));
        // An approval of what is not in the plan any more is none.
        Assert.Empty(
            Standing.Given(ballot with { Item = "directory/pay" }, items, [By("mara", "mara") with { Item = "directory/pay" }], None)
        );
    }

    [Theory]
    [InlineData("mara", false)]
    [InlineData("mara hedda", false)] // two, and one of those who must
    [InlineData("hedda silas", false)]
    [InlineData("mara tomas", true)]
    [InlineData("mara tomas hedda", true)]
    public void Who_fills_up_a_quorum_does_not_stand_in_for_those_who_must(string approve, bool met)
    {
        var ballot = new Ballot("s", "", new(["mara", "tomas", "hedda", "silas"], null, ""), 2) { Own = ["mara", "tomas"], OwnNeeded = 2 };
        IReadOnlyList<Item> items = [Thing("directory")];
        var votes = approve.Split(' ').Select(a => new Vote("s", "", a, a, Standing.CoverOf("", items))).ToList();
        Assert.Equal(met, !Standing.IsOpen(ballot, items, votes, None));
        // Of fewer than must there are, all must.
        Assert.Equal(
            approve.Contains("mara", StringComparison.Ordinal) && votes.Count > 1,
            !Standing.IsOpen(ballot with { Own = ["mara"] }, items, votes, None)
        );
    }

    [Fact]
    public void An_approval_counts_for_exactly_what_it_covered()
    {
        var ballot = new Ballot("s", "", new(["mara"], null, ""), 1);
        IReadOnlyList<Item> items = [Thing("directory"), Thing("directory/pay")];
        var vote = new Vote("s", "", "mara", "mara", Standing.CoverOf("", items));
        bool Met(IReadOnlyList<Item> now, params string[] struck) => Standing.Given(ballot, now, [vote], struck.ToHashSet()).Count == 1;
        Assert.True(Met(items));
        Assert.False(Met([.. items, Thing("directory/audit")]), "something came");
        Assert.False(Met([Thing("directory"), Thing("directory/pay", "2")]), "something changed");
        Assert.False(Met([Thing("directory")]), "something went by itself");
        Assert.True(Met([Thing("directory")], "directory/pay"), "what was struck is less than what was approved");
        var one = new Ballot("s", "directory/pay", new(["mara"], null, ""), 1);
        var own = new Vote("s", "directory/pay", "mara", "mara", Standing.CoverOf("directory/pay", items));
        Assert.Single(Standing.Given(one, [.. items, Thing("directory/audit")], [own], None));
        Assert.Empty(Standing.Given(one, [Thing("directory/pay", "2")], [own], None));
    }

    [Fact]
    public void A_right_that_was_lent_is_used_once_and_never_for_the_requester()
    {
        var deciders = new Deciders(["mara"], null, "the line manager");
        Delegation[] lent = [new("d", "mara", "tomas", Now.AddDays(-1), Now.AddDays(1), ["joiner"])];
        Assert.Equal("mara", DecisionRight.Require(Parties[1], deciders, About(), lent, Parties, Now));
        Assert.Equal("not-yours", Code(() => DecisionRight.Require(Parties[1], deciders, About(kind: "mover"), lent, Parties, Now)));
        Assert.Equal("not-yours", Code(() => DecisionRight.Require(Parties[1], deciders, About(), lent, Parties, Now.AddDays(2))));
        Assert.Equal("own-request", Code(() => DecisionRight.Require(Parties[1], deciders, About(requester: "tomas"), lent, Parties, Now)));
        Assert.Equal(
            "own-request",
            Code(() => DecisionRight.Require(User("tor", "E1", "approver"), deciders, About(), [lent[0] with { To = "tor" }], Parties, Now))
        );
        // Mara raised it herself: what she may not decide, she cannot lend.
        Assert.Equal("not-yours", Code(() => DecisionRight.Require(Parties[1], deciders, About(requester: "mara"), lent, Parties, Now)));

        static string Code(Func<string> act) => Assert.Throws<RefusedMove>(() => act()).Code;
    }

    /// <summary>A request as the service runs it, over the pure parts alone.</summary>
    private sealed class Sim(IReadOnlyList<Stage> stages, bool released, Rulebook.Rulebook rulebook, Circumstances about)
    {
        public RequestState State = RequestState.Planning;
        public int Stage;
        public List<Item> Items = [.. about.Items];
        public List<Vote> Votes = [];
        public string? Releaser;

        public IReadOnlyList<StageAsk> Asks => Standing.Ask(stages, about with { Items = Items }, rulebook, Parties);

        public void Do(RequestEvent what, Party actor, int pick)
        {
            var asks = Asks;
            switch (what)
            {
                case RequestEvent.Planned:
                    Move(what, Standing.FirstOpen(asks, Items, Votes, None));
                    break;
                case RequestEvent.Approve:
                    if (State != RequestState.Deciding)
                        Move(what, Stage);
                    var open = Standing.Open(asks[Stage], Items, Votes, None);
                    foreach (var ballot in open.Where((_, i) => pick % 3 == 0 || i == pick % open.Count).ToList())
                        Votes.Add(
                            new(
                                ballot.Stage,
                                ballot.Item,
                                actor.UserName,
                                DecisionRight.Require(actor, ballot.Deciders, about, [], Parties, Now),
                                Standing.CoverOf(ballot.Item, Items)
                            )
                        );
                    Move(what, Standing.FirstOpen(asks, Items, Votes, None, Stage));
                    break;
                case RequestEvent.Replan:
                    Move(what, 0);
                    var at = pick % Items.Count;
                    if (pick % 2 == 0)
                        Items[at] = Items[at] with { Digest = pick.ToString(System.Globalization.CultureInfo.InvariantCulture) };
                    else if (Items.Count > 1)
                        Items.RemoveAt(at);
                    break;
                case RequestEvent.Return:
                    Move(what, 0);
                    Votes.Clear();
                    break;
                case RequestEvent.Release:
                    Move(what, Stage);
                    Releaser = actor.UserName;
                    break;
                default:
                    Move(what, Stage);
                    break;
            }
        }

        private void Move(RequestEvent what, int open) => (State, Stage) = RequestMachine.Next(State, what, open, stages.Count, released);
    }

    private static readonly Gen<string> AnyStage = Gen.Select(
            Any.Of("manager", "owner", "site-lead", "group:board", "role:approver", "[manager, department-head]"),
            Any.Of("one", "2", "all"),
            Gen.Bool
        )
        .Select(
            (decides, quorum, perItem) => $"decides: {decides}, otherwise: role:approver, quorum: {quorum}{(perItem ? ", per: item" : "")}"
        );

    [Fact]
    public void Nothing_runs_that_the_needed_people_did_not_approve_as_it_is()
    {
        var events = Gen.Select(
            Any.Of(
                RequestEvent.Approve,
                RequestEvent.Approve,
                RequestEvent.Approve,
                RequestEvent.Planned,
                RequestEvent.Planned,
                RequestEvent.Decline,
                RequestEvent.AskBack,
                RequestEvent.Answer,
                RequestEvent.Release,
                RequestEvent.Return,
                RequestEvent.Withdraw,
                RequestEvent.Replan,
                RequestEvent.Finished
            ),
            Gen.Int[0, Parties.Length - 1],
            Gen.Int[0, 30]
        ).Array[5, 60];
        Gen.Select(AnyStage.Array[0, 3], Gen.Bool, events)
            .Sample(
                (stageTexts, released, sequence) =>
                {
                    var edition = With(
                        "name: staff\nfor: [joiner, mover, leaver]\nstages: "
                            + $"[{string.Join(", ", stageTexts.Select((t, i) => $"{{ name: s{i}, {t} }}"))}]"
                    );
                    var about = About(
                        [Thing("directory"), Thing("directory/pay"), Thing("directory/audit")],
                        requester: "bo",
                        requesterNumber: "E6"
                    );
                    var sim = new Sim(edition.Rulebook.Workflows.Single().Stages, released, edition.Rulebook, about);
                    var ended = false;
                    foreach (var (what, who, pick) in sequence)
                    {
                        var before = sim.State;
                        try
                        {
                            sim.Do(what, Parties[who], pick);
                        }
                        catch (RefusedMove)
                        {
                            Assert.Equal(before, sim.State);
                            continue;
                        }
                        Assert.False(ended, "something followed an end");
                        ended = !RequestMachine.IsOpen(sim.State);
                        if (before != RequestState.Fulfilling && sim.State == RequestState.Fulfilling)
                        {
                            foreach (var ballot in sim.Asks.SelectMany(a => a.Ballots))
                            {
                                var given = Standing.Given(ballot, sim.Items, sim.Votes, None);
                                Assert.True(
                                    given.Count >= ballot.Needed,
                                    $"{ballot.Stage}/{ballot.Item} has {given.Count} of {ballot.Needed}"
                                );
                                Assert.DoesNotContain("bo", given);
                                Assert.All(given, g => Assert.True(ballot.Deciders.Includes(Parties.First(p => p.UserName == g), about)));
                            }
                            Assert.Equal(released, sim.Releaser is not null);
                        }
                    }
                },
                iter: 400
            );
    }

    [Fact]
    public void The_order_of_approvals_does_not_matter()
    {
        var edition = With(
            "name: staff\nfor: [joiner, mover, leaver]\nstages: [{ name: b, decides: [group:board, manager], otherwise: "
                + "role:approver, quorum: all, per: item }]"
        );
        Gen.Shuffle(Enumerable.Range(0, 6).ToArray())
            .Sample(
                order =>
                {
                    var sim = new Sim(
                        edition.Rulebook.Workflows.Single().Stages,
                        true,
                        edition.Rulebook,
                        About([Thing("directory"), Thing("directory/pay")])
                    );
                    sim.Do(RequestEvent.Planned, Parties[0], 0);
                    var voters = new[] { Parties[0], Parties[4], Parties[5] };
                    foreach (var i in order)
                    {
                        Assert.Equal(RequestState.Deciding, sim.State);
                        var item = i % 2 == 0 ? "directory" : "directory/pay";
                        sim.Votes.Add(new("b", item, voters[i / 2].UserName, voters[i / 2].UserName, Standing.CoverOf(item, sim.Items)));
                        var open = Standing.FirstOpen(sim.Asks, sim.Items, sim.Votes, None);
                        (sim.State, sim.Stage) = RequestMachine.Next(sim.State, RequestEvent.Approve, open, 1, true);
                    }
                    Assert.Equal(RequestState.Releasing, sim.State);
                },
                iter: 200
            );
    }

    [Fact]
    public void Every_move_is_either_in_the_table_or_refused_with_what_is_possible()
    {
        foreach (var state in Enum.GetValues<RequestState>())
        foreach (var what in Enum.GetValues<RequestEvent>())
        {
            try
            {
                var (next, _) = RequestMachine.Next(state, what, 1, 2, true);
                Assert.True(RequestMachine.IsOpen(state));
                Assert.True(next != RequestState.Fulfilling || (state, what) == (RequestState.Releasing, RequestEvent.Release));
            }
            catch (RefusedMove refused)
            {
                Assert.Equal("wrong-state", refused.Code);
                Assert.StartsWith($"The request is {RequestMachine.Name(state)}", refused.Message, StringComparison.Ordinal);
            }
        }
    }

    [Theory]
    [InlineData("2026-11-25T16:00:00Z", "PT2H", "2026-11-26T10:00:00Z")] // Lisbon is on UTC in winter: one hour today, one tomorrow.
    [InlineData("2026-11-27T18:00:00Z", "PT1H", "2026-11-30T10:00:00Z")] // From a Friday evening to Monday.
    [InlineData("2026-12-24T16:30:00Z", "PT1H", "2026-12-28T09:30:00Z")] // Over a holiday and a weekend.
    [InlineData("2026-11-25T03:00:00Z", "PT8H", "2026-11-25T17:00:00Z")] // Exactly one day.
    public void Deadlines_count_the_working_hours_of_the_site(string since, string duration, string due)
    {
        var hours = With("name: staff\nfor: [joiner, mover, leaver]\nstages: []").Rulebook.HoursOf("harbour");
        Assert.True(Iso8601.TryParseDuration(duration, out var time));
        Assert.Equal(DateTimeOffset.Parse(due, null), hours.After(DateTimeOffset.Parse(since, null), time));
    }

    [Theory]
    [InlineData("12-25", "2026-12-25", true)]
    [InlineData("12-25", "2031-12-25", true)] // each year
    [InlineData("12-25", "2026-12-24", false)]
    [InlineData("2026-12-25", "2031-12-25", false)] // this one alone
    [InlineData("02-29", "2028-02-29", true)]
    [InlineData("02-29", "2027-03-01", false)] // no leap year, no holiday
    public void A_holiday_is_of_one_year_or_of_every_year(string holiday, string day, bool free)
    {
        var text = Organisation
            .Replace("[2026-12-25]", $"[{holiday}]", StringComparison.Ordinal)
            .Replace("days: [mon, tue, wed, thu, fri], ", "days: [mon, tue, wed, thu, fri, sat, sun], ", StringComparison.Ordinal);
        var hours = Small.Edition(("rulebook.yaml", text)).Rulebook.HoursOf("harbour");
        var noon = new DateTimeOffset(DateOnly.Parse(day, null), new(12, 0), TimeSpan.Zero);
        Assert.Equal(!free, hours.Covers(noon));
        Assert.Equal(
            free ? noon.Date.AddDays(1).AddHours(10) : noon.AddHours(1).UtcDateTime,
            hours.After(noon, TimeSpan.FromHours(1)).UtcDateTime
        );
    }

    [Theory]
    [InlineData("13-25")]
    [InlineData("02-30")]
    [InlineData("25.12.")]
    [InlineData("2026-12-32")]
    public void A_holiday_that_is_no_day_is_told(string holiday)
    {
        var reading = RulebookReader.Read(
            Small.Files(("rulebook.yaml", Organisation.Replace("[2026-12-25]", $"[\"{holiday}\"]", StringComparison.Ordinal)))
        );
        Assert.Contains("or 12-25 for every year", Assert.Single(reading.Findings).Message, StringComparison.Ordinal);
    }

    [Fact]
    public void Working_time_adds_up_and_never_ends_outside_of_it()
    {
        var hours = With("name: staff\nfor: [joiner, mover, leaver]\nstages: []").Rulebook.HoursOf("harbour");
        Gen.Select(Gen.Int[0, 60 * 24 * 400], Gen.Int[1, 3000], Gen.Int[1, 3000])
            .Sample(
                (start, a, b) =>
                {
                    var since = new DateTimeOffset(2026, 1, 1, 0, 0, 0, TimeSpan.Zero).AddMinutes(start);
                    var both = hours.After(since, TimeSpan.FromMinutes(a + b));
                    Assert.Equal(both, hours.After(hours.After(since, TimeSpan.FromMinutes(a)), TimeSpan.FromMinutes(b)));
                    Assert.True(hours.Covers(both.AddSeconds(-1)), $"{both} is outside");
                }
            );
        Assert.Equal(Now.AddHours(3), WorkingHours.Always(TimeZoneInfo.Utc).After(Now, TimeSpan.FromHours(3)));
    }

    [Theory]
    [InlineData("stages: [{ name: s, decides: manger, otherwise: role:approver }]", "names no approver")]
    [InlineData("stages: [{ name: s, decides: manager }]", "add 'otherwise: role:NAME'")]
    [InlineData(
        "stages: [{ name: s, decides: group:bord, otherwise: role:approver }]",
        "There is no group 'bord' in rulebook.yaml. Did you mean 'board'?"
    )]
    [InlineData("stages: [{ name: s, decides: role:approver, quorum: most }]", "is no quorum")]
    [InlineData("stages: [{ name: s, decides: role:approver, when: request.privilege }]", "privilege")]
    [InlineData("stages: [{ name: s, decides: role:approver, on-silence: approve }]", "'on-silence' needs a 'deadline'")]
    [InlineData("stages: [{ name: s, decides: role:approver, escalate: manager }]", "Escalation needs a 'deadline'")]
    [InlineData("stages: [{ name: s, decides: role:approver, skip-when: never }]", "is no reason to skip")]
    [InlineData("stages: [{ name: s, decides: role:approver, deadline: P1M }]", "is no ISO 8601 duration")]
    [InlineData(
        "stages: [{ name: s, decides: role:approver, may-change: [titl] }]",
        "'titl' is not a declared attribute. Did you mean 'title'?"
    )]
    [InlineData("stages: [{ name: s, decides: role:approver }, { name: s, decides: role:approver }]", "stands here twice")]
    [InlineData("stages: []\nfrom: [hrr]", "'hrr' is no source")]
    [InlineData("stages: []\nrelease: nobody", "is no way to release")]
    [InlineData("stages: []\nwhen: department == 3", "cannot be compared")]
    public void A_wrong_workflow_is_told_with_its_place(string text, string message)
    {
        var findings = RulebookReader
            .Read(
                Small.Files(("rulebook.yaml", Organisation), ("workflows/staff.yaml", $"name: staff\nfor: [joiner, mover, leaver]\n{text}"))
            )
            .Findings;
        Assert.Contains(
            findings,
            f => f.Message.Contains(message, StringComparison.Ordinal) && f.Place.File == "workflows/staff.yaml" && f.Place.Line > 0
        );
    }

    [Fact]
    public void Wrong_calendars_notices_and_desks_are_told_too()
    {
        string[] Findings(params (string, string)[] files) => [.. RulebookReader.Read(Small.Files(files)).Findings.Select(f => f.Message)];
        Assert.Contains(
            Findings(("rulebook.yaml", "name: s\nsites: { harbour: { zone: Europe/Lisbon, hours: 9-17 } }")),
            m => m.Contains("no working hours such as", StringComparison.Ordinal)
        );
        Assert.Contains(
            Findings(("rulebook.yaml", "name: s\nsites: { harbour: { zone: Europe/Lisbon, days: [monday] } }")),
            m => m.Contains("'monday' is no day", StringComparison.Ordinal)
        );
        Assert.Contains(
            Findings(("notices/n.yaml", "event: decides\nsubject: x\ntext: y")),
            m => m.Contains("Did you mean 'decide'?", StringComparison.Ordinal)
        );
        Assert.Contains(
            Findings(("notices/n.yaml", "event: decide\nsubject: Hello {{persn}}\ntext: y")),
            m => m.Contains("'{{persn}}' has no meaning in a notice", StringComparison.Ordinal)
        );
        Assert.Contains(
            Findings(
                (
                    "targets/desk.yaml",
                    "name: desk\nkind: desk\nentitlements: { key: { title: Key, give: x, fields: { n: { pattern: '[' } } } }"
                )
            ),
            m => m.Contains("is no regular expression", StringComparison.Ordinal)
        );
    }

    private static readonly (string, string)[] Desk =
    [
        (
            "targets/facilities.yaml",
            "name: facilities\nkind: desk\nrole: operator\nowner: E5\nentitlements:\n  key: { title: Key, give: Cut a key., "
                + "take-back: Take the key back., owner: E5 }\n"
        ),
        ("templates/keys.yaml", "name: keys\nwhen: department == \"Dive\"\ngrants:\n  - { to: facilities/key, from: start - P3D }\n"),
        ("templates/remote.yaml", "name: remote\non-request: yes\ngrants: [{ to: directory/audit }]\n"),
    ];

    private static Plan PlanOf(Subject person, Edition edition, Wish wish, RequestKind kind, AccessState? recorded = null) =>
        wish.Plan(
            person,
            wish.Apply(person, edition.Rulebook, new("request", "7", wish.Reason), Now),
            recorded ?? AccessState.Nothing,
            new Dictionary<AccountKey, string>(),
            new Dictionary<AccountKey, ExistingAccount>(),
            edition,
            kind,
            Now
        );

    private static string Words(Plan plan) => string.Join(" ", plan.Changes.Select(c => $"{c.Kind}:{c.Subject}{(c.Later ? "~" : "")}"));

    [Fact]
    public void Work_by_hand_is_planned_like_any_grant_and_may_begin_before_the_first_day()
    {
        var edition = Small.Edition(Desk);
        var person = Small.Person(Small.Facts(start: "2026-12-07", end: "2027-02-26"));
        var plan = PlanOf(person, edition, Wish.Nothing, RequestKind.Joiner);
        var give = plan.Changes.Single(c => c is { Target: "facilities", Kind: ChangeKind.Grant });
        Assert.Equal((SiteDays.StartOf(new(2026, 12, 4), edition.Rulebook.ZoneOf("harbour")), false), (give.Due, give.Later));
        var back = plan.Changes.Single(c => c is { Target: "facilities", Kind: ChangeKind.Revoke });
        Assert.Equal((SiteDays.EndOf(new(2027, 2, 26), edition.Rulebook.ZoneOf("harbour")), true), (back.Due, back.Later));
        Assert.DoesNotContain(
            plan.Changes,
            c => c.Target == "facilities" && c.Kind is ChangeKind.Verify or ChangeKind.SetPassword && c.Target == "facilities"
        );
    }

    [Fact]
    public void A_request_for_access_plans_that_and_nothing_else_that_is_under_way()
    {
        var edition = Small.Edition(Desk);
        var person = Small.Person(Small.Facts());
        var recorded = Desired.At(person, edition, Now);
        // Somebody moved the person meanwhile: that mover is a request of its own.
        var moved = Small.Person(Small.Facts(department: "Office"));
        var wish = new Wish { Grants = [new("directory", "pay", null, Now.AddDays(30))], Reason = "month end" };
        Assert.Equal(
            "Grant:pay Verify:tor.quill Revoke:pay~ Verify:tor.quill~",
            Words(PlanOf(moved, edition, wish, RequestKind.Access, recorded))
        );
        Assert.Equal(
            "Grant:audit Verify:tor.quill",
            Words(PlanOf(person, edition, new() { Templates = [new("remote", null, null)] }, RequestKind.Account, recorded))
        );
        Assert.Empty(
            PlanOf(person, edition, new() { Grants = [new("facilities", "key", null, null)] }, RequestKind.Access, recorded).Changes
        );
        Assert.Throws<PlanFault>(() =>
            PlanOf(person, edition, new() { Grants = [new("directory", "root", null, null)] }, RequestKind.Access, recorded)
        );
    }

    [Fact]
    public void What_was_struck_is_not_given_and_does_not_come_back_by_itself()
    {
        var edition = Small.Edition(Desk);
        var person = Small.Person(Small.Facts());
        var wish = new Wish { Struck = ["facilities/key"] };
        Assert.DoesNotContain("facilities", Words(PlanOf(person, edition, wish, RequestKind.Joiner)), StringComparison.Ordinal);
        var after = person with { Refused = ["facilities/key"] };
        Assert.False(Desired.At(after, edition, Now).Grants.ContainsKey(new("facilities", "key")));
        // Asked for and approved later, it is given again.
        Assert.True(
            Desired
                .At(
                    new Wish { Grants = [new("facilities", "key", null, null)] }.Apply(after, edition.Rulebook, new("", "", ""), Now),
                    edition,
                    Now
                )
                .Grants.ContainsKey(new("facilities", "key"))
        );
        Assert.Empty(Desired.At(person with { Refused = ["directory"] }, edition, Now).Accounts);
    }

    [Fact]
    public void An_urgent_leaver_is_out_at_once_and_a_password_touches_one_account()
    {
        var edition = Small.Edition(Desk);
        var person = Small.Person(Small.Facts());
        var recorded = Desired.At(person, edition, Now);
        var plan = PlanOf(person, edition, new() { Urgent = true }, RequestKind.Leaver, recorded);
        Assert.Equal((ChangeKind.DisableAccount, null), (plan.Changes[0].Kind, plan.Changes[0].Due));
        Assert.Equal(
            "SetPassword:tor.quill Verify:tor.quill",
            Words(PlanOf(person, edition, new() { Target = "directory" }, RequestKind.Password, recorded))
        );
        var asleep = recorded.Accounts.ToDictionary(a => a.Key, a => a.Value with { Presence = Presence.Disabled });
        Assert.Contains(
            "disabled",
            Assert
                .Throws<PlanFault>(() =>
                    PlanOf(person, edition, new() { Target = "directory" }, RequestKind.Unlock, recorded with { Accounts = asleep })
                )
                .Message,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public void A_wish_survives_its_json_and_bad_attributes_are_told()
    {
        var wish = new Wish
        {
            Reason = "r",
            Changes = new(StringComparer.Ordinal) { ["title"] = "Lead" },
            Grants = [new("directory", "pay", Now, null)],
            Struck = ["x"],
            Urgent = true,
        };
        Assert.Equal(wish.ToJson(), Wish.FromJson(wish.ToJson()).ToJson());
        Assert.Null(Small.Facts().WithText("end", "tomorrow", Small.Edition().Rulebook.Attributes, out var problem));
        Assert.Contains("no date", problem, StringComparison.Ordinal);
        Assert.Null(Small.Facts().WithText("titl", "x", Small.Edition().Rulebook.Attributes, out problem));
        Assert.Contains("Did you mean 'title'?", problem, StringComparison.Ordinal);
    }
}
