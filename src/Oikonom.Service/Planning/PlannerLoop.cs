using System.Text.Json;
using Oikonom.Core.Approval;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Intake;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;
using Oikonom.Service.Approval;
using Oikonom.Service.Common;
using Oikonom.Service.Connectors;
using Oikonom.Service.Editions;
using Oikonom.Service.Records;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Planning;

/// <summary>
/// Makes the plan of requests that need one: looks into the targets, settles names, and hands the request to
/// its workflow. A target that is away makes the request wait and say so.
/// </summary>
public sealed partial class PlannerLoop(
    Store.Store store,
    GroupCommit commits,
    Pressure pressure,
    EditionBook editions,
    ConnectorBook connectors,
    EntryFinder finder,
    StageEntry stages,
    ServiceOptions options,
    TimeProvider time,
    Pulse pulse,
    ILogger<PlannerLoop> log
) : Loop(TimeSpan.FromSeconds(1), pulse, log)
{
    private const int Batch = 32;
    private const int Parallel = 8;
    private long _lastBatch;

    /// <summary>How long a plan waits at most for steps of other requests that change the same subject; less where it is
    /// urgent.</summary>
    private static readonly TimeSpan Settling = TimeSpan.FromMinutes(1);
    private static readonly TimeSpan SettlingUrgent = TimeSpan.FromSeconds(2);

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        var now = time.Milliseconds();
        if (pressure.IsHigh && now - _lastBatch < 1000)
            return false;
        _lastBatch = now;
        if (!await store.ReadAsync(s => s.AnyPlanningAsync(now), cancel))
            return false;
        var claimed = await store.WriteAsync(
            s => s.ClaimPlanningAsync(options.Node, now, now + (long)(options.LeaseSeconds * 1000), Batch),
            cancel
        );
        await System.Threading.Tasks.Parallel.ForEachAsync(
            claimed,
            new ParallelOptions { MaxDegreeOfParallelism = Parallel, CancellationToken = cancel },
            async (id, token) => await PlanAsync(id, token)
        );
        return claimed.Count == Batch;
    }

    private async Task PlanAsync(string id, CancellationToken cancel)
    {
        var request = await store.ReadAsync(s => s.RequestAsync(id), cancel);
        if (request is not { State: RequestState.Planning })
            return;
        using var span = Telemetry.Begin("plan", request.Id);
        try
        {
            var wish = Wish.FromJson(request.Wish);
            if (request.SubjectKind == SubjectKind.Account)
            {
                await PlanAccountAsync(request, wish, cancel);
                return;
            }
            var on = (await store.ReadAsync(s => s.PersonAsync(request.PersonId), cancel))!.Edition;
            var choices = await RuleChoice.OfAsync(editions, request.Kind, wish, on, cancel);
            for (var i = 0; i < choices.Count; i++)
            {
                try
                {
                    await PlanAsync(request, wish, on, choices[i], cancel);
                    break;
                }
                catch (PlanFault) when (i + 1 < choices.Count)
                {
                    // What the person's own edition cannot do for them, a newer one may.
                }
            }
        }
        catch (Exception error) when (error is TargetFault or PlanFault or Problem)
        {
            await PostponeAsync(request, error.Message, cancel, error is TargetFault ? RequestViews.TargetAway : RequestViews.CannotPlan);
        }
        catch (Exception error) when (error is not OperationCanceledException && store.Engine.IsLasting(error))
        {
            // One request never blocks another: it waits, says so, and is tried again later.
            LogUnexpected(log, request.Number, error);
            await PostponeAsync(
                request,
                $"It cannot be planned for a reason inside Oikonom: {error.Message} An engineer finds more in the log.",
                cancel,
                "an engineer"
            );
        }
    }

    /// <summary>Plans a request about an account that belongs to nobody: no template is asked, and no name is settled.</summary>
    private async Task PlanAccountAsync(RequestRow request, Wish wish, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        var row = await store.ReadAsync(s => s.AccountAsync(request.SubjectId), cancel);
        if (row is not { PersonId: null })
            throw new PlanFault("The account belongs to somebody by now, or is gone. Withdraw the request.");
        if (edition.Rulebook.Targets.GetValueOrDefault(row.Target) is not { HasAccounts: true } target)
            throw new PlanFault($"The rulebook has no target '{row.Target}' any more. Withdraw the request.");
        if (await connectors.Accounts(edition, row.Target).ReadAsync(row.ImmutableId, cancel) is null)
            throw new PlanFault($"{target.Title} has no entry of {row.Name} any more; there is nothing to close. Withdraw the request.");
        var now = time.GetUtcNow();
        var readsBack = target.Settings.Can.HasFlag(TargetAbilities.ReadBack);
        var ending = SubjectRecord.Nobodys(row) with { Until = wish.EndAt(now) };
        var plan = wish.Carried(ending.Plan(edition.Number, readsBack, now));
        var on = await store.ReadAsync(s => s.EditionOfAsync(request.PersonId), cancel);
        await CommitAsync(request, plan, edition, on, _ => Task.FromResult(true), null, wish, cancel);
    }

    /// <summary>Plans a request under one choice of rules.</summary>
    /// <exception cref="PlanFault">These rules cannot serve the person.</exception>
    private async Task PlanAsync(RequestRow request, Wish wish, long on, Rules rules, CancellationToken cancel)
    {
        var edition = rules.Edition;
        await ReserveAsync(request, wish, edition, cancel);
        var recorded = await store.ReadAsync(s => Recorded.LoadAsync(s, [request.PersonId]), cancel);
        var before = recorded.Subject(request.PersonId, edition);
        var subject = Wished(before, request, wish, edition);
        if (edition.Rulebook.Access.Ask().Asks(subject) is { Count: > 0 } open && request.Kind is "joiner" or "mover" or "change")
        {
            if (wish.Edition is not null)
                throw new PlanFault(
                    $"Edition {edition.Number} leaves open: {string.Join(", ", open)}. Fill it in for the person; then it is "
                        + "planned by itself."
                );
            // Open fields are asked for as the newest edition has them, and the plan is then made by it.
            if (edition.Number != edition.ReachedBy)
                throw new PlanFault($"Edition {edition.Number} leaves open: {string.Join(", ", open)}.");
            await AskAsync(request, open, cancel);
            return;
        }
        var entries = await finder.LookAsync(request, edition, subject, recorded, cancel);
        if (entries.Candidates.Count > 0)
            await AmbiguousAsync(request, entries.Candidates, cancel);
        else
            await PlannedAsync(
                request,
                rules,
                on,
                wish,
                before with
                {
                    AccountNames = entries.Named.AccountNames,
                    FormerNames = entries.Named.FormerNames,
                    AccountIds = entries.Named.AccountIds,
                },
                entries.Named,
                recorded,
                entries,
                cancel
            );
    }

    /// <summary>The edition the request takes the person off, as far as its rules know what is wished.</summary>
    private Earlier? EarlierOf(RequestRow request, Rules rules, Wish wish, Recorded recorded, Subject named)
    {
        if (rules.Earlier is not { } earlier)
            return null;
        var before = recorded.Subject(request.PersonId, earlier) with
        {
            AccountNames = named.AccountNames,
            FormerNames = named.FormerNames,
            AccountIds = named.AccountIds,
        };
        try
        {
            return new(earlier, before, Wished(before, request, wish, earlier));
        }
        catch (PlanFault)
        {
            return new(earlier, before, before);
        }
    }

    private Subject Wished(Subject subject, RequestRow request, Wish wish, Edition edition) =>
        !wish.ChangesInputs
            ? subject
            : wish.Apply(
                subject,
                edition.Rulebook,
                new("request", request.Number.ToString(System.Globalization.CultureInfo.InvariantCulture), wish.Reason),
                time.GetUtcNow()
            );

    /// <summary>Gives the person a number of each pool their templates name. Two nodes never give the same one: the store takes
    /// each once.</summary>
    /// <exception cref="PlanFault">A pool has no number left.</exception>
    private async Task ReserveAsync(RequestRow request, Wish wish, Edition edition, CancellationToken cancel)
    {
        var person = request.PersonId;
        if (edition.Rulebook.Pools.Count == 0)
            return;
        var known = Wished(
            (await store.ReadAsync(s => Recorded.LoadAsync(s, [person]), cancel)).Subject(person, edition),
            request,
            wish,
            edition
        );
        if (edition.Rulebook.Access.Ask().Numbers(known).All(n => known.Numbers.ContainsKey(n.Pool.Name)))
            return;
        await store.WriteAsync(
            async s =>
            {
                var recorded = await Recorded.LoadAsync(s, [person]);
                var subject = Wished(recorded.Subject(person, edition), request, wish, edition);
                foreach (var (pool, site) in edition.Rulebook.Access.Ask().Numbers(subject))
                {
                    if (subject.Numbers.ContainsKey(pool.Name))
                        continue;
                    var number = await TakeAsync(s, pool, site, person);
                    s.Record(
                        LedgerEntry.Of(
                            time.GetUtcNow(),
                            "oikonom",
                            "number.reserved",
                            person,
                            null,
                            ("pool", pool.Name),
                            ("number", number),
                            ("site", site)
                        )
                    );
                }
            },
            cancel
        );
    }

    private async Task<long> TakeAsync(Store.Session s, NumberPool pool, string site, string person)
    {
        foreach (var range in pool.For(site))
            while (await s.FreeNumberAsync(pool.Name, range.First, range.Last) is { } free)
                if (await s.TakeNumberAsync(pool.Name, free, person, time.Milliseconds()))
                    return free;
        var ranges = string.Join(", ", pool.For(site).Select(r => $"{r.First}-{r.Last}"));
        throw new PlanFault(
            ranges.Length == 0
                ? $"The pool '{pool.Title}' has no range for {site}. Give it one in {pool.Place.File}, then publish."
                : $"The pool '{pool.Title}' has no number left for {site} ({ranges}). Widen the range in {pool.Place.File}, then publish."
        );
    }

    /// <exception cref="PlanFault">Somebody would hold what as many as may hold it already do.</exception>
    private static async Task RequireRoomAsync(Store.Session s, Plan plan, Edition edition, string person)
    {
        if (await Seats.NoneLeftAsync(s, plan, edition.Rulebook, person) is [var first, ..])
            throw new PlanFault(first);
    }

    /// <summary>The templates leave something open that HR does not tell: the requester is asked.</summary>
    private Task AskAsync(RequestRow request, IReadOnlyList<string> open, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                var row = await s.RequestAsync(request.Id, forUpdate: true);
                if (row is not { State: RequestState.Planning } || row.UpdatedAt != request.UpdatedAt)
                    return;
                row.Move(RequestEvent.AskBack);
                var now = time.Milliseconds();
                (row.Problem, row.LeaseOwner, row.LeaseUntil, row.DueAt, row.SinceAt, row.UpdatedAt) = (
                    "",
                    "",
                    0,
                    null,
                    now,
                    Math.Max(now, row.UpdatedAt + 1)
                );
                await s.AddDecisionAsync(
                    new()
                    {
                        RequestId = row.Id,
                        Actor = "oikonom",
                        Verdict = "asked",
                        StageTitle = "Open fields",
                        Remark = $"Please fill in: {string.Join(", ", open)}.",
                        Round = row.Round,
                        At = now,
                    }
                );
                await s.SaveRequestAsync(row);
                s.Record(LedgerEntry.Of(time.GetUtcNow(), "oikonom", "request.asked", row.PersonId, row.Id, ("fields", open)));
                s.Tell("requests", row.Id);
            },
            cancel
        );

    private Task AmbiguousAsync(RequestRow request, List<ExistingAccount> candidates, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                var row = await s.RequestAsync(request.Id, forUpdate: true);
                if (row is not { State: RequestState.Planning })
                    return;
                row.Move(RequestEvent.Ambiguous);
                (row.Candidates, row.Problem) = (JsonSerializer.Serialize(candidates), "");
                (row.LeaseOwner, row.LeaseUntil, row.DueAt, row.SinceAt, row.UpdatedAt) = (
                    "",
                    0,
                    null,
                    time.Milliseconds(),
                    time.Milliseconds()
                );
                await s.SaveRequestAsync(row);
                s.Record(
                    LedgerEntry.Of(
                        time.GetUtcNow(),
                        "oikonom",
                        "request.ambiguous",
                        row.PersonId,
                        row.Id,
                        (
                            "entries",
                            candidates
                                .Select(c => new
                                {
                                    c.Target,
                                    c.Location,
                                    c.ImmutableId,
                                    c.MatchedBy,
                                })
                                .ToList()
                        )
                    )
                );
                s.Tell("requests", row.Id);
            },
            cancel
        );

    private async Task PlannedAsync(
        RequestRow request,
        Rules rules,
        long on,
        Wish wish,
        Subject before,
        Subject subject,
        Recorded recorded,
        EntryFinder.Entries entries,
        CancellationToken cancel
    )
    {
        var kind = EnumText.Parse<RequestKind>(request.Kind);
        var edition = rules.Edition;
        var decides = await editions.GetAsync(edition.ReachedBy, cancel);
        var plan = wish.Plan(
            before,
            subject,
            recorded.Seen(request.PersonId),
            recorded.ImmutableIds(request.PersonId).Concat(entries.Deleted).ToDictionary(),
            entries.Existing,
            edition,
            kind,
            time.GetUtcNow(),
            EarlierOf(request, rules, wish, recorded, subject)
        );
        await CommitAsync(
            request,
            plan,
            decides,
            on,
            async s =>
            {
                await RequireRoomAsync(s, plan, edition, request.PersonId);
                foreach (var (account, name, wish) in entries.Fresh)
                {
                    var isTaken = !await s.TakeNameAsync(account.Target, name, request.PersonId, time.Milliseconds(), account.Slot, wish);
                    // Somebody else took it since we looked: plan once more.
                    if (isTaken && !entries.Existing.ContainsKey(account))
                        return false;
                }
                return true;
            },
            (s, row) =>
                Workflow.BuiltIn(row.Workflow) is { IsRestoring: true }
                    ? Task.FromResult(Outside.SetsRight(plan, recorded.Found(row.PersonId)))
                    : RollOutCover.HoldsAsync(s, row, rules, plan, recorded, time.GetUtcNow()),
            wish,
            cancel
        );
    }

    /// <summary>Writes a plan down and enters the workflow with it, unless the world it was made in has changed.</summary>
    /// <param name="decides">The edition that says who decides.</param>
    /// <param name="settle">Takes what the plan needs; false when it is gone since.</param>
    /// <param name="isCovered">True when what it belongs to covers the plan: a roll-out, or what was decided before. Null where
    /// nothing can.</param>
    private Task CommitAsync(
        RequestRow request,
        Plan plan,
        Edition decides,
        long on,
        Func<Store.Session, Task<bool>> settle,
        Func<Store.Session, RequestRow, Task<bool>>? isCovered,
        Wish wish,
        CancellationToken cancel
    ) =>
        commits.RunAsync(
            async s =>
            {
                var row = await s.RequestAsync(request.Id, forUpdate: true);
                if (row is not { State: RequestState.Planning } || row.UpdatedAt != request.UpdatedAt)
                    return false;
                if (await s.LastEditionNumberAsync() != decides.Number || await s.EditionOfAsync(row.PersonId) != on || !await settle(s))
                {
                    // An edition was published since, the person was put on another, or a name is gone: planned anew.
                    (row.LeaseOwner, row.LeaseUntil, row.DueAt) = ("", 0, time.Milliseconds());
                    await s.SaveRequestAsync(row);
                    return false;
                }
                if (await IsUnsettledAsync(s, row, request, wish))
                {
                    (row.LeaseOwner, row.LeaseUntil, row.DueAt) = ("", 0, time.Milliseconds() + 300);
                    await s.SaveRequestAsync(row);
                    return false;
                }
                // The person goes by the rules they are on; who decides is a matter of the newest.
                (row.Edition, row.OnEdition) = (decides.Number, on);
                row.Plan = plan.ToJson();
                row.PlanDigest = plan.Digest;
                (row.Problem, row.Candidates, row.LeaseOwner, row.LeaseUntil, row.DueAt, row.Attempts) = ("", "", "", 0, null, 0);
                s.Record(
                    LedgerEntry.Of(
                        time.GetUtcNow(),
                        "oikonom",
                        "request.planned",
                        row.PersonId,
                        row.Id,
                        ("edition", plan.Edition),
                        ("from", plan.From),
                        ("digest", plan.Digest),
                        ("changes", plan.Changes.Count)
                    )
                );
                if (row.PlanBefore is not null && Plan.FromJson(row.PlanBefore).Digest == plan.Digest)
                    row.PlanBefore = null;
                var way = await WayOfAsync(s, row, isCovered);
                await stages.EnterAsync(
                    s,
                    await Case.LoadAsync(s, row, decides, time.GetUtcNow(), plan, way),
                    plan.Changes.Count == 0 && !wish.ChangesInputs ? RequestEvent.PlannedEmpty : RequestEvent.Planned
                );
                await s.SaveRequestAsync(row);
                return true;
            },
            cancel
        );

    /// <summary>The path of what was decided beforehand; null when the rulebook says who decides.</summary>
    private static async Task<Workflow?> WayOfAsync(Store.Session s, RequestRow row, Func<Store.Session, RequestRow, Task<bool>>? isCovered)
    {
        if (Workflow.BuiltIn(row.Workflow) is { IsRestoring: true } restoring)
            return isCovered is not null && await isCovered(s, row) ? restoring : null;
        if (row.Rollout.Length > 0 && isCovered is not null && await isCovered(s, row))
            return Workflow.RolledOut;
        return row.Workflow == Workflow.GivenBack.Name || row.Workflow == Workflow.Undone.Name ? Workflow.BuiltIn(row.Workflow) : null;
    }

    /// <summary>True when what the plan was made from is being changed by steps of another request, or was since it was looked
    /// at: what they do would be in no plan.</summary>
    private Task<bool> IsUnsettledAsync(Store.Session s, RequestRow row, RequestRow claimed, Wish wish)
    {
        var now = time.Milliseconds();
        var claimedAt = claimed.LeaseUntil - (long)(options.LeaseSeconds * 1000);
        var patience = wish.Urgent ? SettlingUrgent : Settling;
        return now - row.SinceAt > patience.TotalMilliseconds
            ? Task.FromResult(false)
            : s.IsMovingAsync(row.SubjectId, row.Id, claimedAt, now);
    }

    /// <param name="waitsOn">Who or what lets it go on.</param>
    private Task PostponeAsync(RequestRow request, string problem, CancellationToken cancel, string waitsOn) =>
        store.WriteAsync(
            async s =>
            {
                var row = await s.RequestAsync(request.Id, forUpdate: true);
                if (row is not { State: RequestState.Planning })
                    return;
                var now = time.Milliseconds();
                if (row.Problem != problem)
                    s.Record(
                        LedgerEntry.Of(time.GetUtcNow(), "oikonom", "request.cannot-plan", row.PersonId, row.Id, ("problem", problem))
                    );
                (row.Problem, row.DeciderWhy, row.LeaseOwner, row.LeaseUntil) = (problem, waitsOn, "", 0);
                row.DueAt = now + BackOff.ForWork.Milliseconds(row.Attempts);
                row.Attempts++;
                row.UpdatedAt = now;
                await s.SaveRequestAsync(row);
                s.Tell("requests", row.Id);
                LogPostponed(log, row.Number, problem);
            },
            cancel
        );

    [LoggerMessage(Level = LogLevel.Error, Message = "Request {Number} failed unexpectedly while it was planned")]
    private static partial void LogUnexpected(ILogger log, long number, Exception error);

    [LoggerMessage(Level = LogLevel.Warning, Message = "Request {Number} cannot be planned yet: {Problem}")]
    private static partial void LogPostponed(ILogger log, long number, string problem);
}
