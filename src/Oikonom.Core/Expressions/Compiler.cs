using System.Globalization;

namespace Oikonom.Core.Expressions;

/// <summary>
/// Precedence-climbing parser that checks types and compiles to closures in one pass. Depth is bounded before
/// it recurses, and each error knows its character.
/// </summary>
internal sealed class Compiler(string text, NameSchema schema)
{
    private const int MaxDepth = 64;
    private readonly List<Token> _tokens = Tokens.Read(text);
    private readonly List<string> _references = [];
    private readonly List<(string Name, ExpressionType Type)> _locals = [];
    private readonly Dictionary<string, List<Value>> _compared = new(StringComparer.Ordinal);
    private (int From, int To, List<Node> Parts, List<int> Ends) _chain = (-1, -1, [], []);
    private int _reads;
    private int _comparedReads;
    private int _at;
    private int _depth;

    /// <summary>A checked part: <paramref name="Name"/> when it only reads that name, <paramref name="Literal"/> when it is
    /// constant.</summary>
    internal readonly record struct Node(
        ExpressionType Type,
        Evaluator Run,
        int Position,
        string? Constant = null,
        string? Name = null,
        int Slot = -1,
        Value? Literal = null,
        (int Slot, string Text)? Begins = null
    );

    /// <summary>Reads the text to its end.</summary>
    public Expression Compile()
    {
        var node = Ternary();
        if (Current.Kind != TokenKind.End)
            throw Unexpected();
        var parts = new List<Condition>();
        if (_chain.From == 0 && _chain.To == _at)
        {
            for (var i = 0; i < _chain.Parts.Count; i++)
            {
                var from = i == 0 ? 0 : _chain.Ends[i - 1] + 2;
                parts.Add(new(text[from..(i == _chain.Parts.Count - 1 ? text.Length : _chain.Ends[i])].Trim(), _chain.Parts[i].Run));
            }
        }
        else
            parts.Add(new(text.Trim(), node.Run));
        return new Expression(
            text,
            node.Type,
            _references,
            node.Run,
            parts,
            _compared.ToDictionary(p => p.Key, p => (IReadOnlyList<Value>)p.Value),
            _reads == _comparedReads,
            schema,
            node.Begins
        );
    }

    private Token Current => _tokens[_at];

    private ExpressionError Unexpected() =>
        new(Current.Kind == TokenKind.End ? "The expression ends too early." : $"'{Current.Text}' is not expected here.", Current.Position);

    private bool Accept(string symbol)
    {
        if (Current.Kind != TokenKind.Operator || Current.Text != symbol)
            return false;
        _at++;
        return true;
    }

    private void Expect(string symbol)
    {
        if (!Accept(symbol))
            throw new ExpressionError(
                Current.Kind == TokenKind.End ? $"A '{symbol}' is missing at the end." : $"A '{symbol}' is expected, not '{Current.Text}'.",
                Current.Position
            );
    }

    private Node Ternary()
    {
        if (++_depth > MaxDepth)
            throw new ExpressionError($"The expression is nested deeper than {MaxDepth} levels.", Current.Position);
        try
        {
            var condition = Or();
            if (!Accept("?"))
                return condition;
            Require(condition, ExpressionType.Bool, "The condition before '?'");
            var yes = Ternary();
            Expect(":");
            var no = Ternary();
            if (!yes.Type.Accepts(no.Type))
                throw new ExpressionError($"Both sides of ':' must be of one type; they are {yes.Type} and {no.Type}.", no.Position);
            var (c, y, n) = (condition.Run, yes.Run, no.Run);
            return new(yes.Type.Kind == ValueKind.Null ? no.Type : yes.Type, s => c(s).AsBool ? y(s) : n(s), condition.Position);
        }
        finally
        {
            _depth--;
        }
    }

    private Node Or()
    {
        var left = And();
        while (Current is { Kind: TokenKind.Operator, Text: "||" })
        {
            _at++;
            var right = And();
            Require(left, ExpressionType.Bool, "The left side of '||'");
            Require(right, ExpressionType.Bool, "The right side of '||'");
            var (l, r) = (left.Run, right.Run);
            left = new(ExpressionType.Bool, s => l(s).AsBool ? Value.Of(true) : r(s), left.Position);
        }
        return left;
    }

