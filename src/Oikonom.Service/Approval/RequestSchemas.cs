using System.Text.Json.Nodes;
using Oikonom.Core.Expressions;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;

namespace Oikonom.Service.Approval;

/// <summary>
/// A JSON Schema (draft 2020-12) for each kind of request, made of the published rulebook: an editor or a calling
/// system knows before it asks which attributes, entitlements and templates there are. The console's form is made of it:
/// properties stand in the order in which they are filled in, with titles; <c>x-pick</c> says what is chosen rather
/// than typed (day, person, entitlement), <c>x-usual</c> which attributes of a record the kind is mostly about.
/// </summary>
public static class RequestSchemas
{
    private const string Day = "^[0-9]{4}-[0-9]{2}-[0-9]{2}$";
    private const string DayOrInstant = "^[0-9]{4}-[0-9]{2}-[0-9]{2}(T.+)?$";

    // What a record is mostly about, in the order in which people know it.
    private static readonly string[] Joining =
    [
        BuiltIn.Given,
        BuiltIn.Family,
        BuiltIn.Start,
        BuiltIn.End,
        BuiltIn.Kind,
        BuiltIn.Site,
        BuiltIn.Department,
        BuiltIn.Title,
        BuiltIn.Manager,
        BuiltIn.Phone,
        BuiltIn.PrivateMail,
        BuiltIn.Number,
    ];

    private static readonly string[] Moving =
    [
        BuiltIn.Department,
        BuiltIn.Site,
        BuiltIn.Title,
        BuiltIn.Manager,
        BuiltIn.Kind,
        BuiltIn.CostCentre,
    ];

    private static readonly string[] Changing =
    [
        BuiltIn.Given,
        BuiltIn.Family,
        BuiltIn.Phone,
        BuiltIn.PrivateMail,
        BuiltIn.End,
        BuiltIn.Title,
        BuiltIn.CostCentre,
    ];

    /// <summary>The schema of the body that raises a request of a kind, with the names of an edition.</summary>
    public static JsonObject Of(string kind, Edition edition)
    {
        var rulebook = edition.Rulebook;
        var properties = new JsonObject { ["kind"] = new JsonObject { ["const"] = kind } };
        var required = new List<string> { "kind" };
        var schema = new JsonObject
        {
            ["$schema"] = "https://json-schema.org/draft/2020-12/schema",
            ["title"] = $"A {kind} request, edition {edition.Number}",
            ["type"] = "object",
            ["additionalProperties"] = false,
        };
        Ask(kind, rulebook, schema, properties, required);
        properties["reason"] = Titled("Reason", Text("Why; the approver reads it.", 2000));
        schema["properties"] = properties;
        schema["required"] = new JsonArray([.. required.Select(r => JsonValue.Create(r))]);
        return schema;
    }

    /// <summary>What a request of a kind is asked for beside its reason.</summary>
    private static void Ask(string kind, Core.Rulebook.Rulebook rulebook, JsonObject schema, JsonObject properties, List<string> required)
    {
        if (kind != "joiner")
            Need("person", Picked("person", Titled("For whom", Text("The person's id or employee number."))));
        switch (kind)
        {
            case "joiner":
                // Who has no number yet gets one.
                Need("record", Record(rulebook, Joining, [], rulebook.Mandatory.Except([BuiltIn.Person, BuiltIn.Number])));
                break;
            case "mover" or "change":
                Need("record", Record(rulebook, kind == "mover" ? Moving : Changing, [BuiltIn.Person, BuiltIn.Number], []));
                properties["record"]!["minProperties"] = 1;
                properties["from"] = From();
                break;
            case "leaver":
                properties["lastDay"] = Picked("day", Titled("Last day", Pattern(Day, "The last day at work.")));
                properties["urgent"] = Titled("Urgent", new() { ["type"] = "boolean", ["description"] = "Access ends at once." });
                schema["anyOf"] = new JsonArray(Requires("lastDay"), Requires("urgent"));
                break;
            case "access":
                Need("grants", Grants(rulebook, false));
                required.Add("reason");
                break;
            case "extension":
                properties["grants"] = Grants(rulebook, true);
                properties["record"] = Record(rulebook, [BuiltIn.End], rulebook.Attributes.Names.Except([BuiltIn.End]), [BuiltIn.End]);
                schema["oneOf"] = new JsonArray(Requires("grants"), Requires("record"));
                required.Add("reason");
                break;
            case "account":
                var templates = rulebook.Templates.Where(t => t.IsOnRequest).Select(t => (t.Name, t.Title));
                Need("template", Titled("What", Choice(templates, "A template on request.")));
                properties["from"] = From();
                properties["until"] = Until();
                required.Add("reason");
                break;
            default:
                properties["target"] = Titled(
                    "Target",
                    Choice(
                        rulebook.Targets.Values.Where(t => t.HasAccounts).Select(t => (t.Name, t.Title)),
                        "The target of the account; may be missing when the person has one account."
                    )
                );
                break;
        }

        void Need(string name, JsonObject property)
        {
            properties[name] = property;
            required.Add(name);
        }
    }

