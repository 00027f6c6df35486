using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using Oikonom.Contracts;

namespace Oikonom.Cli;

/// <summary>What is held of people, what is forgotten next, and what keeps it.</summary>
internal static class ForgettingCommands
{
    public static IEnumerable<Command> All() =>
        [Retention(), Hold(), EndHold(), Forget(), Decide("confirm-forget", true), Decide("decline-forget", false), Data()];

    private static Argument<string> Person() => new("number") { Description = "employee number or id" };

    private static Command Retention() =>
        Commands.Make(
            "retention",
            "Lists who is forgotten within 90 days and what stops it, orders that wait, and holds.",
            "oikonom people retention",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (view, raw) = await service.GetAsync<RetentionView>("/api/v1/retention", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line(
                    view.Rule is null
                        ? "The rulebook forgets nobody by rule; see 'retention' in docs/rulebook.md."
                        : $"Values of people are kept {view.Rule}; what belongs to decisions on powerful access {view.PowerfulRule}."
                );
                Show.Table(
                    ["Number", "Name", "Left", "Forgotten on", "Stopped by"],
                    view.Next.Select(e => (IReadOnlyList<string>)[e.Number, e.Name, Day(e.Left), Day(e.On), string.Join("; ", e.Stops)]),
                    "Nobody is forgotten within 90 days."
                );
                foreach (var order in view.Orders)
                    Show.Line(
                        $"Ordered by {order.AskedBy}: forget {order.Name} ({order.Number}): {order.Reason}. Another confirms "
                            + $"it: oikonom people confirm-forget {order.Id}"
                    );
                foreach (var hold in view.Holds)
                    Show.Line($"Held until {Day(hold.Until)} by {hold.By}: {hold.Name} ({hold.Number}): {hold.Reason}");
                return Exit.Good;
            }
        );

    private static string Day(DateOnly day) => day.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture);

    private static Command Hold()
    {
        var (person, reason, until) = (
            Person(),
            new Option<string>("--reason") { Required = true },
            new Option<DateOnly>("--until") { Description = "the last day, such as 2027-12-31", Required = true }
        );
        return Commands.Make(
            "hold",
            "Keeps what is held of a person until a day, whatever the rule says.",
            "oikonom people hold E1044 --reason \"A claim is open\" --until 2027-12-31",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (hold, raw) = await service.PostAsync<RetentionHold>(
                    $"/api/v1/people/{Uri.EscapeDataString(parsed.GetValue(person)!)}/hold",
                    new HoldBody(parsed.GetValue(reason)!, parsed.GetValue(until)),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Good($"What is held of {hold.Name} is kept until {Day(hold.Until)}.");
                return Exit.Good;
            },
            person,
            reason,
            until
        );
    }

    private static Command EndHold()
    {
        var person = Person();
        return Commands.Make(
            "end-hold",
            "Ends a hold.",
            "oikonom people end-hold E1044",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                await service.DeleteAsync($"/api/v1/people/{Uri.EscapeDataString(parsed.GetValue(person)!)}/hold", cancel);
                Show.Line("The hold has ended.");
                return Exit.Good;
            },
            person
        );
    }

    private static Command Forget()
    {
        var (person, reason) = (Person(), new Option<string>("--reason") { Required = true });
        return Commands.Make(
            "forget",
            "Orders that somebody who left be forgotten; a second person confirms it.",
            "oikonom people forget E1044 --reason \"Asked for it in writing\"",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (order, raw) = await service.PostAsync<ForgetOrder>(
                    $"/api/v1/people/{Uri.EscapeDataString(parsed.GetValue(person)!)}/forget",
                    new ForgetBody(parsed.GetValue(reason)!),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line($"Ordered. Another engineer or an auditor confirms it: oikonom people confirm-forget {order.Id}");
                return Exit.Good;
            },
            person,
            reason
        );
    }

    private static Command Decide(string name, bool confirm)
    {
        var id = new Argument<string>("order") { Description = "as 'people retention' names it" };
        var yes = new Option<bool>("--yes") { Description = "do not ask" };
        return Commands.Make(
            name,
            confirm ? "Confirms the order of somebody else: what is held of the person is forgotten now." : "Declines an order.",
            $"oikonom people {name} 01a2…",
            async (parsed, cancel) =>
            {
                if (confirm)
                    Commands.Confirm(parsed.GetValue(yes), "This cannot be taken back. Forget now?");
                using var service = new Service();
                var (order, raw) = await service.PostAsync<ForgetOrder>(
                    $"/api/v1/retention/orders/{Uri.EscapeDataString(parsed.GetValue(id)!)}/{(confirm ? "confirm" : "decline")}",
                    null,
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Good(confirm ? $"{order.Name} is forgotten; the record still verifies." : "Declined.");
                return Exit.Good;
            },
            id,
            yes
        );
    }

    private static Command Data()
    {
        var person = Person();
        var file = new Option<string?>("--out") { Description = "write it to a file" };
        return Commands.Make(
            "data",
            "Gives all that is held of a person, as JSON.",
            "oikonom people data E1044 --out E1044.json",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (_, raw) = await service.GetAsync<JsonElement>(
                    $"/api/v1/people/{Uri.EscapeDataString(parsed.GetValue(person)!)}/data",
                    cancel
                );
                if (parsed.GetValue(file) is not { } path)
                    return Show.Json(raw);
                await IntakeCommands.SaveAsync(path, raw.GetRawText(), cancel);
                Show.Line($"Written to {path}.");
                return Exit.Good;
            },
            person,
            file
        );
    }
}
