using System.Globalization;

namespace Oikonom.Core.Time;

/// <summary>
/// When something runs by itself: five fields as cron has them (minute, hour, day of the month, month, day of
/// the week with 0 and 7 for Sunday), each a <c>*</c>, numbers, ranges and steps, separated by commas. In UTC.
/// </summary>
public sealed class Schedule
{
    private static readonly (string Name, int Least, int Most)[] Fields = [("minute", 0, 59), ("hour", 0, 23), ("day of the month", 1, 31), ("month", 1, 12), ("day of the week", 0, 7)];
    private readonly bool[][] _fields;
    private readonly bool _anyDay;
    private readonly bool _anyWeekday;

    private Schedule(bool[][] fields, bool anyDay, bool anyWeekday) => (_fields, _anyDay, _anyWeekday) = (fields, anyDay, anyWeekday);

    public static bool TryParse(string text, out Schedule schedule, out string wrong)
    {
        schedule = null!;
        wrong = "A schedule has five fields: minute, hour, day of the month, month, day of the week, such as '*/15 6-20 * * 1-5'.";
        var parts = text.Split(' ', StringSplitOptions.RemoveEmptyEntries);
        if (text.Length > 200 || parts.Length != 5) return false;
        var fields = new bool[5][];
        for (var i = 0; i < 5; i++)
        {
            fields[i] = new bool[Fields[i].Most + 1];
            if (Fill(parts[i], fields[i], Fields[i])) continue;
            wrong = $"'{parts[i]}' is no {Fields[i].Name}: use * or numbers from {Fields[i].Least} to {Fields[i].Most}, ranges and steps, such as 0,30 or 8-18 or */5.";
            return false;
        }
        fields[4][0] |= fields[4][7];
        schedule = new(fields, parts[2] == "*", parts[4] == "*");
        return true;
    }

    private static bool Fill(string text, bool[] field, (string Name, int Least, int Most) bounds)
    {
        foreach (var part in text.Split(','))
        {
            var steps = part.Split('/');
            var step = 1;
            if (steps.Length > 2 || (steps.Length == 2 && (!Number(steps[1], out step) || step < 1))) return false;
            var (from, to) = (bounds.Least, bounds.Most);
            if (steps[0] != "*")
            {
                var ends = steps[0].Split('-');
                if (ends.Length > 2 || !Number(ends[0], out from)) return false;
                to = from;
                if (ends.Length == 2 && !Number(ends[1], out to)) return false;
                if (ends.Length == 1 && steps.Length == 2) to = bounds.Most;
            }
            if (from < bounds.Least || to > bounds.Most || from > to) return false;
            for (var i = from; i <= to; i += step) field[i] = true;
        }
        return true;
    }

    private static bool Number(string text, out int number) => int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out number) && number <= 1000;

    /// <summary>The first time after <paramref name="after"/>, or null when none comes within eight years.</summary>
    public DateTimeOffset? Next(DateTimeOffset after)
    {
        var at = new DateTime(after.UtcDateTime.Ticks - (after.UtcDateTime.Ticks % TimeSpan.TicksPerMinute), DateTimeKind.Utc).AddMinutes(1);
        var end = at.AddYears(8);
        while (at < end)
        {
            if (!_fields[3][at.Month]) at = new DateTime(at.Year, at.Month, 1, 0, 0, 0, DateTimeKind.Utc).AddMonths(1);
            else if (!DayFits(at)) at = at.Date.AddDays(1);
            else if (!_fields[1][at.Hour]) at = at.Date.AddHours(at.Hour + 1);
            else if (!_fields[0][at.Minute]) at = at.AddMinutes(1);
            else return new(at, TimeSpan.Zero);
        }
        return null;
    }

    /// <summary>As cron has it: when both day fields are limited, either may fit.</summary>
    private bool DayFits(DateTime at)
    {
        var (day, weekday) = (_fields[2][at.Day], _fields[4][(int)at.DayOfWeek]);
        return _anyDay || _anyWeekday ? day && weekday : day || weekday;
    }
}
