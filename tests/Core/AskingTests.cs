using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>What is asked of the one function beside the windows themselves: match keys, numbers, open fields.</summary>
public sealed class AskingTests
{
    private static readonly DateTimeOffset Now = new(2026, 11, 25, 12, 0, 0, TimeSpan.Zero);

    private static readonly string Target = Small.Target.Replace(
        "match: [employeeNumber]",
        "match: [employeeNumber, { attribute: mail, when: kind == \"employee\" }, cn, uid, sn]",
        StringComparison.Ordinal
    );

    private static readonly string Account = Small.Everyone.Replace(
        "{ cn: given, employeeNumber: number }",
        "{ cn: title, employeeNumber: number, mail: account.name + \"@x\" }",
        StringComparison.Ordinal
    );

    private static IReadOnlyList<(string, string)> KeysOf(Subject person, params (string, string)[] more)
    {
        var edition = Small.Edition([("targets/directory.yaml", Target), ("templates/everyone.yaml", Account), .. more]);
        return edition.Rulebook.Access.Ask().MatchKeys(person, edition.Rulebook.Targets["directory"]);
    }

    [Fact]
    public void Match_keys_come_in_their_order_and_leave_out_what_has_no_value_or_does_not_apply()
    {
        var person = Small.Person(Small.Facts(title: "Lead"));
        var beside = ("templates/beside.yaml", "name: beside\naccounts: { directory: { attributes: { description: title } } }\n");
        (string, string)[] all = [("employeeNumber", "E1"), ("mail", "tor.quill@x"), ("cn", "Lead"), ("uid", "tor.quill")];
        // By the one description of the account, and by several that are put together.
        Assert.Equal(all, KeysOf(person));
        Assert.Equal(all, KeysOf(person, beside));
        var untitled = Small.Person(Small.Facts(title: ""));
        Assert.Equal(all.Where(k => k.Item1 != "cn"), KeysOf(untitled));
        Assert.Equal(all.Where(k => k.Item1 != "cn"), KeysOf(untitled, beside));
        var volunteer = Small.Person(
            new Facts([
                .. Small.Facts(title: "Lead").Values.Select(v => v.Key == "kind" ? new(v.Key, Expressions.Value.Of("volunteer")) : v),
            ])
        );
        Assert.Equal(all.Where(k => k.Item1 != "mail"), KeysOf(volunteer));
        Assert.Equal(all.Where(k => k.Item1 != "mail"), KeysOf(volunteer, beside));
        // Whose account has no name yet is found by what else is known.
        Assert.Equal(
            [("employeeNumber", "E1"), ("mail", "@x"), ("cn", "Lead")],
            KeysOf(person with { AccountNames = new Dictionary<AccountKey, string>() })
        );
        var nobody = (
            "templates/everyone.yaml",
            Account.Replace("name: everyone", "name: everyone\nwhen: department == \"None\"", StringComparison.Ordinal)
        );
        Assert.Empty(KeysOf(person, nobody));
    }

    [Fact]
    public void Keys_of_an_account_beside_the_ordinary_one_are_its_name_alone()
    {
        var edition = Small.Edition(("targets/directory.yaml", Target), ("templates/everyone.yaml", Account));
        var (asking, target) = (edition.Rulebook.Access.Ask(), edition.Rulebook.Targets["directory"]);
        var (beside, person) = (new AccountKey("directory", "administrator"), Small.Person(Small.Facts()));
        var attributes = new Dictionary<string, IReadOnlyList<string>>
        {
            ["employeeNumber"] = ["E1"],
            ["mail"] = [],
            ["cn"] = ["", "x"],
        };
        Assert.Empty(asking.Keys(person, target, beside, attributes));
        var named = person with { AccountNames = new Dictionary<AccountKey, string> { [beside] = "adm-tor" } };
        Assert.Equal([("uid", "adm-tor")], asking.Keys(named, target, beside, attributes));
        Assert.Equal([("employeeNumber", "E1")], asking.Keys(person, target, "directory", attributes));
    }

    [Fact]
    public void Templates_pools_and_open_fields_are_those_of_who_the_person_will_be()
    {
        var edition = Small.Edition(
            ("pools/key.yaml", "name: key\ntitle: Keys\nranges: { harbour: 1-9 }\n"),
            ("pools/till.yaml", "name: till\ntitle: Tills\nranges: { harbour: 1-9 }\n"),
            ("templates/dive.yaml", "name: dive\nwhen: department == \"Dive\"\nnumbers: [key]\nasks: [manager, title]\n"),
            ("templates/office.yaml", "name: office\nwhen: department == \"Office\"\nnumbers: [till, key]\nasks: [title, manager]\n"),
            ("templates/remote.yaml", "name: remote\non-request: yes\nasks: [manager]\n")
        );
        var asking = edition.Rulebook.Access.Ask();
        var person = Small.Person(Small.Facts(title: ""));
        Assert.Equal(["dive", "everyone"], asking.TemplatesOf(person).Order());
        Assert.Equal(["manager", "title"], asking.Asks(person));
        Assert.Equal([("key", "harbour")], asking.Numbers(person).Select(n => (n.Pool.Name, n.Site)));
        // What was approved for later counts: they will have moved by then, and every employment wants its numbers, each once.
        var moves = person with
        {
            Fields = [new("E1", "department", "Office", Now.AddDays(5), null)],
        };
        Assert.Equal(["everyone", "office"], asking.TemplatesOf(moves).Order());
        Assert.Equal(["title", "manager"], asking.Asks(moves));
        Assert.Equal(["till", "key"], asking.Numbers(moves).Select(n => n.Pool.Name));
        var both = Small.Person(Small.Facts(title: "Lead"), Small.Facts("E2", "Office"));
        Assert.Equal(["key", "till"], asking.Numbers(both).Select(n => n.Pool.Name));
        Assert.Equal(["manager"], asking.Asks(both));
        var asked = person with { Asked = [new("remote", Now.AddDays(9), null)] };
        Assert.Contains("remote", asking.TemplatesOf(asked));
    }
}
