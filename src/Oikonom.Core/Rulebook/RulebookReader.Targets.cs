using System.Text.RegularExpressions;
using Oikonom.Core.Expressions;
using Oikonom.Core.People;
using Oikonom.Core.Time;

namespace Oikonom.Core.Rulebook;

/// <content>Targets.</content>
public static partial class RulebookReader
{
    private sealed partial class Documents
    {
        private TargetRule? Target(YamlMap map) =>
            map.Choice("kind", null, "ldap", "scim", "file", "desk") switch
            {
                "desk" => DeskTarget(map),
                "scim" => ScimTarget(map),
                "file" => FileTarget(map),
                _ => LdapTarget(map),
            };

        private TargetRule? LdapTarget(YamlMap map)
        {
            var name = Name(map);
            var startTls = map.TextOr("security", "tls") == "starttls";
            var address = map.Text("address") is { } text ? DirectoryAddress(map, text, startTls) : null;
            var signIn = map.Map("sign-in");
            var (who, secret) = (signIn?.Text("name"), signIn?.Text("secret"));
            signIn?.Done();
            var authority = map.Text("authority");
            var container = map.Text("container");
            var groups = map.Text("groups");
            var isDomain = map.Choice("dialect", "password-policy", "password-policy", "domain-controller") == "domain-controller";
            var classes = map.Texts("classes", required: !isDomain).Select(c => c.Text).ToList();
            var catalogue = DirectoryCatalogue(map, groups?.Text ?? "");
            var entitlements = Entitlements(
                map,
                catalogue,
                entry =>
                    entry.Text("group") is { } dn
                        ? new EntitlementMeans.Group(dn.Text)
                        {
                            Form = isDomain ? Form(entry) : null,
                            IsPrimary = isDomain && Primary(entry),
                        }
                        : null
            );
            var connections = map.Number("connections", 4, 1, 64);
            var password = Password(map);
            var nameAttribute = map.TextOr("name-attribute", isDomain ? "sAMAccountName" : "uid");
            var placeholder = map.Text("empty-group-member", required: false)?.Text;
            var makesContainers = map.YesNo("create-containers", false);
            var references = References(map);
            var guards = map.YesNo("guards", false);
            if (guards && !isDomain)
                map.Report(map.Place, "'guards' belongs to 'dialect: domain-controller'.");
            MirrorOfWhole(map, name);
            TargetRule Made(TargetSettings settings)
            {
                var rule = AccountTarget(map, name ?? "", settings, entitlements) with { Password = password, Catalogue = catalogue };
                // Domain controllers take names of 20 characters; longer ones are never made.
                return isDomain ? rule with { Names = rule.Names with { Longest = Math.Min(rule.Names.Longest, 20) } } : rule;
            }

            if (
                name is null
                || address is null
                || who is null
                || secret is null
                || authority is null
                || container is null
                || groups is null
            )
            {
                // What is wrong beside that is told too.
                Made(new TargetSettings.Desk("", TimeSpan.Zero));
                return null;
            }
            return Made(
                new TargetSettings.Ldap(
                    address,
                    startTls,
                    authority.Value.Text,
                    who.Value.Text,
                    secret.Value.Text,
                    connections,
                    container.Value.Text,
                    nameAttribute,
                    classes is [] ? ["top", "person", "organizationalPerson", "user"] : classes,
                    groups.Value.Text,
                    placeholder
                )
                {
                    MakesContainers = makesContainers,
                    Guards = guards,
                    References = references,
                    Family = isDomain ? LdapFamily.DomainController : LdapFamily.PasswordPolicy,
                }
            );
        }

        /// <summary>Which attributes lead to other entries, and by what the rulebook means them.</summary>
        private static Dictionary<string, string> References(YamlMap map)
        {
            var references = new Dictionary<string, string>(StringComparer.OrdinalIgnoreCase);
            foreach (var (attribute, key) in map.NamedTexts("references", required: false))
            {
                foreach (var name in new[] { attribute, key }.Where(n => !AttributeForm().IsMatch(n.Text)))
                    map.Report(name.Place, $"'{name.Text}' is no attribute name of a target.");
                references[attribute.Text] = key.Text;
            }
            return references;
        }

