using System.CommandLine;
using Oikonom.Contracts;

namespace Oikonom.Cli;

/// <summary>What a target can give, and the rulebook does not know yet.</summary>
internal static class CatalogueCommands
{
    public static Command Read()
    {
        var name = new Argument<string>("target") { Description = "name of the target in the rulebook" };
        var write = new Option<string?>("--write") { Description = "write the rulebook's files of it into this folder of a rulebook" };
        var publish = new Option<bool>("--publish") { Description = "publish it as the next edition, or propose that" };
        var yes = new Option<bool>("--yes") { Description = "publish without asking" };
        return Commands.Make(
            "catalogue",
            "Reads what a target can give: groups, roles, licences. Exit code 1 when the rulebook does not know it so.",
            "oikonom targets catalogue directory --write rulebook",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var at = $"/api/v1/targets/{Uri.EscapeDataString(parsed.GetValue(name)!)}/catalogue";
                var (read, raw) = await service.PostAsync<TargetCatalogue>(at, new { }, cancel);
                if (parsed.GetValue(write) is { } folder)
                    await WriteAsync(read, folder, cancel);
                if (Commands.IsJson(parsed) && !parsed.GetValue(publish))
                    Show.Json(raw);
                else
                    Told(read);
                if (!read.Differs)
                    return Exit.Good;
                if (!parsed.GetValue(publish))
                    return Exit.Refused;
                Commands.Confirm(parsed.GetValue(yes), $"Publish what {read.Target} can give as the next edition?");
                var (published, made) = await service.PostAsync<Published>($"{at}/publish", new CataloguePublishing(read.Digest), cancel);
                return Commands.IsJson(parsed) ? Show.Json(made) : RulebookCommands.Tell(published);
            },
            name,
            write,
            publish,
            yes
        );
    }

    /// <summary>Puts the files in the place of those that were read before.</summary>
    private static async Task WriteAsync(TargetCatalogue read, string folder, CancellationToken cancel)
    {
        if (!File.Exists(Path.Combine(folder, "rulebook.yaml")))
            throw new CliFault(Exit.Usage, $"'{folder}' is no rulebook: it has no rulebook.yaml.");
        var into = Path.GetFullPath(Path.Combine(folder, "catalogue"));
        Directory.CreateDirectory(into);
        foreach (var file in read.Files)
            await IntakeCommands.SaveAsync(Path.Combine(into, Path.GetFileName(file.Path)), file.Text, cancel);
        var kept = read.Files.Select(f => Path.GetFileName(f.Path)).ToHashSet(StringComparer.Ordinal);
        foreach (var path in Directory.GetFiles(into, $"{read.Target}*.yaml").Where(p => !kept.Contains(Path.GetFileName(p))))
            if (Path.GetFileName(path)[read.Target.Length..^5].TrimStart('.').All(char.IsAsciiDigit))
                File.Delete(path);
    }

    private static void Told(TargetCatalogue read)
    {
        Show.Line(
            $"{read.Target} can give {read.Entries} things; beside edition {read.Edition}: {read.New.Count} new, {read.Changed.Count} "
                + $"changed, {read.Gone.Count} gone."
        );
        Part("New", read.New);
        Part("Changed", read.Changed);
        Part("Gone", read.Gone);
        if (read.UnknownOwners.Count > 0)
            Show.Line($"Nobody known has the number of these owners: {string.Join(", ", read.UnknownOwners)}.");
        if (!read.Differs)
            Show.Good("The rulebook knows it so.");
    }

    private static void Part(string title, CataloguePart part)
    {
        if (part.Count == 0)
            return;
        Show.Line("");
        Show.Table(
            [title, "Title", "Kind", "Owner", "Holders", "Before, or where it is used"],
            part.Items.Select(i =>
                (IReadOnlyList<string>)
                    [
                        i.Name,
                        i.Title,
                        i.Kind,
                        i.Owner is null ? "" : $"{i.OwnerName} ({i.Owner})",
                        i.Holders > 0 ? $"{i.Holders}" : "",
                        string.Join("; ", i.Before is null ? i.Uses : [i.Before, .. i.Uses]),
                    ]
            ),
            ""
        );
        if (part.Count > part.Items.Count)
            Show.Line($"… and {part.Count - part.Items.Count} more.");
    }
}
