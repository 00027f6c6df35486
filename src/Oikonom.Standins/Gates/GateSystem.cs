using System.Text;

namespace Oikonom.Standins.Gates;

/// <summary>
/// A system of gates without an interface: it takes over the file with all accounts whenever that is another one, and answers to each
/// change with a line of a file of its own.
/// </summary>
public sealed class GateSystem : IAsyncDisposable
{
    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(500);
    private readonly CancellationTokenSource _stop = new();
    private readonly Task _looking;

    private GateSystem(string folder) => _looking = LookAsync(folder);

    /// <param name="folder">Where both files are; made when it is not there.</param>
    public static GateSystem Start(string folder)
    {
        System.IO.Directory.CreateDirectory(folder);
        return new(folder);
    }

    /// <summary>The answers to a file: the id and the time of the change stand first and last in each row.</summary>
    public static string AnswersTo(IEnumerable<string> lines) =>
        lines
            .Skip(1)
            .Where(l => l.Length > 0)
            .Select(l => l.Split(','))
            .Aggregate(new StringBuilder("id,changed,outcome,message\n"), (text, c) => text.Append($"{c[0]},{c[^1]},done,\n"))
            .ToString();

    private async Task LookAsync(string folder)
    {
        var (path, answers, seen) = (Path.Combine(folder, "accounts.csv"), Path.Combine(folder, "answers.csv"), DateTime.MinValue);
        using var timer = new PeriodicTimer(Look);
        try
        {
            while (await timer.WaitForNextTickAsync(_stop.Token))
            {
                var at = File.GetLastWriteTimeUtc(path);
                if (!File.Exists(path) || at == seen)
                    continue;
                await File.WriteAllTextAsync(answers + ".new", AnswersTo(await File.ReadAllLinesAsync(path, _stop.Token)), _stop.Token);
                File.Move(answers + ".new", answers, overwrite: true);
                seen = at;
            }
        }
        catch (OperationCanceledException)
        {
            // It is over.
        }
    }

    public async ValueTask DisposeAsync()
    {
        await _stop.CancelAsync();
        await _looking;
        _stop.Dispose();
    }
}
