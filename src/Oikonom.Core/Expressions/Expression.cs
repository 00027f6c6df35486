namespace Oikonom.Core.Expressions;

internal delegate Value Evaluator(Scope scope);

/// <summary>
/// A checked and compiled expression: a typed subset of the Common Expression Language. Pure: it sees the
/// values of its scope and nothing else, and ends in bounded time.
/// </summary>
public sealed class Expression
{
    private readonly Evaluator _evaluator;

    internal Expression(string text, ExpressionType type, IReadOnlyList<string> references, Evaluator evaluator)
    {
        Text = text;
        Type = type;
        References = references;
        _evaluator = evaluator;
    }

    public string Text { get; }
    public ExpressionType Type { get; }

    /// <summary>The declared names it reads, in order of appearance.</summary>
    public IReadOnlyList<string> References { get; }

    /// <summary>Compiles <paramref name="text"/> against the declared names.</summary>
    /// <exception cref="ExpressionError">The text is no sound expression; tells where and why.</exception>
    public static Expression Compile(string text, NameSchema schema) => new Compiler(text, schema).Compile();

    /// <exception cref="ExpressionFault">A value could not be worked with, such as a text that is no date.</exception>
    public Value Evaluate(Scope scope) => _evaluator(scope);

    /// <summary>True only when it yields true.</summary>
    public bool Holds(Scope scope) => _evaluator(scope).AsBool;

    public override string ToString() => Text;
}
