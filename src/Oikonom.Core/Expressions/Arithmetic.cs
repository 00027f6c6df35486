namespace Oikonom.Core.Expressions;

/// <summary>Addition and subtraction: texts, numbers, lists, and days and instants with durations.</summary>
internal static class Arithmetic
{
    /// <summary>Longest text an expression may build, in characters.</summary>
    public const int MaxText = 65_536;

    /// <summary>A sum: numbers, texts, or a day or instant and a duration.</summary>
    public static Compiler.Node Add(Compiler.Node left, Compiler.Node right, Token token)
    {
        var (l, r) = (left.Run, right.Run);
        var (type, run) = (left.Type.Kind, token.Text, right.Type.Kind) switch
        {
            (ValueKind.String, "+", ValueKind.String) => (ExpressionType.String, (Evaluator)(s => Join(l(s).AsString, r(s).AsString))),
            (ValueKind.Int, "+", ValueKind.Int) => (ExpressionType.Int, s => Value.Of(unchecked(l(s).AsInt + r(s).AsInt))),
            (ValueKind.Int, "-", ValueKind.Int) => (ExpressionType.Int, s => Value.Of(unchecked(l(s).AsInt - r(s).AsInt))),
            (ValueKind.List, "+", ValueKind.List) when left.Type.Accepts(right.Type) => (
                left.Type.Element is null ? right.Type : left.Type,
                s => Value.Of([.. l(s).AsList, .. r(s).AsList])
            ),
            (ValueKind.Date, "+", ValueKind.Duration) => (ExpressionType.Date, s => Shift(l(s), r(s), 1)),
            (ValueKind.Date, "-", ValueKind.Duration) => (ExpressionType.Date, s => Shift(l(s), r(s), -1)),
            (ValueKind.Instant, "+", ValueKind.Duration) => (ExpressionType.Instant, s => Shift(l(s), r(s), 1)),
            (ValueKind.Instant, "-", ValueKind.Duration) => (ExpressionType.Instant, s => Shift(l(s), r(s), -1)),
            (ValueKind.Date, "-", ValueKind.Date) => (ExpressionType.Duration, s => Between(l(s), r(s))),
            (ValueKind.Duration, "+", ValueKind.Duration) => (
                ExpressionType.Duration,
                s => Value.Of(new TimeSpan(unchecked(l(s).AsDuration.Ticks + r(s).AsDuration.Ticks)))
            ),
            _ => throw new ExpressionError($"'{token.Text}' does not work between a {left.Type} and a {right.Type}.", token.Position),
        };
        return new(type, run, left.Position);
    }

    internal static Value Join(string left, string right) =>
        left.Length + right.Length <= MaxText
            ? Value.Of(left + right)
            : throw new ExpressionFault($"The text grows beyond {MaxText} characters.");

    private static Value Between(Value left, Value right) =>
        left.IsNull || right.IsNull ? Value.Null : Value.Of(TimeSpan.FromDays(left.AsDate.DayNumber - right.AsDate.DayNumber));

    private static Value Shift(Value moment, Value by, int sign)
    {
        if (moment.IsNull || by.IsNull)
            return Value.Null;
        try
        {
            return moment.Kind == ValueKind.Date
                ? Value.Of(moment.AsDate.AddDays(sign * (int)Math.Clamp(by.AsDuration.TotalDays, -4e6, 4e6)))
                : Value.Of(moment.AsInstant + (sign * by.AsDuration));
        }
        catch (Exception error) when (error is ArgumentOutOfRangeException or OverflowException)
        {
            throw new ExpressionFault("The date leaves the calendar (years 1 to 9999).");
        }
    }
}
