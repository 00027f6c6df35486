using System.CommandLine;
using System.Globalization;
using Oikonom.Contracts;

namespace Oikonom.Cli;

/// <summary>Roll-outs: how an edition reaches the people who are on an earlier one.</summary>
internal static class RollOutCommands
{
    public static IEnumerable<Command> All()
    {
        yield return Commands.Group(
            "rollouts",
            "How an edition reaches people: decided as a whole or by department, carried out in waves.",
            List(),
            ShowOne(),
            People(),
            MakeNew(),
            Decide("approve"),
            Decide("decline"),
            Begin(),
            WithReason("stop", "stop", "Stops a roll-out: no further wave begins, requests under way go on.", "Stop this roll-out?"),
            WithReason(
                "turn-back",
                "turn-back",
                "Turns the last wave back: its people are put on the edition they came from.",
                "Turn the last wave back?"
            ),
            WithReason("release", "release", "Lets a roll-out pass that the brake holds.", "Let this roll-out pass?")
        );
    }

    private static Argument<string> Named() => new("rollout") { Description = "number or id" };

    private static string Path(string rollout, string more = "") => $"/api/v1/rollouts/{Uri.EscapeDataString(rollout)}{more}";

    private static string Text(long number) => number.ToString(CultureInfo.InvariantCulture);

