using System.Diagnostics;

namespace Oikonom.Testing;

/// <summary>Programs that a test starts; what they print is read and dropped, so that none of them waits for it.</summary>
internal static class Child
{
    public static Process Start(params string[] command)
    {
        var process = Process.Start(
            new ProcessStartInfo(command[0], command[1..])
            {
                RedirectStandardOutput = true,
                RedirectStandardError = true,
                WorkingDirectory = "/",
            }
        )!;
        process.OutputDataReceived += (_, _) => { };
        process.ErrorDataReceived += (_, _) => { };
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        return process;
    }

    public static async Task RunAsync(params string[] command)
    {
        using var process = Start(command);
        await process.WaitForExitAsync();
        if (process.ExitCode != 0)
            throw new InvalidOperationException($"{string.Join(' ', command)} ended with {process.ExitCode}.");
    }
}
