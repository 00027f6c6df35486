using System.CommandLine;
using System.Globalization;
using Oikonom.Contracts;

namespace Oikonom.Cli;

/// <summary>Raising requests by hand, what the approver says beside yes and no, and what can be asked for.</summary>
internal static class AskCommands
{
    public static IEnumerable<Command> OfRequests()
    {
        yield return New();
        yield return Bulk();
        yield return Say(
            "ask",
            "Asks the requester before deciding; the clock stops.",
            "oikonom requests ask 12 \"Why until May?\"",
            "text",
            (id, text) => ($"/api/v1/requests/{id}/ask", new TextBody(text))
        );
        yield return Say(
            "answer",
            "Answers the question of an approver.",
            "oikonom requests answer 12 \"The audit ends then.\"",
            "text",
            (id, text) => ($"/api/v1/requests/{id}/answer", new TextBody(text))
        );
        yield return Say(
            "comment",
            "Adds a comment.",
            "oikonom requests comment 12 \"Seen the contract.\"",
            "text",
            (id, text) => ($"/api/v1/requests/{id}/comment", new TextBody(text))
        );
        yield return TakeBack(
            "withdraw",
            "Takes a request back; of one that runs, what was done stays.",
            "oikonom requests withdraw 12 \"not needed\" --yes"
        );
        yield return TakeBack(
            "undo",
            "Takes a joiner back with all it did: accounts are disabled first, the rest goes in reverse.",
            "oikonom requests undo 12 \"hired by mistake\" --yes"
        );
        yield return Say(
            "hold",
            "Holds an approved request.",
            "oikonom requests hold 12 \"after the move\"",
            "reason",
            (id, text) => ($"/api/v1/requests/{id}/hold", new ReasonBody(text))
        );
        yield return Say(
            "resume",
            "Lets a held request go on.",
            "oikonom requests resume 12",
            null,
            (id, _) => ($"/api/v1/requests/{id}/resume", new ReasonBody(null))
        );
        yield return Say(
            "return",
            "Sends an approved request back: all approvals are asked for again.",
            "oikonom requests return 12 \"wrong title\"",
            "reason",
            (id, text) => ($"/api/v1/requests/{id}/return", new ReasonBody(text))
        );
        yield return Change();
        yield return EndAccess();
        yield return Export();
    }

    /// <summary>Asks first, and tells what follows: what is taken back is not put back by a second call.</summary>
    private static Command TakeBack(string verb, string description, string example)
    {
        var id = new Argument<string>("request") { Description = "number or id of the request" };
        var reason = new Argument<string>("reason") { Description = "why; whoever decided on it reads that" };
        var yes = new Option<bool>("--yes") { Description = "do not ask" };
        return Commands.Make(
            verb,
            description,
            example,
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var path = $"/api/v1/requests/{Uri.EscapeDataString(parsed.GetValue(id)!)}";
                if (!parsed.GetValue(yes))
                {
                    var (before, _) = await service.GetAsync<RequestDetail>(path, cancel);
                    Commands.Confirm(
                        false,
                        $"{char.ToUpperInvariant(verb[0])}{verb[1..]} request {before.Summary.Number} ({before.Summary.Kind} "
                            + $"{before.Summary.Person})?"
                    );
                }
                var (after, raw) = await service.PostAsync<RequestDetail>(
                    $"{path}/{verb}",
                    new ReasonBody(parsed.GetValue(reason)),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line($"Request {after.Summary.Number} is now {after.Summary.StateText}. {after.Story.Now} {after.Story.Next}");
                return Exit.Good;
            },
            id,
            reason,
            yes
        );
    }

    private static Command EndAccess()
    {
        var person = new Argument<string>("person") { Description = "employee number or id" };
        var entitlement = new Argument<string>("entitlement") { Description = "target/entitlement" };
        var reason = new Option<string?>("--reason") { Description = "why; only who holds it may leave it out" };
        return Commands.Make(
            "end-access",
            "Gives access back, or takes it away, before its end: at once for its holder, their manager and its owner.",
            "oikonom requests end-access E1020 directory/payments --reason \"changed duties\"",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (request, raw) = await service.PostAsync<RequestDetail>(
                    $"/api/v1/people/{Uri.EscapeDataString(parsed.GetValue(person)!)}/access/end",
                    new EndAccessBody(parsed.GetValue(entitlement)!, parsed.GetValue(reason)),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Good($"Request {request.Summary.Number}: {request.Cause.Text}. {request.Story.Now}");
                return Exit.Good;
            },
            person,
            entitlement,
            reason
        );
    }