    private Node And()
    {
        var from = _at;
        var left = Relation();
        List<Node> parts = [left];
        List<int> ends = [];
        while (Current is { Kind: TokenKind.Operator, Text: "&&" })
        {
            ends.Add(Current.Position);
            _at++;
            var right = Relation();
            parts.Add(right);
            Require(left, ExpressionType.Bool, "The left side of '&&'");
            Require(right, ExpressionType.Bool, "The right side of '&&'");
            var (l, r) = (left.Run, right.Run);
            left = new(ExpressionType.Bool, s => l(s).AsBool ? r(s) : Value.Of(false), left.Position, Begins: left.Begins);
        }
        if (parts.Count > 1)
            _chain = (from, _at, parts, ends);
        return left;
    }

    /// <summary>Remembers what a name is compared with: enough to tell a condition that can never hold.</summary>
    private void Compared(Node left, Node right)
    {
        Note(left, right);
        Note(right, left);

        void Note(Node name, Node literal)
        {
            if (name.Name is not { } read || literal.Literal is not { } value)
                return;
            _comparedReads++;
            if (!_compared.TryGetValue(read, out var values))
                _compared[read] = values = [];
            if (value.Kind == ValueKind.List)
                values.AddRange(value.AsList);
            else
                values.Add(value);
        }
    }

    private Node Relation()
    {
        var left = Sum();
        while (true)
        {
            var token = Current;
            if (token.Kind == TokenKind.Operator && token.Text is "==" or "!=" or "<" or "<=" or ">" or ">=")
            {
                _at++;
                left = Compare(left, Sum(), token);
            }
            else if (token is { Kind: TokenKind.Name, Text: "in" })
            {
                _at++;
                var right = Sum();
                if (right.Type.Kind != ValueKind.List)
                    throw new ExpressionError($"'in' needs a list on its right, not {right.Type}.", right.Position);
                if (right.Type.Element is { } element && !element.Accepts(left.Type))
                    throw new ExpressionError($"A {left.Type} is never in a {right.Type}.", left.Position);
                Compared(left, right);
                var (l, r) = (left.Run, right.Run);
                left = new(ExpressionType.Bool, s => Value.Of(ListOperations.Contains(r(s).AsList, l(s))), left.Position);
            }
            else
                return left;
        }
    }

    private Node Compare(Node left, Node right, Token token)
    {
        if (!left.Type.Accepts(right.Type))
            throw new ExpressionError($"A {left.Type} cannot be compared with a {right.Type}.", right.Position);
        var (l, r) = (left.Run, right.Run);
        if (token.Text is not ("==" or "!=") && left.Type.Kind is ValueKind.Bool or ValueKind.List or ValueKind.Record)
            throw new ExpressionError($"A {left.Type} has no order.", token.Position);
        Compared(left, right);
        Evaluator run = token.Text switch
        {
            "==" when left.Slot >= 0 && right.Literal is { Kind: ValueKind.String } text => IsText(left.Slot, text.AsString),
            "==" => s => Value.Of(l(s) == r(s)),
            "!=" => s => Value.Of(l(s) != r(s)),
            "<" => s => Value.Of(Value.Compare(l(s), r(s)) < 0),
            "<=" => s => Value.Of(Value.Compare(l(s), r(s)) <= 0),
            ">" => s => Value.Of(Value.Compare(l(s), r(s)) > 0),
            _ => s => Value.Of(Value.Compare(l(s), r(s)) >= 0),
        };
        return new(
            ExpressionType.Bool,
            run,
            left.Position,
            Begins: token.Text == "==" && left.Slot >= 0 && right.Literal is { Kind: ValueKind.String } begins
                ? (left.Slot, begins.AsString)
                : null
        );
    }

    /// <summary>The commonest condition, without a step between.</summary>
    private static Evaluator IsText(int slot, string text) =>
        s => Value.Of(s[slot] is { Kind: ValueKind.String } value && string.Equals(value.AsString, text, StringComparison.Ordinal));

