using System.Text;
using Oikonom.Core.Rulebook;

namespace Oikonom.Core.Planning;

/// <summary>Makes passwords that a target's rule accepts. The randomness comes from outside.</summary>
public static class Passwords
{
    private static readonly string[] Classes = ["abcdefghijkmnopqrstuvwxyz", "ABCDEFGHJKLMNPQRSTUVWXYZ", "23456789", "-.+!%"];
    private const string Consonants = "bdfghjklmnprstvwz";
    private const string Vowels = "aeiou";
    private const int Syllables = 3;

    /// <param name="pick">A number from 0 below its argument, by a cryptographic source.</param>
    public static string Make(PasswordRule rule, Func<int, int> pick)
    {
        if (rule.Words > 0)
            return Phrase(rule, pick);
        // Without a demand for fewer, letters that are read wrongly are left out and all classes are used.
        var all = string.Concat(Classes.Take(Math.Max(rule.Classes, 3)));
        var marks = new char[rule.Length];
        for (var i = 0; i < marks.Length; i++)
            marks[i] = i < rule.Classes ? Classes[i][pick(Classes[i].Length)] : all[pick(all.Length)];
        for (var i = marks.Length - 1; i > 0; i--)
        {
            var other = pick(i + 1);
            (marks[i], marks[other]) = (marks[other], marks[i]);
        }
        return new(marks);
    }

    /// <summary>Words that can be spoken, about 19 bits each, with what the classes demand.</summary>
    private static string Phrase(PasswordRule rule, Func<int, int> pick)
    {
        var phrase = new StringBuilder();
        for (var word = 0; word < rule.Words || phrase.Length < rule.Length; word++)
        {
            if (word > 0)
                phrase.Append('-');
            for (var i = 0; i < Syllables; i++)
                phrase.Append(Consonants[pick(Consonants.Length)]).Append(Vowels[pick(Vowels.Length)]);
        }
        if (rule.Classes >= 2)
            phrase[0] = char.ToUpperInvariant(phrase[0]);
        if (rule.Classes >= 3)
            phrase.Append(Classes[2][pick(Classes[2].Length)]);
        return phrase.ToString();
    }
}
