using System.Collections.Concurrent;
using System.Collections.Frozen;
using System.Runtime.CompilerServices;
using System.Text;
using System.Text.Json;
using Oikonom.Core.Expressions;

namespace Oikonom.Core.People;

/// <summary>The names of facts under a schema, made once for each.</summary>
internal static class SchemaFacts
{
    private static readonly ConditionalWeakTable<NameSchema, FactNames> Known = [];

    extension(NameSchema schema)
    {
        /// <summary>The names of a rulebook's attributes as facts hold them.</summary>
        public FactNames Facts => Known.GetValue(schema, s => new(s.Slots.Select(x => (x.Name, x.Slot.Type.Kind))));
    }
}

/// <summary>The attribute names of facts, in ordinal order, each with its place and type. Shared and immutable.</summary>
internal sealed class FactNames
{
    /// <summary>The built-in attributes alone.</summary>
    public static readonly FactNames BuiltIn = new(People.BuiltIn.Attributes.Select(a => (a.Key, a.Value.Kind)));

    private readonly string[] _names;
    private readonly ValueKind[] _kinds;
    private readonly byte[][] _utf8;
    private readonly JsonEncodedText[] _encoded;
    private readonly FrozenDictionary<string, int> _places;
    private readonly ConcurrentDictionary<string, FactNames> _more = new(StringComparer.Ordinal);
    private (NameSchema Schema, int[] Places)[] _met = [];

    /// <summary>Names with their kinds; each gets a place in the order given.</summary>
    public FactNames(IEnumerable<(string Name, ValueKind Kind)> names)
    {
        var sorted = names.OrderBy(n => n.Name, StringComparer.Ordinal).ToArray();
        _names = [.. sorted.Select(n => n.Name)];
        _kinds = [.. sorted.Select(n => n.Kind)];
        _utf8 = [.. _names.Select(Encoding.UTF8.GetBytes)];
        _encoded = [.. _names.Select(n => JsonEncodedText.Encode(n))];
        _places = _names.Select((name, place) => (name, place)).ToFrozenDictionary(n => n.name, n => n.place, StringComparer.Ordinal);
    }

    /// <summary>How many names there are.</summary>
    public int Count => _names.Length;

    /// <summary>The name at a place.</summary>
    public string this[int place] => _names[place];

    /// <summary>The kind of the value at a place.</summary>
    public ValueKind KindOf(int place) => _kinds[place];

    /// <summary>The name at a place as JSON writes it.</summary>
    public JsonEncodedText Encoded(int place) => _encoded[place];

    /// <returns>The place of the name, or -1.</returns>
    public int IndexOf(string name) => _places.TryGetValue(name, out var place) ? place : -1;

    /// <summary>These names and one more, which is a text unless it is built in.</summary>
    public FactNames With(string name) =>
        _places.ContainsKey(name)
            ? this
            : _more.GetOrAdd(name, added => new([.. _names.Select((n, i) => (n, _kinds[i])), (added, ValueKind.String)]));

    /// <summary>The place of the property name the reader stands at, looked for from <paramref name="from"/> on; -1 when it is
    /// none of these.</summary>
    public int Find(ref Utf8JsonReader reader, int from)
    {
        for (var i = from; i < _utf8.Length; i++)
            if (reader.ValueTextEquals(_utf8[i]))
                return i;
        return IndexOf(reader.GetString()!);
    }

    /// <summary>Where the values of a schema's slots stand, in the order of its slots; -1 for what is not among these names.</summary>
    public int[] PlacesIn(NameSchema schema)
    {
        foreach (var (known, places) in _met)
            if (ReferenceEquals(known, schema))
                return places;
        int[] found = [.. schema.Slots.Select(s => IndexOf(s.Name))];
        // A few rulebooks are in use at a time; which of two threads adds it first does not matter.
        _met = [(schema, found), .. _met.Take(3)];
        return found;
    }
}
