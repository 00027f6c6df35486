using Oikonom.Core.Rulebook;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Intake;

/// <summary>What intake asks of requests; how they are decided it does not know.</summary>
public interface IOpenRequests
{
    /// <summary>The workflow of a kind, by name, before anything is known of the plan.</summary>
    string WorkflowFor(Edition edition, string kind);

    /// <summary>Sends a request back to planning, inside a decision: what it rests on changed.</summary>
    Task ReplanAsync(Session session, RequestRow row, string why);
}
