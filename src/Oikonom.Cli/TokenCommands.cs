using System.CommandLine;
using Oikonom.Contracts;

namespace Oikonom.Cli;

/// <summary>API tokens of one's own: made for a program, limited to some roles, and replaced before they end.</summary>
internal static class TokenCommands
{
    public static Command Group() => Commands.Group("tokens", "API tokens of your own, for programs.", List(), MakeOne(), End());

    private static Command List() =>
        Commands.Make(
            "list",
            "Lists your API tokens that hold.",
            "oikonom tokens list",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<TokenView>>("/api/v1/me/tokens", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Token", "For", "Roles", "Made", "Ends"],
                    page.Items.Select(t =>
                        (IReadOnlyList<string>)
                            [
                                t.Id,
                                t.Label + (t.Current ? " (this one)" : ""),
                                t.Roles.Count == 0 ? "all of yours" : string.Join(", ", t.Roles),
                                Show.At(t.CreatedAt),
                                Show.At(t.ExpiresAt),
                            ]
                    ),
                    "No token holds."
                );
                return Exit.Good;
            }
        );

    private static Command MakeOne()
    {
        var label = new Argument<string>("label") { Description = "what it is for" };
        var days = new Option<int>("--days") { Description = "how long it holds, 1 to 365", DefaultValueFactory = _ => 90 };
        var role = new Option<string[]>("--role") { Description = "limits it to this role of yours; once for each" };
        return Commands.Make(
            "make",
            "Makes an API token and prints it, once. The old one goes on until it ends, so that a program can change over.",
            "oikonom tokens make reports --role auditor --days 90",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (issued, raw) = await service.PostAsync<IssuedToken>(
                    "/api/v1/me/tokens",
                    new OwnTokenBody(parsed.GetValue(label)!, parsed.GetValue(days), parsed.GetValue(role)),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line(issued.Token);
                await Console.Error.WriteLineAsync(
                    $"It holds until {Show.At(issued.ExpiresAt)} and is not shown again. End the old one with 'oikonom tokens end ID'."
                );
                return Exit.Good;
            },
            label,
            days,
            role
        );
    }

    private static Command End()
    {
        var id = new Argument<string>("token") { Description = "as 'tokens list' names it" };
        return Commands.Make(
            "end",
            "Ends one of your API tokens.",
            "oikonom tokens end 01a2…",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                await service.DeleteAsync($"/api/v1/me/tokens/{Uri.EscapeDataString(parsed.GetValue(id)!)}", cancel);
                Show.Line("It is ended.");
                return Exit.Good;
            },
            id
        );
    }
}
