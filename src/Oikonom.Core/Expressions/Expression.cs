namespace Oikonom.Core.Expressions;

internal delegate Value Evaluator(Scope scope);

/// <summary>
/// A checked and compiled expression: a typed subset of the Common Expression Language. Pure: it sees the
/// values of its scope and nothing else, and ends in bounded time.
/// </summary>
public sealed class Expression
{
    private readonly Evaluator _evaluator;
    private readonly NameSchema _schema;

    internal Expression(
        string text,
        ExpressionType type,
        IReadOnlyList<string> references,
        Evaluator evaluator,
        IReadOnlyList<Condition> parts,
        IReadOnlyDictionary<string, IReadOnlyList<Value>> compared,
        bool exact,
        NameSchema schema,
        (int Slot, string Text)? begins = null
    )
    {
        Begins = begins;
        _schema = schema;
        Text = text;
        Type = type;
        References = references;
        Parts = parts;
        Compared = compared;
        IsExact = exact;
        _evaluator = evaluator;
    }

    /// <summary>What must hold together: the parts between the outermost <c>&amp;&amp;</c>, or the whole.</summary>
    public IReadOnlyList<Condition> Parts { get; }

    /// <summary>The constants each name is compared with.</summary>
    public IReadOnlyDictionary<string, IReadOnlyList<Value>> Compared { get; }

    /// <summary>True when names are only compared with constants, so that trying those constants tells everything.</summary>
    public bool IsExact { get; }

    /// <summary>The slot and the text it must be equal to, when that is the first thing asked: without it nothing else is
    /// evaluated.</summary>
    internal (int Slot, string Text)? Begins { get; }

    /// <summary>The text as it was written.</summary>
    public string Text { get; }

    /// <summary>What it yields.</summary>
    public ExpressionType Type { get; }

    /// <summary>The declared names it reads, in order of appearance.</summary>
    public IReadOnlyList<string> References { get; }

    /// <summary>Compiles <paramref name="text"/> against the declared names.</summary>
    /// <exception cref="ExpressionError">The text is no sound expression; tells where and why.</exception>
    public static Expression Compile(string text, NameSchema schema) => new Compiler(text, schema).Compile();

    /// <exception cref="ExpressionFault">A value could not be worked with, such as a text that is no date.</exception>
    public Value Evaluate(Scope scope) => _evaluator(scope);

    /// <summary>The value that one of its <see cref="References"/> has in <paramref name="scope"/>.</summary>
    public Value ValueOf(string reference, Scope scope) => scope[_schema.IndexOf(reference)];

    /// <summary>True only when it yields true.</summary>
    public bool Holds(Scope scope) => _evaluator(scope).AsBool;

    public override string ToString() => Text;
}

/// <summary>One part of a condition, with its text.</summary>
public sealed class Condition
{
    private readonly Evaluator _evaluator;

    internal Condition(string text, Evaluator evaluator)
    {
        Text = text;
        _evaluator = evaluator;
    }

    /// <summary>The text as it was written.</summary>
    public string Text { get; }

    /// <exception cref="ExpressionFault">A value could not be worked with.</exception>
    public bool Holds(Scope scope) => _evaluator(scope).AsBool;
}