        private static Uri? DirectoryAddress(YamlMap map, Located text, bool startTls)
        {
            if (
                !Uri.TryCreate(text.Text, UriKind.Absolute, out var address)
                || address.Scheme is not ("ldap" or "ldaps")
                || address.Host.Length == 0
            )
                map.Report(text.Place, "The address has the form ldaps://host:port, or ldap://host:port with 'security: starttls'.");
            else if (address.Scheme == "ldap" && !startTls)
                map.Report(text.Place, "The connection would be in clear text. Use ldaps://, or add 'security: starttls'.");
            else if (address.Scheme == "ldaps" && startTls)
                map.Report(text.Place, "ldaps:// is encrypted from the start; leave out 'security: starttls'.");
            return address;
        }

        /// <summary>An application that speaks SCIM 2.0.</summary>
        private TargetRule? ScimTarget(YamlMap map)
        {
            var name = Name(map);
            var address = map.Text("address") is { } text ? ApplicationAddress(map, text) : null;
            var signIn = map.Map("sign-in");
            var secret = signIn?.Text("secret");
            signIn?.Done();
            var authority = map.TextOr("authority", "");
            var calls = map.Number("calls", 8, 1, 64);
            var catalogue = ApplicationCatalogue(map);
            var entitlements = Entitlements(map, catalogue, entry => ApplicationMeans(map, entry));
            var rule = AccountTarget(
                map,
                name ?? "",
                new TargetSettings.Scim(address ?? new("https://localhost/"), authority, secret?.Text ?? "", calls),
                entitlements
            ) with
            {
                Catalogue = catalogue,
            };
            foreach (var match in rule.Match.Where(m => !PathForm().IsMatch(m.Attribute)))
                map.Report(map.Place, $"'{match.Attribute}' in 'match' is no attribute of a user, such as userName or externalId.");
            return name is null || address is null || secret is null ? null : rule;
        }

        /// <summary>The address with a slash at its end, so that what stands below it can be named (RFC 3986 section 5.2.3).</summary>
        private static Uri? ApplicationAddress(YamlMap map, Located text)
        {
            if (
                Uri.TryCreate(text.Text.TrimEnd('/') + "/", UriKind.Absolute, out var address)
                && address is { Scheme: "https", Host.Length: > 0, Query: "", Fragment: "", UserInfo: "" }
            )
                return address;
            map.Report(text.Place, "The address has the form https://host/path, without a query; the token travels in no clear text.");
            return null;
        }

        private static EntitlementMeans? ApplicationMeans(YamlMap map, YamlMap entry)
        {
            var (group, role, licence) = (
                entry.Text("group", required: false),
                entry.Text("role", required: false),
                entry.Text("licence", required: false)
            );
            if (new[] { group, role, licence }.Count(x => x is not null) != 1)
                map.Report(
                    entry.Place,
                    "An application gives it by one of 'group' (its name), 'role' or 'licence' (the value it has for it)."
                );
            return group is { } g ? new EntitlementMeans.NamedGroup(g.Text)
                : role is { } r ? new EntitlementMeans.Value("roles", r.Text)
                : licence is { } l ? new EntitlementMeans.Value("entitlements", l.Text)
                : null;
        }

        /// <summary>A system that takes over a file.</summary>
        private TargetRule? FileTarget(YamlMap map)
        {
            var name = Name(map);
            var folder = map.Text("folder");
            if (folder is { } text && (Path.IsPathRooted(text.Text) || text.Text.Split('/', '\\').Contains("..")))
                map.Report(text.Place, "The folder is named from the service's folder of such targets on, and stays inside it.");
            else if (folder is { } own && _targets.Values.FirstOrDefault(t => Folder(t) == Bare(own.Text)) is { } other)
                map.Report(own.Place, $"The folder belongs to '{other.Name}' already; each target has its own.");
            var writes = ReadSchedule(map, SourceKind.File, _sites);
            var within = Duration(map, "answers-within");
            var form = FileFormOf(map);
            var entitlements = Entitlements(
                map,
                null,
                entry => entry.Text("value") is { } value ? new EntitlementMeans.Value("entitlements", value.Text) : null
            );
            var rule = AccountTarget(
                map,
                name ?? "",
                new TargetSettings.File(folder?.Text ?? "", writes, within) { Form = form },
                entitlements
            );
            return name is null || folder is null ? null : rule;
        }

