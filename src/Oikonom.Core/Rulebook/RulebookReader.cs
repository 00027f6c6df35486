using System.Security.Cryptography;
using System.Text;
using System.Text.RegularExpressions;
using Oikonom.Core.Expressions;
using Oikonom.Core.People;
using YamlDotNet.Core;
using YamlDotNet.RepresentationModel;

namespace Oikonom.Core.Rulebook;

/// <summary>What reading a rulebook gave: the rulebook when nothing is wrong, else every finding at once.</summary>
public sealed record RulebookReading(Rulebook? Rulebook, IReadOnlyList<Finding> Findings);

/// <summary>Reads and checks the files of a rulebook. Pure: text in, rulebook or findings out.</summary>
public static partial class RulebookReader
{
    private const int MaxFile = 1_048_576;
    private static readonly string[] Folders = ["sources", "targets", "templates", "workflows"];

    public static RulebookReading Read(IReadOnlyList<RulebookFile> files)
    {
        var findings = new List<Finding>();
        var documents = new List<(string Folder, YamlMap Map)>();
        YamlMap? root = null;
        foreach (var file in files.OrderBy(f => f.Path, StringComparer.Ordinal))
        {
            var folder = file.Path.Contains('/', StringComparison.Ordinal) ? file.Path[..file.Path.IndexOf('/', StringComparison.Ordinal)] : "";
            if (folder.Length > 0 && !Folders.Contains(folder))
            {
                findings.Add(new(new(file.Path, 1, 1), $"The folder '{folder}' has no meaning; known are {string.Join(", ", Folders)}.{Nearest.Hint(folder, Folders)}"));
                continue;
            }
            if (Parse(file, findings) is not { } map) continue;
            if (folder.Length > 0) documents.Add((folder, map));
            else if (file.Path == "rulebook.yaml") root = map;
            else findings.Add(new(new(file.Path, 1, 1), "Only rulebook.yaml stands at the top; move this file into a folder."));
        }
        if (root is null)
        {
            if (findings.Count == 0) findings.Add(new(new("rulebook.yaml", 1, 1), "The file rulebook.yaml is missing."));
            return new(null, findings);
        }
        var rulebook = new Documents(root, documents, findings).Read();
        return new(findings.Count == 0 ? rulebook : null, [.. findings.OrderBy(f => f.Place.File, StringComparer.Ordinal).ThenBy(f => f.Place.Line).ThenBy(f => f.Place.Column)]);
    }

