using Oikonom.Core.Expressions;
using YamlDotNet.Core;
using YamlDotNet.RepresentationModel;

namespace Oikonom.Core.Rulebook;

/// <summary>A text of a rulebook file and where it stands.</summary>
internal readonly record struct Located(string Text, Place Place);

/// <summary>
/// Reads one mapping of a YAML file: each key is asked for by name, and <see cref="Done"/> reports what nobody
/// asked for. Every finding carries its place.
/// </summary>
internal sealed class YamlMap(YamlMappingNode node, string file, List<Finding> findings)
{
    private readonly HashSet<string> _asked = new(StringComparer.Ordinal);
    private YamlMap? _under;

    /// <summary>This mapping, with the keys of another one where it has none of its own.</summary>
    public YamlMap Over(YamlMap under) => new(node, file, findings) { _under = under };

    /// <summary>Where the mapping begins.</summary>
    public Place Place { get; } = PlaceOf(node, file);

    /// <summary>Where a node begins; line and column from 1.</summary>
    public static Place PlaceOf(YamlNode node, string file) => new(file, (int)node.Start.Line, (int)node.Start.Column);

    /// <summary>Notes that something is wrong, and goes on.</summary>
    public void Report(Place place, string message) => findings.Add(new(place, message));

    private YamlNode? Find(string key)
    {
        _asked.Add(key);
        _under?._asked.Add(key);
        return node.Children.FirstOrDefault(pair => pair.Key is YamlScalarNode { Value: { } name } && name == key).Value;
    }

    /// <summary>A text; null when it is missing or empty, which is a finding when it is mandatory.</summary>
    public Located? Text(string key, bool required = true)
    {
        if (_under?.Has(key) == true && Find(key) is null)
            return _under.Text(key, required);
        switch (Find(key))
        {
            case null:
                if (required)
                    Report(Place, $"'{key}' is missing.");
                return null;
            case YamlScalarNode { Value: { } text } scalar when text.Length > 0 || !required:
                return new(text, Inside(scalar));
            case var other:
                Report(PlaceOf(other, file), $"'{key}' must be a text.");
                return null;
        }
    }

    private Place Inside(YamlScalarNode scalar)
    {
        var place = PlaceOf(scalar, file);
        return scalar.Style is ScalarStyle.SingleQuoted or ScalarStyle.DoubleQuoted ? place with { Column = place.Column + 1 } : place;
    }

    /// <summary>A text, or another where it is missing.</summary>
    public string TextOr(string key, string otherwise) => Text(key, required: false)?.Text ?? otherwise;

    /// <summary>A whole number within bounds, which are in it; outside them is a finding.</summary>
    public int Number(string key, int otherwise, int least, int most)
    {
        if (Text(key, required: false) is not { } text)
            return otherwise;
        if (int.TryParse(text.Text, out var number) && number >= least && number <= most)
            return number;
        Report(text.Place, $"'{key}' must be a whole number from {least} to {most}, not '{text.Text}'.");
        return otherwise;
    }

    /// <summary>True when the key is there, whatever it holds.</summary>
    public bool Has(string key) => Find(key) is not null || _under?.Has(key) == true;

    /// <summary>The text of a key without asking for it: a first look at documents that name each other.</summary>
    public string? Peek(string key) =>
        node.Children.FirstOrDefault(pair => pair.Key is YamlScalarNode { Value: { } name } && name == key).Value
            is YamlScalarNode { Value: { } text }
            ? text
            : null;

    /// <summary>One of the known words; the key is mandatory when <paramref name="otherwise"/> is null.</summary>
    public string Choice(string key, string? otherwise, params string[] known)
    {
        if (Text(key, required: otherwise is null) is not { } text)
            return otherwise ?? known[0];
        if (known.Contains(text.Text))
            return text.Text;
        Report(text.Place, $"'{text.Text}' is not known for '{key}'; use {string.Join(", ", known)}.{Nearest.Hint(text.Text, known)}");
        return otherwise ?? known[0];
    }

    /// <summary>Yes or no, as <c>yes</c>, <c>no</c>, <c>true</c> or <c>false</c>.</summary>
    public bool YesNo(string key, bool otherwise) => Choice(key, otherwise ? "yes" : "no", "yes", "no", "true", "false") is "yes" or "true";

    /// <summary>A list whose entries are texts or mappings.</summary>
    public IEnumerable<(Located? Text, YamlMap? Map)> TextsOrMaps(string key)
    {
        if (Find(key) is not YamlSequenceNode list)
        {
            foreach (var text in Texts(key))
                yield return (text, null);
            yield break;
        }
        foreach (var item in list.Children)
        {
            if (item is YamlScalarNode { Value: { } text } scalar)
                yield return (new(text, Inside(scalar)), null);
            else if (item is YamlMappingNode map)
                yield return (null, new(map, file, findings));
            else
                Report(PlaceOf(item, file), $"Each entry of '{key}' must be a text or a mapping.");
        }
    }

