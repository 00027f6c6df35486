using System.Text.Json.Nodes;

namespace Oikonom.Scim;

/// <summary>What is known of one attribute (RFC 7643 §7): type, whether it has several values, how it may change and compares.</summary>
public sealed record ScimAttribute(
    string Name,
    string Type,
    bool MultiValued,
    bool Required,
    bool CaseExact,
    string Mutability,
    string Returned,
    string Uniqueness,
    string Description,
    IReadOnlyList<ScimAttribute> Sub
)
{
    /// <summary>The sub-attribute of that name, without regard to case.</summary>
    public ScimAttribute? Find(string name) => Sub.FirstOrDefault(s => s.Name.Equals(name, StringComparison.OrdinalIgnoreCase));

    /// <summary>The attribute that a server describes, RFC 7643 §7; null of what has no name.</summary>
    public static ScimAttribute? FromJson(JsonNode? node)
    {
        if (node is not JsonObject json || ScimPatch.Text(ScimValues.Get(json, "name")) is not { Length: > 0 } name)
            return null;
        string Text(string key, string otherwise) => ScimPatch.Text(ScimValues.Get(json, key)) ?? otherwise;
        bool Truth(string key) => ScimReading.Truth(ScimValues.Get(json, key)) == true;
        return new(
            name,
            Text("type", "string"),
            Truth("multiValued"),
            Truth("required"),
            Truth("caseExact"),
            Text("mutability", "readWrite"),
            Text("returned", "default"),
            Text("uniqueness", "none"),
            Text("description", ""),
            [.. ScimValues.Each(ScimValues.Get(json, "subAttributes")).Select(FromJson).OfType<ScimAttribute>()]
        );
    }

    /// <summary>As it is told to clients, RFC 7643 §6 and §7.</summary>
    public JsonObject ToJson()
    {
        var json = new JsonObject
        {
            ["name"] = Name,
            ["type"] = Type,
            ["multiValued"] = MultiValued,
            ["description"] = Description,
            ["required"] = Required,
            ["caseExact"] = CaseExact,
            ["mutability"] = Mutability,
            ["returned"] = Returned,
            ["uniqueness"] = Uniqueness,
        };
        if (Sub.Count > 0)
            json["subAttributes"] = new JsonArray([.. Sub.Select(s => (JsonNode)s.ToJson())]);
        return json;
    }
}

/// <summary>A schema: its URN, and the attributes it defines.</summary>
public sealed record ScimSchema(string Id, string Name, string Description, IReadOnlyList<ScimAttribute> Attributes)
{
    /// <summary>The attribute of a name, in any case (RFC 7643 §2.1); null when the schema has none.</summary>
    public ScimAttribute? Find(string name) => Attributes.FirstOrDefault(a => a.Name.Equals(name, StringComparison.OrdinalIgnoreCase));

    /// <summary>The schema that a server describes, RFC 7643 §7; null of what has no id.</summary>
    public static ScimSchema? FromJson(JsonObject json) =>
        ScimPatch.Text(ScimValues.Get(json, "id")) is { Length: > 0 } id
            ? new(
                id,
                ScimPatch.Text(ScimValues.Get(json, "name")) ?? id,
                ScimPatch.Text(ScimValues.Get(json, "description")) ?? "",
                [.. ScimValues.Each(ScimValues.Get(json, "attributes")).Select(ScimAttribute.FromJson).OfType<ScimAttribute>()]
            )
            : null;

    /// <summary>As it is told to clients, RFC 7643 §6 and §7.</summary>
    public JsonObject ToJson(string baseAddress) =>
        new()
        {
            ["schemas"] = new JsonArray(ScimSchemas.SchemaSchema),
            ["id"] = Id,
            ["name"] = Name,
            ["description"] = Description,
            ["attributes"] = new JsonArray([.. Attributes.Select(a => (JsonNode)a.ToJson())]),
            ["meta"] = new JsonObject { ["resourceType"] = "Schema", ["location"] = $"{baseAddress}/Schemas/{Id}" },
        };
}

/// <summary>A kind of resource with its schema and extensions (RFC 7643 §6).</summary>
public sealed record ScimResourceType(string Name, string Endpoint, ScimSchema Schema, IReadOnlyList<ScimSchema> Extensions)
{
    /// <summary>As it is told to clients, RFC 7643 §6 and §7.</summary>
    public JsonObject ToJson(string baseAddress) =>
        new()
        {
            ["schemas"] = new JsonArray(ScimSchemas.ResourceTypeSchema),
            ["id"] = Name,
            ["name"] = Name,
            ["endpoint"] = Endpoint,
            ["schema"] = Schema.Id,
            ["schemaExtensions"] = new JsonArray([
                .. Extensions.Select(e => (JsonNode)new JsonObject { ["schema"] = e.Id, ["required"] = false }),
            ]),
            ["meta"] = new JsonObject { ["resourceType"] = "ResourceType", ["location"] = $"{baseAddress}/ResourceTypes/{Name}" },
        };

