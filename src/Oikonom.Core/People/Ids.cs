using System.Buffers.Binary;

namespace Oikonom.Core.People;

/// <summary>Identity of a person across all employments (UUID version 7).</summary>
public readonly record struct PersonId(Guid Value)
{
    /// <summary>A new id, in the order of time (RFC 9562 section 5.7).</summary>
    public static PersonId New(DateTimeOffset at) => new(Guid.CreateVersion7(at));

    /// <summary>Reads an id. Throws <see cref="FormatException"/> when it is none.</summary>
    public static PersonId Parse(string text) => new(Guid.Parse(text));

    public override string ToString() => Value.ToString();
}

/// <summary>Identity of an account, whoever it belongs to (UUID version 7).</summary>
public readonly record struct AccountId(Guid Value)
{
    /// <summary>A new id, in the order of time (RFC 9562 section 5.7).</summary>
    public static AccountId New(DateTimeOffset at) => new(Guid.CreateVersion7(at));

    /// <summary>Reads an id. Throws <see cref="FormatException"/> when it is none.</summary>
    public static AccountId Parse(string text) => new(Guid.Parse(text));

    public override string ToString() => Value.ToString();
}

/// <summary>Identity of a request (UUID version 7).</summary>
public readonly record struct RequestId(Guid Value)
{
    /// <summary>A new id, in the order of time (RFC 9562 section 5.7).</summary>
    public static RequestId New(DateTimeOffset at) => new(Guid.CreateVersion7(at));

    /// <summary>Reads an id. Throws <see cref="FormatException"/> when it is none.</summary>
    public static RequestId Parse(string text) => new(Guid.Parse(text));

    public override string ToString() => Value.ToString();
}

/// <summary>Identity of a step (UUID version 7).</summary>
public readonly record struct StepId(Guid Value)
{
    /// <summary>A new id, in the order of time (RFC 9562 section 5.7).</summary>
    public static StepId New(DateTimeOffset at) => new(Guid.CreateVersion7(at));

    /// <summary>Reads an id. Throws <see cref="FormatException"/> when it is none.</summary>
    public static StepId Parse(string text) => new(Guid.Parse(text));

    public override string ToString() => Value.ToString();
}

/// <summary>
/// UUIDs version 7 of one moment that rise by one (RFC 9562 §6.2, a counter within the random part): one draw of
/// randomness serves all, and ids made one after the other stand beside each other in an index. Not for secrets.
/// </summary>
public sealed class IdSeries
{
    private UInt128 _next;

    /// <summary>A series that begins at an instant.</summary>
    public IdSeries(DateTimeOffset at)
    {
        Span<byte> bytes = stackalloc byte[16];
        Guid.CreateVersion7(at).TryWriteBytes(bytes, bigEndian: true, out _);
        // The highest random bit stays clear, so that counting never reaches the bits of the variant.
        bytes[8] &= 0b1101_1111;
        _next = BinaryPrimitives.ReadUInt128BigEndian(bytes);
    }

    /// <summary>The next id: after all before it, also within one millisecond.</summary>
    public Guid Next()
    {
        Span<byte> bytes = stackalloc byte[16];
        BinaryPrimitives.WriteUInt128BigEndian(bytes, _next++);
        return new(bytes, bigEndian: true);
    }
}
