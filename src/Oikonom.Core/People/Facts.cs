using System.Text.Json;
using Oikonom.Core.Expressions;

namespace Oikonom.Core.People;

/// <summary>The attributes every rulebook knows; a rulebook may declare more.</summary>
public static class BuiltIn
{
    /// <summary>What is the same for all employments of one human being.</summary>
    public const string Person = "person";

    /// <summary>The number of one employment.</summary>
    public const string Number = "number";

    /// <summary>The given name.</summary>
    public const string Given = "given";

    /// <summary>The family name.</summary>
    public const string Family = "family";

    /// <summary>The kind of employment, such as employee or volunteer.</summary>
    public const string Kind = "kind";

    /// <summary>The first day.</summary>
    public const string Start = "start";

    /// <summary>The last day, that day included; empty when none is known.</summary>
    public const string End = "end";

    /// <summary>The number of the line manager.</summary>
    public const string Manager = "manager";

    /// <summary>The department, as the source calls it.</summary>
    public const string Department = "department";

    /// <summary>The site, by its name in the rulebook.</summary>
    public const string Site = "site";

    /// <summary>The job title.</summary>
    public const string Title = "title";

    /// <summary>What the work is charged to.</summary>
    public const string CostCentre = "costCentre";

    /// <summary>Where the first password can go to before the first day.</summary>
    public const string PrivateMail = "privateMail";

    /// <summary>As HR writes it.</summary>
    public const string Phone = "phone";

    /// <summary>Name and type, in their fixed order.</summary>
    public static readonly IReadOnlyList<KeyValuePair<string, ExpressionType>> Attributes =
    [
        new(Person, ExpressionType.String),
        new(Number, ExpressionType.String),
        new(Given, ExpressionType.String),
        new(Family, ExpressionType.String),
        new(Kind, ExpressionType.String),
        new(Start, ExpressionType.Date),
        new(End, ExpressionType.Date),
        new(Manager, ExpressionType.String),
        new(Department, ExpressionType.String),
        new(Site, ExpressionType.String),
        new(Title, ExpressionType.String),
        new(CostCentre, ExpressionType.String),
        new(PrivateMail, ExpressionType.String),
        new(Phone, ExpressionType.String),
    ];

    /// <summary>Who somebody is, where and until when they belong, and where their first password goes.</summary>
    internal static readonly IReadOnlyList<string> Belonging =
    [
        Person,
        Number,
        Given,
        Family,
        Kind,
        Start,
        End,
        Manager,
        Department,
        Site,
        PrivateMail,
    ];

    /// <summary>What people read in the place of a name, where a rulebook says nothing else.</summary>
    public static readonly IReadOnlyDictionary<string, string> Titles = new Dictionary<string, string>
    {
        [Person] = "Person number",
        [Number] = "Employee number",
        [Given] = "Given name",
        [Family] = "Family name",
        [Kind] = "Kind of employment",
        [Start] = "First day",
        [End] = "Last day",
        [Manager] = "Line manager",
        [Department] = "Department",
        [Site] = "Site",
        [Title] = "Job title",
        [CostCentre] = "Cost centre",
        [PrivateMail] = "Private mail",
        [Phone] = "Telephone",
    };

    /// <summary>Without these no person can be planned for.</summary>
    public static readonly IReadOnlyList<string> Mandatory = [Person, Number, Given, Family, Kind, Start, Site];
}

/// <summary>
/// What HR says of one employment of a person, by attribute. Immutable. The names are shared by all facts of one
/// rulebook, so that one holds its values and nothing else.
/// </summary>
public sealed class Facts
{
    private readonly FactNames _names;
    private readonly Value[] _values;
    private string? _json;

    /// <summary>Facts with their values; of a name given twice the last counts.</summary>
    public Facts(IEnumerable<KeyValuePair<string, Value>> values)
    {
        var given = values.ToList();
        _names = given.Aggregate(FactNames.BuiltIn, (names, pair) => names.With(pair.Key));
        _values = new Value[_names.Count];
        foreach (var (name, value) in given)
            _values[_names.IndexOf(name)] = Kept(value);
    }

    private Facts(FactNames names, Value[] values) => (_names, _values) = (names, values);

    /// <summary>Facts of a rulebook's attributes; the array is theirs from then on, and its places are
    /// <see cref="FactNames.IndexOf"/>.</summary>
    internal static Facts Of(FactNames names, Value[] values)
    {
        for (var i = 0; i < values.Length; i++)
            values[i] = Kept(values[i]);
        return new(names, values);
    }

