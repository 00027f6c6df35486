using System.Globalization;
using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Editions;
using Oikonom.Service.Fulfilment;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Overview;

/// <summary>What no request tells and the caller can do something about: on their Today until it is solved.</summary>
public sealed class Attention(Store.Store store, EditionBook editions, TimeProvider time)
{
    private const int Most = 20;

    /// <summary>How many accounts of a target are named one by one.</summary>
    private const int Shown = 5;
    private static readonly TimeSpan Kept = TimeSpan.FromMinutes(1);

    /// <summary>Who names a manager that nobody is: asked of everybody, so kept for a moment.</summary>
    private (DateTimeOffset At, IReadOnlyList<(string Id, string Display, string Manager)> People) _without = (DateTimeOffset.MinValue, []);

    public async Task<IReadOnlyList<AttentionView>> LookAsync(ClaimsPrincipal user, CancellationToken cancel)
    {
        var roles = user.RoleNames();
        var raises = roles.Any(r => r is Roles.Requester or Roles.Engineer);
        var operates = roles.Contains(Roles.Operator);
        var engineers = roles.Contains(Roles.Engineer);
        var takesIn = user.ReachParts() is null && roles.Any(Roles.Policies["intake"].Contains);
        if (!raises && !takesIn && !operates && !roles.Contains(Roles.Approver))
            return [];
        var today = time.GetUtcNow().UtcDateTime.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture);
        var views = new List<AttentionView>();
        var rulebook = (await editions.CurrentOrNullAsync(cancel))?.Rulebook;
        var (ends, left) = await store.ReadAsync(
            async s =>
                (
                    await s.DisagreementsAsync(raises ? "" : user.UserName(), today, raises ? user.ReachParts() : null, Most),
                    takesIn ? await s.LeftAsync() : []
                ),
            cancel
        );
        views.AddRange(
            ends.Select(e => new AttentionView(
                "disagreement",
                $"HR says that {e.Display} leaves on {e.EndDay}, and it was declined ({e.Actor}): {e.Remark}. Access ends on that "
                    + "day all the same, unless HR takes the end back.",
                $"/requests/{e.RequestId}"
            ))
        );
        foreach (var (source, vanished, aside) in left)
        {
            var title = rulebook?.Sources.GetValueOrDefault(source)?.Title ?? source;
            if (vanished > 0)
                views.Add(
                    new("vanished", $"{title}: {Of(vanished, "record")} vanished; say who leaves and who stays.", $"/sources/{source}")
                );
            if (aside > 0)
                views.Add(new("set-aside", $"{title}: {Of(aside, "row")} set aside; HR corrects them.", $"/sources/{source}"));
        }
        if (operates)
            views.AddRange(await OutsideAsync(user, rulebook, cancel));
        if ((operates || engineers) && rulebook is not null)
            views.AddRange(await EndingAsync(rulebook, cancel));
        if (takesIn && await WithoutManagerAsync(today, cancel) is { Count: > 0 } without)
            views.Add(
                new(
                    "unknown-manager",
                    $"{string.Join(", ", without.Take(3).Select(w => $"{w.Display} ({w.Manager})"))}"
                        + $"{(without.Count > 3 ? $" and {(without.Count > Most ? "more" : $"{without.Count - 3} more")}" : "")}: "
                        + "the manager that HR names is nobody it knows.",
                    $"/people/{without[0].Id}"
                )
            );
        return views;
    }

    /// <summary>Certificates and secrets that have ended or soon will.</summary>
    private async Task<IEnumerable<AttentionView>> EndingAsync(Core.Rulebook.Rulebook rulebook, CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        var (states, secrets) = await store.ReadAsync(async s => (await s.TargetStatesAsync(), await s.SecretRowsAsync()), cancel);
        return EndsSoon
            .Of(rulebook, states, secrets, now)
            .Take(Most)
            .Select(e => new AttentionView("ends-soon", $"{e.TextAt(now)} Renew it in time: then nothing stops.", e.Link));
    }

    /// <summary>Accounts that were changed outside and that no request sets right: the oldest of them, and how many there are.</summary>
    private async Task<IEnumerable<AttentionView>> OutsideAsync(
        ClaimsPrincipal user,
        Core.Rulebook.Rulebook? rulebook,
        CancellationToken cancel
    )
    {
        var open = await store.ReadAsync(s => s.OpenFindingsAsync(user.ReachParts(), Most + 1), cancel);
        return open.GroupBy(f => f.Target)
            .SelectMany(byTarget =>
            {
                var target = rulebook?.Targets.GetValueOrDefault(byTarget.Key);
                var title = target?.Title ?? byTarget.Key;
                var views = byTarget
                    .Take(Shown)
                    .Select(f => new AttentionView(
                        "changed-outside",
                        $"{f.Display}: the account in {title} was changed outside: {Told(f.Differences, target)}. Set it right, or let "
                            + "it stay so.",
                        $"/people/{f.PersonId}"
                    ))
                    .ToList();
                var more = byTarget.Count() - Shown;
                if (more > 0)
                    views.Add(
                        new(
                            "changed-outside",
                            $"{title}: {(open.Count > Most ? "many" : Of(more, "account"))} more {(more == 1 ? "was" : "were")} changed "
                                + "outside. When many are at once, something else may be wrong: nothing is set right by itself then.",
                            "/people"
                        )
                    );
                return views;
            });
    }

    private static string Told(string differences, TargetRule? target) =>
        string.Join("; ", LookDesk.Shown(Difference.FromJson(differences)).Take(3).Select(d => LookDesk.Told(d, target)));

    private static string Of(long count, string what) => $"{count} {what}{(count == 1 ? "" : "s")}";

    private async Task<IReadOnlyList<(string Id, string Display, string Manager)>> WithoutManagerAsync(
        string today,
        CancellationToken cancel
    )
    {
        var now = time.GetUtcNow();
        if (_without.At > now || now - _without.At > Kept)
            _without = (now, await store.ReadAsync(s => s.WithoutManagerAsync(today, Most + 1), cancel));
        return _without.People;
    }
}
