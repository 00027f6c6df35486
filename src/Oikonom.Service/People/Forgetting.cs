using System.Globalization;
using System.Security.Claims;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.People;

/// <summary>
/// Forgets what is held of people who left: by the rule of the rulebook, or on order, agreed to by a second person.
/// Decisions on powerful access are kept longer. The ledger keeps its entries, and every proof still verifies.
/// </summary>
public sealed class Forgetting(Store.Store store, EditionBook editions, TimeProvider time)
{
    private const int Ahead = 90;
    private const int MostShown = 1000;

    private DateOnly Today => DateOnly.FromDateTime(time.GetUtcNow().UtcDateTime);

    private static string Text(DateOnly day) => day.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture);

    /// <summary>Who is forgotten next, and what stops it.</summary>
    public async Task<RetentionView> NextAsync(CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        return await store.ReadAsync(
            async s =>
            {
                var holds = (await s.HoldsAsync(Text(Today))).ToLookup(h => h.PersonId);
                var entries = new List<RetentionEntry>();
                var kept = edition.Rulebook.Retention;
                if (kept is { } rule)
                {
                    var horizon = Today.AddDays(Ahead).AddMonths(-rule.Months).AddDays(1);
                    foreach (var row in await s.LeftBeforeAsync(Text(horizon), MostShown))
                    {
                        if (EndOf(row, edition) is not { } end)
                            continue;
                        entries.Add(
                            new(
                                row.Id,
                                row.Number,
                                row.Display,
                                end,
                                rule.KeptUntil(end).AddDays(1),
                                [.. await StopsAsync(s, row, edition, holds[row.Id].FirstOrDefault())]
                            )
                        );
                    }
                }
                var orders = new List<ForgetOrder>();
                foreach (var order in await s.OpenForgetOrdersAsync())
                    orders.Add(View(order, await s.PersonAsync(order.PersonId)));
                var held = new List<RetentionHold>();
                foreach (var hold in holds.SelectMany(h => h))
                    if (await s.PersonAsync(hold.PersonId) is { } person)
                        held.Add(
                            new(
                                hold.PersonId,
                                person.Number,
                                person.Display,
                                hold.Reason,
                                DateOnly.ParseExact(hold.UntilDay, "yyyy-MM-dd", CultureInfo.InvariantCulture),
                                hold.Actor,
                                hold.At.ToInstant()
                            )
                        );
                return new RetentionView(
                    kept is null ? null : RetentionRule.Text(kept.Months),
                    kept is null ? null : RetentionRule.Text(kept.Powerful),
                    [.. entries.OrderBy(e => e.On).ThenBy(e => e.Name, StringComparer.Ordinal)],
                    orders,
                    held
                );
            },
            cancel
        );
    }

    private static ForgetOrder View(ForgetOrderRow row, PersonRow? person) =>
        new(row.Id, row.PersonId, person?.Number ?? "", person?.Display ?? "", row.Reason, row.Actor, row.At.ToInstant());

    /// <summary>The last day of the last employment, or null while one has no end.</summary>
    private static DateOnly? EndOf(PersonRow row, Edition edition)
    {
        var employments = Facts
            .ListFromJson(row.Others, edition.Rulebook.Attributes)
            .Append(Facts.FromJson(row.Facts, edition.Rulebook.Attributes))
            .ToList();
        return employments.Exists(e => e.End is null) ? null : employments.Max(e => e.End);
    }

    /// <summary>Why somebody cannot be forgotten now.</summary>
    private async Task<IReadOnlyList<string>> StopsAsync(Session s, PersonRow row, Edition edition, HoldRow? hold)
    {
        var stops = new List<string>();
        var end = EndOf(row, edition);
        if (end is null)
            stops.Add("an employment has no end");
        else if (end >= Today)
            stops.Add($"an employment lasts until {Text(end.Value)}");
        if (hold is not null)
            stops.Add($"held until {hold.UntilDay}: {hold.Reason}");
        if (await s.AnyOpenRequestAsync(row.Id))
            stops.Add("a request is open, or changes are scheduled");
        if ((await s.AccountsAsync([row.Id])).FirstOrDefault(a => a.Enabled == 1) is { } account)
            stops.Add(
                $"the account {account.Name} in "
                    + $"{edition.Rulebook.Targets.GetValueOrDefault(account.Target)?.Title ?? account.Target} is enabled"
            );
        return stops;
    }

    public Task<RetentionHold> HoldAsync(string id, HoldBody body, ClaimsPrincipal user, CancellationToken cancel)
    {
        if (string.IsNullOrWhiteSpace(body.Reason) || body.Reason.Length > 500)
            throw Problem.Invalid("Say why, in 500 characters at most.", "reason");
        if (body.Until <= Today || body.Until > Today.AddYears(30))
            throw Problem.Invalid("Name the day on which the hold ends: after today, within 30 years.", "until");
        return store.WriteAsync(
            async s =>
            {
                var person = await s.RequirePersonAsync(id);
                var now = time.GetUtcNow();
                await s.EndHoldsAsync(person.Id, now.ToUnixTimeMilliseconds());
                await s.AddHoldAsync(
                    new()
                    {
                        Id = Guid.CreateVersion7(now).ToString(),
                        PersonId = person.Id,
                        Reason = body.Reason.Trim(),
                        UntilDay = Text(body.Until),
                        Actor = user.UserName(),
                        At = now.ToUnixTimeMilliseconds(),
                    }
                );
                s.Record(
                    LedgerEntry.Of(
                        now,
                        user.UserName(),
                        "person.held",
                        person.Id,
                        null,
                        ("reason", body.Reason.Trim()),
                        ("ends", Text(body.Until))
                    )
                );
                return new RetentionHold(person.Id, person.Number, person.Display, body.Reason.Trim(), body.Until, user.UserName(), now);
            },
            cancel
        );
    }

    public Task EndHoldAsync(string id, ClaimsPrincipal user, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                var person = await s.RequirePersonAsync(id);
                if (await s.EndHoldsAsync(person.Id, time.Milliseconds()) == 0)
                    throw Problem.Conflict("not-held", $"{person.Display} is not held.");
                s.Record(LedgerEntry.Of(time.GetUtcNow(), user.UserName(), "person.hold-ended", person.Id, null));
            },
            cancel
        );

    /// <summary>Orders that somebody be forgotten; another engineer or an auditor confirms it.</summary>
    public async Task<ForgetOrder> OrderAsync(string id, ForgetBody body, ClaimsPrincipal user, CancellationToken cancel)
    {
        if (string.IsNullOrWhiteSpace(body.Reason) || body.Reason.Length > 500)
            throw Problem.Invalid("Say why, in 500 characters at most.", "reason");
        var edition = await editions.CurrentAsync(cancel);
        return await store.WriteAsync(
            async s =>
            {
                var person = await s.RequirePersonAsync(id);
                if (await s.ForgottenAsync(person.Id) is not null)
                    throw Problem.Conflict("forgotten", "Nothing is held of this person any more.");
                await RequireFreeAsync(s, person, edition);
                if ((await s.OpenForgetOrdersAsync()).Any(o => o.PersonId == person.Id))
                    throw Problem.Conflict("ordered", "It is ordered already, and waits for a second person.");
                var row = new ForgetOrderRow
                {
                    Id = Guid.CreateVersion7(time.GetUtcNow()).ToString(),
                    PersonId = person.Id,
                    Reason = body.Reason.Trim(),
                    Actor = user.UserName(),
                    At = time.Milliseconds(),
                };
                await s.AddForgetOrderAsync(row);
                s.Record(
                    LedgerEntry.Of(
                        time.GetUtcNow(),
                        user.UserName(),
                        "person.forget-ordered",
                        person.Id,
                        null,
                        ("order", row.Id),
                        ("reason", row.Reason)
                    )
                );
                return View(row, person);
            },
            cancel
        );
    }

    public async Task<ForgetOrder> DecideAsync(string id, bool confirm, ClaimsPrincipal user, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        return await store.WriteAsync(
            async s =>
            {
                var order = await s.ForgetOrderAsync(id) is { State: "open" } found
                    ? found
                    : throw Problem.NotFound($"open order '{id}'", "See 'oikonom people retention'.");
                var person = await s.PersonAsync(order.PersonId) ?? throw Problem.NotFound("person of this order", "");
                if (confirm)
                {
                    await SecondPerson.RequireAsync(
                        s,
                        order.Actor,
                        user,
                        "own-order",
                        "You ordered this yourself; somebody else confirms it."
                    );
                    await RequireFreeAsync(s, person, edition);
                    await ForgetAsync(
                        s,
                        person,
                        edition,
                        $"order of {order.Actor}, confirmed by {user.UserName()}",
                        user.UserName(),
                        keepPowerful: true
                    );
                }
                await s.DecideForgetOrderAsync(id, confirm ? "done" : "declined", user.UserName(), time.Milliseconds());
                if (!confirm)
                    s.Record(LedgerEntry.Of(time.GetUtcNow(), user.UserName(), "person.forget-declined", person.Id, null, ("order", id)));
                return View(order, person);
            },
            cancel
        );
    }

    private async Task RequireFreeAsync(Session s, PersonRow person, Edition edition)
    {
        var hold = (await s.HoldsAsync(Text(Today))).FirstOrDefault(h => h.PersonId == person.Id);
        if (await StopsAsync(s, person, edition, hold) is { Count: > 0 } stops)
            throw Problem.Conflict("in-use", $"{person.Display} cannot be forgotten: {string.Join("; ", stops)}.");
    }

    /// <summary>Forgets those whose time has come. One person never holds up another.</summary>
    public async Task<int> RunAsync(CancellationToken cancel)
    {
        if (await editions.CurrentOrNullAsync(cancel) is not { Rulebook.Retention: { } rule } edition)
            return 0;
        var due = await store.ReadAsync(s => s.LeftBeforeAsync(Text(Today.AddMonths(-rule.Months)), MostShown), cancel);
        var count = 0;
        foreach (var row in due)
        {
            if (EndOf(row, edition) is not { } end || rule.KeptUntil(end) >= Today)
                continue;
            count += await store.WriteAsync(
                async s =>
                {
                    var hold = (await s.HoldsAsync(Text(Today))).FirstOrDefault(h => h.PersonId == row.Id);
                    if ((await StopsAsync(s, row, edition, hold)).Count > 0)
                        return 0;
                    await ForgetAsync(
                        s,
                        row,
                        edition,
                        RetentionRule.Text(rule.Months),
                        "oikonom",
                        keepPowerful: rule.PowerfulKeptUntil(end) >= Today
                    );
                    return 1;
                },
                cancel
            );
        }
        foreach (var id in await store.ReadAsync(s => s.KeptBeforeAsync(Text(Today), MostShown), cancel))
        {
            count += await store.WriteAsync(
                async s =>
                {
                    if ((await s.HoldsAsync(Text(Today))).Any(h => h.PersonId == id) || await s.PersonAsync(id) is not { } person)
                        return 0;
                    await ForgetAsync(s, person, edition, RetentionRule.Text(rule.Powerful), "oikonom", keepPowerful: false);
                    return 1;
                },
                cancel
            );
        }
        return count;
    }

    private async Task ForgetAsync(Session s, PersonRow person, Edition edition, string rule, string actor, bool keepPowerful)
    {
        var now = time.GetUtcNow();
        var kept = new List<string>();
        foreach (var (id, plan, number) in keepPowerful ? await s.PlansOfAsync(person.Id) : [])
        {
            if (
                plan is not null
                && Core.Approval.Items.Of(Plan.FromJson(plan), (await editions.GetAsync(number, CancellationToken.None)).Rulebook)
                    .Any(i => i.IsPrivileged)
            )
                kept.Add(id);
        }
        var until =
            kept.Count == 0 || edition.Rulebook.Retention is not { } retention
                ? ""
                : Text(retention.PowerfulKeptUntil(EndOf(person, edition) ?? Today));
        await s.ForgetAsync(person.Id, kept, person.Source, time.Milliseconds());
        await s.AddForgottenAsync(
            new()
            {
                PersonId = person.Id,
                At = now.ToUnixTimeMilliseconds(),
                Rule = rule,
                Actor = actor,
                KeptUntil = until,
            }
        );
        s.Record(
            LedgerEntry.Of(
                now,
                actor,
                "person.forgotten",
                person.Id,
                null,
                ("rule", rule),
                ("count", kept.Count),
                ("ends", until.Length > 0 ? until : null)
            )
        );
        s.Tell("people", person.Id);
    }

    /// <summary>All that is held of a person, for the person.</summary>
    public Task<JsonElement> DataAsync(string id, ClaimsPrincipal user, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                var person = await s.RequirePersonAsync(id);
                if (
                    !user.IsSelf(person)
                    && !(
                        (user.RoleNames().Contains(Roles.Engineer) || user.RoleNames().Contains(Roles.Auditor))
                        && user.ReachOf(Roles.Engineer, Roles.Auditor) is null
                    )
                )
                    throw new Problem(
                        403,
                        "not-yours",
                        "Not allowed",
                        "Everybody gets what is held of themselves; for somebody else an engineer or auditor whose role is not "
                            + "limited does."
                    );
                var all = await s.AllOfAsync(person.Id);
                s.Record(LedgerEntry.Of(time.GetUtcNow(), user.UserName(), "person.data-given", person.Id, null));
                return JsonSerializer.SerializeToElement(
                    new
                    {
                        person = person.Id,
                        number = person.Number,
                        name = person.Display,
                        at = LedgerEntry.Stamp(time.GetUtcNow()),
                        held = all,
                    },
                    JsonSerializerOptions.Web
                );
            },
            cancel
        );
}