    private static Command List()
    {
        var open = new Option<bool>("--open") { Description = "only those that are not at their end" };
        return Commands.Make(
            "list",
            "Lists roll-outs, the newest first.",
            "oikonom rollouts list --open",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<RolloutSummary>>(
                    $"/api/v1/rollouts{(parsed.GetValue(open) ? "?open=true" : "")}",
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Roll-out", "Edition", "It", "Differ", "Lose", "Undecided", "Approved", "Done", "Since", "Problem"],
                    page.Items.Select(r =>
                        (IReadOnlyList<string>)
                            [
                                Text(r.Number),
                                Text(r.Edition),
                                r.StateText,
                                Text(r.People),
                                Text(r.Losing),
                                Text(r.Undecided),
                                Text(r.Approved),
                                Text(r.Done),
                                Show.At(r.MadeAt),
                                r.Problem ?? "",
                            ]
                    ),
                    "No edition waits to reach anybody."
                );
                return Exit.Good;
            },
            open
        );
    }

    private static Command ShowOne()
    {
        var rollout = Named();
        return Commands.Make(
            "show",
            "Shows one roll-out: gains and losses, departments, waves, decisions, and what to do next.",
            "oikonom rollouts show 12",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (told, raw) = await service.GetAsync<RolloutDetail>(Path(parsed.GetValue(rollout)!), cancel);
                return Commands.IsJson(parsed) ? Show.Json(raw) : Tell(told);
            },
            rollout
        );
    }

    private static int Tell(RolloutDetail told)
    {
        var s = told.Summary;
        Show.Title($"Roll-out {s.Number}: edition {s.Edition} {s.StateText}");
        Show.Line(
            $"{s.People} people differ, {s.Losing} of them would have less; for {s.Same} nothing "
                + $"changes{Failing(s.Failing, s.Number)}. Published by {s.Author}, {Show.At(s.MadeAt)}."
        );
        if (told.Brake is { } brake)
            Show.Line(told.ReleasedBy is { } by ? $"{brake} {by} let it pass." : brake);
        if (s.Problem is { } problem && problem != told.Brake)
            Show.Bad(problem);
        RulebookCommands.Tallies("Template", told.Templates);
        if (told.Departments.Count > 0)
            Show.Table(
                ["Department", "Differ", "Lose", "Not served", "Undecided", "Approved", "Declined", "Done", "You may decide"],
                told.Departments.Select(d =>
                    (IReadOnlyList<string>)
                        [
                            d.Department,
                            Text(d.People),
                            Text(d.Losing),
                            Text(d.Failing),
                            Text(d.Undecided),
                            Text(d.Approved),
                            Text(d.Declined),
                            Text(d.Done),
                            d.MayDecide ? "yes" : "no",
                        ]
                ),
                ""
            );
        if (told.Waves.Count > 0)
            Show.Table(
                ["Wave", "People", "Done", "Under way", "Turned back"],
                told.Waves.Select(w =>
                    (IReadOnlyList<string>)
                        [w.Wave == 0 ? "unchanged" : Text(w.Wave), Text(w.People), Text(w.Done), Text(w.UnderWay), Text(w.TurnedBack)]
                ),
                ""
            );
        foreach (var decision in told.Decisions)
            Show.Line(
                $"{decision.Actor} {decision.Verdict} {decision.People} people{(decision.Department is { } d ? $" of {d}" : "")} on "
                    + $"{Show.At(decision.At)}{(decision.Remark.Length > 0 ? $": {decision.Remark}" : "")}"
            );
        Next(told);
        return Exit.Good;
    }

    /// <summary>Whom the edition cannot serve, with the way to see why.</summary>
    public static string Failing(long count, long rollout) =>
        count == 0 ? "" : $"; {count} it cannot serve ('oikonom rollouts people {rollout} --state failing' says why)";

    private static void Next(RolloutDetail told)
    {
        var (n, rights) = (told.Summary.Number, told.Rights);
        var next =
            rights.Release ? $"Let it pass: oikonom rollouts release {n} --reason …"
            : rights.Decide || told.Departments.Any(d => d.MayDecide)
                ? $"Look at the people, then decide: oikonom rollouts people {n}; oikonom rollouts approve {n}"
            : rights.Begin ? $"Begin the next wave: oikonom rollouts begin {n} --size 50 --pause PT1H"
            : told.NextAt is { } at ? $"The next wave begins at {Show.At(at)}."
            : null;
        if (next is not null)
            Show.Line(next);
    }

    private static Command People()
    {
        var rollout = Named();
        var (state, department, template) = (
            new Option<string?>("--state") { Description = "open, approved, declined, running, own, done, moved, failing, turned-back" },
            new Option<string?>("--department"),
            new Option<string?>("--template")
        );
        var wave = new Option<long?>("--wave") { Description = "0 shows those for whom nothing changes" };
        var limit = new Option<int>("--limit") { DefaultValueFactory = _ => 100 };
        return Commands.Make(
            "people",
            "Lists the people of a roll-out with what would change for each.",
            "oikonom rollouts people 12 --department Research --state open",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var query = new Dictionary<string, string?>
                {
                    ["state"] = parsed.GetValue(state),
                    ["department"] = parsed.GetValue(department),
                    ["template"] = parsed.GetValue(template),
                    ["wave"] = parsed.GetValue(wave)?.ToString(CultureInfo.InvariantCulture),
                    ["limit"] = Text(parsed.GetValue(limit)),
                };
                var (page, raw) = await service.GetAsync<Page<RolloutPerson>>(
                    Path(parsed.GetValue(rollout)!, "/people?")
                        + string.Join('&', query.Where(q => q.Value is not null).Select(q => $"{q.Key}={Uri.EscapeDataString(q.Value!)}")),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Number", "Person", "Department", "From edition", "Stands", "Wave", "What changes"],
                    page.Items.Select(p =>
                        (IReadOnlyList<string>)
                            [
                                p.Number,
                                p.Name,
                                p.Department,
                                Text(p.From),
                                p.State,
                                p.Wave > 0 ? Text(p.Wave) : "",
                                p.Problem ?? string.Join("; ", p.Effects.Select(e => e.Text)),
                            ]
                    ),
                    "Nobody."
                );
                if (page.Next is not null)
                    Show.Line($"There are more; raise --limit (500 at most) or name a department.");
                return Exit.Good;
            },
            rollout,
            state,
            department,
            template,
            wave,
            limit
        );
    }

    private static Command MakeNew() =>
        Commands.Make(
            "make",
            "Makes the roll-out of the newest edition anew, with everybody who is still on an earlier one.",
            "oikonom rollouts make",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (told, raw) = await service.PostAsync<RolloutDetail>("/api/v1/rollouts", new { }, cancel);
                return Commands.IsJson(parsed) ? Show.Json(raw) : Tell(told);
            }
        );

    private static Command Decide(string verdict)
    {
        var rollout = Named();
        var department = new Option<string?>("--department") { Description = "only the people of one department" };
        var remark = new Option<string?>("--remark") { Description = "a word with it; a decline needs one" };
        var yes = new Option<bool>("--yes") { Description = "do not ask" };
        return Commands.Make(
            verdict,
            verdict == "approve"
                ? "Approves all whom nobody decided about, or those of a department."
                : "Declines all whom nobody decided about, or those of a department; they stay on the edition they are on.",
            $"oikonom rollouts {verdict} 12 --department Research",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var id = parsed.GetValue(rollout)!;
                var (shown, _) = await service.GetAsync<RolloutDetail>(Path(id), cancel);
                var part = parsed.GetValue(department);
                var row = part is null ? null : shown.Departments.FirstOrDefault(d => d.Department == part);
                if (part is not null && row is null)
                    throw new CliFault(
                        Exit.Usage,
                        $"Roll-out {id} has nobody of '{part}'. It has: {string.Join(", ", shown.Departments.Select(d => d.Department))}."
                    );
                var count = row?.Covers ?? shown.Covers;
                Commands.Confirm(
                    parsed.GetValue(yes),
                    $"{char.ToUpperInvariant(verdict[0])}{verdict[1..]} {count} people{(part is null ? "" : $" of {part}")}?"
                );
                var (told, raw) = await service.PostAsync<RolloutDetail>(
                    Path(id, "/decide"),
                    new RolloutDecideBody(verdict, (part is null ? shown.Digest : row!.Digest) ?? "", part, parsed.GetValue(remark)),
                    cancel
                );
                return Commands.IsJson(parsed) ? Show.Json(raw) : Tell(told);
            },
            rollout,
            department,
            remark,
            yes
        );
    }

    private static Command Begin()
    {
        var rollout = Named();
        var size = new Option<int?>("--size") { Description = "how many people a wave has; the last size without it" };
        var pause = new Option<string?>("--pause") { Description = "between two waves, such as PT1H; without it each is begun by you" };
        var yes = new Option<bool>("--yes") { Description = "do not ask" };
        return Commands.Make(
            "begin",
            "Begins the first or the next wave of what was approved.",
            "oikonom rollouts begin 12 --size 50 --pause PT1H",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var id = parsed.GetValue(rollout)!;
                var (shown, _) = await service.GetAsync<RolloutDetail>(Path(id), cancel);
                Commands.Confirm(
                    parsed.GetValue(yes),
                    $"Begin wave {shown.Summary.Wave + 1} of roll-out {shown.Summary.Number} ({shown.Summary.Approved} people approved)?"
                );
                var (told, raw) = await service.PostAsync<RolloutDetail>(
                    Path(id, "/begin"),
                    new RolloutBeginBody(parsed.GetValue(size), parsed.GetValue(pause)),
                    cancel
                );
                return Commands.IsJson(parsed) ? Show.Json(raw) : Tell(told);
            },
            rollout,
            size,
            pause,
            yes
        );
    }

    private static Command WithReason(string name, string verb, string description, string question)
    {
        var rollout = Named();
        var reason = new Option<string>("--reason") { Description = "why; it is on the record", Required = true };
        var yes = new Option<bool>("--yes") { Description = "do not ask" };
        return Commands.Make(
            name,
            description,
            $"oikonom rollouts {name} 12 --reason \"the laboratory is closed\"",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                Commands.Confirm(parsed.GetValue(yes), question);
                var (told, raw) = await service.PostAsync<RolloutDetail>(
                    Path(parsed.GetValue(rollout)!, $"/{verb}"),
                    new RolloutReasonBody(parsed.GetValue(reason)),
                    cancel
                );
                return Commands.IsJson(parsed) ? Show.Json(raw) : Tell(told);
            },
            rollout,
            reason,
            yes
        );
    }
}