    /// <summary>A list of names, or a mapping of names to texts; a name of a list stands for itself.</summary>
    public IReadOnlyList<(Located Name, Located Value)> TextsOrNamedTexts(string key) =>
        Find(key) is YamlMappingNode ? [.. NamedTexts(key)] : [.. Texts(key).Select(text => (text, text))];

    /// <summary>The mapping under <paramref name="key"/> whose values are a text or a list of texts.</summary>
    public IEnumerable<(Located Name, IReadOnlyList<Located> Texts)> NamedTextLists(string key)
    {
        foreach (var (name, _) in Map(key)?.Entries() ?? [])
            yield return (name, Map(key)!.Texts(name.Text));
    }

    /// <summary>One text or a list of them.</summary>
    public IReadOnlyList<Located> Texts(string key, bool required = true)
    {
        switch (Find(key))
        {
            case null:
                if (required)
                    Report(Place, $"'{key}' is missing.");
                return [];
            case YamlScalarNode { Value: { } single } scalar:
                return [new(single, Inside(scalar))];
            case YamlSequenceNode list:
                var texts = new List<Located>();
                foreach (var item in list.Children)
                {
                    if (item is YamlScalarNode { Value: { } text } scalar)
                        texts.Add(new(text, Inside(scalar)));
                    else
                        Report(PlaceOf(item, file), $"Each entry of '{key}' must be a text.");
                }
                return texts;
            case var other:
                Report(PlaceOf(other, file), $"'{key}' must be a text or a list of texts.");
                return [];
        }
    }

    /// <summary>A mapping below a key; null when it is missing, which is a finding when it is mandatory.</summary>
    public YamlMap? Map(string key, bool required = true)
    {
        switch (Find(key))
        {
            case null:
                if (required)
                    Report(Place, $"'{key}' is missing.");
                return null;
            case YamlMappingNode map:
                return new(map, file, findings);
            case var other:
                Report(PlaceOf(other, file), $"'{key}' must be a mapping of keys to values.");
                return null;
        }
    }

    /// <summary>The mapping under <paramref name="key"/> whose keys are free names, each with a mapping of its own.</summary>
    public IEnumerable<(Located Name, YamlMap Map)> NamedMaps(string key, bool required = true)
    {
        foreach (var (name, value) in Map(key, required)?.Entries() ?? [])
        {
            if (value is YamlMappingNode map)
                yield return (name, new(map, file, findings));
            else
                Report(name.Place, $"'{name.Text}' must be a mapping of keys to values.");
        }
    }

    /// <summary>The names of a mapping with their texts, in order.</summary>
    public IEnumerable<(Located Name, Located Value)> NamedTexts(string key, bool required = true)
    {
        foreach (var (name, value) in Map(key, required)?.Entries() ?? [])
        {
            if (value is YamlScalarNode { Value: { } text } scalar)
                yield return (name, new(text, Inside(scalar)));
            else
                Report(name.Place, $"'{name.Text}' must be a text.");
        }
    }

    /// <summary>A list of mappings, in order.</summary>
    public IEnumerable<YamlMap> Maps(string key, bool required = true)
    {
        var found = Find(key);
        if (found is null)
        {
            if (required)
                Report(Place, $"'{key}' is missing.");
            yield break;
        }
        if (found is not YamlSequenceNode list)
        {
            Report(PlaceOf(found, file), $"'{key}' must be a list.");
            yield break;
        }
        foreach (var item in list.Children)
        {
            if (item is YamlMappingNode map)
                yield return new(map, file, findings);
            else
                Report(PlaceOf(item, file), $"Each entry of '{key}' must be a mapping of keys to values.");
        }
    }

    private IEnumerable<(Located Name, YamlNode Value)> Entries()
    {
        foreach (var (key, value) in node.Children)
        {
            if (key is YamlScalarNode { Value: { Length: > 0 } name } scalar)
                yield return (new(name, PlaceOf(scalar, file)), value);
            else
                Report(PlaceOf(key, file), "A key must be a text.");
        }
    }

    /// <summary>An expression of a type; null when it is at fault, which is a finding at the very character.</summary>
    public Expression? Expression(Located text, NameSchema schema, ExpressionType wanted, string what)
    {
        try
        {
            var expression = Expressions.Expression.Compile(text.Text, schema);
            if (wanted.Accepts(expression.Type))
                return expression;
            Report(text.Place, $"{what} must yield {wanted}; this yields {expression.Type}.");
        }
        catch (ExpressionError error)
        {
            var before = text.Text[..Math.Min(error.Position, text.Text.Length)];
            var breaks = before.Count(c => c == '\n');
            var place =
                breaks == 0
                    ? text.Place with
                    {
                        Column = text.Place.Column + error.Position,
                    }
                    : text.Place with
                    {
                        Line = text.Place.Line + breaks,
                    };
            Report(place, error.Message);
        }
        return null;
    }

    /// <summary>Ends the reading: keys that nobody asked for are findings.</summary>
    public void Done()
    {
        foreach (var (name, _) in Entries())
            if (!_asked.Contains(name.Text))
                Report(name.Place, $"'{name.Text}' is not a known key here.{Nearest.Hint(name.Text, _asked)}");
        _under?.Done();
    }
}
