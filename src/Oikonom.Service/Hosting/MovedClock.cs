using System.Globalization;
using Oikonom.Service.Common;

namespace Oikonom.Service.Hosting;

/// <summary>
/// The machine's clock, ahead by the seconds that a file says: for demos and tests, so that a day passes while one
/// looks on. It is never behind what it once told. Timers keep to the machine's clock.
/// </summary>
public sealed class MovedClock : TimeProvider
{
    private const long LookEvery = 20;
    private readonly string _file;
    private readonly Lock _gate = new();
    private long _looked = long.MinValue / 2;
    private TimeSpan _ahead;

    /// <exception cref="ArgumentException">The service can be reached from other machines: there its clock is not to be moved.</exception>
    public MovedClock(ServiceOptions options)
    {
        _file = options.ClockFile;
        var isAlone = new[] { options.Listen, options.PublicAddress }.All(a =>
            Uri.TryCreate(a, UriKind.Absolute, out var address) && address.IsLoopback
        );
        if (!isAlone)
            throw new ArgumentException(
                "OIKONOM_CLOCK_FILE moves the clock of demos and tests; a service that other machines reach keeps the right "
                    + "time. Take it out."
            );
    }

    public override DateTimeOffset GetUtcNow()
    {
        lock (_gate)
        {
            var ticks = Environment.TickCount64;
            if (ticks - _looked >= LookEvery)
                (_looked, _ahead) = (ticks, Read(_file) is var seconds && seconds > _ahead ? seconds : _ahead);
            return base.GetUtcNow() + _ahead;
        }
    }

    /// <summary>What the file says; nothing when it is not there, or half written.</summary>
    private static TimeSpan Read(string file)
    {
        try
        {
            return double.TryParse(File.ReadAllText(file), CultureInfo.InvariantCulture, out var seconds) && seconds is > 0 and < 3e9
                ? TimeSpan.FromSeconds(seconds)
                : TimeSpan.Zero;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return TimeSpan.Zero;
        }
    }
}
