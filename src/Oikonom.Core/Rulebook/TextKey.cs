namespace Oikonom.Core.Rulebook;

/// <summary>A key that is written as a text and compares by it, ordinal; its hash is worked out once.</summary>
public abstract class TextKey<TSelf> : IEquatable<TextKey<TSelf>>, IComparable<TextKey<TSelf>>
    where TSelf : TextKey<TSelf>
{
    private readonly string _text;
    private readonly int _hash;

    private protected TextKey(string text) => (_text, _hash) = (text, text.GetHashCode(StringComparison.Ordinal));

    /// <summary>Equal by their text.</summary>
    public bool Equals(TextKey<TSelf>? other) =>
        ReferenceEquals(this, other)
        || (other is not null && _hash == other._hash && string.Equals(_text, other._text, StringComparison.Ordinal));

    public override bool Equals(object? obj) => Equals(obj as TextKey<TSelf>);

    public override int GetHashCode() => _hash;

    /// <summary>In the order of their texts, character by character.</summary>
    public int CompareTo(TextKey<TSelf>? other) => string.CompareOrdinal(_text, other?._text);

    public override string ToString() => _text;

    /// <summary>Equal by their text.</summary>
    public static bool operator ==(TextKey<TSelf>? left, TextKey<TSelf>? right) => left is null ? right is null : left.Equals(right);

    /// <summary>Not equal by their text.</summary>
    public static bool operator !=(TextKey<TSelf>? left, TextKey<TSelf>? right) => !(left == right);

    /// <summary>Before the other by text.</summary>
    public static bool operator <(TextKey<TSelf>? left, TextKey<TSelf>? right) =>
        left is null ? right is not null : left.CompareTo(right) < 0;

    /// <summary>Before the other by text, or equal.</summary>
    public static bool operator <=(TextKey<TSelf>? left, TextKey<TSelf>? right) => left is null || left.CompareTo(right) <= 0;

    /// <summary>After the other by text.</summary>
    public static bool operator >(TextKey<TSelf>? left, TextKey<TSelf>? right) => right < left;

    /// <summary>After the other by text, or equal.</summary>
    public static bool operator >=(TextKey<TSelf>? left, TextKey<TSelf>? right) => right <= left;
}
