namespace Oikonom.Contracts;

public sealed record SignInBody(string Name, string Password);

public sealed record Me(
    string Name,
    string Display,
    IReadOnlyList<string> Roles,
    string? Number,
    IReadOnlyDictionary<string, ReachBody>? Reach = null
);

public sealed record TokenBody(string Name, string Password, string? Label, int? Days);

public sealed record IssuedToken(string Id, string Token, DateTimeOffset ExpiresAt);

/// <summary>A part of the organisation; what is left out is not limited.</summary>
public sealed record ReachBody(
    IReadOnlyList<string>? Sites = null,
    IReadOnlyList<string>? Departments = null,
    IReadOnlyList<string>? Targets = null
);

/// <param name="Reach">Role → the part of the organisation it is limited to; a role that is not named has no limit. Left out: as
/// it was.</param>
public sealed record UserBody(
    string Display,
    string Mail,
    IReadOnlyList<string> Roles,
    string? Number,
    bool? Active,
    IReadOnlyDictionary<string, ReachBody>? Reach = null
);

/// <param name="Way">How they sign in: <c>password</c>, <c>openid</c>, or <c>link-sent</c> while they have not set a password yet.</param>
public sealed record User(
    string Name,
    string Display,
    string Mail,
    IReadOnlyList<string> Roles,
    string? Number,
    bool Active,
    IReadOnlyDictionary<string, ReachBody>? Reach = null,
    string Way = "password"
);

/// <summary>A change of a user that waits for a second person, with each field before and after.</summary>
public sealed record UserChange(
    string Id,
    string User,
    string AskedBy,
    DateTimeOffset At,
    bool IsNew,
    IReadOnlyList<AttributeChangeView> Changes,
    bool MayAgree
);

/// <param name="User">The user as it is now; null while a new one waits.</param>
/// <param name="Waits">Set when another engineer agrees first.</param>
public sealed record UserSaved(User? User, UserChange? Waits);

public sealed record ForgottenBody(string Name);

public sealed record NewPasswordBody(string Password);

public sealed record OwnPasswordBody(string? Current, string? New);

public sealed record PasswordLink(string Name, string Display, DateTimeOffset ExpiresAt);

public sealed record SessionView(
    string Id,
    string User,
    DateTimeOffset Began,
    DateTimeOffset Seen,
    string Address,
    string Agent,
    string Way,
    bool Current
);

/// <param name="Roles">The roles the token is limited to; none means all of its user.</param>
public sealed record OwnTokenBody(string Label, int? Days = null, IReadOnlyList<string>? Roles = null);

public sealed record TokenView(
    string Id,
    string Label,
    DateTimeOffset CreatedAt,
    DateTimeOffset ExpiresAt,
    IReadOnlyList<string> Roles,
    bool Current
);

/// <param name="Kinds">Kinds of ledger entries, such as request.completed, or a prefix ending in a dot; none means request.</param>
public sealed record HookBody(string Address, string Secret, IReadOnlyList<string>? Kinds = null);

public sealed record HookView(
    string Id,
    string Address,
    IReadOnlyList<string> Kinds,
    string Actor,
    DateTimeOffset CreatedAt,
    bool Active,
    long NextPosition,
    int Attempts,
    string? Problem,
    DateTimeOffset? SentAt
);

public sealed record ReplayBody(long Position);

/// <param name="For">The documents it is set for, such as targets/directory; left out, it goes where it went.</param>
public sealed record SecretBody(string Value, IReadOnlyList<string>? For = null, DateOnly? ValidUntil = null);

/// <param name="Goes">The addresses it is shown to, each with the document that names it.</param>
public sealed record Secret(string Name, string SetBy, DateTimeOffset SetAt, IReadOnlyList<string> Goes, DateOnly? ValidUntil);

/// <param name="Waiting">Where the rulebook would send it too, and where it does not go until it is set for that.</param>
public sealed record SecretSet(string Name, IReadOnlyList<string> Goes, IReadOnlyList<string> Waiting);

/// <summary>A password, shown once.</summary>
public sealed record HandedOver(string Person, string Account, string Target, string Password);

/// <summary>Who got a new one-time link.</summary>
public sealed record FirstPasswordSent(IReadOnlyList<string> Receivers);

public sealed record Handover(string Person, string Account, string Target, DateTimeOffset ExpiresAt);
