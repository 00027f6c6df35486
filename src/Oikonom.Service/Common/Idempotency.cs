using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Common;

/// <summary>
/// A call that carries an <c>Idempotency-Key</c> does its work once, on whichever node it arrives; the same call again
/// gets the same answer. Calls with other keys wait for nothing.
/// </summary>
public sealed class Idempotency(Store.Store store, TimeProvider time)
{
    private static readonly TimeSpan Claim = TimeSpan.FromMinutes(2);
    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(50);

    public async Task<T> OnceAsync<T>(HttpContext context, string actor, string request, Func<Task<T>> work, CancellationToken cancel)
    {
        var key = context.Request.Headers["Idempotency-Key"].ToString();
        if (key.Length == 0)
            return await work();
        if (key.Length > 200)
            throw Problem.Invalid("An Idempotency-Key has 200 characters at most.", "Idempotency-Key");
        var hash = Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes($"{context.Request.Path}\n{request}")));
        while (true)
        {
            var now = time.Milliseconds();
            if (await store.WriteAsync(s => s.ClaimAnswerAsync(actor, key, hash, now, now + (long)Claim.TotalMilliseconds), cancel))
                break;
            var (known, answer) = await store.ReadAsync(s => s.AnswerAsync(actor, key), cancel) ?? (hash, "");
            if (known != hash)
                throw new Problem(
                    422,
                    "key-used",
                    "The key was used before",
                    "This Idempotency-Key was used for a different call. Use a new one."
                );
            if (answer.Length > 0)
                return JsonSerializer.Deserialize<T>(answer, JsonSerializerOptions.Web)!;
            // The same call is under way, here or on another node: its answer is this one's.
            await Task.Delay(Look, time, cancel);
        }
        try
        {
            var answer = await work();
            await store.WriteAsync(
                s => s.KeepAnswerAsync(actor, key, JsonSerializer.Serialize(answer, JsonSerializerOptions.Web), time.Milliseconds()),
                CancellationToken.None
            );
            return answer;
        }
        catch
        {
            await store.WriteAsync(s => s.DropAnswerAsync(actor, key), CancellationToken.None);
            throw;
        }
    }
}
