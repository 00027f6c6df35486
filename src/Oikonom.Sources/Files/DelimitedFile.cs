using System.Runtime.InteropServices;
using System.Security.Cryptography;
using System.Text;
using nietras.SeparatedValues;
using Oikonom.Core.Rulebook;

namespace Oikonom.Sources.Files;

/// <summary>A delimited file (RFC 4180), read row by row.</summary>
public sealed class DelimitedFile : Delivery
{
    internal const string OpenQuote = "The row opens a quote that is never closed; the file may have been cut off.";
    private const int MaxColumns = 1000;
    private static readonly char[] Delimiters = [',', ';', '\t', '|'];
    private readonly string _path;
    private readonly SourceRule _source;
    private readonly bool _full;

    public DelimitedFile(string path, SourceRule source, bool full = true, string? origin = null) =>
        (_path, _source, _full, Origin) = (path, source, full, origin ?? source.Path);

    public override string Origin { get; }
    public override bool IsFull => _full;
    public override string Reaches => _source.IsFolder ? Path.GetFileName(_path) : "";

    public override void Each(RowHandler handle, CancellationToken cancel) => Read(_path, _source, handle, cancel);

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
        using (file)
            Read(file, source, handle, cancel);
    }

    public static void Read(Stream stream, SourceRule source, RowHandler handle, CancellationToken cancel = default)
    {
        var encoding = EncodingOf(stream, source.Encoding);
        var delimiter = source.Delimiter == '\0' ? DelimiterOf(stream, encoding) : source.Delimiter;
        using var text = new StreamReader(stream, encoding, detectEncodingFromByteOrderMarks: true, 1 << 16);
        using var reader = Open(text, delimiter);
        if (!MoveNext(reader) || reader.Current.Span.Length == 0)
            throw new SourceFault("The file is empty: a header with the names of the columns is expected.");
        if (reader.Current.ColCount > MaxColumns)
            throw new SourceFault($"The header has {reader.Current.ColCount} columns; {MaxColumns} are the most.");
        var header = new List<string>();
        for (var i = 0; i < reader.Current.ColCount; i++)
            header.Add(reader.Current[i].ToString().Trim());
        var columns = source
            .Paths.Select(name =>
                header.IndexOf(name) is var at and >= 0
                    ? at
                    : throw new SourceFault(
                        $"The column '{name}' is missing.{Core.Expressions.Nearest.Hint(name, header)} The file has: "
                            + $"{string.Join(", ", header.Take(30))}.",
                        1,
                        name
                    )
            )
            .ToArray();
        var salt = Salt(source, header);
        Span<byte> hash = stackalloc byte[32];
        while (MoveNext(reader))
        {
            cancel.ThrowIfCancellationRequested();
            var row = reader.Current;
            if (row.Span.Length == 0)
                continue;
            SHA256.HashData(MemoryMarshal.AsBytes(row.Span), hash);
            var fingerprint = MemoryMarshal.Read<UInt128>(hash) ^ salt;
            var fault =
                row.Span.Count('"') % 2 == 1 ? OpenQuote
                : row.ColCount != header.Count ? $"The row has {row.ColCount} columns; the header has {header.Count}."
                : null;
            handle(new(row, columns, row.LineNumberFrom, source.KeyColumn, fingerprint, fault));
        }
    }

    /// <summary>The mark that divides the header most often.</summary>
    private static char DelimiterOf(Stream stream, Encoding encoding)
    {
        using var text = new StreamReader(stream, encoding, detectEncodingFromByteOrderMarks: true, 4096, leaveOpen: true);
        var line = text.ReadLine() ?? "";
        stream.Position = 0;
        return DelimiterOf(line);
    }

    internal static char DelimiterOf(string header) => Delimiters.MaxBy(d => header.AsSpan().Count(d));

    internal static SepReader Open(TextReader text, char delimiter)
    {
        try
        {
            return Sep.New(delimiter)
                .Reader(o => o with { HasHeader = false, Unescape = true, DisableColCountCheck = true, DisableFastFloat = true })
                .From(text);
        }
        catch (Exception error) when (error is NotSupportedException or ArgumentException)
        {
            throw new SourceFault($"The file cannot be read: {error.Message}");
        }
    }

    internal static bool MoveNext(SepReader reader)
    {
        try
        {
            return reader.MoveNext();
        }
        catch (Exception error) when (error is NotSupportedException or OutOfMemoryException)
        {
            throw new SourceFault($"A row of the file is too long to be a record: {error.Message}");
        }
    }

    private static Encoding EncodingOf(Stream stream, string declared)
    {
        switch (declared)
        {
            case "utf-8":
                return Encoding.UTF8;
            case "iso-8859-1":
                return Encoding.Latin1;
            case "utf-16":
                return Encoding.Unicode;
        }
        // What is sound UTF-8 at its beginning is taken for it; a mark of the byte order decides before.
        Span<byte> start = stackalloc byte[16_384];
        var length = stream.ReadAtLeast(start, start.Length, throwOnEndOfStream: false);
        stream.Position = 0;
        return System.Text.Unicode.Utf8.IsValid(start[..WholeCharacters(start[..length])]) ? Encoding.UTF8 : Encoding.Latin1;
    }

    /// <summary>Leaves out a character that the end of the buffer may have cut.</summary>
    private static int WholeCharacters(ReadOnlySpan<byte> bytes)
    {
        var length = bytes.Length;
        for (var back = 0; back < 4 && length > 0; back++, length--)
            if ((bytes[length - 1] & 0xC0) != 0x80)
                return (bytes[length - 1] & 0x80) == 0 ? length : length - 1;
        return bytes.Length;
    }
}