    public static IEnumerable<Command> All()
    {
        yield return Today();
        yield return TaskCommands.All();
        yield return DelegationCommands.All();
        yield return Catalogue();
        yield return Commands.Group("workflows", "The approval paths of the rulebook.", Workflows());
    }

    private static Command New()
    {
        var kind = new Argument<string>("kind")
        {
            Description = "joiner, mover, leaver, access, extension, change, password, unlock or account",
        };
        var person = new Option<string?>("--person") { Description = "employee number or id; none for a joiner" };
        var reason = new Option<string?>("--reason") { Description = "what it is for" };
        var set = new Option<string[]>("--set") { Description = "an attribute, such as title=Diver; may stand several times" };
        var entitlement = new Option<string[]>("--entitlement") { Description = "target/entitlement; may stand several times" };
        var (from, until) = (
            new Option<string?>("--from") { Description = "first day, or an instant" },
            new Option<string?>("--until") { Description = "last day (included), or an instant" }
        );
        var target = new Option<string?>("--target") { Description = "for a password or a lock: the target of the account" };
        var template = new Option<string?>("--template") { Description = "for an account: the template on request" };
        var last = new Option<string?>("--last-day") { Description = "for a leaver" };
        var urgent = new Option<bool>("--urgent") { Description = "for a leaver: access ends at once" };
        var dry = new Option<bool>("--dry-run") { Description = "only show what it would bring and who would decide" };
        return Commands.Make(
            "new",
            "Raises a request by hand.",
            "oikonom requests new access --person E1020 --entitlement directory/payments --until 2027-01-31 --reason \"month end\"",
            async (parsed, cancel) =>
            {
                var record = Record(parsed.GetValue(set) ?? []);
                var keys = parsed.GetValue(entitlement) ?? [];
                var body = new NewRequest(
                    parsed.GetValue(kind)!,
                    parsed.GetValue(person),
                    parsed.GetValue(reason),
                    record.Count > 0 ? record : null,
                    keys.Length > 0 ? [.. keys.Select(e => new GrantWish(e, parsed.GetValue(from), parsed.GetValue(until)))] : null,
                    parsed.GetValue(target),
                    parsed.GetValue(template),
                    parsed.GetValue(from),
                    parsed.GetValue(until),
                    Day(parsed.GetValue(last)),
                    parsed.GetValue(urgent) ? true : null
                );
                return await RaiseAsync(body, parsed.GetValue(dry), Commands.IsJson(parsed), cancel);
            },
            kind,
            person,
            reason,
            set,
            entitlement,
            from,
            until,
            target,
            template,
            last,
            urgent,
            dry
        );
    }

    private static async Task<int> RaiseAsync(NewRequest body, bool isDry, bool asJson, CancellationToken cancel)
    {
        using var service = new Service();
        if (isDry)
        {
            var (preview, rawPreview) = await service.PostAsync<RequestPreview>("/api/v1/requests/preview", body, cancel);
            return asJson ? Show.Json(rawPreview) : Tell(preview);
        }
        var (made, raw) = await service.PostAsync<RequestDetail>("/api/v1/requests", body, cancel);
        if (asJson)
            return Show.Json(raw);
        Show.Line($"Request {made.Summary.Number} is raised: {made.Cause.Text}. See it: oikonom requests show {made.Summary.Number}");
        return Exit.Good;
    }

    /// <summary>Attributes with their values.</summary>
    /// <exception cref="CliFault">One has not the form attribute=value.</exception>
    /// <summary>Attributes with their values, from NAME=VALUE.</summary>
    internal static Dictionary<string, string> Record(IEnumerable<string> pairs)
    {
        var record = new Dictionary<string, string>();
        foreach (var pair in pairs)
        {
            var at = pair.IndexOf('=', StringComparison.Ordinal);
            if (at <= 0)
                throw new CliFault(Exit.Usage, $"'{pair}' has not the form attribute=value.");
            record[pair[..at]] = pair[(at + 1)..];
        }
        return record;
    }

    private static DateOnly? Day(string? text) =>
        text is null ? null
        : DateOnly.TryParseExact(text, "yyyy-MM-dd", out var read) ? read
        : throw new CliFault(Exit.Usage, $"'{text}' is no day such as 2026-12-31.");

