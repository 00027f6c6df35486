using Oikonom.Core.Fulfilment;
using Oikonom.Ldap;

namespace Oikonom.Targets.Ldap;

/// <summary>What a directory's answers mean for who wants something done in it.</summary>
internal static class LdapFaults
{
    /// <summary>Does something, and tells what went wrong in the words of targets.</summary>
    /// <param name="title">What people call the directory.</param>
    /// <exception cref="TargetFault">The directory is not there, or refuses.</exception>
    public static async Task<T> GuardAsync<T>(string title, Func<Task<T>> work)
    {
        try
        {
            return await work().ConfigureAwait(false);
        }
        catch (LdapConnectionException error)
        {
            throw new TargetFault($"{title}: {error.Message}", transient: true, inner: error);
        }
        catch (LdapResultException error) when (error.Code == LdapCode.AssertionFailed)
        {
            // The name belongs to another entry by now: looked up anew by the id at the next try.
            throw new TargetFault(
                $"{title}: the entry changed its name at this moment; it is looked up anew.",
                transient: true,
                inner: error
            );
        }
        catch (LdapResultException error)
        {
            var transient =
                error.Code
                is LdapCode.Busy
                    or LdapCode.Unavailable
                    or LdapCode.TimeLimitExceeded
                    or LdapCode.AdminLimitExceeded
                    or LdapCode.OperationsError
                    or LdapCode.Other;
            throw new TargetFault($"{title} refuses: {error.Message}", transient, inner: error);
        }
    }
}
