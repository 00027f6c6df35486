using System.Text;
using Oikonom.Core.Rulebook;
using Oikonom.Ldap;

namespace Oikonom.Targets.Files;

/// <summary>Accounts as LDIF (RFC 2849): all of them, or what changed since they were handed over last.</summary>
internal static class LdifFile
{
    private const int Longest = 76;

    /// <summary>All accounts, as content records.</summary>
    public static string All(IEnumerable<FileRow> rows, FileForm form)
    {
        var text = new StringBuilder("version: 1\n");
        foreach (var row in rows)
        {
            text.Append('\n');
            Line(text, "dn", NameOf(row, form));
            foreach (var (attribute, values) in ValuesOf(row, form))
            foreach (var value in values)
                Line(text, attribute, value);
        }
        return text.ToString();
    }

    /// <summary>What changed, as change records: an account that is new is added, another name renames, and of another
    /// value only that is replaced.</summary>
    /// <param name="before">Each account as it was told last; one that was not is new.</param>
    public static string Changes(IEnumerable<FileRow> rows, IReadOnlyDictionary<string, FileRow> before, FileForm form)
    {
        var text = new StringBuilder("version: 1\n");
        foreach (var row in rows)
            if (before.TryGetValue(row.Id, out var was))
                Change(text, was, row, form);
            else
                Add(text, row, form);
        return text.ToString();
    }

    private static void Add(StringBuilder text, FileRow row, FileForm form)
    {
        text.Append('\n');
        Line(text, "dn", NameOf(row, form));
        text.Append("changetype: add\n");
        foreach (var (attribute, values) in ValuesOf(row, form))
        foreach (var value in values)
            Line(text, attribute, value);
    }

    private static void Change(StringBuilder text, FileRow was, FileRow row, FileForm form)
    {
        if (was.Name != row.Name)
        {
            text.Append('\n');
            Line(text, "dn", NameOf(was, form));
            text.Append("changetype: modrdn\n");
            Line(text, "newrdn", $"name={LdapDn.Escape(row.Name)}");
            text.Append("deleteoldrdn: 1\n");
        }
        var (old, now) = (ValuesOf(was, form).ToList(), ValuesOf(row, form).ToList());
        text.Append('\n');
        Line(text, "dn", NameOf(row, form));
        text.Append("changetype: modify\n");
        foreach (var (attribute, values) in now)
        {
            // The name is changed with the name of the entry.
            if (attribute == "name" || old.Any(o => Same(o.Attribute, attribute) && o.Values.SequenceEqual(values)))
                continue;
            Line(text, "replace", attribute);
            foreach (var value in values)
                Line(text, attribute, value);
            text.Append("-\n");
        }
        foreach (var (attribute, _) in old.Where(o => !now.Exists(n => Same(n.Attribute, o.Attribute))))
        {
            Line(text, "delete", attribute);
            text.Append("-\n");
        }
    }

    private static bool Same(string one, string other) => string.Equals(one, other, StringComparison.OrdinalIgnoreCase);

    private static string NameOf(FileRow row, FileForm form) =>
        form.Below.Length > 0 ? LdapDn.Child("name", row.Name, form.Below) : $"name={LdapDn.Escape(row.Name)}";

    private static IEnumerable<(string Attribute, IReadOnlyList<string> Values)> ValuesOf(FileRow row, FileForm form)
    {
        if (form.Classes.Count > 0)
            yield return ("objectClass", form.Classes);
        yield return ("id", [row.Id]);
        yield return ("name", [row.Name]);
        yield return ("enabled", [row.Enabled ? "yes" : "no"]);
        if (row.Entitlements.Count > 0)
            yield return ("entitlements", row.Entitlements);
        foreach (var (attribute, values) in row.Attributes.OrderBy(a => a.Key, StringComparer.OrdinalIgnoreCase))
            yield return (attribute, values);
        yield return ("changed", [row.Changed]);
    }

    /// <summary>One value; what is not safe as it is stands in base 64, and what is too long goes on in the next line.</summary>
    private static void Line(StringBuilder text, string attribute, string value)
    {
        var line = IsSafe(value) ? $"{attribute}: {value}" : $"{attribute}:: {Convert.ToBase64String(Encoding.UTF8.GetBytes(value))}";
        for (var at = 0; at < line.Length; )
        {
            var length = Math.Min(at == 0 ? Longest : Longest - 1, line.Length - at);
            text.Append(at == 0 ? "" : " ").Append(line, at, length).Append('\n');
            at += length;
        }
    }

    /// <summary>A safe string of RFC 2849 that ends with no space.</summary>
    private static bool IsSafe(string value) =>
        value.Length == 0
        || (value[0] is not (' ' or ':' or '<') && value[^1] != ' ' && value.All(c => c is > '\0' and < '\x80' and not ('\n' or '\r')));
}
