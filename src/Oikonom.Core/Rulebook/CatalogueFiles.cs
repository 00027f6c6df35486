using System.Globalization;
using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using AnyAscii;

namespace Oikonom.Core.Rulebook;

/// <summary>How it is read what a target can give, so that nobody types it.</summary>
/// <param name="Read">Of a directory one filter (RFC 4515); of an application what is read: groups, roles, licences.</param>
public sealed record CatalogueRule(IReadOnlyList<string> Read)
{
    /// <summary>Below which entry of a directory it is looked for.</summary>
    public string Below { get; init; } = "";

    /// <summary>The attribute that names one.</summary>
    public string Name { get; init; } = "";

    /// <summary>The attribute that people read in the place of its name, or "".</summary>
    public string Title { get; init; } = "";

    /// <summary>The attribute that says what it is for, or "".</summary>
    public string Description { get; init; } = "";

    /// <summary>The attribute that leads to who answers for it, or "".</summary>
    public string Owner { get; init; } = "";

    /// <summary>Whether people may ask by hand for what was read.</summary>
    public bool IsRequestable { get; init; }
}

/// <summary>Something that a target can give, as the target tells it.</summary>
/// <param name="Name">What the target calls it.</param>
/// <param name="Known">What the rulebook calls it already, or null.</param>
public sealed record OfferedEntitlement(EntitlementMeans Means, string Name, string? Known)
{
    /// <summary>What people read; "" where the target says nothing else than the name.</summary>
    public string Title { get; init; } = "";

    /// <summary>What it is for; may be empty.</summary>
    public string Description { get; init; } = "";

    /// <summary>Employee number of who answers for it, or "".</summary>
    public string Owner { get; init; } = "";
}

/// <summary>What a target can give, beside what the rulebook knows of it.</summary>
/// <param name="Files">What the rulebook's files of it would be.</param>
/// <param name="New">What the rulebook does not know.</param>
/// <param name="Changed">What it says otherwise, where the rulebook has it from the target alone; names of entitlements.</param>
/// <param name="Gone">What the rulebook knows and the target has not; names of entitlements.</param>
public sealed record CatalogueReading(
    IReadOnlyList<RulebookFile> Files,
    IReadOnlyList<Entitlement> New,
    IReadOnlyList<(Entitlement Before, Entitlement After)> Changed,
    IReadOnlyList<Entitlement> Gone
);

/// <summary>Turns what a target can give into files of the rulebook. Pure: the same answers make the same files.</summary>
public static class CatalogueFiles
{
    /// <summary>The folder of the rulebook that such files are in.</summary>
    public const string Folder = "catalogue";

    /// <summary>How many stand in one file, so that none grows too large for the rulebook.</summary>
    private const int PerFile = 2_000;
    private const int LongestName = 63;
    private const int LongestText = 500;

