using System.Diagnostics;
using System.Globalization;
using System.Security.Claims;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Ledger;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Approval;
using Oikonom.Service.Common;
using Oikonom.Service.Connectors;
using Oikonom.Service.Editions;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>How targets do, and what people do about it: check, pause, let go on.</summary>
public sealed class TargetDesk(Store.Store store, EditionBook editions, ConnectorBook connectors, TimeProvider time)
{
    private const int Events = 30;
    private static readonly TimeSpan Day = TimeSpan.FromDays(1);
    private static readonly TimeSpan TwoDays = TimeSpan.FromDays(2);

    /// <summary>What a check found, as it is kept.</summary>
    private sealed record Kept(bool Reachable, string Message, IReadOnlyList<TargetPoint> Points, DateTimeOffset? CertificateUntil);

    /// <exception cref="Problem">The rulebook has no such target.</exception>
    public async Task<(Edition Edition, TargetRule Target)> RequireAsync(string name, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        return edition.Rulebook.Targets.TryGetValue(name, out var target)
            ? (edition, target)
            : throw Problem.NotFound($"target '{name}'", $"The rulebook has: {string.Join(", ", edition.Rulebook.Targets.Keys)}.");
    }

    public async Task<Page<TargetSummary>> ListAsync(ClaimsPrincipal user, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        var now = time.GetUtcNow();
        var (states, hours, secrets) = await store.ReadAsync(
            async s =>
                (
                    await s.TargetStatesAsync(),
                    await s.TargetHoursAsync("", (now - Day).ToUnixTimeMilliseconds()),
                    await s.SecretRowsAsync()
                ),
            cancel
        );
        var items = new List<TargetSummary>();
        foreach (var target in edition.Rulebook.Targets.Values)
        {
            var counts = await store.ReadAsync(s => s.TargetCountsAsync(target.Name, now.ToUnixTimeMilliseconds()), cancel);
            items.Add(Summary(target, counts, states.FirstOrDefault(x => x.Target == target.Name), hours, secrets, user));
        }
        return new(items, null);
    }

    public async Task<TargetDetail> DetailAsync(string name, ClaimsPrincipal user, CancellationToken cancel)
    {
        var (_, target) = await RequireAsync(name, cancel);
        var now = time.GetUtcNow();
        var (counts, state, hours, history, holders, secrets, owner) = await store.ReadAsync(
            async s =>
                (
                    await s.TargetCountsAsync(name, now.ToUnixTimeMilliseconds()),
                    (await s.TargetStatesAsync()).FirstOrDefault(x => x.Target == name),
                    await s.TargetHoursAsync(name, (now - TwoDays).ToUnixTimeMilliseconds()),
                    await s.TargetEventsAsync(name, Events),
                    (await s.HoldersAsync()).Where(h => h.Target == name).ToDictionary(h => h.Entitlement, h => (int)h.Count),
                    await s.SecretRowsAsync(),
                    target.Owner.Length > 0 ? await s.PersonByNumberAsync(target.Owner) : null
                ),
            cancel
        );
        var found = FoundOf(state);
        var lately = (now - Day).ToUnixTimeMilliseconds();
        return new(
            Summary(target, counts, state, [.. hours.Where(h => h.HourAt >= lately)], secrets, user),
            target.Owner,
            [.. Limits(target)],
            found?.Points ?? [],
            state?.CheckedAt?.ToInstant(),
            [.. hours.Select(h => new TargetHour(h.HourAt.ToInstant(), (int)h.Done, (int)h.Failed))],
            [.. history.Select(h => new TargetEvent(h.At.ToInstant(), h.Kind, h.Actor, h.Text))],
            [
                .. target.Entitlements.Values.Select(e => new TargetEntitlement(
                    e.Name,
                    e.Title,
                    e.Kind.ToString().ToLowerInvariant(),
                    holders.GetValueOrDefault(e.Name),
                    e.MostHolders
                )
                {
                    Read = e.IsRead,
                    Shared = e.IsShared,
                }),
            ]
        )
        {
            OwnerName = owner?.Display,
            OwnerId = owner?.Id,
            HasCatalogue = target.Catalogue is not null,
        };
    }