    private static int Tell(RequestPreview preview)
    {
        foreach (var problem in preview.Problems)
            Show.Line($"{problem.Field}: {problem.Message}");
        foreach (var open in preview.Open)
            Show.Line($"open: {open.Name} ({open.Type})");
        if (preview.Note is { } note)
            Show.Line(note);
        if (preview.Plan.Count > 0)
        {
            Show.Title("It would bring");
            EffectText.Write(preview.Effect, preview.Place);
            Show.Title($"Who decides ({preview.Workflow})");
            foreach (var stage in preview.Stages)
            {
                var who = stage.Needed > 1 ? $"{stage.Who}, {stage.Needed} of them" : stage.Who;
                Show.Line($"  {stage.Title}: {(stage.Skipped is { } why ? $"not asked, because {why}" : who)}");
            }
        }
        return preview.Sound ? Exit.Good : Exit.Refused;
    }

    private static Command Bulk()
    {
        var file = new Argument<FileInfo>("file")
        {
            Description = "a delimited file whose header names kind, person, entitlement, until, reason and attributes",
        };
        var reason = new Option<string?>("--reason") { Description = "where a row gives none" };
        var dry = new Option<bool>("--dry-run") { Description = "only look at the rows" };
        var whole = new Option<bool>("--whole") { Description = "decide on the file as a whole; raised only when every row is sound" };
        return Commands.Make(
            "bulk",
            "Raises one request for each row of a file.",
            "oikonom requests bulk access.csv --dry-run",
            async (parsed, cancel) =>
            {
                var path = parsed.GetValue(file)!;
                if (!path.Exists)
                    throw new CliFault(Exit.Usage, $"There is no file {path.Name}.");
                using var service = new Service();
                var (answer, raw) = await service.PostAsync<BulkAnswer>(
                    "/api/v1/requests/bulk",
                    new BulkBody(
                        await File.ReadAllTextAsync(path.FullName, cancel),
                        parsed.GetValue(dry),
                        parsed.GetValue(reason),
                        parsed.GetValue(whole)
                    ),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Row", "Kind", "Person", "Result"],
                    answer.Items.Select(i =>
                        (IReadOnlyList<string>)
                            [
                                i.Line.ToString(CultureInfo.InvariantCulture),
                                i.Kind,
                                i.Person,
                                i.Number is { } n ? $"request {n}" : i.Message,
                            ]
                    ),
                    ""
                );
                Show.Line($"{answer.Rows} rows: {answer.Sound} sound, {answer.Rows - answer.Sound} not; {answer.Raised} raised.");
                return answer.Sound == answer.Rows ? Exit.Good : Exit.Refused;
            },
            file,
            reason,
            dry,
            whole
        );
    }

    private static Command Say(
        string verb,
        string description,
        string example,
        string? word,
        Func<string, string, (string Path, object Body)> call
    )
    {
        var id = new Argument<string>("request") { Description = "number or id of the request" };
        var text = new Argument<string>(word ?? "nothing");
        List<Symbol> symbols = word is null ? [id] : [id, text];
        return Commands.Make(
            verb,
            description,
            example,
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (path, body) = call(Uri.EscapeDataString(parsed.GetValue(id)!), word is null ? "" : parsed.GetValue(text)!);
                var (after, raw) = await service.PostAsync<RequestDetail>(path, body, cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line($"Request {after.Summary.Number} is now {after.Summary.StateText}; it waits on {after.Summary.WaitsOn}.");
                return Exit.Good;
            },
            symbols
        );
    }

    private static Command Change()
    {
        var id = new Argument<string>("request") { Description = "number or id of the request" };
        var set = new Option<string[]>("--set") { Description = "an attribute, such as title=Diver" };
        var until = new Option<string?>("--until") { Description = "another last day of all that is asked for" };
        return Commands.Make(
            "change",
            "Changes what was asked for, or what the stage lets its approver change.",
            "oikonom requests change 12 --set title=\"Lead diver\"",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var path = $"/api/v1/requests/{Uri.EscapeDataString(parsed.GetValue(id)!)}";
                var (request, _) = await service.GetAsync<RequestDetail>(path, cancel);
                var record = Record(parsed.GetValue(set) ?? []);
                var grants = parsed.GetValue(until) is { } day ? request.Wish.Grants.Select(g => g with { Until = day }).ToList() : null;
                var (after, raw) = await service.PostAsync<RequestDetail>(
                    path + "/change",
                    new ChangeBody(request.PlanDigest ?? "", record.Count > 0 ? record : null, grants),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line($"Request {after.Summary.Number} is planned anew.");
                return Exit.Good;
            },
            id,
            set,
            until
        );
    }

