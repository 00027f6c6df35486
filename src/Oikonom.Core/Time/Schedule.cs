using Cronos;

namespace Oikonom.Core.Time;

/// <summary>
/// When something runs by itself: five fields as cron has them (minute, hour, day of the month, month, day of the week
/// with 0 and 7 for Sunday), by the clock of a place. A time that the clock leaps over comes right after the leap, one
/// that it shows twice comes once. When both day fields are limited, both must fit.
/// </summary>
public sealed class Schedule
{
    private const int Longest = 200;
    private readonly CronExpression _expression;

    private Schedule(string text, CronExpression expression, TimeZoneInfo zone) => (Text, _expression, Zone) = (text, expression, zone);

    /// <summary>As it was written.</summary>
    public string Text { get; }

    /// <summary>The clock it goes by.</summary>
    public TimeZoneInfo Zone { get; }

    /// <param name="wrong">What is wrong with the text, when it is no schedule.</param>
    public static bool TryParse(string text, TimeZoneInfo zone, out Schedule schedule, out string wrong)
    {
        (schedule, wrong) = (null!, "");
        try
        {
            if (text.Length > Longest)
                throw new CronFormatException("it is too long");
            schedule = new(text, CronExpression.Parse(text, CronFormat.Standard), zone);
            return true;
        }
        catch (CronFormatException error)
        {
            wrong =
                $"This is no schedule ({error.Message.TrimEnd('.')}). It has five fields: minute, hour, day of the month, "
                + "month, day of the week, such as '*/15 6-20 * * 1-5'.";
            return false;
        }
    }

    /// <summary>The first time after <paramref name="after"/>; null when none comes.</summary>
    public DateTimeOffset? Next(DateTimeOffset after) => _expression.GetNextOccurrence(after, Zone)?.ToUniversalTime();

    public override string ToString() => Zone == TimeZoneInfo.Utc ? Text : $"{Text} ({Zone.Id})";
}