    private static IEnumerable<TargetFact> Limits(TargetRule target)
    {
        yield return new("At once", target.Settings.Parallel.ToString(CultureInfo.InvariantCulture));
        yield return new("In a second", target.Rate is { } rate ? $"{rate} steps for each node" : "as many as it takes");
        yield return new("Worked on", target.Maintenance is { } window ? WindowText(window) : "at no set time");
        if (target.Settings.Can.HasFlag(TargetAbilities.ReadBack))
            yield return new("Looked at", $"each account {Every(target.Watch.Every)}");
        if (target.Watch.Changes is { } changes)
            yield return new("Asked what changed", Every(changes));
        if (target.Settings is TargetSettings.File file)
        {
            yield return new("Handed over", file.Writes?.ToString() ?? "at once");
            yield return new("Answers", file.AnswersWithin is { } within ? $"within {Span(within)}" : "none");
        }
        if (target.After.Count > 0)
            yield return new("Comes after", string.Join(", ", target.After));
    }

    private static string Span(TimeSpan time) =>
        time >= Day ? $"{time.TotalDays:0.#} days"
        : time > TimeSpan.FromHours(1) ? $"{time.TotalHours:0.#} hours"
        : $"{time.TotalMinutes:0.#} minutes";

    private static string Every(TimeSpan time) =>
        time == Day ? "once a day"
        : time > Day ? $"every {time.TotalDays:0.#} days"
        : time == TimeSpan.FromHours(1) ? "once an hour"
        : time > TimeSpan.FromHours(1) ? $"every {time.TotalHours:0.#} hours"
        : $"every {time.TotalMinutes:0.#} minutes";

    private static string WindowText(Core.Time.WorkingHours window)
    {
        var days = window.Days.Count == 7 ? "every day" : string.Join(", ", window.Days.Order().Select(d => d.ToString()[..3]));
        return $"{window.From:HH:mm} to {window.Until:HH:mm}, {days}, by the clock of {window.Zone.Id}";
    }

    private TargetSummary Summary(
        TargetRule target,
        TargetCounts counts,
        TargetStateRow? state,
        IReadOnlyList<TargetHourRow> hours,
        IReadOnlyList<SecretRow> secrets,
        ClaimsPrincipal user
    )
    {
        var (address, security) = target.Settings switch
        {
            TargetSettings.Ldap ldap => (ldap.Address.ToString().TrimEnd('/'), ldap.StartTls ? "StartTLS" : "TLS"),
            TargetSettings.Scim scim => (scim.Address.ToString().TrimEnd('/'), "TLS"),
            TargetSettings.File file => ($"folder {file.Folder}", "none"),
            TargetSettings.Desk desk => ($"people with the role {desk.Role}", "none"),
            _ => throw new UnreachableException($"Targets of the kind '{target.Settings.Kind}' cannot be shown."),
        };
        var found = FoundOf(state);
        var own = hours.Where(h => h.Target == target.Name).ToList();
        var (name, text, since) = TargetStates.Of(target, state, found?.Reachable, found?.Message ?? "", time.GetUtcNow());
        return new(
            target.Name,
            target.Title,
            target.Settings.Kind,
            address,
            security,
            (int)counts.Accounts,
            (int)counts.Waiting,
            (int)counts.Failing,
            counts.Problem,
            (int)counts.Nobodys
        )
        {
            State = name,
            Text = text,
            Since = since,
            LastSuccess = state?.GoodAt?.ToInstant(),
            Due = (int)counts.Due,
            Oldest = counts.OldestAt?.ToInstant(),
            Running = (int)counts.Running,
            Differing = (int)counts.Differing,
            Done = (int)own.Sum(h => h.Done),
            Failed = (int)own.Sum(h => h.Failed),
            CertificateUntil = found?.CertificateUntil,
            SecretUntil = secrets.FirstOrDefault(s => s.Name == target.Settings.SignsIn?.Secret)?.ValidUntil.ToInstant(),
            CanRead = target.Settings.Can.HasFlag(TargetAbilities.Listing),
            TellsChanges = target.Settings.Can.HasFlag(TargetAbilities.Changes),
            MayOperate = user.MayOperateTarget(target.Name),
        };
    }

