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
        yield return Commands.Group("secrets", "Passwords and certificates the rulebook names.", Secrets(), SetSecret());
        yield return UserCommands.Group();
        yield return TokenCommands.Group();
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