    /// <summary>True when the resource is of this schema, or of one that extends it.</summary>
    public bool Knows(string urn) =>
        Schema.Id.Equals(urn, StringComparison.OrdinalIgnoreCase)
        || Extensions.Any(e => e.Id.Equals(urn, StringComparison.OrdinalIgnoreCase));
}

/// <summary>The schemas of RFC 7643: User with the enterprise extension, and Group.</summary>
public static class ScimSchemas
{
    /// <summary>RFC 7643 §4.1.</summary>
    public const string User = "urn:ietf:params:scim:schemas:core:2.0:User";

    /// <summary>RFC 7643 §4.3.</summary>
    public const string Enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User";

    /// <summary>RFC 7643 §4.2.</summary>
    public const string Group = "urn:ietf:params:scim:schemas:core:2.0:Group";

    /// <summary>RFC 7643 §7.</summary>
    public const string SchemaSchema = "urn:ietf:params:scim:schemas:core:2.0:Schema";

    /// <summary>RFC 7643 §6.</summary>
    public const string ResourceTypeSchema = "urn:ietf:params:scim:schemas:core:2.0:ResourceType";

    /// <summary>RFC 7643 §5.</summary>
    public const string ProviderSchema = "urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig";

    /// <summary>RFC 7644 §3.4.2.</summary>
    public const string ListResponse = "urn:ietf:params:scim:api:messages:2.0:ListResponse";

    /// <summary>RFC 7644 §3.5.2.</summary>
    public const string PatchOp = "urn:ietf:params:scim:api:messages:2.0:PatchOp";

    /// <summary>RFC 7644 §3.7.</summary>
    public const string BulkRequest = "urn:ietf:params:scim:api:messages:2.0:BulkRequest";

    /// <summary>RFC 7644 §3.7.</summary>
    public const string BulkResponse = "urn:ietf:params:scim:api:messages:2.0:BulkResponse";

    /// <summary>RFC 7644 §3.4.3.</summary>
    public const string SearchRequest = "urn:ietf:params:scim:api:messages:2.0:SearchRequest";

    /// <summary>RFC 7644 §3.12.</summary>
    public const string Error = "urn:ietf:params:scim:api:messages:2.0:Error";

    /// <summary>Attributes of every resource (RFC 7643 §3.1).</summary>
    public static readonly IReadOnlyList<ScimAttribute> Common =
    [
        One("schemas", "reference", "The schemas of the resource.", multi: true, required: true, exact: true, returned: "always"),
        One(
            "id",
            "string",
            "The identity the service gave.",
            exact: true,
            mutability: "readOnly",
            returned: "always",
            uniqueness: "server"
        ),
        One("externalId", "string", "The identity the client gave.", exact: true),
        One(
            "meta",
            "complex",
            "What the service knows of the resource.",
            mutability: "readOnly",
            sub:
            [
                One("resourceType", "string", "Its kind.", exact: true, mutability: "readOnly"),
                One("created", "dateTime", "When it was made.", mutability: "readOnly"),
                One("lastModified", "dateTime", "When it last changed.", mutability: "readOnly"),
                One("location", "reference", "Where it is.", exact: true, mutability: "readOnly"),
                One("version", "string", "Its version as an entity tag.", exact: true, mutability: "readOnly"),
            ]
        ),
    ];