    private static Command Export()
    {
        var state = new Option<string?>("--state") { Description = "only requests in this state" };
        return Commands.Make(
            "export",
            "Writes the list of requests as CSV to standard output.",
            "oikonom requests export --state deciding",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                Console.Out.Write(
                    await service.GetTextAsync(
                        $"/api/v1/requests/export?state={Uri.EscapeDataString(parsed.GetValue(state) ?? "")}",
                        cancel
                    )
                );
                return Exit.Good;
            },
            state
        );
    }

    private static Command Today() =>
        Commands.Make(
            "today",
            "Tells what waits for you, who starts soon and is not ready, what is late or stuck.",
            "oikonom today",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (today, raw) = await service.GetAsync<TodayView>("/api/v1/today", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Title(
                    $"{today.MineCount} wait for you, {today.TaskCount} to do by hand, {today.StuckCount} stuck, {today.LateCount} late"
                );
                Show.Table(
                    ["No.", "Kind", "Person", "Stage", "Since"],
                    today.Mine.Select(r =>
                        (IReadOnlyList<string>)
                            [r.Number.ToString(CultureInfo.InvariantCulture), r.Kind, r.Account ?? r.Person, r.Stage, Show.Ago(r.Since)]
                    ),
                    "Nothing waits for you."
                );
                foreach (var attention in today.Attention)
                    Show.Line($"! {attention.Text}");
                if (today.Starters.Count > 0)
                    Show.Table(
                        ["Starts", "Person", "Department", "Site", "Not ready because it"],
                        today.Starters.Select(s => (IReadOnlyList<string>)[s.Start, s.Person, s.Department, s.Site, s.Now]),
                        ""
                    );
                foreach (var stuck in today.Stuck)
                    Show.Line($"Stuck: request {stuck.Number}, {stuck.Kind} {stuck.Person}: {stuck.Problem}");
                foreach (var target in today.Targets)
                    Show.Line($"{target.Title}: {target.Failing} failing: {target.Problem}");
                foreach (var held in today.Held)
                    Show.Line($"Under the brake: {held.Source}: {held.Why}");
                foreach (var look in today.Attention)
                    Show.Line($"Needs a look: {look.Text}");
                return Exit.Good;
            }
        );

    private static Command Catalogue() =>
        Commands.Make(
            "catalogue",
            "Lists what can be asked for.",
            "oikonom catalogue",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (catalogue, raw) = await service.GetAsync<Catalogue>("/api/v1/catalogue", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Entitlement", "Title", "Owner", "Held by", ""],
                    catalogue.Entitlements.Select(e =>
                        (IReadOnlyList<string>)
                            [
                                e.Key,
                                e.Title,
                                e.OwnerName ?? e.Owner ?? "nobody",
                                $"{e.Holders}{(e.MostHolders is { } most ? $" of {most}" : "")}",
                                e.Privileged ? "privileged" : "",
                            ]
                    ),
                    "Nothing can be asked for."
                );
                foreach (var template in catalogue.Templates)
                    Show.Line($"On request: {template.Name} ({template.Title})");
                return Exit.Good;
            }
        );

    private static Command Workflows() =>
        Commands.Make(
            "list",
            "Lists the approval paths and their stages.",
            "oikonom workflows list",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<WorkflowView>>("/api/v1/workflows", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                foreach (var workflow in page.Items)
                {
                    Show.Title($"{workflow.Title}: {string.Join(", ", workflow.For)}{(workflow.When is { } when ? $", when {when}" : "")}");
                    foreach (var stage in workflow.Stages)
                    {
                        var silence = stage.OnSilence switch
                        {
                            "wait" => "",
                            "decline" => ", else it is declined",
                            _ => ", else it is approved",
                        };
                        Show.Line(
                            $"  {stage.Title}: {string.Join(" or ", stage.Decides)}{(stage.PerItem ? ", for each item" : "")}"
                                + $"{(stage.Deadline is { } due ? $", within {due}" : "")}{silence}"
                        );
                    }
                    Show.Line($"  Release: {workflow.Release}");
                }
                return Exit.Good;
            }
        );
}
