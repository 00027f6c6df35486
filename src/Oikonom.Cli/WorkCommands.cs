using System.CommandLine;
using System.Globalization;
using Oikonom.Contracts;

namespace Oikonom.Cli;

internal static class WorkCommands
{
    public static IEnumerable<Command> All()
    {
        yield return Commands.Group(
            "requests",
            "Cases, from their cause to their completion.",
            [
                List(),
                Detail(),
                Approve(),
                Decline(),
                Release(),
                Choose(),
                Retry(),
                LeaveOut(),
                NewLink(),
                .. AskCommands.OfRequests(),
                RecordCommands.HistoryOf("requests", "Tells what happened in a request, newest first.", "oikonom requests history 12"),
                RecordCommands.Schema(),
            ]
        );
        yield return Inbox();
        foreach (var command in AskCommands.All())
            yield return command;
        yield return Commands.Group(
            "people",
            "The people HR knows.",
            [
                People(),
                Person(),
                RecordCommands.HistoryOf(
                    "people",
                    "Tells what happened to a person, newest first: who did what, before and after.",
                    "oikonom people history E1002"
                ),
                .. LookCommands.All(),
                .. ForgettingCommands.All(),
            ]
        );
        foreach (var command in RecordCommands.All())
            yield return command;
        yield return RulebookCommands.Explain();
    }

    private static Command List()
    {
        var state = new Option<string?>("--state")
        {
            Description = "planning, choosing, deciding, asked, releasing, fulfilling, completed, declined, withdrawn or lapsed",
        };
        var kind = new Option<string?>("--kind")
        {
            Description = "joiner, mover, leaver, access, extension, change, account, password, unlock or correction",
        };
        var text = new Option<string?>("--text") { Description = "part of a name, an employee number or a request number" };
        var open = new Option<bool>("--open") { Description = "only what is not over" };
        var limit = new Option<int>("--limit") { DefaultValueFactory = _ => 50 };
        return Commands.Make(
            "list",
            "Lists requests, newest first.",
            "oikonom requests list --open",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var query =
                    $"/api/v1/requests?limit={parsed.GetValue(limit)}&open={(parsed.GetValue(open) ? "true" : "false")}"
                    + Query("state", parsed.GetValue(state))
                    + Query("kind", parsed.GetValue(kind))
                    + Query("text", parsed.GetValue(text));
                var (page, raw) = await service.GetAsync<Page<RequestSummary>>(query, cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Table(page, "No request is like that.");
                return Exit.Good;
            },
            state,
            kind,
            text,
            open,
            limit
        );
    }

    private static string Query(string name, string? value) => value is null ? "" : $"&{name}={Uri.EscapeDataString(value)}";

    private static void Table(Page<RequestSummary> page, string empty)
    {
        Show.Table(
            ["No.", "Kind", "Person", "Number", "Department", "State", "Waits on", "Since"],
            page.Items.Select(r =>
                (IReadOnlyList<string>)
                    [
                        r.Number.ToString(CultureInfo.InvariantCulture),
                        r.Kind,
                        r.Account ?? r.Person,
                        r.PersonNumber,
                        r.Department,
                        r.StateText,
                        r.WaitsOn,
                        Show.Ago(r.Since),
                    ]
            ),
            empty
        );
        if (page.Next is not null)
            Show.Line("There are more; raise --limit or narrow the filter.");
    }

    private static Command Inbox() =>
        Commands.Make(
            "inbox",
            "Lists what waits for you.",
            "oikonom inbox",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<RequestSummary>>("/api/v1/inbox?limit=200", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Table(page, "Nothing waits for you.");
                return Exit.Good;
            }
        );

    private static Argument<string> Id() => new("request") { Description = "number or id of the request" };

    private static Command Detail()
    {
        var id = Id();
        return Commands.Make(
            "show",
            "Tells what was done, what is next, on whom it waits and since when; and the plan.",
            "oikonom requests show 12",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (request, raw) = await service.GetAsync<RequestDetail>(
                    $"/api/v1/requests/{Uri.EscapeDataString(parsed.GetValue(id)!)}",
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Tell(request);
                return Exit.Good;
            },
            id
        );
    }

