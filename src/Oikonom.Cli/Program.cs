using System.CommandLine;
using Oikonom.Cli;

Show.Setup();
var parsed = Commands.Build().Parse(args);
if (parsed.Errors.Count > 0 && parsed.Action is System.CommandLine.Invocation.ParseErrorAction)
{
    var command = parsed.CommandResult.Command;
    var names = command.Parents.OfType<Command>().Append(command).Where(c => c is not RootCommand).Select(c => c.Name);
    Console.Error.WriteLine(
        $"oikonom: {parsed.Errors[0].Message} See 'oikonom {string.Join(' ', names)} --help'.".Replace("  ", " ", StringComparison.Ordinal)
    );
    return Exit.Usage;
}
return await parsed.InvokeAsync();
