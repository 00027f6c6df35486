using System.Globalization;
using System.Text.RegularExpressions;
using AnyAscii;
using Node = Oikonom.Core.Expressions.Compiler.Node;

namespace Oikonom.Core.Expressions;

/// <summary>
/// The functions of the language. Each can be called plainly, <c>lower(x)</c>, or on its first argument,
/// <c>x.lower()</c>.
/// </summary>
internal static class Functions
{
    private static readonly string[] Names =
    [
        "ascii",
        "contains",
        "date",
        "duration",
        "endsWith",
        "join",
        "lower",
        "matches",
        "replace",
        "size",
        "split",
        "startsWith",
        "string",
        "substring",
        "trim",
        "upper",
        "year",
    ];

    /// <summary>The call of a function with arguments whose types are known.</summary>
    public static Node Bind(string name, List<Node> arguments, int position)
    {
        var a = arguments.Select(argument => argument.Run).ToArray();
        return name switch
        {
            "lower" => Text(s => a[0](s).AsString.ToLowerInvariant()),
            "upper" => Text(s => a[0](s).AsString.ToUpperInvariant()),
            "trim" => Text(s => a[0](s).AsString.Trim()),
            "ascii" => Text(s => a[0](s).AsString.Transliterate()),
            "contains" => Test(s => a[0](s).AsString.Contains(a[1](s).AsString, StringComparison.Ordinal)),
            "startsWith" => Test(s => a[0](s).AsString.StartsWith(a[1](s).AsString, StringComparison.Ordinal)),
            "endsWith" => Test(s => a[0](s).AsString.EndsWith(a[1](s).AsString, StringComparison.Ordinal)),
            "matches" => Matches(),
            "replace" => Make(
                ExpressionType.String,
                [ExpressionType.String, ExpressionType.String, ExpressionType.String],
                s => Value.Of(Replace(a[0](s).AsString, a[1](s).AsString, a[2](s).AsString))
            ),
            "split" => Make(
                ExpressionType.ListOf(ExpressionType.String),
                [ExpressionType.String, ExpressionType.String],
                s => Value.Of(Split(a[0](s).AsString, a[1](s).AsString))
            ),
            "join" => Make(
                ExpressionType.String,
                [ExpressionType.ListOf(ExpressionType.String), ExpressionType.String],
                s => Value.Of(Join(a[0](s).AsList, a[1](s).AsString))
            ),
            "substring" when arguments.Count == 2 => Make(
                ExpressionType.String,
                [ExpressionType.String, ExpressionType.Int],
                s => Value.Of(Substring(a[0](s).AsString, a[1](s).AsInt, long.MaxValue))
            ),
            "substring" => Make(
                ExpressionType.String,
                [ExpressionType.String, ExpressionType.Int, ExpressionType.Int],
                s => Value.Of(Substring(a[0](s).AsString, a[1](s).AsInt, a[2](s).AsInt))
            ),
            "size" when arguments is [{ Type.Kind: ValueKind.List }] => Make(
                ExpressionType.Int,
                [arguments[0].Type],
                s => Value.Of(a[0](s).AsList.Count)
            ),
            "size" => Make(ExpressionType.Int, [ExpressionType.String], s => Value.Of(a[0](s).AsString.Length)),
            "string" when arguments.Count == 1 => Make(ExpressionType.String, [arguments[0].Type], s => Value.Of(a[0](s).ToString())),
            "year" => Make(
                ExpressionType.Int,
                [ExpressionType.Date],
                s => a[0](s) is { IsNull: false } day ? Value.Of(day.AsDate.Year) : Value.Null
            ),
            "date" when arguments.Count == 2 => Make(
                ExpressionType.Date,
                [ExpressionType.String, ExpressionType.String],
                s => Date(a[0](s).AsString, a[1](s).AsString)
            ),
            "date" => Make(ExpressionType.Date, [ExpressionType.String], s => Date(a[0](s).AsString, "yyyy-MM-dd")),
            "duration" => Duration(),
            _ => throw new ExpressionError($"'{name}' is not a known function.{Nearest.Hint(name, Names)}", position),
        };

        Node Text(Func<Scope, string> run) => Make(ExpressionType.String, [ExpressionType.String], s => Value.Of(run(s)));
        Node Test(Func<Scope, bool> run) =>
            Make(ExpressionType.Bool, [ExpressionType.String, ExpressionType.String], s => Value.Of(run(s)));

        Node Make(ExpressionType type, ExpressionType[] wanted, Evaluator run)
        {
            if (arguments.Count != wanted.Length)
                throw new ExpressionError(
                    $"'{name}' takes {wanted.Length} argument{(wanted.Length == 1 ? "" : "s")}, not {arguments.Count}.",
                    position
                );
            for (var i = 0; i < wanted.Length; i++)
                Compiler.Require(arguments[i], wanted[i], $"Argument {i + 1} of '{name}'");
            return new(type, run, position);
        }

        Node Matches()
        {
            if (arguments.Count == 2 && arguments[1].Constant is { } pattern)
            {
                try
                {
                    var regex = new Regex(pattern, RegexOptions.NonBacktracking | RegexOptions.CultureInvariant);
                    return Make(
                        ExpressionType.Bool,
                        [ExpressionType.String, ExpressionType.String],
                        s => Value.Of(regex.IsMatch(a[0](s).AsString))
                    );
                }
                catch (Exception error) when (error is ArgumentException or NotSupportedException)
                {
                    throw new ExpressionError($"The pattern of 'matches' is not usable: {error.Message}", arguments[1].Position);
                }
            }
            throw new ExpressionError("'matches' takes a text and a constant pattern.", position);
        }

        Node Duration()
        {
            if (arguments is not [{ Constant: { } iso }])
                throw new ExpressionError("'duration' takes one constant ISO 8601 duration, such as \"P7D\".", position);
            if (!Time.Iso8601.TryParseDuration(iso, out var span))
                throw new ExpressionError(
                    $"'{iso}' is no ISO 8601 duration of weeks, days, hours, minutes or seconds, such as \"P7D\" or \"PT8H\".",
                    position
                );
            return new(ExpressionType.Duration, _ => Value.Of(span), position);
        }
    }

    private static Value Date(string text, string format)
    {
        if (text.Length == 0)
            return Value.Null;
        return DateOnly.TryParseExact(text, format, CultureInfo.InvariantCulture, DateTimeStyles.None, out var day)
            ? Value.Of(day)
            : throw new ExpressionFault($"'{Shorten(text)}' is not a date of the form {format}.");
    }

    private static string Shorten(string text) => text.Length <= 40 ? text : text[..40] + "…";

    private static string Replace(string text, string old, string with)
    {
        if (old.Length == 0)
            return text;
        if ((long)text.Length / old.Length * with.Length + text.Length > 16L * Arithmetic.MaxText)
            throw new ExpressionFault("'replace' would make the text too long.");
        return text.Replace(old, with, StringComparison.Ordinal);
    }

    private static Value[] Split(string text, string separator) =>
        separator.Length == 0 ? [Value.Of(text)] : Array.ConvertAll(text.Split(separator), Value.Of);

    private static string Join(IReadOnlyList<Value> list, string separator) => string.Join(separator, list.Select(item => item.AsString));

    private static string Substring(string text, long start, long length)
    {
        var from = Math.Clamp(start, 0, text.Length);
        return text.Substring((int)from, (int)Math.Clamp(length, 0, text.Length - from));
    }
}
