using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace Oikonom.Scim;

/// <summary>A filter of RFC 7644 §3.4.2.2, read and ready to be asked of a resource.</summary>
public abstract record ScimFilter
{
    /// <summary>The most characters of a filter or a path.</summary>
    public const int MaxLength = 4096;

    /// <exception cref="ScimFault"><c>invalidFilter</c>: the text is no filter.</exception>
    public static ScimFilter Parse(string text) => new FilterReader(text).ReadWholeFilter();

    /// <param name="type">The kind of the resource, which tells how values compare; null inside a value.</param>
    public abstract bool Matches(JsonObject resource, ScimResourceType type);

    internal abstract bool MatchesValue(JsonNode value, ScimAttribute attribute);

    /// <summary>Both hold.</summary>
    public sealed record And(ScimFilter Left, ScimFilter Right) : ScimFilter
    {
        public override bool Matches(JsonObject resource, ScimResourceType type) =>
            Left.Matches(resource, type) && Right.Matches(resource, type);

        internal override bool MatchesValue(JsonNode value, ScimAttribute attribute) =>
            Left.MatchesValue(value, attribute) && Right.MatchesValue(value, attribute);

        public override string ToString() => $"({Left} and {Right})";
    }

    /// <summary>One of them holds, or both.</summary>
    public sealed record Or(ScimFilter Left, ScimFilter Right) : ScimFilter
    {
        public override bool Matches(JsonObject resource, ScimResourceType type) =>
            Left.Matches(resource, type) || Right.Matches(resource, type);

        internal override bool MatchesValue(JsonNode value, ScimAttribute attribute) =>
            Left.MatchesValue(value, attribute) || Right.MatchesValue(value, attribute);

        public override string ToString() => $"({Left} or {Right})";
    }

    /// <summary>It does not hold.</summary>
    public sealed record Not(ScimFilter Inner) : ScimFilter
    {
        public override bool Matches(JsonObject resource, ScimResourceType type) => !Inner.Matches(resource, type);

        internal override bool MatchesValue(JsonNode value, ScimAttribute attribute) => !Inner.MatchesValue(value, attribute);

        public override string ToString() => $"not ({Inner})";
    }

    /// <summary>An attribute whose values are filtered: true when one of them matches.</summary>
    public sealed record Values(ScimPath Path) : ScimFilter
    {
        public override bool Matches(JsonObject resource, ScimResourceType type) =>
            ScimValues.Find(resource, type, Path.Urn, Path.Attribute) is var (node, attribute)
            && attribute is not null
            && ScimValues.Each(node).Any(value => Path.Filter!.MatchesValue(value, attribute));

        internal override bool MatchesValue(JsonNode value, ScimAttribute attribute) =>
            throw ScimFault.InvalidFilter("A filter within a filter of values is not possible.");

        public override string ToString() => Path.ToString();
    }

    /// <summary>One comparison; <paramref name="Value"/> is null for <c>pr</c> and for the literal null.</summary>
    public sealed record Compare(ScimPath Path, string Operator, JsonValue? Value) : ScimFilter
    {
        public override bool Matches(JsonObject resource, ScimResourceType type)
        {
            var (node, attribute) = ScimValues.Find(resource, type, Path.Urn, Path.Attribute);
            if (attribute is null)
                throw ScimFault.InvalidFilter($"'{Path.Attribute}' is no attribute of a {type.Name}.");
            return Test(node, attribute, Path.Sub);
        }

        internal override bool MatchesValue(JsonNode value, ScimAttribute attribute)
        {
            var sub = attribute.Find(Path.Attribute);
            if (sub is null && !Path.Attribute.Equals("value", StringComparison.OrdinalIgnoreCase))
                throw ScimFault.InvalidFilter($"'{Path.Attribute}' is no part of '{attribute.Name}'.");
            return value is JsonObject complex
                ? Test(ScimValues.Get(complex, Path.Attribute), sub ?? attribute, null)
                : Test(value, attribute, null);
        }

        private bool Test(JsonNode? node, ScimAttribute attribute, string? sub)
        {
            if (sub is null && attribute.Sub.Count > 0 && Operator != "pr")
                sub = "value";
            if (sub is null)
            {
                var values = ScimValues.Each(node).ToList();
                if (Operator == "pr")
                    return values.Any(ScimValues.IsPresent);
                return values.Count == 0 ? Alone(null, attribute) : values.Exists(v => Alone(v, attribute));
            }
            var part = attribute.Find(sub) ?? throw ScimFault.InvalidFilter($"'{sub}' is no part of '{attribute.Name}'.");
            var parts = ScimValues.Each(node).OfType<JsonObject>().Select(o => ScimValues.Get(o, sub)).ToList();
            if (Operator == "pr")
                return parts.Exists(p => p is not null && ScimValues.IsPresent(p));
            return parts.Count == 0 ? Alone(null, part) : parts.Exists(p => Alone(p, part));
        }

