using Oikonom.Core.Intake;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>What a wish makes of the inputs of a person, and of what they would have.</summary>
public sealed class WishTests
{
    private static readonly DateTimeOffset Now = new(2026, 11, 25, 12, 0, 0, TimeSpan.Zero);
    private static readonly DateTimeOffset Later = Now.AddDays(10);
    private static readonly Reason Why = new("request", "7", "asked");
    private static readonly Edition Edition = Small.Edition(
        ("templates/remote.yaml", "name: remote\non-request: yes\ngrants: [{ to: directory/audit }]\n"),
        ("templates/desk.yaml", "name: desk\non-request: yes\ngrants: [{ to: directory/pay }]\n")
    );
    private static readonly Subject Person = Small.Person(Small.Facts(), Small.Facts("E2", "Office"));

    private static SortedDictionary<string, string> Change(string name, string text) => new(StringComparer.Ordinal) { [name] = text };

    private static Subject Apply(Wish wish, Subject? to = null) => wish.Apply(to ?? Person, Edition.Rulebook, Why, Now);

    [Fact]
    public void It_is_empty_only_when_it_asks_for_nothing_at_all()
    {
        Assert.True(Wish.Nothing.IsEmpty);
        Assert.False(Wish.Nothing.ChangesInputs);
        foreach (
            var wish in new Wish[]
            {
                new() { Changes = Change("title", "Lead") },
                new() { Grants = [new("directory", "pay", null, null)] },
                new() { Templates = [new("remote", null, null)] },
                new() { Struck = ["directory/pay"] },
                new() { Target = "directory" },
                new() { Edition = 3 },
                new() { Ends = ["directory/pay"] },
            }
        )
        {
            Assert.False(wish.IsEmpty);
            Assert.True(wish.ChangesInputs);
        }
        Assert.True(new Wish { Reason = "only words", Urgent = true }.IsEmpty);
        Assert.True(new Wish { Urgent = true }.ChangesInputs);
    }

    [Fact]
    public void An_account_ends_on_its_day_or_at_once_or_stays()
    {
        Assert.Null(Wish.Nothing.EndAt(Now));
        Assert.Equal(Now, new Wish { Urgent = true }.EndAt(Now));
        Assert.Equal(Later, new Wish { From = Later }.EndAt(Now));
        Assert.Equal(Later, new Wish { From = Later, Urgent = true }.EndAt(Now));
    }

    [Fact]
    public void Its_json_may_be_missing()
    {
        Assert.Same(Wish.Nothing, Wish.FromJson(""));
        Assert.Same(Wish.Nothing, Wish.FromJson("{}"));
        Assert.Same(Wish.Nothing, Wish.FromJson("null"));
        Assert.Equal("x", Wish.FromJson("{\"reason\":\"x\"}").Reason);
    }

    [Fact]
    public void A_field_takes_the_place_of_what_was_to_hold_from_then_on_and_of_nothing_else()
    {
        FieldInput Of(string employment, string name, DateTimeOffset from) => new(employment, name, "old", from, null);
        var person = Person with
        {
            Fields =
            [
                Of("E1", "title", Now.AddDays(-1)),
                Of("E1", "title", Now),
                Of("E1", "title", Later),
                Of("E1", "phone", Later),
                Of("E2", "title", Later),
            ],
        };
        Assert.Equal(
            [("E1", "title", Now.AddDays(-1)), ("E1", "phone", Later), ("E2", "title", Later), ("E1", "title", Now)],
            Apply(new() { Changes = Change("title", "Lead") }, person).Fields.Select(f => (f.Employment, f.Name, f.From))
        );
        var ahead = Apply(new() { Changes = Change("title", "Lead"), From = Later.AddDays(-1) }, person).Fields;
        Assert.Equal([Now.AddDays(-1), Now, Later, Later, Later.AddDays(-1)], ahead.Select(f => f.From));
        Assert.Equal("Lead", ahead[^1].Text);
    }

