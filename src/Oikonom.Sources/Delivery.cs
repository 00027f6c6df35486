using System.Runtime.InteropServices;
using System.Security.Cryptography;
using System.Text;
using nietras.SeparatedValues;
using Oikonom.Core.Rulebook;

namespace Oikonom.Sources;

/// <summary>The source as a whole cannot be read; the message says why and what to do.</summary>
public sealed class SourceFault(string message, int line = 1, string column = "", bool transient = false) : Exception(message)
{
    public int Line { get; } = line;
    public string Column { get; } = column;

    /// <summary>It may go away by itself.</summary>
    public bool Transient { get; } = transient;
}

/// <summary>One record while it is being read. <see cref="Fault"/> is set when its form is broken.</summary>
public readonly ref struct SourceRow
{
    private readonly SepReader.Row _row;
    private readonly ReadOnlySpan<int> _columns;
    private readonly IReadOnlyList<string>? _texts;

    internal SourceRow(SepReader.Row row, int[] columns, int line, int key, UInt128 fingerprint, string? fault)
    {
        _row = row;
        _columns = columns;
        Line = line;
        Fingerprint = fingerprint;
        Fault = fault;
        Key = fault is null ? row[columns[key]].Span : default;
    }

    internal SourceRow(IReadOnlyList<string> texts, int line, int key, UInt128 fingerprint)
    {
        _texts = texts;
        Line = line;
        Fingerprint = fingerprint;
        Key = texts[key];
    }

    /// <summary>Line of the file on which the row starts, or position of the record in what was delivered; from 1.</summary>
    public int Line { get; }
    public ReadOnlySpan<char> Key { get; }

    /// <summary>128 bits of SHA-256 over the row's text and the source's mapping: equal means nothing changed.</summary>
    public UInt128 Fingerprint { get; }
    public string? Fault { get; }

    /// <summary>The text of the declared column with this index.</summary>
    public ReadOnlySpan<char> Span(int column) => _texts is not null ? _texts[column] : _row[_columns[column]].Span;

    /// <inheritdoc cref="Span"/>
    public string Text(int column) => _texts is not null ? _texts[column] : _row[_columns[column]].ToString();
}

public delegate void RowHandler(SourceRow row);

/// <summary>Records that came together; can be gone through more than once.</summary>
public abstract class Delivery
{
    /// <summary>Where they came from: a file name or an address.</summary>
    public abstract string Origin { get; }

    /// <summary>False when only what changed was delivered: then nothing can vanish.</summary>
    public abstract bool IsFull { get; }

    /// <summary>How far it reaches, for the next one: a file name or a time; "" when that is of no use.</summary>
    public virtual string Reaches => "";

    /// <exception cref="SourceFault">What was delivered cannot be read.</exception>
    public abstract void Each(RowHandler handle, CancellationToken cancel);

    /// <summary>A changed mapping changes every fingerprint, so that all rows are looked at again.</summary>
    internal static UInt128 Salt(SourceRule source, IReadOnlyList<string> header)
    {
        var text =
            string.Join('\n', header)
            + "\n\n"
            + string.Join('\n', source.Mapping.Select(m => $"{m.Name}={m.Expression.Text}"))
            + "\n\n"
            + source.Scope?.Text;
        return MemoryMarshal.Read<UInt128>(SHA256.HashData(Encoding.UTF8.GetBytes(text)));
    }
}

/// <summary>Records that are held in memory: posted, pushed, or read page by page.</summary>
public sealed class RecordDelivery(
    SourceRule source,
    string origin,
    bool full,
    IReadOnlyList<IReadOnlyList<string>> records,
    string reaches = ""
) : Delivery
{
    public override string Origin => origin;
    public override bool IsFull => full;
    public override string Reaches => reaches;
    public int Count => records.Count;

    public override void Each(RowHandler handle, CancellationToken cancel)
    {
        var salt = Salt(source, source.Paths);
        Span<byte> hash = stackalloc byte[32];
        var text = new StringBuilder();
        for (var i = 0; i < records.Count; i++)
        {
            cancel.ThrowIfCancellationRequested();
            text.Clear();
            foreach (var value in records[i])
                text.Append(value.Length).Append(':').Append(value);
            SHA256.HashData(Encoding.UTF8.GetBytes(text.ToString()), hash);
            handle(new(records[i], i + 1, source.KeyColumn, MemoryMarshal.Read<UInt128>(hash) ^ salt));
        }
    }
}
