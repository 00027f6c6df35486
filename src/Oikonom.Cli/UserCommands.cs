using System.CommandLine;
using System.Text.Json;
using Oikonom.Contracts;

namespace Oikonom.Cli;

/// <summary>Who may sign in, with which roles, and where these reach.</summary>
internal static class UserCommands
{
    public static Command Group() => Commands.Group("users", "Who may sign in, with which roles, and where these reach.", List(), Set());

    private static Command List() => Commands.Make("list", "Lists the users.", "oikonom users list", async (parsed, cancel) =>
    {
        using var service = new Service();
        var (page, raw) = await service.GetAsync<Page<User>>("/api/v1/users", cancel);
        if (Commands.IsJson(parsed)) return Show.Json(raw);
        Show.Table(["User", "Name", "Person", "Mail", "Roles", "May sign in"], page.Items.Select(u => (IReadOnlyList<string>)
            [u.Name, u.Display, u.Number ?? "", u.Mail, string.Join(", ", u.Roles.Select(r => r + Limits(u, r))), !u.Active ? "no" : u.LockedUntil > DateTimeOffset.UtcNow ? $"locked until {Show.At(u.LockedUntil.Value)} UTC" : "yes"]), "Nobody may sign in.");
        return Exit.Good;
    });

    private static string Limits(User user, string role) => user.Reach?.GetValueOrDefault(role) is { } reach ? $" ({string.Join(" ", Parts(reach))})" : "";

    private static IEnumerable<string> Parts(ReachBody reach) =>
        (reach.Sites ?? []).Select(s => $"site:{s}").Concat((reach.Departments ?? []).Select(d => $"department:{d}")).Concat((reach.Targets ?? []).Select(t => $"target:{t}"));

    private static Command Set()
    {
        var name = new Argument<string>("name") { Description = "lower-case letters, digits, dots, hyphens" };
        var display = new Option<string?>("--display") { Description = "the name others see" };
        var mail = new Option<string?>("--mail") { Description = "where notices go" };
        var person = new Option<string?>("--person") { Description = "employee number of the person this is; \"\" for none" };
        var role = new Option<string[]>("--role") { Description = "requester, approver, operator, engineer or auditor; once for each, in the place of those before" };
        var reach = new Option<string[]>("--reach") { Description = "limits a role: approver=site:harbour,department:Research,target:directory; approver=everywhere ends the limit" };
        var active = new Option<bool?>("--active") { Description = "false ends the user's sign-in, true gives it back" };
        var password = new Option<bool>("--password-stdin") { Description = "read a password from standard input; a new user needs one" };
        return Commands.Make("set", "Makes a user, or changes what is named of one.", "oikonom users set silas --display \"Silas Wrack\" --role approver --person E1008 --password-stdin", async (parsed, cancel) =>
        {
            using var service = new Service();
            var user = parsed.GetValue(name)!;
            var before = (await service.GetAsync<Page<User>>("/api/v1/users", cancel)).Value.Items.FirstOrDefault(u => u.Name == user);
            var limits = new Dictionary<string, ReachBody>(before?.Reach ?? new Dictionary<string, ReachBody>());
            foreach (var text in parsed.GetValue(reach) ?? [])
            {
                var (of, to) = ReachOf(text);
                if (to is null) limits.Remove(of);
                else limits[of] = to;
            }
            var body = new UserBody(parsed.GetValue(display) ?? before?.Display ?? user, parsed.GetValue(mail) ?? before?.Mail ?? "", parsed.GetValue(role) is { Length: > 0 } roles ? roles : before?.Roles ?? [],
                parsed.GetValue(person) ?? before?.Number, parsed.GetValue(password) ? Console.In.ReadLine() : null, parsed.GetValue(active) ?? before?.Active ?? true, limits);
            await service.PutAsync($"/api/v1/users/{Uri.EscapeDataString(user)}", body, cancel);
            if (Commands.IsJson(parsed)) return Show.Json(JsonSerializer.SerializeToElement(body with { Password = null }, JsonSerializerOptions.Web));
            Show.Good($"{body.Display} ({user}) is {(before is null ? "made" : "changed")}: {(body.Roles.Count == 0 ? "no role" : string.Join(", ", body.Roles))}{(body.Active == false ? ", may not sign in" : "")}.");
            return Exit.Good;
        }, name, display, mail, person, role, reach, active, password);
    }

    /// <summary>A limit as it is written, such as <c>approver=site:harbour,target:directory</c>; null ends it.</summary>
    private static (string Role, ReachBody? Reach) ReachOf(string text)
    {
        var at = text.IndexOf('=', StringComparison.Ordinal);
        if (at <= 0) throw new CliFault(Exit.Usage, $"'{text}' has not the form role=site:harbour,department:Research,target:directory.");
        var (role, parts) = (text[..at], text[(at + 1)..].Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries));
        if (parts is ["everywhere"]) return (role, null);
        if (parts.Length == 0 || parts.FirstOrDefault(p => !p.StartsWith("site:", StringComparison.Ordinal) && !p.StartsWith("department:", StringComparison.Ordinal) && !p.StartsWith("target:", StringComparison.Ordinal)) is not null)
            throw new CliFault(Exit.Usage, $"'{text}' names no part of the organisation; write site:, department: or target: before each, or everywhere.");
        return (role, new(Of("site:"), Of("department:"), Of("target:")));

        string[] Of(string kind) => [.. parts.Where(p => p.StartsWith(kind, StringComparison.Ordinal)).Select(p => p[kind.Length..])];
    }
}