    private static void Tell(RequestDetail request)
    {
        var s = request.Summary;
        var about = s.Account is { } account ? $"{account}, for which {s.Person} answers" : $"{s.Person} ({s.PersonNumber})";
        Show.Title($"Request {s.Number}: {s.Kind} {about}, {s.StateText}");
        Show.Line();
        // What is over waits for nobody.
        foreach (var stage in request.Stages.Where(x => x.State == "skipped" || (s.CompletedAt is null && x.State is "now" or "next")))
        {
            var when = $"{(stage.State == "now" ? ", now" : ", later")}{(stage.Due is { } due ? $", due {Show.At(due)}" : "")}";
            Show.Line($"  Stage  {stage.Title}: {(stage.Skipped is { } why ? $"not asked, because {why}" : stage.Who + when)}");
        }
        foreach (var milestone in request.Milestones.Where(m => m.Reached || m.Text.StartsWith("was reached", StringComparison.Ordinal)))
            Show.Line(
                milestone.Reached
                    ? $"  {milestone.Title} since {(milestone.At is { } at ? Show.At(at) : "")}: {milestone.Text}"
                    : $"  Not {char.ToLowerInvariant(milestone.Title[0])}{milestone.Title[1..]} any more: {milestone.Text}"
            );
        foreach (var done in request.Story.Done)
            Show.Line($"  Done   {done}");
        Show.Line($"  Now    {request.Story.Now}");
        Show.Line($"  Next   {request.Story.Next}");
        if (s.CompletedAt is { } over)
            Show.Line($"  Over   since {Show.At(over)} ({Show.Ago(over)})");
        else
            Show.Line($"  Waits  on {request.Story.WaitsOn} since {Show.At(request.Story.Since)} ({Show.Ago(request.Story.Since)})");
        if (request.Story.Unblock is { } unblock)
            Show.Line($"  To do  {unblock}");
        Plan(request);
        if (request.Candidates.Count > 0)
        {
            Show.Line();
            Candidates(request);
            Show.Line($"Choose one: oikonom requests choose {s.Number} TARGET IMMUTABLE-ID");
        }
    }

    /// <summary>The entries side by side: a column for each, a line for each thing in which they can be told apart.</summary>
    private static void Candidates(RequestDetail request)
    {
        var all = request.Candidates;
        IReadOnlyList<string> Row(string name, Func<CandidateView, string> of) => [name, .. all.Select(of)];
        var names = all.SelectMany(c => c.Attributes).Select(a => a.Name).Distinct().Order(StringComparer.Ordinal);
        Show.Table(
            ["", .. all.Select(c => c.Name)],
            [
                Row("target", c => c.Target),
                Row("entry", c => c.Location),
                Row("matched by", c => c.MatchedBy),
                Row("state", c => c.Enabled ? "open" : "locked"),
                Row("last log-on", c => c.LastLogOn is { } at ? Show.At(at) : "not known"),
                Row("holds", c => c.Entitlements.Count > 0 ? string.Join(", ", c.Entitlements) : "nothing"),
                .. names.Select(n => Row(n, c => c.Attributes.FirstOrDefault(a => a.Name == n)?.Value ?? "")),
                Row("immutable id", c => c.ImmutableId),
            ],
            ""
        );
    }

    private static void Plan(RequestDetail request)
    {
        if (request.Plan.Count == 0)
            return;
        Show.Line();
        Show.Title("The whole effect");
        EffectText.Write(request.Effect, request.Place);
        Show.Line();
        Show.Title(
            request.From is { } from
                ? $"Plan under edition {request.Edition}, which it puts the person on from edition {from}; * comes of the changed rules"
                : $"Plan under edition {request.Edition}"
        );
        // A plan that was made anew has no steps before it is released: those that are there were of an earlier one.
        var states = new Dictionary<int, string>();
        if (request.Summary.State is not ("planning" or "choosing" or "deciding" or "asked" or "releasing"))
            foreach (var step in request.Steps)
                states[step.Ordinal] = step.State;
        foreach (var change in request.Plan)
        {
            Show.Line(
                $"{(change.ByRules ? " *" : "  ")}{change.Ordinal, 2}. "
                    + $"{change.Text}{(change.Due is { } due ? $", {When(due, change.Kind, request.Place)}" : "")}"
                    + $"{(states.TryGetValue(change.Ordinal, out var state) ? $"  [{state}]" : "")}"
            );
            foreach (var attribute in change.Attributes)
                Show.Line($"        {EffectText.Of(attribute)}");
            if (change.Kind == "verify")
                continue;
            var (rule, place) = (change.Reason.Rule, change.Reason.Place);
            Show.Line($"        {Because(rule, place)}: {change.Reason.Condition}");
        }
    }

    /// <summary>What gives it: a template by its name, or what has no name and is told in words.</summary>
    private static string Because(string rule, string place) =>
        rule == "request" ? "asked for"
        : rule.Contains(' ', StringComparison.Ordinal) ? $"because of {rule} ({place})"
        : $"because of template '{rule}' ({place})";

    /// <summary>When a change runs: what is taken away goes at the end of a day, what is given comes with one.</summary>
    private static string When(DateTimeOffset due, string kind, SitePlace? place)
    {
        var takes = kind is "disable-account" or "revoke";
        var day = Show.Moment(due, place, takes);
        return $"{(day == Show.At(due) ? "at" : takes ? "at the end of" : "on")} {day}";
    }

