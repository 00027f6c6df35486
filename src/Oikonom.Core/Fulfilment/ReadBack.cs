using System.Diagnostics;

namespace Oikonom.Core.Fulfilment;

/// <summary>One way in which a target differs from what was done: closed.</summary>
public abstract record Difference
{
    private Difference() { }

    /// <summary>The entry is not there any more.</summary>
    public sealed record Gone(string ImmutableId) : Difference;

    public sealed record OtherValues(string Attribute, IReadOnlyList<string> Found, IReadOnlyList<string> Wanted) : Difference;

    /// <summary>It may be used and should not, or the other way round.</summary>
    public sealed record OtherPresence(bool IsEnabled) : Difference;

    public sealed record Missing(string Entitlement) : Difference;

    public sealed record Surplus(string Entitlement) : Difference;

    /// <summary>The difference in words.</summary>
    public string Text =>
        this switch
        {
            Gone gone => $"the entry {gone.ImmutableId} is gone",
            OtherValues other => $"{other.Attribute} is '{string.Join(", ", other.Found)}', not '{string.Join(", ", other.Wanted)}'",
            OtherPresence presence => presence.IsEnabled ? "the account is enabled" : "the account is disabled",
            Missing missing => $"not in {missing.Entitlement}",
            Surplus surplus => $"still in {surplus.Entitlement}",
            _ => throw new UnreachableException($"{GetType().Name} has no words."),
        };
}

/// <summary>What a read-back found; nothing when the target is as it should be.</summary>
public sealed record ReadBack(IReadOnlyList<Difference> Differences)
{
    public bool Matches => Differences.Count == 0;
}
