using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using Oikonom.Contracts;

namespace Oikonom.Cli;

internal static class IntakeCommands
{
    public static IEnumerable<Command> All()
    {
        yield return Commands.Group(
            "intake",
            "HR records: from a source to requests.",
            [Run(), Sources(), Source(), Test(), Preview(), Switch(), Runs(), .. IntakeRecordCommands.All(), .. IntakePushCommands.All()]
        );
    }

    internal static Argument<string> Name() => new("source") { Description = "name of the source in the rulebook" };

    internal static string At(string source, string rest) => $"/api/v1/sources/{Uri.EscapeDataString(source)}{rest}";

    internal static string Text(int number) => number.ToString(CultureInfo.InvariantCulture);

    private static Command Run()
    {
        var source = Name();
        var dry = new Option<bool>("--dry-run") { Description = "tell what would happen, change nothing" };
        var baseline = new Option<bool>("--baseline")
        {
            Description = "these people are known: raise nothing, record the accounts they have",
        };
        var changes = new Option<bool>("--changes") { Description = "only what changed since the last run, where the source can tell" };
        var person = new Option<string?>("--person") { Description = "only the record that holds this key or number" };
        return Commands.Make(
            "run",
            "Reads a source now and raises what follows. Exit code 1 when the run is held by the brake.",
            "oikonom intake run hr --dry-run",
            async (parsed, cancel) =>
            {
                if (parsed.GetValue(baseline) && parsed.GetValue(changes))
                    throw new CliFault(Exit.Usage, "Say --baseline or --changes, not both.");
                using var service = new Service();
                var mode =
                    parsed.GetValue(baseline) ? "baseline"
                    : parsed.GetValue(changes) ? "changes"
                    : "full";
                var (run, raw) = await service.PostAsync<IntakeRun>(
                    At(parsed.GetValue(source)!, "/runs"),
                    new IntakeBody(mode, parsed.GetValue(dry), parsed.GetValue(person)),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    Show.Json(raw);
                else
                    Tell(run);
                return run.Outcome == "held" ? Exit.Refused : Exit.Good;
            },
            source,
            dry,
            baseline,
            changes,
            person
        );
    }

    internal static void Tell(IntakeRun run)
    {
        Show.Title(
            run.DryRun ? $"Dry run of {run.Source}: nothing was changed"
            : run.Outcome == "held" ? $"The run of {run.Source} waits under the brake"
            : $"Run of {run.Source}"
        );
        Show.Line(run.Message);
        if (run.SetAside.Count > 0)
            Show.Table(
                ["Line", "Column", "Value", "Reason"],
                run.SetAside.Select(a => (IReadOnlyList<string>)[Text(a.Line), a.Column, a.Value, a.Reason]),
                ""
            );
        if (run.DryRun)
            foreach (var request in run.Requests)
                Tell(request);
        else if (run.Requests.Count > 0)
            Show.Table(
                ["Request", "What happened", "Person", "Number"],
                run.Requests.Select(r => (IReadOnlyList<string>)[r.Kind, r.What, r.Person, r.Number]),
                ""
            );
        if (run.Outcome == "held")
            Show.Line(
                $"Look at it with 'oikonom intake held {run.Id}', then 'oikonom intake pass {run.Id}' or 'oikonom intake drop {run.Id}'."
            );
    }

    /// <summary>What a dry run says of one record: what happened, and each attribute from what to what.</summary>
    private static void Tell(RaisedRequest request)
    {
        Show.Line($"{request.Kind} {request.Number}: {request.Text}");
        foreach (var change in request.Changes ?? [])
            Show.Line($"    {EffectText.Of(change)}");
    }

    private static Command Sources() =>
        Commands.Make(
            "sources",
            "Lists the sources: state, last run, what is set aside, vanished or held.",
            "oikonom intake sources",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<SourceSummary>>("/api/v1/sources", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Source", "Title", "Kind", "State", "Last run", "Result", "Set aside", "Vanished", "Next run"],
                    page.Items.Select(s =>
                        (IReadOnlyList<string>)
                            [
                                s.Name,
                                s.Title,
                                s.Kind,
                                s.State,
                                s.LastRun is null ? "never" : Show.At(s.LastRun.StartedAt),
                                s.LastRun?.Message ?? "",
                                Text(s.SetAside),
                                Text(s.Vanished),
                                s.NextRun is { } next ? Show.At(next)
                                : s.Schedule is null ? "when asked"
                                : "off",
                            ]
                    ),
                    "The rulebook has no source."
                );
                return Exit.Good;
            }
        );

