using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Editions;

namespace Oikonom.Service.Records;

/// <summary>The edition a request is planned under, and the one it takes the person off; null when they stay on it.</summary>
public sealed record Rules(Edition Edition, Edition? Earlier);

/// <summary>
/// The edition somebody is on is one of their inputs. Joiners and movers take the newest; whoever is corrected, leaves or
/// asks for something stays where they are, unless what is asked for is known to the newest alone. Everybody else is moved
/// by a roll-out, which wishes for an edition.
/// </summary>
public static class RuleChoice
{
    /// <summary>What the request is planned under, in the order to be tried: where the first cannot serve the person, the next
    /// may.</summary>
    public static async Task<IReadOnlyList<Rules>> OfAsync(EditionBook editions, string kind, Wish wish, long on, CancellationToken cancel)
    {
        var current = await editions.CurrentAsync(cancel);
        if (wish.Edition is { } wished)
            return [new(await editions.OnAsync(wished, cancel), on > 0 && on != wished ? await editions.OnAsync(on, cancel) : null)];
        if (on == 0 || on == current.Number)
            return [new(current, null)];
        var own = await editions.OnAsync(on, cancel);
        var moved = new Rules(current, own);
        return kind is "joiner" or "mover" || !Knows(own.Rulebook, wish) ? [moved] : [new(own, null), moved];
    }

    /// <summary>True when the rules know all that a wish names.</summary>
    private static bool Knows(Core.Rulebook.Rulebook rulebook, Wish wish) =>
        wish.Grants.All(g => rulebook.Find(g.Key) is not null)
        && wish.Templates.All(t => rulebook.Templates.Any(x => x.Name == t.Template))
        && wish.Changes.Keys.All(name => rulebook.Attributes.TryGet(name, out _))
        && (wish.Target.Length == 0 || rulebook.Targets.ContainsKey(wish.Target));
}