    private Node Sum()
    {
        var left = Unary();
        while (Current is { Kind: TokenKind.Operator, Text: "+" or "-" })
        {
            var token = Current;
            _at++;
            left = Arithmetic.Add(left, Unary(), token);
        }
        return left;
    }

    private Node Unary()
    {
        var position = Current.Position;
        if (Accept("!"))
        {
            if (++_depth > MaxDepth)
                throw new ExpressionError($"The expression is nested deeper than {MaxDepth} levels.", position);
            var inner = Unary();
            _depth--;
            Require(inner, ExpressionType.Bool, "What follows '!'");
            var run = inner.Run;
            return new(ExpressionType.Bool, s => Value.Of(!run(s).AsBool), position);
        }
        if (Current is { Kind: TokenKind.Operator, Text: "-" } && _tokens[_at + 1].Kind == TokenKind.Number)
        {
            _at++;
            var number = -Number();
            return Constant(ExpressionType.Int, Value.Of(number), position);
        }
        return Postfix();
    }

    private long Number()
    {
        var token = Current;
        _at++;
        return long.TryParse(token.Text, NumberStyles.None, CultureInfo.InvariantCulture, out var number)
            ? number
            : throw new ExpressionError("The number is too large.", token.Position);
    }

    private static Node Constant(ExpressionType type, Value value, int position) =>
        new(type, _ => value, position, value.Kind == ValueKind.String ? value.AsString : null, Literal: value);

    private Node Postfix()
    {
        var node = Primary();
        while (true)
        {
            var token = Current;
            if (Accept("."))
                node = Member(node, token);
            else if (Accept("["))
                node = Index(node);
            else
                return node;
        }
    }

    private Node Member(Node target, Token dot)
    {
        var name = Current;
        if (name.Kind != TokenKind.Name)
            throw Unexpected();
        _at++;
        if (target.Type.Kind == ValueKind.Record)
            return Field(target, name.Text, name.Position);
        if (!Accept("("))
            throw new ExpressionError($"A {target.Type} has no member '{name.Text}'; functions are called with ().", name.Position);
        if (name.Text is "exists" or "all" or "filter" or "map")
            return Macro(target, name);
        return Functions.Bind(name.Text, [target, .. Arguments()], name.Position);
    }

    private Node Field(Node record, string name, int position)
    {
        if (!record.Type.Fields!.TryGetValue(name, out var slot))
            throw new ExpressionError($"'{record.Constant}' has no field '{name}'.{Nearest.Hint(name, record.Type.Fields.Keys)}", position);
        return Read($"{record.Constant}.{name}", slot, position);
    }

    private Node Read(string name, Slot slot, int position)
    {
        if (!_references.Contains(name))
            _references.Add(name);
        _reads++;
        // A yes-or-no name stands for itself in a condition.
        if (slot.Type.Kind == ValueKind.Bool)
            _comparedReads++;
        var index = slot.Index;
        return new(slot.Type, s => s[index], position, Name: slot.Type.Kind == ValueKind.Bool ? null : name, Slot: index);
    }

    private Node Index(Node target)
    {
        var index = Ternary();
        Expect("]");
        if (target.Type.Kind == ValueKind.Record)
        {
            return index.Constant is { } name
                ? Field(target, name, index.Position)
                : throw new ExpressionError("A field of a record is named by a constant text.", index.Position);
        }
        if (target.Type.Kind != ValueKind.List)
            throw new ExpressionError($"A {target.Type} has no elements.", index.Position);
        Require(index, ExpressionType.Int, "The index");
        var (t, i) = (target.Run, index.Run);
        return new(target.Type.Element ?? ExpressionType.Null, s => ListOperations.At(t(s).AsList, i(s).AsInt), target.Position);
    }

