using System.Diagnostics;
using System.Text.Json.Nodes;
using CsCheck;
using Oikonom.Scim;
using Xunit;

namespace Oikonom.Core.Tests;

public sealed class ScimTests
{
    /// <summary>The full user of RFC 7643 §8.2, shortened.</summary>
    private const string Babs = """
        { "schemas": ["urn:ietf:params:scim:schemas:core:2.0:User", "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"],
          "id": "2819c223-7f76-453a-919d-413861904646", "externalId": "701984", "userName": "bjensen@example.com",
          "name": { "formatted": "Ms. Barbara J Jensen, III", "familyName": "Jensen", "givenName": "Barbara", "middleName": "Jane" },
          "displayName": "Babs Jensen", "nickName": "Babs", "title": "Tour Guide", "userType": "Employee", "active": true,
          "emails": [ { "value": "bjensen@example.com", "type": "work", "primary": true }, { "value": "babs@jensen.org", "type": "home" } ],
          "addresses": [ { "type": "work", "streetAddress": "100 Universal City Plaza", "locality": "Hollywood", "region": "CA", "postalCode": "91608", "country": "USA" } ],
          "phoneNumbers": [ { "value": "555-555-5555", "type": "work" } ],
          "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User": { "employeeNumber": "701984", "costCenter": "4130", "department": "Tour Operations", "manager": { "value": "26118915-6090-4610-87e4-49d8ca9f808d" } },
          "meta": { "resourceType": "User", "created": "2010-01-23T04:56:22Z", "lastModified": "2011-05-13T04:42:34Z" } }
        """;

    private static JsonObject User() => (JsonObject)JsonNode.Parse(Babs)!;

    private static JsonObject Group() =>
        (JsonObject)
            JsonNode.Parse(
                """
                { "schemas": ["urn:ietf:params:scim:schemas:core:2.0:Group"], "displayName": "Tour Guides",
                  "members": [ { "value": "2819c223-7f76-453a-919d-413861904646", "display": "Babs Jensen" }, { "value": "902c246b-6245-4190-8e05-00816be7344a", "display": "Mandy Pepperidge" } ] }
                """
            )!;

    private static JsonObject Patch(JsonObject resource, string operations, ScimResourceType? type = null) =>
        ScimPatch.Apply(
            resource,
            JsonNode.Parse($$"""{ "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"], "Operations": [ {{operations}} ] }"""),
            type ?? ScimSchemas.Users
        );

    private static string Fault(Action act) => Assert.Throws<ScimFault>(act).ScimType ?? "";

    // The filters of RFC 7644 §3.4.2.2, figure 2, and more.
    [Theory]
    [InlineData("userName eq \"bjensen@example.com\"", true)]
    [InlineData("userName Eq \"BJENSEN@example.com\"", true)]
    [InlineData("name.familyName co \"O'Malley\"", false)]
    [InlineData("name.familyName co \"ens\"", true)]
    [InlineData("userName sw \"b\"", true)]
    [InlineData("urn:ietf:params:scim:schemas:core:2.0:User:userName sw \"B\"", true)]
    [InlineData("title pr", true)]
    [InlineData("nickName pr and profileUrl pr", false)]
    [InlineData("meta.lastModified gt \"2011-05-13T04:42:34Z\"", false)]
    [InlineData("meta.lastModified ge \"2011-05-13T04:42:34Z\"", true)]
    [InlineData("meta.lastModified lt \"2011-05-13T06:42:35+02:00\"", true)]
    [InlineData("title pr and userType eq \"Employee\"", true)]
    [InlineData("title pr or userType eq \"Intern\"", true)]
    [InlineData("schemas eq \"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User\"", true)]
    [InlineData("userType eq \"Employee\" and (emails co \"example.com\" or emails.value co \"example.org\")", true)]
    [InlineData("userType ne \"Employee\" and not (emails co \"example.com\" or emails.value co \"example.org\")", false)]
    [InlineData("userType eq \"Employee\" and (emails.type eq \"work\")", true)]
    [InlineData("userType eq \"Employee\" and emails[type eq \"work\" and value co \"@example.com\"]", true)]
    [InlineData("emails[type eq \"home\" and value co \"@example.com\"]", false)]
    [InlineData("emails[type eq \"work\" and value co \"@example.com\"] or ims[type eq \"xmpp\" and value co \"@foo.com\"]", true)]
    [InlineData("urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department eq \"tour operations\"", true)]
    [InlineData("urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:manager.value pr", true)]
    [InlineData("externalId eq \"701984\"", true)]
    [InlineData("active eq true", true)]
    [InlineData("active eq false", false)]
    [InlineData("nickName eq null", false)]
    [InlineData("profileUrl eq null", true)]
    [InlineData("not (active eq true) or title ew \"GUIDE\"", true)]
    [InlineData("title eq \"a\" or title eq \"b\" and active eq true", false)]
    public void Filters_tell_who_matches(string filter, bool matches)
    {
        var read = ScimFilter.Parse(filter);
        Assert.Equal(matches, read.Matches(User(), ScimSchemas.Users));
        Assert.Equal(matches, ScimFilter.Parse(read.ToString()).Matches(User(), ScimSchemas.Users));
    }

