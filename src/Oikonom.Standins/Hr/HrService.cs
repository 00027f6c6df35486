using System.Globalization;
using System.Text.RegularExpressions;
using nietras.SeparatedValues;

namespace Oikonom.Standins.Hr;

/// <summary>
/// The HR system of Northmere: holds its files, shows their records, and exports one of them to the folder that
/// Oikonom reads. A date in its files may be written as <c>day+4</c> or <c>day-3</c>: so many days from the first day of
/// the demo, so that who joins next week does so whenever the demo is started.
/// </summary>
public sealed partial class HrService(string files, string exportFolder, DateOnly firstDay)
{
    public const string ExportName = "people.csv";

    /// <summary>Writes the export beside its place and moves it there, so that nobody reads half a file.</summary>
    public bool Export(string name)
    {
        var path = Path.Combine(files, Path.GetFileName(name) + ".csv");
        if (!File.Exists(path))
            return false;
        System.IO.Directory.CreateDirectory(exportFolder);
        var target = Path.Combine(exportFolder, ExportName);
        File.WriteAllText(target + ".new", Dated(File.ReadAllText(path), firstDay));
        File.Move(target + ".new", target, overwrite: true);
        return true;
    }

    /// <summary>The text of an HR file with its relative days as dates (ISO 8601).</summary>
    public static string Dated(string text, DateOnly firstDay) =>
        RelativeDay()
            .Replace(
                text,
                m =>
                    firstDay
                        .AddDays(int.Parse(m.ValueSpan[3..], NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture))
                        .ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)
            );

    [GeneratedRegex(@"(?<=,)day[+-]\d{1,5}(?=,)", RegexOptions.CultureInvariant)]
    private static partial Regex RelativeDay();

    public static List<Dictionary<string, string>> Read(string path)
    {
        using var reader = Sep.New(',').Reader(o => o with { Unescape = true }).FromFile(path);
        var names = reader.Header.ColNames;
        var rows = new List<Dictionary<string, string>>();
        foreach (var row in reader)
        {
            var record = new Dictionary<string, string>();
            foreach (var name in names)
                record[name] = row[name].ToString();
            rows.Add(record);
        }
        return rows;
    }

    public void Map(WebApplication app)
    {
        app.MapGet(
            "/files",
            () => System.IO.Directory.GetFiles(files, "*.csv").Select(Path.GetFileNameWithoutExtension).Order(StringComparer.Ordinal)
        );
        app.MapGet(
            "/records",
            (int? page, int? size) =>
            {
                var path = Path.Combine(exportFolder, ExportName);
                var rows = File.Exists(path) ? Read(path) : [];
                var (take, at) = (Math.Clamp(size ?? 100, 1, 1000), Math.Max(page ?? 1, 1));
                return Results.Ok(
                    new { total = rows.Count.ToString(CultureInfo.InvariantCulture), records = rows.Skip((at - 1) * take).Take(take) }
                );
            }
        );
        app.MapPost(
            "/exports/{name}",
            (string name) => Export(name) ? Results.NoContent() : Results.NotFound(new { detail = $"HR has no file '{name}'; see /files." })
        );
    }
}
