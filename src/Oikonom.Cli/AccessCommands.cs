using System.CommandLine;
using Oikonom.Contracts;

namespace Oikonom.Cli;

internal static class AccessCommands
{
    public static IEnumerable<Command> All() => [SignIn(), SignOut(), Password(), Me()];

    private static Command SignIn()
    {
        var name = new Argument<string>("name") { Description = "your user name" };
        var stdin = new Option<bool>("--password-stdin") { Description = "read the password from standard input" };
        var days = new Option<int>("--days") { Description = "how long the token holds", DefaultValueFactory = _ => 30 };
        return Commands.Make(
            "sign-in",
            "Signs in and keeps a token for this address.",
            "oikonom sign-in ines",
            async (parsed, cancel) =>
            {
                using var service = new Service(anonymous: true);
                var password =
                    parsed.GetValue(stdin) || Console.IsInputRedirected
                        ? Console.In.ReadLine() ?? ""
                        : Ask($"Password of {parsed.GetValue(name)} at {service.Address}: ");
                var (issued, _) = await service.PostAsync<IssuedToken>(
                    "/api/v1/tokens",
                    new TokenBody(parsed.GetValue(name)!, password, $"client on {Environment.MachineName}", parsed.GetValue(days)),
                    cancel
                );
                Credentials.Keep(service.Address, issued.Token);
                if (Commands.IsJson(parsed))
                    Console.Out.WriteLine($$"""{"signedIn":true,"name":"{{parsed.GetValue(name)}}","address":"{{service.Address}}"}""");
                else
                    Show.Line(
                        $"Signed in to {service.Address} as {parsed.GetValue(name)}; the token holds until {Show.At(issued.ExpiresAt)}."
                    );
                return Exit.Good;
            },
            name,
            stdin,
            days
        );
    }

    private static Command SignOut()
    {
        return Commands.Make(
            "sign-out",
            "Ends the kept token and forgets it.",
            "oikonom sign-out",
            async (_, cancel) =>
            {
                using var service = new Service();
                await service.DeleteAsync("/api/v1/tokens/current", cancel);
                Credentials.Forget(service.Address);
                Show.Line($"Signed out of {service.Address}.");
                return Exit.Good;
            }
        );
    }

    private static Command Me()
    {
        return Commands.Make(
            "me",
            "Tells who is signed in.",
            "oikonom me",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (me, raw) = await service.GetAsync<Me>("/api/v1/me", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line($"{me.Display} ({me.Name}) at {service.Address}: {string.Join(", ", me.Roles)}");
                return Exit.Good;
            }
        );
    }

    /// <summary>One's own password.</summary>
    public static Command Password()
    {
        var name = new Argument<string>("name") { Description = "your user name" };
        return Commands.Group(
            "password",
            "Your own password.",
            Commands.Make(
                "change",
                "Changes your password: the present one, then the new one. All your other sessions and tokens end.",
                "oikonom password change",
                async (_, cancel) =>
                {
                    using var service = new Service();
                    var current = Console.IsInputRedirected ? Console.In.ReadLine() ?? "" : Ask("Present password: ");
                    var fresh = Console.IsInputRedirected ? Console.In.ReadLine() ?? "" : Ask("New password: ");
                    if (!Console.IsInputRedirected && Ask("The new one again: ") != fresh)
                        throw new CliFault(Exit.Usage, "The two are not the same; nothing was changed.");
                    await service.PostAsync<object?>("/api/v1/me/password", new OwnPasswordBody(current, fresh), cancel);
                    Show.Line("Your password is changed; all your other sessions and tokens have ended.");
                    return Exit.Good;
                }
            ),
            Commands.Make(
                "forgot",
                "Sends you a link for a new password, if you have a mail address here.",
                "oikonom password forgot ines",
                async (parsed, cancel) =>
                {
                    using var service = new Service(anonymous: true);
                    await service.PostAsync<object?>("/api/v1/password-links", new ForgottenBody(parsed.GetValue(name)!), cancel);
                    Show.Line("If there is such a user with a mail address, a link is on its way.");
                    return Exit.Good;
                },
                name
            )
        );
    }

    private static string Ask(string prompt)
    {
        Console.Error.Write(prompt);
        var text = new System.Text.StringBuilder();
        while (Console.ReadKey(intercept: true) is { Key: not ConsoleKey.Enter } key)
        {
            if (key.Key == ConsoleKey.Backspace)
                text.Length = Math.Max(0, text.Length - 1);
            else
                text.Append(key.KeyChar);
        }
        Console.Error.WriteLine();
        return text.ToString();
    }
}