        private static FileForm FileFormOf(YamlMap map)
        {
            var isLdif = map.Choice("format", "csv", "csv", "ldif") == "ldif";
            var isChanges = map.Choice("content", "all", "all", "changes") == "changes";
            var (below, classes) = (map.Text("below", required: false), map.Texts("classes", required: false).Select(c => c.Text).ToList());
            if (!isLdif && (below is not null || classes.Count > 0))
                map.Report(map.Place, "'below' and 'classes' belong to 'format: ldif'.");
            if (below is { } place && !LdapName().IsMatch(place.Text))
                map.Report(place.Place, $"'{place.Text}' is no distinguished name, such as ou=people,dc=northmere,dc=example.");
            return new(isLdif, isChanges, below?.Text ?? "", classes);
        }

        [GeneratedRegex(@"^[A-Za-z][A-Za-z0-9-]*=(?:[^,\\]|\\.)+(?:,[A-Za-z][A-Za-z0-9-]*=(?:[^,\\]|\\.)+)*$")]
        private static partial Regex LdapName();

        private static string? Folder(TargetRule target) => target.Settings is TargetSettings.File file ? Bare(file.Folder) : null;

        /// <summary>A path without what leads nowhere.</summary>
        private static string Bare(string path) => string.Join('/', path.Split('/', '\\').Where(part => part.Length > 0 && part != "."));

        /// <summary>What every target in which people have accounts says in the same way; nothing else may follow.</summary>
        private TargetRule AccountTarget(
            YamlMap map,
            string name,
            TargetSettings settings,
            IReadOnlyDictionary<string, Entitlement> entitlements
        )
        {
            var after = map.Texts("after", required: false);
            _after.AddRange(after.Select(a => (name, a, map)));
            var rule = new TargetRule(name, map.TextOr("title", name), settings, entitlements, map.Place)
            {
                Match = Match(map),
                Names = Names(map),
                Watch = Watch(map, settings),
                Maintenance = Maintenance(map),
                Rate = map.Has("rate") ? map.Number("rate", 100, 1, 100_000) : null,
                After = [.. after.Select(a => a.Text)],
                Owner = map.TextOr("owner", ""),
                Titles = map.NamedTexts("titles", required: false)
                    .ToDictionary(t => t.Name.Text, t => t.Value.Text, StringComparer.OrdinalIgnoreCase),
            };
            map.Done();
            return rule;
        }

        /// <summary>What the target gives: what the rulebook says itself, over what was read of the same name, and what was read
        /// alone. What was read and the rulebook gives under another name is that.</summary>
        /// <param name="means">How the kind of target gives what an entry names; null when that is missing, which was told.</param>
        private Dictionary<string, Entitlement> Entitlements(YamlMap map, CatalogueRule? catalogue, Func<YamlMap, EntitlementMeans?> means)
        {
            var read = _catalogues.GetValueOrDefault(map.Peek("name") ?? "") ?? [];
            var entitlements = new Dictionary<string, Entitlement>(StringComparer.Ordinal);
            foreach (var (key, entry) in map.NamedMaps("entitlements", required: false))
            {
                var whole = read.Remove(key.Text, out var under) ? entry.Over(under.Entry) : entry;
                if (ReadEntitlement(map, key, whole, means(whole)) is { } entitlement)
                    entitlements[key.Text] = entitlement;
            }
            var own = entitlements.Values.Select(e => Plain(e.Means)).ToHashSet(StringComparer.OrdinalIgnoreCase);
            foreach (var (key, entry) in read.Values)
                if (
                    ReadEntitlement(map, key, entry, means(entry), catalogue ?? new([])) is { } entitlement
                    && !own.Contains(Plain(entitlement.Means))
                )
                    entitlements[key.Text] = entitlement;
            if (entitlements.Values.Where(e => e.IsLeast).Select(e => e.Name).ToList() is [var one, var other, ..])
                map.Report(entitlements[other].Place, $"'{one}' and '{other}' cannot both be what everybody has who has no more.");
            return entitlements;
        }

        /// <summary>What gives it, as far as two ways to write it are one.</summary>
        private static string Plain(EntitlementMeans means) =>
            means switch
            {
                EntitlementMeans.Group group => string.Join(
                    ',',
                    group.Dn.Split(',').Select(part => string.Join('=', part.Split('=', 2).Select(x => x.Trim())))
                ),
                EntitlementMeans.NamedGroup group => $"group {group.Name}",
                EntitlementMeans.Value value => $"{value.Attribute} {value.Text}",
                _ => "",
            };

