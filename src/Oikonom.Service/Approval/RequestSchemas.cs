using System.Text.Json.Nodes;
using Oikonom.Core.Expressions;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;

namespace Oikonom.Service.Approval;

/// <summary>
/// A JSON Schema (draft 2020-12) for each kind of request, made of the published rulebook: an editor or a calling
/// system knows before it asks which attributes, entitlements and templates there are.
/// </summary>
public static class RequestSchemas
{
    private const string Day = "^[0-9]{4}-[0-9]{2}-[0-9]{2}$";
    private const string DayOrInstant = "^[0-9]{4}-[0-9]{2}-[0-9]{2}(T.+)?$";

    public static JsonObject Of(string kind, Edition edition)
    {
        var rulebook = edition.Rulebook;
        var properties = new JsonObject
        {
            ["kind"] = new JsonObject { ["const"] = kind },
            ["reason"] = Text("Why; the approver reads it.", 2000),
        };
        var required = new List<string> { "kind" };
        var schema = new JsonObject
        {
            ["$schema"] = "https://json-schema.org/draft/2020-12/schema",
            ["title"] = $"A {kind} request, edition {edition.Number}",
            ["type"] = "object",
            ["additionalProperties"] = false,
        };
        if (kind != "joiner")
            Need("person", Text("The person's id or employee number."));
        switch (kind)
        {
            case "joiner":
                // Who has no number yet gets one.
                Need("record", Record(rulebook, rulebook.Attributes.Names, rulebook.Mandatory.Except([BuiltIn.Person, BuiltIn.Number])));
                break;
            case "mover" or "change":
                Need("record", Record(rulebook, rulebook.Attributes.Names.Except([BuiltIn.Person, BuiltIn.Number]), []));
                properties["record"]!["minProperties"] = 1;
                properties["from"] = Pattern(DayOrInstant, "From when; at once when missing.");
                break;
            case "leaver":
                properties["lastDay"] = Pattern(Day, "The last day at work.");
                properties["urgent"] = new JsonObject { ["type"] = "boolean", ["description"] = "Access ends at once." };
                schema["anyOf"] = new JsonArray(Requires("lastDay"), Requires("urgent"));
                break;
            case "access":
                Need("grants", Grants(rulebook, false));
                required.Add("reason");
                break;
            case "extension":
                properties["grants"] = Grants(rulebook, true);
                properties["record"] = Record(rulebook, [BuiltIn.End], [BuiltIn.End]);
                schema["oneOf"] = new JsonArray(Requires("grants"), Requires("record"));
                required.Add("reason");
                break;
            case "account":
                Need("template", Choice(rulebook.Templates.Where(t => t.IsOnRequest).Select(t => t.Name), "A template on request."));
                properties["from"] = Pattern(DayOrInstant, "From when; at once when missing.");
                properties["until"] = Pattern(DayOrInstant, "Until when, a day included; open when missing.");
                required.Add("reason");
                break;
            default:
                properties["target"] = Choice(
                    rulebook.Targets.Values.Where(t => t.HasAccounts).Select(t => t.Name),
                    "The target of the account; may be missing when the person has one account."
                );
                break;
        }
        schema["properties"] = properties;
        schema["required"] = new JsonArray([.. required.Select(r => JsonValue.Create(r))]);
        return schema;

        void Need(string name, JsonObject property)
        {
            properties[name] = property;
            required.Add(name);
        }
    }

    private static JsonObject Requires(string name) => new() { ["required"] = new JsonArray(name) };

    private static JsonObject Text(string description, int most = 0)
    {
        var text = new JsonObject { ["type"] = "string", ["description"] = description };
        if (most > 0)
            text["maxLength"] = most;
        else
            text["minLength"] = 1;
        return text;
    }

    private static JsonObject Pattern(string pattern, string description) =>
        new()
        {
            ["type"] = "string",
            ["pattern"] = pattern,
            ["description"] = description,
        };

    private static JsonObject Choice(IEnumerable<string> names, string description) =>
        new()
        {
            ["enum"] = new JsonArray([.. names.Order(StringComparer.Ordinal).Select(n => JsonValue.Create(n))]),
            ["description"] = description,
        };

    /// <summary>The attributes of a record, each as a text of its form.</summary>
    private static JsonObject Record(Core.Rulebook.Rulebook rulebook, IEnumerable<string> names, IEnumerable<string> needed)
    {
        var properties = new JsonObject();
        foreach (var name in names.Order(StringComparer.Ordinal))
        {
            rulebook.Attributes.TryGet(name, out var slot);
            var empty = rulebook.Mandatory.Contains(name) ? "" : "|^$";
            properties[name] =
                name == BuiltIn.Site
                    ? Choice(rulebook.Sites.Keys, "A site of the rulebook.")
                    : slot.Type.Kind switch
                    {
                        ValueKind.Date => Pattern(Day + empty, "A day (ISO 8601)."),
                        ValueKind.Int => Pattern("^-?[0-9]+$" + empty, "A whole number."),
                        ValueKind.Bool => new() { ["enum"] = new JsonArray("true", "false", "") },
                        _ => new() { ["type"] = "string", ["maxLength"] = 1024 },
                    };
            properties[name]!["title"] = rulebook.TitleOf(name);
        }
        return new()
        {
            ["type"] = "object",
            ["properties"] = properties,
            ["additionalProperties"] = false,
            ["required"] = new JsonArray([.. needed.Order(StringComparer.Ordinal).Select(n => JsonValue.Create(n))]),
        };
    }

    private static JsonObject Grants(Core.Rulebook.Rulebook rulebook, bool untilNeeded)
    {
        var requestable = rulebook
            .Targets.Values.SelectMany(t =>
                t.Entitlements.Values.Where(e => e.IsRequestable).Select(e => (Key: $"{t.Name}/{e.Name}", Entitlement: e))
            )
            .ToList();
        var privileged = requestable.Where(e => e.Entitlement.IsPrivileged).Select(e => e.Key).ToList();
        var item = new JsonObject
        {
            ["type"] = "object",
            ["additionalProperties"] = false,
            ["properties"] = new JsonObject
            {
                ["entitlement"] = Choice(requestable.Select(e => e.Key), "Target and entitlement, as the catalogue names them."),
                ["from"] = Pattern(DayOrInstant, "From when; at once when missing."),
                ["until"] = Pattern(DayOrInstant, "Until when, a day included."),
            },
            ["required"] = untilNeeded ? new JsonArray("entitlement", "until") : new JsonArray("entitlement"),
        };
        if (privileged.Count > 0)
        {
            // What is privileged is never open-ended.
            item["if"] = new JsonObject { ["properties"] = new JsonObject { ["entitlement"] = Choice(privileged, "Privileged.") } };
            item["then"] = Requires("until");
        }
        return new()
        {
            ["type"] = "array",
            ["minItems"] = 1,
            ["items"] = item,
        };
    }
}