    [Theory]
    [InlineData("")]
    [InlineData("userName")]
    [InlineData("userName is \"x\"")]
    [InlineData("userName eq")]
    [InlineData("userName eq x")]
    [InlineData("userName eq \"x")]
    [InlineData("(userName eq \"x\"")]
    [InlineData("userName eq \"x\" and")]
    [InlineData("userName eq \"x\" userName eq \"y\"")]
    [InlineData("emails[type eq \"work\"")]
    [InlineData("emails[type eq \"a\" and emails[x eq \"b\"]]")]
    [InlineData("userName eq {\"a\":1}")]
    [InlineData("urn:x:y eq \"a\"")]
    [InlineData("noSuch eq \"a\"")]
    [InlineData("name.noSuch eq \"a\"")]
    [InlineData("active gt true")]
    public void What_is_no_filter_is_refused(string filter) =>
        Assert.Equal("invalidFilter", Fault(() => ScimFilter.Parse(filter).Matches(User(), ScimSchemas.Users)));

    [Fact]
    public void Deep_and_long_filters_are_refused_before_they_cost_anything()
    {
        Assert.Equal("invalidFilter", Fault(() => ScimFilter.Parse(new string('(', 2000) + "a pr" + new string(')', 2000))));
        Assert.Equal("invalidFilter", Fault(() => ScimFilter.Parse(string.Concat(Enumerable.Repeat("not (", 500)) + "a pr")));
        Assert.Equal("invalidFilter", Fault(() => ScimFilter.Parse(new string('a', 5000))));
    }

    // The examples of RFC 7644 §3.5.2.
    [Fact]
    public void Members_are_added_once_and_removed_by_a_filter()
    {
        var added = Patch(
            Group(),
            """{ "op": "add", "path": "members", "value": [ { "display": "Babs Jensen", "$ref": "../Users/2819", "value": "2819c223-7f76-453a-919d-413861904646" }, { "value": "new" } ] }""",
            ScimSchemas.Groups
        );
        Assert.Equal(3, added["members"]!.AsArray().Count);
        var one = Patch(
            added,
            """{ "op": "remove", "path": "members[value eq \"2819c223-7f76-453a-919d-413861904646\"]" }""",
            ScimSchemas.Groups
        );
        Assert.Equal(
            ["902c246b-6245-4190-8e05-00816be7344a", "new"],
            one["members"]!.AsArray().Select(m => m!["value"]!.GetValue<string>())
        );
        Assert.Null(Patch(one, """{ "op": "remove", "path": "members" }""", ScimSchemas.Groups)["members"]);
        var swapped = Patch(
            Group(),
            """{ "op": "remove", "path": "members" }, { "op": "add", "path": "members", "value": [ { "value": "a" }, { "value": "b" } ] }""",
            ScimSchemas.Groups
        );
        Assert.Equal(2, swapped["members"]!.AsArray().Count);
        Assert.Single(
            Patch(
                Group(),
                """{ "op": "remove", "path": "members", "value": [ { "value": "902c246b-6245-4190-8e05-00816be7344a" } ] }""",
                ScimSchemas.Groups
            )["members"]!.AsArray()
        );
    }

