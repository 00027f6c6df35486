using System.Collections.Frozen;
using System.Globalization;

namespace Oikonom.Core.Expressions;

/// <summary>What a value of an expression can be.</summary>
public enum ValueKind : byte
{
    Null,
    Bool,
    Int,
    String,
    Date,
    Instant,
    Duration,
    List,
    Record,
}

/// <summary>
/// A value of an expression: small, immutable, compared by content. Only these kinds ever enter an expression,
/// so nothing of the host program can be reached from one.
/// </summary>
public readonly struct Value : IEquatable<Value>
{
    private readonly long _number;
    private readonly object? _reference;

    private Value(ValueKind kind, long number, object? reference)
    {
        Kind = kind;
        _number = number;
        _reference = reference;
    }

    /// <summary>Of what kind it is.</summary>
    public ValueKind Kind { get; }

    /// <summary>No value.</summary>
    public static Value Null => default;

    /// <summary>A truth.</summary>
    public static Value Of(bool value) => new(ValueKind.Bool, value ? 1 : 0, null);

    /// <summary>A whole number.</summary>
    public static Value Of(long value) => new(ValueKind.Int, value, null);

    /// <summary>A text.</summary>
    public static Value Of(string value) => new(ValueKind.String, 0, value);

    /// <summary>A day.</summary>
    public static Value Of(DateOnly value) => new(ValueKind.Date, value.DayNumber, null);

    /// <summary>A day, or no value.</summary>
    public static Value Of(DateOnly? value) => value is { } day ? Of(day) : Null;

    /// <summary>An instant, kept in UTC.</summary>
    public static Value Of(DateTimeOffset value) => new(ValueKind.Instant, value.UtcTicks, null);

    /// <summary>A duration.</summary>
    public static Value Of(TimeSpan value) => new(ValueKind.Duration, value.Ticks, null);

    /// <summary>A list.</summary>
    public static Value Of(IReadOnlyList<Value> value) => new(ValueKind.List, 0, value);

    /// <summary>True when there is no value.</summary>
    public bool IsNull => Kind == ValueKind.Null;

    /// <summary>The truth; false of any other kind.</summary>
    public bool AsBool => Kind == ValueKind.Bool && _number != 0;

    /// <summary>The whole number; only of that kind.</summary>
    public long AsInt => _number;

    /// <summary>The text; "" of any other kind.</summary>
    public string AsString => _reference as string ?? "";

    /// <summary>The day; only of that kind.</summary>
    public DateOnly AsDate => DateOnly.FromDayNumber((int)_number);

    /// <summary>The day; null of any other kind.</summary>
    public DateOnly? AsDateOrNull => Kind == ValueKind.Date ? AsDate : null;

    /// <summary>The instant in UTC; only of that kind.</summary>
    public DateTimeOffset AsInstant => new(_number, TimeSpan.Zero);

    /// <summary>The duration; only of that kind.</summary>
    public TimeSpan AsDuration => new(_number);

    /// <summary>The values; none of any other kind.</summary>
    public IReadOnlyList<Value> AsList => _reference as IReadOnlyList<Value> ?? [];

    /// <summary>Order of two values of one kind; null when they cannot be ordered (different kinds, or one is null).</summary>
    public static int? Compare(Value left, Value right)
    {
        if (left.Kind != right.Kind || left.IsNull)
            return null;
        return left.Kind switch
        {
            ValueKind.String => string.CompareOrdinal(left.AsString, right.AsString),
            ValueKind.List or ValueKind.Record => null,
            _ => left._number.CompareTo(right._number),
        };
    }

    /// <summary>Equal by kind and value; lists by their values in order.</summary>
    public bool Equals(Value other)
    {
        if (Kind != other.Kind)
            return false;
        return Kind switch
        {
            ValueKind.Null => true,
            ValueKind.String => string.Equals(AsString, other.AsString, StringComparison.Ordinal),
            ValueKind.List => AsList.SequenceEqual(other.AsList),
            _ => _number == other._number,
        };
    }

    public override bool Equals(object? obj) => obj is Value other && Equals(other);

    public override int GetHashCode() =>
        Kind switch
        {
            ValueKind.String => AsString.GetHashCode(StringComparison.Ordinal),
            ValueKind.List => AsList.Count,
            _ => HashCode.Combine(Kind, _number),
        };

    /// <summary>Equal by kind and value.</summary>
    public static bool operator ==(Value left, Value right) => left.Equals(right);

    /// <summary>Not equal by kind and value.</summary>
    public static bool operator !=(Value left, Value right) => !left.Equals(right);

    /// <summary>The value as text: ISO 8601 for dates, instants and durations; "" for null; lists joined by ", ".</summary>
    public override string ToString() =>
        Kind switch
        {
            ValueKind.Null => "",
            ValueKind.Bool => AsBool ? "true" : "false",
            ValueKind.Int => _number.ToString(CultureInfo.InvariantCulture),
            ValueKind.Date => AsDate.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture),
            ValueKind.Instant => AsInstant.ToString("yyyy-MM-dd'T'HH:mm:ss'Z'", CultureInfo.InvariantCulture),
            ValueKind.Duration => System.Xml.XmlConvert.ToString(AsDuration),
            ValueKind.List => string.Join(", ", AsList),
            _ => AsString,
        };
}

/// <summary>The static type of an expression. A list carries the type of its elements, a record its fields.</summary>
public sealed record ExpressionType(ValueKind Kind, ExpressionType? Element = null, FrozenDictionary<string, Slot>? Fields = null)
{
    /// <summary>Nothing; it goes with every other type.</summary>
    public static readonly ExpressionType Null = new(ValueKind.Null);

    /// <summary>Yes or no.</summary>
    public static readonly ExpressionType Bool = new(ValueKind.Bool);

    /// <summary>A whole number of 64 bits.</summary>
    public static readonly ExpressionType Int = new(ValueKind.Int);

    /// <summary>A text.</summary>
    public static readonly ExpressionType String = new(ValueKind.String);

    /// <summary>A day, without a time zone.</summary>
    public static readonly ExpressionType Date = new(ValueKind.Date);

    /// <summary>An instant in UTC.</summary>
    public static readonly ExpressionType Instant = new(ValueKind.Instant);

    /// <summary>A length of time.</summary>
    public static readonly ExpressionType Duration = new(ValueKind.Duration);

    /// <summary>A list whose values are all of one type.</summary>
    public static ExpressionType ListOf(ExpressionType element) => new(ValueKind.List, element);

    /// <summary>True when a value of <paramref name="other"/> may stand where this type is wanted (null fits everywhere).</summary>
    public bool Accepts(ExpressionType other) =>
        other.Kind == ValueKind.Null
        || Kind == ValueKind.Null
        || (Kind == other.Kind && (Kind != ValueKind.List || Element is null || other.Element is null || Element.Accepts(other.Element)));

    public override string ToString() =>
        Kind switch
        {
            ValueKind.List => $"list of {Element?.ToString() ?? "anything"}",
            ValueKind.Int => "number",
            ValueKind.Bool => "true/false",
            ValueKind.Null => "nothing",
            _ => Kind.ToString().ToLowerInvariant(),
        };
}

/// <summary>Where a declared name stands in the array of values that an expression is evaluated against.</summary>
public sealed record Slot(int Index, ExpressionType Type);
