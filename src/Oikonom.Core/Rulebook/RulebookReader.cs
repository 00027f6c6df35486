using System.Security.Cryptography;
using System.Text;
using System.Text.RegularExpressions;
using Oikonom.Core.Expressions;
using Oikonom.Core.People;
using Oikonom.Core.Time;
using YamlDotNet.Core;
using YamlDotNet.RepresentationModel;

namespace Oikonom.Core.Rulebook;

/// <summary>What reading a rulebook gave: the rulebook when nothing is wrong, else every finding at once; and what deserves a
/// second thought.</summary>
public sealed record RulebookReading(Rulebook? Rulebook, IReadOnlyList<Finding> Findings)
{
    /// <summary>What is allowed and deserves a second thought.</summary>
    public IReadOnlyList<Finding> Warnings { get; init; } = [];
}

/// <summary>Reads and checks the files of a rulebook. Pure: text in, rulebook or findings out.</summary>
public static partial class RulebookReader
{
    private const int MaxFile = 1_048_576;
    private static readonly string[] Folders =
    [
        "sources",
        "targets",
        CatalogueFiles.Folder,
        "templates",
        "workflows",
        "pools",
        "separations",
        "notices",
    ];

    /// <summary>Reads all files of a rulebook. It is there when nothing is wrong; else every finding is.</summary>
    public static RulebookReading Read(IReadOnlyList<RulebookFile> files)
    {
        var findings = new List<Finding>();
        var documents = new List<(string Folder, YamlMap Map)>();
        YamlMap? root = null;
        foreach (var file in files.OrderBy(f => f.Path, StringComparer.Ordinal))
        {
            var folder = file.Path.Contains('/', StringComparison.Ordinal)
                ? file.Path[..file.Path.IndexOf('/', StringComparison.Ordinal)]
                : "";
            if (folder.Length > 0 && !Folders.Contains(folder))
            {
                findings.Add(
                    new(
                        new(file.Path, 1, 1),
                        $"The folder '{folder}' has no meaning; known are {string.Join(", ", Folders)}.{Nearest.Hint(folder, Folders)}"
                    )
                );
                continue;
            }
            if (Parse(file, findings) is not { } map)
                continue;
            if (folder.Length > 0)
                documents.Add((folder, map));
            else if (file.Path == "rulebook.yaml")
                root = map;
            else
                findings.Add(new(new(file.Path, 1, 1), "Only rulebook.yaml stands at the top; move this file into a folder."));
        }
        // What cannot be read at all is missing everywhere else: to say so there too would hide the one thing that is wrong.
        if (findings.Exists(f => f.IsUnreadable))
            return new(null, InOrder(findings.Where(f => f.IsUnreadable)));
        if (root is null)
        {
            if (findings.Count == 0)
                findings.Add(new(new("rulebook.yaml", 1, 1), "The file rulebook.yaml is missing."));
            return new(null, findings);
        }
        var rulebook = new Documents(root, documents, findings).Read();
        if (findings.Count > 0 || rulebook is null)
            return new(null, InOrder(findings));
        return new(rulebook, []) { Warnings = InOrder(Warnings.In(rulebook)) };
    }

