namespace Oikonom.Contracts;

public sealed record TextBody(string Text);

/// <param name="Step">The step's number in the plan; null for all that stopped or fail.</param>
/// <param name="Record">Other values of the person's attributes, with which it is asked for anew; null leaves it undone.</param>
public sealed record LeaveOutBody(string? Reason, int? Step = null, IReadOnlyDictionary<string, string>? Record = null);

public sealed record ReasonBody(string? Reason);

/// <summary>What is to be changed in a waiting request; only what is given changes.</summary>
public sealed record ChangeBody(
    string PlanDigest,
    IReadOnlyDictionary<string, string>? Record = null,
    IReadOnlyList<GrantWish>? Grants = null,
    string? LastDay = null,
    bool? Urgent = null,
    string? Reason = null,
    IReadOnlyList<string>? Templates = null
);

public sealed record Bound(string Id, string PlanDigest);

public sealed record ManyBody(IReadOnlyList<Bound> Requests, string? Remark = null);

public sealed record ManyAnswer(int Done, int Refused, IReadOnlyList<ManyOutcome> Items);

public sealed record ManyOutcome(string Id, long? Number, bool Done, string? Problem);

public sealed record IdsBody(IReadOnlyList<string> Ids);

/// <summary>What many requests would bring together, each with the digest that a decision is bound to.</summary>
/// <summary>How many of the people chosen gain or lose an entitlement.</summary>
public sealed record EntitlementTally(string Key, string Title, bool Privileged, int People, int Gained, int Lost);

public sealed record JointEffect(
    int Requests,
    int People,
    IReadOnlyList<EntitlementTally> ByEntitlement,
    int AccountsMade,
    int AccountsDisabled,
    int Privileged,
    IReadOnlyList<JointRequest> Items,
    IReadOnlyList<string> Notes
);

public sealed record JointRequest(
    string Id,
    long Number,
    string Kind,
    string Person,
    string PlanDigest,
    string Effect,
    bool MayApprove,
    string? WhyNot
);

public sealed record DelegationBody(
    string To,
    string Begins,
    string Ends,
    IReadOnlyList<string>? Kinds = null,
    string? Remark = null,
    string? From = null
);

/// <summary>Somebody who could decide in the caller's place.</summary>
public sealed record DelegateView(string Name, string Display);

public sealed record DelegationView(
    string Id,
    string From,
    string To,
    DateTimeOffset Begins,
    DateTimeOffset Ends,
    IReadOnlyList<string> Kinds,
    string Remark,
    string Actor,
    bool Mine
);
