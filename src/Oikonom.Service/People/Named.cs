using Oikonom.Service.Hosting;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.People;

/// <summary>Whom and what an address or a command names, or the one refusal that says it is not there.</summary>
public static class Named
{
    /// <param name="id">An id, an employee number, or HR's key.</param>
    public static async Task<PersonRow> RequirePersonAsync(this Session s, string id) => await s.FindPersonAsync(id) ?? throw NoPerson(id);

    public static Problem NoPerson(string id) => Problem.NotFound($"person '{id}'", "See 'oikonom people list'.");

    public static Problem NoRequest(string id) => Problem.NotFound($"request '{id}'", "See 'oikonom requests list'.");
}