    /// <summary>When the certificate of a target ends, as its last check saw it; null where none was seen.</summary>
    public static DateTimeOffset? CertificateOf(TargetStateRow state) => FoundOf(state)?.CertificateUntil;

    private static Kept? FoundOf(TargetStateRow? state) =>
        state is { Checked.Length: > 0 } ? JsonSerializer.Deserialize<Kept>(state.Checked, JsonSerializerOptions.Web) : null;

    /// <summary>Looks whether a target can be worked with, and keeps what was found.</summary>
    public async Task<TargetCheck> CheckAsync(Edition edition, TargetRule target, bool withRights, CancellationToken cancel)
    {
        var health = await connectors.For(edition, target.Name).CheckAsync(withRights, cancel);
        var points = health.Checkpoints.Select(p => new TargetPoint(p.What, p.Good, p.Text)).ToList();
        var kept = new Kept(health.Reachable, health.Message, points, health.CertificateUntil);
        await store.WriteAsync(
            async s =>
            {
                await s.CheckedTargetAsync(target.Name, JsonSerializer.Serialize(kept, JsonSerializerOptions.Web), time.Milliseconds());
                s.Tell("targets", target.Name);
            },
            cancel
        );
        return new(target.Name, health.Reachable, health.Message, health.Server, health.Milliseconds, points, health.CertificateUntil);
    }

    /// <summary>Lets nothing begin in a target any more; what is under way ends.</summary>
    /// <exception cref="Problem">There is no reason, or it is paused already.</exception>
    public Task PauseAsync(TargetRule target, string reason, string actor, CancellationToken cancel)
    {
        if (string.IsNullOrWhiteSpace(reason))
            throw Problem.Invalid("Say why nothing shall begin in it; whoever waits for it reads that.", "reason");
        return ChangeAsync(target, "paused", actor, reason.Trim(), cancel);
    }

    /// <summary>Who pauses a target that a new edition brings, and why.</summary>
    private const string Itself = "oikonom";
    private const string IsNew = "it is new; it goes on once somebody lets it and a check finds it good";

    /// <summary>A target that an edition brings begins with nothing, until somebody has looked at it.</summary>
    internal static async Task BeginsPausedAsync(Session s, TargetRule target, DateTimeOffset now)
    {
        await s.PauseTargetAsync(target.Name, Itself, IsNew, now.ToUnixTimeMilliseconds());
        await NoteAsync(s, target.Name, "paused", Itself, IsNew, now);
    }

    /// <summary>Lets a target go on; one that is new, only when all that is looked at is good.</summary>
    /// <exception cref="Problem">It is not paused, or it is new and something is not good.</exception>
    public async Task ResumeAsync(Edition edition, TargetRule target, string actor, CancellationToken cancel)
    {
        var states = await store.ReadAsync(s => s.TargetStatesAsync(), cancel);
        if (states.Any(x => x.Target == target.Name && x.PausedBy == Itself) && await WhyNotReadyAsync(edition, target, cancel) is { } why)
            throw Problem.Conflict("not-ready", $"{target.Title} is new and not ready: {why}");
        await ChangeAsync(target, "resumed", actor, "", cancel);
    }

