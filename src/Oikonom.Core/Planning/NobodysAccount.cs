namespace Oikonom.Core.Planning;

/// <summary>
/// An account that belongs to nobody, as the function of time sees it: it stays as it is recorded until the end that was
/// approved for it, if there is one. No template is asked about it.
/// </summary>
/// <param name="Until">The instant from which on it may not be used; null while no end is known.</param>
/// <param name="Reason">What brings the end.</param>
public sealed record NobodysAccount(AccountState Recorded, string ImmutableId, DateTimeOffset? Until, Reason Reason)
{
    /// <summary>What should be so of it over all time.</summary>
    public AccessWindows Windows()
    {
        var end = Recorded.Enabled ? Until ?? DateTimeOffset.MaxValue : DateTimeOffset.MinValue;
        var windows = new List<Window<AccountState>>();
        if (end > DateTimeOffset.MinValue)
            windows.Add(new(DateTimeOffset.MinValue, end, Recorded, Recorded.Reason));
        if (end < DateTimeOffset.MaxValue)
            windows.Add(new(end, DateTimeOffset.MaxValue, Recorded with { Presence = Presence.Disabled }, Reason));
        return new(windows, [], []);
    }

    /// <summary>The changes between what is recorded and what should be so from now on, each with a read-back.</summary>
    /// <param name="readsBack">True when the target can show what it holds.</param>
    public Plan Plan(int edition, bool readsBack, DateTimeOffset now)
    {
        var changes = new List<Change>();
        var windows = Windows();
        foreach (var due in windows.Turns.Where(turn => turn > now).Select(turn => (DateTimeOffset?)turn).Prepend(null))
        {
            if (!Recorded.Enabled || windows.At(due ?? now).Accounts[Recorded.Account].Enabled || changes.Count > 0)
                continue;
            var entry = Entry.Of(Recorded with { Presence = Presence.Disabled }, ImmutableId);
            changes.Add(new Change.DisableAccount(Recorded.Account, entry, Reason) { Due = due });
            if (readsBack)
                changes.Add(new Change.Verify(Recorded.Account, entry, Reason) { Due = due });
        }
        return new(edition, [.. changes.Select((change, i) => change with { Ordinal = i + 1 })]);
    }
}
