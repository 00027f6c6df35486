using System.CommandLine;
using System.Security.Cryptography;
using System.Text;

namespace Oikonom.Cli;

/// <summary>The tree of commands, NOUN VERB.</summary>
public static class Commands
{
    public static readonly Option<string> Output = new("--output")
    {
        Description = "table for people, json for machines",
        DefaultValueFactory = _ => "table",
        Recursive = true,
    };

    public static readonly Option<bool> Utc = new("--utc")
    {
        Description = "instants in UTC, not by the clock of this machine",
        Recursive = true,
    };

    public static RootCommand Build()
    {
        Output.AcceptOnlyFromAmong("table", "json");
        var root = new RootCommand(
            "oikonom: the client of the identity lifecycle service.\nThe address comes from OIKONOM_URL, the token from "
                + "OIKONOM_TOKEN or from 'oikonom sign-in'.\nExit codes: 0 good, 1 refused, 2 wrong usage, 3 not signed in, 4 not "
                + "found, 5 conflict, 6 service not reachable."
        );
        root.Options.Add(Output);
        root.Options.Add(Utc);
        foreach (
            var command in AccessCommands
                .All()
                .Concat(IntakeCommands.All())
                .Concat(WorkCommands.All())
                .Concat(RulebookCommands.All())
                .Concat(RollOutCommands.All())
                .Concat(SetupCommands.All())
        )
            root.Subcommands.Add(command);
        return root;
    }

    public static bool IsJson(ParseResult parsed) => parsed.GetValue(Output) == "json";

    public static Command Group(string name, string description, params IReadOnlyList<Command> commands)
    {
        var group = new Command(name, description);
        foreach (var command in commands)
            group.Subcommands.Add(command);
        return group;
    }

    /// <summary>A command with its example in the help; faults become one line and an exit code.</summary>
    public static Command Make(
        string name,
        string description,
        string example,
        Func<ParseResult, CancellationToken, Task<int>> run,
        params IReadOnlyList<Symbol> symbols
    )
    {
        var command = new Command(name, $"{description}\nExample: {example}");
        foreach (var symbol in symbols)
        {
            if (symbol is Argument argument)
                command.Arguments.Add(argument);
            else if (symbol is Option option)
                command.Options.Add(option);
        }
        command.SetAction(
            async (parsed, cancel) =>
            {
                Show.IsUtc = parsed.GetValue(Utc);
                try
                {
                    return await run(parsed, cancel);
                }
                catch (CliFault fault)
                {
                    await Console.Error.WriteLineAsync(IsJson(parsed) ? fault.AsJson() : $"oikonom: {Show.Clean(fault.Message)}");
                    return fault.Code;
                }
                catch (Exception error) when (error is not OperationCanceledException)
                {
                    return await Unforeseen(error);
                }
            }
        );
        return command;
    }

    /// <summary>A fault of the client itself is told in one line; all of it is told where <c>OIKONOM_DEBUG</c> is set.</summary>
    internal static async Task<int> Unforeseen(Exception error)
    {
        var first = error.Message.ReplaceLineEndings("\n").Split('\n')[0];
        var place = error.StackTrace?.Split('\n')[0].Trim() ?? "";
        var id = Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes($"{error.GetType()} {place}")))[..8];
        await Console.Error.WriteLineAsync(
            $"oikonom: The client met something it does not know (fault {id}: {Show.Clean(first)}). "
                + "Set OIKONOM_DEBUG=1 and try again to see all of it, and tell whoever runs the service."
        );
        if (Environment.GetEnvironmentVariable("OIKONOM_DEBUG") is { Length: > 0 })
            await Console.Error.WriteLineAsync(error.ToString());
        return Exit.Fault;
    }

    /// <summary>Asks before something that cannot be taken back; without a terminal, --yes is needed.</summary>
    public static void Confirm(bool yes, string question)
    {
        if (yes)
            return;
        if (Console.IsInputRedirected)
            throw new CliFault(Exit.Usage, "Nobody can be asked here; say --yes to go on without a question.");
        Console.Error.Write($"{question} [y/N] ");
        if (Console.ReadLine()?.Trim().ToLowerInvariant() is not ("y" or "yes"))
            throw new CliFault(Exit.Refused, "Nothing was done.");
    }
}