    /// <summary>What keeps a target from being worked with: sign-in, places, rights, and attributes that it does not have; null when
    /// nothing does.</summary>
    private async Task<string?> WhyNotReadyAsync(Edition edition, TargetRule target, CancellationToken cancel)
    {
        var check = await CheckAsync(edition, target, true, cancel);
        if (check.Points.FirstOrDefault(p => !p.Good) is { } bad)
            return $"{bad.What}: {bad.Text}";
        if (!check.Reachable)
            return check.Message;
        try
        {
            return
                connectors.For(edition, target.Name) is IAccountConnector accounts
                && await accounts.SchemaAsync(cancel) is { } schema
                && Warnings.WithSchema(edition.Rulebook, target, schema, "").FirstOrDefault() is { } wrong
                ? $"{wrong.Message} ({wrong.Place})"
                : null;
        }
        catch (TargetFault fault)
        {
            return fault.Message;
        }
    }

    private Task ChangeAsync(TargetRule target, string what, string actor, string text, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                var state = (await s.TargetStatesAsync()).FirstOrDefault(x => x.Target == target.Name);
                var isPaused = state is { PausedBy.Length: > 0 };
                if (isPaused == (what == "paused"))
                    throw Problem.Conflict(
                        isPaused ? "paused-already" : "not-paused",
                        isPaused ? $"{state!.PausedBy} paused {target.Title} already: {state.Reason}" : $"{target.Title} is not paused."
                    );
                await s.PauseTargetAsync(target.Name, what == "paused" ? actor : "", text, time.Milliseconds());
                await NoteAsync(s, target.Name, what, actor, text, time.GetUtcNow());
            },
            cancel
        );

    /// <summary>For how long what was asked for runs, whatever holds the target up.</summary>
    private static readonly TimeSpan Now = TimeSpan.FromMinutes(5);

    /// <summary>Lets what one person waits for in a target begin now: while it is paused, out of its hours or left alone, too.</summary>
    /// <exception cref="Problem">Nothing of theirs waits there, or they are beyond the caller's reach.</exception>
    public async Task<RunningNow> RunNowAsync(TargetRule target, string? person, ClaimsPrincipal user, CancellationToken cancel)
    {
        return await store.WriteAsync(
            async s =>
            {
                var whose = await s.FindPersonAsync(person ?? "") ?? throw Problem.Invalid($"There is no person '{person}'.", "person");
                user.RequireReach(whose.Site, whose.Department, Roles.Operator, Roles.Engineer);
                var now = time.GetUtcNow();
                var at = now.ToUnixTimeMilliseconds();
                var steps = await s.RunNowAsync(whose.Id, target.Name, at, (now + Now).ToUnixTimeMilliseconds());
                if (steps.Count == 0)
                    throw Problem.Conflict("nothing-waits", $"Nothing of {whose.Display} is due in {target.Title}.");
                s.Record(
                    LedgerEntry.Of(now, user.UserName(), "target.run-one", whose.Id, null, ("target", target.Name), ("steps", steps.Count))
                );
                s.Tell("targets", target.Name);
                var requests = new List<RequestSummary>();
                foreach (var id in steps.Distinct())
                    if (await s.RequestAsync(id) is { } request)
                        requests.Add(RequestViews.Summary(request));
                return new RunningNow(whose.Display, steps.Count, requests);
            },
            cancel
        );
    }

    /// <summary>Keeps what became of a target, on the ledger and in its history.</summary>
    internal static async Task NoteAsync(Session s, string target, string what, string actor, string text, DateTimeOffset now)
    {
        await s.AddTargetEventAsync(
            new()
            {
                Id = Guid.CreateVersion7(now).ToString(),
                Target = target,
                At = now.ToUnixTimeMilliseconds(),
                Kind = what,
                Actor = actor,
                Text = text,
            }
        );
        s.Record(LedgerEntry.Of(now, actor, $"target.{what}", null, null, ("target", target), ("reason", text.Length > 0 ? text : null)));
        s.Tell("targets", target);
    }
}
