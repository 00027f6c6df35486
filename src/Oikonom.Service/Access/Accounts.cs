using System.Buffers.Text;
using System.Security.Claims;
using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.Identity;
using Oikonom.Core.Ledger;
using Oikonom.Service.Common;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Access;

/// <summary>Who signs in with a password (hashed by the framework), and tokens (stored as hashes).</summary>
public sealed class Accounts(Store.Store store, TimeProvider time)
{
    /// <summary>How long tokens of users hold whose roles another provider gives: their maker's rights are looked at no more
    /// often.</summary>
    public static readonly TimeSpan LongestForOpenId = TimeSpan.FromDays(7);
    private static readonly PasswordHasher<string> Hasher = new();

    // Checked when a name is unknown, so that unknown and known names take the same time.
    private static readonly string Decoy = Hasher.HashPassword("", "decoy");

    public static string HashPassword(string password) => Hasher.HashPassword("", password);

    public static string HashToken(string token) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(token)));

    public static string NewToken(string prefix) => prefix + Base64Url.EncodeToString(RandomNumberGenerator.GetBytes(32));

    public static bool IsRight(string hash, string password) =>
        Hasher.VerifyHashedPassword("", hash.Length > 0 ? hash : Decoy, password) != PasswordVerificationResult.Failed && hash.Length > 0;

    /// <param name="address">Where the try comes from.</param>
    /// <exception cref="Problem">Wrong name or password, or too many tries.</exception>
    public async Task<UserRow> SignInAsync(string name, string password, string address, CancellationToken cancel)
    {
        if (name is not { Length: > 0 and <= 64 } || password is not { Length: > 0 and <= 256 })
            throw Wrong();
        var now = time.Milliseconds();
        // Counted before the password is looked at: of many tries at once no more are looked at than one after the other.
        var (refused, user) = await store.WriteAsync(
            async s =>
            {
                var found = await s.UserAsync(name);
                var until = await SignInTries.CountAsync(s, name, address, now);
                if (until is not null && found is not null && !await s.WasToldAsync(name, now))
                    s.Record(LedgerEntry.Of(time.GetUtcNow(), name, "sign-in.slowed", null, null, ("way", "password")));
                return (until, found);
            },
            cancel
        );
        if (refused is { } later)
            throw SignInTries.Refused(later);
        var good = IsRight(user?.PasswordHash ?? "", password);
        if (user is not { Active: 1 } || !good)
        {
            if (user is not null)
                await store.WriteAsync(s => Task.FromResult(Recorded(s, name, "sign-in.failed")), cancel);
            throw Wrong();
        }
        await store.WriteAsync(
            async s =>
            {
                await SignInTries.ForgetAsync(s, name, address);
                Recorded(s, name, "sign-in.succeeded");
            },
            cancel
        );
        return user;
    }

    private bool Recorded(Store.Session s, string name, string what)
    {
        s.Record(LedgerEntry.Of(time.GetUtcNow(), name, what, null, null, ("way", "password")));
        return true;
    }

    private static Problem Wrong() => new(401, "wrong-credentials", "Not signed in", "The name or the password is wrong.");

    /// <summary>Makes a token. It never outlives the one it was made with, nor the rights of its maker.</summary>
    public async Task<(TokenRow Row, string Token)> IssueTokenAsync(
        UserRow user,
        string label,
        int days,
        CancellationToken cancel,
        IReadOnlyList<string>? roles = null,
        string? parent = null
    )
    {
        var token = NewToken("oik_");
        var now = time.GetUtcNow();
        var ends = now.AddDays(days);
        if (user.Issuer.Length > 0 && ends > now + LongestForOpenId)
            ends = now + LongestForOpenId;
        return await store.WriteAsync(
            async s =>
            {
                if (parent is not null)
                {
                    var maker = await s.TokenByIdAsync(parent);
                    if (maker is not { EndedAt: null } || maker.ExpiresAt <= now.ToUnixTimeMilliseconds())
                        throw new Problem(401, "sign-in-needed", "Sign-in needed", "The token this call was made with is over.");
                    if (maker.ExpiresAt.ToInstant() < ends)
                        ends = maker.ExpiresAt.ToInstant();
                }
                var row = new TokenRow
                {
                    Id = Guid.CreateVersion7(now).ToString(),
                    UserName = user.Name,
                    Hash = HashToken(token),
                    Label = label,
                    Roles = string.Join(' ', roles ?? []),
                    CreatedAt = now.ToUnixTimeMilliseconds(),
                    ExpiresAt = ends.ToUnixTimeMilliseconds(),
                    Parent = parent ?? "",
                };
                await s.AddTokenAsync(row);
                s.Record(
                    LedgerEntry.Of(
                        now,
                        user.Name,
                        "token.issued",
                        null,
                        null,
                        ("token", row.Id),
                        ("label", label),
                        ("roles", row.Roles.Length > 0 ? row.Roles : null),
                        ("expires", LedgerEntry.Stamp(ends))
                    )
                );
                return (row, token);
            },
            cancel
        );
    }

    /// <summary>The user a token belongs to, or null when it is unknown or over, one it was made with is, or the user may not
    /// sign in.</summary>
    public async Task<(UserRow User, TokenRow Token)?> ByTokenAsync(string token, CancellationToken cancel) =>
        await store.ReadAsync<(UserRow, TokenRow)?>(
            async s =>
                await s.TokenAsync(HashToken(token)) is { } row
                && await HoldsAsync(s, row)
                && await s.UserAsync(row.UserName) is { Active: 1 } user
                    ? (user, row)
                    : null,
            cancel
        );

    private async Task<bool> HoldsAsync(Store.Session s, TokenRow token)
    {
        for (var row = token; ; row = await s.TokenByIdAsync(row.Parent) ?? new() { EndedAt = 0 })
        {
            if (row.EndedAt is not null || row.ExpiresAt <= time.Milliseconds())
                return false;
            if (row.Parent.Length == 0)
                return true;
        }
    }

    /// <summary>True while what a caller came in with still holds: the session or token, and the user with the same rights.</summary>
    public Task<bool> StillHoldsAsync(ClaimsPrincipal caller, Sessions sessions, CancellationToken cancel) =>
        store.ReadAsync(
            async s =>
            {
                if (await s.UserAsync(caller.UserName()) is not { Active: 1 } user || user.Stamp != caller.FindFirstValue("stamp"))
                    return false;
                return caller.FindFirstValue("token") is { } token
                    ? await s.TokenByIdAsync(token) is { } row && await HoldsAsync(s, row)
                    : await sessions.IsOpenAsync(s, caller);
            },
            cancel
        );

    /// <param name="limit">The roles a token is limited to, or "".</param>
    public static ClaimsPrincipal Principal(UserRow user, string scheme, string? tokenId = null, string limit = "", string? session = null)
    {
        var claims = new List<Claim>
        {
            new(ClaimTypes.Name, user.Name),
            new("display", user.Display),
            new("stamp", user.Stamp),
            new("number", user.Number),
            new("person", user.PersonId),
            new("reach", user.Reach),
        };
        claims.AddRange(
            user.Roles.Split(' ', StringSplitOptions.RemoveEmptyEntries)
                .Where(r => limit is not { Length: > 0 } || limit.Split(' ').Contains(r))
                .Select(role => new Claim(ClaimTypes.Role, role))
        );
        if (tokenId is not null)
            claims.Add(new("token", tokenId));
        if (session is not null)
            claims.Add(new("session", session));
        return new(new ClaimsIdentity(claims, scheme));
    }
}