    private static JsonObject From() =>
        Picked("day", Titled("From (now if empty)", Pattern(DayOrInstant, "From when; at once when missing.")));

    private static JsonObject Until() =>
        Picked("day", Titled("Until, that day included", Pattern(DayOrInstant, "Until when, that day included; open when missing.")));

    private static JsonObject Titled(string title, JsonObject property)
    {
        property["title"] = title;
        return property;
    }

    private static JsonObject Picked(string what, JsonObject property)
    {
        property["x-pick"] = what;
        return property;
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

    private static JsonObject Choice(IEnumerable<(string Name, string Title)> names, string description) =>
        new()
        {
            ["oneOf"] = new JsonArray([
                .. names
                    .OrderBy(n => n.Name, StringComparer.Ordinal)
                    .Select(n => new JsonObject { ["const"] = n.Name, ["title"] = n.Title.Length > 0 ? n.Title : n.Name }),
            ]),
            ["description"] = description,
        };

    /// <summary>The attributes of a record, each as a text of its form: the usual ones first, then the others by name.</summary>
    private static JsonObject Record(
        Core.Rulebook.Rulebook rulebook,
        IReadOnlyList<string> usual,
        IEnumerable<string> never,
        IEnumerable<string> needed
    )
    {
        var known = rulebook.Attributes.Names.Except(never).ToList();
        var properties = new JsonObject();
        foreach (var name in usual.Intersect(known).Concat(known.Except(usual).Order(StringComparer.Ordinal)))
        {
            var property = Titled(rulebook.TitleOf(name), Attribute(rulebook, name));
            if (usual.Contains(name))
                property["x-usual"] = true;
            properties[name] = property;
        }
        return new()
        {
            ["type"] = "object",
            ["properties"] = properties,
            ["additionalProperties"] = false,
            ["required"] = new JsonArray([.. needed.Order(StringComparer.Ordinal).Select(n => JsonValue.Create(n))]),
        };
    }

    private static JsonObject Attribute(Core.Rulebook.Rulebook rulebook, string name)
    {
        rulebook.Attributes.TryGet(name, out var slot);
        var empty = rulebook.Mandatory.Contains(name) ? "" : "|^$";
        return (name, slot.Type.Kind) switch
        {
            (BuiltIn.Site, _) => Choice(rulebook.Sites.Values.Select(s => (s.Name, s.Title)), "A site of the rulebook."),
            (BuiltIn.Manager, _) => Picked("person", new() { ["type"] = "string", ["maxLength"] = 1024 }),
            (_, ValueKind.Date) => Picked("day", Pattern(Day + empty, "A day (ISO 8601).")),
            (_, ValueKind.Int) => Pattern("^-?[0-9]+$" + empty, "A whole number."),
            (_, ValueKind.Bool) => new() { ["enum"] = new JsonArray("true", "false", "") },
            _ => new() { ["type"] = "string", ["maxLength"] = 1024 },
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
                ["entitlement"] = Picked(
                    "entitlement",
                    Titled(
                        "What",
                        Choice(
                            requestable.Select(e => (e.Key, e.Entitlement.Title)),
                            "Target and entitlement, as the catalogue names them."
                        )
                    )
                ),
                ["from"] = From(),
                ["until"] = Until(),
            },
            ["required"] = untilNeeded ? new JsonArray("entitlement", "until") : new JsonArray("entitlement"),
        };
        if (privileged.Count > 0)
        {
            // What is privileged is never open-ended.
            item["if"] = new JsonObject
            {
                ["properties"] = new JsonObject { ["entitlement"] = Choice(privileged.Select(key => (key, "")), "Privileged.") },
            };
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
