namespace Oikonom.Contracts;

/// <param name="Body">The entry with its values; those that are forgotten are named under <c>forgotten</c>.</param>
/// <param name="ForgottenAt">When values of it were forgotten, with the rule.</param>
public sealed record LedgerEntryView(
    string Id,
    DateTimeOffset At,
    string Actor,
    string Kind,
    string? PersonId,
    string? RequestId,
    long? Position,
    System.Text.Json.JsonElement Body,
    DateTimeOffset? ForgottenAt = null,
    string? ForgottenBy = null
);

/// <param name="Key">The pinned key that signs now.</param>
/// <param name="Kept">How many heads known outside the store it was held against.</param>
public sealed record LedgerVerification(
    bool Sound,
    long Entries,
    long Sealed,
    long Unsealed,
    string Root,
    int Heads,
    IReadOnlyList<string> Faults,
    long Milliseconds,
    string Key,
    int Kept
);

/// <summary>A signed head of the ledger; <paramref name="At"/> is in milliseconds since 1970, as it is signed.</summary>
public sealed record LedgerHead(long Size, string Root, long At, string Signature, string Key);

/// <summary>A key that heads are signed with, named by the one before it.</summary>
public sealed record LedgerKeyView(string Id, string PublicKey, long FromSize, DateTimeOffset Since, string NamedBy);

public sealed record LedgerVerifyBody(IReadOnlyList<LedgerHead>? Heads = null);

/// <summary>An entry with the proof that it is in the tree of a signed head (RFC 9162, section 2.1.3), and the same entry
/// exactly as it was sealed.</summary>
public sealed record LedgerProof(LedgerEntryView Entry, string Sealed, IReadOnlyList<string> Proof, LedgerHead Head, bool Holds);