    private static Command Source()
    {
        var name = Name();
        return Commands.Make(
            "show",
            "Shows a source: mapping, scope, brake, and what is known of its records.",
            "oikonom intake show hr",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (source, raw) = await service.GetAsync<SourceDetail>(At(parsed.GetValue(name)!, ""), cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Title($"{source.Summary.Title} ({source.Summary.Name}), {source.Summary.Kind}, {source.Summary.State}");
                Show.Line($"reads {source.Summary.Path}; key {source.Key}; scope: {source.Scope ?? "everybody"}");
                Show.Line(
                    $"brake: {source.Brake ?? "none"}{(source.BrakePasses is null ? "" : $", let pass by {source.BrakePasses}")}; "
                        + $"a record that vanishes: {source.Vanishing}"
                );
                var counts = source.TestCounts ? "" : " (test again before switching on)";
                Show.Line($"test: {(source.TestedAt is { } at ? $"{Show.At(at)}: {source.TestOutcome}{counts}" : "never")}");
                Show.Line($"records: {string.Join(", ", source.Records.Select(r => $"{r.Value} {r.Key}"))}");
                Show.Table(["Attribute", "Made of"], source.Mapping.Select(m => (IReadOnlyList<string>)[m.Name, m.Value]), "");
                if (source.WriteBack.Count > 0)
                    Show.Table(["Written back", "Made of"], source.WriteBack.Select(m => (IReadOnlyList<string>)[m.Name, m.Value]), "");
                return Exit.Good;
            },
            name
        );
    }

    private static Command Test()
    {
        var name = Name();
        return Commands.Make(
            "test",
            "Reads the first records of a source and maps them. Exit code 1 when that is not good.",
            "oikonom intake test hr",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (test, raw) = await service.PostAsync<SourceTest>(At(parsed.GetValue(name)!, "/test"), null, cancel);
                if (Commands.IsJson(parsed))
                    Show.Json(raw);
                else if (test.Good)
                    Show.Good(test.Message);
                else
                    Show.Bad(test.Message);
                return test.Good ? Exit.Good : Exit.Refused;
            },
            name
        );
    }

    private static Command Preview()
    {
        var name = Name();
        var limit = new Option<int>("--limit") { Description = "how many records", DefaultValueFactory = _ => 5 };
        var draft = new Option<string?>("--draft")
        {
            Description = "folder of a rulebook whose mapping is used instead of the published one",
        };
        return Commands.Make(
            "preview",
            "Shows real records and what the mapping makes of them; nothing is kept.",
            "oikonom intake preview hr --limit 3",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var files = parsed.GetValue(draft) is { } folder ? RulebookCommands.Files(folder).Files : null;
                var (test, raw) = await service.PostAsync<SourceTest>(
                    At(parsed.GetValue(name)!, "/preview"),
                    new PreviewBody(parsed.GetValue(limit), files),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                foreach (var row in test.Rows)
                {
                    Show.Title($"Record at line {row.Line}{(row.Outside ? ": outside the scope" : "")}");
                    if (row.Problem is { } problem)
                        Show.Bad($"{(problem.Column.Length > 0 ? $"{problem.Column} '{problem.Value}': " : "")}{problem.Reason}");
                    Show.Table(["Attribute", "Value"], row.Attributes.Select(a => (IReadOnlyList<string>)[a.Name, a.Value]), "");
                }
                Show.Line(test.Message);
                return Exit.Good;
            },
            name,
            limit,
            draft
        );
    }

    private static Command Switch()
    {
        var name = Name();
        var state = new Argument<string>("state") { Description = "on or off" };
        state.AcceptOnlyFromAmong("on", "off");
        return Commands.Make(
            "switch",
            "Switches a source on, so that it runs by its schedule or takes what is pushed, or off.",
            "oikonom intake switch hr on",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (source, raw) = await service.PostAsync<SourceDetail>(
                    At(parsed.GetValue(name)!, "/switch"),
                    new SwitchBody(parsed.GetValue(state) == "on"),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line(
                    $"{source.Summary.Name} is "
                        + $"{source.Summary.State}{(source.Summary.NextRun is { } next ? $"; it runs next at {Show.At(next)}" : "")}."
                );
                return Exit.Good;
            },
            name,
            state
        );
    }

    private static Command Runs()
    {
        var name = Name();
        return Commands.Make(
            "runs",
            "Lists the last runs of a source.",
            "oikonom intake runs hr",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<IntakeRun>>(At(parsed.GetValue(name)!, "/runs"), cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["At", "Mode", "By", "Outcome", "Result"],
                    page.Items.Select(r => (IReadOnlyList<string>)[Show.At(r.StartedAt), r.Mode, r.Actor, r.Outcome, r.Message]),
                    "It has never run."
                );
                return Exit.Good;
            },
            name
        );
    }

    public static async Task SaveAsync(string path, string text, CancellationToken cancel)
    {
        try
        {
            await File.WriteAllTextAsync(path, text, cancel);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new CliFault(Exit.Usage, $"'{path}' cannot be written: {error.Message}");
        }
    }
}
