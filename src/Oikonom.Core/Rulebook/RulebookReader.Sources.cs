using Oikonom.Core.Expressions;
using Oikonom.Core.Time;

namespace Oikonom.Core.Rulebook;

/// <content>Sources.</content>
public static partial class RulebookReader
{
    private sealed partial class Documents
    {
        private SourceRule? Source(YamlMap map, IReadOnlyDictionary<string, Site> sites)
        {
            var name = Name(map);
            var kind = map.Choice("kind", null, "file", "http", "scim", "post") switch
            {
                "http" => SourceKind.Http,
                "scim" => SourceKind.Scim,
                "post" => SourceKind.Post,
                _ => SourceKind.File,
            };
            var path = kind == SourceKind.File ? FilePath(map) : null;
            var delimiter = kind == SourceKind.File ? map.Text("delimiter", required: false) : null;
            if (delimiter is { } d && d.Text != "detect" && d.Text.Length != 1)
                map.Report(d.Place, "The delimiter is one character, or 'detect'.");
            var encoding = kind == SourceKind.File ? map.Choice("encoding", "utf-8", "utf-8", "iso-8859-1", "utf-16", "detect") : "utf-8";
            var delivers = map.Choice(
                "delivers",
                kind is SourceKind.Scim or SourceKind.Post ? "changes" : "everything",
                "everything",
                "changes"
            );
            var http = kind == SourceKind.Http ? Http(map) : null;

            var columns = map.TextsOrNamedTexts("columns");
            var schema = new NameSchema(
                columns.Select(c => c.Name.Text).Distinct().Select(c => KeyValuePair.Create("row." + c, ExpressionType.String))
            );
            foreach (var twice in columns.GroupBy(c => c.Name.Text).Where(g => g.Count() > 1))
                map.Report(twice.Last().Name.Place, $"The column '{twice.Key}' is named twice.");
            var keyColumn = -1;
            if (map.Text("key") is { } key)
            {
                keyColumn = columns.ToList().FindIndex(c => c.Name.Text == key.Text);
                if (keyColumn < 0)
                    map.Report(
                        key.Place,
                        $"'{key.Text}' is not one of the columns.{Nearest.Hint(key.Text, columns.Select(c => c.Name.Text))}"
                    );
            }
            var mapping = Mapping(map, schema);
            var scope = map.Text("scope", required: false) is { } limit
                ? map.Expression(limit, _attributes, ExpressionType.Bool, "'scope'")
                : null;
            var brake = map.Map("brake", required: false) is { } brakeMap ? Brake(brakeMap) : null;
            var plausible = Plausible(map);
            var vanished = map.Choice("vanished", "ask", "ask", "leave");
            var schedule = ReadSchedule(map, kind, sites);
            var writeBack = WriteBack(map);
            if (writeBack.Count > 0 && kind != SourceKind.Http)
                map.Report(map.Place, "Only a source of the kind http takes 'write-back'.");
            var reportsTo = map.Text("reports-to", required: false);
            if (reportsTo is { } mail && (mail.Text.Count(c => c == '@') != 1 || mail.Text.Any(char.IsWhiteSpace)))
                map.Report(mail.Place, $"'{mail.Text}' is no mail address.");
            var title = map.TextOr("title", name ?? "");
            map.Done();
            if (name is null || keyColumn < 0 || (kind == SourceKind.File && path is null) || (kind == SourceKind.Http && http is null))
                return null;
            var delimiterChar = delimiter is { } given ? (given.Text == "detect" ? '\0' : given.Text[0]) : ',';
            return new(
                name,
                title,
                path?.Text ?? "",
                delimiterChar,
                encoding,
                schema,
                [.. columns.Select(c => c.Name.Text)],
                keyColumn,
                mapping,
                map.Place
            )
            {
                Kind = kind,
                Paths = [.. columns.Select(c => c.Value.Text)],
                IsFull = delivers == "everything",
                Scope = scope,
                Http = http,
                Brake = brake,
                Vanished = vanished == "leave" ? VanishedPolicy.Leave : VanishedPolicy.Ask,
                Schedule = schedule,
                WriteBack = writeBack,
                ReportsTo = reportsTo?.Text ?? "",
                Plausible = plausible,
            };
        }

        /// <summary>Years from today within which days are taken.</summary>
        private static PlausibleRule Plausible(YamlMap source)
        {
            var map = source.Map("plausible", required: false);
            var rule = new PlausibleRule(
                map?.Number("oldest-start", 80, 1, 150) ?? 80,
                map?.Number("furthest-start", 2, 0, 50) ?? 2,
                map?.Number("furthest-end", 60, 1, 150) ?? 60
            );
            map?.Done();
            return rule;
        }

