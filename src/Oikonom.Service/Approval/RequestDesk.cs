using System.Security.Claims;
using System.Text.Json;
using Oikonom.Core.Approval;
using Oikonom.Core.Ledger;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Service.Intake;
using Oikonom.Service.Notices;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <summary>An approval: of the whole plan that was shown, of some items, or of all but some.</summary>
/// <param name="Items">The items approved where each is decided on its own; null means all that are the actor's.</param>
/// <param name="Without">Items to strike from the plan; the rest is approved.</param>
public sealed record Approval(
    string Digest,
    string? Remark = null,
    IReadOnlyList<string>? Items = null,
    IReadOnlyList<string>? Without = null
);

/// <summary>Decisions of people on requests. Each is one transaction, and bound to the plan that was shown.</summary>
public sealed partial class RequestDesk(Store.Store store, EditionBook editions, StageEntry stages, Notifier notices, TimeProvider time)
    : IOpenRequests
{
    private const int MaxRemark = 2000;

    private static string Text(string? text, string field, string missing)
    {
        if (string.IsNullOrWhiteSpace(text))
            throw Problem.Invalid(missing, field);
        Check(text);
        return text.Trim();
    }

    private static void Check(string? remark)
    {
        if (remark?.Length > MaxRemark)
            throw Problem.Invalid($"A remark has {MaxRemark} characters at most.", "remark");
    }

    public Task ApproveAsync(string id, ClaimsPrincipal user, Approval approval, CancellationToken cancel)
    {
        Check(approval.Remark);
        return store.WriteAsync(
            async s =>
            {
                if ((await RequireAsync(s, id)).Batch is { Length: > 0 } batch && (await MineOfAsync(s, batch, user, cancel)).Count > 1)
                    throw new RefusedMove(
                        "whole-file",
                        "It was asked for in a file that is decided as a whole: choose all of its requests in the inbox, look "
                            + "at what they bring together, and decide on them at once."
                    );
                await ApproveAsync(s, id, user, approval, cancel);
            },
            cancel
        );
    }

    /// <summary>The requests of a file that the user may decide now.</summary>
    public async Task<IReadOnlyList<string>> MineOfAsync(Session s, string batch, ClaimsPrincipal user, CancellationToken cancel)
    {
        var mine = new List<string>();
        foreach (var row in await s.DecidingOfBatchAsync(batch))
        {
            var of = await Case.LoadAsync(s, row, await editions.GetAsync(row.Edition, cancel), time.GetUtcNow());
            try
            {
                of.RequireVotes(of.PartyOf(user), time.GetUtcNow());
                mine.Add(row.Id);
            }
            catch (RefusedMove)
            {
                // Somebody else's: they decide on their part of the file.
            }
        }
        return mine;
    }

    /// <summary>Approves inside a decision, so that many can be approved as one.</summary>
    public async Task ApproveAsync(Session s, string id, ClaimsPrincipal user, Approval approval, CancellationToken cancel)
    {
        var of = await LoadAsync(s, id, cancel);
        RequireState(of, RequestState.Deciding, RequestEvent.Approve);
        var mine = of.RequireVotes(of.PartyOf(user), time.GetUtcNow());
        RequireDigest(of.Row, approval.Digest);
        if (approval.Items is { Count: > 0 } items)
        {
            if (items.FirstOrDefault(i => !mine.Any(m => m.Ballot.Item == i)) is { } foreign)
                throw Problem.Invalid($"'{foreign}' is no item that is yours to decide here.", "items");
            mine = [.. mine.Where(m => items.Contains(m.Ballot.Item))];
        }
        var without = approval.Without ?? [];
        if (without.Count > 0)
            RequireStrikable(of, without);
        var kept = of.Items.Where(i => !without.Contains(i.Key) && !without.Contains(i.Account)).ToList();
        if (kept.Count == 0 && of.Items.Count > 0)
            throw Problem.Invalid("Nothing would be left to approve; decline the request instead.", "without");
        if (await Seats.NoneLeftAsync(s, of.Plan, of.Edition.Rulebook, of.Row.PersonId, without) is [var none, ..])
            throw new RefusedMove("none-left", none);
        foreach (var (ballot, behalf) in mine.Where(m => m.Ballot.Item.Length == 0 || kept.Exists(i => i.Key == m.Ballot.Item)))
            await VoteAsync(
                s,
                of,
                user,
                ballot,
                behalf,
                "approved",
                approval.Remark ?? "",
                Standing.CoverOf(ballot.Item, kept, of.Plan.Inputs)
            );
        if (without.Count > 0)
            await StrikeAsync(s, of, user, without, approval.Remark ?? "approved without it");
        else
            await stages.EnterAsync(s, of, RequestEvent.Approve);
        if (of.Row.State == RequestState.Releasing)
            notices.ToRequester(s, of, NoticeEvents.Approved, []);
        await SaveAsync(s, of.Row);
    }

    public Task DeclineAsync(string id, ClaimsPrincipal user, string? reason, IReadOnlyList<string>? items, CancellationToken cancel)
    {
        var why = Text(reason, "reason", "Say why: a decline needs a reason.");
        return store.WriteAsync(
            async s =>
            {
                // A file that is decided as a whole is declined as one.
                var batch = (await RequireAsync(s, id)).Batch;
                foreach (var other in batch.Length == 0 ? [] : (await MineOfAsync(s, batch, user, cancel)).Where(m => m != id))
                    await DeclineAsync(s, other, user, why, null, cancel);
                await DeclineAsync(s, id, user, why, batch.Length == 0 ? items : null, cancel);
            },
            cancel
        );
    }

    private async Task DeclineAsync(
        Session s,
        string id,
        ClaimsPrincipal user,
        string why,
        IReadOnlyList<string>? items,
        CancellationToken cancel
    )
    {
        var of = await LoadAsync(s, id, cancel);
        if (of.Row.State != RequestState.Asked)
            RequireState(of, RequestState.Deciding, RequestEvent.Decline);
        var mine = of.RequireVotes(of.PartyOf(user), time.GetUtcNow());
        // Where each item is decided on its own, a decline is of those that are the actor's.
        var struck = items ?? (of.Stage is { PerItem: true } ? [.. mine.Select(m => m.Ballot.Item)] : []);
        if (struck.Count > 0 && of.Items.Any(i => !struck.Contains(i.Key) && !struck.Contains(i.Account)))
        {
            RequireStrikable(of, struck);
            await StrikeAsync(s, of, user, struck, why);
            await SaveAsync(s, of.Row);
            return;
        }
        await VoteAsync(s, of, user, mine[0].Ballot, mine[0].For, "declined", why, new Dictionary<string, string>());
        await stages.EnterAsync(s, of, RequestEvent.Decline);
        notices.ToRequester(s, of, NoticeEvents.Declined, new() { ["by"] = user.UserName(), ["text"] = why });
        await SaveAsync(s, of.Row);
    }

    /// <summary>Declines by the rule when nobody decided in time.</summary>
    public async Task DeclineBySilenceAsync(Session s, Case of)
    {
        await s.AddDecisionAsync(
            new()
            {
                RequestId = of.Row.Id,
                Stage = of.Stage?.Name ?? "",
                StageTitle = of.Row.StageTitle,
                Actor = "oikonom",
                Verdict = "declined",
                Remark = "nobody decided in time",
                Digest = of.Row.PlanDigest ?? "",
                Round = of.Row.Round,
                At = time.Milliseconds(),
            }
        );
        s.Record(
            LedgerEntry.Of(
                time.GetUtcNow(),
                "oikonom",
                "request.declined",
                of.Row.PersonId,
                of.Row.Id,
                ("stage", of.Row.StageTitle),
                ("remark", "nobody decided in time")
            )
        );
        await stages.EnterAsync(s, of, RequestEvent.Decline);
        notices.ToRequester(s, of, NoticeEvents.Declined, new() { ["by"] = "the rulebook", ["text"] = "nobody decided in time" });
        await SaveAsync(s, of.Row);
    }

    /// <summary>Approves by the rule when nobody decided in time and the workflow says so.</summary>
    public async Task ApproveBySilenceAsync(Session s, Case of)
    {
        foreach (var ballot in of.StillOpen())
        {
            var covers = Standing.CoverOf(ballot.Item, of.Items, of.Plan.Inputs);
            for (var i = 0; i < ballot.Needed; i++)
            {
                var name = $"silence-{i + 1}";
                await s.AddDecisionAsync(
                    new()
                    {
                        RequestId = of.Row.Id,
                        Stage = ballot.Stage,
                        StageTitle = of.Row.StageTitle,
                        Item = ballot.Item,
                        Actor = name,
                        Verdict = "approved",
                        Remark = "by silence, as the workflow says",
                        Digest = of.Row.PlanDigest ?? "",
                        Covers = JsonSerializer.Serialize(covers),
                        Round = of.Row.Round,
                        At = time.Milliseconds(),
                    }
                );
                of.Add(of.VoteOf(ballot.Stage, ballot.Item, name, name, covers));
            }
        }
        s.Record(
            LedgerEntry.Of(
                time.GetUtcNow(),
                "oikonom",
                "request.approved",
                of.Row.PersonId,
                of.Row.Id,
                ("stage", of.Row.StageTitle),
                ("remark", "by silence, as the workflow says"),
                ("digest", of.Row.PlanDigest)
            )
        );
        await stages.EnterAsync(s, of, RequestEvent.Approve);
        await SaveAsync(s, of.Row);
    }

    private async Task VoteAsync(
        Session s,
        Case of,
        ClaimsPrincipal user,
        Ballot ballot,
        string behalf,
        string verdict,
        string remark,
        IReadOnlyDictionary<string, string> covers
    )
    {
        var actor = user.UserName();
        var other = behalf == actor ? "" : behalf;
        await s.AddDecisionAsync(
            new()
            {
                RequestId = of.Row.Id,
                Stage = ballot.Stage,
                StageTitle = of.Row.StageTitle,
                Item = ballot.Item,
                Actor = actor,
                OnBehalf = other,
                Verdict = verdict,
                Remark = remark,
                Digest = of.Row.PlanDigest ?? "",
                Covers = JsonSerializer.Serialize(covers),
                Round = of.Row.Round,
                At = time.Milliseconds(),
            }
        );
        s.Record(
            LedgerEntry.Of(
                time.GetUtcNow(),
                actor,
                $"request.{verdict}",
                of.Row.PersonId,
                of.Row.Id,
                ("stage", of.Row.StageTitle),
                ("item", ballot.Item.Length > 0 ? ballot.Item : null),
                ("as", ballot.Deciders.Why),
                ("for", other.Length > 0 ? other : null),
                ("digest", of.Row.PlanDigest),
                ("remark", remark.Length > 0 ? remark : null)
            )
        );
        if (verdict == "approved")
            of.Add(of.VoteOf(ballot.Stage, ballot.Item, actor, behalf, covers));
    }

    private static void RequireStrikable(Case of, IReadOnlyList<string> keys)
    {
        if (of.Stage is { InPart: false, PerItem: false })
            throw Problem.Conflict(
                "whole-only",
                $"The stage “{of.Row.StageTitle}” decides on the request as a whole; the workflow lets nobody decline parts of it."
            );
        foreach (var key in keys)
        {
            var item =
                of.Items.FirstOrDefault(i => i.Key == key)
                ?? throw Problem.Invalid(
                    $"'{key}' is no item of this plan; they are {string.Join(", ", of.Items.Select(i => i.Key))}.",
                    "items"
                );
            if (!item.CanBeStruck)
                throw Problem.Conflict(
                    "cannot-be-struck",
                    $"'{key}' takes something away or changes it; it can only be declined with the whole request."
                );
        }
    }

    private async Task StrikeAsync(Session s, Case of, ClaimsPrincipal user, IReadOnlyList<string> keys, string why)
    {
        var wish = of.Wish with { Struck = [.. of.Wish.Struck.Union(keys)] };
        of.Row.Wish = wish.ToJson();
        foreach (var key in keys)
            await s.AddDecisionAsync(
                new()
                {
                    RequestId = of.Row.Id,
                    Stage = of.Stage?.Name ?? "",
                    StageTitle = of.Row.StageTitle,
                    Item = key,
                    Actor = user.UserName(),
                    Verdict = "struck",
                    Remark = why,
                    Digest = of.Row.PlanDigest ?? "",
                    Round = of.Row.Round,
                    At = time.Milliseconds(),
                }
            );
        s.Record(
            LedgerEntry.Of(
                time.GetUtcNow(),
                user.UserName(),
                "request.struck",
                of.Row.PersonId,
                of.Row.Id,
                ("items", keys),
                ("remark", why)
            )
        );
        await ReplanAsync(s, of.Row, $"{user.UserName()} declined {string.Join(", ", keys)}", save: false);
    }

    public static Deciders DecidersOf(RequestRow row) =>
        new(
            row.Deciders.Split('|', StringSplitOptions.RemoveEmptyEntries),
            row.DeciderRole.Length > 0 ? row.DeciderRole : null,
            row.DeciderWhy
        );

    private async Task<Case> LoadAsync(Session s, string id, CancellationToken cancel)
    {
        var row = await RequireAsync(s, id);
        return await Case.LoadAsync(s, row, await editions.GetAsync(row.Edition, cancel), time.GetUtcNow());
    }

    private RequestRow Touched(RequestRow row)
    {
        row.UpdatedAt = Math.Max(time.Milliseconds(), row.UpdatedAt + 1);
        return row;
    }

    private static async Task<RequestRow> RequireAsync(Session s, string id) =>
        await s.RequestAsync(id, forUpdate: true) ?? throw Named.NoRequest(id);

    private static async Task SaveAsync(Session s, RequestRow row)
    {
        if (!await s.SaveRequestAsync(row))
            throw Problem.Conflict("changed-meanwhile", "The request changed at the same moment. Look at it again.");
    }

    /// <exception cref="RefusedMove">It is in another state; the machine says best why nothing can be done.</exception>
    private static void RequireState(Case of, RequestState state, RequestEvent what)
    {
        if (of.Row.State != state)
            RequireMove(of, what);
    }

    /// <exception cref="RefusedMove">The event is not possible in the state it is in.</exception>
    private static void RequireMove(Case of, RequestEvent what) =>
        RequestMachine.Next(of.Row.State, what, (int)of.Row.Stage, of.Stages.Count, true);

    private static void RequireDigest(RequestRow row, string digest)
    {
        if (row.PlanDigest != digest)
            throw Problem.Conflict(
                "plan-changed",
                "The plan is not the one you were shown. Look at it again, then decide.",
                ("planDigest", row.PlanDigest ?? "")
            );
    }
}