    private static IReadOnlyList<Finding> InOrder(IEnumerable<Finding> findings) =>
        [.. findings.OrderBy(f => f.Place.File, StringComparer.Ordinal).ThenBy(f => f.Place.Line).ThenBy(f => f.Place.Column)];

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
                findings.Add(new(new(file.Path, line, 1), "The file is nested too deeply.") { IsUnreadable = true });
                return null;
            }
            var stream = new YamlStream();
            stream.Load(new StringReader(file.Text));
            if (stream.Documents is [{ RootNode: YamlMappingNode map }])
                return new(map, file.Path, findings);
            findings.Add(new(new(file.Path, 1, 1), "The file must hold one mapping of keys to values.") { IsUnreadable = true });
        }
        catch (YamlException error)
        {
            findings.Add(
                new(
                    new(file.Path, (int)Math.Max(1, error.Start.Line), (int)Math.Max(1, error.Start.Column)),
                    $"This is not sound YAML: {error.InnerException?.Message ?? error.Message}"
                )
                {
                    IsUnreadable = true,
                }
            );
        }
        catch (Exception error) when (error is InvalidOperationException or ArgumentException or FormatException)
        {
            // The parser gives up on some broken texts without a place of its own.
            findings.Add(
                new(new(file.Path, 1, 1), "This is not sound YAML; look for a broken quote, list or mapping.") { IsUnreadable = true }
            );
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
            if (depth > 50)
                return (int)parser.Current.Start.Line;
            if (parser.Current is YamlDotNet.Core.Events.AnchorAlias)
                throw new YamlException(parser.Current.Start, parser.Current.End, "aliases are not used in rulebooks");
        }
        return null;
    }

    [GeneratedRegex("^[a-z][a-z0-9-]{0,62}$")]
    private static partial Regex NameForm();

    [GeneratedRegex("^[A-Za-z][A-Za-z0-9-]{0,62}$")]
    private static partial Regex AttributeForm();

    [GeneratedRegex(@"\baccount\.(name|former)\b")]
    private static partial Regex OwnName();

    /// <summary>A path of RFC 7644 section 3.10 that leads to values: with the name of a schema before it if need be, one value chosen
    /// by what it equals, and a part of it.</summary>
    [GeneratedRegex(
        """^(urn:[A-Za-z0-9:._-]{1,200}:)?[A-Za-z$][\w$-]{0,62}(\[[A-Za-z]{1,62} eq "[^"\\\\]{1,200}"\])?(\.[A-Za-z$][\w$-]{0,62})?$"""
    )]
    private static partial Regex PathForm();

    /// <summary>Reads the documents of one rulebook into its records.</summary>
    private sealed partial class Documents(YamlMap root, List<(string Folder, YamlMap Map)> documents, List<Finding> findings)
    {
        private NameSchema _attributes = new([]);
        private List<string> _mandatory = [];
        private IReadOnlyDictionary<string, Site> _sites = new Dictionary<string, Site>();
        private readonly Dictionary<string, TargetRule> _targets = new(StringComparer.Ordinal);
        private readonly HashSet<AccountKey> _madeAccounts = [];
        private readonly Dictionary<string, NumberPool> _pools = new(StringComparer.Ordinal);
        private NameSchema _accountNames = new([]);
        private NameSchema _requestNames = new([]);
        private readonly Dictionary<string, IReadOnlyList<string>> _groups = new(StringComparer.Ordinal);

        /// <summary>Puts the documents together; null when something that the rest needs is missing.</summary>
        public Rulebook? Read()
        {
            var name = root.Text("name");
            var title = root.TextOr("title", name?.Text ?? "");
            var sites = ReadSites();
            ReadAttributes();
            var moves = root.Has("moves")
                ? root.Texts("moves").Where(Declared).Select(m => m.Text).ToHashSet(StringComparer.Ordinal)
                : null;
            var publishing = root.Choice("publishing", "one-person", "one-person", "second-person");
            var users = root.Choice("users", "one-person", "one-person", "second-person");
            var visible = ReadVisibility();
            var titles = ReadTitles();
            var retention = ReadRetention();
            var domains = root.Texts("mail-domains", required: false).Select(d => d.Text).ToList();
            ReadGroups();
            var rollOuts = ReadRollOuts();
            var departments = root.NamedTexts("department-heads", required: false)
                .GroupBy(h => h.Name.Text, StringComparer.Ordinal)
                .ToDictionary(g => g.Key, g => g.Last().Value.Text, StringComparer.Ordinal);
            var mailboxes = ReadMailboxes();
            root.Done();
            _requestNames = new(_attributes.Slots.Select(s => KeyValuePair.Create(s.Name, s.Slot.Type)).Concat(RequestNames.All));

            ReadTargets(sites);
            var sources = All("sources", map => Source(map, sites), s => s.Name, s => s.Place);
            if (findings.Count > 0 && _targets.Count == 0 && Of("targets").Any())
                return null;
            CheckOrder();
            var templates = Mirrored(All("templates", Template, t => t.Name, t => t.Place));
            CheckGrants(templates.Values);
            CheckIds(templates.Values);
            CheckNeeds(templates.Values);
            CheckMirrors();
            var separations = All("separations", ReadSeparation, s => s.Name, s => s.Place);
            var workflows = All("workflows", map => ReadWorkflow(map, sources), w => w.Name, w => w.Place);
            CheckWorkflows(workflows.Values);
            var notices = All("notices", ReadNotice, n => n.Event, n => n.Place);

            return name is null
                ? null
                : new(
                    name.Value.Text,
                    title,
                    sites,
                    _attributes,
                    _mandatory,
                    sources,
                    _targets,
                    [.. templates.Values.OrderByDescending(t => t.Priority).ThenBy(t => t.Name, StringComparer.Ordinal)],
                    [.. workflows.Values]
                )
                {
                    Moves = moves,
                    Pools = _pools,
                    Separations = [.. separations.Values],
                    PublishingNeedsSecond = publishing == "second-person",
                    UsersNeedSecond = users == "second-person",
                    VisibleTo = visible,
                    Titles = titles,
                    Retention = retention,
                    RollOuts = rollOuts,
                    MailDomains = domains,
                    AccountNames = _accountNames,
                    RequestNames = _requestNames,
                    Departments = departments,
                    Groups = _groups,
                    Notices = notices,
                    Mailboxes = mailboxes,
                };
        }

        /// <summary>Everything of one folder, by name; what cannot be read has left its finding.</summary>
        private Dictionary<string, T> All<T>(string folder, Func<YamlMap, T?> read, Func<T, string> name, Func<T, Place> place)
            where T : class
        {
            var all = new Dictionary<string, T>(StringComparer.Ordinal);
            foreach (var map in Of(folder))
                if (read(map) is { } one)
                    Add(all, name(one), one, place(one));
            return all;
        }

        private Dictionary<string, string> ReadTitles()
        {
            var titles = new Dictionary<string, string>(BuiltIn.Titles, StringComparer.Ordinal);
            foreach (var (attribute, said) in root.NamedTexts("titles", required: false))
                if (Declared(attribute))
                    titles[attribute.Text] = said.Text;
            return titles;
        }

        private void ReadGroups()
        {
            foreach (var (group, members) in root.Has("groups") ? root.NamedTextLists("groups") : [])
            {
                if (!NameForm().IsMatch(group.Text))
                    root.Report(group.Place, $"'{group.Text}' is no name: use lower-case letters, digits and hyphens, a letter first.");
                _groups[group.Text] = [.. members.Select(m => m.Text)];
            }
        }

        private Dictionary<string, string> ReadMailboxes()
        {
            var mailboxes = new Dictionary<string, string>(StringComparer.Ordinal);
            foreach (var (role, address) in root.NamedTexts("mailboxes", required: false))
            {
                if (!Roles.Contains(role.Text))
                    root.Report(role.Place, $"'{role.Text}' is no role; the roles are {string.Join(", ", Roles)}.");
                else if (!address.Text.Contains('@', StringComparison.Ordinal))
                    root.Report(address.Place, $"'{address.Text}' is no mail address.");
                mailboxes[role.Text] = address.Text;
            }
            return mailboxes;
        }

        private void ReadTargets(IReadOnlyDictionary<string, Site> sites)
        {
            _sites = sites;
            foreach (var map in Of("pools"))
                if (Pool(map, sites) is { } pool)
                    Add(_pools, pool.Name, pool, pool.Place);
            // The names of all targets are known before any of them is read, since accounts may use each other's.
            var targetNames = Of("targets").Select(m => m.Peek("name")).OfType<string>().Distinct().ToList();
            _accountNames = Rulebook.AccountSchema(_attributes, _pools.Keys, targetNames);
            ReadCatalogues(targetNames);
            foreach (var map in Of("targets"))
                if (Target(map) is { } target)
                    Add(_targets, target.Name, target, target.Place);
            MirrorGroups();
        }

        /// <summary>The id of an account is known once it is made: what uses it comes after it, and nothing that must be known before
        /// may.</summary>
        private void CheckIds(IEnumerable<RoleTemplate> templates)
        {
            foreach (var account in templates.SelectMany(t => t.Accounts))
            {
                if (account.Names.Append(account.Container).OfType<Expression>().SelectMany(AccountIds.In).FirstOrDefault() is { } early)
                    findings.Add(
                        new(
                            account.Place,
                            $"The name and the place of an account are planned before '{AccountIds.NameOf(early)}' is known."
                        )
                    );
                foreach (var attribute in account.Attributes)
                foreach (var of in AccountIds.In(attribute.Expression))
                    if (WhyNoId(account.Key, of) is { } why)
                        findings.Add(new(attribute.Place, why));
            }
        }

        private string? WhyNoId(AccountKey account, string of) =>
            account == new AccountKey(of) ? $"'{AccountIds.NameOf(of)}' is known once this very account is made."
            : _targets.GetValueOrDefault(of) is { HasAccounts: false } desk ? $"Nobody has an account in {desk.Title}, so it gives no id."
            : !_madeAccounts.Contains(new(of)) ? $"No template makes an account in '{of}', so there is never an id."
            : account.Target != of && _targets.GetValueOrDefault(account.Target)?.After.Contains(of) == false
                ? $"The id is known once the account in '{of}' is made: write 'after: [{of}]' into target '{account.Target}'."
            : null;

        private void CheckGrants(IEnumerable<RoleTemplate> templates)
        {
            foreach (var grant in templates.SelectMany(t => t.Grants))
                if (!_madeAccounts.Contains(grant.Key.Account) && _targets[grant.Target].HasAccounts)
                    findings.Add(new(grant.Place, $"No template makes an account in '{grant.Key.Account}', so this can never be given."));
        }

        private Dictionary<string, IReadOnlyList<string>> ReadVisibility()
        {
            var visible = new Dictionary<string, IReadOnlyList<string>>(Visibility.Default, StringComparer.Ordinal);
            foreach (var (attribute, words) in root.Has("visible-to") ? root.NamedTextLists("visible-to") : [])
            {
                if (!Declared(attribute))
                    continue;
                foreach (
                    var word in words.Where(w =>
                        !Visibility.Words.Contains(w.Text)
                        && !(w.Text.StartsWith("role:", StringComparison.Ordinal) && Roles.Contains(w.Text[5..]))
                    )
                )
                    root.Report(
                        word.Place,
                        $"'{word.Text}' names nobody; use {string.Join(", ", Visibility.Words)} or "
                            + $"role:NAME.{Nearest.Hint(word.Text, Visibility.Words)}"
                    );
                if (words.Any(w => w.Text == Visibility.Everyone))
                    visible.Remove(attribute.Text);
                else
                    visible[attribute.Text] = [.. words.Select(w => w.Text)];
            }
            return visible;
        }

        private RollOutRule ReadRollOuts()
        {
            if (root.Map("roll-outs", required: false) is not { } map)
                return RollOutRule.Default;
            var decides = new List<Approver>();
            foreach (var text in map.Texts("decides", required: false))
            {
                if (Parse(map, text) is not { } who)
                    continue;
                if (who.Relation is "role" or "person" or "group")
                    decides.Add(who);
                else
                    map.Report(
                        text.Place,
                        "A roll-out is decided by role:NAME, person:NUMBER or group:NAME; heads decide about their departments."
                    );
            }
            var rule = new RollOutRule(
                Limit(map, "brake") ?? RollOutRule.Default.Brake,
                Passes(map),
                decides.Count > 0 ? decides : RollOutRule.Default.Decides
            );
            map.Done();
            return rule;
        }

        private RetentionRule? ReadRetention()
        {
            if (root.Map("retention", required: false) is not { } map)
                return null;
            var (people, powerful) = (Months(map, "people"), Months(map, "powerful"));
            map.Done();
            if (people is null)
                map.Report(map.Place, "Say how long values of people are kept: 'people: P2Y'.");
            if (powerful < people)
                map.Report(map.Place, "'powerful' is at least as long as 'people'.");
            return people is { } months ? new(months, Math.Max(months, powerful ?? months)) : null;
        }

        private static int? Months(YamlMap map, string key)
        {
            if (map.Text(key, required: false) is not { } text)
                return null;
            if (RetentionRule.Read(text.Text) is { } months)
                return months;
            map.Report(text.Place, $"'{text.Text}' is no duration of whole years and months such as P2Y or P18M.");
            return null;
        }

        private bool Declared(Located attribute)
        {
            if (_attributes.TryGet(attribute.Text, out _))
                return true;
            root.Report(
                attribute.Place,
                $"'{attribute.Text}' is not a declared attribute.{Nearest.Hint(attribute.Text, _attributes.Names)}"
            );
            return false;
        }

        private IEnumerable<YamlMap> Of(string folder) => documents.Where(d => d.Folder == folder).Select(d => d.Map);

        private void Add<T>(Dictionary<string, T> known, string name, T item, Place place)
        {
            if (!known.TryAdd(name, item))
                findings.Add(new(place, $"The name '{name}' is used twice."));
        }

        private string? Name(YamlMap map)
        {
            if (map.Text("name") is not { } name)
                return null;
            if (NameForm().IsMatch(name.Text))
                return name.Text;
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
                var lead = map.TextOr("lead", "");
                TimeZoneInfo? found = null;
                if (zone is { } text && !TimeZoneInfo.TryFindSystemTimeZoneById(text.Text, out found))
                    map.Report(
                        text.Place,
                        $"'{text.Text}' is no known time zone; use a name such as "
                            + $"Europe/Lisbon.{Nearest.Hint(text.Text, TimeZoneInfo.GetSystemTimeZones().Select(z => z.Id))}"
                    );
                var hours = ReadHours(map, found ?? TimeZoneInfo.Utc);
                map.Done();
                if (found is not null)
                    sites[name.Text] = new(name.Text, title, found) { Lead = lead, Hours = hours };
            }
            return sites;
        }

        private static WorkingHours? ReadHours(YamlMap map, TimeZoneInfo zone)
        {
            var hours = map.Text("hours", required: false);
            var days = map.Texts("days", required: false);
            var holidays = map.Texts("holidays", required: false);
            if (hours is null && days.Count == 0 && holidays.Count == 0)
                return null;
            var (from, until) = (TimeOnly.MinValue, TimeOnly.MaxValue);
            if (hours is { } text)
            {
                var parts = text.Text.Split('-', 2, StringSplitOptions.TrimEntries);
                if (
                    parts.Length != 2
                    || !TimeOnly.TryParseExact(parts[0], "HH:mm", out from)
                    || !TimeOnly.TryParseExact(parts[1], "HH:mm", out until)
                    || until <= from
                )
                    map.Report(text.Place, $"'{text.Text}' are no working hours such as 09:00-17:00.");
            }
            var worked = new HashSet<DayOfWeek>();
            foreach (var day in days)
            {
                var index = Array.IndexOf(DayNames, day.Text);
                if (index < 0)
                    map.Report(day.Place, $"'{day.Text}' is no day; use {string.Join(", ", DayNames)}.");
                else
                    worked.Add((DayOfWeek)index);
            }
            if (days.Count == 0)
                worked = [DayOfWeek.Monday, DayOfWeek.Tuesday, DayOfWeek.Wednesday, DayOfWeek.Thursday, DayOfWeek.Friday];
            var (free, yearly) = (new HashSet<DateOnly>(), new HashSet<(int, int)>());
            foreach (var day in holidays)
            {
                if (DateOnly.TryParseExact(day.Text, "yyyy-MM-dd", out var date))
                    free.Add(date);
                // Read in a leap year, so that 29 February is one.
                else if (DateOnly.TryParseExact($"2000-{day.Text}", "yyyy-MM-dd", out date))
                    yearly.Add((date.Month, date.Day));
                else
                    map.Report(day.Place, $"'{day.Text}' is no date such as 2026-12-25, or 12-25 for every year.");
            }
            return new(zone, from, until, worked, free) { Yearly = yearly };
        }

        private static readonly string[] DayNames = ["sun", "mon", "tue", "wed", "thu", "fri", "sat"];

        private static NoticeText? ReadNotice(YamlMap map)
        {
            var about = map.Text("event");
            var subject = map.Text("subject");
            var body = map.Text("text");
            map.Done();
            if (about is not { } what || subject is null || body is null)
                return null;
            if (!NoticeEvents.All.ContainsKey(what.Text))
            {
                map.Report(
                    what.Place,
                    $"'{what.Text}' is no event; known are "
                        + $"{string.Join(", ", NoticeEvents.All.Keys)}.{Nearest.Hint(what.Text, NoticeEvents.All.Keys)}"
                );
                return null;
            }
            foreach (var text in new[] { subject.Value, body.Value })
            foreach (var name in NoticeEvents.NamesIn(text.Text).Where(n => !NoticeEvents.Names.Contains(n)))
                map.Report(
                    text.Place,
                    $"'{{{{{name}}}}}' has no meaning in a notice; known are "
                        + $"{string.Join(", ", NoticeEvents.Names)}.{Nearest.Hint(name, NoticeEvents.Names)}"
                );
            return new(what.Text, subject.Value.Text, body.Value.Text, map.Place);
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
                if (found is null)
                    root.Report(type.Place, $"'{type.Text}' is no type; use text, number, date or yes-no.");
                else if (!AttributeForm().IsMatch(name.Text) || name.Text.Contains('-', StringComparison.Ordinal))
                    root.Report(name.Place, $"'{name.Text}' is no attribute name: letters and digits, a letter first.");
                else if (declared.Exists(d => d.Key == name.Text))
                    root.Report(name.Place, $"'{name.Text}' is already an attribute.");
                else
                    declared.Add(new(name.Text, found));
            }
            _attributes = new(declared);
            _mandatory = [.. BuiltIn.Mandatory];
            foreach (var name in root.Texts("mandatory", required: false))
            {
                if (Declared(name) && !_mandatory.Contains(name.Text))
                    _mandatory.Add(name.Text);
            }
        }
    }
}
