using Oikonom.Core.Fulfilment;
using Oikonom.Core.Rulebook;

namespace Oikonom.Targets;

/// <summary>Which one account a goal means, where nothing but its match keys tells: the same in every kind of target.</summary>
/// <param name="noun">What the kind of target calls an account, such as <c>entry</c> and <c>entries</c>.</param>
internal sealed class MatchKeys(TargetRule rule, (string One, string Many) noun)
{
    /// <summary>The keys that say something, in order.</summary>
    public static IEnumerable<(string Attribute, string Value)> Of(AccountGoal goal) => goal.Keys.Where(k => k.Value.Length > 0);

    /// <summary>The one that answers to a key; null when none does.</summary>
    /// <param name="isPlanned">Whether it is exactly what was to be made: then it is ours, left by an attempt whose outcome was
    /// lost.</param>
    /// <exception cref="TargetFault">Several answer, or one that the plan did not know of.</exception>
    public T? Sole<T>(
        AccountGoal goal,
        (string Attribute, string Value) key,
        IReadOnlyList<T> found,
        Func<T, bool> isPlanned,
        Func<T, string> name
    )
        where T : class
    {
        if (found.Count > 1)
            throw Replan($"{rule.Title} holds {found.Count} {noun.Many} with {key.Attribute}={key.Value}.");
        if (found is not [var one])
            return null;
        return goal.MayCreate && !isPlanned(one)
            ? throw Replan($"{rule.Title} now holds {name(one)} with {key.Attribute}={key.Value}.")
            : one;
    }

    /// <summary>Nothing answers, and nothing may be made.</summary>
    public TargetFault None(AccountGoal goal) =>
        Replan($"{rule.Title} has no {noun.One} that answers to {string.Join(" or ", goal.Keys.Select(k => $"{k.Attribute}={k.Value}"))}.");

    /// <summary>The name that is to be given belongs to somebody else by now.</summary>
    public TargetFault Taken(string name) => Replan($"The name {name} is taken by another {noun.One} in {rule.Title}.");

    /// <summary>What was there under an id is not any more.</summary>
    public TargetFault Lost(string id) =>
        new($"The {noun.One} {id} is no longer in {rule.Title}.", transient: false, needsReplan: true) { Gone = id };

    private static TargetFault Replan(string why) => new(why, transient: false, needsReplan: true);
}