        private bool Alone(JsonNode? node, ScimAttribute attribute)
        {
            if (Operator == "ne")
                return !Equal(node, attribute);
            if (Operator == "eq")
                return Equal(node, attribute);
            if (node is not JsonValue value || Value is null)
                return false;
            if (Operator is "co" or "sw" or "ew")
            {
                if (value.GetValueKind() != JsonValueKind.String || Value.GetValueKind() != JsonValueKind.String)
                    return false;
                var (text, part) = (value.GetValue<string>(), Value.GetValue<string>());
                var comparison = ComparisonOf(attribute);
                return Operator switch
                {
                    "co" => text.Contains(part, comparison),
                    "sw" => text.StartsWith(part, comparison),
                    _ => text.EndsWith(part, comparison),
                };
            }
            if (attribute.Type is "boolean" or "binary")
                throw ScimFault.InvalidFilter($"'{attribute.Name}' has no order, so '{Operator}' cannot be asked.");
            return Order(value, attribute) is { } order
                && Operator switch
                {
                    "gt" => order > 0,
                    "ge" => order >= 0,
                    "lt" => order < 0,
                    _ => order <= 0,
                };
        }

        private static StringComparison ComparisonOf(ScimAttribute attribute) =>
            attribute.CaseExact ? StringComparison.Ordinal : StringComparison.OrdinalIgnoreCase;

        private bool Equal(JsonNode? node, ScimAttribute attribute)
        {
            if (Value is null)
                return node is null;
            if (node is not JsonValue value)
                return false;
            if (value.GetValueKind() == JsonValueKind.String && Value.GetValueKind() == JsonValueKind.String)
            {
                return attribute.Type == "dateTime"
                    ? Order(value, attribute) == 0
                    : string.Equals(value.GetValue<string>(), Value.GetValue<string>(), ComparisonOf(attribute));
            }
            if (value.GetValueKind() == JsonValueKind.Number && Value.GetValueKind() == JsonValueKind.Number)
                return Order(value, attribute) == 0;
            return value.GetValueKind() == Value.GetValueKind();
        }

        private int? Order(JsonValue value, ScimAttribute attribute)
        {
            var (left, right) = (value.GetValueKind(), Value!.GetValueKind());
            if (left == JsonValueKind.Number && right == JsonValueKind.Number)
                return
                    decimal.TryParse(value.ToJsonString(), NumberStyles.Float, CultureInfo.InvariantCulture, out var a)
                    && decimal.TryParse(Value.ToJsonString(), NumberStyles.Float, CultureInfo.InvariantCulture, out var b)
                    ? a.CompareTo(b)
                    : null;
            if (left != JsonValueKind.String || right != JsonValueKind.String)
                return null;
            if (attribute.Type == "dateTime")
                return
                    DateTimeOffset.TryParse(
                        value.GetValue<string>(),
                        CultureInfo.InvariantCulture,
                        DateTimeStyles.AssumeUniversal,
                        out var x
                    )
                    && DateTimeOffset.TryParse(
                        Value.GetValue<string>(),
                        CultureInfo.InvariantCulture,
                        DateTimeStyles.AssumeUniversal,
                        out var y
                    )
                    ? x.CompareTo(y)
                    : null;
            return string.Compare(value.GetValue<string>(), Value.GetValue<string>(), ComparisonOf(attribute));
        }

        public override string ToString() => Operator == "pr" ? $"{Path} pr" : $"{Path} {Operator} {Value?.ToJsonString() ?? "null"}";
    }
}

/// <summary>Reads filters and paths; depth and length are bounded before anything is built.</summary>
internal sealed class FilterReader
{
    private const int MaxDepth = 32;
    private static readonly string[] Operators = ["eq", "ne", "co", "sw", "ew", "gt", "ge", "lt", "le"];
    private readonly string _text;
    private int _at;
    private int _depth;

    /// <summary>Reads one text.</summary>
    /// <exception cref="ScimFault">It is longer than <see cref="ScimFilter.MaxLength"/>.</exception>
    public FilterReader(string text)
    {
        if (text.Length > ScimFilter.MaxLength)
            throw ScimFault.InvalidFilter($"The filter is longer than {ScimFilter.MaxLength} characters.");
        _text = text;
    }

    /// <summary>The filter that the whole text is.</summary>
    /// <exception cref="ScimFault">It is none, or something follows it.</exception>
    public ScimFilter ReadWholeFilter()
    {
        var filter = Or(insideValue: false);
        Space();
        return _at == _text.Length ? filter : throw Wrong("something follows that belongs to nothing");
    }

    /// <summary>The path that the whole text is.</summary>
    /// <exception cref="ScimFault">It is none, or something follows it.</exception>
    public ScimPath ReadWholePath()
    {
        var path = Path(insideValue: false);
        if (_at < _text.Length && _text[_at] == '[')
        {
            path = path with { Filter = InBrackets() };
            if (_at < _text.Length && _text[_at] == '.')
            {
                _at++;
                path = path with { Sub = Word("the name of a sub-attribute") };
            }
        }
        return _at == _text.Length ? path : throw Wrong("something follows that belongs to nothing");
    }

    private ScimFault Wrong(string what) => ScimFault.InvalidFilter($"At character {_at + 1}: {what}.");

    private void Space()
    {
        while (_at < _text.Length && _text[_at] == ' ')
            _at++;
    }

