using System.CommandLine;
using System.Text.Json;
using Oikonom.Contracts;

namespace Oikonom.Cli;

/// <summary>What happened, in words; who is signed in; who hears of changes; how a body must look.</summary>
internal static class RecordCommands
{
    public static Command HistoryOf(string of, string description, string example)
    {
        var id = new Argument<string>("id") { Description = of == "people" ? "employee number or id" : "number or id" };
        var limit = new Option<int>("--limit") { Description = "how many lines", DefaultValueFactory = _ => 50 };
        var export = new Option<string?>("--export") { Description = "write all of it to a CSV file instead" };
        return Commands.Make(
            "history",
            description,
            example,
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var at = $"/api/v1/{of}/{Uri.EscapeDataString(parsed.GetValue(id)!)}/history";
                if (parsed.GetValue(export) is { } file)
                {
                    await IntakeCommands.SaveAsync(file, await service.GetTextAsync($"{at}/export", cancel), cancel);
                    Show.Line($"Written to {file}.");
                    return Exit.Good;
                }
                var (page, raw) = await service.GetAsync<Page<HistoryLine>>($"{at}?limit={parsed.GetValue(limit)}", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                foreach (var line in page.Items)
                {
                    var said = new[]
                    {
                        line.For is { } other ? $"{line.Actor} for {other}" : line.Actor,
                        of == "people" && line.RequestNumber is { } number ? $"request {number}" : null,
                        line.Edition is { } edition ? $"edition {edition}" : null,
                        line.ForgottenAt is { } gone ? $"values forgotten on {gone.UtcDateTime:yyyy-MM-dd}, by {line.ForgottenBy}" : null,
                    };
                    Show.Line($"{Show.At(line.At)}  {line.Text}  ({string.Join(", ", said.OfType<string>())})");
                    foreach (var change in line.Changes)
                        Show.Line(
                            $"    {change.Name}: {(change.Before.Count == 0 ? "" : string.Join(", ", change.Before) + " → ")}"
                                + $"{(change.After.Count == 0 ? "(removed)" : string.Join(", ", change.After))}"
                        );
                }
                if (page.Items.Count == 0)
                    Show.Line("Nothing yet.");
                if (page.Next is not null)
                    Show.Line("There is more: use --limit, or --export FILE for all of it.");
                return Exit.Good;
            },
            id,
            limit,
            export
        );
    }

