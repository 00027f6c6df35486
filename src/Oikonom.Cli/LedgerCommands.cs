using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Proofs;

namespace Oikonom.Cli;

/// <summary>Reads the record, keeps its heads, and verifies it: with the service, or without.</summary>
internal static class LedgerCommands
{
    public static Command Group() =>
        Commands.Group(
            "ledger",
            "The verifiable record of all that happened.",
            List(),
            Entry(),
            Verify(),
            Heads(),
            Keys(),
            Export(),
            RotateKey()
        );

    private static string Query(string name, string? value) => value is null ? "" : $"&{name}={Uri.EscapeDataString(value)}";

    private static Command List()
    {
        var request = new Option<string?>("--request") { Description = "number or id of a request" };
        var person = new Option<string?>("--person") { Description = "employee number or id of a person" };
        var kind = new Option<string?>("--kind") { Description = "start of a kind, such as request or step.done" };
        var actor = new Option<string?>("--actor") { Description = "who did it" };
        var limit = new Option<int>("--limit") { DefaultValueFactory = _ => 50 };
        return Commands.Make(
            "list",
            "Lists ledger entries, newest first.",
            "oikonom ledger list --kind request",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var query =
                    $"/api/v1/ledger?limit={parsed.GetValue(limit)}"
                    + Query("request", parsed.GetValue(request))
                    + Query("person", parsed.GetValue(person))
                    + Query("kind", parsed.GetValue(kind))
                    + Query("actor", parsed.GetValue(actor));
                var (page, raw) = await service.GetAsync<Page<LedgerEntryView>>(query, cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Position", "At", "Actor", "Kind", "Details"],
                    page.Items.Select(e =>
                        (IReadOnlyList<string>)
                            [
                                e.Position?.ToString(CultureInfo.InvariantCulture) ?? "not sealed yet",
                                e.At.UtcDateTime.ToString("yyyy-MM-dd HH:mm:ss", CultureInfo.InvariantCulture),
                                e.Actor,
                                e.Kind,
                                Details(e),
                            ]
                    ),
                    "No entry is like that."
                );
                return Exit.Good;
            },
            request,
            person,
            kind,
            actor,
            limit
        );
    }

    private static string Details(LedgerEntryView entry)
    {
        var text = string.Join(
            " ",
            entry
                .Body.EnumerateObject()
                .Where(p => p.Name is not ("id" or "at" or "actor" or "kind" or "person" or "request" or "reason"))
                .Select(p => $"{p.Name}={p.Value}")
        );
        if (entry.ForgottenAt is { } at)
            text = $"(values forgotten on {at.UtcDateTime:yyyy-MM-dd}, by {entry.ForgottenBy}) {text}";
        return text.Length <= 150 ? text : text[..150] + "…";
    }

    private static Command Entry()
    {
        var id = new Argument<string>("entry") { Description = "the id of an entry, as 'ledger list --output json' names it" };
        return Commands.Make(
            "show",
            "Shows an entry with its proof, and checks the proof here.",
            "oikonom ledger show 01a2…",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (proof, raw) = await service.GetAsync<LedgerProof>(
                    $"/api/v1/ledger/entries/{Uri.EscapeDataString(parsed.GetValue(id)!)}",
                    cancel
                );
                var holds = Merkle.VerifyInclusion(
                    Merkle.Leaf(proof.Sealed),
                    proof.Entry.Position ?? -1,
                    proof.Head.Size,
                    [.. proof.Proof.Select(Convert.FromHexString)],
                    Convert.FromHexString(proof.Head.Root)
                );
                if (Commands.IsJson(parsed))
                    Show.Json(raw);
                else
                {
                    foreach (var member in proof.Entry.Body.EnumerateObject())
                        Show.Line($"{member.Name}: {member.Value}");
                    if (proof.Entry.ForgottenAt is { } at)
                        Show.Line($"Values were forgotten on {at.UtcDateTime:yyyy-MM-dd}, by {proof.Entry.ForgottenBy}.");
                    if (holds)
                        Show.Good(
                            $"It stands at position {proof.Entry.Position} of the {proof.Head.Size} entries under the head "
                                + $"{proof.Head.Root}, signed with the key {proof.Head.Key}."
                        );
                    else
                        Show.Bad("Its proof does not hold.");
                }
                return holds ? Exit.Good : Exit.Refused;
            },
            id
        );
    }

    private static Command Verify()
    {
        var head = new Option<string[]>("--head")
        {
            Description = "a file with heads you kept, one JSON object a line; may stand several times",
        };
        var export = new Option<string?>("--export") { Description = "verify this export instead, without asking the service" };
        var key = new Option<string?>("--key")
        {
            Description = "with --export: a file with the public key you trust, as 'ledger keys --pem' prints it",
        };
        return Commands.Make(
            "verify",
            "Recomputes every hash, root and signature, and holds the record against heads you kept. Exit code 1 when anything "
                + "does not hold.",
            "oikonom ledger verify --head heads.jsonl",
            async (parsed, cancel) =>
            {
                var kept = new List<SignedHead>();
                foreach (var file in parsed.GetValue(head) ?? [])
                    kept.AddRange(HeadsIn(file));
                if (parsed.GetValue(export) is { } path)
                {
                    var pinned =
                        parsed.GetValue(key) ?? throw new CliFault(Exit.Usage, "Name the file with the public key you trust: --key FILE.");
                    return Offline(path, KeyIn(pinned), kept, Commands.IsJson(parsed));
                }
                using var service = new Service();
                var (result, raw) = await service.PostAsync<LedgerVerification>(
                    "/api/v1/ledger/verify",
                    new LedgerVerifyBody([.. kept.Select(h => new LedgerHead(h.Size, h.Root, h.At, h.Signature, h.Key))]),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    Show.Json(raw);
                else if (result.Sound)
                    Show.Good(
                        $"Sound: {result.Sealed} entries sealed under {result.Heads} heads, signed with the pinned keys (now "
                            + $"{result.Key}), {result.Unsealed} not sealed yet; held against {result.Kept} head(s) kept elsewhere. "
                            + $"Root {result.Root} ({result.Milliseconds} ms)"
                    );
                else
                {
                    Show.Bad($"Not sound: {result.Faults.Count} fault(s) in {result.Sealed} entries.");
                    foreach (var fault in result.Faults)
                        Show.Line($"  {fault}");
                }
                return result.Sound ? Exit.Good : Exit.Refused;
            },
            head,
            export,
            key
        );
    }

    private static int Offline(string path, string pinned, List<SignedHead> kept, bool json)
    {
        if (!File.Exists(path))
            throw new CliFault(Exit.Usage, $"There is no file {path}.");
        var found = LedgerExport.Verify(File.ReadLines(path), pinned, kept);
        if (json)
            Show.Json(JsonSerializer.SerializeToElement(found, JsonSerializerOptions.Web));
        else if (found.Faults.Count == 0)
            Show.Good(
                $"Sound: {found.Entries} entries are in the tree of the {found.Head}, signed with a key that leads to the one "
                    + $"you trust; {found.Values} values are what was sealed, {found.Forgotten} are not in it (forgotten, or not for "
                    + $"who exported it); {kept.Count} head(s) you kept are continued."
            );
        else
        {
            Show.Bad($"Not sound: {found.Faults.Count} fault(s) in {found.Entries} entries.");
            foreach (var fault in found.Faults)
                Show.Line($"  {fault}");
        }
        return found.Faults.Count == 0 ? Exit.Good : Exit.Refused;
    }

    private static IEnumerable<SignedHead> HeadsIn(string file)
    {
        if (!File.Exists(file))
            throw new CliFault(Exit.Usage, $"There is no file {file}.");
        // A mail that brought a head may be kept as it is: the head stands in a line of its own.
        var lines = File.ReadLines(file).Select(l => l.Trim()).Where(l => l.StartsWith('{')).ToList();
        if (lines.Count == 0)
            throw new CliFault(Exit.Usage, $"{file} holds no signed head; 'oikonom ledger heads --lines' prints them.");
        foreach (var line in lines)
        {
            SignedHead head;
            try
            {
                head = SignedHead.FromJson(line);
            }
            catch (JsonException)
            {
                throw new CliFault(Exit.Usage, $"{file} holds a line that is no head: {(line.Length > 60 ? line[..60] + "…" : line)}");
            }
            yield return head;
        }
    }

    /// <summary>The public key of a PEM file, or one in Base64.</summary>
    private static string KeyIn(string file)
    {
        if (!File.Exists(file))
            throw new CliFault(Exit.Usage, $"There is no file {file}.");
        var text = string.Concat(File.ReadLines(file).Where(l => !l.StartsWith("-----", StringComparison.Ordinal)).Select(l => l.Trim()));
        return text.Length > 0 ? text : throw new CliFault(Exit.Usage, $"{file} holds no public key.");
    }

    private static Command Heads()
    {
        var limit = new Option<int>("--limit") { Description = "how many", DefaultValueFactory = _ => 10 };
        var lines = new Option<bool>("--lines") { Description = "one JSON object a line: the form that 'ledger verify --head' reads" };
        return Commands.Make(
            "heads",
            "Lists the newest signed heads. Keep some where nobody can take them back.",
            "oikonom ledger heads --limit 1 --lines >> heads.jsonl",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<LedgerHead>>($"/api/v1/ledger/heads?limit={parsed.GetValue(limit)}", cancel);
                if (parsed.GetValue(lines))
                    foreach (var head in page.Items)
                        Console.Out.WriteLine(new SignedHead(head.Size, head.Root, head.At, head.Signature, head.Key).ToJson());
                else if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                else
                    Show.Table(
                        ["Entries", "Signed", "Key", "Root"],
                        page.Items.Select(h =>
                            (IReadOnlyList<string>)
                                [
                                    h.Size.ToString(CultureInfo.InvariantCulture),
                                    DateTimeOffset
                                        .FromUnixTimeMilliseconds(h.At)
                                        .UtcDateTime.ToString("yyyy-MM-dd HH:mm:ss", CultureInfo.InvariantCulture),
                                    h.Key,
                                    h.Root,
                                ]
                        ),
                        "Nothing is sealed yet."
                    );
                return Exit.Good;
            },
            limit,
            lines
        );
    }

    private static Command Keys()
    {
        var pem = new Option<bool>("--pem") { Description = "print the newest public key as PEM, to be kept where you trust it" };
        return Commands.Make(
            "keys",
            "Lists the pinned keys that heads are signed with.",
            "oikonom ledger keys --pem > ledger-key.pem",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<LedgerKeyView>>("/api/v1/ledger/keys", cancel);
                if (parsed.GetValue(pem))
                {
                    Console.Out.WriteLine("-----BEGIN PUBLIC KEY-----");
                    foreach (var line in page.Items[^1].PublicKey.Chunk(64))
                        Console.Out.WriteLine(new string(line));
                    Console.Out.WriteLine("-----END PUBLIC KEY-----");
                }
                else if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                else
                    Show.Table(
                        ["Key", "Signs heads of more than", "Since", "Named by"],
                        page.Items.Select(k =>
                            (IReadOnlyList<string>)
                                [
                                    k.Id,
                                    k.FromSize.ToString(CultureInfo.InvariantCulture),
                                    Show.At(k.Since),
                                    k.NamedBy == k.Id ? "itself, as the first" : k.NamedBy,
                                ]
                        ),
                        "No key is pinned."
                    );
                return Exit.Good;
            },
            pem
        );
    }

    private static Command RotateKey()
    {
        var yes = new Option<bool>("--yes") { Description = "do not ask" };
        return Commands.Make(
            "rotate-key",
            "Makes a new signing key; the old one names it and is thrown away.",
            "oikonom ledger rotate-key --yes",
            async (parsed, cancel) =>
            {
                Commands.Confirm(parsed.GetValue(yes), "Make a new signing key?");
                using var service = new Service();
                var (key, raw) = await service.PostAsync<LedgerKeyView>("/api/v1/ledger/keys", null, cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Good($"The key {key.Id} signs all heads of more than {key.FromSize} entries; it was named by {key.NamedBy}.");
                return Exit.Good;
            },
            yes
        );
    }

    private static Command Export()
    {
        var file = new Argument<string>("file") { Description = "where to write it" };
        var request = new Option<string?>("--request") { Description = "only the entries of a request" };
        var person = new Option<string?>("--person") { Description = "only the entries about a person" };
        var from = new Option<long[]>("--from")
        {
            Description = "add the proof that it continues the head of this size; may stand several times",
        };
        return Commands.Make(
            "export",
            "Writes the record with a proof for each entry; 'ledger verify --export' verifies it without the service.",
            "oikonom ledger export ledger.ndjson",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var query =
                    Query("request", parsed.GetValue(request))
                    + Query("person", parsed.GetValue(person))
                    + string.Concat((parsed.GetValue(from) ?? []).Select(n => Query("from", n.ToString(CultureInfo.InvariantCulture))));
                await IntakeCommands.SaveAsync(
                    parsed.GetValue(file)!,
                    await service.GetTextAsync($"/api/v1/ledger/export?{query.TrimStart('&')}", cancel),
                    cancel
                );
                Show.Line($"Written to {parsed.GetValue(file)}.");
                return Exit.Good;
            },
            file,
            request,
            person,
            from
        );
    }
}
