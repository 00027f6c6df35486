using Oikonom.Core.Fulfilment;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>What was changed outside, as a plan sees it; and which plans do nothing but set it right.</summary>
public sealed class OutsideTests
{
    private static readonly AccountKey Directory = "directory";
    private static readonly Reason Why = new("everyone", "templates/everyone.yaml:1", "always");
    private static readonly Entry Entry = new("tor.quill", "ou=people", true, "id-1");

    private static readonly AccessState Recorded = new(
        new Dictionary<AccountKey, AccountState>
        {
            [Directory] = new(
                Directory,
                "tor.quill",
                "ou=people",
                new Dictionary<string, IReadOnlyList<string>> { ["title"] = ["Diver"], ["cn"] = ["Tor"] },
                Presence.Awake,
                Why
            ),
        },
        new[] { "pay", "audit" }.Select(g => new GrantState(Small.Key(g), Why)).ToDictionary(g => g.Key)
    );

    [Fact]
    public void A_plan_starts_from_what_was_found()
    {
        var seen = Outside.Seen(
            Recorded,
            Directory,
            [
                new Difference.OtherValues("Title", ["Captain"], ["Diver"]),
                new Difference.OtherPresence(false),
                new Difference.Missing("pay"),
                new Difference.Surplus("vault"),
            ]
        );
        Assert.Equal("Captain", seen.Accounts[Directory].Attributes["title"].Single());
        Assert.Equal("Tor", seen.Accounts[Directory].Attributes["cn"].Single());
        Assert.False(seen.Accounts[Directory].Enabled);
        Assert.Equal("directory/audit", seen.Grants.Keys.Single().ToString());
        Assert.True(Outside.Seen(Recorded, Directory, [new Difference.OtherPresence(true)]).Accounts[Directory].Enabled);
        // Nothing else is touched, and what is not recorded is not seen.
        Assert.Equal(Presence.Awake, Outside.Seen(Recorded, Directory, [new Difference.Missing("pay")]).Accounts[Directory].Presence);
        Assert.Same(Recorded, Outside.Seen(Recorded, "directory:administrator", [new Difference.Gone("id-1")]));
        var gone = Outside.Seen(Recorded, Directory, [new Difference.Gone("id-1")]);
        Assert.Empty(gone.Accounts);
        Assert.Empty(gone.Grants);
        Assert.Equal(2, Recorded.Grants.Count);
    }

    [Fact]
    public void Only_what_gives_back_what_was_decided_sets_right()
    {
        Change title = new Change.ChangeAccount(Directory, Entry, [new("title", ["Captain"], ["Diver"])], Why);
        Change pay = new Change.Grant(Small.Key("pay"), Entry, Why);
        Change create = new Change.CreateAccount(Directory, Entry, [new("cn", [], ["Tor"])], Why);
        Change password = new Change.SetPassword(Directory, Entry, Why);
        Change enable = new Change.EnableAccount(Directory, Entry, Why);
        Change disable = new Change.DisableAccount(Directory, Entry, Why);
        Change verify = new Change.Verify(Directory, Entry, Why);
        Change revoke = new Change.Revoke(Small.Key("audit"), Entry, Why);
        var later = new DateTimeOffset(2027, 1, 1, 0, 0, 0, TimeSpan.Zero);
        Difference other = new Difference.OtherValues("title", ["Captain"], ["Diver"]);
        Difference missing = new Difference.Missing("pay");
        Difference gone = new Difference.Gone("id-1");

        Assert.True(Sets([title, verify], other));
        Assert.True(Sets([title, pay, verify], other, missing));
        Assert.True(Sets([create, password, pay, verify], gone, missing));
        Assert.True(Sets([enable], new Difference.OtherPresence(false)));
        Assert.True(Sets([disable], new Difference.OtherPresence(true)));
        // What is taken away later was decided before.
        Assert.True(Sets([title, revoke with { Due = later }, disable with { Due = later }], other));

        Assert.False(Sets([verify], other));
        Assert.False(Sets([revoke with { Due = later }], other));
        Assert.False(Sets([title], missing));
        Assert.False(Sets([title, pay], other));
        Assert.False(Sets([title, pay with { Due = later }], other, missing));
        Assert.False(Sets([title, revoke], other));
        Assert.False(Sets([create], other));
        Assert.False(Sets([password], other));
        Assert.False(Sets([enable], new Difference.OtherPresence(true)));
        Assert.False(Sets([disable], new Difference.OtherPresence(false)));
        Assert.False(Sets([enable], missing));
        Assert.False(Sets([disable], missing));
        Assert.False(Sets([new Change.AdoptAccount(Directory, Entry, [], Why)], gone));
        // The same attribute with another value, one more of them, or a change of the place alone: more than was found.
        Assert.False(Sets([new Change.ChangeAccount(Directory, Entry, [new("title", ["Captain"], ["Admiral"])], Why)], other));
        Assert.False(Sets([new Change.ChangeAccount(Directory, Entry, [new("title", [], ["Diver"]), new("cn", [], ["Tor"])], Why)], other));
        Assert.False(Sets([new Change.ChangeAccount(Directory, Entry, [], Why)], other));
        // What was found of another account covers nothing here.
        Assert.False(
            Outside.SetsRight(
                new(1, [title]),
                new Dictionary<AccountKey, IReadOnlyList<Difference>> { ["directory:administrator"] = [other] }
            )
        );
        // What breaks a separation is decided.
        Assert.False(
            Outside.SetsRight(
                new(1, [title])
                {
                    Conflicts = [new("pay-and-audit", "Pay and audit", "directory/pay", "a rule", "directory/audit", "a rule", "")],
                },
                new Dictionary<AccountKey, IReadOnlyList<Difference>> { [Directory] = [other] }
            )
        );
    }

    private static bool Sets(IReadOnlyList<Change> changes, params Difference[] found) =>
        Outside.SetsRight(new(1, changes), new Dictionary<AccountKey, IReadOnlyList<Difference>> { [Directory] = found });

    [Theory]
    [InlineData("{ every: PT6H, then: mend, most: 7 }", "06:00:00 Mend 7")]
    [InlineData("{ then: report }", "1.00:00:00 Report 50")]
    [InlineData("{ then: nothing }", "1.00:00:00 Nothing 50")]
    [InlineData("{ every: P7D }", "7.00:00:00 Propose 50")]
    [InlineData("{ every: PT30S }", "at least PT1M")]
    [InlineData("{ every: daily }", "daily")]
    [InlineData("{ then: ask }", "'ask' is not known")]
    [InlineData("{ most: 0 }", "most")]
    [InlineData("{ often: yes }", "often")]
    [InlineData("{ changes: PT10S }", "'changes' is at least PT1M")]
    [InlineData("{ changes: PT5M }", "1.00:00:00 Propose 50 00:05:00")]
    public void A_target_says_how_often_it_is_looked_at_and_what_follows(string watch, string then)
    {
        var reading = RulebookReader.Read(Small.Files(("targets/directory.yaml", $"{Small.Target}\nwatch: {watch}\n")));
        var told = string.Join("; ", reading.Findings.Select(f => f.ToString()));
        if (reading.Rulebook?.Targets["directory"].Watch is { } rule)
            Assert.Equal(then, $"{rule.Every} {rule.Then} {rule.Most} {rule.Changes}".TrimEnd());
        else
            Assert.Contains(then, told, StringComparison.Ordinal);
    }
}
