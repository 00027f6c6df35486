using Oikonom.Core.Rulebook;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Intake;

/// <summary>What intake asks of requests; how they are decided it does not know.</summary>
public interface IOpenRequests
{
    /// <summary>The workflow of a kind, by name, before anything is known of the plan.</summary>
    string WorkflowFor(Edition edition, string kind);

    /// <summary>Has an open request planned on what holds now, inside a decision: one that waits is sent back to planning, one that is
    /// being planned is planned once more.</summary>
    Task RenewAsync(Session session, RequestRow row, string why);
}
