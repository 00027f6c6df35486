using System.Security.Claims;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Approval;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Access;

/// <summary>
/// Makes and changes users. Nobody changes their own; where the rulebook wants a second person, what gives somebody
/// more, or leads their links elsewhere, waits until another engineer agrees. Ending a sign-in waits for nobody.
/// </summary>
public sealed class UserDesk(Store.Store store, EditionBook editions, PasswordDesk passwords, TimeProvider time)
{
    public async Task<Page<User>> ListAsync(CancellationToken cancel) =>
        new([.. (await store.ReadAsync(s => s.UsersAsync(), cancel)).Select(View)], null);

    public async Task<UserSaved> SaveAsync(string name, UserBody body, ClaimsPrincipal actor, CancellationToken cancel)
    {
        var edition = await editions.CurrentOrNullAsync(cancel);
        Check(name, body, edition?.Rulebook);
        return await store.WriteAsync(
            async s =>
            {
                var before = await s.UserAsync(name);
                var after = await AfterAsync(s, name, body, before);
                RequireNotOwn(before, after, actor);
                await RequireOneUserAsync(s, after);
                // What waited was asked for over the user as it was, and would take this back.
                await s.SupersedeUserChangesAsync(name, time.Milliseconds());
                if (
                    edition?.Rulebook.UsersNeedSecond == true
                    && GivesMore(before, after)
                    && await SecondPerson.OfEngineersAsync(s, actor.UserName())
                )
                {
                    var row = new UserChangeRow
                    {
                        Id = Guid.CreateVersion7(time.GetUtcNow()).ToString(),
                        UserName = name,
                        Body = JsonSerializer.Serialize(body, JsonSerializerOptions.Web),
                        Actor = actor.UserName(),
                        At = time.Milliseconds(),
                    };
                    await s.AddUserChangeAsync(row);
                    Record(s, "user.change-asked", actor.UserName(), before, after, ("order", row.Id));
                    s.Tell("users", row.Id);
                    return new UserSaved(before is null ? null : View(before), View(row, before, after, actor));
                }
                return new UserSaved(View(await WriteAsync(s, before, after, actor.UserName(), null)), null);
            },
            cancel
        );
    }

    public Task<Page<UserChange>> ChangesAsync(ClaimsPrincipal actor, CancellationToken cancel) =>
        store.ReadAsync(
            async s =>
            {
                var views = new List<UserChange>();
                foreach (var row in await s.OpenUserChangesAsync())
                {
                    var before = await s.UserAsync(row.UserName);
                    views.Add(View(row, before, await AfterAsync(s, row.UserName, BodyOf(row), before), actor));
                }
                return new Page<UserChange>(views, null);
            },
            cancel
        );

