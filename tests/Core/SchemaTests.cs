using System.Text.Json.Nodes;
using Json.Schema;
using Oikonom.Core.Rulebook;
using Oikonom.Testing;
using Xunit;
using YamlDotNet.RepresentationModel;

namespace Oikonom.Core.Tests;

/// <summary>The schemas that editors complete with say the same as the reader.</summary>
public sealed class SchemaTests
{
    private static readonly Dictionary<string, string> Folders = new()
    {
        ["sources"] = "source",
        ["targets"] = "target",
        ["catalogue"] = "catalogue",
        ["templates"] = "template",
        ["workflows"] = "workflow",
        ["pools"] = "pool",
        ["separations"] = "separation",
        ["notices"] = "notice",
    };

    private static string SchemaOf(string path) =>
        path.Contains('/', StringComparison.Ordinal) ? Folders[path[..path.IndexOf('/', StringComparison.Ordinal)]] : "rulebook";

    private static JsonNode? Node(YamlNode node) =>
        node switch
        {
            YamlMappingNode map => new JsonObject(
                map.Children.Select(c => KeyValuePair.Create(((YamlScalarNode)c.Key).Value!, Node(c.Value)))
            ),
            YamlSequenceNode list => new JsonArray([.. list.Children.Select(Node)]),
            YamlScalarNode { Style: YamlDotNet.Core.ScalarStyle.Plain, Value: { } text } when long.TryParse(text, out var number) => number,
            YamlScalarNode { Style: YamlDotNet.Core.ScalarStyle.Plain, Value: "true" or "false" } scalar => scalar.Value == "true",
            YamlScalarNode scalar => scalar.Value,
            _ => null,
        };

    private static JsonNode? Parse(string text)
    {
        var stream = new YamlStream();
        stream.Load(new StringReader(text));
        return Node(stream.Documents[0].RootNode);
    }

    private static readonly Dictionary<string, JsonSchema> Schemas = Directory
        .GetFiles(Repository.At("schemas"), "*.json")
        .ToDictionary(f => Path.GetFileNameWithoutExtension(f), f => JsonSchema.FromText(File.ReadAllText(f)));

    private static bool Validates(string schema, string yaml) =>
        Schemas[schema].Evaluate(System.Text.Json.JsonDocument.Parse(Parse(yaml)!.ToJsonString()).RootElement).IsValid;

    [Fact]
    public void Every_document_of_the_demo_is_valid()
    {
        Assert.Equal(Folders.Values.Append("rulebook").Order(), Schemas.Keys.Order());
        foreach (var file in Northmere.All)
            Assert.True(Validates(SchemaOf(file.Path), file.Text), file.Path);
        foreach (var file in Small.Files())
            Assert.True(Validates(SchemaOf(file.Path), file.Text), file.Path);
    }

    [Theory]
    [InlineData("sources/hr.yaml", "key: employee_no", "keey: employee_no")]
    [InlineData("sources/hr.yaml", "kind: file", "kind: ftp")]
    [InlineData("templates/everyone.yaml", "lead: P14D", "lead: 14 days")]
    [InlineData("templates/dive-team.yaml", "to: directory/dive-team", "to: dive-team")]
    [InlineData("workflows/staff.yaml", "decides: manager", "decides: boss")]
    [InlineData("targets/directory.yaml", "connections: 4", "connections: 400")]
    [InlineData("pools/till.yaml", "1-40", "forty")]
    [InlineData("separations/tickets-and-research.yaml", "then: block", "then: shout")]
    [InlineData("rulebook.yaml", "zone: Europe/Lisbon", "zoon: Europe/Lisbon")]
    public void What_the_reader_refuses_in_form_the_schema_refuses_too(string path, string old, string fresh)
    {
        var text = Northmere.With(path, old, fresh).Single(f => f.Path == path).Text;
        Assert.False(Validates(SchemaOf(path), text));
        Assert.NotEmpty(RulebookReader.Read(Northmere.With(path, old, fresh)).Findings);
    }

    [Theory]
    [InlineData("dialect: domain-controller", "dialect: other")]
    [InlineData("dialect: domain-controller\n", "")]
    [InlineData("references: { manager: employeeID }", "references: [manager]")]
    public void A_domain_needs_no_classes_and_says_that_it_is_one(string old, string fresh)
    {
        var office = Northmere.All.Single(f => f.Path == "targets/office.yaml");
        Assert.False(Validates("target", office.Text.Replace(old, fresh, StringComparison.Ordinal)));
        Assert.NotEmpty(
            RulebookReader.Read(Small.Files((office.Path, office.Text.Replace(old, fresh, StringComparison.Ordinal)))).Findings
        );
    }

    [Fact]
    public void The_reader_knows_every_key_of_the_schemas_and_no_other()
    {
        foreach (var (folder, schema) in Folders.Append(new("", "rulebook")))
        {
            var keys = JsonNode.Parse(File.ReadAllText(Repository.At("schemas", $"{schema}.json")))!["properties"]!
                .AsObject()
                .Select(p => p.Key)
                .ToList();
            var path = folder.Length == 0 ? "rulebook.yaml" : $"{folder}/x.yaml";
            // One document for each kind of source: some keys belong to one kind alone.
            var kinds = schema switch
            {
                "source" => new[] { "file", "http" },
                "target" => ["ldap", "scim", "file", "desk"],
                _ => [""],
            };
            var refused = kinds
                .Select(kind =>
                {
                    var text = string.Join(
                        "\n",
                        keys.Select(k => k == "kind" && kind.Length > 0 ? $"kind: {kind}" : $"{k}: x").Append("no-such-key: x")
                    );
                    return RulebookReader
                        .Read(Small.Files((path, text)))
                        .Findings.Where(f =>
                            f.Place.File == path && f.Message.Contains("is not a known key here", StringComparison.Ordinal)
                        )
                        .Select(f => f.Message.Split('\'')[1])
                        .ToHashSet();
                })
                .Aggregate((a, b) => [.. a.Intersect(b)]);
            Assert.Equal(["no-such-key"], refused);
        }
    }
}
