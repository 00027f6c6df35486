using System.Globalization;

namespace Oikonom.Standins.Demo;

/// <summary>Moves the clock of a running demo ahead, never back: a day passes while one looks on.</summary>
public static class DemoClock
{
    public const string File = "clock";
    private static readonly TimeSpan Most = TimeSpan.FromDays(3650);

    /// <param name="text">How far, such as <c>+7d</c>, <c>+12h</c> or <c>+30m</c>.</param>
    /// <returns>How far ahead of the machine's clock the demo is now.</returns>
    /// <exception cref="DemoFault">The text says no such time, or no demo runs in the folder.</exception>
    public static TimeSpan Move(string folder, string text)
    {
        if (Read(text) is not { } by || by <= TimeSpan.Zero)
            throw new DemoFault($"'{text}' is no time to move on by; say +7d, +12h or +30m. A clock is never moved back.");
        if (!System.IO.Directory.Exists(folder))
            throw new DemoFault($"There is no demo in {folder}. Start it with 'make demo'.");
        var path = Path.Combine(folder, File);
        var ahead =
            (
                System.IO.File.Exists(path)
                && double.TryParse(System.IO.File.ReadAllText(path), CultureInfo.InvariantCulture, out var seconds)
                    ? TimeSpan.FromSeconds(seconds)
                    : TimeSpan.Zero
            ) + by;
        if (ahead > Most)
            throw new DemoFault("The demo would be more than ten years ahead. Start afresh with 'make demo ARGS=--fresh'.");
        System.IO.File.WriteAllText(path + ".next", ahead.TotalSeconds.ToString(CultureInfo.InvariantCulture));
        System.IO.File.Move(path + ".next", path, overwrite: true);
        return ahead;
    }

    private static TimeSpan? Read(string text) =>
        text.Length is < 3 or > 8
        || text[0] != '+'
        || !int.TryParse(text.AsSpan(1, text.Length - 2), NumberStyles.None, CultureInfo.InvariantCulture, out var count)
            ? null
            : text[^1] switch
            {
                'd' => TimeSpan.FromDays(count),
                'h' => TimeSpan.FromHours(count),
                'm' => TimeSpan.FromMinutes(count),
                _ => null,
            };
}
