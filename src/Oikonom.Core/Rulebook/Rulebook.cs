using Oikonom.Core.Expressions;

namespace Oikonom.Core.Rulebook;

/// <summary>All the configuration an organisation writes, read and checked.</summary>
public sealed record Rulebook(
    string Name,
    string Title,
    IReadOnlyDictionary<string, Site> Sites,
    NameSchema Attributes,
    IReadOnlyList<string> Mandatory,
    IReadOnlyDictionary<string, SourceRule> Sources,
    IReadOnlyDictionary<string, TargetRule> Targets,
    IReadOnlyList<RoleTemplate> Templates,
    IReadOnlyList<Workflow> Workflows)
{
    /// <summary>Attributes plus <c>account.name</c>: what an account's attributes may use.</summary>
    public NameSchema AccountNames { get; } = new(Attributes.Names
        .Select(name => KeyValuePair.Create(name, Attributes.TryGet(name, out var slot) ? slot.Type : ExpressionType.String))
        .Append(new("account.name", ExpressionType.String)));

    public TimeZoneInfo ZoneOf(string site) => Sites.TryGetValue(site, out var found) ? found.Zone : TimeZoneInfo.Utc;
}

/// <summary>A published rulebook: numbered, immutable.</summary>
public sealed record Edition(int Number, string Digest, Rulebook Rulebook);

public sealed record Site(string Name, string Title, TimeZoneInfo Zone);

/// <summary>Where HR records come from, and which attribute is made of which columns.</summary>
public sealed record SourceRule(
    string Name, string Title, string Path, char Delimiter, string Encoding, NameSchema Columns, IReadOnlyList<string> ColumnNames,
    int KeyColumn, IReadOnlyList<MappedAttribute> Mapping, Place Place);

public sealed record MappedAttribute(string Name, Expression Expression, Place Place);

/// <summary>A system that holds accounts.</summary>
public sealed record TargetRule(
    string Name, string Title, Uri Address, bool StartTls, string Authority, string SignInName, string Secret, int Connections,
    string Container, string NameAttribute, IReadOnlyList<string> Classes, IReadOnlyList<string> Match, int PasswordLength,
    string GroupContainer, string? Placeholder, IReadOnlyDictionary<string, Entitlement> Entitlements, Place Place);

/// <summary>Something a target can give an account; here a group, by its distinguished name.</summary>
public sealed record Entitlement(string Name, string Title, string Group, string? Owner, Place Place);

/// <summary>For whom it applies, the accounts it creates and the grants it gives.</summary>
public sealed record RoleTemplate(
    string Name, string Title, int Priority, Expression? When, IReadOnlyList<AccountRule> Accounts, IReadOnlyList<GrantRule> Grants, Place Place);

/// <summary>The account a template makes in a target. <paramref name="Lead"/>: how long before the start it exists, asleep.</summary>
public sealed record AccountRule(
    string Target, IReadOnlyList<Expression> Names, TimeSpan Lead, IReadOnlyList<AttributeRule> Attributes, Place Place);

public sealed record AttributeRule(string Name, Expression Expression, Place Place);

/// <summary>An entitlement a template gives, under a condition of its own if it has one.</summary>
public sealed record GrantRule(string Target, string Entitlement, Expression? When, Place Place)
{
    public string Key => $"{Target}/{Entitlement}";
}

/// <summary>The approval path of a kind of request.</summary>
public sealed record Workflow(string Name, string Title, IReadOnlyList<string> For, IReadOnlyList<Stage> Stages, bool ReleasedByOperator, Place Place);

/// <summary>Who decides: <c>manager</c>, <c>role:NAME</c> or <c>person:NUMBER</c>; and who when there is none.</summary>
public sealed record Stage(string Name, string Title, string Decides, string Otherwise, Place Place);
