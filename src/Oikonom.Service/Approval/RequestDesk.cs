using System.Security.Claims;
using System.Text.Json;
using Oikonom.Core.Approval;
using Oikonom.Core.Ledger;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Hosting;
using Oikonom.Service.Notices;
using Oikonom.Service.Rulebook;
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
public sealed class RequestDesk(Store.Store store, EditionBook editions, StageEntry stages, Notifier notices, TimeProvider time)
    : Intake.IOpenRequests
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

    /// <summary>An approver asks back: the clock stops until the requester answers.</summary>
    public Task AskAsync(string id, ClaimsPrincipal user, string? question, CancellationToken cancel)
    {
        var text = Text(question, "text", "Write the question.");
        return store.WriteAsync(
            async s =>
            {
                var of = await LoadAsync(s, id, cancel);
                RequireMove(of, RequestEvent.AskBack);
                of.RequireVotes(of.PartyOf(user), time.GetUtcNow());
                of.Row.Move(RequestEvent.AskBack, (int)of.Row.Stage, of.Stages.Count);
                var clock = StageClock.FromJson(of.Row.Clock) with { Stopped = time.Milliseconds() };
                (of.Row.Clock, of.Row.ClockAt) = (clock.ToJson(), null);
                await RemarkAsync(s, of, user, "asked", text);
                notices.ToRequester(s, of, NoticeEvents.Asked, new() { ["by"] = user.UserName(), ["text"] = text });
                await SaveAsync(s, Touched(of.Row));
            },
            cancel
        );
    }

    /// <summary>The requester answers; the decision goes on where it stood, with the time that was left.</summary>
    public Task AnswerAsync(string id, ClaimsPrincipal user, string? answer, CancellationToken cancel)
    {
        var text = Text(answer, "text", "Write the answer.");
        return store.WriteAsync(
            async s =>
            {
                var of = await LoadAsync(s, id, cancel);
                if (of.Row is { State: RequestState.Asked, Stage: RequestMachine.BeforeThePlan })
                    throw Problem.Conflict("fields-open", "Fill in what is asked for; the plan is made of it.");
                RequireMove(of, RequestEvent.Answer);
                if (!IsRequesters(of, user))
                    throw new RefusedMove("not-yours", $"The question goes to the requester, {of.Row.Requester}.");
                of.Row.Move(RequestEvent.Answer, (int)of.Row.Stage, of.Stages.Count);
                var clock = StageClock.FromJson(of.Row.Clock);
                var rested = time.Milliseconds() - (clock.Stopped ?? time.Milliseconds());
                clock = clock with { Deadline = clock.Deadline + rested, Remind = clock.Remind + rested, Stopped = null };
                (of.Row.Clock, of.Row.ClockAt) = (clock.ToJson(), clock.Next);
                await RemarkAsync(s, of, user, "answered", text);
                foreach (var decider in of.Deciding(of.StillOpen()))
                    notices.To(s, of, decider, NoticeEvents.Answered, new() { ["by"] = user.UserName(), ["text"] = text });
                await SaveAsync(s, Touched(of.Row));
            },
            cancel
        );
    }

    public Task CommentAsync(string id, ClaimsPrincipal user, string? comment, CancellationToken cancel)
    {
        var text = Text(comment, "text", "Write the comment.");
        return store.WriteAsync(
            async s =>
            {
                var of = await LoadAsync(s, id, cancel);
                user.RequireReach(of.Person.Site, of.Person.Department);
                await RemarkAsync(s, of, user, "commented", text);
                s.Tell("requests", id);
            },
            cancel
        );
    }

    private async Task RemarkAsync(Session s, Case of, ClaimsPrincipal user, string verdict, string text)
    {
        await s.AddDecisionAsync(
            new()
            {
                RequestId = of.Row.Id,
                Stage = of.Stage?.Name ?? "",
                StageTitle = of.Row.StageTitle,
                Actor = user.UserName(),
                Verdict = verdict,
                Remark = text,
                Digest = of.Row.PlanDigest ?? "",
                Round = of.Row.Round,
                At = time.Milliseconds(),
            }
        );
        s.Record(LedgerEntry.Of(time.GetUtcNow(), user.UserName(), $"request.{verdict}", of.Row.PersonId, of.Row.Id, ("text", text)));
        s.Tell("requests", of.Row.Id);
    }

    /// <summary>True when a request is the caller's: raised by them, or by a feed that nobody stands behind.</summary>
    public static bool IsRequesters(Case of, ClaimsPrincipal user) =>
        of.Row.Requester == user.UserName() || (of.User(of.Row.Requester) is null && user.RoleNames().Contains(Roles.Requester));

    public Task WithdrawAsync(string id, ClaimsPrincipal user, string? reason, CancellationToken cancel)
    {
        Check(reason);
        return store.WriteAsync(
            async s =>
            {
                var of = await LoadAsync(s, id, cancel);
                RequireMove(of, RequestEvent.Withdraw);
                if (!IsRequesters(of, user) && !user.RoleNames().Contains(Roles.Engineer))
                    throw new RefusedMove("not-yours", $"Only the requester, {of.Row.Requester}, or an engineer takes a request back.");
                await RemarkAsync(s, of, user, "withdrawn", reason ?? "");
                await stages.EnterAsync(s, of, RequestEvent.Withdraw);
                await SaveAsync(s, of.Row);
            },
            cancel
        );
    }

    /// <summary>Changes what was asked for, or what the stage lets an approver change; the plan is made anew.</summary>
    public Task ChangeAsync(
        string id,
        ClaimsPrincipal user,
        string digest,
        Func<Wish, Wish> change,
        Func<Wish, Wish, IReadOnlyList<string>> touched,
        CancellationToken cancel
    ) =>
        store.WriteAsync(
            async s =>
            {
                var of = await LoadAsync(s, id, cancel);
                RequireMove(of, RequestEvent.Replan);
                if (of.Row.State == RequestState.Fulfilling)
                    throw new RefusedMove("wrong-state", "The request is being carried out; raise another one to change it.");
                RequireDigest(of.Row, digest);
                var wish = change(of.Wish);
                var fields = touched(of.Wish, wish);
                if (fields.Count == 0)
                    throw Problem.Conflict("unchanged", "Nothing would change.");
                var asked =
                    of.Row.State == RequestState.Asked && IsRequesters(of, user)
                        ? of
                            .Edition.Rulebook.Access.Ask()
                            .Asks(new(Core.People.PersonId.Parse(of.Person.Id), of.About.Facts, new Dictionary<AccountKey, string>()))
                        : [];
                if ((!IsRequesters(of, user) || of.Row.Source != Workflow.ByHand) && !fields.All(asked.Contains))
                {
                    if (of.Stage is not { } stage)
                        throw new RefusedMove(
                            "not-yours",
                            "Only its approvers, while they decide, change a request that they did not raise."
                        );
                    of.RequireVotes(of.PartyOf(user), time.GetUtcNow());
                    if (fields.FirstOrDefault(f => !stage.MayChange.Contains(f)) is { } forbidden)
                    {
                        var may = stage.MayChange.Count > 0 ? $"; it may change {string.Join(", ", stage.MayChange)}" : "";
                        throw new RefusedMove("not-yours", $"The workflow does not let this stage change '{forbidden}'{may}.");
                    }
                }
                of.Row.Wish = wish.ToJson();
                await RemarkAsync(s, of, user, "changed", string.Join(", ", fields));
                await ReplanAsync(s, of.Row, $"{user.UserName()} changed {string.Join(", ", fields)}");
            },
            cancel
        );

    public Task ReleaseAsync(string id, ClaimsPrincipal user, string digest, CancellationToken cancel) =>
        store.WriteAsync(s => ReleaseAsync(s, id, user, digest, cancel), cancel);

    /// <summary>Releases inside a decision, so that many can be released as one.</summary>
    public async Task ReleaseAsync(Session s, string id, ClaimsPrincipal user, string digest, CancellationToken cancel)
    {
        var of = await LoadAsync(s, id, cancel);
        RequireReleaser(of, user, RequestEvent.Release);
        if (of.Row.Held.Length > 0)
            throw new RefusedMove("held", $"It is held: {of.Row.Held} Let it go on first.");
        if (
            of.Workflow.FourEyes
            && of.Decisions.Any(d =>
                d.Verdict == "approved" && d.Round == of.Row.Round && of.PersonOf(d.Actor) == of.PersonOf(user.UserName())
            )
        )
            throw new RefusedMove("own-request", "You approved this request; the workflow wants somebody else to release it.");
        RequireDigest(of.Row, digest);
        s.Record(LedgerEntry.Of(time.GetUtcNow(), user.UserName(), "request.released", of.Row.PersonId, id, ("digest", of.Row.PlanDigest)));
        await s.AddDecisionAsync(
            new()
            {
                RequestId = id,
                StageTitle = "Release",
                Actor = user.UserName(),
                Verdict = "released",
                Digest = of.Row.PlanDigest ?? "",
                Round = of.Row.Round,
                At = time.Milliseconds(),
            }
        );
        await stages.EnterAsync(s, of, RequestEvent.Release);
        await SaveAsync(s, of.Row);
    }

    private static void RequireReleaser(Case of, ClaimsPrincipal user, RequestEvent what)
    {
        RequireState(of, RequestState.Releasing, what);
        var party = of.PartyOf(user);
        if (party.IsBeneficiary(of.About))
            throw new RefusedMove("own-request", "This request is for yourself; somebody else releases it.");
        var deciders = DecidersOf(of.Row);
        if (deciders.Includes(party, of.About))
            return;
        var elsewhere = party.Roles.Contains(deciders.Role ?? "") ? ", in another part of the organisation than yours" : "";
        throw new RefusedMove("not-yours", $"The release belongs to {deciders.Why}{elsewhere}.");
    }

    public Task HoldAsync(string id, ClaimsPrincipal user, string? reason, bool hold, CancellationToken cancel)
    {
        var why = hold ? Text(reason, "reason", "Say why it is held.") : "";
        return store.WriteAsync(
            async s =>
            {
                var of = await LoadAsync(s, id, cancel);
                RequireReleaser(of, user, RequestEvent.Release);
                if (hold == of.Row.Held.Length > 0)
                    throw new RefusedMove("wrong-state", hold ? "It is held already." : "It is not held.");
                of.Row.Held = why;
                await RemarkAsync(s, of, user, hold ? "held" : "resumed", why);
                await SaveAsync(s, Touched(of.Row));
            },
            cancel
        );
    }

    /// <summary>The operator sends it back: all approvals are asked for again.</summary>
    public Task ReturnAsync(string id, ClaimsPrincipal user, string? reason, CancellationToken cancel)
    {
        var why = Text(reason, "reason", "Say why it goes back.");
        return store.WriteAsync(
            async s =>
            {
                var loaded = await LoadAsync(s, id, cancel);
                RequireReleaser(loaded, user, RequestEvent.Return);
                await RemarkAsync(s, loaded, user, "returned", why);
                loaded.Row.Round++;
                loaded.Row.Held = "";
                var of = await Case.LoadAsync(s, loaded.Row, loaded.Edition, time.GetUtcNow());
                await stages.EnterAsync(s, of, RequestEvent.Return);
                if (of.Row.State == RequestState.Planning)
                    of.Row.DueAt = time.Milliseconds();
                await SaveAsync(s, of.Row);
            },
            cancel
        );
    }

    public Task ChooseAsync(string id, ClaimsPrincipal user, string target, string immutableId, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                var of = await LoadAsync(s, id, cancel);
                var row = of.Row;
                user.RequireReach(row.Site, row.Department, Roles.Operator);
                user.RequireTargets([target], Roles.Operator);
                if (of.PartyOf(user).IsBeneficiary(of.About))
                    throw new RefusedMove("own-request", "This request is for yourself; somebody else says which entry is yours.");
                RequireMove(of, RequestEvent.Chosen);
                var candidates = JsonSerializer.Deserialize<List<ExistingAccount>>(row.Candidates) ?? [];
                if (!candidates.Exists(c => c.Target == target && c.ImmutableId == immutableId))
                    throw Problem.Invalid("That entry is not one of those shown.", "immutableId");
                var chosen = JsonSerializer.Deserialize<Dictionary<string, string>>(row.Chosen) ?? [];
                chosen[target] = immutableId;
                row.Chosen = JsonSerializer.Serialize(chosen);
                row.Move(RequestEvent.Chosen);
                s.Record(
                    LedgerEntry.Of(
                        time.GetUtcNow(),
                        user.UserName(),
                        "request.chosen",
                        row.PersonId,
                        id,
                        ("target", target),
                        ("immutableId", immutableId)
                    )
                );
                await PlanAnewAsync(s, row);
            },
            cancel
        );

    /// <summary>Lets stopped steps and a waiting plan try again at once.</summary>
    public Task RetryAsync(string id, ClaimsPrincipal user, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                var row = await RequireAsync(s, id);
                user.RequireReach(row.Site, row.Department, Roles.Operator);
                if (row.Plan is { } plan)
                    user.RequireTargets([.. Plan.FromJson(plan).Changes.Select(c => c.Target).Distinct()], Roles.Operator);
                if (row.State is not (RequestState.Planning or RequestState.Fulfilling or RequestState.Completed))
                    throw new RefusedMove(
                        "wrong-state",
                        $"The request is {RequestMachine.Name(row.State)}; there is nothing to try again."
                    );
                s.Record(LedgerEntry.Of(time.GetUtcNow(), user.UserName(), "request.retried", row.PersonId, id));
                if (row.State == RequestState.Planning)
                    await PlanAnewAsync(s, row);
                else
                    await s.RetryAsync(id, time.Milliseconds());
                s.Tell("requests", id);
            },
            cancel
        );

    private async Task PlanAnewAsync(Session s, RequestRow row)
    {
        var now = time.Milliseconds();
        (row.DueAt, row.Attempts, row.LeaseUntil, row.LeaseOwner, row.SinceAt, row.UpdatedAt) = (now, 0, 0, "", now, now);
        await SaveAsync(s, row);
        s.Tell("requests", row.Id);
    }

    string Intake.IOpenRequests.WorkflowFor(Edition edition, string kind) => Case.DefaultFor(edition, kind).Name;

    Task Intake.IOpenRequests.ReplanAsync(Session session, RequestRow row, string why) => ReplanAsync(session, row, why);

    /// <summary>Sends a request back to planning, inside a decision: what it rests on changed. Approvals that it does not touch
    /// stay.</summary>
    public async Task ReplanAsync(Session s, RequestRow row, string why, bool save = true)
    {
        row.Move(RequestEvent.Replan);
        var now = time.Milliseconds();
        await s.DropPendingAsync(row.Id, $"planned anew: {why}", now);
        await s.DropTasksAsync(row.Id, $"planned anew: {why}", now);
        row.PlanBefore ??= row.Plan;
        (row.Problem, row.DueAt, row.Attempts, row.SinceAt, row.UpdatedAt) = ("", now, 0, now, Math.Max(now, row.UpdatedAt + 1));
        (row.StageTitle, row.Deciders, row.DeciderRole, row.DeciderWhy, row.Ballots, row.Clock, row.ClockAt, row.Late, row.Held) = (
            "",
            "",
            "",
            "",
            "[]",
            "{}",
            null,
            0,
            ""
        );
        if (save)
            await SaveAsync(s, row);
        s.Record(LedgerEntry.Of(time.GetUtcNow(), "oikonom", "request.planned-anew", row.PersonId, row.Id, ("why", why)));
        s.Tell("requests", row.Id);
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
        await s.RequestAsync(id, forUpdate: true) ?? throw People.Named.NoRequest(id);

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