        /// <summary>A target without an interface: its entitlements are given by people, as tasks.</summary>
        private TargetRule? DeskTarget(YamlMap map)
        {
            var name = Name(map);
            var title = map.TextOr("title", name ?? "");
            var role = map.Choice("role", "operator", Roles);
            var due = Duration(map, "due") ?? TimeSpan.FromHours(16);
            var owner = map.TextOr("owner", "");
            var entitlements = new Dictionary<string, Entitlement>(StringComparer.Ordinal);
            foreach (var (key, entry) in map.NamedMaps("entitlements"))
            {
                var fields = new List<TaskField>();
                foreach (var (field, said) in entry.NamedMaps("fields", required: false))
                {
                    var pattern = said.Text("pattern", required: false);
                    if (pattern is { } p && !IsPattern(p.Text))
                        said.Report(p.Place, $"'{p.Text}' is no regular expression.");
                    var shown = said.TextOr("title", field.Text);
                    fields.Add(new(field.Text, shown, said.YesNo("mandatory", true), pattern?.Text ?? "") { Feeds = Fed(said, fields) });
                    said.Done();
                }
                var give = entry.Text("give");
                var takeBack = entry.TextOr("take-back", "");
                var checks = entry.Texts("checks", required: false).Select(c => c.Text).ToList();
                var work = new EntitlementMeans.Work(give?.Text ?? "", takeBack, fields, checks, entry.YesNo("evidence", false))
                {
                    NeedsSecond = entry.YesNo("second-person", false),
                };
                if (ReadEntitlement(map, key, entry, work) is { } entitlement)
                    entitlements[key.Text] = entitlement;
            }
            map.Done();
            return name is null ? null : new(name, title, new TargetSettings.Desk(role, due), entitlements, map.Place) { Owner = owner };
        }

        /// <summary>The attribute that a value of a task becomes; who somebody is only HR or a decision says.</summary>
        /// <param name="others">The fields before it, of which none feeds the same.</param>
        private string Fed(YamlMap field, List<TaskField> others)
        {
            if (field.Text("feeds", required: false) is not { } fed)
                return "";
            if (!_attributes.TryGet(fed.Text, out _))
                field.Report(
                    fed.Place,
                    $"'{fed.Text}' is not a declared attribute.{Nearest.Hint(fed.Text, _attributes.Names)} Declare it under 'attributes'."
                );
            else if (BuiltIn.Belonging.Contains(fed.Text))
                field.Report(
                    fed.Place,
                    $"'{fed.Text}' says who somebody is, where they belong or where their first password goes; no task changes it."
                );
            else if (others.Exists(f => f.Feeds == fed.Text))
                field.Report(fed.Place, $"Another field feeds '{fed.Text}' already.");
            return fed.Text;
        }

        private static bool IsPattern(string text)
        {
            try
            {
                _ = new System.Text.RegularExpressions.Regex(text, System.Text.RegularExpressions.RegexOptions.NonBacktracking);
                return true;
            }
            catch (ArgumentException)
            {
                return false;
            }
        }

        private TargetRule? Target(Located name, YamlMap map)
        {
            if (_targets.TryGetValue(name.Text, out var target))
                return target;
            map.Report(name.Place, $"There is no target '{name.Text}'.{Nearest.Hint(name.Text, _targets.Keys)}");
            return null;
        }

        private readonly List<(string Target, Located After, YamlMap Map)> _after = [];

        /// <summary>What comes first must be a target, and no two may wait for each other.</summary>
        private void CheckOrder()
        {
            foreach (var (_, after, map) in _after)
                if (!_targets.ContainsKey(after.Text))
                    map.Report(after.Place, $"There is no target '{after.Text}'.{Nearest.Hint(after.Text, _targets.Keys)}");
            foreach (var (target, after, map) in _after)
                if (Reaches(after.Text, target, []))
                    map.Report(after.Place, $"'{target}' and '{after.Text}' would wait for each other.");
        }

        private bool Reaches(string from, string to, HashSet<string> seen) =>
            from == to
            || (seen.Add(from) && _targets.TryGetValue(from, out var target) && target.After.Any(next => Reaches(next, to, seen)));

