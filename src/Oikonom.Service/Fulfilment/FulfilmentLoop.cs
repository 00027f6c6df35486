using System.Collections.Concurrent;
using System.Text.Json;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Hosting;
using Oikonom.Service.Planning;
using Oikonom.Service.Rulebook;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>
/// Claims chains with due steps and carries them out: one after the other for one account, many accounts at once,
/// each target with a limit of its own. Each step is looked at again before it runs.
/// </summary>
public sealed partial class FulfilmentLoop(Store.Store store, EditionBook editions, ConnectorBook connectors, OutcomeWriter writer, ServiceOptions options, TimeProvider time, Pulse pulse, ILogger<FulfilmentLoop> log)
    : Loop(TimeSpan.FromMilliseconds(500), pulse, log)
{
    private const int PerConnection = 12;
    private readonly ConcurrentDictionary<string, int> _running = new();

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        if (await editions.CurrentOrNullAsync(cancel) is not { } edition) return false;
        var more = false;
        foreach (var target in edition.Rulebook.Targets.Values)
        {
            var free = (target.Connections * PerConnection) - _running.GetValueOrDefault(target.Name);
            if (free < PerConnection / 2) continue;
            var now = time.Milliseconds();
            var claims = await store.WriteAsync(s => s.ClaimChainsAsync(target.Name, options.Node, now, now + (long)(options.LeaseSeconds * 1000), free), cancel);
            if (claims.Count == 0) continue;
            more |= claims.Count == free;
            await StartAsync(target.Name, [.. claims.Select(c => new Claim(c.PersonId, c.Target, c.Fence))], cancel);
        }
        return more;
    }

    private async Task StartAsync(string target, IReadOnlyList<Claim> claims, CancellationToken cancel)
    {
        var (steps, recorded) = await store.ReadAsync(async s => (
            await s.DueStepsAsync([.. claims.Select(c => c.Row)], time.Milliseconds()),
            await Recorded.LoadAsync(s, [.. claims.Select(c => c.PersonId).Distinct()])), cancel);
        var byPerson = steps.ToLookup(s => s.PersonId);
        _running.AddOrUpdate(target, claims.Count, (_, running) => running + claims.Count);
        foreach (var claim in claims)
            _ = Task.Run(() => RunAsync(claim, [.. byPerson[claim.PersonId]], recorded, cancel), CancellationToken.None);
    }

    private async Task RunAsync(Claim claim, IReadOnlyList<StepRow> steps, Recorded recorded, CancellationToken cancel)
    {
        try
        {
            var chain = new Chain(claim, recorded, store, editions, connectors, time);
            var blocked = false;
            foreach (var step in steps)
            {
                // What takes access away waits for nothing else.
                if (blocked && step.Removes == 0) continue;
                var outcome = await chain.AttemptAsync(step, cancel);
                await writer.WriteAsync(new Written.Step(outcome), cancel);
                if (outcome.Replan is not null || outcome.Ending is AttemptOutcome.Transient or AttemptOutcome.Lasting) blocked = true;
            }
            await writer.WriteAsync(new Written.End(claim), cancel);
        }
        catch (OperationCanceledException)
        {
            // Stopping: the lease ends by itself, and the steps may be repeated.
        }
        catch (Exception error)
        {
            // The lease is left to run out, which is the pause before the next try.
            LogFailure(log, claim.PersonId, claim.Target, error);
        }
        finally
        {
            _running.AddOrUpdate(claim.Target, 0, (_, running) => running - 1);
            Wake();
        }
    }

    [LoggerMessage(Level = LogLevel.Error, Message = "The steps of {Person} in {Target} failed unexpectedly")]
    private static partial void LogFailure(ILogger log, string person, string target, Exception error);

    /// <summary>The steps of one person in one target, with what is recorded as it grows step by step.</summary>
    private sealed class Chain(Claim claim, Recorded recorded, Store.Store store, EditionBook editions, ConnectorBook connectors, TimeProvider time)
    {
        private AccountRow? _account = recorded.Account(claim.PersonId, claim.Target);
        private HashSet<string>? _grants;
        private (long Number, Edition Edition, AccessState Wanted)? _wanted;

        public async Task<Outcome> AttemptAsync(StepRow step, CancellationToken cancel)
        {
            var change = JsonSerializer.Deserialize<Change>(step.Change, JsonSerializerOptions.Web)!;
            try
            {
                var edition = await editions.GetAsync(step.Edition, cancel);
                if (_wanted?.Number != step.Edition) _wanted = (step.Edition, edition, Desired.At(recorded.Subject(claim.PersonId, edition), edition, time.GetUtcNow()));
                _grants ??= [.. recorded.State(claim.PersonId, edition).Grants.Values.Where(g => g.Target == claim.Target).Select(g => g.Entitlement)];
                var wanted = _wanted.Value.Wanted;
                if (change.Kind is ChangeKind.CreateAccount or ChangeKind.AdoptAccount && edition.Rulebook.Targets.GetValueOrDefault(claim.Target) is { After.Count: > 0 } rule && await WaitsAsync(rule, edition, cancel) is { } waits)
                    return new(claim, step, change, AttemptOutcome.Transient, waits);
                switch (Planner.Look(change, wanted))
                {
                    case StillWanted.No:
                        return new(claim, step, change, AttemptOutcome.NoLongerWanted, "No longer wanted when it was looked at again.");
                    case StillWanted.Changed:
                        return new(claim, step, change, AttemptOutcome.NoLongerWanted, "Something else is wanted now.") { Replan = $"the account {change.Account} should now look different from what was approved" };
                    default:
                        return edition.Rulebook.Targets[claim.Target] is { Desk: not null } desk ? await ByHandAsync(step, change, edition, desk, cancel) : await RunAsync(step, change, edition, wanted, cancel);
                }
            }
            catch (TargetFault fault) when (fault.NeedsReplan)
            {
                return new(claim, step, change, AttemptOutcome.NoLongerWanted, fault.Message) { Replan = fault.Message };
            }
            catch (TargetFault fault)
            {
                return new(claim, step, change, fault.Transient ? AttemptOutcome.Transient : AttemptOutcome.Lasting, fault.Message);
            }
            catch (PlanFault fault)
            {
                return new(claim, step, change, AttemptOutcome.Lasting, fault.Message);
            }
        }

        /// <summary>What the step waits for in a target that comes first, or null. The account must be there and be seen by that target itself.</summary>
        private async Task<string?> WaitsAsync(TargetRule rule, Edition edition, CancellationToken cancel)
        {
            foreach (var first in rule.After.Where(a => _wanted!.Value.Wanted.Accounts.ContainsKey(a) && edition.Rulebook.Targets[a].Desk is null))
            {
                var title = edition.Rulebook.Targets[first].Title;
                var account = (await store.ReadAsync(s => s.AccountsAsync([claim.PersonId]), cancel)).FirstOrDefault(a => a.Target == first);
                if (account is null) return $"It waits until the account in {title} is made.";
                if (await connectors.For(edition, first).ReadAsync(account.ImmutableId, cancel) is null) return $"It waits until {title} shows the account.";
            }
            return null;
        }

        private async Task<Outcome> RunAsync(StepRow step, Change change, Edition edition, AccessState wanted, CancellationToken cancel)
        {
            var connector = connectors.For(edition, claim.Target);
            var target = edition.Rulebook.Targets[claim.Target];
            var outcome = new Outcome(claim, step, change, AttemptOutcome.Reached, "");
            var now = time.Milliseconds();
            switch (change.Kind)
            {
                case ChangeKind.CreateAccount or ChangeKind.AdoptAccount or ChangeKind.ChangeAccount:
                    var goal = wanted.Accounts[claim.Target];
                    var ensured = await connector.EnsureAccountAsync(new(
                        _account?.ImmutableId ?? change.ImmutableId, edition.Rulebook.Access.Ask().Keys(recorded.Subject(claim.PersonId, edition), target, goal.Attributes), change.Account, change.Container, change.Classes,
                        change.Attributes.ToDictionary(a => a.Name, a => a.After, StringComparer.OrdinalIgnoreCase),
                        change.Kind == ChangeKind.CreateAccount ? change.Enabled : null, change.Kind == ChangeKind.CreateAccount), cancel);
                    var enabled = change.Kind == ChangeKind.ChangeAccount && _account is not null ? _account.Enabled == 1 : change.Enabled;
                    _account = Row(change, goal, ensured.ImmutableId, ensured.Location, enabled, now);
                    // What an adopted entry already holds is recorded with it.
                    var held = change.Kind == ChangeKind.AdoptAccount ? (await connector.ReadAsync(ensured.ImmutableId, cancel))?.Entitlements.Where(_grants!.Add).ToList() ?? [] : [];
                    if (held.Count > 0) outcome = outcome with { Opens = [.. held.Select(e => Grant(step, e, change.Reason, now))] };
                    return outcome with { Account = _account, Note = ensured.Created ? "created" : ensured.Changed ? "changed" : "was already so" };

                case ChangeKind.EnableAccount or ChangeKind.DisableAccount:
                    var account = Account(target);
                    var enable = change.Kind == ChangeKind.EnableAccount;
                    var done = await connector.EnsureAccountAsync(new(account.ImmutableId, [], account.Name, "", [], new Dictionary<string, IReadOnlyList<string>>(), enable, false), cancel);
                    _account = account with { Location = done.Location, Enabled = enable ? 1 : 0, At = now };
                    return outcome with { Account = _account, Note = done.Changed ? "changed" : "was already so" };

                case ChangeKind.SetPassword:
                    await connector.SetPasswordAsync(Account(target).ImmutableId, null, cancel);
                    return outcome;

                case ChangeKind.Grant:
                    await connector.EnsureMembershipAsync(Account(target).ImmutableId, Entitlement(target, change), true, cancel);
                    _grants!.Add(change.Subject);
                    return outcome with { Opens = [Grant(step, change.Subject, change.Reason, now)] };

                case ChangeKind.Revoke:
                    await connector.EnsureMembershipAsync(Account(target).ImmutableId, Entitlement(target, change), false, cancel);
                    _grants!.Remove(change.Subject);
                    return outcome with { Closes = new() { PersonId = claim.PersonId, Target = claim.Target, Entitlement = change.Subject, UntilAt = now } };

                default:
                    return await VerifyAsync(connector, target, step, outcome, cancel);
            }
        }

        /// <summary>Work that people do: a task is made once, and the step is done when the task is.</summary>
        private async Task<Outcome> ByHandAsync(StepRow step, Change change, Edition edition, TargetRule target, CancellationToken cancel)
        {
            var outcome = new Outcome(claim, step, change, AttemptOutcome.Reached, "");
            var entitlement = Entitlement(target, change);
            var give = change.Kind == ChangeKind.Grant;
            var now = time.GetUtcNow();
            var task = await store.ReadAsync(s => s.TaskOfStepAsync(step.Id), cancel);
            switch (task?.State)
            {
                case "done":
                    return give ? outcome with { Opens = [Grant(step, change.Subject, change.Reason, now.ToUnixTimeMilliseconds())], Note = task.Value.Remark }
                        : outcome with { Closes = new() { PersonId = claim.PersonId, Target = claim.Target, Entitlement = change.Subject, UntilAt = now.ToUnixTimeMilliseconds() }, Note = task.Value.Remark };
                case "impossible":
                    return outcome with { Ending = AttemptOutcome.Lasting, Message = $"{target.Title} cannot do it: {task.Value.Remark}" };
                case not null:
                    return outcome with { Ending = AttemptOutcome.Waits };
            }
            var person = recorded.Person(claim.PersonId);
            var due = edition.Rulebook.HoursOf(person.Site).After(now, target.Desk!.Due);
            return outcome with
            {
                Ending = AttemptOutcome.Waits,
                Task = new()
                {
                    Id = Guid.CreateVersion7(now).ToString(),
                    StepId = step.Id,
                    RequestId = step.RequestId,
                    PersonId = claim.PersonId,
                    Target = claim.Target,
                    Entitlement = change.Subject,
                    Kind = give ? "give" : "take-back",
                    Title = give ? $"Give {person.Display}: {entitlement.Title}" : $"Take back from {person.Display}: {entitlement.Title}",
                    Instructions = give ? entitlement.Give : entitlement.TakeBack,
                    Fields = JsonSerializer.Serialize(give ? entitlement.Fields : []),
                    Checks = JsonSerializer.Serialize(give ? entitlement.Checks : []),
                    NeedsEvidence = give && entitlement.NeedsEvidence ? 1 : 0,
                    Role = target.Desk.Role,
                    DueAt = due.ToUnixTimeMilliseconds(),
                    CreatedAt = now.ToUnixTimeMilliseconds(),
                },
            };
        }

        private GrantRow Grant(StepRow step, string entitlement, Reason reason, long now) => new()
        {
            Id = Guid.CreateVersion7(time.GetUtcNow()).ToString(),
            PersonId = claim.PersonId,
            Target = claim.Target,
            Entitlement = entitlement,
            FromAt = now,
            Reason = JsonSerializer.Serialize(reason),
            RequestId = step.RequestId,
        };

        private async Task<Outcome> VerifyAsync(IConnector connector, TargetRule target, StepRow step, Outcome outcome, CancellationToken cancel)
        {
            var account = Account(target);
            var expected = new AccountState(claim.Target, account.Name, account.Container, [], Recorded.Attributes(account.Attributes), account.Enabled == 1 ? Presence.Awake : Presence.Disabled, new("", "", ""));
            var back = await connector.VerifyAsync(account.ImmutableId, expected, _grants!, cancel);
            if (back.Matches) return outcome with { Note = "as planned" };
            var message = $"{target.Title} does not show what was done: {string.Join("; ", back.Differences)}.";
            return outcome with { Ending = step.Attempts < 6 ? AttemptOutcome.Transient : AttemptOutcome.Lasting, Message = message };
        }

        private AccountRow Account(TargetRule target) => _account ?? throw new TargetFault($"No account in {target.Title} is recorded for this person.", transient: false, needsReplan: true);

        private static Entitlement Entitlement(TargetRule target, Change change) => target.Entitlements.GetValueOrDefault(change.Subject)
            ?? throw new TargetFault($"The rulebook has no entitlement '{change.Subject}' in {target.Title}.", transient: false);

        private AccountRow Row(Change change, AccountState goal, string id, string location, bool enabled, long now) => new()
        {
            PersonId = claim.PersonId,
            Target = claim.Target,
            Name = change.Account,
            Container = change.Container,
            Location = location,
            ImmutableId = id,
            Attributes = JsonSerializer.Serialize(goal.Attributes.Where(a => a.Value.Count > 0).ToDictionary(a => a.Key, a => a.Value)),
            Enabled = enabled ? 1 : 0,
            Reason = JsonSerializer.Serialize(change.Reason),
            At = now,
        };
    }
}
