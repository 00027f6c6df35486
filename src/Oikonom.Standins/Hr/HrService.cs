using System.Globalization;
using nietras.SeparatedValues;

namespace Oikonom.Standins.Hr;

/// <summary>
/// The HR system of Northmere: holds its files, shows their records, and exports one of them to the folder that
/// Oikonom reads.
/// </summary>
public sealed class HrService(string files, string exportFolder)
{
    public const string ExportName = "people.csv";

    /// <summary>Writes the export beside its place and moves it there, so that nobody reads half a file.</summary>
    public bool Export(string name)
    {
        var path = Path.Combine(files, Path.GetFileName(name) + ".csv");
        if (!File.Exists(path)) return false;
        System.IO.Directory.CreateDirectory(exportFolder);
        var target = Path.Combine(exportFolder, ExportName);
        File.Copy(path, target + ".new", overwrite: true);
        File.Move(target + ".new", target, overwrite: true);
        return true;
    }

    public static List<Dictionary<string, string>> Read(string path)
    {
        using var reader = Sep.New(',').Reader(o => o with { Unescape = true }).FromFile(path);
        var names = reader.Header.ColNames;
        var rows = new List<Dictionary<string, string>>();
        foreach (var row in reader)
        {
            var record = new Dictionary<string, string>();
            foreach (var name in names) record[name] = row[name].ToString();
            rows.Add(record);
        }
        return rows;
    }

    public void Map(WebApplication app)
    {
        app.MapGet("/files", () => System.IO.Directory.GetFiles(files, "*.csv").Select(Path.GetFileNameWithoutExtension).Order(StringComparer.Ordinal));
        app.MapGet("/records", (int? page, int? size) =>
        {
            var path = Path.Combine(exportFolder, ExportName);
            var rows = File.Exists(path) ? Read(path) : [];
            var (take, at) = (Math.Clamp(size ?? 100, 1, 1000), Math.Max(page ?? 1, 1));
            return Results.Ok(new { total = rows.Count.ToString(CultureInfo.InvariantCulture), records = rows.Skip((at - 1) * take).Take(take) });
        });
        app.MapPost("/exports/{name}", (string name) => Export(name) ? Results.NoContent() : Results.NotFound(new { detail = $"HR has no file '{name}'; see /files." }));
    }
}
