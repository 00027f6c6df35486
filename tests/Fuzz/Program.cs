namespace Oikonom.Fuzz.Tests;

/// <summary>Runs the suite; with <c>fuzz</c> as the first word, fuzzes for a time instead.</summary>
public static class Program
{
    public static async Task<int> Main(string[] args) =>
        args is ["fuzz", ..] ? FuzzCommand.Run(args[1..]) : await Xunit.Runner.InProc.SystemConsole.ConsoleRunner.Run(args);
}
