using System.Text;
using Oikonom.Standins.Hr;

namespace Oikonom.Standins.Directory;

/// <summary>The directory of Northmere as it was before Oikonom: an entry for each person of the HR file, and groups.</summary>
public static class NorthmereTree
{
    public static readonly IReadOnlyList<(string Name, string Title)> Groups =
    [
        ("all-people", "All people"),
        ("animal-care", "Animal care"),
        ("dive-team", "Dive team"),
        ("ticket-desk", "Ticket desk"),
        ("research-lab", "Research lab"),
        ("rescue-volunteers", "Rescue volunteers"),
        ("site-harbour", "Harbour House"),
        ("site-saltmarsh", "Saltmarsh Station"),
        ("site-reefpoint", "Reef Point"),
        ("payments", "Payments"),
        ("system-admins", "System administrators"),
    ];

    /// <summary>Groups that their owners keep themselves, and nobody told Oikonom of: name, what it is for, number of the owner.</summary>
    private static readonly IReadOnlyList<(string Name, string Text, string Owner)> Kept =
    [
        ("Boat crew", "Goes out with the rescue boats", "E1003"),
        ("Fire wardens", "Leads everybody out at Harbour House", "E1007"),
        ("First aiders", "Called when a visitor or colleague is hurt", "E1008"),
        ("Gift shop keys", "May open the shop before hours", "E1007"),
        ("Newsletter writers", "Writes to members and donors", "E1007"),
        ("Night watch", "Walks the tanks at night", "E1002"),
        ("Octopus laboratory", "Enrichment trials of cephalopods", "E1017"),
        ("Seal hotline", "Answers calls about stranded seals", "E1008"),
        ("Water samples", "Takes and enters the daily samples", "E1002"),
    ];

    /// <summary>Each so many-th person is in the next group that is kept by its owner.</summary>
    private const int EachKept = 3;

    /// <param name="peopleFile">The HR file of the first load; "" makes the groups alone.</param>
    /// <param name="left">Entries of people who left years ago: number, given, family, user name.</param>
    public static string Ldif(string peopleFile, IReadOnlyList<(string Number, string Given, string Family, string Name)> left)
    {
        var ldif = new StringBuilder();
        var members = Groups.ToDictionary(g => g.Name, _ => new List<string>());
        var used = new HashSet<string>();
        var people = new List<(string Number, string Dn)>();
        foreach (var row in peopleFile.Length == 0 ? [] : HrService.Read(peopleFile))
        {
            var name = UserName(row["given_name"], row["family_name"], used);
            var dn = $"uid={name},{DirectoryOptions.People}";
            Entry(
                ldif,
                dn,
                name,
                row["employee_no"],
                row["given_name"],
                row["family_name"],
                row["department"],
                row["job_title"],
                row["kind"],
                row["site"],
                row["phone"]
            );
            foreach (var group in GroupsOf(row))
                members[group].Add(dn);
            people.Add((row["employee_no"], dn));
        }
        foreach (var (number, given, family, name) in left)
            Entry(ldif, $"uid={name},{DirectoryOptions.People}", name, number, given, family, "", "", "", "", "");
        foreach (var (name, title) in Groups)
        {
            ldif.Append(
                $"dn: cn={name},{DirectoryOptions.Groups}\nobjectClass: groupOfNames\ncn: {name}\ndescription: {title}\nmember: "
                    + $"{DirectoryOptions.Nobody}\n"
            );
            foreach (var member in members[name])
                ldif.Append($"member: {member}\n");
            ldif.Append('\n');
        }
        for (var i = 0; i < Kept.Count && people.Count > 0; i++)
        {
            ldif.Append(
                $"dn: cn={Kept[i].Name},{DirectoryOptions.Groups}\nobjectClass: groupOfNames\ncn: {Kept[i].Name}\ndescription: "
                    + $"{Kept[i].Text}\nmember: {DirectoryOptions.Nobody}\n"
            );
            foreach (var owner in people.Where(p => p.Number == Kept[i].Owner))
                ldif.Append($"owner: {owner.Dn}\n");
            foreach (var member in people.Where((_, at) => at % (EachKept * Kept.Count) == i * EachKept))
                ldif.Append($"member: {member.Dn}\n");
            ldif.Append('\n');
        }
        return ldif.ToString();
    }

    private static IEnumerable<string> GroupsOf(Dictionary<string, string> row)
    {
        yield return "all-people";
        yield return $"site-{row["site"]}";
        if (row["department"] == "Animal Care")
            yield return "animal-care";
        if (row["department"] == "Dive Team")
            yield return "dive-team";
        if (row["department"] == "Visitor Services")
            yield return "ticket-desk";
        if (row["department"] == "Research")
            yield return "research-lab";
        if (row["kind"] == "volunteer")
            yield return "rescue-volunteers";
    }

    internal static string UserName(string given, string family, HashSet<string> used)
    {
        var text = new StringBuilder();
        foreach (var c in $"{given}.{family}".Normalize(NormalizationForm.FormD).ToLowerInvariant())
            if (c is >= 'a' and <= 'z' or '.' or '-')
                text.Append(c);
        var name = text.ToString();
        for (var i = 2; !used.Add(name); i++)
            name = $"{text}{i}";
        return name;
    }

    private static void Entry(
        StringBuilder ldif,
        string dn,
        string name,
        string number,
        string given,
        string family,
        string department,
        string title,
        string kind,
        string site,
        string phone
    )
    {
        ldif.Append($"dn: {dn}\nobjectClass: inetOrgPerson\n");
        Line("uid", name);
        Line("cn", $"{given} {family}");
        Line("givenName", given);
        Line("sn", family);
        Line("displayName", $"{given} {family}");
        Line("mail", $"{name}@northmere.example");
        Line("employeeNumber", number);
        Line("employeeType", kind);
        Line("departmentNumber", department);
        Line("title", title);
        Line("l", site);
        Line("telephoneNumber", phone);
        ldif.Append('\n');

        void Line(string attribute, string value)
        {
            if (value.Length == 0)
                return;
            var plain = value.All(c => c is >= ' ' and <= '~') && value[0] is not (' ' or ':' or '<') && value[^1] != ' ';
            ldif.Append(plain ? $"{attribute}: {value}\n" : $"{attribute}:: {Convert.ToBase64String(Encoding.UTF8.GetBytes(value))}\n");
        }
    }
}
