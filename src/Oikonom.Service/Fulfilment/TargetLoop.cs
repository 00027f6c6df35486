using Oikonom.Core.Fulfilment;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Connectors;
using Oikonom.Service.Editions;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>Writes down what was seen of targets, tells when one is away or back, and checks each now and then.</summary>
public sealed class TargetLoop(
    Store.Store store,
    EditionBook editions,
    TargetMeter meter,
    TargetDesk desk,
    Reconciler reconciler,
    AccountDesk accounts,
    ServiceOptions options,
    TimeProvider time,
    Pulse pulse,
    ILogger<TargetLoop> log
) : Loop(TimeSpan.FromSeconds(2), pulse, log)
{
    /// <summary>Reading a large target takes its time.</summary>
    protected override TimeSpan Patience => TimeSpan.FromMinutes(30);

    private const long Hour = 3_600_000;
    private static readonly TimeSpan Between = TimeSpan.FromMinutes(10);

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        if (meter.Take() is { Count: > 0 } readings)
            await SeenAsync(readings, cancel);
        await accounts.ReviewAsync(cancel);
        if (await editions.CurrentOrNullAsync(cancel) is not { } edition)
            return false;
        await EndingAsync(edition, cancel);
        await EachAsync(edition.Rulebook.Targets.Values.Where(t => t.HasAccounts), target => CheckAsync(edition, target, cancel));
        await EachAsync(
            edition.Rulebook.Targets.Values.Where(t => t.Watch.Whole is not null && t.Settings.Can.HasFlag(TargetAbilities.Listing)),
            target => ReadWholeAsync(edition, target, cancel)
        );
        await EachAsync(
            edition.Rulebook.Targets.Values.Where(t => t.Watch.Changes is not null && t.Settings.Can.HasFlag(TargetAbilities.Changes)),
            target => ReadChangesAsync(edition, target, cancel)
        );
        return false;
    }

    private async Task SeenAsync(IReadOnlyList<TargetMeter.Reading> readings, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        await store.WriteAsync(
            async s =>
            {
                var now = time.GetUtcNow();
                var before = (await s.TargetStatesAsync()).ToDictionary(t => t.Target);
                await s.SeenTargetsAsync([.. readings.Select(r => r.State)]);
                await s.AddTargetHoursAsync([
                    .. readings.Select(r => new TargetHourRow
                    {
                        Target = r.State.Target,
                        HourAt = now.ToUnixTimeMilliseconds() / Hour * Hour,
                        Done = r.Done,
                        Failed = r.Failed,
                    }),
                ]);
                foreach (var state in readings.Select(r => r.State))
                {
                    var (wasAway, isAway) = (before.GetValueOrDefault(state.Target)?.AwayAt is not null, state.AwayAt is not null);
                    if (wasAway == isAway)
                        continue;
                    await TargetDesk.NoteAsync(s, state.Target, isAway ? "away" : "back", "oikonom", isAway ? state.Problem : "", now);
                    if (!isAway)
                        await s.HastenTargetAsync(state.Target, now.ToUnixTimeMilliseconds());
                    await AlertAsync(s, edition, state, isAway);
                }
                foreach (var reading in readings)
                    s.Tell("targets", reading.State.Target);
            },
            cancel
        );
    }

    /// <summary>To the mailbox of operators, where the rulebook names one: pages tell it to whoever looks.</summary>
    private async Task AlertAsync(Session s, Edition edition, TargetStateRow state, bool isAway)
    {
        if (
            edition.Rulebook.Mailboxes.GetValueOrDefault(Roles.Operator) is not { } box
            || edition.Rulebook.Targets.GetValueOrDefault(state.Target) is not { } target
        )
            return;
        var counts = await s.TargetCountsAsync(state.Target, time.Milliseconds());
        s.Send(
            new(
                box,
                isAway ? $"{target.Title} does not answer" : $"{target.Title} answers again",
                (
                    isAway
                        ? $"{target.Title} does not answer: {state.Problem}\n\n{counts.Due} steps wait for it. It is tried again by "
                            + "itself, and all that waits goes on when it is back."
                        : $"{target.Title} answers again; {counts.Due} steps that waited go on."
                ) + $"\n\n{options.PublicAddress}/targets/{state.Target}\n",
                null
            )
        );
    }

    /// <summary>Once an hour: whatever ends soon is told to the mailbox of engineers, each time once.</summary>
    private async Task EndingAsync(Edition edition, CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        if (_endings > now || edition.Rulebook.Mailboxes.GetValueOrDefault(Roles.Engineer) is not { } box)
            return;
        _endings = now.AddHours(1);
        await store.WriteAsync(
            async s =>
            {
                foreach (var ending in EndsSoon.Of(edition.Rulebook, await s.TargetStatesAsync(), await s.SecretRowsAsync(), now))
                {
                    var key = $"told-{ending.Key}-{ending.DueAt(now)}";
                    var forever = now.AddYears(10).ToUnixTimeMilliseconds();
                    if (await s.TakeLeaseAsync(key, Guid.NewGuid().ToString("N"), now.ToUnixTimeMilliseconds(), forever))
                        s.Send(
                            new(
                                box,
                                ending.TextAt(now).TrimEnd('.'),
                                $"{ending.TextAt(now)} After that, nothing is done there until it is renewed.\n\n"
                                    + $"{options.PublicAddress}{ending.Link}\n",
                                null
                            )
                        );
                }
            },
            cancel
        );
    }

    private DateTimeOffset _endings = DateTimeOffset.MinValue;

    /// <summary>One node checks a target, and not again before the pause is over.</summary>
    private async Task CheckAsync(Edition edition, TargetRule target, CancellationToken cancel)
    {
        var now = time.Milliseconds();
        if (_checked.TryGetValue(target.Name, out var next) && next > now)
            return;
        _checked[target.Name] = now + (long)Between.TotalMilliseconds;
        if (
            await store.WriteAsync(
                s =>
                    s.TakeLeaseAsync(
                        $"check-{target.Name}",
                        Guid.NewGuid().ToString("N"),
                        now,
                        now + (long)Between.TotalMilliseconds - 1000
                    ),
                cancel
            )
        )
            await desk.CheckAsync(edition, target, false, cancel);
    }

    private readonly Dictionary<string, long> _checked = [];

    /// <summary>Asks a target what changed when its time has come; one node does.</summary>
    private async Task ReadChangesAsync(Edition edition, TargetRule target, CancellationToken cancel)
    {
        var at = time.Milliseconds();
        if (_changes.GetValueOrDefault(target.Name) > at)
            return;
        var every = (long)target.Watch.Changes!.Value.TotalMilliseconds;
        _changes[target.Name] = at + every;
        var states = await store.ReadAsync(s => s.TargetStatesAsync(), cancel);
        // Nobody asks one that does not answer, or that people let rest.
        if (states.FirstOrDefault(s => s.Target == target.Name) is { } state && (state.AwayAt is not null || state.PausedBy.Length > 0))
            return;
        if (
            await store.WriteAsync(
                s => s.TakeLeaseAsync($"changes-{target.Name}", Guid.NewGuid().ToString("N"), at, at + every - 1000),
                cancel
            )
        )
            try
            {
                await reconciler.ChangesAsync(edition, target, "oikonom", false, cancel);
            }
            catch (TargetFault fault) when (fault.Transient)
            {
                // Whether it answers is looked at by its check; what changed is told when it does.
            }
    }

    private readonly Dictionary<string, long> _changes = [];

    /// <summary>When this node looks at the schedule of a target next.</summary>
    private readonly Dictionary<string, DateTimeOffset> _reads = [];

    /// <summary>Reads a target whole when its time has come; one node does.</summary>
    private async Task ReadWholeAsync(Edition edition, TargetRule target, CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        if (!_reads.TryGetValue(target.Name, out var due) || due > now)
        {
            _reads.TryAdd(target.Name, target.Watch.Whole!.Next(now) ?? DateTimeOffset.MaxValue);
            return;
        }
        _reads[target.Name] = target.Watch.Whole!.Next(now) ?? DateTimeOffset.MaxValue;
        var at = now.ToUnixTimeMilliseconds();
        if (await store.WriteAsync(s => s.TakeLeaseAsync($"read-{target.Name}", Guid.NewGuid().ToString("N"), at, at + 30_000), cancel))
            await reconciler.RunAsync(edition, target, false, "oikonom", cancel);
    }
}
