using System.Collections;
using System.Diagnostics.CodeAnalysis;

namespace Oikonom.Core.Planning;

/// <summary>
/// A few values by name, in order of name without regard to case: an account's attributes. The names are shared by
/// all accounts that are made by the same lines of a rulebook.
/// </summary>
public sealed class SmallMap<T> : IReadOnlyDictionary<string, T>
{
    private readonly string[] _names;
    private readonly T[] _values;

    /// <param name="names">In order and each once, ordinal without regard to case.</param>
    internal SmallMap(string[] names, T[] values) => (_names, _values) = (names, values);

    /// <summary>A map of sorted names.</summary>
    public static SmallMap<T> Of(SortedDictionary<string, T> values) => new([.. values.Keys], [.. values.Values]);

    /// <summary>How many names there are.</summary>
    public int Count => _names.Length;

    /// <summary>The names in order.</summary>
    public IEnumerable<string> Keys => _names;

    /// <summary>The values in the order of their names.</summary>
    public IEnumerable<T> Values => _values;

    internal string NameAt(int place) => _names[place];

    internal T ValueAt(int place) => _values[place];

    /// <summary>True when both have the same names, so that their values stand at the same places.</summary>
    internal bool HasNamesOf(SmallMap<T> other)
    {
        if (ReferenceEquals(_names, other._names))
            return true;
        if (_names.Length != other._names.Length)
            return false;
        for (var i = 0; i < _names.Length; i++)
            if (!_names[i].Equals(other._names[i], StringComparison.OrdinalIgnoreCase))
                return false;
        return true;
    }

    /// <summary>The value of a name in any case; throws when there is none.</summary>
    public T this[string key] => TryGetValue(key, out var value) ? value : throw new KeyNotFoundException(key);

    /// <summary>True when there is the name, in any case.</summary>
    public bool ContainsKey(string key) => TryGetValue(key, out _);

    /// <summary>Finds a value by its name in any case. False when there is none.</summary>
    public bool TryGetValue(string key, [MaybeNullWhen(false)] out T value)
    {
        var place = Array.BinarySearch(_names, key, StringComparer.OrdinalIgnoreCase);
        value = place < 0 ? default : _values[place];
        return place >= 0;
    }

    /// <summary>The pairs in the order of names.</summary>
    public IEnumerator<KeyValuePair<string, T>> GetEnumerator()
    {
        for (var i = 0; i < _names.Length; i++)
            yield return new(_names[i], _values[i]);
    }

    IEnumerator IEnumerable.GetEnumerator() => GetEnumerator();
}
