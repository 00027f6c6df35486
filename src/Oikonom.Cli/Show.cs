using System.Globalization;
using System.Text.Json;
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

    public static void Setup()
    {
        if (Console.IsOutputRedirected)
            AnsiConsole.Profile.Width = 220;
    }

    public static int Json(JsonElement raw)
    {
        Console.Out.WriteLine(JsonSerializer.Serialize(raw, Indented));
        return Exit.Good;
    }

    public static void Table(IReadOnlyList<string> columns, IEnumerable<IReadOnlyList<string>> rows, string empty)
    {
        var table = new Table { Border = TableBorder.Simple, ShowHeaders = true };
        foreach (var column in columns)
            table.AddColumn(
                new TableColumn(new Text(column, new Style(decoration: Decoration.Bold)))
                {
                    NoWrap = column is "No." or "Since" or "Number" or "State" or "Kind",
                }
            );
        var count = 0;
        foreach (var row in rows)
        {
            table.AddRow(row.Select(cell => (Spectre.Console.Rendering.IRenderable)new Text(Clean(cell))));
            count++;
        }
        if (count == 0)
            Line(empty);
        else
            AnsiConsole.Write(table);
    }

    /// <summary>Text from data never reaches the terminal with control characters in it.</summary>
    public static string Clean(string text) => string.Concat(text.Select(c => char.IsControl(c) && c != '\n' ? '·' : c));

    public static void Line(string text = "") => AnsiConsole.WriteLine(Clean(text));

    public static void Title(string text) => AnsiConsole.Write(new Text(Clean(text) + "\n", new Style(decoration: Decoration.Bold)));

    public static void Good(string text) => AnsiConsole.Write(new Text(Clean(text) + "\n", new Style(Color.Green)));

    public static void Bad(string text) => AnsiConsole.Write(new Text(Clean(text) + "\n", new Style(Color.Red)));

    public static string At(DateTimeOffset at) => at.UtcDateTime.ToString("yyyy-MM-dd HH:mm", CultureInfo.InvariantCulture);

    public static string Ago(DateTimeOffset since)
    {
        var span = TimeProvider.System.GetUtcNow() - since;
        return span.TotalMinutes < 1 ? "just now"
            : span.TotalHours < 1 ? $"{(int)span.TotalMinutes} min"
            : span.TotalDays < 1 ? $"{(int)span.TotalHours} h"
            : $"{(int)span.TotalDays} d";
    }
}
