using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Common;

/// <summary>Whom and what an address or a command names, or the one refusal that says it is not there.</summary>
public static class Named
{
    /// <param name="id">An id, an employee number, or HR's key.</param>
    public static async Task<PersonRow> RequirePersonAsync(this Session s, string id) => await s.FindPersonAsync(id) ?? throw NoPerson(id);

    /// <param name="id">An id, or the number that people read.</param>
    public static async Task<string> RequireRequestIdAsync(this Store.Store store, string id, CancellationToken cancel)
    {
        if (Guid.TryParse(id, out var guid))
            return guid.ToString();
        return (await store.ReadAsync(s => s.FindRequestAsync(id), cancel))?.Id ?? throw NoRequest(id);
    }

    public static Problem NoPerson(string id) => Problem.NotFound($"person '{id}'", "See 'oikonom people list'.");

    public static Problem NoRequest(string id) => Problem.NotFound($"request '{id}'", "See 'oikonom requests list'.");
}