        private List<MatchRule> Match(YamlMap map)
        {
            var rules = new List<MatchRule>();
            foreach (var (text, entry) in map.TextsOrMaps("match"))
            {
                if (text is { } plain)
                    rules.Add(new(plain.Text, null));
                else if (entry is not null)
                {
                    var attribute = entry.Text("attribute");
                    var when = entry.Text("when", required: false) is { } condition
                        ? entry.Expression(condition, _attributes, ExpressionType.Bool, "'when'")
                        : null;
                    entry.Done();
                    if (attribute is { } named)
                        rules.Add(new(named.Text, when));
                }
            }
            return rules;
        }

        /// <param name="means">Null when it is missing, which was told.</param>
        /// <param name="catalogue">How it was read from the target, when that alone tells of it; else null.</param>
        private Entitlement? ReadEntitlement(
            YamlMap map,
            Located key,
            YamlMap entry,
            EntitlementMeans? means,
            CatalogueRule? catalogue = null
        )
        {
            var title = entry.TextOr("title", key.Text);
            var owner = entry.Text("owner", required: false)?.Text;
            var usual = means switch
            {
                EntitlementMeans.Value { Attribute: "roles" } => "role",
                EntitlementMeans.Value => "licence",
                _ => "group",
            };
            var kind = entry.Choice("kind", usual, "group", "role", "licence");
            var description = entry.TextOr("description", "");
            var privileged = entry.YesNo("privileged", false);
            int? holders = entry.Has("most-holders") ? entry.Number("most-holders", 1, 1, 1_000_000) : null;
            var requestable = entry.YesNo("on-request", catalogue?.IsRequestable ?? true);
            // The groups of a target have owners there: who says nothing of them does not take them over.
            var isShared =
                means is not EntitlementMeans.Work
                && entry.Choice("members", catalogue is null ? "ours" : "shared", "ours", "shared") == "shared";
            var mirrors = entry.Text("mirrors", required: false);
            if (mirrors is { } source)
                _mirrors.Add((map, key.Text, source));
            var isMade = means is EntitlementMeans.Group or EntitlementMeans.NamedGroup && entry.YesNo("create", false);
            var isLeast = entry.YesNo("least", false);
            if (isLeast && WhyNotLeast(kind, means, privileged, holders, mirrors) is { } not)
                entry.Report(entry.Place, $"'{key.Text}' cannot be what everybody has there: {not}.");
            if (privileged && means is EntitlementMeans.Group { Form.IsDistribution: true })
                entry.Report(entry.Place, $"'{key.Text}' is a distribution group, which gives no access; it cannot be privileged.");
            var needs = entry.Texts("needs", required: false);
            _needs.AddRange(needs.Select(n => (map, key.Text, n)));
            entry.Done();
            if (!NameForm().IsMatch(key.Text))
                map.Report(key.Place, $"'{key.Text}' is no name: use lower-case letters, digits and hyphens.");
            else if (means is not null)
            {
                return new(key.Text, title, means, owner, key.Place)
                {
                    Kind = kind switch
                    {
                        "role" => EntitlementKind.Role,
                        "licence" => EntitlementKind.Licence,
                        _ => EntitlementKind.Group,
                    },
                    Description = description,
                    IsPrivileged = privileged,
                    MostHolders = holders,
                    IsRequestable = requestable,
                    IsShared = isShared,
                    Needs = [.. needs.Select(n => n.Text)],
                    Mirrors = mirrors is { } named && EntitlementKey.TryParse(named.Text, out var of) ? of : null,
                    IsLeast = isLeast,
                    IsMade = isMade,
                    IsRead = catalogue is not null,
                };
            }
            return null;
        }

        /// <summary>Whether a group is to be the primary one of who is in it. Servers take no list for mail, and none that counts in its
        /// own domain alone.</summary>
        private static bool Primary(YamlMap entry)
        {
            var isPrimary = entry.YesNo("primary", false);
            if (isPrimary && Form(entry) is { IsDistribution: true } or { Scope: GroupScope.DomainLocal })
                entry.Report(entry.Place, "A primary group is a security group that is global or universal.");
            return isPrimary;
        }

        /// <summary>The kind of a group of a domain, where the rulebook says one.</summary>
        private static GroupForm? Form(YamlMap entry)
        {
            if (!entry.Has("scope") && !entry.Has("group-type"))
                return null;
            var scope = entry.Choice("scope", EnumText.Of(GroupScope.Global), [.. EnumText.All<GroupScope>()]);
            var type = entry.Choice("group-type", "security", "security", "distribution");
            return new(EnumText.Parse<GroupScope>(scope), type == "distribution");
        }

