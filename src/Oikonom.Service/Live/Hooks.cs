using System.Globalization;
using System.Net.Http.Headers;
using System.Security.Claims;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.AspNetCore.Http.HttpResults;
using Oikonom.Contracts;
using Oikonom.Core.Ledger;
using Oikonom.Core.Time;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Live;

/// <summary>
/// Tells addresses of what happened: sealed ledger entries in their order, each as a CloudEvent (1.0, structured JSON),
/// signed by HTTP Message Signatures (RFC 9421, hmac-sha256) over its digest (RFC 9530). At least once: a receiver
/// knows an event again by its id.
/// </summary>
public sealed partial class HookLoop(
    Store.Store store,
    Sight sight,
    IHttpClientFactory clients,
    IDataProtectionProvider protection,
    ServiceOptions options,
    TimeProvider time,
    Pulse pulse,
    ILogger<HookLoop> log
) : Loop(TimeSpan.FromSeconds(1), pulse, log)
{
    public const string Client = "hooks";
    private const int Batch = 200;
    private static readonly TimeSpan Lease = TimeSpan.FromMinutes(2);
    private readonly IDataProtector _protector = protection.CreateProtector("oikonom.hooks.v1");

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        if ((await store.ReadAsync(s => s.HooksAsync(), cancel)).Count == 0)
            return false;
        var now = time.Milliseconds();
        var claimed = await store.WriteAsync(s => s.ClaimHooksAsync(now, now + (long)Lease.TotalMilliseconds), cancel);
        await EachAsync(claimed, hook => TellAsync(hook, cancel));
        return false;
    }

    private async Task TellAsync(HookRow hook, CancellationToken cancel)
    {
        var kinds = hook.Kinds.Split(' ', StringSplitOptions.RemoveEmptyEntries);
        foreach (var entry in await store.ReadAsync(s => s.SealedFromAsync(hook.NextPosition, Batch), cancel))
        {
            if (
                kinds.Any(k => k == entry.Kind || (k.EndsWith('.') && entry.Kind.StartsWith(k, StringComparison.Ordinal)))
                && await SendAsync(hook, entry, cancel) is { } problem
            )
            {
                (hook.Problem, hook.DueAt) = (problem, time.Milliseconds() + BackOff.ForWork.Milliseconds(hook.Attempts));
                hook.Attempts++;
                LogFailure(log, hook.Address, (int)hook.Attempts, problem);
                break;
            }
            (hook.NextPosition, hook.Attempts, hook.Problem, hook.SentAt) = (entry.Position!.Value + 1, 0, "", time.Milliseconds());
        }
        await store.WriteAsync(s => s.SaveHookAsync(hook), cancel);
    }

    /// <summary>Sends one event; null when the receiver took it.</summary>
    private async Task<string?> SendAsync(HookRow hook, LedgerRow entry, CancellationToken cancel)
    {
        var body = JsonSerializer.SerializeToUtf8Bytes(
            new Dictionary<string, object?>
            {
                ["specversion"] = "1.0",
                ["id"] = entry.Id,
                ["source"] = options.PublicAddress,
                ["type"] = $"oikonom.{entry.Kind}",
                ["subject"] = entry.RequestId ?? entry.PersonId,
                ["time"] = LedgerEntry.Stamp(entry.At.ToInstant()),
                ["datacontenttype"] = "application/json",
                ["sequence"] = entry.Position!.Value.ToString(CultureInfo.InvariantCulture),
                ["data"] = (await sight.OutsideAsync(cancel)).Over(LedgerText.Open(entry.Body, entry.Held)),
            }
        );
        try
        {
            using var message = new HttpRequestMessage(HttpMethod.Post, hook.Address) { Content = new ByteArrayContent(body) };
            message.Content.Headers.ContentType = new MediaTypeHeaderValue("application/cloudevents+json") { CharSet = "utf-8" };
            Sign(message, body, hook.Id, _protector.Unprotect(hook.Secret), time.GetUtcNow());
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
            limit.CancelAfter(TimeSpan.FromSeconds(20));
            using var response = await clients
                .CreateClient(Client)
                .SendAsync(message, HttpCompletionOption.ResponseHeadersRead, limit.Token);
            return response.IsSuccessStatusCode ? null : $"The receiver answered {(int)response.StatusCode}.";
        }
        catch (Exception error)
            when (error is HttpRequestException or CryptographicException
                || (error is OperationCanceledException && !cancel.IsCancellationRequested)
            )
        {
            return error is OperationCanceledException ? "The receiver did not answer within 20 s." : error.Message;
        }
    }

    /// <summary>Content-Digest (RFC 9530) and a signature over it, the method, the address and the type (RFC 9421, section 3.1).</summary>
    public static void Sign(HttpRequestMessage message, byte[] body, string keyId, string secret, DateTimeOffset now)
    {
        var digest = $"sha-256=:{Convert.ToBase64String(SHA256.HashData(body))}:";
        var type = message.Content!.Headers.ContentType!.ToString();
        var parameters =
            "(\"@method\" \"@target-uri\" \"content-type\" "
            + $"\"content-digest\");created={now.ToUnixTimeSeconds()};keyid=\"{keyId}\";alg=\"hmac-sha256\"";
        var text =
            $"\"@method\": POST\n\"@target-uri\": {message.RequestUri!.AbsoluteUri}\n\"content-type\": "
            + $"{type}\n\"content-digest\": {digest}\n\"@signature-params\": {parameters}";
        var signature = Convert.ToBase64String(HMACSHA256.HashData(Encoding.UTF8.GetBytes(secret), Encoding.ASCII.GetBytes(text)));
        message.Headers.TryAddWithoutValidation("Content-Digest", digest);
        message.Headers.TryAddWithoutValidation("Signature-Input", $"oikonom={parameters}");
        message.Headers.TryAddWithoutValidation("Signature", $"oikonom=:{signature}:");
    }

    [LoggerMessage(Level = LogLevel.Warning, Message = "Hook {Address} could not be told ({Attempts} in a row): {Problem}")]
    private static partial void LogFailure(ILogger log, string address, int attempts, string problem);
}

