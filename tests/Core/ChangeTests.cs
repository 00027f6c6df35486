using System.Text.Json;
using Oikonom.Core.Approval;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>Changes are a closed set: what is kept is read again as it was, and decisions that were made still count.</summary>
public sealed class ChangeTests
{
    private static readonly DateTimeOffset Day = new(2030, 3, 4, 5, 0, 0, TimeSpan.Zero);
    private static readonly Reason Reason = new("keepers", "templates/keepers.yaml:3", "always");
    private static readonly Entry Entry = new("tor.quill", "ou=people", false, "id-1");
    private static readonly IReadOnlyList<AttributeChange> Attributes = [new("title", ["Keeper"], ["Lead"])];

    public static TheoryData<ChangeKind> Kinds => [.. Enum.GetValues<ChangeKind>()];

    private static Change Of(ChangeKind kind) =>
        kind switch
        {
            ChangeKind.CreateAccount => new Change.CreateAccount("directory", Entry, Attributes, Reason),
            ChangeKind.AdoptAccount => new Change.AdoptAccount("directory", Entry, Attributes, Reason),
            ChangeKind.ChangeAccount => new Change.ChangeAccount("directory", Entry, Attributes, Reason),
            ChangeKind.SetPassword => new Change.SetPassword("directory", Entry, Reason),
            ChangeKind.EnableAccount => new Change.EnableAccount("directory", Entry, Reason),
            ChangeKind.DisableAccount => new Change.DisableAccount("directory", Entry, Reason),
            ChangeKind.Grant => new Change.Grant(new("directory", "pay"), Entry, Reason),
            ChangeKind.Revoke => new Change.Revoke(new("directory", "pay"), Entry, Reason),
            ChangeKind.Verify => new Change.Verify("directory", Entry, Reason),
            _ => throw new ArgumentOutOfRangeException(nameof(kind)),
        };

    [Fact]
    public void Each_kind_has_a_record_of_its_own() =>
        Assert.Equal(
            Enum.GetNames<ChangeKind>().Order(),
            typeof(Change).GetNestedTypes().Where(t => t.IsSubclassOf(typeof(Change))).Select(t => t.Name).Order()
        );

    [Theory]
    [MemberData(nameof(Kinds))]
    public void What_is_kept_is_read_again_as_it_was(ChangeKind kind)
    {
        var change = Of(kind) with { Ordinal = 3, Due = Day, Later = true };
        var kept = JsonSerializer.Serialize(change, JsonSerializerOptions.Web);
        var read = JsonSerializer.Deserialize<Change>(kept, JsonSerializerOptions.Web)!;
        Assert.Equal(change.GetType(), read.GetType());
        Assert.Equal(kept, JsonSerializer.Serialize(read, JsonSerializerOptions.Web));
        Assert.Equal((3, Day, true, Entry, Reason), (read.Ordinal, read.Due, read.Later, read.Entry, read.Reason));
    }

    [Theory]
    [MemberData(nameof(Kinds))]
    public void Each_kind_is_looked_at_again(ChangeKind kind)
    {
        var change = Of(kind);
        var nothing = Planner.Look(change, AccessState.Nothing);
        Assert.Equal(change.TakesAway ? StillWanted.Yes : StillWanted.No, nothing);
    }

    [Fact]
    public void A_change_that_an_earlier_release_kept_is_read()
    {
        const string kept = """
            {"ordinal":2,"kind":"revoke","target":"directory","subject":"pay","due":null,"later":false,"account":"tor.quill","container":"ou=people",
             "classes":["inetOrgPerson"],"attributes":[],"enabled":true,"immutableId":"id-1","reason":{"rule":"r","place":"p","condition":"c"}}
            """;
        var revoke = Assert.IsType<Change.Revoke>(JsonSerializer.Deserialize<Change>(kept, JsonSerializerOptions.Web));
        Assert.Equal((Small.Key("pay"), "tor.quill", "directory/pay"), (revoke.Taken, revoke.Entry.Name, revoke.Key));
        Assert.Throws<JsonException>(() =>
            JsonSerializer.Deserialize<Change>(kept.Replace("revoke", "abolish", StringComparison.Ordinal), JsonSerializerOptions.Web)
        );
    }

    [Fact]
    public void Decisions_of_an_earlier_release_still_cover_what_they_covered()
    {
        var plan = new Plan(1, [Of(ChangeKind.CreateAccount), Of(ChangeKind.Grant) with { Ordinal = 2, Due = Day }])
        {
            Asks = [new(Small.Key("pay"), null, Day)],
        };
        Assert.Equal(
            ["3f35935f0026879ba657fb882ee32057", "4b889f9e8b1932c1af706c693a1378ae"],
            Items.Of(plan, Small.Edition().Rulebook).Select(i => i.Digest)
        );
    }

    [Theory]
    [InlineData("directory/pay", "directory", "pay")]
    [InlineData("directory/a/b", "directory", "a/b")]
    public void A_key_is_read_and_written_alike(string text, string target, string name)
    {
        Assert.True(EntitlementKey.TryParse(text, out var key));
        Assert.Equal((target, name, text), (key.Target, key.Name, key.ToString()));
        Assert.Equal(new EntitlementKey(target, name), key);
        Assert.Equal($"\"{text}\"", JsonSerializer.Serialize(key));
    }

    [Theory]
    [InlineData("directory")]
    [InlineData("/pay")]
    [InlineData("directory/")]
    [InlineData("")]
    [InlineData(null)]
    public void What_names_no_entitlement_is_no_key(string? text)
    {
        Assert.False(EntitlementKey.TryParse(text, out _));
        Assert.Throws<FormatException>(() => EntitlementKey.Parse(text ?? ""));
    }
}