    private static Command Decision(
        string verb,
        string description,
        string example,
        Option<string?>? remark,
        Func<Service, RequestDetail, string?, CancellationToken, Task<(RequestDetail, System.Text.Json.JsonElement)>> act
    )
    {
        var id = Id();
        var yes = new Option<bool>("--yes") { Description = "do not ask" };
        var plan = new Option<string?>("--plan") { Description = "digest of the plan you saw; refused when it is another by now" };
        List<Symbol> symbols = [id, yes, plan];
        if (remark is not null)
            symbols.Add(remark);
        return Commands.Make(
            verb,
            description,
            example,
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (request, _) = await service.GetAsync<RequestDetail>(
                    $"/api/v1/requests/{Uri.EscapeDataString(parsed.GetValue(id)!)}",
                    cancel
                );
                if (parsed.GetValue(plan) is { } digest)
                    request = request with { PlanDigest = digest };
                else if (!parsed.GetValue(yes))
                {
                    Tell(request);
                    Show.Line();
                }
                Commands.Confirm(
                    parsed.GetValue(yes),
                    $"{char.ToUpperInvariant(verb[0])}{verb[1..]} request {request.Summary.Number} ({request.Summary.Kind} "
                        + $"{request.Summary.Person})?"
                );
                var (after, raw) = await act(service, request, remark is null ? null : parsed.GetValue(remark), cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line($"Request {after.Summary.Number} is now {after.Summary.StateText}; it waits on {after.Summary.WaitsOn}.");
                return Exit.Good;
            },
            symbols
        );
    }

    private static Command Approve() =>
        Decision(
            "approve",
            "Approves the plan as it is now.",
            "oikonom requests approve 12 --yes",
            new("--remark") { Description = "a word with it" },
            (service, request, remark, cancel) =>
                service.PostAsync<RequestDetail>(
                    $"/api/v1/requests/{request.Summary.Id}/approve",
                    new ApproveBody(request.PlanDigest ?? "", remark),
                    cancel
                )
        );

    private static Command Decline() =>
        Decision(
            "decline",
            "Declines, with a reason.",
            "oikonom requests decline 12 --reason \"not agreed\" --yes",
            new("--reason") { Description = "why", Required = true },
            (service, request, reason, cancel) =>
                service.PostAsync<RequestDetail>($"/api/v1/requests/{request.Summary.Id}/decline", new DeclineBody(reason ?? ""), cancel)
        );

    private static Command Release() =>
        Decision(
            "release",
            "Releases an approved plan, so that its steps run.",
            "oikonom requests release 12 --yes",
            null,
            (service, request, _, cancel) =>
                service.PostAsync<RequestDetail>(
                    $"/api/v1/requests/{request.Summary.Id}/release",
                    new ReleaseBody(request.PlanDigest ?? ""),
                    cancel
                )
        );

    private static Command NewLink()
    {
        var id = new Argument<string>("request") { Description = "number or id" };
        return Commands.Make(
            "new-link",
            "Sends a new one-time link to the first password of a request; the ones before it end.",
            "oikonom requests new-link 12",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (sent, raw) = await service.PostAsync<FirstPasswordSent>(
                    $"/api/v1/requests/{Uri.EscapeDataString(parsed.GetValue(id)!)}/new-link",
                    null,
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Good($"A new link is on its way to {string.Join(", ", sent.Receivers)}.");
                return Exit.Good;
            },
            id
        );
    }

    private static Command Retry() =>
        Decision(
            "retry",
            "Lets what stopped or waits try again at once.",
            "oikonom requests retry 12 --yes",
            null,
            (service, request, _, cancel) => service.PostAsync<RequestDetail>($"/api/v1/requests/{request.Summary.Id}/retry", null, cancel)
        );

    private static Command LeaveOut()
    {
        var reason = new Option<string?>("--reason") { Description = "why; it stands on the ledger", Required = true };
        var step = new Option<int?>("--step") { Description = "its number in the plan; all that failed when it is missing" };
        var set = new Option<string[]>("--set")
        {
            Description = "NAME=VALUE of the person's record: it is asked for anew with this, in a request that is decided",
        };
        var id = Id();
        return Commands.Make(
            "leave-out",
            "Leaves out steps that stopped or fail, for good or to have them done with other values; the request goes on without them.",
            "oikonom requests leave-out 12 --set phone=\"+351 555 0112\" --reason \"the number was mistyped\"",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var record = AskCommands.Record(parsed.GetValue(set) ?? []);
                var (after, raw) = await service.PostAsync<RequestDetail>(
                    $"/api/v1/requests/{Uri.EscapeDataString(parsed.GetValue(id)!)}/leave-out",
                    new LeaveOutBody(parsed.GetValue(reason), parsed.GetValue(step), record.Count > 0 ? record : null),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line($"Request {after.Summary.Number} is now {after.Summary.StateText}. {after.Story.Now}");
                return Exit.Good;
            },
            id,
            reason,
            step,
            set
        );
    }

