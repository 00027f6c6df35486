using System.CommandLine;
using System.Globalization;
using Oikonom.Contracts;

namespace Oikonom.Cli;

internal static class RulebookCommands
{
    private const int MostShown = 40;

    public static IEnumerable<Command> All()
    {
        yield return Commands.Group(
            "rulebook",
            "The configuration, in numbered editions.",
            Check(),
            Rehearse(),
            Diff(),
            Publish(),
            Proposals(),
            Decide("approve"),
            Decide("decline"),
            List(),
            ShowOne(),
            Export(),
            Warnings()
        );
    }

    private static Argument<string> Folder() => new("folder") { Description = "folder of the rulebook" };

    private static string Text(int number) => number.ToString(CultureInfo.InvariantCulture);

    private static string Edition(string number) => $"/api/v1/rulebook/editions/{Uri.EscapeDataString(number)}";

    public static RulebookBody Files(string folder)
    {
        if (!Directory.Exists(folder))
            throw new CliFault(Exit.Usage, $"'{folder}' is no folder.");
        var files = Directory
            .GetFiles(folder, "*", SearchOption.AllDirectories)
            .Where(f => f.EndsWith(".yaml", StringComparison.Ordinal) || f.EndsWith(".yml", StringComparison.Ordinal))
            .Order(StringComparer.Ordinal)
            .Select(f => new RulebookFileBody(Path.GetRelativePath(folder, f).Replace('\\', '/'), File.ReadAllText(f)))
            .ToList();
        return files.Count > 0 ? new(files) : throw new CliFault(Exit.Usage, $"'{folder}' holds no .yaml file.");
    }

    private static Command Check()
    {
        var folder = Folder();
        var strict = new Option<bool>("--strict") { Description = "warnings count as findings" };
        return Commands.Make(
            "check",
            "Checks the rulebook in a folder; every finding and warning at once. Exit code 1 when there is a finding.",
            "oikonom rulebook check demo/northmere/rulebook",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (check, raw) = await service.PostAsync<RulebookCheck>(
                    "/api/v1/rulebook/check",
                    Files(parsed.GetValue(folder)!),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    Show.Json(raw);
                else
                {
                    foreach (var finding in check.Findings)
                        Show.Line(
                            $"{Path.Combine(parsed.GetValue(folder)!, finding.File)}:{finding.Line}:{finding.Column}: {finding.Message}"
                        );
                    Tell(parsed.GetValue(folder)!, check.Warnings);
                    var warnings =
                        check.Warnings.Count == 0 ? "" : $" {check.Warnings.Count} warning{(check.Warnings.Count == 1 ? "" : "s")}.";
                    if (check.Sound)
                        Show.Good($"Sound.{warnings} Digest {check.Digest}");
                    else
                        Show.Bad($"{check.Findings.Count} finding{(check.Findings.Count == 1 ? "" : "s")}.");
                }
                return check.Sound && !(parsed.GetValue(strict) && check.Warnings.Count > 0) ? Exit.Good : Exit.Refused;
            },
            folder,
            strict
        );
    }

    private static void Tell(string folder, IReadOnlyList<RulebookFinding> warnings)
    {
        foreach (var warning in warnings)
            Show.Line(
                $"{Path.Combine(folder, warning.File)}:{warning.Line}:{warning.Column}: warning {warning.Code}: "
                    + $"{warning.Message} {warning.Mend}"
            );
    }

