using System.Text;
using Oikonom.Core.Intake;
using Oikonom.Core.Rulebook;
using Oikonom.Sources;
using Oikonom.Sources.Files;
using Xunit;

namespace Oikonom.Core.Tests;

public sealed class SourceTests
{
    private static readonly SourceRule Source = Northmere.Edition.Rulebook.Sources["hr"];
    private const string Header =
        "person_no,employee_no,given_name,family_name,kind,start_date,end_date,manager_no,department,site,job_title,cost_centre,private_mail,phone\n";
    private const string Good = "P1,E1,Tor,Quill,employee,2026-11-02,,E2,Dive Team,harbour,Diver,4200,t@post.example,+00\n";

    private static List<(int Line, string Key, RowFault? Fault, string Name)> Read(byte[] bytes)
    {
        var rows = new List<(int, string, RowFault?, string)>();
        var mapper = new RecordReader(Source, Northmere.Edition.Rulebook);
        DelimitedFile.Read(
            new MemoryStream(bytes),
            Source,
            row =>
            {
                if (row.Fault is { } broken)
                {
                    rows.Add((row.Line, "", new("", "", broken), ""));
                    return;
                }
                var texts = new string[Source.ColumnNames.Count];
                for (var i = 0; i < texts.Length; i++)
                    texts[i] = row.Text(i);
                var reading = mapper.Read(texts);
                rows.Add((row.Line, row.Key.ToString(), reading.Fault, reading.Facts?.DisplayName ?? ""));
            }
        );
        return rows;
    }

    private static List<(int Line, string Key, RowFault? Fault, string Name)> Read(string text) => Read(Encoding.UTF8.GetBytes(text));

    [Theory]
    [InlineData("start_date", "0206-11-02", "The first day 0206-11-02 lies more than 80 years back.")]
    [InlineData("start_date", "2062-11-02", "The first day 2062-11-02 lies more than 2 years ahead.")]
    [InlineData("end_date", "2206-01-01", "The last day 2206-01-01 lies more than 60 years ahead.")]
    [InlineData("family_name", "Quill\nTor", "'family' holds a line break or a tab.")]
    [InlineData("job_title", "Di\tver", "'title' holds a line break or a tab.")]
    [InlineData("manager_no", "E2\r\nE3", "'manager' holds a line break or a tab.")]
    // At the edge, and where a line break is no fault.
    [InlineData("start_date", "1946-11-27", null)]
    [InlineData("start_date", "2028-11-27", null)]
    [InlineData("end_date", "2086-11-27", null)]
    [InlineData("family_name", "Quill\n", null)]
    public void A_record_that_nobody_means_is_set_aside(string column, string value, string? reason)
    {
        var texts = Texts(column, value);
        var reading = new RecordReader(Source, Northmere.Edition.Rulebook, on: new(2026, 11, 27)).Read(texts);
        Assert.Equal((reason, reason is null ? null : column), (reading.Fault?.Reason, reading.Fault?.Column));
        // Without a day to compare with nothing is implausible.
        Assert.Null(new RecordReader(Source, Northmere.Edition.Rulebook).Read(texts).Fault);
    }

    /// <summary>The good row with one value changed.</summary>
    private static string[] Texts(string column, string value)
    {
        var (names, good) = (Header.TrimEnd().Split(',').ToList(), Good.TrimEnd().Split(','));
        return [.. Source.ColumnNames.Select(name => name == column ? value : good[names.IndexOf(name)])];
    }

