using Oikonom.Core.Time;
using Oikonom.Service.Common;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Access;

/// <summary>
/// Slows guessing down: each try counts before the password is looked at, by name with address, by name, and by
/// address, and alike for names that exist and names that do not. Nobody is locked for good, an address from which
/// somebody signed in lately is not slowed by what others try, and a one-time link by mail always goes.
/// </summary>
public static class SignInTries
{
    private static readonly TimeSpan Forgets = TimeSpan.FromMinutes(30);
    private static readonly TimeSpan Longest = TimeSpan.FromMinutes(15);
    private static readonly TimeSpan KnownFor = TimeSpan.FromDays(90);

    /// <summary>What is counted, how often it may fail, and how long it then waits at first.</summary>
    private static IReadOnlyList<(string Key, int Limit, TimeSpan Wait)> Counted(string name, string address, bool isKnown)
    {
        List<(string, int, TimeSpan)> counted =
        [
            ($"pair:{name}|{address}", 5, TimeSpan.FromMinutes(1)),
            ($"address:{address}", 40, TimeSpan.FromMinutes(1)),
        ];
        if (!isKnown)
            counted.Add(($"name:{name}", 20, TimeSpan.FromSeconds(30)));
        // In one order for all, so that nobody waits for each other.
        return [.. counted.OrderBy(c => c.Item1, StringComparer.Ordinal)];
    }

    /// <summary>Counts a try inside a decision.</summary>
    /// <returns>When the next try is looked at, in milliseconds, when this one is refused; else null.</returns>
    public static async Task<long?> CountAsync(Session s, string name, string address, long now)
    {
        var isKnown = await s.SignedInFromAsync(name, address, now - (long)KnownFor.TotalMilliseconds);
        var counted = Counted(name, address, isKnown);
        var rows = new List<TryRow>();
        foreach (var (key, _, _) in counted)
            rows.Add(await s.TryAsync(key));
        if (rows.Max(r => r.BlockedUntil) is var until && until > now)
            return until;
        foreach (var (row, (key, limit, wait)) in rows.Zip(counted))
        {
            var tries = now - row.LastAt > (long)Forgets.TotalMilliseconds ? 1 : row.Tries + 1;
            var blocked = tries < limit ? 0 : now + new BackOff(wait, Longest).Milliseconds(tries - limit);
            await s.SaveTryAsync(
                new()
                {
                    TryKey = key,
                    Tries = tries,
                    LastAt = now,
                    BlockedUntil = blocked,
                }
            );
        }
        return null;
    }

    /// <summary>The password was right: what was counted against the name is forgotten, and the address is given its try back.</summary>
    public static async Task ForgetAsync(Session s, string name, string address)
    {
        await s.DropTriesAsync([$"pair:{name}|{address}", $"name:{name}"]);
        await s.GiveTryBackAsync($"address:{address}");
    }

    public static Problem Refused(long until) =>
        new(
            429,
            "too-many-tries",
            "Too many tries",
            $"Too many tries to sign in. The next one is looked at after {until.ToInstant().UtcDateTime:HH:mm:ss} UTC; a link "
                + "by mail ('I forgot my password') goes at once.",
            ("until", until.ToInstant())
        );
}