    private static readonly JsonSerializerOptions Quoted = new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };

    /// <summary>True of a file that holds what was read from a target.</summary>
    public static bool IsOf(string path, string target) =>
        path == $"{Folder}/{target}.yaml"
        || (
            path.StartsWith($"{Folder}/{target}.", StringComparison.Ordinal)
            && path.EndsWith(".yaml", StringComparison.Ordinal)
            && path[(Folder.Length + target.Length + 2)..^5].All(char.IsAsciiDigit)
        );

    /// <summary>What was read, beside what the rulebook says of the target.</summary>
    public static CatalogueReading Compare(TargetRule target, IReadOnlyCollection<OfferedEntitlement> read)
    {
        var named = Named(target, read);
        var (fresh, changed) = (new List<Entitlement>(), new List<(Entitlement, Entitlement)>());
        foreach (var (name, entry) in named)
        {
            var now = new Entitlement(name, Title(name, entry), entry.Means, entry.Owner.Length > 0 ? entry.Owner : null, target.Place)
            {
                Kind = KindOf(entry.Means),
                Description = Short(entry.Description),
            };
            if (!target.Entitlements.TryGetValue(name, out var before))
                fresh.Add(now);
            else if (
                before.IsRead
                && (before.Title, before.Description, before.Owner ?? "") != (now.Title, now.Description, now.Owner ?? "")
            )
                changed.Add((before, now));
        }
        var there = named.Select(n => n.Name).ToHashSet(StringComparer.Ordinal);
        return new(
            Files(target, named),
            fresh,
            changed,
            [.. target.Entitlements.Values.Where(e => !there.Contains(e.Name) && IsLookedFor(e, target)).OrderBy(e => e.Name)]
        );
    }

    /// <summary>Whether something would have been read if it were there.</summary>
    private static bool IsLookedFor(Entitlement entitlement, TargetRule target) =>
        entitlement.IsRead
        || (
            target.Catalogue is { } rule
            && entitlement.Means switch
            {
                // What a filter leaves out on purpose is no less there.
                EntitlementMeans.NamedGroup => rule.Read.Contains("groups"),
                _ => false,
            }
        );

    /// <summary>Each with its name in the rulebook: the one it has, or one made of what the target calls it.</summary>
    private static List<(string Name, OfferedEntitlement Entry)> Named(TargetRule target, IReadOnlyCollection<OfferedEntitlement> read)
    {
        var used = target.Entitlements.Keys.ToHashSet(StringComparer.Ordinal);
        var named = new List<(string, OfferedEntitlement)>();
        var inOrder = read.OrderBy(e => e.Name, StringComparer.Ordinal).ThenBy(e => MeansText(e.Means).Value, StringComparer.Ordinal);
        foreach (var entry in inOrder)
        {
            if (entry.Known is { } known)
            {
                named.Add((known, entry));
                continue;
            }
            var (wish, name) = (NameOf(entry.Name), "");
            for (var i = 1; !used.Add(name = i == 1 ? wish : With(wish, i)); i++) { }
            named.Add((name, entry));
        }
        return [.. named.DistinctBy(n => n.Item1).OrderBy(n => n.Item1, StringComparer.Ordinal)];
    }

    private static string With(string wish, int number)
    {
        var tail = $"-{number.ToString(CultureInfo.InvariantCulture)}";
        return wish[..Math.Min(wish.Length, LongestName - tail.Length)].TrimEnd('-') + tail;
    }

    private static string NameOf(string text)
    {
        var name = new StringBuilder();
        foreach (var c in text.Transliterate().ToLowerInvariant())
        {
            if (char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c))
                name.Append(c);
            else if (name.Length > 0 && name[^1] != '-')
                name.Append('-');
        }
        var made = name.ToString().Trim('-');
        if (made.Length == 0 || !char.IsAsciiLetterLower(made[0]))
            made = $"g-{made}".TrimEnd('-');
        return made[..Math.Min(made.Length, LongestName)].TrimEnd('-');
    }

    private static string Title(string name, OfferedEntitlement entry) =>
        Short(
            entry.Title.Length > 0 ? entry.Title
            : entry.Name.Length > 0 ? entry.Name
            : name
        );

    /// <summary>A text on one line, no longer than people read.</summary>
    private static string Short(string text)
    {
        var line = string.Join(' ', text.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries));
        return line.Length <= LongestText ? line : line[..(LongestText - 1)] + "…";
    }

    private static EntitlementKind KindOf(EntitlementMeans means) =>
        means switch
        {
            EntitlementMeans.Value { Attribute: "roles" } => EntitlementKind.Role,
            EntitlementMeans.Value => EntitlementKind.Licence,
            _ => EntitlementKind.Group,
        };

    private static (string Key, string Value) MeansText(EntitlementMeans means) =>
        means switch
        {
            EntitlementMeans.Group group => ("group", group.Dn),
            EntitlementMeans.NamedGroup group => ("group", group.Name),
            EntitlementMeans.Value { Attribute: "roles" } role => ("role", role.Text),
            EntitlementMeans.Value licence => ("licence", licence.Text),
            _ => throw new ArgumentException("Work by hand is not read from a target.", nameof(means)),
        };

    private static List<RulebookFile> Files(TargetRule target, List<(string Name, OfferedEntitlement Entry)> named)
    {
        var files = new List<RulebookFile>();
        foreach (var part in named.Chunk(PerFile))
        {
            var text = new StringBuilder();
            text.Append("# Read from the target; read it again in the place of changing it here. What is said in addition stands in\n");
            text.Append(
                CultureInfo.InvariantCulture,
                $"# targets/, under the same name, and counts there.\ntarget: {target.Name}\nentitlements:\n"
            );
            foreach (var (name, entry) in part)
            {
                var (key, value) = MeansText(entry.Means);
                var said = new List<(string Key, string Value)> { ("title", Title(name, entry)) };
                if (Short(entry.Description) is { Length: > 0 } description)
                    said.Add(("description", description));
                said.Add((key, value));
                if (entry.Owner.Length > 0)
                    said.Add(("owner", entry.Owner));
                text.Append(
                    CultureInfo.InvariantCulture,
                    $"  {name}: {{ {string.Join(", ", said.Select(s => $"{s.Key}: {JsonSerializer.Serialize(s.Value, Quoted)}"))} }}\n"
                );
            }
            files.Add(
                new(files.Count == 0 ? $"{Folder}/{target.Name}.yaml" : $"{Folder}/{target.Name}.{files.Count + 1}.yaml", text.ToString())
            );
        }
        return files;
    }
}
