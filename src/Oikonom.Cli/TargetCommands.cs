using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using Oikonom.Contracts;

namespace Oikonom.Cli;

/// <summary>The systems that hold accounts, and the accounts in them that belong to nobody.</summary>
internal static class TargetCommands
{
    public static Command Group() =>
        Commands.Group("targets", "The systems that hold accounts.", List(), Check(), Accounts(), Mark(), Close());

    private static Command List() =>
        Commands.Make(
            "list",
            "Lists the targets with what waits and what fails.",
            "oikonom targets list",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<TargetSummary>>("/api/v1/targets", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Target", "Title", "Address", "Security", "Accounts", "Nobody's", "Waiting", "Failing", "Problem"],
                    page.Items.Select(t =>
                        (IReadOnlyList<string>)
                            [
                                t.Name,
                                t.Title,
                                t.Address,
                                t.Security,
                                Text(t.Accounts),
                                Text(t.Nobodys),
                                Text(t.Waiting),
                                Text(t.Failing),
                                t.Problem ?? "",
                            ]
                    ),
                    "The rulebook has no target."
                );
                return Exit.Good;
            }
        );

    private static string Text(int number) => number.ToString(CultureInfo.InvariantCulture);

    private static Command Check()
    {
        var name = new Argument<string>("target");
        return Commands.Make(
            "check",
            "Signs in to a target and looks whether all it needs is there. Exit code 1 when not.",
            "oikonom targets check directory",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (check, raw) = await service.PostAsync<TargetCheck>(
                    $"/api/v1/targets/{Uri.EscapeDataString(parsed.GetValue(name)!)}/check",
                    null,
                    cancel
                );
                if (Commands.IsJson(parsed))
                    Show.Json(raw);
                else if (check.Reachable)
                    Show.Good($"{check.Name}: good. {check.Message} ({check.SignedInAs}, {check.Milliseconds} ms)");
                else
                    Show.Bad($"{check.Name}: not good. {check.Message}");
                return check.Reachable ? Exit.Good : Exit.Refused;
            },
            name
        );
    }

    private static Command Accounts()
    {
        var target = new Argument<string?>("target") { Arity = ArgumentArity.ZeroOrOne };
        var purpose = new Option<string?>("--as") { Description = "only those taken for this: unmatched, shared or service" };
        return Commands.Make(
            "accounts",
            "Lists the accounts that belong to nobody: what each is taken for, and who answers for it.",
            "oikonom targets accounts directory --as unmatched",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await ListAsync(service, parsed.GetValue(target), parsed.GetValue(purpose), cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Account", "Taken for", "Answers for it", "State", "Until", "Found", "Where"],
                    page.Items.Select(a =>
                        (IReadOnlyList<string>)
                            [
                                $"{a.Target}/{a.Name}",
                                a.Purpose,
                                a.OwnerName is { } owner ? $"{owner} ({a.OwnerNumber})" : "nobody",
                                a.Enabled ? "awake" : "disabled",
                                a.Until is { } until ? Show.At(until)
                                : a.Request is { } request ? $"request {request}"
                                : "open",
                                Show.At(a.Since),
                                a.Location,
                            ]
                    ),
                    "Every account that was found belongs to a person."
                );
                return Exit.Good;
            },
            target,
            purpose
        );
    }

    private static Command Mark()
    {
        var account = new Argument<string>("account") { Description = "target/name" };
        var purpose = new Option<string>("--as") { Description = "unmatched, shared or service", Required = true };
        var owner = new Option<string?>("--owner") { Description = "employee number of who answers for it" };
        var remark = new Option<string>("--remark") { Description = "why; it stands on the ledger", Required = true };
        return Commands.Make(
            "mark",
            "Says what an account that belongs to nobody is, and who answers for it.",
            "oikonom targets mark directory/svc-backup --as service --owner N0002 --remark \"nightly copies\"",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var found = await FindAsync(service, parsed.GetValue(account)!, cancel);
                var (marked, raw) = await service.PutAsync<NobodysAccountView>(
                    $"/api/v1/accounts/{found.Id}",
                    new AccountMark(parsed.GetValue(purpose), parsed.GetValue(owner), parsed.GetValue(remark)),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Good(
                    $"{marked.Name} in {marked.TargetTitle}: {marked.Purpose}"
                        + (marked.OwnerName is { } name ? $"; {name} answers for it." : "; nobody answers for it.")
                );
                return Exit.Good;
            },
            account,
            purpose,
            owner,
            remark
        );
    }

    private static Command Close()
    {
        var account = new Argument<string>("account") { Description = "target/name" };
        var last = new Option<DateOnly?>("--last-day") { Description = "the last day on which it may be used; at once, if left out" };
        var keep = new Option<bool>("--keep") { Description = "it stays: the end that was approved is taken back" };
        var reason = new Option<string>("--reason") { Description = "why; those who decide read it", Required = true };
        return Commands.Make(
            "close",
            "Asks for the end of an account that belongs to nobody, or for another one. Whoever decides for its owner decides.",
            "oikonom targets close directory/svc-backup --last-day 2026-12-31 --reason \"replaced\"",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var found = await FindAsync(service, parsed.GetValue(account)!, cancel);
                var (made, raw) = await service.PostAsync<RequestSummary>(
                    $"/api/v1/accounts/{found.Id}/close",
                    new AccountClosing(parsed.GetValue(last), parsed.GetValue(reason), parsed.GetValue(keep)),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                var what = parsed.GetValue(keep) ? $"that {found.Name} stays" : $"for the end of {found.Name}";
                Show.Good($"Request {made.Number} asks {what} in {found.TargetTitle}.");
                return Exit.Good;
            },
            account,
            last,
            keep,
            reason
        );
    }

    private static Task<(Page<NobodysAccountView> Value, JsonElement Raw)> ListAsync(
        Service service,
        string? target,
        string? purpose,
        CancellationToken cancel,
        string text = ""
    ) =>
        service.GetAsync<Page<NobodysAccountView>>(
            $"/api/v1/accounts?target={Uri.EscapeDataString(target ?? "")}&purpose={Uri.EscapeDataString(purpose ?? "")}"
                + $"&text={Uri.EscapeDataString(text)}",
            cancel
        );

    /// <summary>The account that <c>target/name</c> names.</summary>
    private static async Task<NobodysAccountView> FindAsync(Service service, string text, CancellationToken cancel)
    {
        var parts = text.Split('/', 2);
        if (parts.Length < 2 || parts[0].Length == 0 || parts[1].Length == 0)
            throw new CliFault(Exit.Usage, $"'{text}' must have the form TARGET/NAME, as 'oikonom targets accounts' shows it.");
        var (page, _) = await ListAsync(service, parts[0], null, cancel, parts[1]);
        return page.Items.FirstOrDefault(a => a.Name.Equals(parts[1], StringComparison.OrdinalIgnoreCase))
            ?? throw new CliFault(
                Exit.NotFound,
                $"No account '{text}' belongs to nobody. 'oikonom targets accounts {parts[0]}' lists those that do."
            );
    }
}
