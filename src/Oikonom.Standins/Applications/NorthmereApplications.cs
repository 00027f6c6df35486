using System.Text.Json.Nodes;
using Oikonom.Scim;
using Oikonom.Standins.Directory;
using Oikonom.Standins.Hr;

namespace Oikonom.Standins.Applications;

/// <summary>The two applications of Northmere, and who was in them before Oikonom.</summary>
public static class NorthmereApplications
{
    public static readonly ApplicationKind Records = new(
        "records",
        "Animal records",
        ["Veterinarians", "Night keepers"],
        ["reader", "keeper", "curator"],
        new Dictionary<string, int> { ["pathology"] = 54, ["imaging"] = 12 }
    );

    public static readonly ApplicationKind Shop = new(
        "shop",
        "Ticketing and shop",
        ["Till crew"],
        ["buyer", "seller"],
        new Dictionary<string, int>()
    );

    /// <summary>Makes a user for each person of the HR file whom the application is for; in one that holds users nothing is done.</summary>
    public static void Fill(ApplicationData data, ApplicationKind kind, string peopleFile)
    {
        if (data.All(ScimSchemas.Users).Count > 0)
            return;
        var used = new HashSet<string>();
        var crew = new JsonArray();
        foreach (var row in HrService.Read(peopleFile))
        {
            var name = NorthmereTree.UserName(row["given_name"], row["family_name"], used);
            if (row["kind"] == "volunteer" || (kind == Records && row["department"] is not ("Animal Care" or "Dive Team" or "Research")))
                continue;
            var made = data.Add(ScimSchemas.Users, User(kind, name, row));
            if (kind == Shop && row["department"] == "Visitor Services")
                crew.Add(new JsonObject { ["value"] = made["id"]!.DeepClone() });
        }
        if (kind != Shop)
            return;
        // Not of people at all, or of nobody who is known.
        foreach (var left in new[] { "till-spare", "summer.help" })
            data.Add(
                ScimSchemas.Users,
                new JsonObject
                {
                    ["schemas"] = new JsonArray(ScimSchemas.User),
                    ["userName"] = left,
                    ["active"] = true,
                }
            );
        var group = data.All(ScimSchemas.Groups)[0];
        data.Change(
            ScimSchemas.Groups,
            group["id"]!.GetValue<string>(),
            "",
            before =>
            {
                before["members"] = crew;
                return before;
            }
        );
    }

    private static JsonObject User(ApplicationKind kind, string name, Dictionary<string, string> row)
    {
        var user = new JsonObject
        {
            ["schemas"] = new JsonArray(ScimSchemas.User, ScimSchemas.Enterprise),
            ["userName"] = name,
            ["externalId"] = row["employee_no"],
            ["displayName"] = $"{row["given_name"]} {row["family_name"]}",
            ["name"] = new JsonObject { ["givenName"] = row["given_name"], ["familyName"] = row["family_name"] },
            ["active"] = true,
            [ScimSchemas.Enterprise] = new JsonObject { ["department"] = row["department"] },
            ["roles"] = new JsonArray([.. Roles(kind, row["department"]).Select(r => new JsonObject { ["value"] = r })]),
        };
        if (kind == Shop)
            return user;
        user["title"] = row["job_title"];
        user["emails"] = new JsonArray(new JsonObject { ["value"] = $"{name}@northmere.example", ["type"] = "work" });
        if (row["department"] == "Animal Care" && row["kind"] == "employee")
            user["entitlements"] = new JsonArray(new JsonObject { ["value"] = "pathology" });
        return user;
    }

    /// <summary>Who keeps records reads them too; who sells at a till has that role alone.</summary>
    private static IEnumerable<string> Roles(ApplicationKind kind, string department) =>
        kind == Records
            ? department == "Animal Care"
                ? ["reader", "keeper"]
                : ["reader"]
            : [department == "Visitor Services" ? "seller" : "buyer"];
}