    /// <summary>What is there, in order of name.</summary>
    public IEnumerable<KeyValuePair<string, Value>> Values
    {
        get
        {
            for (var i = 0; i < _values.Length; i++)
                if (!_values[i].IsNull)
                    yield return new(_names[i], _values[i]);
        }
    }

    /// <summary>The same with one attribute set, or taken away by null.</summary>
    public Facts With(string name, Value value)
    {
        if (value.IsNull && _names.IndexOf(name) < 0)
            return this;
        var names = _names.With(name);
        var values = new Value[names.Count];
        for (var i = 0; i < values.Length; i++)
            values[i] = ReferenceEquals(names, _names) ? _values[i] : this[names[i]];
        values[names.IndexOf(name)] = Kept(value);
        return new(names, values);
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

    /// <summary>The value of an attribute; null when there is none.</summary>
    public Value this[string name] => _names.IndexOf(name) is >= 0 and var place ? _values[place] : Value.Null;

    /// <summary>The value of an attribute as text; "" when there is none.</summary>
    public string Text(string name) => this[name].ToString();

    /// <summary>HR's key of the person, the same in all their employments.</summary>
    public string PersonKey => Text(BuiltIn.Person);

    /// <summary>The employee number, one for each employment.</summary>
    public string Number => Text(BuiltIn.Number);

    /// <summary>Given and family name.</summary>
    public string DisplayName => $"{Text(BuiltIn.Given)} {Text(BuiltIn.Family)}".Trim();

    /// <summary>The employee number of the line manager, or "".</summary>
    public string Manager => Text(BuiltIn.Manager);

    /// <summary>The name of the site in the rulebook, or "".</summary>
    public string Site => Text(BuiltIn.Site);

    /// <summary>The first day, at the site.</summary>
    public DateOnly Start => this[BuiltIn.Start].AsDateOrNull ?? DateOnly.MinValue;

    /// <summary>The last day, at the site; null when none is known.</summary>
    public DateOnly? End => this[BuiltIn.End].AsDateOrNull;

    /// <summary>The attributes that differ, in order of name.</summary>
    public IReadOnlyList<AttributeDifference> DifferenceTo(Facts later) =>
        [
            .. Values
                .Select(v => v.Key)
                .Union(later.Values.Select(v => v.Key))
                .Order(StringComparer.Ordinal)
                .Where(name => this[name] != later[name])
                .Select(name => new AttributeDifference(name, Text(name), later.Text(name))),
        ];

    /// <summary>Fills the slots of <paramref name="scope"/> that <paramref name="schema"/> declares; a text that is not there is
    /// "".</summary>
    public void Fill(Scope scope, NameSchema schema)
    {
        var slots = schema.Slots;
        var places = _names.PlacesIn(schema);
        for (var i = 0; i < places.Length; i++)
        {
            var value = places[i] < 0 ? Value.Null : _values[places[i]];
            scope[slots[i].Slot.Index] = value.IsNull && slots[i].Slot.Type.Kind == ValueKind.String ? Empty : value;
        }
    }

    private static readonly Value Empty = Value.Of("");

    /// <summary>A text that is not there and an empty one are the same.</summary>
    private static Value Kept(Value value) => value.Kind == ValueKind.String && value.AsString.Length == 0 ? Value.Null : value;

    /// <summary>As a JSON object of texts, attributes in order of name: the same facts give the same bytes.</summary>
    public string ToJson() => _json ??= Write();

    /// <summary>Lets go of the text that <see cref="ToJson"/> keeps: for facts that stay in memory after they were stored.</summary>
    public void LetTextGo() => _json = null;

    private string Write()
    {
        var buffer = t_buffer ??= new(1024);
        buffer.ResetWrittenCount();
        var writer = t_writer ??= new(buffer);
        writer.Reset(buffer);
        writer.WriteStartObject();
        for (var i = 0; i < _values.Length; i++)
            if (!_values[i].IsNull)
                writer.WriteString(_names.Encoded(i), _values[i].ToString());
        writer.WriteEndObject();
        writer.Flush();
        return System.Text.Encoding.UTF8.GetString(buffer.WrittenSpan);
    }

    [ThreadStatic]
    private static System.Buffers.ArrayBufferWriter<byte>? t_buffer;

    [ThreadStatic]
    private static Utf8JsonWriter? t_writer;

    /// <summary>Reads what <see cref="ToJson"/> wrote; types come from <paramref name="schema"/>, unknown names are read as text.</summary>
    /// <exception cref="JsonException">The text is no object of texts.</exception>
    public static Facts FromJson(string json, NameSchema schema)
    {
        var length = System.Text.Encoding.UTF8.GetMaxByteCount(json.Length);
        var rented = System.Buffers.ArrayPool<byte>.Shared.Rent(length);
        try
        {
            return FromJson(rented.AsSpan(0, System.Text.Encoding.UTF8.GetBytes(json, rented)), schema);
        }
        finally
        {
            System.Buffers.ArrayPool<byte>.Shared.Return(rented);
        }
    }

    /// <inheritdoc cref="FromJson(string, NameSchema)"/>
    public static Facts FromJson(ReadOnlySpan<byte> json, NameSchema schema)
    {
        var reader = new Utf8JsonReader(json);
        return Read(ref reader, schema);
    }

    /// <summary>Reads a list of facts, such as the other employments of a person.</summary>
    public static IReadOnlyList<Facts> ListFromJson(string json, NameSchema schema)
    {
        if (json.Length <= 2)
            return [];
        using var document = JsonDocument.Parse(json);
        return [.. document.RootElement.EnumerateArray().Select(item => FromJson(item.GetRawText(), schema))];
    }

    /// <summary>Several employments as they are kept.</summary>
    public static string ListToJson(IEnumerable<Facts> facts) => $"[{string.Join(',', facts.Select(f => f.ToJson()))}]";

    private static Facts Read(ref Utf8JsonReader reader, NameSchema schema)
    {
        var names = schema.Facts;
        var values = new Value[names.Count];
        if (!reader.Read() || reader.TokenType != JsonTokenType.StartObject)
            throw new JsonException("Facts are an object.");
        // What was written stands in order of name, so that the next name is looked for after the last one.
        for (var next = 0; reader.Read() && reader.TokenType == JsonTokenType.PropertyName; )
        {
            var place = names.Find(ref reader, next);
            if (place < 0)
                return Rest(ref reader, new(names, values));
            next = place + 1;
            reader.Read();
            values[place] = ValueOf(ref reader, names.KindOf(place));
        }
        return new(names, values);
    }

    /// <summary>The rest of facts that hold a name the rulebook does not know (any more).</summary>
    private static Facts Rest(ref Utf8JsonReader reader, Facts begun)
    {
        do
        {
            var name = reader.GetString()!;
            reader.Read();
            begun = begun.With(
                name,
                ValueOf(ref reader, begun._names.IndexOf(name) is >= 0 and var place ? begun._names.KindOf(place) : ValueKind.String)
            );
        } while (reader.Read() && reader.TokenType == JsonTokenType.PropertyName);
        return begun;
    }

    private static Value ValueOf(ref Utf8JsonReader reader, ValueKind kind)
    {
        if (reader.TokenType == JsonTokenType.Null)
            return Value.Null;
        if (kind == ValueKind.Date && !reader.ValueIsEscaped && Day(reader.ValueSpan) is { } day)
            return Value.Of(day);
        var text = reader.GetString()!;
        return text.Length == 0 ? Value.Null : Typed(text, kind);
    }

    /// <summary>A day as it is written by us (ISO 8601, <c>yyyy-MM-dd</c>); null leaves it to the general way.</summary>
    private static DateOnly? Day(ReadOnlySpan<byte> text)
    {
        if (text.Length != 10 || text[4] != '-' || text[7] != '-')
            return null;
        var (year, month, day) = (Digits(text[..4]), Digits(text[5..7]), Digits(text[8..]));
        return year < 1 || month is < 1 or > 12 || day < 1 || day > DateTime.DaysInMonth(year, month)
            ? null
            : new DateOnly(year, month, day);

        static int Digits(ReadOnlySpan<byte> digits)
        {
            var number = 0;
            foreach (var digit in digits)
            {
                if (digit is < (byte)'0' or > (byte)'9')
                    return -1;
                number = (number * 10) + digit - '0';
            }
            return number;
        }
    }

    private static Value Typed(string text, ValueKind kind) =>
        kind switch
        {
            ValueKind.Date => Value.Of(DateOnly.ParseExact(text, "yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture)),
            ValueKind.Int => Value.Of(long.Parse(text, System.Globalization.CultureInfo.InvariantCulture)),
            ValueKind.Bool => Value.Of(text == "true"),
            _ => Value.Of(text),
        };
}

/// <summary>One attribute that differs between two versions.</summary>
public sealed record AttributeDifference(string Name, string Before, string After);
