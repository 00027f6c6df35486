using System.Security.Claims;
using Microsoft.AspNetCore.DataProtection;
using Oikonom.Contracts;
using Oikonom.Core.Ledger;
using Oikonom.Service.Common;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Access;

/// <summary>
/// Passwords are set by their owner alone: through a one-time link that goes to the owner's mail address, or by giving
/// the present one. A new password ends every session and token that came before it.
/// </summary>
public sealed class PasswordDesk(Store.Store store, ServiceOptions options, IDataProtectionProvider protection, TimeProvider time)
{
    private static readonly TimeSpan InvitationHolds = TimeSpan.FromDays(7);
    private static readonly TimeSpan ForgottenHolds = TimeSpan.FromHours(2);
    private static readonly TimeSpan BetweenLinks = TimeSpan.FromMinutes(1);
    private readonly IDataProtector _protector = protection.CreateProtector(Purposes.Mails);

    /// <exception cref="Problem">The password is too short, too long, or the user's own name.</exception>
    public static void Require(string? password, string user)
    {
        if (password is not { Length: >= 10 and <= 256 })
            throw Problem.Invalid("A password has from 10 to 256 characters.", "password");
        if (password.Distinct().Count() < 4 || password.Contains(user, StringComparison.OrdinalIgnoreCase))
            throw Problem.Invalid("Choose a password that is not your name, and not one letter again and again.", "password");
    }

    /// <summary>Sends a user a one-time link by which they set their password, inside a decision. The links before it end.</summary>
    public async Task SendAsync(Session s, UserRow user, bool isNew, string actor)
    {
        var now = time.GetUtcNow();
        var ends = now + (isNew ? InvitationHolds : ForgottenHolds);
        var token = Accounts.NewToken("");
        await s.EndPasswordLinksAsync(user.Name, now.ToUnixTimeMilliseconds());
        await s.AddPasswordLinkAsync(
            new()
            {
                Id = Guid.CreateVersion7(now).ToString(),
                UserName = user.Name,
                TokenHash = Accounts.HashToken(token),
                CreatedAt = now.ToUnixTimeMilliseconds(),
                ExpiresAt = ends.ToUnixTimeMilliseconds(),
            }
        );
        var why = isNew
            ? $"you can sign in to Oikonom as {user.Name}."
            : $"somebody, we hope you, asked for a new password of {user.Name}.";
        var otherwise = isNew ? "" : " If it was not you, do nothing: the old password stays.";
        s.Send(
            new(
                user.Mail,
                isNew ? "Your access to Oikonom" : "A new password for Oikonom",
                $"Dear {user.Display},\n\n{why} Choose your password here:\n\n{{{{sealed}}}}\n\n"
                    + $"The link works once, until {ends.UtcDateTime:yyyy-MM-dd HH:mm} UTC.{otherwise}\n",
                null
            )
            {
                Event = "password",
                Sealed = _protector.Protect($"{options.PublicAddress}/password/{token}"),
            }
        );
        s.Record(
            LedgerEntry.Of(
                now,
                actor,
                "password.link-sent",
                user.PersonId.Length > 0 ? user.PersonId : null,
                null,
                ("user", user.Name),
                ("expires", LedgerEntry.Stamp(ends))
            )
        );
    }

    /// <summary>Somebody forgot their password. The answer is the same whether or not there is such a user.</summary>
    public Task ForgottenAsync(string? name, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                if (
                    name is not { Length: > 0 and <= 64 }
                    || await s.UserAsync(name) is not { Active: 1, Issuer: "", Mail.Length: > 0 } user
                )
                    return;
                // One mail a minute is enough, whoever asks.
                if (await s.LastOpenPasswordLinkAsync(name) > time.Milliseconds() - (long)BetweenLinks.TotalMilliseconds)
                    return;
                await SendAsync(s, user, isNew: false, name);
            },
            cancel
        );

    public Task<PasswordLink> LookAsync(string token, CancellationToken cancel) =>
        store.ReadAsync(
            async s =>
            {
                var (link, user) = await OpenAsync(s, token);
                return new PasswordLink(user.Name, user.Display, link.ExpiresAt.ToInstant());
            },
            cancel
        );

    /// <summary>Sets the password of whom the link was sent to.</summary>
    public Task UseAsync(string token, string? password, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                var (link, user) = await OpenAsync(s, token);
                Require(password, user.Name);
                if (!await s.UsePasswordLinkAsync(link.Id, time.Milliseconds()))
                    throw Over();
                await SetAsync(s, user, password!, "link", "", "");
            },
            cancel
        );

    /// <summary>Changes the caller's own password. What they called with goes on; every other session and token ends.</summary>
    /// <returns>The user with the new stamp.</returns>
    public async Task<UserRow> ChangeAsync(ClaimsPrincipal caller, OwnPasswordBody body, string address, CancellationToken cancel)
    {
        Require(body.New, caller.UserName());
        var now = time.Milliseconds();
        var (until, user) = await store.WriteAsync(
            async s => (await SignInTries.CountAsync(s, caller.UserName(), address, now), await s.UserAsync(caller.UserName())),
            cancel
        );
        if (until is { } later)
            throw SignInTries.Refused(later);
        if (user is not { Active: 1, PasswordHash.Length: > 0 })
            throw Problem.Conflict("no-password", "Your sign-in has no password here; its provider keeps it.");
        if (!Accounts.IsRight(user.PasswordHash, body.Current ?? ""))
            throw new Problem(403, "wrong-credentials", "Not changed", "The present password is wrong.", ("field", "current"));
        return await store.WriteAsync(
            async s =>
            {
                await SignInTries.ForgetAsync(s, user.Name, address);
                return await SetAsync(
                    s,
                    user,
                    body.New!,
                    "own",
                    caller.FindFirstValue("token") ?? "",
                    caller.FindFirstValue("session") ?? ""
                );
            },
            cancel
        );
    }

    private async Task<UserRow> SetAsync(Session s, UserRow user, string password, string way, string keptToken, string keptSession)
    {
        var now = time.Milliseconds();
        var stamp = Guid.NewGuid().ToString("N");
        await s.SetPasswordAsync(user.Name, Accounts.HashPassword(password), stamp);
        await s.EndAllOfAsync(user.Name, keptToken, keptSession, now);
        await s.DropTriesOfAsync(user.Name);
        await s.EndPasswordLinksAsync(user.Name, now);
        s.Record(
            LedgerEntry.Of(
                time.GetUtcNow(),
                user.Name,
                "password.set",
                user.PersonId.Length > 0 ? user.PersonId : null,
                null,
                ("user", user.Name),
                ("way", way)
            )
        );
        return (await s.UserAsync(user.Name))!;
    }

    private async Task<(PasswordLinkRow Link, UserRow User)> OpenAsync(Session s, string token)
    {
        var link = await s.PasswordLinkAsync(Accounts.HashToken(token));
        if (
            link is not { UsedAt: null }
            || link.ExpiresAt <= time.Milliseconds()
            || await s.UserAsync(link.UserName) is not { Active: 1 } user
        )
            throw Over();
        return (link, user);
    }

    private static Problem Over() => Problem.NotFound("such link", "It was used, or is over. Ask for another with 'I forgot my password'.");
}
