namespace Oikonom.Core.Expressions;

internal enum TokenKind : byte
{
    End,
    Name,
    String,
    Number,
    Operator,
}

internal readonly record struct Token(TokenKind Kind, string Text, int Position);

/// <summary>What is wrong with an expression, and at which character (0-based) of its text.</summary>
public sealed class ExpressionError(string message, int position) : Exception(message)
{
    /// <summary>Where in the text it is, from 0 on.</summary>
    public int Position { get; } = position;
}

/// <summary>An expression that is sound met a value it cannot work with (a text that is no date …).</summary>
public sealed class ExpressionFault(string message) : Exception(message);

/// <summary>Splits the text of an expression into tokens. The text is bounded before it is read.</summary>
internal static class Tokens
{
    /// <summary>The longest expression that is read, in characters.</summary>
    public const int MaxLength = 4096;

    private static readonly string[] Operators =
    [
        "&&",
        "||",
        "==",
        "!=",
        "<=",
        ">=",
        "<",
        ">",
        "!",
        "?",
        ":",
        "+",
        "-",
        "(",
        ")",
        "[",
        "]",
        ",",
        ".",
    ];

    /// <summary>The tokens of a text, with one at the end that says so.</summary>
    public static List<Token> Read(string text)
    {
        if (text.Length > MaxLength)
            throw new ExpressionError($"The expression is longer than {MaxLength} characters.", MaxLength);
        var tokens = new List<Token>();
        var i = 0;
        while (i < text.Length)
        {
            var c = text[i];
            if (char.IsWhiteSpace(c))
                i++;
            else if (char.IsAsciiLetter(c) || c == '_')
            {
                var start = i;
                while (i < text.Length && (char.IsAsciiLetterOrDigit(text[i]) || text[i] == '_'))
                    i++;
                tokens.Add(new(TokenKind.Name, text[start..i], start));
            }
            else if (char.IsAsciiDigit(c))
            {
                var start = i;
                while (i < text.Length && char.IsAsciiDigit(text[i]))
                    i++;
                tokens.Add(new(TokenKind.Number, text[start..i], start));
            }
            else if (c is '"' or '\'')
                tokens.Add(ReadString(text, ref i));
            else
            {
                var symbol =
                    Array.Find(Operators, o => text.AsSpan(i).StartsWith(o, StringComparison.Ordinal))
                    ?? throw new ExpressionError($"'{c}' has no meaning here.", i);
                tokens.Add(new(TokenKind.Operator, symbol, i));
                i += symbol.Length;
            }
        }
        tokens.Add(new(TokenKind.End, "", text.Length));
        return tokens;
    }

    private static Token ReadString(string text, ref int i)
    {
        var start = i;
        var quote = text[i++];
        var content = new System.Text.StringBuilder();
        while (i < text.Length && text[i] != quote)
        {
            if (text[i] != '\\')
            {
                content.Append(text[i++]);
                continue;
            }
            if (i + 1 >= text.Length)
                break;
            content.Append(
                text[i + 1] switch
                {
                    'n' => '\n',
                    't' => '\t',
                    '\\' => '\\',
                    '"' => '"',
                    '\'' => '\'',
                    var other => throw new ExpressionError($"'\\{other}' is no known escape; use \\n \\t \\\\ \\\" or \\'.", i),
                }
            );
            i += 2;
        }
        if (i >= text.Length)
            throw new ExpressionError("The text that starts here has no closing quote.", start);
        i++;
        return new(TokenKind.String, content.ToString(), start);
    }
}
