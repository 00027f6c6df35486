using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using Oikonom.Contracts;

namespace Oikonom.Cli;

/// <summary>Accounts that belong to nobody: what each is, whose it is, and its end.</summary>
internal static class NobodysCommands
{
    public static IEnumerable<Command> All() => [Accounts(), Mark(), Link(), Close()];

    private static Argument<string[]> Several() =>
        new("accounts") { Description = "target/name; may be several", Arity = ArgumentArity.OneOrMore };

    private static Command Accounts()
    {
        var target = new Argument<string?>("target") { Arity = ArgumentArity.ZeroOrOne };
        var purpose = new Option<string?>("--as") { Description = "only those taken for this: unmatched, shared, service or ignored" };
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
                                a.Review is { } review ? $"asked again {Show.At(review)}"
                                : a.Until is { } until ? Show.At(until)
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
        var accounts = Several();
        var purpose = new Option<string>("--as") { Description = "unmatched, shared, service or ignored", Required = true };
        var until = new Option<DateOnly?>("--until") { Description = "for one that is ignored: the last day on which nobody is asked" };
        var owner = new Option<string?>("--owner") { Description = "employee number of who answers for it" };
        var remark = new Option<string>("--remark") { Description = "why; it stands on the ledger", Required = true };
        return Commands.Make(
            "mark",
            "Says what an account that belongs to nobody is, and who answers for it.",
            "oikonom targets mark directory/svc-backup --as service --owner N0002 --remark \"nightly copies\"",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var mark = new AccountMark(
                    parsed.GetValue(purpose),
                    parsed.GetValue(owner),
                    parsed.GetValue(remark),
                    parsed.GetValue(until)
                );
                var found = await FindAllAsync(service, parsed.GetValue(accounts)!, cancel);
                if (found.Count > 1)
                    return Tell(
                        await service.PutAsync<IReadOnlyList<AccountDecided>>(
                            "/api/v1/accounts",
                            new AccountMarks([.. found.Select(a => a.Id)], mark),
                            cancel
                        ),
                        found,
                        $"taken for {mark.Purpose}",
                        Commands.IsJson(parsed)
                    );
                var (marked, raw) = await service.PutAsync<NobodysAccountView>($"/api/v1/accounts/{found[0].Id}", mark, cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Good(
                    $"{marked.Name} in {marked.TargetTitle}: {marked.Purpose}"
                        + (marked.OwnerName is { } name ? $"; {name} answers for it." : "; nobody answers for it.")
                );
                return Exit.Good;
            },
            accounts,
            purpose,
            owner,
            remark,
            until
        );
    }

    private static Command Close()
    {
        var accounts = Several();
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
                var closing = new AccountClosing(parsed.GetValue(last), parsed.GetValue(reason), parsed.GetValue(keep));
                var all = await FindAllAsync(service, parsed.GetValue(accounts)!, cancel);
                if (all.Count > 1)
                    return Tell(
                        await service.PostAsync<IReadOnlyList<AccountDecided>>(
                            "/api/v1/accounts/close",
                            new AccountClosings([.. all.Select(a => a.Id)], closing),
                            cancel
                        ),
                        all,
                        "asked for",
                        Commands.IsJson(parsed)
                    );
                var found = all[0];
                var (made, raw) = await service.PostAsync<RequestSummary>($"/api/v1/accounts/{found.Id}/close", closing, cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                var what = parsed.GetValue(keep) ? $"that {found.Name} stays" : $"for the end of {found.Name}";
                Show.Good($"Request {made.Number} asks {what} in {found.TargetTitle}.");
                return Exit.Good;
            },
            accounts,
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

    private static Command Link()
    {
        var account = new Argument<string>("account") { Description = "target/name" };
        var person = new Argument<string>("person") { Description = "employee number" };
        var reason = new Option<string>("--reason") { Description = "why; it stands on the ledger", Required = true };
        return Commands.Make(
            "link",
            "Says whose an account is that belonged to nobody. What the rules make of it follows as a request.",
            "oikonom targets link directory/phalvorsen E1305 --reason \"her account of before\"",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var found = await FindAsync(service, parsed.GetValue(account)!, cancel);
                await service.PostAsync<JsonElement>(
                    $"/api/v1/accounts/{found.Id}/link",
                    new AccountLink(parsed.GetValue(person), parsed.GetValue(reason)),
                    cancel
                );
                Show.Good($"{found.Name} in {found.TargetTitle} belongs to {parsed.GetValue(person)}.");
                return Exit.Good;
            },
            account,
            person,
            reason
        );
    }

    private static async Task<IReadOnlyList<NobodysAccountView>> FindAllAsync(Service service, string[] texts, CancellationToken cancel)
    {
        var found = new List<NobodysAccountView>();
        foreach (var text in texts)
            found.Add(await FindAsync(service, text, cancel));
        return found;
    }

    private static int Tell(
        (IReadOnlyList<AccountDecided> Decided, JsonElement Raw) answer,
        IReadOnlyList<NobodysAccountView> all,
        string done,
        bool asJson
    )
    {
        if (asJson)
            return Show.Json(answer.Raw);
        var names = all.ToDictionary(a => a.Id, a => $"{a.Target}/{a.Name}");
        foreach (var one in answer.Decided)
            if (one.Problem is { } problem)
                Show.Line($"  not   {names[one.Id]}: {problem}");
            else
                Show.Line($"  done  {names[one.Id]}: {done}{(one.Request is { } number ? $", request {number}" : "")}");
        return answer.Decided.All(d => d.Problem is null) ? Exit.Good : Exit.Conflict;
    }
}
