using System.Text.Json;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <summary>Whether there is room for what a plan gives: most entitlements take everybody, licences have seats.</summary>
public static class Seats
{
    /// <summary>What of a plan as many hold already as may, told for people.</summary>
    /// <param name="person">Whom it is about; what they hold is theirs.</param>
    /// <param name="without">What of it is struck out.</param>
    public static async Task<IReadOnlyList<string>> NoneLeftAsync(
        Session s,
        Plan plan,
        Core.Rulebook.Rulebook rulebook,
        string person,
        IReadOnlyCollection<string>? without = null
    )
    {
        var told = new List<string>();
        foreach (var given in plan.Changes.OfType<Change.Grant>().Select(g => g.Given).Distinct())
            if (without?.Contains(given.ToString()) != true && rulebook.Find(given) is { } entitlement)
                if (await NoneLeftAsync(s, given, entitlement, person) is { } none)
                    told.Add(none);
        return told;
    }

    /// <summary>That as many hold something already as may, told for people; null while there is room.</summary>
    public static async Task<string?> NoneLeftAsync(Session s, EntitlementKey given, Entitlement entitlement, string person)
    {
        if (
            entitlement.MostHolders is not { } most
            || await s.HoldersAsync(given.Target, given.Name, person) is var holders && holders < most
        )
            return null;
        var free = (await s.HoldersOfAsync(given.Target, given.Name)).Where(h => h.PersonId != person).Select(RankOf).ToList();
        return $"'{entitlement.Title}' is held by {holders}, and {most} are the "
            + $"most{(entitlement.Kind == EntitlementKind.Licence ? ": no licence is left" : "")}. "
            + Free(free, $"{given.Target}/{given.Name}")
            + "Free one, or raise 'most-holders'.";
    }

    private static string Free(List<GivesUp> holders, string key)
    {
        var parts = new List<string>();
        if (holders.Count(h => h == GivesUp.CannotUse) is > 0 and var idle)
            parts.Add($"{idle} of the holders cannot sign in");
        if (holders.Count(h => h == GivesUp.NoRule) is > 0 and var found)
            parts.Add($"{found} had it before any rule");
        if (holders.Count(h => h == GivesUp.Ends) is > 0 and var ends)
            parts.Add($"{ends} {(ends == 1 ? "has" : "have")} it until a day");
        return $"{(parts.Count == 0 ? "See who holds it" : string.Join(", ", parts))} ('oikonom targets holders {key}'). ";
    }

    /// <summary>Who could give it up, the likeliest first.</summary>
    public enum GivesUp
    {
        /// <summary>Their account is disabled: a seat that nobody sits on.</summary>
        CannotUse,

        /// <summary>It was found there, and no rule gives it.</summary>
        NoRule,

        /// <summary>It ends by itself.</summary>
        Ends,

        /// <summary>They asked for it.</summary>
        Asked,

        /// <summary>A rule gives it.</summary>
        ByRule,
    }

    /// <summary>How likely somebody could give up what they hold.</summary>
    public static GivesUp RankOf(HolderRow holder) =>
        holder.Enabled == 0 ? GivesUp.CannotUse
        : ReasonOf(holder).Rule is Reason.Baseline or Reason.Adoption ? GivesUp.NoRule
        : holder.UntilAt is not null ? GivesUp.Ends
        : ReasonOf(holder).Rule == "request" ? GivesUp.Asked
        : GivesUp.ByRule;

    /// <summary>Why somebody holds it.</summary>
    public static Reason ReasonOf(HolderRow holder) =>
        JsonSerializer.Deserialize<Reason>(holder.Reason, JsonSerializerOptions.Web) ?? new("", "", "");
}
