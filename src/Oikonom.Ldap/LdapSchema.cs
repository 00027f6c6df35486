namespace Oikonom.Ldap;

/// <summary>An object class as a server publishes it (RFC 4512 section 4.1.1), with all its names.</summary>
/// <param name="Superior">Names of the classes it is derived from.</param>
/// <param name="Must">Attributes that an entry of it has.</param>
/// <param name="May">Attributes that an entry of it can have.</param>
public sealed record LdapObjectClass(
    IReadOnlyList<string> Names,
    IReadOnlyList<string> Superior,
    IReadOnlyList<string> Must,
    IReadOnlyList<string> May
);

/// <summary>What a server knows: attributes with their other names, and object classes (RFC 4512 section 4.2).</summary>
public sealed class LdapSchema
{
    private readonly Dictionary<string, IReadOnlyList<string>> _attributes = new(StringComparer.OrdinalIgnoreCase);
    private readonly HashSet<string> _operational = new(StringComparer.OrdinalIgnoreCase);
    private readonly Dictionary<string, LdapObjectClass> _classes = new(StringComparer.OrdinalIgnoreCase);

    /// <param name="attributeTypes">Values of <c>attributeTypes</c> of the subschema entry.</param>
    /// <param name="objectClasses">Values of <c>objectClasses</c> of the same.</param>
    /// <remarks>A description that cannot be read is left out: a check says less, and nothing else depends on it.</remarks>
    public LdapSchema(IEnumerable<string> attributeTypes, IEnumerable<string> objectClasses)
    {
        foreach (var text in attributeTypes)
        {
            var fields = Fields(text);
            var names = fields.GetValueOrDefault("NAME") ?? [];
            foreach (var name in names)
                _attributes[name] = names;
            if ((fields.GetValueOrDefault("USAGE")?.FirstOrDefault() ?? "userApplications") != "userApplications")
                _operational.UnionWith(names);
        }
        foreach (var text in objectClasses)
        {
            var fields = Fields(text);
            var described = new LdapObjectClass(
                fields.GetValueOrDefault("NAME") ?? [],
                fields.GetValueOrDefault("SUP") ?? [],
                fields.GetValueOrDefault("MUST") ?? [],
                fields.GetValueOrDefault("MAY") ?? []
            );
            foreach (var name in described.Names)
                _classes[name] = described;
        }
    }

    /// <summary>All names of attributes.</summary>
    public IReadOnlyCollection<string> Attributes => _attributes.Keys;

    /// <summary>All names of object classes.</summary>
    public IReadOnlyCollection<string> Classes => _classes.Keys;

    /// <summary>
    /// The attributes that an entry of some classes can have, under all their names: those of the classes and of what these are
    /// derived from, and what the server keeps on any entry.
    /// </summary>
    /// <param name="classes">Names; one that the server does not know adds nothing.</param>
    public IReadOnlySet<string> Allowed(IEnumerable<string> classes)
    {
        var allowed = new HashSet<string>(_operational, StringComparer.OrdinalIgnoreCase) { "objectClass" };
        var seen = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        var left = new Stack<string>(classes);
        while (left.TryPop(out var name))
        {
            if (!seen.Add(name) || !_classes.TryGetValue(name, out var described))
                continue;
            foreach (var attribute in described.Must.Concat(described.May))
                allowed.UnionWith(_attributes.GetValueOrDefault(attribute) ?? [attribute]);
            foreach (var superior in described.Superior)
                left.Push(superior);
        }
        return allowed;
    }

    /// <summary>The fields of a description: a keyword, and the names or the text behind it (RFC 4512 section 4.1).</summary>
    private static Dictionary<string, IReadOnlyList<string>> Fields(string text)
    {
        var fields = new Dictionary<string, IReadOnlyList<string>>(StringComparer.Ordinal);
        var tokens = Tokens(text).ToList();
        // The first is the parenthesis, the second the number of the description.
        for (var i = 2; i < tokens.Count; i++)
        {
            var keyword = tokens[i];
            if (keyword is "" or "(" or ")" or "$" || !char.IsAsciiLetterUpper(keyword[0]))
                continue;
            if (i + 1 >= tokens.Count || !TakesValue(keyword))
                continue;
            var values = new List<string>();
            if (tokens[i + 1] == "(")
                for (i += 2; i < tokens.Count && tokens[i] != ")"; i++)
                {
                    if (tokens[i] != "$")
                        values.Add(tokens[i]);
                }
            else
                values.Add(tokens[++i]);
            fields.TryAdd(keyword, values);
        }
        return fields;
    }

    private static bool TakesValue(string keyword) =>
        keyword is "NAME" or "DESC" or "SUP" or "MUST" or "MAY" or "EQUALITY" or "ORDERING" or "SUBSTR" or "SYNTAX" or "USAGE"
        || keyword.StartsWith("X-", StringComparison.Ordinal);

    /// <summary>Words, quoted texts without their quotes, and the marks ( ) $.</summary>
    private static IEnumerable<string> Tokens(string text)
    {
        for (var i = 0; i < text.Length; )
        {
            var start = i;
            if (char.IsWhiteSpace(text[i]))
            {
                i++;
            }
            else if (text[i] is '(' or ')' or '$')
            {
                i++;
                yield return text[start..i];
            }
            else if (text[i] == '\'')
            {
                var end = text.IndexOf('\'', i + 1);
                i = end < 0 ? text.Length : end + 1;
                yield return end < 0 ? text[(start + 1)..] : text[(start + 1)..end];
            }
            else
            {
                while (i < text.Length && !char.IsWhiteSpace(text[i]) && text[i] is not ('(' or ')' or '$' or '\''))
                    i++;
                yield return text[start..i];
            }
        }
    }
}
