namespace Oikonom.Core.Expressions;

/// <summary>The run-time part of lists and their macros.</summary>
internal static class ListOperations
{
    public static bool Contains(IReadOnlyList<Value> list, Value value)
    {
        for (var i = 0; i < list.Count; i++)
            if (list[i] == value)
                return true;
        return false;
    }

    public static Value At(IReadOnlyList<Value> list, long index) =>
        index >= 0 && index < list.Count
            ? list[(int)index]
            : throw new ExpressionFault($"The list has {list.Count} elements; there is none at {index}.");

    public static bool Exists(IReadOnlyList<Value> list, int slot, Evaluator each, Scope scope)
    {
        for (var i = 0; i < list.Count; i++)
        {
            scope.SetLocal(slot, list[i]);
            if (each(scope).AsBool)
                return true;
        }
        return false;
    }

    public static bool All(IReadOnlyList<Value> list, int slot, Evaluator each, Scope scope)
    {
        for (var i = 0; i < list.Count; i++)
        {
            scope.SetLocal(slot, list[i]);
            if (!each(scope).AsBool)
                return false;
        }
        return true;
    }

    public static Value Filter(IReadOnlyList<Value> list, int slot, Evaluator each, Scope scope)
    {
        var kept = new List<Value>();
        for (var i = 0; i < list.Count; i++)
        {
            scope.SetLocal(slot, list[i]);
            if (each(scope).AsBool)
                kept.Add(list[i]);
        }
        return Value.Of(kept);
    }

    public static Value Map(IReadOnlyList<Value> list, int slot, Evaluator each, Scope scope)
    {
        var mapped = new Value[list.Count];
        for (var i = 0; i < list.Count; i++)
        {
            scope.SetLocal(slot, list[i]);
            mapped[i] = each(scope);
        }
        return Value.Of(mapped);
    }
}