    [Fact]
    public void Attributes_are_added_replaced_and_removed_as_the_rfc_shows()
    {
        var added = Patch(
            User(),
            """{ "op": "add", "value": { "emails": [ { "value": "babs@jensen.example", "type": "other" } ], "nickname": "Babsy" } }"""
        );
        Assert.Equal(3, added["emails"]!.AsArray().Count);
        Assert.Equal("Babsy", added["nickName"]!.GetValue<string>());
        var street = Patch(
            User(),
            """{ "op": "replace", "path": "addresses[type eq \"work\"].streetAddress", "value": "1010 Broadway Ave" }"""
        );
        Assert.Equal("1010 Broadway Ave", street["addresses"]![0]!["streetAddress"]!.GetValue<string>());
        var whole = Patch(
            User(),
            """{ "op": "replace", "path": "addresses[type eq \"work\"]", "value": { "type": "work", "locality": "Hollywood" } }"""
        );
        Assert.Null(whole["addresses"]![0]!["streetAddress"]);
        var several = Patch(
            User(),
            """{ "op": "Replace", "value": { "emails": [ { "value": "new@example.com", "type": "work", "primary": true } ], "name.familyName": "Pepper", "active": "False" } }"""
        );
        Assert.Single(several["emails"]!.AsArray());
        Assert.Equal(
            ("Pepper", "Barbara", false),
            (
                several["name"]!["familyName"]!.GetValue<string>(),
                several["name"]!["givenName"]!.GetValue<string>(),
                several["active"]!.GetValue<bool>()
            )
        );
        Assert.Null(
            Patch(
                User(),
                """{ "op": "remove", "path": "emails[type eq \"work\" and value ew \"example.com\"]" }, { "op": "remove", "path": "emails[type eq \"home\"]" }"""
            )["emails"]
        );
        var extension = Patch(
            User(),
            """{ "op": "replace", "path": "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department", "value": "Rescue" }, { "op": "add", "value": { "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User": { "manager": "77" } } }"""
        );
        Assert.Equal(
            ("Rescue", "77", "4130"),
            (
                extension[ScimSchemas.Enterprise]!["department"]!.GetValue<string>(),
                extension[ScimSchemas.Enterprise]!["manager"]!["value"]!.GetValue<string>(),
                extension[ScimSchemas.Enterprise]!["costCenter"]!.GetValue<string>()
            )
        );
        Assert.Null(Patch(User(), $$"""{ "op": "remove", "path": "{{ScimSchemas.Enterprise}}" }""")[ScimSchemas.Enterprise]);
    }

    [Fact]
    public void One_value_is_the_primary_one()
    {
        var changed = Patch(User(), """{ "op": "add", "path": "emails", "value": [ { "value": "c@example.com", "primary": true } ] }""");
        Assert.Equal([false, null, true], changed["emails"]!.AsArray().Select(e => e!["primary"]?.GetValue<bool>()));
        var filtered = Patch(User(), """{ "op": "replace", "path": "emails[type eq \"home\"].primary", "value": true }""");
        Assert.Equal([false, true], filtered["emails"]!.AsArray().Select(e => e!["primary"]?.GetValue<bool>()));
        var made = Patch(User(), """{ "op": "add", "path": "emails[type eq \"other\"].value", "value": "x@example.com" }""");
        Assert.Equal(
            ("other", "x@example.com"),
            (made["emails"]![2]!["type"]!.GetValue<string>(), made["emails"]![2]!["value"]!.GetValue<string>())
        );
    }

