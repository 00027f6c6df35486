using Oikonom.Core.Approval;
using Oikonom.Core.People;

namespace Oikonom.Store.Rooms;

/// <summary>Which requests a list shows.</summary>
public sealed record RequestFilter(
    string State = "",
    string Kind = "",
    string Text = "",
    string PersonId = "",
    long Before = long.MaxValue,
    int Limit = 50,
    bool OpenOnly = false,
    string InboxUser = "",
    string InboxPerson = "",
    IReadOnlyList<string>? InboxRoles = null
)
{
    /// <summary>The name of the site in the rulebook.</summary>
    public string Site { get; init; } = "";

    /// <summary>The department of the person.</summary>
    public string Department { get; init; } = "";

    /// <summary>The user who raised it, or <c>oikonom</c>.</summary>
    public string Requester { get; init; } = "";

    /// <summary>The name of the target in the rulebook.</summary>
    public string Target { get; init; } = "";

    /// <summary>A user or role it waits on.</summary>
    public string WaitsOn { get; init; } = "";

    /// <summary>Only those that nobody decided in time.</summary>
    public bool Late { get; init; }

    /// <summary>Only those that cannot go on by themselves: a problem stands against them.</summary>
    public bool Stuck { get; init; }

    /// <summary>Only those raised before this instant.</summary>
    public long? RaisedBefore { get; init; }

    /// <summary>Users whose decisions the caller may make for them, with their roles.</summary>
    public IReadOnlyList<(string User, string Roles)> Lent { get; init; } = [];

    /// <summary>The parts of the organisation the caller may see; null means all.</summary>
    public IReadOnlyList<(IReadOnlyList<string> Sites, IReadOnlyList<string> Departments)>? Reach { get; init; }

    /// <summary>Plans are left out: a list that does not show effects needs none.</summary>
    public bool Light { get; init; }

    /// <summary>Late and stuck ones first; only for the first page.</summary>
    public bool UrgentFirst { get; init; }
}