    private bool Keyword(string word)
    {
        Space();
        if (string.Compare(_text, _at, word, 0, word.Length, StringComparison.OrdinalIgnoreCase) != 0)
            return false;
        var end = _at + word.Length;
        if (end < _text.Length && _text[end] is not (' ' or '(' or ')' or ']'))
            return false;
        _at = end;
        return true;
    }

    private ScimFilter Or(bool insideValue)
    {
        if (++_depth > MaxDepth)
            throw Wrong($"the filter is nested deeper than {MaxDepth} levels");
        var left = And(insideValue);
        while (Keyword("or"))
            left = new ScimFilter.Or(left, And(insideValue));
        _depth--;
        return left;
    }

    private ScimFilter And(bool insideValue)
    {
        var left = Term(insideValue);
        while (Keyword("and"))
            left = new ScimFilter.And(left, Term(insideValue));
        return left;
    }

    private ScimFilter Term(bool insideValue)
    {
        Space();
        var start = _at;
        if (Keyword("not"))
        {
            Space();
            if (_at < _text.Length && _text[_at] == '(')
                return new ScimFilter.Not(InParentheses(insideValue));
            _at = start;
        }
        if (_at < _text.Length && _text[_at] == '(')
            return InParentheses(insideValue);
        var path = Path(insideValue);
        if (_at < _text.Length && _text[_at] == '[')
        {
            if (insideValue)
                throw Wrong("a filter within a filter of values is not possible");
            return new ScimFilter.Values(path with { Filter = InBrackets() });
        }
        if (Keyword("pr"))
            return new ScimFilter.Compare(path, "pr", null);
        foreach (var name in Operators)
            if (Keyword(name))
                return new ScimFilter.Compare(path, name, Value());
        throw Wrong($"an operator is expected: pr, {string.Join(", ", Operators)}");
    }

    private ScimFilter InParentheses(bool insideValue)
    {
        _at++;
        var inner = Or(insideValue);
        Space();
        if (_at >= _text.Length || _text[_at] != ')')
            throw Wrong("a ')' is missing");
        _at++;
        return inner;
    }

    private ScimFilter InBrackets()
    {
        _at++;
        var inner = Or(insideValue: true);
        Space();
        if (_at >= _text.Length || _text[_at] != ']')
            throw Wrong("a ']' is missing");
        _at++;
        return inner;
    }

    private ScimPath Path(bool insideValue)
    {
        Space();
        string? urn = null;
        if (!insideValue && string.Compare(_text, _at, "urn:", 0, 4, StringComparison.OrdinalIgnoreCase) == 0)
        {
            var end = _at;
            while (end < _text.Length && (char.IsAsciiLetterOrDigit(_text[end]) || _text[end] is ':' or '.' or '-' or '_'))
                end++;
            var whole = _text[_at..end];
            // The URN alone names all of an extension; else the name follows the last colon.
            var known = ScimSchemas.All.FirstOrDefault(s => whole.StartsWith(s.Id, StringComparison.OrdinalIgnoreCase))?.Id;
            if (known is not null && whole.Length == known.Length)
            {
                _at = end;
                return new(whole, "", null, null);
            }
            var colon = known?.Length ?? whole.LastIndexOf(':');
            if (colon < 5 || colon >= whole.Length || whole[colon] != ':')
                throw Wrong("the name of an attribute is expected after the URN");
            urn = whole[..colon];
            _at += colon + 1;
        }
        var attribute = Word("the name of an attribute");
        string? sub = null;
        if (_at < _text.Length && _text[_at] == '.')
        {
            _at++;
            sub = Word("the name of a sub-attribute");
        }
        return new(urn, attribute, null, sub);
    }

    private string Word(string what)
    {
        var start = _at;
        if (_at < _text.Length && (char.IsAsciiLetter(_text[_at]) || _text[_at] == '$'))
            _at++;
        while (_at > start && _at < _text.Length && (char.IsAsciiLetterOrDigit(_text[_at]) || _text[_at] is '-' or '_'))
            _at++;
        return _at > start ? _text[start.._at] : throw Wrong($"{what} is expected");
    }

    private JsonValue? Value()
    {
        Space();
        if (_at >= _text.Length)
            throw Wrong("a value is missing");
        var start = _at;
        if (_text[_at] == '"')
        {
            _at++;
            while (_at < _text.Length && _text[_at] != '"')
                _at += _text[_at] == '\\' ? 2 : 1;
            if (_at >= _text.Length)
                throw Wrong("the text has no closing quote");
            _at++;
        }
        else
        {
            while (_at < _text.Length && _text[_at] is not (' ' or ')' or ']'))
                _at++;
        }
        try
        {
            var bytes = Encoding.UTF8.GetBytes(_text[start.._at]);
            return JsonNode.Parse(bytes) switch
            {
                null => null,
                JsonValue value => value,
                _ => throw Wrong("a text in quotes, a number, true, false or null is expected"),
            };
        }
        catch (JsonException)
        {
            _at = start;
            throw Wrong("a text in quotes, a number, true, false or null is expected");
        }
    }
}