        /// <summary>When it is fetched, by the clock of a site if one is named, else by UTC.</summary>
        private static Schedule? ReadSchedule(YamlMap map, SourceKind kind, IReadOnlyDictionary<string, Site> sites)
        {
            var clock = map.Text("clock-of", required: false);
            if (clock is { } named && !sites.ContainsKey(named.Text))
                map.Report(named.Place, $"There is no site '{named.Text}'.{Nearest.Hint(named.Text, sites.Keys)}");
            if (map.Text("schedule", required: false) is not { } times)
            {
                if (clock is { } alone)
                    map.Report(alone.Place, "Without 'schedule' there is no time that a clock would be needed for.");
                return null;
            }
            if (kind is SourceKind.Scim or SourceKind.Post)
                map.Report(times.Place, "A source that pushes has no schedule.");
            var zone = clock is { } of && sites.TryGetValue(of.Text, out var site) ? site.Zone : TimeZoneInfo.Utc;
            if (Schedule.TryParse(times.Text, zone, out var schedule, out var wrong))
                return schedule;
            map.Report(times.Place, wrong);
            return null;
        }

        private static Located? FilePath(YamlMap map)
        {
            var path = map.Text("path");
            if (path is not { } p)
                return null;
            if (Path.IsPathRooted(p.Text) || p.Text.Split('/', '\\').Contains(".."))
                map.Report(p.Place, "The path is relative to the service's folder of sources and stays inside it.");
            else if (
                p.Text.Contains('*', StringComparison.Ordinal) && Path.GetDirectoryName(p.Text)!.Contains('*', StringComparison.Ordinal)
            )
                map.Report(p.Place, "Only the name of the file may hold '*', not its folder.");
            return path;
        }

        private List<MappedAttribute> Mapping(YamlMap map, NameSchema schema)
        {
            var mapping = new List<MappedAttribute>();
            foreach (var (attribute, text) in map.NamedTexts("mapping"))
            {
                if (!_attributes.TryGet(attribute.Text, out var slot))
                    map.Report(
                        attribute.Place,
                        $"'{attribute.Text}' is not a declared attribute.{Nearest.Hint(attribute.Text, _attributes.Names)}"
                    );
                else if (map.Expression(text, schema, slot.Type, $"'{attribute.Text}'") is { } expression)
                    mapping.Add(new(attribute.Text, expression, text.Place));
            }
            foreach (var missing in _mandatory.Where(m => !mapping.Exists(a => a.Name == m)))
                if (!findings.Exists(f => f.Place.File == map.Place.File))
                    map.Report(map.Place, $"The mandatory attribute '{missing}' is not mapped.");
            return mapping;
        }

        private static HttpRule? Http(YamlMap map)
        {
            var address = map.Text("address");
            Uri? uri = null;
            if (address is { } text)
            {
                if (!Uri.TryCreate(text.Text, UriKind.Absolute, out uri) || uri.Scheme is not ("http" or "https") || uri.Query.Length > 0)
                    map.Report(text.Place, "The address has the form https://host/path, without a query.");
                else if (uri.Scheme == "http" && !uri.IsLoopback)
                    map.Report(text.Place, "Records would travel in clear text. Use https://; http:// is for this machine alone.");
            }
            var authority = map.TextOr("authority", "");
            var signIn = map.Map("sign-in");
            var header = signIn?.TextOr("header", "Authorization") ?? "";
            var secret = signIn?.Text("secret");
            signIn?.Done();
            var (items, next, size, since, rate) = ("items", "next", 500, "", 10);
            if (map.Map("paging", required: false) is { } paging)
            {
                (items, next, size) = (paging.TextOr("items", items), paging.TextOr("next", next), paging.Number("size", size, 1, 5000));
                paging.Done();
            }
            since = map.TextOr("changed-since", since);
            rate = map.Number("calls-per-second", rate, 1, 1000);
            return uri is null || secret is null ? null : new(uri, authority, header, secret.Value.Text, items, next, size, since, rate);
        }

        private BrakeRule Brake(YamlMap map)
        {
            var passes = Passes(map);
            var rule = new BrakeRule(Limit(map, "joiners"), Limit(map, "movers"), Limit(map, "leavers"), passes, map.Place);
            map.Done();
            return rule;
        }

        /// <summary>Who lets pass what the brake holds.</summary>
        private string Passes(YamlMap map)
        {
            var passes = map.Text("passes", required: false);
            if (passes is { } who && Parse(map, who) is { Relation: not ("role" or "person") })
                map.Report(who.Place, "What the brake holds is let pass by role:NAME or person:NUMBER.");
            return passes?.Text ?? "role:engineer";
        }

        /// <summary>A count such as 20, a share such as 5%, or both in a list.</summary>
        private static Limit? Limit(YamlMap map, string key)
        {
            int? count = null,
                percent = null;
            foreach (var text in map.Texts(key, required: false))
            {
                var share = text.Text.EndsWith('%');
                if (!int.TryParse(share ? text.Text[..^1].Trim() : text.Text, out var number) || number < 0 || (share && number > 100))
                    map.Report(text.Place, $"'{text.Text}' is no limit; use a count such as 20, or a share such as 5%.");
                else if (share)
                    percent = number;
                else
                    count = number;
            }
            return count is null && percent is null ? null : new(count, percent);
        }

        private List<MappedAttribute> WriteBack(YamlMap map)
        {
            var fields = new List<MappedAttribute>();
            foreach (var (field, text) in map.NamedTexts("write-back", required: false))
                if (map.Expression(text, _accountNames, ExpressionType.String, $"'{field.Text}'") is { } expression)
                    fields.Add(new(field.Text, expression, text.Place));
            return fields;
        }
    }
}
