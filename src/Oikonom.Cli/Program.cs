using Oikonom.Cli;

Show.Setup();
var parsed = Commands.Build().Parse(args);
if (parsed.Errors.Count > 0 && parsed.Action is System.CommandLine.Invocation.ParseErrorAction)
{
    Console.Error.WriteLine($"oikonom: {parsed.Errors[0].Message} See 'oikonom {string.Join(' ', parsed.CommandResult.Command.Parents.OfType<System.CommandLine.Command>().Where(c => c is not System.CommandLine.RootCommand).Select(c => c.Name).Append(parsed.CommandResult.Command is System.CommandLine.RootCommand ? "" : parsed.CommandResult.Command.Name)).Trim()} --help'.");
    return Exit.Usage;
}
return await parsed.InvokeAsync();
