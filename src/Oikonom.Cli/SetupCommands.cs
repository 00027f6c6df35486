using System.CommandLine;
using System.Globalization;
using Oikonom.Contracts;

namespace Oikonom.Cli;

internal static class SetupCommands
{
    public static IEnumerable<Command> All()
    {
        yield return Commands.Group("targets", "The systems that hold accounts.", Targets(), CheckTarget());
        yield return Commands.Group("ledger", "The verifiable record of all that happened.", Ledger(), Verify());
        yield return Commands.Group("rulebook", "The configuration, in numbered editions.", CheckRulebook(), Publish(), ShowRulebook());
        yield return Commands.Group("secrets", "Passwords and certificates the rulebook names.", Secrets(), SetSecret());
    }

    private static Command Targets() => Commands.Make("list", "Lists the targets with what waits and what fails.", "oikonom targets list", async (parsed, cancel) =>
    {
        using var service = new Service();
        var (page, raw) = await service.GetAsync<Page<TargetSummary>>("/api/v1/targets", cancel);
        if (Commands.IsJson(parsed)) return Show.Json(raw);
        Show.Table(["Target", "Title", "Address", "Security", "Accounts", "Waiting", "Failing", "Problem"], page.Items.Select(t => (IReadOnlyList<string>)
            [t.Name, t.Title, t.Address, t.Security, Text(t.Accounts), Text(t.Waiting), Text(t.Failing), t.Problem ?? ""]), "The rulebook has no target.");
        return Exit.Good;
    });

    private static string Text(int number) => number.ToString(CultureInfo.InvariantCulture);

    private static Command CheckTarget()
    {
        var name = new Argument<string>("target");
        return Commands.Make("check", "Signs in to a target and looks whether all it needs is there. Exit code 1 when not.", "oikonom targets check directory", async (parsed, cancel) =>
        {
            using var service = new Service();
            var (check, raw) = await service.PostAsync<TargetCheck>($"/api/v1/targets/{Uri.EscapeDataString(parsed.GetValue(name)!)}/check", null, cancel);
            if (Commands.IsJson(parsed)) Show.Json(raw);
            else if (check.Reachable) Show.Good($"{check.Name}: good. {check.Message} ({check.SignedInAs}, {check.Milliseconds} ms)");
            else Show.Bad($"{check.Name}: not good. {check.Message}");
            return check.Reachable ? Exit.Good : Exit.Refused;
        }, name);
    }

    private static Command Ledger()
    {
        var request = new Option<string?>("--request") { Description = "id of a request" };
        var person = new Option<string?>("--person") { Description = "id of a person" };
        var kind = new Option<string?>("--kind") { Description = "start of a kind, such as request or step.done" };
        var limit = new Option<int>("--limit") { DefaultValueFactory = _ => 50 };
        return Commands.Make("list", "Lists ledger entries, newest first.", "oikonom ledger list --kind request", async (parsed, cancel) =>
        {
            using var service = new Service();
            var query = $"/api/v1/ledger?limit={parsed.GetValue(limit)}" + Query("request", parsed.GetValue(request)) + Query("person", parsed.GetValue(person)) + Query("kind", parsed.GetValue(kind));
            var (page, raw) = await service.GetAsync<Page<LedgerEntryView>>(query, cancel);
            if (Commands.IsJson(parsed)) return Show.Json(raw);
            Show.Table(["Position", "At (UTC)", "Actor", "Kind", "Details"], page.Items.Select(e => (IReadOnlyList<string>)
                [e.Position?.ToString(CultureInfo.InvariantCulture) ?? "not sealed yet", e.At.UtcDateTime.ToString("yyyy-MM-dd HH:mm:ss", CultureInfo.InvariantCulture), e.Actor, e.Kind, Details(e)]), "No entry is like that.");
            return Exit.Good;
        }, request, person, kind, limit);
    }

    private static string Details(LedgerEntryView entry)
    {
        var text = string.Join(" ", entry.Body.EnumerateObject().Where(p => p.Name is not ("id" or "at" or "actor" or "kind" or "person" or "request" or "reason")).Select(p => $"{p.Name}={p.Value}"));
        return text.Length <= 150 ? text : text[..150] + "…";
    }

    private static string Query(string name, string? value) => value is null ? "" : $"&{name}={Uri.EscapeDataString(value)}";

    private static Command Verify() => Commands.Make("verify", "Recomputes every hash, root and signature. Exit code 1 when anything does not hold.", "oikonom ledger verify", async (parsed, cancel) =>
    {
        using var service = new Service();
        var (result, raw) = await service.PostAsync<LedgerVerification>("/api/v1/ledger/verify", null, cancel);
        if (Commands.IsJson(parsed)) Show.Json(raw);
        else if (result.Sound) Show.Good($"Sound: {result.Sealed} entries sealed under {result.Heads} signed heads, {result.Unsealed} not sealed yet. Root {result.Root} ({result.Milliseconds} ms)");
        else
        {
            Show.Bad($"Not sound: {result.Faults.Count} fault(s) in {result.Sealed} entries.");
            foreach (var fault in result.Faults) Show.Line($"  {fault}");
        }
        return result.Sound ? Exit.Good : Exit.Refused;
    });

