namespace Oikonom.Core.Approval;

/// <summary>Which names users may have: none that the ledger uses for the system itself, nor one that looks like it.</summary>
public static class UserNames
{
    private static readonly string[] Reserved =
    [
        "oikonom",
        "oikonomd",
        "system",
        "service",
        "schedule",
        "silence",
        "nobody",
        "anyone",
        "everyone",
        "everybody",
        "me",
        "hand",
        "root",
        "rulebook",
    ];

    /// <summary>What is wrong with a name, or null.</summary>
    public static string? Fault(string name)
    {
        if (name.Length is 0 or > 64 || !name.All(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c is '.' or '-' or '_'))
            return "A user name has lower-case letters, digits, dots, hyphens and underscores; 64 at most.";
        var plain = Plain(name);
        return
            Reserved.FirstOrDefault(r => Plain(r) == plain || (r == "silence" && plain.StartsWith(Plain(r), StringComparison.Ordinal)))
                is { } taken
            ? $"'{name}' {(name == taken ? "stands for Oikonom itself" : $"looks like '{taken}', which stands for Oikonom itself")}; "
                + "choose another name."
            : null;
    }

    /// <summary>What a reader takes a name for: digits that look like letters are those, marks are nothing, double letters one.</summary>
    private static string Plain(string name)
    {
        var text = new System.Text.StringBuilder(name.Length);
        foreach (var c in name)
        {
            var letter = c switch
            {
                '0' => 'o',
                '1' or 'l' or 'j' => 'i',
                '3' => 'e',
                '4' => 'a',
                '5' => 's',
                '7' => 't',
                _ => c,
            };
            if (char.IsAsciiLetter(letter) && (text.Length == 0 || text[^1] != letter))
                text.Append(letter);
        }
        return text.ToString().Replace("rn", "m", StringComparison.Ordinal).Replace("vv", "w", StringComparison.Ordinal);
    }
}
