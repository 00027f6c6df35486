namespace Oikonom.Core.Expressions;

/// <summary>The run-time part of lists and their macros.</summary>
internal static class ListOperations
{
    /// <summary>True when the list holds the value.</summary>
    public static bool Contains(IReadOnlyList<Value> list, Value value)
    {
        for (var i = 0; i < list.Count; i++)
            if (list[i] == value)
                return true;
        return false;
    }

    /// <summary>One of the list, from 0 on.</summary>
    public static Value At(IReadOnlyList<Value> list, long index) =>
        index >= 0 && index < list.Count
            ? list[(int)index]
            : throw new ExpressionFault($"The list has {list.Count} elements; there is none at {index}.");

    /// <summary>True when the condition holds for at least one; of an empty list never.</summary>
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

    /// <summary>True when the condition holds for each; of an empty list always.</summary>
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

    /// <summary>Those for which the condition holds, in their order.</summary>
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

    /// <summary>What the expression yields for each, in their order.</summary>
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
