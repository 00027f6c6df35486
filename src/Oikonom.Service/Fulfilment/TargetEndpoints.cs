using System.Security.Claims;
using System.Security.Cryptography;
using Oikonom.Contracts;
using Oikonom.Core.Ledger;
using Oikonom.Core.Planning;
using Oikonom.Service.Access;
using Oikonom.Service.Hosting;
using Oikonom.Service.Rulebook;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

public static class TargetEndpoints
{

    public static void MapTargets(this RouteGroupBuilder api)
    {
        api.MapGet("/targets", ListAsync).WithName("listTargets").WithSummary("The targets of the rulebook, with what waits and what fails.").RequireAuthorization("read");

        api.MapPost("/targets/{name}/check", async (string name, EditionBook editions, ConnectorBook connectors, ClaimsPrincipal user, CancellationToken cancel) =>
        {
            user.RequireTargets([name], Roles.Operator, Roles.Engineer);
            var edition = await editions.CurrentAsync(cancel);
            if (!edition.Rulebook.Targets.ContainsKey(name)) throw Problem.NotFound($"target '{name}'", $"The rulebook has: {string.Join(", ", edition.Rulebook.Targets.Keys)}.");
            var health = await connectors.For(edition, name).CheckAsync(cancel);
            return new TargetCheck(name, health.Reachable, health.Message, health.Server, health.Milliseconds);
        }).WithName("checkTarget").WithSummary("Signs in to the target and looks whether all it needs is there.").RequireAuthorization("targets");

        api.MapGet("/handovers/{token}", async (string token, Store.Store store, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel) =>
        {
            var (row, person, account) = await OpenAsync(token, store, time, user, cancel);
            return new Handover(person, account.Name, row.Target, row.ExpiresAt.ToInstant());
        }).WithName("getHandover").WithSummary("What a one-time link is for; it is not used up.").RequireAuthorization("receive");

        api.MapPost("/handovers/{token}", async (string token, Store.Store store, EditionBook editions, ConnectorBook connectors, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel) =>
        {
            var (row, person, account) = await OpenAsync(token, store, time, user, cancel);
            var edition = await editions.CurrentAsync(cancel);
            var target = edition.Rulebook.Targets.GetValueOrDefault(row.Target) ?? throw Problem.NotFound($"target '{row.Target}'", "The rulebook no longer has it.");
            await store.WriteAsync(async s =>
            {
                if (!await s.UseHandoverAsync(row.Id, time.Milliseconds())) throw Used();
                s.Record(LedgerEntry.Of(time.GetUtcNow(), user.UserName(), "password.handed-over", row.PersonId, row.RequestId, ("target", row.Target), ("account", account.Name)));
            }, cancel);
            var password = Passwords.Make(target.Password, RandomNumberGenerator.GetInt32);
            await connectors.For(edition, row.Target).SetPasswordAsync(account.ImmutableId, password, cancel);
            return new HandedOver(person, account.Name, row.Target, password);
        }).WithName("openHandover").WithSummary("Makes a first password, sets it, and shows it once. It is kept nowhere.").RequireAuthorization("receive");
    }

    private static Problem Used() => Problem.Conflict("link-used", "This link was used before. Ask an operator for another.");

    private static async Task<(HandoverRow Row, string Person, AccountRow Account)> OpenAsync(string token, Store.Store store, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel) => await store.ReadAsync(async s =>
    {
        var row = await s.HandoverAsync(Accounts.HashToken(token));
        // To anyone but the receiver the link does not exist.
        if (row is null || row.Receiver != user.UserName()) throw Problem.NotFound("such link for you", "Open it as the person it was sent to.");
        if (row.UsedAt is not null) throw Used();
        if (row.ExpiresAt <= time.Milliseconds()) throw Problem.Conflict("link-over", "This link is over. Ask an operator for another.");
        var person = await s.PersonAsync(row.PersonId);
        var account = (await s.AccountsAsync([row.PersonId])).FirstOrDefault(a => a.Target == row.Target);
        return person is null || account is null ? throw Problem.NotFound("account behind this link", "It may have been removed.") : (row, person.Display, account);
    }, cancel);

    public static async Task<Page<TargetSummary>> ListAsync(EditionBook editions, Store.Store store, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        var items = new List<TargetSummary>();
        foreach (var target in edition.Rulebook.Targets.Values)
        {
            var counts = await store.ReadAsync(s => s.TargetCountsAsync(target.Name), cancel);
            items.Add(new(target.Name, target.Title, target.Desk is null ? "ldap" : "desk", target.Desk is null ? target.Address.ToString().TrimEnd('/') : $"people with the role {target.Desk.Role}", target.Desk is null ? target.StartTls ? "StartTLS" : "TLS" : "none", (int)counts.Accounts, (int)counts.Waiting, (int)counts.Failing, counts.Problem));
        }
        return new(items, null);
    }
}
