using System.Text.Json;
using Oikonom.Core.Expressions;

namespace Oikonom.Core.People;

/// <summary>The attributes every rulebook knows; a rulebook may declare more.</summary>
public static class BuiltIn
{
    public const string Person = "person";
    public const string Number = "number";
    public const string Given = "given";
    public const string Family = "family";
    public const string Kind = "kind";
    public const string Start = "start";
    public const string End = "end";
    public const string Manager = "manager";
    public const string Department = "department";
    public const string Site = "site";
    public const string Title = "title";

    /// <summary>Name and type, in their fixed order.</summary>
    public static readonly IReadOnlyList<KeyValuePair<string, ExpressionType>> Attributes =
    [
        new(Person, ExpressionType.String), new(Number, ExpressionType.String), new(Given, ExpressionType.String),
        new(Family, ExpressionType.String), new(Kind, ExpressionType.String), new(Start, ExpressionType.Date),
        new(End, ExpressionType.Date), new(Manager, ExpressionType.String), new(Department, ExpressionType.String),
        new(Site, ExpressionType.String), new(Title, ExpressionType.String), new("costCentre", ExpressionType.String),
        new("privateMail", ExpressionType.String), new("phone", ExpressionType.String),
    ];

    /// <summary>Without these no person can be planned for.</summary>
    public static readonly IReadOnlyList<string> Mandatory = [Person, Number, Given, Family, Kind, Start, Site];
}

/// <summary>What HR says of one employment of a person, by attribute. Immutable.</summary>
public sealed class Facts
{
    private readonly SortedDictionary<string, Value> _values;

    public Facts(IEnumerable<KeyValuePair<string, Value>> values)
    {
        _values = new(StringComparer.Ordinal);
        foreach (var (name, value) in values)
            if (!value.IsNull && !(value.Kind == ValueKind.String && value.AsString.Length == 0)) _values[name] = value;
    }

    public IReadOnlyDictionary<string, Value> Values => _values;
    public Value this[string name] => _values.TryGetValue(name, out var value) ? value : Value.Null;
    public string Text(string name) => this[name].ToString();

    public string PersonKey => Text(BuiltIn.Person);
    public string Number => Text(BuiltIn.Number);
    public string DisplayName => $"{Text(BuiltIn.Given)} {Text(BuiltIn.Family)}".Trim();
    public string Manager => Text(BuiltIn.Manager);
    public DateOnly Start => this[BuiltIn.Start].AsDateOrNull ?? DateOnly.MinValue;
    public DateOnly? End => this[BuiltIn.End].AsDateOrNull;

    /// <summary>The attributes that differ, in order of name.</summary>
    public IReadOnlyList<AttributeDifference> DifferenceTo(Facts later) =>
        [.. _values.Keys.Union(later._values.Keys).Order(StringComparer.Ordinal)
            .Where(name => this[name] != later[name])
            .Select(name => new AttributeDifference(name, Text(name), later.Text(name)))];

    /// <summary>Fills the slots of <paramref name="scope"/> that <paramref name="schema"/> declares.</summary>
    public void Fill(Scope scope, NameSchema schema)
    {
        foreach (var name in schema.Names)
        {
            schema.TryGet(name, out var slot);
            var value = this[name];
            scope[slot.Index] = value.IsNull && slot.Type.Kind == ValueKind.String ? Value.Of("") : value;
        }
    }

    /// <summary>As a JSON object of texts, attributes in order of name: the same facts give the same bytes.</summary>
    public string ToJson() => JsonSerializer.Serialize(_values.ToDictionary(pair => pair.Key, pair => pair.Value.ToString()));

    /// <summary>Reads what <see cref="ToJson"/> wrote; types come from <paramref name="schema"/>, unknown names are read as text.</summary>
    public static Facts FromJson(string json, NameSchema schema)
    {
        var texts = JsonSerializer.Deserialize<Dictionary<string, string>>(json) ?? [];
        return new(texts.Select(pair => KeyValuePair.Create(pair.Key, Typed(pair.Value, schema.TryGet(pair.Key, out var slot) ? slot.Type.Kind : ValueKind.String))));
    }

    private static Value Typed(string text, ValueKind kind) => kind switch
    {
        ValueKind.Date => Value.Of(DateOnly.ParseExact(text, "yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture)),
        ValueKind.Int => Value.Of(long.Parse(text, System.Globalization.CultureInfo.InvariantCulture)),
        ValueKind.Bool => Value.Of(text == "true"),
        _ => Value.Of(text),
    };
}

/// <summary>One attribute that differs between two versions.</summary>
public sealed record AttributeDifference(string Name, string Before, string After);