    [Theory]
    // A hire that is taken back before the first day ends before it starts; from the first day on that is a fault.
    [InlineData("2026-11-01", "2026-11-01", false, true)]
    [InlineData("2026-11-01", "2026-11-02", false, false)]
    [InlineData("2026-11-01", "2026-11-03", false, false)]
    [InlineData("2026-11-02", "2026-11-01", true, false)]
    public void A_hire_taken_back_before_its_first_day_is_told_from_a_fault(string end, string today, bool isGood, bool isWithdrawn)
    {
        var day = DateOnly.ParseExact(today, "yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture);
        var reading = new RecordReader(Source, Northmere.Edition.Rulebook, day).Read(Texts("end_date", end));
        Assert.Equal((isGood, isWithdrawn, isGood || isWithdrawn), (reading.Fault is null, reading.IsWithdrawn, reading.Facts is not null));
        Assert.Equal(isGood ? null : "end_date", reading.Fault?.Column);
    }

    [Fact]
    public void Days_are_plausible_by_the_given_day_else_by_today()
    {
        RowReading Reading(DateOnly? today, DateOnly? on) =>
            new RecordReader(Source, Northmere.Edition.Rulebook, today, on).Read(Texts("start_date", "2030-01-01"));
        var (early, late) = (new DateOnly(2026, 11, 27), new DateOnly(2029, 11, 27));
        Assert.Equal(
            [true, false, true, false, false],
            new[] { Reading(null, null), Reading(early, null), Reading(early, late), Reading(late, early), Reading(null, early) }.Select(
                r => r.Fault is null
            )
        );
    }

    [Theory]
    [InlineData("\u2029", true)]
    [InlineData("\u202A", false)]
    [InlineData("\u202E", false)]
    [InlineData("\u202F", true)]
    [InlineData("\u2065", true)]
    [InlineData("\u2066", false)]
    [InlineData("\u2069", false)]
    [InlineData("\u206A", true)]
    [InlineData("\uFFFD", false)]
    [InlineData("\u001B", false)]
    [InlineData("\t", true)]
    [InlineData("\n", true)]
    [InlineData("\r", true)]
    public void Letters_that_disguise_or_cannot_be_read_are_refused(string letter, bool isTaken)
    {
        Assert.Equal(isTaken, RecordReader.Refuse(letter) is null);
        Assert.Equal(isTaken, RecordReader.Refuse("Quill" + letter + "Tor") is null);
    }

    [Fact]
    public void A_value_has_its_most_and_a_long_one_is_shown_by_its_beginning()
    {
        Assert.Null(RecordReader.Refuse(new('x', 1024)));
        Assert.NotNull(RecordReader.Refuse(new('x', 1025)));
        string? Shown(int letters) =>
            new RecordReader(Source, Northmere.Edition.Rulebook).Read(Texts("start_date", new('7', letters))).Fault?.Value;
        Assert.Equal(new string('7', 79), Shown(79));
        Assert.Equal(new string('7', 80), Shown(80));
        Assert.Equal(new string('7', 80) + "…", Shown(81));
        // At the very beginning of a value, too.
        var reading = new RecordReader(Source, Northmere.Edition.Rulebook, on: new(2026, 11, 27)).Read(Texts("job_title", "A\tB"));
        Assert.Equal(("job_title", "A\tB"), (reading.Fault?.Column, reading.Fault?.Value));
    }

    [Theory]
    [InlineData("department == \"Dive Team\"", false, null)]
    [InlineData("department == \"Research\"", true, null)]
    [InlineData("date(department) > start", false, "cannot be decided")]
    public void A_source_speaks_of_those_in_its_scope(string scope, bool isOutside, string? problem)
    {
        var reading = RulebookReader.Read(Northmere.With("sources/hr.yaml", "vanished: ask", $"vanished: ask\nscope: '{scope}'"));
        Assert.Empty(reading.Findings);
        var rulebook = reading.Rulebook!;
        var row = new RecordReader(rulebook.Sources["hr"], rulebook).Read(Texts("", ""));
        Assert.Equal((isOutside, problem is null), (row.Outside, row.Facts is not null));
        Assert.Equal(problem is not null, row.Fault?.Reason.Contains(problem ?? "-", StringComparison.Ordinal) == true);
    }

    [Theory]
    [InlineData(
        "P1,E1,Tor,,employee,2026-11-02,,E2,Dive Team,harbour,Diver,4200,t@post.example,+00\n",
        "family_name",
        "mandatory and empty"
    )]
    [InlineData(
        "P1,E1,Tor,Quill,employee,31.02.2026,,E2,Dive Team,harbour,Diver,4200,t@post.example,+00\n",
        "start_date",
        "'31.02.2026' is not a date"
    )]
    [InlineData(
        "P1,E1,Tor,Quill,employee,2026-11-02,2026-01-01,E2,Dive Team,harbour,Diver,4200,t@post.example,+00\n",
        "end_date",
        "lies before the start"
    )]
    [InlineData(
        "P1,E1,Tor,Quill,employee,2026-11-02,,E2,Dive Team,harbor,Diver,4200,t@post.example,+00\n",
        "site",
        "Did you mean 'harbour'?"
    )]
    [InlineData("P1,E1,To\u202Er,Quill,employee,2026-11-02,,E2,Dive Team,harbour,Diver,4200,t@post.example,+00\n", "given_name", "U+202E")]
    [InlineData("P1,E1,To\0r,Quill,employee,2026-11-02,,E2,Dive Team,harbour,Diver,4200,t@post.example,+00\n", "given_name", "U+0000")]
    [InlineData("P1,E1,Tor,Quill,employee,2026-11-02,,E2\n", "", "8 columns; the header has 14")]
    [InlineData("P1,E1,\"Tor,Quill,employee,2026-11-02,,E2,Dive Team,harbour,Diver,4200,t@post.example,+00\n", "", "never closed")]
    public void A_bad_row_is_set_aside_with_line_column_and_reason_and_the_rest_goes_on(string bad, string column, string reason)
    {
        var rows = Read(
            Header
                + Good.Replace("E1", "E0", StringComparison.Ordinal)
                + bad
                + (reason.Contains("closed", StringComparison.Ordinal) ? "" : Good.Replace("E1", "E9", StringComparison.Ordinal))
        );
        var fault = rows[1];
        Assert.Equal((3, column), (fault.Line, fault.Fault!.Column));
        Assert.Contains(reason, fault.Fault.Reason, StringComparison.Ordinal);
        Assert.All(rows.Where(r => r.Line != 3), r => Assert.Null(r.Fault));
        Assert.Equal("E0", rows[0].Key);
    }

    [Fact]
    public void Bytes_in_another_encoding_set_their_row_aside()
    {
        var rows = Read([
            .. Encoding.UTF8.GetBytes(Header + Good),
            .. Encoding.Latin1.GetBytes(
                Good.Replace("Tor", "Søren", StringComparison.Ordinal).Replace("E1", "E2", StringComparison.Ordinal)
            ),
            .. Encoding.UTF8.GetBytes(Good.Replace("E1", "E3", StringComparison.Ordinal)),
        ]);
        Assert.Equal(["given_name"], rows.Where(r => r.Fault is not null).Select(r => r.Fault!.Column));
        Assert.Equal(3, rows.Count);
    }

    [Fact]
    public void Quotes_commas_and_line_breaks_inside_a_value_are_kept()
    {
        var rows = Read(
            Header + "P1,E1,\"Tor \"\"T\"\"\",\"Quill, Jr\",employee,2026-11-02,,E2,Dive Team,harbour,\"Diver\nand guide\",4200,,\n" + Good
        );
        Assert.Equal("Tor \"T\" Quill, Jr", rows[0].Name);
        Assert.Equal(4, rows[1].Line);
    }

    [Fact]
    public void A_long_value_is_set_aside() =>
        Assert.Contains(
            "1024 are the most",
            Read(Header + Good.Replace("Tor", new string('x', 100_000), StringComparison.Ordinal))[0].Fault!.Reason,
            StringComparison.Ordinal
        );

    [Fact]
    public void A_missing_column_is_told_with_what_the_file_has() =>
        Assert.Contains(
            "The column 'phone' is missing.",
            Assert.Throws<SourceFault>(() => Read(Header.Replace(",phone", ",fone", StringComparison.Ordinal) + Good)).Message,
            StringComparison.Ordinal
        );

    [Fact]
    public void An_empty_file_is_told() =>
        Assert.Contains("empty", Assert.Throws<SourceFault>(() => Read("")).Message, StringComparison.Ordinal);

    [Fact]
    public void A_fingerprint_changes_with_the_row_and_with_nothing_else()
    {
        static UInt128 Print(string text)
        {
            UInt128 print = 0;
            DelimitedFile.Read(new MemoryStream(Encoding.UTF8.GetBytes(text)), Source, row => print = row.Fingerprint);
            return print;
        }

        Assert.Equal(Print(Header + Good), Print(Header + Good.Replace("E1", "E0", StringComparison.Ordinal) + Good));
        Assert.NotEqual(Print(Header + Good), Print(Header + Good.Replace("Diver", "diver", StringComparison.Ordinal)));
    }
}

public sealed class DelimitedTextTests
{
    private static string Told(string text) =>
        string.Join(" ", DelimitedText.Rows(text).Select(r => $"{r.Line}[{string.Join("|", r.Cells)}]{(r.Fault is null ? "" : "!")}"));

    [Theory]
    [InlineData("kind,person\njoiner,E1\n", "1[kind|person] 2[joiner|E1]")]
    [InlineData("\uFEFFkind;person\r\njoiner;E1", "1[kind|person] 2[joiner|E1]")]
    [InlineData("a,b\n\n1,2\n", "1[a|b] 3[1|2]")]
    [InlineData("a,b\n\"x,\"\"y\"\"\",z\n", "1[a|b] 2[x,\"y\"|z]")]
    [InlineData("a,b\n\"one\ntwo\",z\nlast,z\n", "1[a|b] 2[one\ntwo|z] 4[last|z]")]
    [InlineData("a,b\n1\n1,2,3\n", "1[a|b] 2[1] 3[1|2|3]")]
    [InlineData("a,b\n\"cut,z\n", "1[a|b] 2[cut,z\n]!")]
    [InlineData("", "")]
    public void Rows_are_those_of_rfc_4180(string text, string told) => Assert.Equal(told, Told(text));
}
