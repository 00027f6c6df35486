namespace Oikonom.Contracts;

/// <summary>What changed: a topic such as <c>requests</c> and the id of the thing.</summary>
public sealed record LiveHint(string Topic, string Subject);

/// <param name="OpenId">True when people can sign in by an OpenID provider.</param>
/// <param name="Problems">What does not get on, in words; null when all is well.</param>
public sealed record Readiness(
    bool Ready,
    string Store,
    int Edition,
    string Version,
    bool OpenId = false,
    IReadOnlyList<string>? Problems = null
);