    [Theory]
    [InlineData("""{ "op": "move", "path": "title" }""", "invalidSyntax")]
    [InlineData("""{ "op": "remove" }""", "noTarget")]
    [InlineData("""{ "op": "replace", "path": "emails[type eq \"none\"].value", "value": "x" }""", "noTarget")]
    [InlineData("""{ "op": "remove", "path": "emails[type eq \"none\"]" }""", "noTarget")]
    [InlineData("""{ "op": "add", "path": "emails[", "value": "x" }""", "invalidPath")]
    [InlineData("""{ "op": "add", "path": "noSuch", "value": "x" }""", "invalidPath")]
    [InlineData("""{ "op": "add", "path": "name.noSuch", "value": "x" }""", "invalidPath")]
    [InlineData("""{ "op": "add", "path": "title" }""", "invalidValue")]
    [InlineData("""{ "op": "replace", "path": "active", "value": "maybe" }""", "invalidValue")]
    [InlineData("""{ "op": "replace", "path": "title", "value": 7 }""", "invalidValue")]
    [InlineData("""{ "op": "add", "value": "x" }""", "invalidValue")]
    [InlineData("""{ "op": "replace", "path": "id", "value": "x" }""", "mutability")]
    [InlineData("""{ "op": "replace", "path": "meta.created", "value": "2010-01-23T04:56:22Z" }""", "mutability")]
    [InlineData("""{ "op": "remove", "path": "userName" }""", "mutability")]
    public void What_cannot_be_patched_is_refused_with_its_type_and_changes_nothing(string operation, string type)
    {
        var user = User();
        Assert.Equal(type, Fault(() => Patch(user, $$"""{ "op": "replace", "path": "title", "value": "Changed" }, {{operation}}""")));
        Assert.True(JsonNode.DeepEquals(User(), user));
    }

    [Fact]
    public void What_is_kept_of_a_resource_is_what_its_schema_knows()
    {
        var given = User();
        given["password"] = "secret";
        given["unknown"] = "x";
        given["groups"] = new JsonArray(new JsonObject { ["value"] = "x" });
        var kept = ScimResources.Checked(given, ScimSchemas.Users);
        foreach (var gone in new[] { "password", "unknown", "groups", "id", "meta" })
            Assert.False(kept.ContainsKey(gone), gone);
        Assert.Equal(
            "invalidValue",
            Fault(() =>
                ScimResources.Checked(
                    JsonNode.Parse("""{ "schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"] }"""),
                    ScimSchemas.Users
                )
            )
        );
        Assert.Equal("invalidSyntax", Fault(() => ScimResources.Checked(JsonNode.Parse("""{ "userName": "x" }"""), ScimSchemas.Users)));
        Assert.Equal("invalidSyntax", Fault(() => ScimResources.Checked(JsonNode.Parse("[]"), ScimSchemas.Users)));
        Assert.Equal(
            "invalidValue",
            Fault(() =>
                ScimResources.Checked(
                    JsonNode.Parse("""{ "schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "userName": "x", "emails": "y" }"""),
                    ScimSchemas.Users
                )
            )
        );
    }

    [Fact]
    public void A_projection_shows_what_is_asked_and_always_the_id()
    {
        string Keys(JsonObject json) => string.Join(' ', json.Select(p => p.Key));
        Assert.Equal(
            "schemas id userName name",
            Keys(ScimResources.Projected(User(), ScimSchemas.Users, ["userName", "name.familyName"], []))
        );
        Assert.Equal("familyName", Keys(ScimResources.Projected(User(), ScimSchemas.Users, ["name.familyName"], [])["name"]!.AsObject()));
        Assert.DoesNotContain(
            "emails",
            Keys(ScimResources.Projected(User(), ScimSchemas.Users, [], ["emails", "id"])),
            StringComparison.Ordinal
        );
        Assert.Contains("id", Keys(ScimResources.Projected(User(), ScimSchemas.Users, [], ["emails", "id"])), StringComparison.Ordinal);
        Assert.Equal(
            "schemas id urn:ietf:params:scim:schemas:extension:enterprise:2.0:User",
            Keys(ScimResources.Projected(User(), ScimSchemas.Users, [ScimSchemas.Enterprise + ":department"], []))
        );
    }

