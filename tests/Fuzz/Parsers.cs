using System.Formats.Asn1;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Oikonom.Core.Expressions;
using Oikonom.Core.Intake;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;
using Oikonom.Ldap;
using Oikonom.Proofs;
using Oikonom.Scim;
using Oikonom.Service.Approval;
using Oikonom.Service.Common;
using Oikonom.Sources;
using Oikonom.Sources.Files;
using Oikonom.Testing;

namespace Oikonom.Fuzz.Tests;

/// <summary>Everything that reads what others wrote: files, records, filters, messages.</summary>
public static class Parsers
{
    private static readonly IReadOnlyList<RulebookFile> Files = Demo();
    private static readonly Rulebook Book = RulebookReader.Read(Files).Rulebook!;
    private static readonly SourceRule Hr = Book.Sources["hr"];
    private static readonly ScimResourceType Users = ScimSchemas.Users;
    private static readonly string[] Json =
    [
        "{",
        "}",
        "[",
        "]",
        "\"",
        ":",
        ",",
        "null",
        "true",
        "1e999",
        "-0",
        "\\u0000",
        "\\ud800",
        "[[[[",
        "{\"a\":",
    ];

    public static IReadOnlyList<Parser> All { get; } =
    [
        Of(
            "delimited",
            [
                $"{string.Join(',', Hr.ColumnNames)}\n{string.Join(',', Hr.ColumnNames.Select(_ => "x"))}\n",
                string.Join('\n', File.ReadLines(Repository.At("demo", "northmere", "hr", "people-with-mistakes.csv")).Take(30)),
            ],
            ["\"", "\"\"", ",", ";", "\n", "\r\n", "\0", "2026-02-30", "harbour", "\uFEFF", "\u202E", "=1+1", .. Hr.ColumnNames],
            Delimited
        ),
        Of(
            "json-rows",
            [
                """{"total":1,"next":"?after=2","people":[{"name":{"given":"Orla"}},{"emails":[{"value":7}]}]}""",
                """[{"name":{"given":"Orla"},"emails":[{"value":"o@x"}],"urn:a.b:c":{"d":1}}]""",
            ],
            [.. Json, "people", "total", "next", "name", "emails", "value", "urn:a.b:c"],
            JsonRows
        ),
        Of(
            "scim-filter",
            [
                "userName eq \"orla\" and (emails[type eq \"work\" and value co \"@\"] or not (meta.lastModified gt "
                    + "\"2026-01-01T00:00:00Z\"))",
                "name.familyName sw \"A\" or active eq true",
            ],
            [
                "eq",
                "ne",
                "co",
                "sw",
                "ew",
                "pr",
                "gt",
                "le",
                " and ",
                " or ",
                "not (",
                "(",
                ")",
                "[",
                "]",
                "\"",
                "\\",
                ".",
                "urn:ietf:params:scim:schemas:core:2.0:User:",
                "true",
                "null",
                "1e9",
            ],
            Filter
        ),
        Of(
            "scim-path",
            ["emails[type eq \"work\"].value", "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department", "name.familyName"],
            ["[", "]", ".", ":", "\"", "eq", "$ref", "urn:"],
            text => Refused(() => ScimPath.Parse(text).ToString() ?? "")
        ),
        Of(
            "scim-patch",
            [
                """{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[{"op":"replace","path":"emails[type eq \"work\"].value","value":"x"},{"op":"add","value":{"title":"t"}},{"op":"remove","path":"title"}]}""",
            ],
            [
                .. Json,
                "\"op\"",
                "\"path\"",
                "\"value\"",
                "add",
                "replace",
                "remove",
                "emails",
                "members",
                "name.familyName",
                "schemas",
                "Operations",
            ],
            Patch
        ),
        Of(
            "expression",
            [
                "department == \"Dive\" && start < date(\"2026-01-01\") || !exists(manager)",
                "lower(given)[0:1] + family matches \"^(a+)+$\" ? [\"x\"] : []",
            ],
            [
                "==",
                "&&",
                "||",
                "!",
                "?",
                ":",
                "+",
                "(",
                ")",
                "[",
                "]",
                ",",
                "\"",
                "\\",
                "P7D",
                "lower",
                "matches",
                "in",
                "exists",
                "null",
                "99999999999999999999",
                .. Book.Attributes.Names,
            ],
            Expressions
        ),
        new(
            "rulebook",
            [.. Files.Select(f => Encoding.UTF8.GetBytes($"{f.Path}\n{f.Text}")), .. Kept.SeedsOf("rulebook")],
            [
                "- ",
                ": ",
                "\n  ",
                "{",
                "}",
                "[",
                "]",
                "&a ",
                "*a",
                "!!x ",
                "---\n",
                "? ",
                "| ",
                "%YAML",
                "\t",
                "'",
                "\"",
                "when",
                "stages",
                "quorum",
                "visible-to",
                "retention",
                "users",
            ],
            bytes => Rules(Encoding.UTF8.GetString(bytes))
        ),
        new("ldap", [.. Messages(), .. Kept.SeedsOf("ldap")], ["\x30", "\x04", "\x0a", "\x64", "\x65", "\u0080"], Ldap),
        Of(
            "ldap-filter",
            ["(&(objectClass=person)(|(uid=o*r\\2a)(!(cn:dn:2.4.6:=x)))(mail>=a))"],
            ["(", ")", "&", "|", "!", "=", "*", "\\2a", ">=", "~=", ":dn:", ":="],
            text => Told(() => LdapFilter.Parse(text).ToString() ?? "", typeof(FormatException))
        ),
        Of(
            "ldap-name",
            ["cn=Orla\\, Q+uid=o,ou=People,dc=northmere,dc=example", "cn=#04024869,dc=x"],
            [",", "+", "=", "\\", "\\2C", "#", "\"", " ", ";"],
            text =>
                Told(() => LdapDn.Parse(text).Count.ToString(System.Globalization.CultureInfo.InvariantCulture), typeof(FormatException))
        ),
        Of(
            "bulk-file",
            [
                "kind,person,entitlement,from,until,reason\naccess,E1001,directory/dive-team;a/b,2026-01-01,,\"needs, it\"\n",
                "kind;person;lastDay;urgent\nleaver;E1;2026-12-31;yes\n",
            ],
            ["\"", ",", ";", "\n", "\r\n", "kind", "person", "entitlement", "lastDay", "urgent", "yes", "2026-13-01", "\uFEFF"],
            Bulk
        ),
        Of(
            "ledger-export",
            [
                """{"format":"oikonom-ledger/1","head":{"size":1,"root":"ab","at":1,"signature":"AA==","key":"k"},"keys":[{"id":"k","publicKey":"AA==","fromSize":0,"at":1,"by":"k","signature":"AA=="}],"earlier":[{"head":{"size":0,"root":"","at":1,"signature":"","key":""},"proof":[]}],"whole":true}"""
                    + "\n"
                    + """{"position":0,"body":"{\"sealed\":{\"a\":\"x\"}}","values":{"a":{"salt":"00","value":"1"}},"proof":["ab"]}"""
                    + "\n",
            ],
            [.. Json, "\"size\"", "\"proof\"", "\"body\"", "\"keys\"", "-1", "9223372036854775807", "\n"],
            Export
        ),
    ];

