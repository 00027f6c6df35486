using System.CommandLine;
using System.Globalization;
using Oikonom.Contracts;

namespace Oikonom.Cli;

/// <summary>Rights to decide that are handed over for a time.</summary>
internal static class DelegationCommands
{
    public static Command All() =>
        Commands.Group("delegations", "Rights to decide that are handed over for a time.", Delegations(), Delegate(), EndDelegation());

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
}