    private Node Macro(Node list, Token name)
    {
        if (list.Type.Kind != ValueKind.List)
            throw new ExpressionError($"'{name.Text}' works on a list, not on a {list.Type}.", list.Position);
        var variable = Current;
        if (variable.Kind != TokenKind.Name)
            throw new ExpressionError($"'{name.Text}' needs the name of a variable first.", variable.Position);
        _at++;
        Expect(",");
        if (_locals.Count >= Scope.MaxLocals)
            throw new ExpressionError($"List macros are nested deeper than {Scope.MaxLocals} levels.", name.Position);
        var slot = _locals.Count;
        _locals.Add((variable.Text, list.Type.Element ?? ExpressionType.Null));
        var body = Ternary();
        _locals.RemoveAt(slot);
        Expect(")");
        if (name.Text != "map")
            Require(body, ExpressionType.Bool, $"The condition of '{name.Text}'");
        var (source, each) = (list.Run, body.Run);
        return name.Text switch
        {
            "exists" => new(ExpressionType.Bool, s => Value.Of(ListOperations.Exists(source(s).AsList, slot, each, s)), list.Position),
            "all" => new(ExpressionType.Bool, s => Value.Of(ListOperations.All(source(s).AsList, slot, each, s)), list.Position),
            "filter" => new(list.Type, s => ListOperations.Filter(source(s).AsList, slot, each, s), list.Position),
            _ => new(ExpressionType.ListOf(body.Type), s => ListOperations.Map(source(s).AsList, slot, each, s), list.Position),
        };
    }

    private List<Node> Arguments()
    {
        var arguments = new List<Node>();
        if (Accept(")"))
            return arguments;
        do arguments.Add(Ternary());
        while (Accept(","));
        Expect(")");
        return arguments;
    }

    private Node Primary()
    {
        var token = Current;
        switch (token.Kind)
        {
            case TokenKind.String:
                _at++;
                return Constant(ExpressionType.String, Value.Of(token.Text), token.Position);
            case TokenKind.Number:
                return Constant(ExpressionType.Int, Value.Of(Number()), token.Position);
            case TokenKind.Name:
                _at++;
                return Name(token);
            case TokenKind.Operator when token.Text == "(":
                _at++;
                var inner = Ternary();
                Expect(")");
                return inner;
            case TokenKind.Operator when token.Text == "[":
                _at++;
                return ListLiteral(token);
            default:
                throw Unexpected();
        }
    }

    private Node ListLiteral(Token token)
    {
        var items = new List<Node>();
        if (!Accept("]"))
        {
            do items.Add(Ternary());
            while (Accept(","));
            Expect("]");
        }
        var element = items.Select(item => item.Type).FirstOrDefault(type => type.Kind != ValueKind.Null);
        foreach (var item in items)
        {
            if (element is not null && !element.Accepts(item.Type))
                throw new ExpressionError($"A list holds one type; this is a {item.Type} among {element}.", item.Position);
        }
        var runs = items.Select(item => item.Run).ToArray();
        var type = new ExpressionType(ValueKind.List, element);
        if (items.TrueForAll(item => item.Constant is not null))
        {
            var constant = Value.Of(items.Select(item => Value.Of(item.Constant!)).ToArray());
            return new(type, _ => constant, token.Position, Literal: constant);
        }
        return new(type, s => Value.Of(Array.ConvertAll(runs, run => run(s))), token.Position);
    }

    private Node Name(Token token)
    {
        switch (token.Text)
        {
            case "true":
                return Constant(ExpressionType.Bool, Value.Of(true), token.Position);
            case "false":
                return Constant(ExpressionType.Bool, Value.Of(false), token.Position);
            case "null":
                return Constant(ExpressionType.Null, Value.Null, token.Position);
        }
        if (Accept("("))
            return Functions.Bind(token.Text, Arguments(), token.Position);
        var local = _locals.FindLastIndex(l => l.Name == token.Text);
        if (local >= 0)
            return new(_locals[local].Type, s => s.GetLocal(local), token.Position);
        if (schema.TryGet(token.Text, out var slot))
            return Read(token.Text, slot, token.Position);
        if (schema.TryGetRecord(token.Text, out var record))
            return new(record, _ => Value.Null, token.Position, token.Text);
        if (Time.Iso8601.TryParseDuration(token.Text, out var duration))
            return Constant(ExpressionType.Duration, Value.Of(duration), token.Position);
        throw new ExpressionError($"'{token.Text}' is not a declared name.{Nearest.Hint(token.Text, schema.Roots)}", token.Position);
    }

    internal static void Require(Node node, ExpressionType type, string what)
    {
        if (!type.Accepts(node.Type))
            throw new ExpressionError($"{what} must be {type}, not {node.Type}.", node.Position);
    }
}
