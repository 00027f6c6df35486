using System.Text;
using Oikonom.Standins.Hr;

namespace Oikonom.Standins.Directory;

/// <summary>The office domain of Northmere as it was before Oikonom: who works in an office or on a ward has an account in it.</summary>
public static class NorthmereDomain
{
    public const string Domain = "office.northmere.example";
    public const string ServiceName = "svc-oikonom@" + Domain;
    public const string ServicePassword = "Office-Service-7";
    private const string Base = "DC=office,DC=northmere,DC=example";
    private const string People = "OU=People," + Base;
    private const string Groups = "OU=Groups," + Base;

    /// <summary>Changes (RFC 2849) that make of an empty domain the one Northmere has.</summary>
    /// <param name="peopleFile">The HR file of the first load.</param>
    public static string Ldif(string peopleFile)
    {
        var ldif = new StringBuilder();
        foreach (var place in new[] { People, Groups })
            Add(ldif, place, ("objectClass", "organizationalUnit"));
        var (all, ward) = (new List<string>(), new List<string>());
        var used = new HashSet<string>();
        var (names, managers) = (new Dictionary<string, string>(), new List<(string Dn, string Manager)>());
        foreach (var row in HrService.Read(peopleFile))
        {
            if (row["kind"] != "employee" || row["department"] is not ("Administration" or "Animal Care"))
                continue;
            var (given, family) = (row["given_name"], row["family_name"]);
            var name = NorthmereTree.UserName(given[..1], family, used);
            var dn = $"CN={name},{People}";
            all.Add(dn);
            names[row["employee_no"]] = dn;
            managers.Add((dn, row["manager_no"]));
            if (row["department"] == "Animal Care")
                ward.Add(dn);
            Add(
                ldif,
                dn,
                ("objectClass", "user"),
                ("sAMAccountName", name),
                ("userPrincipalName", $"{name}@{Domain}"),
                ("givenName", given),
                ("sn", family),
                ("displayName", $"{given} {family}"),
                ("employeeID", row["employee_no"]),
                ("department", row["department"]),
                ("title", row["job_title"]),
                ("userAccountControl", "512"),
                ("unicodePwd", $"\"Was-here-before-{row["employee_no"]}\"")
            );
        }
        foreach (var (dn, manager) in managers)
            if (names.TryGetValue(manager, out var above))
                ldif.Append($"dn: {dn}\nchangetype: modify\nadd: manager\nmanager: {above}\n\n");
        foreach (var (name, members) in new[] { ("office-staff", all), ("ward-shares", ward) })
            Add(ldif, $"CN={name},{Groups}", [("objectClass", "group"), ("sAMAccountName", name), .. members.Select(m => ("member", m))]);
        // Not of a person at all.
        Add(ldif, $"CN=scanner-ward,{People}", ("objectClass", "user"), ("sAMAccountName", "scanner-ward"), ("userAccountControl", "514"));
        // It makes and changes users and groups, and nothing above them.
        var service = $"CN=svc-oikonom,CN=Users,{Base}";
        Add(
            ldif,
            service,
            ("objectClass", "user"),
            ("sAMAccountName", "svc-oikonom"),
            ("userPrincipalName", ServiceName),
            ("userAccountControl", "66048"),
            ("unicodePwd", $"\"{ServicePassword}\"")
        );
        ldif.Append($"dn: CN=Account Operators,CN=Builtin,{Base}\nchangetype: modify\nadd: member\nmember: {service}\n\n");
        return ldif.ToString();
    }

    private static void Add(StringBuilder ldif, string dn, params IReadOnlyList<(string Name, string Value)> attributes)
    {
        ldif.Append($"dn: {dn}\nchangetype: add\n");
        foreach (var (name, value) in attributes)
            if (name == "unicodePwd")
                ldif.Append($"{name}:: {Convert.ToBase64String(Encoding.Unicode.GetBytes(value))}\n");
            else
                ldif.Append(
                    value.All(char.IsAscii) ? $"{name}: {value}\n" : $"{name}:: {Convert.ToBase64String(Encoding.UTF8.GetBytes(value))}\n"
                );
        ldif.Append('\n');
    }
}
