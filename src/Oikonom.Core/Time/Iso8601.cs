using System.Globalization;

namespace Oikonom.Core.Time;

/// <summary>Durations of fixed length as ISO 8601 writes them.</summary>
public static class Iso8601
{
    /// <summary>Reads weeks, days, hours, minutes and seconds (P1W, P7D, PT8H). Months and years have no fixed length and are
    /// refused.</summary>
    public static bool TryParseDuration(string text, out TimeSpan duration)
    {
        duration = default;
        if (text.Length is < 3 or > 32 || text[0] != 'P' || text.EndsWith('T'))
            return false;
        double seconds = 0;
        var time = false;
        var i = 1;
        while (i < text.Length)
        {
            if (text[i] == 'T' && !time)
            {
                time = true;
                i++;
                continue;
            }
            var start = i;
            while (i < text.Length && char.IsAsciiDigit(text[i]))
                i++;
            if (i == start || i == text.Length || i - start > 7)
                return false;
            var count = double.Parse(text.AsSpan(start, i - start), CultureInfo.InvariantCulture);
            double unit = (time, text[i++]) switch
            {
                (false, 'W') => 604_800,
                (false, 'D') => 86_400,
                (true, 'H') => 3_600,
                (true, 'M') => 60,
                (true, 'S') => 1,
                _ => 0,
            };
            if (unit == 0)
                return false;
            seconds += count * unit;
        }
        if (seconds > 86_400d * 36_500)
            return false;
        duration = TimeSpan.FromSeconds(seconds);
        return true;
    }
}
