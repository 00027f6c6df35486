using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using Oikonom.Contracts;

namespace Oikonom.Cli;

/// <summary>The systems that hold accounts.</summary>
internal static class TargetCommands
{
    public static Command Group() =>
        Commands.Group(
            "targets",
            "The systems that hold accounts.",
            [List(), One(), Check(), Pause(), Resume(), Run(), Reconcile(), CatalogueCommands.Read(), Holders(), .. NobodysCommands.All()]
        );

    private static Command List() =>
        Commands.Make(
            "list",
            "Lists the targets: how each does, what waits and what fails.",
            "oikonom targets list",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<TargetSummary>>("/api/v1/targets", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Target", "Title", "State", "Accounts", "Nobody's", "Changed", "Due", "Later", "Failing", "Done a day", "Why"],
                    page.Items.Select(t =>
                        (IReadOnlyList<string>)
                            [
                                t.Name,
                                t.Title,
                                t.State,
                                Text(t.Accounts),
                                Text(t.Nobodys),
                                Text(t.Differing),
                                Text(t.Due),
                                Text(t.Waiting - t.Due),
                                Text(t.Failing),
                                Text(t.Done),
                                t.Text.Length > 0 ? t.Text : t.Problem ?? "",
                            ]
                    ),
                    "The rulebook has no target."
                );
                return Exit.Good;
            }
        );

    private static string Text(int number) => number.ToString(CultureInfo.InvariantCulture);

    private static Argument<string> Name() => new("target") { Description = "name of the target in the rulebook" };

    private static string Path(ParseResult parsed, Argument<string> name, string deed = "") =>
        $"/api/v1/targets/{Uri.EscapeDataString(parsed.GetValue(name)!)}{deed}";

    private static Command One()
    {
        var name = Name();
        return Commands.Make(
            "show",
            "Shows a target: how it does, what the last check found, what became of it.",
            "oikonom targets show directory",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (detail, raw) = await service.GetAsync<TargetDetail>(Path(parsed, name), cancel);
                return Commands.IsJson(parsed) ? Show.Json(raw) : Told(detail);
            },
            name
        );
    }

    private static int Told(TargetDetail detail)
    {
        var t = detail.Summary;
        Show.Line($"{t.Title} ({t.Name}, {t.Kind}) at {t.Address}: {t.State}{(t.Since is { } since ? $" since {Show.At(since)}" : "")}");
        if (t.Text.Length > 0)
            Show.Line($"  {t.Text}");
        Show.Line($"  Last success       {(t.LastSuccess is { } good ? Show.At(good) : "none yet")}");
        Show.Line($"  Certificate until  {(t.CertificateUntil is { } until ? Show.At(until) : "not seen")}");
        if (t.SecretUntil is { } ends)
            Show.Line($"  Sign-in until      {Show.At(ends)}");
        Show.Line($"  Accounts           {t.Accounts}, and {t.Nobodys} of nobody; {t.Differing} changed outside");
        Show.Line(
            $"  Steps              {t.Due} due{(t.Oldest is { } oldest ? $", the oldest since {Show.At(oldest)}" : "")}; {t.Running} under "
                + $"way, {t.Waiting - t.Due} for later, {t.Failing} do not succeed"
        );
        Show.Line($"  Within a day       {t.Done} done, {t.Failed} did not succeed because of it");
        foreach (var limit in detail.Limits)
            Show.Line($"  {limit.Name, -18} {limit.Value}");
        if (detail.Checked.Count > 0)
        {
            Show.Line("");
            Show.Line($"The check of {(detail.CheckedAt is { } at ? Show.At(at) : "")}");
            Points(detail.Checked);
        }
        Show.Line("");
        Show.Table(
            ["Entitlement", "Title", "Kind", "Held by", "At most"],
            detail.Entitlements.Select(e =>
                (IReadOnlyList<string>)[e.Name, e.Title, e.Kind, Text(e.Holders), e.Most is { } most ? Text(most) : ""]
            ),
            "It gives nothing beside accounts."
        );
        if (detail.History.Count == 0)
            return Exit.Good;
        Show.Line("");
        Show.Table(
            ["At", "What", "By", "Why"],
            detail.History.Select(h => (IReadOnlyList<string>)[Show.At(h.At), h.Kind, h.Actor, h.Text]),
            ""
        );
        return Exit.Good;
    }

    private static void Points(IReadOnlyList<TargetPoint> points)
    {
        foreach (var point in points)
            Show.Line($"  {(point.Good ? "good" : "BAD "), -5} {point.What, -20} {point.Text}");
    }

    private static Command Check()
    {
        var name = Name();
        return Commands.Make(
            "check",
            "Looks whether all a target needs is there, and what it lets us do; nothing is changed. Exit code 1 when not.",
            "oikonom targets check directory",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (check, raw) = await service.PostAsync<TargetCheck>(Path(parsed, name, "/check"), null, cancel);
                if (Commands.IsJson(parsed))
                    Show.Json(raw);
                else
                {
                    if (check.Reachable)
                        Show.Good($"{check.Name}: good. {check.Message} ({check.SignedInAs ?? "by hand"}, {check.Milliseconds} ms)");
                    else
                        Show.Bad($"{check.Name}: not good. {check.Message}");
                    Points(check.Points);
                    if (check.CertificateUntil is { } until)
                        Show.Line($"  The certificate holds until {Show.At(until)}.");
                }
                return check.Reachable ? Exit.Good : Exit.Refused;
            },
            name
        );
    }

    private static Command Pause()
    {
        var name = Name();
        var reason = new Option<string>("--reason") { Description = "why; whoever waits for it reads it", Required = true };
        return Commands.Make(
            "pause",
            "Lets nothing begin in a target any more; what is under way ends. Leavers wait too.",
            "oikonom targets pause directory --reason \"replica is rebuilt\"",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (detail, raw) = await service.PostAsync<TargetDetail>(
                    Path(parsed, name, "/pause"),
                    new PauseBody(parsed.GetValue(reason)),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Good(
                    $"{detail.Summary.Title} is paused; {detail.Summary.Running} under way end, {detail.Summary.Due} due steps wait."
                );
                return Exit.Good;
            },
            name,
            reason
        );
    }

    private static Command Resume()
    {
        var name = Name();
        return Commands.Make(
            "resume",
            "Lets a paused target go on.",
            "oikonom targets resume directory",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (detail, raw) = await service.PostAsync<TargetDetail>(Path(parsed, name, "/resume"), null, cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Good($"{detail.Summary.Title} goes on; {detail.Summary.Due} steps are due.");
                return Exit.Good;
            },
            name
        );
    }

    private static Command Run()
    {
        var name = Name();
        var person = new Argument<string>("person") { Description = "number or id of a person" };
        return Commands.Make(
            "run",
            "Lets what one person waits for in a target begin now, also while it is paused: to see whether it works again.",
            "oikonom targets run directory E1002",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (now, raw) = await service.PostAsync<RunningNow>(
                    Path(parsed, name, "/run"),
                    new RunNowBody(parsed.GetValue(person)),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                var requests = string.Join(", ", now.Requests.Select(r => r.Number));
                Show.Good(
                    $"{now.Steps} {(now.Steps == 1 ? "step" : "steps")} of {now.Display} {(now.Steps == 1 ? "begins" : "begin")} now"
                        + $"{(requests.Length > 0 ? $": request {requests}" : "")}."
                );
                return Exit.Good;
            },
            name,
            person
        );
    }

    private static Command Reconcile()
    {
        var name = Name();
        var dry = new Option<bool>("--dry-run") { Description = "only look: nothing follows from it" };
        var changes = new Option<bool>("--changes") { Description = "read only what changed since the last time" };
        var kind = new Option<string?>("--class") { Description = "show the entries of this class alone, such as drift or unmatched" };
        return Commands.Make(
            "reconcile",
            "Reads a target whole, or what changed in it, and tells how each entry stands to what was decided. Exit code 1 when something "
                + "differs.",
            "oikonom targets reconcile directory --dry-run",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (made, _) = await service.PostAsync<Reconciliation>(
                    Path(parsed, name, "/reconcile"),
                    new ReconcileBody(parsed.GetValue(dry)) { Changes = parsed.GetValue(changes) },
                    cancel
                );
                var (detail, raw) = await service.GetAsync<ReconciliationDetail>(
                    Path(parsed, name, $"/reconciliations/{made.Id}?kind={Uri.EscapeDataString(parsed.GetValue(kind) ?? "")}"),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    Show.Json(raw);
                else
                    Told(detail);
                return made.Classes.All(c => c.Name is "as-decided" or "known") ? Exit.Good : Exit.Refused;
            },
            name,
            dry,
            changes,
            kind
        );
    }

    private static Command Holders()
    {
        var what = new Argument<string>("entitlement") { Description = "TARGET/ENTITLEMENT" };
        return Commands.Make(
            "holders",
            "Lists who holds something that a target gives, those first who could give it up.",
            "oikonom targets holders records/pathology",
            async (parsed, cancel) =>
            {
                if (parsed.GetValue(what)!.Split('/') is not [{ Length: > 0 } target, { Length: > 0 } name])
                    throw new CliFault(Exit.Usage, "Name it as TARGET/ENTITLEMENT, such as records/pathology.");
                using var service = new Service();
                var (found, raw) = await service.GetAsync<Holders>(
                    $"/api/v1/targets/{Uri.EscapeDataString(target)}/entitlements/{Uri.EscapeDataString(name)}/holders",
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line($"{found.Title}: held by {found.Count}{(found.Most is { } most ? $" of {most}" : "")}");
                Show.Table(
                    ["Person", "Number", "Department", "Site", "Since", "Until", "Could give it up", "Why"],
                    found.Items.Select(h =>
                        (IReadOnlyList<string>)
                            [
                                h.Person,
                                h.Number,
                                h.Department,
                                h.Site,
                                Show.At(h.Since),
                                h.Until is { } until ? Show.At(until) : "",
                                h.CouldGiveUp ? "yes" : "",
                                h.Why,
                            ]
                    ),
                    "Nobody whom you see holds it."
                );
                return Exit.Good;
            },
            what
        );
    }

    private static void Told(ReconciliationDetail detail)
    {
        var run = detail.Summary;
        var entries = run.Entries == 1 ? "entry" : "entries";
        Show.Line(
            $"{run.Entries} {entries} of {run.Target}{(run.Changes ? " that changed" : "")} in {run.Milliseconds} ms"
                + $"{(run.DryRun ? "; nothing follows from it" : "")}"
        );
        foreach (var group in run.Classes)
            Show.Line($"  {group.Count, 7}  {group.Name, -17} {group.Meaning}");
        if (detail.Items.Count == 0)
            return;
        Show.Line("");
        Show.Table(
            ["Class", "Account", "Person", "Found"],
            detail.Items.Select(i =>
                (IReadOnlyList<string>)[i.Class, i.Account, i.Person is null ? "" : $"{i.Person} ({i.Number})", i.Text]
            ),
            ""
        );
    }
}