    /// <summary>SHA-256 over paths and texts in order of path, in lower-case hexadecimal: the identity of an edition.</summary>
    public static string Digest(IEnumerable<RulebookFile> files)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        foreach (var file in files.OrderBy(f => f.Path, StringComparer.Ordinal))
            hash.AppendData(Encoding.UTF8.GetBytes($"{file.Path}\n{Encoding.UTF8.GetByteCount(file.Text)}\n{file.Text}\n"));
        return Convert.ToHexStringLower(hash.GetHashAndReset());
    }

    private static YamlMap? Parse(RulebookFile file, List<Finding> findings)
    {
        if (file.Text.Length > MaxFile)
        {
            findings.Add(new(new(file.Path, 1, 1), $"The file is larger than {MaxFile} characters."));
            return null;
        }
        try
        {
            if (Depth(file.Text) is { } line)
            {
                findings.Add(new(new(file.Path, line, 1), "The file is nested too deeply."));
                return null;
            }
            var stream = new YamlStream();
            stream.Load(new StringReader(file.Text));
            if (stream.Documents is [{ RootNode: YamlMappingNode map }]) return new(map, file.Path, findings);
            findings.Add(new(new(file.Path, 1, 1), "The file must hold one mapping of keys to values."));
        }
        catch (YamlException error)
        {
            findings.Add(new(new(file.Path, (int)Math.Max(1, error.Start.Line), (int)Math.Max(1, error.Start.Column)), $"This is not sound YAML: {error.InnerException?.Message ?? error.Message}"));
        }
        return null;
    }

    /// <summary>The line where nesting passes 50 levels or an alias is used, or null. Read event by event, so nothing is built.</summary>
    private static int? Depth(string text)
    {
        var parser = new Parser(new StringReader(text));
        var depth = 0;
        while (parser.MoveNext())
        {
            depth += parser.Current!.NestingIncrease;
            if (depth > 50) return (int)parser.Current.Start.Line;
            if (parser.Current is YamlDotNet.Core.Events.AnchorAlias) throw new YamlException(parser.Current.Start, parser.Current.End, "aliases are not used in rulebooks");
        }
        return null;
    }

    [GeneratedRegex("^[a-z][a-z0-9-]{0,62}$")]
    private static partial Regex NameForm();

    [GeneratedRegex("^[A-Za-z][A-Za-z0-9-]{0,62}$")]
    private static partial Regex AttributeForm();

    /// <summary>Reads the documents of one rulebook into its records.</summary>
    private sealed class Documents(YamlMap root, List<(string Folder, YamlMap Map)> documents, List<Finding> findings)
    {
        private NameSchema _attributes = new([]);
        private List<string> _mandatory = [];
        private readonly Dictionary<string, TargetRule> _targets = new(StringComparer.Ordinal);
        private readonly HashSet<string> _accountTargets = new(StringComparer.Ordinal);

        public Rulebook? Read()
        {
            var name = root.Text("name");
            var title = root.TextOr("title", name?.Text ?? "");
            var sites = ReadSites();
            ReadAttributes();
            root.Done();

            var sources = new Dictionary<string, SourceRule>(StringComparer.Ordinal);
            foreach (var map in Of("sources"))
                if (Source(map) is { } source) Add(sources, source.Name, source, source.Place);
            foreach (var map in Of("targets"))
                if (Target(map) is { } target) Add(_targets, target.Name, target, target.Place);
            if (findings.Count > 0 && _targets.Count == 0 && Of("targets").Any()) return null;

            var accountNames = new Rulebook("", "", sites, _attributes, [], sources, _targets, [], []).AccountNames;
            var templates = new Dictionary<string, RoleTemplate>(StringComparer.Ordinal);
            foreach (var map in Of("templates"))
                if (Template(map, accountNames) is { } template) Add(templates, template.Name, template, template.Place);
            foreach (var template in templates.Values)
                foreach (var grant in template.Grants)
                    if (!_accountTargets.Contains(grant.Target)) findings.Add(new(grant.Place, $"No template makes an account in '{grant.Target}', so this can never be given."));

            var workflows = new Dictionary<string, Workflow>(StringComparer.Ordinal);
            foreach (var map in Of("workflows"))
                if (ReadWorkflow(map) is { } workflow) Add(workflows, workflow.Name, workflow, workflow.Place);
            CheckWorkflows(workflows.Values);

            return name is null ? null : new(name.Value.Text, title, sites, _attributes, _mandatory, sources, _targets,
                [.. templates.Values.OrderByDescending(t => t.Priority).ThenBy(t => t.Name, StringComparer.Ordinal)], [.. workflows.Values]);
        }

        private IEnumerable<YamlMap> Of(string folder) => documents.Where(d => d.Folder == folder).Select(d => d.Map);

        private void Add<T>(Dictionary<string, T> known, string name, T item, Place place)
        {
            if (!known.TryAdd(name, item)) findings.Add(new(place, $"The name '{name}' is used twice."));
        }

        private string? Name(YamlMap map)
        {
            if (map.Text("name") is not { } name) return null;
            if (NameForm().IsMatch(name.Text)) return name.Text;
            map.Report(name.Place, $"'{name.Text}' is no name: use lower-case letters, digits and hyphens, a letter first, 63 at most.");
            return null;
        }

        private Dictionary<string, Site> ReadSites()
        {
            var sites = new Dictionary<string, Site>(StringComparer.Ordinal);
            foreach (var (name, map) in root.NamedMaps("sites"))
            {
                var zone = map.Text("zone");
                var title = map.TextOr("title", name.Text);
                map.Done();
                if (zone is null) continue;
                if (TimeZoneInfo.TryFindSystemTimeZoneById(zone.Value.Text, out var found)) sites[name.Text] = new(name.Text, title, found);
                else map.Report(zone.Value.Place, $"'{zone.Value.Text}' is no known time zone; use a name such as Europe/Lisbon.{Nearest.Hint(zone.Value.Text, TimeZoneInfo.GetSystemTimeZones().Select(z => z.Id))}");
            }
            return sites;
        }

        private void ReadAttributes()
        {
            var declared = new List<KeyValuePair<string, ExpressionType>>(BuiltIn.Attributes);
            foreach (var (name, type) in root.NamedTexts("attributes", required: false))
            {
                ExpressionType? found = type.Text switch
                {
                    "text" => ExpressionType.String,
                    "number" => ExpressionType.Int,
                    "date" => ExpressionType.Date,
                    "yes-no" => ExpressionType.Bool,
                    _ => null,
                };
                if (found is null) root.Report(type.Place, $"'{type.Text}' is no type; use text, number, date or yes-no.");
                else if (!AttributeForm().IsMatch(name.Text) || name.Text.Contains('-', StringComparison.Ordinal)) root.Report(name.Place, $"'{name.Text}' is no attribute name: letters and digits, a letter first.");
                else if (declared.Exists(d => d.Key == name.Text)) root.Report(name.Place, $"'{name.Text}' is already an attribute.");
                else declared.Add(new(name.Text, found));
            }
            _attributes = new(declared);
            _mandatory = [.. BuiltIn.Mandatory];
            foreach (var name in root.Texts("mandatory", required: false))
            {
                if (!_attributes.TryGet(name.Text, out _)) root.Report(name.Place, $"'{name.Text}' is not a declared attribute.{Nearest.Hint(name.Text, _attributes.Names)}");
                else if (!_mandatory.Contains(name.Text)) _mandatory.Add(name.Text);
            }
        }

        private SourceRule? Source(YamlMap map)
        {
            var name = Name(map);
            if (map.Text("kind") is { } kind && kind.Text != "file") map.Report(kind.Place, $"'{kind.Text}' is no kind of source; known is file.");
            var path = map.Text("path");
            if (path is { } p && (Path.IsPathRooted(p.Text) || p.Text.Split('/', '\\').Contains(".."))) map.Report(p.Place, "The path is relative to the service's folder of sources and stays inside it.");
            var delimiter = map.Text("delimiter", required: false);
            if (delimiter is { Text.Length: not 1 }) map.Report(delimiter.Value.Place, "The delimiter is one character.");
            var encoding = map.Text("encoding", required: false);
            if (encoding is { } e && e.Text is not ("utf-8" or "iso-8859-1")) map.Report(e.Place, $"'{e.Text}' is no known encoding; use utf-8 or iso-8859-1.");
            var columns = map.Texts("columns");
            var schema = new NameSchema(columns.Select(c => c.Text).Distinct().Select(c => KeyValuePair.Create("row." + c, ExpressionType.String)));
            foreach (var twice in columns.GroupBy(c => c.Text).Where(g => g.Count() > 1)) map.Report(twice.Last().Place, $"The column '{twice.Key}' is named twice.");

            var keyColumn = -1;
            if (map.Text("key") is { } key)
            {
                keyColumn = columns.ToList().FindIndex(c => c.Text == key.Text);
                if (keyColumn < 0) map.Report(key.Place, $"'{key.Text}' is not one of the columns.{Nearest.Hint(key.Text, columns.Select(c => c.Text))}");
            }

            var mapping = new List<MappedAttribute>();
            foreach (var (attribute, text) in map.NamedTexts("mapping"))
            {
                if (!_attributes.TryGet(attribute.Text, out var slot)) map.Report(attribute.Place, $"'{attribute.Text}' is not a declared attribute.{Nearest.Hint(attribute.Text, _attributes.Names)}");
                else if (map.Expression(text, schema, slot.Type, $"'{attribute.Text}'") is { } expression) mapping.Add(new(attribute.Text, expression, text.Place));
            }
            foreach (var missing in _mandatory.Where(m => !mapping.Exists(a => a.Name == m)))
                if (!findings.Exists(f => f.Place.File == map.Place.File)) map.Report(map.Place, $"The mandatory attribute '{missing}' is not mapped.");
            var title = map.TextOr("title", name ?? "");
            map.Done();
            return name is null || path is null || keyColumn < 0 ? null : new(name, title, path.Value.Text, delimiter is { Text.Length: 1 } d ? d.Text[0] : ',', encoding?.Text ?? "utf-8",
                schema, [.. columns.Select(c => c.Text)], keyColumn, mapping, map.Place);
        }

        private TargetRule? Target(YamlMap map)
        {
            var name = Name(map);
            if (map.Text("kind") is { } kind && kind.Text != "ldap") map.Report(kind.Place, $"'{kind.Text}' is no kind of target; known is ldap.");
            Uri? address = null;
            var startTls = false;
            if (map.Text("address") is { } text)
            {
                startTls = map.TextOr("security", "tls") == "starttls";
                if (!Uri.TryCreate(text.Text, UriKind.Absolute, out address) || address.Scheme is not ("ldap" or "ldaps") || address.Host.Length == 0)
                    map.Report(text.Place, "The address has the form ldaps://host:port, or ldap://host:port with 'security: starttls'.");
                else if (address.Scheme == "ldap" && !startTls) map.Report(text.Place, "The connection would be in clear text. Use ldaps://, or add 'security: starttls'.");
                else if (address.Scheme == "ldaps" && startTls) map.Report(text.Place, "ldaps:// is encrypted from the start; leave out 'security: starttls'.");
            }
            var signIn = map.Map("sign-in");
            var (who, secret) = (signIn?.Text("name"), signIn?.Text("secret"));
            signIn?.Done();
            var authority = map.Text("authority");
            var container = map.Text("container");
            var groups = map.Text("groups");
            var match = map.Texts("match").Select(m => m.Text).ToList();
            var classes = map.Texts("classes").Select(c => c.Text).ToList();
            var entitlements = new Dictionary<string, Entitlement>(StringComparer.Ordinal);
            foreach (var (key, entry) in map.NamedMaps("entitlements", required: false))
            {
                var group = entry.Text("group");
                var title = entry.TextOr("title", key.Text);
                var owner = entry.Text("owner", required: false)?.Text;
                entry.Done();
                if (!NameForm().IsMatch(key.Text)) map.Report(key.Place, $"'{key.Text}' is no name: use lower-case letters, digits and hyphens.");
                else if (group is not null) entitlements[key.Text] = new(key.Text, title, group.Value.Text, owner, key.Place);
            }
            var connections = map.Number("connections", 4, 1, 64);
            var length = map.Number("password-length", 16, 12, 64);
            var nameAttribute = map.TextOr("name-attribute", "uid");
            var placeholder = map.Text("empty-group-member", required: false)?.Text;
            var targetTitle = map.TextOr("title", name ?? "");
            map.Done();
            if (name is null || address is null || who is null || secret is null || authority is null || container is null || groups is null) return null;
            return new(name, targetTitle, address, startTls, authority.Value.Text, who.Value.Text, secret.Value.Text, connections, container.Value.Text,
                nameAttribute, classes, match, length, groups.Value.Text, placeholder, entitlements, map.Place);
        }

        private TargetRule? Target(Located name, YamlMap map)
        {
            if (_targets.TryGetValue(name.Text, out var target)) return target;
            map.Report(name.Place, $"There is no target '{name.Text}'.{Nearest.Hint(name.Text, _targets.Keys)}");
            return null;
        }

        private RoleTemplate? Template(YamlMap map, NameSchema accountNames)
        {
            var name = Name(map);
            var title = map.TextOr("title", name ?? "");
            var priority = map.Number("priority", 0, -1000, 1000);
            var when = map.Text("when", required: false) is { } condition ? map.Expression(condition, _attributes, ExpressionType.Bool, "'when'") : null;
            var accounts = new List<AccountRule>();
            foreach (var (target, account) in map.NamedMaps("accounts", required: false))
            {
                var names = account.Texts("name", required: false).Select(n => account.Expression(n, _attributes, ExpressionType.String, "'name'")).OfType<Expression>().ToList();
                var lead = TimeSpan.Zero;
                if (account.Text("lead", required: false) is { } text && !Time.Iso8601.TryParseDuration(text.Text, out lead))
                    account.Report(text.Place, $"'{text.Text}' is no ISO 8601 duration such as P14D.");
                var attributes = new List<AttributeRule>();
                foreach (var (attribute, expressionText) in account.NamedTexts("attributes", required: false))
                {
                    if (!AttributeForm().IsMatch(attribute.Text)) account.Report(attribute.Place, $"'{attribute.Text}' is no attribute name of a target.");
                    else if (account.Expression(expressionText, accountNames, ExpressionType.Null, "") is { } expression) attributes.Add(new(attribute.Text, expression, expressionText.Place));
                }
                account.Done();
                if (Target(target, account) is null) continue;
                if (names.Count > 0) _accountTargets.Add(target.Text);
                accounts.Add(new(target.Text, names, lead, attributes, target.Place));
            }
            var grants = new List<GrantRule>();
            foreach (var entry in map.Maps("grants", required: false))
            {
                var to = entry.Text("to");
                var only = entry.Text("when", required: false) is { } c ? entry.Expression(c, _attributes, ExpressionType.Bool, "'when'") : null;
                entry.Done();
                if (to is not { } reference) continue;
                var parts = reference.Text.Split('/', 2);
                if (parts.Length != 2) entry.Report(reference.Place, $"'{reference.Text}' must have the form TARGET/ENTITLEMENT.");
                else if (Target(new(parts[0], reference.Place), entry) is { } target)
                {
                    if (target.Entitlements.ContainsKey(parts[1])) grants.Add(new(parts[0], parts[1], only, reference.Place));
                    else entry.Report(reference.Place, $"The target '{parts[0]}' has no entitlement '{parts[1]}'.{Nearest.Hint(parts[1], target.Entitlements.Keys)}");
                }
            }
            map.Done();
            return name is null ? null : new(name, title, priority, when, accounts, grants, map.Place);
        }

        private static readonly string[] Kinds = ["joiner", "mover", "leaver"];
        private static readonly string[] Roles = ["requester", "approver", "operator", "engineer", "auditor"];

        private Workflow? ReadWorkflow(YamlMap map)
        {
            var name = Name(map);
            var title = map.TextOr("title", name ?? "");
            var kinds = map.Texts("for");
            foreach (var kind in kinds.Where(k => !Kinds.Contains(k.Text))) map.Report(kind.Place, $"'{kind.Text}' is no kind of request; known are {string.Join(", ", Kinds)}.{Nearest.Hint(kind.Text, Kinds)}");
            var stages = new List<Stage>();
            foreach (var entry in map.Maps("stages"))
            {
                var stageName = entry.Text("name");
                var decides = entry.Text("decides");
                var otherwise = entry.Text("otherwise", required: false);
                var stageTitle = entry.TextOr("title", stageName?.Text ?? "");
                entry.Done();
                if (stageName is null || decides is null) continue;
                CheckApprover(entry, decides.Value, allowManager: true);
                if (otherwise is { } fallback) CheckApprover(entry, fallback, allowManager: false);
                else if (!decides.Value.Text.StartsWith("role:", StringComparison.Ordinal)) entry.Report(decides.Value.Place, "This can find nobody; add 'otherwise: role:NAME' so that the stage is never a dead end.");
                stages.Add(new(stageName.Value.Text, stageTitle, decides.Value.Text, otherwise?.Text ?? decides.Value.Text, entry.Place));
            }
            var release = map.Text("release", required: false);
            if (release is { } r && r.Text is not ("operator" or "automatic")) map.Report(r.Place, $"'{r.Text}' is no way to release; use operator or automatic.");
            map.Done();
            return name is null ? null : new(name, title, [.. kinds.Select(k => k.Text)], stages, release?.Text != "automatic", map.Place);
        }

        private static void CheckApprover(YamlMap map, Located text, bool allowManager)
        {
            if (allowManager && text.Text == "manager") return;
            if (text.Text.StartsWith("person:", StringComparison.Ordinal) && text.Text.Length > 7) return;
            if (text.Text.StartsWith("role:", StringComparison.Ordinal))
            {
                if (!Roles.Contains(text.Text[5..])) map.Report(text.Place, $"'{text.Text[5..]}' is no role; known are {string.Join(", ", Roles)}.{Nearest.Hint(text.Text[5..], Roles)}");
                return;
            }
            map.Report(text.Place, $"'{text.Text}' names no approver; use {(allowManager ? "manager, " : "")}role:NAME or person:NUMBER.");
        }

        private void CheckWorkflows(IReadOnlyCollection<Workflow> workflows)
        {
            foreach (var kind in Kinds)
            {
                var serving = workflows.Where(w => w.For.Contains(kind)).ToList();
                if (serving.Count == 0 && findings.Count == 0) findings.Add(new(root.Place, $"No workflow is for {kind} requests."));
                if (serving.Count > 1) findings.Add(new(serving[1].Place, $"Two workflows are for {kind} requests: '{serving[0].Name}' and '{serving[1].Name}'."));
            }
        }
    }
}
