using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Hosting;

/// <summary>A call that carries an <c>Idempotency-Key</c> does its work once; the same call again gets the same answer.</summary>
public sealed class Idempotency(Store.Store store, TimeProvider time)
{
    private readonly SemaphoreSlim _one = new(1);

    public async Task<T> OnceAsync<T>(HttpContext context, string actor, string request, Func<Task<T>> work, CancellationToken cancel)
    {
        var key = context.Request.Headers["Idempotency-Key"].ToString();
        if (key.Length == 0) return await work();
        if (key.Length > 200) throw Problem.Invalid("An Idempotency-Key has 200 characters at most.", "Idempotency-Key");
        var hash = Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes($"{context.Request.Path}\n{request}")));
        // One after the other, so that two calls at once are one piece of work.
        await _one.WaitAsync(cancel);
        try
        {
            if (await store.ReadAsync(s => s.AnswerAsync(actor, key, hash), cancel) is { } known)
            {
                return known.Length > 0 ? JsonSerializer.Deserialize<T>(known, JsonSerializerOptions.Web)!
                    : throw new Problem(422, "key-used", "The key was used before", "This Idempotency-Key was used for a different call. Use a new one.");
            }
            var answer = await work();
            await store.WriteAsync(s => s.KeepAnswerAsync(actor, key, hash, JsonSerializer.Serialize(answer, JsonSerializerOptions.Web), time.Milliseconds()), cancel);
            return answer;
        }
        finally
        {
            _one.Release();
        }
    }
}
