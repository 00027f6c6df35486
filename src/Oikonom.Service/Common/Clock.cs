namespace Oikonom.Service.Common;

internal static class Clock
{
    public static long Milliseconds(this TimeProvider time) => time.GetUtcNow().ToUnixTimeMilliseconds();

    public static DateTimeOffset ToInstant(this long milliseconds) => DateTimeOffset.FromUnixTimeMilliseconds(milliseconds);

    public static DateTimeOffset? ToInstant(this long? milliseconds) =>
        milliseconds is { } at ? DateTimeOffset.FromUnixTimeMilliseconds(at) : null;
}
