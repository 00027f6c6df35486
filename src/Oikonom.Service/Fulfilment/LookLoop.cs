using Oikonom.Core.Rulebook;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>Looks at every account again when its last look is older than its target's rule allows, a few at a time.</summary>
public sealed class LookLoop(
    Store.Store store,
    EditionBook editions,
    LookDesk desk,
    Pressure pressure,
    TimeProvider time,
    Pulse pulse,
    ILogger<LookLoop> log
) : Loop(TimeSpan.FromSeconds(5), pulse, log)
{
    private const int Batch = 100;

    /// <summary>How long what could not be looked at waits.</summary>
    private static readonly TimeSpan Pause = TimeSpan.FromMinutes(10);

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        if (pressure.IsHigh || await editions.CurrentOrNullAsync(cancel) is not { } newest)
            return false;
        var more = false;
        foreach (
            var target in newest.Rulebook.Targets.Values.Where(t =>
                t.Watch.Then != WatchAnswer.Nothing && t.Settings.Can.HasFlag(TargetAbilities.ReadBack)
            )
        )
        {
            var now = time.Milliseconds();
            var before = now - (long)target.Watch.Every.TotalMilliseconds;
            if (!await store.ReadAsync(s => s.AnyToLookAtAsync(target.Name, before), cancel))
                continue;
            var taken = await store.WriteAsync(s => s.TakeToLookAtAsync(target.Name, before, now, Batch), cancel);
            var looked = await desk.LookAsync(taken, cancel);
            if (looked.Postponed.Count > 0)
                await store.WriteAsync(s => s.LookedAtAsync(looked.Postponed, before + (long)Pause.TotalMilliseconds), cancel);
            // A target that is away is left alone until the pause is over.
            more |= taken.Count == Batch && looked.Postponed.Count < taken.Count;
        }
        return more;
    }
}
