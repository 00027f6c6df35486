using System.Collections.Frozen;

namespace Oikonom.Core.Expressions;

/// <summary>
/// The names an expression may use, each with its type and its place in the value array. A name with a dot
/// declares a field of a record (<c>row.start</c>).
/// </summary>
public sealed class NameSchema
{
    private readonly FrozenDictionary<string, Slot> _names;
    private readonly FrozenDictionary<string, ExpressionType> _records;

    /// <summary>Names with their types; each gets a place in the order given.</summary>
    public NameSchema(IEnumerable<KeyValuePair<string, ExpressionType>> names)
    {
        var slots = new Dictionary<string, Slot>(StringComparer.Ordinal);
        var records = new Dictionary<string, Dictionary<string, Slot>>(StringComparer.Ordinal);
        foreach (var (name, type) in names)
        {
            var slot = new Slot(slots.Count, type);
            slots.Add(name, slot);
            var dot = name.IndexOf('.', StringComparison.Ordinal);
            if (dot <= 0)
                continue;
            var record = name[..dot];
            if (!records.TryGetValue(record, out var fields))
                records[record] = fields = new(StringComparer.Ordinal);
            fields[name[(dot + 1)..]] = slot;
        }
        _names = slots.ToFrozenDictionary(StringComparer.Ordinal);
        Slots = [.. slots.Select(pair => (pair.Key, pair.Value))];
        _records = records.ToFrozenDictionary(
            pair => pair.Key,
            pair => new ExpressionType(ValueKind.Record, null, pair.Value.ToFrozenDictionary(StringComparer.Ordinal)),
            StringComparer.Ordinal
        );
    }

    /// <summary>Name and place, in the order of declaration.</summary>
    public IReadOnlyList<(string Name, Slot Slot)> Slots { get; }

    /// <summary>How many names there are.</summary>
    public int Count => _names.Count;

    /// <summary>All names, in no order.</summary>
    public IEnumerable<string> Names => _names.Keys;

    /// <summary>Finds a name. False when there is none.</summary>
    public bool TryGet(string name, out Slot slot) => _names.TryGetValue(name, out slot!);

    /// <summary>Finds what the fields behind a name and a dot yield. False when there is none.</summary>
    public bool TryGetRecord(string name, out ExpressionType type) => _records.TryGetValue(name, out type!);

    /// <summary>The place of a name.</summary>
    public int IndexOf(string name) => _names[name].Index;

    /// <summary>Names that can start an expression: plain names and records.</summary>
    public IEnumerable<string> Roots => _names.Keys.Where(name => !name.Contains('.', StringComparison.Ordinal)).Concat(_records.Keys);
}

/// <summary>The values of one evaluation: the declared names by slot, then the variables of the list macros.</summary>
public sealed class Scope
{
    internal const int MaxLocals = 8;
    private readonly Value[] _values;
    private readonly int _declared;

    /// <summary>A scope in which every name is null.</summary>
    public Scope(NameSchema schema)
    {
        _declared = schema.Count;
        _values = new Value[schema.Count + MaxLocals];
    }

    /// <summary>The value at a place.</summary>
    public Value this[int slot]
    {
        get => _values[slot];
        set => _values[slot] = value;
    }

    internal Value GetLocal(int index) => _values[_declared + index];

    internal void SetLocal(int index, Value value) => _values[_declared + index] = value;
}
