using Oikonom.Core.Fulfilment;
using Oikonom.Core.Rulebook;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Desk;

/// <summary>A target without an interface: people do the work, and what they reach is reached when their task is done.</summary>
public sealed class DeskConnector(TargetRule rule, Core.Rulebook.Rulebook rulebook, Store.Store store, TimeProvider time) : IConnector
{
    private readonly TargetSettings.Desk _desk = (TargetSettings.Desk)rule.Settings;

    public TargetAbilities Can => _desk.Can;

    public async Task<PortResult> EnsureGrantAsync(GrantGoal goal, CancellationToken cancel)
    {
        var order = goal.Order;
        return await store.ReadAsync(s => s.TaskOfStepAsync(order.Step), cancel) switch
        {
            null => await BeginAsync(goal, cancel),
            { State: TaskState.Done } done => new PortResult.Reached(done.Remark),
            { State: TaskState.Impossible } not => new PortResult.Lasting($"{rule.Title} cannot do it: {not.Remark}"),
            _ => new PortResult.WaitsFor(null),
        };
    }

    /// <summary>Nobody is asked for what is so already.</summary>
    private async Task<PortResult> BeginAsync(GrantGoal goal, CancellationToken cancel)
    {
        var grants = await store.ReadAsync(s => s.GrantsAsync([goal.Order.Person], past: false), cancel);
        var isHeld = grants.Any(g => g.Target == rule.Name && g.Entitlement == goal.Entitlement.Name);
        return isHeld == goal.Held ? new PortResult.Reached("was already so") : new PortResult.WaitsFor(TaskOf(goal));
    }

    private ManualTask TaskOf(GrantGoal goal)
    {
        var (entitlement, order) = (goal.Entitlement, goal.Order);
        var work = (EntitlementMeans.Work)entitlement.Means;
        var due = rulebook.HoursOf(order.Site).After(time.GetUtcNow(), _desk.Due);
        return goal.Held
            ? new(
                $"Give {order.Display}: {entitlement.Title}",
                work.Give,
                work.Fields,
                work.Checks,
                work.NeedsEvidence,
                _desk.Role,
                due,
                true
            )
            {
                NeedsSecond = work.NeedsSecond,
            }
            : new($"Take back from {order.Display}: {entitlement.Title}", work.TakeBack, [], [], false, _desk.Role, due, false)
            {
                NeedsSecond = work.NeedsSecond,
            };
    }

    /// <summary>People are always there.</summary>
    public Task<TargetHealth> CheckAsync(bool withRights, CancellationToken cancel) =>
        Task.FromResult(new TargetHealth(true, $"People with the role {_desk.Role} do this by hand.", null, 0));

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;
}