    private static Command Choose()
    {
        var id = Id();
        var target = new Argument<string>("target");
        var entry = new Argument<string>("immutable-id") { Description = "as 'requests show' lists it" };
        return Commands.Make(
            "choose",
            "Picks which of several existing entries is this person's.",
            "oikonom requests choose 12 directory 5f0c…",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (after, raw) = await service.PostAsync<RequestDetail>(
                    $"/api/v1/requests/{Uri.EscapeDataString(parsed.GetValue(id)!)}/choose",
                    new ChooseBody(parsed.GetValue(target)!, parsed.GetValue(entry)!),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line($"Request {after.Summary.Number} is now {after.Summary.StateText}.");
                return Exit.Good;
            },
            id,
            target,
            entry
        );
    }

    private static Command People()
    {
        var text = new Option<string?>("--text") { Description = "part of a name, an employee number or an account name" };
        var site = new Option<string?>("--site");
        var department = new Option<string?>("--department");
        var limit = new Option<int>("--limit") { DefaultValueFactory = _ => 50 };
        return Commands.Make(
            "list",
            "Lists people in order of family name.",
            "oikonom people list --text selkirk",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<PersonSummary>>(
                    $"/api/v1/people?limit={parsed.GetValue(limit)}"
                        + Query("text", parsed.GetValue(text))
                        + Query("site", parsed.GetValue(site))
                        + Query("department", parsed.GetValue(department)),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Number", "Person", "Kind", "Department", "Site", "Title", "From", "Until"],
                    page.Items.Select(p =>
                        (IReadOnlyList<string>)
                            [
                                p.Number,
                                p.Name,
                                p.Kind,
                                p.Department,
                                p.Site,
                                p.Title,
                                p.Start.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture),
                                p.End?.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture) ?? "open",
                            ]
                    ),
                    "Nobody is like that."
                );
                if (page.Next is not null)
                    Show.Line("There are more; raise --limit or narrow the filter.");
                return Exit.Good;
            },
            text,
            site,
            department,
            limit
        );
    }

    private static Command Person()
    {
        var id = new Argument<string>("person") { Description = "employee number or id" };
        return Commands.Make(
            "show",
            "Shows a person: record, accounts, grants, requests, and what is scheduled.",
            "oikonom people show E1002",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (p, raw) = await service.GetAsync<PersonDetail>($"/api/v1/people/{Uri.EscapeDataString(parsed.GetValue(id)!)}", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                var place = new SitePlace(p.Zone, p.SiteTitle);
                Show.Title($"{p.Name} ({p.Number}), {p.Title}, {p.Department}, {p.SiteTitle}");
                Show.Line(
                    $"{p.Kind} from {p.Start:yyyy-MM-dd} until "
                        + $"{(p.End is { } end ? end.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture) : "open")} (days of "
                        + $"{p.Zone}); manager: {p.ManagerName ?? "none"}"
                );
                Show.Table(
                    ["Target", "Account", "Location", "State", "Immutable id"],
                    p.Accounts.Select(a =>
                        (IReadOnlyList<string>)
                            [AccountOf(a.Target, a.Slot), a.Name, a.Location, a.Enabled ? "enabled" : "disabled", a.ImmutableId]
                    ),
                    "No account."
                );
                Show.Table(
                    ["Grant", "From", "Until", "Because of"],
                    p.Grants.Select(g =>
                        (IReadOnlyList<string>)
                            [
                                $"{AccountOf(g.Target, g.Slot)}/{g.Entitlement}",
                                Show.Moment(g.From, place, false),
                                g.Until is { } until ? Show.Moment(until, place, true) : "open",
                                $"{g.Reason.Rule}: {g.Reason.Condition}",
                            ]
                    ),
                    "No grant."
                );
                if (p.Requests.Count > 0)
                    Show.Table(
                        ["No.", "Kind", "State", "Since"],
                        p.Requests.Select(r =>
                            (IReadOnlyList<string>)[r.Number.ToString(CultureInfo.InvariantCulture), r.Kind, r.StateText, Show.Ago(r.Since)]
                        ),
                        ""
                    );
                LookCommands.Tell(p.Findings ?? []);
                foreach (var next in p.Scheduled)
                    Show.Line($"Scheduled {Show.At(next.Due)}: {next.Text} (request {next.RequestNumber})");
                return Exit.Good;
            },
            id
        );
    }

    /// <summary>How an account is named: the target, and the slot where it is not the ordinary one.</summary>
    private static string AccountOf(string target, string slot) => slot.Length > 0 ? $"{target}:{slot}" : target;
}
