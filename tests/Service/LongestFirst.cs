using Xunit.Sdk;
using Xunit.v3;

[assembly: Xunit.TestCollectionOrderer(typeof(Oikonom.Service.Tests.LongestFirst))]

namespace Oikonom.Service.Tests;

/// <summary>Begins with the classes that take longest, so that none of them is left over when all others are through.</summary>
public sealed class LongestFirst : ITestCollectionOrderer
{
    private static readonly Type[] Long =
    [
        typeof(KillTests),
        typeof(ChaosTests),
        typeof(TrustAccessTests),
        typeof(ApprovalTests),
        typeof(SourceTests),
        typeof(RollOutTests),
        typeof(AccountTests),
        typeof(InputTests),
        typeof(PathTests),
        typeof(RulebookTests),
        typeof(TrustRecordTests),
        typeof(ScimTests),
        typeof(TrustReachTests),
    ];

    public IReadOnlyCollection<TTestCollection> OrderTestCollections<TTestCollection>(IReadOnlyCollection<TTestCollection> testCollections)
        where TTestCollection : ITestCollection =>
        [
            .. testCollections.OrderBy(c =>
                Array.FindIndex(Long, l => c.TestCollectionDisplayName.Contains($" {l.FullName} ", StringComparison.Ordinal))
                    is >= 0
                        and var place
                    ? place
                    : Long.Length
            ),
        ];
}
