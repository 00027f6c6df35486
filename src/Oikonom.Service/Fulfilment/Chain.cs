using System.Diagnostics;
using System.Text.Json;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Approval;
using Oikonom.Service.Common;
using Oikonom.Service.Connectors;
using Oikonom.Service.Editions;
using Oikonom.Service.Records;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>The steps of one subject in one target, with what is recorded as it grows step by step.</summary>
internal sealed class Chain(
    Claim claim,
    SubjectRecord subject,
    Store.Store store,
    EditionBook editions,
    ConnectorBook connectors,
    TargetMeter meter,
    TimeProvider time
)
{
    /// <summary>The accounts of the subject in the target, by slot.</summary>
    private readonly Dictionary<AccountKey, AccountRow> _accounts = subject
        .Accounts.Where(a => a.Target == claim.Target)
        .ToDictionary(Recorded.KeyOf);

    /// <summary>What the subject holds in the target.</summary>
    private HashSet<EntitlementKey>? _grants;
    private (long Number, Edition Edition, AccessState Wanted)? _wanted;

    /// <summary>One attempt, and what it says of the target.</summary>
    public async Task<Outcome> AttemptAsync(StepRow step, CancellationToken cancel)
    {
        using var span = Telemetry.Begin("step", step.RequestId);
        var watch = Stopwatch.StartNew();
        var outcome = await TryAsync(step, cancel);
        Telemetry.Step(span, claim.Target, EnumText.Of(outcome.Change.Kind), outcome.Ending.ToString().ToLowerInvariant(), watch.Elapsed);
        if (outcome.Ending == AttemptOutcome.Reached)
            meter.Reached(claim.Target);
        else if (outcome.IsOfTarget)
            meter.Failed(claim.Target, outcome.Message, outcome.After);
        return outcome;
    }

    private async Task<Outcome> TryAsync(StepRow step, CancellationToken cancel)
    {
        var change = JsonSerializer.Deserialize<Change>(step.Change, JsonSerializerOptions.Web)!;
        try
        {
            var edition = await editions.OnAsync(step.Edition, cancel);
            if (_wanted?.Number != step.Edition)
                _wanted = (step.Edition, edition, subject.Wanted(edition, time.GetUtcNow()));
            _grants ??= [.. subject.Grants.Where(k => k.Target == claim.Target)];
            var wanted = _wanted.Value.Wanted;
            if (
                change is Change.CreateAccount or Change.AdoptAccount
                && edition.Rulebook.Targets.GetValueOrDefault(claim.Target) is { After.Count: > 0 } rule
                && await WaitsAsync(rule, edition, cancel) is { } waits
            )
                return new(claim, step, change, AttemptOutcome.Transient, waits) { IsWaiting = true };
            if (Later(change, wanted, edition) is { } yet)
                return new(claim, step, change, AttemptOutcome.Transient, yet) { IsWaiting = true };
            var look = Planner.Look(change, wanted, _accounts.ContainsKey(change.Account));
            // What was approved as the id of an account that was to be made is that id by now.
            if (look == StillWanted.Changed && WithIds(change, wanted, edition) is { } known)
                (change, look) = (known, StillWanted.Yes);
            switch (look)
            {
                case StillWanted.No:
                    return new(claim, step, change, AttemptOutcome.NoLongerWanted, "No longer wanted when it was looked at again.");
                case StillWanted.Changed:
                    return new(claim, step, change, AttemptOutcome.NoLongerWanted, "Something else is wanted now.")
                    {
                        Replan = $"the account {change.Entry.Name} should now look different from what was approved",
                    };
                default:
                    return await RunAsync(step, change, edition, wanted, cancel);
            }
        }
        catch (TargetFault fault)
        {
            return Ended(new(claim, step, change, AttemptOutcome.Reached, ""), fault.Result);
        }
        catch (PlanFault fault)
        {
            return new(claim, step, change, AttemptOutcome.Lasting, fault.Message);
        }
    }

    /// <summary>What an account waits for whose attributes rest on the id of another one, or null.</summary>
    private static string? Later(Change change, AccessState wanted, Edition edition) =>
        change is Change.CreateAccount or Change.AdoptAccount or Change.ChangeAccount
        && wanted.Accounts.GetValueOrDefault(change.Account) is { Pending.Count: > 0 } account
        && account.Pending.FirstOrDefault(p => change.Attributes.Any(a => a.Name.Equals(p.Name, StringComparison.OrdinalIgnoreCase)))
            is { } rests
            ? $"{RequestStory.Waits}the account in {edition.Rulebook.TitleOf(new AccountKey(rests.Target))} is made, whose id it takes."
            : null;

    /// <summary>A change that was approved before an id was known, with that id; null where it differs by more.</summary>
    private Change? WithIds(Change change, AccessState wanted, Edition edition)
    {
        if (!edition.Rulebook.Access.UsesIds)
            return null;
        var approved = subject.Wanted(edition, time.GetUtcNow(), withIds: false);
        return Planner.Look(change, approved) == StillWanted.Yes ? change.With(wanted.Accounts[change.Account]) : null;
    }

    /// <summary>What the step waits for in a target that comes first, or null. The account must be there and be seen by that
    /// target itself.</summary>
    private async Task<string?> WaitsAsync(TargetRule rule, Edition edition, CancellationToken cancel)
    {
        foreach (
            var first in rule.After.Where(a => _wanted!.Value.Wanted.Accounts.ContainsKey(a) && edition.Rulebook.Targets[a].HasAccounts)
        )
        {
            var title = edition.Rulebook.Targets[first].Title;
            var account = (await store.ReadAsync(s => s.AccountsAsync([claim.SubjectId]), cancel)).FirstOrDefault(a =>
                a.Target == first && a.Slot.Length == 0
            );
            if (account is null)
                return $"{RequestStory.Waits}the account in {title} is made.";
            if (await connectors.Accounts(edition, first).ReadAsync(account.ImmutableId, cancel) is null)
                return $"{RequestStory.Waits}{title} shows the account.";
        }
        return null;
    }

    private async Task<Outcome> RunAsync(StepRow step, Change change, Edition edition, AccessState wanted, CancellationToken cancel)
    {
        var target = edition.Rulebook.Targets[claim.Target];
        await meter.TurnAsync(target, cancel);
        var outcome = new Outcome(claim, step, change, AttemptOutcome.Reached, "");
        return change switch
        {
            Change.CreateAccount or Change.AdoptAccount or Change.ChangeAccount => await ShapeAsync(
                outcome,
                target,
                edition,
                wanted,
                cancel
            ),
            Change.EnableAccount => await PresentAsync(outcome, target, edition, true, cancel),
            Change.DisableAccount => await PresentAsync(outcome, target, edition, false, cancel),
            Change.SetPassword => await SetPasswordAsync(outcome, target, edition, cancel),
            Change.Grant grant => await HoldAsync(outcome, target, edition, grant.Given, true, cancel),
            Change.Revoke revoke => await HoldAsync(outcome, target, edition, revoke.Taken, false, cancel),
            Change.Verify => await VerifyAsync(outcome, target, edition, cancel),
            _ => throw new UnreachableException($"'{change.Kind}' cannot be carried out."),
        };
    }

    /// <summary>Makes, takes over or changes an account.</summary>
    private async Task<Outcome> ShapeAsync(
        Outcome outcome,
        TargetRule target,
        Edition edition,
        AccessState wanted,
        CancellationToken cancel
    )
    {
        var (change, connector) = (outcome.Change, connectors.Accounts(edition, claim.Target));
        var goal = wanted.Accounts[change.Account];
        var (isNew, known) = (change is Change.CreateAccount, _accounts.GetValueOrDefault(change.Account));
        if (change is Change.AdoptAccount && change.Entry.ImmutableId is { } entry)
        {
            await RequireFreeAsync(entry, target, cancel);
            await RequireAsPlannedAsync(outcome, entry, target, connector, wanted, cancel);
        }
        var keys = subject.Keys(edition, target, change.Account, goal.Known);
        var attributes = change.Attributes.ToDictionary(a => a.Name, a => a.After, StringComparer.OrdinalIgnoreCase);
        var ensured = await connector.EnsureAccountAsync(
            new(
                known?.ImmutableId ?? change.Entry.ImmutableId,
                keys,
                change.Entry.Name,
                change.Entry.Container,
                attributes,
                isNew ? change.Entry.Enabled : null,
                isNew
            )
            {
                Restores = change is Change.CreateAccount { IsBroughtBack: true },
            },
            cancel
        );
        // Somebody made an entry that answers since the plan was made: what it came to hold meanwhile nobody approved.
        if (change is Change.CreateAccount { IsBroughtBack: false } && !ensured.Created)
            await RequireAsPlannedAsync(outcome, ensured.ImmutableId, target, connector, wanted, cancel);
        var enabled = change is Change.ChangeAccount && known is not null ? known.Enabled == 1 : change.Entry.Enabled;
        var account = Row(change, goal, ensured, enabled, time.Milliseconds());
        _accounts[change.Account] = account;
        // What an adopted entry already holds is recorded with it.
        var held =
            change is Change.AdoptAccount
                ? (await HeldAsync(ensured.ImmutableId, change.Account, target, connector, wanted, cancel)).Where(_grants!.Add).ToList()
                : [];
        return outcome with
        {
            Account = account,
            // What a rule gives is matched to it; the rest was there.
            Opens = [.. held.Select(e => Grant(outcome.Step, e, wanted.Grants.GetValueOrDefault(e)?.Reason ?? Found(ensured.Location)))],
            Note =
                ensured.Created ? "created"
                : change is Change.CreateAccount { IsBroughtBack: true } ? Outcome.BroughtBack
                : Said(ensured.Changed),
        };
    }

    private static Reason Found(string location) => new(Reason.Adoption, location, "was there when the entry was taken over");

    /// <summary>What an entry holds that is to be as decided here.</summary>
    private static async Task<IEnumerable<EntitlementKey>> HeldAsync(
        string entry,
        AccountKey account,
        TargetRule target,
        IAccountConnector connector,
        AccessState wanted,
        CancellationToken cancel
    )
    {
        var given = wanted.Grants.Keys.Where(k => k.Account == account).Select(k => k.Name).ToHashSet(StringComparer.Ordinal);
        return target
            .Ours((await connector.ReadAsync(entry, cancel))?.Entitlements ?? [], given)
            .Select(e => new EntitlementKey(account, e));
    }

    /// <summary>What an entry came to hold since the plan was made, and no rule gives, was not approved: it is planned anew.</summary>
    private async Task RequireAsPlannedAsync(
        Outcome outcome,
        string entry,
        TargetRule target,
        IAccountConnector connector,
        AccessState wanted,
        CancellationToken cancel
    )
    {
        var account = outcome.Change.Account;
        var held = await HeldAsync(entry, account, target, connector, wanted, cancel);
        var strange = held.Where(k => target.Entitlements.ContainsKey(k.Name) && !wanted.Grants.ContainsKey(k)).ToList();
        if (strange.Count == 0)
            return;
        var taken = (await store.ReadAsync(s => s.StepsOfAsync(outcome.Step.RequestId), cancel))
            .Select(x => JsonSerializer.Deserialize<Change>(x.Change, JsonSerializerOptions.Web))
            .OfType<Change.Revoke>()
            .Select(r => r.Taken)
            .ToHashSet();
        strange.RemoveAll(taken.Contains);
        if (strange.Count > 0)
            throw new TargetFault(
                $"The entry {outcome.Change.Entry.Name} in {target.Title} came to hold "
                    + $"{string.Join(", ", strange.Select(k => target.Entitlements[k.Name].Title))} since the plan was made.",
                transient: false,
                needsReplan: true
            );
    }

    /// <summary>What was said to be something else since the plan was made is not taken over.</summary>
    private async Task RequireFreeAsync(string entry, TargetRule target, CancellationToken cancel)
    {
        if (
            await store.ReadAsync(s => s.AccountOfEntryAsync(target.Name, entry), cancel) is { PersonId: null } other
            && AccountPurpose.IsKnown(other.Purpose)
        )
            throw new TargetFault(
                $"The account {other.Name} in {target.Title} is recorded as a {other.Purpose} account by now.",
                transient: false,
                needsReplan: true
            );
    }

    private static string Said(bool changed) => changed ? "changed" : "was already so";

    private async Task<Outcome> PresentAsync(Outcome outcome, TargetRule target, Edition edition, bool enable, CancellationToken cancel)
    {
        var account = Account(outcome.Change, target);
        var done = await connectors
            .Accounts(edition, claim.Target)
            .EnsureAccountAsync(
                new(account.ImmutableId, [], account.Name, "", new Dictionary<string, IReadOnlyList<string>>(), enable, false),
                cancel
            );
        account = account with { Location = done.Location, Enabled = enable ? 1 : 0, At = time.Milliseconds() };
        _accounts[outcome.Change.Account] = account;
        return outcome with { Account = account, Note = Said(done.Changed) };
    }

    private async Task<Outcome> SetPasswordAsync(Outcome outcome, TargetRule target, Edition edition, CancellationToken cancel)
    {
        await connectors.Accounts(edition, claim.Target).SetPasswordAsync(Account(outcome.Change, target).ImmutableId, null, cancel);
        return outcome;
    }

    /// <summary>Gives or takes an entitlement, in whatever way its target has.</summary>
    private async Task<Outcome> HoldAsync(
        Outcome outcome,
        TargetRule target,
        Edition edition,
        EntitlementKey key,
        bool held,
        CancellationToken cancel
    )
    {
        var entitlement =
            target.Entitlements.GetValueOrDefault(key.Name)
            ?? throw new TargetFault($"The rulebook has no entitlement '{key.Name}' in {target.Title}.", transient: false);
        var (display, site) = subject.Known;
        var order = new WorkOrder(outcome.Step.Id, outcome.Step.RequestId, outcome.Step.PersonId, display, site);
        // The last one may have gone to somebody else since it was approved.
        if (
            held
            && entitlement.MostHolders is not null
            && await store.ReadAsync(s => Seats.NoneLeftAsync(s, key, entitlement, outcome.Step.PersonId), cancel) is { } none
        )
            return Ended(outcome, new PortResult.Lasting(none));
        var result = await connectors
            .For(edition, claim.Target)
            .EnsureGrantAsync(
                new(target.HasAccounts ? Account(outcome.Change, target).ImmutableId : null, entitlement, held, order),
                cancel
            );
        if (result is PortResult.Reached)
        {
            if (held)
                _grants!.Add(key);
            else
                _grants!.Remove(key);
            outcome = held
                ? outcome with
                {
                    Opens = [Grant(outcome.Step, key, outcome.Change.Reason)],
                }
                : outcome with
                {
                    Closes = new()
                    {
                        PersonId = outcome.Step.PersonId,
                        Target = key.Target,
                        Slot = key.Account.Slot,
                        Entitlement = key.Name,
                        UntilAt = time.Milliseconds(),
                    },
                };
        }
        return Ended(outcome, result);
    }

    /// <summary>How an attempt ended, by what the target answered.</summary>
    private Outcome Ended(Outcome outcome, PortResult result) =>
        result switch
        {
            PortResult.Reached reached => outcome with { Note = reached.Note },
            PortResult.WaitsFor waits => outcome with
            {
                Ending = AttemptOutcome.Waits,
                Task = waits.Task is { } task ? Row(outcome, task) : null,
            },
            PortResult.NotYet waits => outcome with
            {
                Ending = AttemptOutcome.Transient,
                Message = RequestStory.Waits + waits.What,
                After = waits.After,
                IsWaiting = true,
            },
            PortResult.Transient fault => outcome with
            {
                Ending = AttemptOutcome.Transient,
                Message = fault.Message,
                After = fault.After,
                IsOfTarget = true,
            },
            PortResult.Lasting fault => outcome with { Ending = AttemptOutcome.Lasting, Message = fault.Message },
            PortResult.Unknown found => outcome with
            {
                Ending = AttemptOutcome.NoLongerWanted,
                Message = found.Message,
                Replan = found.Message,
                Gone = found.Gone,
            },
            _ => throw new UnreachableException($"An attempt cannot end with {result.GetType().Name}."),
        };

    private TaskRow Row(Outcome outcome, ManualTask task) =>
        new()
        {
            Id = Guid.CreateVersion7(time.GetUtcNow()).ToString(),
            StepId = outcome.Step.Id,
            RequestId = outcome.Step.RequestId,
            PersonId = outcome.Step.PersonId,
            Target = claim.Target,
            Entitlement = outcome.Change.Subject,
            Kind = task.IsGiving ? "give" : "take-back",
            Title = task.Title,
            Instructions = task.Instructions,
            Fields = JsonSerializer.Serialize(task.Fields),
            Checks = JsonSerializer.Serialize(task.Checks),
            NeedsEvidence = task.NeedsEvidence ? 1 : 0,
            NeedsSecond = task.NeedsSecond ? 1 : 0,
            Role = task.Role,
            DueAt = task.Due.ToUnixTimeMilliseconds(),
            CreatedAt = time.Milliseconds(),
        };

    private GrantRow Grant(StepRow step, EntitlementKey key, Reason reason) =>
        new()
        {
            Id = Guid.CreateVersion7(time.GetUtcNow()).ToString(),
            PersonId = step.PersonId,
            Target = key.Target,
            Slot = key.Account.Slot,
            Entitlement = key.Name,
            FromAt = time.Milliseconds(),
            Reason = JsonSerializer.Serialize(reason),
            RequestId = step.RequestId,
        };

    private async Task<Outcome> VerifyAsync(Outcome outcome, TargetRule target, Edition edition, CancellationToken cancel)
    {
        var account = Account(outcome.Change, target);
        var presence = account.Enabled == 1 ? Presence.Awake : Presence.Disabled;
        var expected = new AccountState(
            outcome.Change.Account,
            account.Name,
            account.Container,
            Recorded.Attributes(account.Attributes),
            presence,
            new("", "", "")
        );
        var connector = connectors.Accounts(edition, claim.Target);
        var held = _grants!.Where(k => k.Account == outcome.Change.Account).Select(k => k.Name).ToList();
        var differences = (await connector.VerifyAsync(account.ImmutableId, expected, held, cancel)).Differences;
        if (differences.Count > 0)
            differences = await OwnAsync(outcome, differences, cancel);
        if (differences.Count == 0)
            return outcome with { Note = "as planned" };
        // It was changed since it was done: done once more, and read once more.
        await MendAsync(outcome, target, edition, account, differences, cancel);
        var left = await OwnAsync(outcome, (await connector.VerifyAsync(account.ImmutableId, expected, held, cancel)).Differences, cancel);
        if (left.Count == 0)
            return outcome with { Note = $"as planned, after {string.Join("; ", differences.Select(d => d.Bare))} and was set right" };
        return outcome with
        {
            Ending = outcome.Step.Attempts < 6 ? AttemptOutcome.Transient : AttemptOutcome.Lasting,
            Message = $"{target.Title} does not show what was done: {string.Join("; ", left.Select(d => d.Text))}.",
        };
    }

    /// <summary>Of what differs, what this request answers for: neither what somebody lets stay so, nor what an account came to
    /// hold and this request does not take.</summary>
    private async Task<IReadOnlyList<Difference>> OwnAsync(Outcome outcome, IReadOnlyList<Difference> differences, CancellationToken cancel)
    {
        var key = outcome.Change.Account;
        var (findings, steps) = await store.ReadAsync(
            async s => (await s.FindingsAsync([outcome.Step.PersonId]), await s.StepsOfAsync(outcome.Step.RequestId)),
            cancel
        );
        var stays = findings
            .Where(f => f.LeftBy.Length > 0 && new AccountKey(f.Target, f.Slot) == key)
            .SelectMany(f => Difference.FromJson(f.Differences))
            .Select(d => d.Place)
            .ToHashSet();
        var taken = steps
            .Where(x => x.State == StepState.Done)
            .Select(x => JsonSerializer.Deserialize<Change>(x.Change, JsonSerializerOptions.Web))
            .OfType<Change.Revoke>()
            .Select(r => r.Taken)
            .ToHashSet();
        return
        [
            .. differences.Where(d =>
                !stays.Contains(d.Place) && (d is not Difference.Surplus surplus || taken.Contains(new(key, surplus.Entitlement)))
            ),
        ];
    }

    /// <summary>Does once more what was done and is not so any more.</summary>
    private async Task MendAsync(
        Outcome outcome,
        TargetRule target,
        Edition edition,
        AccountRow account,
        IReadOnlyList<Difference> differences,
        CancellationToken cancel
    )
    {
        if (differences.OfType<Difference.Gone>().FirstOrDefault() is { } gone)
            throw new TargetFault($"The entry of {account.Name} is no longer in {target.Title}.", transient: false, needsReplan: true)
            {
                Gone = gone.ImmutableId,
            };
        var values = differences.OfType<Difference.OtherValues>().ToDictionary(d => d.Attribute, d => d.Wanted);
        var presence = differences.OfType<Difference.OtherPresence>().FirstOrDefault();
        if (values.Count > 0 || presence is not null)
            await connectors
                .Accounts(edition, claim.Target)
                .EnsureAccountAsync(
                    new(account.ImmutableId, [], account.Name, "", values, presence is null ? null : !presence.IsEnabled, false),
                    cancel
                );
        var (display, site) = subject.Known;
        foreach (
            var (name, isHeld) in differences
                .OfType<Difference.Missing>()
                .Select(d => (d.Entitlement, true))
                .Concat(differences.OfType<Difference.Surplus>().Select(d => (d.Entitlement, false)))
        )
            if (target.Entitlements.GetValueOrDefault(name) is { } entitlement)
                await connectors
                    .For(edition, claim.Target)
                    .EnsureGrantAsync(
                        new(
                            account.ImmutableId,
                            entitlement,
                            isHeld,
                            new WorkOrder(outcome.Step.Id, outcome.Step.RequestId, outcome.Step.PersonId, display, site)
                        ),
                        cancel
                    );
    }

    /// <summary>The account a change is about. Of what is nobody's, the entry that was approved is the one that is touched.</summary>
    private AccountRow Account(Change change, TargetRule target) =>
        _accounts.GetValueOrDefault(change.Account) is { } account
        && (account.PersonId is not null || account.ImmutableId == change.Entry.ImmutableId)
            ? account
            : throw new TargetFault(
                subject.PersonId is null
                    ? $"What was approved is about another entry of {target.Title} than is recorded."
                    : $"No account in {target.Title} is recorded for this person.",
                transient: false,
                needsReplan: true
            );

    /// <summary>What the entry holds after the change: of an account that is only changed, no more than what it changed.</summary>
    private IReadOnlyDictionary<string, IReadOnlyList<string>> Held(Change change, AccountState goal)
    {
        if (change is not Change.ChangeAccount || !_accounts.TryGetValue(change.Account, out var known))
            return goal.Attributes;
        var held = new Dictionary<string, IReadOnlyList<string>>(Recorded.Attributes(known.Attributes), StringComparer.OrdinalIgnoreCase);
        foreach (var attribute in change.Attributes)
            held[attribute.Name] = attribute.After;
        return held;
    }

    /// <summary>The names the account had before, with the one that a change takes from it.</summary>
    private string FormerOf(Change change)
    {
        if (!_accounts.TryGetValue(change.Account, out var known) || known.Name == change.Entry.Name)
            return known?.Former ?? "[]";
        return JsonSerializer.Serialize(Recorded.FormerOf(known.Former).Where(n => n != known.Name).Append(known.Name));
    }

    private AccountRow Row(Change change, AccountState goal, EnsuredAccount ensured, bool enabled, long now) =>
        new()
        {
            Id = _accounts.GetValueOrDefault(change.Account)?.Id ?? AccountId.New(time.GetUtcNow()).ToString(),
            PersonId = subject.PersonId,
            Target = change.Target,
            Slot = change.Account.Slot,
            Name = change.Entry.Name,
            Former = FormerOf(change),
            Container = change.Entry.Container,
            Location = ensured.Location,
            ImmutableId = ensured.ImmutableId,
            Attributes = JsonSerializer.Serialize(Held(change, goal).Where(a => a.Value.Count > 0).ToDictionary(a => a.Key, a => a.Value)),
            Enabled = enabled ? 1 : 0,
            Reason = JsonSerializer.Serialize(change.Reason),
            At = now,
        };
}