public static class HookEndpoints
{
    public static void MapHooks(this RouteGroupBuilder api)
    {
        api.MapGet(
                "/hooks",
                async (Store.Store store, CancellationToken cancel) =>
                    new Page<HookView>([.. (await store.ReadAsync(s => s.HooksAsync(), cancel)).Select(View)], null)
            )
            .WithName("listHooks")
            .WithSummary("Addresses that are told of changes.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
        api.MapPost("/hooks", AddAsync)
            .WithName("addHook")
            .WithSummary("Tells an address of changes from now on: signed CloudEvents, in order, retried.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
        api.MapPost("/hooks/{id}/replay", ReplayAsync)
            .WithName("replayHook")
            .WithSummary("Tells everything again from a position of the ledger on.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
        api.MapDelete("/hooks/{id}", EndAsync)
            .WithName("endHook")
            .WithSummary("Tells an address nothing more.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
    }

    private static async Task<HookView> AddAsync(
        HookBody body,
        Store.Store store,
        IDataProtectionProvider protection,
        TimeProvider time,
        ClaimsPrincipal user,
        CancellationToken cancel
    )
    {
        var (address, kinds) = Checked(body);
        var now = time.GetUtcNow();
        var hook = new HookRow
        {
            Id = Guid.CreateVersion7(now).ToString(),
            Address = address.AbsoluteUri,
            Kinds = string.Join(' ', kinds),
            Secret = protection.CreateProtector("oikonom.hooks.v1").Protect(body.Secret),
            Actor = user.UserName(),
            CreatedAt = now.ToUnixTimeMilliseconds(),
            DueAt = now.ToUnixTimeMilliseconds(),
        };
        await store.WriteAsync(
            async s =>
            {
                hook.NextPosition = await s.SealedAsync();
                await s.AddHookAsync(hook);
                Record(s, now, user, "hook.made", ("hook", hook.Id), ("address", hook.Address), ("kinds", kinds));
            },
            cancel
        );
        return View(hook);
    }

    /// <summary>The address and the kinds of happenings that are asked for.</summary>
    /// <exception cref="Problem">400: no address that is safe to tell, a secret of a wrong length, or no kind.</exception>
    private static (Uri Address, IReadOnlyList<string> Kinds) Checked(HookBody body)
    {
        if (
            !Uri.TryCreate(body.Address, UriKind.Absolute, out var address)
            || (address.Scheme != "https" && !(address.Scheme == "http" && address.IsLoopback))
        )
            throw Problem.Invalid("The address is https://…, or http:// on this machine.", "address");
        if (body.Secret is not { Length: >= 16 and <= 256 })
            throw Problem.Invalid("The secret that signs has from 16 to 256 characters.", "secret");
        IReadOnlyList<string> kinds = body.Kinds is { Count: > 0 } ? body.Kinds : ["request."];
        if (kinds.Any(k => k.Length > 60 || k.Any(c => !char.IsAsciiLetterLower(c) && c is not ('.' or '-'))))
            throw Problem.Invalid("A kind is such as request.completed, or a prefix such as request.", "kinds");
        return (address, kinds);
    }

    private static async Task<NoContent> ReplayAsync(
        string id,
        ReplayBody body,
        Store.Store store,
        TimeProvider time,
        ClaimsPrincipal user,
        CancellationToken cancel
    )
    {
        if (body.Position < 0)
            throw Problem.Invalid("A position is 0 or more.", "position");
        await store.WriteAsync(
            async s =>
            {
                if (!await s.ReplayHookAsync(id, body.Position, time.Milliseconds()))
                    throw Problem.NotFound($"hook '{id}'", "See 'oikonom hooks list'.");
                Record(s, time.GetUtcNow(), user, "hook.replayed", ("hook", id), ("from", body.Position));
            },
            cancel
        );
        return TypedResults.NoContent();
    }

    private static async Task<NoContent> EndAsync(
        string id,
        Store.Store store,
        TimeProvider time,
        ClaimsPrincipal user,
        CancellationToken cancel
    )
    {
        await store.WriteAsync(
            async s =>
            {
                if (!await s.EndHookAsync(id))
                    throw Problem.NotFound($"hook '{id}'", "See 'oikonom hooks list'.");
                Record(s, time.GetUtcNow(), user, "hook.ended", ("hook", id));
            },
            cancel
        );
        return TypedResults.NoContent();
    }

    private static void Record(
        Session s,
        DateTimeOffset now,
        ClaimsPrincipal user,
        string kind,
        params (string Name, object? Value)[] details
    ) => s.Record(LedgerEntry.Of(now, user.UserName(), kind, null, null, details));

    private static HookView View(HookRow row) =>
        new(
            row.Id,
            row.Address,
            row.Kinds.Split(' '),
            row.Actor,
            row.CreatedAt.ToInstant(),
            row.Active == 1,
            row.NextPosition,
            (int)row.Attempts,
            row.Problem.Length > 0 ? row.Problem : null,
            row.SentAt.ToInstant()
        );
}
