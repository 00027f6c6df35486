using Oikonom.Core.Expressions;

namespace Oikonom.Core.Rulebook;

/// <summary>The immutable ids of accounts, as attributes of other accounts use them: <c>ids.TARGET</c>.</summary>
public static class AccountIds
{
    private const string Before = "ids.";

    /// <summary>The name under which expressions know the id of the ordinary account in a target.</summary>
    public static string NameOf(string target) => Before + target;

    /// <summary>The target whose account's id is known under a name; null for what is no name of an id.</summary>
    public static string? TargetOf(string name) => name.StartsWith(Before, StringComparison.Ordinal) ? name[Before.Length..] : null;

    /// <summary>The targets of whose accounts an expression uses the ids.</summary>
    public static IEnumerable<string> In(Expression expression) => expression.References.Select(TargetOf).OfType<string>().Distinct();
}
