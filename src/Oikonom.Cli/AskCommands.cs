using System.CommandLine;
using System.Globalization;
using Oikonom.Contracts;

namespace Oikonom.Cli;

/// <summary>Raising requests by hand, what the approver says beside yes and no, work by hand, and delegation.</summary>
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
        yield return Say(
            "withdraw",
            "Takes a request back before it is carried out.",
            "oikonom requests withdraw 12 \"not needed\"",
            "reason",
            (id, text) => ($"/api/v1/requests/{id}/withdraw", new ReasonBody(text))
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
        yield return Commands.Group("tasks", "Work by hand.", Tasks(), Task(), Take(), HandOver(), Done(), Impossible());
        yield return Commands.Group(
            "delegations",
            "Rights to decide that are handed over for a time.",
            Delegations(),
            Delegate(),
            EndDelegation()
        );
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
                using var service = new Service();
                if (parsed.GetValue(dry))
                {
                    var (preview, rawPreview) = await service.PostAsync<RequestPreview>("/api/v1/requests/preview", body, cancel);
                    if (Commands.IsJson(parsed))
                        return Show.Json(rawPreview);
                    return Tell(preview);
                }
                var (made, raw) = await service.PostAsync<RequestDetail>("/api/v1/requests", body, cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line(
                    $"Request {made.Summary.Number} is raised: {made.Cause.Text}. See it: oikonom requests show {made.Summary.Number}"
                );
                return Exit.Good;
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

    /// <summary>Attributes with their values.</summary>
    /// <exception cref="CliFault">One has not the form attribute=value.</exception>
    private static Dictionary<string, string> Record(IEnumerable<string> pairs)
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
                var record = (parsed.GetValue(set) ?? [])
                    .Select(p => p.Split('=', 2))
                    .ToDictionary(p => p[0], p => p.Length > 1 ? p[1] : "");
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

    private static Argument<string> TaskId() => new("task") { Description = "id of the task" };

    private static Command Tasks()
    {
        var all = new Option<bool>("--all") { Description = "what is over too" };
        return Commands.Make(
            "list",
            "Lists work by hand, what is due first.",
            "oikonom tasks list",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<TaskView>>(
                    $"/api/v1/tasks?limit=200&all={(parsed.GetValue(all) ? "true" : "false")}",
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Due", "Task", "Target", "State", "With", "Id"],
                    page.Items.Select(t =>
                        (IReadOnlyList<string>)[Show.At(t.Due), t.Title, t.Target, t.Late ? "late" : t.State, t.TakenBy ?? "nobody", t.Id]
                    ),
                    "Nothing is to be done by hand."
                );
                return Exit.Good;
            },
            all
        );
    }

    private static Command Task()
    {
        var id = TaskId();
        return Commands.Make(
            "show",
            "Shows a task with what it asks for.",
            "oikonom tasks show 01a2…",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (task, raw) = await service.GetAsync<TaskView>($"/api/v1/tasks/{Uri.EscapeDataString(parsed.GetValue(id)!)}", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Title($"{task.Title} ({task.State}), due {Show.At(task.Due)}");
                Show.Line(task.Instructions);
                foreach (var field in task.Fields)
                    Show.Line(
                        $"  {field.Name}: {field.Title}{(field.Mandatory ? "" : " (may stay empty)")}"
                            + $"{(field.Pattern.Length > 0 ? $" of the form {field.Pattern}" : "")}"
                            + $"{(field.Value is { } value ? $" = {value}" : "")}"
                    );
                foreach (var check in task.Checks)
                    Show.Line($"  [ ] {check}");
                foreach (var file in task.Evidence)
                    Show.Line($"  {file.Name}, {file.Size} bytes, {file.Actor} {Show.At(file.At)}");
                return Exit.Good;
            },
            id
        );
    }

    private static Command Take() => OnTask("take", "Takes a task.", "oikonom tasks take 01a2…", []);

    private static Command HandOver()
    {
        var id = TaskId();
        var to = new Argument<string>("to") { Description = "user name" };
        return Commands.Make(
            "hand-over",
            "Gives a task to somebody else who may do it.",
            "oikonom tasks hand-over 01a2… otto",
            (parsed, cancel) =>
                SendAsync(parsed, $"/api/v1/tasks/{parsed.GetValue(id)}/hand-over", new HandOverBody(parsed.GetValue(to)!), cancel),
            id,
            to
        );
    }

    private static Command OnTask(string verb, string description, string example, IReadOnlyList<Symbol> more)
    {
        var id = TaskId();
        return Commands.Make(
            verb,
            description,
            example,
            (parsed, cancel) => SendAsync(parsed, $"/api/v1/tasks/{parsed.GetValue(id)}/{verb}", null, cancel),
            [id, .. more]
        );
    }

    private static Command Done()
    {
        var id = TaskId();
        var set = new Option<string[]>("--set") { Description = "a field, such as key-number=RP-0412" };
        var check = new Option<bool>("--all-checked") { Description = "all checks of the task are done" };
        var remark = new Option<string?>("--remark") { Description = "what was done, in words" };
        var file = new Option<FileInfo?>("--file") { Description = "a file that proves it, 10 MB at most" };
        return Commands.Make(
            "done",
            "Says that the work is done.",
            "oikonom tasks done 01a2… --set size=M --remark \"handed out\"",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var path = $"/api/v1/tasks/{parsed.GetValue(id)}";
                var (task, _) = await service.GetAsync<TaskView>(path, cancel);
                if (parsed.GetValue(file) is { } proof)
                    await service.UploadAsync(
                        $"{path}/evidence?name={Uri.EscapeDataString(proof.Name)}",
                        await File.ReadAllBytesAsync(proof.FullName, cancel),
                        cancel
                    );
                var fields = (parsed.GetValue(set) ?? [])
                    .Select(p => p.Split('=', 2))
                    .ToDictionary(p => p[0], p => p.Length > 1 ? p[1] : "");
                var (after, raw) = await service.PostAsync<TaskView>(
                    path + "/done",
                    new TaskDoneBody(fields, parsed.GetValue(check) ? task.Checks : null, parsed.GetValue(remark)),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line($"{after.Title}: {after.State}.");
                return Exit.Good;
            },
            id,
            set,
            check,
            remark,
            file
        );
    }

    private static Command Impossible()
    {
        var id = TaskId();
        var reason = new Argument<string>("reason") { Description = "why" };
        return Commands.Make(
            "impossible",
            "Says that the work cannot be done, and why.",
            "oikonom tasks impossible 01a2… \"no suit of that size\"",
            (parsed, cancel) =>
                SendAsync(parsed, $"/api/v1/tasks/{parsed.GetValue(id)}/impossible", new ReasonBody(parsed.GetValue(reason)), cancel),
            id,
            reason
        );
    }

    private static async Task<int> SendAsync(ParseResult parsed, string path, object? body, CancellationToken cancel)
    {
        using var service = new Service();
        var (task, raw) = await service.PostAsync<TaskView>(path, body, cancel);
        if (Commands.IsJson(parsed))
            return Show.Json(raw);
        Show.Line($"{task.Title}: {task.State}, with {task.TakenBy ?? "nobody"}.");
        return Exit.Good;
    }

    private static Command Delegations()
    {
        var all = new Option<bool>("--all") { Description = "those of everybody, for engineers and auditors" };
        return Commands.Make(
            "list",
            "Lists delegations that are not over.",
            "oikonom delegations list",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<DelegationView>>(
                    $"/api/v1/delegations?all={(parsed.GetValue(all) ? "true" : "false")}",
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Whose", "To", "From", "Until", "Kinds", "Id"],
                    page.Items.Select(d =>
                        (IReadOnlyList<string>)
                            [
                                d.From,
                                d.To,
                                Show.At(d.Begins),
                                Show.At(d.Ends),
                                d.Kinds.Count == 0 ? "all" : string.Join(", ", d.Kinds),
                                d.Id,
                            ]
                    ),
                    "Nothing is handed over."
                );
                return Exit.Good;
            },
            all
        );
    }

    private static Command Delegate()
    {
        var to = new Argument<string>("to") { Description = "user name" };
        var begins = new Option<string>("--from") { Description = "first day", Required = true };
        var ends = new Option<string>("--until") { Description = "last day, included", Required = true };
        var kinds = new Option<string[]>("--kind") { Description = "only for this kind of request; may stand several times" };
        var remark = new Option<string?>("--remark");
        var whose = new Option<string?>("--for") { Description = "whose right, for engineers; yours if left out" };
        return Commands.Make(
            "add",
            "Hands your right to decide to somebody for a time.",
            "oikonom delegations add tomas --from 2026-12-21 --until 2027-01-03",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var chosen = parsed.GetValue(kinds) ?? [];
                var (made, raw) = await service.PostAsync<DelegationView>(
                    "/api/v1/delegations",
                    new DelegationBody(
                        parsed.GetValue(to)!,
                        parsed.GetValue(begins)!,
                        parsed.GetValue(ends)!,
                        chosen.Length > 0 ? chosen : null,
                        parsed.GetValue(remark),
                        parsed.GetValue(whose)
                    ),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line($"{made.To} decides for {made.From} from {Show.At(made.Begins)} until {Show.At(made.Ends)}.");
                return Exit.Good;
            },
            to,
            begins,
            ends,
            kinds,
            remark,
            whose
        );
    }

    private static Command EndDelegation()
    {
        var id = new Argument<string>("delegation") { Description = "id, as 'delegations list' shows it" };
        return Commands.Make(
            "end",
            "Ends a delegation now.",
            "oikonom delegations end 01a2…",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                await service.DeleteAsync($"/api/v1/delegations/{Uri.EscapeDataString(parsed.GetValue(id)!)}", cancel);
                Show.Line("It has ended.");
                return Exit.Good;
            },
            id
        );
    }

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