/// <summary>Forgets by rule, once an hour; one node at a time.</summary>
public sealed class RetentionLoop(Store.Store store, Forgetting forgetting, TimeProvider time, Pulse pulse, ILogger<RetentionLoop> log)
    : Loop(TimeSpan.FromMinutes(10), pulse, log)
{
    private static readonly TimeSpan Every = TimeSpan.FromHours(1);
    protected override TimeSpan Patience => TimeSpan.FromMinutes(30);

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        var now = time.Milliseconds();
        if (
            await store.WriteAsync(
                s => s.TakeLeaseAsync("retention", Guid.NewGuid().ToString("N"), now, now + (long)Every.TotalMilliseconds),
                cancel
            )
        )
            await forgetting.RunAsync(cancel);
        return false;
    }
}

public static class ForgettingEndpoints
{
    public static void MapForgetting(this RouteGroupBuilder api)
    {
        api.MapGet("/retention", (Forgetting forgetting, CancellationToken cancel) => forgetting.NextAsync(cancel))
            .WithName("retention")
            .WithSummary("Who is forgotten within 90 days and what stops it, orders that wait, and holds.")
            .RequireAuthorization("audit")
            .Reaching(Reached.Everywhere);
        api.MapPost(
                "/people/{id}/hold",
                (string id, HoldBody body, Forgetting forgetting, ClaimsPrincipal user, CancellationToken cancel) =>
                    forgetting.HoldAsync(id, body, user, cancel)
            )
            .WithName("holdPerson")
            .WithSummary("Keeps what is held of a person until a day, with a reason.")
            .RequireAuthorization("audit")
            .Reaching(Reached.Everywhere);
        api.MapDelete(
                "/people/{id}/hold",
                async (string id, Forgetting forgetting, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    await forgetting.EndHoldAsync(id, user, cancel);
                    return TypedResults.NoContent();
                }
            )
            .WithName("endHold")
            .WithSummary("Ends a hold.")
            .RequireAuthorization("audit")
            .Reaching(Reached.Everywhere);
        api.MapPost(
                "/people/{id}/forget",
                (string id, ForgetBody body, Forgetting forgetting, ClaimsPrincipal user, CancellationToken cancel) =>
                    forgetting.OrderAsync(id, body, user, cancel)
            )
            .WithName("orderForgetting")
            .WithSummary("Orders that somebody who left be forgotten; a second person confirms it.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
        MapOrders(api);
    }

    private static void MapOrders(RouteGroupBuilder api)
    {
        api.MapPost(
                "/retention/orders/{id}/confirm",
                (string id, Forgetting forgetting, ClaimsPrincipal user, CancellationToken cancel) =>
                    forgetting.DecideAsync(id, true, user, cancel)
            )
            .WithName("confirmForgetting")
            .WithSummary("Confirms the order of somebody else: what is held of the person is forgotten now.")
            .RequireAuthorization("audit")
            .Reaching(Reached.Everywhere);
        api.MapPost(
                "/retention/orders/{id}/decline",
                (string id, Forgetting forgetting, ClaimsPrincipal user, CancellationToken cancel) =>
                    forgetting.DecideAsync(id, false, user, cancel)
            )
            .WithName("declineForgetting")
            .WithSummary("Declines an order.")
            .RequireAuthorization("audit")
            .Reaching(Reached.Everywhere);
        api.MapGet(
                "/people/{id}/data",
                (string id, Forgetting forgetting, ClaimsPrincipal user, CancellationToken cancel) => forgetting.DataAsync(id, user, cancel)
            )
            .WithName("personData")
            .WithSummary("All that is held of a person, table by table: for the person, or an engineer or auditor.")
            .RequireAuthorization("read")
            .Reaching(Reached.Person);
    }
}