    /// <summary>A parser of text: bytes that are no UTF-8 reach it as the replacement sign.</summary>
    private static Parser Of(string name, IReadOnlyList<string> seeds, IReadOnlyList<string> words, Func<string, string> act) =>
        new(name, [.. seeds.Select(Encoding.UTF8.GetBytes), .. Kept.SeedsOf(name)], words, bytes => act(Encoding.UTF8.GetString(bytes)));

    private static Parser Of(string name, IReadOnlyList<string> seeds, IReadOnlyList<string> words, Func<byte[], string> act) =>
        new(name, [.. seeds.Select(Encoding.UTF8.GetBytes), .. Kept.SeedsOf(name)], words, act);

    /// <summary>The result, or the error the parser is allowed to end with; everything else is a crash.</summary>
    private static string Told(Func<string> act, params IReadOnlyList<Type> allowed)
    {
        try
        {
            return act();
        }
        catch (Exception error) when (allowed.Contains(error.GetType()) && error.Message.Length > 0)
        {
            return error.Message;
        }
    }

    private static string Refused(Func<string> act) => Told(act, typeof(ScimFault));

    private static string Delimited(byte[] bytes) =>
        Told(
            () =>
            {
                var (rows, faults) = (0, new SortedSet<string>(StringComparer.Ordinal));
                var reader = new RecordReader(Hr, Book);
                var texts = new string[Hr.ColumnNames.Count];
                DelimitedFile.Read(
                    new MemoryStream(bytes),
                    Hr,
                    row =>
                    {
                        rows++;
                        if (row.Fault is { } fault)
                        {
                            faults.Add(fault);
                            return;
                        }
                        for (var i = 0; i < texts.Length; i++)
                            texts[i] = row.Text(i);
                        var read = reader.Read(texts);
                        if (read.Facts is null == read.Fault is null)
                            throw new InvalidOperationException("Neither a record nor a fault, or both.");
                        if (read.Fault is { } why)
                            faults.Add(why.Reason);
                    }
                );
                return $"{(rows > 3 ? "many" : rows.ToString(System.Globalization.CultureInfo.InvariantCulture).Replace('1', 'i'))} "
                    + $"{string.Join('|', faults.Take(3))}";
            },
            typeof(SourceFault)
        );