    /// <summary>Users, RFC 7643 §4.1.</summary>
    public static readonly ScimSchema UserSchema = new(
        User,
        "User",
        "User account",
        [
            One("userName", "string", "What the user signs in with.", required: true, uniqueness: "server"),
            One(
                "name",
                "complex",
                "The parts of the name.",
                sub:
                [
                    One("formatted", "string", "All of it."),
                    One("familyName", "string", "Family name."),
                    One("givenName", "string", "Given name."),
                    One("middleName", "string", "Middle names."),
                    One("honorificPrefix", "string", "Title before."),
                    One("honorificSuffix", "string", "Title after."),
                ]
            ),
            One("displayName", "string", "As shown."),
            One("nickName", "string", "As called."),
            One("profileUrl", "reference", "A page about the user.", exact: true),
            One("title", "string", "Job title."),
            One("userType", "string", "Relation to the organisation."),
            One("preferredLanguage", "string", "Preferred language (BCP 47)."),
            One("locale", "string", "Locale (BCP 47)."),
            One("timezone", "string", "Time zone name."),
            One("active", "boolean", "Whether the user is active."),
            One("password", "string", "Never returned and never kept.", mutability: "writeOnly", returned: "never", exact: true),
            Many("emails", "Mail addresses."),
            Many("phoneNumbers", "Telephone numbers."),
            Many("ims", "Messaging addresses."),
            Many("photos", "Pictures.", "reference"),
            One(
                "addresses",
                "complex",
                "Postal addresses.",
                multi: true,
                sub:
                [
                    One("formatted", "string", "All of it."),
                    One("streetAddress", "string", "Street."),
                    One("locality", "string", "Place."),
                    One("region", "string", "Region."),
                    One("postalCode", "string", "Code."),
                    One("country", "string", "Country."),
                    One("type", "string", "Kind."),
                    One("primary", "boolean", "Preferred."),
                ]
            ),
            One(
                "groups",
                "complex",
                "Groups the user belongs to.",
                multi: true,
                mutability: "readOnly",
                sub:
                [
                    One("value", "string", "Id of the group.", exact: true, mutability: "readOnly"),
                    One("$ref", "reference", "Where it is.", exact: true, mutability: "readOnly"),
                    One("display", "string", "Its name.", mutability: "readOnly"),
                    One("type", "string", "direct or indirect.", mutability: "readOnly"),
                ]
            ),
            Many("entitlements", "Entitlements."),
            Many("roles", "Roles."),
            Many("x509Certificates", "Certificates.", "binary"),
        ]
    );

    /// <summary>What enterprises add to users, RFC 7643 §4.3.</summary>
    public static readonly ScimSchema EnterpriseSchema = new(
        Enterprise,
        "EnterpriseUser",
        "Enterprise user",
        [
            One("employeeNumber", "string", "Employee number."),
            One("costCenter", "string", "Cost centre."),
            One("organization", "string", "Organisation."),
            One("division", "string", "Division."),
            One("department", "string", "Department."),
            One(
                "manager",
                "complex",
                "The manager.",
                sub:
                [
                    One("value", "string", "Id of the manager.", exact: true),
                    One("$ref", "reference", "Where it is.", exact: true),
                    One("displayName", "string", "Name.", mutability: "readOnly"),
                ]
            ),
        ]
    );

    /// <summary>Groups, RFC 7643 §4.2.</summary>
    public static readonly ScimSchema GroupSchema = new(
        Group,
        "Group",
        "Group",
        [
            One("displayName", "string", "Its name.", required: true, uniqueness: "server"),
            One(
                "members",
                "complex",
                "Its members.",
                multi: true,
                sub:
                [
                    One("value", "string", "Id of the member.", exact: true, mutability: "immutable"),
                    One("$ref", "reference", "Where it is.", exact: true, mutability: "immutable"),
                    One("type", "string", "User or Group.", mutability: "immutable"),
                    One("display", "string", "Its name."),
                ]
            ),
        ]
    );

    /// <summary>The type of users.</summary>
    public static readonly ScimResourceType Users = new("User", "/Users", UserSchema, [EnterpriseSchema]);

    /// <summary>The type of groups.</summary>
    public static readonly ScimResourceType Groups = new("Group", "/Groups", GroupSchema, []);

    /// <summary>All types of resources.</summary>
    public static readonly IReadOnlyList<ScimResourceType> Types = [Users, Groups];

    /// <summary>All schemas.</summary>
    public static readonly IReadOnlyList<ScimSchema> All = [UserSchema, EnterpriseSchema, GroupSchema];

    private static ScimAttribute One(
        string name,
        string type,
        string description,
        bool multi = false,
        bool required = false,
        bool exact = false,
        string mutability = "readWrite",
        string returned = "default",
        string uniqueness = "none",
        IReadOnlyList<ScimAttribute>? sub = null
    ) => new(name, type, multi, required, exact, mutability, returned, uniqueness, description, sub ?? []);

    /// <summary>What is taken for so of an attribute that nobody described: several values with the usual parts, RFC 7643 §2.4.</summary>
    internal static ScimAttribute Stranger(string name) => Many(name, "");

    private static ScimAttribute Many(string name, string description, string type = "string") =>
        One(
            name,
            "complex",
            description,
            multi: true,
            sub:
            [
                One("value", type, "The value.", exact: type != "string"),
                One("display", "string", "As shown."),
                One("type", "string", "Its kind."),
                One("primary", "boolean", "The preferred one."),
            ]
        );
}
