using Oikonom.Core.Expressions;

namespace Oikonom.Core.Rulebook;

/// <summary>Whether a condition can ever hold, or fail.</summary>
public enum Verdict
{
    Either,
    Never,
    Always,
}

/// <summary>
/// Tells conditions that can never or always hold, by trying every combination of the constants they compare
/// with. Only said of conditions that compare names with constants and do nothing else, so it is never wrong.
/// </summary>
public static class Satisfiability
{
    private const int MaxTries = 20_000;

    /// <param name="known">Values a name can only have, such as the sites; a name not in it can have any.</param>
    public static Verdict Of(Expression condition, NameSchema schema, IReadOnlyDictionary<string, IReadOnlyList<string>> known)
    {
        if (!condition.IsExact)
            return Verdict.Either;
        var names = condition.References;
        var choices = names.Select(name => Choices(name, condition, schema, known)).ToList();
        if (choices.Aggregate(1L, (product, c) => Math.Min(product * c.Count, MaxTries + 1)) > MaxTries)
            return Verdict.Either;
        var scope = new Scope(schema);
        var (held, failed) = (false, false);
        Try(0);
        return held
            ? failed
                ? Verdict.Either
                : Verdict.Always
            : Verdict.Never;

        void Try(int at)
        {
            if (held && failed)
                return;
            if (at == names.Count)
            {
                if (condition.Holds(scope))
                    held = true;
                else
                    failed = true;
                return;
            }
            var slot = schema.IndexOf(names[at]);
            foreach (var choice in choices[at])
            {
                scope[slot] = choice;
                Try(at + 1);
            }
        }
    }

    private static List<Value> Choices(
        string name,
        Expression condition,
        NameSchema schema,
        IReadOnlyDictionary<string, IReadOnlyList<string>> known
    )
    {
        if (known.TryGetValue(name, out var only))
            return [.. only.Select(Value.Of)];
        schema.TryGet(name, out var slot);
        if (slot.Type.Kind == ValueKind.Bool)
            return [Value.Of(true), Value.Of(false), Value.Null];
        var compared = condition.Compared.GetValueOrDefault(name) ?? [];
        var choices = new HashSet<Value>(compared) { slot.Type.Kind == ValueKind.String ? Value.Of("") : Value.Null };
        foreach (var value in compared)
        {
            switch (value.Kind)
            {
                case ValueKind.Int:
                    choices.Add(Value.Of(value.AsInt - 1));
                    choices.Add(Value.Of(value.AsInt + 1));
                    break;
                case ValueKind.Duration:
                    choices.Add(Value.Of(value.AsDuration - TimeSpan.FromTicks(1)));
                    choices.Add(Value.Of(value.AsDuration + TimeSpan.FromTicks(1)));
                    break;
                case ValueKind.String:
                    choices.Add(Value.Of(value.AsString + "\u0001"));
                    break;
            }
        }
        return [.. choices];
    }
}
