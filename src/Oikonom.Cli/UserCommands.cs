using System.CommandLine;
using Oikonom.Contracts;

namespace Oikonom.Cli;

/// <summary>Who may sign in, with which roles, and where these reach.</summary>
internal static class UserCommands
{
    public static Command Group() =>
        Commands.Group(
            "users",
            "Who may sign in, with which roles, and where these reach.",
            List(),
            Set(),
            Changes(),
            Agree(),
            Decline(),
            Link()
        );

    private static Command List() =>
        Commands.Make(
            "list",
            "Lists the users.",
            "oikonom users list",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<User>>("/api/v1/users", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["User", "Name", "Person", "Mail", "Roles", "May sign in"],
                    page.Items.Select(u =>
                        (IReadOnlyList<string>)
                            [
                                u.Name,
                                u.Display,
                                u.Number ?? "",
                                u.Mail,
                                string.Join(", ", u.Roles.Select(r => r + Limits(u, r))),
                                !u.Active ? "no"
                                : u.Way == "link-sent" ? "not yet: a link was sent"
                                : u.Way == "openid" ? "yes, by OpenID"
                                : "yes",
                            ]
                    ),
                    "Nobody may sign in."
                );
                return Exit.Good;
            }
        );

    private static string Limits(User user, string role) =>
        user.Reach?.GetValueOrDefault(role) is { } reach ? $" ({string.Join(" ", Parts(reach))})" : "";

    private static IEnumerable<string> Parts(ReachBody reach) =>
        (reach.Sites ?? [])
            .Select(s => $"site:{s}")
            .Concat((reach.Departments ?? []).Select(d => $"department:{d}"))
            .Concat((reach.Targets ?? []).Select(t => $"target:{t}"));

    /// <summary>The limits of somebody's roles, with what is said of each in the place of what was.</summary>
    private static Dictionary<string, ReachBody> Limited(User? before, IEnumerable<string> said)
    {
        var limits = new Dictionary<string, ReachBody>(before?.Reach ?? new Dictionary<string, ReachBody>());
        foreach (var text in said)
        {
            var (of, to) = ReachOf(text);
            if (to is null)
                limits.Remove(of);
            else
                limits[of] = to;
        }
        return limits;
    }

    private static Command Set()
    {
        var name = new Argument<string>("name") { Description = "lower-case letters, digits, dots, hyphens" };
        var display = new Option<string?>("--display") { Description = "the name others see" };
        var mail = new Option<string?>("--mail") { Description = "where notices go" };
        var person = new Option<string?>("--person") { Description = "employee number of the person this is; \"\" for none" };
        var role = new Option<string[]>("--role")
        {
            Description = "requester, approver, operator, engineer or auditor; once for each, in the place of those before",
        };
        var reach = new Option<string[]>("--reach")
        {
            Description = "limits a role: approver=site:harbour,department:Research,target:directory; approver=everywhere ends the limit",
        };
        var active = new Option<bool?>("--active") { Description = "false ends the user's sign-in, true gives it back" };
        return Commands.Make(
            "set",
            "Makes a user, or changes what is named of one. A new user gets a one-time link by mail and sets their own password.",
            "oikonom users set silas --display \"Silas Wrack\" --mail silas@northmere.example --role approver --person E1008",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var user = parsed.GetValue(name)!;
                var before = (await service.GetAsync<Page<User>>("/api/v1/users", cancel)).Value.Items.FirstOrDefault(u => u.Name == user);
                var limits = Limited(before, parsed.GetValue(reach) ?? []);
                var body = new UserBody(
                    parsed.GetValue(display) ?? before?.Display ?? user,
                    parsed.GetValue(mail) ?? before?.Mail ?? "",
                    parsed.GetValue(role) is { Length: > 0 } roles ? roles : before?.Roles ?? [],
                    parsed.GetValue(person) ?? before?.Number,
                    parsed.GetValue(active) ?? before?.Active ?? true,
                    limits
                );
                var (saved, raw) = await service.PutAsync<UserSaved>($"/api/v1/users/{Uri.EscapeDataString(user)}", body, cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                if (saved.Waits is { } waits)
                {
                    Show.Line($"Another engineer agrees first: oikonom users agree {waits.Id}");
                    return Exit.Good;
                }
                Show.Good(
                    $"{body.Display} ({user}) is {(before is null ? "made" : "changed")}: "
                        + $"{(body.Roles.Count == 0 ? "no role" : string.Join(", ", body.Roles))}"
                        + $"{(body.Active == false ? ", may not sign in" : "")}."
                );
                return Exit.Good;
            },
            name,
            display,
            mail,
            person,
            role,
            reach,
            active
        );
    }

    private static Command Changes() =>
        Commands.Make(
            "changes",
            "Lists changes of users that wait for a second person.",
            "oikonom users changes",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<UserChange>>("/api/v1/users/changes", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                foreach (var change in page.Items)
                {
                    Show.Title($"{change.User}{(change.IsNew ? " (new)" : "")}, asked by {change.AskedBy} {Show.Ago(change.At)}");
                    foreach (var field in change.Changes)
                        Show.Line(
                            $"  {field.Name}: {(field.Before.Count == 0 ? "" : string.Join(", ", field.Before) + " → ")}"
                                + $"{(field.After.Count == 0 ? "(none)" : string.Join(", ", field.After))}"
                        );
                    Show.Line($"  oikonom users agree {change.Id}");
                }
                if (page.Items.Count == 0)
                    Show.Line("Nothing waits.");
                return Exit.Good;
            }
        );

    private static Command Agree() => Decision("agree", "Agrees to a change that another engineer asked for.", "Done.");

    private static Command Decline() => Decision("decline", "Declines a change of a user.", "Declined.");

    private static Command Decision(string verb, string description, string said)
    {
        var id = new Argument<string>("change") { Description = "as 'users changes' names it" };
        return Commands.Make(
            verb,
            description,
            $"oikonom users {verb} 01a2…",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (_, raw) = await service.PostAsync<UserSaved>(
                    $"/api/v1/users/changes/{Uri.EscapeDataString(parsed.GetValue(id)!)}/{verb}",
                    null,
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Good(said);
                return Exit.Good;
            },
            id
        );
    }

    private static Command Link()
    {
        var name = new Argument<string>("name");
        return Commands.Make(
            "link",
            "Sends a user a one-time link by which they set their password.",
            "oikonom users link silas",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                await service.PostAsync<object?>($"/api/v1/users/{Uri.EscapeDataString(parsed.GetValue(name)!)}/link", null, cancel);
                Show.Line("A link is on its way; the ones before it have ended.");
                return Exit.Good;
            },
            name
        );
    }

    /// <summary>A limit as it is written, such as <c>approver=site:harbour,target:directory</c>; null ends it.</summary>
    private static (string Role, ReachBody? Reach) ReachOf(string text)
    {
        var at = text.IndexOf('=', StringComparison.Ordinal);
        if (at <= 0)
            throw new CliFault(Exit.Usage, $"'{text}' has not the form role=site:harbour,department:Research,target:directory.");
        var (role, parts) = (
            text[..at],
            text[(at + 1)..].Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)
        );
        if (parts is ["everywhere"])
            return (role, null);
        if (
            parts.Length == 0
            || parts.FirstOrDefault(p =>
                !p.StartsWith("site:", StringComparison.Ordinal)
                && !p.StartsWith("department:", StringComparison.Ordinal)
                && !p.StartsWith("target:", StringComparison.Ordinal)
            )
                is not null
        )
            throw new CliFault(
                Exit.Usage,
                $"'{text}' names no part of the organisation; write site:, department: or target: before each, or everywhere."
            );
        return (role, new(Of("site:"), Of("department:"), Of("target:")));

        string[] Of(string kind) => [.. parts.Where(p => p.StartsWith(kind, StringComparison.Ordinal)).Select(p => p[kind.Length..])];
    }
}
