using System.Text.Json;
using Oikonom.Core.Approval;
using Oikonom.Core.Ledger;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Service.Notices;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <summary>
/// What the passing of time does to requests that wait for people: reminders, escalation, the rule of silence, and
/// other approvers for those who cannot decide any more. Ends the sign-in of users whose employment is over.
/// </summary>
public sealed class ClockLoop(
    Store.Store store,
    EditionBook editions,
    RequestDesk desk,
    Notifier notices,
    TimeProvider time,
    Pulse pulse,
    ILogger<ClockLoop> log
) : Loop(TimeSpan.FromSeconds(2), pulse, log)
{
    private const int Batch = 100;
    private static readonly TimeSpan BetweenLooks = TimeSpan.FromSeconds(10);
    private DateTimeOffset _looked;

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        if (now - _looked >= BetweenLooks)
        {
            _looked = now;
            await store.WriteAsync(s => s.BindUsersAsync(), cancel);
            await EndUsersAsync(now, cancel);
            await ReplaceAsync(now, cancel);
        }
        var due = await store.ReadAsync(s => s.DueClocksAsync(now.ToUnixTimeMilliseconds(), Batch), cancel);
        await EachAsync(
            due,
            id => store.WriteAsync(s => RingAsync(s, id, now, cancel), cancel),
            (id, _) => store.WriteAsync(s => s.PutClockOffAsync(id, now.AddMinutes(5).ToUnixTimeMilliseconds()), cancel)
        );
        return due.Count == Batch;
    }

    private async Task RingAsync(Session s, string id, DateTimeOffset now, CancellationToken cancel)
    {
        if (
            await s.RequestAsync(id, forUpdate: true) is not { State: RequestState.Deciding } row
            || row.ClockAt > now.ToUnixTimeMilliseconds()
        )
            return;
        var of = await Case.LoadAsync(s, row, await editions.GetAsync(row.Edition, cancel), now);
        if (of.Stage is not { } stage)
            return;
        var clock = StageClock.FromJson(row.Clock);
        var hours = of.Edition.Rulebook.HoursOf(of.Person.Site);
        if (clock.Deadline <= now.ToUnixTimeMilliseconds())
        {
            row.Late = 1;
            if (clock.Level == 0 && stage.Escalates.Count > 0)
            {
                await EscalateAsync(s, of, stage);
                var again = new StageClock(
                    hours.After(now, stage.Deadline!.Value).ToUnixTimeMilliseconds(),
                    stage.Remind is { } r ? hours.After(now, r).ToUnixTimeMilliseconds() : null,
                    1
                );
                (row.Clock, row.ClockAt) = (again.ToJson(), again.Next);
            }
            else if (stage.OnSilence == SilenceRule.Decline)
            {
                await desk.DeclineBySilenceAsync(s, of);
                return;
            }
            else if (stage.OnSilence == SilenceRule.Approve && !of.About.IsOwn)
            {
                await desk.ApproveBySilenceAsync(s, of);
                return;
            }
            else
            {
                await MarkAsync(s, of, "late", "nobody decided in time");
                foreach (var user in of.Deciding(of.StillOpen()))
                    notices.To(s, of, user, NoticeEvents.Late, new() { ["text"] = "It still waits for you." });
                var waits = clock with
                {
                    Deadline = null,
                    Remind = stage.Remind is { } r ? hours.After(now, r).ToUnixTimeMilliseconds() : null,
                };
                (row.Clock, row.ClockAt) = (waits.ToJson(), waits.Next);
            }
        }
        else if (clock.Remind <= now.ToUnixTimeMilliseconds())
        {
            await MarkAsync(s, of, "reminded", "");
            foreach (var user in of.Deciding(of.StillOpen()))
                notices.To(s, of, user, NoticeEvents.Reminder, new() { ["as"] = row.DeciderWhy, ["due"] = StageEntry.DueText(of) });
            var next = clock with { Remind = hours.After(now, stage.Remind!.Value).ToUnixTimeMilliseconds() };
            (row.Clock, row.ClockAt) = (next.ToJson(), next.Next);
        }
        await s.SaveRequestAsync(row);
        s.Tell("requests", id);
    }

    /// <summary>Others may decide too; those who were asked first still may.</summary>
    private async Task EscalateAsync(Session s, Case of, Stage stage)
    {
        var ballots = of
            .Open.Select(b =>
            {
                var item = b.Item.Length > 0 ? of.Items.FirstOrDefault(i => i.Key == b.Item) : null;
                var more = Approvers.Resolve(stage.Escalates, stage.Otherwise, item, of.About, of.Edition.Rulebook, of.Parties);
                var users = Names(of, b.Deciders).Union(Names(of, more)).Order(StringComparer.Ordinal).ToList();
                return b with { Deciders = new(users, null, $"{b.Deciders.Why}, or since it is late {more.Why}") };
            })
            .ToList();
        var before = of.Deciding(of.StillOpen()).Select(u => u.Name).ToHashSet();
        of.Replace(ballots);
        of.Row.Ballots = JsonSerializer.Serialize(ballots, JsonSerializerOptions.Web);
        StageEntry.Show(of.Row, of.StillOpen());
        await MarkAsync(s, of, "escalated", of.Row.DeciderWhy);
        foreach (var user in of.Deciding(of.StillOpen()))
            notices.To(
                s,
                of,
                user,
                before.Contains(user.Name) ? NoticeEvents.Late : NoticeEvents.Decide,
                new()
                {
                    ["text"] = "Others may decide now too.",
                    ["as"] = of.Row.DeciderWhy,
                    ["stage"] = stage.Title,
                    ["effect"] = StageEntry.Effect(of),
                    ["due"] = StageEntry.DueText(of),
                }
            );
    }

    private static IEnumerable<string> Names(Case of, Deciders deciders) =>
        deciders.UserNames.Count > 0
            ? deciders.UserNames
            : of.Parties.Where(p => p.Active && deciders.Includes(p, of.About) && !p.IsConcerned(of.About)).Select(p => p.UserName);

    private async Task MarkAsync(Session s, Case of, string what, string remark)
    {
        await s.AddDecisionAsync(
            new()
            {
                RequestId = of.Row.Id,
                Stage = of.Stage?.Name ?? "",
                StageTitle = of.Row.StageTitle,
                Actor = "oikonom",
                Verdict = what,
                Remark = remark,
                Digest = of.Row.PlanDigest ?? "",
                Round = of.Row.Round,
                At = time.Milliseconds(),
            }
        );
        s.Record(
            LedgerEntry.Of(
                time.GetUtcNow(),
                "oikonom",
                $"request.{what}",
                of.Row.PersonId,
                of.Row.Id,
                ("stage", of.Row.StageTitle),
                ("remark", remark.Length > 0 ? remark : null)
            )
        );
    }

    /// <summary>Finds other approvers where none of those who were asked can sign in any more.</summary>
    private async Task ReplaceAsync(DateTimeOffset now, CancellationToken cancel)
    {
        var (waiting, active) = await store.ReadAsync(
            async s => (await s.NamedDecidersAsync(), (await s.UsersAsync()).Where(u => u.Active == 1).Select(u => u.Name).ToHashSet()),
            cancel
        );
        await EachAsync(
            waiting.Where(w => w.TooFew > 0 || !w.Deciders.Split('|', StringSplitOptions.RemoveEmptyEntries).All(active.Contains)),
            w => store.WriteAsync(s => ReplaceAsync(s, w.Id, w.Deciders, active, now, cancel), cancel)
        );
    }

    private async Task ReplaceAsync(
        Session s,
        string id,
        string deciders,
        HashSet<string> active,
        DateTimeOffset now,
        CancellationToken cancel
    )
    {
        if (
            await s.RequestAsync(id, forUpdate: true) is not { State: RequestState.Deciding or RequestState.Asked } row
            || row.Deciders != deciders
        )
            return;
        var of = await Case.LoadAsync(s, row, await editions.GetAsync(row.Edition, cancel), now);
        if (of.Stage is not { } stage)
            return;
        var asked = of.Stages[(int)row.Stage].Ballots;
        var ballots = of
            .Open.Select(b =>
                b.TooFew is null && (b.Deciders.UserNames.Count == 0 || b.Deciders.UserNames.Count(active.Contains) >= b.Needed)
                    ? b with
                    {
                        Deciders = Without(b.Deciders, active),
                    }
                    : asked.FirstOrDefault(a => a.Item == b.Item) ?? b
            )
            .ToList();
        of.Replace(ballots);
        row.Ballots = JsonSerializer.Serialize(ballots, JsonSerializerOptions.Web);
        StageEntry.Show(row, of.StillOpen());
        if (row.Deciders == deciders)
            return;
        var gone = string.Join(", ", deciders.Split('|', StringSplitOptions.RemoveEmptyEntries).Where(d => !active.Contains(d)));
        await MarkAsync(
            s,
            of,
            "replaced",
            gone.Length > 0 ? $"{gone} cannot decide any more; now {row.DeciderWhy}" : $"others can decide now: {row.DeciderWhy}"
        );
        foreach (var user in of.Deciding(of.StillOpen()))
            notices.To(
                s,
                of,
                user,
                NoticeEvents.Decide,
                new()
                {
                    ["as"] = row.DeciderWhy,
                    ["stage"] = stage.Title,
                    ["effect"] = StageEntry.Effect(of),
                    ["due"] = StageEntry.DueText(of),
                }
            );
        notices.ToRequester(s, of, NoticeEvents.Replaced, new() { ["text"] = $"Now it waits for {row.DeciderWhy}." });
        row.UpdatedAt = Math.Max(time.Milliseconds(), row.UpdatedAt + 1);
        await s.SaveRequestAsync(row);
        s.Tell("requests", id);
    }

    private static Deciders Without(Deciders deciders, HashSet<string> active) =>
        deciders.UserNames.All(active.Contains) ? deciders : deciders with { UserNames = [.. deciders.UserNames.Where(active.Contains)] };

    /// <summary>Whoever left signs in no more: the user ends with the last employment of the person behind it.</summary>
    private async Task EndUsersAsync(DateTimeOffset now, CancellationToken cancel)
    {
        if (await editions.CurrentOrNullAsync(cancel) is not { } edition)
            return;
        var linked = await store.ReadAsync(s => s.LinkedUsersAsync(), cancel);
        foreach (var (name, site, end) in linked)
        {
            if (
                !DateOnly.TryParseExact(end, "yyyy-MM-dd", out var last)
                || Core.Time.SiteDays.EndOf(last, edition.Rulebook.ZoneOf(site)) > now
            )
                continue;
            await store.WriteAsync(
                async s =>
                {
                    await s.EndUserAsync(name, Guid.NewGuid().ToString("N"));
                    s.Record(
                        LedgerEntry.Of(now, "oikonom", "user.ended", null, null, ("user", name), ("why", $"the employment ended on {end}"))
                    );
                },
                cancel
            );
        }
    }
}
