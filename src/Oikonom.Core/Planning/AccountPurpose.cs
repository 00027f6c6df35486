namespace Oikonom.Core.Planning;

/// <summary>What an account that belongs to nobody is taken for.</summary>
public static class AccountPurpose
{
    /// <summary>It was found in the target, answers to nobody, and nobody has said what it is.</summary>
    public const string Unmatched = "unmatched";

    /// <summary>Several people use it; one answers for it.</summary>
    public const string Shared = "shared";

    /// <summary>A program uses it; a person answers for it.</summary>
    public const string Service = "service";

    /// <summary>Nobody has said what it is, and nobody is asked before a day.</summary>
    public const string Ignored = "ignored";

    /// <summary>All purposes, in the order in which lists offer them.</summary>
    public static readonly IReadOnlyList<string> All = [Unmatched, Shared, Service, Ignored];

    /// <summary>True when somebody said what it is: then it is never taken for a person's.</summary>
    public static bool IsKnown(string purpose) => purpose is Shared or Service;
}