    /// <summary>Another engineer agrees to a change, or declines it.</summary>
    public Task<UserSaved> DecideAsync(string id, bool agree, string? remark, ClaimsPrincipal actor, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                var row = await s.UserChangeAsync(id) is { State: "open" } found
                    ? found
                    : throw Problem.NotFound($"open change '{id}'", "See 'oikonom users changes'.");
                var before = await s.UserAsync(row.UserName);
                if (agree)
                {
                    await SecondPerson.RequireAsync(
                        s,
                        row.Actor,
                        actor,
                        "own-change",
                        "You asked for this change yourself; somebody else agrees to it."
                    );
                    await SecondPerson.RequireAsync(s, row.UserName, actor, "own-roles", "This is your own user; somebody else agrees.");
                }
                var after = await AfterAsync(s, row.UserName, BodyOf(row), before);
                if (agree)
                    await RequireOneUserAsync(s, after);
                await s.DecideUserChangeAsync(id, agree ? "done" : "declined", actor.UserName(), time.Milliseconds(), remark ?? "");
                s.Tell("users", id);
                if (agree)
                    return new UserSaved(View(await WriteAsync(s, before, after, row.Actor, actor.UserName())), null);
                s.Record(
                    LedgerEntry.Of(
                        time.GetUtcNow(),
                        actor.UserName(),
                        "user.change-declined",
                        before?.PersonId is { Length: > 0 } person ? person : null,
                        null,
                        ("user", row.UserName),
                        ("order", id),
                        ("remark", remark)
                    )
                );
                return new UserSaved(before is null ? null : View(before), null);
            },
            cancel
        );

    /// <summary>Sends the user a new one-time link for their password; nobody sees it but them.</summary>
    public Task LinkAsync(string name, ClaimsPrincipal actor, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                var user = await s.UserAsync(name) ?? throw Problem.NotFound($"user '{name}'", "See 'oikonom users list'.");
                if (user.Active == 0)
                    throw Problem.Conflict("ended", $"'{name}' may not sign in.");
                if (user.Issuer.Length > 0)
                    throw Problem.Conflict("no-password", $"'{name}' signs in by OpenID and has no password here.");
                if (user.Mail.Length == 0)
                    throw Problem.Conflict("no-mail", $"'{name}' has no mail address to send a link to.");
                await passwords.SendAsync(s, user, user.PasswordHash.Length == 0, actor.UserName());
            },
            cancel
        );

    private static void Check(string name, UserBody body, Core.Rulebook.Rulebook? rulebook)
    {
        if (UserNames.Fault(name) is { } fault)
            throw Problem.Invalid(fault, "name");
        if (body.Roles is null || body.Roles.FirstOrDefault(r => !Roles.All.Contains(r)) is not null)
            throw Problem.Invalid($"Roles are {string.Join(", ", Roles.All)}.", "roles");
        if (body.Display is not { Length: > 0 and <= 200 })
            throw Problem.Invalid("The display name is missing or longer than 200 characters.", "display");
        if (body.Mail is null || body.Mail.Length > 254 || (body.Mail.Length > 0 && !MimeKit.MailboxAddress.TryParse(body.Mail, out _)))
            throw Problem.Invalid("The mail address is not valid.", "mail");
        if (body.Number?.Length > 100)
            throw Problem.Invalid("A number has 100 characters at most.", "number");
        if (body.Reach?.Keys.FirstOrDefault(r => !Roles.All.Contains(r)) is { } strange)
            throw Problem.Invalid($"'{strange}' is no role; roles are {string.Join(", ", Roles.All)}.", "reach");
        if (
            rulebook is not null
            && body.Reach?.Values.SelectMany(r => r.Sites ?? []).FirstOrDefault(x => !rulebook.Sites.ContainsKey(x)) is { } nowhere
        )
            throw Problem.Invalid(
                $"'{nowhere}' is no site of the rulebook.{Core.Expressions.Nearest.Hint(nowhere, rulebook.Sites.Keys)}",
                "reach"
            );
    }

    private async Task<UserRow> AfterAsync(Session s, string name, UserBody body, UserRow? before)
    {
        var number = body.Number ?? "";
        var person = number.Length == 0 ? null : await s.PersonByNumberAsync(number);
        var personId = person?.Id ?? (before?.Number == number ? before.PersonId : "");
        if (before is null && body.Mail.Length == 0)
            throw Problem.Invalid("Give a mail address: the one-time link by which the owner sets the password goes there.", "mail");
        var reach = body.Reach is null
            ? before?.Reach ?? "{}"
            : Reach.ToJson(
                body.Reach.ToDictionary(r => r.Key, r => new Reach(r.Value.Sites ?? [], r.Value.Departments ?? [], r.Value.Targets ?? []))
            );
        return new()
        {
            Name = name,
            Display = body.Display,
            Mail = body.Mail,
            Roles = string.Join(' ', body.Roles.Distinct()),
            Number = number,
            PersonId = personId,
            PasswordHash = before?.PasswordHash ?? "",
            Active = body.Active == false ? 0 : 1,
            Hearing = before?.Hearing ?? "{}",
            Reach = reach,
            Stamp = Guid.NewGuid().ToString("N"),
            CreatedAt = before?.CreatedAt ?? time.Milliseconds(),
            Issuer = before?.Issuer ?? "",
            Subject = before?.Subject ?? "",
        };
    }

    private static async Task RequireOneUserAsync(Session s, UserRow after)
    {
        if (
            after.Number.Length > 0
            && (await s.UsersAsync()).FirstOrDefault(u =>
                u.Name != after.Name && (u.Number == after.Number || (after.PersonId.Length > 0 && u.PersonId == after.PersonId))
            )
                is { } other
        )
            throw Problem.Conflict("person-has-user", $"Person {after.Number} signs in as '{other.Name}' already; a person has one user.");
    }

    private static void RequireNotOwn(UserRow? before, UserRow after, ClaimsPrincipal actor)
    {
        if (
            before?.Name == actor.UserName()
            && (
                after.Active == 0
                || after.Reach != before.Reach
                || after.Number != before.Number
                || after.Mail != before.Mail
                || !SameRoles(before, after)
            )
        )
            throw new Problem(
                403,
                "own-roles",
                "Not allowed",
                "Nobody changes their own roles, reach, number or mail address, or ends their own sign-in; another engineer does."
            );
        if (before is null && after.Number.Length > 0 && after.Number == actor.Number())
            throw new Problem(403, "own-roles", "Not allowed", "Nobody makes a second user for themselves.");
    }

    private static bool SameRoles(UserRow before, UserRow after) => before.Roles.Split(' ').ToHashSet().SetEquals(after.Roles.Split(' '));

    /// <summary>True for all but what takes access away or names somebody better.</summary>
    private static bool GivesMore(UserRow? before, UserRow after)
    {
        if (before is null)
            return true;
        if (after.Active == 0)
            return false;
        var roles = before.Roles.Split(' ', StringSplitOptions.RemoveEmptyEntries);
        return before.Active == 0
            || after.Number != before.Number
            || after.Mail != before.Mail
            || after.Reach != before.Reach
            || after.Roles.Split(' ', StringSplitOptions.RemoveEmptyEntries).Any(r => !roles.Contains(r));
    }

    private async Task<UserRow> WriteAsync(Session s, UserRow? before, UserRow after, string actor, string? agreed)
    {
        await s.SaveUserAsync(after);
        if (after.Active == 0)
            await s.EndAllOfAsync(after.Name, "", "", time.Milliseconds());
        Record(s, before is null ? "user.made" : "user.changed", actor, before, after, ("approver", agreed));
        s.Tell("users", after.Name);
        if (before is null)
            await passwords.SendAsync(s, after, isNew: true, actor);
        return after;
    }

    /// <summary>Each field that differs, before and after; roles and reach in clear, since they are what is answered for.</summary>
    private void Record(Session s, string kind, string actor, UserRow? before, UserRow after, (string, object?) more)
    {
        IReadOnlyList<AttributeDifference> changes =
        [
            .. new[]
            {
                new AttributeDifference("display", before?.Display ?? "", after.Display),
                new("mail", before?.Mail ?? "", after.Mail),
                new("number", before?.Number ?? "", after.Number),
            }.Where(c => c.Before != c.After),
        ];
        s.Record(
            LedgerEntry.Of(
                time.GetUtcNow(),
                actor,
                kind,
                after.PersonId.Length > 0 ? after.PersonId : null,
                null,
                ("user", after.Name),
                ("roles", after.Roles),
                ("rolesBefore", before?.Roles),
                ("active", after.Active == 1),
                ("activeBefore", before is null ? null : before.Active == 1),
                ("reach", after.Reach),
                ("reachBefore", before?.Reach),
                ("changes", changes.Count > 0 ? changes : null),
                more
            )
        );
    }

    private static UserBody BodyOf(UserChangeRow row) => JsonSerializer.Deserialize<UserBody>(row.Body, JsonSerializerOptions.Web)!;

    private static UserChange View(UserChangeRow row, UserRow? before, UserRow after, ClaimsPrincipal actor)
    {
        IReadOnlyList<AttributeChangeView> changes =
        [
            .. new (string Name, string Before, string After)[]
            {
                ("display", before?.Display ?? "", after.Display),
                ("mail", before?.Mail ?? "", after.Mail),
                ("person", before?.Number ?? "", after.Number),
                (
                    "roles",
                    (before?.Roles ?? "").Replace(" ", ", ", StringComparison.Ordinal),
                    after.Roles.Replace(" ", ", ", StringComparison.Ordinal)
                ),
                ("limits", Limits(before?.Reach ?? "{}"), Limits(after.Reach)),
                (
                    "may sign in",
                    before is null ? ""
                    : before.Active == 1 ? "yes"
                    : "no",
                    after.Active == 1 ? "yes" : "no"
                ),
            }
                .Where(c => c.Before != c.After)
                .Select(c => new AttributeChangeView(c.Name, c.Before.Length > 0 ? [c.Before] : [], c.After.Length > 0 ? [c.After] : [])),
        ];
        return new(
            row.Id,
            row.UserName,
            row.Actor,
            row.At.ToInstant(),
            before is null,
            changes,
            row.Actor != actor.UserName() && row.UserName != actor.UserName() && actor.RoleNames().Contains(Roles.Engineer)
        );
    }

    private static string Limits(string reach) =>
        string.Join(
            "; ",
            Reach
                .FromJson(reach)
                .Select(r => $"{r.Key}: {string.Join(", ", r.Value.Sites.Concat(r.Value.Departments).Concat(r.Value.Targets))}")
        );

    public static Dictionary<string, ReachBody>? ReachOf(string json) =>
        Reach.FromJson(json) is { Count: > 0 } reach
            ? reach.ToDictionary(r => r.Key, r => new ReachBody(r.Value.Sites, r.Value.Departments, r.Value.Targets))
            : null;

    private static User View(UserRow row) =>
        new(
            row.Name,
            row.Display,
            row.Mail,
            row.Roles.Split(' ', StringSplitOptions.RemoveEmptyEntries),
            row.Number.Length > 0 ? row.Number : null,
            row.Active == 1,
            ReachOf(row.Reach),
            row.Issuer.Length > 0 ? "openid"
                : row.PasswordHash.Length > 0 ? "password"
                : "link-sent"
        );
}