    [Fact]
    public void Order_follows_the_primary_value_and_what_is_missing_comes_last()
    {
        JsonObject Of(string id, string? title) => title is null ? new() { ["id"] = id } : new() { ["id"] = id, ["title"] = title };
        var all = new[] { Of("1", "beta"), Of("2", null), Of("3", "Alpha") };
        Assert.Equal(
            ["3", "1", "2"],
            ScimResources.Sorted(all, ScimSchemas.Users, "title", false).Select(r => r["id"]!.GetValue<string>())
        );
        Assert.Equal("invalidPath", Fault(() => ScimResources.Sorted(all, ScimSchemas.Users, "nope", false).ToList()));
    }

    [Fact]
    public void Whatever_comes_a_filter_and_a_path_give_a_result_or_a_fault_in_short_time()
    {
        var words = new[]
        {
            "userName",
            "emails",
            "type",
            "eq",
            "co",
            "pr",
            "and",
            "or",
            "not",
            "(",
            ")",
            "[",
            "]",
            ".",
            "\"",
            "\"x\"",
            "true",
            "7",
            "urn:",
            ScimSchemas.User,
            ":",
            " ",
            "\\",
            "é",
            "\0",
        };
        Gen.Select(Gen.Int[0, words.Length - 1].List[0, 40], Gen.String[Gen.Char, 0, 60], Gen.Bool)
            .Sample(
                (picks, text, built) =>
                {
                    var filter = built ? string.Join(picks.Count % 2 == 0 ? " " : "", picks.Select(p => words[p])) : text;
                    var watch = Stopwatch.GetTimestamp();
                    foreach (
                        var act in new Action[]
                        {
                            () => ScimFilter.Parse(filter).Matches(User(), ScimSchemas.Users),
                            () => ScimPath.Parse(filter),
                        }
                    )
                    {
                        try
                        {
                            act();
                        }
                        catch (ScimFault fault)
                        {
                            Assert.Contains(fault.ScimType, new[] { "invalidFilter", "invalidPath" });
                        }
                    }
                    Assert.True(Stopwatch.GetElapsedTime(watch) < TimeSpan.FromSeconds(5));
                },
                iter: 5000
            );
    }

    [Fact]
    public void Whatever_is_patched_gives_a_resource_or_a_fault()
    {
        var paths = new[]
        {
            "title",
            "name",
            "name.givenName",
            "emails",
            "emails[type eq \"work\"]",
            "emails[type eq \"x\"].value",
            "emails.value",
            "active",
            ScimSchemas.Enterprise,
            ScimSchemas.Enterprise + ":manager",
            "members",
            "",
            "schemas",
            "urn:a:b:c",
            "x509Certificates.value",
        };
        var values = new[]
        {
            "null",
            "\"x\"",
            "7",
            "true",
            "[]",
            "{}",
            "[null]",
            "[{}]",
            "{\"value\":\"x\"}",
            "[{\"value\":1}]",
            "{\"emails\":null}",
            "{\"name\":{\"givenName\":[]}}",
            "[[\"x\"]]",
            "{\"a.b\":1}",
        };
        var operation = Gen.Select(Any.Of("add", "replace", "remove", "Add", "test"), Gen.Int[0, paths.Length], Gen.Int[0, values.Length])
            .Select(
                (op, path, value) =>
                    $$"""{ "op": "{{op}}"{{(path < paths.Length ? $", \"path\": {JsonValue.Create(paths[path])!.ToJsonString()}" : "")}}{{(value < values.Length ? $", \"value\": {values[value]}" : "")}} }"""
            );
        operation
            .List[1, 4]
            .Sample(
                operations =>
                {
                    foreach (var type in ScimSchemas.Types)
                    {
                        try
                        {
                            var changed = Patch(type.Name == "User" ? User() : Group(), string.Join(", ", operations), type);
                            ScimResources.Checked(changed, type);
                        }
                        catch (ScimFault fault)
                        {
                            Assert.InRange(fault.Status, 400, 499);
                        }
                    }
                },
                iter: 5000
            );
    }
}