    [Fact]
    public void An_end_at_once_covers_all_employments_and_comes_before_a_later_one_only()
    {
        var start = new DateOnly(2026, 1, 5);
        Ending Of(string employment, DateTimeOffset at, DateOnly? from = null) => new(employment, from ?? start, at);
        Assert.Equal([Of("E1", Now), Of("E2", Now)], Apply(new() { Urgent = true }).Endings);
        var ended = Person with { Endings = [Of("E1", Now.AddDays(-1)), Of("E2", Later), Of("E2", Later, new(2025, 1, 1))] };
        Assert.Equal(
            [Of("E1", Now.AddDays(-1)), Of("E2", Later, new(2025, 1, 1)), Of("E2", Now)],
            Apply(new() { Urgent = true }, ended).Endings
        );
        Assert.Equal([Of("E1", Now)], Apply(new() { Urgent = true }, Person with { Others = [], Endings = [Of("E1", Now)] }).Endings);
        // Another last day takes back what was ended of the employment that leads, and of no other.
        Assert.Equal([Of("E2", Later), Of("E2", Later, new(2025, 1, 1))], Apply(new() { Changes = Change("end", "") }, ended).Endings);
        Assert.Equal(3, Apply(new() { Changes = Change("title", "Lead") }, ended).Endings.Count);
    }

    [Fact]
    public void What_is_asked_for_takes_the_place_of_what_was_asked_for_and_what_is_ended_is_gone()
    {
        ExtraGrant Held(string name) => new(Small.Key(name), Now.AddDays(-9), null, new("request", "1", "before"));
        var person = Person with
        {
            Extra = [Held("pay"), Held("audit")],
            Asked = [new("remote", Now.AddDays(-9), null), new("desk", Now.AddDays(-9), null)],
            Refused = ["directory/pay", "directory/audit"],
        };
        var after = Apply(
            new()
            {
                Grants = [new("directory", "pay", null, Later), new("directory", "root", Later, null)],
                Templates = [new("remote", null, Later), new("remote", Later, null)],
                Struck = ["directory/root", "directory/site"],
                Refuses = ["directory/keys"],
            },
            person
        );
        // What was struck from the plan is not given, though it was asked for, and not refused for ever.
        Assert.Equal([("audit", Now.AddDays(-9), null), ("pay", Now, Later)], after.Extra.Select(e => (e.Key.Name, e.From, e.Until)));
        Assert.Equal(Why, after.Extra[1].Reason);
        Assert.Equal(
            [("desk", Now.AddDays(-9), null), ("remote", Now, Later), ("remote", Later, null)],
            after.Asked.Select(a => (a.Template, a.From, a.Until))
        );
        Assert.Equal(["directory/audit", "directory/site", "directory/keys"], after.Refused);
        Assert.Equal(Later, Apply(new() { Grants = [new("directory", "pay", Later, null)] }, person).Extra[^1].From);
        Assert.Equal(["pay"], Apply(new() { Ends = ["directory/audit"] }, person).Extra.Select(e => e.Key.Name));
        Assert.Equal(["pay", "audit"], Apply(Wish.Nothing, person).Extra.Select(e => e.Key.Name));
    }

    private static Plan PlanOf(Wish wish, RequestKind kind, Subject? who = null, AccessState? recorded = null) =>
        wish.Plan(
            who ?? Person,
            Apply(wish, who),
            recorded ?? Desired.At(who ?? Person, Edition, Now),
            new Dictionary<AccountKey, string> { ["directory"] = "id-7" },
            new Dictionary<AccountKey, ExistingAccount>(),
            Edition,
            kind,
            Now
        );

    [Fact]
    public void Every_input_has_a_part_in_the_plans_identity_and_grants_are_named_beside_it()
    {
        var ends = Now.AddDays(30);
        string? Of(Wish wish) => wish.Carried(new(1, [])).Inputs;
        Assert.Null(Of(Wish.Nothing));
        Assert.Null(
            Of(
                new()
                {
                    Grants = [new("directory", "pay", null, ends)],
                    Reason = "words",
                    Struck = ["directory/pay"],
                }
            )
        );
        Wish[] all =
        [
            new() { Changes = Change("title", "Lead") },
            new() { Changes = Change("title", "Diver") },
            new() { Changes = Change("title", "Lead"), From = Later },
            new() { Changes = Change("title", "Lead"), From = Later.AddDays(1) },
            new() { Templates = [new("remote", null, null)] },
            new() { Templates = [new("remote", null, Later)] },
            new() { Target = "directory" },
            new() { Urgent = true },
            new() { Urgent = true, Target = "directory" },
            new() { Edition = 3 },
            new() { Edition = 4 },
            new() { Ends = ["directory/pay"] },
            new() { Ends = ["directory/pay"], Refuses = ["directory/pay"] },
        ];
        Assert.Equal(all.Length, all.Select(Of).OfType<string>().Distinct().Count());
        Assert.All(all, w => Assert.Equal(32, Of(w)!.Length));

        var plan = PlanOf(
            new() { Grants = [new("directory", "pay", null, ends), new("directory", "audit", null, ends)], Struck = ["directory/audit"] },
            RequestKind.Access
        );
        Assert.Equal([new(Small.Key("pay"), null, ends)], plan.Asks!);
        Assert.Null(PlanOf(new() { Templates = [new("remote", null, null)] }, RequestKind.Account).Asks);
    }