    private static Command Rehearse()
    {
        var folder = Folder();
        var hr = new Option<string?>("--hr") { Description = "a file of HR records to rehearse with" };
        var source = new Option<string?>("--source") { Description = "the source whose mapping reads the file" };
        var export = new Option<string?>("--export") { Description = "write the whole list to a file" };
        return Commands.Make(
            "rehearse",
            "Tells what a draft would do to everybody. Nothing is touched, no name and no number is reserved.",
            "oikonom rulebook rehearse demo/northmere/rulebook --hr .demo/sources/people.csv",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var text =
                    parsed.GetValue(hr) is not { } path ? null
                    : File.Exists(path) ? await File.ReadAllTextAsync(path, cancel)
                    : throw new CliFault(Exit.Usage, $"'{path}' is no file.");
                var (r, raw) = await service.PostAsync<RehearsalView>(
                    "/api/v1/rulebook/rehearsals",
                    new RehearseBody(Files(parsed.GetValue(folder)!).Files, parsed.GetValue(source), text),
                    cancel
                );
                if (parsed.GetValue(export) is { } file)
                    await IntakeCommands.SaveAsync(
                        file,
                        await service.GetTextAsync($"/api/v1/rulebook/rehearsals/{r.Id}/people.csv", cancel),
                        cancel
                    );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Tell(r);
                Tell(parsed.GetValue(folder)!, r.Warnings);
                return Exit.Good;
            },
            folder,
            hr,
            source,
            export
        );
    }

    private static void Tell(RehearsalView r)
    {
        Show.Title($"Rehearsed against {r.Against}: {r.People} people in {r.Milliseconds} ms");
        Show.Line(
            $"{r.Unchanged} unchanged, {r.Changed} changed, {r.Failing} cannot be "
                + $"planned{(r.SetAside > 0 ? $", {r.SetAside} rows of the file would be set aside" : "")}. Nothing was "
                + "touched."
        );
        Tallies("Target", r.ByTarget);
        Tallies("Entitlement", r.ByEntitlement);
        Tallies("Template", r.ByTemplate);
        Tallies("Department", r.ByDepartment);
        if (r.OpenRequests.Count > 0)
            Show.Line($"Open requests that would be planned anew: {string.Join(", ", r.OpenRequests.Select(o => o.Number))}");
        if (r.Affected.Count > 0)
            Show.Table(
                ["Number", "Person", "Department", "Effects"],
                r.Affected.Take(MostShown)
                    .Select(a =>
                        (IReadOnlyList<string>)
                            [a.Number, a.Name, a.Department, a.Problem ?? string.Join("; ", a.Effects.Select(e => e.Text))]
                    ),
                ""
            );
        if (r.Changed + r.Failing > MostShown)
            Show.Line($"{r.Changed + r.Failing - MostShown} more; write them all to a file with --export.");
    }

    public static void Tallies(string name, IReadOnlyList<TallyView> tallies)
    {
        if (tallies.Count > 0)
            Show.Table(
                [name, "People", "Gained", "Lost", "Changed"],
                tallies.Select(t => (IReadOnlyList<string>)[t.Name, Text(t.People), Text(t.Gained), Text(t.Lost), Text(t.Changed)]),
                ""
            );
    }

    private static Command Diff()
    {
        var from = new Argument<string>("from") { Description = "an edition, or a folder" };
        var to = new Argument<string>("to") { Description = "an edition, the id of a proposal, or a folder; 'current' is the newest" };
        return Commands.Make(
            "diff",
            "Shows the difference between two editions, or between an edition and a folder.",
            "oikonom rulebook diff current demo/northmere/rulebook",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (left, right) = (parsed.GetValue(from)!, parsed.GetValue(to)!);
                if (Directory.Exists(left))
                    throw new CliFault(Exit.Usage, "The first is an edition; name the folder second.");
                var (diff, raw) = Directory.Exists(right)
                    ? await service.PostAsync<RulebookDiff>(
                        "/api/v1/rulebook/diff",
                        new DiffBody(
                            Files(right).Files,
                            left == "current" ? null
                                : int.TryParse(left, CultureInfo.InvariantCulture, out var n) ? n
                                : throw new CliFault(Exit.Usage, $"'{left}' is no edition.")
                        ),
                        cancel
                    )
                    : await service.GetAsync<RulebookDiff>(
                        $"/api/v1/rulebook/diff?from={Uri.EscapeDataString(left)}&to={Uri.EscapeDataString(right)}",
                        cancel
                    );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Title($"From {diff.From} to {diff.To}");
                if (diff.Files.Count == 0)
                    Show.Line("They are the same.");
                foreach (var file in diff.Files)
                {
                    Show.Title($"{file.Path}: {file.Change}, {file.Added} lines new, {file.Removed} gone");
                    foreach (var line in Near(file.Lines))
                    {
                        if (line.Op == "new")
                            Show.Good($"+ {line.Text}");
                        else if (line.Op == "gone")
                            Show.Bad($"- {line.Text}");
                        else
                            Show.Line($"  {line.Text}");
                    }
                }
                return Exit.Good;
            },
            from,
            to
        );
    }

    /// <summary>Changed lines with two lines around them.</summary>
    private static IEnumerable<DiffLine> Near(IReadOnlyList<DiffLine> lines) =>
        lines.Where(
            (_, i) =>
                Enumerable.Range(Math.Max(0, i - 2), Math.Min(lines.Count, i + 3) - Math.Max(0, i - 2)).Any(j => lines[j].Op != "same")
        );

    private static Command Publish()
    {
        var folder = Folder();
        var yes = new Option<bool>("--yes") { Description = "do not ask" };
        var dry = new Option<bool>("--dry-run") { Description = "check only" };
        return Commands.Make(
            "publish",
            "Publishes the rulebook in a folder as the next edition, or proposes it where a second person agrees first.",
            "oikonom rulebook publish demo/northmere/rulebook --yes",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var body = Files(parsed.GetValue(folder)!);
                if (parsed.GetValue(dry))
                {
                    var (check, _) = await service.PostAsync<RulebookCheck>("/api/v1/rulebook/check", body, cancel);
                    Show.Line(
                        check.Sound
                            ? $"Sound; it would be published. Digest {check.Digest}"
                            : $"{check.Findings.Count} finding(s); see 'oikonom rulebook check'."
                    );
                    return check.Sound ? Exit.Good : Exit.Refused;
                }
                Commands.Confirm(parsed.GetValue(yes), $"Publish {body.Files.Count} files as the next edition?");
                var (published, raw) = await service.PostAsync<Published>("/api/v1/rulebook/editions", body, cancel);
                return Commands.IsJson(parsed) ? Show.Json(raw) : Tell(published);
            },
            folder,
            yes,
            dry
        );
    }

    internal static int Tell(Published published)
    {
        if (published.Edition is { } edition)
            Show.Good($"Edition {edition.Number} is published. Digest {edition.Digest}");
        else if (published.Proposal is { State: "open" } proposal)
            Show.Line($"It waits for a second person: proposal {proposal.Id}. Digest {proposal.Digest}");
        else
            Show.Line($"The proposal is {published.Proposal?.State}.");
        if (published.Replanned.Count > 0)
            Show.Line($"Open requests planned anew: {string.Join(", ", published.Replanned.Select(r => r.Number))}");
        foreach (var target in published.NewTargets)
            Show.Line($"{target} is new: nothing begins in it until 'oikonom targets resume {target}' finds it good.");
        if (published.Rollout is { } rollout)
            Show.Line(
                $"Nobody is moved by it. Roll-out {rollout.Number}: {rollout.People} people differ, {rollout.Losing} of them would have "
                    + $"less, for {rollout.Same} nothing changes{RollOutCommands.Failing(rollout.Failing, rollout.Number)}"
                    + $"{(rollout.Held ? "; the brake holds it" : "")}. See 'oikonom rollouts show {rollout.Number}'."
            );
        return Exit.Good;
    }

    private static Command Proposals() =>
        Commands.Make(
            "proposals",
            "Lists editions that wait for a second person.",
            "oikonom rulebook proposals",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<ProposalView>>("/api/v1/rulebook/proposals", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Proposal", "By", "At", "Over edition", "Digest", "You may decide"],
                    page.Items.Select(p =>
                        (IReadOnlyList<string>)
                            [p.Id, p.Author, Show.At(p.At), p.Base > 0 ? Text(p.Base) : "", p.Digest[..12], p.MayDecide ? "yes" : "no"]
                    ),
                    "No edition waits."
                );
                if (page.Items.FirstOrDefault(p => p.MayDecide) is { } first)
                    Show.Line($"Look first: oikonom rulebook diff current {first.Id}; or export it and rehearse the folder.");
                return Exit.Good;
            }
        );

    private static Command Decide(string verb)
    {
        var id = new Argument<string>("proposal");
        var yes = new Option<bool>("--yes") { Description = "do not ask" };
        var remark = new Option<string?>("--remark") { Description = "a word with it; a decline needs one" };
        return Commands.Make(
            verb,
            verb == "approve" ? "Agrees to a proposed edition of somebody else; it is published." : "Declines a proposed edition.",
            $"oikonom rulebook {verb} 01a2… --yes",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                Commands.Confirm(parsed.GetValue(yes), $"{char.ToUpperInvariant(verb[0])}{verb[1..]} this edition?");
                var (published, raw) = await service.PostAsync<Published>(
                    $"/api/v1/rulebook/proposals/{Uri.EscapeDataString(parsed.GetValue(id)!)}/{verb}",
                    new ProposalBody(parsed.GetValue(remark)),
                    cancel
                );
                return Commands.IsJson(parsed) ? Show.Json(raw) : Tell(published);
            },
            id,
            yes,
            remark
        );
    }

    private static Command List() =>
        Commands.Make(
            "list",
            "Lists the editions, newest first.",
            "oikonom rulebook list",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<EditionSummary>>("/api/v1/rulebook/editions", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Edition", "By", "Agreed by", "At", "Digest"],
                    page.Items.Select(e =>
                        (IReadOnlyList<string>)[Text(e.Number), e.Author, e.Approver, Show.At(e.PublishedAt), e.Digest[..12]]
                    ),
                    "No edition is published."
                );
                return Exit.Good;
            }
        );

    private static Command ShowOne()
    {
        var number = new Argument<string>("edition") { Description = "a number, or 'current'", DefaultValueFactory = _ => "current" };
        return Commands.Make(
            "show",
            "Shows an edition.",
            "oikonom rulebook show",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (edition, raw) = await service.GetAsync<EditionDetail>(Edition(parsed.GetValue(number)!), cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Title($"{edition.Title}, edition {edition.Number}");
                Show.Line(
                    $"published by {edition.Author}{(edition.Approver.Length > 0 ? $", agreed by {edition.Approver}," : "")} on "
                        + $"{Show.At(edition.PublishedAt)}, digest {edition.Digest}"
                );
                Show.Line($"sources:     {string.Join(", ", edition.Sources)}");
                Show.Line($"targets:     {string.Join(", ", edition.Targets)}");
                Show.Line($"templates:   {string.Join(", ", edition.Templates)}");
                Show.Line($"workflows:   {string.Join(", ", edition.Workflows)}");
                if (edition.Pools is { Count: > 0 } pools)
                    Show.Line($"pools:       {string.Join(", ", pools)}");
                if (edition.Separations is { Count: > 0 } separations)
                    Show.Line($"separations: {string.Join(", ", separations)}");
                Show.Line($"files:       {string.Join(", ", edition.Files.Select(f => f.Path))}");
                return Exit.Good;
            },
            number
        );
    }

    private static Command Export()
    {
        var number = new Argument<string>("edition") { Description = "a number, 'current', or the id of a proposal" };
        var folder = new Argument<string>("folder") { Description = "a new or empty folder" };
        return Commands.Make(
            "export",
            "Writes the files of an edition, or of a proposed one, to a folder.",
            "oikonom rulebook export current rulebook-copy",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var root = Path.GetFullPath(parsed.GetValue(folder)!);
                if (Directory.Exists(root) && Directory.EnumerateFileSystemEntries(root).Any())
                    throw new CliFault(Exit.Usage, $"'{parsed.GetValue(folder)}' is not empty.");
                var of = parsed.GetValue(number)!;
                var (files, name) = await FilesOfAsync(service, of, cancel);
                foreach (var file in files)
                {
                    var path = Path.GetFullPath(Path.Combine(root, file.Path));
                    if (!path.StartsWith(root + Path.DirectorySeparatorChar, StringComparison.Ordinal))
                        throw new CliFault(Exit.Refused, $"The file '{file.Path}' would lie outside the folder; nothing more was written.");
                    Directory.CreateDirectory(Path.GetDirectoryName(path)!);
                    await IntakeCommands.SaveAsync(path, file.Text, cancel);
                }
                Show.Line($"{files.Count} files of {name} are in {parsed.GetValue(folder)}.");
                return Exit.Good;
            },
            number,
            folder
        );
    }

    private static async Task<(IReadOnlyList<RulebookFileBody> Files, string Name)> FilesOfAsync(
        Service service,
        string of,
        CancellationToken cancel
    )
    {
        if (Guid.TryParse(of, out _))
        {
            var (proposed, _) = await service.GetAsync<ProposalDetail>($"/api/v1/rulebook/proposals/{of}", cancel);
            return (proposed.Files, $"the proposal of {proposed.Proposal.Author}");
        }
        var (edition, _) = await service.GetAsync<EditionDetail>(Edition(of), cancel);
        return (edition.Files, $"edition {edition.Number}");
    }

    private static Command Warnings() =>
        Commands.Make(
            "warnings",
            "Lists the catalogue of warnings: code, reason and mend.",
            "oikonom rulebook warnings",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<WarningView>>("/api/v1/rulebook/warnings", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Code", "Title", "Why it matters", "How to mend it"],
                    page.Items.Select(w => (IReadOnlyList<string>)[w.Code, w.Title, w.Reason, w.Mend]),
                    ""
                );
                return Exit.Good;
            }
        );

    public static Command Explain()
    {
        var person = new Argument<string>("person") { Description = "employee number or id" };
        var of = new Argument<string?>("of")
        {
            Description = "an account (TARGET) or entitlement (TARGET/ENTITLEMENT); all of them without it",
            DefaultValueFactory = _ => null,
        };
        return Commands.Make(
            "explain",
            "Says why a person has, or has not, an account or entitlement: the rule, its conditions and the values.",
            "oikonom explain E1002 directory/dive-team",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var query = parsed.GetValue(of) is { } key ? $"?of={Uri.EscapeDataString(key)}" : "";
                var (told, raw) = await service.GetAsync<PersonExplanation>(
                    $"/api/v1/people/{Uri.EscapeDataString(parsed.GetValue(person)!)}/explain{query}",
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Title(
                    $"{told.Person} ({told.Number}), edition {told.Edition}"
                        + $"{(told.Newest == told.Edition ? "" : $" (the newest is {told.Newest})")}, {Show.At(told.At)}"
                );
                if (parsed.GetValue(of) is null)
                {
                    Show.Table(
                        ["What", "By the rules", "Held", "Why"],
                        told.Explanations.Select(e =>
                            (IReadOnlyList<string>)
                                [
                                    e.Key,
                                    e.Wanted ? "yes" : "no",
                                    e.Held ? "yes" : "no",
                                    e.Elsewhere is { } x ? $"{e.Summary} {x}." : e.Summary,
                                ]
                        ),
                        ""
                    );
                    return Exit.Good;
                }
                foreach (var one in told.Explanations)
                    Tell(one);
                return Exit.Good;
            },
            person,
            of
        );
    }

    /// <summary>What the rules say of one thing, condition by condition.</summary>
    private static void Tell(ExplanationView one)
    {
        Show.Line($"{one.Title} ({one.Key}): by the rules {(one.Wanted ? "yes" : "no")}; held now {(one.Held ? "yes" : "no")}");
        if (one.Wanted)
            Show.Good(one.Summary);
        else
            Show.Bad(one.Summary);
        if (one.Elsewhere is { } elsewhere)
            Show.Line($"{elsewhere}.");
        foreach (var rule in one.Rules)
        {
            Show.Line(
                $"  {rule.Template} ({rule.Place}){(rule.Employment.Length > 0 ? $", employment {rule.Employment}" : "")}: "
                    + $"{(rule.Applies ? "gives it" : "does not give it")}"
            );
            foreach (var condition in rule.Conditions)
            {
                var seen = string.Join(", ", condition.Values.Select(v => $"{v.Name} = \"{v.Value}\""));
                Show.Line($"    {(condition.Holds ? "yes" : "NO ")} {condition.Text}{(seen.Length > 0 ? $"   [{seen}]" : "")}");
            }
        }
    }
}
