using System.Buffers.Text;
using System.Security.Claims;
using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.Identity;
using Oikonom.Core.Ledger;
using Oikonom.Service.Hosting;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Access;

/// <summary>Users, their passwords (hashed by the framework), lock-out, and tokens (stored as hashes).</summary>
public sealed class Accounts(Store.Store store, TimeProvider time)
{
    private const int MaxFailures = 5;
    private static readonly TimeSpan LockOut = TimeSpan.FromMinutes(5);
    private static readonly PasswordHasher<string> Hasher = new();

    // Checked when a name is unknown, so that unknown and known names take the same time.
    private static readonly string Decoy = Hasher.HashPassword("", "decoy");

    public static string HashPassword(string password) => Hasher.HashPassword("", password);
    public static string HashToken(string token) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(token)));
    public static string NewToken(string prefix) => prefix + Base64Url.EncodeToString(RandomNumberGenerator.GetBytes(32));

    /// <exception cref="Problem">Wrong name or password, or locked out.</exception>
    public async Task<UserRow> SignInAsync(string name, string password, CancellationToken cancel)
    {
        if (name is not { Length: > 0 and <= 64 } || password is not { Length: > 0 and <= 256 }) throw Wrong();
        var now = time.Milliseconds();
        var user = await store.ReadAsync(s => s.UserAsync(name), cancel);
        if (user is not null && user.LockedUntil > now)
        {
            throw new Problem(429, "locked-out", "Locked out", $"Too many wrong passwords. Try again after {user.LockedUntil.ToInstant():HH:mm} UTC.", ("until", user.LockedUntil.ToInstant()));
        }
        var good = Hasher.VerifyHashedPassword("", user?.PasswordHash ?? Decoy, password) != PasswordVerificationResult.Failed;
        if (user is null || user.Active == 0 || !good)
        {
            if (user is not null)
            {
                var failed = user.Failed + 1;
                await store.WriteAsync(async s =>
                {
                    await s.SetFailuresAsync(name, failed >= MaxFailures ? 0 : failed, failed >= MaxFailures ? now + (long)LockOut.TotalMilliseconds : 0);
                    s.Record(LedgerEntry.Of(time.GetUtcNow(), name, failed >= MaxFailures ? "sign-in.locked-out" : "sign-in.failed", null, null));
                }, cancel);
            }
            throw Wrong();
        }
        await store.WriteAsync(async s =>
        {
            if (user.Failed > 0 || user.LockedUntil > 0) await s.SetFailuresAsync(name, 0, 0);
            s.Record(LedgerEntry.Of(time.GetUtcNow(), name, "sign-in.succeeded", null, null));
        }, cancel);
        return user;
    }

    private static Problem Wrong() => new(401, "wrong-credentials", "Not signed in", "The name or the password is wrong.");

    public async Task<(TokenRow Row, string Token)> IssueTokenAsync(UserRow user, string label, int days, CancellationToken cancel, IReadOnlyList<string>? roles = null)
    {
        var token = NewToken("oik_");
        var now = time.GetUtcNow();
        var row = new TokenRow
        {
            Id = Guid.CreateVersion7(now).ToString(),
            UserName = user.Name,
            Hash = HashToken(token),
            Label = label,
            Roles = string.Join(' ', roles ?? []),
            CreatedAt = now.ToUnixTimeMilliseconds(),
            ExpiresAt = now.AddDays(days).ToUnixTimeMilliseconds(),
        };
        await store.WriteAsync(async s =>
        {
            await s.AddTokenAsync(row);
            s.Record(LedgerEntry.Of(now, user.Name, "token.issued", null, null, ("token", row.Id), ("label", label), ("roles", row.Roles.Length > 0 ? row.Roles : null), ("expires", LedgerEntry.Stamp(row.ExpiresAt.ToInstant()))));
        }, cancel);
        return (row, token);
    }

    /// <summary>The user a token belongs to, or null when it is unknown, over, or the user may not sign in.</summary>
    public async Task<(UserRow User, TokenRow Token)?> ByTokenAsync(string token, CancellationToken cancel) => await store.ReadAsync<(UserRow, TokenRow)?>(async s =>
    {
        if (await s.TokenAsync(HashToken(token)) is not { EndedAt: null } row || row.ExpiresAt <= time.Milliseconds()) return null;
        return await s.UserAsync(row.UserName) is { Active: 1 } user ? (user, row) : null;
    }, cancel);

    /// <param name="limit">The roles a token is limited to, or "".</param>
    public static ClaimsPrincipal Principal(UserRow user, string scheme, string? tokenId = null, string limit = "", string? session = null)
    {
        var claims = new List<Claim> { new(ClaimTypes.Name, user.Name), new("display", user.Display), new("stamp", user.Stamp), new("number", user.Number), new("reach", user.Reach) };
        claims.AddRange(user.Roles.Split(' ', StringSplitOptions.RemoveEmptyEntries).Where(r => limit is not { Length: > 0 } || limit.Split(' ').Contains(r)).Select(role => new Claim(ClaimTypes.Role, role)));
        if (tokenId is not null) claims.Add(new("token", tokenId));
        if (session is not null) claims.Add(new("session", session));
        return new(new ClaimsIdentity(claims, scheme));
    }
}
