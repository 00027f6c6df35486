using System.Globalization;
using System.Runtime.InteropServices;
using Oikonom.Standins.Demo;

if (args is not ["demo", ..])
{
    Console.Error.WriteLine(
        "usage: oikonom-standins demo [--fresh] [--no-office] [--port N] [--folder DIR]\n"
            + "       oikonom-standins demo clock +7d [--folder DIR]"
    );
    return 2;
}
var repository = Path.GetFullPath(Path.Combine(AppContext.BaseDirectory, "..", ".."));
var (folder, port, fresh) = (Path.Combine(repository, ".demo"), DemoOptions.DefaultPort, false);
var office = true;
string? move = null;
for (var i = 1; i < args.Length; i++)
{
    switch (args[i])
    {
        case "--fresh":
            fresh = true;
            break;
        case "--no-office":
            office = false;
            break;
        case "clock" when i + 1 < args.Length:
            move = args[++i];
            break;
        case "--port"
            when i + 1 < args.Length && int.TryParse(args[i + 1], CultureInfo.InvariantCulture, out port) && port is > 1023 and < 65_526:
            i++;
            break;
        case "--folder" when i + 1 < args.Length:
            folder = Path.GetFullPath(args[++i]);
            break;
        case "--repository" when i + 1 < args.Length:
            repository = Path.GetFullPath(args[++i]);
            break;
        default:
            Console.Error.WriteLine(
                $"demo: '{args[i]}' is no option, or its value is missing or out of range. Known: --fresh, --no-office, --port N (1024 to "
                    + "65525), --folder DIR, clock +7d."
            );
            return 2;
    }
}
using var stop = new CancellationTokenSource();
using var interrupt = PosixSignalRegistration.Create(
    PosixSignal.SIGINT,
    context =>
    {
        context.Cancel = true;
        stop.Cancel();
    }
);
using var terminate = PosixSignalRegistration.Create(
    PosixSignal.SIGTERM,
    context =>
    {
        context.Cancel = true;
        stop.Cancel();
    }
);
try
{
    if (move is not null)
    {
        Console.WriteLine(
            $"The demo is {DemoClock.Move(folder, move).TotalDays.ToString("0.##", CultureInfo.InvariantCulture)} days ahead. "
                + "Sign in again where a session is over."
        );
        return 0;
    }
    return await new DemoRun(new(repository, folder, port, fresh) { Office = office }).RunAsync(Console.WriteLine, stop.Token);
}
catch (Exception error) when (error is DemoFault or InvalidOperationException or TimeoutException or IOException)
{
    Console.Error.WriteLine($"demo: {error.Message}");
    return 1;
}
catch (OperationCanceledException)
{
    return 0;
}