    private static RulebookBody Files(string folder)
    {
        if (!Directory.Exists(folder)) throw new CliFault(Exit.Usage, $"'{folder}' is no folder.");
        var files = Directory.GetFiles(folder, "*", SearchOption.AllDirectories).Where(f => f.EndsWith(".yaml", StringComparison.Ordinal) || f.EndsWith(".yml", StringComparison.Ordinal)).Order(StringComparer.Ordinal)
            .Select(f => new RulebookFileBody(Path.GetRelativePath(folder, f).Replace('\\', '/'), File.ReadAllText(f))).ToList();
        return files.Count > 0 ? new(files) : throw new CliFault(Exit.Usage, $"'{folder}' holds no .yaml file.");
    }

    private static Command CheckRulebook()
    {
        var folder = new Argument<string>("folder");
        return Commands.Make("check", "Checks the rulebook in a folder; every finding at once. Exit code 1 when there is one.", "oikonom rulebook check demo/northmere/rulebook", async (parsed, cancel) =>
        {
            using var service = new Service();
            var (check, raw) = await service.PostAsync<RulebookCheck>("/api/v1/rulebook/check", Files(parsed.GetValue(folder)!), cancel);
            if (Commands.IsJson(parsed)) Show.Json(raw);
            else if (check.Sound) Show.Good($"Sound. Digest {check.Digest}");
            else
            {
                foreach (var finding in check.Findings) Show.Line($"{Path.Combine(parsed.GetValue(folder)!, finding.File)}:{finding.Line}:{finding.Column}: {finding.Message}");
                Show.Bad($"{check.Findings.Count} finding{(check.Findings.Count == 1 ? "" : "s")}.");
            }
            return check.Sound ? Exit.Good : Exit.Refused;
        }, folder);
    }

    private static Command Publish()
    {
        var folder = new Argument<string>("folder");
        var yes = new Option<bool>("--yes") { Description = "do not ask" };
        var dry = new Option<bool>("--dry-run") { Description = "check only" };
        return Commands.Make("publish", "Publishes the rulebook in a folder as the next edition.", "oikonom rulebook publish demo/northmere/rulebook --yes", async (parsed, cancel) =>
        {
            using var service = new Service();
            var body = Files(parsed.GetValue(folder)!);
            if (parsed.GetValue(dry))
            {
                var (check, _) = await service.PostAsync<RulebookCheck>("/api/v1/rulebook/check", body, cancel);
                Show.Line(check.Sound ? $"Sound; it would be published. Digest {check.Digest}" : $"{check.Findings.Count} finding(s); see 'oikonom rulebook check'.");
                return check.Sound ? Exit.Good : Exit.Refused;
            }
            Commands.Confirm(parsed.GetValue(yes), $"Publish {body.Files.Count} files as the next edition?");
            var (edition, raw) = await service.PostAsync<EditionDetail>("/api/v1/rulebook/editions", body, cancel);
            if (Commands.IsJson(parsed)) return Show.Json(raw);
            Show.Good($"Edition {edition.Number} is published. Digest {edition.Digest}");
            return Exit.Good;
        }, folder, yes, dry);
    }

    private static Command ShowRulebook()
    {
        var number = new Argument<string>("edition") { Description = "a number, or 'current'", DefaultValueFactory = _ => "current" };
        return Commands.Make("show", "Shows an edition.", "oikonom rulebook show", async (parsed, cancel) =>
        {
            using var service = new Service();
            var (edition, raw) = await service.GetAsync<EditionDetail>($"/api/v1/rulebook/editions/{Uri.EscapeDataString(parsed.GetValue(number)!)}", cancel);
            if (Commands.IsJson(parsed)) return Show.Json(raw);
            Show.Title($"{edition.Title}, edition {edition.Number}");
            Show.Line($"published by {edition.Author} on {Show.At(edition.PublishedAt)} UTC, digest {edition.Digest}");
            Show.Line($"sources:   {string.Join(", ", edition.Sources)}");
            Show.Line($"targets:   {string.Join(", ", edition.Targets)}");
            Show.Line($"templates: {string.Join(", ", edition.Templates)}");
            Show.Line($"workflows: {string.Join(", ", edition.Workflows)}");
            Show.Line($"files:     {string.Join(", ", edition.Files.Select(f => f.Path))}");
            return Exit.Good;
        }, number);
    }

    private static Command Secrets() => Commands.Make("list", "Lists names of secrets; values are never shown.", "oikonom secrets list", async (parsed, cancel) =>
    {
        using var service = new Service();
        var (page, raw) = await service.GetAsync<Page<Secret>>("/api/v1/secrets", cancel);
        if (Commands.IsJson(parsed)) return Show.Json(raw);
        Show.Table(["Secret", "Set by", "Set at (UTC)"], page.Items.Select(s => (IReadOnlyList<string>)[s.Name, s.SetBy, Show.At(s.SetAt)]), "No secret is set.");
        return Exit.Good;
    });

    private static Command SetSecret()
    {
        var name = new Argument<string>("secret");
        return Commands.Make("set", "Sets a secret from standard input.", "oikonom secrets set directory-password < password.txt", async (parsed, cancel) =>
        {
            using var service = new Service();
            var value = (await Console.In.ReadToEndAsync(cancel)).TrimEnd('\n', '\r');
            if (value.Length == 0) throw new CliFault(Exit.Usage, "Give the value on standard input.");
            await service.PutAsync($"/api/v1/secrets/{Uri.EscapeDataString(parsed.GetValue(name)!)}", new SecretBody(value), cancel);
            Show.Line($"The secret '{parsed.GetValue(name)}' is set.");
            return Exit.Good;
        }, name);
    }
}