    private static string JsonRows(byte[] bytes) =>
        Told(
            () =>
            {
                using var document = JsonDocument.Parse(bytes, new() { MaxDepth = 32 });
                var page = JsonPage.Of(
                    document.RootElement,
                    "people",
                    "next",
                    ["name.given", "emails.0.value", "urn:a.b:c:d", "0.name", "name", "-1", "emails.99999999999"],
                    "the source"
                );
                return $"{page.Total is not null} {page.Next.Length > 0} "
                    + $"{string.Join('|', page.Records.Take(3).Select(r => string.Concat(r.Select(t => t.Length == 0 ? '-' : 'x'))))}";
            },
            typeof(SourceFault),
            typeof(JsonException),
            Reader
        );

    // What the library throws for a text that is no JSON is a kind of JsonException of its own.
    private static readonly Type Reader = Record(() => JsonDocument.Parse("{")).GetType();

    private static Exception Record(Action act)
    {
        try
        {
            act();
        }
        catch (JsonException error)
        {
            return error;
        }
        throw new InvalidOperationException("It was read.");
    }

    private static readonly JsonObject Somebody = (JsonObject)
        JsonNode.Parse(
            """{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"orla","active":true,"name":{"familyName":"Aquis"},"emails":[{"type":"work","value":"o@northmere.example","primary":true}],"meta":{"lastModified":"2026-03-01T00:00:00Z"}}"""
        )!;

    private static string Filter(string text) =>
        Refused(() =>
        {
            var filter = ScimFilter.Parse(text);
            return $"{Depth(filter.ToString() ?? "")} {filter.Matches(Somebody, Users)}";
        });

    private static string Depth(string text) => text.Length > 60 ? text[..60] : text;

    private static string Patch(byte[] bytes)
    {
        return Refused(() =>
        {
            var before = Somebody.ToJsonString();
            var changed = ScimPatch.Apply(Somebody, ScimBody.Read(bytes), Users);
            if (Somebody.ToJsonString() != before)
                throw new InvalidOperationException("The resource that was given was changed.");
            return string.Join(' ', changed.Select(p => $"{p.Key}:{p.Value?.GetValueKind()}").Order(StringComparer.Ordinal));
        });
    }

    private static string Expressions(string text) =>
        Told(
            () =>
            {
                var expression = Expression.Compile(text, Book.Attributes);
                var scope = new Scope(Book.Attributes);
                new Facts([
                    new(BuiltIn.Number, Value.Of("E1")),
                    new("given", Value.Of(new string('a', 40))),
                    new("start", Value.Of(DateOnly.MaxValue)),
                ]).Fill(scope, Book.Attributes);
                var value = expression.Evaluate(scope);
                foreach (var part in expression.Parts)
                    part.Holds(scope);
                if (expression.Type.Kind == ValueKind.Bool)
                    Satisfiability.Of(expression, Book.Attributes, new Dictionary<string, IReadOnlyList<string>>());
                return $"{expression.Type} {value.GetType().Name} {expression.Parts.Count}";
            },
            typeof(ExpressionError),
            typeof(ExpressionFault)
        );