        /// <summary>Why something is not what everybody has who has no more; null when it can be.</summary>
        private static string? WhyNotLeast(string kind, EntitlementMeans? means, bool privileged, int? holders, Located? mirrors) =>
            kind != "role" ? "it is no role"
            : means is EntitlementMeans.Work ? "a desk has no accounts"
            : privileged ? "it is privileged"
            : holders is not null ? "only some may hold it ('most-holders')"
            : mirrors is not null ? "it mirrors something"
            : null;

        private static PasswordRule Password(YamlMap map)
        {
            // The short form, when only the length matters.
            var length = map.Number("password-length", PasswordRule.Default.Length, 12, 64);
            if (map.Map("password", required: false) is not { } password)
                return PasswordRule.Default with { Length = length };
            var rule = new PasswordRule(
                password.Number("length", length, 12, 64),
                password.Number("classes", 3, 1, 4),
                password.Number("words", 0, 0, 10),
                password.YesNo("change-at-first-use", true)
            )
            {
                LinkAhead = Duration(password, "link-ahead") ?? TimeSpan.Zero,
            };
            if (rule.Words is > 0 and < 4)
                password.Report(password.Place, "A phrase of fewer than 4 words is guessed too easily.");
            password.Done();
            return rule;
        }

        private static WatchRule Watch(YamlMap map, TargetSettings settings)
        {
            if (map.Map("watch", required: false) is not { } watch)
                return WatchRule.Default;
            var every = Duration(watch, "every") ?? WatchRule.Default.Every;
            if (every < TimeSpan.FromMinutes(1))
                watch.Report(watch.Place, "'every' is at least PT1M.");
            var then = watch.Choice("then", "propose", "nothing", "report", "propose", "mend") switch
            {
                "nothing" => WatchAnswer.Nothing,
                "report" => WatchAnswer.Report,
                "mend" => WatchAnswer.Mend,
                _ => WatchAnswer.Propose,
            };
            var most = watch.Number("most", WatchRule.Default.Most, 1, 1_000_000);
            Schedule? whole = null;
            if (
                watch.Text("whole", required: false) is { } text
                && !Schedule.TryParse(text.Text, TimeZoneInfo.Utc, out whole, out var wrong)
            )
                watch.Report(text.Place, wrong);
            var changes = Duration(watch, "changes");
            if (changes < TimeSpan.FromMinutes(1))
                watch.Report(watch.Place, "'changes' is at least PT1M.");
            if (changes is not null && !settings.Can.HasFlag(TargetAbilities.Changes))
                watch.Report(watch.Place, "This kind of target does not tell what changed: take 'changes' out, or say 'whole'.");
            watch.Done();
            return new(every, then, most) { Whole = whole, Changes = changes };
        }

        /// <summary>The window in which the target is worked on, by the clock of a site, else in UTC; every day unless days are
        /// named.</summary>
        private WorkingHours? Maintenance(YamlMap map)
        {
            if (map.Map("maintenance", required: false) is not { } window)
                return null;
            var zone = TimeZoneInfo.Utc;
            if (window.Text("clock-of", required: false) is { } site)
            {
                if (_sites.TryGetValue(site.Text, out var known))
                    zone = known.Zone;
                else
                    window.Report(site.Place, $"There is no site '{site.Text}'.{Nearest.Hint(site.Text, _sites.Keys)}");
            }
            var days = window.Has("days");
            window.Text("hours");
            var hours = ReadHours(window, zone);
            window.Done();
            return hours is null || days ? hours : hours with { Days = Enum.GetValues<DayOfWeek>().ToHashSet() };
        }

        private static NameRule Names(YamlMap map)
        {
            if (map.Map("names", required: false) is not { } names)
                return NameRule.Default;
            var longest = names.Number("longest", NameRule.Default.Longest, 6, 64);
            var marks = names.Text("marks", required: false);
            if (marks is { } given && given.Text.Any(c => !".-_".Contains(c, StringComparison.Ordinal)))
                names.Report(given.Place, "Marks in a name are the dot, the hyphen and the underscore.");
            names.Done();
            return new(longest, marks?.Text ?? NameRule.Default.Marks);
        }
    }
}
