using Oikonom.Contracts;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Common;

namespace Oikonom.Service.Editions;

/// <summary>The files of a rulebook as they come in, and what is found in them.</summary>
public static class RulebookFiles
{
    private const int MaxFiles = 500;

    public static List<RulebookFile> Of(RulebookBody body)
    {
        if (body.Files is not { Count: > 0 and <= MaxFiles })
            throw Problem.Invalid($"A rulebook has from 1 to {MaxFiles} files.", "files");
        if (
            body.Files.Any(f =>
                f?.Path is not { Length: > 0 and <= 300 }
                || f.Text is null
                || f.Path.Contains("..", StringComparison.Ordinal)
                || f.Path.StartsWith('/')
                || f.Path.Contains('\\', StringComparison.Ordinal)
            )
        )
            throw Problem.Invalid("Each file has a path inside the rulebook and a text.", "files");
        if (body.Files.GroupBy(f => f.Path).FirstOrDefault(g => g.Count() > 1) is { } twice)
            throw Problem.Invalid($"The path '{twice.Key}' is given twice.", "files");
        return [.. body.Files.Select(f => new RulebookFile(f.Path, f.Text))];
    }

    public static RulebookFinding View(Finding finding) =>
        new(
            finding.Place.File,
            finding.Place.Line,
            finding.Place.Column,
            finding.Message,
            finding.Code,
            finding.IsWarning ? Warnings.MendOf(finding.Code) : ""
        );

    public static Problem Unsound(RulebookReading reading)
    {
        var first = reading.Findings[0];
        return new(
            422,
            "rulebook-unsound",
            "The rulebook is not sound",
            $"Nothing was done. {reading.Findings.Count} finding(s); the first: {first.Place}: {first.Message}",
            ("findings", reading.Findings.Select(View).ToList())
        );
    }
}
