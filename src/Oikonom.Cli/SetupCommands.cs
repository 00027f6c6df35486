using System.CommandLine;
using System.Globalization;
using Oikonom.Contracts;

namespace Oikonom.Cli;

internal static class SetupCommands
{
    public static IEnumerable<Command> All()
    {
        yield return TargetCommands.Group();
        yield return LedgerCommands.Group();
        yield return Commands.Group("secrets", "Passwords and certificates the rulebook names.", Secrets(), SetSecret());
        yield return UserCommands.Group();
        yield return TokenCommands.Group();
    }

    private static Command Secrets() =>
        Commands.Make(
            "list",
            "Lists names of secrets; values are never shown.",
            "oikonom secrets list",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<Secret>>("/api/v1/secrets", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Secret", "Set by", "Set at", "Valid until", "Goes to"],
                    page.Items.Select(s =>
                        (IReadOnlyList<string>)
                            [
                                s.Name,
                                s.SetBy,
                                Show.At(s.SetAt),
                                s.ValidUntil?.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture) ?? "",
                                string.Join(", ", s.Goes),
                            ]
                    ),
                    "No secret is set."
                );
                return Exit.Good;
            }
        );

    private static Command SetSecret()
    {
        var name = new Argument<string>("secret");
        var documents = new Option<string[]>("--for")
        {
            Description = "a document of the rulebook it is set for, such as targets/directory; left out, it goes where it went",
        };
        var until = new Option<DateOnly?>("--valid-until")
        {
            Description = "its last day, such as 2034-05-31: its end is told on Today and by mail in good time",
        };
        return Commands.Make(
            "set",
            "Sets a secret from standard input. It goes only where it was set to go.",
            "oikonom secrets set directory-password < password.txt",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var value = (await Console.In.ReadToEndAsync(cancel)).TrimEnd('\n', '\r');
                if (value.Length == 0)
                    throw new CliFault(Exit.Usage, "Give the value on standard input.");
                var (set, raw) = await service.PutAsync<SecretSet>(
                    $"/api/v1/secrets/{Uri.EscapeDataString(parsed.GetValue(name)!)}",
                    new SecretBody(value, parsed.GetValue(documents) is { Length: > 0 } some ? some : null, parsed.GetValue(until)),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                var goes =
                    set.Goes.Count > 0 ? $" and goes to {string.Join(", ", set.Goes)}" : "; it goes where the rulebook first uses it";
                Show.Line($"The secret '{set.Name}' is set{goes}.");
                foreach (var waiting in set.Waiting)
                    Show.Line($"  The rulebook would send it to {waiting} too; set it again with --for to allow that.");
                return Exit.Good;
            },
            name,
            documents,
            until
        );
    }
}
