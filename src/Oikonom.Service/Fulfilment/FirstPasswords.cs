using System.Security.Claims;
using System.Security.Cryptography;
using System.Text.Json;
using Microsoft.AspNetCore.DataProtection;
using Oikonom.Contracts;
using Oikonom.Core.Approval;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Ledger;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Connectors;
using Oikonom.Service.Editions;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>
/// First passwords, handed over by one-time links. A link is spent only when the password was set: one that is opened
/// while the target is away still works later. An operator can send a new link, which ends the old.
/// </summary>
public sealed class FirstPasswords(
    Store.Store store,
    EditionBook editions,
    ConnectorBook connectors,
    ServiceOptions options,
    IDataProtectionProvider protection,
    TimeProvider time
)
{
    private static readonly TimeSpan LinkHolds = TimeSpan.FromDays(14);
    private static readonly TimeSpan Opening = TimeSpan.FromMinutes(2);
    private readonly IDataProtector _protector = protection.CreateProtector(Purposes.Mails);

    /// <summary>Sends the line manager, else the requester, a link to the first password of an account, inside a decision.</summary>
    /// <param name="wakes">When the account can be used.</param>
    /// <returns>Who gets it, or null when nobody can.</returns>
    public async Task<UserRow?> SendAsync(
        Session s,
        PersonRow person,
        RequestRow request,
        AccountKey key,
        string account,
        IReadOnlyList<UserRow> users,
        DateTimeOffset wakes
    )
    {
        var now = time.GetUtcNow();
        var receiver =
            users.FirstOrDefault(u => u.Active == 1 && person.Manager.Length > 0 && u.Number == person.Manager)
            ?? users.FirstOrDefault(u => u.Active == 1 && u.Name == request.Requester);
        if (receiver is null)
            return null;
        // It lives from the day on which it can be used.
        var ends = (wakes > now ? wakes : now) + LinkHolds;
        var token = Accounts.NewToken("");
        await s.AddHandoversAsync([
            new()
            {
                Id = Guid.CreateVersion7(now).ToString(),
                TokenHash = Accounts.HashToken(token),
                PersonId = person.Id,
                Target = key.Target,
                Slot = key.Slot,
                Receiver = receiver.Name,
                RequestId = request.Id,
                ExpiresAt = ends.ToUnixTimeMilliseconds(),
            },
        ]);
        if (receiver.Mail.Length > 0)
        {
            s.Send(
                new(
                    receiver.Mail,
                    $"First password for {person.Display}",
                    $"Dear {receiver.Display},\n\nthe account {account} of {person.Display} is made. This link shows its first "
                        + "password once, to you alone, after you sign in:\n\n"
                        + $"{{{{sealed}}}}\n\nThe password is made up when you open the link; it is kept nowhere. The link holds "
                        + $"until {ends:yyyy-MM-dd}.\n",
                    request.Id
                )
                {
                    Event = "first-password",
                    Sealed = _protector.Protect($"{options.PublicAddress}/handover/{token}"),
                }
            );
        }
        return receiver;
    }

    /// <summary>Ends the open links of a request and sends new ones.</summary>
    public Task<FirstPasswordSent> SendAgainAsync(string id, ClaimsPrincipal user, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                var row = await s.RequestAsync(id, forUpdate: true) ?? throw Named.NoRequest(id);
                var (person, users) = ((await s.PersonAsync(row.PersonId))!, await s.UsersAsync());
                var keys = (await s.PasswordStepsAsync(id))
                    .Select(c => JsonSerializer.Deserialize<Change>(c, JsonSerializerOptions.Web)!.Account)
                    .Distinct()
                    .ToList();
                if (keys.Count == 0)
                    throw Problem.Conflict("no-password", "This request set no password, or not yet; there is nothing to hand over.");
                if (PasswordRight.WhyNot(user, person, [.. keys.Select(k => k.Target).Distinct()]) is { } why)
                    throw new RefusedMove("not-yours", why);
                var accounts = await s.AccountsAsync([row.PersonId]);
                await s.EndHandoversAsync(id, time.Milliseconds());
                var receivers = new List<string>();
                var recorded = await Recorded.LoadAsync(s, [row.PersonId]);
                foreach (var key in keys)
                {
                    if (accounts.FirstOrDefault(a => Recorded.KeyOf(a) == key) is not { } account)
                        continue;
                    if (await SendAsync(s, person, row, key, account.Name, users, await WakesOrNowAsync(recorded, account)) is { } receiver)
                        receivers.Add(receiver.Name);
                }
                if (receivers.Count == 0)
                    throw Problem.Conflict(
                        "nobody-receives",
                        "Neither the line manager nor the requester can sign in; nobody could open the link."
                    );
                s.Record(LedgerEntry.Of(time.GetUtcNow(), user.UserName(), "password.link-sent", row.PersonId, id, ("to", receivers)));
                s.Tell("requests", id);
                return new FirstPasswordSent([.. receivers.Distinct()]);
            },
            cancel
        );

    /// <summary>Who lost a link, or let it run out, asks for another to the same account.</summary>
    public async Task<FirstPasswordSent> AskAgainAsync(string token, ClaimsPrincipal user, CancellationToken cancel)
    {
        var row = await store.ReadAsync(s => s.HandoverAsync(Accounts.HashToken(token)), cancel);
        if (row is null || row.Receiver != user.UserName())
            throw Problem.NotFound("such link for you", "Open it as the person it was sent to.");
        return await SendAgainAsync(row.RequestId ?? "", user, cancel);
    }

    /// <summary>Somebody whom the rules cannot serve now gets a link all the same.</summary>
    private async Task<DateTimeOffset> WakesOrNowAsync(Recorded recorded, AccountRow account)
    {
        try
        {
            return await WakesAsync(recorded, account) ?? time.GetUtcNow();
        }
        catch (PlanFault)
        {
            return time.GetUtcNow();
        }
    }

    /// <summary>When an account can be used: now, when its next waking comes; null when it never does.</summary>
    /// <exception cref="PlanFault">The rules cannot serve the person.</exception>
    public async Task<DateTimeOffset?> WakesAsync(Recorded recorded, AccountRow account)
    {
        var now = time.GetUtcNow();
        if (account.Enabled == 1)
            return now;
        var person = account.PersonId!;
        var edition = await editions.OnAsync(recorded.Person(person).Edition, CancellationToken.None);
        var windows = Desired.Windows(recorded.Subject(person, edition), edition).Accounts.GetValueOrDefault(Recorded.KeyOf(account)) ?? [];
        return windows.Where(w => w.State.Enabled && w.Until > now).Select(w => (DateTimeOffset?)(w.From > now ? w.From : now)).Min();
    }

    public Task<Handover> LookAsync(string token, ClaimsPrincipal user, CancellationToken cancel) =>
        store.ReadAsync(
            async s =>
            {
                var (row, person, account) = await FindAsync(s, token, user);
                return new Handover(person, account.Name, row.Target, row.ExpiresAt.ToInstant());
            },
            cancel
        );

    /// <summary>Makes a password up, sets it, and only then spends the link.</summary>
    public async Task<HandedOver> OpenAsync(string token, ClaimsPrincipal user, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        var now = time.Milliseconds();
        // Held while it is being opened, so that two at once do not set two passwords.
        var (row, person, account) = await store.WriteAsync(
            async s =>
            {
                var found = await FindAsync(s, token, user);
                if (!await s.BeginHandoverAsync(found.Row.Id, now, now + (long)Opening.TotalMilliseconds))
                    throw Problem.Conflict("being-opened", "This link is being opened at this moment. Wait a little, then try again.");
                return found;
            },
            cancel
        );
        try
        {
            var target =
                edition.Rulebook.Targets.GetValueOrDefault(row.Target)
                ?? throw Problem.NotFound($"target '{row.Target}'", "The rulebook no longer has it.");
            var password = Passwords.Make(target.Password, RandomNumberGenerator.GetInt32);
            await connectors.Accounts(edition, row.Target).SetPasswordAsync(account.ImmutableId, password, cancel);
            await store.WriteAsync(
                async s =>
                {
                    if (!await s.UseHandoverAsync(row.Id, time.Milliseconds()))
                        throw Used();
                    s.Record(
                        LedgerEntry.Of(
                            time.GetUtcNow(),
                            user.UserName(),
                            "password.handed-over",
                            row.PersonId,
                            row.RequestId,
                            ("target", row.Target),
                            ("account", account.Name)
                        )
                    );
                },
                CancellationToken.None
            );
            return new HandedOver(person, account.Name, row.Target, password);
        }
        catch (Exception error) when (error is TargetFault or Problem or OperationCanceledException)
        {
            // Nothing was handed over: the link works again.
            await store.WriteAsync(s => s.LeaveHandoverAsync(row.Id), CancellationToken.None);
            if (error is TargetFault fault)
                throw new Problem(
                    502,
                    "target-unavailable",
                    "The target does not answer as it should",
                    $"{fault.Message} The link is not used up; try again later."
                );
            throw;
        }
    }

    private async Task<(HandoverRow Row, string Person, AccountRow Account)> FindAsync(Session s, string token, ClaimsPrincipal user)
    {
        var row = await s.HandoverAsync(Accounts.HashToken(token));
        // To anyone but the receiver the link does not exist.
        if (row is null || row.Receiver != user.UserName())
            throw Problem.NotFound("such link for you", "Open it as the person it was sent to.");
        if (row.UsedAt is not null)
            throw Used();
        if (row.EndedAt is not null || row.ExpiresAt <= time.Milliseconds())
            throw Problem.Conflict("link-over", "This link is over. Have another sent, here or with 'oikonom requests new-link'.");
        var person = await s.PersonAsync(row.PersonId);
        var account = (await s.AccountsAsync([row.PersonId])).FirstOrDefault(a => a.Target == row.Target && a.Slot == row.Slot);
        return person is null || account is null
            ? throw Problem.NotFound("account behind this link", "It may have been removed.")
            : (row, person.Display, account);
    }

    private static Problem Used() =>
        Problem.Conflict("link-used", "This link was used before. Have another sent, here or with 'oikonom requests new-link'.");
}
