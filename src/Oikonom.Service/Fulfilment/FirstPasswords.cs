using System.Security.Claims;
using System.Security.Cryptography;
using System.Text.Json;
using Microsoft.AspNetCore.DataProtection;
using Oikonom.Contracts;
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
    /// <returns>Who gets it, or null when nobody can.</returns>
    public async Task<UserRow?> SendAsync(
        Session s,
        PersonRow person,
        RequestRow request,
        AccountKey key,
        string account,
        IReadOnlyList<UserRow> users
    )
    {
        var now = time.GetUtcNow();
        var receiver =
            users.FirstOrDefault(u => u.Active == 1 && person.Manager.Length > 0 && u.Number == person.Manager)
            ?? users.FirstOrDefault(u => u.Active == 1 && u.Name == request.Requester);
        if (receiver is null)
            return null;
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
                ExpiresAt = (now + LinkHolds).ToUnixTimeMilliseconds(),
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
                        + $"until {now + LinkHolds:yyyy-MM-dd}.\n",
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
                user.RequireReach(row.Site, row.Department, Roles.Operator);
                var keys = (await s.PasswordStepsAsync(id))
                    .Select(c => JsonSerializer.Deserialize<Change>(c, JsonSerializerOptions.Web)!.Account)
                    .Distinct()
                    .ToList();
                if (keys.Count == 0)
                    throw Problem.Conflict("no-password", "This request set no password, or not yet; there is nothing to hand over.");
                user.RequireTargets([.. keys.Select(k => k.Target).Distinct()], Roles.Operator);
                var (person, users) = ((await s.PersonAsync(row.PersonId))!, await s.UsersAsync());
                var accounts = await s.AccountsAsync([row.PersonId]);
                await s.EndHandoversAsync(id, time.Milliseconds());
                var receivers = new List<string>();
                foreach (var key in keys)
                {
                    if (accounts.FirstOrDefault(a => Recorded.KeyOf(a) == key) is not { } account)
                        continue;
                    if (await SendAsync(s, person, row, key, account.Name, users) is { } receiver)
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
            throw Problem.Conflict("link-over", "This link is over. Ask an operator for another ('oikonom requests new-link').");
        var person = await s.PersonAsync(row.PersonId);
        var account = (await s.AccountsAsync([row.PersonId])).FirstOrDefault(a => a.Target == row.Target && a.Slot == row.Slot);
        return person is null || account is null
            ? throw Problem.NotFound("account behind this link", "It may have been removed.")
            : (row, person.Display, account);
    }

    private static Problem Used() =>
        Problem.Conflict("link-used", "This link was used before. Ask an operator for another ('oikonom requests new-link').");
}