    [Fact]
    public void A_password_is_set_a_lock_is_ended_and_both_are_read_back()
    {
        var set = PlanOf(new() { Target = "directory", Reason = "forgot it" }, RequestKind.Password);
        var unlock = PlanOf(new() { Target = "directory", Reason = "locked out" }, RequestKind.Unlock);
        Assert.Equal([(1, ChangeKind.SetPassword), (2, ChangeKind.Verify)], set.Changes.Select(c => (c.Ordinal, c.Kind)));
        Assert.Equal([(1, ChangeKind.EnableAccount), (2, ChangeKind.Verify)], unlock.Changes.Select(c => (c.Ordinal, c.Kind)));
        Assert.All(set.Changes, c => Assert.Equal(("forgot it", "id-7"), (c.Reason.Condition, c.Entry.ImmutableId)));
        Assert.Throws<PlanFault>(() => PlanOf(new() { Target = "directory:other" }, RequestKind.Password));
    }

    [Fact]
    public void What_is_given_back_says_who_said_so_and_what_ends_otherwise_says_its_rule()
    {
        var person = Person with { Extra = [new(Small.Key("pay"), Now.AddDays(-9), null, new("request", "1", "before"))] };
        var given = PlanOf(new() { Ends = ["directory/pay"], Reason = "not needed" }, RequestKind.End, person);
        var revoke = Assert.Single(given.Changes, c => c.Kind == ChangeKind.Revoke);
        Assert.Equal(("request", "not needed"), (revoke.Reason.Rule, revoke.Reason.Condition));
        Assert.DoesNotContain(given.Changes.Where(c => c.Kind == ChangeKind.Verify), c => c.Reason.Condition == "not needed");
        var asked = PlanOf(new() { Ends = ["directory/pay"], Reason = "not needed" }, RequestKind.Access, person);
        Assert.NotEqual("not needed", Assert.Single(asked.Changes, c => c.Kind == ChangeKind.Revoke).Reason.Condition);
    }
}

/// <summary>Passwords letter by letter, with a source that is known.</summary>
public sealed class PasswordTests
{
    [Theory]
    [InlineData(1, 1, "bababa")]
    [InlineData(2, 1, "bababa-bababa")]
    [InlineData(1, 2, "Bababa")]
    [InlineData(2, 3, "Bababa-bababa2")]
    public void Words_are_three_syllables_each_with_what_the_classes_demand(int words, int classes, string made) =>
        Assert.Equal(made, Passwords.Make(new(6, classes, words, true), _ => 0));

    [Fact]
    public void A_phrase_has_words_enough_for_its_length()
    {
        Assert.Equal("bababa-bababa", Passwords.Make(new(7, 1, 1, true), _ => 0));
        Assert.Equal("bababa", Passwords.Make(new(6, 1, 1, true), _ => 0));
    }

    [Fact]
    public void Every_place_is_drawn_and_then_put_anywhere()
    {
        var asked = new List<int>();
        var made = Passwords.Make(
            new(5, 2, 0, true),
            below =>
            {
                asked.Add(below);
                return 0;
            }
        );
        // Two of the classes, three of all that stand together: 25 + 24 + 8 letters; then each place from the last to the second.
        Assert.Equal([25, 24, 57, 57, 57, 5, 4, 3, 2], asked);
        Assert.Equal("Aaaaa", string.Concat(made.Order()));
    }

    [Fact]
    public void All_four_classes_are_drawn_from_when_all_are_demanded()
    {
        var asked = new List<int>();
        Passwords.Make(
            new(5, 4, 0, true),
            below =>
            {
                asked.Add(below);
                return below - 1;
            }
        );
        Assert.Equal([25, 24, 8, 5, 62], asked.Take(5));
    }
}
