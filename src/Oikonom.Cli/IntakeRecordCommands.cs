using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using Oikonom.Contracts;
using static Oikonom.Cli.IntakeCommands;

namespace Oikonom.Cli;

/// <summary>Single records of a source, and runs that wait under the brake.</summary>
internal static class IntakeRecordCommands
{
    public static IEnumerable<Command> All() => [Aside(), Records(), Vanished(), Held(), Decide("pass"), Decide("drop")];

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
}
