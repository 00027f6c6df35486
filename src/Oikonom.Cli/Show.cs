using System.Globalization;
using System.Text.Json;
using Oikonom.Contracts;
using Spectre.Console;

namespace Oikonom.Cli;

/// <summary>Prints for people, or JSON for machines.</summary>
public static class Show
{
    private static readonly JsonSerializerOptions Indented = new()
    {
        WriteIndented = true,
        Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    };

    /// <summary>True when instants are told in UTC and not by the clock of this machine.</summary>
    public static bool IsUtc { get; set; }

    public static void Setup()
    {
        // What goes into a pipe is not broken into lines.
        if (Console.IsOutputRedirected)
            AnsiConsole.Profile.Width = 100_000;
    }

    public static int Json(JsonElement raw)
    {
        Console.Out.WriteLine(JsonSerializer.Serialize(raw, Indented));
        return Exit.Good;
    }

    public static void Table(IReadOnlyList<string> columns, IEnumerable<IReadOnlyList<string>> rows, string empty)
    {
        List<IReadOnlyList<string>> cells = [.. rows.Select(r => (IReadOnlyList<string>)[.. r.Select(Clean)])];
        if (cells.Count == 0)
        {
            Line(empty);
            return;
        }
        var lines = TextTable.Lay(columns, cells, Console.IsOutputRedirected ? null : AnsiConsole.Profile.Width);
        for (var i = 0; i < lines.Count; i++)
            if (i == 0)
                Title(lines[i]);
            else
                Line(lines[i]);
    }

    /// <summary>Text from data never reaches the terminal with control characters in it.</summary>
    public static string Clean(string text) => string.Concat(text.Select(c => char.IsControl(c) && c != '\n' ? '·' : c));

    public static void Line(string text = "") => AnsiConsole.WriteLine(Clean(text));

    public static void Title(string text) => AnsiConsole.Write(new Text(Clean(text) + "\n", new Style(decoration: Decoration.Bold)));

    public static void Good(string text) => AnsiConsole.Write(new Text(Clean(text) + "\n", new Style(Color.Green)));

    public static void Bad(string text) => AnsiConsole.Write(new Text(Clean(text) + "\n", new Style(Color.Red)));

    /// <summary>An instant by the clock of this machine, or in UTC and said to be so.</summary>
    public static string At(DateTimeOffset at) =>
        IsUtc
            ? at.UtcDateTime.ToString("yyyy-MM-dd HH:mm 'UTC'", CultureInfo.InvariantCulture)
            : at.ToLocalTime().ToString("yyyy-MM-dd HH:mm", CultureInfo.InvariantCulture);

    /// <summary>An instant that a rule about days made, as the day at its place; any other by the clock of this machine.</summary>
    /// <param name="isEnd">True for an end: then the last day before it.</param>
    public static string Moment(DateTimeOffset at, SitePlace? place, bool isEnd)
    {
        if (IsUtc || place is null || !TimeZoneInfo.TryFindSystemTimeZoneById(place.Zone, out var zone))
            return At(at);
        var there = TimeZoneInfo.ConvertTime(at, zone).DateTime;
        return there.TimeOfDay == TimeSpan.Zero
            ? $"{there.AddDays(isEnd ? -1 : 0).ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)}, {place.Title}"
            : At(at);
    }

    public static string Ago(DateTimeOffset since)
    {
        var span = TimeProvider.System.GetUtcNow() - since;
        return span.TotalMinutes < 1 ? "just now"
            : span.TotalHours < 1 ? $"{(int)span.TotalMinutes} min"
            : span.TotalDays < 1 ? $"{(int)span.TotalHours} h"
            : $"{(int)span.TotalDays} d";
    }
}
