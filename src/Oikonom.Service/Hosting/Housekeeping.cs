using Oikonom.Service.Common;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Hosting;

/// <summary>Forgets hints and answers that nobody can ask for any more.</summary>
public sealed class Housekeeping(Store.Store store, TimeProvider time, Pulse pulse, ILogger<Housekeeping> log)
    : Loop(TimeSpan.FromMinutes(10), pulse, log)
{
    private static readonly TimeSpan Keep = TimeSpan.FromHours(6);
    private static readonly TimeSpan KeepHours = TimeSpan.FromDays(60);
    private static readonly TimeSpan KeepAnswers = TimeSpan.FromDays(7);

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        await store.WriteAsync(
            async s =>
            {
                await s.PruneHintsAsync(time.Milliseconds() - (long)Keep.TotalMilliseconds);
                await s.PruneTargetHoursAsync(time.Milliseconds() - (long)KeepHours.TotalMilliseconds);
                await s.PruneReconciliationsAsync(time.Milliseconds() - (long)KeepHours.TotalMilliseconds);
                await s.PruneTriesAsync(time.Milliseconds() - (long)KeepAnswers.TotalMilliseconds);
                await s.PruneAnswersAsync(time.Milliseconds() - (long)KeepAnswers.TotalMilliseconds);
            },
            cancel
        );
        return false;
    }
}
