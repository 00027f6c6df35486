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
            Run(),
            Sources(),
            Source(),
            Test(),
            Preview(),
            Switch(),
            Runs(),
            Aside(),
            Records(),
            Vanished(),
            Held(),
            Decide("pass"),
            Decide("drop"),
            Post(),
            WriteBacks(),
            Token(),
            Tokens(),
            EndToken()
        );
    }

    private static Argument<string> Name() => new("source") { Description = "name of the source in the rulebook" };

    private static string At(string source, string rest) => $"/api/v1/sources/{Uri.EscapeDataString(source)}{rest}";

    private static string Text(int number) => number.ToString(CultureInfo.InvariantCulture);

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

    private static void Tell(IntakeRun run)
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

    private static Command Aside()
    {
        var source = Name();
        var export = new Option<string?>("--export") { Description = "write them to a file for HR" };
        return Commands.Make(
            "set-aside",
            "Lists the rows that are set aside, with the reason.",
            "oikonom intake set-aside hr --export back-to-hr.csv",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                if (parsed.GetValue(export) is { } path)
                {
                    await SaveAsync(path, await service.GetTextAsync(At(parsed.GetValue(source)!, "/set-aside.csv"), cancel), cancel);
                    Show.Line($"Written to {path}.");
                    return Exit.Good;
                }
                var (page, raw) = await service.GetAsync<Page<SetAside>>(At(parsed.GetValue(source)!, "/set-aside"), cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["File", "Line", "Column", "Value", "Reason"],
                    page.Items.Select(a => (IReadOnlyList<string>)[a.File, Text(a.Line), a.Column, a.Value, a.Reason]),
                    "Nothing is set aside."
                );
                return Exit.Good;
            },
            source,
            export
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

    private static Command Records()
    {
        var source = Name();
        var status = new Option<string?>("--status") { Description = "received, request, outside, vanished, kept or gone" };
        var key = new Option<string?>("--key") { Description = "one record" };
        return Commands.Make(
            "records",
            "Says what became of each record received.",
            "oikonom intake records hr --key E1002",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var query =
                    "/records?limit=100"
                    + (parsed.GetValue(status) is { } s ? $"&status={Uri.EscapeDataString(s)}" : "")
                    + (parsed.GetValue(key) is { } k ? $"&key={Uri.EscapeDataString(k)}" : "");
                var (page, raw) = await service.GetAsync<Page<RecordView>>(At(parsed.GetValue(source)!, query), cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                TellRecords(page.Items, "No record is like that.");
                if (page.Next is not null)
                    Show.Line("There are more; narrow the filter, or use --output json with the API.");
                return Exit.Good;
            },
            source,
            status,
            key
        );
    }

    private static void TellRecords(IEnumerable<RecordView> records, string empty) =>
        Show.Table(
            ["Key", "Status", "Person", "From", "Until", "Request"],
            records.Select(r =>
            {
                var facts = r.Attributes.ToDictionary(a => a.Name, a => a.Value);
                return (IReadOnlyList<string>)
                    [
                        r.Key,
                        r.Status,
                        $"{facts.GetValueOrDefault("given")} {facts.GetValueOrDefault("family")}".Trim(),
                        facts.GetValueOrDefault("start", ""),
                        facts.GetValueOrDefault("end", ""),
                        r.RequestId ?? "",
                    ];
            }),
            empty
        );

    private static Command Vanished()
    {
        var source = Name();
        var key = new Argument<string?>("key")
        {
            Description = "the record to decide about; without it they are listed",
            DefaultValueFactory = _ => null,
        };
        var leaves = new Option<bool>("--leaves") { Description = "the person leaves: raises a leaver request" };
        var stays = new Option<bool>("--stays") { Description = "the person stays: nothing is raised" };
        var day = new Option<string?>("--last-day") { Description = "the last day, such as 2026-12-31; today if not given" };
        return Commands.Make(
            "vanished",
            "Lists records that the last full delivery held no more, or decides about one.",
            "oikonom intake vanished hr E1044 --leaves --last-day 2026-12-31",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var name = parsed.GetValue(source)!;
                if (parsed.GetValue(key) is not { } record)
                {
                    var (page, list) = await service.GetAsync<Page<RecordView>>(At(name, "/vanished"), cancel);
                    if (Commands.IsJson(parsed))
                        return Show.Json(list);
                    TellRecords(page.Items, "No record has vanished.");
                    return Exit.Good;
                }
                if (parsed.GetValue(leaves) == parsed.GetValue(stays))
                    throw new CliFault(Exit.Usage, "Say --leaves or --stays.");
                DateOnly? last =
                    parsed.GetValue(day) is not { } text ? null
                    : DateOnly.TryParseExact(text, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out var given) ? given
                    : throw new CliFault(Exit.Usage, $"'{text}' is no day such as 2026-12-31.");
                var (after, raw) = await service.PostAsync<RecordView>(
                    At(name, $"/vanished/{Uri.EscapeDataString(record)}"),
                    new VanishedBody(parsed.GetValue(leaves) ? "leaves" : "stays", last),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line(
                    after.RequestId is { } request && parsed.GetValue(leaves)
                        ? $"A leaver request was raised: {request}"
                        : $"The record is {after.Status}."
                );
                return Exit.Good;
            },
            source,
            key,
            leaves,
            stays,
            day
        );
    }

    private static Command Held()
    {
        var run = new Argument<string>("run") { Description = "id of the run" };
        return Commands.Make(
            "held",
            "Shows a run under the brake, with all it would raise.",
            "oikonom intake held 01a2…",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (held, raw) = await service.GetAsync<HeldRun>(
                    $"/api/v1/held-runs/{Uri.EscapeDataString(parsed.GetValue(run)!)}",
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Title($"Run of {held.Source} at {Show.At(held.At)} by {held.Actor}: {held.State}");
                Show.Line(held.Why);
                Show.Table(
                    ["Request", "What happened", "Person", "Number"],
                    held.Requests.Select(r => (IReadOnlyList<string>)[r.Kind, r.What, r.Person, r.Number]),
                    "It would raise nothing."
                );
                Show.Line(held.MayDecide ? "You may let it pass or drop it." : $"This decision belongs to {held.Passes}.");
                return Exit.Good;
            },
            run
        );
    }

    private static Command Decide(string verb)
    {
        var run = new Argument<string>("run") { Description = "id of the run" };
        var yes = new Option<bool>("--yes") { Description = "do not ask" };
        var description =
            verb == "pass"
                ? "Lets a held run pass: it raises exactly what was shown, or is held again."
                : "Drops a held run; nothing is raised.";
        return Commands.Make(
            verb,
            description,
            $"oikonom intake {verb} 01a2… --yes",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                Commands.Confirm(parsed.GetValue(yes), verb == "pass" ? "Let this run pass?" : "Drop this run?");
                var (after, raw) = await service.PostAsync<IntakeRun>(
                    $"/api/v1/held-runs/{Uri.EscapeDataString(parsed.GetValue(run)!)}/{verb}",
                    null,
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                if (verb == "drop")
                    Show.Line("The run is dropped; nothing was raised.");
                else
                    Tell(after);
                return Exit.Good;
            },
            run,
            yes
        );
    }

    private static Command Post()
    {
        var source = Name();
        var file = new Argument<string>("file") { Description = "a JSON file with one record or a list of records; - for standard input" };
        return Commands.Make(
            "post",
            "Posts records to a source of the kind post, and says what became of each.",
            "oikonom intake post volunteers records.json",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var path = parsed.GetValue(file)!;
                if (path != "-" && !File.Exists(path))
                    throw new CliFault(Exit.Usage, $"'{path}' is no file.");
                JsonElement json;
                try
                {
                    json = JsonSerializer.Deserialize<JsonElement>(
                        path == "-" ? await Console.In.ReadToEndAsync(cancel) : await File.ReadAllTextAsync(path, cancel)
                    );
                }
                catch (JsonException error)
                {
                    throw new CliFault(Exit.Usage, $"'{path}' is no sound JSON: {error.Message}");
                }
                var records = json.ValueKind == JsonValueKind.Array ? json.EnumerateArray().ToList() : [json];
                var (answer, raw) = await service.PostAsync<RecordsAnswer>(
                    At(parsed.GetValue(source)!, "/records"),
                    new RecordsBody(records),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Record", "Key", "Became", "Request", "Problem"],
                    answer.Records.Select(r =>
                        (IReadOnlyList<string>)[Text(r.Index + 1), r.Key, r.Kind ?? r.Status, r.Request ?? "", r.Problem?.Reason ?? ""]
                    ),
                    ""
                );
                return answer.Records.Any(r => r.Status is "set-aside" or "held") ? Exit.Refused : Exit.Good;
            },
            source,
            file
        );
    }

    private static Command WriteBacks()
    {
        var source = Name();
        return Commands.Make(
            "write-backs",
            "Lists what was written back to a source, and what waits.",
            "oikonom intake write-backs hr-service",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<WriteBackView>>(At(parsed.GetValue(source)!, "/write-backs"), cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Record", "Fields", "State", "Attempts", "Problem"],
                    page.Items.Select(w =>
                        (IReadOnlyList<string>)
                            [
                                w.Key,
                                string.Join(", ", w.Fields.Select(f => $"{f.Name}={f.Value}")),
                                w.State,
                                Text(w.Attempts),
                                w.Problem ?? "",
                            ]
                    ),
                    "Nothing was written back."
                );
                return Exit.Good;
            },
            source
        );
    }

    private static Command Token()
    {
        var source = Name();
        var label = new Option<string?>("--label") { Description = "what it is for" };
        var days = new Option<int>("--days") { Description = "how long it is valid", DefaultValueFactory = _ => 180 };
        return Commands.Make(
            "token",
            "Makes a token for a source that pushes by SCIM; it is shown once. Two may be valid at once.",
            "oikonom intake token partners --label push --days 90",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (token, raw) = await service.PostAsync<IssuedToken>(
                    At(parsed.GetValue(source)!, "/tokens"),
                    new SourceTokenBody(parsed.GetValue(label), parsed.GetValue(days)),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line(token.Token);
                Show.Line($"It is valid until {Show.At(token.ExpiresAt)} and is not shown again.");
                return Exit.Good;
            },
            source,
            label,
            days
        );
    }

    private static Command Tokens()
    {
        var source = Name();
        return Commands.Make(
            "tokens",
            "Lists the tokens of a source.",
            "oikonom intake tokens partners",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<SourceToken>>(At(parsed.GetValue(source)!, "/tokens"), cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Id", "Label", "Made by", "Made", "Valid until", "Ended"],
                    page.Items.Select(t =>
                        (IReadOnlyList<string>)
                            [t.Id, t.Label, t.Actor, Show.At(t.CreatedAt), Show.At(t.ExpiresAt), t.EndedAt is { } end ? Show.At(end) : ""]
                    ),
                    "It has no token."
                );
                return Exit.Good;
            },
            source
        );
    }

    private static Command EndToken()
    {
        var source = Name();
        var id = new Argument<string>("token") { Description = "id of the token" };
        return Commands.Make(
            "end-token",
            "Ends a token of a source at once.",
            "oikonom intake end-token partners 01a2…",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                await service.DeleteAsync(At(parsed.GetValue(source)!, $"/tokens/{Uri.EscapeDataString(parsed.GetValue(id)!)}"), cancel);
                Show.Line("The token is ended.");
                return Exit.Good;
            },
            source,
            id
        );
    }
}
