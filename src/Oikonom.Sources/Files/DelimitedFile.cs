using System.Runtime.InteropServices;
using System.Security.Cryptography;
using System.Text;
using nietras.SeparatedValues;
using Oikonom.Core.Rulebook;

namespace Oikonom.Sources.Files;

/// <summary>The file as a whole cannot be read; the message says why and what to do.</summary>
public sealed class SourceFault(string message, int line = 1, string column = "") : Exception(message)
{
    public int Line { get; } = line;
    public string Column { get; } = column;
}

/// <summary>One row while it is being read. <see cref="Fault"/> is set when its form is broken.</summary>
public readonly ref struct SourceRow
{
    private readonly SepReader.Row _row;
    private readonly int[] _columns;

    internal SourceRow(SepReader.Row row, int[] columns, int line, int key, UInt128 fingerprint, string? fault)
    {
        _row = row;
        _columns = columns;
        Line = line;
        Fingerprint = fingerprint;
        Fault = fault;
        Key = fault is null ? row[key].Span : default;
    }

    /// <summary>Line of the file on which the row starts, from 1.</summary>
    public int Line { get; }
    public ReadOnlySpan<char> Key { get; }

    /// <summary>128 bits of SHA-256 over the row's text and the source's mapping: equal means nothing changed.</summary>
    public UInt128 Fingerprint { get; }
    public string? Fault { get; }

    /// <summary>The text of the declared column with this index.</summary>
    public string Text(int column) => _row[_columns[column]].ToString();
}

/// <summary>Reads a delimited file (RFC 4180) row by row.</summary>
public static class DelimitedFile
{
    public delegate void RowHandler(SourceRow row);

    /// <exception cref="SourceFault">The file is not there, is empty, or lacks a column.</exception>
    public static void Read(string path, SourceRule source, RowHandler handle, CancellationToken cancel = default)
    {
        FileStream file;
        try
        {
            file = new(path, FileMode.Open, FileAccess.Read, FileShare.Read, 1 << 16, FileOptions.SequentialScan);
        }
        catch (Exception error) when (error is FileNotFoundException or DirectoryNotFoundException)
        {
            throw new SourceFault($"The file '{source.Path}' does not exist in the folder of sources.");
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new SourceFault($"The file '{source.Path}' cannot be opened: {error.Message}");
        }
        using (file) Read(file, source, handle, cancel);
    }

    public static void Read(Stream stream, SourceRule source, RowHandler handle, CancellationToken cancel = default)
    {
        using var text = new StreamReader(stream, source.Encoding == "utf-8" ? Encoding.UTF8 : Encoding.Latin1, detectEncodingFromByteOrderMarks: true, 1 << 16);
        using var reader = Sep.New(source.Delimiter).Reader(o => o with { HasHeader = false, Unescape = true, DisableColCountCheck = true, DisableFastFloat = true }).From(text);
        if (!reader.MoveNext() || reader.Current.Span.Length == 0) throw new SourceFault("The file is empty: a header with the names of the columns is expected.");
        var header = new List<string>();
        for (var i = 0; i < reader.Current.ColCount; i++) header.Add(reader.Current[i].ToString().Trim());
        var columns = source.ColumnNames.Select(name => header.IndexOf(name) is var at and >= 0
            ? at
            : throw new SourceFault($"The column '{name}' is missing.{Core.Expressions.Nearest.Hint(name, header)} The file has: {string.Join(", ", header.Take(30))}.", 1, name)).ToArray();
        var key = columns[source.KeyColumn];
        var salt = Salt(source, header);
        Span<byte> hash = stackalloc byte[32];
        while (reader.MoveNext())
        {
            cancel.ThrowIfCancellationRequested();
            var row = reader.Current;
            if (row.Span.Length == 0) continue;
            SHA256.HashData(MemoryMarshal.AsBytes(row.Span), hash);
            var fingerprint = MemoryMarshal.Read<UInt128>(hash) ^ salt;
            var fault = row.Span.Count('"') % 2 == 1 ? "The row opens a quote that is never closed; the file may have been cut off."
                : row.ColCount != header.Count ? $"The row has {row.ColCount} columns; the header has {header.Count}."
                : null;
            handle(new(row, columns, row.LineNumberFrom, key, fingerprint, fault));
        }
    }

    /// <summary>A changed mapping or header changes every fingerprint, so that all rows are looked at again.</summary>
    private static UInt128 Salt(SourceRule source, IReadOnlyList<string> header)
    {
        var text = string.Join('\n', header) + "\n\n" + string.Join('\n', source.Mapping.Select(m => $"{m.Name}={m.Expression.Text}"));
        return MemoryMarshal.Read<UInt128>(SHA256.HashData(Encoding.UTF8.GetBytes(text)));
    }
}
