namespace Oikonom.Core.Expressions;

/// <summary>Finds the known name nearest to a mistyped one, to suggest it.</summary>
public static class Nearest
{
    /// <summary>" Did you mean 'x'?" or "" when nothing is near (at most a third of the letters differ, 3 at most).</summary>
    public static string Hint(string name, IEnumerable<string> known)
    {
        var best = known
            .Select(candidate => (candidate, distance: Distance(name.ToLowerInvariant(), candidate.ToLowerInvariant())))
            .Where(pair => pair.distance <= Math.Clamp(name.Length / 3, 1, 3))
            .OrderBy(pair => pair.distance)
            .ThenBy(pair => pair.candidate, StringComparer.Ordinal)
            .Select(pair => pair.candidate)
            .FirstOrDefault();
        return best is null ? "" : $" Did you mean '{best}'?";
    }

    private static int Distance(string a, string b)
    {
        if (a.Length > 64 || b.Length > 64)
            return int.MaxValue;
        var previous = Enumerable.Range(0, b.Length + 1).ToArray();
        for (var i = 1; i <= a.Length; i++)
        {
            var current = new int[b.Length + 1];
            current[0] = i;
            for (var j = 1; j <= b.Length; j++)
                current[j] = Math.Min(Math.Min(current[j - 1], previous[j]) + 1, previous[j - 1] + (a[i - 1] == b[j - 1] ? 0 : 1));
            previous = current;
        }
        return previous[b.Length];
    }
}