    private static string Rules(string text)
    {
        var (path, body) = text.IndexOf('\n', StringComparison.Ordinal) is var at and >= 0
            ? (text[..at], text[(at + 1)..])
            : ("rulebook.yaml", text);
        var reading = RulebookReader.Read([.. Files.Where(f => f.Path != path), new(path, body)]);
        if (reading.Rulebook is not null == reading.Findings.Count > 0)
            throw new InvalidOperationException("Neither a rulebook nor findings, or both.");
        return string.Join(
            '|',
            reading
                .Findings.Take(3)
                .Select(f =>
                    f.Message.Length > 0 && f.Place.Line > 0
                        ? f.Message
                        : throw new InvalidOperationException("A finding without words or place.")
                )
        );
    }

    private static string Ldap(byte[] bytes) =>
        Told(
            () =>
            {
                var length = Wire.FrameLength(bytes, 1 << 20);
                if (length == 0)
                    return "more";
                if (length > bytes.Length)
                    throw new InvalidOperationException("A frame beyond the buffer.");
                var answer = Wire.Decode(bytes.AsMemory(0, length));
                IReadOnlyList<LdapControl> controls = answer.Item switch
                {
                    LdapSearchItem.Found found => found.Entry.Controls,
                    LdapSearchItem.Done done => done.Result.Controls,
                    _ => [],
                };
                foreach (var control in controls)
                foreach (
                    var read in new Action[]
                    {
                        () => LdapControls.PagingCookie(control),
                        () => LdapControls.DirSyncState(control),
                        () => LdapControls.SyncState(control),
                        () => LdapControls.SyncDone(control),
                        () => LdapControls.SyncNamesDeleted(control),
                        () => LdapControls.SyncIds(control.Value ?? []),
                    }
                )
                    Told(
                        () =>
                        {
                            read();
                            return "";
                        },
                        typeof(LdapConnectionException)
                    );
                return $"{answer.Item.GetType().Name} {controls.Count}";
            },
            typeof(LdapConnectionException)
        );

    /// <summary>A search entry with a control, and a result, as a server would send them.</summary>
    private static IEnumerable<byte[]> Messages()
    {
        yield return Message(
            4,
            w =>
            {
                Text(w, "uid=orla,dc=northmere,dc=example");
                using (w.PushSequence())
                using (w.PushSequence())
                {
                    Text(w, "mail");
                    using (w.PushSetOf())
                        Text(w, "orla@northmere.example");
                }
            }
        );
        yield return Message(
            5,
            w =>
            {
                w.WriteEnumeratedValue(LdapCode.NoSuchObject);
                Text(w, "dc=northmere,dc=example");
                Text(w, "nothing there");
            }
        );

        static void Text(AsnWriter w, string text) => w.WriteOctetString(Encoding.UTF8.GetBytes(text));

        static byte[] Message(int operation, Action<AsnWriter> body)
        {
            var w = new AsnWriter(AsnEncodingRules.BER);
            using (w.PushSequence())
            {
                w.WriteInteger(7);
                using (w.PushSequence(new Asn1Tag(TagClass.Application, operation)))
                    body(w);
                using (w.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 0)))
                using (w.PushSequence())
                {
                    Text(w, "1.2.840.113556.1.4.319");
                    w.WriteOctetString([0x30, 0x05, 0x02, 0x01, 0x00, 0x04, 0x00]);
                }
            }
            return w.Encode();
        }
    }

    private static string Bulk(string text) =>
        Told(
            () =>
            {
                var rows = BulkFile.Read(text, Book);
                return string.Join(
                    '|',
                    rows.Take(3)
                        .Select(r =>
                            r.Request is not null != r.Fault is not null
                                ? r.Fault ?? $"{r.Request!.Grants?.Count} {r.Request.Record?.Count} {r.Request.Urgent}"
                                : throw new InvalidOperationException("Neither a request nor a fault, or both.")
                        )
                );
            },
            typeof(Problem)
        );

    private static string Export(string text)
    {
        var found = LedgerExport.Verify(text.Split('\n'), "AA==", []);
        if (found.Faults.Count == 0)
            throw new InvalidOperationException("Something unsigned was believed.");
        return string.Join('|', found.Faults.Take(4));
    }

    private static IReadOnlyList<RulebookFile> Demo()
    {
        var root = Repository.At("demo", "northmere", "rulebook");
        return
        [
            .. Directory
                .GetFiles(root, "*.yaml", SearchOption.AllDirectories)
                .Select(f => new RulebookFile(Path.GetRelativePath(root, f).Replace('\\', '/'), File.ReadAllText(f))),
        ];
    }
}
