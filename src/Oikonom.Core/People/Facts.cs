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
    private readonly Dictionary<string, Value> _values;
    private string? _json;

    public Facts(IEnumerable<KeyValuePair<string, Value>> values)
    {
        _values = new(16, StringComparer.Ordinal);
        foreach (var (name, value) in values)
            if (!value.IsNull && !(value.Kind == ValueKind.String && value.AsString.Length == 0)) _values[name] = value;
    }

    private Facts(Dictionary<string, Value> values) => _values = values;

    public IReadOnlyDictionary<string, Value> Values => _values;

    /// <summary>The same with one attribute set, or taken away by null.</summary>
    public Facts With(string name, Value value)
    {
        var values = new Dictionary<string, Value>(_values, StringComparer.Ordinal);
        if (value.IsNull) values.Remove(name);
        else values[name] = value;
        return new(values);
    }

    /// <summary>The same with one attribute read from text, or taken away by "".</summary>
    /// <param name="problem">What is wrong with the text, when the answer is null.</param>
    public Facts? WithText(string name, string text, NameSchema schema, out string problem)
    {
        problem = "";
        if (!schema.TryGet(name, out var slot))
        {
            problem = $"'{name}' is not a declared attribute.{Nearest.Hint(name, schema.Names)}";
            return null;
        }
        try
        {
            return With(name, text.Length == 0 ? Value.Null : Typed(text, slot.Type.Kind));
        }
        catch (Exception error) when (error is FormatException or OverflowException)
        {
            problem = slot.Type.Kind == ValueKind.Date ? $"'{text}' is no date such as 2026-11-30." : $"'{text}' is no whole number.";
            return null;
        }
    }

    public Value this[string name] => _values.TryGetValue(name, out var value) ? value : Value.Null;
    public string Text(string name) => this[name].ToString();

    public string PersonKey => Text(BuiltIn.Person);
    public string Number => Text(BuiltIn.Number);
    public string DisplayName => $"{Text(BuiltIn.Given)} {Text(BuiltIn.Family)}".Trim();
    public string Manager => Text(BuiltIn.Manager);
    public string Site => Text(BuiltIn.Site);
    public DateOnly Start => this[BuiltIn.Start].AsDateOrNull ?? DateOnly.MinValue;
    public DateOnly? End => this[BuiltIn.End].AsDateOrNull;

    /// <summary>The attributes that differ, in order of name.</summary>
    public IReadOnlyList<AttributeDifference> DifferenceTo(Facts later) =>
        [.. _values.Keys.Union(later._values.Keys).Order(StringComparer.Ordinal)
            .Where(name => this[name] != later[name])
            .Select(name => new AttributeDifference(name, Text(name), later.Text(name)))];

    /// <summary>Fills the slots of <paramref name="scope"/> that <paramref name="schema"/> declares; a text that is not there is "".</summary>
    public void Fill(Scope scope, NameSchema schema)
    {
        foreach (var (name, slot) in schema.Slots)
        {
            var value = this[name];
            scope[slot.Index] = value.IsNull && slot.Type.Kind == ValueKind.String ? Value.Of("") : value;
        }
    }

    /// <summary>As a JSON object of texts, attributes in order of name: the same facts give the same bytes.</summary>
    public string ToJson() => _json ??= Write();

    private string Write()
    {
        var buffer = new System.Buffers.ArrayBufferWriter<byte>(512);
        using (var writer = new Utf8JsonWriter(buffer))
        {
            writer.WriteStartObject();
            foreach (var (name, value) in _values.OrderBy(v => v.Key, StringComparer.Ordinal)) writer.WriteString(name, value.ToString());
            writer.WriteEndObject();
        }
        return System.Text.Encoding.UTF8.GetString(buffer.WrittenSpan);
    }

    /// <summary>Reads what <see cref="ToJson"/> wrote; types come from <paramref name="schema"/>, unknown names are read as text.</summary>
    /// <exception cref="JsonException">The text is no object of texts.</exception>
    public static Facts FromJson(string json, NameSchema schema)
    {
        var length = System.Text.Encoding.UTF8.GetMaxByteCount(json.Length);
        var rented = System.Buffers.ArrayPool<byte>.Shared.Rent(length);
        try
        {
            var reader = new Utf8JsonReader(rented.AsSpan(0, System.Text.Encoding.UTF8.GetBytes(json, rented)));
            return Read(ref reader, schema);
        }
        finally
        {
            System.Buffers.ArrayPool<byte>.Shared.Return(rented);
        }
    }

    /// <summary>Reads a list of facts, such as the other employments of a person.</summary>
    public static IReadOnlyList<Facts> ListFromJson(string json, NameSchema schema)
    {
        if (json.Length <= 2) return [];
        using var document = JsonDocument.Parse(json);
        return [.. document.RootElement.EnumerateArray().Select(item => FromJson(item.GetRawText(), schema))];
    }

    public static string ListToJson(IEnumerable<Facts> facts) => $"[{string.Join(',', facts.Select(f => f.ToJson()))}]";

    private static Facts Read(ref Utf8JsonReader reader, NameSchema schema)
    {
        var values = new Dictionary<string, Value>(16, StringComparer.Ordinal);
        if (!reader.Read() || reader.TokenType != JsonTokenType.StartObject) throw new JsonException("Facts are an object.");
        while (reader.Read() && reader.TokenType == JsonTokenType.PropertyName)
        {
            var name = schema.Find(ref reader, out var kind);
            reader.Read();
            var text = reader.GetString() ?? "";
            if (text.Length > 0) values[name] = Typed(text, kind);
        }
        return new(values);
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