    public static Command Schema()
    {
        var kind = new Argument<string>("kind")
        {
            Description = "joiner, mover, leaver, access, extension, change, password, unlock or account",
        };
        return Commands.Make(
            "schema",
            "Prints the JSON Schema of the body that raises a request of a kind.",
            "oikonom requests schema access",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (_, raw) = await service.GetAsync<JsonElement>(
                    $"/api/v1/requests/schemas/{Uri.EscapeDataString(parsed.GetValue(kind)!)}",
                    cancel
                );
                return Show.Json(raw);
            },
            kind
        );
    }

    public static IEnumerable<Command> All()
    {
        yield return Commands.Group("sessions", "Who is signed in.", Sessions(), EndSession());
        yield return Commands.Group("hooks", "Systems that hear of changes.", Hooks(), AddHook(), Replay(), EndHook());
        yield return Commands.Group("notices", "What people are told, and the texts of it.", Texts(), Preview(), HearingOf());
    }

    private static Argument<string> Id(string description) => new("id") { Description = description };

    private static Command Sessions() =>
        Commands.Make(
            "list",
            "Lists who is signed in; your own when you may not see all.",
            "oikonom sessions list",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (me, _) = await service.GetAsync<Me>("/api/v1/me", cancel);
                var (page, raw) = await service.GetAsync<Page<SessionView>>(
                    me.Roles.Contains("engineer") ? "/api/v1/sessions" : "/api/v1/me/sessions",
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["User", "From", "How", "Since", "Seen", "Id"],
                    page.Items.Select(s => (IReadOnlyList<string>)[s.User, s.Address, s.Way, Show.At(s.Began), Show.Ago(s.Seen), s.Id]),
                    "Nobody is signed in with a browser."
                );
                return Exit.Good;
            }
        );

    private static Command EndSession()
    {
        var id = Id("as 'sessions list' names it");
        return Commands.Make(
            "end",
            "Ends a session.",
            "oikonom sessions end 01a2…",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (me, _) = await service.GetAsync<Me>("/api/v1/me", cancel);
                await service.DeleteAsync(
                    $"/api/v1/{(me.Roles.Contains("engineer") ? "" : "me/")}sessions/{Uri.EscapeDataString(parsed.GetValue(id)!)}",
                    cancel
                );
                Show.Line("Ended.");
                return Exit.Good;
            },
            id
        );
    }

    private static Command Hooks() =>
        Commands.Make(
            "list",
            "Lists the addresses that hear of changes.",
            "oikonom hooks list",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<HookView>>("/api/v1/hooks", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Address", "Hears of", "State", "Next entry", "Id"],
                    page.Items.Select(h =>
                        (IReadOnlyList<string>)
                            [
                                h.Address,
                                string.Join(", ", h.Kinds),
                                !h.Active ? "ended"
                                : h.Problem is { } problem ? $"tried {h.Attempts} times: {problem}"
                                : "good",
                                h.NextPosition.ToString(System.Globalization.CultureInfo.InvariantCulture),
                                h.Id,
                            ]
                    ),
                    "No address hears of changes."
                );
                return Exit.Good;
            }
        );

    private static Command AddHook()
    {
        var address = new Argument<string>("address") { Description = "https://…" };
        var kinds = new Option<string[]>("--kind")
        {
            Description = "a kind such as request.completed, or a prefix such as request. (default); may stand several times",
        };
        return Commands.Make(
            "add",
            "Tells an address of changes from now on. The secret that signs is read from standard input.",
            "printf %s \"$SECRET\" | oikonom hooks add https://tickets.northmere.example/hear",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                if (!Console.IsInputRedirected)
                    Console.Error.Write("Secret (16 characters or more): ");
                var (hook, raw) = await service.PostAsync<HookView>(
                    "/api/v1/hooks",
                    new HookBody(
                        parsed.GetValue(address)!,
                        Console.In.ReadLine() ?? "",
                        parsed.GetValue(kinds) is { Length: > 0 } some ? some : null
                    ),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line(
                    $"{hook.Address} hears of {string.Join(", ", hook.Kinds)} from entry {hook.NextPosition} on; its id is {hook.Id}."
                );
                return Exit.Good;
            },
            address,
            kinds
        );
    }

    private static Command Replay()
    {
        var id = Id("as 'hooks list' names it");
        var from = new Option<long>("--from") { Description = "the first entry to be told again", DefaultValueFactory = _ => 0 };
        return Commands.Make(
            "replay",
            "Tells everything again from an entry of the ledger on.",
            "oikonom hooks replay 01a2… --from 120",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                await service.PostAsync<JsonElement?>(
                    $"/api/v1/hooks/{Uri.EscapeDataString(parsed.GetValue(id)!)}/replay",
                    new ReplayBody(parsed.GetValue(from)),
                    cancel
                );
                Show.Line($"All from entry {parsed.GetValue(from)} on is told again.");
                return Exit.Good;
            },
            id,
            from
        );
    }

    private static Command EndHook()
    {
        var id = Id("as 'hooks list' names it");
        return Commands.Make(
            "end",
            "Tells an address nothing more.",
            "oikonom hooks end 01a2…",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                await service.DeleteAsync($"/api/v1/hooks/{Uri.EscapeDataString(parsed.GetValue(id)!)}", cancel);
                Show.Line("Ended.");
                return Exit.Good;
            },
            id
        );
    }

    private static Command HearingOf()
    {
        var mail = new Option<bool?>("--mail") { Description = "true: by mail too; false: in the console only" };
        var digest = new Option<string?>("--digest") { Description = "none, hour or day: gather mails into one" };
        var quiet = new Option<string?>("--quiet") { Description = "hours in which no mail goes out, such as 20-7; none ends them" };
        var zone = new Option<string?>("--zone")
        {
            Description = "the time zone of these hours, such as Atlantic/Azores; this machine's when you set hours",
        };
        return Commands.Make(
            "hearing",
            "Tells how you hear, or sets it.",
            "oikonom notices hearing --digest day --quiet 20-7",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (hearing, _) = await service.GetAsync<HearingBody>("/api/v1/me/hearing", cancel);
                var (hours, asked) = (parsed.GetValue(quiet), hearing);
                if (parsed.GetValue(mail) is { } byMail)
                    asked = asked with { Mail = byMail };
                if (parsed.GetValue(digest) is { } gathered)
                    asked = asked with { Digest = gathered };
                if (hours is not null)
                {
                    var ends = hours.Split('-');
                    if (hours == "none")
                        asked = asked with { QuietFrom = null, QuietUntil = null };
                    else if (ends.Length == 2 && int.TryParse(ends[0], out var from) && int.TryParse(ends[1], out var until))
                        asked = asked with { QuietFrom = from, QuietUntil = until };
                    else
                        throw new CliFault(Exit.Usage, $"'{hours}' are no quiet hours; write them as 20-7, or none.");
                }
                // Whoever names hours means those of the clock beside them.
                if (
                    (parsed.GetValue(zone) ?? (hours is null && parsed.GetValue(digest) is null ? null : TimeZoneInfo.Local.Id)) is
                    { } named
                )
                    asked = asked with { Zone = named };
                if (asked != hearing)
                    await service.PutAsync("/api/v1/me/hearing", asked, cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(JsonSerializer.SerializeToElement(asked, JsonSerializerOptions.Web));
                Show.Line(
                    (asked.Mail ? "In the console and by mail" : "In the console, not by mail")
                        + (asked.Digest == "none" ? ", one by one" : $", gathered each {asked.Digest}")
                        + (asked.QuietFrom is { } first ? $"; no mail from {first}:00 to {asked.QuietUntil}:00" : "")
                        + (asked.Digest == "none" && asked.QuietFrom is null ? "." : $" ({asked.Zone}).")
                );
                return Exit.Good;
            },
            mail,
            digest,
            quiet,
            zone
        );
    }

    private static Command Texts() =>
        Commands.Make(
            "texts",
            "Lists the texts of notices, by event.",
            "oikonom notices texts",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<NoticeTemplate>>("/api/v1/notices/templates", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Event", "Subject", "Whose"],
                    page.Items.Select(t => (IReadOnlyList<string>)[t.Event, t.Subject, t.BuiltIn ? "built in" : "of the rulebook"]),
                    ""
                );
                return Exit.Good;
            }
        );

    private static Command Preview()
    {
        var what = new Argument<string>("event") { Description = "as 'notices texts' names it" };
        var send = new Option<bool>("--send") { Description = "send it to your own mail address too" };
        return Commands.Make(
            "preview",
            "Shows a notice as it would go out, with example values.",
            "oikonom notices preview decide",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (notice, raw) = await service.PostAsync<NoticePreview>(
                    "/api/v1/notices/preview",
                    new NoticePreviewBody(parsed.GetValue(what)!, SendToMe: parsed.GetValue(send)),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Title(notice.Subject);
                Show.Line();
                Show.Line(notice.Text);
                if (notice.Sent)
                    Show.Line("It is on its way to you.");
                return Exit.Good;
            },
            what,
            send
        );
    }
}
