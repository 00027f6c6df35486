using System.Globalization;
using System.Text;
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
        "dn",
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
        var call = new Call(name, arguments, position);
        return name switch
        {
            "lower" => Text(s => a[0](s).AsString.ToLowerInvariant()),
            "upper" => Text(s => a[0](s).AsString.ToUpperInvariant()),
            "trim" => Text(s => a[0](s).AsString.Trim()),
            "dn" => Text(s => Named(a[0](s).AsString)),
            "ascii" => Text(s => a[0](s).AsString.Transliterate()),
            "contains" => Test(s => a[0](s).AsString.Contains(a[1](s).AsString, StringComparison.Ordinal)),
            "startsWith" => Test(s => a[0](s).AsString.StartsWith(a[1](s).AsString, StringComparison.Ordinal)),
            "endsWith" => Test(s => a[0](s).AsString.EndsWith(a[1](s).AsString, StringComparison.Ordinal)),
            "matches" => call.Matches(),
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
            "substring" => call.Substring(),
            "size" => call.Size(),
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
            "duration" => call.Duration(),
            _ => throw new ExpressionError($"'{name}' is not a known function.{Nearest.Hint(name, Names)}", position),
        };

        Node Text(Func<Scope, string> run) => Make(ExpressionType.String, [ExpressionType.String], s => Value.Of(run(s)));
        Node Test(Func<Scope, bool> run) =>
            Make(ExpressionType.Bool, [ExpressionType.String, ExpressionType.String], s => Value.Of(run(s)));
        Node Make(ExpressionType type, ExpressionType[] wanted, Evaluator run) => call.Make(type, wanted, run);
    }

    /// <summary>A text as a value of a distinguished name, so that it stands in one as itself (RFC 4514 section 2.4).</summary>
    private static string Named(string value)
    {
        var text = new StringBuilder(value.Length + 8);
        for (var i = 0; i < value.Length; i++)
            if (value[i] < ' ' || value[i] == 0x7f)
                text.Append('\\').Append(((int)value[i]).ToString("x2", CultureInfo.InvariantCulture));
            else if (
                "\"+,;<>\\=".Contains(value[i], StringComparison.Ordinal)
                || (i == 0 && value[i] is '#' or ' ')
                || (i == value.Length - 1 && value[i] == ' ')
            )
                text.Append('\\').Append(value[i]);
            else
                text.Append(value[i]);
        return text.ToString();
    }

    /// <summary>A call as it is written, with the types of its arguments.</summary>
    private sealed record Call(string Name, List<Node> Arguments, int Position)
    {
        internal Node Make(ExpressionType type, ExpressionType[] wanted, Evaluator run)
        {
            if (Arguments.Count != wanted.Length)
                throw new ExpressionError(
                    $"'{Name}' takes {wanted.Length} argument{(wanted.Length == 1 ? "" : "s")}, not {Arguments.Count}.",
                    Position
                );
            for (var i = 0; i < wanted.Length; i++)
                Compiler.Require(Arguments[i], wanted[i], $"Argument {i + 1} of '{Name}'");
            return new(type, run, Position);
        }

        internal Node Size()
        {
            if (Arguments is [{ Type.Kind: ValueKind.List } list])
                return Make(ExpressionType.Int, [list.Type], s => Value.Of(list.Run(s).AsList.Count));
            return Make(ExpressionType.Int, [ExpressionType.String], s => Value.Of(Arguments[0].Run(s).AsString.Length));
        }

        /// <summary>From a place on: to the end, or as many characters as a third argument says.</summary>
        internal Node Substring()
        {
            var a = Arguments.Select(argument => argument.Run).ToArray();
            return a.Length == 2
                ? Make(
                    ExpressionType.String,
                    [ExpressionType.String, ExpressionType.Int],
                    s => Value.Of(Functions.Substring(a[0](s).AsString, a[1](s).AsInt, long.MaxValue))
                )
                : Make(
                    ExpressionType.String,
                    [ExpressionType.String, ExpressionType.Int, ExpressionType.Int],
                    s => Value.Of(Functions.Substring(a[0](s).AsString, a[1](s).AsInt, a[2](s).AsInt))
                );
        }

        internal Node Matches()
        {
            if (Arguments.Count == 2 && Arguments[1].Constant is { } pattern)
            {
                try
                {
                    var text = Arguments[0].Run;
                    var regex = new Regex(pattern, RegexOptions.NonBacktracking | RegexOptions.CultureInvariant);
                    return Make(
                        ExpressionType.Bool,
                        [ExpressionType.String, ExpressionType.String],
                        s => Value.Of(regex.IsMatch(text(s).AsString))
                    );
                }
                catch (Exception error) when (error is ArgumentException or NotSupportedException)
                {
                    throw new ExpressionError($"The pattern of 'matches' is not usable: {error.Message}", Arguments[1].Position);
                }
            }
            throw new ExpressionError("'matches' takes a text and a constant pattern.", Position);
        }

        internal Node Duration()
        {
            if (Arguments is not [{ Constant: { } iso }])
                throw new ExpressionError("'duration' takes one constant ISO 8601 duration, such as \"P7D\".", Position);
            if (!Time.Iso8601.TryParseDuration(iso, out var span))
                throw new ExpressionError(
                    $"'{iso}' is no ISO 8601 duration of weeks, days, hours, minutes or seconds, such as \"P7D\" or \"PT8H\".",
                    Position
                );
            return new(ExpressionType.Duration, _ => Value.Of(span), Position);
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
