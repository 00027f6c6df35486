using Oikonom.Core.Planning;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Records;

/// <summary>Whether what was decided with a roll-out covers what would run for one person of it.</summary>
public static class RollOutCover
{
    /// <summary>
    /// True when the edition changes for the person just what was shown, nobody's entry is taken over and no separation is
    /// broken; then nobody decides once more. Going back is covered likewise: by what going there was.
    /// </summary>
    public static async Task<bool> HoldsAsync(Session s, RequestRow row, Rules rules, Plan plan, Recorded recorded, DateTimeOffset now)
    {
        if (
            await s.FindRolloutAsync(row.Rollout) is not { } rollout
            || await s.RolloutPersonAsync(row.Rollout, row.PersonId) is not { } shown
        )
            return false;
        // Who is on the edition already is planned again because something else happened: that was never shown.
        if (rules.Earlier is not { } earlier)
            return plan.Changes.Count == 0;
        if (plan.Conflicts is { Count: > 0 } || plan.Changes.Any(c => c is Change.AdoptAccount))
            return false;
        var (from, to) = rules.Edition.Number == rollout.Edition ? (earlier, rules.Edition) : (rules.Edition, earlier);
        var found = Rehearsal.Of(
            new(row.PersonId, recorded.Subject(row.PersonId, from), recorded.Subject(row.PersonId, to), from.Number),
            from.Rulebook,
            to.Rulebook,
            now
        );
        return found.Problem is null && found.Digest == shown.Digest;
    }
}
