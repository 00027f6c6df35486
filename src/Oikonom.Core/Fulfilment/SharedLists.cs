namespace Oikonom.Core.Fulfilment;

/// <summary>
/// Lists of texts that are built up one by one for many holders, of which most come to hold the same: each list is made once. Lists
/// are the same when the same was added in the same order. Not for several threads at once.
/// </summary>
public sealed class SharedLists
{
    private readonly Dictionary<(IReadOnlyList<string> List, string More), IReadOnlyList<string>> _longer = new(ByReference.Instance);

    private sealed class ByReference : IEqualityComparer<(IReadOnlyList<string> List, string More)>
    {
        /// <summary>The one there is.</summary>
        public static readonly ByReference Instance = new();

        /// <summary>Equal by the very list and the text.</summary>
        public bool Equals((IReadOnlyList<string> List, string More) left, (IReadOnlyList<string> List, string More) right) =>
            ReferenceEquals(left.List, right.List) && left.More == right.More;

        /// <summary>Of the list itself, not of what it holds.</summary>
        public int GetHashCode((IReadOnlyList<string> List, string More) key) =>
            HashCode.Combine(System.Runtime.CompilerServices.RuntimeHelpers.GetHashCode(key.List), key.More);
    }

    /// <summary>The list that holds nothing.</summary>
    public static readonly IReadOnlyList<string> Empty = [];

    /// <summary>The list that holds one text more.</summary>
    /// <param name="list"><see cref="Empty"/>, or one that this gave.</param>
    public IReadOnlyList<string> With(IReadOnlyList<string> list, string more)
    {
        if (!_longer.TryGetValue((list, more), out var longer))
            _longer[(list, more)] = longer = [.. list, more];
        return longer;
    }
}
